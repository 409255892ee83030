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
    /// What of each entry to take along: all, or some of content, times, mode, owner, acl, xattr, flags,
    /// hardlinks, holes
    ///
    /// 'content,times' takes just these two, 'all,-owner' everything but the owner. What is left out is left
    /// alone in the destination; without 'content' nothing is added, replaced or removed. The access time is
    /// not part of 'all'; add it with 'all,atime'. Nobody can carry birth and change times.
    #[arg(long, value_name = "LIST", default_value = "all", value_parser = values::carry, add = ArgValueCompleter::new(complete::attributes), allow_hyphen_values = true)]
    pub(crate) carry: Attributes,
    /// Treat what the destination's drive or this user cannot hold as a problem
    ///
    /// Without it, such things are mentioned once in a note, and not counted as differences.
    #[arg(long, hide_short_help = true)]
    pub(crate) carry_strictly: bool,
}

impl Carried {
    pub(super) fn apply(&self, request: Request) -> Request {
        request.carrying(self.carry).strictly(self.carry_strictly)
    }
}
