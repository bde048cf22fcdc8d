//! The budgets of the selected member, held against the run so far.

use crossterm::event::{KeyCode, KeyEvent};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::budget::{Held, Limit, Outcome, hold};
use velocitas_record::{LabTime, MemberId};

use super::canvas::{popup, write};
use super::palette::Tone;
use super::popup::{Popup, Pressed, Room};
use super::stage::Stage;

/// How often they are held against the run.
const EVERY: LabTime = LabTime(1_000_000_000);

/// What came of them when it was looked at.
pub(super) struct Budget {
    /// The end of what was looked at.
    to: LabTime,
    held: Vec<Held>,
}

impl Budget {
    pub(super) fn of(stage: &Stage) -> Self {
        let whole = stage.whole();
        Self { to: whole.now(), held: hold(&whole.course().limits, &whole.measured()) }
    }
}

/// Those of a member.
fn of(held: &[Held], member: MemberId) -> Vec<Held> {
    held.iter().filter(|held| held.limit.member == member).copied().collect()
}

/// Whether something is beyond what the course allows: in as much time as it is checked over, and not as it is meant to be.
fn is_amiss(stage: &Stage, to: LabTime, held: &Held) -> bool {
    let course = stage.run.course();
    held.outcome() == Outcome::Beyond && held.limit.exceeded.is_none() && to >= course.check.lasts
}

impl Popup for Budget {
    /// Holds them against what has been since, and what the course allows now.
    fn follow(&mut self, stage: &Stage) -> bool {
        let whole = stage.whole();
        let (now, limits) = (whole.now(), &whole.course().limits);
        let is_outdated = now < self.to || now >= self.to.plus(EVERY);
        let of = |limit: &Limit| (limit.member, limit.measure.name, limit.value.to_bits(), limit.exceeded);
        let is_outdated = is_outdated || !self.held.iter().map(|held| of(&held.limit)).eq(limits.iter().map(of));
        if is_outdated {
            *self = Self::of(stage);
        }
        is_outdated
    }

    fn key(&mut self, _: &mut Stage, key: &KeyEvent) -> Pressed {
        if key.code == KeyCode::Esc { Pressed::Closes } else { Pressed::NotMine }
    }

    fn draw(&self, stage: &Stage, room: Room, buffer: &mut Buffer) {
        draw(stage, self, room.screen, buffer);
    }
}

fn draw(stage: &Stage, budget: &Budget, area: Rect, buffer: &mut Buffer) {
    let (p, name) = (stage.palette, stage.name(stage.selected.entity));
    let rows = of(&budget.held, stage.selected.entity);
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let title = format!("budget of {name} {} the run up to {} {} b closes", p.dot(), budget.to, p.dot());
    let inner = popup(stage.palette, area, (78, rows.len() as u16 + 5), &title, buffer);
    let (x, end) = (inner.x + 1, inner.right());
    let head = format!("{:<26}{:>12}   {:<20}look at", "", "so far", "allowed");
    write(buffer, (x, inner.y), end, &[(&head, muted)]);
    for (y, held) in (inner.y + 1..inner.bottom()).zip(&rows) {
        let measure = held.limit.measure;
        let (mark, style) = match held.outcome() {
            Outcome::Beyond if is_amiss(stage, budget.to, held) => (p.correction(), p.text(Tone::Correction)),
            Outcome::Beyond => (p.dot().chars().next().unwrap_or('.'), text),
            Outcome::Within => (' ', text),
            Outcome::Unmeasured => (' ', muted),
        };
        let value = held.value.map_or_else(|| "nothing yet".to_owned(), |value| measure.shown(value));
        let allowed = format!("{} {}", measure.bound.words(), measure.shown(held.limit.value));
        let at = held.at.map_or_else(String::new, |at| at.to_string());
        write(
            buffer,
            (x, y),
            end,
            &[
                (&format!("{mark} "), style),
                (&format!("{:<24}", measure.name), text),
                (&format!("{value:>12}"), style),
                (&format!("   {allowed:<20}{at}"), muted),
            ],
        );
    }
    let others = budget.held.iter().filter(|held| is_amiss(stage, budget.to, held));
    let mut others: Vec<&str> =
        others.map(|held| held.limit.member).filter(|m| *m != stage.selected.entity).map(|m| stage.name(m)).collect();
    others.dedup();
    let said = match (stage.run.course().limits.iter().any(|limit| limit.line.is_some()), others.is_empty()) {
        (false, _) => "the course has no [[budget]]: docs/check.md says how to write one".to_owned(),
        _ if budget.to < stage.run.course().check.lasts => {
            let whole = stage.run.course().check.lasts;
            format!("{} beyond so far; what counts is {whole}, the time that it is checked over", p.dot())
        }
        (true, true) => "nobody else has exceeded theirs".to_owned(),
        (true, false) => format!("exceeded by {} as well (tab)", others.join(", ")),
    };
    write(buffer, (x, inner.bottom().saturating_sub(1)), end, &[(&said, muted)]);
}
