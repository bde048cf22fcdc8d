//! Everything that a link or a client can be set to, in one table: screens, courses, their schema and help read it.

use serde::{Deserialize, Serialize};
use velocitas_core::{ClientSettings, MAX_REPEATS, Missing, Redundancy, ViewDelay};

use crate::choice::{Choice, MISSING, REDUNDANCY, listed};
use crate::conditions::Conditions;
use crate::knob::{Accessor, KnobValue, Knobs, Range, Sound};
use crate::quantity::{Takes, measured};

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
    /// What a tick is made with whose input has not come.
    Missing,
    /// Ticks from message to message up.
    SendEvery,
    /// How many ticks a message up covers.
    Redundancy,
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

const MILLIS: &[f64] = &[
    0.0, 5.0, 10.0, 15.0, 20.0, 25.0, 30.0, 40.0, 50.0, 60.0, 75.0, 100.0, 125.0, 150.0, 200.0, 250.0, 300.0, 400.0,
    500.0, 750.0, 1000.0,
];
const SPREAD: &[f64] = &[0.0, 1.0, 2.0, 3.0, 5.0, 7.0, 10.0, 15.0, 20.0, 30.0, 40.0, 60.0, 80.0, 100.0, 150.0, 200.0];
const SHARE: &[f64] = &[0.0, 0.5, 1.0, 2.0, 3.0, 5.0, 7.5, 10.0, 15.0, 20.0, 30.0, 40.0, 50.0, 75.0, 100.0];
const TICKS: &[f64] = &[1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 12.0, 15.0, 20.0, 30.0, 60.0];
const REPEATS: &[f64] = &[1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 12.0, MAX_REPEATS as f64];
const SENT: &[f64] = &[1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0];
const METRES: &[f64] = &[0.0, 0.25, 0.5, 1.0, 2.0, 3.0, 5.0, 10.0, 20.0, 50.0, 100.0];
const SPELL: &[f64] = &[
    0.0, 50.0, 100.0, 150.0, 200.0, 300.0, 400.0, 600.0, 800.0, 1000.0, 1200.0, 1500.0, 2000.0, 3000.0, 5000.0,
    10_000.0, 30_000.0,
];
const OFTEN: &[f64] = &[0.0, 0.2, 0.5, 1.0, 2.0, 4.0, 6.0, 10.0, 20.0, 30.0, 60.0];
const KILOBITS: &[f64] =
    &[0.0, 8.0, 16.0, 24.0, 32.0, 48.0, 64.0, 96.0, 128.0, 256.0, 512.0, 1000.0, 10_000.0, 1_000_000.0];
const KILOBYTES: &[f64] = &[0.0, 1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 64.0, 128.0, 256.0, 1000.0, 10_000.0];
const EXTRA: &[f64] = &[0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0];
/// No delay of a client is longer, in milliseconds.
const LONGEST: f64 = 5000.0;

/// The table.
pub static SETTINGS: [KnobSpec; 28] = [
    KnobSpec {
        knob: Knob::Latency,
        name: "latency, one way",
        unit: "ms",
        range: Range::Steps(MILLIS),
        help: "mean delay in each direction; with prediction off it is felt twice before anything moves",
        key: "latency",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.latency_ms, set: |c, x| c.latency_ms = x },
    },
    KnobSpec {
        knob: Knob::Jitter,
        name: "jitter \u{3c3}, one way",
        unit: "ms",
        range: Range::Steps(SPREAD),
        help: "spread of the delay; widens the lead and the view delay",
        key: "jitter",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.jitter_ms, set: |c, x| c.jitter_ms = x },
    },
    KnobSpec {
        knob: Knob::Loss,
        name: "loss, one way",
        unit: "%",
        range: Range::Steps(SHARE),
        help: "datagrams lost in each direction; repeats cover it for inputs",
        key: "loss",
        takes: Takes::Share,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.loss, set: |c, x| c.loss = x },
    },
    KnobSpec {
        knob: Knob::Repeats,
        name: "ticks per message",
        unit: "",
        range: Range::Steps(REPEATS),
        help: "ticks whose inputs each message carries; more cost bytes and survive loss",
        key: "ticks_per_message",
        takes: Takes::Whole,
        sound: Sound::Up,
        accessor: Accessor::Number { get: |k| f64::from(k.settings.repeats), set: |k, x| k.settings.repeats = x as u8 },
    },
    KnobSpec {
        knob: Knob::SnapshotEvery,
        name: "snapshot every",
        unit: "tick",
        range: Range::Steps(TICKS),
        help: "ticks between snapshots to this client; fewer bytes, a longer view delay",
        key: "snapshot_every",
        takes: Takes::Whole,
        sound: Sound::Down,
        accessor: Accessor::Number {
            get: |k| f64::from(k.served.snapshot_every),
            set: |k, x| k.served.snapshot_every = x as u8,
        },
    },
    KnobSpec {
        knob: Knob::ViewDelay,
        name: "view delay",
        unit: "ms",
        range: Range::AutoOr(MILLIS),
        help: "how far behind arrivals remotes are drawn; auto is two snapshot intervals + 2 \u{3c3}",
        key: "view_delay",
        takes: Takes::TimeOrAuto,
        sound: Sound::Usual,
        accessor: Accessor::NumberOrAuto {
            get: |k| match k.settings.view_delay {
                ViewDelay::Auto => None,
                ViewDelay::Millis(ms) => Some(f64::from(ms)),
            },
            set: |k, x| k.settings.view_delay = x.map_or(ViewDelay::Auto, |x| ViewDelay::Millis(x.min(LONGEST) as u32)),
        },
    },
    KnobSpec {
        knob: Knob::Ease,
        name: "ease corrections",
        unit: "ms",
        range: Range::Steps(MILLIS),
        help: "a correction fades in over this time; 0 shows it at once",
        key: "ease",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Number {
            get: |k| f64::from(k.settings.ease_ms),
            set: |k, x| k.settings.ease_ms = x.min(LONGEST) as u32,
        },
    },
    KnobSpec {
        knob: Knob::Prediction,
        name: "prediction",
        unit: "",
        range: Range::Switch,
        help: "off: the own character waits for the server like everybody else",
        key: "prediction",
        takes: Takes::Switch,
        sound: Sound::Usual,
        accessor: Accessor::Switch { get: |k| k.settings.predict, set: |k, on| k.settings.predict = on },
    },
    KnobSpec {
        knob: Knob::Reconciliation,
        name: "reconciliation",
        unit: "",
        range: Range::Switch,
        help: "off: predictions are never restored to what the server says",
        key: "reconciliation",
        takes: Takes::Switch,
        sound: Sound::Usual,
        accessor: Accessor::Switch { get: |k| k.settings.reconcile, set: |k, on| k.settings.reconcile = on },
    },
    KnobSpec {
        knob: Knob::Interpolation,
        name: "interpolation",
        unit: "",
        range: Range::Switch,
        help: "off: remotes jump to the newest snapshot as it arrives",
        key: "interpolation",
        takes: Takes::Switch,
        sound: Sound::Usual,
        accessor: Accessor::Switch { get: |k| k.settings.interpolate, set: |k, on| k.settings.interpolate = on },
    },
    KnobSpec {
        knob: Knob::Correlation,
        name: "delay alike for",
        unit: "ms",
        range: Range::Steps(MILLIS),
        help: "how long the delay stays alike",
        key: "correlation",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.correlation_ms, set: |c, x| c.correlation_ms = x },
    },
    KnobSpec {
        knob: Knob::Duplication,
        name: "duplication, one way",
        unit: "%",
        range: Range::Steps(SHARE),
        help: "datagrams that arrive twice",
        key: "duplication",
        takes: Takes::Share,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.duplication, set: |c, x| c.duplication = x },
    },
    KnobSpec {
        knob: Knob::Reordering,
        name: "reordering, one way",
        unit: "%",
        range: Range::Steps(SHARE),
        help: "datagrams held back so that later ones pass",
        key: "reordering",
        takes: Takes::Share,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.reordering, set: |c, x| c.reordering = x },
    },
    KnobSpec {
        knob: Knob::Bunch,
        name: "bunches, one way",
        unit: "ms",
        range: Range::Steps(MILLIS),
        help: "datagrams arrive together at gates this far apart",
        key: "bunch",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.bunch_ms, set: |c, x| c.bunch_ms = x },
    },
    KnobSpec {
        knob: Knob::Snap,
        name: "snap beyond",
        unit: "m",
        range: Range::Steps(METRES),
        help: "corrections larger than this are shown at once",
        key: "snap",
        takes: Takes::Length,
        sound: Sound::Usual,
        accessor: Accessor::Number { get: |k| f64::from(k.settings.snap_m), set: |k, x| k.settings.snap_m = x as f32 },
    },
    KnobSpec {
        knob: Knob::Extrapolate,
        name: "run on for",
        unit: "ms",
        range: Range::Steps(MILLIS),
        help: "how long remotes run on without data, then they stand",
        key: "extrapolate",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Number {
            get: |k| f64::from(k.settings.extrapolate_ms),
            set: |k, x| k.settings.extrapolate_ms = x.min(LONGEST) as u32,
        },
    },
    KnobSpec {
        knob: Knob::BetweenTicks,
        name: "draw between ticks",
        unit: "",
        range: Range::Switch,
        help: "off: the own character is drawn at its newest tick, so it steps where frames and ticks are out of step",
        key: "between_ticks",
        takes: Takes::Switch,
        sound: Sound::Usual,
        accessor: Accessor::Switch { get: |k| k.settings.between_ticks, set: |k, on| k.settings.between_ticks = on },
    },
    KnobSpec {
        knob: Knob::Bursts,
        name: "bursts of loss",
        unit: "/min",
        range: Range::Steps(OFTEN),
        help: "bursts of loss a minute, on average",
        key: "bursts",
        takes: Takes::Often,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.bursts, set: |c, x| c.bursts = x },
    },
    KnobSpec {
        knob: Knob::Burst,
        name: "a burst lasts",
        unit: "ms",
        range: Range::Steps(SPELL),
        help: "how long a burst of loss lasts on average; one in twenty lasts three times as long",
        key: "burst",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.burst_ms, set: |c, x| c.burst_ms = x },
    },
    KnobSpec {
        knob: Knob::BurstLoss,
        name: "loss in a burst",
        unit: "%",
        range: Range::Steps(SHARE),
        help: "datagrams lost while a burst lasts",
        key: "burst_loss",
        takes: Takes::Share,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.burst_loss, set: |c, x| c.burst_loss = x },
    },
    KnobSpec {
        knob: Knob::Outages,
        name: "outages",
        unit: "/min",
        range: Range::Steps(OFTEN),
        help: "outages a minute, on average: nothing gets through",
        key: "outages",
        takes: Takes::Often,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.outages, set: |c, x| c.outages = x },
    },
    KnobSpec {
        knob: Knob::Outage,
        name: "an outage lasts",
        unit: "ms",
        range: Range::Steps(SPELL),
        help: "how long nothing gets through",
        key: "outage",
        takes: Takes::Time,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.outage_ms, set: |c, x| c.outage_ms = x },
    },
    KnobSpec {
        knob: Knob::Bandwidth,
        name: "bandwidth, 0: all",
        unit: "kbit/s",
        range: Range::Steps(KILOBITS),
        help: "what gets through in each direction, with 28 bytes of headers a datagram; 0 for all",
        key: "bandwidth",
        takes: Takes::Bandwidth,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.bandwidth, set: |c, x| c.bandwidth = x },
    },
    KnobSpec {
        knob: Knob::Queue,
        name: "queue",
        unit: "kB",
        range: Range::Steps(KILOBYTES),
        help: "what waits for the bandwidth at most, and is late; more is dropped",
        key: "queue",
        takes: Takes::Size,
        sound: Sound::Usual,
        accessor: Accessor::Link { get: |c| c.queue, set: |c, x| c.queue = x },
    },
    KnobSpec {
        knob: Knob::Lead,
        name: "extra lead",
        unit: "tick",
        range: Range::Steps(EXTRA),
        help: "ticks by which inputs arrive earlier than they need to: fewer are late, and the present is further ahead",
        key: "extra_lead",
        takes: Takes::Whole,
        sound: Sound::Up,
        accessor: Accessor::Number {
            get: |k| f64::from(k.settings.extra_lead),
            set: |k, x| k.settings.extra_lead = x as u8,
        },
    },
    KnobSpec {
        knob: Knob::Missing,
        name: "missing inputs",
        unit: "",
        range: Range::Choice(&MISSING),
        help: "what the server makes a tick with whose input has not come",
        key: "missing",
        takes: Takes::Choice,
        sound: Sound::Usual,
        accessor: Accessor::Choice {
            get: |k| place_of(&Missing::ALL, &k.served.missing),
            set: |k, place| k.served.missing = at(&Missing::ALL, place, k.served.missing),
        },
    },
    KnobSpec {
        knob: Knob::SendEvery,
        name: "send every",
        unit: "tick",
        range: Range::Steps(SENT),
        help: "ticks between messages up: fewer bytes and a longer lead; each covers at least that many ticks",
        key: "send_every",
        takes: Takes::Whole,
        sound: Sound::Down,
        accessor: Accessor::Number {
            get: |k| f64::from(k.settings.send_every),
            set: |k, x| k.settings.send_every = x as u8,
        },
    },
    KnobSpec {
        knob: Knob::Redundancy,
        name: "redundancy",
        unit: "",
        range: Range::Choice(&REDUNDANCY),
        help: "how many ticks a message up covers: a fixed number, or what the losses of the last ten seconds ask for",
        key: "redundancy",
        takes: Takes::Choice,
        sound: Sound::Usual,
        accessor: Accessor::Choice {
            get: |k| place_of(&Redundancy::ALL, &k.settings.redundancy),
            set: |k, place| k.settings.redundancy = at(&Redundancy::ALL, place, k.settings.redundancy),
        },
    },
];

/// The place of one way among all.
fn place_of<T: PartialEq>(all: &[T], one: &T) -> u8 {
    all.iter().position(|it| it == one).unwrap_or_default() as u8
}

/// The way at a place; where there is none, the one so far.
fn at<T: Copy>(all: &[T], place: u8, so_far: T) -> T {
    all.get(usize::from(place)).copied().unwrap_or(so_far)
}

/// All of them can be turned while a run goes on; what is turned most comes first.
pub static KNOBS: &[KnobSpec] = &SETTINGS;

impl Knob {
    /// Its entry in the table.
    pub fn spec(self) -> &'static KnobSpec {
        &SETTINGS[self as usize]
    }

    /// What one of its units on screens is in what is kept.
    fn scale(self) -> f64 {
        if self.spec().takes == Takes::Share { 100.0 } else { 1.0 }
    }

    /// What it is set to. Where the two directions differ, the way up is shown.
    pub fn get(self, of: &Knobs) -> KnobValue {
        match self.spec().accessor {
            Accessor::Link { get, .. } => KnobValue::Number(get(&of.up) * self.scale()),
            Accessor::Number { get, .. } => KnobValue::Number(get(of)),
            Accessor::NumberOrAuto { get, .. } => get(of).map_or(KnobValue::Auto, KnobValue::Number),
            Accessor::Switch { get, .. } => KnobValue::Switch(get(of)),
            Accessor::Choice { get, .. } => KnobValue::Choice(get(of)),
        }
    }

    /// The ways among which it chooses; none where it is no choice.
    pub fn choices(self) -> &'static [Choice] {
        if let Range::Choice(choices) = self.spec().range { choices } else { &[] }
    }

    /// The way that a value stands for.
    pub fn chosen(self, value: KnobValue) -> Option<&'static Choice> {
        let KnobValue::Choice(place) = value else { return None };
        self.choices().get(usize::from(place))
    }

    /// The value that a word stands for.
    pub fn named(self, word: &str) -> Option<KnobValue> {
        let place = self.choices().iter().position(|choice| choice.name == word)?;
        Some(KnobValue::Choice(place as u8))
    }

    /// Sets it, in both directions of a link. A value of the wrong kind changes nothing; numbers are held in range.
    pub fn set(self, of: &mut Knobs, value: KnobValue) {
        match (self.spec().accessor, value) {
            (_, KnobValue::Number(x)) if !x.is_finite() => {}
            (Accessor::Link { set, .. }, KnobValue::Number(x)) => {
                let x = self.held(x) / self.scale();
                [&mut of.up, &mut of.down].into_iter().for_each(|way| set(way, x));
            }
            (_, KnobValue::Number(x)) => self.spec().accessor.apply(of, KnobValue::Number(self.held(x))),
            (place, value) => place.apply(of, value),
        }
    }

    /// A value as somebody types it: a number in the knob's unit, or with a unit as a course writes it; `auto`, `on`, `off`; one of
    /// its choices.
    ///
    /// # Errors
    /// What was expected, in words.
    pub fn read(self, text: &str) -> Result<KnobValue, String> {
        let (spec, text) = (self.spec(), text.trim());
        let steps = match spec.range {
            Range::Switch => {
                return match text {
                    "on" | "true" => Ok(KnobValue::Switch(true)),
                    "off" | "false" => Ok(KnobValue::Switch(false)),
                    other => Err(format!("expected on or off; found `{other}`")),
                };
            }
            Range::Choice(choices) => {
                let expected = || format!("expected {}; found `{text}`", listed(choices));
                return self.named(text).ok_or_else(expected);
            }
            Range::AutoOr(_) if text == "auto" => return Ok(KnobValue::Auto),
            Range::Steps(steps) | Range::AutoOr(steps) => steps,
        };
        let x = match text.parse::<f64>() {
            Ok(x) => x,
            Err(_) => self.with_unit(text)? * self.scale(),
        };
        let (least, most) = (steps[0], steps[steps.len() - 1]);
        let whole = spec.takes == Takes::Whole && x.fract() != 0.0;
        if (least..=most).contains(&x) && !whole {
            return Ok(KnobValue::Number(x));
        }
        let what = if spec.takes == Takes::Whole { "a whole number" } else { "a number" };
        Err(format!("expected {what} from {least} to {most} {}; found {text}", spec.unit).replace(" ;", ";"))
    }

    fn with_unit(self, text: &str) -> Result<f64, String> {
        match measured(self.spec().takes, text) {
            Some(read) => read,
            None => Err(format!("expected a number; found `{text}`")),
        }
    }

    fn held(self, x: f64) -> f64 {
        match self.spec().range {
            Range::Steps(steps) | Range::AutoOr(steps) => x.clamp(steps[0], steps[steps.len() - 1]),
            Range::Switch | Range::Choice(_) => x,
        }
    }

    /// What to try as cures, each on its own: other values than now.
    pub fn cures(self, of: &Knobs) -> Vec<KnobValue> {
        let now = self.get(of);
        match self.spec().range {
            Range::Choice(choices) => {
                let sound = (0u8..).zip(choices).filter(|(_, choice)| choice.is_sound);
                sound.map(|(place, _)| KnobValue::Choice(place)).filter(|value| *value != now).collect()
            }
            _ => self.cure(of, now).into_iter().collect(),
        }
    }

    fn cure(self, of: &Knobs, now: KnobValue) -> Option<KnobValue> {
        let usual = Knobs {
            up: Conditions::PERFECT,
            down: Conditions::PERFECT,
            settings: ClientSettings::DEFAULT,
            served: of.served,
        };
        let cure = match self.spec().sound {
            Sound::Usual => self.get(&usual),
            Sound::Up => self.turned(now, true),
            Sound::Down => self.turned(now, false),
        };
        // The two directions of a link may differ, and one of them be as it should.
        let differs = |way: fn(&Knobs) -> Knobs| self.get(&way(of)) != cure;
        let down = |k: &Knobs| Knobs { up: k.down, ..*k };
        (now != cure || differs(down)).then_some(cure)
    }

    /// The value one notch up or down from `value`; the same at the end of the range.
    pub fn turned(self, value: KnobValue, up: bool) -> KnobValue {
        match (self.spec().range, value) {
            (Range::Switch, KnobValue::Switch(on)) => KnobValue::Switch(!on),
            (Range::Choice(choices), KnobValue::Choice(place)) => {
                let next = if up { place.saturating_add(1) } else { place.saturating_sub(1) };
                KnobValue::Choice(if usize::from(next) < choices.len() { next } else { place })
            }
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
    use velocitas_core::PlayerSettings;

    use super::*;

    const START: Knobs = Knobs {
        up: Conditions::PERFECT,
        down: Conditions::PERFECT,
        settings: ClientSettings::DEFAULT,
        served: PlayerSettings::DEFAULT,
    };

    #[test]
    fn the_table_is_in_the_order_of_the_knobs_and_each_turns_both_ways_and_holds() {
        for (i, spec) in SETTINGS.iter().enumerate() {
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
    fn a_row_changes_what_it_reads_and_nothing_else() {
        for spec in &SETTINGS {
            let mut turned = START;
            spec.knob.set(&mut turned, spec.knob.turned(spec.knob.get(&START), true));
            for other in SETTINGS.iter().filter(|other| other.knob != spec.knob) {
                assert_eq!(other.knob.get(&turned), other.knob.get(&START), "{} by {}", other.name, spec.name);
            }
        }
        let mut keys: Vec<&str> = SETTINGS.iter().map(|spec| spec.key).collect();
        keys.sort_unstable();
        keys.dedup();
        assert_eq!(keys.len(), SETTINGS.len(), "keys of their own");
    }

    #[test]
    fn every_knob_knows_what_to_try_as_a_cure() {
        let bad = Conditions { latency_ms: 80.0, loss: 0.1, bandwidth: 64.0, ..Conditions::PERFECT };
        let settings = ClientSettings { predict: false, ease_ms: 0, ..ClientSettings::DEFAULT };
        let knobs = Knobs { up: Conditions::PERFECT, down: bad, settings, served: PlayerSettings::DEFAULT };
        let cures: Vec<(Knob, KnobValue)> =
            SETTINGS.iter().flat_map(|s| s.knob.cures(&knobs).into_iter().map(|value| (s.knob, value))).collect();
        let number = |knob, x| (knob, KnobValue::Number(x));
        let expected = [
            number(Knob::Latency, 0.0),
            number(Knob::Loss, 0.0),
            number(Knob::Repeats, 4.0),
            number(Knob::SnapshotEvery, 2.0),
            number(Knob::Ease, 120.0),
            (Knob::Prediction, KnobValue::Switch(true)),
            number(Knob::Bandwidth, 0.0),
            number(Knob::Lead, 1.0),
            (Knob::Missing, KnobValue::Choice(1)),
            (Knob::Missing, KnobValue::Choice(2)),
            (Knob::Redundancy, KnobValue::Choice(1)),
        ];
        assert_eq!(cures, expected);
    }

    #[test]
    fn typed_values_are_read_with_their_unit_or_without_and_held_in_range() {
        let number = |knob: Knob, text: &str| match knob.read(text) {
            Ok(KnobValue::Number(x)) => x,
            other => panic!("{text}: {other:?}"),
        };
        assert_eq!(number(Knob::Latency, "75"), 75.0);
        assert_eq!(number(Knob::Latency, " 0.5 s "), 500.0);
        assert_eq!(number(Knob::Loss, "2.5"), 2.5);
        assert_eq!(number(Knob::Loss, "2.5 %"), 2.5);
        assert_eq!(number(Knob::Bandwidth, "2 Mbit/s"), 2000.0);
        assert_eq!(number(Knob::Bursts, "1 /s"), 60.0);
        assert_eq!(Knob::ViewDelay.read("auto"), Ok(KnobValue::Auto));
        assert_eq!(Knob::Prediction.read("off"), Ok(KnobValue::Switch(false)));
        let wrong = |knob: Knob, text: &str| knob.read(text).expect_err(text);
        assert_eq!(wrong(Knob::Loss, "120"), "expected a number from 0 to 100 %; found 120");
        assert_eq!(wrong(Knob::Repeats, "2.5"), "expected a whole number from 1 to 16; found 2.5");
        assert_eq!(wrong(Knob::Prediction, "1"), "expected on or off; found `1`");
        assert!(wrong(Knob::Latency, "75 m").contains("the unit must be ms, s, min"));
        assert!(wrong(Knob::Latency, "").starts_with("expected a time"));
        assert_eq!(wrong(Knob::Latency, "nan"), "expected a number from 0 to 1000 ms; found nan");
    }

    #[test]
    fn nonsense_changes_nothing_dangerous() {
        let mut knobs = START;
        Knob::Repeats.set(&mut knobs, KnobValue::Number(9e9));
        assert_eq!(knobs.settings.repeats, 16);
        Knob::SnapshotEvery.set(&mut knobs, KnobValue::Number(-3.0));
        assert_eq!(knobs.served.snapshot_every, 1);
        Knob::Latency.set(&mut knobs, KnobValue::Number(f64::NAN));
        assert_eq!(knobs.up.latency_ms, 0.0);
    }
}
