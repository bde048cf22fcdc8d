//! Taking the terminal over and giving it back, whatever happens.
//!
//! The screen is given back on leaving, on a panic (the hook is set before anything is taken), on a signal and on
//! suspend.

use std::io::{self, Write, stdout};
use std::sync::Arc;
use std::sync::Once;
use std::sync::atomic::{AtomicBool, Ordering};

use crossterm::event::{
    DisableFocusChange, DisableMouseCapture, EnableFocusChange, EnableMouseCapture, KeyboardEnhancementFlags,
    PopKeyboardEnhancementFlags, PushKeyboardEnhancementFlags,
};
use crossterm::execute;
use crossterm::terminal::{
    EnterAlternateScreen, LeaveAlternateScreen, SetTitle, disable_raw_mode, enable_raw_mode,
    supports_keyboard_enhancement,
};

/// The terminal while it is ours.
pub(super) struct Tty {
    ours: bool,
    releases: bool,
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
        LeaveAlternateScreen,
        crossterm::cursor::Show
    );
    let _ = disable_raw_mode();
    let _ = out.flush();
}

impl Tty {
    pub(super) fn take() -> io::Result<Self> {
        HOOK.call_once(|| {
            let usual = std::panic::take_hook();
            std::panic::set_hook(Box::new(move |info| {
                restore();
                usual(info);
            }));
        });
        enable_raw_mode()?;
        let tty = Self { ours: true, releases: false };
        execute!(
            stdout(),
            EnterAlternateScreen,
            crossterm::cursor::Hide,
            EnableMouseCapture,
            EnableFocusChange,
            SetTitle("Velocitas")
        )?;
        Ok(tty)
    }

    /// Asks the terminal to tell when keys are let go. Says whether it will.
    pub(super) fn ask_for_releases(&mut self) -> bool {
        if supports_keyboard_enhancement().unwrap_or(false) {
            let flags =
                KeyboardEnhancementFlags::DISAMBIGUATE_ESCAPE_CODES | KeyboardEnhancementFlags::REPORT_EVENT_TYPES;
            self.releases = execute!(stdout(), PushKeyboardEnhancementFlags(flags)).is_ok();
        }
        self.releases
    }

    pub(super) fn give_back(&mut self) {
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
    leave: Arc<AtomicBool>,
    suspend: Arc<AtomicBool>,
}

impl Signals {
    pub(super) fn listen() -> io::Result<Self> {
        let signals = Self { leave: Arc::default(), suspend: Arc::default() };
        #[cfg(unix)]
        {
            use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGTSTP};
            signal_hook::flag::register(SIGTSTP, signals.suspend.clone())?;
            let mut asked = signal_hook::iterator::Signals::new([SIGTERM, SIGHUP, SIGINT])?;
            let leave = signals.leave.clone();
            std::thread::spawn(move || {
                let Some(signal) = asked.forever().next() else { return };
                leave.store(true, Ordering::Relaxed);
                // The loop sees that within a frame and leaves properly. When the terminal itself is gone, reading keys
                // from it never returns: then this is the way out.
                std::thread::sleep(LAST_RESORT);
                restore();
                std::process::exit(128 + signal);
            });
        }
        Ok(signals)
    }

    pub(super) fn leave(&self) -> bool {
        self.leave.load(Ordering::Relaxed)
    }

    /// Whether a suspend was asked for since the last question.
    pub(super) fn suspend(&self) -> bool {
        self.suspend.swap(false, Ordering::Relaxed)
    }
}

/// Stops this process as the default handler would, and returns when it is continued.
pub(super) fn stop_until_continued() -> io::Result<()> {
    #[cfg(unix)]
    signal_hook::low_level::emulate_default_handler(signal_hook::consts::SIGTSTP)?;
    Ok(())
}
