//! What is to be sent: kept until it is known to have come.
//!
//! What has come the other side says twice: how far without a gap, in its pieces, and which datagrams, in any envelope. A piece is taken for lost when three
//! that were sent after it have come (RFC 6675), or when the time-out runs out.

use std::collections::VecDeque;

use super::incoming::MOST_AHEAD;
use super::timeout::TimeOut;
use super::window::{MOST_BYTES, Window};
use crate::tick::{HostNanos, Tick};
use crate::wire::{Ack, MessageKind};

/// Messages that wait at most, those under way with them.
const MOST: usize = 512;
/// Timers are looked at about so often.
const STEP: i64 = 16_000_000;
/// So many that were sent later have come before one is taken for lost.
const OVERTAKEN_BY: usize = 3;

/// How it stands with a piece.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fate {
    /// To be sent, for the first time or again.
    Waits,
    /// On its way.
    UnderWay,
    /// It has come, though one before it may not.
    Come,
}

/// Bytes that a piece takes beside its message: its head, the envelope, and headers of UDP and IPv4. Small as messages are, these are most of it.
const BESIDE: usize = 5 + 16 + 28;

/// A message to be sent.
#[derive(Clone, Debug)]
pub(super) struct Piece {
    pub(super) number: u16,
    pub(super) kind: MessageKind,
    pub(super) body: Vec<u8>,
    /// How often it was sent.
    pub(super) times: u32,
    tick: Tick,
    fate: Fate,
    /// When it was sent last, in which datagram, and what that was in the order of sending.
    sent: HostNanos,
    sequence: u16,
    order: u64,
}

impl Piece {
    /// Bytes that it takes on the way.
    const fn size(&self) -> usize {
        self.body.len() + BESIDE
    }
}

/// One direction's sender.
#[derive(Clone, Debug, Default)]
pub(super) struct Outgoing {
    /// The oldest first.
    pieces: VecDeque<Piece>,
    pub(super) next: u16,
    /// Bytes of all, and of those under way.
    held: usize,
    flight: usize,
    /// How often a piece was sent.
    orders: u64,
    /// The newest that have come, in the order of sending.
    newest: [u64; OVERTAKEN_BY],
    /// What was sent before this belongs to a loss already noticed.
    noticed: u64,
    timeout: TimeOut,
    window: Window,
    /// When all that is under way is taken for lost.
    due: Option<HostNanos>,
}

impl Outgoing {
    pub(super) fn push(&mut self, kind: MessageKind, tick: Tick, body: Vec<u8>) -> bool {
        if self.pieces.len() >= MOST || self.held + body.len() > MOST_BYTES {
            return false;
        }
        self.held += body.len();
        let (number, fate, sent) = (self.next, Fate::Waits, HostNanos::default());
        self.pieces.push_back(Piece { number, kind, body, times: 0, tick, fate, sent, sequence: 0, order: 0 });
        self.next = self.next.wrapping_add(1);
        true
    }

    /// The next piece to send, if one may be sent now; it will be said in which datagram.
    pub(super) fn poll(&mut self, now: HostNanos) -> Option<usize> {
        if self.due.is_some_and(|due| now >= due) {
            self.time_out();
        }
        let place = self.pieces.iter().take(MOST_AHEAD).position(|piece| piece.fate == Fate::Waits)?;
        // One may always be under way.
        let fits = self.flight == 0 || self.flight + self.pieces[place].size() <= self.window.size();
        fits.then_some(place)
    }

    /// That piece goes out in the datagram with this number.
    pub(super) fn sent(&mut self, place: usize, now: HostNanos, sequence: u16) -> &Piece {
        self.orders += 1;
        self.due.get_or_insert(now.plus(self.timeout.length()));
        let piece = &mut self.pieces[place];
        self.flight += piece.size();
        (piece.fate, piece.times, piece.sent) = (Fate::UnderWay, piece.times + 1, now);
        (piece.sequence, piece.order) = (sequence, self.orders);
        piece
    }

    /// Whether it was sent before.
    pub(super) fn is_again(&self, place: usize) -> bool {
        self.pieces[place].times > 0
    }

    /// The piece at a place.
    pub(super) fn at(&self, place: usize) -> (u16, MessageKind) {
        (self.pieces[place].number, self.pieces[place].kind)
    }

    fn time_out(&mut self) {
        self.window.timed_out(self.flight);
        self.timeout.back_off();
        let under_way = self.pieces.iter_mut().filter(|piece| piece.fate == Fate::UnderWay);
        under_way.for_each(|piece| piece.fate = Fate::Waits);
        (self.flight, self.due, self.noticed) = (0, None, self.orders);
    }

    /// The other side says which datagrams it has.
    pub(super) fn told(&mut self, now: HostNanos, ack: &Ack) {
        let mut come = 0;
        for place in 0..self.pieces.len() {
            let piece = &self.pieces[place];
            if piece.fate == Fate::UnderWay && ack.has(piece.sequence) {
                come += self.come(place, now);
            }
        }
        self.note(come, now);
    }

    /// All before `expects` have come. Gives the tick of the newest of them.
    pub(super) fn acknowledged(&mut self, now: HostNanos, expects: u16) -> Option<Tick> {
        let first = self.pieces.front()?.number;
        let count = usize::from(expects.wrapping_sub(first));
        // Of an older word, or of what was never sent, nothing is made.
        if count == 0 || self.pieces.iter().take(count).filter(|piece| piece.times > 0).count() < count {
            return None;
        }
        let mut come = 0;
        for place in 0..count {
            come += self.come(place, now);
        }
        let newest = self.pieces.drain(..count).fold(None, |_, piece| {
            self.held -= piece.body.len();
            Some(piece.tick)
        });
        self.note(come, now);
        newest
    }

    /// A piece has come. Gives its bytes, if that is new.
    fn come(&mut self, place: usize, now: HostNanos) -> usize {
        let piece = &mut self.pieces[place];
        let before = std::mem::replace(&mut piece.fate, Fate::Come);
        if before == Fate::UnderWay {
            self.flight -= piece.size();
        }
        if before == Fate::Come {
            return 0;
        }
        // Which of several it was that came is not known.
        if piece.times == 1 {
            self.timeout.sample(now.since(piece.sent), STEP);
        }
        let mut order = piece.order;
        for newest in &mut self.newest {
            if order > *newest {
                std::mem::swap(newest, &mut order);
            }
        }
        piece.size()
    }

    /// This many bytes more are known to have come.
    fn note(&mut self, bytes: usize, now: HostNanos) {
        if bytes == 0 {
            return;
        }
        // A window that is not made use of says nothing of what the way carries.
        if 2 * (self.flight + bytes) >= self.window.size() {
            self.window.grow(bytes);
        }
        let overtaken = self.newest[OVERTAKEN_BY - 1];
        let flight = self.flight + bytes;
        for piece in self.pieces.iter_mut().filter(|p| p.fate == Fate::UnderWay && p.order < overtaken) {
            piece.fate = Fate::Waits;
            self.flight -= piece.size();
            if piece.order > self.noticed {
                self.window.lost(flight);
                self.noticed = self.orders;
            }
        }
        let waits = self.pieces.iter().any(|piece| piece.fate != Fate::Come && piece.times > 0);
        self.due = waits.then(|| now.plus(self.timeout.length()));
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        self.held + self.pieces.capacity() * size_of::<Piece>()
    }
}
