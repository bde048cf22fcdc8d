//! Why is this stretch bad, and what would cure it? Troubles of the selected machine in the window looked at, and what was tried
//! on the one that is chosen.

use std::sync::Arc;

use crossterm::event::{KeyCode, KeyEvent};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::trouble::{Reason, Trouble, troubles};
use velocitas_lab::Run;
use velocitas_lab::diagnose::{CURED, HELPS, Remedy, Tried, TroubleCase, rank};
use velocitas_record::{LabTime, MemberId};
use velocitas_report::cells;

use super::canvas::{popup, write};
use super::job::Job;
use super::palette::Tone;
use super::popup::{Popup, Pressed, Room};
use super::stage::{Stage, WINDOW};

/// How many troubles are listed.
const LISTED: usize = 4;
/// A second: stretches are of whole ones.
const SECOND: u64 = 1_000_000_000;
/// What happened so lately is under the playhead: a few ticks.
const HERE: LabTime = LabTime(50_000_000);

/// What was found so far.
pub(super) struct Why {
    pub(super) member: MemberId,
    pub(super) stretch: (LabTime, LabTime),
    /// The run, gone on to the end of the stretch, where that lies ahead.
    pub(super) ahead: Option<Box<Run>>,
    pub(super) troubles: Vec<Trouble>,
    /// Which of them.
    pub(super) chosen: usize,
    pub(super) case: Option<Arc<TroubleCase>>,
    pub(super) tried: Vec<Tried>,
    /// The row that keys act on.
    pub(super) row: usize,
    pub(super) job: Option<Job<Box<Tried>>>,
    /// How many are to be tried, and whether two at a time were.
    pub(super) all: usize,
    pub(super) paired: bool,
    pub(super) wrong: Option<String>,
}

impl Why {
    /// Asks why the last ten seconds are bad, where they can be asked: why not is said.
    pub(super) fn ask(stage: &mut Stage) -> Option<Self> {
        if stage.must_wait() || stage.is_over() {
            return None;
        }
        let machine = stage.machine(stage.selected.entity);
        // With what happened just now.
        let to = LabTime(stage.at.0.div_ceil(SECOND) * SECOND);
        let from = to.minus(WINDOW).max(LabTime(stage.run.record().kept_from.0.div_ceil(SECOND) * SECOND));
        if from >= to {
            stage.say("there is no whole second to look at yet");
            return None;
        }
        let ahead = (to > stage.run.now()).then(|| {
            let mut ahead = stage.run.clone();
            ahead.advance(to);
            Box::new(ahead)
        });
        let troubles = troubles(ahead.as_deref().unwrap_or(&stage.run).found(), Some(machine), from, to);
        let chosen = reason_here(stage).and_then(|here| troubles.iter().take(LISTED).position(|t| t.reason == here));
        let mut why = Self {
            ahead,
            member: stage.selected.entity,
            stretch: (from, to),
            troubles,
            chosen: chosen.unwrap_or(0),
            case: None,
            tried: Vec::new(),
            row: 0,
            job: None,
            all: 0,
            paired: false,
            wrong: None,
        };
        stage.pace.running &= !stage.is_live() || why.troubles.is_empty();
        why.look_into(stage);
        Some(why)
    }

    /// Begins to try remedies for the trouble that is chosen.
    fn look_into(&mut self, stage: &Stage) {
        (self.tried, self.row, self.case, self.job) = (Vec::new(), 0, None, None);
        (self.all, self.paired, self.wrong) = (0, false, None);
        let Some(trouble) = self.troubles.get(self.chosen) else { return };
        match TroubleCase::about(self.ahead.as_deref().unwrap_or(&stage.run), trouble.clone(), self.stretch) {
            Ok(case) => {
                let remedies = case.remedies.clone();
                self.case = Some(Arc::new(case));
                self.try_all(remedies);
            }
            Err(error) => self.wrong = Some(error.to_string()),
        }
    }

    /// What is worth a row.
    fn rows(&self) -> Vec<&Tried> {
        self.tried.iter().filter(|t| t.left < HELPS).collect()
    }

    /// Tries the best of what was tried two at a time.
    fn try_pairs(&mut self) {
        let pairs = self.case.as_ref().map_or_else(Vec::new, |case| case.pairs(&self.tried));
        self.paired = true;
        self.try_all(pairs);
    }

    fn is_over(&self) -> bool {
        self.job.as_ref().is_none_or(Job::is_over)
    }

    fn try_all(&mut self, remedies: Vec<Remedy>) {
        let Some(case) = self.case.clone() else { return };
        self.all += remedies.len();
        self.job = Some(Job::begin(move |teller| {
            for remedy in remedies {
                if !teller.tell(Box::new(case.try_out(&remedy))) {
                    return;
                }
            }
        }));
    }

    /// Does what the chosen row says: as a branch from where the trouble begins, or in the run from now on.
    fn take_up(&self, stage: &mut Stage, as_branch: bool) -> Pressed {
        let Some(remedy) = self.rows().get(self.row).map(|t| t.remedy.clone()) else { return Pressed::Taken };
        if as_branch {
            let from = self.case.as_ref().map_or(self.stretch.0, |case| case.begins());
            stage.begin_branch(from, &remedy);
        } else {
            remedy.apply(stage.whole_mut());
            stage.say(format!("from now on: {}", remedy.words));
            stage.refresh();
        }
        Pressed::Closes
    }
}

/// The reason of the correction under the playhead, if there is one: what the Ladder shows.
fn reason_here(stage: &Stage) -> Option<Reason> {
    let newest = stage.moment().last_correction(stage.machine(stage.selected.entity))?;
    (stage.at.minus(newest.at) <= HERE).then(|| Reason::of(&newest.finding))
}

impl Popup for Why {
    fn works(&self) -> bool {
        !self.is_over()
    }

    fn follow(&mut self, _: &Stage) -> bool {
        let Some(job) = &mut self.job else { return false };
        let was_over = job.is_over();
        let news = job.news();
        let changed = !news.is_empty() || job.is_over() != was_over;
        self.tried.extend(news.into_iter().map(|tried| *tried));
        rank(&mut self.tried);
        if self.is_over() && !self.paired && TroubleCase::wants_pairs(&self.tried) {
            self.try_pairs();
        }
        changed
    }

    fn key(&mut self, stage: &mut Stage, key: &KeyEvent) -> Pressed {
        match key.code {
            KeyCode::Esc | KeyCode::Char('y') => return Pressed::Closes,
            KeyCode::Up => self.row = self.row.saturating_sub(1),
            KeyCode::Down => self.row = (self.row + 1).min(self.rows().len().saturating_sub(1)),
            KeyCode::Tab | KeyCode::BackTab if !self.troubles.is_empty() => {
                let count = self.troubles.len().min(LISTED);
                let step = if key.code == KeyCode::Tab { 1 } else { count - 1 };
                self.chosen = (self.chosen + step) % count;
                self.look_into(stage);
            }
            KeyCode::Char('2') if self.is_over() && !self.paired => self.try_pairs(),
            KeyCode::Enter | KeyCode::Char('a') => return self.take_up(stage, key.code == KeyCode::Enter),
            _ => return Pressed::NotMine,
        }
        Pressed::Taken
    }

    fn draw(&self, stage: &Stage, room: Room, buffer: &mut Buffer) {
        draw(stage, self, room.screen, buffer);
    }
}

fn draw(stage: &Stage, why: &Why, area: Rect, buffer: &mut Buffer) {
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
    }
    y += 1 + u16::from(why.troubles.len() > LISTED);
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
