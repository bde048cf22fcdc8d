//! The guard attacked: what a member of a course could gain by cheating, and from where on it is found.
//!
//! A member plays its script again as a rogue, with one cheat of one size. What it gains is told without asking the guard: how much
//! longer the way was that the authority went along with than that of the same member, script and luck without the cheat.

use velocitas_core::{Fact, RULES, Rule, SeenBy, Shape};

use velocitas_lab::{CHEATS, Cheat, CheatSpec};
use velocitas_lab::{Course, Trick, What};
use velocitas_lab::{Keep, Run, RunError};
use velocitas_record::Happening;
use velocitas_record::LabTime;
use velocitas_record::Takes;
use velocitas_record::record::Record;
use velocitas_record::{KnownTo, Role};
use velocitas_record::{MachineId, MemberId};

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
    /// Its size, as a factor or in metres; 1 where it has none.
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
    /// For each rule how long after it began the first verdict or note by it was given.
    pub finds: [Option<LabTime>; RULES.len()],
    /// Metres that the authority went along while it lasted.
    pub way_m: f64,
    /// How high it was at the most.
    pub height_m: f64,
}

impl Outcome {
    /// How long it took until it was found, and by which rule: by one that finds nothing of the same hands without it.
    pub fn found(&self, honest: &Self) -> Option<(LabTime, Rule)> {
        let all = RULES.iter().zip(self.finds).zip(honest.finds);
        let new =
            all.filter_map(|((spec, found), before)| found.filter(|_| before.is_none()).map(|at| (at, spec.rule)));
        new.min_by_key(|(at, _)| *at)
    }
}

/// What slack and rounding let anybody gain.
#[derive(Clone, Copy, Debug)]
pub struct Leeway {
    /// As a share of the way.
    pub slack: f64,
    /// In metres a second.
    pub rounding: f64,
}

impl Leeway {
    /// Of a member's rule: its slack, and of eight chords a second the rounding.
    pub fn of(course: &Course, member: MemberId) -> Self {
        let kind = course[member].kind;
        let motion = course.kinds.motion(kind);
        let limits = motion.limits(&course.tunables(KnownTo::Server)[usize::from(kind)]);
        let quantum = f64::from(motion.schema().state[0].wire.step()) * std::f64::consts::SQRT_2;
        Self { slack: f64::from(limits.slack), rounding: 8.0 * quantum }
    }
}

/// So many metres a minute more nobody minds.
const SMALL: f64 = 0.5;

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
    CHEATS
        .iter()
        .filter(|spec| spec.whose().fits(sends_inputs) && idle(course, member, spec).is_none())
        .flat_map(of)
        .collect()
}

/// Why a cheat does nothing for a member, if it does nothing whatever happens.
pub fn idle(course: &Course, member: MemberId, spec: &CheatSpec) -> Option<&'static str> {
    let schema = course.kinds.motion(course[member].kind).schema();
    let keeps = schema.state.iter().any(|f| f.shape == Shape::Number && f.seen_by == SeenBy::Owner);
    (spec.key == "tireless" && !keeps).then_some("its rule keeps no number that only its owner knows")
}

/// Between two looks at whether it was found.
const LOOKS: LabTime = LabTime(500_000_000);

/// Runs a course in which a member plays its script with cheats, or without any. With `honest`, what came of the same without any, the
/// run ends when a cheat is found: what it gains after that is no gain.
///
/// Nobody else plays: who moves is in nobody's way, and each has luck of its own.
///
/// # Errors
/// When the course cannot be run.
pub fn try_out(
    course: &Course,
    member: MemberId,
    attempts: &[Attempt],
    seed: u64,
    honest: Option<&Outcome>,
) -> Result<Outcome, RunError> {
    let mut course = Course { seed, ..course.clone() };
    for (i, other) in course.cast.iter_mut().enumerate() {
        other.there = i == member.index() || other.hosts;
    }
    course.events.retain(|event| !matches!(event.what, What::Moves(who, coming) if who != member && coming.comes()));
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
    while run.now() < RUN {
        run.advance(RUN.min(run.now().max(BEGINS).plus(LOOKS)));
        if honest.is_some_and(|honest| finds(run.record(), machine).found(honest).is_some()) {
            break;
        }
    }
    Ok(outcome(run.record(), machine))
}

fn outcome(record: &Record, machine: MachineId) -> Outcome {
    let finds = finds(record, machine).finds;
    let (mut way_m, mut height_m) = (0.0, 0.0);
    if let Some(actor) = record.cast.body(machine, record.end) {
        let track = record.authority(actor);
        let ticks: Vec<usize> = track.between(BEGINS, RUN).collect();
        way_m =
            ticks.windows(2).map(|pair| f64::from((track.pos(pair[1]) - track.pos(pair[0])).level().length())).sum();
        height_m = ticks.iter().map(|i| f64::from(track.pos(*i).z)).fold(f64::MIN, f64::max);
    }
    Outcome { finds, way_m, height_m }
}

/// What was found so far, and nothing of ways.
fn finds(record: &Record, machine: MachineId) -> Outcome {
    let rows = &record.of(machine).happenings;
    let mut finds = [None; RULES.len()];
    for row in rows.range(rows.before(BEGINS), rows.len()) {
        if let Happening::Fact(Fact::Verdict(v) | Fact::Note(v)) = row.what {
            finds[v.evidence.rule as usize].get_or_insert(row.at.minus(BEGINS));
        }
    }
    Outcome { finds, way_m: 0.0, height_m: 0.0 }
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
        !self.outcomes.is_empty() && self.times_found() == self.outcomes.len()
    }

    /// With how many seeds it was.
    pub fn times_found(&self) -> usize {
        self.outcomes.iter().filter(|(it, honest)| it.found(honest).is_some()).count()
    }

    /// Metres a minute, of way or of height, that were gained in the median of all seeds beyond what slack and rounding explain: nothing
    /// where it was found.
    pub fn unanswered(&self, leeway: &Leeway) -> f64 {
        let a_minute = 60.0 / LASTS.secs();
        let of = |(it, honest): &(Outcome, Outcome)| {
            if it.found(honest).is_some() {
                return 0.0;
            }
            let way = (it.way_m - honest.way_m * (1.0 + leeway.slack)) * a_minute - leeway.rounding * 60.0;
            let height = (it.height_m - honest.height_m - honest.height_m.max(0.0) * leeway.slack) * a_minute;
            (way.max(height) - SMALL).max(0.0)
        };
        let mut all: Vec<f64> = self.outcomes.iter().map(of).collect();
        all.sort_by(f64::total_cmp);
        // Nearest-rank.
        all.get((all.len().max(1) - 1) / 2).copied().unwrap_or(0.0)
    }

    /// How long it took at most, where it was found.
    pub fn longest(&self) -> Option<LabTime> {
        self.outcomes.iter().filter_map(|(it, honest)| it.found(honest)).map(|(after, _)| after).max()
    }

    /// Metres a minute that were gained in the mean where nothing was found; `None` where all of it was.
    pub fn gain(&self) -> Option<f64> {
        let kept: Vec<f64> = self
            .outcomes
            .iter()
            .filter(|(it, honest)| it.found(honest).is_none())
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
    /// The size of which the most goes unanswered, and how many metres a minute of way or height beyond what slack and rounding explain;
    /// `None` where that is nothing.
    pub unanswered: Option<(f32, f64)>,
}

/// What came of all sizes of a cheat, from the least.
pub fn breach(spec: &'static CheatSpec, tried: &[Tried], leeway: &Leeway) -> Breach {
    let of: Vec<&Tried> = tried.iter().filter(|t| std::ptr::eq(t.attempt.spec, spec)).collect();
    let found = of.iter().rev().take_while(|t| t.is_found()).count();
    let all_found = &of[of.len() - found..];
    let longest = all_found.iter().filter_map(|t| t.longest()).max();
    let gains = of.iter().filter_map(|t| Some((t.attempt.amount, t.gain()?)));
    let greatest = of.last().map_or((0, 0), |t| (t.times_found(), t.outcomes.len()));
    let unanswered = of.iter().map(|t| (t.attempt.amount, t.unanswered(leeway))).filter(|(_, gain)| *gain > 0.0);
    Breach {
        spec,
        unanswered: unanswered.max_by(|a, b| a.1.total_cmp(&b.1)),
        greatest,
        found_from: all_found.first().map(|t| t.attempt.amount).zip(longest),
        unfound: gains.max_by(|a, b| a.1.total_cmp(&b.1)),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// A cheat by its key.
    pub(crate) fn cheat(key: &str, amount: f32) -> Cheat {
        Cheat { spec: CHEATS.iter().find(|spec| spec.key == key).expect("a row"), amount }
    }

    const HONEST: Outcome = Outcome { finds: [None; RULES.len()], way_m: 100.0, height_m: 0.0 };
    const LEEWAY: Leeway = Leeway { slack: 0.04, rounding: 0.0 };

    fn tried(amount: f32, found: &[Option<f64>], way_m: f64) -> Tried {
        let one = |found: &Option<f64>| {
            let mut finds = [None; RULES.len()];
            finds[Rule::Reach as usize] = found.map(LabTime::from_secs);
            (Outcome { finds, way_m, height_m: 0.0 }, HONEST)
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
        let breach = breach(cheat("run", 1.0).spec, &all, &LEEWAY);
        assert_eq!(breach.found_from, Some((1.2, LabTime::from_secs(0.7))));
        assert_eq!(breach.greatest, (2, 2));
        // Ten metres in twenty seconds.
        let (amount, gain) = breach.unfound.expect("some went unfound");
        assert!(amount == 1.1 && (gain - 30.0).abs() < 1e-9, "{gain}");
        // Of it slack explains 12, and half a metre is nothing; but one of two was found.
        assert_eq!(breach.unanswered, None, "the lower of two is the median");
    }

    #[test]
    fn what_is_found_without_the_trick_as_well_is_no_find_and_height_is_a_gain() {
        let mut one = tried(2.0, &[Some(1.0), Some(1.0)], 104.0);
        assert!(one.is_found() && one.unanswered(&LEEWAY) == 0.0);
        one.outcomes.iter_mut().for_each(|(_, honest)| honest.finds[Rule::Reach as usize] = Some(LabTime::ZERO));
        assert!(!one.is_found() && one.longest().is_none());
        assert_eq!(one.unanswered(&LEEWAY), 0.0, "slack explains four of a hundred");
        one.outcomes.iter_mut().for_each(|(it, _)| it.height_m = 10.0);
        assert!((one.unanswered(&LEEWAY) - 29.5).abs() < 1e-9, "ten metres up in twenty seconds");
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
        let outcome = |course: &Course, attempts: &[Attempt]| try_out(course, who, attempts, 7, None).expect("it runs");
        let claims = course("claims");
        let (honest, rogue) = (outcome(&claims, &[]), outcome(&claims, &[run]));
        assert_eq!(rogue.found(&honest), None, "within a sprint nothing can be told");
        assert!(rogue.way_m > honest.way_m * 1.3, "{} and {} m", rogue.way_m, honest.way_m);
        let accounts = course("claims with inputs");
        let (honest, rogue) = (outcome(&accounts, &[]), outcome(&accounts, &[run]));
        assert!(honest.finds == [None; RULES.len()] && honest.way_m > 70.0, "{honest:?}");
        assert!(rogue.found(&honest).is_some_and(|(after, _)| after < LabTime::from_secs(0.5)), "{rogue:?}");
        assert!(attempts(&accounts, who).iter().any(|a| a.spec.key == "jump" && a.amount == 0.01));
        assert!(attempts(&accounts, who).iter().all(|a| a.spec.key != "overreach"));
    }
}
