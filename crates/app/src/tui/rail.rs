//! The rail: lab time from left to right, a lane for each machine, the worst of each slice as a glyph.
//!
//! The page stands still and the playhead moves along it, so that little changes from frame to frame; when the
//! playhead comes to the end, the page turns by half.
//!
//! ```text
//! rail 4.8 s ...                 | corrected  ! refused ...
//! jump    ▂   ▆                     decades from 1 mm to 10 m
//! server  │··│··│··│··│·┃
//! plover  ·····×········┃
//! heron   ··▪···········┃
//!         0:17.2      0:19.6     now
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_analysis::slices::{Cut, Sliced, Slices, slices};
use velocitas_analysis::trouble::Reason;
use velocitas_core::{Fact, Restored};
use velocitas_record::record::Mark;
use velocitas_record::{Happening, LabTime, MachineId, MemberId};
use velocitas_report::drawing::told;

use super::action::Action;
use super::canvas::write;
use super::palette::{Palette, Tone};
use super::stage::Stage;
use super::stage::page::{NAMES, RailView};
use super::view::Glyph;

/// What an area shows: from when on, how long a column is, how many, of whose jumps. Should the page be wider, it is the part around the
/// playhead.
pub(super) fn cut(stage: &Stage, area: Rect) -> Cut {
    let (columns, (page, slice)) = (RailView::fitting(area), stage.rail.page());
    let ahead = stage.at.minus(page).0 / slice.0;
    let skipped = (ahead + 2).saturating_sub(columns as u64);
    (LabTime(page.0 + skipped * slice.0), slice, columns, stage.machine(stage.selected.entity))
}

/// Draws what was cut for an area.
pub(super) fn draw(stage: &Stage, sliced: &Sliced, area: Rect, buffer: &mut Buffer) {
    let of @ (from, slice, columns, _) = cut(stage, area);
    let Some(s) = sliced.get(of) else { return };
    title(stage, area, slice, columns, buffer);
    let head = ((stage.at.0.saturating_sub(from.0)) / slice.0) as usize;
    let now = ((stage.run.now().0.saturating_sub(from.0)) / slice.0) as usize;
    // What is no longer kept is left empty.
    let kept = stage.run.record().kept_from.minus(from).0.div_ceil(slice.0) as usize;
    let rail = Drawing { stage, x: area.x + NAMES, from, slice, head, now, columns, kept };

    let mut y = area.y + 1;
    let lanes = area.height.saturating_sub(2);
    let jump_rows = if lanes >= 7 { 2 } else { 1 };
    rail.jumps(s, area.x, y, jump_rows, buffer);
    y += jump_rows;
    if lanes > 3 {
        rail.server(s, area.x, y, buffer);
        y += 1;
    }
    let room = usize::from(area.bottom() - 1 - y);
    rail.members(s, area.x, y, room, buffer);
    rail.axis(from, slice, area.bottom() - 1, buffer);
    lately(stage, Rect { y: area.y + 1, height: lanes, ..area }, (now, columns), buffer);
}

/// Columns of the list of what happened lately, and how far it looks back.
const LATELY: u16 = 56;
const BACK: LabTime = LabTime(30_000_000_000);

/// Where there is room right of the live edge: what happened lately, to anybody, the newest first.
fn lately(stage: &Stage, area: Rect, (now, columns): (usize, usize), buffer: &mut Buffer) {
    let first = columns.saturating_sub(usize::from(LATELY));
    if now + 3 > first || area.height < 3 {
        return;
    }
    let (p, record) = (stage.palette, stage.run.record());
    let mut all: Vec<(LabTime, MachineId, char, Style, String)> = Vec::new();
    for machine in record.cast.players() {
        let rows = record.of(machine).happenings.span(stage.at.minus(BACK), stage.at).rev();
        let events = rows.filter_map(|row| match row.what {
            Happening::Fact(Fact::Corrected(c)) if c.why != Restored::Settled => {
                let why = Reason::of(&stage.run.found().finding(machine, row.at, &c)).words(record);
                let said = format!("{}: {why}", told(f64::from(c.jump), "m"));
                Some((row.at, machine, p.correction(), p.text(Tone::Correction), said))
            }
            Happening::Fact(Fact::Verdict(v)) => {
                Some((row.at, machine, '!', p.verdict(), v.evidence.rule.name().to_owned()))
            }
            _ => None,
        });
        all.extend(events.take(usize::from(area.height)));
    }
    all.sort_by_key(|(at, machine, ..)| (std::cmp::Reverse(*at), *machine));
    let (x, end) = (area.x + NAMES + first as u16, area.right());
    let muted = p.text(Tone::Muted);
    write(buffer, (x, area.y), end, &[(if all.is_empty() { "" } else { "lately" }, muted)]);
    for (row, (at, machine, glyph, style, said)) in all.iter().take(usize::from(area.height) - 1).enumerate() {
        let name: String = record.cast.name(*machine).chars().take(8).collect();
        let is_own = *machine == stage.machine(stage.selected.entity);
        let tone = if is_own { Tone::Bright } else { Tone::Text };
        let glyph = glyph.to_string();
        let pieces = [
            (format!("{at} "), muted),
            (format!("{name:<8} "), p.text(tone)),
            (glyph, *style),
            (format!(" {said}"), p.text(Tone::Text)),
        ];
        let pieces: Vec<(&str, Style)> = pieces.iter().map(|(text, style)| (text.as_str(), *style)).collect();
        write(buffer, (x, area.y + 1 + row as u16), end, &pieces);
    }
}

/// Every glyph of it.
pub(super) fn glyphs(p: Palette) -> Vec<Glyph> {
    let (muted, amber, bright) = (p.text(Tone::Muted), p.text(Tone::Predicted), p.text(Tone::Bright));
    vec![
        (p.playhead(), bright, "the moment looked at: of a column the worst is shown, as listed here"),
        ('!', p.verdict(), "refused by the guard"),
        ('-', bright, "went"),
        ('+', bright, "came"),
        (p.correction(), p.text(Tone::Correction), "corrected"),
        (p.late(), amber, "an input came after its tick was made"),
        (p.made_up(), amber, "an input was made up"),
        (p.lost(), muted, "a datagram was lost"),
        (p.snapshot(), p.text(Tone::Authority), "a snapshot left the server"),
        (p.eighths(5), p.text(Tone::Correction), "how far a correction jumped, on decades from 1 mm to 10 m"),
        (p.branch(), muted, "the selected entity's lane in the branch"),
    ]
}

/// Where the kept part begins, once something was forgotten.
fn kept(from: LabTime) -> String {
    let seconds = from.0.div_ceil(1_000_000_000);
    if seconds == 0 { String::new() } else { format!("kept from {}:{:02} ", seconds / 60, seconds % 60) }
}

fn title(stage: &Stage, area: Rect, slice: LabTime, columns: usize, buffer: &mut Buffer) {
    let p = stage.palette;
    let (line, muted, text) = (p.text(Tone::Line), p.text(Tone::Muted), p.text(Tone::Text));
    let rule: String = std::iter::repeat_n(p.line(), usize::from(area.width)).collect();
    buffer.set_stringn(area.x, area.y, &rule, usize::from(area.width), line);
    let span = LabTime(slice.0 * columns as u64).secs();
    let x = write(
        buffer,
        (area.x + 2, area.y),
        area.right(),
        &[
            (" rail ", text),
            (&format!("{span:.1} s, a column {} ms ", slice.0 / 1_000_000), muted),
            (&kept(stage.whole().reach()), text),
        ],
    );
    let x = worst(stage, (x, area), buffer);
    let glyph = |c: char| format!(" {c}");
    let (snapshot, lost, made, late, corrected) =
        (glyph(p.snapshot()), glyph(p.lost()), glyph(p.made_up()), glyph(p.late()), glyph(p.correction()));
    let amber = p.text(Tone::Predicted);
    let legend: Vec<(&str, _)> = vec![
        (&snapshot, p.text(Tone::Authority)),
        (" snapshot ", muted),
        (&lost, muted),
        (" lost ", muted),
        (&made, amber),
        (" made up ", muted),
        (&late, amber),
        (" late ", muted),
        (&corrected, p.text(Tone::Correction)),
        (" corrected ", muted),
        ("+ -", p.text(Tone::Bright)),
        (" came, went ", muted),
        (" ", muted),
        ("!", p.verdict()),
        (" refused ", muted),
    ];
    let width: usize = legend.iter().map(|(t, _)| t.chars().count()).sum();
    if usize::from(area.right().saturating_sub(x)) > width + 2 {
        write(buffer, (area.right() - width as u16 - 2, area.y), area.right(), &legend);
    }
}

/// The worst trouble of the selected machine in the window looked at, and the key that asks why where it can be asked.
fn worst(stage: &Stage, (x, area): (u16, Rect), buffer: &mut Buffer) -> u16 {
    let p = stage.palette;
    let Some(trouble) = stage.facts.as_ref().and_then(|facts| facts.figures.troubles.first()) else { return x };
    let said = format!("{} ", trouble.briefly(stage.run.record()));
    // The legend is worth more where there is no room for both.
    if area.width < 150 {
        return x;
    }
    let asks = if stage.offers(Action::Why) { "y " } else { "" };
    write(
        buffer,
        (x, area.y),
        area.right(),
        &[(" ", p.text(Tone::Muted)), (asks, p.chosen()), (&said, p.text(Tone::Text))],
    )
}

/// The lanes, once it is known what lies where.
struct Drawing<'a> {
    stage: &'a Stage,
    x: u16,
    /// The first moment shown, and the length of a column.
    from: LabTime,
    slice: LabTime,
    head: usize,
    now: usize,
    columns: usize,
    /// The first column of which everything is kept.
    kept: usize,
}

impl Drawing<'_> {
    fn put(&self, column: usize, y: u16, glyph: char, style: Style, buffer: &mut Buffer) {
        if (self.kept..self.columns).contains(&column) {
            buffer[(self.x + column as u16, y)].set_char(glyph).set_style(style);
        }
    }

    fn playhead(&self, y: u16, buffer: &mut Buffer) {
        let p = self.stage.palette;
        let style = if self.stage.is_live() { p.text(Tone::Bright) } else { p.text(Tone::Correction) };
        self.put(self.head, y, p.playhead(), style, buffer);
    }

    /// Jumps of the selected entity on decades from 1 mm to 10 m; the tolerance is a line.
    fn jumps(&self, s: &Slices, left: u16, y: u16, rows: u16, buffer: &mut Buffer) {
        let p = self.stage.palette;
        write(buffer, (left + 1, y), self.x, &[("jump", p.text(Tone::Muted))]);
        if rows > 1 {
            write(buffer, (left + 1, y + 1), self.x, &[("1mm-10m", p.text(Tone::Line))]);
        }
        let levels = usize::from(rows) * 8;
        let level =
            |m: f32| ((f64::from(m).max(1e-9).log10() + 3.0) / 4.0 * levels as f64).clamp(1.0, levels as f64) as usize;
        let tolerance = level(0.02);
        for column in 0..self.columns.min(self.now + 1) {
            for row in 0..usize::from(rows) {
                let base = (usize::from(rows) - 1 - row) * 8;
                let filled = s.jumps[column].map_or(0, |m| level(m).saturating_sub(base).min(8));
                let y = y + row as u16;
                if filled > 0 {
                    self.put(column, y, p.eighths(filled), p.text(Tone::Correction), buffer);
                } else if (base + 1..=base + 8).contains(&tolerance) {
                    self.put(column, y, p.lost(), p.text(Tone::Line), buffer);
                }
            }
        }
        for row in 0..rows {
            self.playhead(y + row, buffer);
        }
    }

    fn server(&self, s: &Slices, left: u16, y: u16, buffer: &mut Buffer) {
        let p = self.stage.palette;
        write(buffer, (left + 1, y), self.x, &[("server", p.text(Tone::Authority))]);
        for column in 0..self.columns.min(self.now + 1) {
            if s.snapshots[column] {
                self.put(column, y, p.snapshot(), p.text(Tone::Authority), buffer);
            } else {
                self.put(column, y, p.nothing(), p.text(Tone::Line), buffer);
            }
        }
        self.playhead(y, buffer);
    }

    /// The selected machine's lane in the branch.
    fn branch(&self, left: u16, y: u16, buffer: &mut Buffer) {
        let Some(branch) = &self.stage.branching.branch else { return };
        let (p, machine) = (self.stage.palette, self.stage.machine(self.stage.selected.entity));
        let name = format!("{}branch", p.branch());
        let Some(run) = branch.run() else {
            write(buffer, (left + 1, y), self.x, &[(&name, p.text(Tone::Muted))]);
            return;
        };
        let s = slices(run.record(), self.from, self.slice, self.columns, machine);
        let column = |at: LabTime| (at.minus(self.from).0 / self.slice.0) as usize;
        // It has nothing of its own before it left the run.
        let lane = Drawing { kept: self.kept.max(column(branch.from)), now: column(run.now()), ..*self };
        lane.lane(&name, None, (&s.worst[machine.index()], &s.out[machine.index()]), left, y, buffer);
    }

    /// Selected and viewer first, then by trouble; what does not fit is folded into one lane.
    fn members(&self, s: &Slices, left: u16, y: u16, room: usize, buffer: &mut Buffer) {
        let stage = self.stage;
        let has_branch = stage.branching.branch.is_some() && room > 1;
        let room = room - usize::from(has_branch);
        let mut order: Vec<MemberId> = stage.run.course().members().collect();
        let count = order.len();
        let at = |member: MemberId| stage.machine(member).index();
        // On a page the order is that of the cast where all fit: lanes should not swap places.
        if count > room {
            let rank = |m: MemberId| {
                (m != stage.selected.entity, m != stage.selected.viewer, std::cmp::Reverse(s.trouble[at(m)]), m)
            };
            order.sort_by_key(|&i| rank(i));
        }
        let own = if count > room { room.saturating_sub(1).max(1) } else { count };
        let mut y = y;
        for (row, &member) in order.iter().take(own.min(room)).enumerate() {
            let lanes = (&s.worst[at(member)][..], &s.out[at(member)][..]);
            self.lane(stage.name(member), Some(member), lanes, left, y + row as u16, buffer);
            if has_branch && member == stage.selected.entity {
                // Beneath the one that it is of.
                y += 1;
                self.branch(left, y + row as u16, buffer);
            }
        }
        if count > own && room > own {
            let folded = &order[own..];
            let worst: Vec<Option<Mark>> =
                (0..self.columns).map(|c| folded.iter().filter_map(|&m| s.worst[at(m)][c]).max()).collect();
            self.lane(&format!("+{} more", folded.len()), None, (&worst, &[]), left, y + own as u16, buffer);
        }
    }

    fn lane(
        &self,
        name: &str,
        member: Option<MemberId>,
        (worst, out): (&[Option<Mark>], &[bool]),
        left: u16,
        y: u16,
        buffer: &mut Buffer,
    ) {
        let stage = self.stage;
        let p = stage.palette;
        let style = match member {
            Some(m) if m == stage.selected.entity => p.chosen(),
            Some(m) if m == stage.selected.viewer => p.text(Tone::Drawn),
            _ => p.text(Tone::Muted),
        };
        let name: String = name.chars().take(usize::from(NAMES) - 2).collect();
        write(buffer, (left + 1, y), self.x, &[(&name, style)]);
        for (column, mark) in worst.iter().enumerate().take(self.columns.min(self.now + 1)) {
            let (glyph, style) = match mark {
                None => (p.nothing(), p.text(Tone::Line)),
                Some(Mark::Lost) => (p.lost(), p.text(Tone::Muted)),
                Some(Mark::MadeUp) => (p.made_up(), p.text(Tone::Predicted)),
                Some(Mark::Late) => (p.late(), p.text(Tone::Predicted)),
                Some(Mark::Corrected) => (p.correction(), p.text(Tone::Correction)),
                Some(Mark::Came) => ('+', p.text(Tone::Bright)),
                Some(Mark::Went) => ('-', p.text(Tone::Bright)),
                Some(Mark::Verdict) => ('!', p.verdict()),
            };
            // Where nothing runs there is nothing to tell.
            let glyph = if mark.is_none() && out.get(column) == Some(&true) { ' ' } else { glyph };
            self.put(column, y, glyph, style, buffer);
        }
        // The playhead never hides what it stands on.
        if worst.get(self.head).copied().flatten().is_none() {
            self.playhead(y, buffer);
        }
    }

    fn axis(&self, from: LabTime, slice: LabTime, y: u16, buffer: &mut Buffer) {
        let p = self.stage.palette;
        let end = self.x + self.columns as u16;
        for column in (0..self.columns).step_by(25) {
            let at = from.plus(LabTime(slice.0 * column as u64));
            // The playhead's own label goes before.
            if column + 8 < self.columns && (column + 9 < self.head || column > self.head + 5) {
                write(buffer, (self.x + column as u16, y), end, &[(&at.to_string(), p.text(Tone::Muted))]);
            }
        }
        let label = if self.stage.is_live() { "now" } else { "here" };
        let style = if self.stage.is_live() { p.text(Tone::Bright) } else { p.text(Tone::Correction) };
        let at = (self.head.min(self.columns.saturating_sub(label.len()))) as u16;
        write(buffer, (self.x + at, y), end, &[(label, style)]);
    }
}
