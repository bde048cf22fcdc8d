//! `velocitas guard`: how near the honest came to the guard's limits, and what its members could gain by cheating.

use std::path::Path;

use indicatif::ProgressBar;
use velocitas_analysis::cause::excuse;
use velocitas_analysis::nearness::{Accusation, BINS, Nearness};
use velocitas_core::{Motion, RULES, Rule};
use velocitas_lab::many::Many;
use velocitas_lab::{CHEATS, Course, Run};
use velocitas_record::{KnownTo, LabTime, MemberId};
use velocitas_report::{CheatRow, Guarded, MemberRow, MixtureRow, Nearest, ProposalRow, RuleRow, Spread};
use velocitas_vet::breach::{self, Attempt, Leeway, Outcome as Came, Tried, attempts, breach, idle, try_out};
use velocitas_vet::crafty::{self, Search, craft};

use super::Outcome;
use super::args::{GuardTask, Report};
use super::run::opened;
use crate::files::stream::say;
use crate::files::{OpenError, Output, course_name};
use crate::progress::{advance_to, many, progress};

/// What came of a member that plays with a cheat, or without, with a seed.
type AttemptResult = (MemberId, Option<Attempt>, u64, Came);

/// How long a course is run for its honest unless something is said.
const USUAL: LabTime = LabTime(60_000_000_000);

pub(super) fn run(task: &GuardTask) -> Result<Outcome, OpenError> {
    let opened = opened(task.course.as_deref(), task.seed)?;
    let happened = if opened.record().is_some() { "the run of a record" } else { "a take" };
    if opened.take().is_some() || opened.record().is_some() {
        return Err(OpenError::Usage(format!("expected a course to run over seeds; {happened} has happened already")));
    }
    let course = opened.course();
    if let Some(unknown) = task.allow.iter().find(|name| CHEATS.iter().all(|spec| spec.key != name.as_str())) {
        let all: Vec<&str> = CHEATS.iter().map(|spec| spec.key).collect();
        return Err(OpenError::Usage(format!("expected cheats to allow ({}); found `{unknown}`", all.join(", "))));
    }
    let lasts = task.lasts.unwrap_or(USUAL);
    let seeds: Vec<u64> = (0..u64::from(task.seeds)).map(|n| course.seed.wrapping_add(n)).collect();
    let whom = attacked(course);
    let tries = Tries::of(course, &whom, &seeds);
    let many = many(task.jobs)?;
    let all =
        lasts.0.saturating_mul(seeds.len() as u64).saturating_add(breach::RUN.0.saturating_mul(tries.len() as u64));
    let searches = u64::from(task.search.div_ceil(crafty::BATCH) * crafty::BATCH) * whom.len() as u64;
    let all = all.saturating_add(crafty::costs(seeds.len()).saturating_mul(searches));
    let bar = progress("guarding", LabTime(all));
    let counted = many.each(&seeds, |seed| counted(course, *seed, lasts, &bar))?;
    let came = tries.run(course, &many, &bar)?;
    let one = |member: &MemberId| searched((course, *member), &came, (task.search, course.seed), &many, &bar);
    let members = whom.iter().map(one).collect::<Result<Vec<_>, OpenError>>()?;
    bar.finish_and_clear();
    let proposals = proposed(course, &counted);
    let guarded = Guarded {
        course: course_name(&opened, task.course.as_deref()),
        seeds: task.seeds,
        lasts_ms: lasts.millis(),
        cheats_last_ms: breach::LASTS.millis(),
        honest_verdicts: counted.iter().map(|one| one.accused).sum(),
        excused: counted.iter().map(|one| one.excused).sum(),
        rules: rules(course, &counted),
        proposals: proposals.iter().map(|(row, _)| row.clone()).collect(),
        members,
    };
    say(match task.report {
        // Names of files may hold anything.
        Report::Text => guarded.text().lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect(),
        Report::Json => guarded.json(),
    })?;
    if task.write {
        for (row, kind) in &proposals {
            write(task.course.as_deref(), course, *kind, row)?;
        }
    }
    let is_allowed = |cheat: &str| task.allow.iter().any(|allowed| allowed == cheat);
    let holds = guarded
        .members
        .iter()
        .flat_map(|member| &member.cheats)
        .all(|row| row.unanswered.is_none() || is_allowed(row.cheat));
    Ok(if guarded.honest_verdicts == 0 && holds { Outcome::Good } else { Outcome::Findings })
}

/// What is tried: each member first without any cheat, then with every size of every cheat; with each seed.
struct Tries {
    honest: Vec<(MemberId, Option<Attempt>, u64)>,
    cheating: Vec<(MemberId, Option<Attempt>, u64)>,
}

impl Tries {
    fn of(course: &Course, whom: &[MemberId], seeds: &[u64]) -> Self {
        let mut all = Self { honest: Vec::new(), cheating: Vec::new() };
        for member in whom {
            all.honest.extend(seeds.iter().map(|seed| (*member, None, *seed)));
            for attempt in attempts(course, *member) {
                all.cheating.extend(seeds.iter().map(|seed| (*member, Some(attempt), *seed)));
            }
        }
        all
    }

    fn len(&self) -> usize {
        self.honest.len() + self.cheating.len()
    }

    /// Tries all, on the threads at hand.
    fn run(self, course: &Course, many: &Many, bar: &ProgressBar) -> Result<Vec<AttemptResult>, OpenError> {
        let try_all = |tries: &[(MemberId, Option<Attempt>, u64)], honest: &[AttemptResult]| {
            let one = |&(member, attempt, seed): &(MemberId, Option<Attempt>, u64)| {
                let without = honest.iter().find(|(of, _, with, _)| (*of, *with) == (member, seed));
                let without = without.map(|(.., outcome)| outcome);
                let came = try_out(course, member, attempt.as_slice(), seed, without)?;
                bar.inc(breach::RUN.0 / 1_000_000);
                Ok::<AttemptResult, OpenError>((member, attempt, seed, came))
            };
            many.each(tries, one)
        };
        let mut came = try_all(&self.honest, &[])?;
        came.extend(try_all(&self.cheating, &came)?);
        Ok(came)
    }
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

/// How much is run between two counts, while it is kept.
const COUNTED: LabTime = LabTime(4_000_000_000);

/// A run of the course as it is, with what the guard measured.
fn counted(course: &Course, seed: u64, lasts: LabTime, bar: &ProgressBar) -> Result<Counted, OpenError> {
    let mut run = Run::new(Course { seed, ..course.clone() })?;
    // What is counted stays counted, so little of it need be kept.
    run.keep_figures();
    let mut nearness = Nearness::default();
    let (mut accused, mut excused, mut seen) = (0, 0, 0);
    while run.now() < lasts {
        let next = lasts.min(run.now().plus(COUNTED));
        advance_to(&mut run, next, bar);
        nearness.follow(&run, true);
        // While what it needs is kept.
        let honest = |it: &&Accusation| it.accuses() && !run.record().cast.is_rogue(it.machine);
        for it in nearness.ledger()[seen..].iter().filter(honest) {
            accused += 1;
            excused += u64::from(excuse(run.record(), it).is_some());
        }
        seen = nearness.ledger().len();
    }
    Ok(Counted { run, nearness, accused, excused })
}

/// A run, counted.
struct Counted {
    run: Run,
    nearness: Nearness,
    /// Verdicts on the honest.
    accused: u64,
    /// Of those, how many come from a ground or a rule that was known otherwise.
    excused: u64,
}

/// Rules whose limits grow with the slack.
const SLACKENED: [Rule; 5] = [Rule::Reach, Rule::Pace, Rule::Burst, Rule::Accel, Rule::Support];

/// The slack that would have sufficed for a share of what a rule allows with one.
fn needs(rule: Rule, slack: f64, share: f64) -> f64 {
    match rule {
        // What is measured is what lies beyond the lawful, and slack is all that allows it.
        Rule::Support => slack * share,
        // The limit is what is lawful times one and the slack, and a little for rounding: as much less of it as the honest were away.
        _ => ((1.0 + slack) * share - 1.0).max(0.0),
    }
}

/// For each rule of somebody who says where it is, by its number, the slack that the honest needed, and one that would do.
fn proposed(course: &Course, all: &[Counted]) -> Vec<(ProposalRow, u8)> {
    let decide = |m: &MemberId| course[*m].arrangement.owner().decides();
    let mut kinds: Vec<u8> = course.members().filter(decide).map(|member| course[member].kind).collect();
    kinds.sort_unstable();
    kinds.dedup();
    kinds.into_iter().filter_map(|kind| Some((proposal(course, kind, all)?, kind))).collect()
}

fn proposal(course: &Course, kind: u8, all: &[Counted]) -> Option<ProposalRow> {
    let rule: &dyn Motion = course.kinds.motion(kind);
    let slack = f64::from(rule.limits(&course.tunables(KnownTo::Server)[usize::from(kind)]).slack);
    let (mut claims, mut worst): (u64, Option<(Nearest, Rule)>) = (0, None);
    for Counted { run, nearness, .. } in all {
        let cast = &run.record().cast;
        let is_one = |machine| {
            let member = course.members().find(|member| course.machine(*member) == machine);
            member.is_some_and(|member| course[member].kind == kind) && !cast.is_rogue(machine)
        };
        let near = |share: f64, machine, at: LabTime| Nearest {
            share,
            who: cast.name(machine).to_owned(),
            at_ms: at.millis(),
            seed: run.course().seed,
        };
        let mut found = Vec::new();
        for rule in SLACKENED {
            for it in nearness.of(run.record(), rule, false).into_iter().filter(|it| is_one(it.machine)) {
                claims += it.bins.iter().map(|count| u64::from(*count)).sum::<u64>();
                found.extend(it.nearest.map(|row| (near(f64::from(row.share()), it.machine, row.at), rule)));
            }
        }
        let accused = nearness.ledger().iter().filter(|it| is_one(it.machine));
        found.extend(accused.filter(|it| SLACKENED.contains(&it.verdict.evidence.rule)).map(|it| {
            let evidence = &it.verdict.evidence;
            (near(f64::from(evidence.share()), it.machine, it.at), evidence.rule)
        }));
        let need = |(near, rule): &(Nearest, Rule)| needs(*rule, slack, near.share);
        for one in found.into_iter().filter(|(near, _)| near.share.is_finite()) {
            if worst.as_ref().is_none_or(|known| need(known) < need(&one)) {
                worst = Some(one);
            }
        }
    }
    let (nearest, by) = worst?;
    let needed = needs(by, slack, nearest.share);
    Some(ProposalRow {
        gait: rule.name().to_owned(),
        slack,
        needed,
        rule: by.name(),
        claims,
        proposed: (needed * 100.0 + SPARE_PER_CENT).ceil() / 100.0,
        nearest,
    })
}

/// What is left to those who were not watched.
const SPARE_PER_CENT: f64 = 1.0;

/// Shows what would be otherwise in a gait's file with the slack that is proposed, and writes it.
fn write(course_file: Option<&Path>, course: &Course, kind: u8, row: &ProposalRow) -> Result<(), OpenError> {
    let Some(gait) = course.gaits.iter().find(|gait| gait.kind == kind) else {
        return say(format!("{}: it is built in; nothing is written\n", row.gait));
    };
    let Some(folder) = course_file.and_then(Path::parent) else {
        return say(format!("{}: the demo's gaits come with the program; nothing is written\n", row.gait));
    };
    let path = folder.join(&gait.path);
    let wrong = |why: String| OpenError::File { path: path.clone(), why };
    let is_regular = path.symlink_metadata().map_err(|why| wrong(why.to_string()))?.file_type().is_file();
    if !is_regular {
        return Err(wrong("expected a regular file to write to; found something else".to_owned()));
    }
    let now = std::fs::read_to_string(&path).map_err(|why| wrong(why.to_string()))?;
    if now != gait.text {
        return Err(wrong("it was changed while the guard was tried; nothing is written".to_owned()));
    }
    let Some(text) = velocitas_gait::with_slack(&gait.text, row.proposed * 100.0) else {
        let why = "expected `slack 4 %` or the like in its `limits`; found none: write one, and try again";
        return Err(wrong(why.to_owned()));
    };
    if text == gait.text {
        return say(format!("{}: {:.0} % is written there already\n", path.display(), row.proposed * 100.0));
    }
    let mut told = format!("{}\n", path.display());
    for (line, (before, after)) in now.lines().zip(text.lines()).enumerate().filter(|(_, (a, b))| a != b) {
        told += &format!("{:>4} - {before}\n{:>4} + {after}\n", line + 1, line + 1);
    }
    let out = Output::create_file(&path)?;
    out.finish(|out| out.write_all(text.as_bytes()))?;
    say(told.lines().map(|line| format!("{}\n", velocitas_gait::escaped(line))).collect::<String>())
}

fn rules(course: &Course, all: &[Counted]) -> Vec<RuleRow> {
    let measured = |rule: Rule| all.iter().any(|one| one.nearness.rules().contains(&rule));
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

fn spread(all: &[Counted], rule: Rule, rogue: bool) -> Spread {
    let (mut bins, mut beyond, mut nearest) = ([0u64; BINS], 0, None::<Nearest>);
    for Counted { run, nearness, .. } in all {
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

/// What every cheat comes to, and the best mixture that a search found beyond that.
fn searched(
    (course, member): (&Course, MemberId),
    came: &[(MemberId, Option<Attempt>, u64, Came)],
    (tries, luck): (u32, u64),
    many: &Many,
    bar: &ProgressBar,
) -> Result<MemberRow, OpenError> {
    let (row, known) = member_row(course, member, came);
    let of_it = came.iter().filter(|(of, attempt, ..)| *of == member && attempt.is_none());
    let honest: Vec<(u64, Came)> = of_it.map(|(_, _, seed, came)| (*seed, *came)).collect();
    let mut search = Search::new(course, member, luck, known);
    let mut tried = 0;
    while tried < tries && !search.is_empty() {
        let one = |mixture: &crafty::Mixture| {
            let came = craft(course, member, mixture.clone(), &honest)?;
            bar.inc(crafty::costs(honest.len()) / 1_000_000);
            Ok::<_, OpenError>(came)
        };
        let came = many.each(&search.candidates(), one)?;
        search.came(came);
        tried += crafty::BATCH;
    }
    let mixture = search.best.filter(|_| tried > 0).map(|(mixture, gain)| MixtureRow::of(&mixture, gain));
    Ok(MemberRow { mixture, searched: tried, ..row })
}

/// Each cheat by itself, and the one that gained the most without being found with any seed.
fn member_row(
    course: &Course,
    member: MemberId,
    came: &[(MemberId, Option<Attempt>, u64, Came)],
) -> (MemberRow, Option<(Attempt, f64)>) {
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
    let leeway = Leeway::of(course, member);
    let row = |spec| match idle(course, member, spec) {
        Some(why) => Some(CheatRow::idle(spec, why)),
        None => of(spec).then(|| CheatRow::of(&breach(spec, &tried, &leeway))),
    };
    let cheats =
        CHEATS.iter().filter(|spec| spec.whose().fits(course[member].arrangement.sends_inputs())).filter_map(row);
    let cheats = cheats.collect();
    let unfound = |t: &&Tried| t.attempt.spec.may_gain() && t.times_found() == 0;
    let best =
        tried.iter().filter(unfound).filter_map(|t| Some((t.attempt, t.gain()?))).max_by(|a, b| a.1.total_cmp(&b.1));
    let it = &course[member];
    let row = MemberRow {
        name: it.name.clone(),
        gait: course.kinds.motion(it.kind).name().to_owned(),
        arrangement: it.arrangement.name(),
        cheats,
        searched: 0,
        mixture: None,
    };
    (row, best)
}
