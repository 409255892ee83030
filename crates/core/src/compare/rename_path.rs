//! Whether entries of the source can be renamed into the destination: on one drive, by one mount.

use std::os::fd::{AsFd, BorrowedFd};
use std::path::Path;

use utter_echo_drives::features::Feature;
use utter_echo_os::{Entry, Flags, Kind, Stat};

use crate::compare::comparison::Comparison;
use crate::compare::look::MergedEntry;
use crate::compare::visit::{ListedFolder, Visit, Walk};
use crate::request::RenamePath;

/// The rename path from root to root. If something cannot be found out, entries are copied.
pub(crate) fn of_roots(context: &Comparison<'_>) -> RenamePath {
    let Comparison { system, pair, terms, .. } = context;
    let scope = &terms.scope;
    let (source, there) = (pair.source.as_fd(), pair.destination.anchor.as_fd());
    if scope.rename_path == RenamePath::Impossible {
        return RenamePath::Impossible;
    }
    let features = &context.drives.root().capabilities.drive;
    let keeps_all =
        [Feature::RenamedFolders, Feature::RenamedTimes].iter().all(|a| features.holds(*a));
    let drive = system.stat(Entry::Pinned(source)).map(|stat| stat.identity.drive);
    let same_drive = drive.is_ok_and(|d| d == pair.destination.anchor_stat.identity.drive);
    // One drive can be mounted in two places, and the system renames nothing from one to the other.
    let sitting = |folder| system.mount_session(folder).ok();
    if !keeps_all || !same_drive || sitting(source).is_none_or(|s| Some(s) != sitting(there)) {
        return RenamePath::Impossible;
    }
    if counts_for_one_account(context, there) {
        return RenamePath::Impossible;
    }
    if holds_what_stays(context) {
        scope.rename_path.min(RenamePath::EachEntry)
    } else {
        scope.rename_path
    }
}

/// A drive mounted below the source would be renamed with its folder, and so would entries that take no part. True
/// if that cannot be found out.
fn holds_what_stays(context: &Comparison<'_>) -> bool {
    let (Ok(mounts), Ok(source)) =
        (context.system.mounts(), context.system.real_path(context.pair.source.as_fd()))
    else {
        return true;
    };
    let is_below = |path: &Path| path != source && path.starts_with(&source);
    mounts.iter().any(|mount| is_below(&mount.point))
        || context.terms.own.is_some_and(|own| is_below(&own.path))
}

/// A folder whose entries all count for one quota project accepts no entry of another.
fn counts_for_one_account(context: &Comparison<'_>, folder: BorrowedFd<'_>) -> bool {
    let flags = context.system.flags(folder).unwrap_or_default();
    !flags.and(Flags::ONE_ACCOUNT).is_empty()
}

impl Walk<'_, '_> {
    /// Nothing is renamed into a folder of the destination with a quota project.
    pub(super) fn narrow_rename_path(&self, listed: &mut ListedFolder) {
        if listed.rename_path == RenamePath::Impossible || listed.node.is_root() {
            return;
        }
        let there = listed.sides.destination.as_ref();
        if there.is_some_and(|there| counts_for_one_account(self.context, there.as_fd())) {
            listed.rename_path = RenamePath::Impossible;
        }
    }

    /// Whether an entry of the source only can be renamed into its place.
    pub(super) fn rename_path(
        &self,
        visit: &Visit<'_>,
        merged: &MergedEntry<'_>,
        source: &Stat,
    ) -> RenamePath {
        let rename_path = visit.listed.rename_path;
        // An entry that cannot be removed cannot be renamed either.
        if rename_path == RenamePath::Impossible
            || visit.is_source_mount(source)
            || visit.node.is_held(source)
        {
            return RenamePath::Impossible;
        }
        if source.kind != Kind::Folder {
            return RenamePath::EachEntry;
        }
        let Some(above) = &visit.listed.sides.source else { return RenamePath::Impossible };
        let system = self.context.system;
        // A rename changes its entry `..`.
        let folder = system.open_folder(above.as_fd(), merged.source_name);
        let may_go = folder.and_then(|folder| system.may_change(folder.as_fd()));
        if may_go.is_ok() { rename_path } else { RenamePath::Impossible }
    }
}

impl Visit<'_> {
    /// Whether the entries of a folder can be renamed.
    pub(super) fn rename_path_below(
        &self,
        source: Option<&Stat>,
        there: Option<&Stat>,
    ) -> RenamePath {
        let leaves = source.is_none_or(|source| self.is_source_mount(source))
            || there.is_some_and(|there| self.is_destination_mount(there));
        // What is in a folder that may have to stay is counted one by one.
        let is_conflict = there.is_some_and(|there| there.kind != Kind::Folder);
        match self.listed.rename_path {
            _ if leaves => RenamePath::Impossible,
            path if is_conflict => path.min(RenamePath::EachEntry),
            path => path,
        }
    }
}
