//! A drive that shows a folder, and lies about some of it.

mod calls;
mod drive;

pub use drive::{Lies, LyingDrive, Taking};
