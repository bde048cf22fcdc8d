//! `velocitas chart`: a course drawn without a screen: lanes over time, the field at a moment, the ladder over a span.

use std::fmt::Write as _;

use velocitas_analysis::lane::{Effort, LANES, Lane, Reader, Strip, Subject, Together};
use velocitas_analysis::nearness::Nearness;
use velocitas_lab::{Run, nearest};
use velocitas_record::{LabTime, MachineId, MemberId};
use velocitas_report::drawing::{Drawing, Theme, pdf, svg, table};
use velocitas_report::{
    FieldPage, GuardPage, Ladder, LaneView, Page, Side, allowed_lines, field, guard, ladder, scope,
};

use super::args::ChartTask;
use super::run::{lasts, opened, simulate};
use super::{Outcome, member};
use crate::files::{OpenError, Output, stream};

/// How long a course is run unless something is said.
const USUAL: LabTime = LabTime(20_000_000_000);
/// How long a ladder is unless something is said.
const LADDER: LabTime = LabTime(300_000_000);
/// Columns of a page.
const COLUMNS: u64 = 960;

/// What else than lanes can be drawn, with what it is.
const PICTURES: [(&str, &str); 5] = [
    ("field", "the whole ground from above, with what each machine believes: at --to, or at the end"),
    ("field-south", "the same from the south: heights are seen"),
    ("field-east", "the same from the east"),
    ("guard", "how near to the guard's limits claims came, honest and rogue apart, over the whole run"),
    ("ladder", "what crossed the link, from --from to --to, or the last 300 ms"),
];

/// What is drawn.
enum Wanted {
    Lanes(Vec<&'static Lane>),
    Field(Side),
    Ladder,
    Guard,
}

pub(super) fn run(task: &ChartTask) -> Result<Outcome, OpenError> {
    if task.of == "list" {
        stream::say(list())?;
        return Ok(Outcome::Good);
    }
    let wanted = wanted(&task.of)?;
    let Some(output) = &task.output else {
        return Err(OpenError::Usage(
            "expected -o FILE: NAME.svg, NAME.pdf, NAME.csv, or - for standard output".into(),
        ));
    };
    let opened = opened(task.course.as_deref(), task.seed)?;
    let named = |option: &str, name: &Option<String>, usual: MemberId| {
        name.as_ref().map_or(Ok(usual), |name| member(opened.course(), option, name))
    };
    let whose = named("--entity", &task.entity, MemberId::new(0))?;
    let viewer = named("--viewer", &task.viewer, whose)?;
    let lasts = lasts(&opened, task.lasts, USUAL)?;
    let (from, to) = span(task, lasts, matches!(wanted, Wanted::Ladder))?;
    let bytes = Output::create(output, &opened.inputs(task.course.as_deref()))?;
    let (run, _) = simulate(opened.run()?, lasts, true, &mut None)?;
    let drawing = match wanted {
        Wanted::Lanes(lanes) => lanes_over_time(&run, (whose, viewer), (from, to), &lanes)?,
        Wanted::Field(side) => ground(&run, (whose, viewer), to, side),
        Wanted::Ladder => crossed(&run, (whose, viewer), (from, to)),
        Wanted::Guard => guarded(&run, whose)?,
    };
    let theme = if task.light { Theme::Light } else { Theme::Dark };
    let ending = output.extension().and_then(|ending| ending.to_str());
    let written = match ending {
        Some("pdf") => pdf(&drawing, theme).map_err(|why| OpenError::Usage(why.to_string()))?,
        Some("csv") => table(&drawing).into_bytes(),
        _ => svg(&drawing, theme).into_bytes(),
    };
    bytes.finish(|out| out.write_all(&written))?;
    Ok(Outcome::Good)
}

/// Everything that can be drawn, a line each.
fn list() -> String {
    let mut text = String::from("lanes, several joined by commas:\n");
    for lane in &LANES {
        let _ = writeln!(text, "  {:<12} {}, {}: {}", lane.key, lane.name, lane.unit, lane.help);
    }
    text.push_str("pictures:\n");
    for (name, what) in PICTURES {
        let _ = writeln!(text, "  {name:<12} {what}");
    }
    text
}

fn wanted(of: &str) -> Result<Wanted, OpenError> {
    match of {
        "field" => return Ok(Wanted::Field(Side::Above)),
        "field-south" => return Ok(Wanted::Field(Side::South)),
        "field-east" => return Ok(Wanted::Field(Side::East)),
        "ladder" => return Ok(Wanted::Ladder),
        "guard" => return Ok(Wanted::Guard),
        _ => {}
    }
    let lane = |key: &str| {
        Lane::of_key(key).ok_or_else(|| {
            let known = LANES.iter().map(|lane| lane.key).chain(PICTURES.iter().map(|(name, _)| *name));
            let meant = nearest(key, known).unwrap_or_else(|| "--of list says what there is".to_owned());
            OpenError::Usage(format!("there is no `{key}` to draw: {meant}"))
        })
    };
    of.split(',').map(|key| lane(key.trim())).collect::<Result<_, _>>().map(Wanted::Lanes)
}

/// From when to when.
fn span(task: &ChartTask, lasts: LabTime, is_ladder: bool) -> Result<(LabTime, LabTime), OpenError> {
    let to = task.to.unwrap_or(lasts);
    let from = task.from.unwrap_or(if is_ladder { to.minus(LADDER) } else { LabTime::ZERO });
    if from >= to || to > lasts {
        let said =
            format!("expected --from before --to, and --to at most {lasts}, where the run ends; found {from} and {to}");
        return Err(OpenError::Usage(said));
    }
    Ok((from, to))
}

fn subject(run: &Run, (whose, viewer): (MemberId, MemberId), at: LabTime) -> Subject {
    let machine = run.course().machine(whose);
    Subject { machine, actor: run.record().cast.body(machine, at), viewer: run.course().machine(viewer) }
}

/// Lanes, one under the other.
fn lanes_over_time(
    run: &Run,
    who: (MemberId, MemberId),
    (from, to): (LabTime, LabTime),
    lanes: &[&'static Lane],
) -> Result<Drawing, OpenError> {
    let slice = LabTime((to.minus(from).0 / COLUMNS).max(1_000_000));
    let first = from.0 / slice.0;
    let page = Page { first, count: to.0.div_ceil(slice.0) - first, slice, cursor: None };
    let mut reader = Reader::default();
    let strips: Vec<Strip> = lanes
        .iter()
        .map(|lane| {
            let mut strip = Strip::new(lane, subject(run, who, to), slice);
            strip.read(run, (page.first, page.count), Effort::WHOLE, &mut reader);
            strip
        })
        .collect();
    let views: Vec<LaneView<'_>> = strips
        .iter()
        .map(|strip| LaneView { strip, ghost: None, decades: strip.of().0.decades_from.is_some() })
        .collect();
    let drawing = scope(run, who.0, who.1, page, &views);
    // That something never happened is a finding; that something was never measured is none.
    let measured = lanes.iter().zip(&drawing.plots).filter(|(lane, _)| lane.together == Together::Range);
    let mut measured = measured.map(|(_, plot)| !plot.marks.is_empty()).peekable();
    if measured.peek().is_some() && !measured.any(|any| any) {
        let name = &run.course()[who.0].name;
        return Err(OpenError::Usage(format!("there is nothing to draw: {name} had no sample of it in that time")));
    }
    Ok(drawing)
}

/// The whole ground at a moment.
fn ground(run: &Run, (whose, viewer): (MemberId, MemberId), at: LabTime, side: Side) -> Drawing {
    let (across, up) = side.extent(run.course().world.bounds);
    // Nobody flies so high: what is seen from the side ends a little above the tallest.
    let tallest = run.course().world.solids.iter().map(|solid| solid.solid.high).fold(2.0, f32::max);
    let up = if side == Side::Above { up } else { (up.0, tallest + 2.0) };
    let subject = subject(run, (whose, viewer), at).actor;
    field(run, &FieldPage { at, side, member: whose, subject, viewers: &[viewer], extent: (across, up) })
}

fn guarded(run: &Run, whose: MemberId) -> Result<Drawing, OpenError> {
    let mut nearness = Nearness::default();
    nearness.follow(run, true);
    if nearness.rules().is_empty() {
        let said = "there is nothing to draw: the guard measures who says where it is, and nobody does";
        return Err(OpenError::Usage(said.to_owned()));
    }
    let (allowed, chosen) = (allowed_lines(run, run.now()), nearness.ledger().last());
    Ok(guard(run, &GuardPage { nearness: &nearness, lines: &[], allowed: &allowed, chosen, member: whose }))
}

fn crossed(run: &Run, (whose, viewer): (MemberId, MemberId), span: (LabTime, LabTime)) -> Drawing {
    let mut machines = vec![run.course().machine(whose), MachineId::SERVER, run.course().machine(viewer)];
    machines.dedup();
    if machines.first() == machines.last() {
        machines.pop();
    }
    let it = Ladder { machines: &machines, span, cursor: None, chosen: None, way: None, numbered: 1 };
    ladder(run, whose, &it)
}
