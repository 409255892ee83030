//! Files with several names. Which names share a file is known only when all have been seen, so
//! their steps are settled last.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use crate::os::{Identity, Stat};
use crate::path::TreePath;
use crate::plan::{Count, Leader, LeaderId, Reason, Step, Verb};

use super::node::{Arranged, Node};
use super::step;

/// A file that has more than one name on either side.
#[derive(Debug)]
pub(super) struct Linked {
    pub(super) node: Arc<Node>,
    pub(super) name: Box<[u8]>,
    pub(super) source: Stat,
    pub(super) destination: Option<Stat>,
    /// The step planned for it as if it had no other name.
    pub(super) slot: Option<usize>,
    /// Hard links are carried.
    pub(super) grouped: bool,
}

struct Member {
    linked: Linked,
    path: TreePath,
    folder: u32,
    planned: Option<Verb>,
}

impl Member {
    /// The destination's file, if its content is right.
    fn keeps(&self) -> Option<Identity> {
        let right = matches!(self.planned, None | Some(Verb::Adjust));
        self.linked.destination.filter(|_| right).map(|stat| stat.identity)
    }
}

/// Makes the steps of all names agree: names of one source file become names of one file, and no
/// file is changed through a name that others share.
pub(super) fn resolve(linked: Vec<Linked>, arranged: &mut Arranged, unchanged: &mut Count) {
    let mut members: Vec<Member> = linked.into_iter().filter_map(|l| member(l, arranged)).collect();
    members.sort_by(|a, b| a.path.cmp(&b.path));
    let mut granted = HashSet::new();
    for group in grouped(members) {
        for _ in 0..settle(&group, &mut granted, arranged) {
            unchanged.add(group[0].linked.source.size);
        }
    }
}

fn member(linked: Linked, arranged: &mut Arranged) -> Option<Member> {
    let folder = arranged.folder_of(&linked.node)?;
    let planned = match linked.slot {
        // A step that was dropped stands as a problem already.
        Some(slot) => Some((*arranged.step(folder, slot))?.verb),
        None => None,
    };
    let path = linked.node.path().join(&linked.name);
    Some(Member { linked, path, folder, planned })
}

/// In the order of their first members.
fn grouped(members: Vec<Member>) -> Vec<Vec<Member>> {
    let mut groups: Vec<Vec<Member>> = Vec::new();
    let mut known: HashMap<Identity, usize> = HashMap::new();
    for member in members {
        if !member.linked.grouped || member.linked.source.links < 2 {
            groups.push(vec![member]);
            continue;
        }
        let at = *known.entry(member.linked.source.identity).or_insert(groups.len());
        if at == groups.len() {
            groups.push(Vec::new());
        }
        groups[at].push(member);
    }
    groups
}

/// Returns how many of the names stay as they are.
fn settle(group: &[Member], granted: &mut HashSet<Identity>, arranged: &mut Arranged) -> usize {
    let Some(first) = group.first() else { return 0 };
    if !first.linked.grouped {
        let shared = first.linked.destination.is_some_and(|d| d.links > 1);
        if first.planned == Some(Verb::Adjust) && shared {
            arranged.plan(first, Verb::Replace, Reason::Apart, None);
        }
        return usize::from(first.planned.is_none());
    }
    let mut base = most_common(group, granted);
    let leader =
        base.and_then(|base| group.iter().find(|m| m.keeps() == Some(base))).unwrap_or(first);
    let sharing = group.iter().filter(|m| base.is_some() && m.keeps() == base).count();
    let has_other_names = leader.linked.destination.is_some_and(|d| d.links as usize > sharing);
    match leader.planned {
        // Its attributes would change under names that are not of this group.
        Some(Verb::Adjust) if has_other_names => base = None,
        _ => {}
    }
    granted.extend(base);
    if base.is_none() && leader.keeps().is_some() {
        arranged.plan(leader, Verb::Replace, Reason::Apart, None);
    }
    let mut id = None;
    for member in group.iter().filter(|m| !std::ptr::eq(*m, leader)) {
        if base.is_some() && member.keeps() == base {
            arranged.drop_step(member);
            continue;
        }
        let id = *id.get_or_insert_with(|| arranged.lead(leader));
        match member.planned {
            Some(Verb::Add) => arranged.plan(member, Verb::Add, Reason::New, Some(id)),
            _ => arranged.plan(member, Verb::Replace, Reason::Linked, Some(id)),
        }
    }
    let kept = if base.is_some() { sharing } else { 0 };
    kept - usize::from(kept > 0 && leader.planned.is_some())
}

/// The destination's file that most names of the group lead to, if no other group has it.
fn most_common(group: &[Member], granted: &HashSet<Identity>) -> Option<Identity> {
    let mut best: Option<(Identity, usize)> = None;
    let mut counts: HashMap<Identity, usize> = HashMap::new();
    for identity in group.iter().filter_map(Member::keeps).filter(|i| !granted.contains(i)) {
        *counts.entry(identity).or_default() += 1;
    }
    // In the order of the members, so that a tie goes to the first.
    for identity in group.iter().filter_map(Member::keeps) {
        let count = counts.get(&identity).copied().unwrap_or(0);
        if count > best.map_or(0, |(_, most)| most) {
            best = Some((identity, count));
        }
    }
    best.map(|(identity, _)| identity)
}

impl Arranged {
    fn lead(&mut self, leader: &Member) -> LeaderId {
        self.leaders.push(Leader { folder: leader.folder, name: leader.linked.name.clone() });
        LeaderId(u32::try_from(self.leaders.len() - 1).unwrap_or(u32::MAX))
    }

    /// Puts a step in the place of the one planned for the name alone.
    fn plan(&mut self, member: &Member, verb: Verb, reason: Reason, leader: Option<LeaderId>) {
        // A link is made in the place of the file that was planned; what may not be replaced stays.
        if verb == Verb::Replace && !self.replaces {
            return;
        }
        let destination = member.linked.destination.as_ref();
        let planned = step(verb, reason, Some(&member.linked.source), destination);
        let Some(slot) = member.linked.slot else {
            let step = Step { leader, ..planned };
            self.add(member.folder, &member.linked.name, step);
            return;
        };
        if let Some(step) = self.step(member.folder, slot) {
            // What stands in the way may be of another kind, which only the step knows.
            let Step { destination, name, .. } = *step;
            *step = Step { destination, leader, name, ..planned };
        }
    }

    fn drop_step(&mut self, member: &Member) {
        if let Some(slot) = member.linked.slot {
            *self.step(member.folder, slot) = None;
        }
    }
}
