//! The rows that a reader needs besides what was drawn: frames, snapshots received, tunables that were turned.

use velocitas_core::{Blending, CameraOn, LookBy};
use velocitas_record::choice::{BLENDING, CAMERA, LOOKS};
use velocitas_record::known::Reach;
use velocitas_record::record::FrameRow;

use super::cell::Cell;
use super::kind::{Key, Kind, key, machine, reach, tick};

pub(super) static FRAME: Kind<FrameRow> = Kind {
    name: "frame",
    says: "a machine that plays drew a frame: its `drawn` rows have the same `at_ns`",
    keys: &[
        machine(),
        Key {
            name: "tick",
            says: "the moment at which others are drawn: this tick and `fraction` on towards the next; null before anything was received",
            get: |place, row| if row.sees { place.shown(row.tick) } else { Cell::Null },
        },
        key("fraction", |_, row| if row.sees { row.fraction.into() } else { Cell::Null }),
        Key {
            name: "blends",
            says: "whether others are drawn at that moment; else where they were last heard of",
            get: |_, row| row.blends.into(),
        },
        Key {
            name: "blending",
            says: "in which way, if not each field as its rule says",
            get: |_, row| {
                let chosen = &BLENDING[row.blending as usize];
                if row.blending == Blending::ByField { Cell::Null } else { chosen.name.into() }
            },
        },
        Key {
            name: "looks",
            says: "in which way it has what others look to be doing, if not the steady one",
            get: |_, row| if row.looks == LookBy::Steady { Cell::Null } else { LOOKS[row.looks as usize].name.into() },
        },
        Key {
            name: "camera",
            says: "when its camera is moved, if not in each frame",
            get: |_, row| {
                if row.camera == CameraOn::Frame { Cell::Null } else { CAMERA[row.camera as usize].name.into() }
            },
        },
        Key {
            name: "limit_ms",
            says: "how far others may run on past what was last heard of them",
            get: |_, row| row.limit_ms.into(),
        },
    ],
};
pub(super) static RECEIVED: Kind<()> =
    Kind { name: "received", says: "a client took the snapshot of a tick", keys: &[machine(), tick()] };
pub(super) static REFUSAL: Kind<String> = Kind {
    name: "refusal",
    says: "what a refused machine shows its player, each time that changes",
    keys: &[machine(), key("words", |_, words| words.clone().into())],
};
/// A tunable that was turned: where, of which rule, which, to what.
pub(super) type Tuned = (Reach, u8, &'static str, f32);
pub(super) static TUNED: Kind<Tuned> = Kind {
    name: "tuned",
    says: "a tunable of a rule changes from this tick on",
    keys: &[
        tick(),
        Key { name: "reach", says: "all, or a machine", get: |place, (to, ..)| reach(place, *to).into() },
        Key {
            name: "place",
            says: "the rule's among `rules` of the first row, from 0",
            get: |_, (_, kind, ..)| (*kind).into(),
        },
        key("tunable", |_, (_, _, tunable, _)| (*tunable).into()),
        Key { name: "value", says: "in SI units", get: |_, (.., value)| (*value).into() },
    ],
};
