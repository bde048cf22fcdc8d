//! Everything that can be turned while a run goes on, in one table: screens, courses and help read it.

use velocitas_core::{ClientSettings, MAX_REPEATS, ViewDelay};

use crate::link::Conditions;

/// A knob of one member of the cast.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Knob {
    /// Mean delay each way.
    Latency,
    /// Spread of the delay each way.
    Jitter,
    /// Datagrams lost each way.
    Loss,
    /// Ticks covered by each message up.
    Repeats,
    /// Ticks from snapshot to snapshot.
    SnapshotEvery,
    /// How far in the past remotes are drawn.
    ViewDelay,
    /// How long corrections take to fade in.
    Ease,
    /// Own inputs applied at once.
    Prediction,
    /// Predictions held against snapshots.
    Reconciliation,
    /// Remotes blended in the past.
    Interpolation,
}

/// What a knob is set to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum KnobValue {
    /// A number in the knob's unit.
    Number(f64),
    /// Left to the machine.
    Auto,
    /// On or off.
    Switch(bool),
}

/// How a knob may be turned.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Range {
    /// One of these numbers, in order; other values between the ends may come from a course.
    Steps(&'static [f64]),
    /// The same, with "auto" below the first.
    AutoOr(&'static [f64]),
    /// On or off.
    Switch,
}

/// A knob's entry in the table.
#[derive(Clone, Copy, Debug)]
pub struct KnobSpec {
    /// Which.
    pub knob: Knob,
    /// Its name on screens.
    pub name: &'static str,
    /// Its unit on screens.
    pub unit: &'static str,
    /// How it may be turned.
    pub range: Range,
    /// What turning it does, in a line or two.
    pub help: &'static str,
}

const MILLIS: &[f64] = &[
    0.0, 5.0, 10.0, 15.0, 20.0, 25.0, 30.0, 40.0, 50.0, 60.0, 75.0, 100.0, 125.0, 150.0, 200.0, 250.0, 300.0, 400.0,
    500.0, 750.0, 1000.0,
];
const SPREAD: &[f64] = &[0.0, 1.0, 2.0, 3.0, 5.0, 7.0, 10.0, 15.0, 20.0, 30.0, 40.0, 60.0, 80.0, 100.0, 150.0, 200.0];
const SHARE: &[f64] = &[0.0, 0.5, 1.0, 2.0, 3.0, 5.0, 7.5, 10.0, 15.0, 20.0, 30.0, 40.0, 50.0, 75.0, 100.0];
const TICKS: &[f64] = &[1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 12.0, 15.0, 20.0, 30.0, 60.0];
const REPEATS: &[f64] = &[1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 12.0, MAX_REPEATS as f64];

/// The table.
pub const KNOBS: [KnobSpec; 10] = [
    KnobSpec {
        knob: Knob::Latency,
        name: "latency, one way",
        unit: "ms",
        range: Range::Steps(MILLIS),
        help: "mean delay in each direction; with prediction off it is felt twice before anything moves",
    },
    KnobSpec {
        knob: Knob::Jitter,
        name: "jitter \u{3c3}, one way",
        unit: "ms",
        range: Range::Steps(SPREAD),
        help: "spread of the delay; widens the lead and the view delay",
    },
    KnobSpec {
        knob: Knob::Loss,
        name: "loss, one way",
        unit: "%",
        range: Range::Steps(SHARE),
        help: "datagrams lost in each direction; repeats cover it for inputs",
    },
    KnobSpec {
        knob: Knob::Repeats,
        name: "ticks per message",
        unit: "",
        range: Range::Steps(REPEATS),
        help: "each message carries the inputs of so many ticks; more cost bytes and survive loss",
    },
    KnobSpec {
        knob: Knob::SnapshotEvery,
        name: "snapshot every",
        unit: "tick",
        range: Range::Steps(TICKS),
        help: "ticks between snapshots to this client; fewer bytes, a longer view delay",
    },
    KnobSpec {
        knob: Knob::ViewDelay,
        name: "view delay",
        unit: "ms",
        range: Range::AutoOr(MILLIS),
        help: "how far behind arrivals remotes are drawn; auto is two snapshot intervals + 2 \u{3c3}",
    },
    KnobSpec {
        knob: Knob::Ease,
        name: "ease corrections",
        unit: "ms",
        range: Range::Steps(MILLIS),
        help: "a correction fades in over this time; 0 shows it at once",
    },
    KnobSpec {
        knob: Knob::Prediction,
        name: "prediction",
        unit: "",
        range: Range::Switch,
        help: "off: the own character waits for the server like everybody else",
    },
    KnobSpec {
        knob: Knob::Reconciliation,
        name: "reconciliation",
        unit: "",
        range: Range::Switch,
        help: "off: predictions are never restored to what the server says",
    },
    KnobSpec {
        knob: Knob::Interpolation,
        name: "interpolation",
        unit: "",
        range: Range::Switch,
        help: "off: remotes jump to the newest snapshot as it arrives",
    },
];

/// The settings a member's knobs act on.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Knobs {
    /// The way up.
    pub up: Conditions,
    /// The way down.
    pub down: Conditions,
    /// The client's own.
    pub settings: ClientSettings,
    /// Ticks from snapshot to snapshot.
    pub snapshot_every: u8,
}

impl Knob {
    /// Its entry in the table.
    pub fn spec(self) -> &'static KnobSpec {
        &KNOBS[self as usize]
    }

    /// What it is set to. Where the two directions differ, the way up is shown.
    pub fn get(self, of: &Knobs) -> KnobValue {
        let s = &of.settings;
        match self {
            Self::Latency => KnobValue::Number(of.up.latency_ms),
            Self::Jitter => KnobValue::Number(of.up.jitter_ms),
            Self::Loss => KnobValue::Number(of.up.loss * 100.0),
            Self::Repeats => KnobValue::Number(f64::from(s.repeats)),
            Self::SnapshotEvery => KnobValue::Number(f64::from(of.snapshot_every)),
            Self::ViewDelay => match s.view_delay {
                ViewDelay::Auto => KnobValue::Auto,
                ViewDelay::Millis(ms) => KnobValue::Number(f64::from(ms)),
            },
            Self::Ease => KnobValue::Number(f64::from(s.ease_ms)),
            Self::Prediction => KnobValue::Switch(s.predict),
            Self::Reconciliation => KnobValue::Switch(s.reconcile),
            Self::Interpolation => KnobValue::Switch(s.interpolate),
        }
    }

    /// Sets it, in both directions of a link. A value of the wrong kind changes nothing; numbers are held in range.
    pub fn set(self, of: &mut Knobs, value: KnobValue) {
        let s = &mut of.settings;
        match (self, value) {
            (Self::ViewDelay, KnobValue::Auto) => s.view_delay = ViewDelay::Auto,
            (Self::Prediction, KnobValue::Switch(on)) => s.predict = on,
            (Self::Reconciliation, KnobValue::Switch(on)) => s.reconcile = on,
            (Self::Interpolation, KnobValue::Switch(on)) => s.interpolate = on,
            (_, KnobValue::Number(x)) if x.is_finite() => {
                let x = self.held(x);
                match self {
                    Self::Latency => (of.up.latency_ms, of.down.latency_ms) = (x, x),
                    Self::Jitter => (of.up.jitter_ms, of.down.jitter_ms) = (x, x),
                    Self::Loss => (of.up.loss, of.down.loss) = (x / 100.0, x / 100.0),
                    Self::Repeats => s.repeats = x as u8,
                    Self::SnapshotEvery => of.snapshot_every = x as u8,
                    Self::ViewDelay => s.view_delay = ViewDelay::Millis(x as u32),
                    Self::Ease => s.ease_ms = x as u32,
                    Self::Prediction | Self::Reconciliation | Self::Interpolation => {}
                }
            }
            _ => {}
        }
    }

    fn held(self, x: f64) -> f64 {
        match self.spec().range {
            Range::Steps(steps) | Range::AutoOr(steps) => x.clamp(steps[0], steps[steps.len() - 1]),
            Range::Switch => x,
        }
    }

    /// The value one notch up or down from `value`; the same at the end of the range.
    pub fn turned(self, value: KnobValue, up: bool) -> KnobValue {
        match (self.spec().range, value) {
            (Range::Switch, KnobValue::Switch(on)) => KnobValue::Switch(!on),
            (Range::AutoOr(steps), KnobValue::Auto) if up => KnobValue::Number(steps[0]),
            (Range::Steps(steps) | Range::AutoOr(steps), KnobValue::Number(x)) => {
                let next = if up {
                    steps.iter().copied().find(|&s| s > x + 1e-9)
                } else {
                    steps.iter().copied().rev().find(|&s| s < x - 1e-9)
                };
                match next {
                    Some(step) => KnobValue::Number(step),
                    None if !up && matches!(self.spec().range, Range::AutoOr(_)) => KnobValue::Auto,
                    None => value,
                }
            }
            _ => value,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const START: Knobs = Knobs {
        up: Conditions::PERFECT,
        down: Conditions::PERFECT,
        settings: ClientSettings::DEFAULT,
        snapshot_every: 3,
    };

    #[test]
    fn the_table_is_in_the_order_of_the_knobs_and_each_turns_both_ways_and_holds() {
        for (i, spec) in KNOBS.iter().enumerate() {
            assert_eq!(spec.knob as usize, i);
            for up in [true, false] {
                let mut knobs = START;
                for _ in 0..100 {
                    let value = spec.knob.turned(spec.knob.get(&knobs), up);
                    spec.knob.set(&mut knobs, value);
                    assert_eq!(spec.knob.get(&knobs), value, "{}", spec.name);
                }
            }
            let mut turned = START;
            let value = spec.knob.turned(spec.knob.get(&START), true);
            spec.knob.set(&mut turned, value);
            assert_ne!(turned, START, "{}", spec.name);
        }
    }

    #[test]
    fn nonsense_changes_nothing_dangerous() {
        let mut knobs = START;
        Knob::Repeats.set(&mut knobs, KnobValue::Number(9e9));
        assert_eq!(knobs.settings.repeats, 16);
        Knob::SnapshotEvery.set(&mut knobs, KnobValue::Number(-3.0));
        assert_eq!(knobs.snapshot_every, 1);
        Knob::Latency.set(&mut knobs, KnobValue::Number(f64::NAN));
        assert_eq!(knobs.up.latency_ms, 0.0);
    }
}
