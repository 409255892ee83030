//! The differences of two entries.

use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_files::attributes;
use utter_echo_files::dirty_marker::Unflushed;
use utter_echo_model::attribute::{Attribute, Attributes};
use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, Flags, Kind, Stat};

use crate::compare::comparison::Comparison;
use crate::compare::content;
use crate::compare::difference::{Change, DifferenceKind};
use crate::request::{CompareBy, HiddenAttributes, Sample};

/// An entry on both sides.
pub(super) struct BothEntries<'a> {
    pub(super) source: (Entry<'a>, &'a Stat),
    pub(super) destination: (Entry<'a>, &'a Stat),
    /// What an interrupted run may have left unfinished in the destination.
    pub(super) unflushed: Option<Unflushed>,
    /// When to look at attributes that `statx` does not show.
    pub(super) attributes: HiddenAttributes,
    /// The common folder and name, if the contents may be compared in disk order.
    pub(super) at: Option<(&'a TreePath, &'a [u8])>,
}

/// Compares two entries.
pub(super) fn compare(
    context: &Comparison<'_>,
    capabilities: &Capabilities,
    sides: &BothEntries<'_>,
) -> io::Result<DifferenceKind> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    // Hard links of one file cannot differ.
    if source.identity == destination.identity {
        return Ok(DifferenceKind::Nothing);
    }
    if source.kind != destination.kind {
        return Ok(DifferenceKind::Kind);
    }
    if context.terms.scope.by == CompareBy::Presence {
        return Ok(DifferenceKind::Nothing);
    }
    if capabilities.carry.has(Attribute::Content)
        && let Some(change) = content_differs(context, capabilities, sides)?
    {
        return Ok(DifferenceKind::Content(change));
    }
    if context.reads.contents.is_noted() {
        return Ok(DifferenceKind::Nothing);
    }
    let attributes = differing_attributes(context, capabilities, sides)?;
    Ok(if attributes.is_empty() {
        DifferenceKind::Nothing
    } else {
        DifferenceKind::Attributes(attributes)
    })
}

/// As [`compare`], but always with every byte and every attribute.
pub(super) fn compare_all(
    context: &Comparison<'_>,
    capabilities: &Capabilities,
    sides: &BothEntries<'_>,
) -> io::Result<DifferenceKind> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    if source.kind != destination.kind {
        return Ok(DifferenceKind::Kind);
    }
    let change = match source.kind {
        Kind::File if source.size != destination.size => Some(Change::SizeTime),
        Kind::File => contents_differ(context, sides)?,
        _ => content_differs(context, capabilities, sides)?,
    };
    if let Some(change) = change {
        return Ok(DifferenceKind::Content(change));
    }
    let attributes = differing_attributes(context, capabilities, sides)?;
    Ok(if attributes.is_empty() {
        DifferenceKind::Nothing
    } else {
        DifferenceKind::Attributes(attributes)
    })
}

fn content_differs(
    context: &Comparison<'_>,
    capabilities: &Capabilities,
    sides: &BothEntries<'_>,
) -> io::Result<Option<Change>> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    match source.kind {
        Kind::Folder | Kind::Fifo | Kind::Socket => Ok(None),
        Kind::CharDevice | Kind::BlockDevice => {
            Ok((source.size != destination.size).then_some(Change::Reference))
        }
        Kind::Symlink => {
            let differs = source.size != destination.size
                || link_text(context, sides.source.0)? != link_text(context, sides.destination.0)?;
            Ok(differs.then_some(Change::Reference))
        }
        Kind::File => file_differs(context, capabilities, sides),
    }
}

fn link_text(context: &Comparison<'_>, entry: Entry<'_>) -> io::Result<Vec<u8>> {
    match entry {
        Entry::Named(folder, name) => context.system.read_link(folder, name),
        Entry::Open(_) | Entry::Pinned(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}

fn file_differs(
    context: &Comparison<'_>,
    capabilities: &Capabilities,
    sides: &BothEntries<'_>,
) -> io::Result<Option<Change>> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    if source.size != destination.size {
        return Ok(Some(Change::SizeTime));
    }
    let by = context.terms.scope.by;
    if by == CompareBy::Content {
        return contents_differ(context, sides);
    }
    if by == CompareBy::SizeTime {
        if capabilities.carry.has(Attribute::Times) {
            if capabilities.hours_apart(source.modified, destination.modified) {
                // The times mean nothing.
                return contents_differ(context, sides);
            }
            if !capabilities.agree(source.modified, destination.modified) {
                return Ok(Some(Change::SizeTime));
            }
        } else if capabilities.is_later(source.modified, destination.modified) {
            // Without carried times, a copy has the time when it was written.
            return Ok(Some(Change::SizeTime));
        }
    }
    if sides.unflushed.is_some_and(|unflushed| unflushed.may_have_lost(destination)) {
        return contents_differ(context, sides);
    }
    sampled(context, sides)
}

/// Compares the contents of a file that was chosen by chance.
fn sampled(context: &Comparison<'_>, sides: &BothEntries<'_>) -> io::Result<Option<Change>> {
    let Some(Sample { percent, seed }) = context.terms.scope.sample else { return Ok(None) };
    let source = sides.source.1;
    let mut hasher = DefaultHasher::new();
    (seed, source.identity).hash(&mut hasher);
    if hasher.finish() as f64 >= percent / 100.0 * u64::MAX as f64 {
        return Ok(None);
    }
    let differs = contents_differ(context, sides)?;
    context.reads.sampled.lock().add(source.size);
    Ok(differs)
}

fn contents_differ(
    context: &Comparison<'_>,
    sides: &BothEntries<'_>,
) -> io::Result<Option<Change>> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    if context.reads.know(source, destination) {
        return Ok(None);
    }
    let mut held = (None, None);
    let from = opened(context, sides.source.0, &mut held.0)?;
    let to = opened(context, sides.destination.0, &mut held.1)?;
    if context.reads.contents.is_noted() {
        if let Some(at) = sides.at {
            content::note(context, at, ((from, source), (to, destination)));
        }
        return Ok(None);
    }
    content::drop_cache_if_requested(context, from, source);
    content::drop_cache_if_requested(context, to, destination);
    let first = content::first_difference(context, from, to, sides.source.1.size)?;
    Ok(first.map(Change::Bytes))
}

/// A handle of a file. A new one is stored in `held`.
fn opened<'a>(
    context: &Comparison<'_>,
    entry: Entry<'a>,
    held: &'a mut Option<OwnedFd>,
) -> io::Result<BorrowedFd<'a>> {
    match entry {
        Entry::Open(handle) => Ok(handle),
        Entry::Named(folder, name) => {
            let opened: &'a OwnedFd = held.insert(context.system.open_file(folder, name)?);
            Ok(opened.as_fd())
        }
        Entry::Pinned(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}

/// The carried attributes in which two entries of one kind differ.
pub(super) fn differing_attributes(
    context: &Comparison<'_>,
    capabilities: &Capabilities,
    sides: &BothEntries<'_>,
) -> io::Result<Attributes> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    if source.modified != destination.modified {
        capabilities.count_time(source.modified);
    }
    let mut differing = Attributes::NONE;
    let mut note = |attribute, differs: bool| {
        if differs && capabilities.carry.has(attribute) {
            differing = differing.with(attribute);
        }
    };
    note(Attribute::Times, !capabilities.agree(source.modified, destination.modified));
    note(Attribute::Atime, !capabilities.agree(source.accessed, destination.accessed));
    let has = (destination.uid, destination.gid);
    let owner = capabilities.owner_to_set((source.uid, source.gid), has);
    note(Attribute::Owner, owner.is_some());
    let owner = owner.unwrap_or(has);
    // Nobody can set the mode of a symbolic link.
    let mode = capabilities.mode_for(source, owner);
    note(Attribute::Mode, source.kind != Kind::Symlink && mode != destination.mode);
    let told = source.flags_told.and(destination.flags_told).and(capabilities.drive.flags);
    note(
        Attribute::Flags,
        capabilities.flags_to_carry(source.flags).and(told) != destination.flags.and(told),
    );
    if !capabilities.carries_hidden() || !looks_closely(sides, differing) {
        return Ok(differing);
    }
    if capabilities.carry.has(Attribute::Flags) && flags_differ(context, capabilities, sides)? {
        differing = differing.with(Attribute::Flags);
    }
    let xattrs = |entry| capabilities.xattrs(context.system, entry);
    let wanted = capabilities.xattrs_for(xattrs(sides.source.0)?, (source.uid, source.gid), owner);
    let hidden = attributes::differing(&wanted, &xattrs(sides.destination.0)?);
    Ok(differing.iter().chain(hidden.iter()).collect())
}

/// Compares all carried flags, some of which show only for open entries.
fn flags_differ(
    context: &Comparison<'_>,
    capabilities: &Capabilities,
    sides: &BothEntries<'_>,
) -> io::Result<bool> {
    let source = flags(context, sides.source.0, sides.source.1.kind)?;
    let Some(source) = source else { return Ok(false) };
    let destination = flags(context, sides.destination.0, sides.destination.1.kind)?;
    let settable = |flags: Flags| flags.and(capabilities.drive.flags);
    let wanted = capabilities.flags_to_carry(source);
    Ok(destination.is_some_and(|destination| wanted != settable(destination)))
}

/// `None` for kinds without flags, and if the caller may not open the entry.
fn flags(context: &Comparison<'_>, entry: Entry<'_>, kind: Kind) -> io::Result<Option<Flags>> {
    let system = context.system;
    let opened = match (entry, kind) {
        (Entry::Open(handle), _) => return Ok(attributes::flags(system, handle)),
        (Entry::Pinned(handle), Kind::Folder) => system.open_folder(handle, b""),
        (Entry::Named(folder, name), Kind::Folder) => system.open_folder(folder, name),
        (Entry::Named(folder, name), Kind::File) => system.open_file(folder, name),
        _ => return Ok(None),
    };
    match opened {
        Ok(handle) => Ok(attributes::flags(system, handle.as_fd())),
        Err(e) if e.kind() == io::ErrorKind::PermissionDenied => Ok(None),
        Err(e) => Err(e),
    }
}

/// Attributes that `statx` does not show cost further calls. They are compared if the change time of the source
/// shows that it may have been changed since it was copied, if something else differs, or if that was requested.
fn looks_closely(sides: &BothEntries<'_>, differing: Attributes) -> bool {
    let altered = sides.source.1.changed >= sides.destination.1.changed;
    let touched =
        sides.unflushed.is_some_and(|unflushed| unflushed.may_have_touched(sides.destination.1));
    let always = sides.attributes == HiddenAttributes::Always;
    altered || touched || always || !differing.is_empty()
}
