//! The table of all kinds of row.

use std::sync::Arc;

use serde_json::{Map, Value, json};
use velocitas_core::{Correction, EntityId, Exhibit, Fact, Gap, Input, PeerId, Restored, SolidId, Vec3, Verdict};

use super::cell::Cell;
use super::comings::{
    BORN, CONNECTED, CRASHED, DENIED, ENDED, ENTERED, GONE, LEAVES, LEFT, OBEYED, ORDERED, OUT, OWNER, OWNS, REFUSED,
    RULE_DIFFERS, SEEN, STARTED, UNHEARD,
};
use super::frames::{FRAME, RECEIVED, REFUSAL, TUNED};
use super::inputs::INPUT;
use super::kind::{Key, Kind, RowContext, RowSpec, actor_name, entity_name, key, machine, reach, tick};
use super::page::Page;
use velocitas_analysis::metrics::Window;
use velocitas_record::command::Command;
use velocitas_record::ids::{ActorId, MachineId, Part, RecordTick};
use velocitas_record::knob::{Knob, KnobValue};
use velocitas_record::known::{Change, Changed, Known, Reach};
use velocitas_record::record::{ClockRow, DrawnRow, MeasureRow, StateHead};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, MessageRow};

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

fn peer_name<'a>(place: &RowContext<'a>, peer: PeerId) -> Cell<'a> {
    place.record.cast.machine_of(peer).map_or(Cell::Null, |machine| place.record.cast.name(machine).into())
}

const STATE_ENTITY: Key<StateRow> = key("entity", |place, row| actor_name(place, row.actor));
const STATE_TICK: Key<StateRow> = key("tick", |place, row| place.shown(row.head.tick));
const USED: Key<StateRow> = Key {
    name: "used_tick",
    says: "the newest of its owner's ticks that it includes, if any",
    get: |place, row| row.head.used().map_or(Cell::Null, |tick| place.shown(tick)),
};
const CONTACTS: Key<StateRow> = Key {
    name: "contacts",
    says: "solids touched, at most two and not the floor, if any",
    get: |place, row| {
        let name = |id| place.record.cast.solid(id).map_or("edge", |s| s.name.as_str());
        let touched: Vec<&str> = row.head.touched().map(name).collect();
        if touched.is_empty() { Cell::Null } else { Cell::from(touched) }
    },
};
const TELEPORTED: Key<StateRow> = Key {
    name: "teleported",
    says: "true where it was put there otherwise than by its rule, if any",
    get: |_, row| if row.head.teleported { true.into() } else { Cell::Null },
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
    keys: &[machine(), STATE_ENTITY, STATE_TICK, CONTACTS],
};
pub(super) static DRAWN: Kind<DrawnHere> = Kind {
    name: "drawn",
    says: "one entity in one drawn frame of a machine",
    keys: &[
        machine(),
        key("entity", |place, seen| actor_name(place, seen.actor)),
        Key {
            name: "tick",
            says: "this one and `fraction` on towards the next is drawn",
            get: |place, seen| place.shown(seen.row.tick),
        },
        key("fraction", |_, seen| seen.row.fraction.into()),
        key("pos", |_, seen| seen.row.pos.into()),
        key("bearing", |_, seen| Cell::from(seen.row.bearing)),
        Key {
            name: "how",
            says: "predicted, blended, newest, extrapolated, held, or first: the moment drawn lies before the first state received",
            get: |_, seen| seen.row.how.name().into(),
        },
    ],
};
pub(super) static MESSAGE: Kind<Datagram> = Kind {
    name: "message",
    says: "a datagram on a link; `at_ns` is when it left",
    keys: &[
        Key { name: "machine", says: "the one that plays", get: |place, d| place.record.cast.name(d.end()).into() },
        Key {
            name: "way",
            says: "up to the one that decides, or down",
            get: |_, d| if d.is_up() { "up" } else { "down" }.into(),
        },
        key("from", |place, d| place.record.cast.name(d.from).into()),
        key("to", |place, d| place.record.cast.name(d.to).into()),
        key("message", |_, d| d.row.kind.name().into()),
        key("bytes", |_, d| d.row.bytes.into()),
        tick(),
        Key { name: "arrived_ns", says: "null: lost", get: |_, d| Cell::from(d.row.arrived.map(|a| a.0)) },
        Key {
            name: "again_ns",
            says: "when it arrived a second time, if any",
            get: |_, d| Cell::from(d.row.again.map(|a| a.0)),
        },
        Key {
            name: "unread",
            says: "true where it was thrown away on arrival: the socket held 512 and it was the oldest, if any",
            get: |_, d| if d.row.unread { true.into() } else { Cell::Null },
        },
        Key {
            name: "ticks",
            says: "inputs and claims: for how many ticks it has one, `tick` and those before it, if any",
            get: |_, d| if d.row.ticks > 0 { d.row.ticks.into() } else { Cell::Null },
        },
        Key {
            name: "entity",
            says: "what inputs, claims and pull backs are about, if any",
            get: |place, d| d.row.entity.map_or(Cell::Null, |entity| entity_name(place, entity)),
        },
        Key {
            name: "entities",
            says: "of how many a snapshot tells, if any",
            get: |_, d| if d.row.entities > 0 { d.row.entities.into() } else { Cell::Null },
        },
        Key {
            name: "epoch",
            says: "the pull back that claims go on from, or its own number, if any",
            get: |_, d| Cell::from(d.row.epoch),
        },
    ],
};

impl Datagram {
    const fn is_up(&self) -> bool {
        self.row.kind.is_up()
    }

    /// The machine that plays.
    pub(super) const fn end(&self) -> MachineId {
        if self.is_up() { self.from } else { self.to }
    }
}

/// What a machine saw of an entity in a second.
pub(super) struct Seen {
    pub(super) actor: ActorId,
    pub(super) own: bool,
    pub(super) frames: usize,
    pub(super) window: Window,
}

pub(super) static WINDOW: Kind<Seen> = Kind {
    name: "window",
    says: "how what a machine drew of an entity in the second from `at_ns` on compares with what was: see the report's page",
    keys: &[
        machine(),
        key("entity", |place, seen| actor_name(place, seen.actor)),
        Key { name: "own", says: "whether it was its own", get: |_, seen| seen.own.into() },
        Key { name: "frames", says: "in which it was drawn", get: |_, seen| seen.frames.into() },
        Key {
            name: "lag_ms",
            says: "negative: ahead of the server; null: nothing in it could be held against the server",
            get: |_, seen| Cell::from(seen.window.lag_ms),
        },
        Key {
            name: "drawn_error_m",
            says: "the largest of its frames; null as before",
            get: |_, seen| Cell::from(seen.window.errors_m.iter().copied().reduce(f64::max)),
        },
        Key {
            name: "roughness_mps",
            says: "null: it moved less than 10 cm",
            get: |_, seen| Cell::from(seen.window.roughness_mps),
        },
        key("hops", |_, seen| seen.window.hops.into()),
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
        key("margin_ticks", |_, row| Cell::from(row.fact.margin.map(|m| f64::from(m) / 4.0))),
        key("view_delay_us", |_, row| row.fact.view_delay_us.into()),
    ],
};

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
pub(super) static DROPPED: Kind<(u64, Part)> = Kind {
    name: "dropped",
    says: "tick numbers passed over after a stall",
    keys: &[
        machine(),
        Key { name: "tick", says: "the first", get: tick::<(u64, Part)>().get },
        key("ticks", |_, (n, _)| (*n).into()),
        Key {
            name: "by",
            says: "server or client: what on the machine passed over them",
            get: |_, (_, part)| {
                match part {
                    Part::Server => "server",
                    Part::Client => "client",
                }
                .into()
            },
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

pub(super) static CLOCK_SET: Kind<i64> = Kind {
    name: "clock_set",
    says: "the tick clock was set, not slewed",
    keys: &[machine(), tick(), key("shift_ns", |_, shift| (*shift).into())],
};
pub(super) static JOINED: Kind<()> = Kind { name: "joined", says: "a client joined", keys: &[machine(), tick()] };
pub(super) static PUSHED: Kind<(EntityId, [f32; 3])> = Kind {
    name: "pushed",
    says: "the server added to an entity's velocity before this tick, in metres a second",
    keys: &[
        machine(),
        tick(),
        key("entity", |place, (entity, _)| entity_name(place, *entity)),
        key("by", |_, (_, by)| (*by).into()),
    ],
};
pub(super) static PUT_ELSEWHERE: Kind<(EntityId, [f32; 3])> = Kind {
    name: "teleported",
    says: "the server put an entity elsewhere, at rest, before this tick",
    keys: &[
        machine(),
        tick(),
        key("entity", |place, (entity, _)| entity_name(place, *entity)),
        key("to", |_, (_, to)| (*to).into()),
    ],
};
pub(super) static LINK: Kind<(bool, Knob, f64)> = Kind {
    name: "link",
    says: "a setting of the machine's link became otherwise",
    keys: &[
        machine(),
        Key { name: "way", says: "up or down", get: |_, (up, ..)| if *up { "up" } else { "down" }.into() },
        Key {
            name: "setting",
            says: "as in `links` of the first row",
            get: |_, (_, knob, _)| super::head::setting(knob.spec()).into(),
        },
        key("value", |_, (.., value)| (*value).into()),
    ],
};
pub(super) static FROZEN: Kind<LabTime> = Kind {
    name: "frozen",
    says: "the machine stands still",
    keys: &[machine(), tick(), key("lasts_ns", |_, lasts| lasts.0.into())],
};
pub(super) static PRESSED: Kind<LabTime> = Kind {
    name: "pressed",
    says: "hands that had rested moved something; `at_ns` is the frame that noticed",
    keys: &[
        machine(),
        Key { name: "tick", says: "the newest by then: a later one samples it", get: tick::<LabTime>().get },
        Key { name: "hand_ns", says: "when the hand moved", get: |_, by| by.0.into() },
    ],
};
pub(super) static TRICK: Kind<Option<LabTime>> = Kind {
    name: "trick",
    says: "a rogue began a trick or ended one",
    keys: &[
        machine(),
        Key {
            name: "tick",
            says: "its newest by then: the trick has the ticks after the one at its begin up to the one at its end",
            get: tick::<Option<LabTime>>().get,
        },
        key("begins", |_, lasts| lasts.is_some().into()),
        key("lasts_ns", |_, lasts| Cell::from(lasts.map(|l| l.0))),
    ],
};
pub(super) static OFFENCE: Kind<()> = Kind {
    name: "offence",
    says: "the first tick of a trick that came out otherwise than its rule would have it",
    keys: &[machine(), tick()],
};
pub(super) static RULE: Kind<Change> = Kind {
    name: "rule",
    says: "another rule takes the place of one from this tick on",
    keys: &[
        tick(),
        Key { name: "reach", says: "all, or a machine", get: |place, change| reach(place, change.reach).into() },
        Key {
            name: "place",
            says: "of the one before among `rules` of the first row, from 0",
            get: |_, change| match change.what {
                Changed::Reloaded { kind, .. } => kind.into(),
                Changed::Tuned { .. } | Changed::Solid { .. } => Cell::Null,
            },
        },
        Key {
            name: "version",
            says: "counting what was read",
            get: |_, change| match change.what {
                Changed::Reloaded { version, .. } => version.into(),
                Changed::Tuned { .. } | Changed::Solid { .. } => Cell::Null,
            },
        },
        Key {
            name: "rule",
            says: "as in the first row",
            get: |place, change| match &change.what {
                Changed::Reloaded { kind, rule, .. } => {
                    let known = |part| place.record.known(MachineId::SERVER, part, change.tick);
                    let of = |known: Arc<Known>| known.tunables[usize::from(*kind)].clone();
                    super::head::rule(&**rule, &of(known(Part::Server)), &of(known(Part::Client))).into()
                }
                Changed::Tuned { .. } | Changed::Solid { .. } => Cell::Null,
            },
        },
    ],
};
pub(super) static GROUND: Kind<(Reach, SolidId, bool)> = Kind {
    name: "ground",
    says: "a solid of the first row is there from this tick on, or no more",
    keys: &[
        tick(),
        Key { name: "reach", says: "all, or a machine", get: |place, (to, ..)| reach(place, *to).into() },
        Key { name: "solid", says: "its id in the first row", get: |_, (_, solid, _)| solid.0.into() },
        key("there", |_, (.., there)| (*there).into()),
    ],
};
pub(super) static COMMAND: Kind<Command> = Kind {
    name: "command",
    says: "something was turned or taken over, with keys of its own: see below",
    keys: &[machine(), tick()],
};

/// What is given by name, as the rule of the body has it; what is at rest is left out.
fn given(place: &RowContext<'_>, given: &Input) -> Value {
    let Some(body) = place.record.cast.body(place.machine, place.record.end) else { return Value::Null };
    let layout = place.record.layout(body, RecordTick(0));
    let cells = super::head::input_cells(layout.schema(), given).filter(|(_, cell)| !cell.is_at_rest());
    json!(Cell::Fields(cells.collect()))
}

/// The keys that a command adds.
pub(super) fn command(place: &RowContext<'_>, command: &Command) -> Value {
    let cast = &place.record.cast;
    let rule = |kind| cast.kinds().motion(kind).name();
    let reach = |reach: Reach| super::kind::reach(place, reach);
    match *command {
        Command::Set { knob, value, .. } => json!({
            "knob": knob.spec().key, "unit": knob.spec().unit,
            "value": match value {
                KnobValue::Auto => json!("auto"),
                KnobValue::Switch(on) => on.into(),
                KnobValue::Number(x) => json!(x),
            },
        }),
        // The row is kept with the machine of who takes the helm.
        Command::Helm(member) => json!({ "helm": member.map(|_| cast.name(place.machine)) }),
        Command::Calm(calm) => json!({ "calm": calm.name() }),
        // Told by a row of its own.
        Command::Mend(_) => json!({ "mends": true }),
        Command::Moves(_, coming) => json!({ "moves": coming.name() }),
        // Told by a row of its own.
        Command::Happens(_, sudden) => json!({ "happens": sudden.name() }),
        Command::Keys(c) => json!({
            "stick": [c.stick.0, c.stick.1], "facing": c.facing, "pitch": c.pitch,
            "order": c.order.map(|order| [order.x, order.y, order.z]), "given": given(place, &c.given),
        }),
        Command::Tune { kind, tunable, value, reach: r } => {
            json!({ "tune": tunable, "value": value, "gait": rule(kind), "reach": reach(r) })
        }
        Command::Reload { kind, version, reach: r } => {
            json!({ "reload": rule(kind), "version": version, "reach": reach(r) })
        }
        Command::Solid { solid, there, reach: r } => {
            json!({ "solid": solid.0, "there": there, "reach": reach(r) })
        }
        Command::Allow { rule, times } => json!({ "allow": times, "rule": rule.name() }),
        Command::TakeOver { version } => json!({ "takes_over": "course", "version": version }),
    }
}

/// The row of something that happens seldom.
pub(super) fn happening(page: &mut Page, place: &RowContext<'_>, part: Part, what: &Happening) {
    match what {
        Happening::Fact(fact) => self::fact(page, place, part, fact),
        Happening::Pushed(entity, by) => page.put(&PUSHED, place, &(*entity, *by)),
        Happening::Link { up, knob, value } => page.put(&LINK, place, &(*up, *knob, *value)),
        Happening::Teleported(entity, to) => page.put(&PUT_ELSEWHERE, place, &(*entity, *to)),
        Happening::Frozen(lasts) => page.put(&FROZEN, place, lasts),
        Happening::Started => page.put(&STARTED, place, &()),
        Happening::Crashed => page.put(&CRASHED, place, &()),
        Happening::Leaves => page.put(&LEAVES, place, &()),
        Happening::Ordered(entity, to) => page.put(&ORDERED, place, &(*entity, *to)),
        Happening::Pressed(by) => page.put(&PRESSED, place, by),
        Happening::Trick { lasts } => page.put(&TRICK, place, lasts),
        Happening::Offence => page.put(&OFFENCE, place, &()),
        Happening::Command(done) => {
            let more = match command(place, done) {
                Value::Object(more) => more,
                _ => Map::new(),
            };
            page.put_with(&COMMAND, place, None, done, more.into_iter().map(|(key, value)| (key, value.into())));
        }
    }
}

fn fact(page: &mut Page, place: &RowContext<'_>, part: Part, fact: &Fact) {
    match fact {
        Fact::Corrected(c) if c.why == Restored::Settled => page.put(&SETTLED, place, c),
        Fact::Corrected(c) => page.put(&CORRECTION, place, c),
        Fact::Verdict(v) => page.put(&VERDICT, place, v),
        Fact::Note(v) => page.put(&NOTE, place, v),
        Fact::Resync { why, .. } => page.put(&RESYNC, place, why),
        Fact::PulledBack { entity, epoch, to, .. } => page.put(&PULLED_BACK, place, &(*entity, *epoch, *to)),
        Fact::Dropped { count, .. } => page.put(&DROPPED, place, &(*count, part)),
        Fact::StepFault { field, .. } => page.put(&STEP_FAULT, place, field),
        Fact::ClockSet { shift } => page.put(&CLOCK_SET, place, shift),
        Fact::Joined { .. } => page.put(&JOINED, place, &()),
        Fact::Denied(why) => page.put(&DENIED, place, why),
        Fact::Unheard => page.put(&UNHEARD, place, &()),
        Fact::Out(why) => page.put(&OUT, place, why),
        Fact::Entered { entity, .. } => page.put(&ENTERED, place, entity),
        Fact::Left { entity, .. } => page.put(&LEFT, place, entity),
        Fact::Owns { entity, owns, .. } => page.put(&OWNS, place, &(*entity, *owns)),
        Fact::Connected { peer, again, .. } => page.put(&CONNECTED, place, &(*peer, *again)),
        Fact::Ended { peer, why, .. } => page.put(&ENDED, place, &(*peer, *why)),
        Fact::Refused { why, .. } => page.put(&REFUSED, place, why),
        Fact::RuleDiffers { kind, .. } => page.put(&RULE_DIFFERS, place, kind),
        Fact::Born { entity, .. } => page.put(&BORN, place, entity),
        Fact::Gone { entity, .. } => page.put(&GONE, place, entity),
        Fact::Owner { entity, player, owns, .. } => page.put(&OWNER, place, &(*entity, *player, *owns)),
        Fact::Obeyed { entity, .. } => page.put(&OBEYED, place, entity),
        // Kept in tables of their own, or not at all.
        Fact::Clock(_) | Fact::Received { .. } | Fact::Agreed { .. } => {}
    }
}

/// Every kind of row but the first and the last, as people read of it.
pub fn row_kinds() -> Vec<RowSpec> {
    vec![
        AUTHORITY.spec(),
        PREDICTED.spec(),
        REWRITTEN.spec(),
        RECEIVED.spec(),
        FRAME.spec(),
        DRAWN.spec(),
        MESSAGE.spec(),
        INPUT.spec(),
        WINDOW.spec(),
        CORRECTION.spec(),
        SETTLED.spec(),
        VERDICT.spec(),
        NOTE.spec(),
        PULLED_BACK.spec(),
        RESYNC.spec(),
        CLOCK.spec(),
        MEASURE.spec(),
        DROPPED.spec(),
        CLOCK_SET.spec(),
        STARTED.spec(),
        JOINED.spec(),
        DENIED.spec(),
        REFUSAL.spec(),
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
        PUT_ELSEWHERE.spec(),
        LINK.spec(),
        FROZEN.spec(),
        TRICK.spec(),
        OFFENCE.spec(),
        STEP_FAULT.spec(),
        RULE.spec(),
        TUNED.spec(),
        GROUND.spec(),
        COMMAND.spec(),
    ]
}
