//! The ledger of verdicts, newest first, and the evidence of the chosen one.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::nearness::Accusation;
use velocitas_core::{Answer, Evidence, Exhibit, Vec3};
use velocitas_report::drawing::told;

use super::Guard;
use crate::tui::canvas::{frame, wrapped, write};
use crate::tui::palette::Tone;
use crate::tui::stage::Stage;

/// Rows of the evidence, with its frame.
const EVIDENCE: u16 = 15;

pub(super) fn draw(guard: &Guard, stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let ledger = guard.nearness.ledger();
    let lower = if guard.verdict().is_some() { EVIDENCE.min(area.height / 2) } else { 0 };
    let upper = Rect { height: area.height - lower, ..area };
    let verdicts = ledger.iter().filter(|it| it.accuses()).count();
    let notes = match ledger.len() - verdicts {
        0 => String::new(),
        notes => format!(", {notes} notes"),
    };
    // It is of all that ran; the playhead may stand before some of it.
    let order = if ledger.iter().any(|it| it.at > stage.at) { "later ones dim" } else { "newest first" };
    let title = format!("ledger {} {verdicts} verdicts{notes}, {order}", p.dot());
    let inner = frame(p, upper, &title, buffer);
    if ledger.is_empty() {
        write(buffer, (inner.x + 1, inner.y), inner.right(), &[("nobody was accused", p.text(Tone::Muted))]);
    }
    let room = usize::from(inner.height).max(1);
    let first = (guard.chosen + 1).saturating_sub(room);
    for (row, (i, it)) in ledger.iter().rev().enumerate().skip(first).take(room).enumerate() {
        let chosen = i == guard.chosen;
        let plain = p.text(if it.at > stage.at { Tone::Muted } else { Tone::Text });
        let style = if chosen { p.chosen() } else { plain };
        let mark = if chosen { p.handles().1 } else { " " };
        let cast = &stage.run.record().cast;
        let name = format!(" {:<9}", cast.name(it.machine));
        let whose = if cast.is_rogue(it.machine) || !it.accuses() { style } else { p.text(Tone::Correction) };
        let evidence = &it.verdict.evidence;
        let unit = evidence.rule.spec().unit;
        let much = amount(evidence.measured, unit);
        let much = format!("{:<9}{much:>8}  {}", evidence.rule.name(), times(evidence));
        let at = it.at.to_string();
        let pieces = [(mark, style), (at.as_str(), p.text(Tone::Muted)), (&name, whose), (&much, plain)];
        write(buffer, (inner.x, inner.y + row as u16), inner.right(), &pieces);
    }
    if let Some(it) = guard.verdict() {
        let below = Rect { y: upper.bottom(), height: lower, ..area };
        evidence_of(stage, it, guard.excuse.as_ref().and_then(|(_, words)| words.as_deref()), below, buffer);
    }
}

/// A value with its unit, if it has one.
fn amount(value: f32, unit: &str) -> String {
    let said = told(f64::from(value), unit);
    said.strip_suffix(" 1").map_or(said.clone(), str::to_owned)
}

/// What was measured as a share of what is allowed; many times as much in times.
fn times(evidence: &Evidence) -> String {
    let share = f64::from(evidence.share());
    match share {
        share if !share.is_finite() => "of none".to_owned(),
        share if share < 10.0 => format!("{:.1} %", share * 100.0),
        share => format!("{share:.0} times"),
    }
}

/// From where to where it was claimed to have gone, and where it then was.
fn place_of(exhibit: &Exhibit) -> Option<String> {
    let at = |v: Vec3| format!("{:.2} {:.2} {:.2}", v.x, v.y, v.z);
    let (first, last) = (exhibit.path.corners().first()?, exhibit.path.corners().last()?);
    let (first, last, put) = (at(*first), at(*last), at(exhibit.put));
    let way = if first == last { format!("at {last}") } else { format!("{first} to {last}") };
    let then = if put == last { "left there".to_owned() } else { format!("put to {put}") };
    Some(format!("{way}, {then} (m)"))
}

fn evidence_of(stage: &Stage, it: &Accusation, excuse: Option<&str>, area: Rect, buffer: &mut Buffer) {
    let p = stage.palette;
    let evidence = &it.verdict.evidence;
    let spec = evidence.rule.spec();
    let name = stage.run.record().cast.name(it.machine);
    let inner = frame(p, area, &format!("{name} at {} {} Enter looks there", it.at, p.dot()), buffer);
    let amount = |value: f32| amount(value, spec.unit);
    let mut allowed = amount(evidence.limit);
    if evidence.slack > 0.0 || evidence.quantum > 0.0 {
        allowed += &format!(
            ", {:.0} % of slack counted in; rounding alone can make {}",
            evidence.slack * 100.0,
            told(f64::from(evidence.quantum), "m")
        );
    }
    if evidence.allowed != 1.0 {
        allowed += &format!(": {:.1} % of what the gait says", evidence.allowed * 100.0);
    }
    let (from, to) = (evidence.from.0, evidence.to.0);
    let ticks = if from == to { format!("{to}") } else { format!("{from} to {to}") };
    let answer = match it.verdict.answer {
        Answer::PulledBack => "put back".to_owned(),
        Answer::Noted => "noted".to_owned(),
        Answer::Clamped => "put where it could have got to".to_owned(),
        Answer::Struck => "put back: a strike".to_owned(),
        Answer::Disconnected => "may not play on".to_owned(),
        Answer::Ignored => "not used".to_owned(),
    };
    let gain = if evidence.gain > 0.0 { format!(", gained {} before", amount(evidence.gain)) } else { String::new() };
    let rows = [
        ("rule", format!("{}: {}", spec.name, spec.help)),
        ("ticks", ticks),
        (
            "measured",
            if evidence.limit > 0.0 {
                format!("{}, {} what is allowed", amount(evidence.measured), times(evidence).replace('%', "% of"))
            } else {
                format!("{}, where none is allowed", amount(evidence.measured))
            },
        ),
        ("allowed", allowed),
        ("clock", spec.clock.to_owned()),
        ("answer", answer + &gain),
    ];
    let place = it.verdict.exhibit.as_ref().and_then(place_of).map(|words| ("place", words));
    let rows = rows.into_iter().chain(place).chain(excuse.map(|words| ("but", words.to_owned())));
    let mut y = inner.y;
    for (what, words) in rows {
        for (row, line) in wrapped(&words, usize::from(inner.width.saturating_sub(11))).iter().enumerate() {
            if y >= inner.bottom() {
                return;
            }
            let name = format!("{:<9}", if row == 0 { what } else { "" });
            let pieces = [(name.as_str(), p.text(Tone::Muted)), (line.as_str(), p.text(Tone::Text))];
            write(buffer, (inner.x + 1, y), inner.right(), &pieces);
            y += 1;
        }
    }
}
