//! Mounted drives.

use crate::report::events::{DriveLine, Holds, Letters};
use crate::report::text::printer::Text;
use crate::report::text::styles::{FAINT, HEADING};
use crate::report::wording;
use crate::terminal::{names, units};

impl Text {
    pub(super) fn drive(&mut self, drive: &DriveLine) {
        if self.lines > 0 {
            self.line("");
        }
        let label =
            drive.label.as_ref().map(|label| format!(" \"{}\"", names::shown(label.as_bytes())));
        let (point, label) = (drive.mounted_at.shown(), label.unwrap_or_default());
        self.line(&format!("{HEADING}{point}{HEADING:#}{label}"));
        let id = drive.uuid.as_ref().map(|uuid| format!(", {uuid}")).unwrap_or_default();
        let kind = names::shown(drive.file_system.as_bytes());
        self.fact("type", &format!("{kind} on {}{id}", drive.device.shown()));
        let (free, total) = (units::bytes(drive.bytes_free), units::bytes(drive.bytes));
        self.fact("space", &format!("{free} free of {total}"));
        match &drive.holds {
            Some(holds) => self.holds(holds),
            None if drive.writable => {
                self.fact("stores", "not known: the drive could not be tested");
            }
            None => self.fact("stores", "not known: the drive is mounted read-only"),
        }
    }

    fn holds(&mut self, holds: &Holds) {
        let has = |id: &str| holds.features.iter().any(|held| held == id);
        // Attributes that only root can set are shown only where they differ from the users'.
        let apart = |id: &&str| {
            let for_root = matches!(*id, "trusted-xattr" | "security-xattr");
            !for_root || has(id) != has("user-xattr")
        };
        let (mut held, mut lacking): (Vec<_>, Vec<_>) =
            wording::ABILITIES.iter().map(|(id, _)| *id).filter(apart).partition(|id| has(id));
        if holds.flags.is_empty() { &mut lacking } else { &mut held }.push("flags");
        for (what, ids) in [("stores", held), ("lacks", lacking)] {
            if !ids.is_empty() {
                let told: Vec<_> = ids.into_iter().map(wording::ability_in_words).collect();
                self.fact(what, &told.join(", "));
            }
        }
        self.fact(
            "times",
            &format!("to {}", wording::time_resolution(holds.time_resolution_nanoseconds)),
        );
        let limits = limits(holds);
        if !limits.is_empty() {
            self.fact("names", &limits.join(", "));
        }
    }

    fn fact(&mut self, what: &str, text: &str) {
        self.line(&format!("  {FAINT}{what:<6}{FAINT:#} {text}"));
    }
}

fn limits(holds: &Holds) -> Vec<String> {
    let mut limits = Vec::new();
    if holds.names_case_insensitive {
        limits.push("ignores upper and lower case".to_owned());
    }
    if !holds.forbidden_in_names.is_empty() {
        let characters: Vec<_> = holds.forbidden_in_names.iter().map(char::to_string).collect();
        limits.push(format!("no names with {}", characters.join(" ")));
    }
    if holds.names_without_control_characters {
        limits.push("no control characters".to_owned());
    }
    match holds.names_letters {
        Letters::Any => {}
        Letters::Utf8 => limits.push("only UTF-8".to_owned()),
        Letters::Ascii => limits.push("only ASCII".to_owned()),
    }
    if holds.names_no_trailing_dot_or_space {
        limits.push("no dot or space at the end".to_owned());
    }
    if let Some(bytes) = holds.largest_file {
        limits.push(format!("no file over {}", units::bytes(bytes)));
    }
    limits
}
