//! Drives: which are mounted and what they are called, what each can hold, where content lies on a rotational
//! disk, and how much a drive may be handed before it is waited for.

pub mod before;
pub mod capabilities;
pub mod disk_order;
pub mod drive_handle;
pub mod features;
pub mod kinds;
pub mod labels;
pub mod map;
pub mod mounted;
pub mod trial;
pub mod write_back;
