//! What would cure a bad stretch: branches with one remedy each, on the same luck, ranked by what each did to the trouble.

mod price;
mod remedy;

pub use price::{PriceCase, Turn};
pub use remedy::{Reaches, Remedy};

use thiserror::Error;
use velocitas_analysis::cause::Found;
use velocitas_analysis::metrics::{ClientMetrics, measure_all};
use velocitas_analysis::trouble::{Reason, Trouble, troubles};
use velocitas_record::ids::MachineId;
use velocitas_record::time::LabTime;

use crate::course::Role;
use crate::run::Run;

use remedy::remedies;

/// So long before the stretch a remedy begins, that what it does is there from its beginning: news of it is on its way, a lead is
/// worked off at a tick a second.
const SETTLES: LabTime = LabTime(2_000_000_000);
/// What leaves no more of a trouble than this has cured it.
pub const CURED: f64 = 0.1;
/// What leaves more of it than this has done nothing worth telling.
pub const HELPS: f64 = 0.9;
/// Where the best leaves more of it than this, two at a time are tried as well.
pub const PAIRS_FROM: f64 = 1.0 / 3.0;
/// So many of the best are tried in pairs.
const PAIRED: usize = 6;

/// Why there is nothing to be found.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum DiagnoseError {
    /// The stretch is not kept, or not a whole second long.
    #[error("expected a stretch of at least a second within what is kept, {0} to {1}")]
    Stretch(LabTime, LabTime),
    /// Nothing went wrong.
    #[error("nothing went wrong in this stretch")]
    Nothing,
    /// Nobody plays at that machine.
    #[error("nobody plays there")]
    Nobody,
}

/// What a stretch came to for one machine.
#[derive(Clone, Debug, PartialEq)]
pub struct Outcome {
    /// The trouble looked at; `None` where it is gone.
    pub trouble: Option<Trouble>,
    /// All that is left to the machine of any trouble.
    pub corrections: u32,
    /// The same of hops.
    pub hops: u32,
    /// The same of stalls.
    pub stalls: u32,
    /// What eyes saw jump.
    pub seen_m: f64,
    /// From where things are drawn to where they should be: 95th percentile, of others and of the own.
    pub drawn_error_m: [Option<f64>; 2],
    /// How roughly they move: 95th percentile, of others and of the own.
    pub roughness_mps: [Option<f64>; 2],
    /// Payload, both ways.
    pub bytes: u64,
}

impl Outcome {
    fn of(found: Found<'_>, (machine, reason): (MachineId, &Reason), (from, to): (LabTime, LabTime)) -> Self {
        let (figures, all) = measure_all(found, machine, from, LabTime(to.0 - 1));
        let ClientMetrics { own, others, bytes_up, bytes_down, .. } = figures;
        Self {
            corrections: all.iter().map(|t| t.corrections).sum(),
            hops: all.iter().map(|t| t.hops).sum(),
            stalls: all.iter().map(|t| t.stalls).sum(),
            // The sum of nothing is −0.
            seen_m: all.iter().map(|t| t.seen_m).fold(0.0, |sum, m| sum + m),
            trouble: all.into_iter().find(|t| t.reason == *reason),
            drawn_error_m: [others.drawn_error_m.p95, own.drawn_error_m.p95],
            roughness_mps: [others.roughness_mps.p95, own.roughness_mps.p95],
            bytes: bytes_up + bytes_down,
        }
    }
}

/// A remedy that was tried.
#[derive(Clone, Debug, PartialEq)]
pub struct Tried {
    /// Which.
    pub remedy: Remedy,
    /// What the stretch came to with it.
    pub outcome: Outcome,
    /// How much of the trouble is left, 0 to 1 and more. Trouble that has another name now counts as well.
    pub left: f64,
}

/// A stretch to be cured.
#[derive(Clone, Debug)]
pub struct TroubleCase {
    /// As it was before it, for branches to go on from.
    at: Run,
    /// Whose screen.
    pub machine: MachineId,
    /// The stretch: whole seconds.
    pub stretch: (LabTime, LabTime),
    /// What it came to.
    pub before: Outcome,
    /// The trouble to be cured.
    pub trouble: Trouble,
    /// What there is to be tried.
    pub remedies: Vec<Remedy>,
}

impl TroubleCase {
    /// Where branches with a remedy leave the run: a while before the stretch, so that the remedy has settled by then.
    pub fn begins(&self) -> LabTime {
        self.at.now()
    }

    /// The worst trouble of a stretch, of one machine or of any whose player is no rogue, and what may cure it.
    ///
    /// # Errors
    /// When the stretch is not kept, or there is no trouble in it.
    pub fn of(run: &Run, whose: Option<MachineId>, from: LabTime, to: LabTime) -> Result<Self, DiagnoseError> {
        let second = 1_000_000_000;
        let (from, to) = (LabTime(from.0.div_ceil(second) * second), LabTime(to.0 / second * second));
        let kept = run.record().kept_from;
        if from >= to || to > run.now() || from < kept {
            return Err(DiagnoseError::Stretch(kept, run.now()));
        }
        let record = run.record();
        let is_rogue = |machine: MachineId| {
            let player = record.cast.machines[machine.index()].player.as_ref();
            player.is_some_and(|player| player.role == Role::Rogue)
        };
        let mut all = troubles(run.found(), whose, from, to).into_iter();
        let worst = all.find(|t| whose.is_some() || !is_rogue(t.machine)).ok_or(DiagnoseError::Nothing)?;
        Self::about(run, worst, (from, to))
    }

    /// A trouble of a stretch of whole seconds, and what may cure it.
    ///
    /// # Errors
    /// When the stretch is not kept.
    pub fn about(run: &Run, trouble: Trouble, stretch: (LabTime, LabTime)) -> Result<Self, DiagnoseError> {
        let (from, machine) = (stretch.0, trouble.machine);
        let kept = run.record().kept_from;
        let begins = from.minus(SETTLES).max(kept);
        let mut at = run.branch(begins).ok_or(DiagnoseError::Stretch(kept, run.now()))?;
        at.forget_before(begins);
        let remedies = remedies(&at, run.record(), machine, stretch);
        if remedies.is_empty() {
            return Err(DiagnoseError::Nobody);
        }
        let before = Outcome::of(run.found(), (machine, &trouble.reason), stretch);
        Ok(Self { at, machine, stretch, before, trouble, remedies })
    }

    /// Tries a remedy.
    pub fn try_out(&self, remedy: &Remedy) -> Tried {
        let mut branch = self.at.clone();
        remedy.apply(&mut branch);
        branch.advance(branch_end(self.stretch.1));
        let outcome = Outcome::of(branch.found(), (self.machine, &self.trouble.reason), self.stretch);
        Tried { left: self.left(&outcome), remedy: remedy.clone(), outcome }
    }

    /// How much of the trouble is left. What eyes see counts as much as how often; what became of it under another name is what the
    /// machine has more of than it had besides.
    fn left(&self, outcome: &Outcome) -> f64 {
        let often = |t: &Trouble| f64::from(t.corrections + t.hops + 10 * t.stalls);
        let all = |o: &Outcome| f64::from(o.corrections + o.hops + 10 * o.stalls);
        let of = |it: f64, was: f64| if was > 0.0 { it / was } else { 0.0 };
        let now = outcome.trouble.as_ref();
        let (count, seen) = (now.map_or(0.0, often), now.map_or(0.0, |t| t.seen_m));
        let more = |all: f64, mine: f64, was_all: f64, was_mine: f64| ((all - mine) - (was_all - was_mine)).max(0.0);
        let (was, was_seen) = (often(&self.trouble), self.trouble.seen_m);
        let count = count + more(all(outcome), count, all(&self.before), was);
        let seen = seen + more(outcome.seen_m, seen, self.before.seen_m, was_seen);
        if was_seen > 0.0 { (of(count, was) + of(seen, was_seen)) / 2.0 } else { of(count, was) }
    }

    /// Whether one alone does so little that two at a time are to be tried.
    pub fn wants_pairs(tried: &[Tried]) -> bool {
        !tried.is_empty() && tried.iter().all(|t| t.left > PAIRS_FROM)
    }

    /// What is worth trying two at a time: the best of what was tried, each with each other.
    pub fn pairs(&self, tried: &[Tried]) -> Vec<Remedy> {
        let best: Vec<&Tried> = tried.iter().filter(|t| t.left > CURED).take(PAIRED).collect();
        let with = |(i, a): (usize, &&Tried)| -> Vec<Remedy> {
            best[i + 1..].iter().map(|b| a.remedy.and(&b.remedy)).collect()
        };
        best.iter().enumerate().flat_map(with).collect()
    }
}

/// A moment after the end: what is drawn in the last frames is judged by what the server makes a little later.
const fn branch_end(to: LabTime) -> LabTime {
    LabTime(to.0 + 500_000_000)
}

/// The best first: what leaves least of the trouble; of equals what is nearest at hand, then what draws better, moves smoother
/// and costs less.
pub fn rank(tried: &mut [Tried]) {
    // In hundredths: less is luck.
    let left = |t: &Tried| (t.left * 100.0) as u64;
    let sum = |of: &[Option<f64>; 2]| of.iter().flatten().sum::<f64>();
    tried.sort_by(|a, b| {
        let by = left(a).cmp(&left(b)).then(a.remedy.reaches.cmp(&b.remedy.reaches));
        let by = by.then(sum(&a.outcome.drawn_error_m).total_cmp(&sum(&b.outcome.drawn_error_m)));
        let by = by.then(sum(&a.outcome.roughness_mps).total_cmp(&sum(&b.outcome.roughness_mps)));
        by.then(a.outcome.bytes.cmp(&b.outcome.bytes))
    });
}
