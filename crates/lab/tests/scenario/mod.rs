//! Courses made from a few words, and questions to ask of their runs.

use velocitas_analysis::cause::{Cause, Findings};
use velocitas_analysis::{metrics, metrics::ClientMetrics};
use velocitas_core::{Correction, Fact, Provenance, Restored};
use velocitas_lab::{Course, Run};
use velocitas_record::record::{InputRow, Record, StateTrack};
use velocitas_record::{ActorId, Happening, LabTime, MachineId, MemberId, Part};

/// A round trip with turns, sprints and hops in an open yard.
pub const ROUND: &str = r#"[
    { at = [8, 0] }, { at = [8, 8], hold = ["sprint"] }, { at = [-8, 8], hold = ["sprint"], press = ["hop"] },
    { at = [-8, -8] }, { at = [0, 0], press = ["hop"], wait = "700 ms" },
]"#;

/// A yard with things to run into, to step on and to slip on.
pub const YARD: &str = r#"
[[solid]]
name = "shed"
at = [8.6, 4]
size = [4, 3]
yaw = "25 deg"
height = "3 m"
[[solid]]
name = "kerb"
at = [-8, 0]
size = [3, 6]
height = "0.2 m"
[[zone]]
name = "slip"
surface = "ice"
min = [-6, -9]
max = [0, -4]
"#;

/// Something new to do every third of a second.
pub const ZIGZAG: &str =
    r#"[{ at = [1.5, 1] }, { at = [0, 2], press = ["hop"] }, { at = [-1.5, 1], hold = ["sprint"] }, { at = [0, 0] }]"#;

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
    pub fn text(&self) -> String {
        let Self { hz, seed, first_tick, link, rest } = self;
        format!(
            "format = 1\nname = \"test\"\nseed = {seed}\ntick_rate = \"{hz} Hz\"\nfirst_tick = {first_tick}\n\
             world = {{ min = [-30, -30], max = [30, 30] }}\n[link.test]\n{link}\n{rest}"
        )
    }

    pub fn course(&self) -> Course {
        Course::parse("test.course.toml", &self.text(), &[]).unwrap_or_else(|e| panic!("{e}"))
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

/// The machine of a member, by its place in the cast.
pub fn machine(record: &Record, member: usize) -> MachineId {
    record.cast.players().nth(member).expect("a member of the cast")
}

/// Its entity.
pub fn actor(record: &Record, member: usize) -> ActorId {
    record.cast.body(machine(record, member), record.end).expect("everybody came with something")
}

pub fn member(place: usize) -> MemberId {
    MemberId::new(place as u16)
}

pub fn measure(record: &Record, member: usize, from: LabTime, to: LabTime) -> ClientMetrics {
    metrics::measure(record, machine(record, member), from, to)
}

pub fn causes(record: &Record, member: usize, at: LabTime, c: &Correction) -> Vec<Cause> {
    Findings::default().of(record, machine(record, member), at, c).causes.clone()
}

/// What the authority made of a member's entity, and what its owner predicted at first.
pub fn tracks(record: &Record, member: usize) -> (&StateTrack, &StateTrack) {
    let actor = actor(record, member);
    let own = record.of(machine(record, member)).own(actor).expect("its own");
    (record.authority(actor), &own.predicted)
}

/// What became of a member's inputs.
pub fn inputs(record: &Record, member: usize) -> Vec<InputRow> {
    let own = record.of(machine(record, member)).own(actor(record, member)).expect("its own");
    own.inputs.rows().iter().collect()
}

/// What happened in clients and the server, of one member or the server, each with its moment.
pub fn facts(record: &Record, machine: MachineId) -> impl Iterator<Item = (LabTime, Fact)> {
    record.of(machine).happenings.iter().filter_map(|r| match r.what {
        Happening::Fact(fact) => Some((r.at, fact)),
        _ => None,
    })
}

/// Corrections of a member that eyes could see.
pub fn corrections(record: &Record, member: usize, from: LabTime) -> Vec<(LabTime, Correction)> {
    let mine = facts(record, machine(record, member)).filter(|(at, _)| *at >= from);
    mine.filter_map(|(at, fact)| match fact {
        Fact::Corrected(c) if c.why != Restored::Settled => Some((at, c)),
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
    facts(record, machine(record, member)).filter(|(_, fact)| matches!(fact, Fact::Verdict(_))).count()
}

/// For every tick that a member predicted, where nothing stood between the state it began from and that tick: the
/// first prediction must be the server's state, bit for bit. Returns how many ticks were held to that.
#[track_caller]
pub fn first_predictions_are_exact(record: &Record, member: usize) -> usize {
    let (authority, predicted) = tracks(record, member);
    let here = machine(record, member);
    let ticks = authority.len() + 2;
    let mut disturbed = vec![false; ticks + 1];
    let mut note = |tick: u32| disturbed[(tick as usize).min(ticks)] = true;
    let inputs = inputs(record, member);
    let begun = inputs.iter().find(|row| row.used().is_some()).map_or(0, |row| row.tick.0);
    for row in &inputs {
        match row.used() {
            Some((_, Provenance::Fresh)) => {}
            Some(_) => {
                // Its press, if it had one, takes effect in the next.
                note(row.tick.0);
                note(row.tick.0 + 1);
            }
            // Lost before anything arrived: the server could not miss it.
            None if row.tick.0 < begun => (row.tick.0..=begun).for_each(&mut note),
            None => {}
        }
    }
    for (machine, part) in [(MachineId::SERVER, Part::Server), (here, Part::Client)] {
        for row in record.of(machine).happenings.iter().filter(|row| row.part == part) {
            let tick = row.tick.unwrap_or_default().0;
            match row.what {
                Happening::Fact(Fact::Dropped { count, .. }) => (tick..=tick + count as u32).for_each(&mut note),
                Happening::Pushed(..) => note(tick),
                _ => {}
            }
        }
    }
    // Restores, in order: from which tick on the client went by the server's word, and when it knew.
    let restores: Vec<(LabTime, u32)> = facts(record, here)
        .filter_map(|(at, fact)| match fact {
            Fact::Corrected(c) => Some((at, record.cast.tick(c.tick).0)),
            _ => None,
        })
        .collect();
    let first_tick = predicted.head(0).map_or(0, |h| h.tick.0);
    let mut held = 0;
    // The newest tick that was equal all the same, and how many restores were known then: a later one begins from an older
    // tick, where what was disturbed matters again.
    let mut equal = (0, 0);
    for i in 0..predicted.len() {
        let head = predicted.head(i).expect("within");
        let (tick, Some(truth)) = (head.tick.0, authority.of_tick(head.tick)) else { continue };
        let known = restores.partition_point(|(at, _)| *at <= head.at);
        let restored = known.checked_sub(1).map_or(first_tick, |k| restores[k].1 + 1);
        let from = if equal.1 == known { restored.max(equal.0 + 1) } else { restored };
        let same = predicted.state(i) == authority.state(truth);
        if (from..=tick).any(|t| disturbed[t as usize]) {
            // Equal all the same: from here on the past no longer matters.
            equal = if same { (tick, known) } else { equal };
            continue;
        }
        equal = (tick, known);
        held += 1;
        assert_eq!(predicted.state(i), authority.state(truth), "tick {tick} predicted at {} from tick {from}", head.at);
    }
    held
}
