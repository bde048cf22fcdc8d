//! Drawing the list of knobs.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_analysis::cause::shown;
use velocitas_record::knob::Knobs;
use velocitas_record::{Group, KNOBS, Knob, KnobSpec, Range};

use super::canvas::{frame, wrapped, write};
use super::palette::{Palette, Tone};
use super::stage::Stage;
use super::stage::knob_list::{KnobList, Line};

/// Lines below the list, for what the chosen one is; one less where there is little room.
const HELP: usize = 3;
/// So many rows are little room.
const LITTLE: u16 = 9;

/// Rows that it would take with its frame, if there were room.
pub(super) fn rows(list: &KnobList) -> u16 {
    (list.lines().len() + HELP + 2) as u16
}

/// Draws it as it was set at the moment of the live edge; what does not fit is scrolled to.
pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let (p, list) = (stage.palette, &stage.selected.knobs);
    let (name, place) = (stage.name(stage.selected.entity), list.chosen() + 1);
    let title = format!("knobs of {name} (set) {} {place} of {}", p.dot(), KNOBS.len());
    let inner = frame(p, area, &title, buffer);
    let values = stage.run.lab().knobs(stage.selected.entity);
    let (lines, chosen) = (list.lines(), list.chosen_line());
    let below = if inner.height <= LITTLE { HELP - 1 } else { HELP };
    let room = usize::from(inner.height).saturating_sub(below).max(1);
    let at = lines.iter().position(|line| *line == chosen).unwrap_or_default();
    // Of what follows, one line stays in sight where there is room, so that it is seen to go on.
    let in_sight = at + 1 + usize::from(room > 1);
    let first = in_sight.saturating_sub(room).min(lines.len().saturating_sub(room));
    let shown = lines.iter().skip(first).take(room);
    for (line, y) in shown.zip(inner.y..inner.bottom()) {
        let pieces = match line {
            Line::Head(group) => head(p, list.is_folded(*group), *group, values, *line == chosen),
            Line::Knob(place) => knob(p, KNOBS[*place], values, *line == chosen),
        };
        let pieces: Vec<(&str, Style)> = pieces.iter().map(|(text, style)| (text.as_str(), *style)).collect();
        write(buffer, (inner.x + 1, y), inner.right(), &pieces);
    }
    let mut help = wrapped(&help(list, chosen, values), usize::from(inner.width).saturating_sub(2));
    if help.len() > below {
        help.truncate(below);
        help[below - 1].push('\u{2026}');
    }
    for (line, y) in help.iter().zip(inner.bottom().saturating_sub(below as u16)..inner.bottom()) {
        write(buffer, (inner.x + 1, y), inner.right(), &[(line, p.text(Tone::Muted))]);
    }
}

type Pieces = Vec<(String, Style)>;

/// The line of a group: whether it is open, and where it is folded how many of it are not as usual.
fn head(p: Palette, is_folded: bool, group: Group, values: &Knobs, is_chosen: bool) -> Pieces {
    let style = if is_chosen { p.chosen() } else { p.text(Tone::Text) };
    let mut pieces = vec![(format!("{} {:<13}", p.fold(is_folded), group.name()), style)];
    if is_folded {
        let of_it: Vec<Knob> = KNOBS.iter().filter(|spec| spec.group == group).map(|spec| spec.knob).collect();
        let set = of_it.iter().filter(|knob| knob.get(values) != knob.get(&Knobs::USUAL)).count();
        let said = match (set, of_it.len()) {
            (0, 1) => "1 knob, at its default".to_owned(),
            (1, 1) => "1 knob, not at its default".to_owned(),
            (0, all) => format!("{all} knobs at their defaults"),
            (set, all) => format!("{set} of {all} not at default"),
        };
        pieces.push((said, p.text(Tone::Muted)));
    }
    pieces
}

/// The line of a knob, with handles where it can be turned by left and right.
fn knob(p: Palette, spec: &KnobSpec, values: &Knobs, is_chosen: bool) -> Pieces {
    let value = shown(spec.knob, spec.knob.get(values));
    let plain = (p.text(Tone::Muted), p.text(Tone::Text));
    let (name, number) = if is_chosen { (p.chosen(), p.chosen()) } else { plain };
    let (less, more) = p.handles();
    let mark = if is_chosen { p.mark() } else { " " };
    let handles = if spec.range == Range::Switch || !is_chosen { (" ", " ") } else { (less, more) };
    vec![(format!("{mark} {:<22}", spec.name), name), (format!("{} {value:>8} {}", handles.0, handles.1), number)]
}

/// What the chosen one is.
fn help(list: &KnobList, chosen: Line, values: &Knobs) -> String {
    let knob = list.knob();
    match (chosen, knob.chosen(knob.get(values))) {
        (Line::Head(group), _) => format!("{}; e or right opens it", group.help()),
        (_, Some(choice)) => format!("{}: {}", choice.name, choice.does),
        (_, None) => knob.spec().help.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_each_knob_and_each_choice_does_fits_below_the_list() {
        // The panel's width without its frame and margins.
        const WIDTH: usize = 43;
        for spec in KNOBS.iter() {
            let ways = spec.knob.choices().iter().map(|choice| format!("{}: {}", choice.name, choice.does));
            for said in ways.chain([spec.help.to_owned()]) {
                assert!(wrapped(&said, WIDTH).len() <= HELP, "{}: {said}", spec.name);
            }
        }
    }
}
