//! Everything that a link or a client can be set to, in one table: screens, courses, their schema and help read it.

mod group;
mod table;

pub use group::Group;
pub use table::{LONGEST, SETTINGS};

use std::sync::LazyLock;

use serde::{Deserialize, Serialize};

use crate::choice::{Choice, listed};
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
    /// How a client knows which tick it should be in.
    ClockBy,
    /// What is done where the clock is off.
    ClockChange,
    /// How far ahead of the server a client runs.
    LeadBy,
    /// By how much a tick is stretched.
    Slew,
    /// Off by how much a clock is set.
    Tolerance,
    /// How often a client is told the server's tick.
    ToldEvery,
    /// How long an input waits before it counts.
    InputDelay,
    /// How long the server waits for one.
    Wait,
    /// What it does with those that waited.
    Waiting,
    /// Whether snapshots are as often as is set.
    RateDown,
    /// Whether messages up are.
    RateUp,
    /// What inputs travel by, and which do.
    InputsOver,
    /// What claims and accounts travel by.
    ClaimsOver,
    /// What snapshots travel by.
    SnapshotsOver,
    /// What an automatic view delay goes by.
    ViewBy,
    /// How many snapshots may come too late.
    LateShare,
    /// In which way others are blended.
    Blending,
    /// How they run on.
    RunOn,
    /// How they come back.
    Return,
    /// How long that takes.
    ReturnOver,
    /// How fast it is.
    ReturnSpeed,
    /// How corrections fade.
    EaseBy,
    /// How fast they do.
    EaseSpeed,
    /// Whether bearings do too.
    EaseBearing,
    /// Which echo others are sent.
    Echo,
    /// How far the smooth one may be away.
    EchoLeash,
    /// At which moment others are drawn.
    RemotesAt,
    /// How it is known what they look to be doing.
    Looks,
    /// When the camera is moved.
    Camera,
    /// In which form snapshots travel.
    StateDown,
}

/// A knob's entry in the table.
#[derive(Clone, Copy, Debug)]
pub struct KnobSpec {
    /// Which.
    pub knob: Knob,
    /// The part of the netcode that it belongs to.
    pub group: Group,
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

/// All of them can be turned while a run goes on: group by group, and of a group what is turned most comes first.
pub static KNOBS: LazyLock<[&KnobSpec; SETTINGS.len()]> = LazyLock::new(|| {
    let mut all = SETTINGS.each_ref();
    all.sort_by_key(|spec| spec.group);
    all
});

impl Knob {
    /// Its entry in the table.
    pub fn spec(self) -> &'static KnobSpec {
        &SETTINGS[self as usize]
    }

    /// What one of its units on screens is in what is kept.
    pub fn scale(self) -> f64 {
        if self.spec().takes == Takes::Share { 100.0 } else { 1.0 }
    }

    /// What it is set to. Where the two directions differ, the way up is shown.
    pub fn get(self, of: &Knobs) -> KnobValue {
        match self.spec().accessor {
            Accessor::Link { get, .. } => KnobValue::Number(get(&of.up) * self.scale()),
            Accessor::Number { get, .. } => KnobValue::Number(get(of) * self.scale()),
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
            (_, KnobValue::Number(x)) => self.spec().accessor.apply(of, KnobValue::Number(self.held(x) / self.scale())),
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
            _ if self.spec().sound == Sound::Nothing => Vec::new(),
            Range::Choice(choices) => {
                let tried = if self.spec().sound == Sound::First { 1 } else { choices.len() };
                let sound = (0u8..).zip(&choices[..tried]).filter(|(_, choice)| choice.is_sound);
                sound.map(|(place, _)| KnobValue::Choice(place)).filter(|value| *value != now).collect()
            }
            _ => self.cure(of, now).into_iter().collect(),
        }
    }

    fn cure(self, of: &Knobs, now: KnobValue) -> Option<KnobValue> {
        let usual = Knobs { served: of.served, ..Knobs::USUAL };
        let cure = match self.spec().sound {
            Sound::Usual | Sound::First | Sound::Nothing => self.get(&usual),
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
    use velocitas_core::{ClientSettings, Easing, OwnSettings, PlayerSettings};

    use super::*;
    use crate::conditions::Conditions;

    const START: Knobs = Knobs::USUAL;

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
        let ease = Easing { ms: 0, ..OwnSettings::DEFAULT.ease };
        let own = OwnSettings { ease, ..OwnSettings::DEFAULT };
        let settings = ClientSettings { predict: false, own, ..ClientSettings::DEFAULT };
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
            (Knob::Missing, KnobValue::Choice(3)),
            (Knob::Redundancy, KnobValue::Choice(1)),
            (Knob::ClockBy, KnobValue::Choice(1)),
            (Knob::ClockBy, KnobValue::Choice(2)),
            (Knob::LeadBy, KnobValue::Choice(1)),
            (Knob::RateDown, KnobValue::Choice(1)),
            (Knob::RateUp, KnobValue::Choice(1)),
            (Knob::ViewBy, KnobValue::Choice(1)),
            (Knob::Blending, KnobValue::Choice(1)),
            (Knob::Blending, KnobValue::Choice(2)),
            (Knob::RunOn, KnobValue::Choice(1)),
            (Knob::RunOn, KnobValue::Choice(2)),
            (Knob::Return, KnobValue::Choice(1)),
            (Knob::Return, KnobValue::Choice(2)),
            (Knob::Return, KnobValue::Choice(3)),
            (Knob::Echo, KnobValue::Choice(1)),
            (Knob::Echo, KnobValue::Choice(2)),
            (Knob::StateDown, KnobValue::Choice(1)),
            (Knob::StateDown, KnobValue::Choice(2)),
            (Knob::StateDown, KnobValue::Choice(3)),
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
