//! Two files of one size, byte by byte.

use std::cell::RefCell;
use std::io;
use std::os::fd::BorrowedFd;

use crate::os::{Advice, LARGE};
use crate::request::Cache;

use super::Comparison;

/// Read from each side at a time: large enough that the calls do not count, small enough that both
/// blocks stay in the processor's cache while they are compared.
const BLOCK: usize = 256 * 1024;

/// What a worker keeps from file to file: clearing half a MiB for every small file would cost more
/// than the file, and so would telling the observer of each.
struct Desk {
    source: Vec<u8>,
    destination: Vec<u8>,
    /// Bytes compared that the observer was not told of yet, less than a block.
    untold: usize,
}

thread_local! {
    static DESK: RefCell<Desk> =
        const { RefCell::new(Desk { source: Vec::new(), destination: Vec::new(), untold: 0 }) };
}

/// The offset of the first byte that differs; `None` if all are equal.
pub(super) fn first_difference(
    context: &Comparison<'_>,
    source: BorrowedFd<'_>,
    destination: BorrowedFd<'_>,
) -> io::Result<Option<u64>> {
    DESK.with_borrow_mut(|Desk { source: left, destination: right, untold }| {
        left.resize(BLOCK, 0);
        right.resize(BLOCK, 0);
        let mut offset = 0;
        loop {
            let read = context.system.read_at(source, left, offset)?;
            let other = context.system.read_at(destination, right, offset)?;
            let shared = read.min(other);
            *untold += read + other;
            if *untold >= BLOCK {
                context.observer.compared(std::mem::take(untold) as u64);
            }
            if left[..shared] != right[..shared] {
                let same = left.iter().zip(right.iter()).take_while(|(a, b)| a == b).count();
                return Ok(Some(offset + same as u64));
            }
            // One side may have been cut short since both were found to be of one size.
            if read != other {
                return Ok(Some(offset + shared as u64));
            }
            if read < BLOCK {
                return Ok(None);
            }
            if context.running.cache == Cache::Drop && offset >= LARGE {
                // Advice that is not taken changes nothing but what stays in the cache.
                for file in [source, destination] {
                    let _ = context.system.advise(file, Advice::Drop, 0, offset);
                }
            }
            if context.observer.stop_requested() {
                return Err(io::ErrorKind::Interrupted.into());
            }
            offset += read as u64;
        }
    })
}
