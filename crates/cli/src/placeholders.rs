//! Placeholders like `{date}`: in the values of a job file, and in the names of logs and of files of metrics.

use jiff::Zoned;

/// The placeholders and their values for one call.
pub(crate) struct Placeholders([(&'static str, String); 5]);

impl Placeholders {
    /// For a job, or for the command that stands for it, which starts at this time.
    pub(crate) fn new(job: &str, now: &Zoned) -> Self {
        let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        let user = ["USER", "LOGNAME"].iter().find_map(|name| std::env::var(name).ok());
        let user = user.unwrap_or_else(|| rustix::process::geteuid().as_raw().to_string());
        Self([
            ("{date}", now.strftime("%Y-%m-%d").to_string()),
            // Valid in a file name on every drive.
            ("{time}", now.strftime("%H-%M-%S").to_string()),
            ("{job}", job.replace('/', "-")),
            ("{host}", host.trim().to_owned()),
            ("{user}", user),
        ])
    }

    /// The text with all placeholders replaced. Other braces stay.
    pub(crate) fn fill(&self, text: &str) -> String {
        self.0.iter().fold(text.to_owned(), |text, (name, value)| text.replace(name, value))
    }

    /// The placeholder that a text begins with, and its value.
    pub(crate) fn first_of(&self, text: &str) -> Option<(&'static str, &str)> {
        let first = self.0.iter().find(|(name, _)| text.starts_with(name));
        first.map(|(name, value)| (*name, &**value))
    }

    /// True for the name of one, without its braces.
    pub(crate) fn is_name(&self, name: &str) -> bool {
        self.0.iter().any(|(known, _)| known.trim_matches(['{', '}']) == name)
    }
}
