//! The names of rules in reports.

use crate::rules::{Kinds, Rule};
use crate::selection::Selection;

impl Selection {
    /// All given rules, in the order in which those of one kind are checked.
    pub fn all_rules(&self) -> impl Iterator<Item = Rule> {
        let exclude = (0..self.exclude.given.len()).map(Rule::Exclude);
        let only = (0..self.only.given.len()).map(Rule::Only);
        let plain = Rule::PLAIN.into_iter().filter(|rule| self.is_given(*rule));
        exclude.chain(only).chain(plain)
    }

    fn is_given(&self, rule: Rule) -> bool {
        let rules = &self.rules;
        match rule {
            Rule::Exclude(_) | Rule::Only(_) => true,
            Rule::NotOnly => self.takes_only(),
            Rule::Depth => rules.depth.is_some(),
            Rule::Size => !rules.size.is_open(),
            Rule::Date => !rules.modified.is_open(),
            Rule::Kind => rules.kinds != Kinds::ALL,
            Rule::Hidden => rules.without.no_hidden,
            Rule::Litter => rules.without.no_litter,
            Rule::Cache => rules.without.no_caches,
            Rule::Empty => rules.without.no_empty_folders,
        }
    }

    /// How a rule was given.
    pub fn name(&self, rule: Rule) -> String {
        match rule {
            Rule::Exclude(number) => self.exclude.given[number].to_string(),
            Rule::Only(number) => self.only.given[number].to_string(),
            Rule::NotOnly => "--only (none matches)".to_owned(),
            Rule::Depth => format!("--depth {}", self.rules.depth.unwrap_or(0)),
            Rule::Size => "--size".to_owned(),
            Rule::Date => "--age or --dated".to_owned(),
            Rule::Kind => "--kind".to_owned(),
            Rule::Hidden => "--hidden no".to_owned(),
            Rule::Litter => "--skip-litter".to_owned(),
            Rule::Cache => "--skip-caches".to_owned(),
            Rule::Empty => "--no-empty-folders".to_owned(),
        }
    }

    /// True for a rule that leaves entries out.
    pub fn is_for_leaving_out(&self, rule: Rule) -> bool {
        match rule {
            Rule::Exclude(number) => !self.exclude.given[number].text.starts_with('!'),
            Rule::Only(_) => false,
            _ => true,
        }
    }
}
