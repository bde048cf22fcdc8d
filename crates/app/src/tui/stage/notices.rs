//! What is said in the last row for a while.

use std::time::Duration;

/// How long a message stays.
const STAYS: Duration = Duration::from_secs(5);

/// What is said in the last row for a while.
#[derive(Debug, Default)]
pub(in crate::tui) struct Notices {
    said: Option<(String, Duration)>,
    /// Whether it was said what did not stir.
    pub(in crate::tui) still_told: bool,
}

impl Notices {
    /// What is said now.
    pub(in crate::tui) fn said(&self) -> Option<&str> {
        self.said.as_ref().map(|(text, _)| text.as_str())
    }

    pub(in crate::tui) fn say(&mut self, text: String) {
        self.said = Some((text, STAYS));
    }

    /// Real time has passed: what was said goes after a while. Says whether it went.
    pub(in crate::tui) fn fade(&mut self, passed: Duration) -> bool {
        let Some((_, left)) = &mut self.said else { return false };
        *left = left.saturating_sub(passed);
        let is_over = left.is_zero();
        if is_over {
            self.said = None;
        }
        is_over
    }
}
