//! What became of an input in the end.
//!
//! Every input (or claim) that was sampled has exactly one fate at a moment, so that they add up to what was sampled. What the
//! fate is follows from three things that the record has: what the server told of the input, when its tick was made, and the
//! datagrams that carried it.

use velocitas_core::{Fact, Provenance};

use velocitas_record::ids::{ActorId, MachineId};
use velocitas_record::record::{InputRow, Record};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

/// What became of an input.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fate {
    /// Its tick was made with it.
    Fresh,
    /// It arrived after its tick was made; how much later, in milliseconds. Of claims such a one may be accepted all the same.
    Late(f64),
    /// It arrived for a tick that the server passed over after it had stood still, or waited for one.
    PassedOver,
    /// It was dropped since it goes on from before a pull back.
    Outdated,
    /// It arrived in time, and the guard did not take it.
    Refused,
    /// It arrived in time, and its tick was made by another's word, or after its connection had ended.
    Unused,
    /// All datagrams that carried it were lost, or thrown away by a full socket, and its tick is over.
    Lost,
    /// It arrived where nobody took it: its connection was no more, or not yet, or its tick was far off.
    Unheard,
    /// It is on its way, or its tick is still to be made.
    UnderWay,
}

/// After it was sampled an input is repeated for so long at most: sixteen ticks at two a second, and what is held back.
const REPEATED: LabTime = LabTime(8_000_000_000);

impl Fate {
    /// All of them, to be counted.
    pub const NAMES: [&'static str; 9] =
        ["fresh", "late", "passed_over", "outdated", "refused", "unused", "lost", "unheard", "under_way"];

    /// Its place among the names.
    pub const fn index(self) -> usize {
        match self {
            Self::Fresh => 0,
            Self::Late(_) => 1,
            Self::PassedOver => 2,
            Self::Outdated => 3,
            Self::Refused => 4,
            Self::Unused => 5,
            Self::Lost => 6,
            Self::Unheard => 7,
            Self::UnderWay => 8,
        }
    }

    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        Self::NAMES[self.index()]
    }
}

/// What had become of an input of a machine by `end`; `None` where nothing was sampled for that tick, and where nobody tells what the
/// server did.
pub fn fate(record: &Record, machine: MachineId, actor: ActorId, row: &InputRow, end: LabTime) -> Option<Fate> {
    row.sampled_at().filter(|at| *at <= end)?;
    if row.outdated().is_some_and(|at| at <= end) {
        return Some(Fate::Outdated);
    }
    if row.passed_over().is_some_and(|at| at <= end) {
        return Some(Fate::PassedOver);
    }
    let authority = record.authority(actor);
    let made = record.made_in(machine, actor, row.tick).and_then(|i| authority.head(i));
    let made = made.map(|head| head.at).filter(|at| *at <= end);
    let newest = authority.at(end).and_then(|i| authority.head(i));
    // The server made that tick, and waits for its owner's.
    let same = || authority.of_tick(row.tick).and_then(|i| authority.head(i));
    let is_waited_for = made.is_none() && same().is_some_and(|head| head.at <= end);
    if let Some((at, margin)) = row.arrived().filter(|(at, _)| *at <= end) {
        return Some(match (margin < 0, row.used().filter(|(at, _)| *at <= end)) {
            (true, _) => Fate::Late(made.map_or(0.0, |made| at.minus(made).millis())),
            (_, Some((_, Provenance::Fresh | Provenance::Unchanged))) => Fate::Fresh,
            (_, Some(_)) => Fate::Refused,
            _ if made.is_some() => Fate::Unused,
            _ if is_waited_for => Fate::UnderWay,
            _ if newest.is_some_and(|newest| newest.tick > row.tick) => Fate::PassedOver,
            _ if over(record, machine, actor, row, end).is_some() => Fate::Unused,
            _ => Fate::UnderWay,
        });
    }
    if newest.is_none() && record.heard(MachineId::SERVER).is_none() {
        return None;
    }
    let over = over(record, machine, actor, row, end);
    let read = over.or(newest.map(|newest| newest.at)).unwrap_or(LabTime::ZERO);
    Some(match on_the_way(record, machine, actor, row, (read, end)) {
        // It may be said again, until its tick is over.
        Fate::Lost if over.is_none() && (is_waited_for || newest.is_none_or(|newest| newest.tick < row.tick)) => {
            Fate::UnderWay
        }
        // There is nobody any more who could take it.
        Fate::UnderWay if over.is_some() => Fate::Unheard,
        fate => fate,
    })
}

/// When nobody could take an input any more, if that was by `end`: its connection had ended, or what it is for was gone.
fn over(record: &Record, machine: MachineId, actor: ActorId, row: &InputRow, end: LabTime) -> Option<LabTime> {
    let happened = record.of(machine).happenings.span(row.at, end);
    let mut ended = happened.filter(|happened| match happened.what {
        Happening::Fact(Fact::Ended { peer, .. }) => peer == row.peer,
        _ => false,
    });
    let gone = record.cast.actors[actor.index()].gone.map(|(gone, _)| gone).filter(|gone| *gone <= end);
    ended.next().map(|happened| happened.at).into_iter().chain(gone).min()
}

/// The same of one of which the server has told nothing; `read` is when it made its newest tick: what came before that it has
/// read.
fn on_the_way(
    record: &Record,
    machine: MachineId,
    actor: ActorId,
    row: &InputRow,
    (read, end): (LabTime, LabTime),
) -> Fate {
    let entity = record.cast.actors[actor.index()].id;
    let mut fate = Fate::Lost;
    for datagram in record
        .link(machine, MachineId::SERVER)
        .into_iter()
        .flat_map(|rows| rows.span(row.at, row.at.plus(REPEATED).min(end)))
    {
        if !datagram.tells_of(entity, row.tick) {
            continue;
        }
        // What goes by a stream comes in the end.
        if datagram.piece.is_some() {
            return Fate::UnderWay;
        }
        match datagram.arrived.filter(|_| !datagram.unread) {
            Some(at) if at > read => return Fate::UnderWay,
            Some(_) => fate = Fate::Unheard,
            None if datagram.unread || record.is_lost(MachineId::SERVER, &datagram) => {}
            None => return Fate::UnderWay,
        }
    }
    fate
}
