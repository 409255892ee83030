//! What a request costs a rotational disk or a USB stick.

use std::time::{Duration, Instant};

/// A kind of slow drive.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Model {
    /// A rotational disk: a request costs its transfer and, unless it continues where the last one ended, a seek.
    /// All times are divided by `faster`.
    Rotating {
        /// So that tests do not take as long as on the disk.
        faster: f64,
    },
    /// A USB stick: it writes `write` bytes a second, reads five times as many, and never seeks.
    Stick {
        /// Bytes a second.
        write: f64,
    },
}

/// Bytes a second of sequential transfer.
const TRANSFER: f64 = 150e6;
/// Seconds for a seek to the next track, for a full seek beyond that, and for half a rotation.
const NEXT: f64 = 0.001;
const ACROSS: f64 = 0.014;
const HALF_TURN: f64 = 0.004_17;

/// The work of a drive so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Done {
    /// Requests that did not continue where the last one ended.
    pub seeks: u64,
    /// Bytes.
    pub read: u64,
    /// Bytes.
    pub written: u64,
}

/// One request.
#[derive(Clone, Copy, Debug)]
pub(super) struct Asked {
    pub(super) offset: u64,
    pub(super) bytes: u64,
    pub(super) writes: bool,
}

/// The position after the last request, and until when the drive is busy.
#[derive(Debug)]
pub(super) struct Head {
    model: Model,
    /// Bytes of the drive.
    size: u64,
    at: u64,
    free: Instant,
    pub(super) done: Done,
}

impl Head {
    pub(super) fn new(model: Model, size: u64) -> Self {
        Self { model, size, at: 0, free: Instant::now(), done: Done::default() }
    }

    /// The time of a request; moves the position.
    pub(super) fn cost(&mut self, asked: Asked) -> Duration {
        let Asked { offset, bytes, writes } = asked;
        let distance = self.at.abs_diff(offset);
        self.at = offset + bytes;
        self.done.seeks += u64::from(distance > 0);
        *if writes { &mut self.done.written } else { &mut self.done.read } += bytes;
        let seconds = match self.model {
            Model::Rotating { faster } => {
                let part = distance as f64 / self.size.max(1) as f64;
                let seek = if distance > 0 { NEXT + ACROSS * part.sqrt() + HALF_TURN } else { 0.0 };
                (bytes as f64 / TRANSFER + seek) / faster
            }
            Model::Stick { write } => bytes as f64 / if writes { write } else { write * 5.0 },
        };
        Duration::from_secs_f64(seconds)
    }

    /// The time at which a request that comes now is done.
    pub(super) fn serve(&mut self, asked: Asked) -> Instant {
        let cost = self.cost(asked);
        self.free = self.free.max(Instant::now()) + cost;
        self.free
    }

    /// The time at which all requests are done.
    pub(super) fn idle(&self) -> Instant {
        self.free
    }

    /// Makes it idle for this long.
    pub(super) fn hang(&mut self, time: Duration) {
        self.free = self.free.max(Instant::now()) + time;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(offset: u64, bytes: u64) -> Asked {
        Asked { offset, bytes, writes: false }
    }

    #[test]
    fn a_request_costs_its_transfer_and_a_seek_by_the_root_of_its_distance() {
        let size = 1 << 30;
        let mut head = Head::new(Model::Rotating { faster: 1.0 }, size);
        let mut cost = |asked| head.cost(asked).as_secs_f64();
        let transfer = cost(read(0, 150_000_000));
        assert!((transfer - 1.0).abs() < 1e-6, "going on costs the transfer alone: {transfer}");
        let (near, far) =
            (cost(read(150_000_000 + (1 << 20), 0)), cost(read(150_000_000 + (5 << 20), 0)));
        assert!(near > NEXT + HALF_TURN && far > near, "{near}, {far}");
        // Four times as far is twice as much beyond what each seek costs.
        let beyond = |seconds: f64| seconds - NEXT - HALF_TURN;
        assert!((beyond(far) / beyond(near) - 2.0).abs() < 1e-6);
        assert_eq!(head.done, Done { seeks: 2, read: 150_000_000, written: 0 });
        let mut faster = Head::new(Model::Rotating { faster: 4.0 }, size);
        assert!((faster.cost(read(0, 150_000_000)).as_secs_f64() - 0.25).abs() < 1e-6);
    }

    #[test]
    fn a_usb_stick_reads_five_times_as_fast_as_it_writes_at_any_offset() {
        let mut head = Head::new(Model::Stick { write: 15e6 }, 1 << 30);
        let reads = head.cost(read(1 << 29, 15_000_000)).as_secs_f64();
        let writes = head.cost(Asked { writes: true, ..read(0, 15_000_000) }).as_secs_f64();
        assert!((reads - 0.2).abs() < 1e-6 && (writes - 1.0).abs() < 1e-6, "{reads}, {writes}");
    }
}
