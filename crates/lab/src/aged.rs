//! Trees as they lie on a drive that was used for years: files of many folders, written in any order into the
//! gaps that others left.

use std::fs::{self, File};
use std::io::{self, Write as _};
use std::os::fd::AsFd as _;
use std::os::unix::fs::DirEntryExt as _;
use std::path::{Path, PathBuf};

use fastrand::Rng;
use utter_echo_core::os::{Linux, System as _};

/// What such a tree holds.
#[derive(Clone, Copy, Debug)]
pub struct Aged {
    /// Where the drive's past begins.
    pub seed: u64,
    /// Folders, three levels deep.
    pub folders: usize,
    /// Files in all.
    pub files: usize,
    /// Bytes of the longest of them; half are shorter than a quarter of that.
    pub longest: usize,
}

impl Aged {
    /// Grows it on a drive that is filled with others first, half of which go again, so that each file lies in
    /// some gap.
    pub fn grow(&self, root: &Path) -> io::Result<()> {
        let Self { seed, folders, files, longest } = *self;
        let mut rng = Rng::with_seed(seed);
        let mut block = vec![0; longest];
        rng.fill(&mut block);
        let folder = |at: usize| {
            let (top, middle) = (at % 7, at / 7 % 9);
            root.join(format!("light-{top}/season-{middle}/log-{at:04}"))
        };
        (0..folders).try_for_each(|at| fs::create_dir_all(folder(at)))?;
        let write = |path: &Path, rng: &mut Rng| {
            let length = rng.usize(0..=longest);
            let length = if rng.bool() { length / 4 } else { length };
            let start = rng.usize(0..=longest - length);
            File::create(path)?.write_all(&block[start..start + length])
        };
        let full = |part: u64| {
            let room = rustix::fs::statvfs(root)?;
            Ok::<_, io::Error>(room.f_bavail * part < room.f_blocks || room.f_favail < 64)
        };
        let mut past = Vec::new();
        while !full(20)? {
            past.push(folder(past.len() % folders).join(format!("was-{}", past.len())));
            write(&past[past.len() - 1], &mut rng)?;
        }
        rng.shuffle(&mut past);
        let stays = past.split_off(past.len() / 2);
        past.iter().try_for_each(fs::remove_file)?;
        let mut new: Vec<usize> = (0..files).collect();
        rng.shuffle(&mut new);
        for at in new {
            write(&folder(at % folders).join(format!("page-{at:06}")), &mut rng)?;
        }
        // What is left of the past lies between the files, and not in the tree.
        let past = root.with_extension("past");
        fs::create_dir_all(&past)?;
        let name = |path: &PathBuf| past.join(path.file_name().unwrap_or_default());
        stays.iter().try_for_each(|path| fs::rename(path, name(path)))
    }
}

/// Reads all files below a folder once, in the order in which they lie; returns how many bytes that were. What a
/// cold copy off a disk that turns cannot do without, and nothing else.
pub fn read_in_order(root: &Path) -> io::Result<u64> {
    let (mut folders, mut files) = (vec![root.to_path_buf()], Vec::new());
    while let Some(folder) = folders.pop() {
        let mut entries: Vec<_> = fs::read_dir(folder)?.collect::<io::Result<_>>()?;
        entries.sort_by_key(fs::DirEntry::ino);
        for entry in entries {
            match entry.file_type()? {
                kind if kind.is_dir() => folders.push(entry.path()),
                kind if kind.is_file() => files.push((entry.ino(), entry.path())),
                _ => {}
            }
        }
    }
    files.sort();
    let place = |(_, path): (u64, PathBuf)| {
        let file = File::open(&path)?;
        Ok((Linux.lies_at(file.as_fd())?.unwrap_or(0), path))
    };
    let mut placed: Vec<(u64, PathBuf)> =
        files.into_iter().map(place).collect::<io::Result<_>>()?;
    placed.sort();
    placed.iter().map(|(_, path)| io::copy(&mut File::open(path)?, &mut io::sink())).sum()
}
