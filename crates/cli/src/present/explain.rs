//! What a selection takes, and why.

use std::io::{self, Write};
use std::path::Path;

use anstyle::{AnsiColor, Style};
use serde::Serialize;
use utter_echo_core::explain::{Explained, Fate, Ruled, Survey};
use utter_echo_core::os::Kind;
use utter_echo_core::plan::Tally;

use super::{json, names, streams, text, units, words};
use crate::args::Format;

const HEADING: Style = Style::new().bold();
const FAINT: Style = Style::new().dimmed();
const TAKEN: Style = AnsiColor::Green.on_default();
const LEFT: Style = AnsiColor::Red.on_default();

#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
enum Line<'a> {
    Path {
        #[serde(flatten)]
        path: json::Path,
        r#type: Option<&'static str>,
        fate: &'static str,
        rule: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        decided_at: Option<String>,
    },
    Rule {
        rule: &'a str,
        does: &'static str,
        entries: u64,
        bytes: u64,
    },
    Totals {
        taken: json::Side,
        left_out: json::Side,
        problems: usize,
    },
}

fn write_json<'a>(lines: impl IntoIterator<Item = Line<'a>>) -> io::Result<()> {
    let mut out = io::BufWriter::new(streams::raw_out());
    for line in lines {
        serde_json::to_writer(&mut out, &line)?;
        writeln!(out)?;
    }
    out.flush()
}

/// Each path with the rule that decided.
pub(crate) fn explained(format: Format, explained: &[Explained]) -> io::Result<()> {
    if format == Format::Json {
        return write_json(explained.iter().map(|one| Line::Path {
            path: (&one.path).into(),
            r#type: one.kind.map(words::kind),
            fate: match one.fate {
                Fate::Taken => "taken",
                Fate::IfNeeded => "if-needed",
                Fate::LeftOut => "left-out",
            },
            rule: one.rule.as_deref(),
            decided_at:
                one.at.as_ref().map(|at| String::from_utf8_lossy(at.as_bytes()).into_owned()),
        }));
    }
    let mut out = streams::out();
    for one in explained {
        let (style, word) = match one.fate {
            Fate::Taken => (TAKEN, "taken"),
            Fate::IfNeeded => (TAKEN, "taken if needed"),
            Fate::LeftOut => (LEFT, "left out"),
        };
        let path = names::shown(one.path.as_bytes());
        writeln!(out, "{style}{word:<15}{style:#} {path} {FAINT}· {}{FAINT:#}", why(one))?;
        if let Some(below) = below(one) {
            writeln!(out, "{:<15} {below}", "")?;
        }
    }
    Ok(())
}

fn why(one: &Explained) -> String {
    let rule = match (&one.rule, one.fate) {
        (Some(rule), _) => format!("by {}", names::shown(rule.as_bytes())),
        (None, Fate::IfNeeded) => "no rule takes it for itself".to_owned(),
        (None, _) => "no rule leaves it out".to_owned(),
    };
    let at =
        one.at.as_ref().map(|at| format!(", which decides about {}/", names::shown(at.as_bytes())));
    let missing =
        if one.kind.is_none() { "; there is no such entry, its name decides" } else { "" };
    format!("{rule}{}{missing}", at.unwrap_or_default())
}

/// What the answer for a folder means for what is in it.
fn below(one: &Explained) -> Option<&'static str> {
    match (one.kind, one.fate) {
        (Some(Kind::Folder), Fate::LeftOut) => {
            Some("with all it holds: no rule can take back what lies in a folder that is left out")
        }
        (Some(Kind::Folder), Fate::Taken) => {
            Some("with what it holds, as far as no rule leaves that out")
        }
        (Some(Kind::Folder), Fate::IfNeeded) => Some("only to hold what is taken in it"),
        _ => None,
    }
}

/// What each rule decides about over a whole source.
pub(crate) fn survey(format: Format, source: &Path, survey: &Survey) -> io::Result<()> {
    if format == Format::Json {
        let rules = survey.rules.iter().map(|ruled| Line::Rule {
            rule: &ruled.rule,
            does: if ruled.leaves_out { "leaves-out" } else { "takes" },
            entries: ruled.count.entries,
            bytes: ruled.count.bytes,
        });
        let totals = Line::Totals {
            taken: survey.taken.into(),
            left_out: survey.left_out.into(),
            problems: survey.problems.len(),
        };
        return write_json(rules.chain([totals]));
    }
    text::problems(&survey.problems)?;
    let mut out = streams::out();
    let (idle, busy): (Vec<&Ruled>, Vec<&Ruled>) =
        survey.rules.iter().partition(|ruled| ruled.count.entries == 0);
    if !busy.is_empty() {
        writeln!(out, "{HEADING}{:>12} {:>12}  what decides{HEADING:#}", "entries", "bytes")?;
    }
    for Ruled { rule, leaves_out, count } in busy {
        let (style, word) = if *leaves_out { (LEFT, "left out by") } else { (TAKEN, "taken by") };
        writeln!(
            out,
            "{:>12} {:>12}  {style}{word}{style:#} {}",
            units::count(count.entries),
            units::bytes(count.bytes),
            names::shown(rule.as_bytes())
        )?;
    }
    for Ruled { rule, .. } in idle {
        writeln!(out, "{FAINT}note: {} matched nothing{FAINT:#}", names::shown(rule.as_bytes()))?;
    }
    let told = |tally: &Tally| {
        format!("{} ({})", units::entries(tally.entries()), units::bytes(tally.bytes))
    };
    let source = names::shown(source.as_os_str().as_encoded_bytes());
    writeln!(
        out,
        "Of {source} {} would be taken, {} left out.",
        told(&survey.taken),
        told(&survey.left_out)
    )
}
