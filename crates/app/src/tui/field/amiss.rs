//! What is amiss with who is there, the course's file or the take: the first of it, with what helps.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use velocitas_analysis::moment::Corrected;
use velocitas_record::LabTime;
use velocitas_report::drawing::told;

use crate::tui::action::Action;
use crate::tui::palette::Tone;
use crate::tui::stage::Stage;

/// What is amiss with who is there or with the course's file, and what helps: the first of it, in the last two rows.
pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let wrong = refused(stage).or_else(|| wrong(stage)).or_else(|| unsaved(stage)).or_else(|| kept(stage));
    let wrong = wrong.or_else(|| lost(stage));
    let is_wrong = wrong.is_some() || newest(stage).is_some();
    let Some((what, helps)) = wrong.or_else(|| first_seconds(stage)).filter(|_| area.height > 6) else { return };
    let p = stage.palette;
    let blank = " ".repeat(usize::from(area.width));
    let (glyph, tone) = if is_wrong { (p.correction(), Tone::Correction) } else { (' ', Tone::Text) };
    let rows = [(format!(" {glyph} {what} "), tone), (format!("   {helps} "), Tone::Text)];
    for (row, (text, tone)) in rows.iter().enumerate() {
        let y = area.bottom() - rows.len() as u16 + row as u16;
        buffer.set_stringn(area.x, y, &blank, usize::from(area.width), p.base());
        buffer.set_stringn(area.x, y, text, usize::from(area.width), p.text(*tone));
    }
}

/// Who is not let in, and why.
fn refused(stage: &Stage) -> Option<(String, String)> {
    let record = stage.run.record();
    let (machine, words) = record.cast.players().find_map(|m| Some((m, record.refusal(m, stage.at)?)))?;
    let what = format!("{} is not let in: {words}", record.cast.name(machine));
    Some((what, "it asks again each second; on screen 2 edits can reach all machines (a)".to_owned()))
}

/// What stands against what was saved of the course.
fn unsaved(stage: &Stage) -> Option<(String, String)> {
    let why = stage.course_trouble()?;
    Some((
        why.to_owned(),
        "the course runs on with what it could take over; C-r begins again with what is saved".to_owned(),
    ))
}

/// What is wrong with the take that the run came from.
fn kept(stage: &Stage) -> Option<(String, String)> {
    let why = stage.take_trouble()?;
    Some((why.to_owned(), "what is shown is what this program makes of it".to_owned()))
}

/// What is wrong with keeping the session.
fn lost(stage: &Stage) -> Option<(String, String)> {
    let why = stage.session_trouble()?;
    Some((why.to_owned(), "it is tried again and again; w keeps the run where you are".to_owned()))
}

/// What is amiss, and its remedy.
fn wrong(stage: &Stage) -> Option<(String, String)> {
    let all = &stage.facts.as_ref()?.amiss;
    let first = all.first()?;
    let more = if all.len() > 1 { format!(" (and {} more)", all.len() - 1) } else { String::new() };
    let what = format!("{}{more}", first.words(stage.run.record()));
    let is_offered = first.fault().is_some() && stage.offers(Action::Mend);
    let mends = if is_offered { "m mends it" } else { "what mends it" };
    Some((what, format!("{mends}: {}", first.remedy())))
}

/// How long the screen says what to press.
const FIRST: LabTime = LabTime(20_000_000_000);

/// The last correction of the selected machine.
fn newest(stage: &Stage) -> Option<&Corrected> {
    stage.facts.as_ref()?.corrected.as_ref()
}

/// In the first seconds of a run that nobody has touched yet: what happens, and which key understands it.
fn first_seconds(stage: &Stage) -> Option<(String, String)> {
    if stage.run.now() > FIRST || !stage.moves() || stage.drives() {
        return None;
    }
    let name = stage.name(stage.selected.entity);
    let Some(c) = newest(stage) else {
        let helps = "space stops time, h takes the helm, tab looks at another, ? lists every key";
        return Some((
            format!("{name} goes by its script; the server and everybody else see it later"),
            helps.to_owned(),
        ));
    };
    let why = c.finding.words(stage.run.record(), stage.machine(stage.selected.entity), &c.correction);
    let why = why.split(". Tried: ").next().unwrap_or_default().to_owned();
    let what = format!("{name} was corrected {}: {why}", told(f64::from(c.correction.jump), "m"));
    Some((
        what,
        "space stops, p goes to that moment, y asks why, 3 shows what crossed the link, 4 how it developed".to_owned(),
    ))
}
