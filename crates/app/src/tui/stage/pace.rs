//! How fast virtual time goes.

use velocitas_record::LabTime;

/// Speeds, slow to fast.
const SPEEDS: [(f64, &str); 7] = [
    (0.125, "\u{d7}1/8"),
    (0.25, "\u{d7}1/4"),
    (0.5, "\u{d7}1/2"),
    (1.0, "\u{d7}1"),
    (2.0, "\u{d7}2"),
    (4.0, "\u{d7}4"),
    (8.0, "\u{d7}8"),
];
const USUAL_SPEED: usize = 3;

/// How fast virtual time goes.
#[derive(Clone, Copy, Debug)]
pub(in crate::tui) struct Pace {
    pub(in crate::tui) running: bool,
    speed: usize,
    /// Where virtual time should be by now.
    pub(in crate::tui) target: LabTime,
    /// Virtual seconds behind real time, when it is.
    pub(in crate::tui) behind: Option<f64>,
}

impl Pace {
    /// Running, from a moment on.
    pub(in crate::tui) const fn from(target: LabTime) -> Self {
        Self { running: true, speed: USUAL_SPEED, target, behind: None }
    }

    /// Virtual seconds a real second.
    pub(in crate::tui) const fn speed(&self) -> f64 {
        SPEEDS[self.speed].0
    }

    pub(in crate::tui) const fn speed_name(&self) -> &'static str {
        SPEEDS[self.speed].1
    }

    /// The next speed up or down, if there is one.
    pub(in crate::tui) fn change_speed(&mut self, faster: bool) {
        self.speed = if faster { (self.speed + 1).min(SPEEDS.len() - 1) } else { self.speed.saturating_sub(1) };
    }
}
