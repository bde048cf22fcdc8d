//! A client that asks to join, and measures the round trip meanwhile.

use super::round_trip::RoundTrip;
use crate::frame::Frame;
use crate::ids::Token;
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::wire::{Acks, BitWriter, Header, Hello, MessageKind, Welcome};

/// Time between two hellos.
const HELLO_EVERY: i64 = 50_000_000;
/// Answers wanted before the first tick: enough for a mean and a spread.
const ANSWERS: u32 = 6;
/// A server's frame is not believed to be longer than this, in microseconds.
const LONGEST_FRAME: i64 = 100_000;

/// Asking.
#[derive(Clone, Debug, Default)]
pub(super) struct Joining {
    /// When first and last.
    asked: Option<(HostNanos, HostNanos)>,
    /// By which connection it was answered, and how often.
    answered: Option<(u8, u32)>,
}

impl Joining {
    /// A hello, when it is time for one.
    pub(super) fn ask(&mut self, now: HostNanos, token: Token, acks: &mut Acks) -> Option<Vec<u8>> {
        let first = match self.asked {
            Some((_, last)) if now.since(last) < HELLO_EVERY => return None,
            Some((first, _)) => first,
            None => now,
        };
        self.asked = Some((first, now));
        let mut out = BitWriter::new();
        acks.header(MessageKind::Hello, 0, now).write(&mut out);
        Hello { token }.write(&mut out);
        Some(out.finish())
    }

    /// Whether a welcome answers a hello of this machine since it began to ask, not one of an earlier life.
    pub(super) fn is_answer(&self, welcome: &Welcome) -> bool {
        // The clock on the wire wraps; so do the differences.
        let micros = |at: HostNanos| (at.0 / 1000) as u32;
        self.asked.is_some_and(|(first, last)| {
            welcome.asked_us.wrapping_sub(micros(first)) <= micros(last).wrapping_sub(micros(first))
        })
    }

    /// Whether no other connection than this answered so far.
    pub(super) fn is_answered_by(&self, epoch: u8) -> bool {
        self.answered.is_none_or(|(by, _)| by == epoch)
    }

    /// Counts an answer. `true` when there are enough: answers by another connection than the last begin anew.
    pub(super) fn answered(&mut self, header: &Header) -> bool {
        let count = match self.answered {
            Some((epoch, count)) if epoch == header.epoch => count + 1,
            _ => 1,
        };
        self.answered = Some((header.epoch, count));
        count >= ANSWERS
    }

    /// When the next hello is due; `None` before the first.
    pub(super) fn deadline(&self) -> Option<HostNanos> {
        self.asked.map(|(_, last)| last.plus(HELLO_EVERY))
    }
}

/// The schedule of a newcomer: ahead of the server by the way up, 2.6 σ of its jitter, a frame of each side, and the losses
/// that repeats must cover. `None` for a rate there cannot be.
pub(super) fn schedule(now: HostNanos, welcome: &Welcome, round_trip: &RoundTrip, frame: &Frame) -> Option<TickLoop> {
    let rate = Rate::new(u32::from(welcome.rate))?;
    let up = round_trip.mean() / 2;
    let jitter = (2.6 * round_trip.sigma() as f64 * std::f64::consts::FRAC_1_SQRT_2) as i64;
    let theirs = i64::from(welcome.frame_us).min(LONGEST_FRAME) * 1000;
    let lead = up + jitter + frame.mean() + theirs + 2 * rate.nanos();
    let server = welcome.since_base_us as i64 * 1000 + up;
    Some(TickLoop::new(rate, Tick(welcome.base), now.plus(-(server + lead)), now))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn welcome(asked_us: u32) -> Welcome {
        Welcome {
            asked_us,
            slot: 0,
            base: 0,
            since_base_us: 0,
            rate: 60,
            snapshot_every: 3,
            frame_us: 0,
            owned: Vec::new(),
        }
    }

    #[test]
    fn only_an_answer_to_an_own_hello_is_one() {
        let mut joining = Joining::default();
        assert!(!joining.is_answer(&welcome(0)), "nothing was asked");
        // Across the wrap of the clock on the wire.
        let begin = (i64::from(u32::MAX) - 10_000) * 1000;
        for i in 0..3 {
            let now = HostNanos(begin + i * 50_000_000);
            assert!(joining.ask(now, Token(1), &mut Acks::default()).is_some());
            assert!(joining.ask(now.plus(1), Token(1), &mut Acks::default()).is_none(), "too soon");
        }
        let asked = |ms: i64| ((begin / 1000 + ms * 1000) % (1 << 32)) as u32;
        assert!([0, 50, 100].iter().all(|&ms| joining.is_answer(&welcome(asked(ms)))));
        assert!([-50, 150, -5000].iter().all(|&ms| !joining.is_answer(&welcome(asked(ms)))), "of an earlier life");
    }

    #[test]
    fn answers_by_another_connection_begin_anew() {
        let mut joining = Joining::default();
        let mut acks = Acks::default();
        let mut by = |epoch| joining.answered(&acks.header(MessageKind::Welcome, epoch, HostNanos(0)));
        assert!((0..5).all(|_| !by(3)));
        assert!((0..5).all(|_| !by(4)));
        assert!(by(4));
    }
}
