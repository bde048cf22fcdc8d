//! The figures of a whole run, in the shape of the JSON report.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use velocitas_analysis::metrics::Measured;
use velocitas_analysis::metrics::{ClientMetrics, seen_after_ms};
use velocitas_analysis::trouble::Trouble;
use velocitas_lab::Run;
use velocitas_lab::take::Take;
use velocitas_record::record::Record;
use velocitas_record::{ActorId, LabTime};

/// A run in numbers. `docs/report.md` explains the keys.
#[derive(Clone, Debug, Serialize)]
pub struct Summary {
    /// The course's name.
    pub course: String,
    /// Where all luck came from.
    pub seed: u64,
    /// Ticks a second.
    pub tick_rate: u32,
    /// Server ticks run; those passed over after a stall are none.
    pub ticks: u64,
    /// How much virtual time was run.
    pub ends_ms: f64,
    /// Of everything that happened, as 16 hexadecimal digits.
    pub digest: String,
    /// How long the simulation took, recording included.
    pub wall_ms: f64,
    /// Simulated seconds a second.
    pub times_real_time: f64,
    /// Bytes the record takes in memory.
    pub record_bytes: usize,
    /// Steps that came out non-finite.
    pub step_faults: u32,
    /// Datagrams that could not be read.
    pub refused_datagrams: u64,
    /// Each of the cast.
    pub clients: Vec<ClientMetrics>,
    /// What went wrong, by reason: the worst first.
    pub troubles: Vec<TroubleRow>,
    /// Everything that was ever there, in the order of birth.
    pub entities: Vec<EntityLife>,
    /// What did not stir, in words: where nothing happened, nothing was proven.
    pub still: Vec<String>,
    /// How the run of a take came out again; `None` for a course.
    pub take: Option<TakeSummary>,
}

/// How the run of a take came out again.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TakeSummary {
    /// The version of the program that wrote it.
    pub program: String,
    /// How far it goes.
    pub ends_ms: f64,
    /// Its checkpoints that were run to.
    pub checkpoints: usize,
    /// The first at which the run is no longer what it was.
    pub parted_ms: Option<f64>,
    /// Rows of the record that it was sealed with.
    pub sealed_rows: usize,
    /// Bytes that were left out because they are damaged.
    pub lost_bytes: usize,
}

impl TakeSummary {
    /// Of a take and what it came to when it was run.
    pub fn of(take: &Take, run: &Run) -> Self {
        Self {
            program: take.program.clone(),
            ends_ms: take.end.millis(),
            checkpoints: take.digests.iter().filter(|(at, _)| *at <= run.now()).count(),
            parted_ms: run.parted().map(LabTime::millis),
            sealed_rows: take.rows,
            lost_bytes: take.damage.map_or(0, |damage| damage.lost),
        }
    }

    /// In words, for people.
    pub fn words(&self) -> String {
        let Self { program, checkpoints, parted_ms, .. } = self;
        let count = if *checkpoints == 1 { "1 checkpoint".to_owned() } else { format!("{checkpoints} checkpoints") };
        match parted_ms {
            None => format!("kept by version {program}: the same again at {count}"),
            Some(at) => {
                let at = LabTime::from_millis(*at);
                let was = if self.sealed_rows > 0 { "; --unseal writes what was" } else { "" };
                format!(
                    "kept by version {program}: no longer the same from checkpoint {at} on, of {count}: this program is another{was}"
                )
            }
        }
    }
}

/// A trouble in numbers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TroubleRow {
    /// Whose screen, or prediction.
    pub client: String,
    /// Why, in one word.
    pub reason: String,
    /// The same in words: a solid or a tunable by its name.
    pub what: String,
    /// The same with how often and how far.
    pub words: String,
    /// How often the present was taken back.
    pub corrections: u32,
    /// Frames in which something drawn moved otherwise than it should.
    pub hops: u32,
    /// How often everything stood still.
    pub stalls: u32,
    /// The jumps of the corrections, in all.
    pub jumps_m: f64,
    /// The largest of them.
    pub worst_m: f64,
    /// What eyes saw jump after easing.
    pub seen_m: f64,
    /// In how many seconds.
    pub seconds: f64,
    /// When it was first.
    pub first_ms: f64,
    /// When it was last.
    pub last_ms: f64,
}

impl TroubleRow {
    /// A trouble of a record.
    pub fn of(record: &Record, t: &Trouble) -> Self {
        Self {
            client: record.cast.name(t.machine).to_owned(),
            reason: t.reason.name(),
            what: t.reason.words(record),
            words: t.words(record),
            corrections: t.corrections,
            hops: t.hops,
            stalls: t.stalls,
            jumps_m: t.jumps_m,
            worst_m: t.worst_m,
            seen_m: t.seen_m,
            seconds: t.seconds,
            first_ms: t.first.millis(),
            last_ms: t.last.millis(),
        }
    }
}

/// From an entity's birth to its end.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct EntityLife {
    /// Its name.
    pub name: String,
    /// Slot and generation in the world.
    pub id: String,
    /// The name of its rule.
    pub rule: String,
    /// When it was born.
    pub born_ms: f64,
    /// When it went, if it did.
    pub gone_ms: Option<f64>,
    /// On whose machines its owners sat at its end, or at that of the run.
    pub owners: Vec<String>,
    /// For each machine that drew it, how long after its birth, or its own start where that was later, it did so first.
    pub seen_after_ms: BTreeMap<String, f64>,
}

/// The lives of all that was ever there.
fn lives(record: &Record) -> Vec<EntityLife> {
    let cast = &record.cast;
    let life = |actor: ActorId| {
        let it = &cast.actors[actor.index()];
        let last = it.gone.map_or(record.end, |(gone, _)| gone.minus(LabTime(1)));
        let mut seen = BTreeMap::new();
        for machine in cast.players() {
            for row in record.of(machine).seen.iter().filter(|row| row.actor == actor) {
                let after = seen_after_ms(record, machine, row);
                seen.entry(cast.name(machine).to_owned()).or_insert(after);
            }
        }
        EntityLife {
            name: it.name.clone(),
            id: it.id.to_string(),
            rule: cast.kinds().motion(it.kind).name().to_owned(),
            born_ms: it.born.0.millis(),
            gone_ms: it.gone.map(|(gone, _)| gone.millis()),
            owners: it.owners_at(last).into_iter().map(|machine| cast.name(machine).to_owned()).collect(),
            seen_after_ms: seen,
        }
    };
    cast.actors().map(life).collect()
}

impl Summary {
    /// Nobody honest was accused, every trick that could have an effect was answered, no step faulted.
    pub fn is_good(&self) -> bool {
        let honest = |c: &&ClientMetrics| c.kind != "rogue";
        self.step_faults == 0
            && self.clients.iter().filter(honest).all(|c| c.verdicts.is_empty())
            && self.clients.iter().all(|c| c.tricks_unanswered() == 0)
            && self.take.as_ref().is_none_or(|take| take.parted_ms.is_none())
    }

    /// As JSON, indented.
    pub fn json(&self) -> String {
        serde_json::to_string_pretty(self).unwrap_or_default()
    }
}

/// The figures of a run from its beginning; `took` is how long it took to simulate.
pub fn summarise(run: &Run, took: Duration) -> Summary {
    let record = run.record();
    let course = run.course();
    let Measured { clients, totals, troubles, .. } = run.measured();
    let (wall_ms, ending) = (took.as_secs_f64() * 1e3, run.ending());
    Summary {
        course: course.name.clone(),
        seed: course.seed,
        tick_rate: course.rate.hz(),
        ticks: run.server_tick().0.saturating_sub(course.first_tick).saturating_sub(totals.server_dropped),
        ends_ms: run.now().millis(),
        digest: ending.map_or_else(|| "not known".to_owned(), |ending| format!("{:016x}", ending.digest)),
        wall_ms,
        times_real_time: if wall_ms > 0.0 { run.now().millis() / wall_ms } else { 0.0 },
        record_bytes: record.bytes(),
        step_faults: totals.step_faults,
        refused_datagrams: ending.unwrap_or_default().refused_datagrams,
        clients,
        troubles: troubles.iter().map(|t| TroubleRow::of(record, t)).collect(),
        entities: lives(record),
        still: run.still(),
        take: None,
    }
}

#[cfg(test)]
mod tests {
    use velocitas_lab::Course;

    use super::*;

    #[test]
    fn ticks_that_the_server_passed_over_were_not_run() {
        let ticks = |event: &str| {
            let text = format!(
                "format = 1\nname = \"stall\"\ntick_rate = \"60 Hz\"\nworld = {{ min = [-9, -9], max = [9, 9] }}\n\
                 [[cast]]\nname = \"teal\"\nrole = \"bot\"\nspawn = [0, 0]\n{event}"
            );
            let mut run =
                Run::new(Course::parse("stall", &text, &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
            run.advance(LabTime::from_secs(10.0));
            summarise(&run, Duration::from_secs(1)).ticks
        };
        let whole = ticks("");
        let stalled = ticks("[[event]]\nat = \"3 s\"\nfreeze = { who = \"server\", lasts = \"2 s\" }\n");
        // Of 120 ticks a quarter of a second is made up for.
        assert!((598..=601).contains(&whole) && (whole - stalled).abs_diff(105) <= 2, "{whole} {stalled}");
    }
}
