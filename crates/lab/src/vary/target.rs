//! What a key stands for: what is set, and of whom.

use velocitas_core::Rate;
use velocitas_record::knob::{Accessor, KnobValue};
use velocitas_record::settings::{Knob, SETTINGS};

use super::edit::{self, TextKey};
use super::error::VaryError;
use super::whose::Whose;
use crate::course::{Course, KnownTo, Override, nearest};
use crate::profile::Profile;

/// What is set.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Target {
    /// A setting of links or clients, of these members.
    Knob(Knob, Whose),
    /// The kind of link of these members.
    Profile(Whose),
    /// A tunable of a rule, for all.
    Tunable { kind: u8, tunable: usize },
    /// Ticks a second.
    Rate,
    /// What the course is read again with.
    Text(TextKey),
}

/// What a value is, as it is set.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Is {
    Knob(KnobValue),
    Profile(&'static str),
    Number(f32),
    Rate(Rate),
    Text(toml::Value),
}

/// A word in the place of a setting.
#[derive(Clone, Copy)]
enum Word {
    Knob(Knob),
    Host(&'static str),
    Arrangement,
    Copies,
    Profile,
}

const PROFILE: &str = "profile";
const ARRANGEMENT: &str = "arrangement";
const COPIES: &str = "copies";
const TICK_RATE: &str = "tick_rate";

/// Every word that can stand in the place of a setting of somebody.
fn words() -> impl Iterator<Item = (&'static str, Word)> {
    let knobs = SETTINGS.iter().map(|spec| (spec.key, Word::Knob(spec.knob)));
    let hosts = edit::HOST_KEYS.iter().map(|key| (*key, Word::Host(key)));
    let others = [(PROFILE, Word::Profile), (ARRANGEMENT, Word::Arrangement), (COPIES, Word::Copies)];
    knobs.chain(others).chain(hosts)
}

fn word(key: &str) -> Option<Word> {
    words().find(|(known, _)| *known == key).map(|(_, word)| word)
}

/// That there is nothing of that name, with the nearest one, or all.
fn unknown<T>(found: &str, known: &mut dyn Iterator<Item = &str>) -> Result<T, VaryError> {
    let known = known.fold(Vec::new(), |mut all, word| {
        if !all.contains(&word) {
            all.push(word);
        }
        all
    });
    let meant =
        nearest(found, known.iter().copied()).unwrap_or_else(|| format!("expected one of {}", known.join(", ")));
    Err(VaryError(format!("there is nothing called `{found}` to be varied; {meant}")))
}

impl Target {
    /// Reads a key, as it is used with a course.
    ///
    /// # Errors
    /// When there is nothing of that name: says the nearest word.
    pub(super) fn read(key: &str, course: &Course) -> Result<Self, VaryError> {
        if key == TICK_RATE {
            return Ok(Self::Rate);
        }
        if let Some(word) = word(key) {
            return Ok(Self::of(word, Whose::All));
        }
        let Some((whose, rest)) = key.rsplit_once('.') else {
            return unknown(key, &mut words().map(|(key, _)| key).chain([TICK_RATE]));
        };
        if let Some(link) = whose.strip_prefix("link.") {
            return Self::of_link(link, rest, course);
        }
        if course.member(whose).is_some() {
            return match word(rest) {
                Some(word) => Ok(Self::of(word, Whose::Member(whose.to_owned()))),
                None => unknown(rest, &mut words().map(|(key, _)| key)),
            };
        }
        if let Some((kind, rule)) = course.kinds.iter().find(|(_, rule)| rule.name() == whose) {
            let tunables = rule.tunables();
            return match tunables.iter().position(|tunable| tunable.name == rest) {
                Some(tunable) => Ok(Self::Tunable { kind, tunable }),
                None => unknown(rest, &mut tunables.iter().map(|tunable| tunable.name)),
            };
        }
        match TextKey::of_server(key) {
            Some(Ok(key)) => Ok(Self::Text(key)),
            Some(Err(known)) => unknown(rest, &mut known.iter().copied()),
            None => {
                let members = course.cast.iter().map(|member| member.name.as_str());
                let rules = course.kinds.iter().map(|(_, rule)| rule.name());
                unknown(whose, &mut members.chain(rules).chain(edit::SECTIONS))
            }
        }
    }

    fn of(word: Word, whose: Whose) -> Self {
        match word {
            Word::Knob(knob) => Self::Knob(knob, whose),
            Word::Profile => Self::Profile(whose),
            Word::Host(key) => Self::Text(TextKey::Host(key, whose)),
            Word::Arrangement => Self::Text(TextKey::Arrangement(whose)),
            Word::Copies => Self::Text(TextKey::Copies(whose)),
        }
    }

    fn of_link(link: &str, rest: &str, course: &Course) -> Result<Self, VaryError> {
        let links = || course.cast.iter().filter_map(|member| member.link.as_deref());
        let found = word(rest);
        let is_of_links = match found {
            None => return unknown(rest, &mut words().map(|(key, _)| key)),
            Some(Word::Knob(knob)) => matches!(knob.spec().accessor, Accessor::Link { .. }),
            Some(word) => matches!(word, Word::Profile),
        };
        match found {
            Some(_) if !is_of_links => {
                Err(VaryError(format!("`{rest}` is no setting of a link: leave out `link.{link}.`")))
            }
            Some(word) if links().any(|known| known == link) => Ok(Self::of(word, Whose::Link(link.to_owned()))),
            _ => unknown(link, &mut links()),
        }
    }

    /// In which order things are set: what is narrower later, of as narrow what sets less; copies are made last.
    pub(super) fn order(&self) -> (u8, u8) {
        let narrow = |whose: &Whose| match whose {
            Whose::All => 0,
            Whose::Link(_) => 1,
            Whose::Member(_) => 2,
        };
        match self {
            Self::Knob(_, whose) => (narrow(whose), 1),
            Self::Profile(whose) => (narrow(whose), 0),
            Self::Tunable { .. } | Self::Rate => (0, 0),
            Self::Text(TextKey::Copies(whose)) => (3, narrow(whose)),
            Self::Text(TextKey::Host(_, whose) | TextKey::Arrangement(whose)) => (narrow(whose), 0),
            Self::Text(TextKey::Server(_)) => (0, 0),
        }
    }

    /// Sets it to a value. `course` may have copies behind the `cast` members that its file names.
    pub(super) fn apply(&self, value: &Is, course: &mut Course, cast: usize) {
        match (self, value) {
            (Self::Knob(knob, whose), Is::Knob(value)) => {
                for place in whose.places(course, cast) {
                    knob.set(&mut course.cast[place].knobs, *value);
                }
            }
            (Self::Profile(whose), Is::Profile(name)) => {
                let Some(profile) = Profile::named(name) else { return };
                for place in whose.places(course, cast) {
                    let knobs = &mut course.cast[place].knobs;
                    (knobs.up, knobs.down) = (profile.up, profile.down);
                }
            }
            (Self::Tunable { kind, tunable }, Is::Number(value)) => {
                let (kind, tunable, value, known_to) = (*kind, *tunable, *value, KnownTo::All);
                course.overrides.push(Override { kind, tunable, value, known_to });
            }
            (Self::Rate, Is::Rate(rate)) => course.rate = *rate,
            _ => {}
        }
    }
}
