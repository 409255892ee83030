//! Small random trees and options, and how they become folders, a request and a command line.

#![allow(missing_docs, reason = "the fields of a case are its options")]
#![allow(clippy::missing_panics_doc, reason = "a test stops there")]
#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::io;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use proptest::collection::vec;
use proptest::prelude::*;
use rustix::fs::{AtFlags, CWD, FileType, Mode, Timespec, Timestamps};
use tempfile::TempDir;
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::plan::{Verb, Verbs};
use utter_echo_core::request::{
    Changed, CompareBy, Flush, Places, RemovalLimit, Request, Retries, Running, Task, Workers,
};
use utter_echo_core::select::{Clutter, Kinds, PatternRules, Rules, Selection, Span};

use crate::gardener::is_root;
use crate::lying::{Lies, LyingDrive};
use crate::snapshot::{Snapshot, snapshot};

/// For moves in a process that starts programs: until such a program begins, it holds copies of all handles, and a
/// file just written counts as being written.
pub const PATIENT: Retries = Retries { times: 20, wait: Duration::from_millis(10) };

/// Few names, so that the two sides share some and patterns match some.
pub const NAMES: [&str; 6] = ["a", "b", "c", "log.csv", "x.tmp", ".fog"];
pub const CONTENTS: [&str; 4] = ["", "tide", "fog!", "lighthouse log"];
const TIMES: [i64; 3] = [1_000_000_000, 1_200_000_000, 1_400_000_000];
const FILE_MODES: [u32; 2] = [0o644, 0o600];
const FOLDER_MODES: [u32; 2] = [0o755, 0o711];
const TEXTS: [&str; 2] = ["a", "../nowhere"];

#[derive(Clone, Debug)]
pub enum Node {
    File {
        content: usize,
        time: usize,
        mode: usize,
    },
    Folder {
        time: usize,
        mode: usize,
    },
    Link {
        text: usize,
        time: usize,
    },
    Fifo {
        time: usize,
        mode: usize,
    },
    /// One more name of an entry that was made before, counted from the last.
    Hard(usize),
    /// One more name of the entry at this path.
    Second(Vec<usize>),
    /// A separate file like one that was made before, but newer.
    Twin(usize),
}

impl Node {
    /// The same with another mode, or another time.
    fn worn(&self, at: usize) -> Self {
        let mut worn = self.clone();
        match &mut worn {
            Self::File { mode, .. } | Self::Folder { mode, .. } | Self::Fifo { mode, .. }
                if at.is_multiple_of(2) =>
            {
                *mode = 1 - *mode;
            }
            Self::File { time, .. }
            | Self::Folder { time, .. }
            | Self::Link { time, .. }
            | Self::Fifo { time, .. } => *time = (*time + 1) % TIMES.len(),
            Self::Hard(back) => worn = Self::Twin(*back),
            Self::Second(_) | Self::Twin(_) => {}
        }
        worn
    }
}

/// Entries in the order in which they are made. An entry is left out if its path is taken or its parent is no
/// folder.
pub type Tree = Vec<(Vec<usize>, Node)>;

/// An entry; the more `links`, the more often it is a further name of another.
fn node(links: u32) -> impl Strategy<Value = Node> {
    let (time, mode) = (0..TIMES.len(), 0..2_usize);
    prop_oneof![
        4 => (0..CONTENTS.len(), time.clone(), mode.clone())
            .prop_map(|(content, time, mode)| Node::File { content, time, mode }),
        4 => (time.clone(), mode.clone()).prop_map(|(time, mode)| Node::Folder { time, mode }),
        1 => (0..TEXTS.len(), time.clone()).prop_map(|(text, time)| Node::Link { text, time }),
        1 => (time, mode).prop_map(|(time, mode)| Node::Fifo { time, mode }),
        links => (0..4_usize).prop_map(Node::Hard),
    ]
}

pub fn tree() -> impl Strategy<Value = Tree> {
    let of = |links| vec((vec(0..NAMES.len(), 1..4), node(links)), 0..14);
    prop_oneof![1 => of(0), 2 => of(6)].prop_map(with_folders)
}

/// The entries, with the missing folders above them.
fn with_folders(entries: Tree) -> Tree {
    let mut tree = Tree::new();
    for (path, node) in entries {
        for above in (1..path.len()).map(|length| &path[..length]) {
            if !tree.iter().any(|(known, _)| known == above) {
                tree.push((above.to_vec(), Node::Folder { time: 0, mode: 0 }));
            }
        }
        tree.push((path, node));
    }
    tree
}

/// How the destination is made.
#[derive(Clone, Debug)]
pub enum Other {
    /// A tree of its own.
    Apart(Tree),
    /// As the source, except for what is counted here.
    Changed {
        less: Vec<usize>,
        /// These have another mode, or another time.
        worn: Vec<usize>,
        more: Tree,
        /// These have one more name, beside the one they have.
        second: Vec<(usize, usize)>,
        /// What has several names is several files, the later ones newer.
        apart: bool,
    },
    /// As the source, with entries under other names, and in the folders that some other entries are.
    Moved {
        moves: Vec<(usize, usize, Option<usize>)>,
        worn: Vec<usize>,
        /// These are missing, with their content.
        less: Vec<usize>,
    },
}

pub fn other() -> impl Strategy<Value = Other> {
    prop_oneof![
        2 => tree().prop_map(Other::Apart),
        4 => (
            vec(0..14_usize, 0..3),
            vec(0..14_usize, 0..7),
            vec((vec(0..NAMES.len(), 1..3), node(0)), 0..5),
            vec((0..8_usize, 0..NAMES.len()), 0..4),
            seldom(Just(true), false),
        )
            .prop_map(|(less, worn, more, second, apart)| {
                Other::Changed { less, worn, more, second, apart }
            }),
        3 => (
            vec((0..10_usize, 0..NAMES.len(), proptest::option::of(0..10_usize)), 1..4),
            vec(0..10_usize, 0..3),
            vec(0..8_usize, 0..3),
        )
            .prop_map(|(moves, worn, less)| Other::Moved { moves, worn, less }),
    ]
}

/// Patterns, each with its action.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pattern {
    Named(&'static str),
    FolderNamed(&'static str),
    AtTheTop(&'static str),
    Csv,
    NotNamed(&'static str),
}

impl Pattern {
    fn text(self) -> String {
        match self {
            Self::Named(name) => name.to_owned(),
            Self::FolderNamed(name) => format!("{name}/"),
            Self::AtTheTop(name) => format!("/{name}"),
            Self::Csv => "*.csv".to_owned(),
            Self::NotNamed(name) => format!("!{name}"),
        }
    }
}

fn pattern() -> impl Strategy<Value = Pattern> {
    prop_oneof![
        Just(Pattern::Named("x.tmp")),
        Just(Pattern::Named("c")),
        Just(Pattern::FolderNamed("b")),
        Just(Pattern::FolderNamed("a")),
        Just(Pattern::AtTheTop("a")),
        Just(Pattern::AtTheTop("log.csv")),
        Just(Pattern::Csv),
        Just(Pattern::NotNamed("c")),
    ]
}

#[derive(Clone)]
#[allow(clippy::struct_excessive_bools, reason = "options, each by itself")]
pub struct Options {
    pub task: Task,
    pub steps: Vec<Verb>,
    pub by: CompareBy,
    pub leave_newer: bool,
    pub carry: Vec<Attribute>,
    pub exclude: Vec<Pattern>,
    pub only: Vec<Pattern>,
    /// Sizes from 5 bytes on.
    pub large: bool,
    pub kinds: [bool; 4],
    pub depth: Option<u32>,
    pub no_hidden: bool,
    pub no_empty_folders: bool,
    pub drop_unselected: bool,
    pub all_attributes: bool,
    pub workers: usize,
    /// The plan is written to bytes and read again before it is carried out.
    pub saved: bool,
    pub set_aside: bool,
    /// Steps that are declined before the plan is executed, by their numbers.
    pub declined: Vec<usize>,
    /// The folders of the source and of the destination on which other drives are mounted, if possible: twice the
    /// number of the folder for a drive in memory, and one more for a folder from elsewhere.
    pub mounts: (Option<usize>, Option<usize>),
}

/// Most cases have few options: what goes wrong should not hide behind others.
fn seldom<S>(of: S, without: S::Value) -> impl Strategy<Value = S::Value>
where
    S: Strategy + 'static,
    S::Value: Clone + 'static,
{
    prop_oneof![3 => Just(without).boxed(), 1 => of.boxed()]
}

/// Task, kinds of steps, what counts as changed, and which attributes are copied.
type DifferenceKind = (Task, Vec<Verb>, (CompareBy, bool), Vec<Attribute>, bool);

fn what(tasks: &'static [Task]) -> impl Strategy<Value = DifferenceKind> {
    use Attribute::{Content, Hardlinks, Mode, Times};
    let carry = prop_oneof![
        Just(vec![Mode]),
        Just(vec![Times, Mode]),
        Just(vec![Content]),
        Just(vec![Content, Times]),
        Just(vec![Content, Times, Mode]),
        Just(vec![Content, Mode, Hardlinks]),
    ];
    let every = Attributes::ALL.iter().collect::<Vec<_>>();
    let by =
        prop_oneof![Just(CompareBy::Content), Just(CompareBy::Size), Just(CompareBy::Presence)];
    // A newer file can only be right if times do not decide.
    let compared = prop_oneof![
        6 => (seldom(by, CompareBy::SizeTime), seldom(Just(true), false)),
        1 => (prop_oneof![Just(CompareBy::Content), Just(CompareBy::Size)], Just(true)),
    ];
    (
        proptest::sample::select(tasks),
        seldom(proptest::sample::subsequence(Verb::ALL.to_vec(), 1..5), Verb::ALL.to_vec()),
        compared,
        seldom(carry, every),
        seldom(Just(true), false),
    )
}

/// Patterns to exclude and to include, and other rules, as in [`Options`].
type Narrowed = (Vec<Pattern>, Vec<Pattern>, bool, [bool; 4], Option<u32>, bool, bool, bool);

fn narrowed() -> impl Strategy<Value = Narrowed> {
    let selection = (
        seldom(vec(pattern(), 1..3), Vec::new()),
        seldom(vec(pattern(), 1..3), Vec::new()),
        seldom(Just(true), false),
        seldom(proptest::array::uniform4(any::<bool>()), [true; 4]),
        seldom((1..4_u32).prop_map(Some), None),
        seldom(Just(true), false),
        seldom(Just(true), false),
        seldom(Just(true), false),
    );
    // Half of the cases select everything: otherwise one of the eight options would nearly always restrict them.
    let everything = (Vec::new(), Vec::new(), false, [true; 4], None, false, false, false);
    prop_oneof![selection, Just(everything)]
}

pub fn options(tasks: &'static [Task]) -> impl Strategy<Value = Options> {
    let how = (
        1..4_usize,
        seldom(Just(true), false),
        seldom(Just(true), false),
        seldom(vec(0..12_usize, 1..4), Vec::new()),
        (seldom((0..6_usize).prop_map(Some), None), proptest::option::of(0..6_usize)),
    );
    (what(tasks), narrowed(), how).prop_map(|(what, narrowed, how)| {
        let (task, steps, (by, leave_newer), carry, all_attributes) = what;
        let (exclude, only, large, kinds, depth, no_hidden, no_empty_folders, drops) = narrowed;
        let (workers, saved, set_aside, declined, mounts) = how;
        let kinds = if kinds == [false; 4] { [true; 4] } else { kinds };
        // A rule that only re-includes selects nothing.
        let takes = |pattern: &Pattern| !matches!(pattern, Pattern::NotNamed(_));
        let only = only.into_iter().filter(takes).collect();
        Options {
            task,
            steps,
            by,
            leave_newer,
            carry,
            exclude,
            only,
            large,
            kinds,
            depth,
            no_hidden,
            no_empty_folders,
            drop_unselected: drops && task == Task::Mirror,
            all_attributes,
            workers,
            saved,
            set_aside: set_aside && task != Task::Verify,
            declined,
            mounts,
        }
    })
}

/// Only what differs from the defaults, so that a shrunk case is a few lines.
impl std::fmt::Debug for Options {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let mut shown = f.debug_struct("Options");
        shown.field("task", &self.task);
        let mut field = |name: &str, value: &dyn std::fmt::Debug, usual: bool| {
            if !usual {
                shown.field(name, value);
            }
        };
        field("steps", &self.steps, self.steps.len() == Verb::ALL.len());
        field("by", &self.by, self.by == CompareBy::SizeTime);
        field("leave_newer", &true, !self.leave_newer);
        field("carry", &self.carry, self.carry.len() > 5);
        field("exclude", &self.exclude, self.exclude.is_empty());
        field("only", &self.only, self.only.is_empty());
        field("large", &true, !self.large);
        field("kinds", &self.kinds, self.kinds == [true; 4]);
        field("depth", &self.depth, self.depth.is_none());
        field("no_hidden", &true, !self.no_hidden);
        field("no_empty_folders", &true, !self.no_empty_folders);
        field("drop_unselected", &true, !self.drop_unselected);
        field("all_attributes", &true, !self.all_attributes);
        field("workers", &self.workers, self.workers == 1);
        field("saved", &true, !self.saved);
        field("set_aside", &true, !self.set_aside);
        field("declined", &self.declined, self.declined.is_empty());
        field("mounts", &self.mounts, self.mounts == (None, None));
        shown.finish()
    }
}

impl Options {
    pub fn carries(&self, attribute: Attribute) -> bool {
        self.carry.contains(&attribute)
    }

    pub fn may(&self, verb: Verb) -> bool {
        self.steps.contains(&verb)
    }

    /// The options as words of a command line, the places left out.
    pub fn words(&self) -> Vec<String> {
        let mut words = Vec::new();
        let mut say = |word: String| words.push(word);
        let names = |verbs: &[Verb]| verbs.iter().map(|v| v.name()).collect::<Vec<_>>().join(",");
        if self.steps.len() < Verb::ALL.len() && self.task != Task::Verify {
            say(format!("--steps={}", names(&self.steps)));
        }
        let by = match self.by {
            CompareBy::SizeTime => "size-time",
            CompareBy::Content => "content",
            CompareBy::Size => "size",
            CompareBy::Presence => "presence",
        };
        say(format!("--by={by}"));
        if self.leave_newer && self.task != Task::Verify {
            say("--leave-newer".into());
        }
        let carried: Vec<_> = self.carry.iter().map(|attribute| attribute.name()).collect();
        say(format!("--carry={}", carried.join(",")));
        self.exclude.iter().for_each(|pattern| say(format!("--exclude={}", pattern.text())));
        self.only.iter().for_each(|pattern| say(format!("--only={}", pattern.text())));
        if self.large {
            say("--size=5..".into());
        }
        let kinds = ["file", "folder", "symlink", "special"].into_iter().zip(self.kinds);
        let kinds: Vec<_> = kinds.filter(|(_, taken)| *taken).map(|(kind, _)| kind).collect();
        say(format!("--kind={}", kinds.join(",")));
        if let Some(depth) = self.depth {
            say(format!("--depth={depth}"));
        }
        if self.no_hidden {
            say("--hidden=no".into());
        }
        if self.no_empty_folders {
            say("--no-empty-folders".into());
        }
        if self.drop_unselected {
            say("--drop-unselected".into());
        }
        if self.all_attributes {
            say("--all-attributes".into());
        }
        say(format!("--workers={}", self.workers));
        words
    }

    pub fn request(&self, world: &World) -> Request {
        let texts = |patterns: &[Pattern]| patterns.iter().map(|p| p.text()).collect();
        let [files, folders, links, specials] = self.kinds;
        let rules = Rules {
            size: if self.large { Span { from: Some(5), to: None } } else { Span::default() },
            kinds: Kinds { files, folders, links, specials },
            depth: self.depth,
            drop_unselected: self.drop_unselected,
            patterns: PatternRules {
                exclude: texts(&self.exclude),
                only: texts(&self.only),
                ..PatternRules::default()
            },
            without: Clutter {
                no_hidden: self.no_hidden,
                no_empty_folders: self.no_empty_folders,
                ..Clutter::default()
            },
            ..Rules::default()
        };
        let changed = Changed {
            by: self.by,
            leave_newer: self.leave_newer,
            steps: self.steps.iter().copied().collect::<Verbs>(),
            all_attributes: self.all_attributes,
            ..Changed::default()
        };
        let running = Running {
            // Three stand for `auto`.
            workers: if self.workers < 3 { Workers::Fixed(self.workers) } else { Workers::Auto },
            flush: Flush::None,
            retries: if self.task == Task::Move { PATIENT } else { Retries::default() },
            ..Running::default()
        };
        let places = Places::new(vec![world.seen.clone()], world.destination.clone());
        let mut request = Request::new(self.task, places)
            .selecting(Selection::new(&rules).unwrap())
            .comparing(changed)
            .carrying(self.carry.iter().copied().collect())
            .running(running);
        request.safety.removal_limit = RemovalLimit::Percent(100.0);
        request
    }
}

/// Both trees as folders.
pub struct World {
    /// It is dropped before the folder that it is in.
    lying: Option<LyingDrive>,
    /// Hard links are reported as such.
    tells_names: bool,
    pub base: TempDir,
    /// The source as a run is to see it.
    pub seen: PathBuf,
    pub source: PathBuf,
    pub destination: PathBuf,
    /// Relative to the source and to the destination; they are mounted as long as this lives.
    pub mounts: (Option<PathBuf>, Option<PathBuf>),
}

impl World {
    pub fn grow(source: &Tree, other: &Other, mounts: (Option<usize>, Option<usize>)) -> Self {
        let base = tempfile::tempdir().unwrap();
        let (from, to) = (base.path().join("source"), base.path().join("destination"));
        fs::create_dir(&from).unwrap();
        fs::create_dir(&to).unwrap();
        let mut world = Self {
            lying: None,
            tells_names: true,
            base,
            seen: from.clone(),
            source: from.clone(),
            destination: to.clone(),
            mounts: (None, None),
        };
        let theirs: Tree = match other {
            Other::Apart(tree) => tree.clone(),
            Other::Changed { less, worn, more, second, apart } => {
                let kept = source.iter().enumerate().filter(|(at, _)| !less.contains(at));
                let kept = kept.map(|(at, (path, node))| {
                    let node = match node {
                        Node::Hard(back) if *apart => Node::Twin(*back),
                        node if worn.contains(&at) => node.worn(at),
                        node => node.clone(),
                    };
                    (path.clone(), node)
                });
                let second = second.iter().filter_map(|(at, name)| {
                    let (path, _) = source.get(*at)?;
                    let beside = [&path[..path.len() - 1], &[*name]].concat();
                    Some((beside, Node::Second(path.clone())))
                });
                kept.chain(second).chain(more.iter().cloned()).collect()
            }
            Other::Moved { moves, worn, less } => {
                let mut tree = source.clone();
                for (at, (_, node)) in
                    tree.iter_mut().enumerate().filter(|(at, _)| worn.contains(at))
                {
                    *node = node.worn(at);
                }
                for (at, name, into) in moves {
                    let Some((old, _)) = tree.get(*at).cloned() else { continue };
                    let folder = match into.map(|into| tree.get(into)) {
                        Some(Some((folder, _))) if !folder.starts_with(&old) => folder.clone(),
                        Some(_) => continue,
                        None => old[..old.len() - 1].to_vec(),
                    };
                    let new = [&folder[..], &[*name]].concat();
                    for (path, _) in &mut tree {
                        if path.starts_with(&old) {
                            *path = [&new, &path[old.len()..]].concat();
                        }
                    }
                }
                let gone: Vec<_> = less.iter().filter_map(|at| source.get(*at)).collect();
                tree.retain(|(path, _)| !gone.iter().any(|(top, _)| path.starts_with(top)));
                tree
            }
        };
        for (root, tree, wanted) in [(&from, source, mounts.0), (&to, &theirs, mounts.1)] {
            let mounted = plant(root, tree, wanted);
            let relative = mounted.map(|path| path.strip_prefix(root).unwrap().to_path_buf());
            if *root == from {
                world.mounts.0 = relative;
            } else {
                world.mounts.1 = relative;
            }
        }
        world
    }
}

impl World {
    /// The same with a source behind a lying drive. The real source stays where it is; hard links are reported as
    /// such unless its numbers change.
    pub fn behind(mut self, lies: Lies) -> io::Result<Self> {
        let seen = self.base.path().join("seen");
        fs::create_dir(&seen)?;
        self.tells_names = !lies.restless;
        self.lying = Some(LyingDrive::mount(lies, &self.source, &seen)?);
        self.seen = seen;
        Ok(self)
    }

    /// The content of the source, as far as the drive reports it.
    pub fn truth(&self) -> Snapshot {
        let mut truth = snapshot(&self.source);
        if !self.tells_names {
            for facts in truth.values_mut() {
                facts.same_as = None;
            }
        }
        truth
    }
}

impl Drop for World {
    fn drop(&mut self) {
        let (from, to) = &self.mounts;
        let mounted = [(&self.source, from), (&self.destination, to)];
        for (root, path) in
            mounted.into_iter().filter_map(|(root, path)| Some((root, path.as_ref()?)))
        {
            // Another test may be starting a process, which holds all that is open for a moment.
            let _ = Command::new("umount").arg("--lazy").arg(root.join(path)).status();
        }
    }
}

/// Makes the entries of a tree, and mounts a drive on the chosen folder first.
fn plant(root: &Path, tree: &Tree, wanted: Option<usize>) -> Option<PathBuf> {
    let mut made: Vec<PathBuf> = Vec::new();
    let mut dressed = Vec::new();
    let (mut mounted, mut folders) = (None, 0);
    let at = |path: &[usize]| root.join(path.iter().map(|n| NAMES[*n]).collect::<PathBuf>());
    // Folders come before their entries, also for moved ones.
    let mut tree: Vec<_> = tree.iter().collect();
    tree.sort_by_key(|(path, node)| (path.len(), matches!(node, Node::Second(_))));
    for (path, node) in tree {
        let path = at(path);
        let parent_is_folder =
            path.parent().unwrap().symlink_metadata().is_ok_and(|parent| parent.is_dir());
        if !parent_is_folder || path.symlink_metadata().is_ok() {
            continue;
        }
        match node {
            Node::File { content, .. } => fs::write(&path, CONTENTS[*content]).unwrap(),
            Node::Folder { .. } => {
                fs::create_dir(&path).unwrap();
                let is_wanted = wanted.is_some_and(|wanted| wanted / 2 == folders);
                let base = root.parent().filter(|_| wanted.is_some_and(|wanted| wanted % 2 == 1));
                if is_wanted && mount(&path, base) {
                    mounted = Some(path.clone());
                }
                folders += 1;
            }
            Node::Link { text, .. } => symlink(TEXTS[*text], &path).unwrap(),
            Node::Fifo { .. } => {
                rustix::fs::mknodat(CWD, &path, FileType::Fifo, Mode::from_raw_mode(0o600), 0)
                    .unwrap();
            }
            Node::Hard(back) => {
                let Some(from) = made.iter().rev().nth(*back) else { continue };
                if !link(from, &path) {
                    continue;
                }
            }
            Node::Twin(back) => {
                let Some(from) = made.iter().rev().nth(*back) else { continue };
                if !from.symlink_metadata().unwrap().is_file() {
                    continue;
                }
                fs::write(&path, fs::read(from).unwrap()).unwrap();
            }
            Node::Second(of) => {
                let from = at(of);
                if !made.contains(&from) || !link(&from, &path) {
                    continue;
                }
            }
        }
        if !matches!(node, Node::Folder { .. }) {
            made.push(path.clone());
        }
        dressed.push((path, node.clone()));
    }
    for (path, node) in dressed.into_iter().rev() {
        set_new_attributes(&path, &node);
    }
    set_time(root, 0);
    mounted
}

/// Not every drive, nor two of them, can do that.
fn link(from: &Path, to: &Path) -> bool {
    rustix::fs::linkat(CWD, from, CWD, to, AtFlags::empty()).is_ok()
}

/// Mounts a drive in memory, or a folder of this base.
fn mount(path: &Path, base: Option<&Path>) -> bool {
    if !is_root() {
        return false;
    }
    let mut command = Command::new("mount");
    match base {
        Some(base) => {
            let elsewhere = tempfile::Builder::new().tempdir_in(base).unwrap().keep();
            fs::set_permissions(&elsewhere, fs::Permissions::from_mode(0o755)).unwrap();
            command.arg("--bind").arg(elsewhere)
        }
        None => command.args(["-t", "tmpfs", "-o", "mode=755,size=4m", "tmpfs"]),
    };
    command.arg(path).status().is_ok_and(|status| status.success())
}

fn set_new_attributes(path: &Path, node: &Node) {
    let chmod = |mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    match node {
        Node::File { time, mode, .. } | Node::Fifo { time, mode } => {
            chmod(FILE_MODES[*mode]);
            set_time(path, *time);
        }
        Node::Folder { time, mode } => {
            chmod(FOLDER_MODES[*mode]);
            set_time(path, *time);
        }
        Node::Link { time, .. } => set_time(path, *time),
        Node::Twin(_) => {
            chmod(FILE_MODES[0]);
            set_time(path, TIMES.len() - 1);
        }
        Node::Hard(_) | Node::Second(_) => {}
    }
}

fn set_time(path: &Path, time: usize) {
    let time = Timespec { tv_sec: TIMES[time], tv_nsec: 0 };
    let times = Timestamps { last_access: time, last_modification: time };
    rustix::fs::utimensat(CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW).unwrap();
}
