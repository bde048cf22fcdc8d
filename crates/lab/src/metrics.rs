//! What each number means, measured from the record over a span of time.
//!
//! Jumps and errors are in metres, ages and delays in milliseconds, shares from 0 to 1. A figure without samples is
//! `None`, never zero.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use velocitas_core::{Arrangement, Drawn, Provenance, Restored};

use crate::cause::causes;
use crate::course::Role;
use crate::record::{Happening, InputFate, Machine, Record};
use crate::time::LabTime;

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
    /// Ticks for which the server made one up.
    pub repeated: u32,
    /// Arrived after their tick was simulated.
    pub late: u32,
    /// Never arrived; those of the last second are not counted yet.
    pub lost: u32,
}

impl Inputs {
    /// Share of the ticks for which the server had what was sent.
    pub fn fresh_share(&self) -> Option<f64> {
        let ticks = self.fresh + self.repeated;
        (ticks > 0).then(|| f64::from(self.fresh) / f64::from(ticks))
    }
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
}

/// The value at a share of the sorted samples (nearest rank).
pub fn percentile(samples: &mut [f64], share: f64) -> Option<f64> {
    if samples.is_empty() {
        return None;
    }
    samples.sort_by(f64::total_cmp);
    let rank = (share * samples.len() as f64).ceil() as usize;
    Some(samples[rank.clamp(1, samples.len()) - 1])
}

/// The figures of a member between two moments.
pub fn measure(record: &Record, member: usize, from: LabTime, to: LabTime) -> ClientMetrics {
    let cast = &record.course().cast[member];
    let mut m = ClientMetrics {
        name: cast.name.clone(),
        kind: match cast.role {
            Role::Helm => "helm",
            Role::Bot => "bot",
            Role::Rogue => "rogue",
        },
        arrangement: match cast.arrangement {
            Arrangement::ServerAuthority => "server",
            Arrangement::OwnerClaims => "claims",
        },
        corrections: Corrections::default(),
        inputs: Inputs::default(),
        margin_ticks: Margin::default(),
        prediction_error_m: ErrorM::default(),
        view_age_ms: Age::default(),
        extrapolated_share: None,
        held_share: None,
        response_ms: None,
        bytes_up: 0,
        bytes_down: 0,
        bytes_up_udp: 0,
        bytes_down_udp: 0,
        verdicts: BTreeMap::new(),
        resyncs: 0,
        gain_m: None,
        tricks: None,
        tricks_answered: None,
    };
    seldom(record, member, from, to, &mut m);
    inputs(record, member, from, to, &mut m);
    predictions(record, member, from, to, &mut m);
    views(record, member, from, to, &mut m);
    m.response_ms = response(record, member, from, to);
    let rows = record.messages.partition(|r| r.at < from)..record.messages.partition(|r| r.at <= to);
    for row in record.messages.range(rows.start, rows.end).filter(|r| usize::from(r.member) == member) {
        let (plain, udp) =
            if row.up { (&mut m.bytes_up, &mut m.bytes_up_udp) } else { (&mut m.bytes_down, &mut m.bytes_down_udp) };
        *plain += u64::from(row.bytes);
        *udp += u64::from(row.bytes) + 28;
    }
    m
}

fn seldom(record: &Record, member: usize, from: LabTime, to: LabTime, m: &mut ClientMetrics) {
    let rows = record.happenings.partition(|r| r.at < from)..record.happenings.partition(|r| r.at <= to);
    let mut jumps = Vec::new();
    let mut gain = 0.0;
    for row in record.happenings.range(rows.start, rows.end).filter(|r| r.machine == Machine::Member(member)) {
        match row.what {
            Happening::Corrected(c) if c.why != Restored::Settled => {
                jumps.push(f64::from(c.jump));
                m.corrections.replayed_ticks += u64::from(c.replayed);
                m.corrections.unexplained += u32::from(causes(record, member, row.at, &c).is_empty());
            }
            Happening::Verdict(v) => {
                *m.verdicts.entry(v.rule.name()).or_default() += 1;
                gain += f64::from(v.gain);
            }
            Happening::Resync => m.resyncs += 1,
            _ => {}
        }
    }
    m.corrections.count = jumps.len() as u32;
    m.corrections.mean_m = (!jumps.is_empty()).then(|| jumps.iter().sum::<f64>() / jumps.len() as f64);
    m.corrections.p95_m = percentile(&mut jumps, 0.95);
    m.corrections.max_m = jumps.last().copied();
    if m.kind == "rogue" {
        let (tricks, answered) = tricks(record, member, from, to);
        m.gain_m = Some(gain);
        m.tricks = Some(tricks);
        m.tricks_answered = Some(answered);
    }
}

/// How long after its end a trick may still be answered.
const GRACE: LabTime = LabTime(2_000_000_000);

/// Tricks that have been played, and how many of them were answered.
fn tricks(record: &Record, member: usize, from: LabTime, to: LabTime) -> (u32, u32) {
    let mine = || record.happenings.iter().filter(|r| r.machine == Machine::Member(member) && r.at <= to);
    let (mut played, mut answered) = (0, 0);
    for row in mine().filter(|r| r.at >= from) {
        let Happening::Trick { lasts: Some(lasts) } = row.what else { continue };
        let end = row.at.plus(lasts).plus(GRACE);
        // Played while a pull back was on its way, a trick is undone by that one.
        let answers = |what: &Happening| match what {
            Happening::Verdict(_) => true,
            Happening::Corrected(c) => c.why == Restored::PulledBack,
            _ => false,
        };
        let caught = mine().any(|r| r.at >= row.at && r.at <= end && answers(&r.what));
        // One that still goes on may be answered yet.
        played += u32::from(caught || end <= to);
        answered += u32::from(caught);
    }
    (played, answered)
}

fn inputs(record: &Record, member: usize, from: LabTime, to: LabTime, m: &mut ClientMetrics) {
    let rows = record.inputs.partition(|r| r.at < from)..record.inputs.partition(|r| r.at <= to);
    let settled = to.minus(LabTime::from_secs(1.0));
    let mut on_their_way = BTreeSet::new();
    let mut margins = Vec::new();
    for row in record.inputs.range(rows.start, rows.end).filter(|r| usize::from(r.member) == member) {
        match row.fate {
            InputFate::Sampled => {
                m.inputs.sent += 1;
                if row.at < settled {
                    on_their_way.insert(row.tick);
                }
            }
            InputFate::Arrived(margin) => {
                on_their_way.remove(&row.tick);
                m.inputs.late += u32::from(margin < 0);
                margins.push(f64::from(margin) / 4.0);
            }
            InputFate::Used(Provenance::Fresh) => m.inputs.fresh += 1,
            InputFate::Used(_) => m.inputs.repeated += 1,
        }
    }
    m.inputs.lost = on_their_way.len() as u32;
    m.margin_ticks = Margin { p05: percentile(&mut margins, 0.05), p50: percentile(&mut margins, 0.5) };
}

/// How far the first prediction of each tick was from what the authority made of it: (moment, metres).
pub fn prediction_errors(record: &Record, member: usize, from: LabTime, to: LabTime) -> Vec<(LabTime, f64)> {
    let (predicted, authority) = (&record.predicted[member], &record.authority[member]);
    let mut errors = Vec::new();
    for i in predicted.between(from, to) {
        let Some(head) = predicted.head(i) else { continue };
        if let Some(truth) = authority.of_tick(head.tick) {
            errors.push((head.at, f64::from(predicted.pos(i).distance(authority.pos(truth)))));
        }
    }
    errors
}

fn predictions(record: &Record, member: usize, from: LabTime, to: LabTime, m: &mut ClientMetrics) {
    let mut errors: Vec<f64> = prediction_errors(record, member, from, to).into_iter().map(|(_, e)| e).collect();
    m.prediction_error_m =
        ErrorM { p50: percentile(&mut errors, 0.5), p95: percentile(&mut errors, 0.95), max: errors.last().copied() };
}

/// How far in the past a drawn row lies, in milliseconds.
pub fn view_age(record: &Record, entity: usize, row: &crate::record::DrawnRow) -> Option<f64> {
    let track = &record.authority[entity];
    let i = track.of_tick(row.tick)?;
    let made = track.head(i)?.at.millis();
    let next = track.head(i + 1).map_or(made, |h| h.at.millis());
    Some(row.at.millis() - (made + (next - made) * f64::from(row.fraction) / 65_536.0))
}

fn views(record: &Record, member: usize, from: LabTime, to: LabTime, m: &mut ClientMetrics) {
    let (mut frames, mut extrapolated, mut held) = (0u64, 0u64, 0u64);
    let mut ages = Vec::new();
    for (entity, column) in record.drawn[member].iter().enumerate().filter(|(entity, _)| *entity != member) {
        let rows = column.partition(|r| r.at < from)..column.partition(|r| r.at <= to);
        for (n, row) in column.range(rows.start, rows.end).enumerate() {
            frames += 1;
            extrapolated += u64::from(row.how == Drawn::Extrapolated as u8);
            held += u64::from(row.how == Drawn::Held as u8);
            // One in four says the same about ages.
            if n % 4 == 0 {
                ages.extend(view_age(record, entity, row));
            }
        }
    }
    if frames > 0 {
        m.extrapolated_share = Some(extrapolated as f64 / frames as f64);
        m.held_share = Some(held as f64 / frames as f64);
    }
    m.view_age_ms = Age { p50: percentile(&mut ages, 0.5), p95: percentile(&mut ages, 0.95) };
}

fn response(record: &Record, member: usize, from: LabTime, to: LabTime) -> Option<f64> {
    let own = &record.drawn[member][member];
    let rows = record.happenings.partition(|r| r.at < from)..record.happenings.partition(|r| r.at <= to);
    let mut samples = Vec::new();
    for row in record.happenings.range(rows.start, rows.end) {
        if row.machine != Machine::Member(member) || !matches!(row.what, Happening::Pressed) {
            continue;
        }
        let after = own.partition(|r| r.at < row.at);
        let Some(rest) = after.checked_sub(1).and_then(|i| own.get(i)) else { continue };
        let moved = |r: &&crate::record::DrawnRow| (0..3).map(|i| (r.pos[i] - rest.pos[i]).powi(2)).sum::<f32>() > 1e-6;
        // What moved before the press proves nothing about it.
        if after < 4 || own.get(after - 4).as_ref().is_some_and(moved) {
            continue;
        }
        let seen = own.range(after, after + 400).find(moved);
        samples.extend(seen.map(|r| r.at.minus(row.at).millis()));
    }
    percentile(&mut samples, 0.5)
}
