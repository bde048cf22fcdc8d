//! Spells: stretches of time in which something holds, that come and go by chance.
//!
//! A two-state process in time: the pauses between spells are exponential, and so is how long a spell lasts unless it always
//! lasts the same. Which number a spell has decides its luck, so one knob turned leaves all other luck as it was.

use velocitas_record::time::LabTime;

use crate::chance::{Chance, Purpose};

/// How spells come and go.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Often {
    /// How many a minute, on average.
    pub(crate) per_minute: f64,
    /// How long each, on average.
    pub(crate) lasts_ms: f64,
    /// Whether each lasts just that.
    pub(crate) even: bool,
}

/// Nothing is shorter: time goes on.
const LEAST_MS: f64 = 1.0;

/// A process on its way.
#[derive(Clone, Debug)]
pub(crate) struct Spells {
    /// Which book of luck.
    kind: u32,
    number: u64,
    now_on: bool,
    until: LabTime,
    of: Option<Often>,
}

impl Spells {
    pub(crate) const fn new(kind: u32) -> Self {
        Self { kind, number: 0, now_on: false, until: LabTime::ZERO, of: None }
    }

    /// Whether a spell is on at `now`, which never goes back. Spells with other settings than before begin with a pause.
    pub(crate) fn is_on(&mut self, (seed, place): (u64, u32), often: Often, now: LabTime) -> bool {
        if often.per_minute <= 0.0 || often.lasts_ms <= 0.0 {
            self.of = None;
            return false;
        }
        if self.of != Some(often) {
            *self = Self { now_on: true, until: now, of: Some(often), ..self.clone() };
        }
        while self.until <= now {
            self.now_on = !self.now_on;
            let mean = if self.now_on { often.lasts_ms } else { 60_000.0 / often.per_minute - often.lasts_ms };
            let luck = Chance::of(seed, Purpose::Spells, place, self.kind, self.number).uniform();
            self.number += 1;
            let stretch = if self.now_on && often.even { 1.0 } else { -libm::log(1.0 - luck) };
            self.until = self.until.plus(LabTime::from_millis((mean * stretch).max(LEAST_MS)));
        }
        self.now_on
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The share of an hour that is on, how often it began, and the longest it lasted, in milliseconds.
    fn hour(often: Often, seed: u64) -> (f64, u32, f64) {
        let mut spells = Spells::new(0);
        let (mut on, mut begun, mut longest, mut since, mut before) = (0u32, 0, 0.0f64, 0, false);
        for ms in 0..3_600_000u32 {
            let is = spells.is_on((seed, 3), often, LabTime::from_millis(f64::from(ms)));
            on += u32::from(is);
            if is && !before {
                (begun, since) = (begun + 1, ms);
            }
            if is {
                longest = longest.max(f64::from(ms - since + 1));
            }
            before = is;
        }
        (f64::from(on) / 3_600_000.0, begun, longest)
    }

    #[test]
    fn they_come_as_often_and_last_as_long_as_said() {
        let bursts = Often { per_minute: 6.0, lasts_ms: 400.0, even: false };
        let (share, begun, longest) = hour(bursts, 7);
        assert!((share - 0.04).abs() < 0.008, "six of 400 ms a minute: {share}");
        assert!((310..410).contains(&begun), "{begun} in an hour");
        assert!(longest > 1200.0, "some last much longer: {longest}");
        let outages = Often { even: true, ..bursts };
        let (share, _, longest) = hour(outages, 7);
        assert!((share - 0.04).abs() < 0.008 && (399.0..=401.0).contains(&longest), "{share} {longest}");
        assert_ne!(hour(bursts, 8).1, begun, "another seed, other spells");
    }

    #[test]
    fn none_come_where_none_are_asked_for_and_more_than_there_is_time_for_are_always_on() {
        assert_eq!(hour(Often { per_minute: 0.0, lasts_ms: 400.0, even: false }, 7).1, 0);
        assert!(hour(Often { per_minute: 60.0, lasts_ms: 5000.0, even: true }, 7).0 > 0.99);
    }
}
