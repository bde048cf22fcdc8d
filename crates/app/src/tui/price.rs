//! What the chosen knob's values would have cost in the last seconds: a small curve for each measure, worked out beside the frames.

use std::sync::Arc;

use crossterm::event::{KeyCode, KeyEvent};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::budget::Measure;
use velocitas_analysis::metrics::ClientMetrics;
use velocitas_lab::diagnose::{PriceCase, Turn};
use velocitas_record::{MemberId, Reach};
use velocitas_report::price::{Tried, tried};

use super::canvas::{popup, write};
use super::job::Job;
use super::palette::Tone;
use super::plot;
use super::popup::{Popup, Pressed, Room};
use super::stage::{Stage, WINDOW};
use super::view::Turns;

/// What is drawn, two beside each other.
const MEASURES: [&str; 6] = ["corrections", "drawn_error", "roughness", "view_age", "bytes_up", "bytes_down"];
/// How large it is where there is room.
const SIZE: (u16, u16) = (124, 32);

/// The prices of a setting, as far as they are known.
pub(super) struct Price {
    member: MemberId,
    case: Arc<PriceCase>,
    /// By value.
    figures: Vec<Option<ClientMetrics>>,
    chosen: usize,
    job: Job<(usize, ClientMetrics)>,
}

impl Price {
    /// Asks what the knob would have cost that is chosen on the screen, where that can be asked: why not is said.
    pub(super) fn ask(stage: &mut Stage, turns: Turns) -> Option<Self> {
        if stage.must_wait() || stage.is_over() {
            return None;
        }
        if turns == Turns::Knob && stage.selected.knobs.open() {
            return None;
        }
        let member = stage.selected.entity;
        let turn = match chosen(stage, turns) {
            Ok(Some(turn)) => turn,
            Ok(None) => {
                stage.say("there is nothing to turn here: choose a knob on screen 1, or a tunable on screen 2");
                return None;
            }
            Err(why) => {
                stage.say(why);
                return None;
            }
        };
        let case = match PriceCase::of(&stage.run, member, turn, (stage.at, WINDOW)) {
            Ok(case) => Arc::new(case),
            Err(_) => {
                stage.say("there is no whole second to look at yet");
                return None;
            }
        };
        // To go back in it takes longer than a frame; a copy of it does not.
        let (work, run) = (case.clone(), stage.run.clone());
        let job = Job::begin(move |teller| {
            let mut prices = work.prices(&run);
            let _ = prices.find(|(place, figures)| !teller.tell((*place, figures.clone())));
        });
        let (figures, chosen) = (vec![None; case.values.len()], case.in_force);
        Some(Self { member, case, figures, chosen, job })
    }

    /// The cost of each value, as far as it is known.
    fn costs(&self, measure: &Measure) -> Vec<Option<f64>> {
        self.figures.iter().map(|figures| figures.as_ref().and_then(|figures| (measure.get)(figures))).collect()
    }

    /// Sets the chosen value; looking back a branch is begun with it.
    fn take(&self, stage: &mut Stage) {
        let turn = self.case.values[self.chosen];
        if self.chosen == self.case.in_force {
            return stage.say(format!("{} is {} already", turn.name(), turn.words()));
        }
        match turn {
            Turn::Tunable { kind, spec, value } => stage.tunes(kind, &spec, value, Reach::All, false),
            Turn::Knob(..) => {
                let whose = stage.name(self.member).to_owned();
                let words = format!("{whose}: {} {}", turn.name(), turn.words());
                let says = format!("{} of {whose} set to {}", turn.name(), turn.words());
                stage.do_or_offer(words, vec![turn.command(self.member)], Some(says));
            }
        }
        if let Some(offer) = stage.branching.offered.take().filter(|_| !stage.is_live()) {
            stage.begin_branch(stage.at, &offer.change);
        }
    }
}

/// What is chosen to be turned, as it is set at the moment looked at.
fn chosen(stage: &Stage, turns: Turns) -> Result<Option<Turn>, String> {
    let entity = stage.selected.entity;
    match turns {
        Turns::Nothing => Ok(None),
        Turns::Knob => {
            let knob = stage.chosen_knob();
            stage.ask_lab(|lab| Some(Turn::Knob(knob, knob.get(lab.knobs(entity)))))
        }
        Turns::Tunable(place) => {
            let kind = stage.run.course()[entity].kind;
            stage.ask_lab(|lab| {
                let known = lab.server_known();
                let tunables = known.kinds.motion(kind).tunables();
                let place = place.min(tunables.len().saturating_sub(1));
                let spec = *tunables.get(place)?;
                let value = known.tunables[usize::from(kind)].get(place).copied().unwrap_or(spec.default);
                Some(Turn::Tunable { kind, spec, value })
            })
        }
    }
}

impl Popup for Price {
    fn works(&self) -> bool {
        !self.job.is_over()
    }

    fn follow(&mut self, _: &Stage) -> bool {
        let was_over = self.job.is_over();
        let news = self.job.news();
        let changed = !news.is_empty() || self.job.is_over() != was_over;
        for (place, figures) in news {
            self.figures[place] = Some(figures);
        }
        changed
    }

    fn key(&mut self, stage: &mut Stage, key: &KeyEvent) -> Pressed {
        match key.code {
            KeyCode::Esc => return Pressed::Closes,
            KeyCode::Left => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Right => self.chosen = (self.chosen + 1).min(self.figures.len() - 1),
            KeyCode::Enter => {
                self.take(stage);
                return Pressed::Closes;
            }
            _ => return Pressed::NotMine,
        }
        Pressed::Taken
    }

    fn draw(&self, stage: &Stage, room: Room, buffer: &mut Buffer) {
        let area = if room.screen.height < SIZE.1 { room.whole } else { room.screen };
        draw(stage, self, area, buffer);
    }
}

fn draw(stage: &Stage, price: &Price, area: Rect, buffer: &mut Buffer) {
    let (p, case) = (stage.palette, &price.case);
    let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
    let (from, to) = case.stretch;
    let (name, whose, dot) = (case.values[0].name(), stage.name(price.member), p.dot());
    let title = format!("what {name} costs {whose} {dot} {from} to {to} {dot} Esc closes");
    let inner = popup(p, area, SIZE, &title, buffer);
    let (x, end) = (inner.x + 1, inner.right());
    let (back, on) = p.handles();
    let (now, then) = (case.values[case.in_force].words(), case.values[price.chosen].words());
    let known = price.figures.iter().flatten().count();
    let tried_of = match price.works() {
        true => format!("   tried {known} of {}", price.figures.len()),
        false => String::new(),
    };
    let is = if price.chosen == case.in_force { "   in force".to_owned() } else { format!("   instead of {now}") };
    let pieces = [(back, key), (" ", key), (&then, key), (" ", key), (on, key), (&is, text), (&tried_of, muted)]
        .map(|(t, s)| (t, s));
    write(buffer, (x, inner.y), end, &pieces);
    let plots = Rect { y: inner.y + 1, height: inner.height.saturating_sub(3), ..inner };
    let (rows, columns) = (MEASURES.len() as u16 / 2, 2);
    let (high, wide) = (plots.height / rows, plots.width / columns);
    for (i, measure) in MEASURES.iter().filter_map(|key| Measure::named(key)).enumerate() {
        let (row, column) = (i as u16 / columns, i as u16 % columns);
        let place = Rect { x: plots.x + column * wide, y: plots.y + row * high, width: wide, height: high };
        small(stage, price, measure, place, buffer);
    }
    let takes = match (stage.is_live(), case.values[0]) {
        (false, _) => "see it as a branch",
        (true, Turn::Knob(..)) => "take it",
        (true, Turn::Tunable { .. }) => "take it, on all machines",
    };
    let last = inner.bottom().saturating_sub(1);
    write(
        buffer,
        (x, last),
        end,
        &[("left right ", key), ("another value   ", muted), ("Enter ", key), (takes, muted)],
    );
    let (line, limits) = (p.line().to_string().repeat(2), &stage.run.course().limits);
    if limits.iter().any(|limit| limit.member == price.member) {
        write(
            buffer,
            (x, last.saturating_sub(1)),
            end,
            &[(&line, p.text(Tone::Correction)), (" the course's budget", muted)],
        );
    }
}

/// One measure: its name, what the chosen value and the one in force cost, and the curve.
fn small(stage: &Stage, price: &Price, measure: &'static Measure, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let (costs, case) = (price.costs(measure), &price.case);
    let limit = stage.run.course().limits.iter().find(|l| l.member == price.member && l.measure == measure);
    let limit = limit.map(|limit| limit.value);
    let end = area.right().saturating_sub(1);
    let shown = |place: usize| match (&price.figures[place], costs[place]) {
        (None, _) => "…".to_owned(),
        (Some(_), None) => "nothing".to_owned(),
        (Some(_), Some(cost)) => measure.shown(cost),
    };
    let exceeds = costs[price.chosen].zip(limit).is_some_and(|(cost, limit)| !measure.is_within(cost, limit));
    let style = if exceeds { p.text(Tone::Correction) } else { p.text(Tone::Bright) };
    let mut pieces = vec![(format!("{:<24}", measure.name), p.text(Tone::Text)), (shown(price.chosen), style)];
    if price.chosen != case.in_force {
        pieces.push((format!("  was {}", shown(case.in_force)), p.text(Tone::Muted)));
    }
    // The line says it as well: half a number would say something else.
    let bound = limit.map(|limit| format!("  {} {}", measure.bound.words(), measure.shown(limit)));
    let taken: usize = pieces.iter().map(|(text, _)| text.chars().count()).sum();
    if let Some(bound) = bound.filter(|bound| taken + bound.chars().count() < usize::from(area.width)) {
        pieces.push((bound, p.text(Tone::Muted)));
    }
    let pieces: Vec<_> = pieces.iter().map(|(text, style)| (text.as_str(), *style)).collect();
    write(buffer, (area.x + 1, area.y), end, &pieces);
    let below = Rect {
        x: area.x + 1,
        y: area.y + 1,
        width: area.width.saturating_sub(3),
        height: area.height.saturating_sub(2),
    };
    let drawn = tried(Tried { measure, costs: &costs, in_force: case.in_force, chosen: price.chosen, limit });
    plot::whole(p, &drawn, below, buffer);
    // The ends of the axis, and the value that is chosen where it is.
    let (left, wide) = (below.x + plot::BESIDE, below.width.saturating_sub(plot::BESIDE));
    let last = case.values.len() - 1;
    let mut places = vec![0, price.chosen, last];
    places.dedup();
    let mut free = left;
    for place in places {
        let text = case.values[place].words();
        let style = p.text(if place == price.chosen { Tone::Bright } else { Tone::Muted });
        let middle = left + (f64::from(wide) * (place as f64 + 0.5) / (last + 1) as f64) as u16;
        let at = middle.saturating_sub(text.chars().count() as u16 / 2).max(left);
        if at >= free && below.bottom() < area.bottom() {
            free = write(buffer, (at, below.bottom()), area.right(), &[(&text, style)]) + 1;
        }
    }
}
