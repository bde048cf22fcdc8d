//! A client that has joined: predicting, reconciling, claiming, drawing.

use std::collections::VecDeque;

use super::Arrangement;
use super::ease::Ease;
use super::history::{Entry, History};
use super::latch::Latch;
use super::lead::{Lead, Steer};
use super::remote::{Drawn, DrawnState, Remote, ViewClock, blend};
use super::settings::ClientSettings;
use crate::data::{Input, State};
use crate::event::{Correction, Event, Restored, Sink, tell};
use crate::motion::{Contacts, Motion, checked_step};
use crate::session::{Layouts, Timeline};
use crate::tick::{HostNanos, Tick};
use crate::tick_loop::{Due, TickLoop};
use crate::vec3::Vec3;
use crate::wire::{BitWriter, Claim, Inputs, MAX_REPEATS, PullBack, Snapshot, Welcome};

/// What the surrounding client lends for a call.
pub(super) struct Context<'a> {
    pub(super) settings: &'a ClientSettings,
    pub(super) timeline: &'a Timeline,
    pub(super) arrangement: Arrangement,
}

impl<'a> Context<'a> {
    /// The rule of a kind at a tick.
    fn rule(&self, tick: Tick, kind: u8) -> &'a dyn Motion {
        self.timeline.at(tick).kinds.motion(kind)
    }
}

/// Everything that exists only while playing.
#[derive(Clone, Debug)]
pub(super) struct Playing {
    pub(super) ticks: TickLoop,
    entity: u16,
    kind: u8,
    snapshot_every: u8,
    history: History,
    /// Newest tick at which prediction and authority are known to be the same.
    agreed: Tick,
    /// Newest snapshot taken.
    heard: Option<Tick>,
    lead: Lead,
    /// Shift in force when datagrams left, by time, for the lead control.
    shifts: VecDeque<(HostNanos, f64)>,
    ease: Ease,
    view: ViewClock,
    remotes: Vec<Remote>,
    claims: Claims,
    /// Newest time told, for easing.
    now: HostNanos,
}

/// Where an owner's claims stand.
#[derive(Clone, Copy, Debug, Default)]
struct Claims {
    epoch: u8,
    since: Tick,
}

impl Playing {
    pub(super) fn new(ticks: TickLoop, welcome: &Welcome) -> Self {
        let newest = ticks.newest();
        Self {
            ticks,
            entity: welcome.entity,
            kind: welcome.kind,
            snapshot_every: welcome.snapshot_every,
            history: History::default(),
            agreed: Tick(welcome.base),
            heard: None,
            lead: Lead::default(),
            shifts: VecDeque::new(),
            ease: Ease::default(),
            view: ViewClock::default(),
            remotes: Vec::new(),
            claims: Claims { epoch: 0, since: newest },
            now: HostNanos::default(),
        }
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        self.history.bytes() + self.remotes.iter().map(Remote::bytes).sum::<usize>()
    }

    /// The ticks to run now; what had to be passed over is noted in the history.
    pub(super) fn due<S: Sink>(&mut self, now: HostNanos, sink: &mut S) -> Due {
        self.now = now;
        let due = self.ticks.advance(now);
        if due.dropped > 0 {
            let first = due.first.offset(-(due.dropped as i64));
            tell(sink, Event::ClientDropped { first, count: due.dropped });
            self.pass_over(first, due.first.prev());
        }
        due
    }

    /// Notes ticks as never simulated: the state stands still through them.
    fn pass_over(&mut self, first: Tick, last: Tick) {
        let Some((_, newest)) = self.history.newest() else { return };
        let still = Entry { sampled: newest.sampled, input: None, state: newest.state };
        // Only the end of a long gap can ever be asked for.
        let first = first.max(last.offset(-600));
        for tick in first.0..=last.0 {
            self.history.push(Tick(tick), still);
        }
    }

    /// Samples the keys, predicts one tick.
    pub(super) fn tick<S: Sink>(&mut self, context: &Context<'_>, tick: Tick, latch: &mut Latch, sink: &mut S) {
        let schema = context.rule(tick, self.kind).schema();
        let sampled = latch.sample(schema);
        let before = self.history.newest().map(|(_, e)| *e);
        let input = schema.presses_since(&sampled, &before.map_or(Input::default(), |e| e.sampled));
        let predicts = context.settings.predict || context.arrangement == Arrangement::OwnerClaims;
        let state = before.and_then(|e| e.state).filter(|_| predicts).map(|state| {
            let (next, contacts) = self.step(context, tick, &state, &input, sink);
            tell(sink, Event::Predicted { tick, state: &next, input: &input, contacts: &contacts });
            next
        });
        self.history.push(tick, Entry { sampled, input: Some(input), state });
        if let Steer::Slew(by) = self.lead.steer(self.ticks.rate()) {
            self.ticks.shift(by);
        }
    }

    fn step<S: Sink>(
        &self,
        context: &Context<'_>,
        tick: Tick,
        state: &State,
        input: &Input,
        sink: &mut S,
    ) -> (State, Contacts) {
        let scene = context.timeline.at(tick).scene(tick, self.ticks.rate().dt(), self.kind);
        match checked_step(context.rule(tick, self.kind), &scene, state, input) {
            Ok(step) => (step.state, step.contacts),
            Err(field) => {
                tell(sink, Event::StepFault { entity: self.entity, tick, field });
                (*state, Contacts::default())
            }
        }
    }

    /// Appends the message for the newest tick; `false` when there is nothing to say yet.
    pub(super) fn write(&mut self, context: &Context<'_>, now: HostNanos, out: &mut BitWriter) -> bool {
        self.shifts.push_back((now, self.lead.shifted()));
        if self.shifts.len() > 512 {
            self.shifts.pop_front();
        }
        let Some((newest, entry)) = self.history.newest() else { return false };
        let layouts = Layouts::new(context.timeline, Some(newest), self.kind);
        let repeats = usize::from(context.settings.repeats).clamp(1, MAX_REPEATS);
        match context.arrangement {
            Arrangement::ServerAuthority => {
                let mut inputs = [Input::default(); MAX_REPEATS];
                let mut count = 0;
                // Only ticks that were really played: the run ends where ticks were passed over.
                while count < repeats {
                    let entry = self.history.get(newest.offset(-(count as i64)));
                    let Some(entry) = entry.filter(|e| e.input.is_some()) else { break };
                    inputs[count] = entry.sampled;
                    count += 1;
                }
                Inputs { newest: newest.wire(), count, inputs }.write(out, &layouts);
                true
            }
            Arrangement::OwnerClaims => {
                let Some(state) = entry.state else { return false };
                let mut trail = [Vec3::ZERO; MAX_REPEATS];
                let mut count = 0;
                while count + 1 < repeats {
                    let tick = newest.offset(-(count as i64) - 1);
                    let Some(state) = self.history.get(tick).and_then(|e| e.state) else { break };
                    if tick < self.claims.since {
                        break;
                    }
                    trail[count] = state.vec3(0);
                    count += 1;
                }
                let Claims { epoch, since } = self.claims;
                // A base that has left the wire's reach says no more than the oldest tick within it.
                let since = since.max(newest.offset(-8192));
                Claim { newest: newest.wire(), epoch, since: since.wire(), state, count, trail }
                    .write(out, context.rule(newest, self.kind).schema());
                true
            }
        }
    }

    /// Takes a snapshot of `tick`. `left` is when the newest datagram it acknowledges left.
    pub(super) fn snapshot<S: Sink>(
        &mut self,
        context: &Context<'_>,
        now: HostNanos,
        tick: Tick,
        snapshot: &Snapshot,
        left: Option<HostNanos>,
        sink: &mut S,
    ) {
        self.now = now;
        let rate = self.ticks.rate();
        let due = rate.due(tick.0.saturating_sub(self.ticks.base().0));
        self.view.arrived(now, due);
        for record in &snapshot.entities {
            let found = self.remotes.iter_mut().find(|r| r.id == record.entity.id);
            match found {
                Some(remote) => remote.insert(tick, record),
                None => {
                    let mut remote = Remote::new(record);
                    remote.insert(tick, record);
                    self.remotes.push(remote);
                    self.remotes.sort_by_key(|r| r.id);
                }
            }
        }
        if self.heard.is_some_and(|heard| tick <= heard) {
            return;
        }
        self.snapshot_every = snapshot.every;
        self.heard = Some(tick);
        // Whoever is gone from a full snapshot is gone.
        self.remotes.retain(|r| snapshot.entities.iter().any(|e| e.entity.id == r.id));

        let Some(report) = snapshot.report else { return };
        let own = snapshot.entities.iter().find(|e| e.entity.id == self.entity).map(|e| e.state);
        if let (Some(state), Ok(used)) = (own, report.used.unwrap_near(tick)) {
            match context.arrangement {
                Arrangement::ServerAuthority => self.reconcile(context, used, &state, sink),
                Arrangement::OwnerClaims => self.first_state(used, &state),
            }
        }
        if let Some(margin) = report.margin {
            self.steer(margin, left, sink);
        }
    }

    fn steer<S: Sink>(&mut self, margin: i8, left: Option<HostNanos>, sink: &mut S) {
        let then = left.and_then(|left| self.shifts.iter().rev().find(|(at, _)| *at <= left)).map(|(_, shift)| *shift);
        let Some(then) = then else { return };
        if let Steer::Set(shift) = self.lead.report(self.ticks.rate(), margin, then) {
            self.ticks.shift(shift);
            tell(sink, Event::ClockSet { shift });
            // What the new clock calls past is past: made up for in a burst, it would arrive late and set the clock again.
            let (newest, target) = (self.ticks.newest(), self.ticks.tick_at(self.now));
            if target > newest {
                tell(sink, Event::ClientDropped { first: newest.next(), count: target.0 - newest.0 });
                self.pass_over(newest.next(), target);
                self.ticks.pass_over(target);
            }
        }
    }

    /// An owner who claims takes the server's word once: where it begins.
    fn first_state(&mut self, used: Tick, state: &State) {
        if let Some((newest, entry)) = self.history.newest() {
            if entry.state.is_none() {
                self.restart(newest, *state);
            }
        } else {
            self.restart(self.ticks.newest().max(used), *state);
        }
    }

    /// Continues from `state` at `tick`; nothing before it will be claimed.
    fn restart(&mut self, tick: Tick, state: State) {
        let sampled = self.history.newest().map_or(Input::default(), |(_, e)| e.sampled);
        if let Some(entry) = self.history.get_mut(tick) {
            entry.state = Some(state);
        } else {
            self.history.push(tick, Entry { sampled, input: None, state: Some(state) });
        }
        self.claims.since = tick;
    }

    /// Holds the prediction *of the same tick* against the server's state.
    ///
    /// 1. Bit for bit the same: agreed.
    /// 2. Otherwise the server's state is taken over, every later input replayed, the history rewritten.
    /// 3. It counts as a correction when a field differs by more than its agreement; the jump is eased out.
    fn reconcile<S: Sink>(&mut self, context: &Context<'_>, used: Tick, truth: &State, sink: &mut S) {
        let Some((newest, last)) = self.history.newest() else {
            self.history.push(used, Entry { sampled: Input::default(), input: None, state: Some(*truth) });
            self.ticks.pass_over(used);
            // Ticks since then were begun before there was a state to predict from; the server makes up empty input.
            let (nothing, mut state) = (Input::default(), *truth);
            for tick in used.0 + 1..=self.ticks.newest().0 {
                state = self.step(context, Tick(tick), &state, &nothing, sink).0;
                self.history.push(Tick(tick), Entry { sampled: nothing, input: Some(nothing), state: Some(state) });
            }
            self.agreed = used;
            return;
        };
        let before = last.state;
        if used > newest {
            // The server made up inputs past everything we have: those ticks are gone.
            tell(sink, Event::ClientDropped { first: newest.next(), count: used.since(newest) as u64 });
            self.pass_over(newest.next(), used);
            self.ticks.pass_over(used);
            if let Some(entry) = self.history.get_mut(used) {
                entry.state = Some(*truth);
            }
            let schema = context.rule(used, self.kind).schema();
            let same = before.is_some_and(|before| schema.agrees(&before, truth));
            let why = if same { Restored::Settled } else { Restored::Overtaken };
            self.moved(context, used, used, before, 0.0, 0, why, sink);
            return;
        }
        let Some(entry) = self.history.get(used) else { return };
        let predicted = entry.state;
        if predicted == Some(*truth) {
            self.agreed = used;
            tell(sink, Event::Agreed { tick: used });
            self.history.forget_before(used, MAX_REPEATS);
            return;
        }
        if predicted.is_some() && !context.settings.reconcile {
            return;
        }
        let schema = context.rule(used, self.kind).schema();
        let (divergence, why) = match predicted {
            None => (0.0, Restored::Settled),
            Some(p) if schema.agrees(&p, truth) => (p.vec3(0).distance(truth.vec3(0)), Restored::Settled),
            Some(p) => (p.vec3(0).distance(truth.vec3(0)), Restored::Diverged),
        };
        let replayed = if context.settings.predict { self.replay(context, used, newest, truth, sink) } else { 0 };
        self.moved(context, used, newest, before, divergence, replayed, why, sink);
        self.history.forget_before(used, MAX_REPEATS);
    }

    /// Takes over the truth at `used` and simulates everything since again.
    fn replay<S: Sink>(&mut self, context: &Context<'_>, used: Tick, newest: Tick, truth: &State, sink: &mut S) -> u32 {
        if let Some(entry) = self.history.get_mut(used) {
            entry.state = Some(*truth);
        }
        tell(sink, Event::Rewritten { tick: used, state: truth });
        let mut state = *truth;
        let mut replayed = 0;
        for tick in used.0 + 1..=newest.0 {
            let tick = Tick(tick);
            let Some(entry) = self.history.get(tick) else { break };
            if let Some(input) = entry.input {
                state = self.step(context, tick, &state, &input, sink).0;
                replayed += 1;
            }
            if let Some(entry) = self.history.get_mut(tick) {
                entry.state = Some(state);
            }
            tell(sink, Event::Rewritten { tick, state: &state });
        }
        replayed
    }

    #[expect(clippy::too_many_arguments, reason = "the parts of one Correction, put together here once")]
    fn moved<S: Sink>(
        &mut self,
        context: &Context<'_>,
        used: Tick,
        newest: Tick,
        before: Option<State>,
        divergence: f32,
        replayed: u32,
        why: Restored,
        sink: &mut S,
    ) {
        let after = self.history.newest().and_then(|(_, e)| e.state);
        if let (Some(before), Some(after)) = (before, after) {
            let (before, after) = (before.vec3(0), after.vec3(0));
            let jump = before.distance(after);
            self.hide(context.settings, before, after);
            let correction = Correction { tick: used, agreed: self.agreed, newest, divergence, jump, replayed, why };
            tell(sink, Event::Corrected(&correction));
        }
        self.agreed = used;
    }

    fn hide(&mut self, settings: &ClientSettings, before: Vec3, after: Vec3) {
        self.ease.hide(self.now, before, after, i64::from(settings.ease_ms) * 1_000_000, settings.snap_m);
    }

    /// The guard's word: continue from there.
    pub(super) fn pulled_back<S: Sink>(
        &mut self,
        context: &Context<'_>,
        now: HostNanos,
        pull: &PullBack,
        sink: &mut S,
    ) {
        // Epochs wrap; one that is not newer was obeyed already.
        if (pull.epoch.wrapping_sub(self.claims.epoch) as i8) <= 0 {
            return;
        }
        self.now = now;
        self.claims.epoch = pull.epoch;
        let newest = self.history.newest().map_or(self.ticks.newest(), |(tick, _)| tick);
        let before = self.own_state();
        let mut state = pull.state;
        if let Some(before) = &before {
            // Claims do not carry what only the owner knows, so the guard has no word on it.
            context.rule(newest, self.kind).schema().keep_private(&mut state, before);
        }
        self.restart(newest, state);
        if let Some(before) = before {
            let (before, after) = (before.vec3(0), pull.state.vec3(0));
            self.hide(context.settings, before, after);
            let jump = before.distance(after);
            let why = Restored::PulledBack;
            let correction =
                Correction { tick: newest, agreed: self.agreed, newest, divergence: jump, jump, replayed: 0, why };
            tell(sink, Event::Corrected(&correction));
        }
        self.agreed = newest;
    }

    /// Moves the own entity by its owner's will.
    pub(super) fn place(&mut self, state: State) {
        if let Some((newest, _)) = self.history.newest()
            && let Some(entry) = self.history.get_mut(newest)
        {
            entry.state = Some(state);
        }
    }

    pub(super) fn own_state(&self) -> Option<State> {
        let predicted = self.history.newest().and_then(|(_, e)| e.state);
        predicted.or_else(|| self.own_remote()?.newest().map(|d| d.state))
    }

    fn own_remote(&self) -> Option<&Remote> {
        self.remotes.iter().find(|r| r.id == self.entity)
    }

    /// Newest own tick minus the newest agreed one.
    pub(super) fn behind(&self) -> i64 {
        self.ticks.newest().since(self.heard.unwrap_or(self.ticks.newest()))
    }

    pub(super) fn view_delay(&self) -> i64 {
        self.view.delay()
    }

    pub(super) fn draw(
        &mut self,
        timeline: &Timeline,
        settings: &ClientSettings,
        now: HostNanos,
        each: &mut impl FnMut(u16, &DrawnState),
    ) {
        let rate = self.ticks.rate();
        let interval = rate.due(u64::from(self.snapshot_every));
        let time = self.view.drawn_time(now, settings, interval).max(0.0);
        let (tick, fraction) = split(time * f64::from(rate.hz()) / 1e9, self.ticks.base());
        if let Some(drawn) = self.own_drawn(timeline, now) {
            each(self.entity, &drawn);
        }
        let predicted = self.predicts();
        for remote in &mut self.remotes {
            if remote.id == self.entity && predicted {
                continue;
            }
            let schema = timeline.at(tick).kinds.motion(remote.kind).schema();
            let drawn = if settings.interpolate {
                remote.at(schema, rate, tick, fraction, settings.extrapolate_ms)
            } else {
                remote.newest()
            };
            if let Some(drawn) = drawn {
                each(remote.id, &drawn);
            }
        }
    }

    fn predicts(&self) -> bool {
        self.history.newest().is_some_and(|(_, e)| e.state.is_some())
    }

    /// The own entity between its last two ticks, with what is left of a correction's offset.
    fn own_drawn(&self, timeline: &Timeline, now: HostNanos) -> Option<DrawnState> {
        let (newest, entry) = self.history.newest()?;
        let state = entry.state?;
        let before = self.history.get(newest.prev()).and_then(|e| e.state).unwrap_or(state);
        let fraction = self.ticks.fraction(now);
        let mut drawn = blend(
            timeline.at(newest).kinds.motion(self.kind).schema(),
            &before,
            &state,
            fraction,
            self.ticks.rate().dt(),
        );
        drawn.set_vec3(0, drawn.vec3(0) + self.ease.offset(now));
        Some(DrawnState { state: drawn, tick: newest.prev(), fraction, how: Drawn::Predicted })
    }
}

/// Ticks since the base as a whole tick and the rest.
fn split(ticks: f64, base: Tick) -> (Tick, f32) {
    let whole = libm::floor(ticks);
    (Tick(base.0 + whole as u64), (ticks - whole) as f32)
}
