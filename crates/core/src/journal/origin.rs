//! The source of a move, from its journal.

use std::io;
use std::os::fd::AsFd as _;
use std::os::unix::ffi::OsStrExt as _;

use utter_echo_drives::mounted;
use utter_echo_os::System;

use crate::journal::lines::SourcePlace;
use crate::sides::Pair;

/// Of one part of a move.
pub(crate) fn of(system: &dyn System, pair: &Pair) -> io::Result<SourcePlace> {
    let real = system.real_path(pair.source.as_fd())?;
    let single = pair.single.as_ref().map(|single| (&*single.source).into());
    let drive = mounted::uuid_of(system, &real);
    Ok(SourcePlace { folder: real.as_os_str().as_bytes().into(), single, drive })
}
