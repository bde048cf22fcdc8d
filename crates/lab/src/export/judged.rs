//! Rows of corrections, and of what the guard measured, said and did.

use serde_json::{Value, json};
use velocitas_core::{Correction, EntityId, Exhibit, Gap, PeerId, Restored, Vec3, Verdict};
use velocitas_record::ids::RecordTick;
use velocitas_record::record::MeasureRow;

use super::cell::Cell;
use super::kind::{Key, Kind, RowContext, actor_name, entity_name, key, machine, tick};

fn peer_name<'a>(place: &RowContext<'a>, peer: PeerId) -> Cell<'a> {
    place.record.cast.machine_of(peer).map_or(Cell::Null, |machine| place.record.cast.name(machine).into())
}

const CORRECTED: [Key<Correction>; 11] = [
    machine(),
    key("entity", |place, c| entity_name(place, c.entity)),
    Key { name: "tick", says: "compared", get: |_, c| c.tick.0.into() },
    key("agreed_tick", |_, c| c.agreed.0.into()),
    key("newest_tick", |_, c| c.newest.0.into()),
    Key {
        name: "divergence_m",
        says: "how far apart both were at `tick`: the server's as it travels, its fields rounded to their steps (of a pull back: how far \
               it was put from where it was)",
        get: |_, c| c.divergence.into(),
    },
    Key { name: "jump_m", says: "how far its newest place moved", get: |_, c| c.jump.into() },
    key("replayed_ticks", |_, c| c.replayed.into()),
    Key {
        name: "teleported",
        says: "whether the server put it elsewhere, so that it is no jump",
        get: |_, c| (c.why == Restored::Teleported).into(),
    },
    Key {
        name: "causes",
        says: "found by trying: a list, each with `cause` and `words`; empty where it is not attributed",
        get: |place, c| {
            let found = place.findings.of(place.record, place.machine, place.at, c);
            Cell::Tree(json!(
                found
                    .causes
                    .iter()
                    .map(|c| json!({ "cause": c.name(), "words": c.words(place.record) }))
                    .collect::<Vec<_>>()
            ))
        },
    },
    Key {
        name: "finding",
        says: "the same in words, with what was tried",
        get: |place, c| {
            place.findings.of(place.record, place.machine, place.at, c).words(place.record, place.machine, c).into()
        },
    },
];

pub(super) static CORRECTION: Kind<Correction> =
    Kind { name: "correction", says: "a client rewrote its present", keys: &CORRECTED };

pub(super) static SETTLED: Kind<Correction> = Kind {
    name: "settled",
    says: "a difference below the fields' agreement was taken over silently",
    keys: &CORRECTED,
};

/// What is told of an accusation, and of a note.
static FOUND: [Key<Verdict>; 16] = [
    Key { name: "machine", says: "whose word it was", get: |place, v| peer_name(place, v.peer) },
    key("entity", |place, v| entity_name(place, v.entity)),
    key("tick", |_, v| v.tick.0.into()),
    key("rule", |_, v| v.evidence.rule.name().into()),
    key("from_tick", |_, v| v.evidence.from.0.into()),
    key("to_tick", |_, v| v.evidence.to.0.into()),
    key("measured", |_, v| Cell::from(v.evidence.measured)),
    key("limit", |_, v| Cell::from(v.evidence.limit)),
    key("slack", |_, v| Cell::from(v.evidence.slack)),
    key("quantum", |_, v| Cell::from(v.evidence.quantum)),
    Key {
        name: "allowed",
        says: "the multiple of what the rule says that is allowed",
        get: |_, v| Cell::from(v.evidence.allowed),
    },
    key("gain_m", |_, v| Cell::from(v.evidence.gain)),
    Key {
        name: "path_m",
        says: "the places between which it was measured, oldest first; null where it is of no place",
        get: |_, v| {
            let corners = |e: Exhibit| e.path.corners().iter().map(|c| json!([c.x, c.y, c.z])).collect::<Vec<_>>();
            v.exhibit.map(corners).map(Value::Array).into()
        },
    },
    Key {
        name: "hull_m",
        says: "radius, height and step of the body that was taken along the path",
        get: |_, v| Cell::from(v.exhibit.map(|e| [e.hull.radius, e.hull.height, e.hull.step])),
    },
    Key {
        name: "put_m",
        says: "where its owner then was by the server's word",
        get: |_, v| Cell::from(v.exhibit.map(|e| [e.put.x, e.put.y, e.put.z])),
    },
    Key {
        name: "answer",
        says: "ignored, pulledback, noted, clamped, struck or disconnected",
        get: |_, v| v.answer.name().into(),
    },
];

pub(super) static VERDICT: Kind<Verdict> = Kind {
    name: "verdict",
    says: "the guard refused something; units by rule: those of the table in guard.md",
    keys: &FOUND,
};

pub(super) static NOTE: Kind<Verdict> =
    Kind { name: "note", says: "hands gave more than the gait says they can: no accusation", keys: &FOUND };

pub(super) static PULLED_BACK: Kind<(EntityId, u8, Vec3)> = Kind {
    name: "pulled_back",
    says: "the server put a claiming owner back, with a verdict or to bridge a gap; claims that go on from before are dropped",
    keys: &[
        machine(),
        key("entity", |place, (entity, ..)| entity_name(place, *entity)),
        tick(),
        Key {
            name: "epoch",
            says: "the number that claims carry from then on",
            get: |_, (_, epoch, _)| (*epoch).into(),
        },
        Key { name: "to", says: "where", get: |_, (.., to)| (*to).into() },
    ],
};

pub(super) static RESYNC: Kind<Gap> = Kind {
    name: "resync",
    says: "an owner was put back without an accusation: the guard cannot know",
    keys: &[
        machine(),
        tick(),
        Key {
            name: "why",
            says: "`silence`: nothing was said for longer than any time could pay for; `lost`: ticks were lost that could tell, and more \
                   than now and then; `around`: something solid came to be around it, and moved it, or may have in ticks that were lost; `handover`: it had just become its \
                   owner's own, who had not heard how it stood; `push`: a push that its owner did not answer had its effect; `change`: \
                   ticks were lost in which rule, tunables or ground became otherwise",
            get: |_, why| why.name().into(),
        },
    ],
};

pub(super) static STEP_FAULT: Kind<&'static str> = Kind {
    name: "step_fault",
    says: "a step came out non-finite and was rejected whole",
    keys: &[machine(), tick(), key("field", |_, field| (*field).into())],
};

pub(super) static MEASURE: Kind<MeasureRow> = Kind {
    name: "measure",
    says: "what a rule of the guard measured of a claim, lawful or not; of `turn` the fastest of a second. Rules look in the order of \
           guard.md, up to the one that has its owner put back; where something came to stand around somebody, or was handed over just \
           now, nothing is told of what is beyond",
    keys: &[
        machine(),
        key("entity", |place, row| actor_name(place, row.actor)),
        tick(),
        Key {
            name: "from_tick",
            says: "the first that was looked at; `tick` is the last",
            get: |place, row| place.shown(RecordTick(row.tick.0.saturating_sub(u32::from(row.before)))),
        },
        key("rule", |_, row| row.rule().name().into()),
        Key { name: "measured", says: "in the rule's unit", get: |_, row| row.measured.into() },
        Key {
            name: "limit",
            says: "what the gait allows, slack and rounding included",
            get: |_, row| row.limit.into(),
        },
    ],
};
