//! What went wrong with one entry.

use std::io;

use rustix::io::Errno;

use crate::names::NameObjection;
use crate::path::TreePath;

/// What was being done when a problem arose.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operation {
    /// Listing a folder of the source.
    ListSource,
    /// Listing a folder of the destination.
    ListDestination,
    /// Looking at an entry of the source.
    LookAtSource,
    /// Looking at an entry of the destination.
    LookAtDestination,
    /// Comparing the content or attributes of both sides.
    Compare,
    /// Reading the source.
    Read,
    /// Creating or writing in the destination.
    Write,
    /// Giving an entry of the destination its attributes.
    SetAttributes,
    /// Removing from the destination.
    Remove,
    /// Flushing the destination's drive.
    Flush,
    /// Reading back what was written.
    ReadBack,
    /// Setting aside what is removed or replaced, or writing down what was done.
    SetAside,
    /// Putting back what a run displaced.
    PutBack,
    /// Removing what was set aside long enough ago.
    Prune,
    /// Taking along what was to be carried strictly.
    Carry,
    /// Taking away from the source what has arrived.
    RemoveSource,
}

impl Operation {
    /// In words, to stand before the cause: "cannot read: permission denied".
    pub fn words(self) -> &'static str {
        match self {
            Self::ListSource => "cannot list in the source",
            Self::ListDestination => "cannot list in the destination",
            Self::LookAtSource => "cannot read the attributes in the source",
            Self::LookAtDestination => "cannot read the attributes in the destination",
            Self::Compare => "cannot compare",
            Self::Read => "cannot read",
            Self::Write => "cannot write",
            Self::SetAttributes => "cannot set attributes",
            Self::Remove => "cannot remove",
            Self::Flush => "cannot flush",
            Self::ReadBack => "cannot read back",
            Self::SetAside => "cannot set aside",
            Self::PutBack => "cannot put back",
            Self::Prune => "cannot remove old runs of",
            Self::Carry => "cannot copy",
            Self::RemoveSource => "cannot move",
        }
    }

    const ALL: [Self; 16] = [
        Self::ListSource,
        Self::ListDestination,
        Self::LookAtSource,
        Self::LookAtDestination,
        Self::Compare,
        Self::Read,
        Self::Write,
        Self::SetAttributes,
        Self::Remove,
        Self::Flush,
        Self::ReadBack,
        Self::SetAside,
        Self::PutBack,
        Self::Prune,
        Self::Carry,
        Self::RemoveSource,
    ];

    /// The operation with this stable word, which older undo journals may have by its former name.
    pub fn of_id(id: &str) -> Option<Self> {
        match id {
            "recheck" => Some(Self::ReadBack),
            "vacate" => Some(Self::RemoveSource),
            id => Self::ALL.into_iter().find(|operation| operation.id() == id),
        }
    }

    /// The same for programs: one stable word.
    pub fn id(self) -> &'static str {
        match self {
            Self::ListSource => "list-source",
            Self::ListDestination => "list-destination",
            Self::LookAtSource => "look-at-source",
            Self::LookAtDestination => "look-at-destination",
            Self::Compare => "compare",
            Self::Read => "read",
            Self::Write => "write",
            Self::SetAttributes => "set-attributes",
            Self::Remove => "remove",
            Self::Flush => "flush",
            Self::ReadBack => "read-back",
            Self::SetAside => "set-aside",
            Self::PutBack => "put-back",
            Self::Prune => "prune",
            Self::Carry => "carry",
            Self::RemoveSource => "remove-source",
        }
    }
}

/// Why an entry is no longer what the plan saw, or why it cannot become what it should.
#[derive(Debug, thiserror::Error)]
pub enum Cause {
    /// The system said no.
    #[error("{}", plain(.0))]
    System(#[from] io::Error),
    /// It changed between plan and step.
    #[error("{0} has changed since the plan was made; run again")]
    Stale(&'static str),
    /// It is being written by somebody.
    #[error("it keeps changing while it is read; run again later")]
    Restless,
    /// Its drive reports a size that is not that of the content.
    #[error("{}", belied(*.size, *.came))]
    SizeBelied {
        /// What it is said to hold, in bytes.
        size: u64,
        /// Where the content ended, in bytes; more than the size if it went on there.
        came: u64,
    },
    /// A move meets another entry under a name.
    #[error(
        "the destination has another entry of this name, so this one stays in the source; choose with --on-conflict"
    )]
    NameTaken,
    /// A source that does not exist, beside others that do.
    #[error("this source does not exist; the others are taken without it")]
    NoSource,
    /// It was copied, and the copy is not the same.
    #[error("the copy in the destination differs, so it stays in the source")]
    NotArrived,
    /// What is in its place was taken for the same by size and time.
    #[error(
        "the destination's file differs although size and time agree, so the source file stays; use --by content with --on-conflict"
    )]
    OnlyLooksTheSame,
    /// The system does not rename from there to here, though both are on one drive.
    #[error(
        "the system refuses to rename it; to copy and then remove it, run again with --steps all,-rename"
    )]
    NotRenamed,
    /// Names of one file go together, and one of them does not go.
    #[error("another hard link of this file stays in the source, so this one stays, too")]
    NamesTogether,
    /// A file that somebody writes to.
    #[error("a program has it open for writing, so it stays in the source; run again later")]
    BeingWritten,
    /// Entries that a killed move was about to remove lie in a folder of its own.
    #[error(
        "a killed move left entries of it in '{}' inside it; run that move again, or rename them back",
        String::from_utf8_lossy(.0)
    )]
    LeftOnItsWay(Vec<u8>),
    /// Nobody knows what the destination's drive holds, but only what the system remembers of it.
    #[error(
        "its copy can only be verified from the cache, not from the drive, since this user may not read the device; so it stays in the source (--waive loss accepts that)"
    )]
    ProvenInMemoryAlone,
    /// Somebody put another entry in the place of one that was about to go.
    #[error(
        "another program put a new entry in its place meanwhile; both are kept, this one as '{}'",
        String::from_utf8_lossy(.0).escape_debug()
    )]
    KeptBeside(Vec<u8>),
    /// Something is in a folder of the source that was to be empty by now.
    #[error("it has new entries, so it stays in the source")]
    NotEmpty,
    /// A folder of the source that the caller may not change, or nobody.
    #[error("{}, so its entries stay in the source; make it writable, or copy instead", plain(.0))]
    SourceLocked(io::Error),
    /// Its flags keep everybody from renaming or removing it.
    #[error(
        "it is immutable or append-only, so it stays in the source; clear these flags, or copy instead"
    )]
    SourceFlagged,
    /// It belongs to somebody else, in a folder from which everybody may take only their own.
    #[error(
        "it belongs to another user and its folder is sticky, so it stays in the source; ask its owner, or copy instead"
    )]
    SourceOfAnother,
    /// Copying removes nothing.
    #[error(
        "the destination has a folder of this name that is not empty; only mirror removes such a folder"
    )]
    FolderInTheWay,
    /// What the selection leaves out stays.
    #[error("the selection leaves out the destination's entry, so it stays")]
    LeftOutInTheWay,
    /// The destination's drive has no entries of this kind, or not for this caller.
    #[error("the destination's drive cannot store an entry of this kind")]
    KindNotHeld,
    /// The destination's drive does not take a link with so long a text.
    #[error("the destination's drive cannot store a symbolic link with such a long target")]
    LinkTooLong,
    /// The destination's drive does not take a device with this number.
    #[error("the destination's drive cannot store a device with this number")]
    DeviceNotHeld,
    /// A mounted drive stays where it is.
    #[error(
        "another drive is mounted here in the destination, so nothing can take its place; unmount it first"
    )]
    MountInTheWay,
    /// The destination's drive does not take the name.
    #[error("the destination's drive does not accept a name that {}", objection(*.0))]
    NameNotHeld(NameObjection),
    /// Two names of the source are one in the destination.
    #[error("the destination's drive cannot tell this name from '{}'", String::from_utf8_lossy(.0).escape_debug())]
    SameNameThere(Vec<u8>),
    /// The file is longer than the destination's drive can store.
    #[error("larger than the {0} bytes that the destination's drive can store in one file")]
    TooLarge(u64),
    /// What was read back from the drive is not what was written.
    #[error("its copy on the drive differs from the source at byte {0}")]
    ReadBack(u64),
    /// Not only this entry, but all of its drive.
    #[error("every access to its drive fails; was it unplugged?")]
    DriveLost,
    /// Something that was to be carried strictly cannot be.
    #[error("{0}; the destination's drive, or this user, cannot store that")]
    NotCarried(String),
    /// A move does not carry these attributes of the entry.
    #[error("its copy lacks {0}; if you accept the loss: --waive loss")]
    Uncarried(String),
    /// The plan foresaw it when it was saved, in these words.
    #[error("{0}")]
    Foreseen(String),
    /// What a run displaced is not where it set things aside.
    #[error("it was replaced or removed, and was not set aside")]
    NotSetAside,
    /// Something that a run changed was not seen to be as it was before.
    #[error("it differs from its state before that run")]
    NotBack,
    /// What a run put there is not what is there now.
    #[error("it was changed or replaced after that run, and stays as it is")]
    ChangedSince,
    /// What a run put there is nowhere.
    #[error("it is gone from where that run put it")]
    GoneSince,
    /// Something else is where an entry was before the run.
    #[error("another entry has its place by now: move that one away, and undo the run again")]
    PlaceTaken,
    /// The first name of a group of hard links was not written.
    #[error("the file that it is a hard link of could not be written")]
    LeaderFailed,
}

impl Cause {
    /// True for what was looked at and understood, and is left as it is: nothing about it is unknown.
    pub fn is_conflict(&self) -> bool {
        matches!(self, Self::NameTaken | Self::FolderInTheWay)
    }

    /// True for what makes the step stale instead of failed.
    pub fn is_stale(&self) -> bool {
        matches!(self, Self::Stale(_))
    }

    /// True for what may mean that no further step can succeed: that the drive is full, gone or cannot
    /// be written. The drive itself must say so, too.
    pub fn may_end_the_run(&self) -> bool {
        self.is_full() || self.is_gone() || self.is_input_output()
    }

    /// True if the drive takes nothing.
    pub fn is_read_only(&self) -> bool {
        self.is(Errno::ROFS)
    }

    /// True if there is no such entry.
    pub fn is_absence(&self) -> bool {
        matches!(self, Self::System(e) if e.kind() == io::ErrorKind::NotFound)
    }

    /// True if there is no room left.
    pub fn is_full(&self) -> bool {
        use io::ErrorKind as K;
        matches!(self, Self::System(e) if matches!(e.kind(), K::StorageFull | K::QuotaExceeded))
    }

    /// True if the drive is gone or cannot be written any more; it may come back.
    pub fn is_gone(&self) -> bool {
        let lost = [Errno::NODEV, Errno::NXIO, Errno::NOTCONN, Errno::ROFS];
        matches!(self, Self::DriveLost) || lost.into_iter().any(|errno| self.is(errno))
    }

    /// The same once more, as far as it ends a run.
    pub fn copied(&self) -> Option<Self> {
        match self {
            Self::System(error) => Some(Self::System(match error.raw_os_error() {
                Some(number) => io::Error::from_raw_os_error(number),
                None => error.kind().into(),
            })),
            Self::DriveLost => Some(Self::DriveLost),
            _ => None,
        }
    }

    /// True if the drive failed, which may be for this one place on it, or for good.
    pub fn is_input_output(&self) -> bool {
        self.is(Errno::IO)
    }

    fn is(&self, errno: Errno) -> bool {
        matches!(self, Self::System(e) if e.raw_os_error() == Some(errno.raw_os_error()))
    }

    /// True if another try may succeed.
    pub fn may_pass(&self) -> bool {
        let passing = [
            Errno::BUSY,
            Errno::TXTBSY,
            Errno::IO,
            Errno::STALE,
            Errno::AGAIN,
            Errno::INTR,
            Errno::TIMEDOUT,
        ];
        match self {
            Self::System(error) => {
                let number = error.raw_os_error();
                passing.iter().any(|errno| number == Some(errno.raw_os_error()))
            }
            Self::Restless | Self::BeingWritten => true,
            _ => false,
        }
    }
}

fn belied(size: u64, came: u64) -> String {
    let how = if came < size { format!("ended after {came}") } else { "went on after that".into() };
    format!("its size is given as {size} bytes, but it {how}; it was not copied")
}

fn objection(objection: NameObjection) -> String {
    match objection {
        NameObjection::Character(character) if character.is_control() => {
            format!("contains the character {}", character.escape_default())
        }
        NameObjection::Character(character) => format!("holds '{character}'"),
        NameObjection::NotUtf8 => "is not UTF-8".into(),
        NameObjection::NotAscii => "is not ASCII".into(),
        NameObjection::LooseEnd => "ends with a dot or a space".into(),
        NameObjection::TooLong => "is this long".into(),
    }
}

/// The system's message without the number that Rust appends to it, in lower case.
fn plain(error: &io::Error) -> String {
    let text = error.to_string();
    let text = text.split(" (os error").next().unwrap_or(&text);
    let mut characters = text.chars();
    match characters.next() {
        Some(first) => first.to_lowercase().chain(characters).collect(),
        None => String::new(),
    }
}

/// One entry that could not be read, written or kept.
#[derive(Debug)]
pub struct Problem {
    /// Which.
    pub path: TreePath,
    /// What was tried.
    pub operation: Operation,
    /// Why it did not work.
    pub cause: Cause,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_operation_is_known_by_its_word_and_by_its_former_one() {
        for operation in Operation::ALL {
            assert_eq!(Operation::of_id(operation.id()), Some(operation));
        }
        assert_eq!(Operation::of_id("recheck"), Some(Operation::ReadBack));
        assert_eq!(Operation::of_id("vacate"), Some(Operation::RemoveSource));
        assert_eq!(Operation::of_id("guess"), None);
    }
}
