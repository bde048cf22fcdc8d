//! What each number means, measured from the record over a span of time.
//!
//! Jumps and errors are in metres, ages and delays in milliseconds, shares from 0 to 1. A figure without samples is
//! `None`, never zero.

mod figure;

pub use figure::{FIGURES, Figure, Unit, Value};

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use velocitas_core::{Drawn, Fact, InputFate, Presence, Provenance, Restored};

use crate::cause::causes;
use crate::course::Role;
use crate::ids::{ActorId, MachineId, RecordTick};
use crate::record::{DrawnRow, Record, SeenRow};
use crate::samples::Samples;
use crate::time::LabTime;
use crate::watch::Happening;

/// Corrections of one client.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Corrections {
    /// How many.
    pub count: u32,
    /// Mean jump.
    pub mean_m: Option<f64>,
    /// 95th percentile of the jump.
    pub p95_m: Option<f64>,
    /// Largest jump.
    pub max_m: Option<f64>,
    /// Ticks simulated again, in all.
    pub replayed_ticks: u64,
    /// How many of them the record does not explain.
    pub unexplained: u32,
}

/// Inputs of one client.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Inputs {
    /// Put on their way.
    pub sent: u32,
    /// Used as sent.
    pub fresh: u32,
    /// Ticks for which the server made one up: keys held on.
    pub repeated: u32,
    /// Ticks for which it made one up after so long that keys came up.
    pub rested: u32,
    /// Arrived after their tick was simulated.
    pub late: u32,
    /// Arrived for ticks that the server passed over after it had stood still.
    pub dropped: u32,
    /// Never arrived; those of the last second are not counted yet.
    pub lost: u32,
}

impl Inputs {
    /// Share of the ticks for which the server had what was sent.
    pub fn fresh_share(&self) -> Option<f64> {
        let ticks = self.fresh + self.repeated + self.rested;
        (ticks > 0).then(|| f64::from(self.fresh) / f64::from(ticks))
    }
}

/// Comings and goings of one client.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Joining {
    /// Connections that began.
    pub connections: u32,
    /// How often it was not let in.
    pub refusals: u32,
    /// Payload of hellos and all answers to them, both ways.
    pub bytes: u64,
}

/// Middle and worst.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct SeenAfter {
    /// Median.
    pub p50: Option<f64>,
    /// Largest.
    pub max: Option<f64>,
}

/// Low end and middle.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Margin {
    /// 5th percentile.
    pub p05: Option<f64>,
    /// Median.
    pub p50: Option<f64>,
}

/// Middle and high end.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Age {
    /// Median.
    pub p50: Option<f64>,
    /// 95th percentile.
    pub p95: Option<f64>,
}

/// Middle, high end and worst.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct ErrorM {
    /// Median.
    pub p50: Option<f64>,
    /// 95th percentile.
    pub p95: Option<f64>,
    /// Largest.
    pub max: Option<f64>,
}

/// One client's figures.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ClientMetrics {
    /// Its name.
    pub name: String,
    /// helm, bot or rogue.
    pub kind: &'static str,
    /// server or claims.
    pub arrangement: &'static str,
    /// Jumps of its own prediction.
    pub corrections: Corrections,
    /// How it came and went.
    pub joining: Joining,
    /// From an entity's birth, or its own start where that was later, to the first frame in which it draws it.
    pub seen_after_ms: SeenAfter,
    /// What became of its inputs.
    pub inputs: Inputs,
    /// How early inputs arrived, in ticks.
    pub margin_ticks: Margin,
    /// First prediction against authority, every tick.
    pub prediction_error_m: ErrorM,
    /// How far in the past it sees the others.
    pub view_age_ms: Age,
    /// Share of entity-frames drawn past the newest state.
    pub extrapolated_share: Option<f64>,
    /// Share of entity-frames drawn past the limit of that.
    pub held_share: Option<f64>,
    /// From a press at rest to the first frame in which the own character moves: median.
    pub response_ms: Option<f64>,
    /// Payload sent.
    pub bytes_up: u64,
    /// Payload sent to it, lost or not.
    pub bytes_down: u64,
    /// The same with 28 bytes a datagram for IPv4 and UDP.
    pub bytes_up_udp: u64,
    /// The same with 28 bytes a datagram for IPv4 and UDP.
    pub bytes_down_udp: u64,
    /// Accusations by rule.
    pub verdicts: BTreeMap<&'static str, u32>,
    /// Gaps bridged without one.
    pub resyncs: u32,
    /// Metres beyond the lawful accepted before verdicts; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gain_m: Option<f64>,
    /// Tricks played and over, or answered before that; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tricks: Option<u32>,
    /// Of those, how many were followed by a verdict or a pull back while they lasted or in the two seconds after; rogues
    /// only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tricks_answered: Option<u32>,
    /// Of those, how many could have no effect and were not answered either: every tick came out as its rule would have
    /// it (no wall was met, the stick was at rest); rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tricks_idle: Option<u32>,
}

impl ClientMetrics {
    /// Tricks that had an effect and were not answered.
    pub fn tricks_unanswered(&self) -> u32 {
        let of = |count: Option<u32>| count.unwrap_or(0);
        of(self.tricks).saturating_sub(of(self.tricks_answered) + of(self.tricks_idle))
    }
}

/// A span of a record, both ends included, and how much of what follows may be looked at: what happens later to what
/// began in the span (an answer, an arrival) belongs to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    /// First moment.
    pub from: LabTime,
    /// Last moment.
    pub to: LabTime,
    /// The end of what is known, not before `to`.
    pub end: LabTime,
}

/// Figures on their way: spans that follow each other are added up.
#[derive(Clone, Debug, Default)]
pub struct Tally {
    jumps: Samples,
    replayed: u64,
    unexplained: u32,
    verdicts: BTreeMap<&'static str, u32>,
    resyncs: u32,
    gain: f64,
    tricks: Tricks,
    joining: Joining,
    seen_after: Samples,
    inputs: Inputs,
    margins: Samples,
    errors: Samples,
    views: Views,
    ages: Samples,
    responses: Samples,
    bytes_up: (u64, u64),
    bytes_down: (u64, u64),
}

#[derive(Clone, Copy, Debug, Default)]
struct Tricks {
    played: u32,
    answered: u32,
    idle: u32,
}

#[derive(Clone, Debug, Default)]
struct Views {
    frames: u64,
    extrapolated: u64,
    held: u64,
    /// Frames so far, of everybody at once.
    seen: u64,
}

/// The figures of a machine between two moments.
pub fn measure(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> ClientMetrics {
    let mut tally = Tally::default();
    tally.add(record, machine, Span { from, to, end: to });
    tally.figures(record, machine)
}

impl Tally {
    /// Adds a span of the record.
    pub fn add(&mut self, record: &Record, machine: MachineId, span: Span) {
        self.add_happenings(record, machine, span);
        self.add_inputs(record, machine, span);
        self.errors.extend(prediction_errors(record, machine, span.from, span.to).into_iter().map(|(_, e)| e));
        self.add_views(record, machine, span);
        self.responses.extend(responses(record, machine, span.from, span.to));
        for row in record.datagrams(machine, span.from, span.to) {
            let (plain, udp) = if row.kind.is_up() { &mut self.bytes_up } else { &mut self.bytes_down };
            *plain += u64::from(row.bytes);
            *udp += u64::from(row.bytes) + 28;
            self.joining.bytes += if row.kind.is_joining() { u64::from(row.bytes) } else { 0 };
        }
        let seen = record.of(machine).seen.span(span.from, span.to);
        self.seen_after.extend(seen.map(|row| seen_after_ms(record, machine, row)));
    }

    /// What it came to.
    pub fn figures(&self, record: &Record, machine: MachineId) -> ClientMetrics {
        let player = record.cast.machines[machine.index()].player.as_ref();
        let role = player.map(|player| player.role);
        let is_rogue = role == Some(Role::Rogue);
        let [jump_95] = self.jumps.percentiles([0.95]);
        let [margin_05, margin_50] = self.margins.percentiles([0.05, 0.5]);
        let [error_50, error_95] = self.errors.percentiles([0.5, 0.95]);
        let [age_50, age_95] = self.ages.percentiles([0.5, 0.95]);
        let frames = self.views.frames;
        let share = |of: u64| (frames > 0).then(|| of as f64 / frames as f64);
        ClientMetrics {
            name: record.cast.name(machine).to_owned(),
            kind: role.map_or("", Role::name),
            arrangement: player.map_or("", |player| player.arrangement.name()),
            corrections: Corrections {
                count: self.jumps.count() as u32,
                mean_m: self.jumps.mean(),
                p95_m: jump_95,
                max_m: self.jumps.most(),
                replayed_ticks: self.replayed,
                unexplained: self.unexplained,
            },
            joining: self.joining.clone(),
            seen_after_ms: SeenAfter { p50: self.seen_after.percentiles([0.5])[0], max: self.seen_after.most() },
            inputs: self.inputs.clone(),
            margin_ticks: Margin { p05: margin_05, p50: margin_50 },
            prediction_error_m: ErrorM { p50: error_50, p95: error_95, max: self.errors.most() },
            view_age_ms: Age { p50: age_50, p95: age_95 },
            extrapolated_share: share(self.views.extrapolated),
            held_share: share(self.views.held),
            response_ms: self.responses.percentiles([0.5])[0],
            bytes_up: self.bytes_up.0,
            bytes_down: self.bytes_down.0,
            bytes_up_udp: self.bytes_up.1,
            bytes_down_udp: self.bytes_down.1,
            verdicts: self.verdicts.clone(),
            resyncs: self.resyncs,
            gain_m: is_rogue.then_some(self.gain),
            tricks: is_rogue.then_some(self.tricks.played),
            tricks_answered: is_rogue.then_some(self.tricks.answered),
            tricks_idle: is_rogue.then_some(self.tricks.idle),
        }
    }

    fn add_happenings(&mut self, record: &Record, machine: MachineId, span: Span) {
        let rows = &record.of(machine).happenings;
        for row in rows.span(span.from, span.to) {
            match row.what {
                Happening::Fact(Fact::Corrected(c)) if c.why != Restored::Settled => {
                    self.jumps.push(f64::from(c.jump));
                    self.replayed += u64::from(c.replayed);
                    self.unexplained += u32::from(causes(record, machine, row.at, &c).is_empty());
                }
                Happening::Fact(Fact::Verdict(v)) => {
                    *self.verdicts.entry(v.evidence.rule.name()).or_default() += 1;
                    self.gain += f64::from(v.evidence.gain);
                }
                Happening::Fact(Fact::Resync { .. }) => self.resyncs += 1,
                Happening::Fact(Fact::Connected { .. }) => self.joining.connections += 1,
                Happening::Fact(Fact::Refused { .. }) => self.joining.refusals += 1,
                Happening::Trick { lasts: Some(lasts) } => self.add_trick(record, machine, (row.at, lasts), span.end),
                _ => {}
            }
        }
    }

    /// A trick that has been played, or was answered before that.
    fn add_trick(&mut self, record: &Record, machine: MachineId, (at, lasts): (LabTime, LabTime), now: LabTime) {
        let rows = &record.of(machine).happenings;
        let during = |grace: LabTime| {
            let last = at.plus(lasts).plus(grace).0.min(now.0);
            rows.span(at, LabTime(last))
        };
        // Played while a pull back was on its way, a trick is undone by that one.
        let caught = during(GRACE).any(|r| match r.what {
            Happening::Fact(Fact::Verdict(_)) => true,
            Happening::Fact(Fact::Corrected(c)) => c.why == Restored::PulledBack,
            _ => false,
        });
        let over = at.plus(lasts).plus(GRACE) <= now;
        // One that still goes on may be answered yet.
        self.tricks.played += u32::from(caught || over);
        self.tricks.answered += u32::from(caught);
        let offends = || during(NEXT_TICK).any(|r| matches!(r.what, Happening::Offence));
        self.tricks.idle += u32::from(!caught && over && !offends());
    }

    fn add_inputs(&mut self, record: &Record, machine: MachineId, span: Span) {
        let rows = &record.of(machine).inputs;
        let inside = rows.until(span.to);
        let settled = span.end.minus(LabTime::from_secs(1.0));
        let mut on_their_way = BTreeSet::new();
        for row in rows.range(rows.before(span.from), inside) {
            match row.fate {
                InputFate::Sampled => {
                    self.inputs.sent += 1;
                    if row.at < settled {
                        on_their_way.insert((row.entity, row.tick));
                    }
                }
                InputFate::Arrived(margin) => {
                    on_their_way.remove(&(row.entity, row.tick));
                    self.inputs.late += u32::from(margin < 0);
                    self.margins.push(f64::from(margin) / 4.0);
                }
                InputFate::Dropped => {
                    on_their_way.remove(&(row.entity, row.tick));
                    self.inputs.dropped += 1;
                }
                InputFate::Used(Provenance::Fresh) => self.inputs.fresh += 1,
                InputFate::Used(Provenance::Repeated) => self.inputs.repeated += 1,
                InputFate::Used(Provenance::Rested) => self.inputs.rested += 1,
            }
        }
        for row in rows.range(inside, rows.until(span.end)) {
            if on_their_way.is_empty() {
                break;
            }
            if matches!(row.fate, InputFate::Arrived(_) | InputFate::Dropped) {
                on_their_way.remove(&(row.entity, row.tick));
            }
        }
        self.inputs.lost += on_their_way.len() as u32;
    }

    fn add_views(&mut self, record: &Record, machine: MachineId, span: Span) {
        let (here, frames) = (record.of(machine), &record.of(machine).frames);
        // Whom it knows changes seldom: asked again only then.
        let (mut known, mut changes): (Vec<ActorId>, _) = (Vec::new(), None);
        let rows = frames.before(span.from)..frames.until(span.to);
        for number in rows {
            let Some(frame) = record.frame(machine, number) else { continue };
            let (at, shared) = (frame.row.at, frame.placed(record.cast.rate));
            // One in four says the same about ages.
            let with_age = self.views.seen.is_multiple_of(4);
            let now = Some((here.knows.until(at), here.joined.until(at)));
            if changes != now {
                changes = now;
                known = record.cast.actors().filter(|actor| here.knows(*actor, at)).collect();
            }
            for actor in known.iter().copied().filter(|actor| !record.cast.owns(machine, *actor, at)) {
                let lately = || record.frame_of(machine, actor, &frame)?.placed(record.cast.rate);
                let placed = if record.is_older(actor, &frame) { shared } else { lately() };
                let Some((tick, fraction, how)) = placed else { continue };
                self.views.frames += 1;
                self.views.extrapolated += u64::from(how == Drawn::Extrapolated);
                self.views.held += u64::from(how == Drawn::Held);
                if with_age {
                    self.ages.extend(age(record, actor, at, tick, fraction));
                }
            }
            self.views.seen += 1;
        }
    }
}

/// How long after its end a trick may still be answered.
const GRACE: LabTime = LabTime(2_000_000_000);
/// How long after a jump its first tick may come.
const NEXT_TICK: LabTime = LabTime(250_000_000);

/// How far the first prediction of each tick of a machine's own was from what the authority made of it: (moment, metres).
pub fn prediction_errors(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> Vec<(LabTime, f64)> {
    let mut errors = Vec::new();
    for own in &record.of(machine).own {
        let (predicted, authority) = (&own.predicted, record.authority(own.actor));
        for i in predicted.between(from, to) {
            let Some(head) = predicted.head(i) else { continue };
            if let Some(truth) = authority.of_tick(head.tick) {
                errors.push((head.at, f64::from(predicted.pos(i).distance(authority.pos(truth)))));
            }
        }
    }
    errors
}

/// From an entity's birth, or the start of the viewer's program where that was later, to the frame in which the viewer drew it
/// first, in milliseconds.
pub fn seen_after_ms(record: &Record, viewer: MachineId, row: &SeenRow) -> f64 {
    let born = record.cast.actors[row.actor.index()].born.0;
    let rows = &record.of(viewer).presence;
    let started = rows.range(0, rows.until(row.at)).rev().find(|r| r.presence == Presence::Joining);
    row.at.minus(started.map_or(born, |started| started.at.max(born))).millis()
}

/// How far in the past something drawn lies, in milliseconds.
pub fn view_age(record: &Record, actor: ActorId, row: &DrawnRow) -> Option<f64> {
    age(record, actor, row.at, row.tick, row.fraction)
}

/// How far before `at` the authority made what lies `fraction` of the way from a tick to the next, in milliseconds.
fn age(record: &Record, actor: ActorId, at: LabTime, tick: RecordTick, fraction: f32) -> Option<f64> {
    let track = record.authority(actor);
    let i = track.of_tick(tick)?;
    let made = track.head(i)?.at.millis();
    let next = track.head(i + 1).map_or(made, |h| h.at.millis());
    Some(at.millis() - (made + (next - made) * f64::from(fraction)))
}

/// Frames looked through for the first movement after a press.
const LOOKED_THROUGH: usize = 400;
/// Frames before a press in which nothing may have moved: what moved before the press proves nothing about it.
const AT_REST: usize = 4;

/// From presses at rest to the first frame in which the own character moves, in milliseconds.
fn responses(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> Vec<f64> {
    let (rows, frames) = (&record.of(machine).happenings, &record.of(machine).frames);
    let mut samples = Vec::new();
    for row in rows.span(from, to) {
        if !matches!(row.what, Happening::Pressed) {
            continue;
        }
        let Some(actor) = record.cast.body(machine, row.at) else { continue };
        let drawn = |number: usize| record.drawn_in(machine, actor, number);
        let after = frames.before(row.at);
        let Some(rest) = after.checked_sub(1).and_then(drawn) else { continue };
        let moved = |r: &DrawnRow| (r.pos - rest.pos).dot(r.pos - rest.pos) > 1e-6;
        if after < AT_REST || drawn(after - AT_REST).as_ref().is_none_or(moved) {
            continue;
        }
        let seen = (after..frames.len().min(after + LOOKED_THROUGH)).filter_map(drawn).find(moved);
        samples.extend(seen.map(|r| r.at.minus(row.at).millis()));
    }
    samples
}
