//! The two rows on top: what is run, when we are, whose picture this is, and how the link does.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_core::ViewDelay;
use velocitas_record::{MachineId, Part};

use super::canvas::write;
use super::palette::Tone;
use super::screens::{SCREENS, Screen};
use super::stage::Stage;

pub(super) fn draw(stage: &Stage, shown: Screen, area: Rect, buffer: &mut Buffer, narrow: bool) {
    first(stage, area, buffer, narrow);
    second(stage, shown, area, buffer, narrow);
}

fn first(stage: &Stage, area: Rect, buffer: &mut Buffer, narrow: bool) {
    let p = stage.palette;
    let record = stage.run.record();
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let end = area.right();
    let mut x = write(
        buffer,
        (area.x + 1, area.y),
        end,
        &[("VELOCITAS", p.chosen()), ("  ", text), (&stage.run.course().name, text), ("  ", text)],
    );
    let (badge, style) = badge(stage);
    x = write(
        buffer,
        (x, area.y),
        end,
        &[(&format!(" {badge} "), style), (&format!("  {}", stage.at), p.text(Tone::Bright))],
    );
    if narrow {
        let names = format!("  {} on {}'s screen", stage.subject_name(), stage.name(stage.selected.viewer));
        write(buffer, (x, area.y), end, &[(&names, text)]);
        return;
    }
    let moment = stage.moment();
    let tick =
        |machine, part| moment.tick(machine, part).map_or_else(|| "-".to_owned(), |t| record.shown(t).to_string());
    let server = tick(MachineId::SERVER, Part::Server);
    let ticks = [
        ("server", server),
        (stage.name(stage.selected.entity), tick(stage.machine(stage.selected.entity), Part::Client)),
    ];
    let ticks = ticks.map(|(name, tick)| (name, format!("{tick:<6}")));
    let (entity, viewer) =
        ((stage.subject_name(), p.text(Tone::Predicted)), (stage.name(stage.selected.viewer), p.text(Tone::Drawn)));
    let long = [("looking at ", muted), entity, (" on the screen of ", muted), viewer];
    let short = [("", muted), entity, (" on the screen of ", muted), viewer];
    // Nothing is cut off: where not all of it fits, a word goes, then the ticks, which the panel shows too.
    let width = |pieces: &[(&str, Style)]| pieces.iter().map(|(words, _)| words.chars().count()).sum::<usize>() + 1;
    let counted = ticks.iter().map(|(name, tick)| 4 + name.chars().count() + tick.chars().count()).sum::<usize>();
    let room = usize::from(end.saturating_sub(x + 2));
    let (names, with_ticks) = match () {
        () if room >= counted + width(&long) => (long, true),
        () if room >= counted + width(&short) => (short, true),
        () => (if room >= width(&long) { long } else { short }, false),
    };
    for (name, tick) in ticks.iter().filter(|_| with_ticks) {
        x = write(buffer, (x, area.y), end, &[("   ", text), (name, muted), (" ", text), (tick, text)]);
    }
    let at = end.saturating_sub(width(&names) as u16).max(x + 2);
    write(buffer, (at, area.y), end, &names);
}

/// Live and looking back never look alike.
fn badge(stage: &Stage) -> (String, Style) {
    let p = stage.palette;
    if let Some((now, to)) = stage.reading() {
        return (format!("READING {now} of {to}"), p.badge(Tone::Predicted));
    }
    if stage.run.is_over() {
        return (format!("RECORD of {}", stage.run.now()), p.badge(Tone::Correction));
    }
    if !stage.is_live() {
        let back = stage.whole().now().minus(stage.at).secs();
        return (format!("BACK \u{2212}{back:.2} s"), p.badge(Tone::Correction));
    }
    if !stage.pace.running {
        return ("PAUSED".to_owned(), p.badge(Tone::Text));
    }
    match stage.pace.behind {
        Some(behind) => {
            (format!("LIVE {} behind {:.0} ms", stage.pace.speed_name(), behind * 1e3), p.badge(Tone::Predicted))
        }
        None => (format!("LIVE {}", stage.pace.speed_name()), p.badge(Tone::Drawn)),
    }
}

fn second(stage: &Stage, shown: Screen, area: Rect, buffer: &mut Buffer, narrow: bool) {
    let p = stage.palette;
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let y = area.y + 1;
    let knobs = stage.run.lab().knobs(stage.selected.entity);
    let mut x = area.x + 1;
    for spec in &SCREENS {
        let style = if spec.screen == shown { p.badge(Tone::Text) } else { muted };
        x = write(buffer, (x, y), area.right(), &[(&format!(" {} ", spec.name), style)]);
    }
    x = write(buffer, (x, y), area.right(), &[("  ", text)]);
    let Some(facts) = &stage.facts else { return };
    let f = &facts.figures;
    let number = |x: Option<f64>, decimals: usize| x.map_or_else(|| "-".to_owned(), |x| format!("{x:.decimals$}"));
    let link = format!(
        "RTT {:>3} ms \u{3c3} {:>2}, lost {:>4} %",
        number(f.rtt_ms, 0),
        number(f.rtt_sigma_ms, 0),
        number(f.lost_share.map(|s| s * 100.0), 1),
    );
    let dot = p.dot();
    if narrow {
        write(buffer, (x, y), area.right(), &[(&link, text), (&format!(" {dot} ? help"), muted)]);
        return;
    }
    let delay = match knobs.settings.remotes.view_delay {
        ViewDelay::Auto => "auto",
        ViewDelay::Millis(_) => "set",
    };
    let rates =
        format!("{} Hz {dot} snapshot every {} ticks", stage.run.course().rate.hz(), knobs.served.snapshot_every);
    let view = format!(" {dot} view delay {:>3} ms {delay}", number(f.view_delay_ms, 0));
    let name = stage.name(stage.selected.entity);
    let x = write(buffer, (x, y), area.right(), &[(&rates, muted), ("   ", text)]);
    let measured = format!(" (measured by {name}, 10 s)");
    // Where not all of it fits, the view delay goes, which the knobs show too, then who measured.
    let room = usize::from(area.right().saturating_sub(x));
    let width = |words: &[&str]| words.iter().map(|words| words.chars().count()).sum::<usize>() + 1;
    let (measured, view) = match () {
        () if room >= width(&[&link, &measured, &view]) => (measured.as_str(), view.as_str()),
        () if room >= width(&[&link, &measured]) => (measured.as_str(), ""),
        () => ("", ""),
    };
    let at = area.right().saturating_sub(width(&[&link, measured, view]) as u16).max(x);
    write(buffer, (at, y), area.right(), &[(&link, text), (measured, muted), (view, muted)]);
}
