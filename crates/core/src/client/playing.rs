//! A client that has joined: its ticks, its own entities, the others.

mod drawing;

use std::collections::VecDeque;

use super::clock::{Clock, Measured, Report, Steer};
use super::delayed::{Delayed, wanted_delay};
use super::latch::Latch;
use super::others::Others;
use super::own::{Context, Moved, Own, Word};
use super::sending::{Given, Post, Saying, Sending};
use super::settings::ClientSettings;
use crate::arrangement::{Arrangement, OwnerSide};
use crate::data::{Input, State};
use crate::ease::{Ease, Jump};
use crate::event::{Fact, Sink, tell};
use crate::ids::{EntityId, PeerId};
use crate::remote::ViewClock;
use crate::session::{Heard, Layouts, Owned, Timeline};
use crate::snapshot::{Had, Has, Receiver};
use crate::tick::{HostNanos, Tick};
use crate::tick_loop::TickLoop;
use crate::wire::{
    Acks, EntityRecord, Message, News, PullBack, PullReason, Snapshot, Spoken, Used, Welcome, WireError,
};

/// What the surrounding client lends for a call.
pub(super) struct Lent<'a> {
    pub(super) settings: &'a ClientSettings,
    pub(super) timeline: &'a Timeline,
}

/// One of one's own entities.
#[derive(Clone, Debug)]
struct Mine {
    latch: Latch,
    /// What was sampled for ticks to come.
    delayed: Delayed,
    given: Given,
    own: Own,
    ease: Ease,
    /// Whether others give it orders as well.
    shared: bool,
    /// Its count of teleports, once heard: a correction that comes with another is never eased.
    teleports: Option<u8>,
}

/// What the hands last said of an entity that several give orders.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Order {
    /// Since which tick they have said so.
    pub since: Tick,
    /// What they say.
    pub input: Input,
    /// Whether the server is known to have had it: it has either been obeyed or overruled since.
    pub arrived: bool,
}

/// Something that a client knows to be there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Known<'a> {
    /// Which.
    pub entity: EntityId,
    /// The number of its rule.
    pub kind: u8,
    /// The places at the server of those who own it, as far as they are connected.
    pub owners: &'a [u16],
    /// Whether it is the client's own, alone or with others.
    pub mine: bool,
}

/// What of an entity no longer owned is still read, and let go.
const FORMER: usize = 16;

/// Everything that exists only while playing.
#[derive(Clone, Debug)]
pub(super) struct Playing {
    pub(super) ticks: TickLoop,
    pub(super) peer: PeerId,
    arrangement: Arrangement,
    snapshot_every: u8,
    /// Whether the server wants to know when what comes up left.
    timed: bool,
    /// What it has of snapshots.
    pub(super) had: Had,
    /// The own entities, and in the same order what is done with them.
    owned: Vec<Owned>,
    mine: Vec<Mine>,
    /// The own entities, and behind them those that were until lately: messages about them may be under way.
    spoken_of: Vec<Owned>,
    /// When something was last heard of the server, and after how long it is taken for gone.
    spoken: HostNanos,
    gone: i64,
    pub(super) sending: Sending,
    /// Newest snapshot taken.
    heard: Option<Tick>,
    pub(super) clock: Clock,
    /// For how many ticks inputs wait now: what is set, or still more.
    delay: u8,
    view: ViewClock,
    others: Others,
    /// Newest time told, for easing.
    now: HostNanos,
}

impl Playing {
    pub(super) fn new(
        ticks: TickLoop,
        (clock, delay): (Clock, u8),
        peer: PeerId,
        welcome: &Welcome,
        arrangement: Arrangement,
        now: HostNanos,
    ) -> Self {
        Self {
            ticks,
            peer,
            arrangement,
            snapshot_every: welcome.snapshot_every,
            timed: true,
            had: Had::new(),
            owned: Vec::new(),
            mine: Vec::new(),
            spoken_of: Vec::new(),
            spoken: now,
            gone: i64::from(welcome.gone_ms) * 1_000_000,
            sending: Sending::default(),
            heard: None,
            clock,
            delay,
            view: ViewClock::default(),
            others: Others::default(),
            now: HostNanos::default(),
        }
    }

    /// The server said something.
    pub(super) const fn spoken_to(&mut self, now: HostNanos) {
        self.spoken = now;
    }

    /// Whether the server has said nothing for so long that it is gone.
    pub(super) const fn is_unheard(&self, now: HostNanos) -> bool {
        now.since(self.spoken) >= self.gone
    }

    /// Everything it knows to be there.
    pub(super) fn known(&self) -> impl Iterator<Item = Known<'_>> {
        self.others.iter().map(|other| Known {
            entity: other.id,
            kind: other.kind,
            owners: &other.owners,
            mine: self.owned.iter().any(|o| o.entity == other.id),
        })
    }

    /// What a message may be about.
    pub(super) fn spoken_of(&self) -> &[Owned] {
        &self.spoken_of
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        self.mine.iter().map(|m| size_of::<Mine>() + m.own.bytes()).sum::<usize>()
            + self.others.bytes()
            + self.had.iter().map(Has::bytes).sum::<usize>()
    }

    /// Applies own inputs at once, or waits to be told, where the arrangement leaves the choice.
    pub(super) fn set_predicting(&mut self, predicts: bool) {
        if self.arrangement.owner() == OwnerSide::Predict {
            self.mine.iter_mut().for_each(|mine| mine.own.set_predicting(predicts && !mine.shared));
        }
    }

    /// The own entities.
    pub(super) fn owned(&self) -> &[Owned] {
        &self.owned
    }

    /// The context of an own entity.
    fn context<'a>(&self, lent: &Lent<'a>, owned: Owned) -> Context<'a> {
        let Lent { settings, timeline } = *lent;
        Context { settings, timeline, rate: self.ticks.rate(), entity: owned.entity, kind: owned.kind }
    }

    /// Takes what the hands do with an own entity. `false` when it is not one.
    pub(super) fn controls(&mut self, lent: &Lent<'_>, entity: EntityId, controls: &Input) -> bool {
        let Some(place) = self.owned.iter().position(|o| o.entity == entity) else { return false };
        let schema = self.context(lent, self.owned[place]).schema(self.ticks.newest().next());
        self.mine[place].latch.report(schema, controls);
        true
    }

    /// Runs the ticks due, and sends what they have to say.
    pub(super) fn time<S: Sink>(
        &mut self,
        lent: &Lent<'_>,
        now: HostNanos,
        (acks, outbox): (&mut Acks, &mut VecDeque<Vec<u8>>),
        sink: &mut S,
    ) {
        let mut post = Post { peer: self.peer, now, timed: self.timed, acks, outbox };
        self.now = now;
        let due = self.ticks.advance(now);
        if due.dropped > 0 {
            let first = due.first.offset(-(due.dropped as i64));
            tell(sink, Fact::Dropped { first, count: due.dropped });
            self.pass_over(first, due.first.prev());
        }
        for tick in due.ticks() {
            self.tick(lent, tick, sink);
            self.send(lent, &mut post, sink);
        }
        if self.sending.streams() {
            self.sending.send_pieces(lent.settings, &mut post);
        }
        let interval = self.ticks.rate().due(u64::from(self.snapshot_every));
        self.view.advance(now, &lent.settings.remotes, interval);
        if let Some(past) = self.past(now) {
            self.others.forget(past.tick);
        }
        if lent.settings.remotes.goes_by_rule()
            && let Some(seeing) = self.seeing(lent, now)
        {
            self.others.run_on(&seeing);
        }
    }

    /// Notes ticks as never simulated.
    fn pass_over(&mut self, first: Tick, last: Tick) {
        let count = (last.since(first) + 1).unsigned_abs();
        for mine in &mut self.mine {
            mine.own.pass_over(first, last);
            mine.delayed.pass_over(count);
        }
    }

    /// The server is in a tick already that is still to come here, and whose inputs were given long since: it is made now, as the server did.
    fn catch_up<S: Sink>(&mut self, lent: &Lent<'_>, tick: Tick, sink: &mut S) {
        let is_given = |mine: &Mine| mine.delayed.newest(Tick(0)) > Tick(0);
        while self.ticks.newest() < tick && !self.mine.is_empty() && self.mine.iter().all(is_given) {
            let next = self.ticks.newest().next();
            self.tick(lent, next, sink);
            self.ticks.pass_over(next);
        }
    }

    /// Samples the keys and makes one tick.
    fn tick<S: Sink>(&mut self, lent: &Lent<'_>, tick: Tick, sink: &mut S) {
        self.set_predicting(lent.settings.predict);
        self.delay = self.clock.delay(
            self.delay,
            wanted_delay(self.arrangement, lent.settings),
            self.ticks.rate(),
            &lent.settings.clock,
        );
        let delay = self.delay;
        for place in 0..self.mine.len() {
            let context = self.context(lent, self.owned[place]);
            let mine = &mut self.mine[place];
            let Mine { latch, delayed, given, .. } = mine;
            let sampled = delayed.begin(tick, delay, |of| {
                let sampled = latch.sample(context.schema(of));
                given.sampled(of, sampled);
                sampled
            });
            mine.own.tick(&context, tick, sampled, sink);
        }
        if let Steer::Slew(by) = self.clock.steer(self.ticks.rate(), &lent.settings.clock) {
            self.ticks.shift(by);
        }
    }

    /// Says what there is to say after a tick, of each own entity.
    fn send<S: Sink>(&mut self, lent: &Lent<'_>, post: &mut Post<'_>, sink: &mut S) {
        let rate = self.ticks.rate();
        self.clock.sent(post.now, self.delay, rate);
        let due = self.sending.due(self.ticks.newest(), rate, lent.settings);
        for place in 0..self.mine.len() {
            let context = self.context(lent, self.owned[place]);
            let Mine { given, delayed, own, .. } = &mut self.mine[place];
            self.sending.say(due, Saying { context, given, delayed, own }, post, sink);
        }
        self.sending.tick();
    }

    /// Opens a snapshot of `tick` that is told against another, and gives what is to be kept of it.
    pub(super) fn open(
        &self,
        layouts: &Layouts<'_>,
        tick: Tick,
        message: &mut Message,
    ) -> Result<Option<Has>, WireError> {
        let Message::Snapshot(snapshot) = message else { return Ok(None) };
        Receiver::new(*layouts, &self.had, self.ticks.rate().dt()).opened(snapshot, tick)
    }

    /// Whether a snapshot of `tick` is newer than all that were taken.
    pub(super) fn is_newer(&self, tick: Tick) -> bool {
        self.heard.is_none_or(|heard| tick > heard)
    }

    /// The server has an own entity's word of a tick: later ones may be told against it.
    pub(super) fn word_came(&mut self, entity: EntityId, tick: Tick) {
        if let Some(place) = self.owned.iter().position(|o| o.entity == entity) {
            self.mine[place].given.said_before.arrived(tick);
        }
    }

    /// The server lacks what it was told against.
    pub(super) fn forget_words(&mut self) {
        self.mine.iter_mut().for_each(|mine| mine.given.said_before.forget());
    }

    fn said(&self, entity: EntityId, tick: Tick) -> Option<&Spoken> {
        let place = self.owned.iter().position(|o| o.entity == entity)?;
        self.mine[place].given.said_before.of(tick)
    }

    /// Takes a snapshot of `tick`. `left` is when the newest datagram it acknowledges left; what was measured of the way goes with it.
    pub(super) fn snapshot<S: Sink>(
        &mut self,
        lent: &Lent<'_>,
        now: HostNanos,
        tick: Tick,
        snapshot: &Snapshot,
        (left, measured): (Option<HostNanos>, Measured<'_>),
        sink: &mut S,
    ) {
        self.now = now;
        let due = self.ticks.rate().due(tick.0.saturating_sub(self.ticks.base().0));
        self.view.arrived(now, due, &lent.settings.remotes);
        tell(sink, Fact::Received { tick });
        // Only the newest snapshot knows who is there: one overtaken may speak of somebody who left since.
        let newest = self.heard.is_none_or(|heard| tick > heard);
        let mut place = 0;
        let returning = self.returning(lent, now);
        for record in &snapshot.entities {
            place = self.others.take_in(tick, record, (newest, place), returning.as_ref(), sink);
        }
        if newest {
            self.others.take_inputs(snapshot);
        }
        self.others.hide(returning.as_ref());
        snapshot.head.news.iter().for_each(|news| self.learn(tick, news, newest, sink));
        if !newest {
            return;
        }
        self.snapshot_every = snapshot.head.every;
        self.timed = snapshot.head.wants_times;
        self.heard = Some(tick);
        self.catch_up(lent, tick, sink);
        for record in &snapshot.entities {
            self.own_or_not(tick, record, sink);
            if let Some(Used { tick: used, made_up, .. }) = record.entity.own
                && let Ok(used) = used.unwrap_near(tick)
            {
                let word = Word { used, made_up, cut: false, state: &record.state };
                self.told(lent, (record.entity.id, record.entity.teleports), word, sink);
            }
        }
        let report =
            Report { tick, margin: snapshot.head.margin, left, delay: wanted_delay(self.arrangement, lent.settings) };
        let steer = self.clock.reported(&self.ticks, now, report, measured, &lent.settings.clock);
        self.set_clock(steer, sink);
    }

    /// Takes a piece of news. That somebody is gone stays true; who owns what only the newest snapshot knows.
    fn learn<S: Sink>(&mut self, tick: Tick, news: &News, newest: bool, sink: &mut S) {
        let entity = news.entity();
        match news {
            News::Gone(_) => {
                if self.others.remove(entity) {
                    self.give_up(entity, tick, sink);
                    tell(sink, Fact::Left { entity, tick });
                }
            }
            News::Owned(_, owners) if newest => {
                self.others.get_mut(entity).into_iter().for_each(|other| other.owners.clone_from(owners));
            }
            News::Owned(..) => {}
        }
    }

    /// Takes over an entity that a snapshot says is the own, or gives it up.
    fn own_or_not<S: Sink>(&mut self, tick: Tick, record: &EntityRecord, sink: &mut S) {
        let entity = record.entity.id;
        let Some(used) = record.entity.own else {
            // Nearly all were never its own.
            if self.owned.iter().any(|o| o.entity == entity) {
                self.give_up(entity, tick, sink);
            }
            return;
        };
        let side = if used.shared { OwnerSide::Follow } else { self.arrangement.owner() };
        let place = self.owned.iter().position(|o| o.entity == entity);
        if place.is_some_and(|place| self.mine[place].shared == used.shared) {
            return;
        }
        let own = || Own::new(side, self.ticks.base(), self.ticks.newest());
        match place {
            // Its hands stay on it, and what they said for ticks under way was said.
            Some(place) => {
                let decides = self.arrangement.owner().decides();
                let fresh = decides.then(own);
                let mine = &mut self.mine[place];
                mine.shared = used.shared;
                fresh.into_iter().for_each(|own| mine.own = own);
            }
            None => {
                let mine = Mine {
                    latch: Latch::default(),
                    delayed: Delayed::of(self.delay),
                    given: Given::new(),
                    own: own(),
                    ease: Ease::default(),
                    shared: used.shared,
                    teleports: None,
                };
                self.owned.push(Owned { entity, kind: record.entity.kind });
                self.mine.push(mine);
                self.note_owned();
                tell(sink, Fact::Owns { entity, tick, owns: true });
            }
        }
    }

    /// An entity is the own no longer, if it was.
    fn give_up<S: Sink>(&mut self, entity: EntityId, tick: Tick, sink: &mut S) {
        if let Some(place) = self.owned.iter().position(|o| o.entity == entity) {
            self.owned.remove(place);
            self.mine.remove(place);
            self.note_owned();
            tell(sink, Fact::Owns { entity, tick, owns: false });
        }
    }

    fn note_owned(&mut self) {
        let former = std::mem::take(&mut self.spoken_of);
        let former = former.into_iter().filter(|f| self.owned.iter().all(|o| o.entity != f.entity));
        self.spoken_of = self.owned.iter().copied().chain(former).take(self.owned.len() + FORMER).collect();
    }

    /// Takes the authority's word on an own entity.
    fn told<S: Sink>(&mut self, lent: &Lent<'_>, (entity, teleports): (EntityId, u8), word: Word<'_>, sink: &mut S) {
        let Some(place) = self.owned.iter().position(|o| o.entity == entity) else { return };
        let cut = self.mine[place].teleports.replace(teleports).is_some_and(|before| before != teleports);
        let newest = self.ticks.newest();
        if word.used > newest && self.arrangement.sends_inputs() {
            // The server made up inputs past everything we have: those ticks are gone.
            if self.mine[place].own.newest().is_some() {
                tell(sink, Fact::Dropped { first: newest.next(), count: word.used.since(newest) as u64 });
            }
            self.ticks.pass_over(word.used);
            let count = word.used.since(newest).unsigned_abs();
            self.mine.iter_mut().for_each(|mine| mine.delayed.pass_over(count));
        }
        let word = Word { cut, ..word };
        let context = self.context(lent, self.owned[place]);
        let moved = self.mine[place].own.told(&context, self.ticks.newest(), &word, sink);
        self.hide(lent, (place, cut), moved);
    }

    fn set_clock<S: Sink>(&mut self, steer: Steer, sink: &mut S) {
        let Steer::Set(shift) = steer else { return };
        self.ticks.shift(shift);
        tell(sink, Fact::ClockSet { shift });
        // What the new clock calls past is past: made up for in a burst, it would arrive late and set the clock again.
        let (newest, target) = (self.ticks.newest(), self.ticks.tick_at(self.now));
        if target > newest {
            tell(sink, Fact::Dropped { first: newest.next(), count: target.0 - newest.0 });
            self.pass_over(newest.next(), target);
            self.ticks.pass_over(target);
        }
    }

    /// The guard's word: continue from there.
    pub(super) fn pulled_back<S: Sink>(&mut self, lent: &Lent<'_>, now: HostNanos, pull: &PullBack, sink: &mut S) {
        let Some(place) = self.owned.iter().position(|o| o.entity == pull.entity) else { return };
        self.now = now;
        let context = self.context(lent, self.owned[place]);
        let moved = self.mine[place].own.pulled_back(&context, self.ticks.newest(), pull, sink);
        self.hide(lent, (place, pull.reason == PullReason::Teleport), moved);
    }

    /// Keeps drawing an own entity where it was.
    fn hide(&mut self, lent: &Lent<'_>, (place, cut): (usize, bool), moved: Option<Moved>) {
        let Some(Moved { before, after }) = moved else { return };
        let own = &lent.settings.own;
        let snap = if cut { 0.0 } else { own.snap_m };
        let turn = if own.eases_all {
            let plan = &self.context(lent, self.owned[place]).plan(self.ticks.newest()).blend;
            let looks = |state: &State| plan.bearing(state).unwrap_or_default();
            looks(&before) - looks(&after)
        } else {
            0.0
        };
        let jump = Jump { before: before.vec3(0), after: after.vec3(0), turn };
        self.mine[place].ease.hide(self.now, jump, own.ease, snap);
    }

    /// Moves an own entity by its owner's will.
    pub(super) fn place(&mut self, entity: EntityId, state: State) {
        if let Some(place) = self.owned.iter().position(|o| o.entity == entity) {
            self.mine[place].own.place(state);
        }
    }

    /// The newest state of an own entity, predicted or received.
    pub(super) fn own_state(&self, entity: EntityId) -> Option<State> {
        let place = self.owned.iter().position(|o| o.entity == entity)?;
        let received = || self.others.get(entity)?.newest();
        self.mine[place].own.state().or_else(|| received().map(|sample| sample.state))
    }

    /// What it makes of a tick of an own entity.
    pub(super) fn predicted(&self, entity: EntityId, tick: Tick) -> Option<State> {
        let place = self.owned.iter().position(|o| o.entity == entity)?;
        self.mine[place].own.state_at(tick)
    }

    /// What was last said of an entity that others give orders as well.
    pub(super) fn order(&self, entity: EntityId) -> Option<Order> {
        let place = self.owned.iter().position(|o| o.entity == entity)?;
        let mine = &self.mine[place];
        let (since, input) = mine.given.said().filter(|_| mine.shared)?;
        Some(Order { since, input, arrived: mine.own.agreed() >= since })
    }

    /// What it takes the server's time to be, in nanoseconds since the base of its ticks.
    pub(super) fn server_time(
        &self,
        now: HostNanos,
        margin: Option<i8>,
        measured: Measured<'_>,
        settings: &ClientSettings,
    ) -> Option<i64> {
        self.clock.server_time(&self.ticks, now, (margin, self.delay), measured, &settings.clock)
    }

    /// Newest own tick minus the newest agreed one.
    pub(super) fn behind(&self) -> i64 {
        self.ticks.newest().since(self.heard.unwrap_or(self.ticks.newest()))
    }
}

impl Heard for Playing {
    fn input(&self, entity: EntityId, tick: Tick) -> Option<Input> {
        self.said(entity, tick).map(|said| said.input)
    }

    fn state(&self, entity: EntityId, tick: Tick) -> Option<State> {
        self.said(entity, tick).and_then(|said| said.state.as_deref().copied())
    }

    fn dt(&self) -> f32 {
        self.ticks.rate().dt()
    }
}
