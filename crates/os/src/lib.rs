//! The only code that calls the system.
//!
//! Every layer accesses files through the [`System`] trait alone, so that a test can put another implementation in
//! between: one that counts calls, fails one of them, or stops the run there. [`Linux`] is the real one.

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
mod project;
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
pub use system::{Advice, EachName, Entry, IfExists, LARGE, Name, System};
pub use thread::processor_time;
