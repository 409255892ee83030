//! Drives: mounts and labels, features, the position of content on rotational disks, and the limit on data that is
//! not on its drive yet.

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
