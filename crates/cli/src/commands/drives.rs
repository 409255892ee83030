//! `utter drives`: what is mounted, and what it can hold.

use anyhow::{Context as _, Result};
use utter_echo_core::drives;
use utter_echo_core::os::Linux;

use crate::args::Drives;
use crate::exit::{self, Exit};
use crate::present;

pub(crate) fn drives(args: &Drives) -> Result<Exit> {
    present::choose_colors(args.color);
    let asked = drives::holding(&Linux, &args.folders)?;
    let only = (!asked.is_empty()).then_some(&*asked);
    let drives = drives::list(&Linux, only).context(
        "cannot list the mounted drives; /proc must be mounted, and readable: mount -t proc proc /proc",
    )?;
    present::drives(&drives, args.format)?;
    Ok(exit::of_shown(Exit::Done))
}
