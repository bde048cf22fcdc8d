//! Logs go to a file when VELOCITAS_LOG names one: the screen belongs to the interface.

use std::fs::File;
use std::path::PathBuf;
use std::sync::Mutex;

use tracing::level_filters::LevelFilter;
use tracing_subscriber::filter::Targets;
use tracing_subscriber::layer::{Layer, SubscriberExt};
use tracing_subscriber::util::SubscriberInitExt;

use crate::files::{LOG, OpenError, same_file};

/// Starts logging if it is asked for, over none of the files that are read. RUST_LOG chooses what (default: info).
pub(super) fn start(inputs: &[PathBuf]) -> Result<(), OpenError> {
    let Some(path) = std::env::var_os(LOG).filter(|p| !p.is_empty()) else { return Ok(()) };
    let path = PathBuf::from(path);
    if inputs.iter().any(|input| same_file(&path, input)) {
        let why = "VELOCITAS_LOG names a file that is read; name another";
        return Err(OpenError::Usage(format!("cannot write the log {}: {why}", path.display())));
    }
    let file = File::create(&path)
        .map_err(|why| OpenError::Usage(format!("cannot write the log {}: {why}", path.display())))?;
    let wanted = std::env::var("RUST_LOG").ok().and_then(|wanted| wanted.parse::<Targets>().ok());
    let filter = wanted.unwrap_or_else(|| Targets::new().with_default(LevelFilter::INFO));
    let lines = tracing_subscriber::fmt::layer().with_ansi(false).with_writer(Mutex::new(file));
    tracing_subscriber::registry().with(lines.with_filter(filter)).init();
    tracing::info!(version = env!("CARGO_PKG_VERSION"), "velocitas starts");
    Ok(())
}
