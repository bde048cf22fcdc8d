//! Taking the terminal over and giving it back, whatever happens.
//!
//! The screen is given back on leaving, on a panic (the hook is set before anything is taken), on a signal and on
//! suspend.

use std::io::{self, IsTerminal, Write, stdout};
use std::sync::Arc;
use std::sync::Once;
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};

use crossterm::event::{
    DisableBracketedPaste, DisableFocusChange, DisableMouseCapture, EnableBracketedPaste, EnableFocusChange,
    EnableMouseCapture, KeyboardEnhancementFlags, PopKeyboardEnhancementFlags, PushKeyboardEnhancementFlags,
};
use crossterm::execute;
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, SetTitle, disable_raw_mode, enable_raw_mode};
use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP};

use super::input::{Inbox, Reader};

/// Which keyboard flags are set: answered only by terminals that have such flags.
const QUERY_ENHANCEMENT: &[u8] = b"\x1b[?u";

/// The terminal while it is ours.
pub(super) struct Tty {
    ours: bool,
    /// Reads what it sends; stopped while it is not ours.
    reader: Option<Reader>,
}

static HOOK: Once = Once::new();

/// Undoes everything that [`Tty::take`] does. Safe to do twice, and when nothing was done.
fn restore() {
    let mut out = stdout();
    // Nothing can be done about a terminal that is gone.
    let _ = execute!(
        out,
        PopKeyboardEnhancementFlags,
        DisableMouseCapture,
        DisableFocusChange,
        DisableBracketedPaste,
        LeaveAlternateScreen,
        crossterm::cursor::Show
    );
    let _ = disable_raw_mode();
    let _ = out.flush();
}

/// Refuses a terminal that cannot show the interface, before anything is written to it.
pub(super) fn is_able() -> io::Result<()> {
    if std::env::var_os("TERM").is_some_and(|term| term == "dumb") {
        return Err(io::Error::other(
            "expected one that can place text; found TERM=dumb (`velocitas run` works without a screen)",
        ));
    }
    if !stdout().is_terminal() {
        return Err(io::Error::other(
            "expected standard output to be a terminal; it is none (`velocitas run` works without a screen)",
        ));
    }
    Ok(())
}

impl Tty {
    /// Takes the terminal over and reads it into the inbox.
    pub(super) fn take(inbox: &Inbox) -> io::Result<Self> {
        HOOK.call_once(|| {
            let usual = std::panic::take_hook();
            std::panic::set_hook(Box::new(move |info| {
                restore();
                usual(info);
            }));
        });
        enable_raw_mode()?;
        let mut tty = Self { ours: true, reader: None };
        execute!(
            stdout(),
            EnterAlternateScreen,
            crossterm::cursor::Hide,
            EnableMouseCapture,
            EnableFocusChange,
            EnableBracketedPaste,
            SetTitle("Velocitas")
        )?;
        tty.reader = Some(Reader::start(inbox)?);
        Ok(tty)
    }

    /// Asks whether the terminal can tell when keys are let go. The answer, if there is one, comes as
    /// [`Input::Releases`](super::input::Input::Releases).
    pub(super) fn ask_for_releases(&self) -> io::Result<()> {
        let mut out = stdout();
        out.write_all(QUERY_ENHANCEMENT)?;
        out.flush()
    }

    /// Has the terminal tell when keys are let go.
    pub(super) fn want_releases(&self) -> io::Result<()> {
        let flags = KeyboardEnhancementFlags::DISAMBIGUATE_ESCAPE_CODES | KeyboardEnhancementFlags::REPORT_EVENT_TYPES;
        execute!(stdout(), PushKeyboardEnhancementFlags(flags))
    }

    pub(super) fn give_back(&mut self) {
        // First nobody reads any more, so that what comes next has the keys for itself.
        self.reader = None;
        if std::mem::take(&mut self.ours) {
            restore();
        }
    }
}

impl Drop for Tty {
    fn drop(&mut self) {
        self.give_back();
    }
}

/// How long the loop may take to leave by itself.
const LAST_RESORT: std::time::Duration = std::time::Duration::from_millis(700);

/// Signals that ask us to leave or to stand aside.
pub(super) struct Signals {
    leave: Arc<AtomicU8>,
    suspend: Arc<AtomicBool>,
}

impl Signals {
    pub(super) fn listen() -> io::Result<Self> {
        let signals = Self { leave: Arc::default(), suspend: Arc::default() };
        signal_hook::flag::register(SIGTSTP, signals.suspend.clone())?;
        let wanted = crate::files::signals::not_ignored(&[SIGTERM, SIGHUP, SIGINT, SIGQUIT]);
        let mut asked = signal_hook::iterator::Signals::new(wanted)?;
        let leave = signals.leave.clone();
        std::thread::spawn(move || {
            let Some(signal) = asked.forever().next() else { return };
            leave.store(signal as u8, Ordering::Relaxed);
            // The loop sees that within a frame and leaves properly. When writing to the terminal never returns, this is
            // the way out.
            std::thread::sleep(LAST_RESORT);
            restore();
            crate::files::signals::end(signal);
        });
        Ok(signals)
    }

    /// The signal that asked us to leave, if one did.
    pub(super) fn leave(&self) -> Option<u8> {
        Some(self.leave.load(Ordering::Relaxed)).filter(|signal| *signal != 0)
    }

    /// Whether a suspend was asked for since the last question.
    pub(super) fn suspend(&self) -> bool {
        self.suspend.swap(false, Ordering::Relaxed)
    }
}

/// Stops this process as the default handler would, and returns when it is continued.
pub(super) fn stop_until_continued() -> io::Result<()> {
    signal_hook::low_level::emulate_default_handler(SIGTSTP)
}
