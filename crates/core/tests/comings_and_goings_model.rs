//! Whatever comes, leaves, crashes, returns and changes hands, over whatever links: once it has been quiet for long enough
//! everybody knows exactly what there is.

use crate::party::{Link, MS, PATIENCE, Party};
use velocitas_core::walker::Walker;
use velocitas_core::{Arrangement, EntityId, Fact, Motion, Token, vec3};

const SEATS: usize = 4;
/// Neither lost nor doubled.
const QUIET: Link = Link { latency: 25, jitter: 20, loss: 0, doubled: 0 };
/// Of the quiet link, in ms.
const ROUND_TRIP: i64 = 2 * (25 + 20);
/// The longest that anything is under way over the worst link, its double included, in ms.
const UNDER_WAY: i64 = 95 + 150 + 120;
/// Three ticks at 60 a second, in ms.
const SNAPSHOT: i64 = 50;

/// One sequence, with what there is in the world besides those who come.
struct Sequence {
    party: Party,
    things: Vec<EntityId>,
}

impl Sequence {
    fn of(seed: u64) -> Self {
        let mut party = Party::of(SEATS, Arrangement::ALL[seed as usize % Arrangement::ALL.len()], seed);
        party.frame = 16 * MS;
        let mut thing = |x| party.server.spawn(0, Walker::new().spawn(vec3(x, -40.0, 0.0), 0.0)).expect("it fits");
        let things = vec![thing(0.0), thing(10.0)];
        Self { party, things }
    }

    fn run(mut self) {
        let events = 4 + self.party.chance(12);
        for _ in 0..events {
            self.event();
            let (jitter, loss, doubled) = (self.party.chance(150) as i64, self.party.chance(45), self.party.chance(30));
            self.party.link = Link { latency: 5 + self.party.chance(90) as i64, jitter, loss, doubled };
            // Now and then for longer than anybody waits.
            let lasts = if self.party.chance(12) == 0 { 3000 } else { 1 + self.party.chance(700) as i64 };
            self.party.run(lasts);
            if self.party.chance(8) == 0 {
                self.quiet();
            }
        }
        self.quiet();
        self.empty();
    }

    fn event(&mut self) {
        let seat = self.party.chance(SEATS as u64) as usize;
        let speed = self.party.chance(3) as f32 - 1.0;
        self.party.ahead(seat, speed);
        let runs = self.party.seats[seat].client.as_ref().is_some_and(|c| c.left_by().is_none());
        match self.party.chance(8) {
            0 | 1 if runs => self.party.crash(seat),
            2 if runs => self.party.leave(seat),
            3 if runs => self.party.seats[seat].frozen_until = self.party.now + self.party.chance(4000) as i64 * MS,
            0..=3 => self.party.join(seat),
            4 if runs => {
                // Gone and back before anybody can have noticed.
                self.party.crash(seat);
                self.party.join(seat);
            }
            _ => self.change_hands(),
        }
    }

    fn change_hands(&mut self) {
        let thing = self.things[self.party.chance(2) as usize];
        let who = self.party.chance(1 << SEATS);
        let tokens: Vec<Token> = (0..SEATS).filter(|n| who >> n & 1 == 1).map(|n| self.party.seats[n].token).collect();
        self.party.server.set_owners(thing, &tokens).expect("things stay");
    }

    /// Nothing happens any more, for as long as anybody waits.
    #[track_caller]
    fn quiet(&mut self) {
        self.party.link = QUIET;
        // Until the last that was under way has arrived, it is not quiet.
        self.party.run(UNDER_WAY);
        self.party.seats.iter_mut().for_each(|seat| seat.frozen_until = 0);
        let longest = i64::from(PATIENCE.gone_ms.max(PATIENCE.keep_ms));
        self.party.run(longest + 2 * ROUND_TRIP + SNAPSHOT);
        self.party.assert_known();
        let run = self.party.seats.iter().filter(|s| s.client.as_ref().is_some_and(|c| c.left_by().is_none()));
        let running: Vec<Token> = run.map(|s| s.token).collect();
        let mut connected: Vec<Token> = self.party.server.connections().map(|(.., token)| token).collect();
        connected.sort_unstable();
        assert_eq!(connected, running, "who is connected");
        assert_eq!(self.party.truth().len(), self.things.len() + running.len(), "each once, and nobody else");
        let owners = |id: &EntityId| self.party.server.world().get(*id).expect("things stay").owners().to_vec();
        let strangers = self.things.iter().flat_map(owners).filter(|o| !running.contains(o));
        // Who is given something before it comes finds it when it comes.
        strangers.for_each(|token| assert!(self.party.seats.iter().any(|s| s.token == token)));
    }

    /// Everybody goes, one way or another: nothing of them is left.
    fn empty(mut self) {
        for seat in 0..SEATS {
            if self.party.chance(2) == 0 { self.party.leave(seat) } else { self.party.crash(seat) }
        }
        self.party.run(i64::from(PATIENCE.gone_ms + PATIENCE.keep_ms) + 9000);
        assert_eq!((self.party.server.connections().count(), self.party.server.remembered()), (0, 0));
        assert_eq!(self.party.truth().len(), self.things.len());
        let accused: Vec<&Fact> = self.party.told.0.iter().filter(|f| matches!(f, Fact::Verdict(_))).collect();
        assert!(accused.is_empty(), "nobody did wrong: {accused:?}");
    }
}

fn sequences(seeds: std::ops::Range<u64>) {
    for seed in seeds {
        let done = std::panic::catch_unwind(|| Sequence::of(seed).run());
        assert!(done.is_ok(), "sequence {seed}");
    }
}

#[test]
fn when_it_has_been_quiet_everybody_knows_who_is_there_in_200_sequences() {
    std::thread::scope(|scope| {
        let half = scope.spawn(|| sequences(0..100));
        sequences(100..200);
        half.join().expect("the other half");
    });
}

#[test]
#[ignore = "minutes"]
fn when_it_has_been_quiet_everybody_knows_who_is_there_in_10_000_sequences() {
    std::thread::scope(|scope| {
        let half = scope.spawn(|| sequences(1000..6000));
        sequences(6000..11_000);
        half.join().expect("the other half");
    });
}
