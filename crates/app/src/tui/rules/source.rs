//! The text of a rule with line numbers, its pieces told apart, and what is wrong with it under the line.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use velocitas_gait::{Class, Diagnostic, Severity, SourcePosition};

use super::Both;
use crate::sources::Source;
use crate::tui::canvas::{frame, wrapped, write};
use crate::tui::palette::{Palette, Tone};
use crate::tui::stage::Stage;

/// Columns before the text.
const GUTTER: u16 = 6;

pub(super) fn draw(stage: &Stage, scroll: usize, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let both = Both::of(stage);
    let rule = both.rule();
    let dot = p.dot();
    let Some(source) = stage.edits.source(both.kind) else {
        let inner = frame(stage.palette, area, &format!("Rules {dot} {}", rule.name()), buffer);
        let said = if rule.is_here() {
            "this rule is written in Rust: there is no text to show or edit; its tunables can be turned"
        } else {
            "this rule is written in Rust and is not in this program: what its fields mean the record tells"
        };
        for (i, line) in wrapped(said, usize::from(inner.width.saturating_sub(4))).iter().enumerate() {
            write(buffer, (inner.x + 2, inner.y + 1 + i as u16), inner.right(), &[(line, p.text(Tone::Muted))]);
        }
        return;
    };
    let inner = frame(stage.palette, area, &format!("Rules {dot} {} {dot} {}", rule.name(), source.name), buffer);
    let body = status(stage, &both, source, inner, buffer);
    text(stage, source, scroll, body, buffer);
}

/// One row that says what is in force. Returns what is left of the area.
fn status(stage: &Stage, both: &Both<'_>, source: &Source, area: Rect, buffer: &mut Buffer) -> Rect {
    let p = stage.palette;
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let name = stage.name(stage.selected.entity);
    let reach = if stage.edits.one_only { format!("{name} only") } else { "all machines".to_owned() };
    let at = (area.x + 1, area.y);
    if let Some(trouble) = &source.trouble {
        let badge = format!(" BROKEN EDIT: {trouble} ");
        write(buffer, at, area.right(), &[(&badge, p.badge(Tone::Correction)), (" the last good rule runs on", text)]);
    } else if source.waiting.is_some() {
        write(
            buffer,
            at,
            area.right(),
            &[(" WAITING ", p.badge(Tone::Predicted)), (" the edit takes effect live: press End", text)],
        );
    } else {
        let state = if both.versions_differ() {
            format!(" {name} RUNS ANOTHER VERSION THAN THE SERVER ")
        } else {
            " IN FORCE ".to_owned()
        };
        let tone = if both.versions_differ() { Tone::Correction } else { Tone::Drawn };
        let how = match &source.path {
            Some(_) => format!("  e edits it; saved edits reach {reach} (a)"),
            None => "  built in; `velocitas new FOLDER` makes a course with files to edit".to_owned(),
        };
        let since = stage.run.record().changes.iter().rev().find_map(|c| match &c.what {
            velocitas_record::Changed::Reloaded { kind, .. } if *kind == both.kind => Some(c.tick),
            _ => None,
        });
        let since = since.map_or_else(String::new, |t| format!("since tick {}", stage.run.record().shown(t)));
        write(buffer, at, area.right(), &[(&state, p.badge(tone)), (&since, text), (&how, muted)]);
    }
    Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area }
}

fn style(p: Palette, class: Class) -> Style {
    match class {
        Class::Comment => p.text(Tone::Muted).add_modifier(Modifier::ITALIC),
        Class::Keyword => p.text(Tone::Bright).add_modifier(Modifier::BOLD),
        Class::Builtin => p.text(Tone::Bright),
        Class::Attribute => p.text(Tone::Muted),
        Class::Number | Class::Unit | Class::Plain => p.text(Tone::Text),
    }
}

/// The text from the line scrolled to, with diagnostics under their lines.
fn text(stage: &Stage, source: &Source, scroll: usize, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let said = &source.said;
    let lines: Vec<&str> = said.text.lines().collect();
    let first = scroll.min(lines.len().saturating_sub(1));
    let mut y = area.y;
    let mut start = lines.iter().take(first).map(|l| l.len()).sum::<usize>();
    // Line ends are one byte or two.
    start += line_ends(&source.said.text, first);
    let (from, room) = (area.x + GUTTER, area.right().saturating_sub(area.x + GUTTER));
    for (number, line) in lines.iter().enumerate().skip(first) {
        if y >= area.bottom() {
            break;
        }
        let gutter = format!("{:>4}  ", number + 1);
        write(buffer, (area.x, y), area.right(), &[(&gutter, p.text(Tone::Line))]);
        let shown = line.replace('\t', " ");
        buffer.set_stringn(from, y, &shown, usize::from(room), p.text(Tone::Text));
        let first = said.pieces.partition_point(|(s, _)| (s.start as usize) < start);
        for (span, class) in said.pieces[first..].iter().take_while(|(s, _)| (s.start as usize) < start + line.len()) {
            let column = line.get(..span.start as usize - start).map_or(0, |before| before.chars().count()) as u16;
            let width = span.of(&source.said.text).chars().count() as u16;
            let end = (column + width).min(room);
            for x in column..end {
                buffer[(from + x, y)].set_style(style(p, *class));
            }
        }
        if shown.chars().count() > usize::from(room) && room > 0 {
            // What is cut says so.
            let more = if p.is_ascii() { ">" } else { "\u{203a}" };
            buffer.set_string(area.right() - 1, y, more, p.text(Tone::Bright));
        }
        y += 1;
        for (d, _) in said.diagnostics.iter().zip(&said.lines).filter(|(_, line)| **line == number + 1) {
            y = diagnostic(p, source, d, Rect { y, height: area.bottom().saturating_sub(y), ..area }, buffer);
        }
        start += line.len() + line_end(&source.said.text[start + line.len()..]);
    }
    if first > 0 {
        let said = format!(" {first} lines above ");
        let x = area.right().saturating_sub(said.chars().count() as u16 + 1);
        buffer.set_string(x, area.y.saturating_sub(1), said, p.text(Tone::Muted));
    }
}

fn line_end(rest: &str) -> usize {
    if rest.starts_with("\r\n") { 2 } else { usize::from(rest.starts_with('\n')) }
}

/// Bytes of the first line ends.
fn line_ends(text: &str, lines: usize) -> usize {
    text.split_inclusive('\n').take(lines).map(|l| l.len() - l.lines().next().map_or(0, str::len)).sum()
}

/// The caret, what is wrong, what to do. Returns the next free row.
fn diagnostic(p: Palette, source: &Source, d: &Diagnostic, area: Rect, buffer: &mut Buffer) -> u16 {
    let place = SourcePosition::of(&source.said.text, d.span);
    let tone = if d.severity == Severity::Error { Tone::Correction } else { Tone::Bright };
    let column = (place.column - 1) as u16;
    let from = area.x + GUTTER;
    let width = usize::from(area.right().saturating_sub(from)).saturating_sub(2);
    let mut rows = Vec::new();
    let caret = format!("{:1$}{2}", "", usize::from(column).min(width), "^".repeat(place.width.min(width)));
    rows.push((caret, p.text(tone)));
    for line in wrapped(&format!("{}: {}", d.severity.name(), d.message), width.saturating_sub(2)) {
        rows.push((format!("  {line}"), p.text(tone)));
    }
    for said in [&d.why, &d.help].into_iter().flatten() {
        for line in wrapped(said, width.saturating_sub(2)) {
            rows.push((format!("  {line}"), p.text(Tone::Text)));
        }
    }
    let mut y = area.y;
    for (row, style) in rows {
        if y >= area.bottom() {
            break;
        }
        buffer.set_stringn(from, y, row, width, style);
        y += 1;
    }
    y
}
