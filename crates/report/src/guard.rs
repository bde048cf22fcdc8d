//! The guard: how near to each limit claims came, honest and rogue apart, and one verdict with its evidence on the ground.

use velocitas_analysis::nearness::{Accusation, BIN, BINS, Near, Nearness, beyond, together};
use velocitas_core::{RULES, Rule, Tick, Vec3, vec3};
use velocitas_lab::Run;
use velocitas_record::record::Record;
use velocitas_record::{LabTime, MemberId};

use crate::about::about;
use crate::drawing::{Axis, Drawing, Mark, Plot, Shape, Span, Tone};
use crate::field::{FieldPage, Side, ground_known_to};

/// The bins that lie below a limit.
pub const LIMIT: usize = (1.0 / BIN + 0.5) as usize;
/// What is seen around a verdict at least, in metres from its middle.
const AROUND: f32 = 1.2;

/// What is drawn.
#[derive(Clone, Copy, Debug)]
pub struct GuardPage<'a> {
    /// What was counted.
    pub nearness: &'a Nearness,
    /// Lines that were moved: of which rule, and how many bins lie below them.
    pub lines: &'a [(Rule, usize)],
    /// The same of rules by which another share of what the gait says is allowed.
    pub allowed: &'a [(Rule, usize)],
    /// The verdict that is chosen.
    pub chosen: Option<&'a Accusation>,
    /// Whose settings are told.
    pub member: MemberId,
}

impl GuardPage<'_> {
    /// How many bins lie below what a rule allows at the server.
    pub fn limit(&self, rule: Rule) -> usize {
        of_rule(self.allowed, rule).unwrap_or(LIMIT)
    }

    /// How many bins lie below the line of a rule: its limit, unless it was moved.
    pub fn line(&self, rule: Rule) -> usize {
        of_rule(self.lines, rule).unwrap_or_else(|| self.limit(rule))
    }

    /// What a rule found, or what it would have found with its line moved, in a line of words; who and when only where that has room.
    pub fn said(&self, record: &Record, rule: Rule, is_wide: bool) -> String {
        let of = |rogue| self.nearness.of(record, rule, rogue);
        let (honest, rogue) = (of(false), of(true));
        let (line, limit) = (self.line(rule), self.limit(rule));
        let claims = |all: &[&Near]| beyond(all, 0).0;
        let (found, _) = beyond(&rogue, limit);
        if line == limit {
            let (accused, _) = beyond(&honest, limit);
            let held = if limit == LIMIT { String::new() } else { format!("{:.1} % allowed: ", percent(limit)) };
            let near = match nearest(record, &honest) {
                Some((share, name, at)) if is_wide => format!(", nearest {:.1} % ({name} {at})", share * 100.0),
                Some((share, ..)) => format!(", nearest {:.1} %", share * 100.0),
                None => String::new(),
            };
            return format!(
                "{held}honest {accused} of {} beyond{near}; rogues {found} of {} beyond",
                claims(&honest),
                claims(&rogue)
            );
        }
        let (accused, of_them) = beyond(&honest, line);
        let (still, _) = beyond(&rogue, line);
        let share = percent(line);
        let rogues = if still < found {
            format!("of {found} found in rogues {} would slip through", found - still)
        } else {
            format!("of rogues {still} would be found instead of {found}")
        };
        let s = if of_them == 1 { "" } else { "s" };
        format!("at {share:.1} %: {accused} claims of {of_them} honest member{s} would be accused; {rogues}")
    }
}

fn of_rule(lines: &[(Rule, usize)], rule: Rule) -> Option<usize> {
    lines.iter().find(|(of, _)| *of == rule).map(|(_, line)| *line)
}

/// The rules by which another share of what the gait says is allowed at a moment, each with how many bins lie below that.
pub fn allowed_lines(run: &Run, at: LabTime) -> Vec<(Rule, usize)> {
    let all = RULES.iter().zip(run.allowed(at)).map(|(spec, times)| (spec.rule, bins_below(times)));
    all.filter(|(_, line)| *line != LIMIT).collect()
}

/// How many bins lie below a line at this multiple of what the gait says, from the nearest.
fn bins_below(times: f32) -> usize {
    ((f64::from(times) / BIN).round() as usize).clamp(1, BINS - 1)
}

/// So many times of what the gait says lie below a line.
pub fn times_below(line: usize) -> f32 {
    (line as f64 * BIN) as f32
}

/// Two histograms for each rule, and the chosen verdict.
pub fn guard(run: &Run, page: &GuardPage<'_>) -> Drawing {
    let mut plots: Vec<Plot> = nearness_plotted(run, page).into_iter().flatten().collect();
    plots.extend(page.chosen.map(|it| verdict_plotted(run, it, page.member, 1.0)));
    Drawing {
        title: format!("{}: how near to the guard's limits", run.course().name),
        facts: about(run, page.member, (LabTime::ZERO, page.nearness.counted())),
        plots,
    }
}

/// The histograms alone, in the order of the rules: of the honest, and of rogues.
pub fn nearness_plotted(run: &Run, page: &GuardPage<'_>) -> Vec<[Plot; 2]> {
    let both = |rule| [false, true].map(|rogue| histogram(run, page, rule, rogue));
    page.nearness.rules().into_iter().map(both).collect()
}

const fn percent(bins: usize) -> f64 {
    bins as f64 * BIN * 100.0
}

fn histogram(run: &Run, page: &GuardPage<'_>, rule: Rule, rogue: bool) -> Plot {
    let bins = together(&page.nearness.of(run.record(), rule, rogue));
    let most = bins.iter().copied().max().unwrap_or(0);
    let spans = bins.iter().enumerate().filter(|(_, count)| **count > 0).map(|(i, count)| {
        let count = f64::from(*count);
        Span { from: percent(i), to: percent(i + 1), least: 0.0, most: count, last: count }
    });
    let (series, tone) = if rogue { ("rogues", Tone::Verdict) } else { ("honest", Tone::Owner) };
    let (name, spans) = (series.to_owned(), spans.collect());
    let mut marks = vec![Mark::Band { series: name, spans, tone, holds: false, ghost: false }];
    let vertical = |series: &str, at, tone| Mark::Rule { series: series.to_owned(), at, level: false, tone };
    marks.push(vertical("limit", percent(page.limit(rule)), Tone::Plain));
    if page.line(rule) != page.limit(rule) {
        marks.push(vertical("line", percent(page.line(rule)), Tone::Bright));
    }
    let spec = rule.spec();
    Plot {
        name: format!("{}, {series}: {}", spec.name, spec.help),
        // The last bin has all from twice the allowed on.
        across: Axis::linear("of what is allowed", "%", (0.0, percent(BINS))),
        // One of something stands above the axis as well.
        up: Axis::decades("claims", "", 0.1, f64::from(most.max(10))),
        marks,
        legend: vec![(tone, series.to_owned())],
        weight: 2,
        even: false,
    }
}

/// Who came nearest without being accused: the share of what is allowed, the name, the moment.
fn nearest(record: &Record, all: &[&Near]) -> Option<(f64, String, LabTime)> {
    let of = |near: &&Near| Some((near.nearest?, near.machine));
    let (row, machine) = all.iter().filter_map(of).max_by(|(a, _), (b, _)| a.share().total_cmp(&b.share()))?;
    Some((f64::from(row.share()), record.cast.name(machine).to_owned(), row.at))
}

/// A verdict on the ground: the path that was claimed with the body at its end, where the lawful would have ended, where the authority
/// put it, what is in the way. `wide` says how many times as wide as high the page is.
pub fn verdict_plotted(run: &Run, it: &Accusation, member: MemberId, wide: f64) -> Plot {
    let claimed = claimed(run, it);
    let name = run.record().cast.name(it.machine);
    let truth = authority(run, it);
    let middle = claimed.last().copied().or(truth).unwrap_or_default();
    let first = claimed.first().copied().unwrap_or(middle);
    let reach = velocitas_core::max(first.distance(middle) * 0.75, AROUND);
    let centre = vec3(f32::midpoint(first.x, middle.x), f32::midpoint(first.y, middle.y), 0.0);
    let across = f64::from(reach) * bounded(wide);
    let side = |at: f32, half: f64| (f64::from(at) - half, f64::from(at) + half);
    let extent = (side(centre.x, across), side(centre.y, f64::from(reach)));
    let narrow = |(a, b): (f64, f64)| (a as f32, b as f32);
    let field = FieldPage {
        at: it.at,
        side: Side::Above,
        member,
        subject: None,
        viewers: &[],
        extent: (narrow(extent.0), narrow(extent.1)),
    };
    let mut marks = ground_known_to(run, &field, member);
    marks.extend(claim_marks(run, it, &claimed));
    if let Some(truth) = truth {
        let (series, label) = if it.verdict.puts_back() {
            ("put back", "put back here")
        } else {
            ("the server's", "the server has it here")
        };
        marks.push(point(series, truth, Shape::Diamond, Tone::Authority, label));
    }
    Plot {
        name: format!("{name} {} at {} by {}", it.says(), it.at, it.verdict.evidence.rule.name()),
        across: Axis::linear("east", "m", extent.0),
        up: Axis::linear("north", "m", extent.1),
        marks,
        legend: vec![(Tone::Owner, "claimed".to_owned()), (Tone::Authority, "the server's".to_owned())],
        weight: 4,
        even: true,
    }
}

fn point(series: &str, at: Vec3, shape: Shape, tone: Tone, label: &str) -> Mark {
    let (series, at) = (series.to_owned(), (f64::from(at.x), f64::from(at.y)));
    Mark::Point { series, at, shape, tone, label: label.to_owned() }
}

/// The path that was claimed, the body at its end, and how far would have been lawful.
fn claim_marks(run: &Run, it: &Accusation, claimed: &[Vec3]) -> Vec<Mark> {
    let evidence = &it.verdict.evidence;
    let points = |path: &[Vec3]| path.iter().map(|at| (f64::from(at.x), f64::from(at.y))).collect::<Vec<_>>();
    let mut marks = Vec::new();
    marks.push(Mark::Path { series: "claimed".to_owned(), points: points(claimed), tone: Tone::Owner, dashed: false });
    if let Some(end) = claimed.last() {
        let hull = (0..=24u8).map(|i| {
            let angle = f32::from(i) * std::f32::consts::TAU / 24.0;
            *end + vec3(angle.cos(), angle.sin(), 0.0) * body_radius(run, it)
        });
        let hull: Vec<Vec3> = hull.collect();
        marks.push(Mark::Path {
            series: "the body".to_owned(),
            points: points(&hull),
            tone: Tone::Muted,
            dashed: true,
        });
        marks.push(point("claimed", *end, Shape::Dot, Tone::Owner, "claimed"));
        let straight = matches!(evidence.rule, Rule::Teleport | Rule::Reach | Rule::Sweep) && evidence.measured > 0.0;
        if let Some(start) = claimed.len().checked_sub(2).map(|i| claimed[i]).filter(|_| straight) {
            let lawful = start + (*end - start) * (evidence.limit / evidence.measured);
            let what = if evidence.rule == Rule::Sweep { "met here" } else { "lawful up to here" };
            marks.push(point("lawful", lawful, Shape::Cross, Tone::Fault, what));
        }
    }
    marks
}

/// No page is wider than this many times its height.
fn bounded(wide: f64) -> f64 {
    wide.clamp(0.25, 8.0)
}

fn body_radius(run: &Run, it: &Accusation) -> f32 {
    if let Some(exhibit) = &it.verdict.exhibit {
        return exhibit.hull.radius;
    }
    let Some(actor) = run.record().cast.actor(it.verdict.entity) else { return 0.0 };
    let kind = run.record().cast.actors[actor.index()].kind;
    run.course().kinds.motion(kind).body().radius
}

/// Where the owner says it was through the ticks of the evidence: as it predicted them first.
fn claimed(run: &Run, it: &Accusation) -> Vec<Vec3> {
    let record = run.record();
    let evidence = &it.verdict.evidence;
    let own = record.cast.actor(it.verdict.entity).and_then(|actor| record.of(it.machine).own(actor));
    let Some(track) = own.map(|own| &own.predicted) else { return Vec::new() };
    let ticks = (evidence.from.0..=evidence.to.0).map(Tick);
    ticks.filter_map(|tick| Some(track.pos(track.of_tick(record.cast.tick(tick))?))).collect()
}

/// Where the authority had it right after the verdict.
fn authority(run: &Run, it: &Accusation) -> Option<Vec3> {
    let record = run.record();
    let track = record.authority(record.cast.actor(it.verdict.entity)?);
    Some(track.pos(track.of_tick(record.cast.tick(it.verdict.tick))?))
}

#[cfg(test)]
mod tests {
    use velocitas_lab::Course;

    use super::*;

    fn demo() -> (Run, Nearness) {
        let mut run = Run::new(Course::demo()).expect("it fits");
        run.advance(LabTime::from_secs(12.0));
        let mut nearness = Nearness::default();
        assert!(nearness.follow(&run, true));
        (run, nearness)
    }

    #[test]
    fn a_histogram_counts_what_the_record_holds() {
        let (run, nearness) = demo();
        let lines = [(Rule::Pace, 30)];
        let page =
            GuardPage { nearness: &nearness, lines: &lines, allowed: &[], chosen: None, member: MemberId::new(0) };
        let plots = nearness_plotted(&run, &page);
        assert_eq!(plots.len(), nearness.rules().len(), "one for each rule that measured");
        let mut told = 0.0;
        for plot in plots.iter().flatten() {
            let Mark::Band { spans, .. } = &plot.marks[0] else { panic!("bars come first") };
            told += spans.iter().map(|span| span.most).sum::<f64>();
        }
        let players = run.record().cast.players();
        let rows: usize =
            players.map(|m| run.record().of(m).measures.iter().filter(|r| r.at < run.now()).count()).sum();
        assert_eq!(told as usize, rows);
        let moved =
            |plot: &Plot| plot.marks.iter().any(|m| matches!(m, Mark::Rule { at, .. } if (*at - 75.0).abs() < 1e-9));
        let rules: Vec<bool> = nearness.rules().iter().flat_map(|rule| [*rule == Rule::Pace; 2]).collect();
        assert_eq!(plots.iter().flatten().map(moved).collect::<Vec<_>>(), rules);
    }

    #[test]
    fn a_verdict_shows_what_was_claimed_the_body_and_how_far_it_was_lawful() {
        let (run, nearness) = demo();
        let it = nearness
            .ledger()
            .iter()
            .find(|it| it.verdict.evidence.measured > 1.0 && it.verdict.evidence.rule == Rule::Reach);
        let it = it.expect("magpie jumps at eleven seconds");
        let plot = verdict_plotted(&run, it, MemberId::new(0), 2.0);
        let path = |name: &str| {
            plot.marks.iter().find_map(|m| match m {
                Mark::Path { series, points, .. } if series == name => Some(points.clone()),
                _ => None,
            })
        };
        let point = |name: &str| {
            plot.marks.iter().find_map(|m| match m {
                Mark::Point { series, at, .. } if series == name => Some(*at),
                _ => None,
            })
        };
        let apart = |a: (f64, f64), b: (f64, f64)| (a.0 - b.0).hypot(a.1 - b.1);
        let claimed = path("claimed").expect("a path");
        let (start, end) = (claimed[0], *claimed.last().expect("it has an end"));
        assert!((apart(start, end) - f64::from(it.verdict.evidence.measured)).abs() < 0.02, "{claimed:?}");
        let hull = path("the body").expect("a hull");
        assert!(hull.iter().all(|at| (apart(*at, end) - 0.35).abs() < 1e-3), "{hull:?}");
        let lawful = point("lawful").expect("how far");
        assert!((apart(start, lawful) - f64::from(it.verdict.evidence.limit)).abs() < 0.01, "{lawful:?}");
        assert!(apart(point("put back").expect("where"), start) < 0.2);
        assert_eq!(plot.across.to - plot.across.from, 2.0 * (plot.up.to - plot.up.from));
    }
}
