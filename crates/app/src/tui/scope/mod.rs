//! Scope: how did it develop?
//!
//! Lanes over the rail's span, one under the other on one axis: the least and the greatest of each column, so that a spike of one
//! tick is seen at any zoom. The playhead is the cursor; what each lane says there stands beside it.
//!
//! ```text
//! ╭ Scope · plover · a column 40 ms ──────────────────────────────────╮
//! │ prediction error, m                                  0:08.50 12 cm │
//! │    1 m ····················⡇···························           │
//! │   1 mm ⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣇⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀           │
//! ╰────────────────────────────────────────────────────────────────────╯
//! ```

mod panel;

use std::ops::Range;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use serde_json::{Value, json};
use velocitas_analysis::lane::{Effort, LANES, Lane, MOST_SERIES, Reader, Strip, Subject};
use velocitas_lab::Run;
use velocitas_record::{LabTime, MachineId};
use velocitas_report::drawing::{Drawing, told};
use velocitas_report::{LaneView, Page, lane_title, lanes_plotted, scope};

use super::action::Action;
use super::canvas::{frame, write};
use super::palette::{Palette, Tone};
use super::plot;
use super::stage::Stage;
use super::stage::behind::Behind;
use super::view::{Answer, Glyph, View};

/// Rows after which a lane shows enough.
const ENOUGH: u16 = 4;
/// What of lab time a lane may read in a frame, and one of what is drawn: that is judged second by second.
const READ: LabTime = LabTime(3_000_000_000);
const JUDGED: LabTime = LabTime(1_000_000_000);
/// Between two readings while the run goes on.
const EVERY: LabTime = LabTime(100_000_000);
/// Rows of a lane, with its name, from the lowest that shows anything.
const HEIGHTS: [u16; 5] = [3, 4, 5, 7, 10];

/// A lane that is shown.
struct Shown {
    lane: usize,
    strip: Strip,
    ghost: Option<Strip>,
    /// What it says at the playhead.
    here: [Option<f64>; MOST_SERIES],
}

impl Shown {
    /// Whose it is it learns before it is drawn.
    fn new(lane: usize, slice: LabTime) -> Self {
        Self { lane, strip: Strip::new(&LANES[lane], NOBODY, slice), ghost: None, here: [None; MOST_SERIES] }
    }
}

/// What the screen keeps for itself.
pub(super) struct Scope {
    shown: Vec<Shown>,
    /// The row of the table that keys act on.
    chosen: usize,
    /// Lanes whose axis is even although decades would suit it.
    even: Vec<usize>,
    height: usize,
    readers: [Reader; 2],
    page: Page,
    /// For which moment, subject and present it was read, and whether time went on.
    read: Option<(LabTime, Subject, LabTime, bool)>,
    /// Whether everything that is shown has been read, and as lately as it is worth it.
    whole: bool,
    /// Whether it has been read at all.
    read_once: bool,
    /// What lay behind when it was read.
    behind: Option<String>,
    /// Which of the lanes that are shown have room.
    in_sight: Range<usize>,
}

impl Default for Scope {
    fn default() -> Self {
        let page = Page { first: 0, count: 0, slice: LabTime(40_000_000), cursor: None };
        let shown = ["error", "jump", "round-trip", "margin", "late", "drawn-error"];
        let shown = shown.into_iter().filter_map(row).map(|lane| Shown::new(lane, page.slice));
        Self {
            shown: shown.collect(),
            chosen: 0,
            even: Vec::new(),
            height: 2,
            readers: [Reader::default(), Reader::default()],
            page,
            read: None,
            whole: false,
            read_once: false,
            behind: None,
            in_sight: 0..0,
        }
    }
}

/// The row of a lane in the table.
fn row(key: &str) -> Option<usize> {
    LANES.iter().position(|lane| lane.key == key)
}

/// Before anybody is looked at.
const NOBODY: Subject = Subject { machine: MachineId::SERVER, actor: None, viewer: MachineId::SERVER };

/// What is looked at.
fn subject(stage: &Stage) -> Subject {
    Subject {
        machine: stage.machine(stage.selected.entity),
        actor: stage.subject(),
        viewer: stage.machine(stage.selected.viewer),
    }
}

/// What lies behind: the branch, or another run.
fn behind(stage: &Stage) -> Option<(&Run, String)> {
    let branch =
        stage.branching.branch.as_ref().and_then(|branch| branch.run()).map(|run| (run, "the branch".to_owned()));
    branch.or_else(|| stage.other.as_ref().and_then(|other| Some((other.run.as_deref()?, other.name.clone()))))
}

impl Scope {
    fn is_shown(&self, lane: usize) -> bool {
        self.shown.iter().any(|shown| shown.lane == lane)
    }

    /// Whether a lane is shown and has room.
    fn is_in_sight(&self, lane: usize) -> bool {
        self.shown.get(self.in_sight.clone()).is_some_and(|there| there.iter().any(|shown| shown.lane == lane))
    }

    fn decades(&self, lane: usize) -> bool {
        LANES[lane].decades_from.is_some() && !self.even.contains(&lane)
    }

    /// Shows the chosen lane, or no longer.
    fn turn(&mut self) {
        let lane = self.chosen;
        if self.is_shown(lane) {
            self.shown.retain(|shown| shown.lane != lane);
        } else {
            self.shown.push(Shown::new(lane, self.page.slice));
            // In the order of the table.
            self.shown.sort_by_key(|shown| shown.lane);
        }
        self.read = None;
    }

    fn views(&self) -> Vec<LaneView<'_>> {
        let of = self.shown.iter();
        let view = of.map(|shown| (&shown.strip, shown.ghost.as_ref(), self.decades(shown.lane)));
        let named = |ghost: Option<_>| Some((ghost?, self.behind.as_deref()?));
        view.map(|(strip, ghost, decades)| LaneView { strip, ghost: named(ghost), decades }).collect()
    }

    /// Reads what has to be read of the run and of what lies behind: some of it, or all.
    fn read(&mut self, stage: &Stage, of: Subject, all: bool) {
        let (columns, slice) = ((self.page.first, self.page.count), self.page.slice);
        let behind = behind(stage);
        self.behind = behind.as_ref().map(|(_, name)| name.clone());
        let behind = behind.and_then(|(run, _)| Some((run, Behind::subject(run, &stage.run, of, stage.at)?)));
        (self.whole, self.read_once) = (true, true);
        for shown in &mut self.shown {
            let lane: &'static Lane = &LANES[shown.lane];
            if (shown.strip.of().1, shown.strip.of().2) != (of, slice) {
                shown.strip = Strip::new(lane, of, slice);
            }
            let pace = if stage.moves() && !all { lane.pace() } else { LabTime::ZERO };
            let some = Effort { most: if lane.pace() > EVERY { JUDGED } else { READ }, pace };
            let effort = if all { Effort::WHOLE } else { some };
            shown.strip.read(&stage.run, columns, effort, &mut self.readers[0]);
            self.whole &= shown.strip.has(&stage.run, columns, pace);
            self.read_once &= shown.strip.is_read(&stage.run, columns);
            shown.ghost = behind.map(|(run, there)| {
                let is_of = |strip: &Strip| (strip.of().1, strip.of().2) == (there, slice);
                let mut ghost = shown.ghost.take().filter(is_of).unwrap_or_else(|| Strip::new(lane, there, slice));
                ghost.read(run, columns, effort, &mut self.readers[1]);
                self.whole &= ghost.has(run, columns, pace);
                ghost
            });
            // While time goes on what is judged in seconds is told as it was read.
            shown.here = if pace > EVERY {
                shown.strip.last(stage.at)
            } else {
                self.readers[0].value_at(&stage.run, lane, of, stage.at)
            };
        }
    }

    /// What a lane says at the playhead, in words.
    fn said(shown: &Shown) -> String {
        let lane = &LANES[shown.lane];
        let each = lane.series.iter().zip(shown.here).map(|(series, value)| {
            let value = value.map_or_else(|| "-".to_owned(), |value| told(value, lane.unit));
            if series.name.is_empty() { value } else { format!("{} {value}", series.name) }
        });
        each.collect::<Vec<_>>().join(", ")
    }
}

impl View for Scope {
    fn follow(&mut self, stage: &Stage, area: Rect) {
        let (from, slice) = stage.rail.page();
        let columns = u64::from(area.width.saturating_sub(2 + plot::BESIDE + 1));
        // The part of the rail's page around the playhead, turned by a quarter at a time: a page that moved with every column would
        // be sent whole as often.
        let ahead = stage.at.minus(from).0 / slice.0;
        let turn = (columns / 4).max(1);
        let first = from.0 / slice.0 + (ahead + 2).saturating_sub(columns).div_ceil(turn) * turn;
        let of = subject(stage);
        let page = Page { first, count: columns, slice, cursor: Some(stage.at) };
        let moved = self.page.first != page.first || self.page.count != page.count || self.page.slice != page.slice;
        self.page = page;
        // Where the frame around it leaves room.
        let (_, fits) = self.fits(Rect { height: area.height.saturating_sub(2), ..area });
        let first_lane = self.first(fits);
        self.in_sight = first_lane..(first_lane + fits).min(self.shown.len());
        let is_new = self.read.is_none_or(|(at, was, now, moved)| {
            was != of
                || moved != stage.moves()
                || at.0.abs_diff(stage.at.0) > EVERY.0
                || now != stage.run.now() && now.0.abs_diff(stage.run.now().0) > EVERY.0
                || at != stage.at && !stage.moves()
        });
        if moved || is_new || !self.whole || behind(stage).map(|(_, name)| name) != self.behind {
            self.read(stage, of, false);
            self.read = Some((stage.at, of, stage.run.now(), stage.moves()));
        }
    }

    fn draw(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        let dot = p.dot();
        let reading = if self.read_once { "" } else { " \u{b7} reading" };
        let name = stage.subject_name();
        let title = format!("Scope {dot} {name} over time {dot} a column {} ms{reading}", self.page.slice.millis());
        let inner = frame(p, area, &title, buffer);
        if self.shown.is_empty() {
            let said = "no lane is shown: up and down choose one in the list, a shows it";
            write(buffer, (inner.x + 1, inner.y + 1), inner.right(), &[(said, p.text(Tone::Muted))]);
            return;
        }
        let page = Page { cursor: None, ..self.page };
        let plots = lanes_plotted(&stage.run, (stage.selected.entity, stage.selected.viewer), page, &self.views());
        let (height, fits) = self.fits(inner);
        let first = self.first(fits);
        for (row, (shown, plot)) in self.shown.iter().zip(&plots).skip(first).take(fits).enumerate() {
            let place = Rect { y: inner.y + row as u16 * height, height, ..inner };
            self.lane(stage, shown, plot, place, buffer);
        }
        self.playhead(stage, Rect { height: height * fits.min(self.shown.len()) as u16, ..inner }, buffer);
        let left = self.shown.len().saturating_sub(fits);
        if left > 0 {
            let said = format!("{left} more: ] lowers lanes, up and down go there");
            let x = inner.right().saturating_sub(said.chars().count() as u16 + 1);
            write(buffer, (x, area.bottom() - 1), inner.right(), &[(&said, p.text(Tone::Muted))]);
        }
        self.times(stage, inner, buffer);
    }

    fn panel(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        panel::draw(self, stage, area, buffer);
    }

    fn act(&mut self, stage: &mut Stage, action: Action) -> Answer {
        match action {
            Action::KnobUp => self.chosen = self.chosen.checked_sub(1).unwrap_or(LANES.len() - 1),
            Action::KnobDown => self.chosen = (self.chosen + 1) % LANES.len(),
            Action::LaneOn => self.turn(),
            Action::ColumnBack => stage.look(stage.at.minus(self.page.slice)),
            Action::ColumnOn => stage.look(stage.at.plus(self.page.slice)),
            Action::Decades => {
                let lane = self.chosen;
                let was = self.even.len();
                self.even.retain(|even| *even != lane);
                self.even.extend((was == self.even.len() && LANES[lane].decades_from.is_some()).then_some(lane));
            }
            Action::ZoomIn => self.height = self.height.saturating_sub(1),
            Action::ZoomOut => self.height = (self.height + 1).min(HEIGHTS.len() - 1),
            _ => return Answer::NotMine,
        }
        Answer::Done
    }

    /// A click looks at the moment of its column.
    fn click(&mut self, stage: &mut Stage, area: Rect, (x, _): (u16, u16)) {
        let Some(column) = x.checked_sub(area.x + 1 + plot::BESIDE) else { return };
        if u64::from(column) < self.page.count {
            stage.look(LabTime((self.page.first + u64::from(column) + 1) * self.page.slice.0 - 1));
        }
    }

    fn is_unfinished(&self) -> bool {
        !self.whole && self.read.is_some()
    }

    fn complete(&mut self, stage: &Stage) {
        self.read(stage, subject(stage), true);
    }

    fn drawing(&self, stage: &Stage, _area: Rect) -> Result<Drawing, String> {
        if self.shown.is_empty() {
            return Err("no lane is shown: there is nothing to take away".to_owned());
        }
        Ok(scope(&stage.run, stage.selected.entity, stage.selected.viewer, self.page, &self.views()))
    }

    fn remember(&self) -> Option<Value> {
        let keys = |lanes: &mut dyn Iterator<Item = usize>| lanes.map(|lane| LANES[lane].key).collect::<Vec<_>>();
        let shown = keys(&mut self.shown.iter().map(|shown| shown.lane));
        Some(json!({ "lanes": shown, "even": keys(&mut self.even.iter().copied()), "height": self.height }))
    }

    fn recall(&mut self, remembered: &Value) {
        let lanes = |key| {
            let keys = remembered.get(key)?.as_array()?.iter();
            let mut lanes: Vec<usize> = keys.filter_map(|key| row(key.as_str()?)).collect();
            lanes.sort_unstable();
            lanes.dedup();
            Some(lanes)
        };
        if let Some(shown) = lanes("lanes") {
            self.shown = shown.into_iter().map(|lane| Shown::new(lane, self.page.slice)).collect();
        }
        self.even = lanes("even").unwrap_or_default();
        self.even.retain(|lane| LANES[*lane].decades_from.is_some());
        let height = remembered.get("height").and_then(Value::as_u64).and_then(|h| usize::try_from(h).ok());
        self.height = height.filter(|h| *h < HEIGHTS.len()).unwrap_or(self.height);
    }

    fn glyphs(&self, p: Palette) -> Vec<Glyph> {
        vec![
            (p.playhead(), p.text(Tone::Bright), "the playhead: what lanes say there stands behind their names"),
            ('\u{28ff}', p.text(Tone::Predicted), "from the least to the greatest of a column"),
            (
                '\u{28ff}',
                p.text(Tone::Line),
                "behind: the same in the branch, or in the run that was laid there (:behind)",
            ),
            (p.nothing(), p.text(Tone::Line), "a round value of the axis"),
        ]
    }
}

impl Scope {
    /// How high a lane is, and how many fit. The last row is the time's.
    fn fits(&self, inner: Rect) -> (u16, usize) {
        let room = inner.height.saturating_sub(1);
        let wanted = HEIGHTS[self.height];
        let all = self.shown.len().max(1) as u16;
        // They fill the room: all of them where that leaves each enough, else as many as have the height asked for.
        let each = room / all;
        let fits = if each >= wanted.min(ENOUGH) { all } else { (room / wanted).max(1) };
        ((room / fits).min(wanted + 4).min(room).max(1), usize::from(fits))
    }

    /// The first lane shown, so that the chosen one is in sight.
    fn first(&self, fits: usize) -> usize {
        let place = self.shown.iter().position(|shown| shown.lane == self.chosen).unwrap_or(0);
        (place + 1).saturating_sub(fits)
    }

    fn lane(
        &self,
        stage: &Stage,
        shown: &Shown,
        plot: &velocitas_report::drawing::Plot,
        place: Rect,
        buffer: &mut Buffer,
    ) {
        let p = stage.palette;
        let names = [stage.subject_name(), stage.name(stage.selected.viewer)];
        let title = lane_title(&LANES[shown.lane], names);
        let style = if shown.lane == self.chosen { p.chosen() } else { p.text(Tone::Text) };
        let mark = if shown.lane == self.chosen { p.handles().1 } else { " " };
        let x = write(buffer, (place.x, place.y), place.right(), &[(mark, style), (&title, style), ("   ", style)]);
        let said = Self::said(shown);
        let x = write(buffer, (x, place.y), place.right(), &[(&said, p.text(Tone::Bright)), ("   ", style)]);
        let mut legend = x;
        for (ink, words) in plot.legend.iter().filter(|_| place.width > 90) {
            let glyph = format!("{} ", p.line());
            let pieces =
                [(glyph.as_str(), p.text(plot::tone(*ink))), (words.as_str(), p.text(Tone::Muted)), ("  ", style)];
            legend = write(buffer, (legend, place.y), place.right(), &pieces);
        }
        let body = Rect { y: place.y + 1, height: place.height - 1, width: place.width - 1, ..place };
        plot::draw(p, plot, body, buffer);
    }

    fn column_of(&self, at: LabTime) -> Option<u16> {
        let column = (at.0 / self.page.slice.0).checked_sub(self.page.first)?;
        (column < self.page.count).then_some(column as u16)
    }

    fn playhead(&self, stage: &Stage, inner: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        // While time goes on the end of what is drawn shows where it is: a line there would be sent again every frame.
        let Some(column) = self.column_of(stage.at).filter(|_| !stage.moves()) else { return };
        let x = inner.x + plot::BESIDE + column;
        let style = if stage.is_live() { p.text(Tone::Bright) } else { p.text(Tone::Correction) };
        for y in inner.top()..inner.bottom() {
            let cell = &mut buffer[(x, y)];
            // The playhead never hides what it stands on.
            if [" ".to_owned(), p.nothing().to_string()].contains(&cell.symbol().to_owned()) {
                cell.set_char(p.playhead()).set_style(style);
            }
        }
    }

    fn times(&self, stage: &Stage, inner: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        let y = inner.bottom().saturating_sub(1);
        let head = self.column_of(stage.at);
        for column in (0..self.page.count as u16).step_by(25) {
            let at = LabTime((self.page.first + u64::from(column)) * self.page.slice.0);
            let is_clear = head.is_none_or(|head| column + 9 < head || column > head + 9);
            if is_clear && u64::from(column) + 8 < self.page.count {
                let x = inner.x + plot::BESIDE + column;
                write(buffer, (x, y), inner.right(), &[(&at.to_string(), p.text(Tone::Muted))]);
            }
        }
        if let Some(head) = head {
            let style = if stage.is_live() { p.text(Tone::Bright) } else { p.text(Tone::Correction) };
            let said = stage.at.to_string();
            let x = (inner.x + plot::BESIDE + head).min(inner.right().saturating_sub(said.len() as u16));
            write(buffer, (x, y), inner.right(), &[(&said, style)]);
        }
    }
}
