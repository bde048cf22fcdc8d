//! The figures of everybody, taken second by second as a record grows.
//!
//! Tallies take the record a few seconds behind its end, so that they need no more than its last half minute: where only figures are
//! wanted, older rows need not be kept. [`measure`] gives the same figures over any stretch of a record that is whole.

use velocitas_core::Fact;
use velocitas_record::ids::{MachineId, Part};
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use super::moments::Moments;
use super::tally::Tally;
use super::views::{Reel, WINDOW};
use super::{ClientMetrics, Span};
use crate::cause::{Findings, Found};
use crate::trouble::{Trouble, sort};

/// How far figures lag behind: by then it is known what became of everything.
pub const BEHIND: LabTime = LabTime(8_000_000_000);

/// What a run came to.
#[derive(Clone, Debug)]
pub struct Measured {
    /// The figures of each of the cast, in the order of the course.
    pub clients: Vec<ClientMetrics>,
    /// Of each of them, when to look at what went wrong.
    pub moments: Vec<Moments>,
    /// What went wrong, by reason: the worst first.
    pub troubles: Vec<Trouble>,
    /// What is no single member's.
    pub totals: Totals,
}

/// What a run came to that is no single member's.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Totals {
    /// Steps that came out non-finite.
    pub step_faults: u32,
    /// The first of them.
    pub first_fault: Option<LabTime>,
    /// Ticks that the server passed over after it had stood still.
    pub server_dropped: u64,
}

/// Figures up to a moment.
#[derive(Clone, Debug)]
pub struct Meter {
    to: LabTime,
    tallies: Vec<Tally>,
    totals: Totals,
    reel: Reel,
}

impl Meter {
    /// It begins with what a record keeps.
    pub fn of(record: &Record) -> Self {
        let tallies = vec![Tally::default(); record.cast.machines.len()];
        Self { to: record.kept_from, tallies, totals: Totals::default(), reel: Reel::default() }
    }

    /// Up to which moment it has taken everything.
    pub const fn to(&self) -> LabTime {
        self.to
    }

    /// Takes what happened before `until` into the figures, second by second; what is known reaches to `end`.
    pub fn take(&mut self, found: Found<'_>, until: LabTime, end: LabTime) {
        let until = until.0.min(end.0 + 1);
        while self.to.0 < until {
            let next = ((self.to.0 / WINDOW.0 + 1) * WINDOW.0).min(until);
            self.add(found, Span { from: self.to, to: LabTime(next - 1), end });
            self.to = LabTime(next);
        }
    }

    /// Takes the whole seconds of which everything is known, of a record that reaches to a moment.
    pub fn follow(&mut self, found: Found<'_>, end: LabTime) {
        self.take(found, LabTime(end.minus(BEHIND).0 / WINDOW.0 * WINDOW.0), end);
    }

    /// What it comes to, with the figures of these machines in this order.
    pub fn measured(&self, record: &Record, players: impl Iterator<Item = MachineId>) -> Measured {
        let (clients, moments) = players
            .map(|machine| (machine, &self.tallies[machine.index()]))
            .map(|(machine, tally)| (tally.figures(record, machine), tally.moments()))
            .unzip();
        let of = |machine: MachineId| self.tallies[machine.index()].troubles(machine);
        let mut troubles: Vec<Trouble> = record.cast.players().flat_map(of).collect();
        sort(&mut troubles);
        Measured { clients, moments, troubles, totals: self.totals }
    }

    fn add(&mut self, found: Found<'_>, span: Span) {
        let record = found.record;
        for machine in record.cast.players() {
            self.tallies[machine.index()].add(found, machine, span, &mut self.reel);
        }
        for machine in record.cast.machines() {
            let rows = &record.of(machine).happenings;
            for row in rows.span(span.from, span.to) {
                match row.what {
                    Happening::Fact(Fact::StepFault { .. }) => {
                        self.totals.step_faults += 1;
                        let first = self.totals.first_fault.map_or(row.at, |first| first.min(row.at));
                        self.totals.first_fault = Some(first);
                    }
                    Happening::Fact(Fact::Dropped { count, .. }) if row.part == Part::Server => {
                        self.totals.server_dropped += count;
                    }
                    _ => {}
                }
            }
        }
    }
}

/// The figures of a machine between two moments.
pub fn measure(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> ClientMetrics {
    let findings = Findings::default();
    measure_all(Found { record, findings: &findings }, machine, from, to).0
}

/// The same, and what went wrong there by reason, the worst first.
pub fn measure_all(found: Found<'_>, machine: MachineId, from: LabTime, to: LabTime) -> (ClientMetrics, Vec<Trouble>) {
    let mut tally = Tally::default();
    tally.add(found, machine, Span { from, to, end: to }, &mut Reel::default());
    let mut troubles = tally.troubles(machine);
    sort(&mut troubles);
    (tally.figures(found.record, machine), troubles)
}
