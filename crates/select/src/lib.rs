//! Which entries take part.
//!
//! An entry that is left out is invisible on both sides: it is neither carried nor removed.

mod counts;
pub mod explain;
mod pattern;
mod query;
mod rule_names;
mod rules;
mod selection;

pub use counts::{RuleCounts, RuleSummary};
pub use pattern::{BadPattern, PatternOrigin};
pub use query::{CountedSide, Metadata, Query, Verdict};
pub use rules::{Clutter, Kinds, LITTER, PatternRules, Rule, RuleFile, Rules, Span};
pub use selection::Selection;
