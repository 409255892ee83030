//! Making, placing and finishing folders.

use crate::execute::writer::step_error::ErrorContext as _;
use std::io::ErrorKind;
use std::os::fd::{AsFd, OwnedFd};

use utter_echo_drives::features::Feature;
use utter_echo_drives::kinds;
use utter_echo_files::attributes;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Flags, IfExists, Kind};

use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::flags::AfterWork;
use crate::execute::writer::folder_pair::{FolderDefaults, FolderPair, FoldersAside, WHILE_FILLED};
use crate::execute::writer::operation::EntryOperation;
use crate::execute::writer::set_aside::{DisplacedBy, NameState};
use crate::execute::writer::step_error::{StepError, StepResult, no_exchange};
use crate::policy::SourceNames;

impl Writer<'_> {
    /// Collects what is needed to make entries in a folder.
    pub(crate) fn place(
        &self,
        path: TreePath,
        source: Option<OwnedFd>,
        destination: OwnedFd,
    ) -> Result<FolderPair, StepError> {
        let system = self.system();
        let stat = system.stat(Entry::Open(destination.as_fd())).during(Operation::Write)?;
        let gives_lists = attributes::has_default_list(system, destination.as_fd())
            .during(Operation::LookAtDestination)?;
        let set_group = stat.mode & 0o2000 != 0;
        let caller = &self.capabilities.caller;
        let closed = caller.uid != 0 && stat.uid == caller.uid && stat.mode & 0o200 == 0;
        let closed = closed && self.capabilities.drive.holds(Feature::Modes);
        let flags = if self.capabilities.drive.flags.is_empty() {
            stat.flags
        } else {
            attributes::flags(system, destination.as_fd()).unwrap_or(stat.flags)
        };
        let is_exact = |source: &OwnedFd| kinds::has_exact_sizes(system, source.as_fd());
        let gives = FolderDefaults {
            exact_sizes: source.as_ref().is_some_and(is_exact),
            born_gid: if set_group { stat.gid } else { caller.gid },
            gives_lists,
            flags,
        };
        Ok(FolderPair {
            path,
            source,
            destination,
            stat,
            closed_with: closed.then_some(stat.mode),
            temporary: self.context.temporaries.name(),
            hidden: false,
            source_names: SourceNames::default(),
            aside: FoldersAside::default(),
            gives,
        })
    }

    /// Makes a folder under its final name, which must be free.
    pub(crate) fn make_folder(&self, place: &FolderPair, name: &[u8]) -> StepResult {
        match self.system().create_folder(place.destination.as_fd(), name, WHILE_FILLED) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                Err(StepError::stale_destination(Operation::Write))
            }
            other => other.during(Operation::Write),
        }
    }

    /// Renames a folder from its temporary to its final name.
    pub(crate) fn place_folder(
        &self,
        place: &FolderPair,
        temporary: &[u8],
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let system = self.system();
        let folder = place.destination.as_fd();
        if operation.verb == Verb::Add {
            return self.rename_to_new(place, (folder, temporary), name);
        }
        let old = self.check_destination(place, name, operation)?;
        let old = old.map_or((Kind::File, Flags::default()), |old| (old.kind, old.flags));
        let after =
            if self.keeps_displaced().is_some() { AfterWork::Kept } else { AfterWork::Gone };
        self.unlocked((folder, name), old, after, || {
            if self.set_aside(place, name, DisplacedBy::Replaced)? == NameState::Free {
                return self.rename_to_new(place, (folder, temporary), name);
            }
            match system.rename((folder, temporary), (folder, name), IfExists::Exchange) {
                Ok(()) => system.remove_file(folder, temporary).during(Operation::Remove),
                Err(e) if no_exchange(&e) => {
                    let waiting = self.replace_in_turn((folder, temporary), (folder, name))?;
                    system.remove_file(folder, &waiting).during(Operation::Remove)
                }
                Err(e) => Err(e).during(Operation::Write),
            }
        })
    }

    /// Sets the attributes of a folder: all of a new one, and those that differ of an existing one.
    pub(crate) fn finish_folder(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let system = self.system();
        // Not opened, since its attributes may be readable when its entries are not.
        let path = place.path.join(name);
        let own = place.source_name(name);
        let source = self.model(&path, || Ok(Entry::Named(place.source()?, own)))?;
        let pinned =
            system.pin(place.destination.as_fd(), name).during(Operation::SetAttributes)?;
        let entry = Entry::Pinned(pinned.as_fd());
        let now = system.stat(entry).during(Operation::SetAttributes)?;
        let expected = operation.destination.filter(|_| operation.verb == Verb::Adjust);
        if now.kind != Kind::Folder || expected.is_some_and(|expected| !expected.still(&now)) {
            return Err(StepError::stale_destination(Operation::SetAttributes));
        }
        self.set_folder_attributes(operation, source, entry, true)
    }
}
