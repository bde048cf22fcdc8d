//! What came of checking courses against their budgets: for people, for programs, for whoever collects test results.

mod json;
mod junit;
mod text;

pub use json::{KeptError, kept};

use velocitas_analysis::budget::{Accused, Compared, Held, Known, Limit, MEASURES, Outcome, against};
use velocitas_analysis::metrics::ClientMetrics;
use velocitas_lab::Course;
use velocitas_record::LabTime;

/// One run of a course.
#[derive(Clone, Debug)]
pub struct CheckedRun {
    /// Where all luck came from.
    pub seed: u64,
    /// How much virtual time it lasted.
    pub lasts: LabTime,
    /// Of everything that happened.
    pub digest: u64,
    /// Steps that came out non-finite, and the first of them.
    pub step_faults: (u32, Option<LabTime>),
    /// The figures of the cast.
    pub clients: Vec<ClientMetrics>,
    /// Its limits and what came of them.
    pub held: Vec<Held>,
}

/// A course with its runs.
#[derive(Clone, Debug)]
pub struct CheckedCourse {
    /// Its file, as it was named.
    pub file: String,
    /// Its name.
    pub name: String,
    /// The names of the cast.
    pub members: Vec<String>,
    /// Whether its file bounds anything.
    pub has_budget: bool,
    /// Who is meant to be accused, by what.
    pub accused: Vec<Accused>,
    /// A run with each seed.
    pub runs: Vec<CheckedRun>,
}

/// A report that is held against another.
#[derive(Clone, Debug)]
pub struct Against {
    /// The file of the one that was kept.
    pub file: String,
    /// By what share something may become worse.
    pub share: f64,
    /// What both know.
    pub compared: Vec<Compared>,
}

/// Everything that was checked.
#[derive(Clone, Debug)]
pub struct Checked {
    /// In the order in which they were named.
    pub courses: Vec<CheckedCourse>,
    /// What it was held against, if it was.
    pub against: Option<Against>,
}

/// A limit of a course over all of its runs.
#[derive(Clone, Copy, Debug)]
pub struct Line<'a> {
    /// The limit.
    pub limit: Limit,
    /// The member's name.
    pub member: &'a str,
    /// The run that came out worst, with what was measured; `None` where no run had anything to measure.
    pub worst: Option<(&'a CheckedRun, Held)>,
    /// With how many seeds it was not kept.
    pub beyond: usize,
    /// Whether the bound of the course was measured of anybody at all; one that was not guards nothing.
    pub guards: bool,
}

impl Line<'_> {
    /// Whether it came out as it should. What no run could measure guards nothing: that is not good where the course bounds it. What is
    /// meant to be exceeded is to be so with one seed at least.
    pub const fn is_good(&self) -> bool {
        self.guards && (self.beyond > 0) == self.limit.exceeded.is_some()
    }
}

impl CheckedCourse {
    /// A course, to which its runs come.
    pub fn of(file: String, course: &Course) -> Self {
        Self {
            file,
            name: course.name.clone(),
            members: course.cast.iter().map(|member| member.name.clone()).collect(),
            has_budget: course.limits.iter().any(|limit| limit.line.or(limit.exceeded).is_some())
                || !course.accused.is_empty(),
            accused: course.accused.clone(),
            runs: Vec::new(),
        }
    }

    /// Its limits, in the order of the cast and of the table.
    pub fn lines(&self) -> Vec<Line<'_>> {
        let count = self.runs.first().map_or(0, |run| run.held.len());
        // A bound of several is no good only if it could be measured of none of them.
        let counts = |limit: &Limit| {
            let same = |held: &&Held| held.limit.line == limit.line && held.limit.measure == limit.measure;
            self.runs.iter().flat_map(|run| &run.held).filter(same).any(|held| held.value.is_some())
        };
        let line = |place: usize| {
            let all = || self.runs.iter().map(move |run| (run, run.held[place]));
            let limit = self.runs[0].held[place].limit;
            let measured = all().filter(|(_, held)| held.value.is_some());
            let worse =
                |held: &Held| held.value.map_or(f64::NEG_INFINITY, |value| limit.measure.bound.worse_by(value, 0.0));
            // Of equal ones the first.
            let worst = measured.reduce(|a, b| if worse(&b.1) > worse(&a.1) { b } else { a });
            Line {
                limit,
                member: &self.members[limit.member.index()],
                worst,
                beyond: all().filter(|(_, held)| held.outcome() == Outcome::Beyond).count(),
                guards: limit.line.is_none() || counts(&limit),
            }
        };
        (0..count).map(line).collect()
    }

    /// With how many seeds a check accused whom it is meant to.
    pub fn times(&self, accused: &Accused) -> usize {
        let by = |run: &&CheckedRun| run.clients[accused.member.index()].verdicts.contains_key(accused.by.name());
        self.runs.iter().filter(by).count()
    }

    /// Who is meant to be accused and was not.
    pub fn unaccused(&self) -> impl Iterator<Item = &Accused> {
        self.accused.iter().filter(|accused| self.times(accused) == 0)
    }

    /// How many things went wrong as they are meant to.
    pub fn meant(&self) -> usize {
        let exceeded = |line: &&Line<'_>| line.limit.exceeded.is_some() && line.is_good();
        let accused = self.accused.len() - self.unaccused().count();
        self.lines().iter().filter(exceeded).count() + accused
    }

    /// The first run in which a step faulted.
    pub fn faulted(&self) -> Option<&CheckedRun> {
        self.runs.iter().find(|run| run.step_faults.0 > 0)
    }

    /// Whether all limits were kept and no step faulted.
    pub fn is_good(&self) -> bool {
        self.faulted().is_none() && self.lines().iter().all(Line::is_good) && self.unaccused().next().is_none()
    }

    /// The command that opens a run of it where something happened.
    pub fn opens(&self, run: &CheckedRun, at: Option<LabTime>, member: Option<&str>) -> String {
        let at = at.map_or(String::new(), |at| format!(" --at {}", clock(at)));
        let member = member.map_or(String::new(), |member| format!(" --entity {}", quoted(member)));
        format!("velocitas {} --seed {}{at}{member}", quoted(&self.file), run.seed)
    }
}

impl Checked {
    /// Whether everything is as it should be.
    pub fn is_good(&self) -> bool {
        self.courses.iter().all(CheckedCourse::is_good) && self.worse().next().is_none()
    }

    /// What became worse.
    pub fn worse(&self) -> impl Iterator<Item = &Compared> {
        let all = self.against.iter().flat_map(|a| a.compared.iter().map(move |compared| (a.share, compared)));
        all.filter(|(share, compared)| compared.is_worse(*share)).map(|(_, compared)| compared)
    }

    /// Everything that can be measured of everybody.
    pub fn known(&self) -> Vec<Known> {
        let mut all = Vec::new();
        for course in &self.courses {
            for run in &course.runs {
                for client in &run.clients {
                    let values = MEASURES.iter().filter_map(|measure| Some((measure, (measure.get)(client)?)));
                    all.extend(values.map(|(measure, value)| Known {
                        course: course.file.clone(),
                        seed: run.seed,
                        lasts: run.lasts,
                        member: client.name.clone(),
                        measure,
                        value,
                    }));
                }
            }
        }
        all
    }

    /// Holds it against a report that was kept.
    pub fn hold_against(&mut self, file: String, kept: &[Known], share: f64) {
        let compared = against(&self.known(), kept);
        self.against = Some(Against { file, share, compared });
    }

    /// As JSON, indented.
    pub fn json(&self) -> String {
        json::json(self)
    }

    /// As JUnit XML.
    ///
    /// # Errors
    /// What the writer says.
    pub fn junit(&self) -> Result<String, String> {
        junit::junit(self)
    }

    /// For people: what was not kept, with the commands that open it; with `every`, all limits.
    pub fn text(&self, every: bool) -> String {
        text::text(self, every)
    }
}

/// `m:ss.mmm`, rounded up: what happened at that moment has happened.
pub fn clock(at: LabTime) -> String {
    let millis = at.0.div_ceil(1_000_000);
    format!("{}:{:02}.{:03}", millis / 60_000, millis / 1000 % 60, millis % 1000)
}

/// A word for a shell.
fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+=:,@%".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        return word.to_owned();
    }
    format!("'{}'", word.replace('\'', "'\\''"))
}

#[cfg(test)]
mod tests {
    use velocitas_lab::Run;

    use super::*;

    #[test]
    fn words_for_a_shell_and_moments_for_a_clock() {
        assert_eq!(quoted("courses/a-b.course.toml"), "courses/a-b.course.toml");
        assert_eq!(quoted("it's here"), "'it'\\''s here'");
        assert_eq!(quoted(""), "''");
        assert_eq!(clock(LabTime(31_416_666_667)), "0:31.417");
        assert_eq!(clock(LabTime::from_secs(125.0)), "2:05.000");
    }

    /// A course with a bound that is kept and one that is meant to be exceeded, and what was measured of the first with each seed.
    fn checked(values: &[Option<f64>]) -> Checked {
        let text = "format = 1\nname = \"quay\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                    [[cast]]\nname = \"teal\"\nrole = \"bot\"\nspawn = [0, 0]\n[[budget]]\nbytes_up = \"1 kB/s\"\n";
        let course = Course::parse("quay", text, &[]).unwrap_or_else(|e| panic!("{e}"));
        let mut checked = CheckedCourse::of("quay.course.toml".to_owned(), &course);
        let mut run = Run::new(course.clone()).expect("it fits");
        run.advance(LabTime::from_secs(2.0));
        let limits: Vec<Limit> = course.limits.iter().filter(|limit| limit.line.is_some()).copied().collect();
        for (seed, value) in (1..).zip(values) {
            let held =
                |limit: &Limit| Held { limit: *limit, value: *value, at: value.map(|_| LabTime::from_secs(2.5)) };
            checked.runs.push(CheckedRun {
                seed,
                lasts: LabTime::from_secs(30.0),
                digest: seed,
                step_faults: (0, None),
                clients: run.measured().clients,
                held: limits.iter().map(held).collect(),
            });
        }
        Checked { courses: vec![checked], against: None }
    }

    /// Half a kilobyte a second more than allowed, in the unit that is kept.
    const BEYOND: f64 = 1500.0;

    #[test]
    fn a_bound_is_kept_with_every_seed_or_not_and_the_worst_is_told() {
        let kept = checked(&[Some(800.0), Some(900.0)]);
        assert!(kept.is_good());
        let broken = checked(&[Some(800.0), Some(BEYOND), Some(1200.0)]);
        let line = broken.courses[0].lines()[0];
        let (run, held) = line.worst.expect("it was measured");
        assert_eq!((run.seed, held.value, line.beyond, line.is_good()), (2, Some(BEYOND), 2, false));
        assert!(!broken.is_good());
        let text = broken.text(true);
        assert!(text.contains("teal") && text.contains("1.5 kB/s") && text.contains("0:02.500"), "{text}");
        // What could be measured of nobody guards nothing.
        let unmeasured = checked(&[None, None]);
        assert!(!unmeasured.is_good() && unmeasured.courses[0].lines()[0].worst.is_none());
    }

    #[test]
    fn what_is_meant_to_be_exceeded_is_good_only_when_it_is() {
        let meant = |values: &[Option<f64>]| {
            let mut checked = checked(values);
            let held = checked.courses[0].runs.iter_mut().flat_map(|run| &mut run.held);
            held.for_each(|held| held.limit.exceeded = Some(9));
            checked.is_good()
        };
        assert!(meant(&[Some(800.0), Some(BEYOND)]), "with one seed is enough");
        assert!(!meant(&[Some(800.0), Some(900.0)]));
    }

    #[test]
    fn junit_has_a_case_for_each_seed_and_limit_and_for_its_steps() {
        let xml = checked(&[Some(800.0), Some(BEYOND)]).junit().expect("it is written");
        let count = |what: &str| xml.matches(what).count();
        assert_eq!((count("<testcase "), count("<failure ")), (4, 1), "{xml}");
        assert!(xml.contains("teal bytes_up seed 2") && xml.contains("steps seed 1"), "{xml}");
        let mut faulted = checked(&[Some(800.0)]);
        faulted.courses[0].runs[0].step_faults = (3, Some(LabTime::from_secs(1.0)));
        let xml = faulted.junit().expect("it is written");
        assert!(xml.contains("3 steps came out infinite or not a number") && !faulted.is_good(), "{xml}");
    }

    #[test]
    fn a_report_that_was_kept_is_read_as_it_was_written_and_what_is_worse_is_found() {
        let before = checked(&[Some(800.0), Some(900.0)]);
        let mut read = kept(&before.json()).unwrap_or_else(|why| panic!("{why}"));
        let told = |known: &[Known]| {
            let each = known.iter().map(|k| (k.seed, k.measure.key, k.value.to_bits()));
            each.collect::<std::collections::BTreeSet<_>>()
        };
        assert_eq!(told(&read), told(&before.known()));
        assert!(read.iter().any(|known| known.measure.key == "bytes_up"));
        // It was less than it is.
        read.iter_mut().filter(|known| known.measure.key == "bytes_up").for_each(|known| known.value /= 1.1);
        let mut after = before;
        for (share, worse) in [(0.2, 0), (0.05, 1)] {
            after.hold_against("before.json".to_owned(), &read, share);
            assert_eq!(after.worse().count(), worse, "by {share}");
        }
        assert!(kept("{}").is_err() && kept("no JSON").is_err());
    }
}
