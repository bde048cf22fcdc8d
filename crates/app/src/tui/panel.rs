//! The side panel: what the selected entity is for each machine, its last correction, its figures, its knobs.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use velocitas_analysis::metrics::Seen;
use velocitas_analysis::moment::Echo;
use velocitas_core::{Drawn, Presence, Vec3};
use velocitas_record::LabTime;

use super::canvas::{frame, wrapped, write};
use super::palette::Tone;
use super::stage::Stage;

/// A pen that writes one row after the other.
struct Pen<'a> {
    stage: &'a Stage,
    area: Rect,
    y: u16,
}

impl Pen<'_> {
    fn row(&mut self, buffer: &mut Buffer, pieces: &[(&str, Style)]) {
        if self.y < self.area.bottom() {
            write(buffer, (self.area.x, self.y), self.area.right(), pieces);
        }
        self.y += 1;
    }

    fn tone(&self, tone: Tone) -> Style {
        self.stage.palette.text(tone)
    }

    fn figure(&mut self, buffer: &mut Buffer, name: &str, value: &str) {
        debug_assert!(FIGURES.iter().any(|(known, _)| *known == name), "help says nothing of {name}");
        let (muted, text) = (self.tone(Tone::Muted), self.tone(Tone::Text));
        self.row(buffer, &[(&format!("{name:<10}"), muted), (value, text)]);
    }
}

/// The figures of the panel and what each is, for the help page.
pub(super) const FIGURES: [(&str, &str); 14] = [
    ("owned by", "who gives it orders; with several owners, whose holds"),
    ("gone", "when and where it ceased to be"),
    ("known to", "on how many screens it is, and on whose it is not yet"),
    ("speed", "the server's, and what its rule says is lawful now"),
    ("inputs", "of the last 10 s: share of ticks made with what was sent, ticks made up, inputs after their tick"),
    ("margin", "how early inputs reach the server, a bar each; p05: one in twenty is later"),
    ("response", "from hands at rest to the first own frame that moves, and to the first on other screens: medians"),
    ("others", "how long ago the server made what is drawn of others, and how far off it is drawn beyond that (p95)"),
    ("own", "how far ahead of the server it is drawn, and how far off beyond that (p95)"),
    ("rough", "RMS of drawn minus true velocity: what trembles"),
    ("corrected", "how often the server's word took the present back, and the largest jump"),
    ("hops", "frames in which something was seen to jump, a minute of being seen"),
    ("payload", "bytes of datagrams without headers"),
    ("= same tick", "the owner's prediction against the server's state of that tick"),
];

/// Rows from which on there is room for more than three lines of a finding.
const ROOMY: u16 = 24;

pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    // Where there is little room the list of knobs scrolls, so that what is believed stays in view; it makes room for the hands at
    // the helm, and for a branch.
    let hands = if stage.drives() { super::hands::rows(stage).min(area.height.saturating_sub(16)) } else { 0 };
    let branch = super::branch::rows(stage).min(area.height.saturating_sub(16 + hands));
    let between = hands + branch;
    let least = if between > 0 { 5 } else { 8 };
    let knobs =
        area.height.saturating_sub(20 + between).clamp(least, super::knobs::rows(&stage.selected.knobs).max(least));
    let upper = Rect { height: area.height.saturating_sub(knobs + between), ..area };
    if upper.height >= 6 {
        beliefs_of(stage, upper, buffer);
    }
    if hands > 0 {
        super::hands::draw(stage, Rect { y: upper.bottom(), height: hands, ..area }, buffer);
    }
    if branch > 3 {
        super::branch::draw(stage, Rect { y: upper.bottom() + hands, height: branch, ..area }, buffer);
    }
    let lower = Rect { y: area.y + area.height.saturating_sub(knobs), height: knobs.min(area.height), ..area };
    super::knobs::draw(stage, lower, buffer);
}

/// What each machine believes of the selected entity, its last correction, its figures: as far as there is room.
pub(super) fn beliefs_of(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let inner = frame(stage.palette, area, &title(stage), buffer);
    let mut pen = Pen { stage, area: Rect { x: inner.x + 1, width: inner.width - 1, ..inner }, y: inner.y };
    beliefs(&mut pen, buffer);
    correction(&mut pen, buffer);
    figures(&mut pen, buffer);
}

/// Whose beliefs, and whose figures.
fn title(stage: &Stage) -> String {
    let (name, dot) = (stage.subject_name(), stage.palette.dot());
    match stage.selected.thing {
        Some(_) => format!("{name} {dot} figures of {}, 10 s", stage.name(stage.selected.entity)),
        None => format!("{name} {dot} figures of the last 10 s"),
    }
}

fn place(at: Vec3) -> String {
    format!("{:>7.2}{:>7.2}{:>6.2}", at.x, at.y, at.z)
}

fn distance(m: f32) -> String {
    if m < 0.01 {
        format!("{:.1} mm", m * 1000.0)
    } else if m < 1.0 {
        format!("{:.1} cm", m * 100.0)
    } else {
        format!("{m:.2} m")
    }
}

/// Whether the owner's program does not run.
fn is_out(stage: &Stage) -> bool {
    let owner = stage.subject().and_then(|subject| {
        let owners = stage.run.record().cast.actors[subject.index()].owners_at(stage.at);
        owners.first().copied()
    });
    owner.is_some_and(|owner| stage.run.record().of(owner).presence_at(stage.at) == Presence::Left)
}

/// One machine's belief.
fn belief(
    pen: &mut Pen<'_>,
    buffer: &mut Buffer,
    (glyph, tone): (char, Tone),
    name: &str,
    echo: Option<Echo>,
    fraction: bool,
) {
    let (record, text) = (pen.stage.run.record(), pen.tone(Tone::Text));
    let said = match echo {
        None if is_out(pen.stage) => "       none: it is out".to_owned(),
        None => "       not yet".to_owned(),
        Some(e) if fraction => {
            format!("{:>6}.{:01} {}", record.shown(e.tick), (e.fraction * 10.0) as u8, place(e.pos))
        }
        Some(e) => format!("{:>6}   {}", record.shown(e.tick), place(e.pos)),
    };
    let name: String = name.chars().take(9).collect();
    pen.row(buffer, &[(&format!("{glyph} "), pen.tone(tone)), (&format!("{name:<9}"), text), (&said, text)]);
}

/// Of what nobody predicts: where the viewer ordered it, as soon as it did.
fn order(pen: &mut Pen<'_>, buffer: &mut Buffer) {
    let (stage, p, muted) = (pen.stage, pen.stage.palette, pen.tone(Tone::Muted));
    let given = stage.subject().and_then(|subject| stage.moment().order(subject, stage.machine(stage.selected.viewer)));
    match given {
        None => pen.row(buffer, &[(&format!("{} ", p.order()), muted), ("no order of this screen's", muted)]),
        Some(((x, y), standing)) => {
            let said = format!("order {x:>8.2}{y:>7.2} ");
            let style = pen.tone(Tone::Predicted);
            pen.row(
                buffer,
                &[(&format!("{} ", p.order()), style), (&said, pen.tone(Tone::Text)), (standing.name(), muted)],
            );
        }
    }
}

fn beliefs(pen: &mut Pen<'_>, buffer: &mut Buffer) {
    let stage = pen.stage;
    let (record, p) = (stage.run.record(), stage.palette);
    let (text, muted) = (pen.tone(Tone::Text), pen.tone(Tone::Muted));
    let e = stage.echoes();
    pen.row(buffer, &[("             tick       x m    y m   z m", muted)]);
    let shared = stage.subject().is_some_and(|s| stage.moment().owners(s).len() != 1);
    if e.predicted.is_none() && shared {
        order(pen, buffer);
    } else {
        belief(pen, buffer, (p.predicted(), Tone::Predicted), "predicted", e.predicted, false);
    }
    belief(pen, buffer, (p.authority(), Tone::Authority), "authority", e.authority, false);
    if let Some((smooth, raw)) = e.smooth.zip(e.authority) {
        belief(pen, buffer, (p.smooth(), Tone::Authority), "sent", Some(smooth), false);
        let apart = distance(smooth.pos.distance(raw.pos));
        pen.row(buffer, &[(&format!("  others are sent it {apart} beside"), muted)]);
    }
    belief(pen, buffer, (p.drawn(), Tone::Drawn), stage.name(stage.selected.viewer), e.drawn, true);
    let second = i64::from(stage.run.course().rate.hz());
    let delayed = stage.run.lab().knobs(stage.selected.entity).settings.input_delay;
    let ahead = e.predicted.zip(e.authority).map(|(a, b)| match i64::from(a.tick.0) - i64::from(b.tick.0) {
        ticks @ 0.. => format!("  ahead {ticks} ticks, {}: lag, not error", distance(a.pos.distance(b.pos))),
        ticks if -ticks > second => format!("  its last own tick is {} ticks old: no lag", -ticks),
        ticks if delayed > 0 => format!("  {} ticks behind the server: inputs wait {delayed}", -ticks),
        ticks => format!("  {} ticks behind the server: inputs come late", -ticks),
    });
    pen.row(buffer, &[(ahead.as_deref().unwrap_or(""), muted)]);
    let how = e.how.map_or("", Drawn::name);
    let age = match (e.age_ms, e.how) {
        (_, Some(Drawn::Predicted)) => format!("  drawn as {how}"),
        (Some(ms), Some(Drawn::ByRule)) if ms < 0.0 => {
            format!("  drawn {:.0} ms ahead of the server, by its rule", -ms)
        }
        // The server has still to make it.
        (None, Some(Drawn::ByRule)) => "  drawn ahead of the server, by its rule".to_owned(),
        (Some(ms), Some(Drawn::ByRule)) => format!("  drawn {ms:.0} ms in the past, by its rule"),
        (Some(ms), _) => format!("  drawn {ms:.0} ms in the past, {how}"),
        (None, Some(_)) => format!("  drawn as {how}"),
        (None, None) => String::new(),
    };
    // Where there is room for no more, what goes without saying is left out.
    if how != "predicted" || pen.area.height >= 20 {
        pen.row(buffer, &[(&age, muted)]);
    }
    match e.same_tick {
        Some((tick, a, b)) => {
            let apart = a.distance(b);
            let style = if apart > 0.02 { pen.tone(Tone::Correction) } else { text };
            let value = format!("{} at tick {}", distance(apart), record.shown(tick));
            pen.row(buffer, &[("= same tick ", muted), (&value, style)]);
        }
        None if shared => {
            pen.row(buffer, &[("= same tick nobody predicts it", muted)]);
        }
        None => pen.row(buffer, &[("= same tick not comparable yet", muted)]),
    }
    whose(pen, buffer);
}

/// Who owns it, whose order holds, and who knows of it.
fn whose(pen: &mut Pen<'_>, buffer: &mut Buffer) {
    let stage = pen.stage;
    let moment = stage.moment();
    let Some(subject) = stage.subject() else {
        pen.figure(buffer, "owned by", "nobody: it has not come yet");
        return pen.row(buffer, &[]);
    };
    let it = &stage.run.record().cast.actors[subject.index()];
    let (know, not) = moment.known_to(subject);
    let owners = moment.owners(subject);
    if let Some((gone, _)) = it.gone.filter(|(gone, _)| *gone <= stage.at) {
        pen.figure(buffer, "gone", &format!("{:.1} s ago, at {gone}", stage.at.minus(gone).secs()));
    } else if let ([owner], []) = (&owners[..], &not[..]) {
        return pen.figure(buffer, "owned by", &format!("{owner}; all {} know it", know.len()));
    } else {
        let obeys = moment.obeys(subject).map(|(name, _)| format!("; obeys {name}"));
        let owned = if owners.is_empty() { "nobody".to_owned() } else { owners.join(", ") };
        pen.figure(buffer, "owned by", &format!("{owned}{}", obeys.unwrap_or_default()));
    }
    let known = match (know.len(), not.len()) {
        (0, 0) => "nobody plays".to_owned(),
        (n, 0) => format!("all {n} who play"),
        (0, _) => "nobody who plays".to_owned(),
        (n, _) => format!("{n}, not to {}", not.join(", ")),
    };
    pen.figure(buffer, "known to", &known);
}

fn correction(pen: &mut Pen<'_>, buffer: &mut Buffer) {
    let stage = pen.stage;
    let (record, p) = (stage.run.record(), stage.palette);
    let (text, muted) = (pen.tone(Tone::Text), pen.tone(Tone::Muted));
    let width = usize::from(pen.area.width) - 3;
    if let Some((at, v)) = stage
        .moment()
        .last_verdict(stage.machine(stage.selected.entity))
        .filter(|(at, _)| stage.at.minus(*at) < LabTime::from_secs(20.0))
    {
        let head = format!(" {} at tick {}, {:.1} s ago", v.evidence.rule.name(), v.tick.0, stage.at.minus(at).secs());
        pen.row(buffer, &[("!", p.verdict()), (&head, text)]);
        let evidence = format!(
            "  measured {:.3}, limit {:.3} (slack {:.0} %)",
            v.evidence.measured,
            v.evidence.limit,
            v.evidence.slack * 100.0
        );
        pen.row(buffer, &[(&evidence, muted)]);
    }
    let glyph = format!("{} ", p.correction());
    let Some(c) = stage.facts.as_ref().and_then(|f| f.corrected.as_ref()) else {
        pen.row(buffer, &[(&glyph, muted), ("never corrected", muted)]);
        pen.row(buffer, &[]);
        return;
    };
    let (ago, tick) = (stage.at.minus(c.at).secs(), c.correction.tick.0);
    let head = format!("corrected {}, tick {tick}, {ago:.1} s ago", distance(c.correction.jump));
    pen.row(buffer, &[(&glyph, pen.tone(Tone::Correction)), (&head, text)]);
    let said = c.finding.words(record, stage.machine(stage.selected.entity), &c.correction);
    // Where there is room to spare, two causes are told with what was tried.
    let rows = if pen.area.height >= ROOMY { 5 } else { 3 };
    for line in told_in(&said, width, rows) {
        pen.row(buffer, &[("  ", text), (&line, text)]);
    }
    // Where room is short the figures are worth more than a gap.
    if pen.area.height >= 19 {
        pen.row(buffer, &[]);
    }
}

/// How far off something is drawn beyond being late.
fn drawn(seen: &Seen) -> String {
    let off = seen.drawn_error_m.p95.map_or_else(
        || "-".to_owned(),
        |m| match m {
            m if m < 0.01 => format!("{:.0} mm", m * 1e3),
            m if m < 1.0 => format!("{:.0} cm", m * 1e2),
            m if m < 10.0 => format!("{m:.1} m"),
            m => format!("{m:.0} m"),
        },
    );
    format!("off {off}")
}

/// How far the own character is drawn ahead of the server's, or how long ago that was there, as of others.
fn lead(lag_ms: Option<f64>) -> String {
    let Some(lag) = lag_ms else { return "-".to_owned() };
    let which = if lag < 0.0 { "ahead" } else { "ago" };
    // Nothing of the row may be cut off: a number without its last digit is another number.
    match lag.abs() {
        ms if ms < 1000.0 => format!("{ms:.0} ms {which}"),
        ms => format!("{:.1} s {which}", ms / 1000.0),
    }
}

fn figures(pen: &mut Pen<'_>, buffer: &mut Buffer) {
    let stage = pen.stage;
    let Some(facts) = &stage.facts else { return };
    let f = &facts.figures;
    let m = &f.measured;
    let speed = stage.echoes().authority.and_then(|e| e.speed);
    let number = |x: Option<f64>, unit: &str| x.map_or_else(|| "-".to_owned(), |x| format!("{x:.0}{unit}"));
    if let Some((speed, subject)) = speed.zip(stage.subject()) {
        let layout = stage.moment().layout(subject);
        let look = layout.motion().look(speed).map_or_else(String::new, |look| format!(": {look}"));
        pen.figure(
            buffer,
            "speed",
            &format!("{speed:.2} m/s of {:.2} lawful{look}", stage.moment().lawful_pace(subject)),
        );
    }
    let fresh = m.inputs.fresh_share().map_or_else(|| "-".to_owned(), |s| format!("{:.1} %", s * 100.0));
    pen.figure(buffer, "inputs", &format!("fresh {fresh}, made up {}, late {}", m.inputs.repeated, m.inputs.late));
    let bars: String = f
        .margins
        .iter()
        .rev()
        .take(16)
        .rev()
        .map(|m| m.map_or(stage.palette.nothing(), |m| stage.palette.eighths((m * 2.0).clamp(0.0, 8.0) as usize)))
        .collect();
    let low = m.margin_ticks.p05.map_or_else(|| "-".to_owned(), |t| format!("{t:.2}"));
    let (muted, text) = (pen.tone(Tone::Muted), pen.tone(Tone::Text));
    let low = format!(" p05 {low}");
    pen.row(buffer, &[("margin    ", muted), (&format!("{bars:<16}"), muted), (&low, text), (" ticks", muted)]);
    // What is missing says why.
    let response = match (m.response_ms, m.seen_ms.p50) {
        (Some(response), seen) => {
            let response = format!("{response:.0} ms");
            format!("{response:<6} others see it in {}", number(seen, " ms"))
        }
        (None, Some(seen)) => format!("not from rest; others: {seen:.0} ms"),
        (None, None) => "no press from rest in 10 s".to_owned(),
    };
    pen.figure(buffer, "response", &response);
    pen.figure(buffer, "others", &format!("{}, {}", lead(m.view_age_ms.p50), drawn(&m.others)));
    pen.figure(buffer, "own", &format!("{}, {}", lead(m.own.lag_ms), drawn(&m.own)));
    if pen.area.height >= 22 {
        let rough = |seen: &Seen| seen.roughness_mps.p95.map_or_else(|| "-".to_owned(), |r| format!("{r:.2}"));
        let said = format!("own {}, others {} m/s, p95", rough(&m.own), rough(&m.others));
        pen.figure(buffer, "rough", &said);
    }
    let jumps = m.corrections.max_m.map_or_else(String::new, |max| format!(", largest {}", distance(max as f32)));
    let often = match m.corrections.count {
        1 => "once".to_owned(),
        count => format!("{count} times"),
    };
    pen.figure(buffer, "corrected", &format!("{often}{jumps}"));
    let hops = |seen: &Seen| number(seen.hops_per_min, "");
    pen.figure(buffer, "hops", &format!("own {}, others {} a minute", hops(&m.own), hops(&m.others)));
    let rate = |bytes: u64| bytes as f64 / f.seconds / 1000.0;
    pen.figure(buffer, "payload", &format!("up {:.1} kB/s  down {:.1} kB/s", rate(m.bytes_up), rate(m.bytes_down)));
}

/// A finding in at most this number of lines: without what was tried where that is too long, and with a sign where even so it is.
fn told_in(said: &str, width: usize, rows: usize) -> Vec<String> {
    let whole = wrapped(said, width);
    if whole.len() <= rows {
        return whole;
    }
    let mut lines = wrapped(said.split(". Tried: ").next().unwrap_or(said), width);
    if lines.len() > rows {
        lines.truncate(rows);
        if let Some(last) = lines.last_mut() {
            while last.chars().count() >= width && last.pop().is_some() {}
            last.push('\u{2026}');
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_fit_is_left_out_whole_or_marked() {
        let said = "ice: the server slides, the client walks. Tried: with ice known to heron tick 4 agrees";
        assert_eq!(told_in(said, 60, 3).concat(), wrapped(said, 60).concat());
        assert_eq!(told_in(said, 22, 3), ["ice: the server", "slides, the client", "walks"]);
        let cut = told_in(said, 22, 2);
        assert_eq!(cut, ["ice: the server", "slides, the client\u{2026}"]);
        assert!(told_in(&"x ".repeat(99), 5, 1).iter().all(|line| line.chars().count() <= 5));
    }
    use velocitas_analysis::metrics::{ErrorM, Spread};

    #[test]
    fn no_figure_of_the_own_character_is_cut_off() {
        // A panel of 47 cells with its frame, a margin and ten cells for the name.
        const ROOM: usize = 34;
        for (lag, off) in [(-84.0, 0.8), (-999.0, 9.94), (-1435.0, 10.3), (999.0, 9.94), (5000.0, 312.0)] {
            let error = ErrorM { p50: Some(off), p95: Some(off), max: Some(off) };
            let roughness_mps = Spread { p50: None, p95: None };
            let judder_mps = Spread { p50: None, p95: None };
            let hops_per_min = Some(3600.0);
            let seen = Seen {
                lag_ms: Some(lag),
                drawn_error_m: error,
                roughness_mps,
                judder_mps,
                hops_per_min,
                flickers_per_min: None,
            };
            let row = format!("{}, {}", lead(seen.lag_ms), drawn(&seen));
            assert!(row.chars().count() <= ROOM, "{row}");
        }
        assert_eq!(
            (lead(Some(-435.2)), lead(Some(1435.0)), lead(None)),
            ("435 ms ahead".into(), "1.4 s ago".into(), "-".into())
        );
    }
}
