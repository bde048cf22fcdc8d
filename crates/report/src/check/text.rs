//! A check for people: what was not kept, when, and the command that opens it there.

use std::fmt::Write;

use velocitas_analysis::budget::{Compared, Limit, MEASURES, Measure};

use super::{Checked, CheckedCourse, Line, clock};

pub(super) fn text(checked: &Checked, every: bool) -> String {
    let mut out = String::new();
    for course in &checked.courses {
        course_text(&mut out, course, every);
    }
    if let Some(against) = &checked.against {
        against_text(&mut out, checked, &against.file, against.share, &against.compared);
    }
    let runs: usize = checked.courses.iter().map(|course| course.runs.len()).sum();
    let bad = checked.courses.iter().filter(|course| !course.is_good()).count();
    let verdict = if checked.is_good() { "all is as it should be".to_owned() } else { not_good(checked, bad) };
    let _ = writeln!(out, "{}, {}: {verdict}", counted(checked.courses.len(), "course"), counted(runs, "run"));
    out
}

fn not_good(checked: &Checked, bad: usize) -> String {
    let mut what = Vec::new();
    if bad > 0 {
        what.push(format!("{} not as it should be", counted(bad, "course")));
    }
    let worse = checked.worse().count();
    if worse > 0 {
        what.push(format!("{} worse than before", counted(worse, "figure")));
    }
    what.join(", ")
}

fn course_text(out: &mut String, course: &CheckedCourse, every: bool) {
    let lines = course.lines();
    let bad = lines.iter().filter(|line| !line.is_good() && line.limit.exceeded.is_none()).count();
    let unmeant = lines.iter().filter(|line| !line.is_good() && line.limit.exceeded.is_some()).count();
    let mut said = Vec::new();
    match (bad, course.has_budget, lines.iter().all(|line| line.limit.exceeded.is_some())) {
        (_, _, true) if !lines.is_empty() => {}
        (0, true, _) => said.push("kept".to_owned()),
        (0, false, _) => {
            said.push("kept; it has no [[budget]], so nothing but verdicts and tricks was held against it".to_owned());
        }
        (bad, ..) => said.push(format!("{bad} not kept")),
    }
    if course.meant() > 0 {
        said.push("fails as meant".to_owned());
    }
    let unmeant = unmeant + course.unaccused().count();
    if unmeant > 0 {
        said.push(format!("{unmeant} meant to fail and did not"));
    }
    let said = said.join("; ");
    let lasts = course.runs.first().map_or(0.0, |run| run.lasts.secs());
    let seeds = counted(course.runs.len(), "seed");
    let _ = writeln!(out, "{}: {seeds} of {lasts} s, {}: {said}", course.file, counted(lines.len(), "limit"));
    if let Some(run) = course.faulted() {
        let (count, first) = run.step_faults;
        let _ =
            writeln!(out, "  a rule's step came out infinite or not a number, {count} times with seed {}", run.seed);
        let _ = writeln!(out, "    {}", course.opens(run, first, None));
    }
    for line in lines.iter().filter(|line| !line.is_good()) {
        match line.limit.exceeded {
            Some(_) => unmeant_text(out, line),
            None => line_text(out, course, line),
        }
    }
    for accused in course.unaccused() {
        let (who, by, line) = (&course.members[accused.member.index()], accused.by.name(), accused.line);
        let _ = writeln!(out, "  {who}: not accused by `{by}` with any seed, and is meant to be (line {line})");
    }
    if every {
        lines.iter().filter(|line| line.is_good()).for_each(|line| kept_text(out, line));
        unbounded_text(out, course, &lines);
        for accused in course.accused.iter().filter(|accused| course.times(accused) > 0) {
            let (who, by) = (&course.members[accused.member.index()], accused.by.name());
            let seeds = counted(course.times(accused), "seed");
            let _ = writeln!(out, "  {who}: accused by `{by}` as meant with {seeds} (line {})", accused.line);
        }
    }
}

/// A value as it is shown, with as many more digits as it takes to tell it from the bound that it exceeds.
fn beside(measure: &Measure, value: f64, bound: f64) -> String {
    let shown = measure.shown(value);
    if shown != measure.shown(bound) {
        return shown;
    }
    let more = value > bound;
    format!("{} than {shown}", if more { "a little more" } else { "a little less" })
}

/// What is allowed, in words.
fn allowed(limit: &Limit) -> String {
    let line = limit.line.map_or_else(|| "asked of every course".to_owned(), |line| format!("line {line}"));
    format!("{} {} ({line})", limit.measure.bound.words(), limit.measure.shown(limit.value))
}

fn line_text(out: &mut String, course: &CheckedCourse, line: &Line<'_>) {
    let (limit, measure) = (&line.limit, line.limit.measure);
    let Some((run, held)) = line.worst else {
        let _ = writeln!(
            out,
            "  {}: {}: nothing to measure, of nobody it is for and in no run: the bound guards nothing ({})",
            line.member,
            measure.name,
            allowed(limit)
        );
        return;
    };
    let value = held.value.map_or_else(String::new, |value| beside(measure, value, limit.value));
    let at = held.at.map_or(String::new(), |at| format!(" at {}", clock(at)));
    let _ = writeln!(
        out,
        "  {}: {} {value}, {}: seed {}{at}, the worst of {} not kept; look at {}",
        line.member,
        measure.name,
        allowed(limit),
        run.seed,
        counted(line.beyond, "seed"),
        measure.look
    );
    let _ = writeln!(out, "    {}", course.opens(run, held.at, Some(line.member)));
}

/// What nobody bounds: the worst of it, by member.
fn unbounded_text(out: &mut String, course: &CheckedCourse, lines: &[Line<'_>]) {
    for (i, member) in course.members.iter().enumerate() {
        for measure in MEASURES {
            if lines.iter().any(|line| line.limit.member.index() == i && line.limit.measure.key == measure.key) {
                continue;
            }
            let values = course.runs.iter().filter_map(|run| Some((run.seed, (measure.get)(&run.clients[i])?)));
            let worse = |a: f64, b: f64| measure.bound.worse_by(b, 0.0) > measure.bound.worse_by(a, 0.0);
            let worst = values.reduce(|a, b| if worse(a.1, b.1) { b } else { a });
            if let Some((seed, value)) = worst {
                let (name, value) = (measure.name, measure.shown(value));
                let _ = writeln!(out, "  {member}: {name} {value}, not bounded; the worst is seed {seed}");
            }
        }
    }
}

/// What is meant to be exceeded and was not.
fn unmeant_text(out: &mut String, line: &Line<'_>) {
    let (measure, said) = (line.limit.measure, line.limit.exceeded.unwrap_or_default());
    let worst = line.worst.and_then(|(run, held)| Some((measure.shown(held.value?), run.seed)));
    let worst = worst.map_or_else(
        || "nothing to measure".to_owned(),
        |(value, seed)| format!("{value} at the worst, with seed {seed}"),
    );
    let (who, allowed) = (line.member, allowed(&line.limit));
    let _ =
        writeln!(out, "  {who}: {} {worst}, {allowed}: kept, and is meant to be exceeded (line {said})", measure.name);
}

fn kept_text(out: &mut String, line: &Line<'_>) {
    let measure = line.limit.measure;
    let _ = match line.worst.and_then(|(run, held)| Some((run, held.value?))) {
        Some((run, value)) => writeln!(
            out,
            "  {}: {} {}, {}: {}; the worst is seed {}",
            line.member,
            measure.name,
            measure.shown(value),
            allowed(&line.limit),
            if line.limit.exceeded.is_some() { "exceeded as meant" } else { "kept" },
            run.seed
        ),
        None => writeln!(out, "  {}: {}: nothing to measure, {}", line.member, measure.name, allowed(&line.limit)),
    };
}

fn against_text(out: &mut String, checked: &Checked, file: &str, share: f64, compared: &[Compared]) {
    let worse: Vec<&Compared> = checked.worse().collect();
    let said = if worse.is_empty() { "none worse".to_owned() } else { format!("{} worse", worse.len()) };
    let percent = share * 100.0;
    let _ = writeln!(
        out,
        "against {file}: {} compared, {said} by more than {percent} %",
        counted(compared.len(), "figure")
    );
    for one in worse {
        let _ = writeln!(
            out,
            "  {}, {}: {} was {}, is {} (mean of {}; most with seed {})",
            one.course,
            one.member,
            one.measure.name,
            one.measure.shown(one.was),
            one.measure.shown(one.is),
            counted(one.seeds as usize, "seed"),
            one.seed
        );
    }
}

fn counted(n: usize, what: &str) -> String {
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}
