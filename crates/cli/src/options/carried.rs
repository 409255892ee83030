//! What goes along.

use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use utter_echo_core::attribute::Attributes;
use utter_echo_core::request::Request;

use crate::options::complete;
use crate::options::values;

#[derive(Debug, Args)]
#[command(next_help_heading = "Attributes")]
pub(crate) struct Carried {
    /// Which attributes to copy: all, or some of content, times, mode, owner, acl, xattr, flags, hardlinks, holes
    ///
    /// 'content,times' copies just these two, 'all,-owner' everything except the owner. Attributes that are not
    /// listed are left alone in the destination; without 'content' nothing is added, replaced or removed. The
    /// access time is not part of 'all'; add it with 'all,atime'. Birth and change times cannot be set.
    #[arg(long, value_name = "LIST", default_value = "all", value_parser = values::carry, add = ArgValueCompleter::new(complete::attributes), allow_hyphen_values = true)]
    pub(crate) carry: Attributes,
    /// Report attributes that the destination cannot store as problems
    ///
    /// Without it, they are mentioned once in a note and not counted as differences.
    #[arg(long, hide_short_help = true)]
    pub(crate) carry_strictly: bool,
}

impl Carried {
    pub(super) fn apply(&self, request: Request) -> Request {
        request.carrying(self.carry).strictly(self.carry_strictly)
    }
}
