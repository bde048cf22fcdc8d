//! Rows of datagrams and of clocks.

use velocitas_record::ids::{MachineId, Part};
use velocitas_record::record::ClockRow;
use velocitas_record::watch::MessageRow;

use super::cell::Cell;
use super::kind::{Key, Kind, entity_name, key, machine, tick};

/// A datagram between two machines.
pub(super) struct Datagram {
    pub(super) from: MachineId,
    pub(super) to: MachineId,
    pub(super) row: MessageRow,
}

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
        Key {
            name: "piece",
            says: "by an ordered stream: the number of its piece, if any",
            get: |_, d| Cell::from(d.row.piece.map(|(number, _)| number)),
        },
        Key {
            name: "sent_before",
            says: "true where that piece was sent before, if any",
            get: |_, d| if d.row.piece.is_some_and(|(_, again)| again) { true.into() } else { Cell::Null },
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
        Key {
            name: "server_us",
            says: "what it takes the server's time to be, since the base of its ticks fell due, if it knows",
            get: |_, row| Cell::from(row.fact.server_us),
        },
    ],
};

/// What was held back in a stream: whether it was on its way up, its number, and for how long.
pub(super) static HELD_BACK: Kind<(bool, u16, u32)> = Kind {
    name: "held_back",
    says: "a message came by an ordered stream, and its turn only later: what was sent before it had not come",
    keys: &[
        machine(),
        Key { name: "way", says: "up or down", get: |_, (up, ..)| if *up { "up" } else { "down" }.into() },
        key("piece", |_, (_, number, _)| (*number).into()),
        key("waited_us", |_, (.., waited)| (*waited).into()),
    ],
};

pub(super) static STREAM_FULL: Kind<bool> = Kind {
    name: "stream_full",
    says: "there was no room in an ordered stream for a message, which was not sent",
    keys: &[machine(), Key { name: "way", says: "up or down", get: |_, up| if *up { "up" } else { "down" }.into() }],
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

pub(super) static CLOCK_SET: Kind<i64> = Kind {
    name: "clock_set",
    says: "the tick clock was set, not slewed",
    keys: &[machine(), tick(), key("shift_ns", |_, shift| (*shift).into())],
};
