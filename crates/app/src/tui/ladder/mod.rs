//! Ladder: what crossed the link, when?
//!
//! Time runs down, a vertical line a machine, a slanted stroke a datagram. A message can be chosen: the panel opens it field by
//! field. Following an input lights up its whole way, from the hand to the other side's screen.
//!
//! ```text
//! ╭ Ladder · 10 ms a row ─────────────────────────────────────────╮
//! │             plover                server              heron    │
//! │ 0:08.50  515 ┼⠢⢄                    ┼                  ┼ 498   │
//! │              │   ⠑⠢⢄              ⣀⠔│⠤⣀                │       │
//! │          516 ┼      ⠑⠢⢄       ⣀⠔⠊  ┼   ⠉⠒⠤⣀           ┼ 499   │
//! ╰────────────────────────────────────────────────────────────────╯
//! ```

mod panel;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::crossing::{Crossing, crossings};
use velocitas_analysis::follow::{Way, follow, newest_press};
use velocitas_lab::packet::{Packet, packet};
use velocitas_record::{ActorId, LabTime, MachineId, RecordTick};
use velocitas_report::drawing::Drawing;
use velocitas_report::{ladder, strokes};

use super::action::Action;
use super::canvas::{frame, write};
use super::palette::{Palette, Tone};
use super::plot;
use super::stage::Stage;
use super::view::{Answer, Glyph, View};

/// Milliseconds a row.
const ROWS: [u64; 6] = [2, 5, 10, 20, 50, 100];
/// Columns at the left for the time.
const TIMES: u16 = 9;
/// Rows between two times that are written.
const EVERY: u16 = 4;
/// How far around the page messages are looked for.
const AROUND: LabTime = LabTime(1_000_000_000);

/// What the screen keeps for itself.
pub(super) struct Ladder {
    scale: usize,
    /// The first moment of the page, and how many rows it has.
    from: LabTime,
    rows: u16,
    chosen: Option<Crossing>,
    /// What stands for the run up to when it left: in another run it is not the same.
    past: u64,
    /// What is in it, once it was looked at.
    packet: Option<Result<Packet, String>>,
    /// The input that is followed: whose, of which entity, of which tick.
    input: Option<(MachineId, ActorId, RecordTick)>,
    way: Option<Way>,
    /// Fields scrolled away.
    scrolled: usize,
    /// How many machines beyond three are wanted, and have room.
    more: usize,
    room: usize,
}

impl Default for Ladder {
    fn default() -> Self {
        Self {
            scale: 2,
            from: LabTime::ZERO,
            rows: 1,
            chosen: None,
            past: 0,
            packet: None,
            input: None,
            way: None,
            scrolled: 0,
            more: 0,
            room: 0,
        }
    }
}

/// On whose screen an input is followed to: the viewer's, or where that is its owner's own, the next one's that plays.
fn other(stage: &Stage) -> MachineId {
    let (own, viewer) = (stage.machine(stage.selected.entity), stage.machine(stage.selected.viewer));
    let mut players = stage.run.course().members().map(|member| stage.machine(member));
    let after = players.clone().skip_while(|machine| *machine != own).skip(1);
    let next = after.chain(players.by_ref()).find(|machine| *machine != own && *machine != MachineId::SERVER);
    if viewer == own { next.unwrap_or(own) } else { viewer }
}

/// Columns that a machine beside another needs.
const NARROWEST: u16 = 24;

/// The selected machine, the server, the viewer, and as many more of the cast as there is room for.
fn machines(stage: &Stage, more: usize) -> Vec<MachineId> {
    let mut all = vec![stage.machine(stage.selected.entity)];
    let rest = stage.run.course().members().map(|member| stage.machine(member));
    let first = [MachineId::SERVER, other(stage)];
    for machine in first.into_iter().chain(rest) {
        if !all.contains(&machine) && all.len() < 3 + more {
            all.push(machine);
        }
    }
    all
}

impl Ladder {
    fn machines(&self, stage: &Stage) -> Vec<MachineId> {
        machines(stage, self.more.min(self.room))
    }

    const fn row(&self) -> LabTime {
        LabTime(ROWS[self.scale] * 1_000_000)
    }

    const fn span(&self) -> (LabTime, LabTime) {
        (self.from, LabTime(self.from.0 + self.row().0 * self.rows as u64))
    }

    /// Turns the page so that a moment is on it: a page stands still as long as it can.
    fn turn_to(&mut self, at: LabTime) {
        let (from, to) = self.span();
        let row = self.row().0;
        if at < from || at.plus(LabTime(row)) > to {
            let back = row * u64::from(self.rows) / 2;
            self.from = LabTime(at.0.saturating_sub(back) / row * row);
        }
    }

    /// The same for the whole of a way, or where that is too long for a page its beginning and what is chosen of it.
    fn turn_to_way(&mut self, first: LabTime, lasts: LabTime) {
        let (row, (from, to)) = (self.row().0, self.span());
        let chosen = self.chosen.map(|chosen| chosen.row.at).filter(|at| *at >= first);
        let fits = lasts.0 + 3 * row <= row * u64::from(self.rows);
        let last = if fits { first.plus(lasts) } else { chosen.unwrap_or(first) };
        if first >= from && last < to {
            return;
        }
        self.from = LabTime(first.0.saturating_sub(2 * row) / row * row);
        if last >= self.span().1 {
            self.turn_to(last);
        }
    }

    /// The messages around the page.
    fn messages(&self, stage: &Stage) -> Vec<Crossing> {
        let (from, to) = self.span();
        let to = to.plus(AROUND).min(stage.run.now());
        crossings(stage.run.record(), &self.machines(stage), from.minus(AROUND), to)
    }

    /// Chooses the message that left after the chosen one, or before; the first is the last that left by the moment looked at.
    fn choose(&mut self, stage: &mut Stage, on: bool) {
        stage.pace.running = false;
        // Of what is followed those that carried it, else all around the page.
        let all = self.way.as_ref().map_or_else(|| self.messages(stage), |way| way.carried.clone());
        let place = self.chosen.and_then(|chosen| all.iter().position(|c| c.id() == chosen.id()));
        let next = match place {
            Some(place) if on => (place + 1).min(all.len() - 1),
            Some(place) => place.saturating_sub(1),
            None if self.way.is_some() => 0,
            None => all.partition_point(|c| c.row.at <= stage.at).saturating_sub(1),
        };
        self.chosen = all.get(next).copied();
        self.past = self.chosen.map_or(0, |chosen| stage.run.past(chosen.row.at));
        (self.packet, self.scrolled) = (None, 0);
        if self.chosen.is_none() {
            stage.say("no message left around this moment");
        }
    }

    /// Follows the chosen input, or the one of the newest press; or no longer.
    fn turn_follow(&mut self, stage: &mut Stage) {
        if self.input.take().is_some() {
            self.way = None;
            return;
        }
        match self.meant(stage) {
            Some(input) => {
                stage.pace.running = false;
                self.input = Some(input);
            }
            None => {
                let name = stage.name(stage.selected.entity).to_owned();
                stage.say(format!("{name} pressed nothing from rest by now: choose one of its inputs (up, down)"));
            }
        }
    }

    /// The input of the chosen message; else that of the newest press of the selected machine.
    fn meant(&self, stage: &Stage) -> Option<(MachineId, ActorId, RecordTick)> {
        let record = stage.run.record();
        if let Some(c) = &self.chosen
            && c.row.kind.is_word()
        {
            return Some((c.from, record.cast.actor(c.row.entity?)?, c.row.tick?));
        }
        let machine = stage.machine(stage.selected.entity);
        let actor = stage.body(stage.selected.entity)?;
        Some((machine, actor, newest_press(record, machine, actor, stage.at)?))
    }

    /// What is to be drawn between these machines.
    fn wanted<'a>(&'a self, stage: &Stage, machines: &'a [MachineId]) -> velocitas_report::Ladder<'a> {
        let row = ROWS[self.scale];
        let tick_ms = 1000 / u64::from(stage.run.course().rate.hz().max(1));
        // As many numbers as there is room for.
        let wanted = 2 * row / tick_ms.max(1);
        let numbered = [1, 2, 5, 10, 20, 50].into_iter().find(|every| u64::from(*every) >= wanted).unwrap_or(100);
        velocitas_report::Ladder {
            machines,
            span: self.span(),
            cursor: Some(stage.at),
            chosen: self.chosen.as_ref(),
            way: self.way.as_ref(),
            numbered,
        }
    }
}

impl View for Ladder {
    fn follow(&mut self, stage: &Stage, area: Rect) {
        self.rows = area.height.saturating_sub(3).max(1);
        self.room = usize::from(area.width.saturating_sub(2 + TIMES) / NARROWEST).saturating_sub(3);
        let mine = self.machines(stage);
        // What is chosen of others, or of a run that is no more, is chosen no more.
        let is_there = |at: LabTime| at <= stage.run.now() && stage.run.past(at) == self.past;
        self.chosen = self.chosen.filter(|c| mine.contains(&c.from) && mine.contains(&c.to) && is_there(c.row.at));
        let own = stage.machine(stage.selected.entity);
        self.input = self.input.filter(|(machine, ..)| *machine == own);
        match &self.chosen {
            Some(chosen) if self.packet.is_none() => {
                self.packet = Some(packet(&stage.run, chosen).map_err(|why| why.to_string()));
            }
            None => self.packet = None,
            Some(_) => {}
        }
        self.way = self.input.and_then(|input| follow(stage.run.record(), input, other(stage), stage.run.now()));
        match &self.way {
            Some(way) => self.turn_to_way(way.stops.first().map_or(stage.at, |stop| stop.at), way.lasts()),
            None => self.turn_to(self.chosen.map_or(stage.at, |chosen| chosen.row.at)),
        }
    }

    fn draw(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        let dot = p.dot();
        let title = format!("Ladder {dot} {} ms a row {dot} time runs down", ROWS[self.scale]);
        let inner = frame(p, area, &title, buffer);
        let body = Rect {
            x: inner.x + TIMES,
            y: inner.y + 1,
            width: inner.width.saturating_sub(TIMES),
            height: inner.height.saturating_sub(1),
        };
        if body.is_empty() {
            return;
        }
        let machines = self.machines(stage);
        let plot = strokes(&stage.run, &self.wanted(stage, &machines));
        plot::marks(p, &plot, body, buffer);
        self.names(stage, &plot, body, buffer);
        self.times(stage, Rect { x: inner.x, width: TIMES, ..body }, buffer);
    }

    fn panel(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        panel::draw(self, stage, area, buffer);
    }

    fn act(&mut self, stage: &mut Stage, action: Action) -> Answer {
        match action {
            Action::KnobUp | Action::KnobDown => self.choose(stage, action == Action::KnobDown),
            Action::Follow => self.turn_follow(stage),
            Action::Beside => self.more = if self.more < self.room { self.more + 1 } else { 0 },
            Action::LetGo => (self.chosen, self.input) = (None, None),
            Action::PageDown => self.scrolled += 10,
            Action::PageUp => self.scrolled = self.scrolled.saturating_sub(10),
            Action::ZoomIn | Action::ZoomOut => {
                let closer = action == Action::ZoomIn;
                let middle = self.from.0 + self.row().0 * u64::from(self.rows) / 2;
                self.scale = if closer { self.scale.saturating_sub(1) } else { (self.scale + 1).min(ROWS.len() - 1) };
                // The middle of the page stays where it is.
                let half = self.row().0 * u64::from(self.rows) / 2;
                self.from = LabTime(middle.saturating_sub(half) / self.row().0 * self.row().0);
            }
            _ => return Answer::NotMine,
        }
        Answer::Done
    }

    /// A click looks at the moment of its row.
    fn click(&mut self, stage: &mut Stage, area: Rect, (_, y): (u16, u16)) {
        let Some(row) = y.checked_sub(area.y + 2).filter(|row| *row < self.rows) else { return };
        stage.look(LabTime(self.from.0 + self.row().0 * (u64::from(row) + 1) - 1));
    }

    fn drawing(&self, stage: &Stage, _area: Rect) -> Result<Drawing, String> {
        let machines = self.machines(stage);
        Ok(ladder(&stage.run, stage.selected.entity, &self.wanted(stage, &machines)))
    }

    fn glyphs(&self, p: Palette) -> Vec<Glyph> {
        let (own, muted, bright) = (p.text(Tone::Predicted), p.text(Tone::Muted), p.text(Tone::Bright));
        vec![
            (p.bar(), muted, "a machine"),
            (p.notch(), muted, "a tick of it, with its number"),
            ('\u{2809}', own, "inputs or a claim on their way: a thin stroke"),
            ('\u{2809}', p.text(Tone::Authority), "a snapshot on its way: a thick stroke; what comes twice forks"),
            ('\u{2809}', muted, "any other message"),
            ('\u{2847}', own, "beside a machine: a message that a stream holds back, until its turn has come"),
            (p.correction(), muted, "where one was lost"),
            (p.late(), own, "the tick that an input missed, at the moment when that was made"),
            (p.made_up(), own, "a tick that was made without its input"),
            (p.correction(), p.text(Tone::Correction), "a correction"),
            (p.notch(), p.text(Tone::Correction), "the clock of a client was set, by so much"),
            ('!', p.verdict(), "a verdict of the guard"),
            (p.predicted(), bright, "a station of the input that is followed"),
            (p.line(), p.text(Tone::Text), "the playhead"),
        ]
    }
}

impl Ladder {
    fn names(&self, stage: &Stage, plot: &velocitas_report::drawing::Plot, body: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        for (machine, (at, name)) in self.machines(stage).into_iter().zip(&plot.across.named) {
            let x = body.x + (plot.across.place(*at) * f64::from(body.width)) as u16;
            let x = x.saturating_sub(name.chars().count() as u16 / 2).max(body.x);
            let tone = match machine {
                MachineId::SERVER => Tone::Authority,
                machine if machine == stage.machine(stage.selected.entity) => Tone::Predicted,
                _ => Tone::Drawn,
            };
            write(buffer, (x, body.y - 1), body.right(), &[(name, p.text(tone))]);
        }
    }

    fn times(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        let here = stage.at.0.checked_sub(self.from.0).map(|since| (since / self.row().0) as u16);
        for row in 0..self.rows.min(area.height) {
            let is_here = here == Some(row);
            if !is_here && row % EVERY != 0 {
                continue;
            }
            // The playhead's own label goes before.
            if !is_here && here.is_some_and(|here| here.abs_diff(row) < 2) {
                continue;
            }
            let at = if is_here { stage.at } else { LabTime(self.from.0 + self.row().0 * u64::from(row)) };
            let tone = match (is_here, stage.is_live()) {
                (true, true) => Tone::Bright,
                (true, false) => Tone::Correction,
                _ => Tone::Muted,
            };
            write(buffer, (area.x, area.y + row), area.right(), &[(&at.to_string(), p.text(tone))]);
        }
    }
}
