//! What a viewer should have drawn: what follows from the snapshots that it had taken in by then.
//!
//! All others of a frame share one moment. What a viewer knew of them are the authority's states of the ticks it had received, rounded
//! as for others. Blending them is the core's, so what comes out is what was drawn, unless something went wrong on the way:
//! then [what was drawn](super::drawn) is told beside it.

use std::collections::{BTreeMap, VecDeque};

use velocitas_core::{
    BlendPlan, Blending, Drawn, DrawnState, OnTheWay, Placed, Rate, Sample, Shown, Spot, SpotBlend, TELEPORT_BITS,
    Tick, Vec3, drawn,
};

use super::Record;
use super::rows::{DrawnRow, FrameRow, ReceivedRow};
use super::track::StateTrack;
use crate::ids::{ActorId, MachineId, RecordTick};
use crate::time::LabTime;

/// How much earlier than an older snapshot a newer one may have come: links hold datagrams back for less.
const OVERTAKEN: LabTime = LabTime(250_000_000);
/// Snapshots received that are looked through at most, as many as a client keeps.
const LOOKED_THROUGH: usize = 128;

/// A frame, and the snapshots on both sides of the moment it shows.
#[derive(Clone, Copy, Debug)]
pub struct Frame {
    /// Which of its viewer's.
    number: usize,
    /// The moment.
    pub row: FrameRow,
    /// The newest snapshot received that is not after it.
    pub before: Option<RecordTick>,
    /// The oldest received after it.
    pub after: Option<RecordTick>,
    /// The newest received.
    pub newest: Option<RecordTick>,
}

impl Frame {
    /// A frame among the snapshots received by then, the newest arrival first.
    fn among(number: usize, row: FrameRow, received: impl Iterator<Item = ReceivedRow>) -> Self {
        let (mut before, mut after, mut newest) = (None, None, None);
        let mut since = LabTime::ZERO;
        for received in received {
            if received.at < since {
                break;
            }
            let tick = Some(received.tick);
            newest = newest.max(tick);
            if received.tick > row.tick {
                after = after.map_or(tick, |after| tick.min(Some(after)));
            } else {
                // Nothing older came much later than this.
                since = since.max(received.at.minus(OVERTAKEN));
                before = before.max(tick);
            }
        }
        Self { number, row, before, after, newest }
    }

    /// Where in time others are seen, and how that comes about; `None` where nobody is.
    pub fn placed(&self, rate: Rate) -> Option<(RecordTick, f32, Drawn)> {
        if !self.row.blends {
            return self.newest.map(|tick| (tick, 0.0, Drawn::Newest));
        }
        let tick = |t: RecordTick| t.tick(Tick(0));
        let moment = Shown { tick: tick(self.row.tick), fraction: self.row.fraction };
        let Placed { how, shown, .. } =
            moment.among(self.before.map(tick), self.after.map(tick), rate, u32::from(self.row.limit_ms))?;
        Some((RecordTick::of(Tick(0), shown.tick), shown.fraction, how))
    }
}

impl Record {
    /// A frame of a viewer by its number, with what it had received by then; `None` where it saw nobody yet.
    pub fn frame(&self, viewer: MachineId, number: usize) -> Option<Frame> {
        self.frame_since(viewer, number, RecordTick(0))
    }

    /// The same, of the snapshots from a tick on.
    fn frame_since(&self, viewer: MachineId, number: usize, first: RecordTick) -> Option<Frame> {
        let rows = self.of(viewer);
        let row = rows.frames.get(number)?;
        if !row.sees {
            return None;
        }
        // What came before it began to play is not known any more.
        let begin = rows.received.before(rows.joined_by(row.at));
        let end = rows.received.until(row.at);
        let received = rows.received.range(begin.max(end.saturating_sub(LOOKED_THROUGH)), end).rev();
        Some(Frame::among(number, row, received.filter(|received| received.tick >= first)))
    }

    /// Whether an entity is in both snapshots of a frame, as all are that were not born lately.
    pub fn is_older(&self, actor: ActorId, frame: &Frame) -> bool {
        frame.before.is_some_and(|before| before >= self.cast.actors[actor.index()].born.1)
    }

    /// The same for an entity that may have been born lately: it is in the last few snapshots only.
    pub fn frame_of(&self, viewer: MachineId, actor: ActorId, frame: &Frame) -> Option<Frame> {
        if self.is_older(actor, frame) {
            return Some(*frame);
        }
        self.frame_since(viewer, frame.number, self.cast.actors[actor.index()].born.1)
    }

    /// What a viewer should have drawn of somebody else, or of an own entity that is waited for.
    pub fn derived(&self, viewer: MachineId, actor: ActorId, frame: &Frame) -> Option<DrawnRow> {
        if !self.of(viewer).knows(actor, frame.row.at) {
            return None;
        }
        self.derived_of(viewer, actor, frame, &mut Samples::default())
    }

    /// The same of an entity that the viewer knows then, where many frames are looked at one after the other.
    pub(super) fn derived_of(
        &self,
        viewer: MachineId,
        actor: ActorId,
        frame: &Frame,
        samples: &mut Samples,
    ) -> Option<DrawnRow> {
        let frame = &self.frame_of(viewer, actor, frame)?;
        let plan = BlendPlan::of(self.layout(actor, frame.row.tick).schema()).in_way(frame.row.blending);
        let owned = |tick| self.cast.actors[actor.index()].is_owned_in(viewer, tick);
        let mut sample = |tick: RecordTick| samples.of(self, (actor, tick, owned(tick)));
        let (before, after) = (frame.before.and_then(&mut sample), frame.after.and_then(&mut sample));
        let made = if frame.row.blends {
            let moment = Shown { tick: frame.row.tick.tick(self.cast.first), fraction: frame.row.fraction };
            let between = samples.apart(self, actor, before.as_ref(), after.as_ref());
            let between = (before.as_ref(), between);
            let limit = u32::from(frame.row.limit_ms);
            drawn(&plan, self.cast.rate, moment, (between.0, between.1.as_ref()), limit)?
        } else {
            let newest = frame.newest.and_then(&mut sample)?;
            DrawnState::of(&plan, newest.state, (newest.tick, 0.0), Drawn::Newest)
        };
        Some(DrawnRow {
            at: frame.row.at,
            tick: self.cast.tick(made.tick),
            fraction: made.fraction,
            how: made.how,
            pos: made.state.vec3(0),
            bearing: made.bearing.unwrap_or(0.0),
        })
    }

    /// The authority's state of a tick as it travels.
    fn sample(&self, actor: ActorId, tick: RecordTick, exact: bool) -> Option<Sample> {
        let track = self.authority(actor);
        let mut state = track.state(track.of_tick(tick)?);
        if !exact {
            let echo = self.echo(actor);
            if let Some(place) = echo.of_tick(tick) {
                state = echo.state(place);
            }
            state = self.layout(actor, tick).schema().seen(&state);
        }
        Some(Sample { tick: tick.tick(self.cast.first), teleports: 0, state })
    }

    /// How often the server put an entity elsewhere after a tick up to another, as far as is counted.
    fn teleports_between(&self, actor: ActorId, from: Tick, to: Tick) -> u8 {
        let track = self.authority(actor);
        let at = |tick: Tick| track.of_tick(self.cast.tick(tick));
        let between = at(from).zip(at(to)).map_or(0..0, |(a, b)| a + 1..b + 1);
        let teleports = between.filter(|&i| track.head(i).is_some_and(|h| h.teleported)).count();
        let echo = self.echo(actor);
        let cuts = echo.first_of(self.cast.tick(from).plus(1))..echo.first_of(self.cast.tick(to).plus(1));
        let cuts = cuts.filter(|&i| echo.head(i).is_some_and(|h| h.teleported)).count();
        ((teleports + cuts) % (1 << TELEPORT_BITS)) as u8
    }
}

/// States as they travelled, kept while frames near each other are looked at: those of one second are drawn from few.
#[derive(Debug, Default)]
pub struct Samples {
    /// By entity, tick, and whether it is told exactly.
    known: BTreeMap<(ActorId, RecordTick, bool), Option<Sample>>,
    /// How often an entity was put elsewhere between two ticks, as far as is counted.
    teleports: BTreeMap<(ActorId, Tick, Tick), u8>,
}

impl Samples {
    fn of(&mut self, record: &Record, (actor, tick, exact): (ActorId, RecordTick, bool)) -> Option<Sample> {
        *self.known.entry((actor, tick, exact)).or_insert_with(|| record.sample(actor, tick, exact))
    }

    /// The later of two states with the count of teleports between them.
    fn apart(
        &mut self,
        record: &Record,
        actor: ActorId,
        before: Option<&Sample>,
        after: Option<&Sample>,
    ) -> Option<Sample> {
        let after = after?;
        let Some(before) = before else { return Some(Sample { teleports: 0, ..*after }) };
        let between = self.teleports.entry((actor, before.tick, after.tick));
        let teleports = *between.or_insert_with(|| record.teleports_between(actor, before.tick, after.tick));
        Some(Sample { teleports, ..*after })
    }
}

/// What travelled of the entities for others to draw, by snapshot: the same for all viewers.
#[derive(Debug, Default)]
pub struct Travelled {
    /// By snapshot, modulo the number at hand.
    sheets: Vec<Sheet>,
    /// By entity.
    courses: Vec<Travelling>,
    /// From this tick on it is counted who was put elsewhere.
    since: Option<RecordTick>,
}

/// A snapshot.
#[derive(Clone, Debug, Default)]
struct Sheet {
    tick: Option<RecordTick>,
    /// By entity; nothing where it was not there, or its rule changed.
    spots: Vec<Option<Spot>>,
}

/// Of one entity.
#[derive(Debug)]
struct Travelling {
    /// How it is drawn between snapshots, where that was always so.
    course: Option<SpotBlend>,
    /// The ticks in which it was put elsewhere, and up to which state that is known.
    teleports: Vec<RecordTick>,
    looked: Option<RecordTick>,
}

/// Snapshots at hand: more than lie between those that viewers of one second draw from.
const AT_HAND: usize = 128;
/// So many seconds before the first snapshot looked at begins what is counted: others draw from earlier ones.
const EARLIER: u32 = 8;

impl Clone for Travelled {
    /// A copy begins empty: it is had again.
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl Travelled {
    /// Makes room for all entities of a record.
    pub(super) fn make_room(&mut self, record: &Record) {
        self.sheets.resize(AT_HAND, Sheet::default());
        let known = self.courses.len();
        self.courses.extend(record.cast.actors().skip(known).map(|actor| Travelling {
            course: Some(SpotBlend::of(record.layout(actor, RecordTick(0)).schema())),
            teleports: Vec::new(),
            looked: None,
        }));
        if !record.changes.is_empty() {
            self.courses.iter_mut().for_each(|travelling| travelling.course = None);
        }
    }

    /// Has a snapshot at hand.
    fn fetch(&mut self, record: &Record, tick: RecordTick) {
        let slot = tick.0 as usize % AT_HAND;
        if self.sheets[slot].tick == Some(tick) {
            return;
        }
        let since = self.since.filter(|since| *since <= tick).unwrap_or_else(|| self.count_anew(record, tick));
        let sheet = &mut self.sheets[slot];
        sheet.tick = Some(tick);
        sheet.spots.clear();
        sheet.spots.extend(
            record
                .cast
                .actors()
                .zip(&mut self.courses)
                .map(|(actor, travelling)| travelling.spot(record, actor, tick, since)),
        );
    }

    /// Begins to count anew, from some time before a snapshot on.
    fn count_anew(&mut self, record: &Record, tick: RecordTick) -> RecordTick {
        self.sheets.iter_mut().for_each(|sheet| sheet.tick = None);
        self.courses.iter_mut().for_each(|travelling| {
            travelling.teleports.clear();
            travelling.looked = None;
        });
        *self.since.insert(RecordTick(tick.0.saturating_sub(EARLIER * record.cast.rate.hz())))
    }

    /// What a snapshot says, if it is at hand.
    fn sheet(&self, tick: Option<RecordTick>) -> &[Option<Spot>] {
        let Some(tick) = tick else { return &[] };
        let sheet = &self.sheets[tick.0 as usize % AT_HAND];
        if sheet.tick == Some(tick) { &sheet.spots } else { &[] }
    }
}

impl Travelling {
    fn spot(&mut self, record: &Record, actor: ActorId, tick: RecordTick, since: RecordTick) -> Option<Spot> {
        let course = self.course?;
        let sample = record.sample(actor, tick, false)?;
        let tracks = [record.authority(actor), record.echo(actor)];
        Some(Spot { teleports: self.teleports_by(tracks, tick, since), ..course.spot(&sample) })
    }

    /// How often it was put elsewhere from a tick on up to another: only differences matter.
    fn teleports_by(&mut self, tracks: [&StateTrack; 2], tick: RecordTick, since: RecordTick) -> u8 {
        let first = self.looked.map_or(since, |looked| looked.plus(1));
        if first <= tick {
            let known = self.teleports.len();
            for track in tracks.into_iter().filter(|track| !track.is_empty()) {
                track.visit(track.first_of(first)..track.first_of(tick.plus(1)), |head, _| {
                    self.teleports.extend(head.teleported.then_some(head.tick));
                });
            }
            self.teleports[known..].sort_unstable();
        }
        self.looked = self.looked.max(Some(tick));
        (self.teleports.partition_point(|t| *t <= tick) % (1 << TELEPORT_BITS)) as u8
    }
}

/// A frame for those who are drawn in the same way: at the same moment, between the same two snapshots. Most are.
struct Alike<'a> {
    courses: &'a [Travelling],
    before: &'a [Option<Spot>],
    after: &'a [Option<Spot>],
    /// Whether there is a snapshot after the moment: who is not in it went in between, and lies otherwise in time.
    ends: bool,
    on: OnTheWay,
    blending: Blending,
    /// What is seen but for the place.
    seen: DrawnRow,
}

impl<'a> Alike<'a> {
    fn of(record: &Record, frame: &Frame, travelled: &'a Travelled) -> Option<Self> {
        if !frame.row.blends {
            return None;
        }
        let tick = |tick: RecordTick| tick.tick(record.cast.first);
        let moment = Shown { tick: tick(frame.row.tick), fraction: frame.row.fraction };
        let (ends, rate) = ((frame.before.map(tick), frame.after.map(tick)), record.cast.rate);
        let placed = moment.among(ends.0, ends.1, rate, u32::from(frame.row.limit_ms))?;
        let Placed { how, shown, .. } = placed;
        Some(Self {
            courses: &travelled.courses,
            before: travelled.sheet(frame.before),
            after: travelled.sheet(frame.after),
            ends: frame.after.is_some(),
            on: OnTheWay::of(moment, &placed, ends, rate),
            blending: frame.row.blending,
            seen: DrawnRow {
                at: frame.row.at,
                tick: record.cast.tick(shown.tick),
                fraction: shown.fraction,
                how,
                pos: Vec3::ZERO,
                bearing: 0.0,
            },
        })
    }

    /// Where somebody is drawn of whom both snapshots tell; `None` of others.
    fn sight(&self, actor: ActorId) -> Option<DrawnRow> {
        let course = self.courses.get(actor.index())?.course?.in_way(self.blending);
        let before = self.before.get(actor.index())?.as_ref()?;
        let after = self.after.get(actor.index()).and_then(Option::as_ref);
        if after.is_some() != self.ends {
            return None;
        }
        let ends = (Some(before), after);
        Some(DrawnRow { pos: course.point(&self.on, ends)?, bearing: course.bearing(&self.on, ends)?, ..self.seen })
    }
}

/// What a viewer should have drawn of all others, frame by frame: what [`Record::derived`] says, had at less cost where many frames are
/// looked at one after the other.
#[derive(Clone, Debug)]
pub(super) struct Following {
    viewer: MachineId,
    /// Whom it knows, and how many changes of that there were by then.
    known: Vec<ActorId>,
    changes: Option<(usize, usize)>,
    /// The snapshots received by then, as many as are looked through, and the place of the next.
    received: VecDeque<ReceivedRow>,
    next: Option<usize>,
}

impl Following {
    /// Of a viewer, from some frame on.
    pub(super) const fn of(viewer: MachineId) -> Self {
        Self { viewer, known: Vec::new(), changes: None, received: VecDeque::new(), next: None }
    }

    /// Calls back with everybody in a frame but those that are `left_out`, and whether the viewer ever owned it. Frames must be asked for
    /// in their order.
    pub(super) fn frame(
        &mut self,
        (record, travelled): (&Record, &mut Travelled),
        (number, row): (usize, FrameRow),
        left_out: &[ActorId],
        mut each: impl FnMut(ActorId, bool, DrawnRow),
    ) {
        if !row.sees {
            return;
        }
        let here = record.of(self.viewer);
        let frame = self.among(record, number, row);
        let now = Some((here.knows.until(row.at), here.joined.until(row.at)));
        if self.changes != now {
            self.changes = now;
            self.known.clear();
            self.known.extend(record.cast.actors().filter(|actor| here.knows(*actor, row.at)));
        }
        travelled.make_room(record);
        [frame.before, frame.after].into_iter().flatten().for_each(|tick| travelled.fetch(record, tick));
        let alike = Alike::of(record, &frame, travelled);
        for &actor in &self.known {
            let owned = record.cast.actors[actor.index()].owners.iter().any(|o| o.machine == self.viewer);
            if owned && left_out.contains(&actor) {
                continue;
            }
            let usual = alike.as_ref().filter(|_| !owned && record.is_older(actor, &frame));
            let sight =
                usual.and_then(|alike| alike.sight(actor)).or_else(|| record.derived(self.viewer, actor, &frame));
            if let Some(sight) = sight {
                each(actor, owned, sight);
            }
        }
    }

    /// The frame among what was received by then, as [`Record::frame`] has it.
    fn among(&mut self, record: &Record, number: usize, row: FrameRow) -> Frame {
        let rows = record.of(self.viewer);
        let next = self.next.get_or_insert_with(|| rows.received.until(row.at).saturating_sub(LOOKED_THROUGH));
        while let Some(received) = rows.received.get(*next).filter(|received| received.at <= row.at) {
            self.received.push_back(received);
            *next += 1;
        }
        let many = self.received.len().saturating_sub(LOOKED_THROUGH);
        self.received.drain(..many);
        let joined = rows.joined_by(row.at);
        let known = self.received.iter().rev().copied().take_while(|received| received.at >= joined);
        Frame::among(number, row, known)
    }
}
