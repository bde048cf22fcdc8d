//! Logs go to a file when VELOCITAS_LOG names one: the screen belongs to the interface.

use std::fs::File;
use std::sync::Mutex;

/// Starts logging if it is asked for. RUST_LOG chooses what (default: info).
pub(super) fn start() -> Result<(), String> {
    let Some(path) = std::env::var_os("VELOCITAS_LOG").filter(|p| !p.is_empty()) else { return Ok(()) };
    let file = File::create(&path).map_err(|why| format!("cannot write the log {}: {why}", path.to_string_lossy()))?;
    let filter = tracing_subscriber::EnvFilter::try_from_default_env()
        .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("info"));
    tracing_subscriber::fmt().with_env_filter(filter).with_ansi(false).with_writer(Mutex::new(file)).init();
    tracing::info!(version = env!("CARGO_PKG_VERSION"), "velocitas starts");
    Ok(())
}
