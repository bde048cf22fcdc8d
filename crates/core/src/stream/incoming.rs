//! What has come: in order it is given on, out of order it is held back.

use std::collections::VecDeque;

use crate::event::Fact;
use crate::ids::PeerId;
use crate::tick::HostNanos;
use crate::wire::Header;

/// Numbers under way at most: so many are kept that came out of order.
pub(super) const MOST_AHEAD: usize = 256;
/// Word of a piece is given no later, where no message goes the other way (RFC 5681 allows half a second).
const LATEST: i64 = 40_000_000;
/// Pieces of which word is given at once (RFC 5681, section 4.2).
const AT_ONCE: u32 = 2;
/// Word of so many pieces is owed at most: more say nothing more.
const MOST_OWED: u32 = 8;

/// A message whose turn has come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Delivered {
    /// Which piece it came in.
    pub(crate) number: u16,
    /// For how long it was held back, in nanoseconds.
    pub(crate) waited: i64,
    /// What came.
    pub(crate) came: Came,
}

impl Delivered {
    /// That it was held back, if it was: on the way up or down of a connection.
    pub(crate) fn held_back(&self, peer: PeerId, up: bool) -> Option<Fact> {
        let waited_us = (self.waited / 1000).clamp(0, i64::from(u32::MAX)) as u32;
        (self.waited > 0).then_some(Fact::HeldBack { peer, up, number: self.number, waited_us })
    }
}

/// A message as it came.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Came {
    /// When.
    pub(crate) at: HostNanos,
    /// The envelope in which it came, with the message's own kind.
    pub(crate) header: Header,
    /// Whether it was sent before: the envelope is younger than the message.
    pub(crate) again: bool,
    pub(crate) body: Vec<u8>,
}

/// One direction's receiver.
#[derive(Clone, Debug, Default)]
pub(super) struct Incoming {
    pub(super) next: u16,
    /// What has come from number `next` on; empty behind the last.
    held: VecDeque<Option<Came>>,
    /// Pieces of which no word was given yet, and since when.
    unsaid: u32,
    since: Option<HostNanos>,
    /// Words owed at once, one for each piece that came out of order or again.
    owed: u32,
}

impl Incoming {
    pub(super) fn arrived(&mut self, number: u16, came: Came) {
        let ahead = usize::from(number.wrapping_sub(self.next));
        // One that came before, or far beyond what is ever under way.
        let is_known = ahead >= MOST_AHEAD || self.held.get(ahead).is_some_and(Option::is_some);
        // Of what fills a gap word is owed at once as well.
        if is_known || ahead > 0 || !self.held.is_empty() {
            self.owed = (self.owed + 1).min(MOST_OWED);
        } else {
            self.unsaid += 1;
            self.since.get_or_insert(came.at);
        }
        if is_known {
            return;
        }
        if self.held.len() <= ahead {
            self.held.resize_with(ahead + 1, || None);
        }
        self.held[ahead] = Some(came);
    }

    pub(super) fn deliver(&mut self, now: HostNanos) -> Option<Delivered> {
        let came = self.held.front_mut()?.take()?;
        self.held.pop_front();
        let number = self.next;
        self.next = number.wrapping_add(1);
        Some(Delivered { number, waited: now.since(came.at), came })
    }

    /// The number that is to come next.
    pub(super) const fn expects(&self) -> u16 {
        self.next
    }

    /// Whether word is to be given now, also without a message.
    pub(super) fn owes(&self, now: HostNanos) -> bool {
        self.owed > 0 || self.unsaid >= AT_ONCE || self.since.is_some_and(|since| now.since(since) >= LATEST)
    }

    /// Word is given, with a message or without.
    pub(super) fn says(&mut self, with_message: bool) {
        (self.unsaid, self.since) = (0, None);
        if !with_message {
            self.owed = self.owed.saturating_sub(1);
        }
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        let held = self.held.iter().flatten().map(|came| came.body.len());
        self.held.capacity() * size_of::<Option<Came>>() + held.sum::<usize>()
    }
}
