//! The runs in a folder, and their sizes.

use std::collections::HashSet;
use std::io;
use std::os::fd::AsFd as _;

use utter_echo_files::listing::Listing;
use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, Kind, Name};

use crate::journal::store::{NOTES, RunStore};

impl RunStore<'_> {
    /// The names of all runs, the oldest first: those with a name of the right form and a journal.
    pub(crate) fn names(&self) -> io::Result<Vec<String>> {
        let mut runs = Vec::new();
        self.system.list(self.folder(), &mut |Name { bytes: name, .. }| {
            let name = std::str::from_utf8(name).ok().and_then(|name| name.strip_suffix(NOTES));
            runs.extend(name.filter(|name| count_of(name).is_some()).map(str::to_owned));
            Ok(())
        })?;
        runs.sort_by_cached_key(|run| (run[..FORM.len()].to_owned(), count_of(run)));
        Ok(runs)
    }

    /// The space in bytes of everything in the folder of a run, each file once.
    pub(crate) fn room(&self, run: &str) -> io::Result<u64> {
        let (mut todo, mut seen) = (vec![TreePath::from(run.as_bytes())], HashSet::new());
        let mut bytes = 0;
        while let Some(path) = todo.pop() {
            let folder = self.system.open_folder(self.folder(), path.as_bytes())?;
            let listing = Listing::read(self.system, folder.as_fd())?;
            for (name, _) in (0..listing.count()).filter_map(|at| listing.get(at)) {
                let stat = self.system.stat(Entry::Named(folder.as_fd(), name))?;
                if stat.links < 2 || stat.kind == Kind::Folder || seen.insert(stat.identity) {
                    bytes += stat.allocated;
                }
                if stat.kind == Kind::Folder {
                    todo.push(path.join(name));
                }
            }
        }
        Ok(bytes)
    }
}

const FORM: &[u8] = b"0000-00-00T00-00-00Z";

/// The number of a run within its second, from a name like `2026-11-23T14-05-09Z-2`; `None` if it is not the name
/// of a run.
fn count_of(name: &str) -> Option<u64> {
    let (time, count) = name.split_at_checked(FORM.len())?;
    let fits =
        |(byte, form): (u8, &u8)| if *form == b'0' { byte.is_ascii_digit() } else { byte == *form };
    if !time.bytes().zip(FORM).all(fits) {
        return None;
    }
    let Some(digits) = count.strip_prefix('-') else { return count.is_empty().then_some(1) };
    digits.bytes().all(|b| b.is_ascii_digit()).then(|| digits.parse().ok())?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_has_the_form_of_a_run_is_one() {
        for (run, count) in [("", 1), ("-2", 2), ("-13", 13)] {
            assert_eq!(count_of(&format!("2026-11-23T14-05-09Z{run}")), Some(count), "{run}");
        }
        for other in
            ["", "logbooks", "2026-11-23", "2026-11-23T14-05-09Z-", "2026-11-23T14-05-09Zz"]
        {
            assert_eq!(count_of(other), None, "{other}");
        }
    }
}
