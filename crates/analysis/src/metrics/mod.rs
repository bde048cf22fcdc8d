//! What each number means, measured from the record over a span of time.
//!
//! Jumps and errors are in metres, ages and delays in milliseconds, shares from 0 to 1. A figure without samples is
//! `None`, never zero.

mod figure;
mod gains;
mod hands;
mod judder;
mod meter;
mod moments;
mod tally;
mod tricks;
mod views;

pub use figure::{FIGURES, Figure, Unit, Value};
pub use hands::LOOKED_FOR;
pub use meter::BEHIND;
pub use meter::{Measured, Meter, Totals, measure, measure_all};
pub use moments::{Moments, Peak, Seconds, SeenMoments};
pub use tally::Tally;
pub use views::{OLDEST, Reel, SETTLED, WINDOW, Window};

use std::collections::BTreeMap;

use serde::Serialize;
use velocitas_core::Presence;

use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::record::{DrawnRow, Record, SeenRow};
use velocitas_record::time::LabTime;

/// Corrections of one client.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Corrections {
    /// How many.
    pub count: u32,
    /// Of these, with how many the server put it elsewhere: they are no jumps.
    pub teleported: u32,
    /// In how many frames the newest position jumped: of several corrections in one frame eyes see one jump.
    pub jumps_seen: u32,
    /// Mean jump, of those that moved anything.
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

/// Inputs of one client. What was sampled has one fate each, so the counts from `fresh` to `under_way` add up to `sampled`.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Inputs {
    /// Put on their way.
    pub sampled: u32,
    /// Used as sent.
    pub fresh: u32,
    /// Arrived after their tick was made.
    pub late: u32,
    /// Arrived for ticks that the server passed over after it had stood still.
    pub passed_over: u32,
    /// Dropped since they go on from before a pull back.
    pub outdated: u32,
    /// Arrived in time, and the guard did not take them.
    pub refused: u32,
    /// Arrived in time for ticks made by another's word, or after the connection had ended.
    pub unused: u32,
    /// All datagrams that carried them were lost.
    pub lost: u32,
    /// Arrived where nobody took them.
    pub unheard: u32,
    /// On their way, or waiting for their tick.
    pub under_way: u32,
    /// Ticks for which the server made one up: keys held on.
    pub repeated: u32,
    /// Ticks for which it made one up after so long that keys came up.
    pub rested: u32,
    /// Of all ticks made up, those for which nothing was sampled.
    pub never_sampled: u32,
    /// How late those that came late came: the most.
    pub latest_ms: Option<f64>,
}

impl Inputs {
    /// A tick was made with what came, or with something made up.
    pub(crate) fn made_up(&mut self, made: velocitas_core::Provenance) {
        use velocitas_core::Provenance;
        self.repeated += u32::from(made == Provenance::Repeated);
        self.rested += u32::from(made == Provenance::Rested);
    }

    /// A tick was made, and that is known of its input by now: where it was taken for the same as before and was not, its keys were held on.
    pub(crate) fn made(&mut self, made: velocitas_core::Provenance, is_fresh: bool) {
        use velocitas_core::Provenance;
        let is_wrong = made == Provenance::Unchanged && !is_fresh;
        self.made_up(if is_wrong { Provenance::Repeated } else { made });
    }

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
    /// How long its program ran.
    pub there_ms: f64,
    /// Payload of hellos and all answers to them, both ways.
    pub bytes: u64,
}

/// What ordered streams did with the messages of one client, both ways.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Streamed {
    /// Messages sent that had been sent before.
    pub sent_again: u32,
    /// Messages that had come, and were held back behind one that had not.
    pub held_back: u32,
    /// For how long at most.
    pub longest_ms: Option<f64>,
    /// Messages that were not sent, as there was no room for them.
    pub full: u32,
}

/// Where others were sent that the own entities of one client are, in ticks in which that was not where the server had them.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Echoed {
    /// How far the two were apart.
    pub apart_m: ErrorM,
    /// How often it was put where the server had it, as they had been too far apart for too long.
    pub cuts: u32,
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
pub struct Spread {
    /// Median.
    pub p50: Option<f64>,
    /// 95th percentile.
    pub p95: Option<f64>,
}

/// What is wrong with what is drawn, beyond being late: in windows of a second, see [`Window`].
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Seen {
    /// Mean lag of the windows: the median of all; negative where what is drawn is ahead of the server.
    pub lag_ms: Option<f64>,
    /// From where it is drawn to where the authority had it a lag before, every frame.
    pub drawn_error_m: ErrorM,
    /// RMS of the difference between drawn and true velocity, of the windows in which it moved.
    pub roughness_mps: Spread,
    /// RMS of how far the drawn velocity of a frame is from the mean of those before and after it, of the windows in which it moved.
    pub judder_mps: Spread,
    /// Frames a minute in which it moved otherwise than it should.
    pub hops_per_min: Option<f64>,
    /// How often a minute it left one of its rule's looks and had it again within half a second.
    pub flickers_per_min: Option<f64>,
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
    /// How it sees the others.
    pub others: Seen,
    /// How it sees its own, beyond how far that is ahead or behind.
    pub own: Seen,
    /// How unevenly its camera moves.
    pub camera_judder_mps: Spread,
    /// What others were sent of its own instead of what the server has.
    pub echo: Echoed,
    /// How far in the past it sees the others.
    pub view_age_ms: Spread,
    /// Share of entity-frames drawn past the newest state.
    pub extrapolated_share: Option<f64>,
    /// Share of entity-frames drawn past the limit of that.
    pub held_share: Option<f64>,
    /// Presses at rest that moved the own character.
    pub responses: u64,
    /// From such a press to the first frame in which the own character moves: median.
    pub response_ms: Option<f64>,
    /// From a press to the first frame on another's screen that includes it.
    pub seen_ms: Spread,
    /// Payload sent.
    pub bytes_up: u64,
    /// Payload sent to it, lost or not.
    pub bytes_down: u64,
    /// The same with 28 bytes a datagram for IPv4 and UDP.
    pub bytes_up_udp: u64,
    /// The same with 28 bytes a datagram for IPv4 and UDP.
    pub bytes_down_udp: u64,
    /// What ordered streams did with its messages, both ways.
    pub stream: Streamed,
    /// Accusations by rule.
    pub verdicts: BTreeMap<&'static str, u32>,
    /// Gaps bridged without one.
    pub resyncs: u32,
    /// The same by reason, as the record names it.
    pub resync_reasons: BTreeMap<&'static str, u32>,
    /// Metres beyond what its rule allows that its tricks gained and kept; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gain_m: Option<f64>,
    /// The most of them that one of its tricks ever had, before any pull back; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gain_peak_m: Option<f64>,
    /// Metres beyond what its hands pressed that its tricks gained and kept, lawful or not; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gain_pressed_m: Option<f64>,
    /// The most of them that one of its tricks ever had, before any pull back; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gain_pressed_peak_m: Option<f64>,
    /// Tricks played and over, or answered before that; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tricks: Option<u32>,
    /// Of those, for how many there is a verdict whose evidence lies in their ticks; rogues only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tricks_answered: Option<u32>,
    /// Of those, how many could have no effect and were not answered either: every tick came out as its rule would have it
    /// (no wall was met, the stick was at rest), or the server took none of them; rogues only.
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

/// How far the first prediction of each tick of a machine's own was from what the authority made of it: (moment, metres).
pub fn prediction_errors(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> Vec<(LabTime, f64)> {
    let mut errors = Vec::new();
    for own in &record.of(machine).own {
        let (predicted, authority) = (&own.predicted, record.authority(own.actor));
        for i in predicted.between(from, to) {
            let Some(head) = predicted.head(i) else { continue };
            if let Some(truth) = record.answer(machine, own.actor, head.tick) {
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
