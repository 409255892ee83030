//! The result of a run, in a file for Prometheus.

use std::fmt;
use std::fs;
use std::io::{self, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::sync::atomic::AtomicU64;
use std::time::{SystemTime, UNIX_EPOCH};

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;
use tempfile::NamedTempFile;
use utter_echo_core::drives;
use utter_echo_core::os::Linux;

use crate::exit::Exit;
use crate::report::events::RunOutcome;
use crate::reporter::Summary;

type Number = Gauge<f64, AtomicU64>;

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct Of {
    job: String,
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct OfKind {
    job: String,
    kind: String,
}

const LAST_SUCCESS: &str = "utter_last_success_timestamp_seconds";

/// Writes all metrics of a run to a file, atomically.
pub(crate) fn write(path: &Path, job: &str, summary: &Summary) -> io::Result<()> {
    let text = text(job, summary, last_success(path)).map_err(io::Error::other)?;
    let above = path.parent().filter(|above| !above.as_os_str().is_empty());
    let mut file = NamedTempFile::new_in(above.unwrap_or(Path::new(".")))?;
    file.write_all(text.as_bytes())?;
    // Another user's program collects them.
    file.as_file().set_permissions(fs::Permissions::from_mode(0o644))?;
    file.persist(path)?;
    Ok(())
}

/// The last success, from the former file.
fn last_success(path: &Path) -> Option<f64> {
    let before = fs::read_to_string(path).ok()?;
    let line = before.lines().find(|line| line.starts_with(LAST_SUCCESS))?;
    line.rsplit(' ').next()?.parse().ok()
}

fn text(job: &str, summary: &Summary, last_success: Option<f64>) -> Result<String, fmt::Error> {
    let mut registry = Registry::default();
    let of = Of { job: job.to_owned() };
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs_f64();
    let mut one = |name: &str, help: &str, value: f64| {
        let family = Family::<Of, Number>::default();
        family.get_or_create(&of).set(value);
        registry.register(name, help, family);
    };
    one("utter_last_run_timestamp_seconds", "When the last run ended", now);
    one("utter_last_run_exit_code", "What the last run ended with", f64::from(summary.exit as u8));
    let success = if summary.exit == Exit::Done { Some(now) } else { last_success };
    if let Some(success) = success {
        one(LAST_SUCCESS, "When the last successful run ended", success);
    }
    one("utter_problems", "Entries with a problem in the last run", summary.heard.problems as f64);
    let mut several = |name: &str, help: &str, values: Vec<(&str, f64)>| {
        let family = Family::<OfKind, Number>::default();
        for (kind, value) in values {
            let of = OfKind { job: job.to_owned(), kind: kind.to_owned() };
            family.get_or_create(&of).set(value);
        }
        registry.register(name, help, family);
    };
    let outcome = RunOutcome::after(summary.exit).word();
    several("utter_last_run_outcome", "How the last run ended", vec![(outcome, 1.0)]);
    if let Some(ran) = summary.totals.as_ref().and_then(|totals| totals.run.as_ref()) {
        let done = ran.done.named();
        let entries = done.iter().map(|(verb, amount)| (*verb, amount.entries as f64)).collect();
        several("utter_entries", "Steps that the last run did, by kind", entries);
        let bytes = done.iter().map(|(verb, amount)| (*verb, amount.bytes as f64)).collect();
        several("utter_bytes", "Bytes of content of these steps", bytes);
        let (writing, back) = (ran.seconds_writing, ran.seconds_reading_back);
        let planning = ran.seconds - writing - back;
        let phases = vec![("planning", planning), ("writing", writing), ("reading-back", back)];
        several("utter_phase_seconds", "What the last run took", phases);
    }
    if let Some(space) =
        summary.destination.as_ref().and_then(|path| drives::room(&Linux, path).ok())
    {
        let values = vec![("free", space.bytes as f64), ("total", space.total as f64)];
        several("utter_destination_bytes", "Space on the drive of the destination", values);
    }
    let mut text = String::new();
    encode(&mut text, &registry)?;
    Ok(text)
}
