//! The content of two files of one size.

use std::cell::Cell;
use std::io;
use std::os::fd::BorrowedFd;

use crate::alike::{self, BLOCK};
use crate::os::{Advice, LARGE};
use crate::request::Cache;

use super::Comparison;

thread_local! {
    /// Bytes compared that the observer was not told of yet, less than a block: to tell it of every
    /// small file would cost too much.
    static UNTOLD: Cell<usize> = const { Cell::new(0) };
}

/// The offset of the first byte that differs; `None` if all are equal.
pub(super) fn first_difference(
    context: &Comparison<'_>,
    source: BorrowedFd<'_>,
    destination: BorrowedFd<'_>,
    size: u64,
) -> io::Result<Option<u64>> {
    alike::first_difference(context.system, source, destination, size, |bytes, end| {
        let untold = UNTOLD.get() + bytes;
        let tells = untold >= BLOCK;
        UNTOLD.set(if tells { 0 } else { untold });
        if tells {
            context.observer.compared(untold as u64);
        }
        if context.running.cache == Cache::Drop && end > LARGE {
            // Advice that is not taken changes nothing but what stays in the cache.
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
