//! Guard: who was accused of what, on which evidence, and how close were the honest?
//!
//! A histogram for each rule that measures: how many claims came to which share of what is allowed, honest and rogues apart. The limit
//! is a line that can be moved: what would have come of it is told from the record. Below them the chosen verdict, on the ground.
//!
//! ```text
//! ╭ Guard · how near to what is allowed, counted to 0:12.40 ──────────────╮
//! │▸reach   honest 0 of 1302 beyond, nearest 97 % (curlew 0:08.20); rogues 5│
//! │  1000 ⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿│                       │
//! │     1 ⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿│⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀⣸│
//! │       0 %                    50 %                 100 %           150 %│
//! ╰──────────────────────────────────────────────────────────────────────╯
//! ```

mod panel;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::cause::excuse;
use velocitas_analysis::nearness::{Accusation, BINS, Nearness};
use velocitas_core::Rule;
use velocitas_record::LabTime;
use velocitas_report::drawing::{Drawing, Plot};
use velocitas_report::{GuardPage, LIMIT, allowed_lines, guard, nearness_plotted, times_below, verdict_plotted};

use super::action::Action;
use super::canvas::{frame, write};
use super::palette::{Palette, Tone};
use super::plot;
use super::stage::Stage;
use super::view::{Answer, Glyph, View};

/// Rows of a rule at least and at most: its name, two histograms, their axis.
const ROWS: (u16, u16) = (6, 10);
/// Rows that the ground around a verdict needs to say anything.
const GROUND: u16 = 8;

/// What the screen keeps for itself.
#[derive(Default)]
pub(super) struct Guard {
    nearness: Nearness,
    /// Whether all there is has been counted.
    whole: bool,
    /// The rule that keys act on, by its place among those that measured.
    rule: usize,
    /// Lines that were moved.
    lines: Vec<(Rule, usize)>,
    /// Rules of which at the playhead another share is allowed.
    allowed: Vec<(Rule, usize)>,
    /// The verdict that is chosen, counted from the newest.
    chosen: usize,
    /// What the chosen one comes from where it does not come from its owner, in words; and of which verdict that is said.
    excuse: Option<(Accusation, Option<String>)>,
}

impl Guard {
    fn rules(&self) -> Vec<Rule> {
        self.nearness.rules()
    }

    fn current(&self) -> Option<Rule> {
        let rules = self.rules();
        rules.get(self.rule.min(rules.len().saturating_sub(1))).copied()
    }

    fn verdict(&self) -> Option<&Accusation> {
        self.nearness.ledger().iter().rev().nth(self.chosen)
    }

    fn page(&self, stage: &Stage) -> GuardPage<'_> {
        GuardPage {
            nearness: &self.nearness,
            lines: &self.lines,
            allowed: &self.allowed,
            chosen: self.verdict(),
            member: stage.selected.entity,
        }
    }

    /// Moves the line of the chosen rule by a bin; at the limit there is none to be told apart.
    fn move_line(&mut self, stage: &Stage, right: bool) {
        let Some(rule) = self.current() else { return };
        let (now, limit) = (self.page(stage).line(rule), self.page(stage).limit(rule));
        let line = if right { (now + 1).min(BINS - 1) } else { now.saturating_sub(1).max(1) };
        self.lines.retain(|(of, _)| *of != rule);
        self.lines.extend((line != limit).then_some((rule, line)));
    }

    /// From now on, or on a branch from the moment looked at, the chosen rule allows as much as its line says: what the gait says where
    /// it was not moved.
    fn allow(&mut self, stage: &mut Stage) {
        let Some(rule) = self.current() else { return };
        let moved = self.lines.iter().find(|(of, _)| *of == rule).map_or(LIMIT, |(_, line)| *line);
        self.lines.retain(|(of, _)| *of != rule);
        stage.allow(rule, times_below(moved));
    }

    /// Looks at the moment of the chosen verdict, unless that is looked at.
    fn go(&self, stage: &mut Stage) -> Answer {
        match self.verdict() {
            Some(it) if stage.at != it.at => {
                if let Some(member) = stage.run.course().members().find(|m| stage.machine(*m) == it.machine) {
                    stage.selected.entity = member;
                }
                stage.look(it.at);
                Answer::Done
            }
            _ => Answer::NotMine,
        }
    }
}

impl View for Guard {
    fn follow(&mut self, stage: &Stage, _area: Rect) {
        self.whole = self.nearness.follow(&stage.run, false);
        self.chosen = self.chosen.min(self.nearness.ledger().len().saturating_sub(1));
        self.rule = self.rule.min(self.rules().len().saturating_sub(1));
        self.allowed = allowed_lines(&stage.run, stage.at);
        let chosen = self.verdict().copied();
        if self.excuse.as_ref().map(|(of, _)| *of) != chosen {
            let record = stage.run.record();
            let words = |it: &Accusation| excuse(record, it).map(|excuse| excuse.words(record));
            self.excuse = chosen.map(|it| (it, words(&it)));
        }
    }

    fn draw(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        let counted = LabTime(self.nearness.counted().0 / 1_000_000_000 * 1_000_000_000);
        let dot = p.dot();
        let rules = self.rules();
        let plan = Plan::of(area.height.saturating_sub(2), rules.len(), self.verdict().is_some());
        let what = match stage.run.course().guard.naive {
            None => "how near to what is allowed".to_owned(),
            Some(row) => format!("by `{}` in place of its own checks", row.name),
        };
        let hidden = if plan.fits < rules.len() {
            format!(" {dot} {} of {} rules, [ ] others", plan.fits, rules.len())
        } else {
            String::new()
        };
        let title = format!("Guard {dot} {what}{hidden} {dot} counted up to {counted}");
        let inner = frame(p, area, &title, buffer);
        if rules.is_empty() {
            let said = [
                "nothing was measured yet: the guard measures who says where it is",
                "(arrangement = \"claims\" or \"claims with inputs\" in the course),",
                "and hands, where a gait says what they can give",
            ];
            for (row, line) in said.iter().enumerate() {
                let y = inner.y + row as u16;
                write(buffer, (inner.x + 1, y), inner.right(), &[(line, p.text(Tone::Muted))]);
            }
            return;
        }
        let plots = nearness_plotted(&stage.run, &self.page(stage));
        let first = (self.rule + 1).saturating_sub(plan.fits);
        for (row, i) in (first..first + plan.fits).enumerate() {
            let place = Rect { y: inner.y + row as u16 * plan.rows, height: plan.rows.min(inner.height), ..inner };
            self.histograms(stage, rules[i], (&plots[i], i == self.rule), place, buffer);
        }
        let below = plan.fits as u16 * plan.rows;
        let rest = Rect { y: inner.y + below, height: inner.height.saturating_sub(below), ..inner };
        if rest.height >= GROUND
            && let Some(it) = self.verdict()
        {
            ground_of(stage, it, rest, buffer);
        }
    }

    fn panel(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        panel::draw(self, stage, area, buffer);
    }

    fn act(&mut self, stage: &mut Stage, action: Action) -> Answer {
        let last = self.nearness.ledger().len().saturating_sub(1);
        self.allowed = allowed_lines(&stage.run, stage.at);
        match action {
            Action::KnobUp => self.chosen = self.chosen.saturating_sub(1),
            Action::KnobDown => self.chosen = (self.chosen + 1).min(last),
            Action::PageUp => self.chosen = self.chosen.saturating_sub(10),
            Action::PageDown => self.chosen = (self.chosen + 10).min(last),
            Action::RuleBack => self.rule = self.rule.saturating_sub(1),
            Action::RuleOn => self.rule = (self.rule + 1).min(self.rules().len().saturating_sub(1)),
            Action::LineLeft | Action::LineRight => self.move_line(stage, action == Action::LineRight),
            Action::Allow => self.allow(stage),
            Action::LetGo => self.lines.clear(),
            Action::Resume => return self.go(stage),
            _ => return Answer::NotMine,
        }
        Answer::Done
    }

    fn is_unfinished(&self) -> bool {
        !self.whole
    }

    fn complete(&mut self, stage: &Stage) {
        self.whole = self.nearness.follow(&stage.run, true);
    }

    fn drawing(&self, stage: &Stage, _area: Rect) -> Result<Drawing, String> {
        if self.rules().is_empty() {
            return Err("nothing was measured: nobody says where it is".to_owned());
        }
        Ok(guard(&stage.run, &self.page(stage)))
    }

    fn glyphs(&self, p: Palette) -> Vec<Glyph> {
        vec![
            ('\u{28ff}', p.text(Tone::Predicted), "claims of the honest, by how much of what is allowed they came to"),
            ('\u{28ff}', p.text(Tone::Correction), "claims of rogues, below those of the honest"),
            (p.bar(), p.text(Tone::Text), "what is allowed; a bright one beside it: where it was moved to"),
            ('\u{2809}', p.text(Tone::Line), "something solid, around a verdict"),
            (p.predicted(), p.text(Tone::Predicted), "where it was claimed to be, with the body as it was swept"),
            (p.correction(), p.text(Tone::Correction), "how far the lawful reaches, or where something was met"),
            (p.authority(), p.text(Tone::Authority), "where the server put it"),
        ]
    }
}

/// How much is shown at once.
struct Plan {
    /// Rows of each rule.
    rows: u16,
    /// Rules.
    fits: usize,
}

impl Plan {
    /// For this number of rows and rules. The chosen verdict is drawn where one rule at least fits above it.
    fn of(height: u16, rules: usize, verdict: bool) -> Self {
        let ground = if verdict && height >= GROUND + ROWS.0 { GROUND } else { 0 };
        let room = height - ground;
        let rows = (room / (rules as u16).max(1)).clamp(ROWS.0, ROWS.1);
        Self { rows, fits: usize::from((room / rows).max(1)).min(rules) }
    }
}

impl Guard {
    fn histograms(
        &self,
        stage: &Stage,
        rule: Rule,
        (both, chosen): (&[Plot; 2], bool),
        place: Rect,
        buffer: &mut Buffer,
    ) {
        let p = stage.palette;
        let style = if chosen { p.chosen() } else { p.text(Tone::Text) };
        let mark = if chosen { p.handles().1 } else { " " };
        let words = self.page(stage).said(stage.run.record(), rule, place.width >= 100);
        let pieces = [(mark, style), (rule.name(), style), ("   ", style), (words.as_str(), p.text(Tone::Bright))];
        write(buffer, (place.x, place.y), place.right(), &pieces);
        let rows = place.height.saturating_sub(2);
        for (i, shown) in both.iter().enumerate() {
            // Of an odd row the honest have it.
            let (y, height) = if i == 0 { (0, rows - rows / 2) } else { (rows - rows / 2, rows / 2) };
            let body = Rect { y: place.y + 1 + y, height, width: place.width - 1, ..place };
            let inner = Rect { x: body.x + plot::BESIDE, width: body.width.saturating_sub(plot::BESIDE), ..body };
            if inner.is_empty() {
                return;
            }
            plot::marks(p, shown, inner, buffer);
            plot::bands(p, shown, inner, buffer);
            let (ink, words) = &shown.legend[0];
            write(buffer, (body.x + 1, body.y), inner.x, &[(words, p.text(plot::tone(*ink)))]);
            let most = shown.up.to.log10().round() as i32;
            let most = format!("{:>1$}", 10f64.powi(most), usize::from(plot::BESIDE) - 1);
            if height > 1 {
                write(buffer, (body.x, body.y + 1), inner.x, &[(&most, p.text(Tone::Muted))]);
            }
            for (value, words) in shown.across.ticks(5).iter().filter(|_| i == 1) {
                let x = inner.x + (shown.across.place(*value) * f64::from(inner.width)) as u16;
                let x = x.min(inner.right().saturating_sub(words.chars().count() as u16));
                write(buffer, (x, inner.bottom()), place.right(), &[(words, p.text(Tone::Muted))]);
            }
        }
    }
}

/// The chosen verdict on the ground.
fn ground_of(stage: &Stage, it: &Accusation, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    // A cell is half as wide as high.
    let body = Rect { y: area.y + 1, height: area.height - 1, width: area.width - 1, ..area };
    let wide = f64::from(body.width) / (2.0 * f64::from(body.height));
    let shown = verdict_plotted(&stage.run, it, stage.selected.entity, wide);
    plot::marks(p, &shown, body, buffer);
    let metres = (shown.across.to - shown.across.from) / f64::from(body.width);
    let scale = format!("   a cell {} wide", velocitas_report::drawing::told(metres, "m"));
    let pieces =
        [("!", p.verdict()), (" ", p.base()), (shown.name.as_str(), p.text(Tone::Text)), (&scale, p.text(Tone::Muted))];
    write(buffer, (area.x, area.y), area.right(), &pieces);
}
