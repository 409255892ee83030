//! Two entries of one name: what differs.

use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::PoisonError;

use crate::aspect::{Aspect, Aspects};
use crate::os::{Entry, Flags, Kind, Stat};
use crate::plan::{Reason, Step, Verb};
use crate::reach;
use crate::request::{By, Sample};

use super::{Comparison, content, step};

/// An entry on both sides: how to reach it, and what is known of it.
pub(super) struct Sides<'a> {
    pub(super) source: (Entry<'a>, &'a Stat),
    pub(super) destination: (Entry<'a>, &'a Stat),
}

/// The step that makes the destination's entry as the source's, if one is needed.
pub(super) fn compare(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<Option<Step>> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    let planned = |verb, reason| step(verb, reason, Some(source), Some(destination));
    // The same object under two names cannot differ from itself.
    if source.identity == destination.identity {
        return Ok(None);
    }
    if source.kind != destination.kind {
        let carried = context.reach.carry.has(Aspect::Content);
        return Ok(carried.then(|| planned(Verb::Replace, Reason::Kind)));
    }
    if context.changed.by == By::Presence {
        return Ok(None);
    }
    if context.reach.carry.has(Aspect::Content)
        && let Some(reason) = content_differs(context, sides)?
    {
        return Ok(Some(planned(Verb::Replace, reason)));
    }
    let aspects = differing_aspects(context, sides)?;
    Ok((!aspects.is_empty()).then(|| Step { aspects, ..planned(Verb::Adjust, Reason::Aspects) }))
}

fn content_differs(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<Option<Reason>> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    match source.kind {
        Kind::Folder | Kind::Fifo | Kind::Socket => Ok(None),
        Kind::CharDevice | Kind::BlockDevice => {
            Ok((source.size != destination.size).then_some(Reason::Reference))
        }
        Kind::Symlink => {
            let differs = source.size != destination.size
                || link_text(context, sides.source.0)? != link_text(context, sides.destination.0)?;
            Ok(differs.then_some(Reason::Reference))
        }
        Kind::File => file_differs(context, sides),
    }
}

fn link_text(context: &Comparison<'_>, entry: Entry<'_>) -> io::Result<Vec<u8>> {
    match entry {
        Entry::Named(folder, name) => context.system.read_link(folder, name),
        Entry::Open(_) | Entry::Pinned(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}

fn file_differs(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<Option<Reason>> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    if source.size != destination.size {
        return Ok(Some(Reason::SizeTime));
    }
    match context.changed.by {
        By::Size | By::Presence => sampled(context, sides),
        By::SizeTime => {
            let reach = context.reach;
            let moved = if reach.carry.has(Aspect::Times) {
                if reach.hours_apart(source.modified, destination.modified) {
                    // Not to be believed either way.
                    return contents_differ(context, sides);
                }
                !reach.same_time(source.modified, destination.modified)
            } else {
                // A copy whose time was not carried dates from when it was written.
                destination.modified < source.modified
            };
            let lost = context.interrupted.is_some_and(|left| left.may_have_lost(destination));
            if lost && !moved {
                return contents_differ(context, sides);
            }
            if moved { Ok(Some(Reason::SizeTime)) } else { sampled(context, sides) }
        }
        By::Content => contents_differ(context, sides),
    }
}

/// Reads both sides of a file that was chosen by chance.
fn sampled(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<Option<Reason>> {
    let Some(Sample { percent, seed }) = context.changed.sample else { return Ok(None) };
    let source = sides.source.1;
    let mut hasher = DefaultHasher::new();
    (seed, source.identity).hash(&mut hasher);
    if hasher.finish() as f64 >= percent / 100.0 * u64::MAX as f64 {
        return Ok(None);
    }
    let differs = contents_differ(context, sides)?;
    context.sampled.lock().unwrap_or_else(PoisonError::into_inner).add(source.size);
    Ok(differs)
}

fn contents_differ(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<Option<Reason>> {
    let mut held = (None, None);
    let from = opened(context, sides.source.0, &mut held.0)?;
    let to = opened(context, sides.destination.0, &mut held.1)?;
    let first = content::first_difference(context, from, to)?;
    Ok(first.map(|offset| Reason::Content { offset }))
}

/// A file's handle, if need be a new one, which `held` then keeps.
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

/// The carried aspects, content aside, in which two entries of one kind differ.
pub(super) fn differing_aspects(
    context: &Comparison<'_>,
    sides: &Sides<'_>,
) -> io::Result<Aspects> {
    let reach = context.reach;
    let (source, destination) = (sides.source.1, sides.destination.1);
    let mut differing = Aspects::NONE;
    let mut note = |aspect, differs: bool| {
        if differs && reach.carry.has(aspect) {
            differing = differing.with(aspect);
        }
    };
    note(Aspect::Times, !reach.same_time(source.modified, destination.modified));
    note(Aspect::Atime, !reach.same_time(source.accessed, destination.accessed));
    // The mode of a link is no one's to set.
    note(Aspect::Mode, source.kind != Kind::Symlink && source.mode != destination.mode);
    let owner = reach.owner_to_set((source.uid, source.gid), (destination.uid, destination.gid));
    note(Aspect::Owner, owner.is_some());
    let told = source.flags_told.and(destination.flags_told).and(reach.drive.flags);
    note(
        Aspect::Flags,
        reach.flags_to_carry(source.flags).and(told) != destination.flags.and(told),
    );
    if !reach.carries_hidden() || !looks_closely(context, sides, differing) {
        return Ok(differing);
    }
    if reach.carry.has(Aspect::Flags) && flags_differ(context, sides)? {
        differing = differing.with(Aspect::Flags);
    }
    let xattrs = |entry| reach.xattrs(context.system, entry);
    let hidden = reach::differing(&xattrs(sides.source.0)?, &xattrs(sides.destination.0)?);
    Ok(differing.iter().chain(hidden.iter()).collect())
}

/// All carried flags; those that `statx` does not show are known only of what is open.
fn flags_differ(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<bool> {
    let source = flags(context, sides.source.0, sides.source.1.kind)?;
    let Some(source) = source else { return Ok(false) };
    let destination = flags(context, sides.destination.0, sides.destination.1.kind)?;
    let settable = |flags: Flags| flags.and(context.reach.drive.flags);
    let wanted = context.reach.flags_to_carry(source);
    Ok(destination.is_some_and(|destination| wanted != settable(destination)))
}

/// `None` for what has no flags, and where the caller may not look.
fn flags(context: &Comparison<'_>, entry: Entry<'_>, kind: Kind) -> io::Result<Option<Flags>> {
    let system = context.system;
    let opened = match (entry, kind) {
        (Entry::Open(handle), _) => return reach::flags(system, handle),
        (Entry::Pinned(handle), Kind::Folder) => system.open_folder(handle, b""),
        (Entry::Named(folder, name), Kind::Folder) => system.open_folder(folder, name),
        (Entry::Named(folder, name), Kind::File) => system.open_file(folder, name),
        _ => return Ok(None),
    };
    match opened {
        Ok(handle) => reach::flags(system, handle.as_fd()),
        Err(e) if e.kind() == io::ErrorKind::PermissionDenied => Ok(None),
        Err(e) => Err(e),
    }
}

/// Attributes that `statx` does not show cost calls of their own. They are looked at where the
/// source may have been altered since they were carried, which its change time tells, where
/// something else differs, and always if nothing is to be trusted.
fn looks_closely(context: &Comparison<'_>, sides: &Sides<'_>, differing: Aspects) -> bool {
    let altered = sides.source.1.changed >= sides.destination.1.changed;
    let touched =
        context.interrupted.is_some_and(|left| left.may_have_touched(sides.destination.1));
    altered || touched || context.distrusts() || !differing.is_empty()
}
