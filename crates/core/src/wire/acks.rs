//! What has been understood of the other side, how long its answers take, and what of one's own has come: the one ledger of what was sent in which
//! datagram.

use super::datagram::{Ack, Header};
use super::kind::MessageKind;
use crate::ids::EntityId;
use crate::tick::{HostNanos, Tick};

/// What one side has decoded of the other's datagrams, and when it sent its own.
#[derive(Clone, Debug)]
pub struct Acks {
    seen: Option<Seen>,
    next: u16,
    sent: [Sent; SENT],
    /// The newest tick that was told of.
    newest: Tick,
    /// Whether this side lacks what it was told against.
    pub(crate) lacks: bool,
}

#[derive(Clone, Copy, Debug)]
struct Seen {
    newest: u16,
    mask: u32,
    at: HostNanos,
}

/// A datagram of one's own. There are many in what is kept of a machine: it is small.
#[derive(Clone, Copy, Debug, Default)]
struct Sent {
    at: HostNanos,
    /// The low half of the tick that is told by it.
    tick: u32,
    bytes: u16,
    sequence: u16,
    index: u16,
    generation: u8,
    /// Which of all that are known, below.
    known: u8,
}

/// That it was sent, that it has come, that it tells of a tick, and of one entity.
const SENT_AT_ALL: u8 = 1;
const COME: u8 = 2;
const OF_TICK: u8 = 4;
const OF_ENTITY: u8 = 8;

impl Sent {
    const fn is(&self, sequence: u16) -> bool {
        self.known & SENT_AT_ALL != 0 && self.sequence == sequence
    }

    /// What it holds, where the newest tick told of is known.
    fn load(&self, newest: Tick) -> Load {
        let tick = || newest.offset(-i64::from((newest.0 as u32).wrapping_sub(self.tick)));
        let entity = || EntityId { index: self.index, generation: self.generation };
        Load {
            bytes: u32::from(self.bytes),
            tick: (self.known & OF_TICK != 0).then(tick),
            entity: (self.known & OF_ENTITY != 0).then(entity),
        }
    }
}

/// What is to be known of a datagram once it has come.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Load {
    /// Its bytes, where they count for the pace at which is sent; else none.
    pub(crate) bytes: u32,
    /// The tick that is told by it, where later ones may be told against that, and of which entity, if of one.
    pub(crate) tick: Option<Tick>,
    pub(crate) entity: Option<EntityId>,
}

/// Datagrams remembered: a second at 256 a second, beyond which a round trip is not measured. More than an acknowledgement reaches back.
const SENT: usize = 256;

/// Ten seconds: at most 20,000 datagrams at two a tick and 1000 Hz, well below half of the number space.
const SILENCE: i64 = 10_000_000_000;

impl Default for Acks {
    fn default() -> Self {
        Self { seen: None, next: 0, sent: [Sent::default(); SENT], newest: Tick(0), lacks: false }
    }
}

impl Acks {
    /// Notes a decoded datagram. `false` when it is a duplicate or too old to tell: drop it.
    #[must_use]
    pub fn decoded(&mut self, sequence: u16, now: HostNanos) -> bool {
        // After a long silence 16 bits no longer tell before from after: begin anew.
        let silent = self.seen.is_none_or(|seen| now.since(seen.at) > SILENCE);
        let Some(seen) = self.seen.as_mut().filter(|_| !silent) else {
            self.seen = Some(Seen { newest: sequence, mask: 0, at: now });
            return true;
        };
        let ahead = sequence.wrapping_sub(seen.newest) as i16;
        if ahead > 0 {
            let shift = ahead as u32;
            seen.mask = if shift > 32 { 0 } else { seen.mask.checked_shl(shift).unwrap_or(0) | 1u32 << (shift - 1) };
            seen.newest = sequence;
            seen.at = now;
            return true;
        }
        let back = ahead.unsigned_abs();
        if back == 0 || back > 32 || seen.mask & 1 << (back - 1) != 0 {
            return false;
        }
        seen.mask |= 1 << (back - 1);
        true
    }

    /// The envelope of the next datagram to send.
    pub fn header(&mut self, kind: MessageKind, epoch: u8, now: HostNanos) -> Header {
        let sequence = self.next;
        self.next = self.next.wrapping_add(1);
        self.sent[usize::from(sequence) % SENT] = Sent { sequence, at: now, known: SENT_AT_ALL, ..Sent::default() };
        let ack = self.seen.map(|s| Ack {
            newest: s.newest,
            mask: s.mask,
            hold: (now.since(s.at) / 100_000).clamp(0, i64::from(u16::MAX)) as u16,
        });
        Header { kind, epoch, sequence, ack, sent_us: Some((now.0 / 1000) as u32), lacks: self.lacks }
    }

    /// Notes what the datagram of that number holds.
    pub(crate) fn holds(&mut self, sequence: u16, load: Load) {
        let sent = &mut self.sent[usize::from(sequence) % SENT];
        if !sent.is(sequence) {
            return;
        }
        sent.bytes = load.bytes as u16;
        if let Some(tick) = load.tick {
            (sent.tick, sent.known) = (tick.0 as u32, sent.known | OF_TICK);
            self.newest = self.newest.max(tick);
        }
        if let Some(EntityId { index, generation }) = load.entity {
            (sent.index, sent.generation, sent.known) = (index, generation, sent.known | OF_ENTITY);
        }
    }

    /// What one's own datagrams hold that are known to have come by an acknowledgement and were not before, the oldest first.
    pub(crate) fn arrived<'a>(&'a mut self, ack: &'a Ack) -> impl Iterator<Item = Load> + 'a {
        let newest = self.newest;
        (0..=32u16).rev().filter_map(move |back| {
            let sequence = ack.newest.wrapping_sub(back);
            let sent = &mut self.sent[usize::from(sequence) % SENT];
            let is_new = sent.is(sequence) && sent.known & COME == 0 && ack.has(sequence);
            if !is_new {
                return None;
            }
            sent.known |= COME;
            Some(sent.load(newest))
        })
    }

    /// Round trip in nanoseconds measured by an acknowledgement, the wait at the other side taken out.
    pub fn round_trip(&self, ack: &Ack, now: HostNanos) -> Option<i64> {
        let sent = self.sent_at(ack.newest)?;
        Some((now.since(sent) - i64::from(ack.hold) * 100_000).max(0))
    }

    /// When a remembered datagram was sent.
    pub fn sent_at(&self, sequence: u16) -> Option<HostNanos> {
        let sent = &self.sent[usize::from(sequence) % SENT];
        sent.is(sequence).then_some(sent.at)
    }
}
