//! Rows of what was done to a run: events, settings, rules, ground and commands.

use std::sync::Arc;

use serde_json::{Value, json};
use velocitas_core::{EntityId, Input, SolidId};
use velocitas_record::command::Command;
use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::knob::KnobValue;
use velocitas_record::known::{Change, Changed, Known, Reach};
use velocitas_record::settings::Knob;
use velocitas_record::time::LabTime;

use super::cell::Cell;
use super::kind::{Key, Kind, RowContext, entity_name, key, machine, reach, tick};

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
    says: "a setting of the machine's link changed",
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
    says: "the first tick of a trick that differs from what its rule would have made",
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
    says: "a solid of the first row is there from this tick on, or no longer",
    keys: &[
        tick(),
        Key { name: "reach", says: "all, or a machine", get: |place, (to, ..)| reach(place, *to).into() },
        Key { name: "solid", says: "its id in the first row", get: |_, (_, solid, _)| solid.0.into() },
        key("there", |_, (.., there)| (*there).into()),
    ],
};

pub(super) static COMMAND: Kind<Command> = Kind {
    name: "command",
    says: "something was set, done or taken over, with keys of its own: see below",
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
                KnobValue::Choice(_) => json!(knob.chosen(value).map(|choice| choice.name)),
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
