//! A search for inputs that exceed a rule's declared limits.
//!
//! For each direction (along the ground, up, down) and each window of ticks the search starts anew several times: on
//! another ground, at another tick rate, from another state reached by pressing keys at random. From there it changes
//! a few inputs at a time and keeps what leads further (hill climbing with restarts). Everything is drawn from the
//! seed: the same seed finds the same.
//!
//! It finds what is easy to find. It proves nothing.

use serde::Serialize;
use velocitas_core::{
    Case, Evidence, Finding, Ground, Input, InputKind, Limits, Motion, Rate, Rule, Scene, State, Tick, Vec3, checks,
    vec3,
};

use super::feel::RATES;
use super::grounds::{GROUNDS, TestGround};
use super::walk::ahead;
use super::{Trial, defaults};
use crate::chance::{Chance, Purpose};
use crate::track::Track;

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

    /// The fastest that is lawful over so many ticks, in metres a second.
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

/// How hard to search.
#[derive(Clone, Copy, Debug)]
pub struct Attack {
    /// All luck comes from it.
    pub seed: u64,
    /// Starts for each direction and window.
    pub restarts: u32,
    /// Changes tried after each start.
    pub climbs: u32,
}

impl Attack {
    /// About a second on an ordinary machine.
    pub const USUAL: Self = Self { seed: 1, restarts: 9, climbs: 60 };
}

/// The furthest found in a direction over a window.
#[derive(Clone, Debug)]
pub struct Found {
    /// Which way.
    pub direction: Direction,
    /// Over so many ticks.
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

/// How near to a verdict honest play was brought, by the guard's own checks.
#[derive(Clone, Debug)]
pub struct Guarded {
    /// By which rule.
    pub rule: Rule,
    /// The nearest: what was measured, and what is allowed.
    pub evidence: Evidence,
    /// The tick rate at which it was.
    pub tick_rate: u32,
    /// The inputs that did it.
    pub track: Track,
}

impl Guarded {
    /// Whether it would have been accused.
    pub fn exceeds(&self) -> bool {
        self.evidence.is_exceeded()
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
    let mut search = Search { rule, tunables: &tunables, grounds: &grounds, ticks: 0, faults: 0, changed: 0 };
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

/// The rules against which play is pressed; the others are watched on the way.
const PRESSED: [Rule; 3] = [Rule::Pace, Rule::Burst, Rule::Support];
/// How long play is that presses them, in seconds: what is saved up is spent by then.
const PLAYED: usize = 12;

impl Search<'_> {
    /// Presses play against the guard's own checks, and remembers of each rule the nearest.
    fn guarded(&mut self, how: Attack, before: usize, progress: &mut impl FnMut(f64) -> bool) -> Vec<Guarded> {
        let mut nearest: Vec<(Evidence, Attempt)> = Vec::new();
        for (i, rule) in PRESSED.into_iter().enumerate() {
            for restart in 0..how.restarts.max(1) {
                let share = (i as f64 + f64::from(restart) / f64::from(how.restarts.max(1))) / PRESSED.len() as f64;
                let (all, before) = ((before + PRESSED.len()) as f64, before as f64);
                if !progress((before + share * PRESSED.len() as f64) / all) {
                    break;
                }
                let luck = Chance::of(how.seed, Purpose::Attack, (before as usize + i) as u32, restart, 0);
                self.press(rule, restart, how.climbs / 3, luck, &mut nearest);
            }
        }
        let told = |(evidence, attempt): &(Evidence, Attempt)| Guarded {
            rule: evidence.rule,
            evidence: *evidence,
            tick_rate: attempt.rate.hz(),
            track: Track {
                from: [0.0, 0.0, attempt.height],
                ground: GROUNDS[attempt.ground].name.to_owned(),
                about: format!(
                    "{}: {:.3} {}, {:.3} are allowed",
                    evidence.rule.name(),
                    evidence.measured,
                    evidence.rule.spec().unit,
                    evidence.limit
                ),
                ..Track::of_ticks(self.rule, attempt.rate, &attempt.inputs)
            },
        };
        nearest.sort_by_key(|(evidence, _)| evidence.rule);
        nearest.iter().map(told).collect()
    }

    /// From one start to the nearest that small changes lead to.
    fn press(
        &mut self,
        rule: Rule,
        restart: u32,
        climbs: u32,
        mut luck: Chance,
        nearest: &mut Vec<(Evidence, Attempt)>,
    ) {
        let rate = RATES[restart as usize % RATES.len()];
        let rate = Rate::new(rate).unwrap_or_else(|| unreachable!("the rates compared are sound"));
        let ground = (restart as usize / RATES.len()) % self.grounds.len();
        let length = PLAYED * rate.hz() as usize;
        let mut best = Attempt { ground, height: 0.0, rate, inputs: self.rhythm(length, &mut luck) };
        let mut score = self.judged(rule, &best, nearest);
        for _ in 0..climbs {
            let mut changed = best.clone();
            if luck.uniform() < 0.5 {
                changed.inputs = self.rhythm(length, &mut luck);
            } else {
                let from = (luck.uniform() * length as f64) as usize;
                let until = (from + 1 + (luck.uniform() * luck.uniform() * length as f64) as usize).min(length);
                let with = self.rhythm(until - from, &mut luck);
                changed.inputs[from..until].copy_from_slice(&with);
            }
            let new = self.judged(rule, &changed, nearest);
            if new >= score {
                (score, best) = (new, changed);
            }
        }
    }

    /// Two inputs in turn, in a rhythm, with presses at random: what is to be had from a budget is had by such.
    fn rhythm(&self, length: usize, luck: &mut Chance) -> Vec<Input> {
        let mut ahead = ahead(self.rule.schema());
        let mut other = ahead;
        for f in &self.rule.schema().input {
            match f.kind {
                InputKind::Held => {
                    ahead.set_flag(f.lane, true);
                    other.set_flag(f.lane, luck.uniform() < 0.3);
                }
                InputKind::Stick { .. } | InputKind::Axis { .. } if luck.uniform() < 0.2 => {
                    other.set_real(f.lane, -ahead.real(f.lane));
                }
                _ => {}
            }
        }
        let ticks = |luck: &mut Chance| 1 + (luck.uniform() * luck.uniform() * 240.0) as usize;
        let (first, second) = (ticks(luck), ticks(luck));
        let presses = if luck.uniform() < 0.5 { 0.0 } else { luck.uniform() };
        let mut inputs = Vec::with_capacity(length);
        for tick in 0..length {
            let mut input = if tick % (first + second) < first { ahead } else { other };
            for f in self.rule.schema().input.iter().filter(|f| f.kind == InputKind::Press) {
                input.set_int(f.lane, u32::from(luck.uniform() < presses));
            }
            inputs.push(self.rule.schema().round_input(&input));
        }
        inputs
    }

    /// Puts a path to the guard's checks as if it were claimed tick by tick: the greatest share of what a rule allows.
    fn judged(&mut self, rule: Rule, attempt: &Attempt, nearest: &mut Vec<(Evidence, Attempt)>) -> f32 {
        let states: Vec<State> = self.states(attempt).iter().map(|s| self.rule.schema().round_state(s)).collect();
        let most = self.rule.limits(self.tunables);
        let mut checks = checks();
        let mut best = 0.0;
        for (i, pair) in states.windows(2).enumerate() {
            let (before, told) = (&pair[0], &pair[1]);
            let tick = Tick(i as u64 + 1);
            let ground = &self.grounds[attempt.ground];
            let scene = Scene { tick, dt: attempt.rate.dt(), ground, tunables: self.tunables };
            let within = |state| self.rule.limits_in(&most, self.tunables, state, 0.0);
            let limits = within(before).or(&within(told));
            let case = Case {
                scene: &scene,
                motion: self.rule,
                limits: &limits,
                rate: attempt.rate,
                from: Tick(i as u64),
                tick,
                arrived: tick,
                start: before.vec3(0),
                end: told.vec3(0),
                before,
                ago: 0,
                told: Some(told),
            };
            for check in &mut checks {
                let (Finding::Within(found) | Finding::Beyond(found, _)) = check.judge(&case) else { continue };
                if found.rule == rule {
                    best = velocitas_core::max(best, found.share());
                }
                match nearest.iter_mut().find(|(known, _)| known.rule == found.rule) {
                    Some((known, with)) if found.share() > known.share() => (*known, *with) = (found, attempt.clone()),
                    Some(_) => {}
                    None => nearest.push((found, attempt.clone())),
                }
            }
        }
        best
    }
}

/// What one climb is after.
struct Target {
    direction: Direction,
    window: usize,
    limits: Limits,
}

/// Inputs tried, and where.
#[derive(Clone)]
struct Attempt {
    ground: usize,
    /// Metres above the floor.
    height: f32,
    rate: Rate,
    inputs: Vec<Input>,
}

struct Search<'a> {
    rule: &'a dyn Motion,
    tunables: &'a [f32],
    grounds: &'a [Ground],
    ticks: u64,
    faults: u64,
    changed: u32,
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

    fn states(&mut self, attempt: &Attempt) -> Vec<State> {
        let begin: State = self.rule.spawn(vec3(0.0, 0.0, attempt.height), 0.0);
        let mut trial = Trial::new(self.rule, &self.grounds[attempt.ground], self.tunables, attempt.rate, begin);
        let path = std::iter::once(begin)
            .chain(attempt.inputs.iter().map(|input| {
                trial.step(input);
                trial.state
            }))
            .collect();
        self.ticks += attempt.inputs.len() as u64;
        self.faults += u64::from(trial.faults);
        self.changed |= trial.changed;
        path
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
            track: Track {
                from: [0.0, 0.0, attempt.height],
                ground: GROUNDS[attempt.ground].name.to_owned(),
                about,
                ..Track::of_ticks(self.rule, attempt.rate, &attempt.inputs)
            },
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
