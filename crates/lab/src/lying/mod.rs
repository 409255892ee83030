//! A drive that does not tell the truth, or not all of it, about the folder that is seen through it.

mod calls;
mod drive;

pub use drive::{Lies, LyingDrive, Taking};
