//! A slow drive or a share to try things on: `cargo run -p utter-echo-lab --example slow -- stick ROOM`. It is mounted
//! at ROOM/drive until Enter is pressed; of a share, ROOM/truth is what it shows.

#![allow(clippy::print_stdout, reason = "it tells where the drive is")]

use std::error::Error;
use std::fs;
use std::path::PathBuf;
use std::time::Duration;

use utter_echo_lab::{Aged, Lies, LyingDrive, Model, SlowDrive};

fn main() -> Result<(), Box<dyn Error>> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [kind, room, rest @ ..] = &*words else { return Err("slow KIND ROOM [FILES]".into()) };
    let room = PathBuf::from(room);
    let files = rest.first().map_or(Ok(0), |files| files.parse())?;
    fs::create_dir_all(&room)?;
    let aged = Aged { seed: 1931, folders: files / 60, files, longest: 24 * 1024 };
    let (model, bytes) = match kind.as_str() {
        "share" => {
            let (truth, drive) = (room.join("truth"), room.join("drive"));
            fs::create_dir_all(&truth)?;
            fs::create_dir_all(&drive)?;
            let _share =
                LyingDrive::mount(Lies::share(Duration::from_micros(500)), &truth, &drive)?;
            return wait();
        }
        "stick" => (Model::Stick { write: 15e6 }, 1 << 30),
        "disk" => {
            let bytes = (aged.files * aged.longest) as u64 * 5 / 4;
            (Model::Rotating { faster: 4.0 }, bytes.max(1 << 28))
        }
        other => return Err(format!("{other}: share, stick or disk").into()),
    };
    let grow = |root: &std::path::Path| {
        if files > 0 {
            aged.grow(&root.join("tree")).expect("a tree can be grown");
        }
    };
    let drive = SlowDrive::make(model, &room, bytes, grow)?;
    let result = wait();
    println!("{:?}", drive.done());
    result
}

fn wait() -> Result<(), Box<dyn Error>> {
    println!("ready");
    std::io::stdin().read_line(&mut String::new())?;
    Ok(())
}
