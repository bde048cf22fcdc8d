//! The last row: what keys do now, or what has just been said.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::action::Screen;
use super::bindings::{BINDINGS, Binding};
use super::canvas::write;
use super::hands;
use super::palette::Tone;
use super::stage::Stage;
use super::stage::lines::{Prompt, Typing};

pub(super) fn draw(stage: &Stage, screen: Screen, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
    let at = (area.x + 1, area.y);
    if let Some(typing) = &stage.lines.typing {
        return typed(stage, typing, area, buffer);
    }
    if let Some(prompt) = &stage.lines.prompt {
        return prompted(stage, prompt, area, buffer);
    }
    if let Some(offer) = &stage.branching.offered {
        let with = format!("begin a branch from {} with {}   ", stage.at, offer.change.words);
        let pieces = [("Enter ", key), (with.as_str(), p.text(Tone::Bright)), ("Esc ", key), ("let it be", muted)];
        write(buffer, at, area.right(), &pieces);
        return;
    }
    if let Some(notice) = stage.notice() {
        write(buffer, at, area.right(), &[(notice, p.text(Tone::Bright))]);
        return;
    }
    if stage.drives() {
        return driven(stage, area, buffer);
    }
    let mut x = at.0;
    if stage.run.is_over() {
        let pieces = [("End ", key), ("its end", muted), ("   C-r ", key), ("run its course", muted), ("   ", muted)];
        x = write(buffer, at, area.right(), &pieces);
    } else if !stage.is_live() {
        let pieces = [("End ", key), ("live", muted), ("   Enter ", key), ("resume from here", muted), ("   ", muted)];
        x = write(buffer, at, area.right(), &pieces);
    }
    // What only this screen has goes before what all of them have.
    let here = BINDINGS.iter().filter(|b| !b.hint.is_empty() && b.is_on(screen) && stage.offers(b.action));
    let (mine, shared): (Vec<&Binding>, Vec<&Binding>) = here.partition(|b| !b.on.is_empty());
    for binding in mine.into_iter().chain(shared) {
        let width = (binding.key.len() + 1 + binding.hint.len() + 3) as u16;
        if x + width > area.right() {
            break;
        }
        x = write(
            buffer,
            (x, area.y),
            area.right(),
            &[(binding.key, key), (" ", text), (binding.hint, muted), ("   ", text)],
        );
    }
}

/// The line that is being typed, and what can follow or what is wrong with it.
fn prompted(stage: &Stage, prompt: &Prompt, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let pieces = [(":", p.chosen()), (prompt.text.as_str(), p.text(Tone::Bright)), ("_   ", p.chosen())];
    let x = write(buffer, (area.x + 1, area.y), area.right(), &pieces);
    let (hint, tone) = match &prompt.wrong {
        Some(why) => (why.clone(), Tone::Correction),
        None => (stage.prompt_hint(), Tone::Muted),
    };
    write(buffer, (x, area.y), area.right(), &[(&hint, p.text(tone))]);
}

/// Who is driven, and the keys that do it.
fn driven(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
    let at = (area.x + 1, area.y);
    let name = format!(" driving {} ", stage.name(stage.at_helm()));
    let mut x = write(buffer, at, area.right(), &[(&name, p.badge(Tone::Predicted)), ("  ", text)]);
    if let Some(lasts) = stage.recorded() {
        let kept = format!("keeping a track: {:.1} s", lasts.secs());
        x = write(
            buffer,
            (x, area.y),
            area.right(),
            &[(&kept, p.text(Tone::Bright)), ("   C-t ", key), ("stop", muted), ("   ", text)],
        );
    }
    for (keys, what, _) in hands::bindings(&stage.helm.driving) {
        let width = (keys.chars().count() + what.chars().count() + 4) as u16;
        if x + width > area.right() {
            break;
        }
        x = write(buffer, (x, area.y), area.right(), &[(&keys, key), (" ", text), (&what, muted), ("   ", text)]);
    }
}

/// The value that is being typed for a knob.
fn typed(stage: &Stage, typing: &Typing, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let (muted, key) = (p.text(Tone::Muted), p.chosen());
    let spec = stage.chosen_knob().spec();
    let (name, text) = (format!(" {} ", spec.name), format!("  {}", typing.text));
    let unit = format!(" {}   ", spec.unit);
    let x = write(
        buffer,
        (area.x + 1, area.y),
        area.right(),
        &[(&name, p.badge(Tone::Predicted)), (&text, p.text(Tone::Bright)), ("_", key), (&unit, muted)],
    );
    let hints = [("Enter ", key), ("set   ", muted), ("Esc ", key), ("cancel", muted)];
    match &typing.wrong {
        Some(why) => write(buffer, (x, area.y), area.right(), &[(why, p.text(Tone::Correction))]),
        None => write(buffer, (x, area.y), area.right(), &hints),
    };
}
