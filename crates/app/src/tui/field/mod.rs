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

mod camera;
mod dots;
mod ground;
mod loupe;

pub(super) use camera::Camera;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_core::Vec3;
use velocitas_lab::record::Mark;
use velocitas_lab::{ActorId, KnownTo, LabTime, MachineId};

use super::palette::Tone;
use super::screen::frame;
use super::stage::Stage;
use camera::View;
use dots::Dots;

/// How far trails go back.
const TRAIL: LabTime = LabTime(1_600_000_000);
/// How long a fault stays visible where it happened.
const FLASH: LabTime = LabTime(700_000_000);

pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let (across, down) = stage.camera.scale();
    let title =
        format!("Field {} from above {} 1 cell {across} m \u{d7} {down} m", stage.palette.dot(), stage.palette.dot());
    let inner = frame(stage, area, &title, buffer);
    let view = stage.camera.view(inner, stage.run.course().world.bounds);
    ground::draw(stage, &view, buffer);
    names_of_one_sided(stage, &view, buffer);
    bodies(stage, &view, buffer);
    trails(stage, &view, buffer);
    entities(stage, &view, buffer);
    loupe::draw(stage, inner, buffer);
}

/// What only one side knows is marked in words.
fn names_of_one_sided(stage: &Stage, view: &View, buffer: &mut Buffer) {
    for solid in &stage.run.course().world.solids {
        let who = match solid.known_to {
            KnownTo::All => continue,
            KnownTo::Server => "known to the server only",
            KnownTo::Clients => "known to the clients only",
        };
        let at = velocitas_core::vec3(solid.solid.x, solid.solid.y + solid.solid.half_y.max(solid.solid.half_x), 0.0);
        if let Some((x, y)) = view.cell(at)
            && y > view.area.top()
        {
            label(view, (x, y - 1), &format!("{}, {who}", solid.name), stage.palette.text(Tone::Muted), buffer);
        }
    }
}

/// Text over the ground, whose tint stays; moved left where it would be cut.
fn label(view: &View, at: (u16, u16), text: &str, style: Style, buffer: &mut Buffer) {
    let width = text.chars().count() as u16;
    let x = at.0.min(view.area.right().saturating_sub(width)).max(view.area.left());
    buffer.set_stringn(x, at.1, text, usize::from(view.area.right() - x), style);
}

fn trails(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let p = stage.palette;
    let moment = stage.moment();
    let every = u32::from(stage.run.lab().knobs(stage.entity).snapshot_every);
    let mut put = |at: Vec3, glyph: char, tone| {
        if let Some(cell) = view.cell(at) {
            buffer[cell].set_char(glyph).set_style(p.text(tone));
        }
    };
    let Some(subject) = stage.subject() else { return };
    if stage.viewer != stage.entity || stage.thing.is_some() {
        for at in moment.drawn_trail(subject, stage.machine(stage.viewer), TRAIL) {
            put(at, p.drawn_trail(), Tone::Drawn);
        }
    }
    for at in moment.authority_trail(subject, TRAIL, every.max(4)) {
        put(at, p.authority_trail(), Tone::Authority);
    }
    let mut dots = Dots::new(view.area);
    let trail = moment.predicted_trail(subject, TRAIL);
    for pair in trail.windows(2) {
        // A jump is no path.
        if pair[0].distance(pair[1]) < 1.0 {
            dots.thick_line(view.dot(pair[0]), view.dot(pair[1]));
        }
    }
    dots.draw(p, p.text(Tone::Predicted), buffer);
}

/// The room that each body takes, and where a body of some length points; small ones are their glyph.
fn bodies(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let moment = stage.moment();
    let (across, down) = view.cell_size();
    let mut dots = Dots::new(view.area);
    for actor in stage.run.record().cast.actors() {
        let e = moment.echoes(actor, stage.machine(stage.viewer));
        let Some(echo) = e.predicted.or(e.authority).or(e.drawn) else { continue };
        let radius = moment.layout(actor).motion().body().radius;
        // A glyph covers its cell.
        if radius < across && radius < down {
            continue;
        }
        let rim = |angle: f32, reach: f32| {
            let (x, y) = (libm::cosf(angle) * reach, libm::sinf(angle) * reach);
            view.dot(echo.pos + velocitas_core::vec3(x, y, 0.0))
        };
        let around: Vec<(i32, i32)> =
            (0..=24u8).map(|i| rim(f32::from(i) * std::f32::consts::TAU / 24.0, radius)).collect();
        around.windows(2).for_each(|pair| dots.line(pair[0], pair[1]));
        if let Some(bearing) = echo.bearing {
            dots.thick_line(rim(bearing, radius * 0.4), rim(bearing, radius * 2.0));
        }
    }
    dots.draw(stage.palette, stage.palette.text(Tone::Text), buffer);
}

fn entities(stage: &Stage, view: &View, buffer: &mut Buffer) {
    // The selected one last: it lies on top.
    let subject = stage.subject();
    let others = stage.run.record().cast.actors().filter(|actor| Some(*actor) != subject);
    for actor in others.chain(subject) {
        draw_entity(stage, view, actor, buffer);
    }
}

/// The machine whose troubles are an entity's.
fn whose(stage: &Stage, actor: ActorId) -> Option<MachineId> {
    let actor = &stage.run.record().cast.actors[actor.index()];
    actor.came_with.or_else(|| actor.owners_at(stage.at).first().copied())
}

fn draw_entity(stage: &Stage, view: &View, actor: ActorId, buffer: &mut Buffer) {
    let p = stage.palette;
    let moment = stage.moment();
    let e = moment.echoes(actor, stage.machine(stage.viewer));
    let selected = stage.subject() == Some(actor);
    let mut put = |at: Option<Vec3>, glyph: char, style: Style| {
        let cell = at.and_then(|at| view.cell(at))?;
        buffer[cell].set_char(glyph).set_style(style);
        Some(cell)
    };
    let drawn = put(e.drawn.map(|e| e.pos), p.drawn(), p.text(Tone::Drawn));
    let truth = put(e.authority.map(|e| e.pos), p.authority(), p.text(Tone::Authority));
    let own = put(e.predicted.map(|e| e.pos), p.predicted(), p.text(Tone::Predicted));
    let Some(cell) = own.or(truth).or(drawn) else { return };
    let marked = |mark| whose(stage, actor).is_some_and(|machine| moment.marked(machine, mark, FLASH));
    let (corrected, refused) = (marked(Mark::Corrected), marked(Mark::Verdict));
    // Beyond the rim of a body that is wider than its glyph.
    let radius = moment.layout(actor).motion().body().radius;
    let beside = if radius < view.cell_size().0 { 2 } else { (1.1 * radius / view.cell_size().0) as u16 + 2 };
    let mut name_at = (cell.0 + beside, cell.1);
    if refused {
        let badge = (cell.0, cell.1.saturating_sub(1).max(view.area.top()));
        buffer[badge].set_char('!').set_style(p.verdict());
    } else if corrected {
        let badge = (cell.0, cell.1.saturating_sub(1).max(view.area.top()));
        buffer[badge].set_char(p.correction()).set_style(p.text(Tone::Correction));
    }
    let name = stage.run.record().cast.actors[actor.index()].name.as_str();
    let style = if selected { p.text(Tone::Predicted) } else { p.text(Tone::Text) };
    let width = name.chars().count() as u16;
    // Beside the echo; before it where the edge is near.
    if name_at.0 + width > view.area.right() {
        name_at.0 = cell.0.saturating_sub(width + beside - 1);
    }
    if name_at.0 >= view.area.left() && name_at.0 + width <= view.area.right() {
        buffer.set_string(name_at.0, name_at.1, name, style);
    }
}
