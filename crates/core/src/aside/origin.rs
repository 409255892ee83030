//! Where a move came from, as its notes tell it.

use std::io;
use std::os::unix::ffi::OsStrExt as _;

use crate::drives;
use crate::os::System;
use crate::sides::{self, Pair};

use super::notes::Origin;

/// Of one part of a move.
pub(super) fn of(system: &dyn System, pair: &Pair) -> io::Result<Origin> {
    let real = sides::real_path(&pair.source)?;
    let single = pair.single.as_ref().map(|single| (&*single.source).into());
    let drive = drives::uuid_of(system, &real);
    Ok(Origin { folder: real.as_os_str().as_bytes().into(), single, drive })
}
