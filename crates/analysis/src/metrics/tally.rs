//! Figures on their way: spans of a record that follow each other are added up.

use std::collections::BTreeMap;

use velocitas_core::{Drawn, Fact, HostNanos, LookSettings, Looks, Presence, Provenance, Restored};
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::record::{DrawnRow, InputRow, Record};
use velocitas_record::role::Role;
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use super::hands::{responses, seen};
use super::moments::Moments;
use super::tricks::Tricks;
use super::views::{Reel, WINDOW, Window};
use super::{
    ClientMetrics, Corrections, Echoed, ErrorM, Inputs, Joining, Margin, Seen, SeenAfter, Span, Spread, Streamed,
    prediction_errors, seen_after_ms,
};
use crate::cause::Found;
use crate::fate::{Fate, fate};
use crate::samples::Samples;
use crate::trouble::{Ledger, Trouble};

/// Figures of a machine on their way.
#[derive(Clone, Debug, Default)]
pub struct Tally {
    corrections: u32,
    teleported: u32,
    jumps: Samples,
    /// The last frame in which any was seen, of which entities, and in how many frames one was.
    jumped: (LabTime, Vec<u16>),
    jumps_seen: u32,
    replayed: u64,
    unexplained: u32,
    verdicts: BTreeMap<&'static str, u32>,
    resyncs: BTreeMap<&'static str, u32>,
    tricks: Tricks,
    joining: Joining,
    streamed: Streamed,
    /// How long its program ran.
    there: LabTime,
    seen_after: Samples,
    inputs: Inputs,
    under_way: Vec<UnderWay>,
    margins: Samples,
    errors: Samples,
    others: Views,
    own: Views,
    camera: Samples,
    /// How far the smooth echoes of its own were from the raw ones, where they were, and how often one was put there.
    apart: Samples,
    echo_cuts: u32,
    /// Entity-frames of others, and of these those past the newest state and past the limit of that.
    frames: u64,
    extrapolated: u64,
    held: u64,
    troubles: Ledger,
    responses: Samples,
    seen: Samples,
    bytes_up: (u64, u64),
    bytes_down: (u64, u64),
    moments: Moments,
}

/// An input that was on its way when last looked at, or waited for its tick.
#[derive(Clone, Copy, Debug)]
struct UnderWay {
    actor: ActorId,
    at: LabTime,
    tick: RecordTick,
    /// How many ticks early it had arrived, if it had.
    early: Option<f64>,
    /// With what its tick was made without it, if it was.
    made: Option<Provenance>,
}

/// Windows on their way.
#[derive(Clone, Debug, Default)]
struct Views {
    ages: Samples,
    lags: Samples,
    errors: Samples,
    roughness: Samples,
    judder: Samples,
    hops: u64,
    /// By entity, what it looks to be doing.
    looks: BTreeMap<ActorId, Looks>,
    flickers: u64,
    seconds: f64,
}

impl Views {
    fn add(&mut self, record: &Record, actor: ActorId, sights: &[DrawnRow], window: &Window) {
        let kind = record.cast.actors[actor.index()].kind;
        let rule = record.cast.kinds().motion(kind).looks();
        let (looks, by) = (self.looks.entry(actor).or_default(), LookSettings::of(window.looks));
        let flickers = |sight: &&DrawnRow| looks.drawn(HostNanos(sight.at.0 as i64), sight.pos, rule, &by);
        self.flickers += sights.iter().filter(flickers).count() as u64;
        self.lags.extend(window.lag_ms);
        self.ages.push_all(&window.ages_ms);
        self.errors.push_all(&window.errors_m);
        self.roughness.extend(window.roughness_mps);
        self.judder.extend(window.judder_mps);
        self.hops += u64::from(window.hops);
        self.seconds += window.seconds;
    }

    fn figures(&self) -> Seen {
        let per_min = |count: u64| (self.seconds > 0.0).then(|| count as f64 / self.seconds * 60.0);
        Seen {
            lag_ms: self.lags.percentiles([0.5])[0],
            drawn_error_m: error(&self.errors),
            roughness_mps: spread(&self.roughness),
            judder_mps: spread(&self.judder),
            hops_per_min: per_min(self.hops),
            flickers_per_min: per_min(self.flickers),
        }
    }
}

fn error(samples: &Samples) -> ErrorM {
    let [p50, p95] = samples.percentiles([0.5, 0.95]);
    ErrorM { p50, p95, max: samples.most() }
}

fn spread(samples: &Samples) -> Spread {
    let [p50, p95] = samples.percentiles([0.5, 0.95]);
    Spread { p50, p95 }
}

impl Tally {
    /// Adds a span of the record.
    pub fn add(&mut self, found: Found<'_>, machine: MachineId, span: Span, reel: &mut Reel) {
        let record = found.record;
        self.add_happenings(found, machine, span);
        self.add_inputs(record, machine, span);
        self.errors.extend(prediction_errors(record, machine, span.from, span.to).into_iter().map(|(_, e)| e));
        self.add_views(found, machine, span, reel);
        self.add_echoes(record, machine, span);
        self.troubles.end(record, machine, span);
        let looked = (span.from, span.to, span.end);
        for (at, ms) in responses(record, machine, looked) {
            self.responses.push(ms);
            self.moments.response.note(ms, at);
        }
        for (at, ms) in seen(record, machine, looked) {
            self.seen.push(ms);
            self.moments.seen.note(ms, at);
        }
        self.tricks.add(record, machine, span);
        for row in record.datagrams(machine, span.from, span.to) {
            let ((plain, udp), seconds) = match row.kind.is_up() {
                true => (&mut self.bytes_up, &mut self.moments.up),
                false => (&mut self.bytes_down, &mut self.moments.down),
            };
            *plain += u64::from(row.bytes);
            *udp += u64::from(row.bytes) + 28;
            seconds.note(u32::from(row.bytes), row.at);
            self.streamed.sent_again += u32::from(row.piece.is_some_and(|(_, again)| again));
            self.joining.bytes += if row.kind.is_joining() { u64::from(row.bytes) } else { 0 };
        }
        self.there = self.there.plus(there(record, machine, span));
        let seen = record.of(machine).seen.span(span.from, span.to);
        self.seen_after.extend(seen.map(|row| seen_after_ms(record, machine, row)));
    }

    /// What it came to.
    pub fn figures(&self, record: &Record, machine: MachineId) -> ClientMetrics {
        let player = record.cast.machines[machine.index()].player.as_ref();
        let role = player.map(|player| player.role);
        let tricks = self.tricks.outcome();
        let is_rogue = role == Some(Role::Rogue);
        let [jump_95] = self.jumps.percentiles([0.95]);
        // What has arrived and waits for its tick was as early as it was.
        let mut margins = self.margins.clone();
        margins.extend(self.under_way.iter().filter_map(|one| one.early));
        let [margin_05, margin_50] = margins.percentiles([0.05, 0.5]);
        let share = |of: u64| (self.frames > 0).then(|| of as f64 / self.frames as f64);
        ClientMetrics {
            name: record.cast.name(machine).to_owned(),
            kind: role.map_or("", Role::name),
            arrangement: player.map_or("", |player| player.arrangement.name()),
            corrections: Corrections {
                count: self.corrections,
                teleported: self.teleported,
                jumps_seen: self.jumps_seen,
                mean_m: self.jumps.mean(),
                p95_m: jump_95,
                max_m: self.jumps.most(),
                replayed_ticks: self.replayed,
                unexplained: self.unexplained,
            },
            joining: Joining { there_ms: self.there.millis(), ..self.joining.clone() },
            seen_after_ms: SeenAfter { p50: self.seen_after.percentiles([0.5])[0], max: self.seen_after.most() },
            inputs: self.inputs(),
            margin_ticks: Margin { p05: margin_05, p50: margin_50 },
            prediction_error_m: error(&self.errors),
            others: self.others.figures(),
            own: self.own.figures(),
            camera_judder_mps: spread(&self.camera),
            echo: Echoed { apart_m: error(&self.apart), cuts: self.echo_cuts },
            view_age_ms: spread(&self.others.ages),
            extrapolated_share: share(self.extrapolated),
            held_share: share(self.held),
            responses: self.responses.len(),
            response_ms: self.responses.percentiles([0.5])[0],
            seen_ms: spread(&self.seen),
            bytes_up: self.bytes_up.0,
            bytes_down: self.bytes_down.0,
            bytes_up_udp: self.bytes_up.1,
            bytes_down_udp: self.bytes_down.1,
            stream: self.streamed.clone(),
            verdicts: self.verdicts.clone(),
            resyncs: self.resyncs.values().sum(),
            resync_reasons: self.resyncs.clone(),
            gain_m: is_rogue.then_some(tricks.gain.allowed),
            gain_peak_m: is_rogue.then_some(tricks.peak.allowed),
            gain_pressed_m: is_rogue.then_some(tricks.gain.pressed),
            gain_pressed_peak_m: is_rogue.then_some(tricks.peak.pressed),
            tricks: is_rogue.then_some(tricks.played),
            tricks_answered: is_rogue.then_some(tricks.answered),
            tricks_idle: is_rogue.then_some(tricks.idle),
        }
    }

    /// What became of inputs so far.
    fn inputs(&self) -> Inputs {
        let mut inputs = self.inputs.clone();
        inputs.under_way = self.under_way.len() as u32;
        inputs.sampled += inputs.under_way;
        self.under_way.iter().filter_map(|one| one.made).for_each(|made| inputs.made_up(made));
        inputs
    }

    /// When to look at what went wrong.
    pub fn moments(&self) -> Moments {
        Moments { trick: self.tricks.unanswered(), ..self.moments.clone() }
    }

    /// What went wrong, by reason.
    pub fn troubles(&self, machine: MachineId) -> Vec<Trouble> {
        self.troubles.troubles(machine)
    }

    fn add_happenings(&mut self, found: Found<'_>, machine: MachineId, span: Span) {
        let rows = &found.record.of(machine).happenings;
        for row in rows.span(span.from, span.to) {
            match row.what {
                Happening::Fact(Fact::Corrected(c)) if c.why != Restored::Settled => {
                    self.corrections += 1;
                    self.troubles.corrected(found, machine, row.at, &c);
                    self.moments.corrections.note(1, row.at);
                    if c.why == Restored::Teleported {
                        self.teleported += 1;
                    } else if c.jump > 0.0 {
                        self.jumps.push(f64::from(c.jump));
                        self.moments.jump.note(f64::from(c.jump), row.at);
                    }
                    if self.jumped.0 != row.at {
                        self.jumped = (row.at, Vec::new());
                    }
                    if c.jump > 0.0 && c.why != Restored::Teleported && !self.jumped.1.contains(&c.entity.index) {
                        self.jumped.1.push(c.entity.index);
                        self.jumps_seen += 1;
                    }
                    self.replayed += u64::from(c.replayed);
                    let finding = found.finding(machine, row.at, &c);
                    if finding.causes.is_empty() && !finding.rule_absent {
                        self.unexplained += 1;
                        Moments::first(&mut self.moments.unexplained, row.at);
                    }
                }
                Happening::Fact(Fact::Verdict(v)) => {
                    *self.verdicts.entry(v.evidence.rule.name()).or_default() += 1;
                    Moments::first(&mut self.moments.verdict, row.at);
                }
                Happening::Fact(Fact::Resync { why, .. }) => *self.resyncs.entry(why.name()).or_default() += 1,
                Happening::Fact(Fact::HeldBack { waited_us, .. }) => {
                    self.streamed.held_back += 1;
                    let ms = f64::from(waited_us) / 1e3;
                    self.streamed.longest_ms = Some(self.streamed.longest_ms.unwrap_or(0.0).max(ms));
                }
                Happening::Fact(Fact::StreamFull { .. }) => self.streamed.full += 1,
                Happening::Fact(Fact::Connected { .. }) => self.joining.connections += 1,
                Happening::Fact(Fact::Refused { .. }) => self.joining.refusals += 1,
                _ => {}
            }
        }
    }

    fn add_inputs(&mut self, record: &Record, machine: MachineId, span: Span) {
        for pending in std::mem::take(&mut self.under_way) {
            let UnderWay { actor, at, tick, .. } = pending;
            let rows = record.of(machine).own(actor).map(|own| own.inputs.rows());
            match rows.and_then(|rows| rows.span(at, at).find(|row| row.tick == tick)) {
                Some(row) => self.add_input(record, machine, actor, &row, span.end),
                // What is forgotten stays what it was.
                None => self.under_way.push(pending),
            }
        }
        for own in &record.of(machine).own {
            for row in own.inputs.rows().span(span.from, span.to) {
                self.add_input(record, machine, own.actor, &row, span.end);
            }
        }
    }

    fn add_input(&mut self, record: &Record, machine: MachineId, actor: ActorId, row: &InputRow, end: LabTime) {
        let fate = fate(record, machine, actor, row, end);
        // Of what was taken for the same as before it does not matter when it came.
        let is_said = row.used().is_none_or(|(_, how)| how != Provenance::Unchanged);
        let early = row
            .arrived()
            .filter(|(_, margin)| is_said || *margin < 0)
            .filter(|(at, _)| *at <= end)
            .map(|(_, margin)| f64::from(margin) / 4.0);
        let made = row.used().filter(|(at, _)| *at <= end).map(|(_, provenance)| provenance);
        let inputs = &mut self.inputs;
        match fate {
            Some(Fate::UnderWay) => {
                return self.under_way.push(UnderWay { actor, at: row.at, tick: row.tick, early, made });
            }
            Some(Fate::Fresh) => inputs.fresh += 1,
            Some(Fate::Late(ms)) => {
                inputs.late += 1;
                self.moments.late.note(1, row.at);
                inputs.latest_ms = Some(inputs.latest_ms.unwrap_or(0.0).max(ms));
            }
            Some(Fate::PassedOver) => inputs.passed_over += 1,
            Some(Fate::Outdated) => inputs.outdated += 1,
            Some(Fate::Refused) => inputs.refused += 1,
            Some(Fate::Unused) => inputs.unused += 1,
            Some(Fate::Lost) => inputs.lost += 1,
            Some(Fate::Unheard) => inputs.unheard += 1,
            None => {}
        }
        inputs.sampled += u32::from(fate.is_some());
        if let Some(made) = made {
            inputs.made(made, fate == Some(Fate::Fresh));
            inputs.never_sampled += u32::from(fate.is_none() && made != Provenance::Fresh);
        }
        self.margins.extend(early);
    }

    /// Looks at where others were sent that its own are.
    fn add_echoes(&mut self, record: &Record, machine: MachineId, span: Span) {
        for own in &record.of(machine).own {
            let (authority, echo) = (record.authority(own.actor), record.echo(own.actor));
            let owners = &record.cast.actors[own.actor.index()];
            echo.visit(echo.between(span.from, span.to), |head, sent| {
                let raw = authority.of_tick(head.tick).filter(|_| owners.is_owned_in(machine, head.tick));
                let Some(raw) = raw else { return };
                self.apart.push(f64::from(authority.pos(raw).distance(sent)));
                // Where the server put it elsewhere, both are there.
                let is_put = authority.head(raw).is_some_and(|raw| raw.teleported);
                self.echo_cuts += u32::from(head.teleported && !is_put);
            });
        }
    }

    /// Looks at the whole seconds of a span.
    fn add_views(&mut self, found: Found<'_>, machine: MachineId, span: Span, reel: &mut Reel) {
        let first = span.from.0.div_ceil(WINDOW.0);
        let after = (span.to.0 + 1) / WINDOW.0;
        for second in first..after {
            let begin = LabTime(second * WINDOW.0);
            reel.play(found.record, machine, begin, |actor, own, sights, window| {
                self.troubles.seen(found, machine, (actor, own), sights, &window);
                if own {
                    self.moments.own.note(&window, begin);
                    self.camera.extend(window.camera_mps);
                    return self.own.add(found.record, actor, sights, &window);
                }
                self.moments.others.note(&window, begin);
                self.others.add(found.record, actor, sights, &window);
                self.frames += sights.len() as u64;
                let held = sights.iter().filter(|sight| sight.how == Drawn::Held).count() as u32;
                let past = sights.iter().filter(|sight| sight.how.is_past()).count() as u32;
                for (frames, sum, seconds) in [
                    (past - held, &mut self.extrapolated, &mut self.moments.extrapolated),
                    (held, &mut self.held, &mut self.moments.held),
                ] {
                    *sum += u64::from(frames);
                    if frames > 0 {
                        seconds.note(frames, begin);
                    }
                }
            });
        }
    }
}

/// How long the program of a machine ran within a span.
fn there(record: &Record, machine: MachineId, span: Span) -> LabTime {
    let rows = record.of(machine);
    let (mut there, mut since) = (LabTime::ZERO, span.from);
    let before = span.from.0.checked_sub(1).map(LabTime);
    let mut is_there = before.is_some_and(|before| rows.presence_at(before) != Presence::Left);
    for row in rows.presence.span(span.from, span.to) {
        if is_there {
            there = there.plus(row.at.minus(since));
        }
        (since, is_there) = (row.at, row.presence != Presence::Left);
    }
    // The end itself is a moment that is looked at, and no time.
    let until = LabTime(span.to.0 + 1).min(span.end);
    if is_there { there.plus(until.minus(since)) } else { there }
}
