//! What crossed the links in a stretch of time: each datagram with its way, and the ticks of both ends beside it.

use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::record::{HELD, Mark, Record};
use velocitas_record::time::LabTime;
use velocitas_record::watch::MessageRow;

use crate::held::delivered;

/// A datagram.
#[derive(Clone, Copy, Debug)]
pub struct Crossing {
    /// From which machine.
    pub from: MachineId,
    /// To which.
    pub to: MachineId,
    /// What of that link left at the same moment before it.
    pub before: u32,
    /// What the record has of it.
    pub row: MessageRow,
}

impl Crossing {
    /// Which it is: two are the same if this is.
    pub const fn id(&self) -> (LabTime, MachineId, MachineId, u32) {
        (self.row.at, self.from, self.to, self.before)
    }

    /// What became of it, in a word or two.
    pub fn fate(&self, record: &Record, at: LabTime) -> &'static str {
        let held = self.held_back(record).filter(|(_, until)| *until > at);
        match (self.row.arrived, self.row.again) {
            (Some(arrived), _) if arrived <= at && held.is_some() => "held back: what was sent before it has not come",
            (None, _) if record.is_lost(self.to, &self.row) => "lost",
            (None, _) => "unknown: nobody has told of its arrival",
            (Some(arrived), _) if arrived > at => "under way",
            _ if self.row.unread => "thrown away unread: the socket was full",
            (_, Some(again)) if again <= at => "arrived twice",
            _ => "arrived",
        }
    }

    /// From when to when it was held back in a stream, if it was.
    pub fn held_back(&self, record: &Record) -> Option<(LabTime, LabTime)> {
        let arrived = self.row.piece.and(self.row.arrived)?;
        delivered(record, (self.from, self.to), &self.row)
            .filter(|until| *until > arrived)
            .map(|until| (arrived, until))
    }

    /// What it is, in a few words.
    pub fn words(&self, record: &Record) -> String {
        let tick = self.row.tick.map_or_else(String::new, |tick| format!(" {}", record.shown(tick)));
        let again = if self.row.piece.is_some_and(|(_, again)| again) { ", sent again" } else { "" };
        format!("{}{tick}{again}", self.row.kind.name())
    }
}

/// A datagram and the newest that its sender had of its receiver's when it left: from these two a clock that goes by timestamps knows how long
/// the way is and what the other's time is (the on-wire protocol of RFC 5905, section 8).
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Exchange {
    /// How long the earlier one was on its way.
    pub there: LabTime,
    /// How long after that the answer left.
    pub kept: LabTime,
    /// How long the answer was on its way.
    pub back: LabTime,
}

impl Exchange {
    /// The exchange that a datagram completes by arriving, if both arrived.
    pub fn of(answered: &MessageRow, answer: &MessageRow) -> Option<Self> {
        let (came, left) = (answered.arrived?, answer.at);
        let kept = LabTime(left.0.checked_sub(came.0)?);
        Some(Self { there: came.minus(answered.at), kept, back: answer.arrived?.minus(left) })
    }

    /// By how many milliseconds it misleads about the other's time: half of what the ways differ by, ahead where the way there is the longer.
    pub fn misleads(&self) -> f64 {
        (self.there.millis() - self.back.millis()) / 2.0
    }
}

/// The datagrams between some machines that were on their way at any time of a stretch, in the order in which they left. Of lost ones
/// only the moment they left is known.
pub fn crossings(record: &Record, machines: &[MachineId], from: LabTime, to: LabTime) -> Vec<Crossing> {
    let mut all = Vec::new();
    for (a, b, rows) in record.links() {
        if a == b || !machines.contains(&a) || !machines.contains(&b) {
            continue;
        }
        let (mut last, mut before) = (None, 0);
        for row in rows.span(from.minus(HELD), to) {
            before = if last.replace(row.at) == Some(row.at) { before + 1 } else { 0 };
            let until = row.again.max(row.arrived).unwrap_or(row.at);
            if until >= from {
                all.push(Crossing { from: a, to: b, before, row });
            }
        }
    }
    all.sort_by_key(Crossing::id);
    all
}

/// When a machine made its ticks in a stretch, its server's or its client's.
pub fn ticks(
    record: &Record,
    machine: MachineId,
    part: Part,
    from: LabTime,
    to: LabTime,
) -> Vec<(LabTime, RecordTick)> {
    let mut made = Vec::new();
    match part {
        Part::Server => {
            // Entities come and go; each was made in the ticks in which it was there.
            for actor in record.cast.actors() {
                let track = record.authority(actor);
                track.visit(track.between(from, to), |head, _| made.push((head.at, head.tick)));
            }
        }
        Part::Client => {
            for own in &record.of(machine).own {
                own.predicted.visit(own.predicted.between(from, to), |head, _| made.push((head.at, head.tick)));
            }
        }
    }
    made.sort_unstable();
    made.dedup_by_key(|(_, tick)| *tick);
    made
}

/// Ticks that a machine's inputs missed in a stretch: when each was made without, and which it was.
pub fn missed(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> Vec<(LabTime, RecordTick)> {
    let marks = record.of(machine).marks.span(from, to);
    marks.filter(|row| row.mark == Mark::MadeUp).filter_map(|row| Some((row.at, row.tick?))).collect()
}

/// The moment at which a datagram that came too late for its newest tick missed it: when that was made.
pub fn was_late_for(record: &Record, crossing: &Crossing) -> Option<(LabTime, RecordTick)> {
    let row = &crossing.row;
    if !row.kind.is_word() {
        return None;
    }
    let (tick, arrived) = (row.tick?, delivered(record, (crossing.from, crossing.to), row)?);
    let actor = record.cast.actor(row.entity?)?;
    let track = record.authority(actor);
    let made = record.made_in(crossing.from, actor, tick).and_then(|i| track.head(i))?.at;
    (arrived > made).then_some((made, tick))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(at: u64, arrived: Option<u64>) -> MessageRow {
        let ms = |ms: u64| LabTime(ms * 1_000_000);
        MessageRow { at: ms(at), arrived: arrived.map(ms), ..MessageRow::default() }
    }

    #[test]
    fn an_exchange_misleads_by_half_of_what_its_ways_differ_by() {
        let exchange = Exchange::of(&row(100, Some(150)), &row(153, Some(173))).expect("both came");
        let ms = |ms: u64| LabTime(ms * 1_000_000);
        assert_eq!(exchange, Exchange { there: ms(50), kept: ms(3), back: ms(20) });
        // Offset as RFC 5905 has it: ((T2 - T1) + (T3 - T4)) / 2, of two clocks that agree.
        assert!((exchange.misleads() - (50.0 + (153.0 - 173.0)) / 2.0).abs() < 1e-9, "{}", exchange.misleads());
        assert_eq!(Exchange::of(&row(100, None), &row(153, Some(173))), None, "it was lost");
        assert_eq!(Exchange::of(&row(100, Some(150)), &row(140, Some(160))), None, "it had not come yet");
    }
}
