//! Where strangers knock. It remembers nothing of who has not shown that it receives what is sent to it, and has only so
//! much time for the others.

use std::hash::Hasher;

use siphasher::sip::SipHasher13;

use crate::ids::{Address, Life, Token};
use crate::tick::HostNanos;
use crate::wire::Hello;

/// Strangers attended to in a tick at most: at 60 a second far more than ever join, far less than a flood.
const A_TICK: u32 = 32;
/// How long a cookie stays the same; the one before counts as well.
const SLICE: i64 = 4_000_000_000;

/// The door.
#[derive(Clone, Debug)]
pub(super) struct Door {
    /// What nobody else knows.
    secret: u64,
    /// Strangers that may still be attended to in this tick.
    left: u32,
    /// Lives that ended, as long as a hello of theirs may still count.
    spent: Vec<(Token, Life, HostNanos)>,
    /// Datagrams of strangers that nobody had time for.
    turned_away: u64,
}

impl Door {
    pub(super) const fn new(secret: u64) -> Self {
        Self { secret, left: A_TICK, spent: Vec::new(), turned_away: 0 }
    }

    /// A tick passes.
    pub(super) fn tick(&mut self, now: HostNanos) {
        self.left = A_TICK;
        self.spent.retain(|(_, _, since)| now.since(*since) <= 2 * SLICE);
    }

    /// Whether there is time for one more stranger in this tick.
    pub(super) fn has_time(&mut self) -> bool {
        let has = self.left > 0;
        self.left = self.left.saturating_sub(1);
        self.turned_away += u64::from(!has);
        has
    }

    /// What somebody at an address must repeat. The hash is SipHash-1-3 (Aumasson and Bernstein 2012), keyed with the secret.
    pub(super) fn cookie(&self, now: HostNanos, at: Address, token: Token, life: Life) -> u64 {
        self.cookie_of(now.0.div_euclid(SLICE), at, token, life)
    }

    fn cookie_of(&self, slice: i64, at: Address, token: Token, life: Life) -> u64 {
        let mut hasher = SipHasher13::new_with_keys(self.secret, !self.secret);
        for word in [at.0, token.0, life.0, slice as u64] {
            hasher.write(&word.to_le_bytes());
        }
        // None is told from one that happens to be 0.
        hasher.finish() | 1
    }

    /// Whether a hello repeats what was asked of its sender not long ago.
    pub(super) fn is_answer(&self, now: HostNanos, at: Address, hello: &Hello) -> bool {
        let slice = now.0.div_euclid(SLICE);
        [slice, slice - 1].iter().any(|slice| self.cookie_of(*slice, at, hello.token, hello.life) == hello.cookie)
    }

    /// A life has ended: no hello of it counts any more.
    pub(super) fn spend(&mut self, token: Token, life: Life, now: HostNanos) {
        self.spent.push((token, life, now));
    }

    /// Whether a life has ended.
    pub(super) fn is_spent(&self, token: Token, life: Life) -> bool {
        self.spent.iter().any(|(t, l, _)| (*t, *l) == (token, life))
    }

    pub(super) const fn turned_away(&self) -> u64 {
        self.turned_away
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        self.spent.capacity() * size_of::<(Token, Life, HostNanos)>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const AT: Address = Address(9);
    const NOW: HostNanos = HostNanos(100_500_000_000);

    fn hello(door: &Door, now: HostNanos) -> Hello {
        let (token, life) = (Token(1), Life(2));
        Hello { token, life, cookie: door.cookie(now, AT, token, life), kinds: Vec::new() }
    }

    #[test]
    fn only_who_was_asked_can_answer_and_not_for_long() {
        let door = Door::new(77);
        let answer = hello(&door, NOW);
        assert!(door.is_answer(NOW, AT, &answer) && door.is_answer(NOW.plus(SLICE), AT, &answer));
        assert!(!door.is_answer(NOW.plus(2 * SLICE), AT, &answer), "that is long ago");
        assert!(!door.is_answer(NOW, Address(8), &answer), "another asked");
        for other in [
            Hello { token: Token(3), ..answer.clone() },
            Hello { life: Life(3), ..answer.clone() },
            Hello { cookie: answer.cookie ^ 2, ..answer.clone() },
            Hello { cookie: 0, ..answer.clone() },
        ] {
            assert!(!door.is_answer(NOW, AT, &other), "{other:?}");
        }
        assert!(!Door::new(78).is_answer(NOW, AT, &answer), "another's secret");
    }

    #[test]
    fn a_life_that_ended_is_remembered_while_a_hello_of_it_counts() {
        let mut door = Door::new(77);
        let answer = hello(&door, NOW);
        door.spend(answer.token, answer.life, NOW);
        let mut now = NOW;
        while door.is_answer(now, AT, &answer) {
            door.tick(now);
            assert!(door.is_spent(answer.token, answer.life));
            now = now.plus(SLICE / 8);
        }
        door.tick(NOW.plus(2 * SLICE + 1));
        assert!(!door.is_spent(answer.token, answer.life), "and then forgotten");
    }

    #[test]
    fn a_crowd_is_turned_away_until_the_next_tick() {
        let mut door = Door::new(77);
        assert_eq!((0..100).filter(|_| door.has_time()).count() as u32, A_TICK);
        assert_eq!(door.turned_away(), u64::from(100 - A_TICK));
        door.tick(NOW);
        assert!(door.has_time());
    }
}
