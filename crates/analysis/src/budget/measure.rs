//! The table of what a budget can bound: how each is written, which figures it is had from, and where to look.

use velocitas_record::quantity::Takes;
use velocitas_record::role::Role;
use velocitas_record::time::LabTime;

use crate::metrics::{ClientMetrics, Moments};

/// On which side of its bound a measure is good.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bound {
    /// It may be at most the value.
    Most,
    /// It must be at least the value.
    Least,
}

impl Bound {
    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Most => "at most",
            Self::Least => "at least",
        }
    }

    /// By how much a value is worse than another; below nothing where it is better.
    pub fn worse_by(self, is: f64, was: f64) -> f64 {
        match self {
            Self::Most => is - was,
            Self::Least => was - is,
        }
    }
}

/// Of whom something can be asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Whose {
    /// Of everybody; of rogues only where they are named.
    All,
    /// Of those who do not cheat.
    Honest,
    /// Of those who do.
    Rogues,
}

/// What a budget can bound.
#[derive(Clone, Copy, Debug)]
pub struct Measure {
    /// Its key in a budget.
    pub key: &'static str,
    /// As people read it.
    pub name: &'static str,
    /// How a course writes it.
    pub takes: Takes,
    /// The unit that it is kept and shown in; shares are kept from 0 to 1 and shown in per cent.
    pub unit: &'static str,
    /// Which side of the bound is good.
    pub bound: Bound,
    /// Of whom it can be asked.
    pub whose: Whose,
    /// What it is, with the keys of the report that it is had from.
    pub help: &'static str,
    /// The moment at which to look when it is not as it should be.
    pub look: &'static str,
    /// Changes up to this are none when reports are held against each other.
    pub grain: f64,
    /// Its value; `None` where there was nothing to measure.
    pub get: fn(&ClientMetrics) -> Option<f64>,
    /// When to look.
    pub when: fn(&Moments) -> Option<LabTime>,
}

impl PartialEq for Measure {
    fn eq(&self, other: &Self) -> bool {
        self.key == other.key
    }
}

impl Measure {
    /// By its key.
    pub fn named(key: &str) -> Option<&'static Self> {
        MEASURES.iter().find(|measure| measure.key == key)
    }

    /// Whether a value is within a bound. What floats of figures lose is no breach.
    pub fn is_within(&self, value: f64, limit: f64) -> bool {
        self.bound.worse_by(value, limit) <= limit.abs() * 1e-9
    }

    /// Whether it can be asked of a member of the cast.
    pub fn suits(&self, role: Role) -> bool {
        match self.whose {
            Whose::All => true,
            Whose::Honest => role != Role::Rogue,
            Whose::Rogues => role == Role::Rogue,
        }
    }

    /// A value with its unit, as people read it.
    pub fn shown(&self, value: f64) -> String {
        match self.takes {
            Takes::Share => format!("{} %", short(value * 100.0)),
            Takes::Length if value.abs() < 1.0 => format!("{} cm", short(value * 100.0)),
            Takes::Flow if value.abs() >= 1000.0 => format!("{} kB/s", short(value / 1000.0)),
            _ if self.unit.is_empty() => short(value),
            _ => format!("{} {}", short(value), self.unit),
        }
    }
}

/// Three digits at least, and no zeros behind the point.
fn short(value: f64) -> String {
    let decimals = match value.abs() {
        x if x >= 100.0 => 0,
        x if x >= 10.0 => 1,
        x if x >= 1.0 => 2,
        _ => 3,
    };
    let text = format!("{value:.decimals$}");
    if !text.contains('.') {
        return text;
    }
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// A number a minute, over the time for which its program ran.
fn a_minute(count: u32, m: &ClientMetrics) -> Option<f64> {
    a_second(f64::from(count), m).map(|rate| rate * 60.0)
}

fn a_second(much: f64, m: &ClientMetrics) -> Option<f64> {
    (m.joining.there_ms > 0.0).then(|| much / m.joining.there_ms * 1000.0)
}

/// The table, in the order in which it is reported.
pub static MEASURES: &[Measure] = &[
    Measure {
        key: "corrections",
        name: "corrections a minute",
        takes: Takes::Often,
        unit: "/min",
        bound: Bound::Most,
        whose: Whose::All,
        help: "corrections.count, for each minute of joining.there_ms",
        look: "the second with the most corrections",
        grain: 1.0,
        get: |m| a_minute(m.corrections.count, m),
        when: |m| m.corrections.busiest(),
    },
    Measure {
        key: "largest_jump",
        name: "largest jump",
        takes: Takes::Length,
        unit: "m",
        bound: Bound::Most,
        whose: Whose::All,
        help: "corrections.max_m, before easing; nothing where it was never corrected",
        look: "that jump",
        grain: 0.01,
        get: |m| Some(m.corrections.max_m.unwrap_or(0.0)),
        when: |m| m.jump.at(),
    },
    Measure {
        key: "unexplained",
        name: "unexplained corrections",
        takes: Takes::Whole,
        unit: "",
        bound: Bound::Most,
        whose: Whose::All,
        help: "corrections.unexplained",
        look: "the first of them",
        grain: 0.0,
        get: |m| Some(f64::from(m.corrections.unexplained)),
        when: |m| m.unexplained.at(),
    },
    Measure {
        key: "roughness",
        name: "roughness of others",
        takes: Takes::Speed,
        unit: "m/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "others.roughness_mps.p95",
        look: "the roughest second",
        grain: 0.02,
        get: |m| m.others.roughness_mps.p95,
        when: |m| m.others.roughness.at(),
    },
    Measure {
        key: "own_roughness",
        name: "roughness of its own",
        takes: Takes::Speed,
        unit: "m/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "own.roughness_mps.p95",
        look: "the roughest second",
        grain: 0.02,
        get: |m| m.own.roughness_mps.p95,
        when: |m| m.own.roughness.at(),
    },
    Measure {
        key: "judder",
        name: "judder of others",
        takes: Takes::Speed,
        unit: "m/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "others.judder_mps.p95",
        look: "the second in which it moved most unevenly",
        grain: 0.02,
        get: |m| m.others.judder_mps.p95,
        when: |m| m.others.judder.at(),
    },
    Measure {
        key: "own_judder",
        name: "judder of its own",
        takes: Takes::Speed,
        unit: "m/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "own.judder_mps.p95",
        look: "the second in which it moved most unevenly",
        grain: 0.02,
        get: |m| m.own.judder_mps.p95,
        when: |m| m.own.judder.at(),
    },
    Measure {
        key: "drawn_error",
        name: "drawn error of others",
        takes: Takes::Length,
        unit: "m",
        bound: Bound::Most,
        whose: Whose::All,
        help: "others.drawn_error_m.p95",
        look: "the second with the largest",
        grain: 0.005,
        get: |m| m.others.drawn_error_m.p95,
        when: |m| m.others.drawn_error.at(),
    },
    Measure {
        key: "own_drawn_error",
        name: "drawn error of its own",
        takes: Takes::Length,
        unit: "m",
        bound: Bound::Most,
        whose: Whose::All,
        help: "own.drawn_error_m.p95",
        look: "the second with the largest",
        grain: 0.005,
        get: |m| m.own.drawn_error_m.p95,
        when: |m| m.own.drawn_error.at(),
    },
    Measure {
        key: "hops",
        name: "hops of others a minute",
        takes: Takes::Often,
        unit: "/min",
        bound: Bound::Most,
        whose: Whose::All,
        help: "others.hops_per_min",
        look: "the second with the most of them",
        grain: 1.0,
        get: |m| m.others.hops_per_min,
        when: |m| m.others.hops.busiest(),
    },
    Measure {
        key: "own_hops",
        name: "hops of the own character a minute",
        takes: Takes::Often,
        unit: "/min",
        bound: Bound::Most,
        whose: Whose::All,
        help: "own.hops_per_min",
        look: "the second with the most of them",
        grain: 1.0,
        get: |m| m.own.hops_per_min,
        when: |m| m.own.hops.busiest(),
    },
    Measure {
        key: "flickers",
        name: "flickers of others a minute",
        takes: Takes::Often,
        unit: "/min",
        bound: Bound::Most,
        whose: Whose::All,
        help: "others.flickers_per_min",
        look: "the second in which others moved most unevenly",
        grain: 1.0,
        get: |m| m.others.flickers_per_min,
        when: |m| m.others.judder.at(),
    },
    Measure {
        key: "camera_judder",
        name: "judder of the camera",
        takes: Takes::Speed,
        unit: "m/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "camera_judder_mps.p95",
        look: "the second in which the own character moved most unevenly",
        grain: 0.02,
        get: |m| m.camera_judder_mps.p95,
        when: |m| m.own.judder.at(),
    },
    Measure {
        key: "echoes_apart",
        name: "largest distance of the echoes",
        takes: Takes::Length,
        unit: "m",
        bound: Bound::Most,
        whose: Whose::All,
        help: "echo.apart_m.max, of the server's two; nothing where others are sent what the server has",
        look: "the second in which the own character was furthest from where it should have been",
        grain: 0.01,
        get: |m| m.echo.apart_m.max,
        when: |m| m.own.drawn_error.at(),
    },
    Measure {
        key: "ahead",
        name: "ahead of the server",
        takes: Takes::Time,
        unit: "ms",
        bound: Bound::Most,
        whose: Whose::All,
        help: "own.lag_ms, where it is drawn before the server makes it; nothing where it is not",
        look: "the second with the greatest",
        grain: 1.0,
        get: |m| m.own.lag_ms.filter(|lag| *lag < 0.0).map(|lag| -lag),
        when: |m| m.own.lead.at(),
    },
    Measure {
        key: "view_age",
        name: "view age",
        takes: Takes::Time,
        unit: "ms",
        bound: Bound::Most,
        whose: Whose::All,
        help: "view_age_ms.p95",
        look: "the second with the greatest",
        grain: 1.0,
        get: |m| m.view_age_ms.p95,
        when: |m| m.others.age.at(),
    },
    Measure {
        key: "response",
        name: "response",
        takes: Takes::Time,
        unit: "ms",
        bound: Bound::Most,
        whose: Whose::All,
        help: "response_ms",
        look: "the press that took longest",
        grain: 1.0,
        get: |m| m.response_ms,
        when: |m| m.response.at(),
    },
    Measure {
        key: "seen_by_others",
        name: "seen by others after",
        takes: Takes::Time,
        unit: "ms",
        bound: Bound::Most,
        whose: Whose::All,
        help: "seen_ms.p95, from a press to another's screen",
        look: "the press that took longest",
        grain: 1.0,
        get: |m| m.seen_ms.p95,
        when: |m| m.seen.at(),
    },
    Measure {
        key: "extrapolated",
        name: "frames past the newest state",
        takes: Takes::Share,
        unit: "%",
        bound: Bound::Most,
        whose: Whose::All,
        help: "extrapolated_share",
        look: "the second with the most of them",
        grain: 0.001,
        get: |m| m.extrapolated_share,
        when: |m| m.extrapolated.busiest(),
    },
    Measure {
        key: "stalled",
        name: "frames in which others stall",
        takes: Takes::Share,
        unit: "%",
        bound: Bound::Most,
        whose: Whose::All,
        help: "held_share: drawn past the limit of extrapolation, so they stand still",
        look: "the second with the most of them",
        grain: 0.001,
        get: |m| m.held_share,
        when: |m| m.held.busiest(),
    },
    Measure {
        key: "bytes_up",
        name: "bytes up",
        takes: Takes::Flow,
        unit: "B/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "bytes_up (payload), for each second of joining.there_ms",
        look: "the second with the most",
        grain: 1.0,
        get: |m| a_second(m.bytes_up as f64, m),
        when: |m| m.up.busiest(),
    },
    Measure {
        key: "bytes_down",
        name: "bytes down",
        takes: Takes::Flow,
        unit: "B/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "bytes_down (payload), for each second of joining.there_ms",
        look: "the second with the most",
        grain: 1.0,
        get: |m| a_second(m.bytes_down as f64, m),
        when: |m| m.down.busiest(),
    },
    Measure {
        key: "udp_up",
        name: "bytes up on the wire",
        takes: Takes::Flow,
        unit: "B/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "bytes_up_udp (28 bytes a datagram for IPv4 and UDP), for each second of joining.there_ms",
        look: "the second with the most",
        grain: 1.0,
        get: |m| a_second(m.bytes_up_udp as f64, m),
        when: |m| m.up.busiest(),
    },
    Measure {
        key: "udp_down",
        name: "bytes down on the wire",
        takes: Takes::Flow,
        unit: "B/s",
        bound: Bound::Most,
        whose: Whose::All,
        help: "bytes_down_udp (28 bytes a datagram for IPv4 and UDP), for each second of joining.there_ms",
        look: "the second with the most",
        grain: 1.0,
        get: |m| a_second(m.bytes_down_udp as f64, m),
        when: |m| m.down.busiest(),
    },
    Measure {
        key: "late",
        name: "late inputs",
        takes: Takes::Share,
        unit: "%",
        bound: Bound::Most,
        whose: Whose::All,
        help: "inputs.late, as a share of inputs.sampled",
        look: "the second with the most of them",
        grain: 0.001,
        get: |m| (m.inputs.sampled > 0).then(|| f64::from(m.inputs.late) / f64::from(m.inputs.sampled)),
        when: |m| m.late.busiest(),
    },
    Measure {
        key: "verdicts",
        name: "verdicts on the honest",
        takes: Takes::Whole,
        unit: "",
        bound: Bound::Most,
        whose: Whose::Honest,
        help: "verdicts, of whatever rule",
        look: "the first of them",
        grain: 0.0,
        get: |m| Some(f64::from(m.verdicts.values().sum::<u32>())),
        when: |m| m.verdict.at(),
    },
    Measure {
        key: "tricks_answered",
        name: "tricks answered",
        takes: Takes::Share,
        unit: "%",
        bound: Bound::Least,
        whose: Whose::Rogues,
        help: "tricks_answered, as a share of tricks less tricks_idle",
        look: "the begin of the first that was not",
        grain: 0.0,
        get: |m| {
            let tricks = m.tricks?.saturating_sub(m.tricks_idle.unwrap_or(0));
            (tricks > 0).then(|| f64::from(m.tricks_answered.unwrap_or(0)) / f64::from(tricks))
        },
        when: |m| m.trick.at(),
    },
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_shown_with_their_unit_and_no_more_digits_than_they_need() {
        let shown = |key: &str, x: f64| Measure::named(key).map(|measure| measure.shown(x)).unwrap_or_default();
        assert_eq!(shown("largest_jump", 0.4), "40 cm");
        assert_eq!(shown("largest_jump", 12.345), "12.3 m");
        assert_eq!(shown("bytes_up", 8999.6), "9 kB/s");
        assert_eq!(shown("bytes_down", 640.0), "640 B/s");
        assert_eq!(shown("late", 0.0125), "1.25 %");
        assert_eq!(shown("verdicts", 100.0), "100");
        assert_eq!(shown("response", 33.333), "33.3 ms");
        assert_eq!(shown("corrections", 0.0), "0 /min");
    }

    #[test]
    fn what_is_on_the_bound_is_within_it() {
        let [most, least] = ["response", "tricks_answered"].map(|key| Measure::named(key).expect("a row"));
        assert!(most.is_within(40.0, 40.0) && !most.is_within(40.1, 40.0));
        assert!(least.is_within(1.0, 1.0) && !least.is_within(0.99, 1.0));
    }
}
