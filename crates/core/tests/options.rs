//! Guarantee: for any combination of options and any pair of trees: only allowed kinds of steps are taken; what the
//! selection leaves out does not change, not even through a hard link; every change has a step; the source stays as
//! it is; the run does what the plan says, and a second run has nothing to do; counts and verdicts agree with the
//! trees; and undo restores what was.
//!
//! The trees and options are random and shrink to a few lines. `UTTER_CASES` says how many to try.

#![allow(clippy::unwrap_used, clippy::print_stderr, reason = "a test stops there")]
#![allow(missing_docs, unreachable_pub, reason = "a test of its own")]

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

use proptest::prelude::*;
use proptest::test_runner::{Config, TestCaseError, TestCaseResult, TestError, TestRunner};
use utter_echo_core::attribute::Attribute;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Plan, Reason, Tally, Verb};
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{CompareBy, Keeping, Request, SetAside, Task, Workers};
use utter_echo_core::{Ending, PastRun, Session, explain, saved};
use utter_echo_lab::{
    Facts, Lies, LyingDrive, Snapshot, Tampered, Tampering, differences, snapshot,
};

use utter_echo_lab::model::{FOLDER, Selected, kind, select, tally};
use utter_echo_lab::world::{self, Options, World};

macro_rules! ensure {
    ($holds:expr, $($why:tt)*) => {
        if !$holds {
            return Err(TestCaseError::fail(format!($($why)*)));
        }
    };
}

fn cases() -> u32 {
    std::env::var("UTTER_CASES").ok().and_then(|count| count.parse().ok()).unwrap_or(500)
}

fn try_all(
    (tasks, lies): (&'static [Task], BoxedStrategy<Option<Lies>>),
    cases: u32,
    holds: impl Fn(&World, &Options) -> TestCaseResult,
) {
    let config = Config { cases, failure_persistence: None, ..Config::default() };
    let mut runner = TestRunner::new(config);
    let case = (world::tree(), world::other(), world::options(tasks), lies);
    let result = runner.run(&case, |(source, other, options, lies)| {
        let world = World::grow(&source, &other, options.mounts);
        match lies {
            None => holds(&world, &options),
            Some(lies) => holds(&world.behind(lies).unwrap(), &options),
        }
    });
    match result {
        Err(TestError::Fail(why, case)) => panic!("{why}\nat least with {case:?}"),
        Err(error) => panic!("{error}"),
        Ok(()) => {}
    }
}

#[test]
fn a_run_does_what_its_options_allow_and_nothing_else() {
    try_all((&[Task::Copy, Task::Mirror], Just(None).boxed()), cases(), run);
}

#[test]
fn a_run_from_a_drive_that_lies_does_the_same() {
    let place = tempfile::tempdir().unwrap();
    if let Err(error) = LyingDrive::mount(Lies::default(), place.path(), place.path()) {
        return utter_echo_lab::left_out(format!("a drive that lies: {error}"));
    }
    let lies = (1..64_usize, proptest::sample::select(&utter_echo_lab::ERRORS[..]), any::<bool>());
    let lies = lies.prop_map(|(at_a_time, optional, restless)| {
        let optional = optional.raw_os_error();
        Some(Lies { at_a_time, optional, restless, ..Lies::default() })
    });
    try_all((&[Task::Copy, Task::Mirror], lies.boxed()), cases() / 10, run);
}

#[test]
fn a_verdict_agrees_with_the_trees() {
    try_all((&[Task::Verify], Just(None).boxed()), cases(), verify);
}

fn path_of(bytes: &[u8]) -> String {
    String::from_utf8(bytes.to_vec()).unwrap()
}

fn listed(plan: &Plan) -> Vec<String> {
    for placed in plan.steps() {
        assert_eq!(format!("{:?}", plan.step(placed.number)), format!("{:?}", Some(&placed)));
    }
    plan.steps()
        .map(|p| format!("{:?} {} {:?}", p.step.verb, path_of(p.path.as_bytes()), p.step.reason))
        .collect()
}

/// Half of the runs see rotational disks with nothing cached, so that they read in disk order.
fn system(options: &Options) -> Tampered<'static> {
    let system = Tampered::new(Tampering::Nothing);
    if options.workers == 1 { system } else { system.with_rotational_disks() }
}

fn run(world: &World, options: &Options) -> TestCaseResult {
    let (from, before) = (world.truth(), snapshot(&world.destination));
    let selected = select(options, &from, &before);
    let mut request = options.request(world);
    request.running.read_back = options.workers == 2;
    let aside = world.base.path().join("aside");
    if options.set_aside {
        let run = "2026-11-23T14-05-09Z".to_owned();
        request.safety.set_aside =
            Some(SetAside { folder: aside, run, keep: None, what: Keeping::Displaced });
    }
    let system = system(options);
    let session = Session::open(&system, &request).unwrap();
    let mut plan = session.plan(&NoObserver).unwrap();
    ensure!(before == snapshot(&world.destination), "planning changed the destination");
    only_allowed_steps(options, &plan)?;
    only_known_problems(options, &plan)?;
    counts(options, &selected, &from, &plan)?;
    if from.values().chain(before.values()).all(|facts| facts.same_as.is_none()) {
        held_back_once(options, world, &plan)?;
    }
    if options.saved {
        let mut text = Vec::new();
        saved::write(&plan, &request, &mut text).unwrap();
        plan = session.adopt(saved::read(&text[..]).unwrap().1).unwrap();
    }
    let declined: HashSet<usize> = options.declined.iter().copied().collect();
    if !declined.is_empty() {
        plan.leave_out(&declined);
    }
    let overtaken = session.stale(&plan);
    ensure!(overtaken.is_empty(), "overtaken by itself: {overtaken:?}\n{:#?}", listed(&plan));
    let outcome = session.execute(&plan, &NoObserver);
    ensure!(
        outcome.problems.is_empty() && matches!(outcome.ending, Ending::Complete),
        "the run met what the plan did not: {:?}\n{:#?}",
        outcome.problems,
        listed(&plan)
    );
    ensure!(from == world.truth(), "the source changed");
    let after = snapshot(&world.destination);
    nothing_left_out_changed(options, &selected, &before, &after)?;
    no_folder_goes_unasked(options, &before, &after)?;
    whatever_changed_has_a_step(&plan, &selected, &before, &after)?;
    spared(options, &selected, &plan, (&from, &before, &after))?;
    if declined.is_empty() {
        if plan.problems.is_empty() {
            echoes(options, &selected, world, (&from, &before, &after))?;
        }
        nothing_left_to_do(&request, &plan)?;
    }
    match outcome.set_aside {
        Some(path) => taken_back(world, options, &path, &before),
        None => Ok(()),
    }
}

fn only_allowed_steps(options: &Options, plan: &Plan) -> TestCaseResult {
    for placed in plan.steps() {
        let (verb, path) = (placed.step.verb, path_of(placed.path.as_bytes()));
        ensure!(options.may(verb), "{verb:?} of '{path}' is not allowed");
        let takes_away = matches!(verb, Verb::Remove | Verb::Rename);
        ensure!(options.task == Task::Mirror || !takes_away, "copy would {verb:?} '{path}'");
        let content = options.carries(Attribute::Content) || verb == Verb::Adjust;
        ensure!(content, "{verb:?} of '{path}' without content");
        let dropped = placed.step.reason == Reason::Unselected;
        ensure!(!dropped || options.drop_unselected, "'{path}' goes for being left out");
    }
    Ok(())
}

/// On drives that hold everything only conflicts are problems.
fn only_known_problems(options: &Options, plan: &Plan) -> TestCaseResult {
    for problem in &plan.problems {
        let known = match &problem.cause {
            Cause::FolderInTheWay => options.task == Task::Copy && options.may(Verb::Replace),
            Cause::LeftOutInTheWay => !options.drop_unselected,
            Cause::MountInTheWay => options.mounts.1.is_some(),
            _ => false,
        };
        ensure!(known, "{problem:?}");
    }
    Ok(())
}

fn entries(paths: &BTreeSet<String>, tree: &Snapshot) -> Tally {
    let [folders, files, links, others, bytes] = tally(paths, tree);
    Tally { folders, files, links, others, bytes }
}

fn counts(options: &Options, selected: &Selected, from: &Snapshot, plan: &Plan) -> TestCaseResult {
    let totals = &plan.totals;
    let taken = entries(&selected.source, from);
    ensure!(totals.source == taken, "source counted as {:?}, is {taken:?}", totals.source);
    let everything = options.steps.len() == Verb::ALL.len() && options.carries(Attribute::Content);
    let held = totals.held_back > 0 && !options.leave_newer;
    ensure!(!everything || !held, "held back for no option: {totals:?}");
    ensure!(options.leave_newer || totals.left_newer == 0, "spared unasked: {totals:?}");
    Ok(())
}

/// What an option holds back is what would be done without it, and each entry counts once.
fn held_back_once(options: &Options, world: &World, plan: &Plan) -> TestCaseResult {
    let without = Verb::ALL.into_iter().filter(|verb| *verb != Verb::Rename).collect();
    let mut carry = options.carry.clone();
    carry.extend((!options.carries(Attribute::Content)).then_some(Attribute::Content));
    let all = Options { steps: without, leave_newer: false, carry, ..options.clone() };
    let all = Session::open(&Linux, &all.request(world)).unwrap().plan(&NoObserver).unwrap();
    let held = plan.totals.held_back + plan.totals.left_newer;
    let told = plan.steps().count() as u64 + held + plan.problems.len() as u64;
    let most = all.steps().count() as u64 + all.problems.len() as u64;
    // A rename replaces an addition and a removal, for all that a folder holds. If content is not carried,
    // differences in content are not looked for.
    let renames = plan.steps().any(|placed| placed.step.verb == Verb::Rename);
    let less = renames || !options.carries(Attribute::Content);
    ensure!(
        told == most || less && told < most,
        "{held} held back of {:#?}\nleft {:#?}",
        listed(&all),
        listed(plan)
    );
    Ok(())
}

fn is_below(path: &str, top: &str) -> bool {
    path == top || path.strip_prefix(top).is_some_and(|rest| rest.starts_with('/'))
}

/// Where folders are not taken for themselves, none goes.
fn no_folder_goes_unasked(
    options: &Options,
    before: &Snapshot,
    after: &Snapshot,
) -> TestCaseResult {
    if options.kinds[1] || options.drop_unselected {
        return Ok(());
    }
    for (path, was) in before.iter().filter(|(_, was)| kind(was) == FOLDER) {
        ensure!(after.contains_key(path), "folder '{}' went: {was:?}", path_of(path));
    }
    Ok(())
}

fn nothing_left_out_changed(
    options: &Options,
    selected: &Selected,
    before: &Snapshot,
    after: &Snapshot,
) -> TestCaseResult {
    if options.drop_unselected {
        return Ok(());
    }
    for path in &selected.left_alone {
        let (was, is) = (before.get(path.as_bytes()), after.get(path.as_bytes()));
        // Its other names are checked by themselves.
        let alone = |facts: Option<&Facts>| facts.map(|f| Facts { same_as: None, ..f.clone() });
        ensure!(alone(was) == alone(is), "'{path}' is left out, and changed: {was:?} to {is:?}");
    }
    Ok(())
}

fn whatever_changed_has_a_step(
    plan: &Plan,
    selected: &Selected,
    before: &Snapshot,
    after: &Snapshot,
) -> TestCaseResult {
    let mut told: BTreeSet<String> = BTreeSet::new();
    let mut moved: Vec<String> = Vec::new();
    for placed in plan.steps() {
        told.insert(path_of(placed.path.as_bytes()));
        if let Some(was) = &placed.was {
            moved.extend([path_of(was.as_bytes()), path_of(placed.path.as_bytes())]);
        }
    }
    // A change through one name of a file shows under all of them, so all must be selected.
    let groups: BTreeSet<&Vec<u8>> = before
        .iter()
        .filter(|(path, _)| told.contains(&path_of(path)))
        .filter_map(|(_, facts)| facts.same_as.as_ref())
        .collect();
    let all: BTreeSet<&Vec<u8>> = before.keys().chain(after.keys()).collect();
    for path in all {
        let alone = |facts: Option<&Facts>| facts.map(|f| Facts { same_as: None, ..f.clone() });
        let (was, is) = (before.get(path), after.get(path));
        if alone(was) == alone(is) {
            continue;
        }
        let shared = was.and_then(|was| was.same_as.as_ref()).is_some_and(|g| groups.contains(g));
        let path = path_of(path);
        let shared = shared && selected.source.contains(&path);
        let has_step = told.contains(&path) || moved.iter().any(|top| is_below(&path, top));
        ensure!(
            has_step || shared,
            "'{path}' changed without a step: {was:?} to {is:?}\n{:#?}",
            listed(plan)
        );
    }
    Ok(())
}

/// Nothing newer is replaced by what is older.
fn spared(
    options: &Options,
    selected: &Selected,
    plan: &Plan,
    (from, before, after): (&Snapshot, &Snapshot, &Snapshot),
) -> TestCaseResult {
    if !options.leave_newer {
        return Ok(());
    }
    for placed in plan.steps().filter(|placed| placed.step.verb == Verb::Replace) {
        let path = placed.path.as_bytes();
        let (Some(here), Some(was)) = (from.get(path), before.get(path)) else { continue };
        let newer = was.modified > here.modified && kind(was) != FOLDER;
        ensure!(!newer, "'{}' is newer, and would be replaced", path_of(path));
    }
    for (path, was) in before {
        let newer = from.get(path).is_some_and(|here| was.modified > here.modified);
        let taken = selected.source.contains(&path_of(path));
        if newer && taken && kind(was) != FOLDER {
            let kept = after.get(path).is_some_and(|is| is.content == was.content);
            ensure!(kept, "'{}' is newer, and was replaced", path_of(path));
        }
    }
    Ok(())
}

/// True if two entries count as the same but for attributes.
fn same_content(options: &Options, here: &Facts, there: &Facts) -> bool {
    let same_kind = kind(here) == kind(there);
    let same_size = here.size == there.size;
    same_kind
        && match (options.by, kind(here)) {
            (CompareBy::Presence, _) => true,
            (_, 0o12) | (CompareBy::Content, _) => here.content == there.content,
            (CompareBy::Size, _) => same_size,
            (CompareBy::SizeTime, 0o10) if options.carries(Attribute::Times) => {
                same_size && here.modified == there.modified
            }
            (CompareBy::SizeTime, 0o10) => same_size && there.modified >= here.modified,
            _ => true,
        }
}

/// Where all steps are allowed, the destination holds what was selected, as it is in the source.
fn echoes(
    options: &Options,
    selected: &Selected,
    world: &World,
    (from, before, after): (&Snapshot, &Snapshot, &Snapshot),
) -> TestCaseResult {
    let everything = options.steps.len() == Verb::ALL.len() && options.carries(Attribute::Content);
    if !everything || options.leave_newer {
        return Ok(());
    }
    for path in &selected.source {
        let here = &from[path.as_bytes()];
        let Some(is) = after.get(path.as_bytes()) else {
            return Err(TestCaseError::fail(format!("'{path}' did not arrive")));
        };
        ensure!(kind(here) == kind(is), "'{path}' is of another kind: {here:?} and {is:?}");
        ensure!(same_content(options, here, is), "'{path}' is another: {here:?} and {is:?}");
        let was = before.get(path.as_bytes());
        let counts_as_it = |was: &Facts| same_content(options, here, was);
        // A new hard link may be made to a file that counts as the same already.
        let of_its_file = from.iter().any(|(other, facts)| {
            let was = before.get(other).filter(|_| here.same_as.is_some());
            facts.same_as == here.same_as
                && was.is_some_and(|was| counts_as_it(was) && was.content == is.content)
        });
        let kept = was.is_some_and(counts_as_it) || of_its_file;
        ensure!(kept || here.content == is.content, "'{path}' has other content than its source");
        if options.by == CompareBy::Presence && was.is_some_and(|was| kind(was) == kind(here)) {
            continue;
        }
        let time = here.modified == is.modified || !options.carries(Attribute::Times);
        ensure!(time, "'{path}' has another time: {here:?} and {is:?}");
        let mode = here.mode == is.mode || !options.carries(Attribute::Mode);
        ensure!(mode || kind(here) == 0o12, "'{path}' has another mode: {here:?} and {is:?}");
    }
    links_follow(options, selected, world, (from, before, after))?;
    if options.task == Task::Mirror {
        for (path, is) in after.iter().filter(|(path, _)| !path.is_empty()) {
            let path = path_of(path);
            let on_a_drive = world.mounts.1.as_ref().is_some_and(|mount| {
                let mount = mount.to_str().unwrap();
                is_below(&path, mount) || is_below(mount, &path)
            });
            let may_stay = selected.source.contains(&path)
                || !options.drop_unselected && selected.left_alone.contains(&path)
                || on_a_drive
                || kind(is) == FOLDER && stays_for_what_it_holds(options, &path, after);
            ensure!(may_stay, "'{path}' is extra and stayed");
        }
    }
    Ok(())
}

/// A folder stays if it holds something that stays, or if it was not to be removed.
fn stays_for_what_it_holds(options: &Options, path: &str, after: &Snapshot) -> bool {
    let below = format!("{path}/");
    let holds = after.keys().any(|other| other.starts_with(below.as_bytes()));
    let choosy =
        options.no_empty_folders || !options.only.is_empty() || options.large || !options.kinds[1];
    holds || choosy && !options.drop_unselected
}

/// Hard links in the source are hard links in the destination, as far as both names are on one drive.
fn links_follow(
    options: &Options,
    selected: &Selected,
    world: &World,
    (from, before, after): (&Snapshot, &Snapshot, &Snapshot),
) -> TestCaseResult {
    if !options.carries(Attribute::Hardlinks) {
        return Ok(());
    }
    let on_a_drive = |path: &str| {
        let mount = world.mounts.1.as_ref().map(|mount| mount.to_str().unwrap());
        mount.is_some_and(|mount| is_below(path, mount) && after.contains_key(mount.as_bytes()))
    };
    // If only presence counts, nothing is known about existing files, so nothing becomes a hard link to one.
    let stays = |path: &str| {
        let here = kind(&from[path.as_bytes()]);
        let was_there = before.get(path.as_bytes()).is_some_and(|was| kind(was) == here);
        options.by == CompareBy::Presence && was_there
    };
    let mut groups: BTreeMap<(&Vec<u8>, bool), Vec<&String>> = BTreeMap::new();
    for path in selected.source.iter().filter(|path| !stays(path)) {
        if let Some(group) = &from[path.as_bytes()].same_as {
            groups.entry((group, on_a_drive(path))).or_default().push(path);
        }
    }
    for names in groups.into_values().filter(|names| names.len() > 1) {
        let is = |name: &String| &after[name.as_bytes()].same_as;
        let first = is(names[0]);
        let together = first.is_some() && names.iter().all(|name| is(name) == first);
        ensure!(together, "{names:?} are no longer names of one file");
    }
    Ok(())
}

/// A second run has nothing to do, and what an option held back is held back again. Only what was a name
/// of something that went meanwhile can be adjusted then, where it was held back before.
fn nothing_left_to_do(request: &Request, first: &Plan) -> TestCaseResult {
    let told = |plan: &Plan| (plan.totals.held_back, plan.totals.left_newer, plan.problems.len());
    let again = || {
        let session = Session::open(&Linux, request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let outcome = session.execute(&plan, &NoObserver);
        (plan, outcome.problems.len())
    };
    let (second, problems) = again();
    let held = told(first).0 + told(first).1 > 0;
    if held && second.steps().all(|placed| placed.step.verb == Verb::Adjust) {
        let (third, _) = again();
        ensure!(problems == 0 && third.is_empty(), "planned a third time: {:#?}", listed(&third));
        return Ok(());
    }
    ensure!(second.is_empty(), "again: {:#?}\nafter {:#?}", listed(&second), listed(first));
    ensure!(told(&second) == told(first), "{:?} was left, then {:?}", told(first), told(&second));
    Ok(())
}

fn taken_back(world: &World, options: &Options, path: &Path, before: &Snapshot) -> TestCaseResult {
    let past = PastRun::open(&Linux, path).unwrap();
    let places =
        utter_echo_core::request::Places::new(vec![past.path.clone()], world.destination.clone());
    let mut undo = Request::new(Task::Undo, places);
    undo.running.workers = Workers::Fixed(options.workers);
    undo.running.flush = utter_echo_core::request::Flush::None;
    let session = Session::open_to_undo(&Linux, &undo, &past).unwrap();
    let plan = session.plan_to_undo().unwrap();
    ensure!(plan.problems.is_empty(), "undo: {:?}\n{:#?}", plan.problems, listed(&plan));
    let outcome = session.execute(&plan, &NoObserver);
    ensure!(outcome.problems.is_empty(), "undo: {:?}\n{:#?}", outcome.problems, listed(&plan));
    let left = differences(before, &snapshot(&world.destination));
    ensure!(left.is_empty(), "taken back, it is not what it was:\n{left}\n{:#?}", listed(&plan));
    Ok(())
}

fn verify(world: &World, options: &Options) -> TestCaseResult {
    let options = Options {
        steps: if options.may(Verb::Remove) {
            Verb::ALL.to_vec()
        } else {
            Verb::ALL.into_iter().filter(|verb| *verb != Verb::Remove).collect()
        },
        leave_newer: false,
        ..options.clone()
    };
    let (from, there) = (world.truth(), snapshot(&world.destination));
    let selected = select(&options, &from, &there);
    let request = options.request(world);
    let plan = Session::open(&system(&options), &request).unwrap().plan(&NoObserver).unwrap();
    ensure!(there == snapshot(&world.destination), "verifying changed the destination");
    let taken = entries(&selected.source, &from);
    ensure!(plan.totals.source == taken, "source {:?}, is {taken:?}", plan.totals.source);
    explained(&options, world, &plan)?;
    if !plan.problems.is_empty() {
        return Ok(());
    }
    let (differs, unsure) = translate_error(&options, &selected, world, &from, &there);
    let found = !plan.is_empty();
    ensure!(
        differs.is_empty() != found || differs.is_empty() && unsure,
        "differs in {differs:?}, and the verdict is {:#?}",
        listed(&plan)
    );
    let ignores = !options.may(Verb::Remove);
    let compared = options.by != CompareBy::Presence && options.carries(Attribute::Content);
    let (here, theirs) = (plan.totals.source, plan.totals.destination);
    let same = if compared { here == theirs } else { here.entries() == theirs.entries() };
    ensure!(found || ignores || same, "identical, and the table says {here:?} and {theirs:?}");
    Ok(())
}

/// The differences that a verification must report, hard links left out.
fn translate_error(
    options: &Options,
    selected: &Selected,
    world: &World,
    from: &Snapshot,
    there: &Snapshot,
) -> (Vec<String>, bool) {
    let mut differs = Vec::new();
    let mut unsure = false;
    for path in &selected.source {
        let here = &from[path.as_bytes()];
        let Some(is) = there.get(path.as_bytes()) else {
            differs.push(format!("missing {path}"));
            continue;
        };
        if selected.left_alone.contains(path) {
            differs.push(format!("hidden {path}"));
            continue;
        }
        if kind(here) != kind(is) {
            differs.push(format!("kind {path}"));
            continue;
        }
        if options.by == CompareBy::Presence {
            continue;
        }
        let mode = options.carries(Attribute::Mode) && kind(here) != 0o12 && here.mode != is.mode;
        let time = options.carries(Attribute::Times) && here.modified != is.modified;
        let content = options.carries(Attribute::Content) && !same_content(options, here, is);
        if mode || time || content {
            differs.push(format!("attributes or content {path}"));
        }
    }
    let root = (&from[&[][..]], &there[&[][..]]);
    if options.by != CompareBy::Presence
        && (options.carries(Attribute::Mode) && root.0.mode != root.1.mode
            || options.carries(Attribute::Times) && root.0.modified != root.1.modified)
    {
        differs.push("root".to_owned());
    }
    if options.carries(Attribute::Hardlinks) && options.carries(Attribute::Content) {
        differs.extend(torn(options, selected, world, (from, there)));
    }
    if options.may(Verb::Remove) {
        let mounted = world.mounts.1.as_ref().map(|mount| mount.to_str().unwrap());
        for path in there.keys().map(|path| path_of(path)).filter(|path| !path.is_empty()) {
            let extra = !from.contains_key(path.as_bytes())
                && !selected.left_alone.contains(&path)
                && !mounted.is_some_and(|mount| {
                    let alone = !from.contains_key(mount.as_bytes());
                    alone && (is_below(&path, mount) || is_below(mount, &path))
                });
            let holder = kind(&there[path.as_bytes()]) == FOLDER
                && stays_for_what_it_holds(options, &path, there);
            // A folder may exist only as the parent of others, which the run may not touch.
            unsure |= extra && holder;
            if extra && !holder {
                differs.push(format!("extra {path}"));
            }
        }
    }
    (differs, unsure)
}

/// Hard links on one side only, which are possible on the other.
fn torn(
    options: &Options,
    selected: &Selected,
    world: &World,
    (from, there): (&Snapshot, &Snapshot),
) -> Vec<String> {
    if options.by == CompareBy::Presence {
        return Vec::new();
    }
    let both: Vec<&String> =
        selected.source.iter().filter(|path| there.contains_key(path.as_bytes())).collect();
    let mounted = world.mounts.1.as_ref().map(|mount| mount.to_str().unwrap());
    let on_a_drive = |path: &str| mounted.is_some_and(|mount| is_below(path, mount));
    let mut torn = Vec::new();
    for (at, one) in both.iter().enumerate() {
        for other in both[at + 1..].iter().filter(|other| on_a_drive(other) == on_a_drive(one)) {
            let group = |tree: &Snapshot, path: &str| tree[path.as_bytes()].same_as.clone();
            let here = group(from, one).is_some() && group(from, one) == group(from, other);
            let is = group(there, one).is_some() && group(there, one) == group(there, other);
            if here != is {
                torn.push(format!("links {one} {other}"));
            }
        }
    }
    torn
}

/// `explain` counts what a run takes.
fn explained(options: &Options, world: &World, plan: &Plan) -> TestCaseResult {
    let request = options.request(world);
    let survey = explain::survey(&Linux, &world.source, &request.selection).unwrap();
    ensure!(survey.taken == plan.totals.source, "explained as {:?}", survey.taken);
    let all = snapshot(&world.source).len() as u64;
    let told = survey.taken.entries() + survey.left_out.entries();
    ensure!(told == all, "explained {told} entries of {all}");
    Ok(())
}
