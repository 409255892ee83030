//! Guarantee: shells complete commands, options and values, names of drives and runs among them, as somebody
//! types them on a terminal; and the manual pages can be read.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::io::{Read as _, Write as _};
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use crate::common::{Room, UTTER};
use utter_echo_lab::left_out;
use utter_echo_lab::{DriveKind, MountedDrive};

/// Longer than any machine takes.
const LONG: Duration = Duration::from_secs(60);

/// A shell on a terminal of its own.
struct Shell {
    child: Child,
    typed: ChildStdin,
    shown: Arc<Mutex<String>>,
    /// How much of that was looked at.
    seen: usize,
}

impl Shell {
    fn start(room: &Room, line: &str) -> Self {
        let programs = Path::new(UTTER).parent().unwrap().to_str().unwrap();
        let path = format!("{programs}:{}", std::env::var("PATH").unwrap());
        let mut child = Command::new("script")
            .args(["--quiet", "--return", "--command", line, "/dev/null"])
            .current_dir(room.path(""))
            .env("PATH", path)
            .env("TERM", "dumb")
            .env("HOME", room.path(""))
            .env("XDG_CONFIG_HOME", room.path("config"))
            .env("XDG_STATE_HOME", room.path("state"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (typed, mut out) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        let shown = Arc::new(Mutex::new(String::new()));
        let into = Arc::clone(&shown);
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(count @ 1..) = out.read(&mut bytes) {
                into.lock().unwrap().push_str(&String::from_utf8_lossy(&bytes[..count]));
            }
        });
        Self { child, typed, shown, seen: 0 }
    }

    fn types(&mut self, keys: &str) {
        self.typed.write_all(keys.as_bytes()).unwrap();
        self.typed.flush().unwrap();
    }

    /// Waits until this is shown, after what was waited for before.
    fn shows(&mut self, text: &str) {
        let begun = Instant::now();
        loop {
            let shown = self.shown.lock().unwrap().clone();
            if let Some(at) = shown[self.seen..].find(text) {
                self.seen += at + text.len();
                return;
            }
            assert!(
                begun.elapsed() < LONG,
                "{text:?} does not come after {:?}",
                &shown[self.seen..]
            );
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Types the beginning of a word and the key that completes it.
    fn completes(&mut self, typed: &str, word: &str) {
        self.types(&format!("{typed}\t"));
        self.shows(word);
        // Clears the line.
        self.types("\u{15}");
    }
}

impl Drop for Shell {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// What is tried in each shell; a drive with a label where one can be mounted.
fn completes_everything(room: &Room, shell: &mut Shell) {
    let drive = MountedDrive::make(DriveKind::Ext4, &room.path("lab"));
    shell.completes("utter mir", "mirror ");
    shell.completes("utter mirror --set-aside-k", "--set-aside-keep");
    shell.completes("utter mirror --carry con", "content");
    shell.completes("utter mirror --carry all,-o", "all,-o");
    shell.completes("utter mirror --carry content,xa", "content,xattr");
    shell.completes("utter copy --steps add,rem", "add,remove");
    shell.completes("utter mirror --waive sw", "swapped");
    shell.completes("utter verify --by pres", "ence");
    shell.completes("utter copy saltm", "ere");
    shell.completes("utter run pap", "ers");
    shell.completes("utter history --job pap", "ers");
    let aside = room.list("aside").into_iter().find(|name| name.ends_with('/')).unwrap();
    let run = room.path("aside").join(aside.trim_end_matches('/'));
    let run = run.to_str().unwrap();
    shell.completes(&format!("utter undo {}", &run[..run.len() - 3]), &run[run.len() - 3..]);
    match drive {
        Ok(_drive) => {
            let label = label_of(room);
            shell.completes(
                &format!("utter copy --require-drive {}", &label[..label.len() - 2]),
                &label[label.len() - 2..],
            );
        }
        Err(why) => left_out(format!("completing the label of a drive: {why}")),
    }
}

/// What the drive of this room is called.
fn label_of(room: &Room) -> String {
    let listed = room.run("drives --format json lab/ext4/drive");
    let drive: serde_json::Value =
        serde_json::from_str(listed.out.lines().nth(1).unwrap()).unwrap();
    let name = drive["label"].as_str().or(drive["uuid"].as_str());
    name.unwrap_or_else(|| panic!("{listed:?}")).to_owned()
}

fn room() -> Room {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("keeper/old.csv", "1");
    let line = "mirror --yes --waive nesting,removals --set-aside aside saltmere keeper";
    assert_eq!(room.run(line).code, 0);
    room.write("config/utter-echo/utter.toml", "[job.papers]\n");
    room
}

fn is_there(program: &str) -> bool {
    let found = Command::new("sh").args(["-c", &format!("command -v {program}")]).output();
    let found = found.is_ok_and(|output| output.status.success());
    if !found {
        left_out(format!("what {program} does"));
    }
    found
}

#[test]
fn bash_completes_on_a_terminal() {
    let room = room();
    let mut shell = Shell::start(&room, "bash --norc -i");
    shell.types("PS1='ready> '; source <(utter completions bash); echo do''ne\n");
    shell.shows("done");
    shell.shows("ready> ");
    completes_everything(&room, &mut shell);
}

#[test]
fn zsh_completes_on_a_terminal() {
    if !is_there("zsh") {
        return;
    }
    let room = room();
    let mut shell = Shell::start(&room, "zsh -f -i");
    shell.types("PS1='ready> '; autoload -U compinit && compinit -u; source <(utter completions zsh); echo do''ne\n");
    shell.shows("done");
    shell.shows("ready> ");
    completes_everything(&room, &mut shell);
}

#[test]
fn fish_completes_on_a_terminal() {
    if !is_there("fish") {
        return;
    }
    let room = room();
    let mut shell = Shell::start(&room, "fish --no-config -i");
    shell.types(
        "function fish_prompt; echo 'ready> '; end; utter completions fish | source; echo do''ne\n",
    );
    shell.shows("done");
    shell.shows("ready> ");
    completes_everything(&room, &mut shell);
}

#[test]
fn the_manual_pages_can_be_read() {
    let room = Room::new();
    assert_eq!(room.run("help man --out man1").code, 0);
    let pages = room.list("man1");
    for page in [
        "utter.1",
        "utter-copy.1",
        "utter-mirror.1",
        "utter-verify.1",
        "utter-undo.1",
        "utter-selection.7",
    ] {
        assert!(pages.iter().any(|name| name == page), "{page} is not in {pages:?}");
    }
    assert_eq!(room.run("help man --out man1").code, 0, "they can be written again");
    if !is_there("man") || !is_there("groff") {
        return;
    }
    for page in pages {
        let mut man = Command::new("man");
        man.args(["--warnings", "-l"]).arg(room.path("man1").join(&page));
        let read = man.env("MANWIDTH", "80").env("LC_ALL", "C.UTF-8").output().unwrap();
        let err = String::from_utf8_lossy(&read.stderr);
        // Lines are filled up to the margin.
        let words = String::from_utf8_lossy(&read.stdout);
        let text = words.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(read.status.success() && err.is_empty(), "{page}: {err}");
        let command =
            ["NAME", "SYNOPSIS", "DESCRIPTION", "OPTIONS", "EXIT STATUS", "FILES", "SEE ALSO"];
        let sections = if page.ends_with(".7") { &command[2..3] } else { &command[..] };
        let found = sections.iter().map(|section| text.find(section));
        assert!(found.clone().all(|at| at.is_some()) && found.is_sorted(), "{page}: {text}");
        if page == "utter-mirror.1" {
            for part in ["--set-aside", "SAFETY", "Examples", "look first"] {
                assert!(text.to_lowercase().contains(&part.to_lowercase()), "{part}: {text}");
            }
        }
    }
}
