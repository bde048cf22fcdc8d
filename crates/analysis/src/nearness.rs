//! How near to its limits the guard found whoever says where it is: of each machine and rule, how often a measure was which share of what
//! is allowed.
//!
//! Counted once as the record grows. What is counted stays counted when the record forgets it; a run that goes back and on otherwise is
//! counted anew.

use velocitas_core::{Fact, Rule, Verdict};
use velocitas_record::ids::MachineId;
use velocitas_record::record::{MeasureRow, Record};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use crate::history::History;

/// The width of a bin, as a share of what is allowed.
pub const BIN: f64 = 0.025;
/// Bins; the last holds everything from twice the allowed on.
pub const BINS: usize = 81;
/// How much lab time is counted at a time, unless all is asked for.
const SOME: LabTime = LabTime(60_000_000_000);

/// A machine's measures by a rule.
#[derive(Clone, Debug, PartialEq)]
pub struct Near {
    /// Whose.
    pub machine: MachineId,
    /// By which rule.
    pub rule: Rule,
    /// How many in each bin, from 0 on.
    pub bins: [u32; BINS],
    /// The greatest share that was lawful, and the row it is of.
    pub nearest: Option<MeasureRow>,
    /// How many were more than is allowed.
    pub beyond: u32,
}

/// The bin of a share of what is allowed. What is allowed to the full lies in the last bin below the limit, what is more beyond it.
pub fn bin(share: f64) -> usize {
    if !share.is_finite() {
        return BINS - 1;
    }
    let whole = (share / BIN).ceil();
    (whole.max(1.0) as usize - 1).min(BINS - 1)
}

/// A verdict or a note, whom it is on and when it was given.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Accusation {
    /// When.
    pub at: LabTime,
    /// On whom.
    pub machine: MachineId,
    /// What.
    pub verdict: Verdict,
}

impl Accusation {
    /// Whether it accuses: a note on somebody's hands does not.
    pub const fn accuses(&self) -> bool {
        !self.verdict.evidence.rule.is_of_hands()
    }

    /// What it does, in a word.
    pub const fn says(&self) -> &'static str {
        if self.accuses() { "accused" } else { "noted" }
    }
}

/// Everybody's, as far as they were counted, with the verdicts and notes that came of them.
#[derive(Clone, Debug, Default)]
pub struct Nearness {
    all: Vec<Near>,
    ledger: Vec<Accusation>,
    /// Up to where, and what stands for what had happened by then.
    counted: (LabTime, u64),
}

impl Nearness {
    /// Counts on: some of what is left, or all. Says whether nothing is left.
    pub fn follow(&mut self, run: &impl History, all: bool) -> bool {
        let (to, stamp) = self.counted;
        if to > run.now() || run.past(to) != stamp {
            *self = Self::default();
        }
        let from = self.counted.0.max(run.record().kept_from);
        let to = if all { run.now() } else { run.now().min(from.plus(SOME)) };
        for machine in run.record().cast.players() {
            self.count(run.record(), machine, (from, to));
            let happenings = &run.record().of(machine).happenings;
            for row in happenings.range(happenings.before(from), happenings.before(to)) {
                if let Happening::Fact(Fact::Verdict(verdict) | Fact::Note(verdict)) = row.what {
                    self.ledger.push(Accusation { at: row.at, machine, verdict });
                }
            }
        }
        self.ledger.sort_by_key(|it| (it.at, it.machine));
        self.counted = (to, run.past(to));
        to == run.now()
    }

    fn count(&mut self, record: &Record, machine: MachineId, (from, to): (LabTime, LabTime)) {
        let rows = &record.of(machine).measures;
        for row in rows.range(rows.before(from), rows.before(to)) {
            let near = self.of_mut(machine, row.rule());
            let share = f64::from(row.share());
            near.bins[bin(share)] += 1;
            if row.measured > row.limit {
                near.beyond += 1;
            } else if near.nearest.is_none_or(|nearest| nearest.share() < row.share()) {
                near.nearest = Some(row);
            }
        }
    }

    fn of_mut(&mut self, machine: MachineId, rule: Rule) -> &mut Near {
        let place = self.all.iter().position(|near| (near.machine, near.rule) == (machine, rule));
        let place = place.unwrap_or_else(|| {
            self.all.push(Near { machine, rule, bins: [0; BINS], nearest: None, beyond: 0 });
            self.all.sort_by_key(|near| (near.rule, near.machine));
            self.all.iter().position(|near| (near.machine, near.rule) == (machine, rule)).unwrap_or(0)
        });
        &mut self.all[place]
    }

    /// Up to which moment it is counted.
    pub const fn counted(&self) -> LabTime {
        self.counted.0
    }

    /// All verdicts and notes, oldest first.
    pub fn ledger(&self) -> &[Accusation] {
        &self.ledger
    }

    /// Rules by which anything was measured, in the order of their table.
    pub fn rules(&self) -> Vec<Rule> {
        let mut rules: Vec<Rule> = self.all.iter().map(|near| near.rule).collect();
        rules.dedup();
        rules
    }

    /// What was counted, by machine and rule.
    pub fn all(&self) -> &[Near] {
        &self.all
    }

    /// The machines' measures by a rule: of rogues, or of the honest.
    pub fn of(&self, record: &Record, rule: Rule, rogue: bool) -> Vec<&Near> {
        self.all.iter().filter(|near| near.rule == rule && record.cast.is_rogue(near.machine) == rogue).collect()
    }
}

/// How many in each bin, of several machines.
pub fn together(all: &[&Near]) -> [u32; BINS] {
    let mut bins = [0; BINS];
    for near in all {
        bins.iter_mut().zip(near.bins).for_each(|(sum, more)| *sum += more);
    }
    bins
}

/// How many measures, and of how many machines, lie beyond a line at the end of this number of bins.
pub fn beyond(all: &[&Near], line: usize) -> (u32, usize) {
    let of = |near: &&&Near| near.bins[line.min(BINS)..].iter().sum::<u32>();
    (all.iter().map(|near| of(&near)).sum(), all.iter().filter(|near| of(near) > 0).count())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_limit_itself_is_lawful_and_a_little_more_is_not() {
        let line = (1.0 / BIN).round() as usize;
        assert_eq!((bin(1.0), bin(1.0001)), (line - 1, line));
        assert_eq!(
            (bin(0.0), bin(-3.0), bin(9.0), bin(f64::NAN), bin(f64::INFINITY)),
            (0, 0, BINS - 1, BINS - 1, BINS - 1)
        );
    }
}
