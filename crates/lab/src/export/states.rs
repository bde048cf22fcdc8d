//! Rows of states, and of what was drawn.

use velocitas_analysis::metrics::Window;
use velocitas_record::ids::ActorId;
use velocitas_record::record::{DrawnRow, StateHead};

use super::cell::Cell;
use super::kind::{Key, Kind, actor_name, key, machine};

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

pub(super) static ECHO: Kind<StateRow> = Kind {
    name: "echo",
    says: "what others are sent in the place of the authority's state of a tick, where that is another: its smooth echo, and once when it is there again; `teleported` where it was cut",
    keys: &[STATE_ENTITY, STATE_TICK, TELEPORTED],
};

pub(super) static PREDICTED: Kind<StateRow> = Kind {
    name: "predicted",
    says: "the owner's first prediction of a tick, with a key for each state field",
    keys: &[machine(), STATE_ENTITY, STATE_TICK, CONTACTS],
};

pub(super) static REWRITTEN: Kind<StateRow> = Kind {
    name: "rewritten",
    says: "a tick predicted again after a correction, with a key for each state field",
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

/// What a machine saw of an entity in a second.
pub(super) struct Seen {
    pub(super) actor: ActorId,
    pub(super) own: bool,
    pub(super) frames: usize,
    pub(super) window: Window,
}

pub(super) static WINDOW: Kind<Seen> = Kind {
    name: "window",
    says: "what a machine drew of an entity in the second from `at_ns` on, compared with the server: see the report's page",
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
        Key { name: "judder_mps", says: "null as before", get: |_, seen| Cell::from(seen.window.judder_mps) },
        key("hops", |_, seen| seen.window.hops.into()),
    ],
};
