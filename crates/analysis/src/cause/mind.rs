//! What one side knows in a tick, so that one piece of it can be exchanged for what the other side knows.

use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use velocitas_core::{Ground, Motion, SolidId, clamp};

use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::known::Known;
use velocitas_record::record::Record;

/// The rule of one kind, its tunables, and the solids there are.
#[derive(Clone)]
pub(super) struct Mind {
    pub(super) rule: Arc<dyn Motion>,
    /// Which version of it.
    pub(super) version: u16,
    /// One value for each of the rule's, in that order.
    pub(super) tunables: Vec<f32>,
    /// Which solids are there, by id.
    pub(super) solids: Vec<bool>,
}

impl Mind {
    pub(super) fn of(known: &Known, kind: u8) -> Option<Self> {
        let place = usize::from(kind);
        let (tunables, version) = (known.tunables.get(place)?.clone(), *known.versions.get(place)?);
        let (rule, solids) = (known.kinds.shared(kind)?.clone(), known.solids().to_vec());
        Some(Self { rule, version, tunables, solids })
    }

    /// A tunable by its name.
    pub(super) fn tunable(&self, name: &str) -> Option<f32> {
        let place = self.rule.tunables().iter().position(|t| t.name == name)?;
        self.tunables.get(place).copied()
    }

    /// Whether a tunable has another value than its rule gives it.
    pub(super) fn is_turned(&self, name: &str) -> bool {
        let spec = self.rule.tunables().iter().find(|t| t.name == name);
        spec.is_some_and(|spec| self.tunable(name) != Some(spec.default))
    }

    /// Sets a tunable by its name; what the rule does not have changes nothing.
    pub(super) fn tune(&mut self, name: &str, value: f32) {
        let rule = self.rule.clone();
        if let Some(place) = rule.tunables().iter().position(|t| t.name == name) {
            let spec = &rule.tunables()[place];
            self.tunables[place] = clamp(value, spec.least, spec.most);
        }
    }

    /// Goes by another's rule. What was turned stays so under its name, the rest is as that rule has it.
    pub(super) fn take_rule(&mut self, of: &Self) {
        let before = self.clone();
        (self.rule, self.version) = (of.rule.clone(), of.version);
        self.tunables = of.rule.tunables().iter().map(|t| t.default).collect();
        for (spec, value) in before.rule.tunables().iter().zip(&before.tunables).filter(|(t, v)| t.default != **v) {
            self.tune(spec.name, *value);
        }
    }

    /// Whether it knows of a solid; the floor and the edge of the world all know.
    pub(super) fn knows(&self, solid: SolidId) -> bool {
        self.solids.get(usize::from(solid.0)).copied().unwrap_or(true)
    }
}

/// Ticks in which neither side learns of anything.
pub(super) struct Stretch {
    /// The first of them.
    pub(super) from: RecordTick,
    pub(super) here: Mind,
    pub(super) there: Mind,
}

/// Grounds that were made once: making one costs more than a replay.
#[derive(Default)]
pub(super) struct Minds {
    grounds: Mutex<Vec<(Vec<bool>, Arc<Ground>)>>,
}

/// How many grounds are kept at hand.
const GROUNDS: usize = 32;

impl fmt::Debug for Minds {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Minds").finish_non_exhaustive()
    }
}

impl Minds {
    /// The ground with these solids.
    pub(super) fn ground(&self, record: &Record, solids: &[bool]) -> Arc<Ground> {
        let mut grounds = self.grounds.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, ground)) = grounds.iter().find(|(of, _)| of == solids) {
            return ground.clone();
        }
        let ground = Arc::new(record.cast.world.ground_of(solids));
        if grounds.len() == GROUNDS {
            grounds.remove(0);
        }
        grounds.push((solids.to_vec(), ground.clone()));
        ground
    }
}

/// What a client and the server know of a kind's rule and the ground in the ticks after `from` up to `to`. `alone`: of the
/// client only, twice.
pub(super) fn stretches(
    record: &Record,
    (machine, kind): (MachineId, u8),
    (from, to): (RecordTick, RecordTick),
    alone: bool,
) -> Vec<Stretch> {
    let learns = record.changes.iter().map(|c| c.tick).filter(|tick| *tick > from.plus(1) && *tick <= to);
    let mut begins: Vec<RecordTick> = learns.chain([from.plus(1)]).collect();
    begins.sort_unstable();
    begins.dedup();
    let stretch = |from: RecordTick| {
        let here = Mind::of(&record.known(machine, Part::Client, from), kind)?;
        let server = || Mind::of(&record.known(MachineId::SERVER, Part::Server, from), kind);
        let there = if alone { here.clone() } else { server()? };
        Some(Stretch { from, here, there })
    };
    begins.into_iter().filter_map(stretch).collect()
}
