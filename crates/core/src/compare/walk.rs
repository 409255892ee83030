//! Starting the walk through both trees.

use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use utter_echo_files::{dirty_marker, exit_folder};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_workers::retry::Retrying;

use crate::compare::comparison::Comparison;
use crate::compare::difference::{FolderSink, Presence};
use crate::compare::node::{FolderSides, FolderStart, OpenFolder};
use crate::compare::rename_path;
use crate::compare::visit::{Findings, SharedFindings, Walk, WalkTask};

/// Walks through both trees from their roots.
pub(super) fn go(context: &Comparison<'_>, sink: &mut (dyn FolderSink + Send)) -> Findings {
    let pair = context.pair;
    let exists = pair.destination.exists();
    let is_folder = pair.single.is_none();
    let root = OpenFolder::new(
        None,
        (b"", None),
        FolderStart {
            presence: if exists { Presence::Both } else { Presence::Source },
            all_below: context.terms.selection.all_below_root(),
            conditional: false,
            whole: None,
            difference: None,
            agrees: true,
            drive: context.drives.root(),
            instead: None,
            rename_path: rename_path::of_roots(context),
            sides: FolderSides {
                source: is_folder.then_some(pair.source_stat),
                destination: (is_folder && exists).then_some(pair.destination.anchor_stat),
                unflushed: None,
                numbers: (InodeNumbers::Stable, InodeNumbers::Stable),
            },
        },
    );
    let walk = Walk {
        context,
        retrying: Retrying::new(context.terms.running.retries),
        marker_name: dirty_marker::name(),
        exit_name: exit_folder::name(),
        ending: Mutex::new(SharedFindings { findings: Findings::default(), sink }),
        halted: AtomicBool::new(false),
    };
    context.pool.run(vec![WalkTask::Folder(Arc::new(root))], |work, stack| {
        walk.work(work, stack);
    });
    walk.ending.into_inner().findings
}
