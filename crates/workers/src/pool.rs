//! Workers over a stack of tasks that may add more tasks.

use std::cell::Cell;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::thread::{Scope, available_parallelism};
use std::time::{Duration, Instant};

use parking_lot::{Condvar, Mutex};
use utter_echo_model::running::Workers;
use utter_echo_os::processor_time;

/// The tasks not yet begun. Last in, first out: a walk goes down before it goes on, so what waits
/// is bounded by the siblings along one path per worker.
pub struct TaskStack<T> {
    state: Mutex<StackState<T>>,
    changed: Condvar,
    /// Whoever finds out how many workers there should be waits for the end of all tasks here.
    ended: Condvar,
}

struct StackState<T> {
    tasks: Vec<T>,
    /// Tasks begun and not ended; more may come from them.
    running: usize,
    /// Workers without a task. Waking costs a system call even if nobody sleeps.
    waiting: usize,
    /// Workers there are, and workers there should be.
    workers: usize,
    wanted: usize,
    /// A worker found no task since this was last asked.
    ran_short: bool,
    is_over: bool,
}

impl<T> TaskStack<T> {
    fn new(tasks: Vec<T>, workers: usize) -> Self {
        let state = StackState {
            tasks,
            running: 0,
            waiting: 0,
            workers,
            wanted: workers,
            ran_short: false,
            is_over: false,
        };
        Self { state: Mutex::new(state), changed: Condvar::new(), ended: Condvar::new() }
    }

    /// Adds tasks; the first of them is the next to be begun.
    pub fn push(&self, tasks: impl DoubleEndedIterator<Item = T>) {
        let mut state = self.state.lock();
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
        let mut state = self.state.lock();
        state.running -= usize::from(ended_one);
        loop {
            // Asked first: this may be the last worker, and then no other would ever end the rest.
            if state.tasks.is_empty() && state.running == 0 {
                self.end(&mut state);
                return None;
            }
            if state.workers > state.wanted {
                state.workers -= 1;
                return None;
            }
            if let Some(task) = state.tasks.pop() {
                state.running += 1;
                return Some(task);
            }
            state.ran_short = true;
            state.waiting += 1;
            self.changed.wait(&mut state);
            state.waiting -= 1;
        }
    }

    fn end(&self, state: &mut StackState<T>) {
        state.is_over = true;
        self.changed.notify_all();
        self.ended.notify_all();
    }

    /// A worker that was to come cannot be had.
    fn lose_worker(&self) {
        let mut state = self.state.lock();
        state.workers -= 1;
        state.wanted = state.workers.max(1);
    }

    /// Waits so long, or until all is done: `None`. Else whether a worker found no task meanwhile.
    fn wait(&self, span: Duration) -> Option<bool> {
        let mut state = self.state.lock();
        self.ended.wait_while_for(&mut state, |state| !state.is_over, span);
        let ran_short = std::mem::take(&mut state.ran_short) || state.waiting > 0;
        (!state.is_over).then_some(ran_short)
    }

    fn workers(&self) -> usize {
        self.state.lock().workers
    }

    /// From now on there should be so many workers; returns how many of them are new.
    fn want(&self, workers: usize) -> usize {
        let mut state = self.state.lock();
        state.wanted = workers;
        let new = workers.saturating_sub(state.workers);
        state.workers += new;
        new
    }
}

/// Ends the others, too, when a worker panics: they would wait for its task for ever.
struct EndOnPanic<'a, T>(&'a TaskStack<T>);

impl<T> Drop for EndOnPanic<'_, T> {
    fn drop(&mut self) {
        let mut state = self.0.state.lock();
        state.tasks.clear();
        state.running -= 1;
        self.0.end(&mut state);
    }
}

/// The workers of one stage.
#[derive(Debug)]
pub struct WorkerPool {
    workers: Workers,
    /// How much was done, in whatever unit the stage counts.
    done: AtomicU64,
    /// Processor time that the workers took, in nanoseconds, as far as they have published it.
    busy: AtomicU64,
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
/// How often a worker publishes its processor time: to ask the system costs as much as a small task.
const PUBLISHED_EVERY: Duration = Duration::from_millis(1);

thread_local! {
    /// When this worker last published its processor time, and how much that was.
    static PUBLISHED: Cell<Option<(Instant, Duration)>> = const { Cell::new(None) };
}

/// How many there are for this process; it takes twenty calls to find out.
fn processors() -> usize {
    static FOUND: OnceLock<usize> = OnceLock::new();
    *FOUND.get_or_init(|| available_parallelism().map_or(1, std::num::NonZero::get))
}

impl WorkerPool {
    /// A pool of as many workers as were asked for.
    pub fn new(workers: Workers) -> Self {
        let found = AtomicUsize::new(processors().min(8));
        Self { workers, done: AtomicU64::new(0), busy: AtomicU64::new(0), found }
    }

    /// So much more was done.
    pub fn did(&self, amount: u64) {
        self.done.fetch_add(amount, Ordering::Relaxed);
        if let Some((at, _)) = PUBLISHED.get()
            && at.elapsed() >= PUBLISHED_EVERY
        {
            self.publish();
        }
    }

    /// Adds what the calling worker took of the processors since it was last asked.
    fn publish(&self) {
        let now = processor_time();
        if let Some((_, before)) = PUBLISHED.replace(Some((Instant::now(), now))) {
            let more = u64::try_from(now.saturating_sub(before).as_nanos()).unwrap_or(u64::MAX);
            self.busy.fetch_add(more, Ordering::Relaxed);
        }
    }

    /// As many workers as there will ever be.
    pub fn most(&self) -> usize {
        match self.workers {
            Workers::Auto => MOST,
            Workers::Fixed(workers) => workers.max(1),
        }
    }

    /// The results of `work` on each number below `count`, in their order.
    pub fn map<T: Send>(&self, count: usize, work: impl Fn(usize) -> T + Sync) -> Vec<T> {
        let done = Mutex::new(Vec::with_capacity(count));
        self.each((0..count).collect(), |at| {
            let result = work(at);
            done.lock().push((at, result));
        });
        let mut done = done.into_inner();
        done.sort_by_key(|(at, _)| *at);
        done.into_iter().map(|(_, result)| result).collect()
    }

    /// Works on all of these, with as many workers as there is work for at most.
    pub fn each<T: Send>(&self, all: Vec<T>, work: impl Fn(T) + Sync) {
        let most = all.len();
        self.run_with(most, all, |task, _| work(task));
    }

    /// Works on `first` and on whatever `work` pushes; returns when nothing is left. The order is the
    /// stack's only for a single worker.
    pub fn run<T: Send>(&self, first: Vec<T>, work: impl Fn(T, &TaskStack<T>) + Sync) {
        self.run_with(usize::MAX, first, work);
    }

    fn run_with<T: Send>(
        &self,
        most: usize,
        mut first: Vec<T>,
        work: impl Fn(T, &TaskStack<T>) + Sync,
    ) {
        if first.is_empty() {
            return;
        }
        first.reverse();
        let most = most.min(self.most());
        let is_auto = self.workers == Workers::Auto && most > 1;
        let workers = match self.workers {
            Workers::Auto => self.found.load(Ordering::Relaxed).min(most),
            Workers::Fixed(_) => most,
        };
        let stack = TaskStack::new(first, workers);
        let work_off = || {
            // A worker of another pool may start this one.
            let outer = PUBLISHED.replace(is_auto.then(|| (Instant::now(), processor_time())));
            let mut task = stack.next(false);
            while let Some(current) = task {
                let panicked = EndOnPanic(&stack);
                work(current, &stack);
                std::mem::forget(panicked);
                task = stack.next(true);
            }
            PUBLISHED.set(outer);
        };
        std::thread::scope(|scope| {
            for _ in 1..workers {
                start(scope, &stack, work_off);
            }
            if is_auto && start(scope, &stack, work_off) {
                self.steer(scope, &stack, most, work_off);
            } else {
                // This thread is a worker itself.
                stack.want(if is_auto { stack.workers() + 1 } else { stack.workers() });
                work_off();
            }
        });
    }

    /// Finds out how many workers there should be: where they mostly wait, twice as many may do more.
    fn steer<'scope, T: Send>(
        &self,
        scope: &'scope Scope<'scope, '_>,
        stack: &'scope TaskStack<T>,
        most: usize,
        work_off: impl Fn() + Send + Copy + 'scope,
    ) {
        let mut workers = self.found.load(Ordering::Relaxed).min(most);
        let mut begun = Measurement::now(self);
        let mut trial: Option<WorkersOnTrial> = None;
        let (mut again, mut pause) = (Instant::now(), AGAIN.0);
        while let Some(ran_short) = stack.wait(LOOK) {
            // More workers do nothing where there are not enough tasks for those there are.
            if ran_short {
                begun = Measurement::now(self);
                continue;
            }
            let Some(seen) = begun.since(self, workers) else { continue };
            begun = Measurement::now(self);
            // Those who are new have not done anything yet.
            if let Some(trial) = trial.as_mut().filter(|trial| !trial.has_begun) {
                trial.has_begun = true;
                continue;
            }
            let wanted = match trial.take() {
                Some(trial) if !trial.gained(&seen, workers) => {
                    again = Instant::now() + pause;
                    pause = (pause * 2).min(AGAIN.1);
                    trial.workers
                }
                tried => {
                    pause = if tried.is_some() { AGAIN.0 } else { pause };
                    let more = if Instant::now() < again { 1 } else { seen.worth_trying(workers) };
                    (workers * more).min(most)
                }
            };
            // What comes after this begins with those that were found right, not with those on trial.
            self.found.store(wanted.min(workers), Ordering::Relaxed);
            if wanted > workers {
                trial = Some(WorkersOnTrial { workers, rate: seen.rate, has_begun: false });
            }
            for _ in 0..stack.want(wanted) {
                start(scope, stack, work_off);
            }
            workers = wanted;
        }
    }
}

/// Starts a worker; false if the system gives no further thread. Then the others do its work.
fn start<'scope, T: Send>(
    scope: &'scope Scope<'scope, '_>,
    stack: &TaskStack<T>,
    work_off: impl Fn() + Send + 'scope,
) -> bool {
    let started = std::thread::Builder::new().spawn_scoped(scope, work_off).is_ok();
    if !started {
        stack.lose_worker();
    }
    started
}

/// More workers on trial.
struct WorkersOnTrial {
    /// How many there were before, and what they did a second.
    workers: usize,
    rate: f64,
    has_begun: bool,
}

impl WorkersOnTrial {
    fn gained(&self, seen: &Throughput, workers: usize) -> bool {
        let doublings = (workers as f64 / self.workers as f64).log2();
        seen.rate >= self.rate * GAIN.powf(doublings)
    }
}

/// How much was done at some moment, and what it took.
#[derive(Clone, Copy)]
struct Measurement {
    at: Instant,
    done: u64,
    busy: u64,
}

/// What was done since.
struct Throughput {
    /// A second.
    rate: f64,
    /// Processors that were busy with it.
    busy: f64,
}

impl Measurement {
    fn now(pool: &WorkerPool) -> Self {
        let (done, busy) = (&pool.done, &pool.busy);
        let read = |count: &AtomicU64| count.load(Ordering::Relaxed);
        Self { at: Instant::now(), done: read(done), busy: read(busy) }
    }

    /// `None` while there is too little to judge by, for so many workers.
    fn since(&self, pool: &WorkerPool, workers: usize) -> Option<Throughput> {
        let now = Self::now(pool);
        let (done, nanos) = (now.done - self.done, (now.at - self.at).as_nanos() as f64);
        let busy = (now.busy - self.busy) as f64 / nanos;
        let seen = Throughput { rate: done as f64 * 1e9 / nanos, busy };
        (done >= SEEN.max(SEEN_EACH * workers as u64)).then_some(seen)
    }
}

impl Throughput {
    /// How many times as many workers may do more: twice, where these spend most of their time waiting and leave the
    /// processors something to do, and four times where they do next to nothing else.
    fn worth_trying(&self, workers: usize) -> usize {
        let part = self.busy / workers as f64;
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
                let pool = WorkerPool::new(workers);
                pool.run((0..100).collect(), |n, _| assert_ne!(n, 50, "on purpose"));
            });
            assert!(ended.is_err());
        }
    }

    #[test]
    fn every_task_runs_once_however_many_workers() {
        for workers in [Workers::Fixed(1), Workers::Fixed(2), Workers::Fixed(16), Workers::Auto] {
            let sum = AtomicU64::new(0);
            WorkerPool::new(workers).run(vec![1_u64], |n, stack| {
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
        let stack = TaskStack::new(vec![1], 2);
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
        let pool = WorkerPool::new(Workers::Auto);
        pool.each((0..4000).collect(), |_: u32| {
            most.fetch_max(now.fetch_add(1, Ordering::Relaxed) + 1, Ordering::Relaxed);
            std::thread::sleep(Duration::from_micros(500));
            now.fetch_sub(1, Ordering::Relaxed);
            pool.did(1);
        });
        assert!(most.into_inner() > processors().min(8));
    }

    #[test]
    fn more_workers_are_tried_while_they_wait_and_kept_if_each_doubling_is_a_fifth_faster() {
        let worth = |busy, workers| Throughput { rate: 1.0, busy }.worth_trying(workers);
        assert_eq!((worth(2.0, 2), worth(0.6, 2), worth(0.1, 2), worth(1e9, 64)), (1, 2, 4, 1));
        let trial = WorkersOnTrial { workers: 2, rate: 100.0, has_begun: true };
        let gained = |rate, workers| trial.gained(&Throughput { rate, busy: 0.0 }, workers);
        assert!(gained(121.0, 4) && !gained(119.0, 4) && gained(145.0, 8) && !gained(143.0, 8));
    }
}
