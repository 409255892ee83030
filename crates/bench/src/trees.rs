//! Trees to measure on, the same for the same seed.

use std::fs::{self, File};
use std::io::Write as _;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};

use anyhow::Result;
use fastrand::Rng;

const SEED: u64 = 1931;

/// The content of a tree.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Shape {
    /// So many files of up to 8 KiB, in folders of 50 to 100.
    Small(u64),
    /// So many empty files in one folder.
    Wide(u64),
    /// Four files of so many bytes, and one four times as long with 64 MiB of data in it.
    Large(u64),
    /// So many files from nothing to 4 MiB, most of them small.
    Mixed(u64),
}

/// A tree that was made.
#[derive(Clone, Debug)]
pub(crate) struct Tree {
    pub(crate) path: PathBuf,
    /// All entries but the root.
    pub(crate) entries: u64,
    pub(crate) files: u64,
    /// Bytes that use space.
    pub(crate) bytes: u64,
}

impl Tree {
    /// Takes an existing folder as it is; reading it also warms the cache.
    pub(crate) fn survey(path: &Path) -> Result<Self> {
        use std::os::unix::fs::MetadataExt as _;
        let mut tree = Self { path: path.to_path_buf(), entries: 0, files: 0, bytes: 0 };
        let mut folders = vec![path.to_path_buf()];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder)? {
                let entry = entry?;
                let meta = entry.metadata()?;
                tree.entries += 1;
                tree.bytes += meta.blocks() * 512;
                if meta.is_dir() {
                    folders.push(entry.path());
                } else if meta.is_file() {
                    tree.files += 1;
                    std::io::copy(
                        &mut File::open(entry.path())?.take_data(&meta),
                        &mut std::io::sink(),
                    )?;
                }
            }
        }
        Ok(tree)
    }

    /// Makes one.
    pub(crate) fn make(path: &Path, shape: Shape) -> Result<Self> {
        let mut rng = Rng::with_seed(SEED);
        fs::create_dir_all(path)?;
        match shape {
            Shape::Small(files) => make_small(path, files, &mut rng, |rng| rng.usize(0..8192))?,
            Shape::Mixed(files) => make_small(path, files, &mut rng, |rng| {
                let width = rng.u32(0..22);
                rng.usize(0..1 << width)
            })?,
            Shape::Wide(files) => {
                for i in 0..files {
                    File::create(path.join(format!("page-{i:06}")))?;
                }
            }
            Shape::Large(bytes) => make_large(path, bytes, &mut rng)?,
        }
        Self::survey(path)
    }
}

/// Reading holes of gigabytes would cache nothing.
trait TakeData {
    fn take_data(self, meta: &fs::Metadata) -> std::io::Take<File>;
}

impl TakeData for File {
    fn take_data(self, meta: &fs::Metadata) -> std::io::Take<File> {
        use std::io::Read as _;
        use std::os::unix::fs::MetadataExt as _;
        self.take((meta.blocks() * 512).max(4096))
    }
}

fn make_small(
    path: &Path,
    files: u64,
    rng: &mut Rng,
    size: impl Fn(&mut Rng) -> usize,
) -> Result<()> {
    let mut block = vec![0; 1 << 22];
    rng.fill(&mut block);
    let (mut made, mut folder) = (0, 0);
    while made < files {
        // Three levels, so that there is something to walk.
        let here = path.join(format!("{:02}/{:02}/{folder:06}", folder % 16, folder / 16 % 16));
        fs::create_dir_all(&here)?;
        folder += 1;
        for i in 0..rng.u64(50..=100).min(files - made) {
            let length = size(rng);
            let start = rng.usize(0..=block.len() - length);
            File::create(here.join(format!("leaf-{i:03}.csv")))?
                .write_all(&block[start..start + length])?;
            made += 1;
        }
    }
    Ok(())
}

fn make_large(path: &Path, bytes: u64, rng: &mut Rng) -> Result<()> {
    let mut block = vec![0; 1 << 20];
    rng.fill(&mut block);
    for i in 0..4 {
        let mut file = File::create(path.join(format!("season-{i}.wav")))?;
        for _ in 0..bytes >> 20 {
            file.write_all(&block)?;
        }
    }
    let sparse = File::create(path.join("image.bin"))?;
    sparse.set_len(bytes * 4)?;
    for i in 0..64 {
        sparse.write_all_at(&block, bytes * 4 / 64 * i)?;
    }
    Ok(())
}

/// Changes one file in a hundred: a quarter each removed, added, lengthened and made older.
pub(crate) fn change(path: &Path) -> Result<()> {
    let mut folders = vec![path.to_path_buf()];
    let mut files = Vec::new();
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder)? {
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                folders.push(entry.path());
            } else {
                files.push(entry.path());
            }
        }
    }
    files.sort();
    for (i, file) in files.iter().step_by(100).enumerate() {
        let changed = match i % 4 {
            0 => {
                fs::remove_file(file)?;
                continue;
            }
            1 => file.with_extension("new"),
            _ => file.clone(),
        };
        if i % 4 < 3 {
            let file = File::options().append(true).create(true).open(&changed);
            file?.write_all(b"one line more")?;
        }
        // A copy is older than its source.
        File::open(&changed)?.set_modified(std::time::UNIX_EPOCH)?;
    }
    Ok(())
}
