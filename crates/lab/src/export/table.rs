//! The table of all kinds of row.

use serde_json::{Value, json};
use velocitas_core::{Correction, EntityId, Fact, InputFate, PeerId, Provenance, Restored, Verdict};

use super::comings::{
    BORN, CONNECTED, CRASHED, DENIED, ENDED, ENTERED, GONE, LEAVES, LEFT, OBEYED, ORDERED, OUT, OWNER, OWNS, REFUSED,
    RULE_DIFFERS, SEEN, STARTED, UNHEARD,
};
use super::kind::{Key, Kind, Place, RowSpec, actor_name, entity_name, key, machine, tick};
use crate::cause::{causes, shown};
use crate::command::Command;
use crate::ids::{ActorId, MachineId};
use crate::known::Reach;
use crate::record::{ClockRow, DrawnRow, InputRow, StateHead};
use crate::time::LabTime;
use crate::watch::{Happening, MessageRow};

/// A state in a track.
pub(super) struct StateRow {
    pub(super) actor: ActorId,
    pub(super) head: StateHead,
}

/// An entity in a frame.
pub(super) struct DrawnHere {
    pub(super) actor: ActorId,
    pub(super) row: DrawnRow,
}

/// A datagram between two machines.
pub(super) struct Datagram {
    pub(super) from: MachineId,
    pub(super) to: MachineId,
    pub(super) row: MessageRow,
}

fn peer_name(place: &Place<'_>, peer: PeerId) -> Value {
    place.record.cast.machine_of(peer).map_or(Value::Null, |machine| place.record.cast.name(machine).into())
}

const STATE_ENTITY: Key<StateRow> = key("entity", |place, row| actor_name(place, row.actor));
const STATE_TICK: Key<StateRow> = key("tick", |place, row| place.shown(row.head.tick));
const USED: Key<StateRow> = Key {
    name: "used_tick",
    says: "the newest of its owner's ticks that it includes, if any",
    get: |place, row| row.head.used().map_or(Value::Null, |tick| place.shown(tick)),
};
const CONTACTS: Key<StateRow> = Key {
    name: "contacts",
    says: "solids touched, if any",
    get: |place, row| {
        let name = |id| place.record.cast.solid(id).map_or("edge", |s| s.name.as_str());
        let touched: Vec<&str> = row.head.touched().map(name).collect();
        if touched.is_empty() { Value::Null } else { json!(touched) }
    },
};
const TELEPORTED: Key<StateRow> = Key {
    name: "teleported",
    says: "true where it was put there otherwise than by its rule, if any",
    get: |_, row| if row.head.teleported { true.into() } else { Value::Null },
};

pub(super) static AUTHORITY: Kind<StateRow> = Kind {
    name: "authority",
    says: "the server's state at the end of a tick, with a key for each state field",
    keys: &[STATE_ENTITY, STATE_TICK, USED, CONTACTS, TELEPORTED],
};
pub(super) static PREDICTED: Kind<StateRow> = Kind {
    name: "predicted",
    says: "the owner's first prediction of a tick, with a key for each state field",
    keys: &[machine(), STATE_ENTITY, STATE_TICK, CONTACTS],
};
pub(super) static REWRITTEN: Kind<StateRow> = Kind {
    name: "rewritten",
    says: "a tick predicted again after the server's word, with a key for each state field",
    keys: &[machine(), STATE_ENTITY, STATE_TICK],
};
pub(super) static DRAWN: Kind<DrawnHere> = Kind {
    name: "drawn",
    says: "one entity in one drawn frame of a machine",
    keys: &[
        machine(),
        key("entity", |place, seen| actor_name(place, seen.actor)),
        Key {
            name: "tick",
            says: "with fraction",
            get: |place, seen| (place.record.shown(seen.row.tick) as f64 + f64::from(seen.row.fraction)).into(),
        },
        key("pos", |_, seen| json!([seen.row.pos.x, seen.row.pos.y, seen.row.pos.z])),
        key("bearing", |_, seen| json!(seen.row.bearing)),
        Key {
            name: "how",
            says: "predicted, blended, newest, extrapolated or held",
            get: |_, seen| seen.row.how.name().into(),
        },
    ],
};
pub(super) static MESSAGE: Kind<Datagram> = Kind {
    name: "message",
    says: "a datagram on a link; `at_ns` is when it left",
    keys: &[
        Key { name: "machine", says: "the one that plays", get: |place, d| place.record.cast.name(end(d)).into() },
        Key {
            name: "way",
            says: "up to the one that decides, or down",
            get: |_, d| if is_up(d) { "up" } else { "down" }.into(),
        },
        key("from", |place, d| place.record.cast.name(d.from).into()),
        key("to", |place, d| place.record.cast.name(d.to).into()),
        key("message", |_, d| d.row.kind.name().into()),
        key("bytes", |_, d| d.row.bytes.into()),
        tick(),
        Key { name: "arrived_ns", says: "null: lost", get: |_, d| json!(d.row.arrived.map(|a| a.0)) },
        Key { name: "doubled", says: "whether it arrived twice", get: |_, d| d.row.doubled.into() },
    ],
};

fn is_up(d: &Datagram) -> bool {
    d.row.kind.is_up()
}

fn end(d: &Datagram) -> MachineId {
    if is_up(d) { d.from } else { d.to }
}

const INPUT_ENTITY: Key<InputRow> = key("entity", |place, row| entity_name(place, row.entity));

pub(super) static INPUT_SAMPLED: Kind<InputRow> = Kind {
    name: "input_sampled",
    says: "an input (or claim) was put on its way",
    keys: &[machine(), INPUT_ENTITY, tick()],
};
pub(super) static INPUT_ARRIVED: Kind<InputRow> = Kind {
    name: "input_arrived",
    says: "it reached the server for the first time",
    keys: &[
        machine(),
        INPUT_ENTITY,
        tick(),
        Key {
            name: "margin_ticks",
            says: "how early; negative: late",
            get: |_, row| match row.fate {
                InputFate::Arrived(margin) => json!(f64::from(margin) / 4.0),
                _ => Value::Null,
            },
        },
    ],
};
pub(super) static INPUT_DROPPED: Kind<InputRow> = Kind {
    name: "input_dropped",
    says: "it reached the server for a tick that the server passed over after it had stood still",
    keys: &[machine(), INPUT_ENTITY, tick()],
};
pub(super) static INPUT_USED: Kind<InputRow> = Kind {
    name: "input_used",
    says: "its tick was simulated, with it or with one made up",
    keys: &[
        machine(),
        INPUT_ENTITY,
        tick(),
        Key {
            name: "provenance",
            says: "fresh, repeated or rested",
            get: |_, row| match row.fate {
                InputFate::Used(provenance) => Provenance::name(provenance).into(),
                _ => Value::Null,
            },
        },
    ],
};
pub(super) static CLOCK: Kind<ClockRow> = Kind {
    name: "clock",
    says: "what a client measures, once a snapshot",
    keys: &[
        machine(),
        key("behind_ticks", |_, row| row.fact.behind.into()),
        key("rtt_us", |_, row| row.fact.rtt_us.into()),
        key("rtt_sigma_us", |_, row| row.fact.rtt_sigma_us.into()),
        key("margin_ticks", |_, row| json!(row.fact.margin.map(|m| f64::from(m) / 4.0))),
        key("view_delay_us", |_, row| row.fact.view_delay_us.into()),
    ],
};

const CORRECTED: [Key<Correction>; 9] = [
    machine(),
    key("entity", |place, c| entity_name(place, c.entity)),
    Key { name: "tick", says: "compared", get: |_, c| c.tick.0.into() },
    key("agreed_tick", |_, c| c.agreed.0.into()),
    key("newest_tick", |_, c| c.newest.0.into()),
    key("divergence_m", |_, c| json!(c.divergence)),
    key("jump_m", |_, c| json!(c.jump)),
    key("replayed_ticks", |_, c| c.replayed.into()),
    Key {
        name: "causes",
        says: "a list, each with `cause` and `words`",
        get: |place, c| {
            let found = causes(place.record, place.machine, place.at, c);
            json!(
                found.iter().map(|c| json!({ "cause": c.name(), "words": c.words(place.record) })).collect::<Vec<_>>()
            )
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
pub(super) static VERDICT: Kind<Verdict> = Kind {
    name: "verdict",
    says: "the guard refused something; units by rule: metres for reach, sweep and pace, ticks for window and time",
    keys: &[
        Key { name: "machine", says: "the accused's", get: |place, v| peer_name(place, v.peer) },
        key("entity", |place, v| entity_name(place, v.entity)),
        key("tick", |_, v| v.tick.0.into()),
        key("rule", |_, v| v.evidence.rule.name().into()),
        key("from_tick", |_, v| v.evidence.from.0.into()),
        key("to_tick", |_, v| v.evidence.to.0.into()),
        key("measured", |_, v| json!(v.evidence.measured)),
        key("limit", |_, v| json!(v.evidence.limit)),
        key("slack", |_, v| json!(v.evidence.slack)),
        key("quantum", |_, v| json!(v.evidence.quantum)),
        key("gain_m", |_, v| json!(v.evidence.gain)),
        Key { name: "answer", says: "ignored or pulledback", get: |_, v| v.answer.name().into() },
    ],
};
pub(super) static RESYNC: Kind<()> =
    Kind { name: "resync", says: "a gap was bridged without an accusation", keys: &[machine(), tick()] };
pub(super) static DROPPED: Kind<u64> = Kind {
    name: "dropped",
    says: "tick numbers passed over after a stall",
    keys: &[
        machine(),
        Key { name: "tick", says: "the first", get: tick::<u64>().get },
        key("ticks", |_, n| (*n).into()),
    ],
};
pub(super) static STEP_FAULT: Kind<&'static str> = Kind {
    name: "step_fault",
    says: "a step came out non-finite and was rejected whole",
    keys: &[machine(), tick(), key("field", |_, field| (*field).into())],
};
pub(super) static CLOCK_SET: Kind<i64> = Kind {
    name: "clock_set",
    says: "the tick clock was set, not slewed",
    keys: &[machine(), tick(), key("shift_ns", |_, shift| (*shift).into())],
};
pub(super) static JOINED: Kind<()> = Kind { name: "joined", says: "a client joined", keys: &[machine(), tick()] };
pub(super) static OVERRUN: Kind<u64> = Kind {
    name: "overrun",
    says: "so many that had arrived were thrown away unread, the oldest first: a socket holds 512",
    keys: &[machine(), tick(), key("datagrams", |_, n| (*n).into())],
};
pub(super) static PUSHED: Kind<EntityId> = Kind {
    name: "pushed",
    says: "the server pushed an entity before this tick",
    keys: &[machine(), tick(), key("entity", |place, entity| entity_name(place, *entity))],
};
pub(super) static FROZEN: Kind<LabTime> = Kind {
    name: "frozen",
    says: "the machine stands still",
    keys: &[machine(), tick(), key("lasts_ns", |_, lasts| lasts.0.into())],
};
pub(super) static PRESSED: Kind<()> =
    Kind { name: "pressed", says: "hands that had rested moved something", keys: &[machine(), tick()] };
pub(super) static TRICK: Kind<Option<LabTime>> = Kind {
    name: "trick",
    says: "a rogue began a trick or ended one",
    keys: &[
        machine(),
        tick(),
        key("begins", |_, lasts| lasts.is_some().into()),
        key("lasts_ns", |_, lasts| json!(lasts.map(|l| l.0))),
    ],
};
pub(super) static OFFENCE: Kind<()> = Kind {
    name: "offence",
    says: "the first tick of a trick that came out otherwise than its rule would have it",
    keys: &[machine(), tick()],
};
pub(super) static COMMAND: Kind<Command> = Kind {
    name: "command",
    says: "something was turned or taken over, with keys of its own: see below",
    keys: &[machine(), tick()],
};

/// The keys that a command adds.
pub(super) fn command(place: &Place<'_>, command: &Command) -> Value {
    let cast = &place.record.cast;
    let rule = |kind| cast.kinds().motion(kind).name();
    let reach = |reach: Reach| match reach {
        Reach::All => "all".to_owned(),
        Reach::One(machine) => cast.name(machine).to_owned(),
    };
    match *command {
        Command::Set { knob, value, .. } => json!({ "knob": knob.spec().name, "value": shown(knob, value) }),
        // The row is kept with the machine of who takes the helm.
        Command::Helm(member) => json!({ "helm": member.map(|_| cast.name(place.machine)) }),
        // Told by a row of its own.
        Command::Mend(_) => json!({ "mends": true }),
        Command::Moves(_, coming) => json!({ "moves": coming.name() }),
        Command::Keys(c) => json!({
            "stick": [c.stick.0, c.stick.1], "facing": c.facing, "sprint": c.sprint, "hops": c.hops,
        }),
        Command::Tune { kind, tunable, value, reach: r } => {
            json!({ "tune": tunable, "value": value, "gait": rule(kind), "reach": reach(r) })
        }
        Command::Reload { kind, version, reach: r } => {
            json!({ "reload": rule(kind), "version": version, "reach": reach(r) })
        }
    }
}

/// The row of something that happens seldom.
pub(super) fn happening(place: &Place<'_>, what: &Happening) -> (LabTime, Value) {
    match what {
        Happening::Fact(fact) => self::fact(place, fact),
        Happening::Overrun(count) => OVERRUN.row(place, count),
        Happening::Pushed(entity) => PUSHED.row(place, entity),
        Happening::Frozen(lasts) => FROZEN.row(place, lasts),
        Happening::Started => STARTED.row(place, &()),
        Happening::Crashed => CRASHED.row(place, &()),
        Happening::Leaves => LEAVES.row(place, &()),
        Happening::Ordered(entity, to) => ORDERED.row(place, &(*entity, *to)),
        Happening::Pressed => PRESSED.row(place, &()),
        Happening::Trick { lasts } => TRICK.row(place, lasts),
        Happening::Offence => OFFENCE.row(place, &()),
        Happening::Command(done) => {
            let mut map = COMMAND.map(place, done);
            if let Value::Object(more) = command(place, done) {
                map.extend(more);
            }
            (place.at, Value::Object(map))
        }
    }
}

fn fact(place: &Place<'_>, fact: &Fact) -> (LabTime, Value) {
    match fact {
        Fact::Corrected(c) if c.why == Restored::Settled => SETTLED.row(place, c),
        Fact::Corrected(c) => CORRECTION.row(place, c),
        Fact::Verdict(v) => VERDICT.row(place, v),
        Fact::Resync { .. } => RESYNC.row(place, &()),
        Fact::Dropped { count, .. } => DROPPED.row(place, count),
        Fact::StepFault { field, .. } => STEP_FAULT.row(place, field),
        Fact::ClockSet { shift } => CLOCK_SET.row(place, shift),
        Fact::Joined { .. } => JOINED.row(place, &()),
        Fact::Denied(why) => DENIED.row(place, why),
        Fact::Unheard => UNHEARD.row(place, &()),
        Fact::Out(why) => OUT.row(place, why),
        Fact::Entered { entity, .. } => ENTERED.row(place, entity),
        Fact::Left { entity, .. } => LEFT.row(place, entity),
        Fact::Owns { entity, owns, .. } => OWNS.row(place, &(*entity, *owns)),
        Fact::Connected { peer, again, .. } => CONNECTED.row(place, &(*peer, *again)),
        Fact::Ended { peer, why, .. } => ENDED.row(place, &(*peer, *why)),
        Fact::Refused { why, .. } => REFUSED.row(place, why),
        Fact::RuleDiffers { kind, .. } => RULE_DIFFERS.row(place, kind),
        Fact::Born { entity, .. } => BORN.row(place, entity),
        Fact::Gone { entity, .. } => GONE.row(place, entity),
        Fact::Owner { entity, player, owns, .. } => OWNER.row(place, &(*entity, *player, *owns)),
        Fact::Obeyed { entity, .. } => OBEYED.row(place, entity),
        // Kept in tables of their own, or not at all.
        Fact::Input(_) | Fact::Clock(_) | Fact::Received { .. } | Fact::Agreed { .. } => (place.at, Value::Null),
    }
}

/// Every kind of row but the first and the last, as people read of it.
pub fn row_kinds() -> Vec<RowSpec> {
    vec![
        AUTHORITY.spec(),
        PREDICTED.spec(),
        REWRITTEN.spec(),
        DRAWN.spec(),
        MESSAGE.spec(),
        INPUT_SAMPLED.spec(),
        INPUT_ARRIVED.spec(),
        INPUT_DROPPED.spec(),
        INPUT_USED.spec(),
        CORRECTION.spec(),
        SETTLED.spec(),
        VERDICT.spec(),
        RESYNC.spec(),
        CLOCK.spec(),
        DROPPED.spec(),
        OVERRUN.spec(),
        CLOCK_SET.spec(),
        STARTED.spec(),
        JOINED.spec(),
        DENIED.spec(),
        UNHEARD.spec(),
        OUT.spec(),
        LEAVES.spec(),
        CRASHED.spec(),
        CONNECTED.spec(),
        REFUSED.spec(),
        RULE_DIFFERS.spec(),
        ENDED.spec(),
        BORN.spec(),
        GONE.spec(),
        OWNER.spec(),
        OBEYED.spec(),
        ORDERED.spec(),
        ENTERED.spec(),
        SEEN.spec(),
        LEFT.spec(),
        OWNS.spec(),
        PRESSED.spec(),
        PUSHED.spec(),
        FROZEN.spec(),
        TRICK.spec(),
        OFFENCE.spec(),
        STEP_FAULT.spec(),
        COMMAND.spec(),
    ]
}
