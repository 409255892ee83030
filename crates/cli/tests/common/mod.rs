//! A folder to run `utter` in, and what is asked of every run: exit code, both streams, files.

#![allow(clippy::new_without_default, reason = "a room is made on purpose")]
#![allow(missing_docs, unreachable_pub, reason = "the tests share it")]
#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use tempfile::TempDir;

/// The built program.
pub const UTTER: &str = env!("CARGO_BIN_EXE_utter");

/// An account with no rights of its own.
pub const NOBODY: u32 = 65_534;

pub struct Room {
    base: TempDir,
}

/// The result of a run.
#[derive(Debug)]
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Room {
    pub fn new() -> Self {
        Self { base: tempfile::tempdir().unwrap() }
    }

    /// The program keeps its state in here.
    fn state(&self) -> PathBuf {
        self.path("state")
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.base.path().join(name)
    }

    /// Makes a file, or a folder if the name ends with a slash, with all above it.
    pub fn with(self, name: &str, content: &str) -> Self {
        self.write(name, content);
        self
    }

    pub fn write(&self, name: &str, content: &str) {
        let path = self.path(name);
        let folder = if name.ends_with('/') { &*path } else { path.parent().unwrap() };
        fs::create_dir_all(folder).unwrap();
        // Whatever the umask of whoever runs the tests, and whatever their clock shows.
        let settle = |path: &Path, mode| {
            fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
            set_time(path, 1_000_000_000);
        };
        if folder != path {
            fs::write(&path, content).unwrap();
            settle(&path, 0o644);
        }
        let room = self.base.path();
        let above = folder.ancestors().take_while(|above| *above != room);
        above.for_each(|folder| settle(folder, 0o755));
    }

    pub fn command(&self, line: &str) -> Command {
        let mut command = Command::new(UTTER);
        command.args(line.split_whitespace()).current_dir(self.base.path());
        // Behind the terminal that the tests may be watched on: nobody there is to be asked.
        command.process_group(0);
        // In a zone and with colours that every machine has.
        command.env_remove("NO_COLOR").env("TZ", "UTC").env("XDG_STATE_HOME", self.state());
        command
    }

    /// The same, hearing all signals, whatever those who run the tests have switched off: a shell does
    /// so for what it runs in the background.
    pub fn command_that_hears(&self, line: &str) -> Command {
        let plain = self.command(line);
        let mut command = Command::new("env");
        command.args(["--default-signal=HUP,INT,TERM", UTTER]).args(plain.get_args());
        command
            .current_dir(self.base.path())
            .envs(plain.get_envs().filter_map(|(k, v)| Some((k, v?))));
        command.process_group(0);
        command
    }

    /// Runs `utter` with these words in this folder.
    pub fn run(&self, line: &str) -> Ran {
        ran(&self.command(line).output().unwrap())
    }

    /// Runs `utter` on a terminal of its own, where somebody types this.
    pub fn on_a_terminal(&self, line: &str, typed: &str) -> Ran {
        self.program_on_a_terminal(&format!("{UTTER} {line}"), typed)
    }

    /// The same with any program.
    pub fn program_on_a_terminal(&self, line: &str, typed: &str) -> Ran {
        let mut child = Command::new("script")
            .args(["--quiet", "--return", "--command", line, "/dev/null"])
            .current_dir(self.base.path())
            .env("XDG_STATE_HOME", self.state())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(typed.as_bytes()).unwrap();
        ran(&child.wait_with_output().unwrap())
    }

    /// Lets everybody in, and runs `utter` there as somebody without rights.
    pub fn opened_to_nobody(&self) -> impl Fn(&str) -> Ran {
        fs::set_permissions(self.path(""), fs::Permissions::from_mode(0o755)).unwrap();
        let (program, folder) = (self.path("utter"), self.path(""));
        // Where it was built nobody else may look.
        fs::copy(UTTER, &program).unwrap();
        fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
        move |line| {
            let mut command = Command::new(&program);
            command.args(line.split(' ')).current_dir(&folder).uid(NOBODY).gid(NOBODY);
            command.env_remove("XDG_STATE_HOME").env_remove("HOME").process_group(0);
            ran(&command.output().unwrap())
        }
    }

    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap()
    }

    /// All entries below a folder, sorted, folders with a slash.
    pub fn list(&self, name: &str) -> Vec<String> {
        let mut entries = Vec::new();
        collect(&self.path(name), "", &mut entries);
        entries.sort();
        entries
    }
}

pub fn ran(output: &Output) -> Ran {
    use std::os::unix::process::ExitStatusExt as _;
    let signalled = output.status.signal().map_or(-1, |signal| 128 + signal);
    Ran {
        code: output.status.code().unwrap_or(signalled),
        out: String::from_utf8(output.stdout.clone()).unwrap(),
        err: String::from_utf8(output.stderr.clone()).unwrap(),
    }
}

fn collect(folder: &Path, prefix: &str, into: &mut Vec<String>) {
    for entry in fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        let name = format!("{prefix}{}", entry.file_name().to_string_lossy());
        if entry.file_type().unwrap().is_dir() {
            collect(&entry.path(), &format!("{name}/"), into);
            into.push(name + "/");
        } else {
            into.push(name);
        }
    }
}

pub fn set_time(path: &Path, seconds: u64) {
    let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
    let file = fs::File::open(path).unwrap();
    file.set_times(fs::FileTimes::new().set_modified(time)).unwrap();
}
