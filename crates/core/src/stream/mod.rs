//! An ordered, reliable stream in each direction of a connection, for messages that are to arrive all and in order.
//!
//! It is what matters here of TCP: pieces with numbers, cumulative acknowledgements (RFC 9293), sending again after a measured time-out
//! (RFC 6298) or when three sent later have come (RFC 6675; envelopes say which datagrams have), a congestion window (RFC 5681). A piece is a whole
//! message: messages are smaller than a datagram, and each leaves at once if the window has room. What comes out of order is held back until what is before it has come, which is the price
//! of it. Everything is bounded: what there is no room for is not taken, and whoever wanted to send it is told.
//!
//! Timers are looked at whenever the machine is told the time.

mod incoming;
mod outgoing;
mod timeout;
mod window;

use incoming::{Came, Incoming};
use outgoing::Outgoing;

pub(crate) use incoming::Delivered;

use crate::tick::{HostNanos, Tick};
use crate::wire::{Ack, BitWriter, Header, MessageKind, Segment, SegmentHead};

/// What messages travel by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Over {
    /// Each in a datagram of its own, which may be lost or overtaken.
    #[default]
    Datagrams,
    /// By the ordered stream.
    Stream,
}

impl Over {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Datagrams, Self::Stream];
}

/// What inputs travel by, and which do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum InputsOver {
    /// Those of each tick, in datagrams that say the last ones again.
    #[default]
    Datagrams,
    /// Those of each tick, each once, by the ordered stream.
    Stream,
    /// By the ordered stream when they change, and now and then that they did not.
    Changes,
}

impl InputsOver {
    /// All of them, the usual one first.
    pub const ALL: [Self; 3] = [Self::Datagrams, Self::Stream, Self::Changes];

    /// Whether they go by the stream.
    pub(crate) const fn is_stream(self) -> bool {
        !matches!(self, Self::Datagrams)
    }
}

/// Both directions of one side.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stream {
    outgoing: Outgoing,
    incoming: Incoming,
}

/// A datagram to be sent.
#[derive(Clone, Debug)]
pub(crate) struct Transmission {
    /// Its number in the envelope.
    pub(crate) sequence: u16,
    pub(crate) bytes: Vec<u8>,
}

impl Stream {
    /// Takes a message about a tick, to be sent. `false` where there is no room: it is not.
    #[must_use]
    pub(crate) fn push(&mut self, kind: MessageKind, tick: Tick, body: Vec<u8>) -> bool {
        self.outgoing.push(kind, tick, body)
    }

    /// The envelope of any datagram says which of one's own have come.
    pub(crate) fn told(&mut self, now: HostNanos, ack: &Ack) {
        self.outgoing.told(now, ack);
    }

    /// A piece arrived. Gives the tick of the newest message of one's own that is thereby known to have come with all before it.
    pub(crate) fn arrived(&mut self, now: HostNanos, header: &Header, segment: Segment) -> Option<Tick> {
        let SegmentHead { number, expects, kind, again } = segment.head;
        if let Some(kind) = kind {
            let header = Header { kind, ..*header };
            self.incoming.arrived(number, Came { at: now, header, again, body: segment.body });
        }
        self.outgoing.acknowledged(now, expects)
    }

    /// The next message whose turn it is.
    pub(crate) fn deliver(&mut self, now: HostNanos) -> Option<Delivered> {
        self.incoming.deliver(now)
    }

    /// The next datagram to send, if any is due; `header` gives its envelope.
    pub(crate) fn poll(&mut self, now: HostNanos, header: impl FnOnce() -> Header) -> Option<Transmission> {
        let expects = self.incoming.expects();
        let place = self.outgoing.poll(now);
        if place.is_none() && !self.incoming.owes(now) {
            return None;
        }
        self.incoming.says(place.is_some());
        let header = header();
        let head = match place {
            Some(place) => {
                let (number, kind) = self.outgoing.at(place);
                SegmentHead { number, expects, kind: Some(kind), again: self.outgoing.is_again(place) }
            }
            None => SegmentHead { number: 0, expects, kind: None, again: false },
        };
        let mut out = BitWriter::new();
        header.write(&mut out);
        head.write(&mut out);
        let mut bytes = out.finish();
        if let Some(place) = place {
            bytes.extend_from_slice(&self.outgoing.sent(place, now, header.sequence).body);
        }
        Some(Transmission { sequence: header.sequence, bytes })
    }

    /// Bytes it takes, roughly.
    pub(crate) fn bytes(&self) -> usize {
        size_of::<Self>() + self.outgoing.bytes() + self.incoming.bytes()
    }
}

#[cfg(test)]
mod tests;
