//! Troubles as they add up, second by second.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use velocitas_core::{Correction, Drawn, Fact, MessageKind, Restored, Vec3};
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::record::{DrawnRow, Record};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use super::{Dry, Reason, Trouble};
use crate::amiss::OFF_M;
use crate::cause::Found;
use crate::metrics::{Reel, Span, WINDOW, Window};

/// What is closer together than this is one stretch.
const TOGETHER: LabTime = LabTime(250_000_000);
/// How long before a hop a change of hands may have caused it.
const TURNED_OVER: LabTime = LabTime(250_000_000);
/// So long before a hop of the own character a correction may have been whose easing it is, and so long after it one that undoes
/// what parted by then.
const EASED: LabTime = LabTime(500_000_000);
const UNDONE: LabTime = LabTime(1_000_000_000);
/// Of somebody whose frames are further apart than this, and than three of them, it is said that it stood still.
const STOOD: LabTime = LabTime(100_000_000);
/// How many frames a return is followed back.
const MOST_FRAMES: usize = 256;
/// How many received snapshots are searched for those that something was drawn from.
const LOOKED_THROUGH: usize = 128;
/// How long ago a snapshot may have left that should have arrived.
const SENT: LabTime = LabTime(1_500_000_000);

/// What adds up under one reason.
#[derive(Clone, Debug, Default)]
struct Sum {
    corrections: u32,
    hops: u32,
    stalls: u32,
    jumps_m: f64,
    worst_m: f64,
    seen_m: f64,
    seconds: f64,
    times: Option<(LabTime, LabTime)>,
}

impl Sum {
    /// Something was so at a moment, none before those that came.
    fn at(&mut self, moment: LabTime) {
        let (first, last) = self.times.unwrap_or((moment, moment));
        if moment > last && moment.minus(last) <= TOGETHER {
            self.seconds += moment.minus(last).secs();
        }
        self.times = Some((first.min(moment), last.max(moment)));
    }
}

/// The troubles of one machine so far.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ledger {
    sums: BTreeMap<Reason, Sum>,
    /// The last frame in which others stood still past all limits, and the last frame there was.
    held: Option<LabTime>,
    frame: Option<LabTime>,
    /// What of the span at hand is to be taken in the order of time, so that it does not matter how long spans are.
    events: Vec<(LabTime, Event)>,
}

/// Something went wrong at a moment.
#[derive(Clone, Debug, PartialEq, PartialOrd)]
enum Event {
    /// The present was taken back, by this length in metres; by nothing where it was put elsewhere.
    Corrected(Reason, f32),
    /// Something hopped so far.
    Hop(Reason, f64),
    /// Others stood still past all limits.
    Held,
}

impl Ledger {
    /// Adds a second, or less, of the record by itself.
    pub(super) fn add(&mut self, found: Found<'_>, machine: MachineId, span: Span, reel: &mut Reel) {
        let record = found.record;
        for row in record.of(machine).happenings.span(span.from, span.to) {
            if let Happening::Fact(Fact::Corrected(c)) = row.what {
                self.corrected(found, machine, row.at, &c);
            }
        }
        reel.play(record, machine, LabTime(span.from.0 / WINDOW.0 * WINDOW.0), |actor, own, sights, window| {
            self.seen(found, machine, (actor, own), sights, &window);
        });
        self.end(record, machine, span);
    }

    /// Takes a correction.
    pub(crate) fn corrected(&mut self, found: Found<'_>, machine: MachineId, at: LabTime, c: &Correction) {
        if c.why == Restored::Settled {
            return;
        }
        let reason = Reason::of(&found.finding(machine, at, c));
        // Who is put elsewhere is meant to be there.
        let jump = if c.why == Restored::Teleported { 0.0 } else { c.jump };
        self.events.push((at, Event::Corrected(reason, jump)));
    }

    /// Takes what was drawn of an entity in a second.
    pub(crate) fn seen(
        &mut self,
        found: Found<'_>,
        machine: MachineId,
        (actor, own): (ActorId, bool),
        sights: &[DrawnRow],
        window: &Window,
    ) {
        let record = found.record;
        for &(i, off) in &window.hopped {
            let frames = &sights[i.saturating_sub(1)..=i];
            let reason = if own {
                own_hop(found, (machine, actor), frames)
            } else {
                Some(other_hop(record, (machine, actor), frames))
            };
            self.events.extend(reason.map(|reason| (sights[i].at, Event::Hop(reason, off))));
        }
        if !own {
            // Of who is gone nothing could come.
            let there = |sight: &&DrawnRow| record.cast.actors[actor.index()].is_there(sight.at);
            let held = sights.iter().filter(there).filter(|sight| sight.how == Drawn::Held);
            self.events.extend(held.map(|sight| (sight.at, Event::Held)));
        }
    }

    /// A span is over.
    pub(crate) fn end(&mut self, record: &Record, machine: MachineId, span: Span) {
        let mut events = std::mem::take(&mut self.events);
        events.sort_by(|a, b| a.0.cmp(&b.0).then(a.1.partial_cmp(&b.1).unwrap_or(Ordering::Equal)));
        // Several held in one frame are one thing that stood still.
        events.dedup_by(|a, b| a.0 == b.0 && a.1 == Event::Held && b.1 == Event::Held);
        for (at, event) in events {
            match event {
                Event::Corrected(reason, jump) => {
                    let sum = self.sums.entry(reason).or_default();
                    sum.corrections += 1;
                    sum.jumps_m += f64::from(jump);
                    sum.worst_m = sum.worst_m.max(f64::from(jump));
                    sum.at(at);
                }
                Event::Hop(reason, off) => {
                    let sum = self.sums.entry(reason).or_default();
                    sum.hops += 1;
                    sum.seen_m += off;
                    sum.at(at);
                }
                Event::Held => {
                    let sum = self.sums.entry(Reason::RanDry(dry(record, machine, at))).or_default();
                    sum.stalls += u32::from(self.held.is_none_or(|held| at.minus(held) > TOGETHER));
                    sum.at(at);
                    self.held = Some(at);
                }
            }
        }
        self.stood(record, machine, span);
    }

    /// Looks for long frames.
    fn stood(&mut self, record: &Record, machine: MachineId, span: Span) {
        let fps = record.cast.machines[machine.index()].host.fps;
        let limit = STOOD.max(LabTime::from_secs(3.0 / fps));
        let rows = record.of(machine);
        for frame in rows.frames.span(span.from, span.to) {
            let before = self.frame.replace(frame.at);
            // Before it began to play there was nothing to stand still.
            let Some(before) = before.filter(|before| *before >= rows.joined_by(frame.at)) else { continue };
            if frame.at.minus(before) > limit {
                let sum = self.sums.entry(Reason::StoodStill).or_default();
                sum.stalls += 1;
                sum.seconds += frame.at.minus(before).secs();
                let (first, last) = sum.times.unwrap_or((before, frame.at));
                sum.times = Some((first.min(before), last.max(frame.at)));
            }
        }
    }

    /// What they came to.
    pub(crate) fn troubles(&self, machine: MachineId) -> Vec<Trouble> {
        let trouble = |(reason, sum): (&Reason, &Sum)| {
            let (first, last) = sum.times?;
            Some(Trouble {
                machine,
                reason: reason.clone(),
                corrections: sum.corrections,
                hops: sum.hops,
                stalls: sum.stalls,
                jumps_m: sum.jumps_m,
                worst_m: sum.worst_m,
                seen_m: sum.seen_m,
                seconds: sum.seconds,
                first,
                last,
            })
        };
        self.sums.iter().filter_map(trouble).collect()
    }
}

/// Whether a machine heard just before that something is its own, or no longer.
fn changed_hands(record: &Record, machine: MachineId, actor: ActorId, at: LabTime) -> bool {
    let entity = record.cast.actors[actor.index()].id;
    let owns = |row: &velocitas_record::watch::HappeningRow| matches!(row.what, Happening::Fact(Fact::Owns { entity: of, .. }) if of == entity);
    record.of(machine).happenings.span(at.minus(TURNED_OVER), at).any(owns)
}

/// Why the own character hopped in a frame: for the correction that is being eased out, else for the one that is still to come.
/// `None` where it was put elsewhere and is meant to be there.
fn own_hop(found: Found<'_>, (machine, actor): (MachineId, ActorId), frames: &[DrawnRow]) -> Option<Reason> {
    let record = found.record;
    let now = frames.last()?;
    let at = now.at;
    let rows = &record.of(machine).happenings;
    let entity = record.cast.actors[actor.index()].id;
    let correction = |row: &velocitas_record::watch::HappeningRow| match row.what {
        Happening::Fact(Fact::Corrected(c)) if c.entity == entity && c.why != Restored::Settled => Some((row.at, c)),
        _ => None,
    };
    let before = rows.span(at.minus(EASED), at).rev().find_map(correction);
    let near = before.or_else(|| rows.span(at, at.plus(UNDONE)).find_map(correction));
    if let Some((when, c)) = near {
        let reason = || Reason::of(&found.finding(machine, when, &c));
        return (c.why != Restored::Teleported).then(reason);
    }
    if changed_hands(record, machine, actor, at) {
        return Some(Reason::ChangedHands);
    }
    let passed_over =
        |row: &velocitas_record::watch::HappeningRow| matches!(row.what, Happening::Fact(Fact::Dropped { .. }));
    let stood = rows.span(at.minus(EASED), at).any(passed_over);
    if stood {
        return Some(Reason::StoodStill);
    }
    // What is not predicted is drawn as everybody else is.
    let predicted = frames.iter().any(|sight| sight.how == Drawn::Predicted);
    Some(if predicted { Reason::Unknown } else { other_hop(record, (machine, actor), frames) })
}

/// Why somebody else hopped, from the frame and the one before.
fn other_hop(record: &Record, (machine, actor): (MachineId, ActorId), frames: &[DrawnRow]) -> Reason {
    if let Some(now) = frames.last()
        && changed_hands(record, machine, actor, now.at)
    {
        return Reason::ChangedHands;
    }
    // What the server has still to make is drawn in the present.
    let is_to_come = |sight: &DrawnRow| {
        let track = record.authority(actor);
        let newest = track.at(sight.at).and_then(|i| track.head(i));
        sight.how.is_past() && newest.is_some_and(|newest| newest.tick < sight.tick)
    };
    if frames.iter().any(is_to_come) {
        return Reason::Foreseen;
    }
    // Where it comes back from where it ran on to, that it ran dry is why.
    let back = frames.iter().find(|sight| sight.how == Drawn::Returning);
    let past = frames.iter().find(|sight| sight.how.is_past()).copied();
    if let Some(past) = past.filter(|_| back.is_some()).or_else(|| ran_out(record, (machine, actor), back?.at)) {
        return Reason::RanDry(dry(record, machine, past.at));
    }
    // By its rule it is drawn beside what was received on purpose, and so is who runs dry again while it comes back.
    if let Some(past) =
        past.filter(|past| past.how == Drawn::ByRule || was_returning(record, (machine, actor), past.at))
    {
        return Reason::RanDry(dry(record, machine, past.at));
    }
    // It may have run dry between two frames only.
    if let (Some(_), Some(before)) = (back, frames.first()) {
        return Reason::RanDry(dry(record, machine, before.at));
    }
    let is_off =
        |sight: &DrawnRow| record.off(machine, actor, sight.at).is_some_and(|off| off.distance(Vec3::ZERO) > OFF_M);
    if frames.iter().any(is_off) {
        return Reason::Misdrawn;
    }
    if let Some(past) = past {
        return Reason::RanDry(dry(record, machine, past.at));
    }
    let [before, now] = frames else { return Reason::Unknown };
    if now.how == Drawn::Newest {
        return Reason::AsItCame;
    }
    if let Some(reason) = put(record, (machine, actor), before, now) {
        return reason;
    }
    let drawn = |sight: &DrawnRow| f64::from(sight.tick.0) + f64::from(sight.fraction);
    let ticks = now.at.minus(before.at).secs() * f64::from(record.cast.rate.hz());
    // A quarter off is what makes a hop by itself.
    if (drawn(now) - drawn(before) - ticks).abs() > ticks / 4.0 { Reason::Uneven } else { Reason::Straight }
}

/// Whether the server put somebody elsewhere, or its guard pulled it back, between the snapshots that two frames were drawn from.
fn put(record: &Record, (machine, actor): (MachineId, ActorId), before: &DrawnRow, now: &DrawnRow) -> Option<Reason> {
    let (cast, entity) = (&record.cast, record.cast.actors[actor.index()].id);
    let received = &record.of(machine).received;
    let until = received.until(now.at);
    let snapshots = || received.range(until.saturating_sub(LOOKED_THROUGH), until).map(|row| row.tick.0);
    let first = snapshots().filter(|tick| *tick <= before.tick.0).max().unwrap_or(before.tick.0);
    let last = snapshots().filter(|tick| *tick > now.tick.0).min().unwrap_or(now.tick.0 + 1);
    let ticks = first..=last;
    let (from, to) = (now.at.minus(LabTime(2 * SENT.0)), now.at);
    // It is kept with the machine of whom it is about.
    let rows = cast.machines().flat_map(|machine| record.of(machine).happenings.span(from, to));
    let found = rows.filter_map(|row| match row.what {
        // Who says where it is has to be told, as one who is pulled back is.
        Happening::Teleported(of, _) if of == entity => Some((row.tick?, Reason::PutElsewhere)),
        Happening::Fact(Fact::PulledBack { entity: of, tick, .. }) if of == entity => {
            Some((RecordTick::of(cast.first, tick), Reason::PutBack))
        }
        _ => None,
    });
    let found = found.filter(|(tick, _)| ticks.contains(&tick.0)).map(|(_, reason)| reason);
    found.max()
}

/// How somebody was drawn when it last ran dry, who at a moment is coming back from there.
fn ran_out(record: &Record, (viewer, actor): (MachineId, ActorId), at: LabTime) -> Option<DrawnRow> {
    let newest = record.of(viewer).frames.before(at);
    let frames = (newest.saturating_sub(MOST_FRAMES)..newest).rev();
    let mut drawn = frames.map_while(|number| record.drawn_in(viewer, actor, number));
    drawn.find(|row| row.how != Drawn::Returning).filter(|row| row.how.is_past())
}

/// Whether somebody who has run dry was coming back just before from where it had run on to.
fn was_returning(record: &Record, (viewer, actor): (MachineId, ActorId), at: LabTime) -> bool {
    let newest = record.of(viewer).frames.before(at);
    let frames = (newest.saturating_sub(MOST_FRAMES)..newest).rev();
    let mut drawn = frames.map_while(|number| record.drawn_in(viewer, actor, number));
    drawn.find(|row| !row.how.is_past()).is_some_and(|row| row.how == Drawn::Returning)
}

/// Why at a moment no newer snapshot was there.
fn dry(record: &Record, machine: MachineId, at: LabTime) -> Dry {
    let received = &record.of(machine).received;
    let until = received.until(at);
    let newest = received.range(until.saturating_sub(16), until).map(|row| row.tick).max().unwrap_or(RecordTick(0));
    let link = record.link(MachineId::SERVER, machine);
    let sent = link.into_iter().flat_map(|rows| rows.span(at.minus(SENT), at));
    let newer: Vec<_> =
        sent.filter(|row| row.kind == MessageKind::Snapshot && row.tick.is_some_and(|tick| tick > newest)).collect();
    // What had come and was not taken in waited behind one that was lost.
    if newer.iter().any(|row| row.piece.is_some() && row.arrived.is_some_and(|arrived| arrived < at)) {
        return Dry::HeldBack;
    }
    if newer.iter().any(|row| record.is_lost(machine, row) || row.unread) {
        return Dry::Lost;
    }
    // What left a moment ago nobody expects yet.
    let interval = LabTime(3_000_000_000 / u64::from(record.cast.rate.hz()));
    let stood = |actor: ActorId| {
        let track = record.authority(actor);
        let made = track.at(at).and_then(|i| track.head(i)).map(|head| head.at);
        made.is_some_and(|made| at.minus(made) > LabTime(interval.0.max(STOOD.0)))
    };
    if record.cast.actors().filter(|a| record.cast.actors[a.index()].is_there(at)).all(stood) {
        return Dry::ServerStood;
    }
    if newer.is_empty() { Dry::Seldom } else { Dry::Late }
}
