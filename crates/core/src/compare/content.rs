//! The content of two files of one size.

use std::cell::Cell;
use std::io;
use std::os::fd::BorrowedFd;
use std::sync::atomic::Ordering;

use utter_echo_drives::disk_order::RotationalDisks;
use utter_echo_drives::drive_handle;
use utter_echo_files::same_content::{self, BLOCK, ReadLength};
use utter_echo_model::path::TreePath;
use utter_echo_model::running::Cache;
use utter_echo_os::{Advice, LARGE, Stat};

use crate::compare::comparison::Comparison;
use crate::compare::noted::{AT_A_TIME, Contents};
use crate::request::Reading;

thread_local! {
    /// Compared bytes that were not reported yet, less than a block: to report every small file would cost too
    /// much.
    static UNREPORTED: Cell<usize> = const { Cell::new(0) };
}

/// This many bytes count as much work as one entry.
pub(super) const CHUNK: u64 = 64 * 1024;

/// If data is to be read from the drive, flushes a file and drops it from the cache.
pub(super) fn drop_cache_if_requested(context: &Comparison<'_>, file: BorrowedFd<'_>, stat: &Stat) {
    let Comparison { system, reads, .. } = context;
    if context.terms.scope.reading != Reading::FromDrive || stat.size == 0 {
        return;
    }
    // Data that cannot be flushed stays in the cache.
    let _ = system.write_back(file);
    let is_gone = drive_handle::drop_file_cache(*system, file);
    let mut devices = reads.devices.lock();
    let forget = || drive_handle::drop_device_cache(*system, file);
    let is_device_gone = *devices.entry(stat.identity.drive).or_insert_with(forget);
    if !(is_gone && is_device_gone) {
        reads.from_memory.fetch_add(1, Ordering::Relaxed);
    }
}

/// The offset of the first byte that differs; `None` if all are equal.
pub(super) fn first_difference(
    context: &Comparison<'_>,
    source: BorrowedFd<'_>,
    destination: BorrowedFd<'_>,
    size: u64,
) -> io::Result<Option<u64>> {
    let size = ReadLength { size, block: context.reads.block };
    same_content::first_difference(context.system, source, destination, size, |bytes, end| {
        let unreported = UNREPORTED.get() + bytes;
        let tells = unreported >= BLOCK;
        UNREPORTED.set(if tells { 0 } else { unreported });
        if tells {
            context.pool.did(unreported as u64 / CHUNK);
            context.observer.compared(unreported as u64);
        }
        let drops = context.terms.running.cache == Cache::Drop
            || context.terms.scope.reading == Reading::FromDrive;
        if drops && end > LARGE {
            // If the advice fails, the file only stays in the cache.
            for file in [source, destination] {
                let _ = context.system.advise(file, Advice::Drop, 0, end);
            }
        }
        if context.observer.stop_requested() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        Ok(())
    })
}

/// Adds a file to those that are compared in disk order. Both sides are open.
pub(super) fn note(
    context: &Comparison<'_>,
    (folder, name): (&TreePath, &[u8]),
    (source, destination): ((BorrowedFd<'_>, &Stat), (BorrowedFd<'_>, &Stat)),
) {
    let Contents::Noted(noted) = &context.reads.contents else { return };
    if source.1.size == 0 {
        return;
    }
    let (head, (file, stat)) = match &context.reads.disks {
        RotationalDisks { source: Some(head), .. } => (head, source),
        RotationalDisks { destination: Some(head), .. } => (head, destination),
        RotationalDisks { .. } => return,
    };
    let place = head.position_of(context.system, file, stat.identity.inode);
    let mut files = noted.files.lock();
    if context.terms.scope.reading == Reading::AsCached {
        files.sample.ask(context.system, file);
        noted.is_in_memory.store(files.sample.is_in_memory(), Ordering::Relaxed);
    }
    files.add(folder, name, place);
    files.bytes = files.bytes.saturating_add(source.1.size.saturating_mul(2));
    if files.all.len() >= AT_A_TIME {
        // Other workers wait for this with their next file.
        let full = std::mem::take(&mut *files);
        noted.same.lock().extend(full.compare(context));
    }
}
