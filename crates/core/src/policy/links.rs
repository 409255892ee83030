//! Hard links. Which names belong to one file is known only after the whole scan, so their steps are decided last,
//! and nothing is changed through a name that others share.

use std::collections::{HashMap, HashSet};

use utter_echo_model::attribute::Attribute;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Identity;

use crate::compare::LinkedEntry;
use crate::policy::draft::{Draft, DraftFolder, OwnDecision};
use crate::policy::step::{NameId, Relation, Step};

/// A name of an entry with hard links on either side.
struct LinkMember {
    path: TreePath,
    folder: usize,
    name: Box<[u8]>,
    source: LinkedEntry,
    destination: Option<LinkedEntry>,
    alone: OwnDecision,
    /// The decision about it alone.
    planned: Option<Verb>,
    /// It can be renamed into its place.
    passes: bool,
}

impl LinkMember {
    /// The destination's entry, if its content is equal.
    fn right(&self) -> Option<Identity> {
        let right = match self.alone {
            OwnDecision::Right => true,
            OwnDecision::Planned(_) => self.planned == Some(Verb::Adjust),
            OwnDecision::Stays => false,
        };
        self.destination.filter(|_| right).map(|there| there.identity)
    }

    fn adjusts(&self) -> bool {
        self.planned == Some(Verb::Adjust)
    }

    /// A step writes it.
    fn is_written(&self) -> bool {
        matches!(self.planned, Some(Verb::Add | Verb::Replace))
    }
}

/// Names that are to be hard links on one drive of the destination.
type LinkGroup = Vec<LinkMember>;

impl Draft<'_> {
    /// Makes the steps of hard links consistent: links of one file in the source become links of one file, and
    /// nothing is changed through a name that others share.
    pub(super) fn settle_links(&mut self) {
        let mut members = self.members();
        members.sort_by(|a, b| a.path.cmp(&b.path));
        // The number of names of each entry of the destination that take part.
        let mut met: HashMap<Identity, u32> = HashMap::new();
        for there in members.iter().filter_map(|member| member.destination) {
            *met.entry(there.identity).or_default() += 1;
        }
        let mut granted = HashSet::new();
        for group in self.grouped(members) {
            // A renamed file keeps all its links, also those outside of the tree.
            if group.iter().all(|member| member.passes) {
                continue;
            }
            let seen = u32::try_from(group.len()).unwrap_or(u32::MAX);
            let has_more = group.iter().any(|member| member.source.links > seen);
            self.decided.is_short_sighted |= has_more && self.has_unseen;
            let stays = group.iter().any(|member| member.alone == OwnDecision::Stays);
            if stays && self.policy.task.removes_sources() {
                for member in &group {
                    self.hold(member);
                }
                continue;
            }
            self.decided.second_files += u64::from(has_more && self.policy.task.removes_sources());
            for member in &group {
                self.copy_instead(member);
            }
            let ends = group.iter().map(|member| self.folders[member.folder].steps.len());
            let ends: Vec<usize> = ends.collect();
            self.refused.clear();
            match &*group {
                [only] if !self.is_carried(only) => self.settle_alone(&group, &met),
                _ if self.is_carried(&group[0]) => self.settle_group(&group, &mut granted),
                _ => self.settle_alone(&group, &met),
            }
            if !self.refused.is_empty() && self.policy.task.removes_sources() {
                for (member, end) in group.iter().zip(ends) {
                    self.folders[member.folder].steps[end..].fill(None);
                    self.hold(member);
                }
                self.report_refused();
            }
        }
    }

    fn members(&mut self) -> Vec<LinkMember> {
        let mut members = Vec::new();
        for at in 0..self.folders.len() {
            let linked = std::mem::take(&mut self.folders[at].linked);
            for name in linked {
                let folder = &self.folders[at];
                let own: Box<[u8]> = folder.head.names.get(name.facts.name).into();
                let step = match name.alone {
                    OwnDecision::Planned(slot) => folder.steps[slot],
                    OwnDecision::Right | OwnDecision::Stays => None,
                };
                let planned = step.map(|step| step.verb);
                let passes = step.is_some_and(|step| step.reason == Reason::TakenOver);
                let gone = matches!(name.alone, OwnDecision::Planned(_)) && planned.is_none();
                members.push(LinkMember {
                    path: self.path(at).join(&own),
                    folder: at,
                    name: own,
                    source: name.facts.source,
                    destination: name.facts.destination,
                    alone: if gone { OwnDecision::Stays } else { name.alone },
                    planned,
                    passes,
                });
            }
        }
        members
    }

    fn drive_of(&self, member: &LinkMember) -> DriveId {
        self.folders[member.folder].drive()
    }

    fn is_carried(&self, member: &LinkMember) -> bool {
        self.policy.drives.carries(self.drive_of(member), Attribute::Hardlinks)
    }

    /// In the order of their first members. If hard links are not carried, names that are links on both sides still
    /// form a group.
    fn grouped(&self, members: Vec<LinkMember>) -> Vec<LinkGroup> {
        let mut groups: Vec<LinkGroup> = Vec::new();
        let mut known: HashMap<(Identity, DriveId, Option<Identity>), usize> = HashMap::new();
        for member in members {
            let there = member.destination.map(|there| there.identity);
            let apart = (!self.is_carried(&member)).then_some(there).flatten();
            let key = (member.source.identity, self.drive_of(&member), apart);
            let single = member.source.links < 2 || !self.is_carried(&member) && there.is_none();
            let at = if single { groups.len() } else { *known.entry(key).or_insert(groups.len()) };
            if at == groups.len() {
                groups.push(LinkGroup::new());
            }
            groups[at].push(member);
        }
        groups
    }

    /// Names that are not linked. If all names of an entry want the same change, it can be made through one of
    /// them; otherwise the name gets a file of its own.
    fn settle_alone(&mut self, group: &[LinkMember], met: &HashMap<Identity, u32>) {
        let first_adjusts = group.iter().find(|member| member.adjusts());
        for member in group {
            let Some(there) = member.destination else { continue };
            if member.alone == OwnDecision::Right {
                self.count_unchanged(&member.source.state);
            }
            if !member.adjusts() || there.links < 2 {
                continue;
            }
            let all_agree = met.get(&there.identity) == Some(&there.links)
                && u32::try_from(group.len()).is_ok_and(|count| count == there.links);
            if !all_agree {
                self.set_apart(member);
            } else if first_adjusts.is_some_and(|first| !std::ptr::eq(first, member)) {
                self.drop_step(member);
                self.count_unchanged(&member.source.state);
            }
        }
    }

    /// Gives a name a file of its own, if that is allowed; otherwise it stays.
    fn set_apart(&mut self, member: &LinkMember) -> bool {
        let there = member.destination.map(|there| there.state);
        let sides = (Some(member.source.state), there);
        let step = Step::new(Verb::Replace, Reason::Apart, sides);
        self.put(member, step)
    }

    fn settle_group(&mut self, group: &[LinkMember], granted: &mut HashSet<Identity>) {
        let base = self.most_common(group, granted);
        let sharing: Vec<&LinkMember> =
            group.iter().filter(|member| base.is_some() && member.right() == base).collect();
        let mut others: Vec<&LinkMember> =
            group.iter().filter(|member| base.is_none() || member.right() != base).collect();
        if self.policy.sameness.by_presence {
            // Nothing is known of the entry that is there, so nothing is linked to it.
            let right = |member: &&LinkMember| member.alone == OwnDecision::Right;
            others.iter().filter(|m| right(m)).for_each(|m| self.count_unchanged(&m.source.state));
            others.retain(|member| !right(member));
        }
        let leader = match sharing.first() {
            Some(first) => {
                self.keep_together(first, &sharing);
                granted.extend(base);
                Some(*first)
            }
            None => self.write_first(&mut others),
        };
        let Some(leader) = leader else { return };
        let mut id = None;
        for member in others.into_iter().filter(|member| !std::ptr::eq(*member, leader)) {
            self.link(member, leader, &mut id);
        }
    }

    /// Names that are links of one file already. Changes are made through the first of them, unless it has other
    /// names.
    fn keep_together(&mut self, first: &LinkMember, sharing: &[&LinkMember]) {
        let links = first.destination.map_or(0, |there| there.links);
        let is_shared = u32::try_from(sharing.len()).is_ok_and(|count| count < links);
        let adjusts = sharing.iter().any(|member| member.adjusts());
        let apart = adjusts && is_shared && self.set_apart(first);
        let mut id = None;
        for member in sharing {
            let is_first = std::ptr::eq(*member, first);
            if apart {
                if !is_first {
                    self.link(member, first, &mut id);
                }
                continue;
            }
            if adjusts && is_first {
                // Changed through this name, or forbidden and counted.
                continue;
            }
            self.drop_step(member);
            self.count_unchanged(&member.source.state);
        }
    }

    /// The first name that can be written, to which the others are linked.
    fn write_first<'m>(&mut self, others: &mut Vec<&'m LinkMember>) -> Option<&'m LinkMember> {
        let written = others.iter().find(|member| member.is_written()).copied();
        if written.is_some() {
            return written;
        }
        // All are equal, and each has other names, too.
        let at = others.iter().position(|member| member.right().is_some())?;
        let first = others[at];
        if self.set_apart(first) {
            return Some(first);
        }
        others.clear();
        None
    }

    /// Links a name to the leader's file, in the place of another entry or none.
    fn link(&mut self, member: &LinkMember, leader: &LinkMember, id: &mut Option<NameId>) {
        let sides = (Some(member.source.state), member.destination.map(|there| there.state));
        let mut step = match (member.alone, member.planned) {
            (OwnDecision::Stays, _) => return,
            (OwnDecision::Planned(_), Some(Verb::Add)) => Step::new(Verb::Add, Reason::New, sides),
            _ => Step::new(Verb::Replace, Reason::Linked, sides),
        };
        let id = *id.get_or_insert_with(|| self.name(leader.folder, leader.name.clone()));
        step.relation = Some(Relation::LinkOf(id));
        self.put(member, step);
    }

    /// The destination's entry with most names of the group, if no other group has it.
    fn most_common(&self, group: &[LinkMember], granted: &HashSet<Identity>) -> Option<Identity> {
        if self.policy.sameness.by_presence {
            return None;
        }
        let mut counts: HashMap<Identity, usize> = HashMap::new();
        for identity in group.iter().filter_map(LinkMember::right).filter(|i| !granted.contains(i))
        {
            *counts.entry(identity).or_default() += 1;
        }
        // In the order of the members, so that the first wins a tie.
        let mut best: Option<(Identity, usize)> = None;
        for identity in group.iter().filter_map(LinkMember::right) {
            let count = counts.get(&identity).copied().unwrap_or(0);
            if count > best.map_or(0, |(_, most)| most) {
                best = Some((identity, count));
            }
        }
        best.map(|(identity, _)| identity)
    }

    /// Replaces the step planned for the name alone. If the new step is not allowed, the old one is dropped, too,
    /// since it was not made for a shared file.
    fn put(&mut self, member: &LinkMember, step: Step) -> bool {
        let drive = self.drive_of(member);
        let granted = self.granted(step, drive);
        match (member.alone, granted) {
            (OwnDecision::Planned(slot), granted) => {
                let place = self.step((member.folder, slot));
                let planned = place.take();
                // The entry in the way may have another kind, which only that step knows.
                *place = granted.zip(planned).map(|(step, planned)| Step {
                    destination: planned.destination,
                    name: planned.name,
                    ..step
                });
            }
            (_, Some(step)) => {
                let folder = &mut self.folders[member.folder];
                let name = folder.head.names.add(&member.name);
                folder.steps.push(Some(Step { name, ..step }));
            }
            (_, None) => {}
        }
        if granted.is_none() {
            self.refused.push(member.path.clone());
        }
        granted.is_some()
    }

    /// All names of one file are moved in the same way.
    fn copy_instead(&mut self, member: &LinkMember) {
        if let OwnDecision::Planned(slot) = member.alone
            && let Some(step) = self.step((member.folder, slot)).as_mut().filter(|_| member.passes)
        {
            step.reason = Reason::New;
        }
    }

    /// The destination has several files where the source has one, and they must not be replaced.
    fn report_refused(&mut self) {
        let is_conflict = self.policy.steps.has(Verb::Replace);
        let refused = self.refused.drain(..).filter(|_| is_conflict);
        let (operation, cause) = (Operation::RemoveSource, || Cause::NameTaken);
        let problems = refused.map(|path| Problem { path, operation, cause: cause() });
        self.decided.problems.extend(problems);
    }

    /// Leaves a name in the source, since another name of its file stays there.
    fn hold(&mut self, member: &LinkMember) {
        if let OwnDecision::Planned(slot) = member.alone {
            let step = self.step((member.folder, slot)).take();
            self.decided.held_back += u64::from(step.is_some());
        }
        let (mut at, mut name) = (member.folder, member.name.clone());
        // So do the folders that lead to it.
        loop {
            let DraftFolder { head, source_removals, source_stays, place, .. } =
                &mut self.folders[at];
            source_removals.retain(|step| *head.names.get(step.name) != *name);
            if std::mem::replace(source_stays, true) {
                break;
            }
            (at, name) = (place.parent as usize, head.name.clone());
        }
    }

    fn drop_step(&mut self, member: &LinkMember) {
        if let OwnDecision::Planned(slot) = member.alone {
            *self.step((member.folder, slot)) = None;
        }
    }
}
