//! Honest play, pressed against the guard: what is searched for is put to its own checks as if it were claimed tick by tick.
//!
//! Limits that accuse somebody who only plays are found here before they are in force. All luck comes from the seed.

use velocitas_analysis::lawful::Lawful;
use velocitas_core::{
    Around, ClaimCase, Evidence, Finding, Ground, Input, InputKind, Motion, Rate, Rule, Scene, State, Tick, checks,
};
use velocitas_lab::chance::{Chance, Purpose};
use velocitas_lab::track::{Track, TrackError};

use crate::defaults;
use crate::feel::RATES;
use crate::search::{Attack, Attempt, Search};
use crate::walk::{Walked, ahead, ground_of};

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

/// The rules against which play is pressed; the others are watched on the way.
pub(super) const PRESSED: [Rule; 3] = [Rule::Pace, Rule::Burst, Rule::Support];
/// How long play is that presses them, in seconds: what is saved up is spent by then.
const PLAYED: usize = 12;

impl Search<'_> {
    /// Presses play against the guard's own checks, and remembers of each rule the nearest.
    pub(super) fn guarded(
        &mut self,
        how: Attack,
        before: usize,
        progress: &mut impl FnMut(f64) -> bool,
    ) -> Vec<Guarded> {
        let mut nearest: Vec<(Evidence, Attempt)> = Vec::new();
        let restarts = how.restarts.max(1);
        let all = (before + PRESSED.len()) as f64;
        for (i, rule) in (before..).zip(PRESSED) {
            for restart in 0..restarts {
                if !progress((i as f64 + f64::from(restart) / f64::from(restarts)) / all) {
                    break;
                }
                let luck = Chance::of(how.seed, Purpose::Attack, i as u32, restart, 0);
                self.press(rule, restart, how.climbs / 3, luck, &mut nearest);
            }
        }
        let told = |(evidence, attempt): &(Evidence, Attempt)| {
            let (name, unit) = (evidence.rule.name(), evidence.rule.spec().unit);
            let about = format!("{name}: {:.3} {unit}, {:.3} are allowed", evidence.measured, evidence.limit);
            Guarded {
                rule: evidence.rule,
                evidence: *evidence,
                tick_rate: attempt.rate.hz(),
                track: self.track(about, attempt),
            }
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

    /// Puts a path to the guard's checks: the greatest share of what a rule allows.
    fn judged(&mut self, rule: Rule, attempt: &Attempt, nearest: &mut Vec<(Evidence, Attempt)>) -> f32 {
        let states = self.states(attempt);
        let place = Setup { rule: self.rule, ground: &self.grounds[attempt.ground], tunables: self.tunables };
        let mut best = 0.0;
        claimed(&place, attempt.rate, &states, |found| {
            if found.rule == rule {
                best = velocitas_core::max(best, found.share());
            }
            match nearest.iter_mut().find(|(known, _)| known.rule == found.rule) {
                Some((known, with)) if found.share() > known.share() => (*known, *with) = (found, attempt.clone()),
                Some(_) => {}
                None => nearest.push((found, attempt.clone())),
            }
        });
        best
    }
}

/// What is played, and where.
struct Setup<'a> {
    rule: &'a dyn Motion,
    ground: &'a Ground,
    tunables: &'a [f32],
}

/// Puts states that follow each other tick by tick to the guard's checks as if they were claimed so. Calls back with all that is found.
fn claimed(place: &Setup<'_>, rate: Rate, states: &[State], mut each: impl FnMut(Evidence)) {
    let Setup { rule: motion, ground, tunables } = *place;
    let states: Vec<State> = states.iter().map(|s| motion.schema().round_state(s)).collect();
    let (mut checks, mut lawful) = (checks(), Lawful::default());
    for (i, pair) in states.windows(2).enumerate() {
        let (before, told) = (&pair[0], &pair[1]);
        let tick = Tick(i as u64 + 1);
        let scene = Scene { tick, dt: rate.dt(), ground, tunables };
        let (limits, carried) = lawful.limits((motion, &scene), (before, told), 1);
        let case = ClaimCase {
            scene: &scene,
            motion,
            limits: &limits,
            rate,
            from: Tick(i as u64),
            tick,
            arrived: tick,
            start: before.vec3(0),
            end: told.vec3(0),
            before,
            ago: 0,
            allowed: &velocitas_core::AS_SAID,
            told: Some(told),
            carried,
            around: Around::NOTHING,
            lately: &[],
        };
        for check in &mut checks {
            if let Finding::Within(found) | Finding::Beyond(found, _) = check.judge(&case) {
                each(found);
            }
        }
    }
}

/// Of a track that was run: of each rule of the guard what came nearest to a verdict, as if it had been claimed tick by tick.
///
/// # Errors
/// When its ground is not one of the test grounds.
pub fn nearest_of(track: &Track, walked: &Walked, rule: &dyn Motion) -> Result<Vec<Evidence>, TrackError> {
    let ground = ground_of(track)?.ground();
    let (tunables, begin) = (defaults(rule), rule.spawn(walked.from, 0.0));
    let states: Vec<State> = std::iter::once(begin).chain(walked.states.iter().copied()).collect();
    let mut nearest: Vec<Evidence> = Vec::new();
    claimed(&Setup { rule, ground: &ground, tunables: &tunables }, walked.rate, &states, |found| {
        match nearest.iter_mut().find(|known| known.rule == found.rule) {
            Some(known) if found.share() > known.share() => *known = found,
            Some(_) => {}
            None => nearest.push(found),
        }
    });
    nearest.sort_by_key(|evidence| evidence.rule);
    Ok(nearest)
}
