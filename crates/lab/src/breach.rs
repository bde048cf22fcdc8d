//! The guard attacked: what a member of a course could gain by cheating, and from where on it is found.
//!
//! A member plays its script again as a rogue, with one cheat of one size. What it gains is told without asking the guard: how much
//! longer the way was that the authority went along with than that of the same member, script and luck without the cheat.

use velocitas_core::{Fact, Rule};

use crate::cheat::{CHEATS, Cheat, CheatSpec};
use crate::course::{Course, Role, Trick};
use crate::ids::{MachineId, MemberId};
use crate::knob::Takes;
use crate::record::Record;
use crate::run::{Keep, Run, RunError};
use crate::time::LabTime;
use crate::watch::Happening;

/// When a cheat begins: by then everybody plays.
const BEGINS: LabTime = LabTime(3_000_000_000);
/// So long it goes on.
pub const LASTS: LabTime = LabTime(20_000_000_000);
/// What happens once happens again after so long.
const AGAIN: LabTime = LabTime(1_000_000_000);
/// How long a run of it is.
pub const RUN: LabTime = LabTime(BEGINS.0 + LASTS.0);

/// Factors that are tried, from a little to much.
const FACTORS: [f32; 14] = [1.01, 1.02, 1.03, 1.04, 1.05, 1.06, 1.08, 1.1, 1.15, 1.25, 1.4, 1.6, 2.0, 3.0];
/// Speeds that are tried, in metres a second.
const SPEEDS: [f32; 6] = [0.05, 0.1, 0.25, 0.5, 1.0, 3.0];
/// Lengths that are tried, in metres.
const LENGTHS: [f32; 9] = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 6.0];

/// Times that are tried, in milliseconds.
const TIMES: [f32; 4] = [50.0, 200.0, 800.0, 3000.0];

/// Numbers of ticks that are tried.
const TICKS: [f32; 5] = [1.0, 5.0, 30.0, 120.0, 1000.0];

/// A cheat of one size.
#[derive(Clone, Copy, Debug)]
pub struct Attempt {
    /// Which.
    pub spec: &'static CheatSpec,
    /// How far: so many times, so many metres; 1 where there is no more or less.
    pub amount: f32,
}

impl Attempt {
    /// Whether there is no more or less of it.
    pub const fn is_a_switch(&self) -> bool {
        matches!(self.spec.takes, Takes::Switch)
    }

    /// The size with which it does nothing.
    pub const fn base(&self) -> f32 {
        if matches!(self.spec.takes, Takes::Factor) { 1.0 } else { 0.0 }
    }
}

/// What came of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Outcome {
    /// How long after it began the first verdict or note was given, and by which rule; `None` for none.
    pub found: Option<(LabTime, Rule)>,
    /// Metres that the authority went along while it lasted.
    pub way_m: f64,
}

/// What can be tried with a member: every size of every cheat that is one of somebody with its arrangement.
pub fn attempts(course: &Course, member: MemberId) -> Vec<Attempt> {
    let sends_inputs = course[member].arrangement.sends_inputs();
    let of = |spec: &'static CheatSpec| {
        let amounts: &[f32] = match spec.takes {
            Takes::Factor => &FACTORS,
            Takes::Length => &LENGTHS,
            Takes::Speed => &SPEEDS,
            Takes::Time => &TIMES,
            Takes::Whole => &TICKS,
            _ => &[1.0],
        };
        amounts.iter().map(move |amount| Attempt { spec, amount: *amount })
    };
    CHEATS.iter().filter(|spec| spec.whose().fits(sends_inputs)).flat_map(of).collect()
}

/// Runs a course in which a member plays its script with cheats, or without any.
///
/// # Errors
/// When the course cannot be run.
pub fn try_out(course: &Course, member: MemberId, attempts: &[Attempt], seed: u64) -> Result<Outcome, RunError> {
    let mut course = Course { seed, ..course.clone() };
    let it = &mut course.cast[member.index()];
    it.role = Role::Rogue;
    it.tricks = attempts
        .iter()
        .map(|a| Trick {
            cheat: Cheat { spec: a.spec, amount: a.amount },
            at: BEGINS,
            lasts: LASTS,
            every: a.spec.is_once().then_some(AGAIN),
        })
        .collect();
    let machine = course.machine(member);
    let mut run = Run::new(course)?;
    run.set_keep(Keep::All);
    run.advance(RUN);
    Ok(outcome(run.record(), machine))
}

fn outcome(record: &Record, machine: MachineId) -> Outcome {
    let rows = &record.of(machine).happenings;
    let found = rows.range(rows.before(BEGINS), rows.len()).find_map(|row| match row.what {
        Happening::Fact(Fact::Verdict(v) | Fact::Note(v)) => Some((row.at.minus(BEGINS), v.evidence.rule)),
        _ => None,
    });
    let way = record.cast.body(machine, RUN).map_or(0.0, |actor| {
        let track = record.authority(actor);
        let ticks: Vec<usize> = track.between(BEGINS, RUN).collect();
        ticks.windows(2).map(|pair| f64::from((track.pos(pair[1]) - track.pos(pair[0])).level().length())).sum()
    });
    Outcome { found, way_m: way }
}

/// What came of one size with all seeds.
#[derive(Clone, Debug)]
pub struct Tried {
    /// What was tried.
    pub attempt: Attempt,
    /// What came of it, by seed, beside the same without any.
    pub outcomes: Vec<(Outcome, Outcome)>,
}

impl Tried {
    /// Whether it was found with every seed.
    pub fn is_found(&self) -> bool {
        !self.outcomes.is_empty() && self.outcomes.iter().all(|(it, _)| it.found.is_some())
    }

    /// How long it took at most, where it was found.
    pub fn longest(&self) -> Option<LabTime> {
        self.outcomes.iter().filter_map(|(it, _)| it.found).map(|(after, _)| after).max()
    }

    /// Metres a minute that were gained in the mean where nothing was found; `None` where all of it was.
    pub fn gain(&self) -> Option<f64> {
        let kept: Vec<f64> = self
            .outcomes
            .iter()
            .filter(|(it, _)| it.found.is_none())
            .map(|(it, honest)| (it.way_m - honest.way_m) / LASTS.secs() * 60.0)
            .collect();
        (!kept.is_empty()).then(|| kept.iter().sum::<f64>() / kept.len() as f64)
    }
}

/// From where on a cheat is found, and what is to be had below that.
#[derive(Clone, Debug)]
pub struct Breach {
    /// Which cheat.
    pub spec: &'static CheatSpec,
    /// The least size from which on all were found with every seed, and how long that took at most.
    pub found_from: Option<(f32, LabTime)>,
    /// With how many seeds the greatest size was found, and with how many it was tried.
    pub greatest: (usize, usize),
    /// The size that gained the most without being found, and how much: metres a minute more than without it.
    pub unfound: Option<(f32, f64)>,
}

/// What came of all sizes of a cheat, from the least.
pub fn breach(spec: &'static CheatSpec, tried: &[Tried]) -> Breach {
    let of: Vec<&Tried> = tried.iter().filter(|t| std::ptr::eq(t.attempt.spec, spec)).collect();
    let found = of.iter().rev().take_while(|t| t.is_found()).count();
    let all_found = &of[of.len() - found..];
    let longest = all_found.iter().filter_map(|t| t.longest()).max();
    let gains = of.iter().filter_map(|t| Some((t.attempt.amount, t.gain()?)));
    let greatest = of
        .last()
        .map_or((0, 0), |t| (t.outcomes.iter().filter(|(it, _)| it.found.is_some()).count(), t.outcomes.len()));
    Breach {
        spec,
        greatest,
        found_from: all_found.first().map(|t| t.attempt.amount).zip(longest),
        unfound: gains.max_by(|a, b| a.1.total_cmp(&b.1)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cheat::cheat;

    fn tried(amount: f32, found: &[Option<f64>], way_m: f64) -> Tried {
        let one = |found: &Option<f64>| {
            let found = found.map(|after| (LabTime::from_secs(after), Rule::Reach));
            (Outcome { found, way_m }, Outcome { found: None, way_m: 100.0 })
        };
        Tried { attempt: Attempt { spec: cheat("run", 1.0).spec, amount }, outcomes: found.iter().map(one).collect() }
    }

    #[test]
    fn a_breach_begins_where_nothing_greater_goes_unfound() {
        let all = [
            tried(1.01, &[None, None], 101.0),
            tried(1.05, &[Some(2.0), Some(2.5)], 105.0),
            tried(1.1, &[None, Some(0.5)], 110.0),
            tried(1.2, &[Some(0.3), Some(0.7)], 100.0),
            tried(1.5, &[Some(0.1), Some(0.1)], 100.0),
        ];
        let breach = breach(cheat("run", 1.0).spec, &all);
        assert_eq!(breach.found_from, Some((1.2, LabTime::from_secs(0.7))));
        assert_eq!(breach.greatest, (2, 2));
        // Ten metres in twenty seconds.
        let (amount, gain) = breach.unfound.expect("some went unfound");
        assert!(amount == 1.1 && (gain - 30.0).abs() < 1e-9, "{gain}");
    }

    #[test]
    fn positions_alone_let_a_walker_run_and_accounts_do_not() {
        let member = |arrangement: &str| {
            format!(
                "[[cast]]\nname = \"magpie\"\nrole = \"bot\"\ngait = \"courier.gait\"\narrangement = \"{arrangement}\"\n\
                 link = \"test\"\nspawn = [0, 0]\nroute = [{{ at = [0, 12] }}, {{ at = [0, -12] }}]\n"
            )
        };
        let course = |arrangement: &str| {
            let text = format!(
                "format = 1\nname = \"t\"\nseed = 1\ntick_rate = \"60 Hz\"\nworld = {{ min = [-30, -30], max = [30, 30] }}\n\
                 [link.test]\nlatency = \"40 ms\"\n{}",
                member(arrangement)
            );
            Course::parse("t.course.toml", &text, &[]).unwrap_or_else(|e| panic!("{e}"))
        };
        let who = MemberId::new(0);
        let run = Attempt { spec: cheat("run", 1.0).spec, amount: 1.4 };
        let outcome = |course: &Course, attempts: &[Attempt]| try_out(course, who, attempts, 7).expect("it runs");
        let claims = course("claims");
        let (honest, rogue) = (outcome(&claims, &[]), outcome(&claims, &[run]));
        assert_eq!((honest.found, rogue.found), (None, None), "within a sprint nothing can be told");
        assert!(rogue.way_m > honest.way_m * 1.3, "{} and {} m", rogue.way_m, honest.way_m);
        let accounts = course("claims with inputs");
        let (honest, rogue) = (outcome(&accounts, &[]), outcome(&accounts, &[run]));
        assert!(honest.found.is_none() && honest.way_m > 70.0, "{honest:?}");
        assert!(rogue.found.is_some_and(|(after, _)| after < LabTime::from_secs(0.5)), "{rogue:?}");
        assert!(attempts(&accounts, who).iter().any(|a| a.spec.key == "jump" && a.amount == 0.01));
        assert!(attempts(&accounts, who).iter().all(|a| a.spec.key != "overreach"));
    }
}
