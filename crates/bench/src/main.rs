//! `cargo run --release -p utter-echo-bench`: how long `utter` takes, held against a floor in the
//! same run: a bare program that makes only the unavoidable system calls with as many threads.
//!
//! Both are run as whole processes, in turn, and the median of the ratios is what counts. What
//! creates files gets a fresh file system each time. `docs/performance.md` says how to read it.

#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

mod drives;
mod floors;
mod measure;
mod rows;
mod slow;
mod trees;

use std::path::PathBuf;

use anyhow::{Context as _, Result, ensure};
use clap::{Args, Parser, Subcommand};

/// Measures utter against floors of bare system calls.
#[derive(Debug, Parser)]
#[command(version)]
struct Arguments {
    #[command(subcommand)]
    floor: Option<Floor>,
    #[command(flatten)]
    options: Options,
}

#[derive(Debug, Args)]
struct Options {
    /// Print a JSON object a row instead of the table
    #[arg(long)]
    json: bool,
    /// Measure only rows whose name contains this
    #[arg(long, value_name = "NAME")]
    only: Option<String>,
    /// Trees of this part of the full size
    #[arg(long, value_name = "FACTOR", default_value = "1.0", value_parser = scale)]
    scale: f64,
    /// Pairs of runs a row
    #[arg(long, value_name = "N", default_value = "5")]
    pairs: usize,
    /// Threads of utter and of the floors
    #[arg(long, value_name = "N", default_value_t = std::thread::available_parallelism().map_or(1, Into::into))]
    threads: usize,
    /// Folder for the trees and images [default: /dev/shm, else the system's temporary folder]
    #[arg(long, value_name = "FOLDER")]
    room: Option<PathBuf>,
    /// The built program [default: builds it]
    #[arg(long, value_name = "FILE")]
    utter: Option<PathBuf>,
}

/// The floors, as programs of their own.
#[derive(Debug, Subcommand)]
#[command(hide = true)]
enum Floor {
    /// List both sides and look at every entry.
    Scan(Sides),
    /// List, look, and list the extended attributes of every entry.
    ScanClosely(Sides),
    /// Make every folder and file, with content, owner, mode and time.
    Copy(Sides),
    /// The same, flushed, what was made read once from the drive, and the source removed.
    Move(Sides),
    /// Make every folder and file, and flush their drive.
    CopyFlushed(Sides),
    /// Read all files of the source once, in the order in which they lie on their drive.
    Sweep(Sides),
    /// Read all files of both sides and compare them.
    Compare(Sides),
    /// Do nothing: what starting a process costs.
    Nothing,
}

#[derive(Debug, Args)]
struct Sides {
    source: PathBuf,
    destination: PathBuf,
    #[arg(long)]
    threads: usize,
}

fn scale(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(scale) if scale > 0.0 && scale <= 10.0 => Ok(scale),
        _ => Err("a factor above 0 and up to 10".into()),
    }
}

fn main() -> Result<()> {
    let Arguments { floor, options } = Arguments::parse();
    match floor {
        Some(Floor::Nothing) => Ok(()),
        Some(Floor::Scan(sides)) => floors::scan(&sides, false),
        Some(Floor::ScanClosely(sides)) => floors::scan(&sides, true),
        Some(Floor::Copy(sides)) => floors::copy(&sides),
        Some(Floor::CopyFlushed(sides)) => floors::copy_flushed(&sides),
        Some(Floor::Sweep(sides)) => floors::sweep(&sides),
        Some(Floor::Move(sides)) => floors::move_all(&sides),
        Some(Floor::Compare(sides)) => floors::compare(&sides),
        None => rows::measure_all(&options, &built(&options)?),
    }
}

/// The program to measure, built now unless it was given.
fn built(options: &Options) -> Result<PathBuf> {
    if let Some(given) = &options.utter {
        return Ok(given.clone());
    }
    let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
    let build = ["build", "--release", "--quiet", "-p", "utter-echo"];
    let status =
        std::process::Command::new(cargo).args(build).status().context("cannot run cargo")?;
    ensure!(status.success(), "utter does not build");
    let here = std::env::current_exe().context("cannot find this program")?;
    Ok(here.with_file_name("utter"))
}
