//! The papers of the Saltmere Light Trust, all of them invented.

use std::f32::consts::TAU;
use std::fmt::Write as _;
use std::fs::{self, File, FileTimes};
use std::io;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;
use std::time::{Duration, SystemTime};

const LIGHTS: [&str; 5] =
    ["gull-ness", "harrow-skerry", "long-mare", "tallow-stack", "snuffer-point"];
const WEATHER: [&str; 6] = ["fair", "fog", "gale from SW", "haze", "rain", "swell, clear"];
const DAY: u64 = 86_400;

/// Builds the tree in a folder that does not exist yet.
pub(super) fn build(root: &Path) -> io::Result<()> {
    for (at, light) in LIGHTS.into_iter().enumerate() {
        for year in 1921..1924 {
            let log = logbook(light, year, 40);
            write(root, &format!("logbooks/{light}/{year}.csv"), log.as_bytes(), 300 - at as u64)?;
        }
        let drawing = lens(5 + at, 40 + 12 * at);
        write(root, &format!("lens-drawings/{light}.svg"), drawing.as_bytes(), 200)?;
        write(
            root,
            &format!("fog-signals/{light}.wav"),
            &recording(180.0 + 35.0 * at as f32),
            150,
        )?;
    }
    for month in 1..=12 {
        let table = tides(month);
        write(root, &format!("tide-tables/1931-{month:02}.csv"), table.as_bytes(), 120)?;
    }
    let image: Vec<u8> =
        (0..48_u32 * 1024).map(|i| i.wrapping_mul(2_654_435_761).to_be_bytes()[1]).collect();
    write(root, "firmware/lamp-controller-2.bin", &image, 30)?;
    write(root, "firmware/flash.sh", b"#!/bin/sh\n# Writes the image named first to the lamp controller.\ncat \"$1\" > /dev/lamp\n", 30)?;
    symlink("lamp-controller-2.bin", root.join("firmware/current.bin"))?;
    write(root, "museum-shop/stock-list.csv", stock(24).as_bytes(), 5)?;
    write(root, "museum-shop/stock-list-old.csv", stock(18).as_bytes(), 400)?;
    write(root, "museum-shop/.prices", b"postcard 1.20\nmug 8.50\n", 60)?;
    write(root, "museum-shop/till.tmp", b"open\n", 0)?;
    fs::create_dir(root.join("letters-to-sort"))?;
    fs::hard_link(root.join("logbooks/snuffer-point/1923.csv"), root.join("logbooks/latest.csv"))?;
    age_folders(root)
}

/// The changes of a working day.
pub(super) fn change_for_a_day(root: &Path) -> io::Result<()> {
    for light in ["gull-ness", "long-mare"] {
        let log = logbook(light, 1924, 12);
        write(root, &format!("logbooks/{light}/1924.csv"), log.as_bytes(), 0)?;
    }
    write(root, "lens-drawings/tallow-stack.svg", lens(9, 76).as_bytes(), 0)?;
    write(root, "museum-shop/stock-list.csv", stock(26).as_bytes(), 0)?;
    fs::remove_file(root.join("museum-shop/stock-list-old.csv"))?;
    fs::remove_file(root.join("tide-tables/1931-01.csv"))?;
    fs::set_permissions(root.join("firmware/flash.sh"), fs::Permissions::from_mode(0o755))
}

fn write(root: &Path, path: &str, content: &[u8], days_old: u64) -> io::Result<()> {
    let path = root.join(path);
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(&path, content)?;
    set_age(&path, days_old)
}

fn set_age(path: &Path, days_old: u64) -> io::Result<()> {
    let time = SystemTime::now() - Duration::from_secs(days_old * DAY);
    File::open(path)?.set_times(FileTimes::new().set_modified(time))
}

/// Folders get old times, so that later changes show.
fn age_folders(folder: &Path) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            age_folders(&entry.path())?;
        }
    }
    set_age(folder, 100)
}

fn logbook(light: &str, year: u32, days: u32) -> String {
    let mut text = String::from("date,keeper,lit,put out,weather,note\n");
    for day in 0..days {
        let weather = WEATHER[(day as usize * 7 + year as usize + light.len()) % WEATHER.len()];
        let (month, date) = (1 + day / 28, 1 + day % 28);
        let note = if day % 11 == 0 { "wick trimmed" } else { "" };
        // Writing to a String cannot fail.
        let _ = writeln!(
            text,
            "{year}-{month:02}-{date:02},keeper of {light},16:{:02},07:{:02},{weather},{note}",
            day % 60,
            (day * 3) % 60
        );
    }
    text
}

fn lens(rings: usize, radius: usize) -> String {
    let mut svg =
        String::from("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"-100 -100 200 200\">\n");
    for ring in 1..=rings {
        let r = radius * ring / rings;
        let _ = writeln!(
            svg,
            "  <circle r=\"{r}\" fill=\"none\" stroke=\"#246\" stroke-width=\"0.8\"/>"
        );
    }
    svg + "</svg>\n"
}

/// A tone that swells and fades: WAV, 16 bit, mono, 8000 samples per second.
fn recording(pitch: f32) -> Vec<u8> {
    const RATE: u32 = 8000;
    let samples = (0..RATE * 2).flat_map(|i| {
        {
            let time = i as f32 / RATE as f32;
            let level = (time * TAU / 4.0).sin() * 12_000.0;
            // No louder than 12 000, far within the range.
            #[allow(clippy::cast_possible_truncation, reason = "see above")]
            let sample = ((time * pitch * TAU).sin() * level) as i16;
            sample
        }
        .to_le_bytes()
    });
    let samples: Vec<u8> = samples.collect();
    let length = u32::try_from(samples.len()).unwrap_or(u32::MAX);
    let mut wav = b"RIFF".to_vec();
    wav.extend((36 + length).to_le_bytes());
    wav.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    wav.extend(RATE.to_le_bytes());
    wav.extend((2 * RATE).to_le_bytes());
    wav.extend(b"\x02\0\x10\0data");
    wav.extend(length.to_le_bytes());
    wav.extend(samples);
    wav
}

fn tides(month: u32) -> String {
    let mut text = String::from("day,high water,metres,low water,metres\n");
    for day in 1..=28 {
        let shift = (month * 37 + day * 50) % 720;
        let height = 3.1 + f64::from((day * 5 + month) % 14) / 10.0;
        let _ = writeln!(
            text,
            "{day},{:02}:{:02},{height:.1},{:02}:{:02},{:.1}",
            shift / 60,
            shift % 60,
            (shift + 370) / 60 % 24,
            (shift + 370) % 60,
            height / 4.0
        );
    }
    text
}

fn stock(rows: u32) -> String {
    const GOODS: [&str; 6] = ["postcard", "tea towel", "brass lamp", "mug", "tide clock", "kite"];
    let mut text = String::from("article,number,price\n");
    for row in 0..rows {
        let article = GOODS[row as usize % GOODS.len()];
        let _ = writeln!(
            text,
            "{article} {},{},{}.{:02}",
            1 + row / 6,
            3 + row * 7 % 40,
            1 + row % 19,
            row * 35 % 100
        );
    }
    text
}
