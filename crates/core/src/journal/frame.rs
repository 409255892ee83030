//! The form of a line in a journal file: length of the body, checksum, number, mark, body. Numbers have four bytes,
//! the lowest first. The checksum (CRC-32) covers everything after it.

/// What a line is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum JournalMark {
    /// A line with a body.
    Note,
    /// A barrier: the lines before it are on the drive before the changes that follow.
    Gate,
    /// The run ended.
    Ended,
    /// The run is being undone.
    Undoing,
    /// Everything that the run did is undone.
    Undone,
    /// The undo of a later run added lines.
    Noted,
}

impl JournalMark {
    const ALL: [Self; 6] =
        [Self::Note, Self::Gate, Self::Ended, Self::Undoing, Self::Undone, Self::Noted];

    /// True if the next operation waits until this line and all before it are on the drive.
    pub(crate) fn is_barrier(self) -> bool {
        matches!(self, Self::Gate | Self::Undoing | Self::Undone | Self::Noted)
    }
}

/// A line, and how many bytes it takes.
pub(crate) struct FramedLine<'b> {
    pub(crate) mark: JournalMark,
    pub(crate) body: &'b [u8],
    pub(crate) length: usize,
}

/// The size of a line without a body.
pub(crate) const HEAD: usize = 4 + 4 + 4 + 1;

/// Appends a line.
pub(crate) fn put(to: &mut Vec<u8>, number: u32, mark: JournalMark, body: &[u8]) {
    let begin = to.len();
    let length = u32::try_from(body.len()).unwrap_or(u32::MAX);
    to.extend_from_slice(&length.to_le_bytes());
    to.extend_from_slice(&[0; 4]);
    to.extend_from_slice(&number.to_le_bytes());
    to.push(mark as u8);
    to.extend_from_slice(body);
    let sum = crc32fast::hash(&to[begin + 8..]);
    to[begin + 4..begin + 8].copy_from_slice(&sum.to_le_bytes());
}

/// The line at the beginning of `bytes`, if it is complete.
pub(crate) fn take(bytes: &[u8]) -> Option<(u32, FramedLine<'_>)> {
    let number = |at: usize| -> Option<u32> {
        Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
    };
    let length = HEAD.checked_add(usize::try_from(number(0)?).ok()?)?;
    let summed = bytes.get(8..length)?;
    if crc32fast::hash(summed) != number(4)? {
        return None;
    }
    let mark = *JournalMark::ALL.get(usize::from(bytes[HEAD - 1]))?;
    Some((number(8)?, FramedLine { mark, body: &bytes[HEAD..length], length }))
}
