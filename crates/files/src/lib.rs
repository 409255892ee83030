//! Folders and files as every layer handles them: listed, compared byte by byte, named while they are under
//! way, marked while not all is on the drive, cleared.

pub mod attributes;
pub mod dirty_marker;
pub mod drive_clock;
pub mod exit_folder;
pub mod free_name;
pub mod hidden_names;
pub mod leftovers;
pub mod listing;
pub mod same_content;
pub mod uncarried;
