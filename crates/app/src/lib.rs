//! Velocitas as a library: open the full-screen interface on a course, with movement rules of your own.
//!
//! ```no_run
//! use std::sync::Arc;
//! # fn rule() -> Arc<dyn velocitas::core::Motion> { Arc::new(velocitas::core::walker::Walker::new()) }
//! # fn main() -> Result<(), velocitas::OpenError> {
//! velocitas::open("my.course.toml", &[rule()])
//! # }
//! ```
//!
//! A course then names the rule by [`Motion::name`]: `rule = "my-rule"`. See
//! `examples/own_rule.rs`. What stands behind it: [`core`] is the netcode, [`lab`] runs and records it.

#![warn(missing_docs)]

#[cfg(not(unix))]
compile_error!("Velocitas needs a Unix system: Linux, macOS, or Windows' subsystem for Linux");

pub mod cli;
mod files;
mod progress;
mod remembered;
mod saved;
mod session;
mod sources;
mod times;
pub mod tui;

pub use velocitas_analysis as analysis;
pub use velocitas_core as core;
pub use velocitas_lab as lab;
pub use velocitas_record as record;

use std::path::Path;
use std::sync::Arc;

use velocitas_core::Motion;

pub use files::{OpenError, Opened};

/// Opens the interface on the file of a course, or of a take of one, whose cast may use these rules besides the built-in `walker`.
///
/// # Errors
/// When the file cannot be read or is not a course, or the terminal cannot be used.
pub fn open(course: impl AsRef<Path>, kinds: &[Arc<dyn Motion>]) -> Result<(), OpenError> {
    let file = course.as_ref();
    let opened = Opened::read(Some(file), kinds)?;
    tui::run(&opened, &tui::Options { file: Some(file.to_owned()), own: kinds.to_vec(), ..tui::Options::default() })
}

/// The same for the text of a course; `name` stands for the file in errors.
///
/// # Errors
/// When the text is not a course, or the terminal cannot be used.
pub fn open_text(name: &str, text: &str, kinds: &[Arc<dyn Motion>]) -> Result<(), OpenError> {
    let options = tui::Options { own: kinds.to_vec(), ..tui::Options::default() };
    tui::run(&Opened::Course(Box::new(velocitas_lab::Course::parse(name, text, kinds)?)), &options)
}
