//! Words of the trade that are typed out of habit, each with what does that here.

use std::borrow::Cow;

/// Words that mean the same to whoever types them, and the answer.
const WORDS: [(&[&str], &str); 27] = [
    (
        &["delete", "remove", "purge", "prune", "clean", "extra", "extras"],
        "'utter mirror' removes what the source does not have; 'utter copy' removes nothing",
    ),
    (
        &["sync", "synchronize", "synchronise", "clone", "replicate", "backup"],
        "'utter mirror' makes the destination the same as the source; 'utter copy' only adds and replaces",
    ),
    (
        &["transfer", "duplicate", "put", "get"],
        "'utter copy' adds what is missing and replaces what changed",
    ),
    (
        &["recursive", "recurse", "subfolders", "subdirectories", "deep"],
        "folders are always copied with everything in them; --depth 1 copies only the top level",
    ),
    (
        &["directories", "tree", "structure"],
        "--folders-only copies the folders without the files in them",
    ),
    (&["checksum", "checksums", "hash", "bytes"], "--by content compares every byte of both sides"),
    (
        &["archive", "all", "preserve", "attributes", "metadata"],
        "everything that the destination can store is copied already; --carry leaves some of it out",
    ),
    (
        &["permissions", "owner", "group", "times", "links", "devices", "hidden-files", "sparse"],
        "it is copied already; --carry chooses attributes, like --carry all,-owner",
    ),
    (
        &["update", "newer", "older"],
        "only what changed is replaced; --leave-newer leaves newer files in the destination alone",
    ),
    (
        &["existing", "missing", "new", "fill", "overwrite", "replace"],
        "--steps limits the kinds of steps: --steps add only adds missing entries, --steps replace,adjust only updates existing ones",
    ),
    (
        &["include", "filter", "pattern", "match", "select"],
        "--only includes what matches a pattern, --exclude excludes it",
    ),
    (
        &["ignore", "skip", "omit", "without", "leave-out"],
        "--exclude excludes what matches a pattern; --rules reads patterns from a file",
    ),
    (
        &["bandwidth", "throttle", "speed", "limit-rate", "slow"],
        "--rate 20M writes at most 20 million bytes per second; --gentle lets other programs go first",
    ),
    (
        &["log", "output", "logfile"],
        "--log night-{date}.log writes the output to a file; --format json is for programs",
    ),
    (
        &["resume", "continue", "restart", "again"],
        "run the same command again: it continues where it stopped, in large files too",
    ),
    (
        &["simulate", "simulation", "pretend", "preview", "test", "plan"],
        "--dry-run prints what would be done, and why, and touches nothing",
    ),
    (
        &["force", "no-confirm", "unattended"],
        "--yes does not ask before removing; --waive switches off a guard that refuses",
    ),
    (
        &["interactive", "confirm", "prompt"],
        "--ask asks before anything is touched, --ask=each before each step that replaces or removes",
    ),
    (
        &["threads", "jobs", "parallel", "concurrency", "cores"],
        "--workers 4 uses four threads; 'auto', the default, adapts to the drives",
    ),
    (
        &["tolerance", "precision"],
        "--time-slack 2s treats times that differ by two seconds as equal",
    ),
    (
        &["larger", "smaller", "bigger", "largest", "smallest"],
        "--size takes a range, like --size 1M.. or --size ..500K",
    ),
    (
        &["since", "until", "date", "days", "modified", "changed"],
        "--age takes a range, like --age ..5d for the last five days; --dated takes two dates",
    ),
    (
        &["versions", "trash", "recycle", "history", "keep"],
        "--set-aside FOLDER keeps what is removed or replaced, and 'utter undo' restores it",
    ),
    (
        &["restore", "revert", "rollback", "recover"],
        "'utter undo' reverses a run made with --set-aside",
    ),
    (
        &["compare", "diff", "check", "difference", "differences"],
        "'utter verify' compares both sides and changes nothing",
    ),
    (&["apply", "commit"], "'utter execute' carries out a plan that --save-plan saved"),
    (
        &["compress", "encrypt", "remote", "network", "server"],
        "files are copied between folders of this machine; a mounted network share is a folder, too",
    ),
];

/// Names of before, in command lines and job files, and those of today.
const RENAMED: [(&str, &str); 13] = [
    ("enact", "execute"),
    ("spare-newer", "leave-newer"),
    ("all-aspects", "all-attributes"),
    ("any-case", "ignore-case"),
    ("before", "run-before"),
    ("after", "run-after"),
    ("drive", "require-drive"),
    ("recheck", "read-back"),
    ("notes", "show"),
    ("does", "command"),
    ("about", "description"),
    ("values", "variables"),
    ("older-than", "discard-older"),
];

/// Today's name of what had this one before.
pub(crate) fn renamed(word: &str) -> Option<&'static str> {
    RENAMED.iter().find(|(old, _)| *old == word).map(|(_, new)| *new)
}

/// What to say instead of a word.
pub(super) fn answer(word: &str) -> Option<Cow<'static, str>> {
    let word = word.trim_start_matches(['-', '/']).to_ascii_lowercase();
    let word = word.split(['=', ':', ' ']).next().unwrap_or_default();
    let new_name = || Some(format!("'{word}' is '{}' here", renamed(word)?).into());
    let known = WORDS.iter().find(|(words, _)| words.contains(&word));
    known.map(|(_, answer)| (*answer).into()).or_else(new_name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::call;
    use std::collections::HashSet;

    #[test]
    fn every_word_has_one_answer_and_is_no_option() {
        let mut known = HashSet::new();
        for word in WORDS.iter().flat_map(|(words, _)| *words) {
            assert!(known.insert(word), "{word} is there twice");
            assert_eq!(answer(&format!("--{}=3", word.to_uppercase())), answer(word));
        }
        assert_eq!(answer("--unheard-of"), None);
    }

    #[test]
    fn what_is_advised_exists() {
        for answer in WORDS.iter().map(|(_, answer)| *answer) {
            let options =
                answer.split([' ', ':', ';', ',', '\'']).filter(|word| word.starts_with("--"));
            for option in options {
                let option = option.split('=').next().unwrap_or(option);
                let is_known = ["mirror", "verify", "undo"].iter().any(|command| {
                    let call = ["utter", command, option].map(Into::into);
                    call::parse(crate::commands::PROGRAM, call)
                        .err()
                        .is_none_or(|e| e.kind() != clap::error::ErrorKind::UnknownArgument)
                });
                assert!(is_known, "{option} in: {answer}");
            }
        }
    }
}
