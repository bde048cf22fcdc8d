//! The hands at the helm: which key gives which input of the rule, and what is down now.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_core::InputKind;
use velocitas_gait::keys::{Key, parts};

use super::canvas::{frame, write};
use super::driving::{Driving, Hand};
use super::palette::Tone;
use super::stage::Stage;

/// Rows of the box, with its frame.
pub(super) fn rows(stage: &Stage) -> u16 {
    stage.helm.driving.hands().len() as u16 + 2
}

/// What is down now, a row an input.
pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let how = if stage.helm.driving.releases { "keys hold" } else { "keys latch: no releases told here" };
    let inner = frame(stage.palette, area, &format!("hands {} {how}", p.dot()), buffer);
    for (row, hand) in stage.helm.driving.hands().iter().enumerate() {
        let at = (inner.x + 1, inner.y + row as u16);
        if at.1 >= inner.bottom() {
            break;
        }
        let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
        let mut pieces: Vec<(String, Style)> = Vec::new();
        let width: usize = hand.keys.iter().map(|key| key.to_string().len() + 1).sum();
        for (part, key) in hand.keys.iter().enumerate() {
            let style = if hand.is_down(part) { p.badge(Tone::Predicted) } else { p.chosen() };
            pieces.push((key.to_string(), style));
            pieces.push((" ".to_owned(), text));
        }
        if hand.keys.is_empty() {
            pieces.push(("no key ".to_owned(), muted));
        }
        pieces.push((" ".repeat(12usize.saturating_sub(width.max(7 * usize::from(hand.keys.is_empty())))), text));
        pieces.push((format!("{:<12}", hand.field.name), text));
        pieces.push(said(stage, hand));
        let pieces: Vec<(&str, Style)> = pieces.iter().map(|(text, style)| (text.as_str(), *style)).collect();
        write(buffer, at, inner.right(), &pieces);
    }
}

/// What an input is given now.
fn said(stage: &Stage, hand: &Hand) -> (String, Style) {
    let p = stage.palette;
    let now = &stage.helm.driving;
    let (is_given, said) = match hand.field.kind {
        InputKind::Held => (hand.is_down(0), if hand.is_down(0) { "down" } else { "up" }.to_owned()),
        InputKind::Press => (false, format!("pressed {} times", hand.presses())),
        InputKind::Bearing { .. } => (false, format!("{:.0}\u{b0}", now.facing().to_degrees())),
        InputKind::Pitch { .. } => (false, format!("{:+.0}\u{b0}", now.pitch().to_degrees())),
        InputKind::Point { .. } => (false, ordered(now)),
        InputKind::Stick { .. } | InputKind::Axis { .. } => {
            let down: Vec<&str> = parts(hand.field.kind)
                .iter()
                .enumerate()
                .filter(|(part, _)| hand.is_down(*part))
                .map(|(_, name)| *name)
                .collect();
            (!down.is_empty(), if down.is_empty() { "at rest".to_owned() } else { down.join(" ") })
        }
    };
    (said, p.text(if is_given { Tone::Bright } else { Tone::Muted }))
}

fn ordered(driving: &Driving) -> String {
    let place = |(x, y): (f32, f32)| format!("{x:.1} {y:.1}");
    match (driving.ordered(), driving.cursor()) {
        (Some(to), _) => format!("ordered to {}", place(to)),
        (None, Some(cursor)) => format!("cursor {}", place(cursor)),
        (None, None) => "no order yet".to_owned(),
    }
}

/// Keys with a word or two for the key line and a line for the help page: those of the rule, then those of the mode.
pub(super) fn bindings(driving: &Driving) -> Vec<(String, String, String)> {
    let joined = |keys: &[Key]| keys.iter().map(Key::to_string).collect::<Vec<_>>().join(" ");
    let of_rule = driving.hands().iter().filter(|hand| !hand.keys.is_empty());
    let says = |hand: &Hand| format!("{}: {}", hand.field.name, parts(hand.field.kind).join(", "));
    let mut all: Vec<(String, String, String)> =
        of_rule.map(|hand| (joined(&hand.keys), hand.field.name.to_owned(), says(hand))).collect();
    let mut add = |key: &str, hint: &str, help: &str| all.push((key.to_owned(), hint.to_owned(), help.to_owned()));
    if let Some(key) = driving.order_key() {
        if !driving.hands().iter().any(|hand| hand.keys.contains(&key)) {
            add(
                &key.to_string(),
                "order",
                "order what it owns and what takes orders, ahead of it or where the cursor is",
            );
        }
        let arrows = if driving.arrows_are_free() { "arrows click" } else { "S-arrows click" };
        add(arrows, "aim", "the cursor: where the next order goes; a click orders at once");
    }
    add("x", "stop", "let everything go");
    add("Esc", "leave", "leave: it stands");
    add("h", "script", "hand back to the script");
    add("C-t", "track", "keep what hands do as a track; again: stop and write it");
    all
}
