//! `velocitas guard`: how near the honest came to the guard's limits, and what its members could gain by cheating.

use rayon::ThreadPoolBuilder;
use rayon::iter::{IntoParallelIterator, IntoParallelRefIterator, ParallelIterator};
use velocitas_core::{Motion, RULES, Rule};
use velocitas_lab::breach::{self, Attempt, Outcome as Came, Tried, attempts, breach, try_out};
use velocitas_lab::nearness::{BINS, Nearness};
use velocitas_lab::{CHEATS, Course, Keep, KnownTo, LEAST_KEPT, LabTime, MemberId, Run};
use velocitas_report::{CheatRow, Guarded, MemberRow, Nearest, RuleRow, Spread};

use super::Outcome;
use super::args::{GuardTask, Report};
use super::run::opened;
use crate::files::stream::say;
use crate::files::{OpenError, course_name};
use crate::progress::{advance_to, progress};

/// How long a course is run for its honest unless something is said.
const USUAL: LabTime = LabTime(60_000_000_000);

pub(super) fn run(task: &GuardTask) -> Result<Outcome, OpenError> {
    let opened = opened(task.course.as_deref(), task.seed)?;
    if opened.take().is_some() {
        return Err(OpenError::Usage("expected a course to run over seeds; a take has happened already".to_owned()));
    }
    let course = opened.course();
    let lasts = task.lasts.unwrap_or(USUAL);
    let seeds: Vec<u64> = (0..u64::from(task.seeds)).map(|n| course.seed.wrapping_add(n)).collect();
    let whom = attacked(course);
    let tries: Vec<(MemberId, Option<Attempt>, u64)> = whom
        .iter()
        .flat_map(|member| {
            let all = std::iter::once(None).chain(attempts(course, *member).into_iter().map(Some));
            let seeds = &seeds;
            all.flat_map(move |attempt| seeds.iter().map(move |seed| (*member, attempt, *seed)))
        })
        .collect();
    let pool = ThreadPoolBuilder::new()
        .num_threads(usize::from(task.jobs))
        .build()
        .map_err(|why| OpenError::Usage(format!("cannot start {} threads: {why}", task.jobs)))?;
    let all =
        lasts.0.saturating_mul(seeds.len() as u64).saturating_add(breach::RUN.0.saturating_mul(tries.len() as u64));
    let bar = progress("guarding", LabTime(all));
    let counted = pool.install(|| {
        let one = |seed: &u64| counted(course, *seed, lasts, &bar);
        seeds.par_iter().map(one).collect::<Result<Vec<_>, OpenError>>()
    })?;
    let came = pool.install(|| {
        let one = |(member, attempt, seed): (MemberId, Option<Attempt>, u64)| {
            let came = try_out(course, member, attempt, seed)?;
            bar.inc(breach::RUN.0 / 1_000_000);
            Ok((member, attempt, seed, came))
        };
        tries.into_par_iter().map(one).collect::<Result<Vec<_>, OpenError>>()
    })?;
    bar.finish_and_clear();
    let guarded = Guarded {
        course: course_name(&opened, task.course.as_deref()),
        seeds: task.seeds,
        lasts_ms: lasts.millis(),
        cheats_last_ms: breach::LASTS.millis(),
        honest_verdicts: counted.iter().map(|(run, nearness)| honest_verdicts(run, nearness)).sum(),
        rules: rules(course, &counted),
        members: whom.iter().map(|member| member_row(course, *member, &came)).collect(),
    };
    say(match task.report {
        // Names of files may hold anything.
        Report::Text => guarded.text().lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect(),
        Report::Json => guarded.json(),
    })?;
    Ok(if guarded.honest_verdicts == 0 { Outcome::Good } else { Outcome::Findings })
}

/// Whom it is worth attacking: of members with one rule and arrangement the first.
fn attacked(course: &Course) -> Vec<MemberId> {
    let mut all: Vec<MemberId> = Vec::new();
    for member in course.members() {
        let of = |member: MemberId| (course[member].kind, course[member].arrangement);
        if !all.iter().any(|known| of(*known) == of(member)) {
            all.push(member);
        }
    }
    all
}

/// A run of the course as it is, with what the guard measured.
fn counted(
    course: &Course,
    seed: u64,
    lasts: LabTime,
    bar: &indicatif::ProgressBar,
) -> Result<(Run, Nearness), OpenError> {
    let mut run = Run::new(Course { seed, ..course.clone() })?;
    // What is counted stays counted, so little of it need be kept.
    run.set_keep(Keep::Time(LEAST_KEPT));
    let mut nearness = Nearness::default();
    while run.now() < lasts {
        let next = lasts.min(run.now().plus(LEAST_KEPT));
        advance_to(&mut run, next, bar);
        nearness.follow(&run, true);
    }
    Ok((run, nearness))
}

fn honest_verdicts(run: &Run, nearness: &Nearness) -> u64 {
    nearness.ledger().iter().filter(|it| !run.record().cast.is_rogue(it.machine)).count() as u64
}

fn rules(course: &Course, all: &[(Run, Nearness)]) -> Vec<RuleRow> {
    let measured = |rule: Rule| all.iter().any(|(_, nearness)| nearness.rules().contains(&rule));
    let row = |rule: Rule| {
        let honest = spread(all, rule, false);
        let slack = matches!(rule, Rule::Reach | Rule::Pace).then(|| slack(course)).flatten();
        let share = honest.nearest.as_ref().map(|nearest| nearest.share);
        // The limit is what is lawful times one and the slack, and a little for rounding: as much less of it as the honest were away.
        let least_slack = slack.zip(share).map(|(slack, share)| ((1.0 + slack) * share - 1.0).max(0.0));
        RuleRow { rule: rule.name(), honest, rogues: spread(all, rule, true), least_slack, slack }
    };
    RULES.iter().map(|spec| spec.rule).filter(|rule| measured(*rule)).map(row).collect()
}

/// The slack of whoever says where it is, where that is one.
fn slack(course: &Course) -> Option<f64> {
    let of = |member: MemberId| {
        let kind = course[member].kind;
        let tunables = &course.tunables(KnownTo::Server)[usize::from(kind)];
        let rule: &dyn Motion = course.kinds.motion(kind);
        f64::from(rule.limits(tunables).slack)
    };
    let mut all: Vec<f64> = course.members().filter(|m| course[*m].arrangement.owner().decides()).map(of).collect();
    all.dedup();
    if let [one] = all[..] { Some(one) } else { None }
}

fn spread(all: &[(Run, Nearness)], rule: Rule, rogue: bool) -> Spread {
    let (mut bins, mut beyond, mut nearest) = ([0u64; BINS], 0, None::<Nearest>);
    for (run, nearness) in all {
        for near in nearness.of(run.record(), rule, rogue) {
            bins.iter_mut().zip(near.bins).for_each(|(sum, more)| *sum += u64::from(more));
            beyond += u64::from(near.beyond);
            let Some(row) = near.nearest else { continue };
            let share = f64::from(row.share());
            if nearest.as_ref().is_none_or(|nearest| nearest.share < share) {
                let who = run.record().cast.name(near.machine).to_owned();
                nearest = Some(Nearest { share, who, at_ms: row.at.millis(), seed: run.course().seed });
            }
        }
    }
    Spread::of(&bins, beyond, nearest)
}

fn member_row(course: &Course, member: MemberId, came: &[(MemberId, Option<Attempt>, u64, Came)]) -> MemberRow {
    let mine = || came.iter().filter(|(of, ..)| *of == member);
    let honest =
        |seed: u64| mine().find(|(_, attempt, of, _)| attempt.is_none() && *of == seed).map(|(.., came)| *came);
    let mut tried: Vec<Tried> = Vec::new();
    for (_, attempt, seed, came) in mine() {
        let (Some(attempt), Some(honest)) = (attempt, honest(*seed)) else { continue };
        let same = |t: &&mut Tried| std::ptr::eq(t.attempt.spec, attempt.spec) && t.attempt.amount == attempt.amount;
        match tried.iter_mut().find(same) {
            Some(tried) => tried.outcomes.push((*came, honest)),
            None => tried.push(Tried { attempt: *attempt, outcomes: vec![(*came, honest)] }),
        }
    }
    let of = |spec| tried.iter().any(|t| std::ptr::eq(t.attempt.spec, spec));
    let cheats = CHEATS.iter().filter(|spec| of(*spec)).map(|spec| CheatRow::of(&breach(spec, &tried))).collect();
    let it = &course[member];
    MemberRow {
        name: it.name.clone(),
        gait: course.kinds.motion(it.kind).name().to_owned(),
        arrangement: it.arrangement.name(),
        cheats,
    }
}
