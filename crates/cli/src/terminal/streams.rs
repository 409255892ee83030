//! Output streams. A run never depends on them: a failed stream is reported once, on stderr, and then ignored.

use std::io::{self, ErrorKind, Write};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use crate::terminal::colors;
use crate::terminal::names;

const LABEL: anstyle::Style = colors::BAD;

static OUT_CLOSED: AtomicBool = AtomicBool::new(false);
static ERR_CLOSED: AtomicBool = AtomicBool::new(false);

/// How long to wait for a stream in non-blocking mode.
const MOMENT: Duration = Duration::from_millis(10);

/// Writes as long as possible; never fails.
pub(crate) struct Steady<W> {
    stream: W,
    closed: &'static AtomicBool,
}

/// Stdout without colours.
pub(crate) type Out = Steady<io::Stdout>;

/// For people on stdout, with colours as chosen.
pub(crate) fn out() -> Steady<anstream::Stdout> {
    Steady { stream: anstream::stdout(), closed: &OUT_CLOSED }
}

/// For programs on stdout.
pub(crate) fn raw_out() -> Out {
    Steady { stream: io::stdout(), closed: &OUT_CLOSED }
}

/// For people on stderr.
pub(crate) fn err() -> Steady<anstream::Stderr> {
    Steady { stream: anstream::stderr(), closed: &ERR_CLOSED }
}

/// One line on stderr.
pub(crate) fn emit(line: &str) {
    // It cannot fail.
    let _ = writeln!(err(), "{line}");
}

/// What is wrong, and then what to do next.
pub(crate) fn print_wrong(message: &str) {
    let message = format!("{LABEL}utter:{LABEL:#} {}", names::harmless(message));
    emit(&if is_journal() {
        message.lines().map(of_journal).collect::<Vec<_>>().join("\n")
    } else {
        message
    });
}

/// A line with the priority of an error, as the journal of systemd reads it (`sd-daemon(3)`).
fn of_journal(line: &str) -> String {
    format!("<3>{line}")
}

/// True if stderr is the journal of systemd, which publishes its device and inode.
fn is_journal() -> bool {
    static ANSWER: OnceLock<bool> = OnceLock::new();
    *ANSWER.get_or_init(|| {
        let stat = rustix::fs::fstat(io::stderr()).ok();
        let own = stat.map(|stat| format!("{}:{}", stat.st_dev, stat.st_ino));
        own.is_some_and(|own| std::env::var("JOURNAL_STREAM").is_ok_and(|stream| stream == own))
    })
}

/// An error that ended a command.
pub(crate) fn print_error(error: &anyhow::Error) {
    print_wrong(&without_error_number(&format!("{error:#}")));
}

/// An error without the system's error number.
pub(crate) fn without_error_number(text: &str) -> String {
    let number = text.find(" (os error ").and_then(|at| Some((at, at + text[at..].find(')')? + 1)));
    number.map_or(text.to_owned(), |(from, to)| [&text[..from], &text[to..]].concat())
}

/// True if output to stdout was lost.
pub(crate) fn is_cut_off() -> bool {
    // Otherwise a failed final write would go unnoticed.
    let _ = out().flush();
    OUT_CLOSED.load(Ordering::Relaxed)
}

impl<W: Write> Steady<W> {
    fn keep_on<T>(&mut self, lost: T, mut work: impl FnMut(&mut W) -> io::Result<T>) -> T {
        while !self.closed.load(Ordering::Relaxed) {
            match work(&mut self.stream) {
                Ok(done) => return done,
                Err(e) if e.kind() == ErrorKind::Interrupted => {}
                Err(e) if e.kind() == ErrorKind::WouldBlock => std::thread::sleep(MOMENT),
                Err(e) => {
                    self.closed.store(true, Ordering::Relaxed);
                    if std::ptr::eq(self.closed, &raw const OUT_CLOSED) {
                        print_error(&anyhow::anyhow!(
                            "the rest of the output could not be written: {e}"
                        ));
                    }
                }
            }
        }
        lost
    }
}

impl<W: Write> Write for Steady<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        Ok(self.keep_on(bytes.len(), |stream| stream.write(bytes)))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.keep_on((), Write::flush);
        Ok(())
    }
}
