//! What everybody believed at one moment: the questions that screens ask of the record.

use velocitas_core::{Correction, Restored, Schema, Vec3, Verdict, vec3};

use crate::cause::{Cause, causes};
use crate::metrics::{ClientMetrics, measure, view_age};
use crate::record::{DrawnRow, Happening, Layout, Machine, Mark, Record, Track};
use crate::time::LabTime;

/// One machine's belief about one entity.
#[derive(Clone, Copy, Debug)]
pub struct Echo {
    /// The tick it shows, from the base …
    pub tick: u32,
    /// … and so much on towards the next.
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
    /// By the server.
    pub authority: Option<Echo>,
    /// As a viewer draws it.
    pub drawn: Option<Echo>,
    /// How the viewer came by it: a [`velocitas_core::Drawn`] as a number.
    pub how: u8,
    /// How far in the past that is, in milliseconds.
    pub age_ms: Option<f64>,
    /// Owner and server at the same tick: that tick, both positions.
    pub same_tick: Option<(u32, Vec3, Vec3)>,
}

/// A correction as people want to see it.
#[derive(Clone, Debug)]
pub struct Corrected {
    /// When.
    pub at: LabTime,
    /// What.
    pub correction: Correction,
    /// Why, as far as it is proven.
    pub causes: Vec<Cause>,
}

/// A line of a trail.
pub type Trail = Vec<Vec3>;

/// A moment in a record.
#[derive(Clone, Copy, Debug)]
pub struct Moment<'a> {
    /// The record.
    pub record: &'a Record,
    /// The moment.
    pub at: LabTime,
}

fn echo(track: &Track, i: usize, schema: &Schema) -> Option<Echo> {
    let head = track.head(i)?;
    let speed = schema.velocity_lane().map(|lane| track.vec3(i, lane).level().length());
    let bearing = schema.bearing_lane().map(|lane| track.real(i, lane));
    Some(Echo { tick: head.tick, fraction: 0.0, pos: track.pos(i), speed, bearing })
}

fn drawn_pos(row: &DrawnRow) -> Vec3 {
    vec3(row.pos[0], row.pos[1], row.pos[2])
}

impl Moment<'_> {
    /// The fastest an entity may lawfully go along the ground as the server knows its rule, without slack.
    fn lawful_pace(&self, entity: usize) -> f32 {
        let tick = self.tick(Machine::Server).unwrap_or(0);
        let (known, kind) = (self.record.known(Machine::Server, tick), self.record.course().cast[entity].kind);
        known.kinds.motion(kind).limits(&known.tunables[usize::from(kind)]).level
    }

    /// The rule of an entity and what its lanes mean.
    pub fn layout(&self, entity: usize) -> Layout {
        let authority = &self.record.authority[entity];
        let tick = authority.at(self.at).and_then(|i| authority.head(i)).map_or(0, |h| h.tick);
        self.record.layout(entity, tick)
    }

    /// What is believed about an entity, drawn on `viewer`'s screen.
    pub fn echoes(&self, entity: usize, viewer: usize) -> Echoes {
        let layout = self.layout(entity);
        let schema = layout.schema();
        let (authority, predicted) = (&self.record.authority[entity], &self.record.predicted[entity]);
        let newest = authority.at(self.at);
        let drawn = self.drawn(entity, viewer);
        let truth = newest.and_then(|i| echo(authority, i, schema));
        Echoes {
            predicted: self.newest_predicted(entity).and_then(|(track, i)| echo(track, i, schema)),
            authority: truth,
            drawn: drawn.map(|row| Echo {
                tick: row.tick,
                fraction: f32::from(row.fraction) / 65_536.0,
                pos: drawn_pos(row),
                speed: None,
                bearing: schema.bearing_lane().map(|_| row.bearing),
            }),
            how: drawn.map_or(0, |row| row.how),
            age_ms: drawn.and_then(|row| view_age(self.record, entity, row)),
            same_tick: truth.and_then(|t| {
                let first = predicted.of_tick(t.tick)?;
                Some((t.tick, predicted.pos(first), t.pos))
            }),
        }
    }

    /// The newest own state: first predicted, or predicted again since.
    fn newest_predicted(&self, entity: usize) -> Option<(&Track, usize)> {
        let (first, again) = (&self.record.predicted[entity], &self.record.rewritten[entity]);
        let i = first.at(self.at)?;
        let rewritten = again.at(self.at).filter(|&j| {
            let (a, b) = (again.head(j), first.head(i));
            a.zip(b).is_some_and(|(a, b)| a.tick >= b.tick && a.at >= b.at)
        });
        Some(rewritten.map_or((first, i), |j| (again, j)))
    }

    /// The newest frame in which a viewer drew an entity, unless that is long ago.
    pub fn drawn(&self, entity: usize, viewer: usize) -> Option<&DrawnRow> {
        let column = &self.record.drawn[viewer][entity];
        let i = column.partition(|r| r.at <= self.at).checked_sub(1)?;
        column.get(i).filter(|row| self.at.minus(row.at) < LabTime::from_secs(3.0))
    }

    /// Newest tick of a machine, from the base.
    pub fn tick(&self, machine: Machine) -> Option<u32> {
        let track = match machine {
            Machine::Server => self.record.authority.first()?,
            Machine::Member(i) => &self.record.predicted[i],
        };
        track.head(track.at(self.at)?).map(|h| h.tick)
    }

    /// When a machine made the tick before or after its newest.
    pub fn step(&self, machine: Machine, forward: bool) -> Option<LabTime> {
        let track = match machine {
            Machine::Server => self.record.authority.first()?,
            Machine::Member(i) => &self.record.predicted[i],
        };
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

    /// Where the owner predicted itself in the last while, oldest first.
    pub fn predicted_trail(&self, entity: usize, back: LabTime) -> Trail {
        let track = &self.record.predicted[entity];
        track.between(self.at.minus(back), self.at).map(|i| track.pos(i)).collect()
    }

    /// Where the server had it at each snapshot's tick, oldest first.
    pub fn authority_trail(&self, entity: usize, back: LabTime, every: u32) -> Trail {
        let track = &self.record.authority[entity];
        let of_snapshot = |i: &usize| track.head(*i).is_some_and(|h| h.tick.is_multiple_of(every.max(1)));
        track.between(self.at.minus(back), self.at).filter(of_snapshot).map(|i| track.pos(i)).collect()
    }

    /// Where a viewer drew it every tenth of a second, oldest first.
    pub fn drawn_trail(&self, entity: usize, viewer: usize, back: LabTime) -> Trail {
        let column = &self.record.drawn[viewer][entity];
        let start = column.partition(|r| r.at < self.at.minus(back));
        let end = column.partition(|r| r.at <= self.at);
        let mut last = None;
        column
            .range(start, end)
            .filter(|row| last.replace(row.at.0 / 100_000_000) != Some(row.at.0 / 100_000_000))
            .map(drawn_pos)
            .collect()
    }

    /// The newest correction of a member.
    pub fn last_correction(&self, member: usize) -> Option<Corrected> {
        let rows = &self.record.happenings;
        let end = rows.partition(|r| r.at <= self.at);
        rows.range(0, end).rev().filter(|r| r.machine == Machine::Member(member)).find_map(|r| match r.what {
            Happening::Corrected(correction) if correction.why != Restored::Settled => {
                let causes = causes(self.record, member, r.at, &correction);
                Some(Corrected { at: r.at, correction, causes })
            }
            _ => None,
        })
    }

    /// The newest verdict on a member.
    pub fn last_verdict(&self, member: usize) -> Option<(LabTime, Verdict)> {
        let rows = &self.record.happenings;
        let end = rows.partition(|r| r.at <= self.at);
        rows.range(0, end).rev().filter(|r| r.machine == Machine::Member(member)).find_map(|r| match r.what {
            Happening::Verdict(verdict) => Some((r.at, verdict)),
            _ => None,
        })
    }

    /// Whether a mark was made on a member in the last while.
    pub fn marked(&self, member: usize, mark: Mark, back: LabTime) -> bool {
        let rows = &self.record.marks;
        let range = rows.partition(|r| r.at < self.at.minus(back))..rows.partition(|r| r.at <= self.at);
        rows.range(range.start, range.end).any(|r| usize::from(r.member) == member && r.mark == mark)
    }

    /// The next or the previous correction, verdict, late or made-up input of a member.
    pub fn event(&self, member: usize, forward: bool) -> Option<LabTime> {
        let rows = &self.record.marks;
        let of_interest = |r: &&crate::record::MarkRow| usize::from(r.member) == member && r.mark != Mark::Lost;
        if forward {
            let from = rows.partition(|r| r.at <= self.at);
            rows.range(from, rows.len()).find(of_interest).map(|r| r.at)
        } else {
            let to = rows.partition(|r| r.at < self.at);
            rows.range(0, to).rev().find(of_interest).map(|r| r.at)
        }
    }

    /// A member's figures over the last while.
    pub fn figures(&self, member: usize, back: LabTime) -> Figures {
        let from = self.at.minus(back);
        let clocks = &self.record.clocks;
        let end = clocks.partition(|r| r.at <= self.at);
        let start = clocks.partition(|r| r.at < from);
        let mut mine: Vec<_> = clocks.range(start, end).filter(|r| usize::from(r.member) == member).collect();
        let messages = &self.record.messages;
        let range = messages.partition(|r| r.at < from)..messages.partition(|r| r.at <= self.at);
        let (mut sent, mut lost) = (0u32, 0u32);
        for row in messages.range(range.start, range.end).filter(|r| usize::from(r.member) == member) {
            sent += 1;
            lost += u32::from(row.arrived.is_none());
        }
        let newest = mine.pop();
        let margins = mine.iter().rev().take(24).rev().map(|r| r.margin.map(|m| f32::from(m) / 4.0)).collect();
        Figures {
            measured: measure(self.record, member, from, self.at),
            seconds: self.at.minus(from).secs().max(1e-3),
            rtt_ms: newest.map(|r| f64::from(r.rtt_us) / 1e3),
            rtt_sigma_ms: newest.map(|r| f64::from(r.rtt_sigma_us) / 1e3),
            view_delay_ms: newest.map(|r| f64::from(r.view_delay_us) / 1e3),
            lost_share: (sent > 0).then(|| f64::from(lost) / f64::from(sent)),
            lawful_mps: self.lawful_pace(member),
            margins,
        }
    }
}

/// Figures over a window.
#[derive(Clone, Debug)]
pub struct Figures {
    /// All that [`crate::metrics`] measures.
    pub measured: ClientMetrics,
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
    /// The fastest the entity may lawfully go along the ground by its rule, in metres a second, without slack.
    pub lawful_mps: f32,
    /// The last margins reported, in ticks.
    pub margins: Vec<Option<f32>>,
}

/// What a rail shows of a span of lab time.
#[derive(Clone, Debug)]
pub struct Slices {
    /// For each member, for each column, the worst.
    pub worst: Vec<Vec<Option<Mark>>>,
    /// For each column, whether a snapshot left for anybody.
    pub snapshots: Vec<bool>,
    /// For each column, the largest jump of the entity asked for, in metres.
    pub jumps: Vec<Option<f32>>,
    /// For each member how much trouble it had.
    pub trouble: Vec<u32>,
}

/// Cuts a span into columns of equal length.
pub fn slices(record: &Record, from: LabTime, column: LabTime, columns: usize, entity: usize) -> Slices {
    let to = LabTime(from.0 + column.0 * columns as u64);
    let place = |at: LabTime| ((at.0 - from.0) / column.0.max(1)) as usize;
    let count = record.course().cast.len();
    let mut s = Slices {
        worst: vec![vec![None; columns]; count],
        snapshots: vec![false; columns],
        jumps: vec![None; columns],
        trouble: vec![0; count],
    };
    let marks = &record.marks;
    for row in marks.range(marks.partition(|r| r.at < from), marks.partition(|r| r.at < to)) {
        let member = usize::from(row.member);
        let cell = &mut s.worst[member][place(row.at)];
        *cell = (*cell).max(Some(row.mark));
        s.trouble[member] += row.mark as u32;
    }
    let messages = &record.messages;
    for row in messages.range(messages.partition(|r| r.at < from), messages.partition(|r| r.at < to)) {
        s.snapshots[place(row.at)] |= row.kind == velocitas_core::MessageKind::Snapshot;
    }
    let rows = &record.happenings;
    for row in rows.range(rows.partition(|r| r.at < from), rows.partition(|r| r.at < to)) {
        if let (Happening::Corrected(c), true) = (&row.what, row.machine == Machine::Member(entity))
            && c.why != Restored::Settled
        {
            let cell = &mut s.jumps[place(row.at)];
            *cell = Some(velocitas_core::max(cell.unwrap_or(0.0), c.jump));
        }
    }
    s
}
