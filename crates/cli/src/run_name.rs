//! Names of set-aside runs.

use jiff::Timestamp;

/// The form of a run's name, in UTC.
pub(crate) const FORM: &str = "%Y-%m-%dT%H-%M-%SZ";

/// The name of a run that begins at this time.
pub(crate) fn of(time: Timestamp) -> String {
    time.strftime(FORM).to_string()
}
