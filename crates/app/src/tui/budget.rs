//! The budgets of the selected member, held against the run so far.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::budget::{Held, Outcome, hold};
use velocitas_record::{LabTime, MemberId};

use super::canvas::{popup, write};
use super::palette::Tone;
use super::stage::Stage;
use super::stage::budget::Budget;

/// They are held against the run anew after so long.
const EVERY: LabTime = LabTime(1_000_000_000);

impl Stage {
    /// Shows them, or no more.
    pub(super) fn turn_budget(&mut self) {
        self.budget = if self.budget.is_some() { None } else { Some(self.held()) };
    }

    fn held(&self) -> Budget {
        let whole = self.whole();
        Budget { to: whole.now(), held: hold(&whole.course().limits, &whole.measured()) }
    }

    /// Holds them against what has been since.
    pub(super) fn refresh_budget(&mut self) {
        let now = self.whole().now();
        if self.budget.as_ref().is_some_and(|budget| now < budget.to || now >= budget.to.plus(EVERY)) {
            self.budget = Some(self.held());
        }
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

pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let Some(budget) = &stage.budget else { return };
    let (p, name) = (stage.palette, stage.name(stage.entity));
    let rows = of(&budget.held, stage.entity);
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
        others.map(|held| held.limit.member).filter(|m| *m != stage.entity).map(|m| stage.name(m)).collect();
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
