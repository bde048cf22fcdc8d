//! A search for the mixture of cheats that gains the most without being found: small changes at random, and what gains more is kept.
//!
//! It begins with what the sizes of [`breach`](crate::breach) left unfound. All luck comes from the seed and from which candidate it is,
//! so the same search finds the same however many are tried at once. What it finds is real; what it does not find is not proven
//! impossible.

use velocitas_lab::chance::{Chance, Purpose};
use velocitas_lab::{Course, RunError};
use velocitas_record::MemberId;

use crate::breach::{Attempt, LASTS, Outcome, RUN, attempts, try_out};

/// Candidates of a generation: they are all made from the best before it.
pub const BATCH: u32 = 8;
/// Cheats in a mixture at most.
const MOST: usize = 3;

/// Cheats at once, each of its size.
#[derive(Clone, Debug, Default)]
pub struct Mixture(pub Vec<Attempt>);

/// What a mixture came to.
#[derive(Clone, Debug)]
pub struct Crafted {
    /// The mixture.
    pub mixture: Mixture,
    /// Metres a minute more than without it, in the mean over all seeds; nothing where it was found with one.
    pub gain: Option<f64>,
}

/// A search against one member.
#[derive(Clone, Debug)]
pub struct Search {
    member: MemberId,
    seed: u64,
    /// What may be mixed, in the sizes that are tried first.
    all: Vec<Attempt>,
    /// The best so far, and what it gains.
    pub best: Option<(Mixture, f64)>,
    generation: u32,
}

impl Search {
    /// Begins from what is known to go unfound and gain the most, if anything does.
    pub fn new(course: &Course, member: MemberId, seed: u64, known: Option<(Attempt, f64)>) -> Self {
        let mut all = attempts(course, member);
        all.retain(|a| a.spec.may_gain());
        let best = known.map(|(attempt, gain)| (Mixture(vec![attempt]), gain));
        Self { member, seed, all, best, generation: 0 }
    }

    /// Whether there is anything to mix.
    pub const fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// The candidates of the next generation.
    pub fn candidates(&mut self) -> Vec<Mixture> {
        self.generation += 1;
        (0..BATCH).map(|i| self.candidate(i)).collect()
    }

    fn candidate(&self, i: u32) -> Mixture {
        let place = u64::from(self.member.index() as u32);
        let mut luck = Chance::of(self.seed, Purpose::Attack, self.generation, i, place);
        let mut mixture = self.best.as_ref().map_or_else(Mixture::default, |(best, _)| best.clone()).0;
        let pick = |luck: &mut Chance, n: usize| ((luck.uniform() * n as f64) as usize).min(n.saturating_sub(1));
        if mixture.len() > 1 && luck.uniform() < 0.15 {
            mixture.remove(pick(&mut luck, mixture.len()));
        }
        if mixture.is_empty() || (mixture.len() < MOST && luck.uniform() < 0.5) {
            let one = self.all[pick(&mut luck, self.all.len())];
            if mixture.iter().all(|other| other.spec.key != one.spec.key) {
                mixture.push(one);
            }
        }
        for one in mixture.iter_mut().filter(|one| !one.is_a_switch()) {
            if luck.uniform() < 0.7 {
                // Of a factor what is beyond 1 is what it does.
                let base = one.base();
                one.amount = base + (one.amount - base) * (0.7 + 0.7 * luck.uniform()) as f32;
            }
        }
        Mixture(mixture)
    }

    /// Takes in what came of candidates.
    pub fn came(&mut self, all: Vec<Crafted>) {
        for one in all {
            let Some(gain) = one.gain else { continue };
            if self.best.as_ref().is_none_or(|(_, best)| gain > *best) {
                self.best = Some((one.mixture, gain));
            }
        }
    }
}

/// Tries a mixture with every seed; `honest` is what came without it, by seed.
///
/// # Errors
/// When the course cannot be run.
pub fn craft(
    course: &Course,
    member: MemberId,
    mixture: Mixture,
    honest: &[(u64, Outcome)],
) -> Result<Crafted, RunError> {
    let mut sum = 0.0;
    for (seed, without) in honest {
        let came = try_out(course, member, &mixture.0, *seed, Some(without))?;
        if came.found(without).is_some() {
            return Ok(Crafted { mixture, gain: None });
        }
        sum += (came.way_m - without.way_m) / LASTS.secs() * 60.0;
    }
    Ok(Crafted { mixture, gain: Some(sum / honest.len().max(1) as f64) })
}

/// How much is simulated at most for one mixture, with this number of seeds.
pub const fn costs(seeds: usize) -> u64 {
    RUN.0 * seeds as u64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::breach::tests::cheat;

    fn course() -> Course {
        let text = "format = 1\nname = \"t\"\nseed = 1\ntick_rate = \"60 Hz\"\nworld = { min = [-30, -30], max = [30, 30] }\n[link.test]\n\
                    latency = \"40 ms\"\n[[cast]]\nname = \"magpie\"\nrole = \"bot\"\ngait = \"courier.gait\"\narrangement = \"claims\"\n\
                    link = \"test\"\nspawn = [0, 0]\nroute = [{ at = [0, 12] }, { at = [0, -12] }]\n";
        Course::parse("t.course.toml", text, &[]).unwrap_or_else(|e| panic!("{e}"))
    }

    #[test]
    fn a_search_keeps_what_gains_and_is_not_found_and_is_the_same_again() {
        let course = course();
        let who = MemberId::new(0);
        let honest = vec![(7, try_out(&course, who, &[], 7, None).expect("it runs"))];
        let begin = Attempt { spec: cheat("drift", 1.0).spec, amount: 0.05 };
        let search = || {
            let mut search = Search::new(&course, who, 7, Some((begin, 0.0)));
            let mut gains = Vec::new();
            for _ in 0..3 {
                let came = search.candidates().into_iter().map(|m| craft(&course, who, m, &honest).expect("it runs"));
                let came: Vec<Crafted> = came.collect();
                assert!(came.iter().all(|one| one.mixture.0.len() <= MOST && !one.mixture.0.is_empty()));
                search.came(came);
                gains.push(search.best.as_ref().map_or(0.0, |(_, gain)| *gain));
            }
            (gains, search.best.expect("it began with one").0)
        };
        let (gains, best) = search();
        assert!(gains.windows(2).all(|pair| pair[1] >= pair[0]) && gains[2] > 1.0, "{gains:?} by {best:?}");
        assert_eq!(search().0, gains, "the same seed finds the same");
        // What it found gains that much, unfound.
        let again = craft(&course, who, best, &honest).expect("it runs");
        assert_eq!(again.gain, Some(gains[2]));
    }
}
