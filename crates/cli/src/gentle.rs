//! The lowest priority for processor and drives.

use anyhow::{Context as _, Result};
use ioprio::{Class, Pid, Priority, Target};

/// The lowest processor priority, see `setpriority(2)`.
const LAST: i32 = 19;

/// Gives this process, and every thread it starts from now on, the lowest priority for processor and drives. Any
/// user may do that.
pub(crate) fn lower_priority() -> Result<()> {
    rustix::process::setpriority_process(None, LAST)
        .context("cannot lower the processor priority")?;
    ioprio::set_priority(Target::Process(Pid::this()), Priority::new(Class::Idle))
        .context("cannot lower the drive priority")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_process_has_the_lowest_priority() {
        lower_priority().unwrap();
        assert_eq!(rustix::process::getpriority_process(None), Ok(LAST));
        let drive = ioprio::get_priority(Target::Process(Pid::this())).unwrap();
        assert_eq!(drive.class(), Some(Class::Idle));
    }
}
