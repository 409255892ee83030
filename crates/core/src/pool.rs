//! Workers over a stack of tasks that may add more tasks.

use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread::{Scope, available_parallelism};
use std::time::{Duration, Instant};

use crate::os::Thread;
use crate::request::Workers;

/// The tasks not yet begun. Last in, first out: a walk goes down before it goes on, so what waits
/// is bounded by the siblings along one path per worker.
pub(crate) struct Stack<T> {
    state: Mutex<State<T>>,
    changed: Condvar,
    /// Whoever finds out how many workers there should be waits for the end of all tasks here.
    ended: Condvar,
}

struct State<T> {
    tasks: Vec<T>,
    /// Tasks begun and not ended; more may come from them.
    running: usize,
    /// Workers without a task. Waking costs a system call even if nobody sleeps.
    waiting: usize,
    /// Workers there are, and workers there should be.
    hands: usize,
    wanted: usize,
    /// A worker found no task since this was last asked.
    ran_short: bool,
    is_over: bool,
}

impl<T> Stack<T> {
    fn new(tasks: Vec<T>, hands: usize) -> Self {
        let state = State {
            tasks,
            running: 0,
            waiting: 0,
            hands,
            wanted: hands,
            ran_short: false,
            is_over: false,
        };
        Self { state: Mutex::new(state), changed: Condvar::new(), ended: Condvar::new() }
    }

    fn state(&self) -> MutexGuard<'_, State<T>> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds tasks; the first of them is the next to be begun.
    pub(crate) fn push(&self, tasks: impl DoubleEndedIterator<Item = T>) {
        let mut state = self.state();
        let before = state.tasks.len();
        state.tasks.extend(tasks.rev());
        let wakes = state.waiting > 0 && state.tasks.len() > before;
        drop(state);
        if wakes {
            self.changed.notify_all();
        }
    }

    /// The next task for a worker; `None` if it is not needed any more.
    fn next(&self, ended_one: bool) -> Option<T> {
        let mut state = self.state();
        state.running -= usize::from(ended_one);
        loop {
            // First of all, since nobody else may be left to see it.
            if state.tasks.is_empty() && state.running == 0 {
                self.end(&mut state);
                return None;
            }
            if state.hands > state.wanted {
                state.hands -= 1;
                return None;
            }
            if let Some(task) = state.tasks.pop() {
                state.running += 1;
                return Some(task);
            }
            state.ran_short = true;
            state.waiting += 1;
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
            state.waiting -= 1;
        }
    }

    fn end(&self, state: &mut State<T>) {
        state.is_over = true;
        self.changed.notify_all();
        self.ended.notify_all();
    }

    /// Waits so long, or until all is done: `None`. Else whether a worker found no task meanwhile.
    fn wait(&self, span: Duration) -> Option<bool> {
        let (mut state, _) = self
            .ended
            .wait_timeout_while(self.state(), span, |state| !state.is_over)
            .unwrap_or_else(PoisonError::into_inner);
        let ran_short = std::mem::take(&mut state.ran_short) || state.waiting > 0;
        (!state.is_over).then_some(ran_short)
    }

    /// From now on there should be so many workers; returns how many of them are new.
    fn want(&self, hands: usize) -> usize {
        let mut state = self.state();
        state.wanted = hands;
        let new = hands.saturating_sub(state.hands);
        state.hands += new;
        new
    }
}

/// Ends the others, too, when a worker panics: they would wait for its task for ever.
struct Panicked<'a, T>(&'a Stack<T>);

impl<T> Drop for Panicked<'_, T> {
    fn drop(&mut self) {
        let mut state = self.0.state();
        state.tasks.clear();
        state.running -= 1;
        self.0.end(&mut state);
    }
}

/// Those who are at work.
type Threads = Mutex<Vec<Thread>>;

fn lock(threads: &Threads) -> MutexGuard<'_, Vec<Thread>> {
    threads.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The workers of one station.
#[derive(Debug)]
pub(crate) struct Crew {
    workers: Workers,
    /// How much was done, in whatever unit the station counts.
    done: AtomicU64,
    /// How many workers turned out to be right.
    found: AtomicUsize,
}

/// The most that are tried.
const MOST: usize = 64;
/// How long it takes at least to see how much so many workers do, and the work that must be seen then.
const LOOK: Duration = Duration::from_millis(5);
const SEEN: u64 = 24;
const SEEN_EACH: u64 = 6;
/// What twice as many workers must do more to be worth it.
const GAIN: f64 = 1.2;
/// How long it takes until more are tried again where they did not do more: at first, and at most.
const AGAIN: (Duration, Duration) = (Duration::from_millis(50), Duration::from_secs(4));

/// How many there are for this process; it takes twenty calls to find out.
fn processors() -> usize {
    static FOUND: OnceLock<usize> = OnceLock::new();
    *FOUND.get_or_init(|| available_parallelism().map_or(1, std::num::NonZero::get))
}

impl Crew {
    pub(crate) fn new(workers: Workers) -> Self {
        let found = AtomicUsize::new(processors().min(8));
        Self { workers, done: AtomicU64::new(0), found }
    }

    /// So much more was done.
    pub(crate) fn did(&self, amount: u64) {
        self.done.fetch_add(amount, Ordering::Relaxed);
    }

    /// As many workers as there will ever be.
    pub(crate) fn most(&self) -> usize {
        match self.workers {
            Workers::Auto => MOST,
            Workers::Fixed(workers) => workers.max(1),
        }
    }

    /// The results of `work` on each number below `count`, in their order.
    pub(crate) fn map<T: Send>(&self, count: usize, work: impl Fn(usize) -> T + Sync) -> Vec<T> {
        let done = Mutex::new(Vec::with_capacity(count));
        self.each((0..count).collect(), |at| {
            let result = work(at);
            done.lock().unwrap_or_else(PoisonError::into_inner).push((at, result));
        });
        let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
        done.sort_by_key(|(at, _)| *at);
        done.into_iter().map(|(_, result)| result).collect()
    }

    /// Works on all of these, with as many workers as there is work for at most.
    pub(crate) fn each<T: Send>(&self, all: Vec<T>, work: impl Fn(T) + Sync) {
        let most = all.len();
        self.run_with(most, all, |task, _| work(task));
    }

    /// Works on `first` and on whatever `work` pushes; returns when nothing is left. The order is the
    /// stack's only for a single worker.
    pub(crate) fn run<T: Send>(&self, first: Vec<T>, work: impl Fn(T, &Stack<T>) + Sync) {
        self.run_with(usize::MAX, first, work);
    }

    fn run_with<T: Send>(
        &self,
        most: usize,
        mut first: Vec<T>,
        work: impl Fn(T, &Stack<T>) + Sync,
    ) {
        if first.is_empty() {
            return;
        }
        first.reverse();
        let most = most.min(self.most());
        let hands = match self.workers {
            Workers::Auto => self.found.load(Ordering::Relaxed).min(most),
            Workers::Fixed(_) => most,
        };
        let stack = Stack::new(first, hands);
        let threads = Mutex::new(Vec::new());
        let work_off = || {
            let this = Thread::this();
            lock(&threads).push(this);
            let mut task = stack.next(false);
            while let Some(current) = task {
                let panicked = Panicked(&stack);
                work(current, &stack);
                std::mem::forget(panicked);
                task = stack.next(true);
            }
            lock(&threads).retain(|thread| *thread != this);
        };
        std::thread::scope(|scope| {
            for _ in 1..hands {
                scope.spawn(work_off);
            }
            if self.workers == Workers::Auto && most > 1 {
                scope.spawn(work_off);
                self.steer(scope, (&stack, &threads), most, work_off);
            } else {
                work_off();
            }
        });
    }

    /// Finds out how many workers there should be: where they mostly wait, twice as many may do more.
    fn steer<'scope, T: Send>(
        &self,
        scope: &'scope Scope<'scope, '_>,
        (stack, threads): (&'scope Stack<T>, &'scope Threads),
        most: usize,
        work_off: impl Fn() + Send + Copy + 'scope,
    ) {
        let mut hands = self.found.load(Ordering::Relaxed).min(most);
        let mut look = Look::now(self, threads);
        let mut trial: Option<Trial> = None;
        let (mut again, mut pause) = (Instant::now(), AGAIN.0);
        while let Some(ran_short) = stack.wait(LOOK) {
            // More hands do nothing where there are not enough tasks for those there are.
            if ran_short {
                look = Look::now(self, threads);
                continue;
            }
            let Some(seen) = look.since(self, threads, hands) else { continue };
            look = Look::now(self, threads);
            // Those who are new have not done anything yet.
            if let Some(trial) = trial.as_mut().filter(|trial| !trial.has_begun) {
                trial.has_begun = true;
                continue;
            }
            let wanted = match trial.take() {
                Some(trial) if !trial.gained(&seen, hands) => {
                    again = Instant::now() + pause;
                    pause = (pause * 2).min(AGAIN.1);
                    trial.hands
                }
                tried => {
                    pause = if tried.is_some() { AGAIN.0 } else { pause };
                    let more = if Instant::now() < again { 1 } else { seen.worth_trying(hands) };
                    (hands * more).min(most)
                }
            };
            // What comes after this begins with those that were found right, not with those on trial.
            self.found.store(wanted.min(hands), Ordering::Relaxed);
            if wanted > hands {
                trial = Some(Trial { hands, rate: seen.rate, has_begun: false });
            }
            for _ in 0..stack.want(wanted) {
                scope.spawn(work_off);
            }
            hands = wanted;
        }
    }
}

/// More workers on trial.
struct Trial {
    /// How many there were before, and what they did a second.
    hands: usize,
    rate: f64,
    has_begun: bool,
}

impl Trial {
    fn gained(&self, seen: &Seen, hands: usize) -> bool {
        let doublings = (hands as f64 / self.hands as f64).log2();
        seen.rate >= self.rate * GAIN.powf(doublings)
    }
}

/// How much was done at some moment, and what it took.
#[derive(Clone, Copy)]
struct Look {
    at: Instant,
    done: u64,
    processor: Duration,
}

/// What was done since.
struct Seen {
    /// A second.
    rate: f64,
    /// Processors that were busy with it.
    busy: f64,
}

impl Look {
    fn now(crew: &Crew, threads: &Threads) -> Self {
        let done = crew.done.load(Ordering::Relaxed);
        let processor = lock(threads).iter().map(|thread| thread.processor_time()).sum();
        Self { at: Instant::now(), done, processor }
    }

    /// `None` while there is too little to judge by, for so many workers.
    fn since(&self, crew: &Crew, threads: &Threads, hands: usize) -> Option<Seen> {
        let now = Self::now(crew, threads);
        let (done, seconds) = (now.done - self.done, (now.at - self.at).as_secs_f64());
        let processor = now.processor.saturating_sub(self.processor).as_secs_f64();
        let seen = Seen { rate: done as f64 / seconds, busy: processor / seconds };
        (done >= SEEN.max(SEEN_EACH * hands as u64)).then_some(seen)
    }
}

impl Seen {
    /// How many times as many workers may do more: twice, where these spend most of their time waiting and leave the
    /// processors something to do, and four times where they do next to nothing else.
    fn worth_trying(&self, hands: usize) -> usize {
        let part = self.busy / hands as f64;
        match () {
            () if self.busy >= 0.8 * processors() as f64 || part >= 0.5 => 1,
            () if part >= 0.1 => 2,
            () => 4,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_of_one_worker_ends_all() {
        for workers in [Workers::Fixed(4), Workers::Auto] {
            let ended = std::panic::catch_unwind(|| {
                let crew = Crew::new(workers);
                crew.run((0..100).collect(), |n, _| assert_ne!(n, 50, "on purpose"));
            });
            assert!(ended.is_err());
        }
    }

    #[test]
    fn every_task_runs_once_however_many_workers() {
        for workers in [Workers::Fixed(1), Workers::Fixed(2), Workers::Fixed(16), Workers::Auto] {
            let sum = AtomicU64::new(0);
            Crew::new(workers).run(vec![1_u64], |n, stack| {
                sum.fetch_add(n, Ordering::Relaxed);
                if n < 1 << 10 {
                    stack.push([2 * n, 2 * n + 1].into_iter());
                }
            });
            assert_eq!(sum.into_inner(), (1..1_u64 << 11).sum::<u64>());
        }
    }

    #[test]
    fn the_last_task_ends_all_also_if_its_worker_is_one_too_many() {
        let stack = Stack::new(vec![1], 2);
        assert_eq!(stack.next(false), Some(1));
        stack.want(1);
        std::thread::scope(|scope| {
            // Without a task, and needed as long as the other one works.
            let other = scope.spawn(|| stack.next(false));
            std::thread::sleep(Duration::from_millis(20));
            assert_eq!((stack.next(true), other.join().unwrap()), (None, None));
        });
    }

    #[test]
    fn workers_that_wait_become_more() {
        let (now, most) = (AtomicUsize::new(0), AtomicUsize::new(0));
        let crew = Crew::new(Workers::Auto);
        crew.each((0..4000).collect(), |_: u32| {
            most.fetch_max(now.fetch_add(1, Ordering::Relaxed) + 1, Ordering::Relaxed);
            std::thread::sleep(Duration::from_micros(500));
            now.fetch_sub(1, Ordering::Relaxed);
            crew.did(1);
        });
        assert!(most.into_inner() > processors().min(8));
    }

    #[test]
    fn more_are_tried_where_they_wait_and_kept_where_each_doubling_does_a_fifth_more() {
        let worth = |busy, hands| Seen { rate: 1.0, busy }.worth_trying(hands);
        assert_eq!((worth(2.0, 2), worth(0.6, 2), worth(0.1, 2), worth(1e9, 64)), (1, 2, 4, 1));
        let trial = Trial { hands: 2, rate: 100.0, has_begun: true };
        let gained = |rate, hands| trial.gained(&Seen { rate, busy: 0.0 }, hands);
        assert!(gained(121.0, 4) && !gained(119.0, 4) && gained(145.0, 8) && !gained(143.0, 8));
    }
}
