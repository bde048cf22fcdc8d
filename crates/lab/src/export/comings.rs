//! The rows about who comes, goes and owns what.

use velocitas_core::{Denied, EndedBy, EntityId, PeerId, Token};
use velocitas_record::ids::ActorId;

use super::cell::Cell;
use super::kind::{Key, Kind, actor_name, entity_name, key, machine, tick};

pub(super) static JOINED: Kind<()> = Kind { name: "joined", says: "a client joined", keys: &[machine(), tick()] };
pub(super) static STARTED: Kind<()> =
    Kind { name: "started", says: "a member's program was started", keys: &[machine()] };
pub(super) static CRASHED: Kind<()> =
    Kind { name: "crashed", says: "a member's program ended without a word", keys: &[machine(), tick()] };
pub(super) static LEAVES: Kind<()> =
    Kind { name: "leaves", says: "a member's program says goodbye", keys: &[machine(), tick()] };
pub(super) static ORDERED: Kind<(EntityId, Option<(f32, f32)>)> = Kind {
    name: "ordered",
    says: "hands gave an order to an entity with several owners; it is shown at once and obeyed when the server has it",
    keys: &[
        machine(),
        tick(),
        key("entity", |place, (entity, _)| entity_name(place, *entity)),
        Key { name: "to", says: "null: to nowhere", get: |_, (_, to)| Cell::from(to.map(|(x, y)| [x, y])) },
    ],
};
pub(super) static DENIED: Kind<Denied> = Kind {
    name: "denied",
    says: "a client was told that it was refused",
    keys: &[machine(), Key { name: "why", says: DENIALS, get: |_, why| why.name().into() }],
};
pub(super) static UNHEARD: Kind<()> = Kind {
    name: "unheard",
    says: "a client heard nothing of the server for too long, was told that it is gone, or that what it answered while joining is no longer valid, and asks anew",
    keys: &[machine()],
};
pub(super) static OUT: Kind<EndedBy> = Kind {
    name: "out",
    says: "a client is out until its program is started again",
    keys: &[machine(), Key { name: "why", says: "leave, return, dismissal, verdict", get: |_, why| why.name().into() }],
};
pub(super) static ENTERED: Kind<EntityId> = Kind {
    name: "entered",
    says: "a client learnt of an entity, by the snapshot of this tick",
    keys: &[machine(), tick(), ABOUT],
};
pub(super) static LEFT: Kind<EntityId> = Kind {
    name: "left",
    says: "a client learnt that an entity is gone, by the snapshot of this tick",
    keys: &[machine(), tick(), ABOUT],
};
pub(super) static SEEN: Kind<ActorId> = Kind {
    name: "seen",
    says: "a client drew an entity for the first time since it began to play",
    keys: &[machine(), key("entity", |place, actor| actor_name(place, *actor))],
};
pub(super) static OWNS: Kind<(EntityId, bool)> = Kind {
    name: "owns",
    says: "a client learnt that an entity is its own, or no longer, by the snapshot of this tick",
    keys: &[
        machine(),
        tick(),
        key("entity", |place, (entity, _)| entity_name(place, *entity)),
        key("owns", |_, (_, owns)| (*owns).into()),
    ],
};
pub(super) static CONNECTED: Kind<(PeerId, bool)> = Kind {
    name: "connected",
    says: "a connection began; `again`: its player had another one until then",
    keys: &[
        machine(),
        tick(),
        Key { name: "connection", says: "place and epoch at the server", get: |_, (peer, _)| peer.to_string().into() },
        key("again", |_, (_, again)| (*again).into()),
    ],
};
pub(super) static ENDED: Kind<(PeerId, EndedBy)> = Kind {
    name: "ended",
    says: "a connection is no more",
    keys: &[
        machine(),
        tick(),
        key("connection", |_, (peer, _)| peer.to_string().into()),
        Key { name: "why", says: "leave, silence, return, dismissal, verdict", get: |_, (_, why)| why.name().into() },
        Key {
            name: "rule",
            says: "of a verdict by which it ended: the rule",
            get: |_, (_, why)| why.rule().map_or(Cell::Null, |rule| rule.name().into()),
        },
    ],
};
pub(super) static REFUSED: Kind<Denied> = Kind {
    name: "refused",
    says: "the server did not let the machine in",
    keys: &[machine(), Key { name: "why", says: DENIALS, get: |_, why| why.name().into() }],
};
pub(super) static RULE_DIFFERS: Kind<u8> = Kind {
    name: "rule_differs",
    says: "a client was let in whose rule has the same layout and does something else",
    keys: &[machine(), key("rule", |place, kind| place.record.cast.kinds().motion(*kind).name().into())],
};
pub(super) static BORN: Kind<EntityId> =
    Kind { name: "born", says: "an entity exists from this tick on", keys: &[tick(), ABOUT, ID] };
pub(super) static GONE: Kind<EntityId> =
    Kind { name: "gone", says: "an entity is gone from this tick on", keys: &[tick(), ABOUT, ID] };
pub(super) static OWNER: Kind<(EntityId, Token, bool)> = Kind {
    name: "owner",
    says: "from this tick on a machine's player owns an entity, or no longer",
    keys: &[
        tick(),
        key("entity", |place, (entity, ..)| entity_name(place, *entity)),
        Key {
            name: "owner",
            says: "a machine",
            get: |place, (_, player, _)| {
                let cast = &place.record.cast;
                cast.machine_with(*player).map_or(Cell::Null, |machine| cast.name(machine).into())
            },
        },
        key("owns", |_, (.., owns)| (*owns).into()),
    ],
};
pub(super) static OBEYED: Kind<EntityId> = Kind {
    name: "obeyed",
    says: "of several owners, this machine's new order arrived last and is obeyed from this tick on",
    keys: &[machine(), tick(), ABOUT],
};

/// The entity that a row is about.
const ABOUT: Key<EntityId> = key("entity", |place, entity| entity_name(place, *entity));
/// What the machines call it.
const ID: Key<EntityId> =
    Key { name: "id", says: "slot and generation in the world", get: |_, entity| entity.to_string().into() };
/// Why somebody is not let in.
const DENIALS: &str = "version, unknown, full, kinds, layout, over";
