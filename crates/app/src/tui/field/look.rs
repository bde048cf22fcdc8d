//! What a viewer's screen shows: every entity as its owner predicts it, as the server has it and as the viewer draws it.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_analysis::moment::{Echoes, Standing};
use velocitas_core::{Body, Presence, Vec3, vec3};
use velocitas_record::record::Mark;
use velocitas_record::{ActorId, KnownTo, LabTime, MachineId, MemberId};

use velocitas_report::{Side, trails};

use super::camera::View;
use super::labels::{Label, place};
use crate::tui::dots::Dots;
use crate::tui::palette::Tone;
use crate::tui::stage::Stage;

/// How long it is news that somebody came or went.
const LATELY: LabTime = LabTime(2_000_000_000);
/// How long a fault stays visible where it happened.
const FLASH: LabTime = LabTime(700_000_000);

/// On whose screen, and what part of the world.
pub(super) struct Look<'a> {
    pub(super) stage: &'a Stage,
    pub(super) viewer: MemberId,
    pub(super) view: View,
    /// Where nothing may be written: the loupe lies there.
    pub(super) hidden: Option<Rect>,
}

impl Look<'_> {
    fn viewer(&self) -> MachineId {
        self.stage.machine(self.viewer)
    }

    pub(super) fn echoes(&self, actor: ActorId) -> Echoes {
        self.stage.moment().echoes(actor, self.viewer())
    }

    /// The cell of a point, if it is seen: beneath the loupe nothing is.
    fn cell(&self, at: Vec3) -> Option<(u16, u16)> {
        self.view.cell(at).filter(|cell| self.hidden.is_none_or(|hidden| !hidden.contains((*cell).into())))
    }

    /// Draws everything that is on the ground; words come last, where there is room for them.
    pub(super) fn draw(&self, buffer: &mut Buffer) {
        let (mut names, mut labels) = (Vec::new(), Vec::new());
        self.bodies(buffer);
        self.trails(buffer);
        self.gone_lately(&mut labels, buffer);
        self.ordered(&mut labels, buffer);
        self.cursor(buffer);
        self.branch(buffer);
        self.entities(&mut names, buffer);
        self.one_sided(&mut labels);
        // Names go first.
        names.append(&mut labels);
        let whole = self.view.from != Side::Above;
        place(self.stage.palette, &names, (self.view.area, self.hidden), whole, buffer);
    }

    fn trails(&self, buffer: &mut Buffer) {
        let p = self.stage.palette;
        let Some(subject) = self.stage.subject() else { return };
        let stage = self.stage;
        let (predicted, authority, drawn) = trails(&stage.run, stage.at, (stage.selected.entity, self.viewer), subject);
        let mut put = |at: Vec3, glyph: char, tone| {
            if let Some(cell) = self.cell(at) {
                buffer[cell].set_char(glyph).set_style(p.text(tone));
            }
        };
        drawn.into_iter().for_each(|at| put(at, p.drawn_trail(), Tone::Drawn));
        authority.into_iter().for_each(|at| put(at, p.authority_trail(), Tone::Authority));
        let mut dots = Dots::new(self.view.area).without(self.hidden);
        for pair in predicted.windows(2) {
            // A jump is no path.
            if pair[0].distance(pair[1]) < 1.0 {
                dots.thick_line(self.view.dot(pair[0]), self.view.dot(pair[1]));
            }
        }
        dots.draw(p, p.text(Tone::Predicted), buffer);
    }

    /// The room that each body takes, and where a body of some length points; small ones are their glyph.
    fn bodies(&self, buffer: &mut Buffer) {
        let moment = self.stage.moment();
        let (across, down) = self.view.cell_size();
        let mut dots = Dots::new(self.view.area).without(self.hidden);
        for actor in self.stage.run.record().cast.actors() {
            let e = self.echoes(actor);
            let Some(echo) = e.predicted.or(e.authority).or(e.drawn) else { continue };
            let body = moment.layout(actor).motion().body();
            let depth = if self.view.from == Side::Above { body.radius } else { body.height };
            // A glyph covers its cell.
            if body.radius < across && depth < down {
                continue;
            }
            self.outline(echo.pos, body, &mut dots);
            if let Some(bearing) = echo.bearing {
                let way = vec3(libm::cosf(bearing), libm::sinf(bearing), 0.0) * body.radius;
                dots.thick_line(self.view.dot(echo.pos + way * 0.4), self.view.dot(echo.pos + way * 2.0));
            }
        }
        dots.draw(self.stage.palette, self.stage.palette.text(Tone::Text), buffer);
    }

    /// A body: its base from above; from the side as wide as that, from its feet to its head.
    fn outline(&self, feet: Vec3, body: Body, dots: &mut Dots) {
        let Body { radius, height, .. } = body;
        let side = |across: f32, up: f32| match self.view.from {
            Side::East => vec3(0.0, across, up),
            _ => vec3(across, 0.0, up),
        };
        let round = |i: u8| {
            let angle = f32::from(i) * std::f32::consts::TAU / 24.0;
            vec3(libm::cosf(angle), libm::sinf(angle), 0.0) * radius
        };
        let corners: Vec<Vec3> = if self.view.from == Side::Above {
            (0..=24).map(round).collect()
        } else {
            [(-radius, 0.0), (-radius, height), (radius, height), (radius, 0.0)].map(|(x, z)| side(x, z)).to_vec()
        };
        let dot = |corner: Vec3| self.view.dot(feet + corner);
        corners.windows(2).for_each(|pair| dots.line(dot(pair[0]), dot(pair[1])));
    }

    /// Where somebody stood who went a moment ago.
    fn gone_lately(&self, labels: &mut Vec<Label>, buffer: &mut Buffer) {
        let record = self.stage.run.record();
        for actor in record.cast.actors() {
            let it = &record.cast.actors[actor.index()];
            let Some((gone, _)) =
                it.gone.filter(|(gone, _)| *gone <= self.stage.at && self.stage.at.minus(*gone) < LATELY)
            else {
                continue;
            };
            let track = record.authority(actor);
            let Some(cell) = track.at(gone).and_then(|i| self.cell(track.pos(i))) else { continue };
            let style = self.stage.palette.text(Tone::Muted);
            buffer[cell].set_char('-').set_style(style);
            labels.push(Label::beside(cell, 2, format!("{} is gone", it.name), style));
        }
    }

    /// Where the viewer has ordered what it shares.
    fn ordered(&self, labels: &mut Vec<Label>, buffer: &mut Buffer) {
        let moment = self.stage.moment();
        for actor in self.stage.run.record().cast.things() {
            let Some(((x, y), standing)) = moment.order(actor, self.viewer()) else { continue };
            let Some(cell) = self.cell(vec3(x, y, 0.0)) else { continue };
            let tone = if standing == Standing::Overruled { Tone::Muted } else { Tone::Predicted };
            buffer[cell].set_char(self.stage.palette.order()).set_style(self.stage.palette.text(tone));
            let name = &self.stage.run.record().cast.actors[actor.index()].name;
            let text = format!("{name} here: {}", standing.name());
            labels.push(Label::beside(cell, 2, text, self.stage.palette.text(Tone::Muted)));
        }
    }

    /// Where the next order goes.
    fn cursor(&self, buffer: &mut Buffer) {
        let Some((x, y)) = self.stage.helm.driving.cursor().filter(|_| self.stage.drives()) else { return };
        let Some(cell) = self.cell(vec3(x, y, 0.0)) else { return };
        buffer[cell].set_char(self.stage.palette.cursor()).set_style(self.stage.palette.text(Tone::Bright));
    }

    /// Where a branch has everybody, hollow, as far as that is another cell than here.
    fn branch(&self, buffer: &mut Buffer) {
        let Some(other) = self.stage.branching.branch.as_ref().and_then(|branch| branch.at(self.stage.at)) else {
            return;
        };
        let (p, here, viewer) = (self.stage.palette, self.stage.moment(), self.viewer());
        for actor in other.record.cast.actors() {
            let is_known = actor.index() < here.record.cast.actors.len();
            let e = other.echoes(actor, viewer);
            let real = if is_known { here.echoes(actor, viewer) } else { Echoes::default() };
            let pairs = [
                (e.authority, real.authority, p.authority_hollow(), Tone::Authority),
                (e.predicted, real.predicted, p.predicted_hollow(), Tone::Predicted),
            ];
            for (there, here, glyph, tone) in pairs {
                let cell = there.and_then(|echo| self.cell(echo.pos));
                if let Some(cell) = cell.filter(|cell| here.and_then(|echo| self.cell(echo.pos)) != Some(*cell)) {
                    buffer[cell].set_char(glyph).set_style(p.text(tone));
                }
            }
        }
    }

    fn entities(&self, labels: &mut Vec<Label>, buffer: &mut Buffer) {
        // The selected one last: it lies on top, and its name goes first.
        let subject = self.stage.subject();
        let others = || self.stage.run.record().cast.actors().filter(move |actor| Some(*actor) != subject);
        let places: Vec<(ActorId, (u16, u16))> =
            others().chain(subject).filter_map(|actor| Some((actor, self.draw_entity(actor, buffer)?))).collect();
        for (actor, cell) in places.into_iter().rev() {
            // Beyond the rim of a body that is wider than its glyph.
            let radius = self.stage.moment().layout(actor).motion().body().radius;
            let (across, _) = self.view.cell_size();
            let beside = if radius < across { 2 } else { (1.1 * radius / across) as u16 + 2 };
            let tone = if subject == Some(actor) { Tone::Predicted } else { Tone::Text };
            labels.push(Label::beside(cell, beside, title_of(self.stage, actor), self.stage.palette.text(tone)));
        }
    }

    /// Draws what is believed of an entity. Gives the cell it is in.
    fn draw_entity(&self, actor: ActorId, buffer: &mut Buffer) -> Option<(u16, u16)> {
        let p = self.stage.palette;
        let moment = self.stage.moment();
        let e = self.echoes(actor);
        let mut put = |at: Option<Vec3>, glyph: char, style: Style| {
            let cell = at.and_then(|at| self.cell(at))?;
            buffer[cell].set_char(glyph).set_style(style);
            Some(cell)
        };
        let seen = e.drawn.map(|e| e.pos);
        let drawn = put(seen, p.drawn(), p.text(Tone::Drawn));
        put(e.smooth.map(|e| e.pos), p.smooth(), p.text(Tone::Authority));
        let truth = put(e.authority.map(|e| e.pos), p.authority(), p.text(Tone::Authority));
        let own = put(e.predicted.map(|e| e.pos), p.predicted(), p.text(Tone::Predicted));
        if own.is_none() || self.is_of_another(actor) {
            // What is seen on this screen is not hidden by what is only known here.
            put(seen, p.drawn(), p.text(Tone::Drawn));
        }
        let cell = own.or(truth).or(drawn)?;
        let marked = |mark| whose(self.stage, actor).is_some_and(|machine| moment.marked(machine, mark, FLASH));
        let (corrected, refused) = (marked(Mark::Corrected), marked(Mark::Verdict));
        if refused {
            let badge = (cell.0, cell.1.saturating_sub(1).max(self.view.area.top()));
            buffer[badge].set_char('!').set_style(p.verdict());
        } else if corrected {
            let badge = (cell.0, cell.1.saturating_sub(1).max(self.view.area.top()));
            buffer[badge].set_char(p.correction()).set_style(p.text(Tone::Correction));
        }
        Some(cell)
    }

    /// Whether something is looked at on the screen of who does not own it.
    fn is_of_another(&self, actor: ActorId) -> bool {
        let actor = &self.stage.run.record().cast.actors[actor.index()];
        !actor.owners_at(self.stage.at).contains(&self.viewer())
    }

    /// What only one side knows is marked in words.
    fn one_sided(&self, labels: &mut Vec<Label>) {
        let known = self.stage.moment().solids(self.viewer());
        let elsewhere = |id: usize| {
            let viewers = self.stage.run.course().members().filter(|member| *member != self.viewer);
            viewers.into_iter().any(|member| self.stage.moment().solids(self.stage.machine(member))[id] == KnownTo::All)
        };
        for (id, (solid, known_to)) in self.stage.run.course().world.solids.iter().zip(known).enumerate() {
            let who = match known_to {
                KnownTo::All | KnownTo::Nobody => continue,
                KnownTo::Server if elsewhere(id) => format!("not known to {}", self.stage.name(self.viewer)),
                KnownTo::Server => "known to the server only".to_owned(),
                KnownTo::Clients => "not known to the server".to_owned(),
            };
            let half = solid.solid.half_y.max(solid.solid.half_x);
            let at = vec3(solid.solid.x, solid.solid.y + half, solid.solid.high);
            if let Some((x, y)) = self.cell(at)
                && y > self.view.area.top()
            {
                let words = format!("{}, {who}", solid.name);
                labels.push(Label::beside((x, y - 1), 0, words, self.stage.palette.text(Tone::Muted)));
            }
        }
    }
}

/// The machine whose troubles are an entity's.
fn whose(stage: &Stage, actor: ActorId) -> Option<MachineId> {
    let actor = &stage.run.record().cast.actors[actor.index()];
    actor.came_with.or_else(|| actor.owners_at(stage.at).first().copied())
}

/// An entity's name, with what is new about it.
fn title_of(stage: &Stage, actor: ActorId) -> String {
    let record = stage.run.record();
    let it = &record.cast.actors[actor.index()];
    let plays = |machine: MachineId| record.of(machine).presence_at(stage.at) != Presence::Left;
    if it.gone.is_some_and(|(gone, _)| gone <= stage.at) {
        format!("{} (gone)", it.name)
    } else if it.came_with.is_some_and(|machine| !plays(machine)) {
        format!("{} (silent)", it.name)
    } else if it.born.0 > LabTime::ZERO && stage.at.minus(it.born.0) < LATELY {
        format!("+ {}", it.name)
    } else {
        it.name.clone()
    }
}
