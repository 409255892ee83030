//! The options of the benchmark and its floors.

use std::path::PathBuf;

use clap::Args;

#[derive(Debug, Args)]
pub(crate) struct Options {
    /// Print a JSON object a row instead of the table
    #[arg(long)]
    pub(crate) json: bool,
    /// Measure only rows whose name contains this
    #[arg(long, value_name = "NAME")]
    pub(crate) only: Option<String>,
    /// Trees of this part of the full size
    #[arg(long, value_name = "FACTOR", default_value = "1.0", value_parser = scale)]
    pub(crate) scale: f64,
    /// Pairs of runs a row
    #[arg(long, value_name = "N", default_value = "5")]
    pub(crate) pairs: usize,
    /// Threads of utter and of the floors
    #[arg(long, value_name = "N", default_value_t = std::thread::available_parallelism().map_or(1, Into::into))]
    pub(crate) threads: usize,
    /// Folder for the trees and images [default: /dev/shm, else the system's temporary folder]
    #[arg(long, value_name = "FOLDER")]
    pub(crate) room: Option<PathBuf>,
    /// The built program [default: builds it]
    #[arg(long, value_name = "FILE")]
    pub(crate) utter: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct Sides {
    pub(crate) source: PathBuf,
    pub(crate) destination: PathBuf,
    #[arg(long)]
    pub(crate) threads: usize,
}

fn scale(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(scale) if scale > 0.0 && scale <= 10.0 => Ok(scale),
        _ => Err("a factor above 0 and up to 10".into()),
    }
}
