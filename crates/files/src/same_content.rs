//! Two files, byte by byte.

use std::cell::RefCell;
use std::io;
use std::os::fd::BorrowedFd;

use utter_echo_os::System;

/// Read from each side at a time: large enough that the calls do not count, small enough that both
/// blocks stay in the processor's cache while they are compared.
pub const BLOCK: usize = 256 * 1024;

thread_local! {
    /// Made once a worker: clearing half a MiB for every small file would cost more than the file.
    static BLOCKS: RefCell<(Vec<u8>, Vec<u8>)> = const { RefCell::new((Vec::new(), Vec::new())) };
}

/// How much is compared.
#[derive(Clone, Copy, Debug)]
pub struct ReadLength {
    /// Bytes of each file.
    pub size: u64,
    /// Bytes that are read at a time.
    pub block: usize,
}

/// The offset of the first byte that differs, or at which one ends; `None` if all are equal. Reading
/// ends where the source's `size` says, once that much came of both, but not at a size of 0, which
/// says nothing. What neither side holds is not read, but for the end, which shows how long they are.
/// `block` bytes come of each side at a time. After each `passed` is told how many bytes were read of both sides and where the block ends;
/// comparing ends when it fails.
pub fn first_difference(
    system: &dyn System,
    source: BorrowedFd<'_>,
    destination: BorrowedFd<'_>,
    ReadLength { size, block }: ReadLength,
    mut passed: impl FnMut(usize, u64) -> io::Result<()>,
) -> io::Result<Option<u64>> {
    let block = usize::try_from(size.max(1)).unwrap_or(block).clamp(BLOCK.min(block), block);
    BLOCKS.with_borrow_mut(|(here, there)| {
        for buffer in [&mut *here, &mut *there] {
            buffer.resize(buffer.len().max(block), 0);
        }
        let mut offset = 0;
        loop {
            let left = if size == 0 { u64::MAX } else { size - offset };
            let length = usize::try_from(left).unwrap_or(block).min(block);
            let read = system.read_at(source, &mut here[..length], offset)?;
            let other = system.read_at(destination, &mut there[..length], offset)?;
            let shared = read.min(other);
            passed(read + other, offset + shared as u64)?;
            if here[..shared] != there[..shared] {
                let same = here.iter().zip(there.iter()).take_while(|(a, b)| a == b).count();
                return Ok(Some(offset + same as u64));
            }
            // One side may have been cut short since both were found to be of one size.
            if read != other {
                return Ok(Some(offset + shared as u64));
            }
            offset += read as u64;
            if read < length || offset == size {
                return Ok(None);
            }
            if here[..read].iter().all(|byte| *byte == 0) {
                offset = past_holes(system, (source, destination), offset, size);
            }
        }
    })
}

/// Where to read on, where zeros were read: at the next byte that one of the sides may hold.
fn past_holes(
    system: &dyn System,
    (source, destination): (BorrowedFd<'_>, BorrowedFd<'_>),
    offset: u64,
    size: u64,
) -> u64 {
    let Some(last) = size.checked_sub(1) else { return offset };
    // Where a file system does not tell, all of it counts as held.
    let next = |file| match system.next_data(file, offset) {
        Ok(Some((start, _))) => start,
        Ok(None) => last,
        Err(_) => offset,
    };
    let first = next(source);
    if first == offset { offset } else { first.min(next(destination)).clamp(offset, last) }
}
