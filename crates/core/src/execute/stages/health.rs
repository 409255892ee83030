//! Whether a fault is about one entry or about a drive: the drives themselves are asked.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_os::{Entry, is_unsupported};

use crate::execute::stages::ledger::PartLedger;
use crate::execute::stages::site::{OnDrive, PartSite};

/// What the drives say when they are asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Health {
    /// The fault was about one entry.
    Well,
    /// Nothing more can be written to the drive of the destination that the entry lies on.
    OneIsOver,
    /// The source cannot be read any more.
    SourceIsOver,
}

/// With less than this many bytes left a drive counts as full.
const LEAST_SPACE: u64 = 16 * 1024;

/// Asks the drives whether a cause is about more than one entry, which needs so many bytes.
pub(super) fn ask_drives(
    ledger: PartLedger<'_>,
    on: &OnDrive<'_>,
    cause: &Cause,
    needs: u64,
) -> Health {
    let over = |over| if over { Health::OneIsOver } else { Health::Well };
    let Some(handle) = on.handle.get().map(AsFd::as_fd) else { return Health::Well };
    if cause.is_full() {
        return over(!has_space(ledger.site, handle, needs));
    }
    if cause.is_read_only() {
        return over(try_writing(ledger.site, handle, &[]).is_err());
    }
    if !cause.is_gone() && !cause.is_input_output() {
        return Health::Well;
    }
    if fails(ledger, on, handle) {
        return Health::OneIsOver;
    }
    let source = ledger.site.pair.source.as_fd();
    if fails(ledger, on, source) { Health::SourceIsOver } else { Health::Well }
}

fn has_space(site: &PartSite<'_>, folder: BorrowedFd<'_>, needs: u64) -> bool {
    match site.system().space(folder) {
        Ok(space) => {
            let inodes = space.inodes.is_none_or(|free| free > 0);
            let enough = space.bytes > needs.max(LEAST_SPACE);
            // A quota shows in nothing but a refusal.
            inodes && enough && try_writing(site, folder, &[1; 4096]).is_ok()
        }
        // A drive that does not say how full it is is believed.
        Err(_) => false,
    }
}

fn try_writing(site: &PartSite<'_>, folder: BorrowedFd<'_>, bytes: &[u8]) -> io::Result<()> {
    let (system, name) = (site.system(), site.context.temporaries.name());
    let written = system.create_file(folder, &name, 0o600).and_then(|file| {
        if bytes.is_empty() { Ok(()) } else { system.write_at(file.as_fd(), bytes, 0).map(drop) }
    });
    let _ = system.remove_file(folder, &name);
    written
}

/// True if a drive fails whatever is asked of it. Of a fault in one place a drive tells once, and is
/// well the second time.
pub(super) fn fails(ledger: PartLedger<'_>, on: &OnDrive<'_>, folder: BorrowedFd<'_>) -> bool {
    let system = ledger.site.system();
    let flush = || {
        let folder = system.open_folder(folder, b"")?;
        system.stat(Entry::Open(folder.as_fd()))?;
        system.flush_drive(folder.as_fd())
    };
    match (flush(), flush()) {
        (_, Err(again)) => !is_unsupported(&again),
        (Err(error), Ok(())) => {
            // The flush at the end will not be told of it any more.
            let path = ledger.site.prefix.join(on.mounted.path.as_bytes());
            let (operation, cause) = (Operation::Flush, error.into());
            ledger.all.report(Problem { path, operation, cause });
            false
        }
        (Ok(()), Ok(())) => false,
    }
}
