//! What everybody believed at one moment: the questions that screens ask of the record.

use std::sync::Arc;

use velocitas_core::{Correction, Drawn, Fact, Presence, Restored, Schema, Vec3, Verdict};
use velocitas_record::ids::{ActorId, MachineId, Part, RecordTick};
use velocitas_record::known::Changed;
use velocitas_record::record::{DrawnRow, Layout, Mark, MarkRow, OwnRows, Record, StateTrack};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow};
use velocitas_record::world::KnownTo;

use crate::cause::{Finding, Findings, Found};
use crate::metrics::{ClientMetrics, measure_all, view_age};
use crate::trouble::Trouble;

/// One machine's belief about one entity.
#[derive(Clone, Copy, Debug)]
pub struct Echo {
    /// The tick it shows …
    pub tick: RecordTick,
    /// … and how far towards the next, from 0 to 1.
    pub fraction: f32,
    /// Where.
    pub pos: Vec3,
    /// How fast, along the level; `None` where it is not known.
    pub speed: Option<f32>,
    /// Where it looks, in radians, where that is known.
    pub bearing: Option<f32>,
}

/// All beliefs about one entity.
#[derive(Clone, Copy, Debug, Default)]
pub struct Echoes {
    /// By its owner.
    pub predicted: Option<Echo>,
    /// By the server: the raw echo of what its owner does.
    pub authority: Option<Echo>,
    /// What others are sent in its place, where that is elsewhere: the smooth echo.
    pub smooth: Option<Echo>,
    /// As a viewer draws it.
    pub drawn: Option<Echo>,
    /// How the viewer came by it.
    pub how: Option<Drawn>,
    /// How far in the past that is, in milliseconds.
    pub age_ms: Option<f64>,
    /// Owner and server at the same tick: that tick, both positions.
    pub same_tick: Option<(RecordTick, Vec3, Vec3)>,
}

/// A correction as people want to see it.
#[derive(Clone, Debug)]
pub struct Corrected {
    /// When.
    pub at: LabTime,
    /// What.
    pub correction: Correction,
    /// Why, as far as it is proven.
    pub finding: Arc<Finding>,
}

/// What has become of an order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// The server does not have it yet.
    UnderWay,
    /// It holds.
    Obeyed,
    /// Another's came later.
    Overruled,
}

impl Standing {
    /// In words.
    pub const fn name(self) -> &'static str {
        match self {
            Self::UnderWay => "on its way",
            Self::Obeyed => "obeyed",
            Self::Overruled => "overruled",
        }
    }
}

/// A line of a trail.
pub type Trail = Vec<Vec3>;

/// A moment in a record.
#[derive(Clone, Copy, Debug)]
pub struct Moment<'a> {
    /// The record.
    pub record: &'a Record,
    /// What was found behind its corrections.
    pub findings: &'a Findings,
    /// The moment.
    pub at: LabTime,
}

fn echo(track: &StateTrack, i: usize, schema: &Schema) -> Option<Echo> {
    let head = track.head(i)?;
    let speed = schema.velocity_lane().map(|lane| track.vec3(i, lane).level().length());
    let bearing = schema.bearing_lane().map(|lane| track.real(i, lane));
    Some(Echo { tick: head.tick, fraction: 0.0, pos: track.pos(i), speed, bearing })
}

/// How long ago a frame may lie to be what is on the screen.
const ON_SCREEN: LabTime = LabTime(3_000_000_000);

impl Moment<'_> {
    /// The fastest an entity may lawfully go along the ground as the server knows its rule, without slack.
    pub fn lawful_pace(&self, actor: ActorId) -> f32 {
        let tick = self.tick(MachineId::SERVER, Part::Server).unwrap_or_default();
        let known = self.record.known(MachineId::SERVER, Part::Server, tick);
        let kind = self.record.cast.actors[actor.index()].kind;
        known.kinds.motion(kind).limits(&known.tunables[usize::from(kind)]).level
    }

    /// The rule of an entity and what its lanes mean.
    pub fn layout(&self, actor: ActorId) -> Layout {
        let authority = self.record.authority(actor);
        let tick = authority.at(self.at).and_then(|i| authority.head(i)).map_or(RecordTick(0), |h| h.tick);
        self.record.layout(actor, tick)
    }

    /// What is believed about an entity, drawn on `viewer`'s screen.
    pub fn echoes(&self, actor: ActorId, viewer: MachineId) -> Echoes {
        let layout = self.layout(actor);
        let schema = layout.schema();
        let authority = self.record.authority(actor);
        let drawn = self.drawn(actor, viewer);
        let there = self.record.cast.actors[actor.index()].is_there(self.at);
        let truth = authority.at(self.at).filter(|_| there).and_then(|i| echo(authority, i, schema));
        let sent = self.record.echo(actor);
        let smooth = truth.and_then(|truth| echo(sent, sent.of_tick(truth.tick)?, schema));
        Echoes {
            predicted: self.newest_predicted(actor).and_then(|(track, i)| echo(track, i, schema)),
            authority: truth,
            smooth,
            drawn: drawn.map(|row| Echo {
                tick: row.tick,
                fraction: row.fraction,
                pos: row.pos,
                speed: None,
                bearing: schema.bearing_lane().map(|_| row.bearing),
            }),
            how: drawn.map(|row| row.how),
            age_ms: drawn.and_then(|row| view_age(self.record, actor, &row)),
            same_tick: truth.and_then(|t| {
                let predicted = self.predicted(actor)?;
                let tick = self.owners_tick(actor, t.tick);
                let first = predicted.of_tick(tick)?;
                Some((tick, predicted.pos(first), t.pos))
            }),
        }
    }

    /// The newest of its owner's ticks that the authority's state of a tick includes, where its inputs are what is sent: mostly that tick.
    fn owners_tick(&self, actor: ActorId, tick: RecordTick) -> RecordTick {
        let authority = self.record.authority(actor);
        let owners = self.record.cast.actors[actor.index()].owners_at(self.at);
        let [owner] = owners[..] else { return tick };
        let used = || authority.of_tick(tick).and_then(|i| authority.head(i)).and_then(|head| head.used());
        if self.record.cast.sends_inputs(owner) { used().unwrap_or(tick) } else { tick }
    }

    /// What the one owner of an entity makes of it; who shares it makes nothing.
    fn owner_rows(&self, actor: ActorId) -> Option<&OwnRows> {
        let owners = self.record.cast.actors[actor.index()].owners_at(self.at);
        let [owner] = owners[..] else { return None };
        // What crashed believes nothing any more.
        if self.record.of(owner).presence_at(self.at) != Presence::Playing {
            return None;
        }
        self.record.of(owner).own(actor)
    }

    /// The first predictions of an entity's owner.
    fn predicted(&self, actor: ActorId) -> Option<&StateTrack> {
        self.owner_rows(actor).map(|own| &own.predicted)
    }

    /// The newest own state: first predicted, or predicted again since.
    fn newest_predicted(&self, actor: ActorId) -> Option<(&StateTrack, usize)> {
        let own = self.owner_rows(actor)?;
        let (first, again) = (&own.predicted, &own.rewritten);
        let i = first.at(self.at)?;
        let rewritten = again.at(self.at).filter(|&j| {
            let (a, b) = (again.head(j), first.head(i));
            a.zip(b).is_some_and(|(a, b)| a.tick >= b.tick && a.at >= b.at)
        });
        Some(rewritten.map_or((first, i), |j| (again, j)))
    }

    /// The newest frame in which a viewer drew an entity, unless that is long ago.
    pub fn drawn(&self, actor: ActorId, viewer: MachineId) -> Option<DrawnRow> {
        let is_on = self.record.of(viewer).presence_at(self.at) == Presence::Playing;
        self.record.drawn(viewer, actor, self.at).filter(|row| is_on && self.at.minus(row.at) < ON_SCREEN)
    }

    /// The ticks that a part of a machine made.
    fn made(&self, machine: MachineId, part: Part) -> Option<&StateTrack> {
        let newest = |track: &&StateTrack| track.at(self.at).and_then(|i| track.head(i)).map(|head| head.tick);
        match part {
            Part::Server => self.record.cast.actors().map(|actor| self.record.authority(actor)).max_by_key(newest),
            Part::Client => self.record.of(machine).own.iter().map(|own| &own.predicted).max_by_key(newest),
        }
    }

    /// Newest tick of a part of a machine.
    pub fn tick(&self, machine: MachineId, part: Part) -> Option<RecordTick> {
        let track = self.made(machine, part)?;
        track.head(track.at(self.at)?).map(|h| h.tick)
    }

    /// When a part of a machine made a tick, by the number that is shown.
    pub fn made_at(&self, machine: MachineId, part: Part, shown: u64) -> Option<LabTime> {
        let track = self.made(machine, part)?;
        // Ticks are shown from the first of the course on.
        let tick = u32::try_from(shown.checked_sub(self.record.shown(RecordTick(0)))?).ok()?;
        track.head(track.of_tick(RecordTick(tick))?).map(|head| head.at)
    }

    /// When a part of a machine made the tick before or after its newest.
    pub fn step(&self, machine: MachineId, part: Part, forward: bool) -> Option<LabTime> {
        let track = self.made(machine, part)?;
        if forward {
            let next = track.between(self.at.plus(LabTime(1)), LabTime(u64::MAX)).start;
            return track.head(next).map(|h| h.at);
        }
        // To where the tick before had just been made, not merely earlier within this one.
        let now = track.at(self.at)?;
        let made = track.head(now)?.at;
        let earlier = track.at(made.minus(LabTime(1)))?;
        track.head(earlier).map(|h| h.at)
    }

    /// Who owns an entity, by name.
    pub fn owners(&self, actor: ActorId) -> Vec<&str> {
        let owners = self.record.cast.actors[actor.index()].owners_at(self.at);
        owners.into_iter().map(|machine| self.record.cast.name(machine)).collect()
    }

    /// Of an entity with several owners: whose order holds, and since which tick.
    pub fn obeys(&self, actor: ActorId) -> Option<(&str, RecordTick)> {
        let it = &self.record.cast.actors[actor.index()];
        let newest = it.owners_at(self.at).into_iter().filter_map(|machine| {
            let obeyed = |row: &HappeningRow| match row.what {
                Happening::Fact(Fact::Obeyed { entity, .. }) if entity == it.id => row.tick,
                _ => None,
            };
            self.happened(machine).find_map(obeyed).map(|tick| (tick, machine))
        });
        newest.max().map(|(tick, machine)| (self.record.cast.name(machine), tick))
    }

    /// Where a machine last ordered an entity that it shares, and what has become of that.
    pub fn order(&self, actor: ActorId, machine: MachineId) -> Option<((f32, f32), Standing)> {
        let it = &self.record.cast.actors[actor.index()];
        let of = |row: &HappeningRow| match row.what {
            Happening::Ordered(entity, to) if entity == it.id => Some((row.tick.unwrap_or_default(), to)),
            _ => None,
        };
        let (given, to) = self.happened(machine).find_map(of)?;
        let standing = match self.obeys(actor) {
            Some((name, since)) if since >= given && name == self.record.cast.name(machine) => Standing::Obeyed,
            Some((_, since)) if since >= given => Standing::Overruled,
            _ => Standing::UnderWay,
        };
        to.map(|to| (to, standing))
    }

    /// Which of the machines that play know of an entity, and which do not, by name.
    pub fn known_to(&self, actor: ActorId) -> (Vec<&str>, Vec<&str>) {
        let plays = |m: &MachineId| self.record.of(*m).presence_at(self.at) == Presence::Playing;
        let names = |machine: MachineId| self.record.cast.name(machine);
        let (know, not): (Vec<MachineId>, Vec<MachineId>) =
            self.record.cast.players().filter(plays).partition(|m| self.record.of(*m).knows(actor, self.at));
        (know.into_iter().map(names).collect(), not.into_iter().map(names).collect())
    }

    /// Where the owner predicted itself in the last while, oldest first.
    pub fn predicted_trail(&self, actor: ActorId, back: LabTime) -> Trail {
        let Some(track) = self.predicted(actor) else { return Trail::new() };
        track.between(self.at.minus(back), self.at).map(|i| track.pos(i)).collect()
    }

    /// Where the server had it at each snapshot's tick, oldest first.
    pub fn authority_trail(&self, actor: ActorId, back: LabTime, every: u32) -> Trail {
        let track = self.record.authority(actor);
        let of_snapshot = |i: &usize| track.head(*i).is_some_and(|h| h.tick.0.is_multiple_of(every.max(1)));
        track.between(self.at.minus(back), self.at).filter(of_snapshot).map(|i| track.pos(i)).collect()
    }

    /// Where a viewer drew it frame by frame, oldest first.
    pub fn drawn_path(&self, actor: ActorId, viewer: MachineId, back: LabTime) -> Trail {
        let frames = &self.record.of(viewer).frames;
        let numbers = frames.before(self.at.minus(back))..frames.until(self.at);
        numbers.filter_map(|number| self.record.drawn_in(viewer, actor, number)).map(|row| row.pos).collect()
    }

    /// Where a viewer drew it every tenth of a second, oldest first.
    pub fn drawn_trail(&self, actor: ActorId, viewer: MachineId, back: LabTime) -> Trail {
        let frames = &self.record.of(viewer).frames;
        let numbers = frames.before(self.at.minus(back))..frames.until(self.at);
        let mut last = None;
        let tenth = |number: &usize| frames.get(*number).map(|row| row.at.0 / 100_000_000);
        numbers
            .filter(|number| last.replace(tenth(number)) != Some(tenth(number)))
            .filter_map(|number| self.record.drawn_in(viewer, actor, number))
            .map(|row| row.pos)
            .collect()
    }

    /// Who knows of each solid of the course, of the server and a viewer's machine, by id.
    pub fn solids(&self, viewer: MachineId) -> Vec<KnownTo> {
        // A change counts from when it is asked for: it holds a few ticks later.
        let changes: Vec<_> = self.record.changes.iter().filter(|c| c.at <= self.at).collect();
        let knows = |machine, part, solid| {
            let changed = changes.iter().rev().filter(|c| c.reach.covers(machine)).find_map(|c| match c.what {
                Changed::Solid { solid: of, there } if of == solid => Some(there),
                _ => None,
            });
            changed.unwrap_or_else(|| self.record.cast.rules(part).knows(solid))
        };
        let solids = self.record.cast.world.solids.iter().map(|named| named.solid.id);
        let known =
            |solid| KnownTo::of(knows(MachineId::SERVER, Part::Server, solid), knows(viewer, Part::Client, solid));
        solids.map(known).collect()
    }

    /// What happened at a machine up to now, the newest first.
    fn happened(&self, machine: MachineId) -> impl Iterator<Item = &HappeningRow> {
        let rows = &self.record.of(machine).happenings;
        rows.range(0, rows.until(self.at)).rev()
    }

    /// The newest correction at a machine.
    pub fn last_correction(&self, machine: MachineId) -> Option<Corrected> {
        self.happened(machine).find_map(|r| match r.what {
            Happening::Fact(Fact::Corrected(correction)) if correction.why != Restored::Settled => {
                let finding = self.findings.of(self.record, machine, r.at, &correction);
                Some(Corrected { at: r.at, correction, finding })
            }
            _ => None,
        })
    }

    /// The newest verdict on who plays at a machine.
    pub fn last_verdict(&self, machine: MachineId) -> Option<(LabTime, Verdict)> {
        self.happened(machine).find_map(|r| match r.what {
            Happening::Fact(Fact::Verdict(verdict)) => Some((r.at, verdict)),
            _ => None,
        })
    }

    /// Whether a mark was made on a machine in the last while.
    pub fn marked(&self, machine: MachineId, mark: Mark, back: LabTime) -> bool {
        let rows = &self.record.of(machine).marks;
        rows.span(self.at.minus(back), self.at).any(|r| r.mark == mark)
    }

    /// The next or the previous correction, verdict, late or made-up input of a machine.
    pub fn event(&self, machine: MachineId, forward: bool) -> Option<LabTime> {
        let rows = &self.record.of(machine).marks;
        let of_interest = |r: &&MarkRow| r.mark != Mark::Lost;
        if forward {
            let from = rows.until(self.at);
            rows.range(from, rows.len()).find(of_interest).map(|r| r.at)
        } else {
            let to = rows.before(self.at);
            rows.range(0, to).rev().find(of_interest).map(|r| r.at)
        }
    }

    /// A machine's figures over the last while.
    pub fn figures(&self, machine: MachineId, back: LabTime) -> Figures {
        let from = self.at.minus(back);
        let clocks = &self.record.of(machine).clocks;
        let rows = clocks.span(from, self.at);
        let mut mine: Vec<_> = rows.map(|row| row.fact).collect();
        let (mut sent, mut lost) = (0u32, 0u32);
        for row in self.record.datagrams(machine, from, self.at) {
            sent += 1;
            let to = if row.kind.is_up() { MachineId::SERVER } else { machine };
            lost += u32::from(self.record.is_lost(to, &row));
        }
        let newest = mine.pop();
        let (measured, troubles) =
            measure_all(Found { record: self.record, findings: self.findings }, machine, from, self.at);
        let margins = mine.iter().rev().take(24).rev().map(|r| r.margin.map(|m| f32::from(m) / 4.0)).collect();
        Figures {
            measured,
            troubles,
            seconds: self.at.minus(from).secs().max(1e-3),
            rtt_ms: newest.map(|r| f64::from(r.rtt_us) / 1e3),
            rtt_sigma_ms: newest.map(|r| f64::from(r.rtt_sigma_us) / 1e3),
            view_delay_ms: newest.map(|r| f64::from(r.view_delay_us) / 1e3),
            lost_share: (sent > 0).then(|| f64::from(lost) / f64::from(sent)),
            margins,
        }
    }
}

/// Figures over a window.
#[derive(Clone, Debug)]
pub struct Figures {
    /// All that [`crate::metrics`] measures.
    pub measured: ClientMetrics,
    /// What went wrong, by reason: the worst first.
    pub troubles: Vec<Trouble>,
    /// Length of the window.
    pub seconds: f64,
    /// Round trip as the client measures it.
    pub rtt_ms: Option<f64>,
    /// Its spread.
    pub rtt_sigma_ms: Option<f64>,
    /// How far behind arrivals remotes are drawn.
    pub view_delay_ms: Option<f64>,
    /// Datagrams lost, both ways.
    pub lost_share: Option<f64>,
    /// The last margins reported, in ticks.
    pub margins: Vec<Option<f32>>,
}
