//! Runs processes and measures them.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, ensure};
use wait4::Wait4 as _;

/// The costs of one run of a process.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ran {
    pub(crate) wall: Duration,
    /// Peak resident memory in KiB.
    pub(crate) peak: u64,
}

/// Runs to the end; `codes` are the accepted exit codes.
pub(crate) fn run(command: &mut Command, codes: &[i32]) -> Result<Ran> {
    let begun = Instant::now();
    let mut child = command
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .spawn()
        .with_context(|| format!("cannot run {command:?}"))?;
    let ended = child.wait4().context("cannot wait")?;
    let wall = begun.elapsed();
    let code = ended.status.code();
    ensure!(code.is_some_and(|code| codes.contains(&code)), "{command:?} ended with {code:?}");
    // This crate gives it in bytes on Linux.
    Ok(Ran { wall, peak: ended.rusage.maxrss / 1024 })
}

/// System calls of one run, by the kernel's own tracing; `None` without `strace`.
pub(crate) fn count_calls(command: &Command, room: &Path) -> Option<u64> {
    let summary = room.join("calls");
    let mut traced = Command::new("strace");
    traced
        .args(["-f", "-c", "-o"])
        .arg(&summary)
        .arg(command.get_program())
        .args(command.get_args());
    traced.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    traced.status().ok()?;
    // "100.00    0.123    1    4711    12 total"
    let text = std::fs::read_to_string(summary).ok()?;
    let total = text.lines().find(|line| line.trim_end().ends_with("total"))?;
    total.split_whitespace().nth(3)?.parse().ok()
}

pub(crate) fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    let middle = values.len() / 2;
    match values.len() {
        0 => f64::NAN,
        n if n % 2 == 1 => values[middle],
        _ => f64::midpoint(values[middle - 1], values[middle]),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_median_is_the_middle() {
        assert!((median(vec![9.0, 1.0, 5.0]) - 5.0).abs() < 1e-9);
        assert!((median(vec![4.0, 1.0, 2.0, 9.0]) - 3.0).abs() < 1e-9);
        assert!(median(Vec::new()).is_nan());
    }
}
