//! Everything that a link or a client can be set to, in one table: screens, courses, their schema and help read it.

use serde::{Deserialize, Serialize};
use velocitas_core::ClientSettings;

use crate::conditions::Conditions;
use crate::quantity::Takes;

/// A setting of one member of the cast or of its link.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
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
    /// How long delays are alike.
    Correlation,
    /// Datagrams that arrive twice.
    Duplication,
    /// Datagrams that are overtaken.
    Reordering,
    /// Datagrams let through together.
    Bunch,
    /// Corrections shown at once.
    Snap,
    /// How long remotes run on.
    Extrapolate,
    /// The own character drawn between ticks.
    BetweenTicks,
    /// Bursts of loss.
    Bursts,
    /// How long one lasts.
    Burst,
    /// Datagrams lost in one.
    BurstLoss,
    /// Times in which nothing gets through.
    Outages,
    /// How long one lasts.
    Outage,
    /// How much gets through.
    Bandwidth,
    /// How much waits for it.
    Queue,
    /// How much earlier inputs arrive than they need to.
    Lead,
}

/// What a knob is set to.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
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

/// What to try where something is wrong, as one change that may cure it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sound {
    /// The harmless value: a perfect link, the default of a client, a switch that is on.
    Usual,
    /// A notch more.
    Up,
    /// A notch less.
    Down,
}

/// What it is a setting of, and how that is read and changed. Shares are kept from 0 to 1.
#[derive(Clone, Copy, Debug)]
pub enum Accessor {
    /// One direction of a link.
    Link {
        /// What it is.
        get: fn(&Conditions) -> f64,
        /// Changes it.
        set: fn(&mut Conditions, f64),
    },
    /// A number of a client, or of what the server does for it.
    Number {
        /// What it is.
        get: fn(&Knobs) -> f64,
        /// Changes it.
        set: fn(&mut Knobs, f64),
    },
    /// The same, or left to the machine.
    NumberOrAuto {
        /// What it is.
        get: fn(&Knobs) -> Option<f64>,
        /// Changes it.
        set: fn(&mut Knobs, Option<f64>),
    },
    /// Something of a client that is on or off.
    Switch {
        /// What it is.
        get: fn(&Knobs) -> bool,
        /// Changes it.
        set: fn(&mut Knobs, bool),
    },
}

impl Accessor {
    /// Sets what is a client's, as it is kept; a value of the wrong kind, and one of a link, changes nothing.
    pub fn apply(self, of: &mut Knobs, value: KnobValue) {
        match (self, value) {
            (Self::Number { set, .. }, KnobValue::Number(x)) => set(of, x),
            (Self::NumberOrAuto { set, .. }, KnobValue::Number(x)) => set(of, Some(x)),
            (Self::NumberOrAuto { set, .. }, KnobValue::Auto) => set(of, None),
            (Self::Switch { set, .. }, KnobValue::Switch(on)) => set(of, on),
            _ => {}
        }
    }
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
    /// Its key in a course: of a link, or of a member's settings.
    pub key: &'static str,
    /// How a course writes it.
    pub takes: Takes,
    /// What to try as a cure.
    pub sound: Sound,
    /// What it is a setting of.
    pub accessor: Accessor,
}

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
