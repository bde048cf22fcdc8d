//! The help page: every key, from the table, and what the shapes mean.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget};

use super::action::BINDINGS;
use super::palette::Tone;
use super::screen::popup;
use super::stage::Stage;

pub(super) fn draw(stage: &Stage, area: Rect, scrolled: u16, buffer: &mut Buffer) {
    let lines = lines(stage);
    let wanted = lines.len() as u16 + 2;
    let most = wanted.saturating_sub(wanted.min(area.height.saturating_sub(2)));
    let title = if most > 0 { "help \u{b7} up and down scroll, Esc closes" } else { "help \u{b7} Esc closes" };
    let inner = popup(stage, area, (86, wanted), title, buffer);
    Paragraph::new(lines).scroll((scrolled.min(most), 0)).render(inner, buffer);
}

fn lines(stage: &Stage) -> Vec<Line<'static>> {
    let p = stage.palette;
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let glyph = |c: char, style| Span::styled(format!(" {c} "), style);
    let say = |s: &'static str| Span::styled(s, text);
    let mut lines = vec![
        Line::from(vec![
            glyph(p.predicted(), p.text(Tone::Predicted)),
            say("predicted by its owner    "),
            glyph(p.authority(), p.text(Tone::Authority)),
            say("the server's    "),
            glyph(p.drawn(), p.text(Tone::Drawn)),
            say("drawn by the viewer"),
        ]),
        Line::from(vec![
            glyph(p.predicted_hollow(), p.text(Tone::Predicted)),
            say("predicted in the branch   "),
            glyph(p.authority_hollow(), p.text(Tone::Authority)),
            say("the server's in the branch"),
        ]),
        Line::from(vec![
            glyph(p.correction(), p.text(Tone::Correction)),
            say("corrected    "),
            glyph('!', p.verdict()),
            say(" refused by the guard"),
        ]),
        Line::from(vec![
            glyph('+', p.text(Tone::Bright)),
            say("came    "),
            glyph('-', p.text(Tone::Bright)),
            say("went    "),
            glyph(p.order(), p.text(Tone::Predicted)),
            say("where the viewer ordered what it shares with others"),
        ]),
        Line::from(vec![
            glyph(p.late(), p.text(Tone::Predicted)),
            say("input late    "),
            glyph(p.made_up(), p.text(Tone::Predicted)),
            say("made up    "),
            glyph(p.lost(), muted),
            say("datagram lost"),
        ]),
        Line::from(Span::styled(
            " The owner runs ahead: that distance is lag, not error. Only the same tick is compared.",
            muted,
        )),
        Line::default(),
    ];
    for binding in &BINDINGS {
        lines.push(Line::from(vec![
            Span::styled(format!(" {:>9}  ", binding.name()), p.chosen()),
            Span::styled(binding.help, text),
        ]));
    }
    lines.push(Line::default());
    lines.push(Line::from(vec![
        Span::styled(format!(" At the helm of {}", stage.name(stage.at_helm())), p.chosen()),
        Span::styled("  where the terminal does not tell of releases, keys latch", muted),
    ]));
    for (key, _, what) in super::hands::bindings(&stage.hands_at_helm()) {
        lines.push(Line::from(vec![Span::styled(format!(" {key:>15}  "), p.chosen()), Span::styled(what, text)]));
    }
    lines
}
