//! Two entries of one name: what differs.

use std::io;
use std::os::fd::{AsFd, OwnedFd};

use crate::aspect::{Aspect, Aspects};
use crate::os::{Entry, Kind, Stat};
use crate::plan::{Reason, Step, Verb};
use crate::reach;
use crate::request::{By, Task};

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
    let reads_both = context.by == By::Content && context.reach.carry.has(Aspect::Content);
    if reads_both && source.kind == Kind::File && source.size == destination.size {
        // Open already, attributes cost less than by name.
        let (from, to) = (open(context, sides.source.0)?, open(context, sides.destination.0)?);
        let opened = Sides {
            source: (Entry::Open(from.as_fd()), source),
            destination: (Entry::Open(to.as_fd()), destination),
        };
        return compare_alike(context, &opened);
    }
    compare_alike(context, sides)
}

fn open(context: &Comparison<'_>, entry: Entry<'_>) -> io::Result<OwnedFd> {
    match entry {
        Entry::Named(folder, name) => context.system.open_file(folder, name),
        Entry::Open(_) | Entry::Pinned(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}

/// Two entries of one kind.
fn compare_alike(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<Option<Step>> {
    let planned =
        |verb, reason| step(verb, reason, Some(sides.source.1), Some(sides.destination.1));
    if context.reach.carry.has(Aspect::Content)
        && let Some(reason) = content_differs(context, sides)?
    {
        return Ok(Some(planned(Verb::Replace, reason)));
    }
    let aspects = differing_aspects(context, sides)?;
    Ok((!aspects.is_empty()).then(|| Step { aspects, ..planned(Verb::Retouch, Reason::Aspects) }))
}

fn content_differs(context: &Comparison<'_>, sides: &Sides<'_>) -> io::Result<Option<Reason>> {
    let (source, destination) = (sides.source.1, sides.destination.1);
    match source.kind {
        Kind::Folder | Kind::Fifo | Kind::Socket => Ok(None),
        Kind::CharDevice | Kind::BlockDevice => {
            Ok((source.size != destination.size).then_some(Reason::Reference))
        }
        Kind::Link => {
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
        return Ok(Some(Reason::Stamp));
    }
    match context.by {
        By::Size => Ok(None),
        By::Stamp => {
            let moved = if context.reach.carry.has(Aspect::Times) {
                source.modified != destination.modified
            } else {
                // A copy whose time was not carried dates from when it was written.
                destination.modified < source.modified
            };
            Ok(moved.then_some(Reason::Stamp))
        }
        By::Content => {
            let (Entry::Open(from), Entry::Open(to)) = (sides.source.0, sides.destination.0) else {
                return Err(io::ErrorKind::InvalidInput.into());
            };
            let first = content::first_difference(context, from, to)?;
            Ok(first.map(|offset| Reason::Content { offset }))
        }
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
    note(Aspect::Times, source.modified != destination.modified);
    // The mode of a link is no one's to set.
    note(Aspect::Mode, source.kind != Kind::Link && source.mode != destination.mode);
    let owner = reach.owner_to_set((source.uid, source.gid), (destination.uid, destination.gid));
    note(Aspect::Owner, owner.is_some());
    if !reach.carries_xattrs() || !looks_closely(context, sides, differing) {
        return Ok(differing);
    }
    let xattrs = |entry| reach.xattrs(context.system, entry);
    let hidden = reach::differing(&xattrs(sides.source.0)?, &xattrs(sides.destination.0)?);
    Ok(differing.iter().chain(hidden.iter()).collect())
}

/// Attributes that `statx` does not show cost calls of their own. They are looked at where the
/// source may have been altered since they were carried, which its change time tells, where
/// something else differs, and always if nothing is to be trusted.
fn looks_closely(context: &Comparison<'_>, sides: &Sides<'_>, differing: Aspects) -> bool {
    let altered = sides.source.1.changed >= sides.destination.1.changed;
    let distrusted = context.closely || context.task == Task::Verify || context.by == By::Content;
    altered || distrusted || !differing.is_empty()
}
