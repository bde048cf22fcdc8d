//! How far the authority went along with an owner: beyond what its rule allows, and beyond what was pressed.
//!
//! *Beyond what is allowed*, where positions are said: each accepted position is held against the way from the one before straight
//! towards it, as far as the rule's limits and the ground let it. Where inputs travel, the rule itself made it: nothing is beyond.
//!
//! *Beyond what was pressed*: a double is where the owner was accepted to be, and otherwise as the hands alone would have made it since the
//! trick began; as high as that, too, unless something solid is there. By how much further than its next step the owner comes, along the
//! ground and up, is gain. While its original is in something solid that came to be around it, the rule would push it out and the guard
//! lets it stay: that is no gain.
//!
//! What is less than rounding can make in a tick is kept and counted once it has come to more.

use std::sync::Arc;

use velocitas_core::{
    Ground, Input, InputKind, Motion, Provenance, Scene, Schema, Slide, State, Vec3, checked_step, slide, touching,
    vec3,
};
use velocitas_record::ids::{ActorId, MachineId, Part, RecordTick};
use velocitas_record::known::Known;
use velocitas_record::record::{OwnRows, Record, StateTrack};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use crate::lawful::Lawful;

/// The longest time between a push and the tick made with it.
const PUSH_BEFORE: LabTime = LabTime(1_000_000_000);

/// How many steps of the wire rounding can move two places apart.
const ROUNDING: f64 = 2.0;

/// Stretches of a second in which small steps too far are added up.
const STRETCHES: u32 = 8;

/// Metres, beyond what the rule allows and beyond what was pressed.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Metres {
    pub(super) allowed: f64,
    pub(super) pressed: f64,
}

impl Metres {
    pub(super) const fn plus(self, other: Self) -> Self {
        Self { allowed: self.allowed + other.allowed, pressed: self.pressed + other.pressed }
    }

    /// Of each the greater.
    pub(super) const fn max(self, other: Self) -> Self {
        Self { allowed: self.allowed.max(other.allowed), pressed: self.pressed.max(other.pressed) }
    }
}

/// What is remembered of an entity between its states, while a trick goes on.
#[derive(Clone, Debug, Default)]
pub(super) struct Ledger {
    /// Up to which tick.
    tick: Option<RecordTick>,
    lawful: Lawful,
    stretch: Stretch,
    double: Option<Double>,
}

/// Steps along the ground that are each too far by less than counts, if at all.
#[derive(Clone, Copy, Debug, Default)]
struct Stretch {
    ticks: u32,
    went: Vec3,
    lawful: f64,
    /// Metres too far in the stretches before that were not counted yet.
    left: f64,
}

impl Stretch {
    /// Takes a step; what counts now, if anything does.
    fn step(&mut self, (went, lawful): (Vec3, f64), (ticks, second): (u32, u32), least: f64) -> f64 {
        self.ticks += ticks;
        self.went += went;
        self.lawful += lawful;
        if self.ticks < (second / STRETCHES).max(1) {
            return 0.0;
        }
        let left = (self.left + f64::from(self.went.length()) - self.lawful).max(0.0);
        *self = Self { left, ..Self::default() };
        if left > least { std::mem::take(&mut self.left) } else { 0.0 }
    }
}

/// Somebody as the hands alone would have made it.
#[derive(Clone, Debug)]
struct Double {
    state: State,
    /// By how much its original is higher, of which that was counted.
    above: f64,
    stretch: Stretch,
}

/// Says how far beyond the lawful the authority went along with an owner.
pub(super) struct Judge<'a> {
    record: &'a Record,
    machine: MachineId,
    own: &'a OwnRows,
    /// Whether inputs travel, not positions.
    sends_inputs: bool,
    /// What the server knows of the rules, where that is always the same.
    known: Option<Arc<Known>>,
}

impl<'a> Judge<'a> {
    pub(super) fn of(record: &'a Record, machine: MachineId, own: &'a OwnRows) -> Self {
        let player = record.cast.machines[machine.index()].player.as_ref();
        let known = record.changes.is_empty().then(|| record.known(MachineId::SERVER, Part::Server, RecordTick(0)));
        Self {
            record,
            machine,
            own,
            sends_inputs: player.is_some_and(|player| player.arrangement.sends_inputs()),
            known,
        }
    }

    /// Of the authority's state at a position of its track: which of its owner's ticks it goes along with, where that is one of those
    /// asked for, and how far beyond the lawful it is.
    pub(super) fn gain(
        &self,
        ledger: &mut Ledger,
        (track, i): (&StateTrack, usize),
        is_asked: impl Fn(RecordTick) -> bool,
    ) -> Option<(RecordTick, Metres)> {
        let before = i.checked_sub(1)?;
        let (was, is) = (track.head(before)?, track.head(i)?);
        let of =
            |head: velocitas_record::record::StateHead| if self.sends_inputs { Some(head.tick) } else { head.used() };
        let ticks = of(was).zip(of(is)).filter(|(from, tick)| is_asked(*tick) && tick > from && !is.teleported);
        let Some((from, tick)) = ticks.filter(|(from, tick)| tick.0 - from.0 <= self.second()) else {
            *ledger = Ledger::default();
            return None;
        };
        let then;
        let known = match &self.known {
            Some(known) => known,
            None => {
                then = self.record.known(MachineId::SERVER, Part::Server, is.tick);
                &then
            }
        };
        let kind = self.record.cast.actors[self.own.actor.index()].kind;
        let motion = known.kinds.motion(kind);
        let ground = known.ground();
        let tunables = &known.tunables[usize::from(kind)];
        let dt = self.record.cast.rate.dt();
        let scene = Scene { tick: tick.tick(self.record.cast.first), dt, ground: &ground, tunables };
        // What is lawful in a state only the rule itself can say.
        if !motion.is_here() || self.is_pushed(is.at, tick) {
            *ledger = Ledger::default();
            return None;
        }
        if ledger.tick.replace(tick) != Some(from) {
            *ledger = Ledger { tick: Some(tick), ..Ledger::default() };
        }
        let way = (&track.state(before), &track.state(i));
        let allowed =
            if self.sends_inputs { 0.0 } else { self.beyond_allowed(ledger, (motion, &scene), way, tick.0 - from.0) };
        let pressed = self.beyond_pressed(ledger, (motion, &scene), way, (from, tick)).unwrap_or(0.0);
        (allowed > 0.0 || pressed > 0.0).then_some((tick, Metres { allowed, pressed }))
    }

    /// Ticks of a second.
    fn second(&self) -> u32 {
        self.record.cast.rate.hz()
    }

    /// Where it is in something that came to be around it, the guard looks how deep: of the ground nothing is asked here.
    fn beyond_allowed(
        &self,
        ledger: &mut Ledger,
        (motion, scene): (&dyn Motion, &Scene<'_>),
        (before, after): (&State, &State),
        ticks: u32,
    ) -> f64 {
        let (limits, _) = ledger.lawful.limits((motion, scene), (before, after), u64::from(ticks));
        let seconds = scene.dt * ticks as f32;
        let most = (limits.level * seconds, limits.up * seconds, limits.down * seconds);
        let (from, to) = (before.vec3(0), after.vec3(0));
        let ground = (!is_in_something(scene.ground, motion, from)).then_some(scene.ground);
        let beyond = beyond_claim(ground, motion, (from, to), most);
        let quantum = f64::from(motion.schema().state[0].wire.step());
        if beyond > quantum {
            return beyond;
        }
        let step = ((to - from).level(), f64::from(most.0));
        ledger.stretch.step(step, (ticks, self.second()), ROUNDING * quantum)
    }

    /// `None` where it is not known what was pressed, or what was lawful: the double begins anew.
    fn beyond_pressed(
        &self,
        ledger: &mut Ledger,
        (motion, scene): (&dyn Motion, &Scene<'_>),
        (before, after): (&State, &State),
        (from, tick): (RecordTick, RecordTick),
    ) -> Option<f64> {
        if is_in_something(scene.ground, motion, before.vec3(0)) {
            ledger.double = None;
            return None;
        }
        let begins = || Double { state: *before, above: 0.0, stretch: Stretch::default() };
        let mut double = ledger.double.take().unwrap_or_else(begins);
        double.stand_at(before.vec3(0), scene.ground, motion);
        for tick in (from.0 + 1..=tick.0).map(RecordTick) {
            let scene = Scene { tick: tick.tick(self.record.cast.first), ..*scene };
            double.state = checked_step(motion, &scene, &double.state, &self.hands(motion.schema(), tick)?).ok()?.state;
        }
        let least = ROUNDING * f64::from(motion.schema().state[0].wire.step());
        let ticks = (tick.0 - from.0, self.second());
        let beyond = double.further((before.vec3(0), after.vec3(0)), ticks, least);
        ledger.double = Some(double);
        Some(beyond)
    }

    /// What the step would have read of what the hands gave; of ticks that the server made up, what it made up.
    fn hands(&self, schema: &Schema, tick: RecordTick) -> Option<Input> {
        let inputs = &self.own.inputs;
        let row = inputs.of_tick(tick)?;
        if !self.sends_inputs {
            let sampled = inputs.sampled(&row)?;
            let before = inputs.of_tick(RecordTick(tick.0.checked_sub(1)?)).and_then(|row| inputs.sampled(&row));
            return Some(schema.presses_since(&sampled, &before.unwrap_or(sampled)));
        }
        let (_, provenance) = row.used()?;
        let used = inputs.used(&row)?;
        if provenance != Provenance::Fresh {
            return Some(used);
        }
        Some(given(schema, &inputs.sampled(&row)?, &used))
    }

    /// Whether the server pushed it or put it elsewhere in a tick, made at a moment.
    fn is_pushed(&self, made: LabTime, tick: RecordTick) -> bool {
        let id = self.record.cast.actors[self.own.actor.index()].id;
        let mut around = self.record.of(self.machine).happenings.span(made.minus(PUSH_BEFORE), made);
        around.any(|row| {
            matches!(row.what, Happening::Pushed(e, _) | Happening::Teleported(e, _) if e == id)
                && row.tick == Some(tick)
        })
    }
}

impl Double {
    /// It is where its original is, as high as it was itself, or where that would be in something, as high as its original.
    fn stand_at(&mut self, at: Vec3, ground: &Ground, motion: &dyn Motion) {
        let own = Vec3 { z: self.state.vec3(0).z, ..at };
        if ground.overlap(&motion.body(), own).is_none() {
            self.state.set_vec3(0, own);
        } else {
            self.state.set_vec3(0, at);
            self.above = 0.0;
        }
    }

    /// By how much further than it somebody went from the same place, along the ground, and how much higher than it that got.
    fn further(&mut self, (from, to): (Vec3, Vec3), ticks: (u32, u32), least: f64) -> f64 {
        let (went, own) = ((to - from).level(), (self.state.vec3(0) - from).level().length());
        let further = f64::from(went.length()) - f64::from(own);
        let mut beyond =
            if further > least { further } else { self.stretch.step((went, f64::from(own)), ticks, least) };
        let above = f64::from(to.z - self.state.vec3(0).z);
        if above > self.above + least {
            beyond += above - self.above;
            self.above = above;
        }
        self.above = self.above.min(above);
        beyond
    }
}

/// What is remembered of each entity of a machine.
#[derive(Clone, Debug, Default)]
pub(super) struct Ledgers(Vec<(ActorId, Ledger)>);

impl Ledgers {
    pub(super) fn of(&mut self, actor: ActorId) -> &mut Ledger {
        let place = self.0.iter().position(|(known, _)| *known == actor);
        let place = place.unwrap_or_else(|| {
            self.0.push((actor, Ledger::default()));
            self.0.len() - 1
        });
        &mut self.0[place].1
    }
}

/// Whether more of somebody is in something solid than rounding has there.
fn is_in_something(ground: &Ground, motion: &dyn Motion, at: Vec3) -> bool {
    let (near, body) = (touching(motion.schema().state[0].wire.step()), motion.body());
    ground.overlap(&body.thinner(near), at + vec3(0.0, 0.0, near)).is_some()
}

/// How far a claim lies from the nearest that could be reached towards it.
fn beyond_claim(
    ground: Option<&Ground>,
    motion: &dyn Motion,
    (from, to): (Vec3, Vec3),
    (level, up, down): (f32, f32, f32),
) -> f64 {
    let mut travel = to - from;
    let along = travel.level().length();
    if along > level {
        let share = level / along;
        (travel.x, travel.y) = (travel.x * share, travel.y * share);
    }
    travel.z = velocitas_core::clamp(travel.z, -down, up);
    let Some(ground) = ground else { return f64::from((from + travel).distance(to)) };
    let reached = |grounded| {
        let wanted = Slide { from, travel, velocity: Vec3::ZERO, grounded };
        f64::from(slide(ground, &motion.body(), wanted).position.distance(to))
    };
    reached(true).min(reached(false))
}

/// What the step would have read of what the hands gave: presses as they were read, everything else as it was sampled.
fn given(schema: &Schema, sampled: &Input, used: &Input) -> Input {
    let mut given = *used;
    for f in schema.input.iter().filter(|f| f.kind != InputKind::Press) {
        (f.lane..f.lane + f.kind.lanes()).for_each(|lane| given.set_int(lane, sampled.int(lane)));
    }
    given
}
