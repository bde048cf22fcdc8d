//! The first row: everything that a reader needs to make sense of the rest without the program that wrote it.

use std::sync::Arc;

use serde_json::{Map, Value, json};
use velocitas_core::{Agree, Blend, Input, InputKind, LIMITS, Motion, Schema, SeenBy, Shape, State, Tunable};
use velocitas_record::Conditions;
use velocitas_record::host::HostSpec;
use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::knob::{Accessor, Knobs};
use velocitas_record::quantity::Takes;
use velocitas_record::record::{Cast, Record};
use velocitas_record::settings::{KnobSpec, SETTINGS};

use super::cell::Cell;
use crate::course::Material;

/// The format of the lines.
pub const RECORD_FORMAT: u32 = 3;

/// The first row of a record, without what says that it is one.
pub(super) fn head(record: &Record, take: Option<&str>) -> Value {
    let cast = &record.cast;
    let actors = cast.actors.iter().map(|actor| {
        let rule = cast.kinds().motion(actor.kind);
        json!({
            "name": actor.name, "id": actor.id.to_string(), "rule": rule.name(),
            "came_with": actor.came_with.map(|machine| cast.name(machine)),
            "born_ns": actor.born.0.0, "gone_ns": actor.gone.map(|(gone, _)| gone.0),
            "owners_at_birth": actor.owners_at(actor.born.0).into_iter().map(|m| cast.name(m)).collect::<Vec<_>>(),
        })
    });
    let mut head = json!({
        "course": cast.title, "seed": cast.seed,
        "tick_rate": cast.rate.hz(), "first_tick": cast.first.0, "ends_ns": record.end.0,
        "cast": actors.collect::<Vec<_>>(),
        "machines": cast.machines().map(|machine| self::machine(cast, machine)).collect::<Vec<_>>(),
        "rules": rules(record),
        "ground": ground(cast),
        "silence_ms": {
            "hold": cast.origin.patience.hold_ms, "gone": cast.origin.patience.gone_ms,
            "keep": cast.origin.patience.keep_ms,
        },
        "course_text": &*cast.origin.text,
        "gaits": cast.origin.gaits.iter().map(|g| json!({ "path": g.path, "text": g.text })).collect::<Vec<_>>(),
    });
    if let Some(take) = take {
        head["take"] = take.lines().collect();
    }
    head
}

fn machine(cast: &Cast, machine: MachineId) -> Value {
    let info = &cast.machines[machine.index()];
    let mut map = Map::new();
    map.insert("name".into(), info.name.as_str().into());
    map.insert("decides".into(), info.serves.into());
    map.insert("host".into(), host(&info.host));
    if let Some(player) = &info.player {
        map.insert("plays".into(), player.role.name().into());
        map.insert("arrangement".into(), player.arrangement.name().into());
        map.insert("link".into(), link(cast, &player.knobs));
        map.insert("settings".into(), settings(&player.knobs));
    }
    Value::Object(map)
}

fn host(host: &HostSpec) -> Value {
    json!({
        "clock_offset_ns": host.offset.0, "clock_drift_ppm": host.drift_ppm, "first_frame_ns": host.phase.0,
        "frame_rate_hz": host.fps, "frame_unevenness": host.unevenness, "hitches_per_minute": host.hitches_per_minute,
        "hitch_ms": host.hitch.millis(),
    })
}

/// The unit of what is kept of a setting, as part of a key.
fn unit(takes: Takes) -> &'static str {
    match takes {
        Takes::Time | Takes::TimeOrAuto => "_ms",
        Takes::Length => "_m",
        Takes::Often => "_per_minute",
        Takes::Bandwidth => "_kbit_per_s",
        Takes::Size => "_kb",
        Takes::Speed => "_mps",
        Takes::Flow => "_bytes_per_s",
        _ => "",
    }
}

/// The key of a setting, with the unit that it is kept in.
pub(super) fn setting(spec: &KnobSpec) -> String {
    format!("{}{}", spec.key, unit(spec.takes))
}

/// Every setting of the link, both ways.
fn link(cast: &Cast, knobs: &Knobs) -> Value {
    let way = |conditions: &Conditions| {
        let trace = conditions.trace.and_then(|number| cast.origin.traces.get(usize::from(number.0)));
        let all = SETTINGS.iter().filter_map(|spec| match spec.accessor {
            Accessor::Link { get, .. } => Some((setting(spec), json!(get(conditions)))),
            _ => None,
        });
        let trace = trace.map(|trace| ("trace".to_owned(), Value::from(trace.name.as_str())));
        Value::Object(all.chain(trace).collect())
    };
    json!({ "up": way(&knobs.up), "down": way(&knobs.down) })
}

/// Every setting of the client.
fn settings(knobs: &Knobs) -> Value {
    let all = SETTINGS.iter().filter_map(|spec| {
        let value = match spec.accessor {
            Accessor::Link { .. } => return None,
            Accessor::Number { get, .. } => json!(get(knobs)),
            Accessor::NumberOrAuto { get, .. } => get(knobs).map_or_else(|| json!("auto"), |x| json!(x)),
            Accessor::Switch { get, .. } => json!(get(knobs)),
            Accessor::Choice { .. } => json!(spec.knob.chosen(spec.knob.get(knobs)).map(|choice| choice.name)),
        };
        Some((setting(spec), value))
    });
    Value::Object(all.collect())
}

fn rules(record: &Record) -> Value {
    let start = |part| record.known(MachineId::SERVER, part, RecordTick(0));
    let [server, clients] = [Part::Server, Part::Client].map(|part| match part {
        Part::Server => start(part),
        Part::Client => Arc::new(record.cast.rules(part).clone()),
    });
    let rule = |(kind, rule): (u8, &dyn Motion)| {
        let place = usize::from(kind);
        self::rule(rule, &server.tunables[place], &clients.tunables[place])
    };
    Value::Array(record.cast.kinds().iter().map(rule).collect())
}

/// A rule: its layouts, its tunables as both sides know them, its limits.
pub(super) fn rule(rule: &dyn Motion, server: &[f32], clients: &[f32]) -> Value {
    let (body, limits) = (rule.body(), rule.limits(server));
    let tunable = |(i, t): (usize, &Tunable)| {
        json!({
            "name": t.name, "unit": t.unit, "default": t.default, "least": t.least, "most": t.most,
            "at_server": server.get(i), "at_clients": clients.get(i),
        })
    };
    let looks: Vec<Value> =
        rule.looks().iter().map(|look| json!({ "name": look.name, "below_mps": look.below })).collect();
    let mut told = json!({
        "level_mps": limits.level, "up_mps": limits.up, "down_mps": limits.down, "slack": limits.slack,
        "kept_up_mps": limits.burst.map(|b| b.level), "burst_m": limits.burst.map(|b| b.metres),
    });
    LIMITS.iter().for_each(|limit| told[limit.key] = (limit.get)(&limits).into());
    json!({
        "name": rule.name(),
        "state": layout(rule.schema()),
        "input": inputs(rule.schema()),
        "tunables": rule.tunables().iter().enumerate().map(tunable).collect::<Vec<_>>(),
        "limits": told,
        "body": { "radius_m": body.radius, "height_m": body.height, "step_m": body.step },
        "moves": rule.moves(),
        "looks": looks,
    })
}

fn layout(schema: &Schema) -> Value {
    let fields = schema.state.iter().map(|f| {
        let is_number = !matches!(f.shape, Shape::Flag | Shape::Counter);
        json!({
            "name": f.name, "unit": f.unit, "shape": f.shape.name(), "lane": f.lane,
            "agrees_within": match f.agree { Agree::Exactly => 0.0, Agree::Within(most) => most },
            "blend": match f.blend {
                Blend::None => "none",
                Blend::Linear => "linear",
                Blend::Bearing => "bearing",
                Blend::Curve => "curve",
            },
            "wire_step": is_number.then(|| f.wire.step()), "wire_bits": is_number.then(|| f.wire.bits()),
            "seen_by": match f.seen_by { SeenBy::All => "all", SeenBy::Owner => "owner" },
        })
    });
    Value::Array(fields.collect())
}

fn inputs(schema: &Schema) -> Value {
    let fields = schema.input.iter().map(|f| {
        let step = f.kind.quantiser().map(|q| q.step());
        json!({ "name": f.name, "lane": f.lane, "shape": f.kind.name(), "wire_step": step, "wire_bits": f.kind.bits() })
    });
    Value::Array(fields.collect())
}

fn ground(cast: &Cast) -> Value {
    let world = &cast.world;
    let solids = world.solids.iter().map(|named| {
        let s = &named.solid;
        json!({
            "name": named.name, "id": s.id.0, "x_m": s.x, "y_m": s.y, "half_x_m": s.half_x, "half_y_m": s.half_y,
            "yaw_rad": s.yaw, "low_m": s.low, "high_m": s.high, "known_to": named.known_to.name(),
        })
    });
    let zones = world.zones.iter().map(|named| {
        let z = &named.zone;
        let material = match named.material {
            Material::Water => "water",
            Material::Ice => "ice",
            Material::Planks => "planks",
        };
        json!({
            "name": named.name, "surface": material, "min_m": [z.min.0, z.min.1], "max_m": [z.max.0, z.max.1],
            "grip": z.surface.grip, "pace": z.surface.pace,
        })
    });
    let bounds = &world.bounds;
    json!({
        "min_m": [bounds.min.0, bounds.min.1], "max_m": [bounds.max.0, bounds.max.1], "floor_m": bounds.floor,
        "solids": solids.collect::<Vec<_>>(), "zones": zones.collect::<Vec<_>>(),
    })
}

/// A state by the fields of its layout.
pub(super) fn state_cells(schema: &Schema, state: &State) -> impl Iterator<Item = (&'static str, Cell<'static>)> {
    schema.state.iter().map(|f| {
        let cell = match f.shape {
            Shape::Point | Shape::Vector => state.vec3(f.lane).into(),
            Shape::Number | Shape::Bearing => state.real(f.lane).into(),
            Shape::Flag => state.flag(f.lane).into(),
            Shape::Counter => state.int(f.lane).into(),
        };
        (f.name, cell)
    })
}

/// An input by the fields of its layout: a stick is two numbers, a point three or null, a held key true or false, a press a
/// count.
pub(super) fn input_cells(schema: &Schema, input: &Input) -> impl Iterator<Item = (&'static str, Cell<'static>)> {
    schema.input.iter().map(|f| {
        let real = |n: usize| input.real(f.lane + n);
        let cell = match f.kind {
            InputKind::Held => input.flag(f.lane).into(),
            InputKind::Press => input.int(f.lane).into(),
            InputKind::Point { .. } if !input.flag(f.given_lane()) => Cell::Null,
            InputKind::Point { .. } => [real(0), real(1), real(2)].into(),
            InputKind::Stick { .. } => [real(0), real(1)].into(),
            _ => real(0).into(),
        };
        (f.name, cell)
    })
}
