//! Guarantee: on terminals of 40, 80 and 200 columns the bar and the table of a verdict fit, with any name, and the
//! program says the same in any language, zone and home.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::time::Duration;

use crate::common::{Room, ran};
use unicode_width::UnicodeWidthStr as _;
use utter_echo_lab::{Model, SlowDrive, left_out};

/// What a terminal shows, without what colours it, in lines and in what is drawn over itself.
fn drawn(shown: &str) -> Vec<String> {
    let mut plain = String::new();
    let mut rest = shown;
    while let Some(at) = rest.find('\u{1b}') {
        plain.push_str(&rest[..at]);
        let end = rest[at..].find(|c: char| c.is_ascii_alphabetic()).unwrap();
        rest = &rest[at + end + 1..];
        plain.push('\r');
    }
    plain.push_str(rest);
    plain
        .split(['\r', '\n'])
        .map(str::trim_end)
        .filter(|line| !line.is_empty())
        .map(str::to_owned)
        .collect()
}

#[test]
fn output_fits_its_terminal() {
    for columns in [40, 80, 200] {
        let room = Room::new().with("saltmere/season.wav", &"~".repeat(3 << 20));
        for name in
            ["Nebelhorn für Möwen-Kap", "霧笛の記録、一九三一年", "a\u{301} name with marks"]
        {
            room.write(&format!("saltmere/fog-signals/{name}/{name}.csv"), &"~".repeat(1 << 18));
        }
        room.write("keeper/old.csv", "1");
        let line = "mirror --yes --waive nesting --flush none --rate 2M saltmere keeper";
        let program =
            format!("-c 'stty cols {columns} rows 24; exec {} {line}'", crate::common::UTTER);
        let shown = room.program_on_a_terminal(&format!("sh {program}"), "");
        assert_eq!(shown.code, 0, "{shown:?}");
        let bars: Vec<_> = drawn(&shown.out)
            .into_iter()
            .filter(|line| line.contains('▮') || line.contains('▯'))
            .collect();
        assert!(bars.len() > 3, "{columns}: {shown:?}");
        for bar in &bars {
            assert!(bar.width() < columns, "{columns}: {bar:?} has {}", bar.width());
            assert!(bar.contains(" % ") && bar.contains(" MiB"), "{columns}: {bar:?}");
        }
        let has_path = bars.iter().any(|bar| bar.contains("season.wav") || bar.contains(".csv"));
        assert!(columns == 80 || has_path == (columns == 200), "{columns}: {bars:?}");
        room.write("keeper/another.csv", "1");
        let verdict = room.run("verify saltmere keeper").out;
        let table = verdict
            .lines()
            .skip_while(|line| !line.contains("destination") || !line.contains("source"));
        for row in table.take(6) {
            assert!(row.width() <= 40, "{row:?}");
        }
    }
}

#[test]
fn a_run_waits_for_a_hanging_drive_and_says_so() {
    let room = Room::new();
    for film in 0..60 {
        room.write(&format!("saltmere/{film}.mov"), &"~".repeat(1 << 20));
    }
    // Slow enough that most is left after it hung, also on a busy machine.
    let model = Model::Stick { write: 8e6 };
    let stick = match SlowDrive::make(model, &room.path("stick"), 256 << 20, |_| {}) {
        Ok(stick) => stick,
        Err(error) => return left_out(format!("no slow drive could be made: {error}")),
    };
    let line = format!("copy saltmere {}/keeper", stick.folder().display());
    let shown = std::thread::scope(|scope| {
        let run = scope.spawn(|| room.on_a_terminal(&line, ""));
        std::thread::sleep(Duration::from_secs(2));
        stick.hang(Duration::from_secs(6));
        run.join().unwrap()
    });
    assert_eq!(shown.code, 0, "{shown:?}");
    let bars = drawn(&shown.out);
    let waits = |bar: &String| bar.contains("waiting for the drive");
    let first = bars.iter().position(waits).expect("it says that it waits");
    let last = bars.iter().rposition(waits).unwrap();
    assert!(bars[first..=last].iter().all(|bar| waits(bar) && !bar.contains(" left")), "{bars:?}");
    let goes_on = bars[last..].iter().any(|bar| bar.contains(" left"));
    assert!(goes_on, "it goes on and says how long that will take: {bars:?}");
}

#[test]
fn language_home_and_zone_do_not_change_the_output() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("keeper/old.csv", "1");
    let line = "mirror --dry-run --waive nesting saltmere keeper";
    let usual = room.run(line);
    assert_eq!(usual.code, 0, "{usual:?}");
    for environment in [
        vec![("LANG", "C"), ("LC_ALL", "C")],
        vec![("LANG", "de_DE.UTF-8"), ("TZ", "Asia/Kathmandu")],
        vec![("TZ", "Nowhere/At-All")],
        vec![("TZ", "\u{fe}:"), ("TERM", "")],
        vec![("NO_COLOR", "1"), ("COLUMNS", "0"), ("TMPDIR", "/nowhere")],
    ] {
        let mut command = room.command(line);
        command.env_clear().envs(environment.iter().copied());
        let ran = ran(&command.output().unwrap());
        assert_eq!((ran.code, &ran.out, &ran.err), (0, &usual.out, &usual.err), "{environment:?}");
    }
    // What a zone decides is not guessed.
    let mut command = room.command("copy -n --dated 2026-01-01.. saltmere new");
    let ran = ran(&command.env("TZ", "Nowhere/At-All").output().unwrap());
    assert!(ran.code == 2 && ran.err.contains("Nowhere/At-All"), "{ran:?}");
}
