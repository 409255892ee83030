//! The command that would make the destination identical.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;

use clap::parser::ValueSource;
use clap::{Arg, ArgAction, ArgMatches};
use utter_echo_core::attribute::Attribute;
use utter_echo_core::plan::{Plan, Reason, Verb};
use utter_echo_core::request::{CompareBy, Request};

use crate::context::Context;
use crate::terminal::shell::quoted;

/// Quoted for a POSIX shell: the options of the verification that the other command knows, and those that it needs
/// to see the same differences.
pub(super) fn command(plan: &Plan, request: &Request, context: &Context) -> String {
    let is_folder = request.places.sources.iter().all(|source| source.is_dir());
    let sees_extra = request.changed.steps.has(Verb::Remove);
    let name = if sees_extra && is_folder { "mirror" } else { "copy" };
    let by_content =
        plan.steps().any(|placed| matches!(placed.step.reason, Reason::Content { .. }));
    let by_content = by_content && request.changed.by != CompareBy::Content;
    let all_attributes = plan.totals.steps.adjust.entries > 0
        && !by_content
        && !request.changed.all_attributes
        && request.changed.by != CompareBy::Content;
    // Without `content`, mirror adds and removes nothing, although verify reports missing and extra entries.
    let other_steps = plan.totals.steps() > plan.totals.steps.adjust.entries;
    let with_content = other_steps && !request.carry.has(Attribute::Content);
    let mut words = vec!["utter".to_owned(), name.to_owned()];
    words.extend(by_content.then(|| "--by content".to_owned()));
    words.extend(all_attributes.then(|| "--all-attributes".to_owned()));
    if with_content {
        let carried = request.carry.with(Attribute::Content);
        let carried: Vec<_> = carried.iter().map(Attribute::name).collect();
        words.push(format!("--carry {}", carried.join(",")));
    }
    if let Some((_, typed)) = context.typed.subcommand() {
        let known = (context.program.command_line)();
        let known =
            known.find_subcommand(name).map(|command| command.get_opts().collect::<Vec<_>>());
        for option in known.unwrap_or_default() {
            // Options of output are left out.
            let is_shown = option.get_help_heading() == Some("Output");
            let is_replaced = match option.get_id().as_str() {
                "by" => by_content,
                "carry" => with_content,
                _ => false,
            };
            if !is_shown && !is_replaced {
                words.extend(said(option, typed));
            }
        }
    }
    let sources = request.places.sources.iter();
    let places: Vec<_> = sources.chain([&request.places.destination]).collect();
    if places.iter().any(|place| place.as_os_str().as_bytes().starts_with(b"-")) {
        words.push("--".to_owned());
    }
    words.extend(places.into_iter().map(|place| quoted(place.as_os_str())));
    words.join(" ")
}

/// An option as given, once for each value.
fn said(option: &Arg, typed: &ArgMatches) -> Vec<String> {
    let id = option.get_id().as_str();
    let given = typed.try_contains_id(id).is_ok()
        && typed.value_source(id) == Some(ValueSource::CommandLine);
    let (true, Some(long)) = (given, option.get_long()) else { return Vec::new() };
    if matches!(option.get_action(), ArgAction::SetTrue) {
        return vec![format!("--{long}")];
    }
    let values = typed.get_raw(id).into_iter().flatten();
    // A value that looks like an option needs `=`.
    let word = |value: &OsStr| {
        let between = if value.as_bytes().starts_with(b"-") { '=' } else { ' ' };
        format!("--{long}{between}{}", quoted(value))
    };
    values.map(word).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::ffi::OsString;
    use std::os::unix::ffi::OsStringExt as _;
    use std::process::Command;

    #[test]
    fn a_shell_reads_back_every_word() {
        let words: [&[u8]; 9] = [
            b"plain/path.csv",
            b"two words",
            b"it's",
            b"",
            b"new\nline 'x'\\ $HOME `id` 100%",
            b"not \xff utf8\n\n",
            b"--\xff",
            b"\n",
            b"!ls $(id) \"x\" *",
        ];
        for word in words {
            let word = OsString::from_vec(word.to_vec());
            let quoted = quoted(&word);
            let script = format!("set -- {quoted}; printf '%s|' \"$@\"");
            let read = Command::new("dash").args(["-c", &script]).output().unwrap();
            let expected = [word.as_bytes(), b"|"].concat();
            assert_eq!(read.stdout, expected, "{script}");
            let steers = |c: char| c.is_control() && c != '\n';
            assert!(!quoted.contains(steers), "{quoted}");
        }
    }
}
