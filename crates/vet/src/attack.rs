//! A search for inputs that exceed a rule's declared limits.
//!
//! For each direction (along the ground, up, down) and each window of ticks the search starts anew several times: on
//! another ground, at another tick rate, from another state reached by pressing keys at random. From there it changes
//! a few inputs at a time and keeps what leads further (hill climbing with restarts). Everything is drawn from the
//! seed: the same seed finds the same.
//!
//! It finds what is easy to find. It proves nothing.

use serde::Serialize;
use velocitas_core::{Ground, Input, InputKind, Limits, Motion, Rate, Vec3, vec3};
use velocitas_lab::chance::{Chance, Purpose};
use velocitas_lab::track::Track;

use crate::defaults;
use crate::feel::RATES;
use crate::grounds::{GROUNDS, TestGround};
use crate::pressed::{Guarded, PRESSED};
use crate::search::{Attack, Attempt, Search};
use crate::walk::ahead;

/// The windows over which displacement is held against the limits, in ticks.
pub const WINDOWS: [usize; 4] = [1, 4, 16, 64];

/// Ticks before the window: enough to get going.
const RUN_UP: usize = 256;
/// Where long falls begin, in metres.
const HIGH: f32 = 300.0;

/// A direction that has a limit of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Direction {
    /// Along the ground.
    Level,
    /// Upwards.
    Up,
    /// Downwards.
    Down,
}

impl Direction {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Level, Self::Up, Self::Down];

    /// The name of its limit in a gait.
    pub const fn limit_name(self) -> &'static str {
        match self {
            Self::Level => "pace",
            Self::Up => "climb",
            Self::Down => "drop",
        }
    }

    fn of(self, way: Vec3) -> f32 {
        match self {
            Self::Level => way.level().length(),
            Self::Up => way.z,
            Self::Down => -way.z,
        }
    }

    /// The fastest that is lawful over `ticks` ticks, in metres a second.
    pub fn lawful_mps(self, rule: &dyn Motion, limits: &Limits, rate: Rate, ticks: usize) -> f32 {
        let seconds = ticks as f32 * rate.dt();
        self.lawful(rule, limits, seconds) / seconds
    }

    /// The furthest that is lawful in some time: as the guard reckons, slack, step and wire included.
    fn lawful(self, rule: &dyn Motion, limits: &Limits, seconds: f32) -> f32 {
        let quantum = rule.schema().state[0].wire.step();
        let slack = 1.0 + limits.slack;
        match self {
            Self::Level => limits.level * slack * seconds + quantum * std::f32::consts::SQRT_2,
            Self::Up => limits.up * slack * seconds + rule.body().step + quantum,
            Self::Down => limits.down * slack * seconds + rule.body().step + quantum,
        }
    }
}

/// The furthest found in a direction over a window.
#[derive(Clone, Debug)]
pub struct Found {
    /// Which way.
    pub direction: Direction,
    /// Over how many ticks.
    pub ticks: usize,
    /// As a speed, in metres a second.
    pub found_mps: f32,
    /// What the limits allow over that window at that tick rate, as a speed: slack, step and wire included.
    pub lawful_mps: f32,
    /// The tick rate at which it was found.
    pub tick_rate: u32,
    /// The inputs that did it.
    pub track: Track,
}

impl Found {
    /// Whether it is more than lawful.
    pub fn exceeds(&self) -> bool {
        self.found_mps > self.lawful_mps
    }

    /// Whether it came nowhere near: the limit is declared too wide, or the search is no use against it.
    pub fn is_far(&self) -> bool {
        self.found_mps < self.lawful_mps / 3.0
    }
}

/// What a search found.
#[derive(Clone, Debug)]
pub struct Envelope {
    /// The declared limits.
    pub limits: Limits,
    /// The furthest in each direction over each window, in that order.
    pub found: Vec<Found>,
    /// How near to each of the guard's verdicts honest play came, where anything was measured.
    pub guarded: Vec<Guarded>,
    /// Ticks simulated.
    pub ticks: u64,
    /// Steps that came out non-finite.
    pub faults: u64,
    /// State fields that never changed, whatever was tried.
    pub still: Vec<&'static str>,
}

/// Searches. `progress` hears the share done, from 0 to 1, and may stop the search by answering `false`; what was found
/// until then is returned.
pub fn attack(rule: &dyn Motion, how: Attack, mut progress: impl FnMut(f64) -> bool) -> Envelope {
    let tunables = defaults(rule);
    let grounds: Vec<Ground> = GROUNDS.iter().map(TestGround::ground).collect();
    let mut search = Search::new(rule, &tunables, &grounds);
    let limits = rule.limits(&tunables);
    let targets: Vec<(Direction, usize)> =
        Direction::ALL.iter().flat_map(|d| WINDOWS.iter().map(move |w| (*d, *w))).collect();
    let mut found = Vec::new();
    for (i, &(direction, window)) in targets.iter().enumerate() {
        let mut best: Option<(f32, Attempt)> = None;
        for restart in 0..how.restarts.max(1) {
            let all = (targets.len() + PRESSED.len()) as f64;
            let share = (i as f64 + f64::from(restart) / f64::from(how.restarts.max(1))) / all;
            if !progress(share) {
                break;
            }
            let luck = Chance::of(how.seed, Purpose::Attack, i as u32, restart, 0);
            let (score, attempt) = search.climb(&Target { direction, window, limits }, restart, how.climbs, luck);
            if best.as_ref().is_none_or(|(b, _)| score > *b) {
                best = Some((score, attempt));
            }
        }
        let Some((_, attempt)) = best else { break };
        found.push(search.told(direction, window, &limits, &attempt));
    }
    let guarded = search.guarded(how, targets.len(), &mut progress);
    progress(1.0);
    let still = rule
        .schema()
        .state
        .iter()
        .filter(|f| (f.lane..f.lane + f.shape.lanes()).all(|lane| search.changed & 1 << lane == 0));
    let still = still.map(|f| f.name).collect();
    Envelope { limits, found, guarded, ticks: search.ticks, faults: search.faults, still }
}

/// What one climb is after.
struct Target {
    direction: Direction,
    window: usize,
    limits: Limits,
}

impl Search<'_> {
    /// From a random start to the best that small changes lead to.
    fn climb(&mut self, target: &Target, restart: u32, climbs: u32, mut luck: Chance) -> (f32, Attempt) {
        let rate = RATES[restart as usize % RATES.len()];
        let mut best = Attempt {
            ground: (restart as usize / RATES.len()) % self.grounds.len(),
            // Half of the falls begin high up: terminal velocity takes seconds to reach.
            height: if target.direction == Direction::Down && restart % 2 == 1 { HIGH } else { 0.0 },
            rate: Rate::new(rate).unwrap_or_else(|| unreachable!("the rates compared are sound")),
            inputs: Vec::new(),
        };
        let length = RUN_UP + target.window;
        if restart == 0 {
            // Somebody who simply goes: what is heavy gets to its top speed in no other way.
            best.inputs = vec![ahead(self.rule.schema()); length];
        }
        while best.inputs.len() < length {
            let input = random_input(self.rule, &mut luck);
            let held = 1 + (luck.uniform() * 24.0) as usize;
            best.inputs.extend(std::iter::repeat_n(input, held.min(length - best.inputs.len())));
        }
        let mut score = self.score(target, &best);
        for _ in 0..climbs {
            let mut changed = best.clone();
            for _ in 0..1 + (luck.uniform() * 3.0) as usize {
                let from = (luck.uniform() * length as f64) as usize;
                let until = (from + 1 + (luck.uniform() * luck.uniform() * 48.0) as usize).min(length);
                let input = random_input(self.rule, &mut luck);
                changed.inputs[from..until].fill(input);
            }
            let new = self.score(target, &changed);
            if new >= score {
                (score, best) = (new, changed);
            }
        }
        (score, best)
    }

    fn path(&mut self, attempt: &Attempt) -> Vec<Vec3> {
        self.states(attempt).iter().map(|state| state.vec3(0)).collect()
    }

    /// The greatest share of the lawful over the window.
    fn score(&mut self, target: &Target, attempt: &Attempt) -> f32 {
        let seconds = target.window as f32 * attempt.rate.dt();
        let lawful = target.direction.lawful(self.rule, &target.limits, seconds);
        let path = self.path(attempt);
        let far = path.windows(target.window + 1).map(|w| target.direction.of(w[target.window] - w[0]));
        far.fold(f32::NEG_INFINITY, velocitas_core::max) / lawful
    }

    fn told(&mut self, direction: Direction, window: usize, limits: &Limits, attempt: &Attempt) -> Found {
        let seconds = window as f32 * attempt.rate.dt();
        let path = self.path(attempt);
        let far = path.windows(window + 1).map(|w| direction.of(w[window] - w[0])).fold(0.0, velocitas_core::max);
        let lawful = direction.lawful(self.rule, limits, seconds);
        let about = format!(
            "{:.3} m/s {} over {window} ticks; {:.3} m/s are lawful",
            far / seconds,
            match direction {
                Direction::Level => "along the ground",
                Direction::Up => "up",
                Direction::Down => "down",
            },
            lawful / seconds
        );
        Found {
            direction,
            ticks: window,
            found_mps: far / seconds,
            lawful_mps: lawful / seconds,
            tick_rate: attempt.rate.hz(),
            track: self.track(about, attempt),
        }
    }
}

/// An input that any client may send, extremes more often than chance would have it.
fn random_input(rule: &dyn Motion, luck: &mut Chance) -> Input {
    let mut input = Input::default();
    let axis = |luck: &mut Chance| match (luck.uniform() * 4.0) as u8 {
        0 => -1.0,
        1 => 0.0,
        2 => 1.0,
        _ => (luck.uniform() * 2.0 - 1.0) as f32,
    };
    for f in &rule.schema().input {
        match f.kind {
            InputKind::Stick { .. } => {
                input.set_real(f.lane, axis(luck));
                input.set_real(f.lane + 1, axis(luck));
            }
            InputKind::Axis { .. } => input.set_real(f.lane, axis(luck)),
            InputKind::Held => input.set_flag(f.lane, luck.uniform() < 0.6),
            InputKind::Press => input.set_int(f.lane, u32::from(luck.uniform() < 0.3)),
            InputKind::Bearing { .. } => {
                // Mostly one direction: whoever turns all the time gets nowhere.
                let turn = if luck.uniform() < 0.6 { 0.0 } else { luck.uniform() * 2.0 - 1.0 };
                input.set_real(f.lane, (turn * std::f64::consts::PI) as f32);
            }
            InputKind::Pitch { .. } => {
                input.set_real(f.lane, ((luck.uniform() - 0.5) * std::f64::consts::PI) as f32);
            }
            InputKind::Point { .. } => {
                let mut near = || ((luck.uniform() - 0.5) * 200.0) as f32;
                let place = vec3(near(), near(), 0.0);
                if luck.uniform() < 0.8 {
                    f.give(&mut input, place);
                }
            }
        }
    }
    rule.schema().round_input(&input)
}
