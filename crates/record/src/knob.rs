//! What a knob is: what it is set to, how it is turned, and what it acts on.

use serde::{Deserialize, Serialize};
use velocitas_core::{ClientSettings, PlayerSettings};

use crate::choice::Choice;
use crate::conditions::Conditions;

/// What a knob is set to.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub enum KnobValue {
    /// A number in the knob's unit.
    Number(f64),
    /// Left to the machine.
    Auto,
    /// On or off.
    Switch(bool),
    /// One way among several, by its place.
    Choice(u8),
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
    /// One of these.
    Choice(&'static [Choice]),
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
    /// Of a choice the first way alone: the others are cheaper or simpler, never better.
    First,
    /// Nothing: it says how another setting acts, or takes from one thing what it gives to another.
    Nothing,
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
    /// Something that is done in one way among several, by its place; what has no place changes nothing.
    Choice {
        /// What it is.
        get: fn(&Knobs) -> u8,
        /// Changes it.
        set: fn(&mut Knobs, u8),
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
            (Self::Choice { set, .. }, KnobValue::Choice(place)) => set(of, place),
            _ => {}
        }
    }
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
    /// What the server does for its player.
    pub served: PlayerSettings,
}

impl Knobs {
    /// The default settings over a perfect link.
    pub const USUAL: Self = Self {
        up: Conditions::PERFECT,
        down: Conditions::PERFECT,
        settings: ClientSettings::DEFAULT,
        served: PlayerSettings::DEFAULT,
    };
}
