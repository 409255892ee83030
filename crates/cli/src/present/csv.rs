//! Differences as a table for other programs, as RFC 4180 has it.

use std::io;

use utter_echo_core::plan::{Plan, Verb};

use super::{streams, text, words};

/// A row a difference; problems go to stderr, as with text.
pub(super) fn verdict(plan: &Plan) -> io::Result<()> {
    text::problems(&plan.problems)?;
    let mut out = csv::Writer::from_writer(streams::raw_out());
    out.write_record(["difference", "type", "path", "bytes", "reason"])?;
    for placed in plan.steps() {
        let difference = match placed.step.verb {
            Verb::Add => "missing",
            Verb::Remove => "extra",
            Verb::Rename => "moved",
            Verb::Replace => "differs",
            Verb::Adjust => "attributes",
        };
        let bytes = placed.step.bytes().to_string();
        let reason = words::reason(&placed);
        out.write_record([
            difference.as_bytes(),
            words::kind(placed.step.kind()).as_bytes(),
            placed.path.as_bytes(),
            bytes.as_bytes(),
            reason.as_bytes(),
        ])?;
    }
    out.flush()
}
