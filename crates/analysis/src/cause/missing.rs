//! What became of the inputs that the server missed, counted and in words.

use velocitas_core::Provenance;
use velocitas_record::command::Command;
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::knob::{Accessor, KnobValue};
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow};

use super::shown;
use crate::fate::{Fate, fate};
use crate::held::{Delayed, delayed};

/// What became of the inputs of ticks for which the server made them up.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Missing {
    /// How many of them the hands never gave: the client passed over the tick.
    never_sampled: u32,
    /// How many had each [`Fate`].
    fates: [u32; Fate::NAMES.len()],
    /// How late the latest came, in milliseconds.
    latest_ms: f64,
    /// How many of them an ordered stream held back, and for how long at most; and how many it sent again.
    held: u32,
    longest: LabTime,
    again: u32,
    /// When the first of them was made up.
    first: Option<LabTime>,
}

/// A link that changed is named for so long: a client's lead has followed by then.
const FOLLOWED: LabTime = LabTime(5_000_000_000);

/// What changed of a machine's way up in the seconds before a moment, and how long before, in words.
fn link_turned(record: &Record, machine: MachineId, by: LabTime) -> Option<String> {
    let turned = |row: &HappeningRow| match row.what {
        Happening::Link { up: true, knob, value } => Some((row.at, knob, KnobValue::Number(value))),
        Happening::Command(Command::Set { knob, value, .. })
            if matches!(knob.spec().accessor, Accessor::Link { .. }) =>
        {
            Some((row.at, knob, value))
        }
        _ => None,
    };
    let mut rows = record.of(machine).happenings.span(by.minus(FOLLOWED), by).rev();
    let (at, knob, value) = rows.find_map(turned)?;
    let ago = by.minus(at).secs();
    Some(format!("{ago:.1} s after its link turned to {} {}", knob.spec().name, shown(knob, value)))
}

impl Missing {
    /// What has become by now of the inputs that the server missed in a span of ticks, and how many they are.
    pub(super) fn between(
        record: &Record,
        (machine, actor): (MachineId, ActorId),
        (first, last): (RecordTick, RecordTick),
    ) -> (u64, Self) {
        let (mut count, mut missing) = (0, Self::default());
        let Some(inputs) = record.of(machine).own(actor).map(|own| &own.inputs) else { return (0, missing) };
        for row in (first.0..=last.0).filter_map(|tick| inputs.of_tick(RecordTick(tick))) {
            if row.used().is_some_and(|(_, how)| how == Provenance::Fresh) {
                continue;
            }
            let fate = fate(record, machine, actor, &row, record.end);
            if row.used().is_some_and(|(_, how)| how == Provenance::Unchanged) && fate == Some(Fate::Fresh) {
                continue;
            }
            count += 1;
            missing.first = missing.first.or(row.used().map(|(at, _)| at));
            missing.note(fate);
            match delayed(record, machine, actor, &row) {
                Some(Delayed::HeldBack(since)) => {
                    missing.held += 1;
                    let until = row.arrived().map_or(record.end, |(at, _)| at);
                    missing.longest = missing.longest.max(until.minus(since));
                }
                Some(Delayed::SentAgain) => missing.again += 1,
                None => {}
            }
        }
        (count, missing)
    }

    fn note(&mut self, fate: Option<Fate>) {
        let Some(fate) = fate else {
            self.never_sampled += 1;
            return;
        };
        self.fates[fate.index()] += 1;
        if let Fate::Late(ms) = fate {
            self.latest_ms = self.latest_ms.max(ms);
        }
    }

    /// What turned of its owner's way up just before the first, where any came late: late is what a link that is slower makes them, until
    /// the lead of their client has followed.
    pub(super) fn turned(&self, record: &Record, machine: MachineId) -> Option<String> {
        let first = self.first.filter(|_| self.fates[Fate::Late(0.0).index()] > 0)?;
        link_turned(record, machine, first)
    }

    /// In words, those that are none left out.
    pub(super) fn words(&self) -> String {
        let of = |fate: Fate| self.fates[fate.index()];
        let late = format!("came up to {:.0} ms late", self.latest_ms);
        let parts = [
            (self.never_sampled, "never sampled: its client passed over the tick"),
            (of(Fate::Lost), "lost on the way"),
            (of(Fate::Late(0.0)), late.as_str()),
            (of(Fate::Outdated), "dropped: given before the last pull back"),
            (of(Fate::PassedOver), "for a tick that the server passed over"),
            (of(Fate::Refused), "refused by the guard"),
            (of(Fate::Unused), "not asked for: another's word held"),
            (of(Fate::Unheard), "arrived where nobody took it"),
            (of(Fate::UnderWay), "still under way"),
            (of(Fate::Fresh), "there in time"),
        ];
        let told = parts.iter().filter(|(n, _)| *n > 0);
        let words = match told.clone().count() {
            1 => told.map(|(_, words)| (*words).to_owned()).collect(),
            _ => told.map(|(n, words)| format!("{n} {words}")).collect::<Vec<_>>().join(", "),
        };
        words + &self.by_stream()
    }

    /// What an ordered stream did to them, if it did.
    fn by_stream(&self) -> String {
        let held = format!("{} held back for up to {:.0} ms", self.held, self.longest.millis());
        let again = format!("{} sent again", self.again);
        match (self.held, self.again) {
            (0, 0) => String::new(),
            (_, 0) => format!("; in the stream {held}"),
            (0, _) => format!("; in the stream {again}"),
            _ => format!("; in the stream {again}, {held}"),
        }
    }
}
