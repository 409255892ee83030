//! `${NAME}` in the values of a job file.

use std::collections::HashMap;
use std::ops::Range;

use jiff::Zoned;

use crate::exit::WrongCall;
use crate::jobs::spot::{Source, nearest};

/// The variables, in order of precedence.
pub(super) struct Values {
    /// Those of the file, with their positions.
    pub(super) own: HashMap<String, (String, Range<usize>)>,
    given: HashMap<&'static str, String>,
}

/// Built-in names.
pub(super) const GIVEN: [&str; 5] = ["host", "user", "date", "time", "job"];

impl Values {
    pub(super) fn new(own: HashMap<String, (String, Range<usize>)>, now: &Zoned) -> Self {
        let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        let user = ["USER", "LOGNAME"].iter().find_map(|name| std::env::var(name).ok());
        let user = user.unwrap_or_else(|| rustix::process::geteuid().as_raw().to_string());
        let given = HashMap::from([
            ("host", host.trim().to_owned()),
            ("user", user),
            ("date", now.strftime("%Y-%m-%d").to_string()),
            // Valid in a file name on every drive.
            ("time", now.strftime("%H-%M-%S").to_string()),
        ]);
        Self { own, given }
    }

    /// A text of a job, at this place of the file, with what it names put in.
    pub(super) fn expand(
        &self,
        source: &Source,
        text: (&str, &Range<usize>),
        job: &str,
    ) -> Result<String, WrongCall> {
        Expansion { values: self, source, job, above: Vec::new() }.of(text)
    }
}

/// A value during expansion.
struct Expansion<'e> {
    values: &'e Values,
    source: &'e Source,
    job: &'e str,
    /// The variables being expanded, each within the one before.
    above: Vec<String>,
}

impl Expansion<'_> {
    fn of(&mut self, (text, at): (&str, &Range<usize>)) -> Result<String, WrongCall> {
        let mut expanded = String::new();
        let mut rest = text;
        while let Some(begin) = rest.find("${") {
            // "$${" is a literal "${".
            if rest[..begin].ends_with('$') {
                expanded.push_str(&rest[..begin - 1]);
                expanded.push_str("${");
                rest = &rest[begin + 2..];
                continue;
            }
            expanded.push_str(&rest[..begin]);
            let Some((name, behind)) = rest[begin + 2..].split_once('}') else {
                let advice = "write } behind the name, or $${ for ${ as it stands";
                return Err(self.source.wrong(at, "${ has no end", advice));
            };
            expanded.push_str(&self.named(name, at)?);
            rest = behind;
        }
        Ok(expanded + rest)
    }

    fn named(&mut self, name: &str, at: &Range<usize>) -> Result<String, WrongCall> {
        let Values { own, given } = self.values;
        if let Some((text, place)) = own.get(name) {
            if self.above.iter().any(|one| one == name) {
                let what = format!("the value '{name}' refers to itself");
                return Err(self.source.wrong(place, &what, "write out one of them"));
            }
            self.above.push(name.to_owned());
            let expanded = self.of((text, place));
            self.above.pop();
            return expanded;
        }
        if name == "job" {
            return Ok(self.job.to_owned());
        }
        let known = given.get(name).cloned().or_else(|| std::env::var(name).ok());
        known.ok_or_else(|| {
            let what = format!("there is no value '{name}'");
            let names = own.keys().map(String::as_str).chain(GIVEN);
            let advice = "put it under [values], or into the environment";
            self.source.wrong(at, &what, &nearest(name, names, advice))
        })
    }
}
