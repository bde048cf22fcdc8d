//! Field: what does each machine believe right now?
//!
//! The ground from above as tinted cells, every entity as its owner predicts it, as the server has it and as the
//! viewer draws it. The selected entity has trails, and a loupe in which centimetres can be seen.
//!
//! ```text
//! ╭ Field · from above · 1 cell 0.5 m ────────╮
//! │  water              ╭ loupe · plover ────╮│
//! │                     │     ⋄ ⋄ ◆ ⡠⠔ ●     ││
//! │   shed              ╰────────────────────╯│
//! │        ∘ ∘ ○  ◆ ⠒⠒ ● plover               │
//! ╰───────────────────────────────────────────╯
//! ```

mod amiss;
mod camera;
mod ground;
mod labels;
mod look;
mod loupe;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_core::Vec3;
use velocitas_record::MemberId;
use velocitas_report::drawing::Drawing;
use velocitas_report::{FieldPage, Side, field};

use super::action::Action;
use super::canvas::{frame, write};
use super::palette::{Palette, Tone};
use super::stage::Stage;
use super::view::{Answer, Glyph, Turns, View};

use camera::Camera;
use look::Look;

/// The least width of a screen beside another, in columns.
const NARROWEST: u16 = 26;
/// The most beside each other.
const MOST: u16 = 3;

/// How large a dot of the loupe is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Loupe {
    Off,
    Centimetres(u8),
}

impl Loupe {
    const fn next(self) -> Self {
        match self {
            Self::Off => Self::Centimetres(2),
            Self::Centimetres(2) => Self::Centimetres(5),
            Self::Centimetres(_) => Self::Off,
        }
    }
}

/// What the screen keeps for itself.
pub(super) struct Field {
    camera: Camera,
    loupe: Loupe,
    /// Whether the loupe follows the body that is drawn, not its owner's.
    on_drawn: bool,
    /// How many viewers' screens stand side by side.
    beside: u16,
    /// What the camera follows: another is gone to at once.
    followed: Option<(MemberId, Option<usize>)>,
}

impl Default for Field {
    fn default() -> Self {
        Self {
            camera: Camera::new(Vec3::ZERO),
            loupe: Loupe::Centimetres(2),
            on_drawn: false,
            beside: 1,
            followed: None,
        }
    }
}

/// Where the selected entity is, to be followed.
fn followed(stage: &Stage) -> Vec3 {
    let echoes = stage.echoes();
    let echo = echoes.predicted.or(echoes.authority).or(echoes.drawn);
    echo.map_or(stage.run.course()[stage.selected.entity].spawn, |echo| echo.pos)
}

impl Field {
    /// Whose screens are shown, and where each has its place: the viewer's first, then those of the next of the cast.
    fn panes(&self, stage: &Stage, inner: Rect) -> Vec<(MemberId, Rect)> {
        let count = self.count(stage, inner);
        let mut members: Vec<MemberId> = stage.run.course().members().collect();
        members.rotate_left(stage.selected.viewer.index());
        let width = inner.width / count;
        let pane = |(i, member): (usize, MemberId)| {
            let x = inner.x + i as u16 * width;
            // The last has what is left over; between two is a line.
            let right = if i as u16 + 1 == count { inner.right() } else { x + width - 1 };
            let head = u16::from(count > 1);
            (member, Rect { x, y: inner.y + head, width: right - x, height: inner.height.saturating_sub(head) })
        };
        members.into_iter().take(usize::from(count)).enumerate().map(pane).collect()
    }

    /// As many as are wanted, there are, and fit.
    fn count(&self, stage: &Stage, inner: Rect) -> u16 {
        let there = stage.run.course().cast.len() as u16;
        self.beside.min(there).min(inner.width / NARROWEST).max(1)
    }

    /// What is seen in a pane; the loupe is only where one pane has all the room.
    fn look<'a>(&self, stage: &'a Stage, viewer: MemberId, pane: Rect, alone: bool) -> Look<'a> {
        let view = self.camera.view(pane, stage.run.course().world.bounds);
        let mut look = Look { stage, viewer, view, hidden: None };
        if let (Loupe::Centimetres(_), true, Side::Above) = (self.loupe, alone, view.from) {
            look.hidden = loupe::place(&look, self.on_drawn);
        }
        look
    }

    fn title(&self, stage: &Stage) -> String {
        let ((across, down), dot) = (self.camera.scale(), stage.palette.dot());
        let stands = if self.camera.stands() { format!(" {dot} stands") } else { String::new() };
        let deep = if self.camera.from() == Side::Above { "" } else { ", solids within 8 m" };
        format!("Field {dot} {}{deep} {dot} 1 cell {across} m \u{d7} {down} m{stands}", self.camera.from().name())
    }
}

impl View for Field {
    fn follow(&mut self, stage: &Stage, area: Rect) {
        let subject = Some((stage.selected.entity, stage.selected.thing));
        if std::mem::replace(&mut self.followed, subject) != subject {
            self.camera.centre();
        }
        let columns = area.width.saturating_sub(2) / self.count(stage, area);
        self.camera.follow(followed(stage), columns);
    }

    fn draw(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        let p = stage.palette;
        let inner = frame(p, area, &self.title(stage), buffer);
        let panes = self.panes(stage, inner);
        let alone = panes.len() == 1;
        for (viewer, pane) in &panes {
            let look = self.look(stage, *viewer, *pane, alone);
            ground::draw(&look, followed(stage), buffer);
            if let (Loupe::Centimetres(scale), Some(place)) = (self.loupe, look.hidden) {
                loupe::draw(&look, place, (scale, self.on_drawn), buffer);
            }
            look.draw(buffer);
            if !alone {
                let tone = if *viewer == stage.selected.viewer { Tone::Drawn } else { Tone::Muted };
                let head = format!("on {}'s screen", stage.name(*viewer));
                write(buffer, (pane.x + 1, pane.y - 1), pane.right(), &[(&head, p.text(tone))]);
                for y in inner.top()..inner.bottom() {
                    if pane.right() < inner.right() {
                        buffer[(pane.right(), y)].set_char(p.bar()).set_style(p.text(Tone::Line));
                    }
                }
            }
        }
        amiss::draw(stage, inner, buffer);
    }

    fn turns(&self) -> Turns {
        Turns::Knob
    }

    fn act(&mut self, _stage: &mut Stage, action: Action) -> Answer {
        match action {
            Action::ZoomIn | Action::ZoomOut => self.camera.zoom(action == Action::ZoomIn),
            Action::Loupe => self.loupe = self.loupe.next(),
            Action::LoupeOnDrawn => self.on_drawn = !self.on_drawn,
            Action::From => self.camera.turn(),
            Action::Stand => self.camera.stand(),
            Action::Beside => self.beside = self.beside % MOST + 1,
            _ => return Answer::NotMine,
        }
        Answer::Done
    }

    /// At the helm, what takes orders is sent there.
    fn click(&mut self, stage: &mut Stage, area: Rect, cell: (u16, u16)) {
        let inner = area.inner(ratatui::layout::Margin::new(1, 1));
        let place = self
            .panes(stage, inner)
            .into_iter()
            .find_map(|(viewer, pane)| self.look(stage, viewer, pane, false).view.place_of(cell));
        if let Some(place) = place.filter(|_| stage.drives() && stage.helm.driving.order_key().is_some()) {
            stage.helm.driving.point_at(place);
            stage.drive(0.0);
        }
    }

    fn drawing(&self, stage: &Stage, area: Rect) -> Result<Drawing, String> {
        let inner = area.inner(ratatui::layout::Margin::new(1, 1));
        let panes = self.panes(stage, inner);
        let view = self.camera.view(panes[0].1, stage.run.course().world.bounds);
        let viewers: Vec<MemberId> = panes.into_iter().map(|(viewer, _)| viewer).collect();
        let page = FieldPage {
            at: stage.at,
            side: self.camera.from(),
            member: stage.selected.entity,
            subject: stage.subject(),
            viewers: &viewers,
            extent: view.extent(),
        };
        Ok(field(&stage.run, &page))
    }

    fn glyphs(&self, p: Palette) -> Vec<Glyph> {
        let (own, truth, bright) = (p.text(Tone::Predicted), p.text(Tone::Authority), p.text(Tone::Bright));
        vec![
            (p.predicted(), own, "predicted by its owner"),
            (p.authority(), truth, "the server's"),
            (p.smooth(), truth, "what others are sent instead: its smooth echo"),
            (p.drawn(), p.text(Tone::Drawn), "drawn by the viewer"),
            (p.authority_trail(), truth, "the server's, at earlier snapshots"),
            (p.drawn_trail(), p.text(Tone::Drawn), "drawn by the viewer, each tenth of a second before"),
            (p.predicted_hollow(), own, "predicted in the branch"),
            (p.authority_hollow(), truth, "the server's in the branch"),
            (p.correction(), p.text(Tone::Correction), "corrected a moment ago"),
            ('!', p.verdict(), "refused by the guard"),
            (p.order(), own, "where the viewer ordered what it shares with others"),
            (p.cursor(), bright, "where the next order goes"),
            ('-', p.text(Tone::Muted), "gone a moment ago"),
        ]
    }
}
