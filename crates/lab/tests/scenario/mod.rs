//! Courses made from a few words, and questions to ask of their runs.

#![allow(dead_code, reason = "each test file uses some of it")]

use velocitas_core::{Provenance, Restored};
use velocitas_lab::cause::causes;
use velocitas_lab::record::{Happening, InputFate, Machine, Record};
use velocitas_lab::{Course, LabTime, Run};

/// A round trip with turns, sprints and hops in an open yard.
pub const ROUND: &str = r#"[
    { at = [8, 0] }, { at = [8, 8], sprint = true }, { at = [-8, 8], hop = true, sprint = true },
    { at = [-8, -8] }, { at = [0, 0], hop = true, wait = "700 ms" },
]"#;

/// Something new to do every third of a second.
pub const ZIGZAG: &str =
    "[{ at = [1.5, 1] }, { at = [0, 2], hop = true }, { at = [-1.5, 1], sprint = true }, { at = [0, 0] }]";

/// Words that make a course.
pub struct Words<'a> {
    pub hz: u32,
    pub seed: u64,
    pub first_tick: u64,
    pub link: &'a str,
    /// Whole tables: solids, cast, events.
    pub rest: String,
}

impl Default for Words<'_> {
    fn default() -> Self {
        Self { hz: 60, seed: 1, first_tick: 0, link: "", rest: String::new() }
    }
}

impl Words<'_> {
    pub fn course(&self) -> Course {
        let Self { hz, seed, first_tick, link, rest } = self;
        let text = format!(
            "format = 1\nname = \"test\"\nseed = {seed}\ntick_rate = \"{hz} Hz\"\nfirst_tick = {first_tick}\n\
             world = {{ min = [-30, -30], max = [30, 30] }}\n[link.test]\n{link}\n{rest}"
        );
        Course::parse("test.course.toml", &text, &[]).unwrap_or_else(|e| panic!("{e}"))
    }

    #[track_caller]
    pub fn run(&self, seconds: f64) -> Run {
        let mut run = Run::new(self.course()).expect("the cast fits");
        run.advance(LabTime::from_secs(seconds));
        run
    }
}

/// Somebody on the round, with these extra keys.
pub fn walker(name: &str, keys: &str) -> String {
    format!(
        "[[cast]]\nname = \"{name}\"\nrole = \"bot\"\ngait = \"courier.gait\"\nlink = \"test\"\nspawn = [0, 0]\nroute = {ROUND}\n{keys}\n"
    )
}

/// Corrections of a member that eyes could see.
pub fn corrections(record: &Record, member: usize, from: LabTime) -> Vec<(LabTime, velocitas_core::Correction)> {
    let mine = record.happenings.iter().filter(|r| r.machine == Machine::Member(member) && r.at >= from);
    mine.filter_map(|r| match r.what {
        Happening::Corrected(c) if c.why != Restored::Settled => Some((r.at, c)),
        _ => None,
    })
    .collect()
}

/// Those of them that the record does not explain.
pub fn unexplained(record: &Record, member: usize) -> usize {
    let all = corrections(record, member, LabTime::ZERO);
    all.iter().filter(|(at, c)| causes(record, member, *at, c).is_empty()).count()
}

pub fn verdicts(record: &Record, member: usize) -> usize {
    let mine = record.happenings.iter().filter(|r| r.machine == Machine::Member(member));
    mine.filter(|r| matches!(r.what, Happening::Verdict(_))).count()
}

/// For every tick that a member predicted, where nothing stood between the state it began from and that tick: the
/// first prediction must be the server's state, bit for bit. Returns how many ticks were held to that.
#[track_caller]
pub fn first_predictions_are_exact(record: &Record, member: usize) -> usize {
    let ticks = record.authority[member].len() + 2;
    let mut disturbed = vec![false; ticks + 1];
    let mut note = |tick: u32| disturbed[(tick as usize).min(ticks)] = true;
    for row in record.inputs.iter().filter(|r| usize::from(r.member) == member) {
        if matches!(row.fate, InputFate::Used(p) if p != Provenance::Fresh) {
            // Its press, if it had one, takes effect in the next.
            note(row.tick);
            note(row.tick + 1);
        }
    }
    for row in record.happenings.iter() {
        let tick = row.tick.unwrap_or(0);
        match row.what {
            Happening::Dropped(count) if [Machine::Server, Machine::Member(member)].contains(&row.machine) => {
                (tick..=tick + count as u32).for_each(&mut note);
            }
            Happening::Pushed => note(tick),
            _ => {}
        }
    }
    // Restores, in order: from which tick on the client went by the server's word, and when it knew.
    let restores: Vec<(LabTime, u32)> = record
        .happenings
        .iter()
        .filter(|r| r.machine == Machine::Member(member))
        .filter_map(|r| match r.what {
            Happening::Corrected(c) => Some((r.at, c.tick.0 as u32)),
            _ => None,
        })
        .collect();
    let (predicted, authority) = (&record.predicted[member], &record.authority[member]);
    let first_tick = predicted.head(0).map_or(0, |h| h.tick);
    let mut held = 0;
    let mut equal_to = 0;
    for i in 0..predicted.len() {
        let head = predicted.head(i).expect("within");
        let Some(truth) = authority.of_tick(head.tick) else { continue };
        let known = restores.partition_point(|(at, _)| *at <= head.at);
        let from = known.checked_sub(1).map_or(first_tick, |k| restores[k].1 + 1).max(equal_to + 1);
        let same = predicted.state(i) == authority.state(truth);
        if (from..=head.tick).any(|t| disturbed[t as usize]) {
            // Equal all the same: from here on the past no longer matters.
            equal_to = if same { head.tick } else { equal_to };
            continue;
        }
        equal_to = head.tick;
        held += 1;
        assert_eq!(
            predicted.state(i),
            authority.state(truth),
            "tick {} predicted at {} from tick {from}",
            head.tick,
            head.at
        );
    }
    held
}
