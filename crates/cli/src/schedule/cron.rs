//! A job as a line for cron.

use crate::schedule::command_line::CommandLine;
use crate::schedule::when::When;

/// The two lines of a job: the first names it, so that it is not added twice.
pub(crate) fn lines(job: &str, when: &When, command: &CommandLine) -> Option<[String; 2]> {
    Some([mark(job), format!("{} {}", when.cron()?, command.for_cron())])
}

fn mark(job: &str) -> String {
    format!("# utter schedule: {}", job.replace(char::is_control, " "))
}

/// A table of cron without the lines of a job.
pub(crate) fn without(table: &str, job: &str) -> String {
    let mark = mark(job);
    let mut lines = table.lines();
    let mut kept = String::new();
    while let Some(line) = lines.next() {
        if line == mark {
            lines.next();
        } else {
            kept.push_str(line);
            kept.push('\n');
        }
    }
    kept
}
