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
mod ground;
mod loupe;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_core::{Presence, Vec3};
use velocitas_lab::moment::Standing;
use velocitas_lab::record::Mark;
use velocitas_lab::{ActorId, KnownTo, LabTime, MachineId, MemberId};

use super::action::Action;
use super::canvas::frame;
use super::dots::Dots;
use super::palette::{Palette, Tone};
use super::stage::Stage;
use super::view::{Answer, Glyph};
use camera::{Camera, View};

/// How far trails go back.
const TRAIL: LabTime = LabTime(1_600_000_000);
/// How long it is news that somebody came or went.
const LATELY: LabTime = LabTime(2_000_000_000);
/// How long a fault stays visible where it happened.
const FLASH: LabTime = LabTime(700_000_000);

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
    /// What the camera follows: another is gone to at once.
    followed: Option<(MemberId, Option<usize>)>,
}

impl Default for Field {
    fn default() -> Self {
        Self { camera: Camera::new(Vec3::ZERO), loupe: Loupe::Centimetres(2), followed: None }
    }
}

impl Field {
    fn view(&self, stage: &Stage, inner: Rect) -> View {
        self.camera.view(inner, stage.run.course().world.bounds)
    }
}

impl super::view::View for Field {
    fn follow(&mut self, stage: &Stage, _area: Rect) {
        let subject = Some((stage.entity, stage.thing));
        if std::mem::replace(&mut self.followed, subject) != subject {
            self.camera.centre();
        }
        let echoes = stage.echoes();
        let echo = echoes.predicted.or(echoes.authority).or(echoes.drawn);
        let spawn = stage.run.course()[stage.entity].spawn;
        self.camera.follow(echo.map_or(spawn, |echo| echo.pos));
    }

    fn draw(&self, stage: &Stage, area: Rect, buffer: &mut Buffer) {
        let (across, down) = self.camera.scale();
        let dot = stage.palette.dot();
        let title = format!("Field {dot} from above {dot} 1 cell {across} m \u{d7} {down} m");
        let inner = frame(stage.palette, area, &title, buffer);
        let view = self.view(stage, inner);
        ground::draw(stage, &view, buffer);
        names_of_one_sided(stage, &view, buffer);
        bodies(stage, &view, buffer);
        trails(stage, &view, buffer);
        gone_lately(stage, &view, buffer);
        ordered(stage, &view, buffer);
        cursor(stage, &view, buffer);
        branch(stage, &view, buffer);
        entities(stage, &view, buffer);
        if let Loupe::Centimetres(scale) = self.loupe {
            loupe::draw(stage, &view, scale, buffer);
        }
        amiss(stage, inner, buffer);
    }

    fn act(&mut self, _stage: &mut Stage, action: Action) -> Answer {
        match action {
            Action::ZoomIn | Action::ZoomOut => self.camera.zoom(action == Action::ZoomIn),
            Action::Loupe => self.loupe = self.loupe.next(),
            _ => return Answer::NotMine,
        }
        Answer::Done
    }

    /// At the helm, what takes orders is sent there.
    fn click(&mut self, stage: &mut Stage, area: Rect, cell: (u16, u16)) {
        let inner = area.inner(ratatui::layout::Margin::new(1, 1));
        let place = self.view(stage, inner).place_of(cell);
        if let Some(place) = place.filter(|_| stage.drives() && stage.driving.order_key().is_some()) {
            stage.driving.point_at(place);
            stage.drive(0.0);
        }
    }

    fn drawing(&self, _stage: &Stage) -> Result<velocitas_report::drawing::Drawing, String> {
        Err("not yet".to_owned())
    }

    fn glyphs(&self, p: Palette) -> Vec<Glyph> {
        let (own, truth, bright) = (p.text(Tone::Predicted), p.text(Tone::Authority), p.text(Tone::Bright));
        vec![
            (p.predicted(), own, "predicted by its owner"),
            (p.authority(), truth, "the server's"),
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

/// Where the next order goes.
fn cursor(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let Some((x, y)) = stage.driving.cursor().filter(|_| stage.drives()) else { return };
    let Some(cell) = view.cell(velocitas_core::vec3(x, y, 0.0)) else { return };
    buffer[cell].set_char(stage.palette.cursor()).set_style(stage.palette.text(Tone::Bright));
}

/// What is amiss with who is there or with the course's file, and what helps: the first of it, in the last two rows.
fn amiss(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let Some((what, helps)) = refused(stage)
        .or_else(|| wrong(stage))
        .or_else(|| unsaved(stage))
        .or_else(|| kept(stage))
        .filter(|_| area.height > 6)
    else {
        return;
    };
    let p = stage.palette;
    let blank = " ".repeat(usize::from(area.width));
    let rows = [(format!(" {} {what} ", p.correction()), Tone::Correction), (format!(" {helps} "), Tone::Text)];
    for (row, (text, tone)) in rows.iter().enumerate() {
        let y = area.bottom() - rows.len() as u16 + row as u16;
        buffer.set_stringn(area.x, y, &blank, usize::from(area.width), p.base());
        buffer.set_stringn(area.x, y, text, usize::from(area.width), p.text(*tone));
    }
}

/// Who is not let in, and why.
fn refused(stage: &Stage) -> Option<(String, String)> {
    let record = stage.run.record();
    let (machine, words) = record.cast.players().find_map(|m| Some((m, record.refusal(m, stage.at)?)))?;
    let what = format!("{} is not let in: {words}", record.cast.name(machine));
    Some((what, "it asks again each second; on screen 2 edits can reach all machines (a)".to_owned()))
}

/// What stands against what was saved of the course.
fn unsaved(stage: &Stage) -> Option<(String, String)> {
    let why = stage.course_trouble()?;
    Some((
        why.to_owned(),
        "the course runs on with what it could take over; C-r begins again with what is saved".to_owned(),
    ))
}

/// What is wrong with the take that the run came from.
fn kept(stage: &Stage) -> Option<(String, String)> {
    let why = stage.take_trouble()?;
    Some((why.to_owned(), "what is shown is what this program makes of it".to_owned()))
}

/// What is amiss, and its remedy.
fn wrong(stage: &Stage) -> Option<(String, String)> {
    let all = &stage.facts.as_ref()?.amiss;
    let first = all.first()?;
    let more = if all.len() > 1 { format!(" (and {} more)", all.len() - 1) } else { String::new() };
    let what = format!("{}{more}", first.words(stage.run.record()));
    Some((what, format!("m mends it: {}", first.fault().remedy)))
}

/// Where the viewer has ordered what it shares.
fn ordered(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let moment = stage.moment();
    for actor in stage.run.record().cast.things() {
        let Some(((x, y), standing)) = moment.order(actor, stage.machine(stage.viewer)) else { continue };
        let Some(cell) = view.cell(velocitas_core::vec3(x, y, 0.0)) else { continue };
        let tone = if standing == Standing::Overruled { Tone::Muted } else { Tone::Predicted };
        buffer[cell].set_char(stage.palette.order()).set_style(stage.palette.text(tone));
        let name = &stage.run.record().cast.actors[actor.index()].name;
        let text = format!("{name} here: {}", standing.name());
        label(view, (cell.0 + 2, cell.1), &text, stage.palette.text(Tone::Muted), buffer);
    }
}

/// Where somebody stood who went a moment ago.
fn gone_lately(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let record = stage.run.record();
    for actor in record.cast.actors() {
        let it = &record.cast.actors[actor.index()];
        let Some((gone, _)) = it.gone.filter(|(gone, _)| *gone <= stage.at && stage.at.minus(*gone) < LATELY) else {
            continue;
        };
        let track = record.authority(actor);
        let Some(cell) = track.at(gone).and_then(|i| view.cell(track.pos(i))) else { continue };
        let style = stage.palette.text(Tone::Muted);
        buffer[cell].set_char('-').set_style(style);
        label(view, (cell.0 + 2, cell.1), &format!("{} is gone", it.name), style, buffer);
    }
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

/// What only one side knows is marked in words.
fn names_of_one_sided(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let known = stage.moment().solids(stage.machine(stage.viewer));
    let elsewhere = |id: usize| {
        let viewers = stage.run.course().members().filter(|member| *member != stage.viewer);
        viewers.into_iter().any(|member| stage.moment().solids(stage.machine(member))[id] == KnownTo::All)
    };
    for (id, (solid, known_to)) in stage.run.course().world.solids.iter().zip(known).enumerate() {
        let who = match known_to {
            KnownTo::All | KnownTo::Nobody => continue,
            KnownTo::Server if elsewhere(id) => format!("not known to {}", stage.name(stage.viewer)),
            KnownTo::Server => "known to the server only".to_owned(),
            KnownTo::Clients => "not known to the server".to_owned(),
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
    let others = || stage.run.record().cast.actors().filter(move |actor| Some(*actor) != subject);
    let mut places = Vec::new();
    for actor in others().chain(subject) {
        places.extend(draw_entity(stage, view, actor, buffer).map(|cell| (actor, cell)));
    }
    // Its name first: the others give way, up or down a row, or are left out.
    let mut taken: Vec<(u16, u16, u16)> = places.iter().map(|(_, cell)| (cell.0, cell.0 + 1, cell.1)).collect();
    for (actor, cell) in places.into_iter().rev() {
        name(stage, view, (actor, cell), &mut taken, buffer);
    }
}

/// Where a branch has everybody, hollow, as far as that is another cell than here.
fn branch(stage: &Stage, view: &View, buffer: &mut Buffer) {
    let Some(other) = stage.branch.as_ref().and_then(|branch| branch.at(stage.at)) else { return };
    let (p, here, viewer) = (stage.palette, stage.moment(), stage.machine(stage.viewer));
    for actor in other.record.cast.actors() {
        let is_known = actor.index() < here.record.cast.actors.len();
        let e = other.echoes(actor, viewer);
        let real = if is_known { here.echoes(actor, viewer) } else { velocitas_lab::moment::Echoes::default() };
        let pairs = [
            (e.authority, real.authority, p.authority_hollow(), Tone::Authority),
            (e.predicted, real.predicted, p.predicted_hollow(), Tone::Predicted),
        ];
        for (there, here, glyph, tone) in pairs {
            let cell = there.and_then(|echo| view.cell(echo.pos));
            if let Some(cell) = cell.filter(|cell| here.and_then(|echo| view.cell(echo.pos)) != Some(*cell)) {
                buffer[cell].set_char(glyph).set_style(p.text(tone));
            }
        }
    }
}

/// The machine whose troubles are an entity's.
fn whose(stage: &Stage, actor: ActorId) -> Option<MachineId> {
    let actor = &stage.run.record().cast.actors[actor.index()];
    actor.came_with.or_else(|| actor.owners_at(stage.at).first().copied())
}

/// Draws what is believed of an entity. Gives the cell it is in.
fn draw_entity(stage: &Stage, view: &View, actor: ActorId, buffer: &mut Buffer) -> Option<(u16, u16)> {
    let p = stage.palette;
    let moment = stage.moment();
    let e = moment.echoes(actor, stage.machine(stage.viewer));
    let mut put = |at: Option<Vec3>, glyph: char, style: Style| {
        let cell = at.and_then(|at| view.cell(at))?;
        buffer[cell].set_char(glyph).set_style(style);
        Some(cell)
    };
    let drawn = put(e.drawn.map(|e| e.pos), p.drawn(), p.text(Tone::Drawn));
    let truth = put(e.authority.map(|e| e.pos), p.authority(), p.text(Tone::Authority));
    let own = put(e.predicted.map(|e| e.pos), p.predicted(), p.text(Tone::Predicted));
    let cell = own.or(truth).or(drawn)?;
    let marked = |mark| whose(stage, actor).is_some_and(|machine| moment.marked(machine, mark, FLASH));
    let (corrected, refused) = (marked(Mark::Corrected), marked(Mark::Verdict));
    if refused {
        let badge = (cell.0, cell.1.saturating_sub(1).max(view.area.top()));
        buffer[badge].set_char('!').set_style(p.verdict());
    } else if corrected {
        let badge = (cell.0, cell.1.saturating_sub(1).max(view.area.top()));
        buffer[badge].set_char(p.correction()).set_style(p.text(Tone::Correction));
    }
    Some(cell)
}

/// Writes an entity's name beside it, where no other name is.
fn name(
    stage: &Stage,
    view: &View,
    (actor, cell): (ActorId, (u16, u16)),
    taken: &mut Vec<(u16, u16, u16)>,
    buffer: &mut Buffer,
) {
    let p = stage.palette;
    // Beyond the rim of a body that is wider than its glyph.
    let radius = stage.moment().layout(actor).motion().body().radius;
    let beside = if radius < view.cell_size().0 { 2 } else { (1.1 * radius / view.cell_size().0) as u16 + 2 };
    let name = title_of(stage, actor);
    let style = if stage.subject() == Some(actor) { p.text(Tone::Predicted) } else { p.text(Tone::Text) };
    let width = name.chars().count() as u16;
    // Beside the echo; before it where the edge is near.
    let mut x = cell.0 + beside;
    if x + width > view.area.right() {
        x = cell.0.saturating_sub(width + beside - 1);
    }
    if x < view.area.left() || x + width > view.area.right() {
        return;
    }
    let is_free = |y: &u16| {
        (view.area.top()..view.area.bottom()).contains(y)
            && !taken.iter().any(|(from, to, row)| row == y && *from < x + width && x < *to)
    };
    let rows = [Some(cell.1), cell.1.checked_add(1), cell.1.checked_sub(1)];
    if let Some(y) = rows.into_iter().flatten().find(is_free) {
        taken.push((x, x + width, y));
        buffer.set_string(x, y, &name, style);
    }
}
