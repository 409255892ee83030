//! The one place that talks to the system.
//!
//! Every layer reaches files through the [`System`] trait and nothing else, so that a test can
//! put another implementation in between that counts calls, fails one of them or stops the run at
//! one of them. [`Linux`] is the real one.

mod block_device;
mod cached;
mod caller;
mod errors;
mod extent;
mod lease;
mod linux;
mod lock;
mod mount;
mod proc;
mod stat;
mod system;
mod thread;
mod write_back;

pub use caller::Caller;
pub use errors::{is_absent, is_forbidden, is_unsupported};
pub use lease::Lease;
pub use linux::Linux;
pub use lock::{Lock, LockHolder, LockMode};
pub use mount::{Mount, Space};
pub use stat::{ACCESS_LIST, DEFAULT_LIST, Flags, Identity, Kind, Stat, Time, Xattrs};
pub use system::{Advice, EachName, Entry, LARGE, Name, Onto, System};
pub use thread::processor_time;
