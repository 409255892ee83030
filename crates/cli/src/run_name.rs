//! The names of runs in a folder of what was set aside.

use jiff::Timestamp;

/// What the name of a run tells, in UTC.
pub(crate) const FORM: &str = "%Y-%m-%dT%H-%M-%SZ";

/// The name of a run that begins at this time.
pub(crate) fn of(time: Timestamp) -> String {
    time.strftime(FORM).to_string()
}
