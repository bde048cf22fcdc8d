//! The two rows on top: what is run, when we are, whose picture this is, and how the link does.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_core::ViewDelay;
use velocitas_lab::{MachineId, Part};

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
        let names = format!("  {} on {}'s screen", stage.subject_name(), stage.name(stage.viewer));
        write(buffer, (x, area.y), end, &[(&names, text)]);
        return;
    }
    let moment = stage.moment();
    let tick =
        |machine, part| moment.tick(machine, part).map_or_else(|| "-".to_owned(), |t| record.shown(t).to_string());
    let server = tick(MachineId::SERVER, Part::Server);
    let ticks = [("server", server), (stage.name(stage.entity), tick(stage.machine(stage.entity), Part::Client))];
    for (name, tick) in ticks {
        x = write(
            buffer,
            (x, area.y),
            end,
            &[("   ", text), (name, muted), (" ", text), (&format!("{tick:<6}"), text)],
        );
    }
    let (entity, viewer) = (stage.subject_name(), stage.name(stage.viewer));
    let width = "looking at  on the screen of ".len() + entity.len() + viewer.len() + 1;
    let at = end.saturating_sub(width as u16).max(x + 2);
    write(
        buffer,
        (at, area.y),
        end,
        &[
            ("looking at ", muted),
            (entity, p.text(Tone::Predicted)),
            (" on the screen of ", muted),
            (viewer, p.text(Tone::Drawn)),
        ],
    );
}

/// Live and looking back never look alike.
fn badge(stage: &Stage) -> (String, ratatui::style::Style) {
    let p = stage.palette;
    if let Some((now, to)) = stage.reading() {
        return (format!("READING {now} of {to}"), p.badge(Tone::Predicted));
    }
    if !stage.is_live() {
        let back = stage.whole().now().minus(stage.at).secs();
        return (format!("BACK \u{2212}{back:.2} s"), p.badge(Tone::Correction));
    }
    if !stage.running {
        return ("PAUSED".to_owned(), p.badge(Tone::Text));
    }
    match stage.behind() {
        Some(behind) => {
            (format!("LIVE {} behind {:.0} ms", stage.speed_name(), behind * 1e3), p.badge(Tone::Predicted))
        }
        None => (format!("LIVE {}", stage.speed_name()), p.badge(Tone::Drawn)),
    }
}

fn second(stage: &Stage, shown: Screen, area: Rect, buffer: &mut Buffer, narrow: bool) {
    let p = stage.palette;
    let (text, muted) = (p.text(Tone::Text), p.text(Tone::Muted));
    let y = area.y + 1;
    let knobs = stage.run.lab().knobs(stage.entity);
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
    let delay = match knobs.settings.view_delay {
        ViewDelay::Auto => "auto",
        ViewDelay::Millis(_) => "set",
    };
    let rates = format!("{} Hz {dot} snapshot every {} ticks", stage.run.course().rate.hz(), knobs.snapshot_every);
    let view = format!(" {dot} view delay {:>3} ms {delay}", number(f.view_delay_ms, 0));
    let name = stage.name(stage.entity);
    let x = write(buffer, (x, y), area.right(), &[(&rates, muted), ("   ", text)]);
    let measured = format!(" (measured by {name}, 10 s)");
    let whole = link.chars().count() + measured.len() + view.chars().count() + 1;
    let at = (area.right().saturating_sub(whole as u16)).max(x);
    // Where not all of it fits, the view delay goes: the knobs show it too.
    let view = if usize::from(area.right() - at) < whole { "" } else { &view };
    write(buffer, (at, y), area.right(), &[(&link, text), (&measured, muted), (view, muted)]);
}
