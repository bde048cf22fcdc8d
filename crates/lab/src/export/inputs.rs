//! The row of an input or claim: its whole way, from hand to tick.

use velocitas_analysis::{Fate, fate};
use velocitas_core::{Input, Provenance};
use velocitas_record::ids::ActorId;
use velocitas_record::record::{InputRow, InputRows};

use super::cell::Cell;
use super::head::input_cells;
use super::kind::{Key, Kind, RowContext, actor_name, key, machine, tick};

/// An input, or a tick for which there was none.
pub(super) struct InputHere {
    actor: ActorId,
    row: InputRow,
    fate: Option<Fate>,
}

impl InputHere {
    pub(super) fn of(place: &RowContext<'_>, actor: ActorId, row: InputRow) -> Self {
        Self { actor, row, fate: fate(place.record, place.machine, actor, &row, place.record.end) }
    }

    /// A value by the fields of its rule.
    fn value<'a>(&self, place: &RowContext<'a>, of: fn(&InputRows, &InputRow) -> Option<Input>) -> Cell<'a> {
        let own = place.record.of(place.machine).own(self.actor);
        let Some(value) = own.and_then(|own| of(&own.inputs, &self.row)) else { return Cell::Null };
        let layout = place.record.layout(self.actor, self.row.tick);
        Cell::Fields(input_cells(layout.schema(), &value).collect())
    }

    /// Where a claim for this tick says that its entity is, as it travels.
    fn claimed<'a>(&self, place: &RowContext<'a>) -> Cell<'a> {
        let player = place.record.cast.machines[place.machine.index()].player.as_ref();
        if self.row.sampled_at().is_none() || player.is_none_or(|player| player.arrangement.sends_inputs()) {
            return Cell::Null;
        }
        let own = place.record.of(place.machine).own(self.actor);
        let Some((own, i)) = own.and_then(|own| Some((own, own.predicted.of_tick(self.row.tick)?))) else {
            return Cell::Null;
        };
        let pos = place.record.layout(self.actor, self.row.tick).schema().seen(&own.predicted.state(i)).vec3(0);
        pos.into()
    }
}

pub(super) static INPUT: Kind<InputHere> = Kind {
    name: "input",
    says: "an input or claim from hand to server, or a tick for which there was none",
    keys: &[
        machine(),
        key("entity", |place, here| actor_name(place, here.actor)),
        tick(),
        Key {
            name: "connection",
            says: "place and epoch at the server",
            get: |_, here| here.row.peer.to_string().into(),
        },
        Key {
            name: "fate",
            says: "what became of it by the end, in one word: see below; null: nothing was sampled for this tick",
            get: |_, here| here.fate.map_or(Cell::Null, |fate| fate.name().into()),
        },
        Key {
            name: "sampled_ns",
            says: "when it was put on its way, if any",
            get: |_, here| Cell::from(here.row.sampled_at().map(|at| at.0)),
        },
        Key {
            name: "arrived_ns",
            says: "when it reached the server first, if any",
            get: |_, here| Cell::from(here.row.arrived().map(|(at, _)| at.0)),
        },
        Key {
            name: "margin_ticks",
            says: "how early that was, in quarters of a tick; below 0 its tick had been made, if any",
            get: |_, here| Cell::from(here.row.arrived().map(|(_, margin)| f64::from(margin) / 4.0)),
        },
        Key {
            name: "late_ms",
            says: "how long after its tick was made that was, if any",
            get: |_, here| match here.fate {
                Some(Fate::Late(ms)) => Cell::from(ms),
                _ => Cell::Null,
            },
        },
        Key {
            name: "passed_over_ns",
            says: "when it arrived for a tick that the server passed over after it had stood still, if any",
            get: |_, here| Cell::from(here.row.passed_over().map(|at| at.0)),
        },
        Key {
            name: "outdated_ns",
            says: "when it was dropped since it goes on from before a pull back, if any",
            get: |_, here| Cell::from(here.row.outdated().map(|at| at.0)),
        },
        Key {
            name: "used_ns",
            says: "when its tick was made for its owner, if any",
            get: |_, here| Cell::from(here.row.used().map(|(at, _)| at.0)),
        },
        Key {
            name: "provenance",
            says: "with what: fresh (as sent), repeated or rested (made up), restated (its own claim was outdated; with where it was put, \
                   which its owner says when it obeys a pull back), if any",
            get: |_, here| match here.row.used() {
                // Of this tick something was claimed twice: before a pull back was obeyed, and where it was put.
                Some((_, Provenance::Fresh)) if here.row.outdated().is_some() => "restated".into(),
                used => Cell::from(used.map(|(_, provenance)| Provenance::name(provenance))),
            },
        },
        Key {
            name: "sampled",
            says: "what the hands gave, by field, as it travels: presses are counted, if any",
            get: |place, here| here.value(place, InputRows::sampled),
        },
        Key {
            name: "claimed",
            says: "where a claim says it is, as it travels, if any",
            get: |place, here| here.claimed(place),
        },
        Key {
            name: "used",
            says: "what the server's step read, by field: presses since the last, if any",
            get: |place, here| here.value(place, InputRows::used),
        },
    ],
};
