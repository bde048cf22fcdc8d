//! `velocitas vet`: gaits and courses checked, tried and attacked.

use std::fmt::Write as _;
use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};

use serde_json::{Value, json};
use velocitas_core::{Evidence, Motion, Rate, Shape, StateField};
use velocitas_gait::{Gait, Report as Diagnosis, compile, escaped};
use velocitas_lab::CourseError;
use velocitas_lab::track::{Track, TrackError};
use velocitas_vet::{
    Attack, Envelope, Feel, Found, Guarded, Missing, RATES, Walked, attack, feel, missing, nearest_of, walk,
};

use super::Outcome;
use super::args::{Report, VetTask};
use crate::files::stream::{complain, say};
use crate::files::{self, OpenError, Output, must_be_regular, read_named};

/// Figures further apart than this between tick rates are pointed out.
const APART: f32 = 0.05;

pub(super) fn run(task: &VetTask) -> Result<Outcome, OpenError> {
    // What cannot be read is bad usage: said before anything takes long.
    let read = |path: &PathBuf| -> Result<(PathBuf, String), OpenError> {
        let why = |e: io::Error| OpenError::File { path: path.clone(), why: e.to_string() };
        let text = read_named(path, "gaits and courses are text files").map_err(why)?;
        files::no_take(path, &text)?;
        Ok((path.clone(), text))
    };
    let paths = task.files.iter().map(within).collect::<Result<Vec<_>, _>>()?.concat();
    let files = paths.iter().map(read).collect::<Result<Vec<_>, _>>()?;
    let track = task.track.as_ref().map(&read).transpose()?;
    if task.track.is_some() && files.iter().all(|(path, text)| is_course(path, text)) {
        return Err(OpenError::Usage("expected a gait to run --track with; found only courses".to_owned()));
    }
    let inputs = paths.iter().chain(&task.track).cloned().collect();
    let mut vet = Vet { task, inputs, kept: Vec::new(), out: String::new(), rows: Vec::new(), good: true };
    for (path, text) in &files {
        if is_course(path, text) {
            vet.course(path, text);
        } else {
            vet.gait(path, text, track.as_ref())?;
        }
    }
    let Vet { out, rows, good, .. } = vet;
    let said = match task.report {
        Report::Text => out,
        Report::Json => format!("{:#}\n", json!({ "format": 1, "files": rows, "good": good })),
    };
    say(said)?;
    Ok(if good { Outcome::Good } else { Outcome::Findings })
}

/// A file, or what there is to vet in a folder: its gaits and courses, by name.
fn within(path: &PathBuf) -> Result<Vec<PathBuf>, OpenError> {
    if !path.is_dir() {
        return Ok(vec![path.clone()]);
    }
    let wrong = |why: String| OpenError::File { path: path.clone(), why };
    let entries = std::fs::read_dir(path).map_err(|e| wrong(e.to_string()))?;
    let mut files = entries
        .map(|entry| entry.map(|e| e.path()))
        .collect::<Result<Vec<_>, _>>()
        .map_err(|e| wrong(e.to_string()))?;
    let to_vet = |file: &PathBuf| {
        let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        name.ends_with(".gait") || name.ends_with(".course.toml")
    };
    files.retain(to_vet);
    files.sort();
    for file in &files {
        let wrong = |why: io::Error| OpenError::File { path: file.clone(), why: why.to_string() };
        must_be_regular(file, "gaits and courses are text files").map_err(wrong)?;
    }
    if files.is_empty() {
        return Err(wrong("expected gaits (*.gait) or courses (*.course.toml) in it; found none".to_owned()));
    }
    Ok(files)
}

/// Whether a file is a course: by its name, or by its first word where the name does not tell, as with a pipe.
fn is_course(path: &Path, text: &str) -> bool {
    match path.extension().and_then(|e| e.to_str()) {
        Some("toml") => true,
        Some("gait") => false,
        _ => {
            let first = text.trim_start_matches('\u{feff}').lines().map(str::trim_start);
            first.filter(|l| !l.is_empty() && !l.starts_with('#')).take(1).any(|l| l.starts_with("format"))
        }
    }
}

struct Vet<'a> {
    task: &'a VetTask,
    /// What is read, and therefore not written.
    inputs: Vec<PathBuf>,
    /// The tracks that were written.
    kept: Vec<PathBuf>,
    out: String,
    rows: Vec<Value>,
    good: bool,
}

impl Vet<'_> {
    fn say(&mut self, line: impl AsRef<str>) {
        let _ = writeln!(self.out, "{}", line.as_ref());
    }

    fn course(&mut self, path: &Path, text: &str) {
        match files::parse_course(path, text, &[]) {
            Ok(course) => {
                for warning in &course.warnings {
                    self.say(format!("warning: {warning}\n"));
                }
                self.say(format!(
                    "{}: good; {} in the cast, {}",
                    shown(path),
                    course.cast.len(),
                    counted(course.gaits.len(), "gait")
                ));
                let warnings: Vec<Value> = course.warnings.iter().map(warning_row).collect();
                self.rows.push(json!({ "file": path.display().to_string(), "good": true, "warnings": warnings }));
            }
            Err(error) => {
                self.good = false;
                self.say(format!("error: {error}\n"));
                let message = error.to_string();
                self.rows.push(json!({ "file": path.display().to_string(), "good": false, "error": message }));
            }
        }
    }

    fn gait(&mut self, path: &Path, text: &str, track: Option<&(PathBuf, String)>) -> Result<(), OpenError> {
        let file = shown(path);
        let compiled = compile(text);
        let coloured = io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
        let report = Diagnosis { file: &file, text, diagnostics: &compiled.diagnostics, coloured };
        let mut row = json!({ "file": file, "diagnostics": report.rows() });
        if !compiled.diagnostics.is_empty() {
            self.say(report.to_string());
        }
        match &compiled.gait {
            None => {
                self.good = false;
                row["good"] = json!(false);
            }
            Some(gait) => {
                let (input, state) = (gait.schema().input_bits(), gait.schema().seen_bits());
                let bits = format!("input {input} bits a tick, state {state} bits to others");
                self.say(format!("{file}: `{}` is sound; {bits}, {} operations a step", gait.name(), gait.work()));
                let missing = missing(gait);
                for Missing { line, lets } in &missing {
                    self.say(format!("  its limits have no `{line}`: of whoever claims, {lets}"));
                }
                row["missing"] = missing.iter().map(|one| json!({ "line": one.line, "lets": one.lets })).collect();
                let good = match track {
                    Some((track, text)) => self.track(gait, track, text, &mut row)?,
                    None if self.task.check => true,
                    None => self.tried(gait, path, &mut row)?,
                };
                row["good"] = json!(good);
                self.good &= good;
            }
        }
        self.rows.push(row);
        Ok(())
    }

    /// Feel and attack. Says whether nothing lawful exceeds a limit.
    fn tried(&mut self, gait: &Gait, path: &Path, row: &mut Value) -> Result<bool, OpenError> {
        let feels: Vec<Feel> = RATES.iter().filter_map(|hz| Rate::new(*hz)).map(|rate| feel(gait, rate)).collect();
        row["feel"] = json!(feels);
        self.feels(&feels);
        let progress = Progress::new(gait.name());
        let how = Attack { seed: self.task.seed, restarts: self.task.restarts, ..Attack::USUAL };
        let envelope = attack(gait, how, |share| progress.show(share));
        progress.done();
        self.envelope(gait, &envelope);
        let mut found = Vec::new();
        for f in &envelope.found {
            let mut one = json!({
                "limit": f.direction.limit_name(), "ticks": f.ticks, "tick_rate": f.tick_rate,
                "found_mps": f.found_mps, "lawful_mps": f.lawful_mps, "exceeds": f.exceeds(), "nowhere_near": f.is_far(),
            });
            if f.exceeds() {
                one["track"] =
                    json!(self.keep(path, &format!("{}-{}", f.direction.limit_name(), f.ticks), &f.track)?);
            }
            found.push(one);
        }
        let mut guarded = Vec::new();
        for g in &envelope.guarded {
            let e = &g.evidence;
            let mut one = json!({
                "rule": g.rule.name(), "unit": g.rule.spec().unit, "measured": e.measured, "allowed": e.limit,
                "share": e.share(), "tick_rate": g.tick_rate, "exceeds": g.exceeds(),
            });
            if g.exceeds() {
                one["track"] = json!(self.keep(path, g.rule.name(), &g.track)?);
            }
            guarded.push(one);
        }
        row["envelope"] = json!({
            "seed": how.seed, "ticks": envelope.ticks, "faults": envelope.faults, "found": found, "guarded": guarded,
            "still": envelope.still,
        });
        Ok(!envelope.found.iter().any(Found::exceeds) && !envelope.guarded.iter().any(Guarded::exceeds))
    }

    /// Keeps the inputs that exceeded a limit.
    fn keep(&mut self, path: &Path, what: &str, track: &Track) -> Result<String, OpenError> {
        let name = format!("{}-{what}.track.json", stem(path));
        let folder = self.task.save.as_deref().or_else(|| path.parent()).unwrap_or_else(|| Path::new("."));
        // Another gait of that name, of another folder, may have kept its own there.
        let names = (2..).map(|n| format!("{}-{n}-{what}.track.json", stem(path)));
        let mut all = std::iter::once(name).chain(names).map(|name| folder.join(name));
        let at = all.find(|at| !self.kept.contains(at)).unwrap_or_default();
        self.kept.push(at.clone());
        Output::create(&at, &self.inputs)?.finish(|out| out.write_all(track.to_text().as_bytes()))?;
        self.say(format!("  wrote {}; run it: velocitas vet {} --track {}", shown(&at), shown(path), shown(&at)));
        Ok(at.display().to_string())
    }

    fn feels(&mut self, feels: &[Feel]) {
        type Figure = (&'static str, &'static str, fn(&Feel) -> Option<f32>);
        const FIGURES: [Figure; 9] = [
            ("top speed", "m/s", |f| Some(f.top_mps)),
            ("time to it", "s", |f| Some(f.to_top_s)),
            ("stopping distance", "m", |f| f.stop_m),
            ("stopping time", "s", |f| f.stop_s),
            ("height of a jump", "m", |f| f.jump_m),
            ("time in the air", "s", |f| f.air_s),
            ("turning circle", "m", |f| f.circle_m),
            ("20 m to order", "s", |f| f.arrive_s),
            ("overshoot", "m", |f| f.overshoot_m),
        ];
        self.say("\n  how it feels");
        let head: String = feels.iter().map(|f| format!("{:>10}", format!("{} Hz", f.tick_rate))).collect();
        self.say(format!("    {:<24}{head}", ""));
        for (name, unit, figure) in FIGURES {
            let values: Vec<Option<f32>> = feels.iter().map(figure).collect();
            if values.iter().all(Option::is_none) {
                continue;
            }
            let cells: String =
                values.iter().map(|v| v.map_or_else(|| format!("{:>10}", "-"), |v| format!("{v:>10.3}"))).collect();
            let known: Vec<f32> = values.iter().flatten().copied().collect();
            let (least, most) = known.iter().fold((f32::MAX, 0.0f32), |(l, m), v| (l.min(*v), m.max(*v)));
            // A time is known to the tick it falls in, at both ends.
            let grain = if unit == "s" { 2.0 / RATES[0] as f32 } else { 0.0 };
            let apart = most - least > APART * most + grain || known.len() < values.len();
            let note = if apart { "   differs with the tick rate" } else { "" };
            self.say(format!("    {:<24}{cells}{note}", format!("{name}, {unit}")));
        }
    }

    fn envelope(&mut self, gait: &Gait, envelope: &Envelope) {
        let l = envelope.limits;
        self.say(format!(
            "\n  the furthest a search of {:.1} million ticks found (seed {}); it proves nothing about what it did not find",
            envelope.ticks as f64 / 1e6,
            self.task.seed
        ));
        let slack = l.slack * 100.0;
        self.say(format!(
            "  declared by `{}`: pace {} m/s, climb {} m/s, drop {} m/s, slack {slack:.1} %",
            gait.name(),
            l.level,
            l.up,
            l.down
        ));
        self.say(format!(
            "    {:<8}{:>8}{:>14}{:>14}{:>9}{:>7}",
            "limit", "ticks", "found m/s", "lawful m/s", "share", "at"
        ));
        for f in &envelope.found {
            let share = 100.0 * f.found_mps / f.lawful_mps;
            let note = match (f.exceeds(), f.is_far()) {
                (true, _) => "   EXCEEDED",
                (_, true) => "   nowhere near: proves nothing about it",
                _ => "",
            };
            self.say(format!(
                "    {:<8}{:>8}{:>14.3}{:>14.3}{share:>7.1} %{:>4} Hz{note}",
                f.direction.limit_name(),
                f.ticks,
                f.found_mps,
                f.lawful_mps,
                f.tick_rate
            ));
        }
        self.guarded(&envelope.guarded);
        for field in &envelope.still {
            self.say(format!("    field `{field}` never changed, whatever was tried: nothing was proven about it"));
        }
        if envelope.faults > 0 {
            let faults = envelope.faults;
            self.say(format!(
                "    {faults} steps came out infinite or not a number and were rejected: look for overflow"
            ));
        }
    }

    /// How near the guard's own checks came to accusing honest play.
    fn guarded(&mut self, guarded: &[Guarded]) {
        if guarded.is_empty() {
            return;
        }
        self.say("\n  the nearest to a verdict of the guard, of 12 seconds of honest play claimed tick by tick");
        self.nearest(guarded.iter().map(|g| (g.evidence, g.tick_rate)));
    }

    /// Of each rule of the guard what came nearest to a verdict, at a tick rate.
    fn nearest(&mut self, all: impl Iterator<Item = (Evidence, u32)>) {
        self.say(format!("    {:<8}{:>14}{:>14}{:>9}{:>7}", "rule", "measured", "allowed", "share", "at"));
        for (evidence, tick_rate) in all {
            let note = if evidence.is_exceeded() { "   THE HONEST WOULD BE ACCUSED" } else { "" };
            let measured = |x: f32| match evidence.rule.spec().unit {
                "1" => format!("{x:.3}"),
                unit => format!("{x:.3} {unit}"),
            };
            self.say(format!(
                "    {:<8}{:>14}{:>14}{:>7.1} %{tick_rate:>4} Hz{note}",
                evidence.rule.name(),
                measured(evidence.measured),
                measured(evidence.limit),
                100.0 * evidence.share(),
            ));
        }
    }

    /// Runs a track. Says whether it stays within the limits.
    fn track(&mut self, gait: &Gait, path: &Path, text: &str, row: &mut Value) -> Result<bool, OpenError> {
        let wrong = |why: String| OpenError::File { path: path.to_owned(), why };
        let walked = |t: Track| -> Result<(Walked, Vec<Evidence>), TrackError> {
            let walked = walk(&t, gait, None)?;
            let nearest = nearest_of(&t, &walked, gait)?;
            Ok((walked, nearest))
        };
        let (walked, nearest) = Track::parse(text).and_then(walked).map_err(|e| wrong(e.to_string()))?;
        let limits = gait.limits(&velocitas_vet::defaults(gait));
        self.say(format!("\n  {}: {} ticks at {} Hz", shown(path), walked.states.len(), walked.rate.hz()));
        let end = walked.path().last().copied().unwrap_or(walked.from);
        self.say(format!("    ends at {:.3} {:.3} {:.3} m", end.x, end.y, end.z));
        let states = states(gait, &walked);
        self.say(laid_out(&states));
        let mut good = true;
        let mut rows = Vec::new();
        for ticks in velocitas_vet::WINDOWS {
            let (level, up, down) = walked.fastest(ticks);
            let within = |direction: velocitas_vet::Direction, found: f32| {
                found <= direction.lawful_mps(gait, &limits, walked.rate, ticks)
            };
            use velocitas_vet::Direction::{Down, Level, Up};
            let fits = within(Level, level) && within(Up, up) && within(Down, down);
            good &= fits;
            let note = if fits { "" } else { "   EXCEEDS THE LIMITS" };
            self.say(format!(
                "    over {ticks:>2} ticks: {level:>8.3} m/s level, {up:>8.3} up, {down:>8.3} down{note}"
            ));
            rows.push(json!({ "ticks": ticks, "level_mps": level, "up_mps": up, "down_mps": down, "within": fits }));
        }
        if !nearest.is_empty() {
            self.say("    claimed tick by tick, the nearest to a verdict of the guard");
            self.nearest(nearest.iter().map(|evidence| (*evidence, walked.rate.hz())));
        }
        good &= !nearest.iter().any(Evidence::is_exceeded);
        row["track"] = json!({
            "file": path.display().to_string(), "fastest": rows, "guard": nearest.iter().map(evidence_row).collect::<Vec<_>>(), "columns": states[0], "states": states[1..],
        });
        Ok(good)
    }
}

/// What a rule of the guard measured.
fn evidence_row(evidence: &Evidence) -> Value {
    json!({
        "rule": evidence.rule.name(), "measured": evidence.measured, "allowed": evidence.limit,
        "exceeds": evidence.is_exceeded(),
    })
}

/// Rows of a track at most.
const STATES: usize = 40;

/// What a rule remembers over time: names and units, then a row for every n-th tick, and one for the last.
fn states(gait: &Gait, walked: &Walked) -> Vec<Vec<String>> {
    let schema = gait.schema();
    let lanes = |f: &StateField| f.lane..f.lane + f.shape.lanes();
    let named = |f: &StateField| {
        let parts: &[&str] = if f.shape.lanes() == 3 { &[".x", ".y", ".z"] } else { &[""] };
        let unit = if f.unit.is_empty() { String::new() } else { format!(" {}", f.unit) };
        parts.iter().map(|part| format!("{}{part}{unit}", f.name)).collect::<Vec<_>>()
    };
    let mut all = vec![std::iter::once("s".to_owned()).chain(schema.state.iter().flat_map(named)).collect::<Vec<_>>()];
    let every = walked.states.len().div_ceil(STATES).max(1);
    let last = walked.states.len().saturating_sub(1);
    for (tick, state) in walked.states.iter().enumerate().filter(|(i, _)| (i + 1) % every == 0 || *i == last) {
        let value = |f: &StateField, lane: usize| match f.shape {
            Shape::Flag => if state.flag(lane) { "yes" } else { "no" }.to_owned(),
            Shape::Counter => state.int(lane).to_string(),
            _ => format!("{:.3}", state.real(lane)),
        };
        let values = schema.state.iter().flat_map(|f| lanes(f).map(move |lane| value(f, lane)));
        let seconds = (tick + 1) as f32 * walked.rate.dt();
        all.push(std::iter::once(format!("{seconds:.3}")).chain(values).collect());
    }
    all
}

/// Rows with their columns under each other.
fn laid_out(rows: &[Vec<String>]) -> String {
    let widths: Vec<usize> =
        (0..rows[0].len()).map(|i| rows.iter().map(|row| row[i].chars().count()).max().unwrap_or(0)).collect();
    let line = |row: &Vec<String>| {
        let cells = row.iter().zip(&widths).map(|(cell, width)| format!("  {cell:>width$}"));
        format!("  {}", cells.collect::<String>())
    };
    rows.iter().map(line).collect::<Vec<_>>().join("\n")
}

/// A path fit for a terminal.
fn shown(path: &Path) -> String {
    escaped(&files::named(path))
}

fn counted(n: usize, what: &str) -> String {
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}

fn warning_row(w: &CourseError) -> Value {
    json!({ "line": w.line, "column": w.column, "message": w.message })
}

fn stem(path: &Path) -> String {
    path.file_stem().map_or_else(|| "gait".to_owned(), |s| s.to_string_lossy().into_owned())
}

/// A line on the terminal that says how far a long search is. Nothing where nobody looks.
struct Progress {
    name: String,
    began: std::time::Instant,
    shown: bool,
}

impl Progress {
    fn new(name: &str) -> Self {
        Self { name: name.to_owned(), began: std::time::Instant::now(), shown: io::stderr().is_terminal() }
    }

    fn show(&self, share: f64) -> bool {
        if self.shown && share > 0.0 {
            let left = self.began.elapsed().as_secs_f64() * (1.0 - share) / share;
            let share = share * 100.0;
            complain(format_args!(
                "\r\u{1b}[Kattacking `{}`: {share:>3.0} %, {left:.1} s left; Ctrl-C stops",
                self.name
            ));
        }
        true
    }

    fn done(&self) {
        if self.shown {
            complain("\r\u{1b}[K");
        }
    }
}
