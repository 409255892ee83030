//! A job as units of systemd: a service and a timer.

use std::fmt::Write as _;
use std::path::Path;

use jiff::Zoned;

use crate::schedule::scheduled::Scheduled;
use crate::schedule::when::When;

/// A unit file.
#[derive(Clone, Debug)]
pub(crate) struct Unit {
    pub(super) kind: UnitKind,
    pub(crate) name: String,
    pub(crate) text: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum UnitKind {
    Service,
    Timer,
}

/// The mark of our units.
pub(crate) const MARK: &str = "# Written by 'utter schedule'.";

/// Restrictions that no run needs to break; commands of the user might.
const HARDENING: [&str; 5] = [
    "NoNewPrivileges=yes",
    "MemoryDenyWriteExecute=yes",
    "RestrictAddressFamilies=AF_UNIX",
    "RestrictRealtime=yes",
    "LockPersonality=yes",
];

/// The units of a job, the one to be enabled last.
pub(crate) fn units(job: &Scheduled, now: &Zoned) -> Vec<Unit> {
    let name = unit_name(&job.name);
    let service =
        Unit { kind: UnitKind::Service, name: format!("{name}.service"), text: service(job) };
    if job.when == When::Mounted {
        return vec![service];
    }
    let mut text = format!("{MARK}\n[Unit]\nDescription={}, {}\n\n[Timer]\n", title(job), job.when);
    for line in job.when.calendar(now) {
        // Writing to a String cannot fail.
        let _ = writeln!(text, "OnCalendar={line}");
    }
    // A start missed while the machine was off is made up for.
    text.push_str("Persistent=true\nAccuracySec=1min\n\n[Install]\nWantedBy=timers.target\n");
    vec![service, Unit { kind: UnitKind::Timer, name: format!("{name}.timer"), text }]
}

fn service(job: &Scheduled) -> String {
    let mut text = format!("{MARK}\n[Unit]\nDescription={}\n", title(job));
    if let Some(mounted_at) = &job.mounted_at {
        let mount = mount_unit(mounted_at);
        let _ = writeln!(text, "After={mount}");
    }
    let _ = writeln!(text, "\n[Service]\nType=oneshot\nExecStart={}", job.command.for_a_unit());
    if job.is_roots {
        // It sets the home folder, too.
        text.push_str("User=root\n");
    }
    for variable in job.command.environment_of_a_unit() {
        let _ = writeln!(text, "Environment={variable}");
    }
    text.push_str("Nice=19\nIOSchedulingClass=idle\n");
    // A run that is told to stop finishes its current files.
    text.push_str("KillMode=mixed\nTimeoutStopSec=10min\n");
    if !job.has_commands {
        text.push_str(&HARDENING.map(|line| format!("{line}\n")).concat());
    }
    if let Some(mounted_at) = &job.mounted_at {
        let _ = writeln!(text, "\n[Install]\nWantedBy={}", mount_unit(mounted_at));
    }
    text
}

fn title(job: &Scheduled) -> String {
    let plain = |text: &str| text.replace(char::is_control, " ").replace('%', "%%");
    match &job.description {
        Some(description) => format!("Utter Echo: {} ({})", plain(&job.name), plain(description)),
        None => format!("Utter Echo: {}", plain(&job.name)),
    }
}

/// The name of the units of a job, without its ending.
pub(crate) fn unit_name(job: &str) -> String {
    format!("utter-{}", escaped(job.as_bytes()))
}

/// The unit of a mount point.
fn mount_unit(mounted_at: &Path) -> String {
    let path = mounted_at.as_os_str().as_encoded_bytes();
    let path = path.strip_prefix(b"/").unwrap_or(path);
    let parts: Vec<String> = path.split(|byte| *byte == b'/').map(escaped).collect();
    format!("{}.mount", parts.join("-"))
}

/// Escapes a text for the name of a unit.
fn escaped(part: &[u8]) -> String {
    let mut name = String::new();
    for (at, byte) in part.iter().enumerate() {
        match byte {
            b'.' if at == 0 => name.push_str("\\x2e"),
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'_' | b'.' | b':' => {
                name.push(char::from(*byte));
            }
            _ => _ = write!(name, "\\x{byte:02x}"),
        }
    }
    name
}
