//! A client that asks to join, and measures the round trip meanwhile.
//!
//! It asks until it is answered, repeats what it is asked back, and begins to play once it was welcomed often enough to know
//! the round trip. Refused, it goes on asking, seldom: the server may be given other rules.

use super::clock::LONGEST_FRAME;
use super::refused::Refused;
use super::round_trip::RoundTrip;
use crate::frame::Frame;
use crate::ids::{Life, Token};
use crate::session::Kinds;
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::wire::{Acks, BitWriter, Challenge, Header, Hello, MessageKind, Refusal, Welcome};

/// Time between two hellos.
const HELLO_EVERY: i64 = 50_000_000;
/// The same once refused.
const REFUSED_EVERY: i64 = 1_000_000_000;
/// Answers wanted before the first tick: enough for a mean and a spread.
const ANSWERS: u32 = 6;

/// Asking.
#[derive(Clone, Debug, Default)]
pub(super) struct Joining {
    /// When first and last.
    asked: Option<(HostNanos, HostNanos)>,
    /// When to ask next, where that is not as usual.
    next: Option<HostNanos>,
    /// What the server wants repeated.
    cookie: u64,
    /// By which connection it was welcomed, and how often.
    answered: Option<(u8, u32)>,
    refused: Option<Refused>,
}

impl Joining {
    /// A hello, when it is time for one.
    pub(super) fn ask(
        &mut self,
        now: HostNanos,
        (token, life): (Token, Life),
        kinds: &Kinds,
        acks: &mut Acks,
    ) -> Option<Vec<u8>> {
        if self.deadline().is_some_and(|due| now < due) {
            return None;
        }
        let first = self.asked.map_or(now, |(first, _)| first);
        self.asked = Some((first, now));
        self.next = None;
        let mut out = BitWriter::new();
        acks.header(MessageKind::Hello, 0, now).write(&mut out);
        Hello { token, life, cookie: self.cookie, kinds: kinds.prints().to_vec() }.write(&mut out);
        Some(out.finish())
    }

    /// Whether something echoes the clock of a hello of this machine since it began to ask, not of an earlier life.
    pub(super) fn is_answer(&self, asked_us: u32) -> bool {
        // The clock on the wire wraps; so do the differences.
        let micros = |at: HostNanos| (at.0 / 1000) as u32;
        self.asked.is_some_and(|(first, last)| {
            asked_us.wrapping_sub(micros(first)) <= micros(last).wrapping_sub(micros(first))
        })
    }

    /// The server asked back: repeat that at once.
    pub(super) fn challenged(&mut self, now: HostNanos, challenge: &Challenge) {
        if self.is_answer(challenge.asked_us) && self.cookie != challenge.cookie {
            self.cookie = challenge.cookie;
            self.next = Some(now);
        }
    }

    /// The server will not have it. Gives why, unless that was known already.
    pub(super) fn denied(
        &mut self,
        now: HostNanos,
        refusal: &Refusal,
        kinds: &Kinds,
        version: u16,
    ) -> Option<&Refused> {
        if !self.is_answer(refusal.asked_us) {
            return None;
        }
        self.refuse(now, Refused::of(&refusal.why, kinds, version))
    }

    pub(super) fn refuse(&mut self, now: HostNanos, why: Refused) -> Option<&Refused> {
        self.next = Some(now.plus(REFUSED_EVERY));
        let new = self.refused.as_ref() != Some(&why);
        self.refused = Some(why);
        self.refused.as_ref().filter(|_| new)
    }

    /// Why it is not let in, as far as it was told.
    pub(super) const fn refused(&self) -> Option<&Refused> {
        self.refused.as_ref()
    }

    /// Counts a welcome. `true` when there are enough: one by another connection than the last begins anew.
    pub(super) fn answered(&mut self, header: &Header) -> bool {
        self.refused = None;
        self.next = None;
        let count = match self.answered {
            Some((epoch, count)) if epoch == header.epoch => count + 1,
            _ => 1,
        };
        self.answered = Some((header.epoch, count));
        count >= ANSWERS
    }

    /// The connection by which it was welcomed, if it was.
    pub(super) fn welcomed_by(&self) -> Option<u8> {
        self.answered.map(|(epoch, _)| epoch)
    }

    /// When the next hello is due; `None` before the first.
    pub(super) fn deadline(&self) -> Option<HostNanos> {
        self.next.or_else(|| self.asked.map(|(_, last)| last.plus(HELLO_EVERY)))
    }
}

/// A way up longer than this was measured while somebody stood still; so was a lead of more than twice that. What is longer all
/// the same the lead control finds out, without being so far ahead meanwhile that it looks like a cheat.
const LONGEST_UP: i64 = 1_000_000_000;

/// The schedule of a newcomer: ahead of the server by the way up, 2.6 σ of its jitter, a frame of each side, and the losses
/// that repeats must cover, less the ticks for which its inputs are delayed. `None` for a rate there cannot be.
pub(super) fn schedule(
    now: HostNanos,
    welcome: &Welcome,
    round_trip: &RoundTrip,
    frame: &Frame,
    delay: u8,
) -> Option<TickLoop> {
    let rate = Rate::new(u32::from(welcome.rate))?;
    let up = (round_trip.mean() / 2).min(LONGEST_UP);
    let jitter = (2.6 * round_trip.sigma() as f64 * std::f64::consts::FRAC_1_SQRT_2) as i64;
    let theirs = i64::from(welcome.frame_us.min(LONGEST_FRAME)) * 1000;
    let lead = (up + jitter + frame.mean() + theirs + 2 * rate.nanos()).min(2 * LONGEST_UP);
    // Not behind what snapshots show when they arrive.
    let lead = (lead - i64::from(delay) * rate.nanos()).max(lead.min(2 * rate.nanos() - up));
    let server = welcome.since_base_us as i64 * 1000 + up;
    Some(TickLoop::new(rate, Tick(welcome.base), now.plus(-(server + lead)), now))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wire::RefusedFor;

    const WHO: (Token, Life) = (Token(1), Life(1));

    fn kinds() -> Kinds {
        Kinds::new(Vec::new()).expect("no rule, no mistake")
    }

    #[test]
    fn only_an_answer_to_an_own_hello_is_one() {
        let mut joining = Joining::default();
        assert!(!joining.is_answer(0), "nothing was asked");
        // Across the wrap of the clock on the wire.
        let begin = (i64::from(u32::MAX) - 10_000) * 1000;
        for i in 0..3 {
            let now = HostNanos(begin + i * 50_000_000);
            assert!(joining.ask(now, WHO, &kinds(), &mut Acks::default()).is_some());
            assert!(joining.ask(now.plus(1), WHO, &kinds(), &mut Acks::default()).is_none(), "too soon");
        }
        let asked = |ms: i64| ((begin / 1000 + ms * 1000) % (1 << 32)) as u32;
        assert!([0, 50, 100].iter().all(|&ms| joining.is_answer(asked(ms))));
        assert!([-50, 150, -5000].iter().all(|&ms| !joining.is_answer(asked(ms))), "of an earlier life");
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

    #[test]
    fn what_is_asked_back_is_repeated_at_once_and_a_refusal_is_not_pressed() {
        let (mut joining, mut acks) = (Joining::default(), Acks::default());
        let at = |ms: i64| HostNanos(ms * 1_000_000);
        assert!(joining.ask(at(0), WHO, &kinds(), &mut acks).is_some());
        joining.challenged(at(10), &Challenge { asked_us: 0, cookie: 7 });
        assert!(joining.ask(at(10), WHO, &kinds(), &mut acks).is_some());
        joining.challenged(at(11), &Challenge { asked_us: 0, cookie: 7 });
        assert!(joining.ask(at(11), WHO, &kinds(), &mut acks).is_none(), "it knows");
        let refusal = Refusal { asked_us: 10_000, why: RefusedFor::Unknown };
        assert!(joining.denied(at(20), &refusal, &kinds(), 4).is_some());
        assert!(joining.denied(at(20), &refusal, &kinds(), 4).is_none(), "told once");
        assert!(joining.ask(at(500), WHO, &kinds(), &mut acks).is_none());
        assert!(joining.ask(at(1020), WHO, &kinds(), &mut acks).is_some(), "it may change its mind");
        assert_eq!(joining.refused(), Some(&Refused::Unknown));
    }
}
