//! An owner who moves its entity and says where it is.

use super::context::{Context, Moved, Word, corrected, correction, first};
use super::past::Past;
use crate::data::{Input, State};
use crate::event::{Correction, Restored, Sink};
use crate::tick::{Tick, WireTick};
use crate::vec3::Vec3;
use crate::wire::{
    Account, Against, BitWriter, Claim, MAX_REPEATS, MessageKind, PullBack, PullReason, Spoken, codes_of, decoded,
};

/// How far back the base of claims is said to lie at most: within the wire's reach.
const OLDEST_BASE: i64 = 8192;

/// Where an owner's claims stand.
#[derive(Clone, Debug)]
pub(in crate::client) struct Deciding {
    pub(super) past: Past,
    /// The pull back that was last obeyed.
    epoch: u8,
    /// Nothing before this tick is claimed.
    since: Tick,
    /// Whether what was pressed is told as well.
    accounts: bool,
    /// The newest tick at which a claim is known to be accepted, or the guard's word was taken.
    agreed: Tick,
}

impl Deciding {
    pub(super) fn new(base: Tick, newest: Tick, accounts: bool) -> Self {
        Self { past: Past::default(), epoch: 0, since: newest, accounts, agreed: base }
    }

    pub(super) fn tick<S: Sink>(&mut self, context: &Context<'_>, tick: Tick, sampled: Input, sink: &mut S) {
        if tick <= self.since {
            // It stood still when the entity became its own: what it was given is of a later tick, and has these behind it.
            return;
        }
        let read = self.past.read(context.schema(tick), &sampled);
        let state = self.past.state().map(|state| first(context, tick, &state, &read, sink));
        self.past.push(tick, sampled, Some(read), state);
    }

    /// Notes ticks as never simulated; of what became its own while it stood still it knows a later one than some of them.
    pub(super) fn pass_over(&mut self, first: Tick, last: Tick) {
        self.past.pass_over(first.max(self.since.next()), last);
    }

    /// What the messages are that it sends.
    pub(super) const fn says(&self) -> MessageKind {
        if self.accounts { MessageKind::Account } else { MessageKind::Claim }
    }

    /// Whether there is anything to say: of a tick in which it was put somewhere, or passed over, no account is given.
    pub(super) fn has_word(&self) -> bool {
        let is_played = self.past.has_played() && self.past.newest().is_some_and(|newest| newest > self.since);
        self.past.state().is_some() && (!self.accounts || is_played)
    }

    /// Appends the message for the newest tick.
    pub(super) fn say(
        &self,
        context: &Context<'_>,
        (covered, base): (usize, Option<&Spoken>),
        out: &mut BitWriter,
    ) -> Option<Spoken> {
        let made = (self.past.newest()?, self.past.state()?);
        if self.accounts {
            return self.account(context, made, (covered, base), out);
        }
        Some(self.claim(context, made, (covered, base), out))
    }

    /// Appends an account of the newest ticks: of those that were really played in this epoch.
    fn account(
        &self,
        context: &Context<'_>,
        (newest, state): (Tick, State),
        (covered, base): (usize, Option<&Spoken>),
        out: &mut BitWriter,
    ) -> Option<Spoken> {
        let schema = context.schema(newest);
        let most = covered.min(Account::most(schema));
        let played = |tick: Tick| self.past.ticks().get(tick).map(|entry| entry.input);
        let mut inputs = [self.past.sampled(); MAX_REPEATS + 1];
        let mut count = 0;
        while count < most {
            let tick = newest.offset(-(count as i64));
            let Some(played) = played(tick).filter(|p| p.read.is_some() && tick > self.since) else { break };
            inputs[count] = played.sampled;
            count += 1;
        }
        if count == 0 {
            return None;
        }
        inputs[count] = played(newest.offset(-(count as i64))).map_or(inputs[count - 1], |played| played.sampled);
        let (entity, epoch, since) = (context.entity, self.epoch, self.base(newest).wire());
        let base = base.filter(|base| base.state.is_some());
        let back = base.map_or(0, |base| base.back(newest));
        let account = Account { newest: newest.wire(), entity, back, epoch, since, count, inputs, state };
        let plan = |tick: WireTick| context.plan(tick.unwrap_near(newest).unwrap_or(newest));
        account.write_against(out, &Against { plan, base, dt: context.rate.dt() });
        Some(Spoken { tick: newest, input: inputs[0], state: Some(Box::new(state)) })
    }

    /// The first tick of the epoch, as it is told.
    fn base(&self, newest: Tick) -> Tick {
        self.since.max(newest.offset(-OLDEST_BASE))
    }

    /// Appends a claim for the newest tick.
    fn claim(
        &self,
        context: &Context<'_>,
        (newest, state): (Tick, State),
        (covered, base): (usize, Option<&Spoken>),
        out: &mut BitWriter,
    ) -> Spoken {
        let mut trail = [Vec3::ZERO; MAX_REPEATS];
        let mut count = 0;
        while count + 1 < covered {
            let tick = newest.offset(-(count as i64) - 1);
            let Some(state) = self.past.ticks().state(tick).filter(|_| tick >= self.since) else { break };
            trail[count] = state.vec3(0);
            count += 1;
        }
        let since = self.base(newest);
        let (entity, epoch, since) = (context.entity, self.epoch, since.wire());
        let base = base.filter(|base| base.state.is_some());
        let back = base.map_or(0, |base| base.back(newest));
        let plan = context.plan(newest);
        let claim = Claim { newest: newest.wire(), entity, back, epoch, since, state, count, trail };
        claim.write_against(out, &Against { plan: |_| plan, base, dt: context.rate.dt() });
        // What the server has of it is rounded.
        let told = decoded(&plan.told, &codes_of(&plan.told, &state));
        Spoken { tick: newest, input: Input::default(), state: Some(Box::new(told)) }
    }

    /// Takes the server's word: where it begins, and from then on how far its claims were accepted.
    pub(super) fn told(&mut self, newest: Tick, word: &Word<'_>) {
        match self.past.newest() {
            // What was claimed up to there was accepted.
            Some(_) if self.past.state().is_some() => self.agreed = self.agreed.max(word.used),
            Some(newest) => self.restart(newest, *word.state),
            None => self.restart(newest.max(word.used), *word.state),
        }
    }

    /// Continues from `state` at `tick`; nothing before it will be claimed.
    fn restart(&mut self, tick: Tick, state: State) {
        if !self.past.ticks_mut().place(tick, Some(state)) {
            let sampled = self.past.sampled();
            self.past.push(tick, sampled, None, Some(state));
        }
        self.since = tick;
    }

    /// The guard's word: continue from there.
    pub(super) fn pulled_back<S: Sink>(
        &mut self,
        context: &Context<'_>,
        newest: Tick,
        pull: &PullBack,
        sink: &mut S,
    ) -> Option<Moved> {
        // Epochs wrap; one that is not newer was obeyed already.
        if (pull.epoch.wrapping_sub(self.epoch) as i8) <= 0 {
            return None;
        }
        self.epoch = pull.epoch;
        let newest = self.past.newest().unwrap_or(newest);
        let before = self.past.state();
        let restored = match pull.reason {
            PullReason::Guard => Restored::PulledBack,
            PullReason::Teleport => Restored::Teleported,
            PullReason::Push => {
                self.pushed(context, newest, &pull.state);
                return None;
            }
        };
        let state = pull.state;
        self.restart(newest, state);
        let moved = before.map(|before| {
            let divergence = before.vec3(0).distance(state.vec3(0));
            let told = correction(context.entity, newest, self.agreed, newest, restored);
            corrected(Correction { divergence, ..told }, before, state, sink)
        });
        self.agreed = newest;
        moved
    }

    /// It goes on from where it is, faster by what is in the velocity's lane.
    fn pushed(&mut self, context: &Context<'_>, newest: Tick, push: &State) {
        let (Some(mut state), Some(lane)) = (self.past.state(), context.schema(newest).velocity_lane()) else { return };
        state.set_vec3(lane, state.vec3(lane) + push.vec3(lane));
        self.restart(newest, state);
    }

    pub(super) const fn agreed(&self) -> Tick {
        self.agreed
    }

    pub(super) fn place(&mut self, state: State) {
        if let Some(newest) = self.past.newest() {
            self.past.ticks_mut().place(newest, Some(state));
        }
    }
}
