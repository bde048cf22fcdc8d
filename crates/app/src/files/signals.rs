//! Files that are not whole yet, and signals that end the program before they are.
//!
//! A result is written beside its place and renamed. Whoever is asked to end by a signal takes such files away first;
//! the exit code is 128 + signal.

use std::fs;
use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};

use super::stream::complain;

/// Files that go when the program is asked to end.
static PENDING: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

fn pending() -> MutexGuard<'static, Vec<PathBuf>> {
    // The list is sound after every statement made while it is held.
    PENDING.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Makes a file that goes when the program is asked to end, until [`settled`] says that it is whole or gone.
pub(super) fn pending_file(
    make: impl FnOnce() -> io::Result<tempfile::NamedTempFile>,
) -> io::Result<tempfile::NamedTempFile> {
    // Held while it is made: a signal in between finds it in the list.
    let mut list = pending();
    let file = make()?;
    list.push(file.path().to_owned());
    Ok(file)
}

/// The file has its name, or is gone.
pub(super) fn settled(path: &Path) {
    pending().retain(|p| p != path);
}

/// Ends the program because of a signal: what is not whole goes first.
pub(crate) fn end(signal: i32) -> ! {
    // Kept until the end, so that nothing new begins.
    let list = pending();
    for path in list.iter() {
        let _ = fs::remove_file(path);
    }
    std::process::exit(128 + signal)
}

/// Which of these signals are not ignored from before the program began, as `nohup` does.
pub(crate) fn not_ignored(signals: &[i32]) -> Vec<i32> {
    let ignored = fs::read_to_string("/proc/self/status").ok().and_then(|status| {
        let mask = status.lines().find_map(|l| l.strip_prefix("SigIgn:"))?;
        u64::from_str_radix(mask.trim(), 16).ok()
    });
    let mask = ignored.unwrap_or(0);
    signals.iter().copied().filter(|s| mask & (1 << (s - 1)) == 0).collect()
}

/// Lets signals that end a program take away first what is not whole. For commands without a screen.
pub(crate) fn tidy_on_signals() -> io::Result<()> {
    let mut asked = signal_hook::iterator::Signals::new(not_ignored(&[SIGTERM, SIGHUP, SIGINT, SIGQUIT]))?;
    std::thread::spawn(move || {
        if let Some(signal) = asked.forever().next() {
            if io::stderr().is_terminal() {
                // A line of progress may stand there.
                complain("\r\u{1b}[K");
            }
            end(signal);
        }
    });
    Ok(())
}
