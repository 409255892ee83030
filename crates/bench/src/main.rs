//! `cargo run --release -p utter-echo-bench`: how long `utter` takes, held against a floor in the
//! same run: a bare program that makes only the unavoidable system calls with as many threads.
//!
//! Both run as whole processes, in turn, and the median of the ratios counts. Runs that create files have a new
//! file system each time. `docs/performance.md` says how to read the table.

#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

mod drives;
mod floors;
mod measure;
mod options;
mod rows;
mod slow;
mod trees;
mod widths;

use crate::options::{Options, Sides};
use std::path::PathBuf;

use anyhow::{Context as _, Result, ensure};
use clap::{Parser, Subcommand};

/// Measures utter against floors of bare system calls.
#[derive(Debug, Parser)]
#[command(version)]
struct Arguments {
    #[command(subcommand)]
    floor: Option<Floor>,
    #[command(flatten)]
    options: Options,
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
    /// Do nothing: the cost of starting a process.
    Nothing,
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

/// The program to measure; it is built unless it is given.
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
