//! A pool of workers over a stack of tasks that may add more tasks.

use std::sync::{Condvar, Mutex, PoisonError};

/// The tasks not yet begun. Last in, first out: a walk goes down before it goes on, so what waits
/// is bounded by the siblings along one path per worker.
pub(crate) struct Stack<T> {
    state: Mutex<State<T>>,
    changed: Condvar,
}

struct State<T> {
    tasks: Vec<T>,
    /// Tasks begun and not ended; more may come from them.
    running: usize,
    /// Workers without a task. Waking costs a system call even if nobody sleeps.
    waiting: usize,
}

impl<T> Stack<T> {
    /// Adds tasks; the first of them is the next to be begun.
    pub(crate) fn push(&self, tasks: impl DoubleEndedIterator<Item = T>) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let before = state.tasks.len();
        state.tasks.extend(tasks.rev());
        let wakes = state.waiting > 0 && state.tasks.len() > before;
        drop(state);
        if wakes {
            self.changed.notify_all();
        }
    }

    fn next(&self, ended_one: bool) -> Option<T> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.running -= usize::from(ended_one);
        loop {
            if let Some(task) = state.tasks.pop() {
                state.running += 1;
                return Some(task);
            }
            if state.running == 0 {
                self.changed.notify_all();
                return None;
            }
            state.waiting += 1;
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
            state.waiting -= 1;
        }
    }
}

/// Ends the others, too, when a worker panics: they would wait for its task for ever.
struct Panicked<'a, T>(&'a Stack<T>);

impl<T> Drop for Panicked<'_, T> {
    fn drop(&mut self) {
        let mut state = self.0.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.tasks.clear();
        state.running -= 1;
        self.0.changed.notify_all();
    }
}

/// The results of `work` on each number below `count`, in their order.
pub(crate) fn map<T: Send>(
    workers: usize,
    count: usize,
    work: impl Fn(usize) -> T + Sync,
) -> Vec<T> {
    let done = Mutex::new(Vec::with_capacity(count));
    each(workers, (0..count).collect(), |at| {
        let result = work(at);
        done.lock().unwrap_or_else(PoisonError::into_inner).push((at, result));
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, result)| result).collect()
}

/// Works on all of these, with as many threads as there is work for at most.
pub(crate) fn each<T: Send>(workers: usize, all: Vec<T>, work: impl Fn(T) + Sync) {
    run(workers.min(all.len()), all, |task, _| work(task));
}

/// Works on `first` and on whatever `work` pushes, with `workers` threads of which the caller's is
/// one; returns when nothing is left. The order is the stack's only for a single worker.
pub(crate) fn run<T: Send>(workers: usize, first: Vec<T>, work: impl Fn(T, &Stack<T>) + Sync) {
    if first.is_empty() {
        return;
    }
    let stack = Stack {
        state: Mutex::new(State { tasks: Vec::new(), running: 0, waiting: 0 }),
        changed: Condvar::new(),
    };
    stack.push(first.into_iter());
    let work_off = || {
        let mut task = stack.next(false);
        while let Some(current) = task {
            let panicked = Panicked(&stack);
            work(current, &stack);
            std::mem::forget(panicked);
            task = stack.next(true);
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..workers.max(1) {
            scope.spawn(work_off);
        }
        work_off();
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    #[test]
    fn a_panic_of_one_worker_ends_all() {
        let ended = std::panic::catch_unwind(|| {
            run(4, (0..100).collect(), |n, _| assert_ne!(n, 50, "on purpose"));
        });
        assert!(ended.is_err());
    }

    #[test]
    fn every_task_runs_once_however_many_workers() {
        for workers in [1, 2, 16] {
            let sum = AtomicU64::new(0);
            run(workers, vec![1_u64], |n, stack| {
                sum.fetch_add(n, Ordering::Relaxed);
                if n < 1 << 10 {
                    stack.push([2 * n, 2 * n + 1].into_iter());
                }
            });
            assert_eq!(sum.into_inner(), (1..1_u64 << 11).sum::<u64>());
        }
    }
}
