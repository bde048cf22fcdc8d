//! How much of a peer is read: what a flood costs is bounded.

use crate::tick::{Rate, Tick};

/// Datagrams that are read of a peer, at most: a token bucket. Two a tick for each entity it owns, which is twice what a client
/// sends, saved up for two seconds, which is more than a link withholds, or for as long as none was read; beyond that they are dropped unread.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Talk {
    left: u32,
    /// The tick up to which it was paid.
    paid: Option<Tick>,
    owned: MostLately,
    /// Dropped unread since that was last told, and when it was.
    unread: u32,
    told: Option<Tick>,
}

/// The most it owned until lately: what it owns no longer it goes on speaking of until it has heard, and that is under way then.
#[derive(Clone, Copy, Debug, Default)]
struct MostLately {
    /// Ticks in which something of it was read: what waits while a server stands is not older for it.
    heard: u64,
    /// How much, and when it last was so; and the most since then.
    most: (usize, u64),
    next: (usize, u64),
}

impl MostLately {
    fn see(&mut self, owned: usize, has_passed: bool, window: u64) {
        self.heard += u64::from(has_passed);
        let now = (owned, self.heard);
        if self.heard - self.most.1 > window {
            (self.most, self.next) = (self.next, now);
        }
        if owned >= self.next.0 {
            self.next = now;
        }
        if owned >= self.most.0 {
            self.most = now;
        }
    }

    /// Of nothing as of one.
    fn count(&self) -> u32 {
        self.most.0.max(1) as u32
    }
}

impl Talk {
    const A_TICK: u32 = 2;
    const SECONDS: u32 = 2;
    const LATELY: u32 = 4;
    const STALLED: u32 = 10;
    /// Saved up by who sends by a stream: what waited behind a lost piece comes in pieces, all at once.
    const STREAMED: u32 = 10;

    /// It owns this number of things, and may have sent for each before any of it was read.
    pub(super) fn owns(&mut self, owned: usize, rate: Rate) {
        self.owned.see(owned, false, Self::window(rate));
    }

    fn window(rate: Rate) -> u64 {
        u64::from(Self::LATELY * rate.hz())
    }

    /// Whether one more is read, of a peer that owns this number of things and sends by a stream or not.
    pub(super) fn is_read(&mut self, now: Tick, rate: Rate, (owned, streams): (usize, bool)) -> bool {
        let passed = self.paid.replace(now).map(|paid| now.since(paid).max(0) as u64);
        self.owned.see(owned, passed.is_some_and(|passed| passed > 0), Self::window(rate));
        let a_tick = Self::A_TICK.saturating_mul(self.owned.count());
        let seconds = if streams { Self::STREAMED } else { Self::SECONDS };
        let most = a_tick.saturating_mul(rate.hz()).saturating_mul(seconds);
        match passed {
            None => self.left = most,
            Some(0) => {}
            Some(passed) => {
                // What waited while nothing was read at all is read: who stood still may be the server.
                let stalled = passed.min(u64::from(Self::STALLED * rate.hz()));
                let gained = u64::from(a_tick).saturating_mul(stalled).min(u64::from(u32::MAX)) as u32;
                self.left = self.left.saturating_add(gained).min(most.max(gained));
            }
        }
        match self.left.checked_sub(1) {
            Some(left) => {
                self.left = left;
                true
            }
            None => {
                self.unread = self.unread.saturating_add(1);
                false
            }
        }
    }

    /// Once a second at most: how many were dropped unread.
    pub(super) fn unread(&mut self, now: Tick, rate: Rate) -> Option<u32> {
        let is_due = self.told.is_none_or(|told| now.since(told) >= i64::from(rate.hz()));
        if self.unread == 0 || !is_due {
            return None;
        }
        self.told = Some(now);
        Some(std::mem::take(&mut self.unread))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_honest_bunch_is_read_and_a_flood_is_not() {
        let rate = Rate::new(60).expect("60 Hz");
        let mut talk = Talk::default();
        // A second of silence, then all of it at once.
        assert!(talk.is_read(Tick(100), rate, (1, false)));
        assert!((0..60).all(|_| talk.is_read(Tick(160), rate, (1, false))));
        assert_eq!(talk.unread(Tick(160), rate), None);
        let mut read = 0;
        for tick in 161..221 {
            read += (0..100).filter(|_| talk.is_read(Tick(tick), rate, (1, false))).count();
        }
        assert!(read <= 2 * 60 + 2 * 2 * 60, "{read} of 6000");
        let unread = talk.unread(Tick(221), rate).expect("most of it");
        assert_eq!(unread as usize + read, 6000);
        assert_eq!(talk.unread(Tick(222), rate), None, "once a second");
        // What was saved is saved again.
        assert!((0..100).all(|_| talk.is_read(Tick(400), rate, (1, false))));
    }

    #[test]
    fn who_streams_may_have_saved_up_what_waited_behind_a_lost_piece() {
        let rate = Rate::new(60).expect("60 Hz");
        let most = |streams| {
            let mut talk = Talk::default();
            // Something is heard in each second of ten, and then all that was held up.
            (0..=10).for_each(|second| assert!(talk.is_read(Tick(100 + 60 * second), rate, (1, streams))));
            (0..2000).filter(|_| talk.is_read(Tick(701), rate, (1, streams))).count()
        };
        assert!((240..=242).contains(&most(false)) && (1190..=1202).contains(&most(true)), "{}", most(true));
    }

    #[test]
    fn what_waited_is_read_of_all_that_was_owned_when_the_server_began_to_stand() {
        let rate = Rate::new(10).expect("10 Hz");
        let mut talk = Talk::default();
        assert!(talk.is_read(Tick(100), rate, (3, false)));
        for tick in 101..=140 {
            assert!((0..2).all(|_| talk.is_read(Tick(tick), rate, (2, false))));
        }
        // One was given away while it stood for six seconds, in which it was sent of both; long after that nothing is known of them.
        assert!((0..180).all(|_| talk.is_read(Tick(200), rate, (1, false))));
        for tick in 201..=290 {
            assert!(talk.is_read(Tick(tick), rate, (1, false)));
        }
        assert_eq!((0..180).filter(|_| talk.is_read(Tick(291), rate, (1, false))).count(), 40);
    }
}
