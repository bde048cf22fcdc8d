//! A branch: what would have happened with one change in the past, on the same luck. It runs beside the frames; then both
//! courses of events are shown, and either can be kept.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use velocitas_analysis::metrics::ClientMetrics;
use velocitas_analysis::moment::Figures;
use velocitas_lab::diagnose::{Reaches, Remedy};
use velocitas_record::{Command, LabTime};

use super::canvas::{frame, write};
use super::job::Job;
use super::palette::Tone;
use super::stage::branch::{Branch, Offer, Told};
use super::stage::{Stage, WINDOW};
use crate::saved::CourseFile;

/// Virtual time between two words on how far it is.
const GRAIN: LabTime = LabTime(500_000_000);

impl Stage {
    /// Offers a branch from the moment looked at with something else there.
    pub(super) fn offer_branch(&mut self, words: String, commands: Vec<Command>) {
        self.offer_change(Remedy { words, reaches: Reaches::Setting, commands, rule: None });
    }

    /// The same with anything that can be done to a run.
    pub(super) fn offer_change(&mut self, change: Remedy) {
        if self.is_over() {
            return;
        }
        self.branching.offered = Some(Offer { change });
    }

    /// Begins a branch from a moment.
    pub(super) fn begin_branch(&mut self, from: LabTime, change: &Remedy) {
        self.branching.offered = None;
        let to = self.run.now();
        let Some(mut branch) = self.run.branch(from).filter(|_| from < to) else {
            return self.say("there is nothing after this moment to be otherwise: look back first (<)");
        };
        let change = change.clone();
        let words = change.words.clone();
        let job = Job::begin(move |teller| {
            change.apply(&mut branch);
            while branch.now() < to {
                branch.advance(to.min(branch.now().plus(GRAIN)));
                if !teller.tell(Told::To(branch.now())) {
                    return;
                }
            }
            teller.tell(Told::Done(Box::new(branch)));
        });
        self.pace.running = false;
        self.branching.branch = Some(Branch { from, to, words, reached: from, run: None, job, figures: None });
        self.refresh();
    }

    /// What branches and trials have told since the last frame. Says whether anything changed.
    pub(super) fn look_at_jobs(&mut self) -> bool {
        let mut changed = self.look_at_recalled() | self.look_at_behind() | self.look_at_writing();
        let Some(branch) = &mut self.branching.branch else { return changed };
        for told in branch.job.news() {
            changed = true;
            match told {
                Told::To(at) => branch.reached = at,
                Told::Done(run) => branch.run = Some(run),
            }
        }
        if changed {
            self.refresh();
        }
        changed
    }

    /// Whether something goes on beside the frames.
    pub(super) fn works(&self) -> bool {
        self.branching.branch.as_ref().is_some_and(|branch| branch.run.is_none() && !branch.job.is_over())
            || self.recalls()
            || self.lays_behind()
    }

    /// Works out the branch's figures at the moment looked at.
    pub(super) fn follow_branch(&mut self) {
        let (at, entity) = (self.at, self.selected.entity);
        let machine = self.machine(entity);
        let Some(branch) = &mut self.branching.branch else { return };
        if branch.figures.as_ref().is_some_and(|(when, whose, _)| (*when, *whose) == (at, entity)) {
            return;
        }
        let figures = branch.at(at).map(|moment| moment.figures(machine, WINDOW));
        branch.figures = figures.map(|figures| (at, entity, figures));
    }

    /// The branch takes the place of the run, or is dropped.
    pub(super) fn end_branch(&mut self, keep: bool) {
        let Some(branch) = self.branching.branch.take() else {
            return self.say("there is no branch: look back, turn a knob, and Enter begins one");
        };
        match (keep, branch.run) {
            (true, Some(run)) => {
                self.release_all();
                self.run = *run;
                (self.past.present, self.past.recalling) = (None, None);
                self.helm.kept = None;
                self.origin.file.iter_mut().for_each(CourseFile::forget);
                self.run_number += 1;
                self.at = self.at.min(self.run.now());
                self.say(format!("kept: the run is now the one with {}", branch.words));
            }
            (true, None) => {
                self.say("the branch is not there yet: wait until it has run");
                self.branching.branch = Some(Branch { run: None, ..branch });
            }
            (false, _) => self.say(format!("dropped the branch with {}", branch.words)),
        }
        self.refresh();
    }
}

/// Rows that the branch takes in the side panel.
pub(super) fn rows(stage: &Stage) -> u16 {
    if stage.branching.branch.is_some() { ROWS.len() as u16 + 5 } else { 0 }
}

/// A figure that both are held against each other by.
struct Row {
    name: &'static str,
    get: fn(&ClientMetrics, &Figures) -> Option<f64>,
    unit: Unit,
}

#[derive(Clone, Copy)]
enum Unit {
    Count,
    Metres,
    Speed,
    Rate,
}

static ROWS: [Row; 7] = [
    Row { name: "corrections", get: |m, _| Some(f64::from(m.corrections.count)), unit: Unit::Count },
    Row { name: "largest jump", get: |m, _| m.corrections.max_m, unit: Unit::Metres },
    Row { name: "inputs made up", get: |m, _| Some(f64::from(m.inputs.repeated + m.inputs.rested)), unit: Unit::Count },
    Row { name: "own off p95", get: |m, _| m.own.drawn_error_m.p95, unit: Unit::Metres },
    Row { name: "others off p95", get: |m, _| m.others.drawn_error_m.p95, unit: Unit::Metres },
    Row { name: "roughness p95", get: |m, _| m.others.roughness_mps.p95, unit: Unit::Speed },
    Row {
        name: "payload",
        get: |m, f| Some((m.bytes_up + m.bytes_down) as f64 / f.seconds / 1000.0),
        unit: Unit::Rate,
    },
];

/// A value, or a difference, in its unit.
fn shown(value: Option<f64>, unit: Unit, signed: bool) -> String {
    let Some(x) = value else { return "-".to_owned() };
    let (number, unit) = match unit {
        Unit::Count => (format!("{x:.0}"), ""),
        Unit::Metres if x.abs() < 1.0 => (format!("{:.1}", x * 100.0), " cm"),
        Unit::Metres => (format!("{x:.2}"), " m"),
        Unit::Speed => (format!("{x:.2}"), " m/s"),
        Unit::Rate => (format!("{x:.1}"), " kB/s"),
    };
    // What rounds to nothing has no sign.
    let is_nothing = number.chars().all(|c| !('1'..='9').contains(&c));
    let number = if is_nothing { number.trim_start_matches('-').to_owned() } else { number };
    let plus = if signed && x > 0.0 && !is_nothing { "+" } else { "" };
    format!("{plus}{number}{unit}")
}

/// Both figures and their difference, in the side panel.
pub(super) fn draw(stage: &Stage, area: Rect, buffer: &mut Buffer) {
    let Some(branch) = &stage.branching.branch else { return };
    let p = stage.palette;
    let (text, muted, key) = (p.text(Tone::Text), p.text(Tone::Muted), p.chosen());
    let inner = frame(stage.palette, area, &format!("branch from {}", branch.from), buffer);
    let (x, end) = (inner.x + 1, inner.right());
    write(buffer, (x, inner.y), end, &[("with ", muted), (&branch.words, text)]);
    let last = (x, inner.bottom().saturating_sub(1));
    let Some(facts) = stage.facts.as_ref().filter(|_| branch.run.is_some()) else {
        let (done, all) = (branch.reached.minus(branch.from).secs(), branch.to.minus(branch.from).secs());
        let said = format!("runs: {done:.1} of {all:.1} s");
        write(buffer, (x, inner.y + 2), end, &[(&said, text)]);
        write(buffer, last, end, &[("D ", key), ("lets go of it", muted)]);
        return;
    };
    let Some((_, _, there)) = &branch.figures else {
        let said = format!("the same until {}; look later", branch.from);
        write(buffer, (x, inner.y + 2), end, &[(&said, muted)]);
        write(buffer, last, end, &[("K ", key), ("keep   ", muted), ("D ", key), ("drop", muted)]);
        return;
    };
    write(buffer, (x, inner.y + 1), end, &[("last 10 s           run   branch difference", muted)]);
    let here = &facts.figures;
    for (row, y) in ROWS.iter().zip(inner.y + 2..last.1) {
        let [a, b] = [here, there].map(|f| (row.get)(&f.measured, f));
        let difference = a.zip(b).map(|(a, b)| b - a);
        let line = format!("{:>9}{:>9}", shown(a, row.unit, false), shown(b, row.unit, false));
        let told = format!("{:>11}", shown(difference, row.unit, true));
        write(buffer, (x, y), end, &[(&format!("{:<14}", row.name), muted), (&line, text), (&told, key)]);
    }
    write(buffer, last, end, &[("K ", key), ("keep the branch   ", muted), ("D ", key), ("drop it", muted)]);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn differences_have_a_sign_and_nothing_has_none() {
        let told = |x, unit| shown(Some(x), unit, true);
        assert_eq!((told(-65.0, Unit::Count), told(3.0, Unit::Count)), ("-65".into(), "+3".into()));
        assert_eq!((told(-0.04, Unit::Rate), told(0.04, Unit::Rate)), ("0.0 kB/s".into(), "0.0 kB/s".into()));
        assert_eq!((told(-0.906, Unit::Metres), told(1.5, Unit::Metres)), ("-90.6 cm".into(), "+1.50 m".into()));
        assert_eq!(
            (shown(Some(0.5), Unit::Speed, false), shown(None, Unit::Speed, true)),
            ("0.50 m/s".into(), "-".into())
        );
    }
}
