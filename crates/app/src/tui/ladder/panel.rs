//! What stands beside the ladder: the way that is followed, leg by leg, and the chosen message, field by field.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_analysis::crossing::{Crossing, Exchange};
use velocitas_analysis::follow::Way;
use velocitas_core::{FieldValue, WireField};
use velocitas_lab::packet::Packet;
use velocitas_record::LabTime;
use velocitas_report::drawing::told;
use velocitas_report::station;

use super::Ladder;
use crate::tui::canvas::{frame, wrapped, write};
use crate::tui::palette::Tone;
use crate::tui::panel;
use crate::tui::stage::Stage;

/// A line of pieces.
type Line = Vec<(String, Style)>;

pub(super) fn draw(ladder: &Ladder, stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let mut rest = area;
    if let Some(way) = &ladder.way {
        let lines = way_lines(stage, way);
        let height = (lines.len() as u16 + 2).min(rest.height);
        let title = format!("the way of input {}", stage.run.record().shown(way.tick));
        boxed(stage, &title, &lines, 0, Rect { height, ..rest }, buffer);
        rest = Rect { y: rest.y + height, height: rest.height - height, ..rest };
    }
    if rest.height < 4 {
        return;
    }
    match (&ladder.chosen, &ladder.packet) {
        (Some(chosen), Some(read)) => {
            let record = stage.run.record();
            let title = format!("{}, {} bytes", chosen.words(record), chosen.row.bytes);
            let lines = message_lines(stage, chosen, read);
            let most = lines.len().saturating_sub(usize::from(rest.height) - 2);
            boxed(stage, &title, &lines, ladder.scrolled.min(most), rest, buffer);
        }
        _ if rest.height > 30 => {
            let height = rest.height - 6;
            panel::beliefs_of(stage, Rect { height, ..rest }, buffer);
            let muted = stage.palette.text(Tone::Muted);
            let said = "up and down choose a message: it opens here, field by field. i follows the newest press.";
            let lines: Vec<Line> = wrapped(said, 42).into_iter().map(|line| vec![(line, muted)]).collect();
            boxed(stage, "no message is chosen", &lines, 0, Rect { y: rest.y + height, height: 6, ..rest }, buffer);
        }
        _ => panel::beliefs_of(stage, rest, buffer),
    }
}

fn boxed(stage: &Stage, title: &str, lines: &[Line], scrolled: usize, area: Rect, buffer: &mut Buffer) {
    let inner = frame(stage.palette, area, title, buffer);
    let room = usize::from(inner.height);
    for (row, line) in lines.iter().skip(scrolled).take(room).enumerate() {
        let pieces: Vec<(&str, Style)> = line.iter().map(|(text, style)| (text.as_str(), *style)).collect();
        write(buffer, (inner.x + 1, inner.y + row as u16), inner.right(), &pieces);
    }
    let left = lines.len().saturating_sub(scrolled + room);
    if left > 0 {
        let said = format!(" {left} more: PgDn ");
        let x = area.right().saturating_sub(said.len() as u16 + 2);
        write(buffer, (x, area.bottom() - 1), area.right(), &[(&said, stage.palette.text(Tone::Muted))]);
    }
}

/// Each station with how long after the first it was, and its own leg.
fn way_lines(stage: &Stage, way: &Way) -> Vec<Line> {
    let p = stage.palette;
    let (text, muted, bright) = (p.text(Tone::Text), p.text(Tone::Muted), p.text(Tone::Bright));
    let first = way.stops.first().map_or(LabTime::ZERO, |stop| stop.at);
    let mut lines = vec![vec![("   after   leg  station".to_owned(), muted)]];
    for stop in &way.stops {
        let leg = way.leg(stop).map_or_else(String::new, |leg| format!("{:.0}", leg.millis()));
        let tone = if stop.machine == velocitas_record::MachineId::SERVER { Tone::Authority } else { Tone::Text };
        lines.push(vec![
            (format!("{:>5.0} ms", stop.at.minus(first).millis()), bright),
            (format!(" {leg:>5}  "), muted),
            (station(stage.run.record(), way, stop), p.text(tone)),
        ]);
    }
    lines.push(vec![(format!("{:>5.0} ms", way.lasts().millis()), bright), ("        in all".to_owned(), text)]);
    lines
}

fn message_lines(stage: &Stage, chosen: &Crossing, read: &Result<Packet, String>) -> Vec<Line> {
    let p = stage.palette;
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let record = stage.run.record();
    let said = |name: &str, value: String| vec![(format!("{name:<9}"), muted), (value, text)];
    let [from, to] = [chosen.from, chosen.to].map(|machine| record.cast.name(machine));
    let mut lines = vec![said("goes", format!("from {from} to {to}"))];
    let age = stage.at.0.checked_sub(chosen.row.at.0).map(|age| format!(", {:.0} ms ago", LabTime(age).millis()));
    lines.push(said("left", format!("{}{}", chosen.row.at, age.unwrap_or_default())));
    let took = chosen.row.arrived.map(|at| format!(" after {:.1} ms", at.minus(chosen.row.at).millis()));
    lines.push(said("became", format!("{}{}", chosen.fate(record, stage.run.now()), took.unwrap_or_default())));
    if let Some((number, again)) = chosen.row.piece {
        lines.push(said("stream", format!("piece {number}{}", if again { ", sent again" } else { "" })));
    }
    if let Some((since, until)) = chosen.held_back(record).filter(|(since, _)| *since <= stage.run.now()) {
        let waited = until.min(stage.run.now()).minus(since).millis();
        lines.push(said("waited", format!("{waited:.0} ms for one sent before it")));
    }
    match read {
        Err(why) => {
            lines.extend(wrapped(why, 42).into_iter().map(|line| vec![(line, p.text(Tone::Correction))]));
        }
        Ok(packet) => {
            let answers = packet.answers.as_ref().map_or_else(
                || "nothing yet".to_owned(),
                |c| {
                    let ago = chosen.row.at.minus(c.row.arrived.unwrap_or(c.row.at)).millis();
                    format!("{}, came {ago:.0} ms before", c.words(record))
                },
            );
            lines.push(said("answers", answers));
            let arrived =
                packet.answers.as_ref().filter(|_| chosen.row.arrived.is_some_and(|at| at <= stage.run.now()));
            if let Some(exchange) = arrived.and_then(|c| Exchange::of(&c.row, &chosen.row)) {
                let Exchange { there, kept, back } = exchange;
                let [there, kept, back] = [there, kept, back].map(LabTime::millis);
                lines.push(said("exchange", format!("{there:.0} ms there, {kept:.0} kept, {back:.0} back")));
                lines.push(said("", format!("its middle is {:.1} ms off", exchange.misleads().abs())));
            }
            lines.push(vec![(" bits  field".to_owned(), muted)]);
            // The envelope is the same for all of them.
            let (envelope, message): (Vec<_>, Vec<_>) = packet.fields.iter().partition(|field| field.of_envelope);
            lines.extend(message.into_iter().map(|field| field_line(stage, field)));
            lines.push(vec![("       the envelope".to_owned(), muted)]);
            lines.extend(envelope.into_iter().map(|field| field_line(stage, field)));
        }
    }
    lines
}

fn field_line(stage: &Stage, field: &WireField) -> Line {
    let p = stage.palette;
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let record = stage.run.record();
    let value = match &field.value {
        FieldValue::Number(n) => n.to_string(),
        FieldValue::Quarters(n) => told(f64::from(*n) / 4.0, "ticks"),
        FieldValue::Flag(yes) => if *yes { "yes" } else { "no" }.to_owned(),
        FieldValue::Real(x, unit) => told(f64::from(*x), unit),
        // As it travels, its low sixteen bits.
        FieldValue::Tick(tick) => tick.0.to_string(),
        FieldValue::Entity(id) => record.cast.actor(*id).map_or_else(
            || format!("{} of generation {}", id.index, id.generation),
            |actor| record.cast.actors[actor.index()].name.clone(),
        ),
        FieldValue::Words(words) => words.clone(),
        FieldValue::Nothing => "-".to_owned(),
    };
    let indent = if field.of.is_some() && field.name != "entity" { "  " } else { "" };
    let name = format!("{indent}{}", field.name);
    vec![(format!("{:>5}  ", field.bits), muted), (format!("{name:<20}"), muted), (value, text)]
}
