//! Inputs and claims: from the hand that gave them to the tick that was made with them, or without.
//!
//! A row for each tick of each own entity: what was sampled, when that reached the server, what its tick was made with.

use velocitas_core::{Input, InputFate, PeerId, Provenance};

use super::packed::{Old, Packed};
use crate::coder::{Coder, Pack};
use crate::ids::RecordTick;
use crate::time::LabTime;

/// Never; a run ends before that.
const NEVER: LabTime = LabTime(u64::MAX);
/// No value.
const NONE: u32 = u32::MAX;

/// An input, or a claim, or a tick for which there was none.
#[derive(Clone, Copy, Debug)]
pub struct InputRow {
    /// When it was first heard of: mostly when it was sampled, else when its tick was made without it.
    pub at: LabTime,
    /// For which tick.
    pub tick: RecordTick,
    /// By which connection.
    pub peer: PeerId,
    /// The number of the value sampled, and of the one used.
    sampled: u32,
    used: u32,
    given: LabTime,
    arrived: LabTime,
    let_go: LabTime,
    made: LabTime,
    margin: i16,
    /// 1 passed over, 2 outdated; and 4, 8, 12, 16 for how its tick was made.
    how: u8,
}

impl Default for InputRow {
    fn default() -> Self {
        Self {
            at: LabTime::ZERO,
            tick: RecordTick(0),
            peer: PeerId { slot: 0, epoch: 0 },
            sampled: NONE,
            used: NONE,
            given: NEVER,
            arrived: NEVER,
            let_go: NEVER,
            made: NEVER,
            margin: 0,
            how: 0,
        }
    }
}

impl Pack for InputRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        coder.time(&mut self.at, before.at);
        coder.small(&mut self.tick.0, before.tick.0.wrapping_add(1));
        coder.small(&mut self.peer.slot, before.peer.slot);
        coder.small(&mut self.peer.epoch, before.peer.epoch);
        coder.small(&mut self.sampled, before.sampled.wrapping_add(1));
        coder.small(&mut self.used, self.sampled);
        coder.time(&mut self.given, self.at);
        coder.time(&mut self.arrived, before.arrived);
        coder.time(&mut self.let_go, NEVER);
        coder.time(&mut self.made, before.made);
        let mut margin = self.margin as u16;
        coder.small(&mut margin, before.margin as u16);
        self.margin = margin as i16;
        coder.small(&mut self.how, before.how);
    }
}

impl super::column::Timed for InputRow {
    fn at(&self) -> LabTime {
        self.at
    }
}

const fn known(at: LabTime) -> Option<LabTime> {
    if at.0 == NEVER.0 { None } else { Some(at) }
}

impl InputRow {
    /// When it was put on its way; `None` for a tick for which nothing was sampled.
    pub const fn sampled_at(&self) -> Option<LabTime> {
        known(self.given)
    }

    /// When it reached the server first, and how many quarter ticks before it was needed; below 0 its tick had been made.
    /// `None` where it did not, or for a tick that the server passes over, or belongs to an ended epoch.
    pub fn arrived(&self) -> Option<(LabTime, i16)> {
        known(self.arrived).map(|at| (at, self.margin))
    }

    /// When it arrived for a tick that the server passed over after it had stood still.
    pub fn passed_over(&self) -> Option<LabTime> {
        known(self.let_go).filter(|_| self.how & 3 == 1)
    }

    /// When it was dropped since it goes on from before a pull back.
    pub fn outdated(&self) -> Option<LabTime> {
        known(self.let_go).filter(|_| self.how & 3 == 2)
    }

    /// When its tick was made for its owner, and with what.
    pub fn used(&self) -> Option<(LabTime, Provenance)> {
        let how = match self.how >> 2 {
            1 => Provenance::Fresh,
            2 => Provenance::Repeated,
            3 => Provenance::Rested,
            4 => Provenance::Unchanged,
            _ => return None,
        };
        known(self.made).map(|at| (at, how))
    }

    /// Takes back what came after a moment, which is not before its own.
    fn cut_after(&mut self, moment: LabTime) {
        if self.given > moment {
            (self.given, self.sampled) = (NEVER, NONE);
        }
        if self.arrived > moment {
            (self.arrived, self.margin) = (NEVER, 0);
        }
        if self.let_go > moment {
            (self.let_go, self.how) = (NEVER, self.how & !3);
        }
        if self.made > moment {
            (self.made, self.used, self.how) = (NEVER, NONE, self.how & 3);
        }
    }

    fn is_touched_after(&self, moment: LabTime) -> bool {
        [self.given, self.arrived, self.let_go, self.made].iter().any(|at| *at != NEVER && *at > moment)
    }
}

/// The lanes of a value.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct ValueRow(Input);

impl Pack for ValueRow {
    fn code(&mut self, before: &Self, coder: &mut impl Coder) {
        for lane in 0..velocitas_core::INPUT_LANES {
            let mut bits = self.0.int(lane);
            coder.bits(&mut bits, before.0.int(lane));
            self.0.set_int(lane, bits);
        }
    }
}

/// Inputs of one entity of one machine, in the order in which they were first heard of.
#[derive(Clone, Debug, Default)]
pub struct InputRows {
    rows: Packed<InputRow>,
    /// Values, each other than the one before.
    values: Packed<ValueRow>,
    /// The newest tick there is a row of.
    newest: Option<RecordTick>,
}

/// So many rows may lie between where a tick would be if all were in order and where it is: four seconds at 128 Hz, and what was never
/// sampled meanwhile.
const REACH: usize = 1024;

impl InputRows {
    /// None yet.
    pub fn of(old: Old) -> Self {
        Self { rows: Packed::of(old), values: Packed::of(old), newest: None }
    }

    /// The rows.
    pub const fn rows(&self) -> &Packed<InputRow> {
        &self.rows
    }

    /// What was sampled, as it travels: press lanes count.
    pub fn sampled(&self, row: &InputRow) -> Option<Input> {
        self.value(row.sampled)
    }

    /// What the server's step read; `None` where it was not made yet, and for claims.
    pub fn used(&self, row: &InputRow) -> Option<Input> {
        self.value(row.used)
    }

    fn value(&self, number: u32) -> Option<Input> {
        let place = (number as usize).checked_sub(self.values.forgotten()).filter(|_| number != NONE)?;
        self.values.get(place).map(|value| value.0)
    }

    /// The row of a tick.
    pub fn of_tick(&self, tick: RecordTick) -> Option<InputRow> {
        // Rows are in order of time; ticks rise with it but for those that were never sampled.
        let near = self.rows.partition(|row| row.tick < tick);
        if let Some(row) = self.rows.get(near).filter(|row| row.tick == tick) {
            return Some(row);
        }
        let around = self.rows.range(near.saturating_sub(REACH), near + REACH);
        around.rev().find(|row| row.tick == tick)
    }

    fn place(&self, peer: PeerId, tick: RecordTick) -> Option<usize> {
        let len = self.rows.len();
        // Mostly ticks follow each other without a gap.
        let guess = self.rows.last().and_then(|last| (last.tick.0 as usize).checked_sub(tick.0 as usize));
        if let Some(place) = guess.and_then(|back| (len - 1).checked_sub(back))
            && self.rows.get(place).is_some_and(|row| row.tick == tick && row.peer == peer)
        {
            return Some(place);
        }
        if self.newest.is_none_or(|newest| newest < tick) {
            return None;
        }
        // While the server stands still much more is sampled than is reached from the end.
        let near = self.rows.partition(|row| row.tick < tick);
        let (from, to) = (near.saturating_sub(REACH), (near + REACH).min(len));
        let around = self.rows.range(from, to).rev();
        around.enumerate().find(|(_, row)| row.tick == tick && row.peer == peer).map(|(back, _)| to - 1 - back)
    }

    fn note_value(&mut self, value: Option<&Input>) -> u32 {
        let Some(value) = value else { return NONE };
        if self.values.last().is_none_or(|last| last.0 != *value) {
            self.values.push(ValueRow(*value));
        }
        (self.values.forgotten() + self.values.len() - 1) as u32
    }

    /// Something became of an input.
    pub(super) fn note(
        &mut self,
        at: LabTime,
        (peer, tick): (PeerId, RecordTick),
        fate: InputFate,
        value: Option<&Input>,
    ) {
        let value = self.note_value(value);
        let change = |row: &mut InputRow| match fate {
            InputFate::Sampled => (row.given, row.sampled) = (at, value),
            InputFate::Arrived(margin) => (row.arrived, row.margin) = (at, margin),
            InputFate::Dropped => (row.let_go, row.how) = (at, row.how & !3 | 1),
            InputFate::Outdated => (row.let_go, row.how) = (at, row.how & !3 | 2),
            InputFate::Used(provenance) => {
                (row.made, row.used, row.how) = (at, value, row.how & 3 | (provenance as u8 + 1) << 2);
            }
        };
        // Who samples is mostly ahead of who uses.
        let is_new = self.newest.is_none_or(|newest| newest < tick);
        match if is_new { None } else { self.place(peer, tick) } {
            Some(place) => {
                let mut was = at;
                self.rows.update(place, |row| {
                    change(row);
                    was = row.at;
                    row.at = was.min(at);
                });
                if at < was {
                    self.bring_forward(place);
                }
            }
            None => {
                let mut row = InputRow { at, tick, peer, ..InputRow::default() };
                change(&mut row);
                let is_late = self.rows.last().is_some_and(|last| last.at > at);
                self.rows.push(row);
                self.newest = self.newest.max(Some(tick));
                if is_late {
                    self.bring_forward(self.rows.len() - 1);
                }
            }
        }
    }

    /// A row was heard of earlier than by those before it: whoever tells of it is read later than others. It goes where it belongs.
    fn bring_forward(&mut self, place: usize) {
        let Some(row) = self.rows.get(place) else { return };
        let earlier = self.rows.range(0, place).rev().take_while(|before| before.at > row.at).count();
        let to = place - earlier;
        let mut rest: Vec<InputRow> = self.rows.range(to, self.rows.len()).collect();
        rest[..=earlier].rotate_right(1);
        self.rows.truncate(to);
        rest.into_iter().for_each(|row| self.rows.push(row));
    }

    pub(super) fn truncate(&mut self, at: LabTime) {
        use super::column::Cut;
        self.rows.cut_after(at);
        self.newest = self.rows.iter().map(|row| row.tick).max();
        let touched = self.rows.iter().enumerate().filter(|(_, row)| row.is_touched_after(at)).map(|(i, _)| i);
        let touched: Vec<usize> = touched.collect();
        touched.into_iter().for_each(|i| self.rows.update(i, |row| row.cut_after(at)));
        let numbers = self.rows.iter().flat_map(|row| [row.sampled, row.used]).filter(|n| *n != NONE);
        let needed = numbers.max().map_or(0, |n| n as usize + 1);
        self.values.truncate(needed.saturating_sub(self.values.forgotten()));
    }

    pub(super) fn forget(&mut self, before: LabTime) {
        use super::column::Cut;
        self.rows.forget_before(before);
        let numbers = self.rows.range(0, REACH).flat_map(|row| [row.sampled, row.used]).filter(|n| *n != NONE);
        // Values are numbered in the order in which they were first seen, so those before the least are of no use any more.
        let least = numbers.min().unwrap_or(0) as usize;
        self.values.forget_first(least.saturating_sub(self.values.forgotten()));
    }

    pub(super) fn bytes(&self) -> usize {
        self.rows.bytes() + self.values.bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PEER: PeerId = PeerId { slot: 3, epoch: 1 };

    fn input(n: u32) -> Input {
        let mut input = Input::default();
        input.set_int(0, n / 3);
        input
    }

    /// Two thousand ticks: sampled, arrived and used as sent, but for every tenth, which is lost and made up.
    fn played(until: u64) -> InputRows {
        let mut rows = InputRows::default();
        let ms = |n: u32, ms: u64| LabTime((u64::from(n) * 16 + ms) * 1_000_000);
        let mut events = Vec::new();
        for n in 0..2000 {
            events.push((ms(n, 0), n, InputFate::Sampled, Some(input(n))));
            if n % 10 != 0 {
                events.push((ms(n, 60), n, InputFate::Arrived(4), None));
            }
            let used = if n % 10 == 0 { Provenance::Repeated } else { Provenance::Fresh };
            events.push((ms(n, 90), n, InputFate::Used(used), Some(input(n - n % 10 / 9))));
        }
        events.sort_by_key(|(at, ..)| *at);
        for (at, n, fate, value) in events.into_iter().filter(|(at, ..)| at.0 <= until) {
            rows.note(at, (PEER, RecordTick(n)), fate, value.as_ref());
        }
        rows
    }

    fn told(rows: &InputRows) -> Vec<String> {
        let row = |row: InputRow| format!("{row:?} {:?} {:?}", rows.sampled(&row).is_some(), rows.used(&row));
        rows.rows().iter().map(row).collect()
    }

    #[test]
    fn a_row_tells_the_whole_way_of_an_input() {
        let rows = played(u64::MAX);
        assert_eq!(rows.rows().len(), 2000);
        let row = rows.of_tick(RecordTick(41)).expect("it is there");
        assert_eq!(row.sampled_at(), Some(LabTime(41 * 16_000_000)));
        assert_eq!(row.arrived(), Some((LabTime(41 * 16_000_000 + 60_000_000), 4)));
        assert_eq!(row.used(), Some((LabTime(41 * 16_000_000 + 90_000_000), Provenance::Fresh)));
        assert_eq!((rows.sampled(&row), rows.used(&row)), (Some(input(41)), Some(input(41))));
        let lost = rows.of_tick(RecordTick(40)).expect("it is there");
        assert_eq!((lost.arrived(), lost.used().map(|(_, how)| how)), (None, Some(Provenance::Repeated)));
    }

    #[test]
    fn what_is_sampled_after_its_tick_was_made_is_one_row() {
        let mut rows = InputRows::default();
        let at = |ms: u64| LabTime(ms * 1_000_000);
        rows.note(at(5), (PEER, RecordTick(7)), InputFate::Used(Provenance::Rested), Some(&input(0)));
        rows.note(at(9), (PEER, RecordTick(7)), InputFate::Sampled, Some(&input(9)));
        rows.note(at(20), (PEER, RecordTick(7)), InputFate::Arrived(-4), None);
        let all: Vec<InputRow> = rows.rows().iter().collect();
        assert_eq!((all.len(), all[0].at, all[0].sampled_at()), (1, at(5), Some(at(9))));
        assert_eq!((rows.sampled(&all[0]), rows.used(&all[0])), (Some(input(9)), Some(input(0))));
    }

    #[test]
    fn what_becomes_of_an_input_long_after_is_in_its_row() {
        let mut rows = InputRows::default();
        let at = |ms: u64| LabTime(ms * 1_000_000);
        for n in 0..5000 {
            rows.note(at(u64::from(n) * 8), (PEER, RecordTick(n)), InputFate::Sampled, Some(&input(n)));
        }
        // The server stood still all the while; its first ticks go on from before a pull back.
        for n in [3, 40, 4999] {
            rows.note(at(50_000), (PEER, RecordTick(n)), InputFate::Outdated, None);
        }
        assert_eq!(rows.rows().len(), 5000);
        let outdated: Vec<u32> = rows.rows().iter().filter(|r| r.outdated().is_some()).map(|r| r.tick.0).collect();
        assert_eq!(outdated, [3, 40, 4999]);
    }

    #[test]
    fn cut_at_a_moment_it_is_as_it_was_then() {
        for ms in [0u64, 400, 5_003, 15_999, 25_003, 40_000] {
            let mut cut = played(u64::MAX);
            cut.truncate(LabTime(ms * 1_000_000));
            assert_eq!(told(&cut), told(&played(ms * 1_000_000)), "at {ms} ms");
        }
    }

    #[test]
    fn what_is_forgotten_takes_its_values_along_and_no_others() {
        let (mut rows, whole) = (played(u64::MAX), played(u64::MAX));
        rows.forget(LabTime(15_000_000_000));
        let gone = rows.rows().forgotten();
        assert!(gone >= 256 && rows.bytes() < whole.bytes());
        let value = |rows: &InputRows, row: &InputRow| (rows.sampled(row), rows.used(row));
        for (kept, was) in rows.rows().iter().zip(whole.rows().iter().skip(gone)) {
            assert_eq!(value(&rows, &kept), value(&whole, &was));
        }
    }
}
