//! `${NAME}` and placeholders in the values of a job file.

use std::collections::HashMap;
use std::ops::Range;

use crate::exit::WrongCall;
use crate::jobs::spot::{Source, nearest};
use crate::placeholders::Placeholders;

/// The variables of a file, with their positions.
pub(super) type Variables = HashMap<String, (String, Range<usize>)>;

/// What the values of one job may name.
pub(super) struct Expander<'f> {
    pub(super) variables: &'f Variables,
    pub(super) placeholders: &'f Placeholders,
    pub(super) source: &'f Source,
    /// False for a value whose option fills its placeholders itself.
    pub(super) fills: bool,
}

impl Expander<'_> {
    /// Expands a value at these bytes of the file.
    pub(super) fn expand(&self, text: (&str, &Range<usize>)) -> Result<String, WrongCall> {
        Expansion { expander: self, above: Vec::new() }.of(text)
    }
}

/// A value during expansion.
struct Expansion<'e> {
    expander: &'e Expander<'e>,
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
                expanded.push_str(&self.filled(&rest[..begin - 1]));
                expanded.push_str("${");
                rest = &rest[begin + 2..];
                continue;
            }
            expanded.push_str(&self.filled(&rest[..begin]));
            let Some((name, behind)) = rest[begin + 2..].split_once('}') else {
                let advice = "write } after the name, or $${ for a literal ${";
                return Err(self.expander.source.wrong(at, "${ has no end", advice));
            };
            expanded.push_str(&self.named(name, at)?);
            rest = behind;
        }
        Ok(expanded + &self.filled(rest))
    }

    fn filled(&self, text: &str) -> String {
        let Expander { placeholders, fills, .. } = self.expander;
        if *fills { placeholders.fill(text) } else { text.to_owned() }
    }

    fn named(&mut self, name: &str, at: &Range<usize>) -> Result<String, WrongCall> {
        let Expander { variables, placeholders, source, .. } = self.expander;
        if let Some((text, place)) = variables.get(name) {
            if self.above.iter().any(|one| one == name) {
                let what = format!("the variable '{name}' refers to itself");
                return Err(self.expander.source.wrong(place, &what, "write out one of them"));
            }
            self.above.push(name.to_owned());
            let expanded = self.of((text, place));
            self.above.pop();
            return expanded;
        }
        std::env::var(name).map_err(|_| {
            let what = format!("there is no variable '{name}'");
            if placeholders.is_name(name) {
                return source.wrong(at, &what, &format!("write {{{name}}}, without the $"));
            }
            let advice = "put it under [variables], or into the environment";
            let known = variables.keys().map(String::as_str);
            source.wrong(at, &what, &nearest(name, known, advice))
        })
    }
}
