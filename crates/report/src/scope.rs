//! How it developed: lanes over time, stacked on one axis.

use velocitas_analysis::lane::{Column, Lane, Stands, Strip, Together};
use velocitas_lab::Run;
use velocitas_record::{LabTime, MemberId};

use crate::about::about;
use crate::drawing::{Axis, Drawing, Mark, Plot, Span, Tone};

/// A lane as it is to be drawn.
#[derive(Clone, Copy, Debug)]
pub struct LaneView<'a> {
    /// What was read of it.
    pub strip: &'a Strip,
    /// The same of a branch or a kept run, to lie behind, and what that is.
    pub ghost: Option<(&'a Strip, &'a str)>,
    /// Whether its axis is of decades, where that suits it.
    pub decades: bool,
}

/// Which columns are drawn, and what else.
#[derive(Clone, Copy, Debug)]
pub struct Page {
    /// The first column.
    pub first: u64,
    /// How many.
    pub count: u64,
    /// The length of one.
    pub slice: LabTime,
    /// Where the playhead is, if one is to be drawn.
    pub cursor: Option<LabTime>,
}

impl Page {
    /// From when to when.
    pub const fn span(&self) -> (LabTime, LabTime) {
        (LabTime(self.first * self.slice.0), LabTime((self.first + self.count) * self.slice.0))
    }
}

/// Lanes of a member, one under the other. What has not been read is left out.
pub fn scope(run: &Run, member: MemberId, viewer: MemberId, page: Page, lanes: &[LaneView<'_>]) -> Drawing {
    let (from, to) = page.span();
    let name = &run.course()[member].name;
    Drawing {
        title: format!("{}: {name} over time", run.course().name),
        facts: about(run, member, (from, to.min(run.now()))),
        plots: lanes_plotted(run, (member, viewer), page, lanes),
    }
}

/// The plots alone, for a screen.
pub fn lanes_plotted(run: &Run, who: (MemberId, MemberId), page: Page, lanes: &[LaneView<'_>]) -> Vec<Plot> {
    lanes.iter().map(|lane| plot(run, who, page, lane)).collect()
}

/// One lane.
fn plot(run: &Run, (member, viewer): (MemberId, MemberId), page: Page, view: &LaneView<'_>) -> Plot {
    let (lane, ..) = view.strip.of();
    let (from, to) = page.span();
    let mut marks = Vec::new();
    let strips = view.ghost.into_iter().map(|(strip, _)| (strip, true)).chain([(view.strip, false)]);
    for (strip, ghost) in strips {
        marks.extend((0..lane.series.len()).filter_map(|series| band(lane, series, strip, page, ghost)));
    }
    let reaches = |pick: fn(&Span) -> f64| {
        marks.iter().flat_map(|mark| if let Mark::Band { spans, .. } = mark { spans.as_slice() } else { &[] }).map(pick)
    };
    let (least, most) = (reaches(|s| s.least).fold(0.0, f64::min), reaches(|s| s.most).fold(0.0, f64::max));
    let up = match lane.decades_from.filter(|_| view.decades) {
        Some(decades) => Axis::decades(lane.name, lane.unit, decades, most),
        // There is no half of what is counted.
        None if lane.together == Together::Count => Axis::holding(lane.name, lane.unit, least, most.max(2.0)),
        None => Axis::holding(lane.name, lane.unit, least, most),
    };
    if let Some(cursor) = page.cursor {
        let at = cursor.secs();
        marks.push(Mark::Rule { series: "playhead".to_owned(), at, level: false, tone: Tone::Plain });
    }
    let (_, subject, _) = view.strip.of();
    let actor = subject.actor.map(|actor| run.record().cast.actors[actor.index()].name.as_str());
    let names = [actor.unwrap_or(&run.course()[member].name), run.course()[viewer].name.as_str()];
    Plot {
        name: title(lane, names),
        across: Axis::linear("lab time", "lab time", (from.secs(), to.secs())),
        up,
        marks,
        legend: legend(lane, view.ghost.map(|(_, name)| name)),
        weight: 1,
        even: false,
    }
}

/// A lane's name with its unit, and on whose screen it is seen.
pub fn title(lane: &Lane, [entity, viewer]: [&str; 2]) -> String {
    let seen = if lane.is_seen { format!(", {entity} on {viewer}'s screen") } else { String::new() };
    format!("{}, {}{seen}", lane.name, lane.unit)
}

fn legend(lane: &Lane, ghost: Option<&str>) -> Vec<(Tone, String)> {
    let mut legend: Vec<(Tone, String)> = lane
        .series
        .iter()
        .filter(|series| !series.name.is_empty())
        .map(|series| (Tone::from(series.stands), series.name.to_owned()))
        .collect();
    legend.extend(ghost.map(|name| (Tone::Muted, format!("behind: {name}"))));
    legend
}

fn band(lane: &Lane, series: usize, strip: &Strip, page: Page, ghost: bool) -> Option<Mark> {
    let seconds = |column: u64| LabTime(column * page.slice.0).secs();
    let span = |number: u64| {
        let column: &Column = strip.column(number)?;
        let cell = column[series]?;
        let (from, to) = (seconds(number), seconds(number + 1));
        Some(Span { from, to, least: cell.least, most: cell.most, last: cell.last })
    };
    let spans: Vec<Span> = (page.first..page.first + page.count).filter_map(span).collect();
    let Series { name, tone } = Series::of(lane, series);
    let holds = lane.together == Together::Range;
    (!spans.is_empty()).then_some(Mark::Band { series: name, spans, tone, holds, ghost })
}

struct Series {
    name: String,
    tone: Tone,
}

impl Series {
    fn of(lane: &Lane, series: usize) -> Self {
        let it = lane.series[series];
        let name = if it.name.is_empty() { lane.name } else { it.name };
        Self { name: name.to_owned(), tone: if it.stands == Stands::Plain { Tone::Plain } else { it.stands.into() } }
    }
}
