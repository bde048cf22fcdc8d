//! The help page: the keys that work here, those that work everywhere, and what every glyph means. Typing searches it.

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget};

use super::action::Screen;
use super::bindings::BINDINGS;
use super::canvas::{clear, popup, wrapped};
use super::hands;
use super::palette::Tone;
use super::panel::FIGURES;
use super::popup::{Popup, Pressed, Room};
use super::rail;
use super::stage::Stage;
use super::view::{Glyph, Under};

/// From this width on there are two columns.
const TWO: u16 = 100;
/// Columns before what a key or a glyph means.
const NAMES: usize = 11;
/// The longest that can be searched for.
const MOST: usize = 40;

/// The page, while it is open.
pub(super) struct Help {
    typed: String,
    scrolled: u16,
    /// The screen that it is of, and every glyph on it.
    under: Under,
}

impl Help {
    /// The page of a screen with its glyphs.
    pub(super) const fn of(under: Under) -> Self {
        Self { typed: String::new(), scrolled: 0, under }
    }

    fn finds(&self, entry: &Entry) -> bool {
        let typed = self.typed.to_lowercase();
        [&entry.name, &entry.said, entry.hint].into_iter().any(|words: &str| words.to_lowercase().contains(&typed))
    }
}

impl Popup for Help {
    fn is_modal(&self) -> bool {
        true
    }

    fn outlives_the_run(&self) -> bool {
        true
    }

    fn key(&mut self, _: &mut Stage, key: &KeyEvent) -> Pressed {
        if key.kind == KeyEventKind::Release {
            // Who drives lets go also while it is open.
            return Pressed::NotMine;
        }
        match key.code {
            KeyCode::Esc | KeyCode::Enter => return Pressed::Closes,
            KeyCode::Char('?') if self.typed.is_empty() => return Pressed::Closes,
            KeyCode::Down => self.scrolled = self.scrolled.saturating_add(1),
            KeyCode::Up => self.scrolled = self.scrolled.saturating_sub(1),
            KeyCode::PageDown => self.scrolled = self.scrolled.saturating_add(10),
            KeyCode::PageUp => self.scrolled = self.scrolled.saturating_sub(10),
            KeyCode::Backspace => drop(self.typed.pop()),
            KeyCode::Char(c) if self.typed.len() < MOST && key.modifiers.difference(KeyModifiers::SHIFT).is_empty() => {
                (self.scrolled, _) = (0, self.typed.push(c));
            }
            _ => {}
        }
        Pressed::Taken
    }

    fn draw(&self, stage: &Stage, room: Room, buffer: &mut Buffer) {
        draw(stage, self, room.whole, buffer);
    }
}

/// A key or a glyph, and what it means.
struct Entry {
    name: String,
    style: Style,
    said: String,
    /// The word on the key line.
    hint: &'static str,
}

/// What belongs together.
struct Section {
    title: String,
    entries: Vec<Entry>,
}

fn draw(stage: &Stage, help: &Help, area: Rect, buffer: &mut Buffer) {
    let (screen, glyphs) = (help.under.screen, help.under.glyphs.clone());
    let width = area.width.saturating_sub(4).min(156);
    let columns: u16 = if width >= TWO { 2 } else { 1 };
    let each = (width - 2) / columns;
    let lines = lines(stage, &sections(stage, screen, glyphs), help, usize::from(each) - 1);
    let room = area.height.saturating_sub(4);
    let mut rows = (lines.len() as u16).div_ceil(columns).clamp(8, room.max(8));
    // What is said of a key stands together.
    while rows < room && lines.get(usize::from(rows)).is_some_and(|(_, goes_on)| *goes_on) {
        rows += 1;
    }
    let most = (lines.len() as u16).saturating_sub(rows * columns);
    let scroll = if most > 0 { ", up and down scroll" } else { "" };
    let title = match &help.typed {
        typed if typed.is_empty() => format!("help: type to search{scroll}, Esc closes"),
        typed => format!("help: {typed}_{scroll}, Esc closes"),
    };
    // What lies behind would show at its sides only, and say nothing.
    let behind = Rect { y: area.y + 1, height: area.height.saturating_sub(2), ..area };
    clear(stage.palette, behind, buffer);
    let inner = popup(stage.palette, area, (width, rows + 2), &title, buffer);
    for column in 0..columns {
        let place = Rect { x: inner.x + column * each, width: each.min(inner.width), ..inner };
        let from = help.scrolled.min(most) + column * inner.height;
        let part: Vec<Line<'_>> = lines
            .iter()
            .skip(usize::from(from))
            .take(usize::from(inner.height))
            .map(|(line, _)| line.clone())
            .collect();
        Paragraph::new(part).render(place, buffer);
    }
}

fn sections(stage: &Stage, screen: Screen, glyphs: Vec<Glyph>) -> Vec<Section> {
    let p = stage.palette;
    let keys = |here: bool| {
        let of = BINDINGS.iter().filter(move |b| b.is_on(screen) && b.on.is_empty() != here);
        of.map(|b| Entry { name: b.name(), style: p.chosen(), said: b.help.to_owned(), hint: b.hint }).collect()
    };
    let shapes = |glyphs: Vec<Glyph>| {
        glyphs
            .into_iter()
            .map(|(c, style, said)| Entry { name: c.to_string(), style, said: said.to_owned(), hint: "" })
            .collect()
    };
    let figures = FIGURES.iter().map(|(name, said)| Entry {
        name: (*name).to_owned(),
        style: p.text(Tone::Bright),
        said: (*said).to_owned(),
        hint: "",
    });
    let hands = hands::bindings(&stage.hands_at_helm()).into_iter();
    let hands = hands.map(|(key, _, what)| Entry { name: key, style: p.chosen(), said: what, hint: "" });
    vec![
        Section { title: "on this screen".to_owned(), entries: keys(true) },
        Section { title: "what is drawn here".to_owned(), entries: shapes(glyphs) },
        Section { title: "on the rail".to_owned(), entries: shapes(rail::glyphs(p)) },
        Section { title: "on every screen".to_owned(), entries: keys(false) },
        Section { title: "figures in the panel".to_owned(), entries: figures.collect() },
        Section { title: format!("at the helm of {}", stage.name(stage.at_helm())), entries: hands.collect() },
    ]
}

/// The lines, and of each whether it goes on with what the one before says.
fn lines(stage: &Stage, sections: &[Section], help: &Help, width: usize) -> Vec<(Line<'static>, bool)> {
    let (text, muted) = (stage.palette.text(Tone::Text), stage.palette.text(Tone::Muted));
    let mut lines = Vec::new();
    for section in sections {
        let found: Vec<&Entry> = section.entries.iter().filter(|entry| help.finds(entry)).collect();
        if found.is_empty() {
            continue;
        }
        if !lines.is_empty() {
            lines.push((Line::default(), false));
        }
        lines.push((Line::from(Span::styled(format!(" {}", section.title), muted)), false));
        for Entry { name, style, said, .. } in found {
            // A long key stands on a line of its own.
            let (indent, alone) = (NAMES + 2, name.chars().count() > NAMES);
            for (row, part) in wrapped(said, width.saturating_sub(indent + 1)).into_iter().enumerate() {
                let shown = if row == 0 && !alone { name.as_str() } else { "" };
                if row == 0 && alone {
                    lines.push((Line::from(Span::styled(format!(" {name}"), *style)), false));
                }
                // What stands on a ground of its own does so no wider than it is.
                let before = " ".repeat(1 + NAMES - shown.chars().count());
                let key = Span::styled(shown.to_owned(), *style);
                let pieces = [Span::raw(before), key, Span::raw(" "), Span::styled(part, text)];
                lines.push((Line::from(pieces.to_vec()), row > 0 || alone));
            }
        }
    }
    if lines.is_empty() {
        let said = format!(" nothing here is called or does `{}`: Backspace takes letters back", help.typed);
        lines.extend(wrapped(&said, width).into_iter().map(|line| (Line::from(Span::styled(line, muted)), true)));
    }
    lines
}
