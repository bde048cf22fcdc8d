//! Why is this stretch bad, and what would cure it? Troubles of the selected machine in the window looked at, and what was tried
//! on the one that is chosen.

use std::sync::Arc;

use crossterm::event::{KeyCode, KeyEvent};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::trouble::{Reason, troubles};
use velocitas_lab::diagnose::{CURED, Case, HELPS, rank};
use velocitas_record::LabTime;
use velocitas_report::cells;

use super::canvas::{popup, write};
use super::palette::Tone;
use super::stage::why::Why;
use super::stage::{Stage, WINDOW};

/// So many troubles are listed.
const LISTED: usize = 4;
/// A second: stretches are of whole ones.
const SECOND: u64 = 1_000_000_000;
/// What happened so lately is under the playhead: a few ticks.
const HERE: LabTime = LabTime(50_000_000);

impl Stage {
    /// Asks why the last ten seconds are bad, or closes the answer.
    pub(super) fn ask_why(&mut self) {
        if self.why.take().is_some() || self.must_wait() || self.is_over() {
            return;
        }
        let machine = self.machine(self.entity);
        // With what happened just now.
        let to = LabTime(self.at.0.div_ceil(SECOND) * SECOND);
        let from = to.minus(WINDOW).max(LabTime(self.run.record().kept_from.0.div_ceil(SECOND) * SECOND));
        if from >= to {
            return self.say("there is no whole second to look at yet");
        }
        let ahead = (to > self.run.now()).then(|| {
            let mut ahead = self.run.clone();
            ahead.advance(to);
            Box::new(ahead)
        });
        let all = troubles(ahead.as_deref().unwrap_or(&self.run).found(), Some(machine), from, to);
        let chosen = self.reason_here().and_then(|reason| all.iter().take(LISTED).position(|t| t.reason == reason));
        let mut why = Why {
            ahead,
            member: self.entity,
            stretch: (from, to),
            troubles: all,
            chosen: chosen.unwrap_or(0),
            case: None,
            tried: Vec::new(),
            row: 0,
            job: None,
            all: 0,
            paired: false,
            wrong: None,
        };
        self.running &= !self.is_live() || why.troubles.is_empty();
        self.look_into(&mut why);
        self.why = Some(why);
    }

    /// The reason of the correction under the playhead, if there is one: what the Ladder shows.
    fn reason_here(&self) -> Option<Reason> {
        let newest = self.moment().last_correction(self.machine(self.entity))?;
        (self.at.minus(newest.at) <= HERE).then(|| Reason::of(&newest.finding))
    }

    /// Begins to try remedies for the trouble that is chosen.
    fn look_into(&self, why: &mut Why) {
        (why.tried, why.row, why.case, why.job) = (Vec::new(), 0, None, None);
        (why.all, why.paired, why.wrong) = (0, false, None);
        let Some(trouble) = why.troubles.get(why.chosen) else { return };
        match Case::about(why.ahead.as_deref().unwrap_or(&self.run), trouble.clone(), why.stretch) {
            Ok(case) => {
                let remedies = case.remedies.clone();
                why.case = Some(Arc::new(case));
                why.try_all(remedies);
            }
            Err(error) => why.wrong = Some(error.to_string()),
        }
    }

    /// Whether remedies are being tried.
    pub(super) fn tries(&self) -> bool {
        self.why.as_ref().is_some_and(|why| !why.is_over())
    }

    /// What has been tried since the last frame. Says whether anything changed.
    pub(super) fn look_at_trials(&mut self) -> bool {
        let Some(why) = &mut self.why else { return false };
        let Some(job) = &mut why.job else { return false };
        let was_over = job.is_over();
        let news = job.news();
        let changed = !news.is_empty() || job.is_over() != was_over;
        for tried in news {
            why.tried.push(*tried);
        }
        rank(&mut why.tried);
        if why.is_over() && !why.paired && Case::wants_pairs(&why.tried) {
            why.try_pairs();
        }
        changed
    }

    /// Takes a key while it is open. Says whether it was one of its own.
    pub(super) fn why_key(&mut self, key: &KeyEvent) -> bool {
        let Some(mut why) = self.why.take() else { return false };
        let rows = why.rows().len();
        match key.code {
            KeyCode::Esc | KeyCode::Char('y') => return true,
            KeyCode::Up => why.row = why.row.saturating_sub(1),
            KeyCode::Down => why.row = (why.row + 1).min(rows.saturating_sub(1)),
            KeyCode::Tab | KeyCode::BackTab if !why.troubles.is_empty() => {
                let count = why.troubles.len().min(LISTED);
                let step = if key.code == KeyCode::Tab { 1 } else { count - 1 };
                why.chosen = (why.chosen + step) % count;
                self.look_into(&mut why);
            }
            KeyCode::Char('2') if why.is_over() && !why.paired => {
                why.try_pairs();
            }
            KeyCode::Enter | KeyCode::Char('a') => {
                let Some(remedy) = why.rows().get(why.row).map(|t| t.remedy.clone()) else {
                    self.why = Some(why);
                    return true;
                };
                if key.code == KeyCode::Enter {
                    let from = why.case.as_ref().map_or(why.stretch.0, |case| case.begins());
                    self.begin_branch(from, &remedy);
                } else {
                    remedy.apply(self.whole_mut());
                    self.say(format!("from now on: {}", remedy.words));
                    self.refresh();
                }
                return true;
            }
            _ => {
                self.why = Some(why);
                return false;
            }
        }
        self.why = Some(why);
        true
    }
}

pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let Some(why) = &stage.why else { return };
    let (p, record) = (stage.palette, stage.run.record());
    let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
    let (from, to) = why.stretch;
    let title = format!("why {} {} {} {from} to {to} {} Esc closes", p.dot(), stage.name(why.member), p.dot(), p.dot());
    let listed = why.troubles.len().min(LISTED) as u16;
    let rows = why.rows();
    let wanted = listed + rows.len().max(3) as u16 + 10;
    let inner = popup(stage.palette, area, (112, wanted), &title, buffer);
    let (x, end) = (inner.x + 1, inner.right());
    let mut y = inner.y;
    if why.troubles.is_empty() {
        write(buffer, (x, y + 1), end, &[("nothing went wrong in these seconds", text)]);
        return;
    }
    for (i, trouble) in why.troubles.iter().enumerate().take(LISTED) {
        let (mark, style) = if i == why.chosen { (p.handles().1, key) } else { (" ", muted) };
        let room = usize::from(end.saturating_sub(x + 2));
        let words = Some(trouble.words(record)).filter(|words| words.chars().count() <= room);
        let words = words.unwrap_or_else(|| trouble.briefly(record));
        write(buffer, (x, y), end, &[(mark, key), (" ", key), (&words, style)]);
        y += 1;
    }
    if why.troubles.len() > LISTED {
        write(buffer, (x, y), end, &[(&format!("  and {} smaller ones", why.troubles.len() - LISTED), muted)]);
        y += 1;
    }
    y += 1;
    let Some(case) = &why.case else {
        write(buffer, (x, y), end, &[(why.wrong.as_deref().unwrap_or(""), p.text(Tone::Correction))]);
        return;
    };
    let wide = inner.width >= 100;
    let line = |outcome, left| {
        let c = cells(outcome, left);
        if wide {
            format!("{:>5} {:>5} {:>5} {:>6} {:>8} {:>15} {:>13}  ", c[0], c[1], c[2], c[3], c[4], c[5], c[6])
        } else {
            format!("{:>5} {:>5} {:>5} {:>8}  ", c[0], c[1], c[2], c[4])
        }
    };
    let head = if wide {
        " left  corr  hops stalls     seen drawn err p95    roughness  "
    } else {
        " left  corr  hops     seen  "
    };
    write(buffer, (x, y), end, &[(head, muted)]);
    write(buffer, (x, y + 1), end, &[(&line(&case.before, 1.0), muted), ("as it was", muted)]);
    y += 2;
    let room = inner.bottom().saturating_sub(y + 4);
    let whose = format!("{}: ", stage.name(why.member));
    for (i, t) in rows.iter().enumerate().take(usize::from(room)) {
        let chosen = i == why.row;
        let style = if chosen { key } else { text };
        // Whose it is the title says.
        let words = t.remedy.words.replace(&whose, "");
        write(buffer, (x, y), end, &[(&line(&t.outcome, t.left), style), (&words, style)]);
        y += 1;
    }
    footer(stage, why, (x, inner.bottom().saturating_sub(3)), end, buffer);
}

/// What came of it all, and what keys do.
fn footer(stage: &Stage, why: &Why, (x, y): (u16, u16), end: u16, buffer: &mut Buffer) {
    let p = stage.palette;
    let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
    let rest = why.tried.iter().filter(|t| t.left >= HELPS).count();
    let said = if !why.is_over() {
        format!("tried {} of {}", why.tried.len(), why.all)
    } else if why.tried.iter().any(|t| t.left <= CURED) {
        format!("{rest} more change next to nothing")
    } else {
        let best = why.tried.iter().map(|t| t.left).fold(f64::INFINITY, f64::min);
        let more = if why.paired { "alone or in pairs" } else { "alone" };
        format!("nothing tried {more} cures it: the best leaves {:.0} %", best * 100.0)
    };
    write(buffer, (x, y), end, &[(&said, text)]);
    let keys = [
        ("up down ", "choose   "),
        ("Enter ", "see it as a branch   "),
        ("a ", "apply from now on   "),
        ("tab ", "next trouble   "),
        ("2 ", "try pairs"),
    ];
    let mut at = x;
    for (k, what) in keys {
        // What does not fit whole is left out.
        if usize::from(end.saturating_sub(at)) < k.len() + what.trim_end().len() {
            break;
        }
        at = write(buffer, (at, y + 2), end, &[(k, key), (what, muted)]);
    }
}
