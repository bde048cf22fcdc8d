//! How what is drawn compares with what was: in windows of a second, by viewer and entity.
//!
//! Drawn states carry their tick, so nothing is searched. With made(s) the moment at which the authority made the state drawn
//! (between two ticks linearly), the *lag* of a window is the mean of (moment of the frame − made). What is drawn in a frame is
//! then held against where the authority had the entity so much earlier: that is what is wrong beyond being late. What moves as evenly
//! as before and after is no hop, whatever the authority did meanwhile: no eye sees that.

use velocitas_core::{CameraOn, Drawn, LookBy, Vec3};

use super::judder::{Camera, Judder};
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::record::{DrawnRow, Gallery, Record, StateTrack, Travelled};
use velocitas_record::time::LabTime;

/// The length of a window; windows begin with whole seconds of lab time.
pub const WINDOW: LabTime = LabTime(1_000_000_000);
/// A state that the authority made longer before its window than this is not judged, only counted.
pub const OLDEST: LabTime = LabTime(5_000_000_000);
/// Nor is one that it makes longer after its window.
pub const SETTLED: LabTime = LabTime(3_000_000_000);
/// Of an entity that moved less in a window nothing is said of how roughly it did.
const MOVED_M: f64 = 0.1;
/// Displacements that differ by less than this, or by less than a quarter, are no hop.
const HOP_M: f64 = 0.02;
const HOP_SHARE: f64 = 0.25;
/// The time before and after a frame in which the drawn motion gives even motion.
const EVEN: LabTime = LabTime(150_000_000);

/// What a window came to.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Window {
    /// How far before each frame the authority made what is drawn in it, in milliseconds; negative before it does.
    pub ages_ms: Vec<f64>,
    /// Of which of the frames of the window that is known.
    pub aged: Vec<usize>,
    /// Their mean.
    pub lag_ms: Option<f64>,
    /// In each frame, how far what is drawn is from where the authority had it a lag before.
    pub errors_m: Vec<f64>,
    /// Of which of the frames of the window that is known.
    pub placed: Vec<usize>,
    /// RMS of the difference of the velocities drawn and true; `None` where it hardly moved.
    pub roughness_mps: Option<f64>,
    /// RMS of how far the drawn velocity of a frame is from the mean of those before and after it; `None` where it hardly moved.
    pub judder_mps: Option<f64>,
    /// The same of a camera that follows it, as its viewer moves that; of the viewer's own.
    pub camera_mps: Option<f64>,
    /// How its viewer has what others look to be doing, as set in the first frame of the window.
    pub looks: LookBy,
    /// Frames in which it moved otherwise than the authority had it, and otherwise than it was drawn to move around them.
    pub hops: u32,
    /// Which of the frames of the window they are, and how far each is from where even motion had put it, in metres.
    pub hopped: Vec<(usize, f64)>,
    /// Seconds between the frames that were looked at for that.
    pub seconds: f64,
}

/// A state that the authority made.
#[derive(Clone, Copy, Debug)]
struct Made {
    at: LabTime,
    tick: RecordTick,
    /// The newest of its owner's ticks that it includes.
    used: Option<RecordTick>,
    pos: [f64; 3],
    teleported: bool,
}

/// Where the authority had an entity, by tick and by time, around a window.
#[derive(Clone, Debug, Default)]
struct Truth {
    rows: Vec<Made>,
    /// In how many of them its owner was behind, since its inputs were waited for.
    behind: usize,
    /// When it was put elsewhere among them, and in which ticks.
    teleports: Vec<(LabTime, RecordTick)>,
}

impl Truth {
    /// Goes on to a later window: has the states made from so long before it to so long after it that anything in it can be
    /// judged.
    fn reach(&mut self, track: &StateTrack, window: LabTime) {
        let (from, to) = (window.minus(OLDEST), window.plus(WINDOW).plus(SETTLED));
        let old = self.rows.partition_point(|row| row.at < from);
        let is_behind = |row: &Made| row.used.is_some_and(|used| used < row.tick);
        self.behind -= if self.behind > 0 { self.rows[..old].iter().filter(|row| is_behind(row)).count() } else { 0 };
        self.rows.drain(..old);
        let next = self.rows.last().map_or(from, |last| last.at.plus(LabTime(1)));
        track.visit(track.between(next.max(from), to), |head, pos| {
            let (at, tick, used, teleported) = (head.at, head.tick, head.used(), head.teleported);
            let made = Made { at, tick, used, pos: lanes(pos), teleported };
            self.behind += usize::from(is_behind(&made));
            self.rows.push(made);
        });
        let put = self.rows.iter().filter(|row| row.teleported);
        self.teleports.clear();
        self.teleports.extend(put.map(|row| (row.at, row.tick)));
    }

    fn of_tick(&self, tick: RecordTick) -> Option<usize> {
        let guess = tick.0.checked_sub(self.rows.first()?.tick.0)? as usize;
        if self.rows.get(guess).is_some_and(|row| row.tick == tick) {
            return Some(guess);
        }
        self.rows.binary_search_by_key(&tick, |row| row.tick).ok()
    }

    /// The tick in which a tick of its owner's was made.
    fn made_in(&self, tick: RecordTick) -> RecordTick {
        let Some(same) = self.of_tick(tick) else { return tick };
        let mut later = self.rows[same..].iter();
        later.find(|row| row.used.is_none_or(|used| used >= tick)).map_or(tick, |row| row.tick)
    }

    /// When what lies so far on the way from a tick to the next was made, in nanoseconds.
    fn made(&self, tick: RecordTick, fraction: f32) -> Option<f64> {
        let i = self.of_tick(tick)?;
        let made = self.rows[i].at.0 as f64;
        if fraction == 0.0 {
            return Some(made);
        }
        // Across ticks that were passed over there is nothing to be on the way to.
        let next = self.rows.get(i + 1).filter(|next| next.tick.0 == tick.0 + 1)?.at.0 as f64;
        Some(made + (next - made) * f64::from(fraction))
    }

    /// The rows it has: the first, and how many. Those of a server are of the same ticks for all entities.
    fn extent(&self) -> Option<(LabTime, RecordTick, usize)> {
        self.rows.first().map(|row| (row.at, row.tick, self.rows.len()))
    }

    /// After how many rows a moment in nanoseconds lies, and how far on to the next row; `after` is about where, and is moved on.
    fn place(&self, moment: f64, after: &mut usize) -> Option<(usize, f64)> {
        while self.rows.get(*after).is_some_and(|row| row.at.0 as f64 <= moment) {
            *after += 1;
        }
        let row = self.rows.get(after.checked_sub(1)?)?;
        let share =
            self.rows.get(*after).map_or(0.0, |next| (moment - row.at.0 as f64) / (next.at.0 - row.at.0) as f64);
        Some((*after, share))
    }

    /// Where it was there: between two ticks linearly; a teleport happens at once, when it was made.
    fn between(&self, after: usize, share: f64) -> [f64; 3] {
        let a = self.rows[after - 1].pos;
        match self.rows.get(after) {
            Some(next) if !next.teleported => {
                let b = next.pos;
                std::array::from_fn(|lane| a[lane] + (b[lane] - a[lane]) * share)
            }
            _ => a,
        }
    }

    /// How it moved from a moment to another, if that is known and it was not put elsewhere meanwhile.
    fn moved(&self, from: f64, to: f64) -> Option<[f64; 3]> {
        if self.teleports.iter().any(|(at, _)| at.0 as f64 > from && at.0 as f64 <= to) {
            return None;
        }
        let at = |moment: f64| {
            let (after, share) = self.place(moment, &mut self.rows.partition_point(|row| row.at.0 as f64 <= moment))?;
            Some(self.between(after, share))
        };
        Some(between(at(from)?, at(to)?))
    }

    /// Whether it was put elsewhere between two moments, or in the ticks from one to another.
    fn is_cut(&self, (from, to): (f64, f64), (first, last): (RecordTick, RecordTick)) -> bool {
        let within = |at: LabTime| at.0 as f64 > from && at.0 as f64 <= to;
        let mut teleports = self.teleports.iter();
        teleports.any(|&(at, tick)| within(at) || tick > first && tick.0 <= last.0.saturating_add(1))
    }
}

/// What the viewers of a second have in common: what travelled, and where everything really was.
#[derive(Clone, Debug, Default)]
pub struct Reel {
    travelled: Travelled,
    truths: Vec<Truth>,
    /// Of the one of others, and of the own, that was judged last.
    timings: [Timing; 2],
    /// By entity, whether it is the viewer's own, and what it drew of it: kept for its room.
    drawn: Vec<(bool, Vec<DrawnRow>)>,
    /// The second at hand.
    second: Option<LabTime>,
}

impl Reel {
    /// Goes on to a second.
    fn reach(&mut self, record: &Record, window: LabTime) {
        if self.second == Some(window) {
            return;
        }
        if self.second.is_some_and(|before| before > window) {
            *self = Self::default();
        }
        self.second = Some(window);
        self.truths.resize(record.cast.actors.len(), Truth::default());
        for actor in record.cast.actors() {
            self.truths[actor.index()].reach(record.authority(actor), window);
        }
    }

    /// Everything that a viewer drew in a second, by entity: with whether that was its own, what was drawn frame by frame, and
    /// what that came to.
    pub fn play(
        &mut self,
        record: &Record,
        viewer: MachineId,
        window: LabTime,
        mut each: impl FnMut(ActorId, bool, &[DrawnRow], Window),
    ) {
        self.reach(record, window);
        let frames = &record.of(viewer).frames;
        let mut all = std::mem::take(&mut self.drawn);
        all.resize(record.cast.actors.len(), (false, Vec::new()));
        for (own, sights) in &mut all {
            *own = false;
            sights.clear();
        }
        let first = frames.get(frames.before(window)).unwrap_or_default();
        let mut gallery = Gallery::of(record, viewer, &mut self.travelled);
        for number in frames.before(window)..frames.before(window.plus(WINDOW)) {
            gallery.frame(number, |actor, own, sight| {
                let (is_own, sights) = &mut all[actor.index()];
                *is_own |= own;
                sights.push(sight);
            });
        }
        let sends_inputs = record.cast.sends_inputs(viewer);
        for (actor, (own, sights)) in record.cast.actors().zip(&mut all).filter(|(_, (_, sights))| !sights.is_empty()) {
            let (timing, truth) = (&mut self.timings[usize::from(*own)], &self.truths[actor.index()]);
            // What it draws of its own are ticks of its own.
            if *own && sends_inputs && truth.behind > 0 {
                let predicted = sights.iter_mut().filter(|sight| sight.how == Drawn::Predicted);
                predicted.for_each(|sight| sight.tick = truth.made_in(sight.tick));
            }
            let camera = if *own { first.camera } else { CameraOn::Frame };
            let judged = judge(truth, sights, timing, camera);
            each(actor, *own, sights, Window { looks: first.looks, ..judged });
        }
        self.drawn = all;
    }
}

fn lanes(v: Vec3) -> [f64; 3] {
    [v.x, v.y, v.z].map(f64::from)
}

fn between(a: [f64; 3], b: [f64; 3]) -> [f64; 3] {
    std::array::from_fn(|lane| b[lane] - a[lane])
}

fn length(v: [f64; 3]) -> f64 {
    libm::sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
}

/// When the states drawn in the frames of a window were made, and where in the truth a lag before each frame lies. Entities that
/// are drawn at the same moments have it in common.
#[derive(Clone, Debug, Default)]
struct Timing {
    /// Of which rows it is: the first and how many.
    of: Option<(LabTime, RecordTick, usize)>,
    /// Of which frames: each with the tick drawn.
    shots: Vec<(LabTime, RecordTick, f32)>,
    /// Those whose state is known, and how long before the frame each was made.
    known: Vec<usize>,
    ages_ms: Vec<f64>,
    lag_ms: f64,
    /// Of these, those of which it is also known where the truth was.
    places: Vec<Placed>,
    /// Which frames they are.
    placed: Vec<usize>,
}

/// A frame of which it is known where the truth was a lag before.
#[derive(Clone, Copy, Debug)]
struct Placed {
    /// Which of the frames of the window.
    frame: usize,
    /// How many rows lie before it, and how far on it is from the last of them to the next.
    after: usize,
    share: f64,
    /// Seconds since the one before; 0 where there is none to hold it against.
    seconds: f64,
}

impl Timing {
    fn is_of(&self, truth: &Truth, sights: &[DrawnRow]) -> bool {
        // All of them, without a look at each whether to go on.
        let differs = |(shot, s): (&(LabTime, RecordTick, f32), &DrawnRow)| {
            (shot.0.0 ^ s.at.0) | u64::from((shot.1.0 ^ s.tick.0) | (shot.2.to_bits() ^ s.fraction.to_bits()))
        };
        self.of == truth.extent()
            && self.shots.len() == sights.len()
            && self.shots.iter().zip(sights).map(differs).fold(0, |all, one| all | one) == 0
    }

    /// Of these frames of an entity.
    fn measure(&mut self, truth: &Truth, sights: &[DrawnRow]) {
        self.of = truth.extent();
        self.shots.clear();
        self.shots.extend(sights.iter().map(|s| (s.at, s.tick, s.fraction)));
        self.known.clear();
        self.ages_ms.clear();
        for (i, sight) in sights.iter().enumerate() {
            if let Some(made) = truth.made(sight.tick, sight.fraction) {
                self.known.push(i);
                self.ages_ms.push((sight.at.0 as f64 - made) / 1e6);
            }
        }
        self.places.clear();
        self.placed.clear();
        if self.known.is_empty() {
            return;
        }
        self.lag_ms = self.ages_ms.iter().sum::<f64>() / self.ages_ms.len() as f64;
        let (mut after, mut before): (_, Option<LabTime>) = (None, None);
        for &frame in &self.known {
            let sight = &sights[frame];
            let then = self.then(sight);
            let after = after.get_or_insert_with(|| truth.rows.partition_point(|row| (row.at.0 as f64) <= then));
            let Some((after, share)) = truth.place(then, after) else {
                before = None;
                continue;
            };
            let since = before.replace(sight.at).map_or(0, |before| sight.at.0.saturating_sub(before.0));
            self.places.push(Placed { frame, after, share, seconds: since as f64 / 1e9 });
            self.placed.push(frame);
        }
    }

    /// Whether it was put elsewhere between two frames.
    fn is_cut(&self, truth: &Truth, last: &DrawnRow, sight: &DrawnRow) -> bool {
        // Mostly nobody is.
        !truth.teleports.is_empty() && truth.is_cut((self.then(last), self.then(sight)), (last.tick, sight.tick))
    }

    /// The moment, in nanoseconds, that a frame shows but for the lag.
    fn then(&self, sight: &DrawnRow) -> f64 {
        sight.at.0 as f64 - self.lag_ms * 1e6
    }
}

/// Judges what was drawn of an entity in a window.
fn judge(truth: &Truth, sights: &[DrawnRow], timing: &mut Timing, camera: CameraOn) -> Window {
    if !timing.is_of(truth, sights) {
        timing.measure(truth, sights);
    }
    if timing.known.is_empty() {
        return Window::default();
    }
    let mut window = Window {
        lag_ms: Some(timing.lag_ms),
        ages_ms: timing.ages_ms.clone(),
        aged: timing.known.clone(),
        placed: timing.placed.clone(),
        ..Window::default()
    };
    let (mut squares, mut moved, mut pairs, mut any) = (0.0, 0.0, 0u32, false);
    let (mut judder, mut followed) = (Judder::default(), Camera::default());
    // In the frame before: where it was drawn, where it was, and which frame that is.
    let mut before = ([0.0; 3], [0.0; 3], 0);
    let error = |place: &Placed| {
        let sight = &sights[place.frame];
        let (there, here) = (truth.between(place.after, place.share), lanes(sight.pos));
        let (drawn, was, last) = std::mem::replace(&mut before, (here, there, place.frame));
        if place.seconds > 0.0 && !timing.is_cut(truth, &sights[last], sight) {
            let (drawn, really) = (between(drawn, here), between(was, there));
            let (off, way) = (length(between(really, drawn)), length(really));
            squares += (off / place.seconds) * (off / place.seconds);
            moved += way;
            window.seconds += place.seconds;
            any |= is_otherwise(off, way);
            pairs += 1;
            judder.moved(drawn.map(|lane| lane / place.seconds));
            if camera == CameraOn::Tick {
                followed.frame(sights[last].tick != sight.tick, here, place.seconds);
            }
        } else {
            judder.is_cut();
            followed.is_cut(here);
        }
        length(between(there, here))
    };
    window.errors_m = timing.places.iter().map(error).collect();
    if any {
        window.hopped = hopped(truth, &pairs_of(truth, sights, timing));
    }
    window.hops = window.hopped.len() as u32;
    window.judder_mps = judder.rms().filter(|_| moved >= MOVED_M);
    window.camera_mps = match camera {
        CameraOn::Frame => window.judder_mps,
        CameraOn::Tick => followed.rms().filter(|_| moved >= MOVED_M),
    };
    window.roughness_mps = (pairs > 0 && moved >= MOVED_M).then(|| libm::sqrt(squares / f64::from(pairs)));
    window
}

/// How something was drawn to move from each frame of a window to the next.
fn pairs_of(truth: &Truth, sights: &[DrawnRow], timing: &Timing) -> Vec<Pair> {
    let (mut pairs, mut piece) = (Vec::with_capacity(timing.places.len()), 0);
    let mut before: Option<(usize, [f64; 3])> = None;
    for &Placed { frame, after, share, seconds } in &timing.places {
        let there = truth.between(after, share);
        if let Some((last, was)) = before.replace((frame, there))
            && seconds > 0.0
        {
            if timing.is_cut(truth, &sights[last], &sights[frame]) {
                piece += 1;
            } else {
                pairs.push(Pair::of((sights, timing), (last, was), (frame, there), piece));
            }
        }
    }
    pairs
}

/// Whether a difference is more than it may be on a way of this length.
fn is_otherwise(off: f64, way: f64) -> bool {
    off > HOP_M.max(HOP_SHARE * way)
}

/// How something was drawn to move from one frame to the next.
#[derive(Clone, Copy, Debug)]
struct Pair {
    /// The later of the two, by its place in the window.
    frame: usize,
    at: LabTime,
    /// How many teleports lie before it.
    piece: u32,
    seconds: f64,
    drawn: [f64; 3],
    /// How the authority had it move, between which moments in nanoseconds, and whether that differs.
    really: [f64; 3],
    then: (f64, f64),
    differs: bool,
}

impl Pair {
    /// Of two frames, by their places in the window, and where it was in each.
    fn of(
        (sights, timing): (&[DrawnRow], &Timing),
        (last, was): (usize, [f64; 3]),
        (frame, there): (usize, [f64; 3]),
        piece: u32,
    ) -> Self {
        let (last, sight) = (&sights[last], &sights[frame]);
        let (drawn, really) = (between(lanes(last.pos), lanes(sight.pos)), between(was, there));
        Self {
            frame,
            at: sight.at,
            piece,
            seconds: (sight.at.0 - last.at.0) as f64 / 1e9,
            drawn,
            really,
            then: (timing.then(last), timing.then(sight)),
            differs: is_otherwise(length(between(really, drawn)), length(really)),
        }
    }
}

/// The frames of those that differ from the authority in which even motion would not have put it there, and how far off it is.
///
/// Even is the motion of what is drawn before, that of what is drawn after, and on each axis anything between the two: who starts, stops
/// or lands within a frame moves so. Where nothing is drawn before it, or after, the authority's motion just then stands for that.
fn hopped(truth: &Truth, pairs: &[Pair]) -> Vec<(usize, f64)> {
    let off = |(i, pair): (usize, &Pair)| {
        let near = |p: &&Pair| p.piece == pair.piece && p.at.0.abs_diff(pair.at.0) <= EVEN.0;
        let before: Vec<&Pair> = pairs[..i].iter().rev().take_while(near).collect();
        let after: Vec<&Pair> = pairs[i + 1..].iter().take_while(near).collect();
        let (from, to) = pair.then;
        let really = |from: f64, to: f64| truth.moved(from, to).unwrap_or(pair.really);
        let some = even(&before, pair.seconds).unwrap_or_else(|| really(from - (to - from), from));
        let other = even(&after, pair.seconds).unwrap_or_else(|| really(to, to + (to - from)));
        let nearest: [f64; 3] = std::array::from_fn(|lane| {
            pair.drawn[lane].clamp(some[lane].min(other[lane]), some[lane].max(other[lane]))
        });
        let off = length(between(nearest, pair.drawn));
        is_otherwise(off, length(nearest)).then_some((pair.frame, off))
    };
    pairs.iter().enumerate().filter(|(_, pair)| pair.differs).filter_map(off).collect()
}

/// How far these move in `seconds`: their median, for each axis alone.
fn even(pairs: &[&Pair], seconds: f64) -> Option<[f64; 3]> {
    let median = |lane: usize| {
        let mut speeds: Vec<f64> = pairs.iter().map(|p| p.drawn[lane] / p.seconds).collect();
        speeds.sort_by(f64::total_cmp);
        speeds[speeds.len() / 2] * seconds
    };
    (!pairs.is_empty()).then(|| std::array::from_fn(median))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pairs(steps: &[f64], differs: bool) -> Vec<Pair> {
        let pair = |(i, x): (usize, &f64)| {
            let at = LabTime((i as u64 + 1) * 16_000_000);
            Pair {
                frame: i + 1,
                at,
                piece: u32::from(i >= 20),
                seconds: 0.016,
                drawn: [*x, 0.0, 0.0],
                really: [0.1, 0.0, 0.0],
                then: (0.0, 0.0),
                differs,
            }
        };
        steps.iter().enumerate().map(pair).collect()
    }

    #[test]
    fn what_is_drawn_evenly_is_no_hop_whatever_the_authority_did_and_a_jump_is_one() {
        let even = [0.1; 30];
        assert_eq!(hopped(&Truth::default(), &pairs(&even, true)), [], "the authority stood still all the time");
        let mut jump = even;
        jump[12] = 0.35;
        let [(frame, off)] = hopped(&Truth::default(), &pairs(&jump, true))[..] else { panic!("one hop") };
        assert!(frame == 13 && (off - 0.25).abs() < 1e-9, "{frame} {off}");
        assert_eq!(hopped(&Truth::default(), &pairs(&jump, false)), [], "it did jump");
        // A correction that is eased out over a tenth of a second is quicker than what is around it.
        let mut eased = even;
        eased[10..16].iter_mut().for_each(|x| *x += 0.06);
        assert_eq!(hopped(&Truth::default(), &pairs(&eased, true)).len(), 3);
        // Who stops within a frame does not hop.
        let mut stops = even;
        stops[12] = 0.04;
        stops[13..].fill(0.0);
        assert_eq!(hopped(&Truth::default(), &pairs(&stops, true)), []);
        // As it came: three frames of rest, then three at once.
        let came: Vec<f64> = (0..30).map(|i| if i % 3 == 0 { 0.3 } else { 0.0 }).collect();
        assert_eq!(hopped(&Truth::default(), &pairs(&came, true)).len(), 10);
        // Where it is put elsewhere it may go on otherwise.
        let mut put = even;
        put[18..20].fill(0.0);
        put[20..].fill(0.0);
        assert_eq!(
            hopped(&Truth::default(), &pairs(&put, true)).iter().map(|(frame, _)| *frame).collect::<Vec<_>>(),
            [20]
        );
        // At the edges what the authority did decides.
        assert_eq!(hopped(&Truth::default(), &pairs(&[0.2, 0.14, 0.14], true)).len(), 1);
    }

    #[test]
    fn a_frame_on_ticks_that_were_passed_over_is_not_judged_and_shifts_no_lag() {
        let made = |tick: u32| Made {
            at: LabTime(u64::from(tick) * 50_000_000),
            tick: RecordTick(tick),
            used: None,
            pos: [f64::from(tick), 0.0, 0.0],
            teleported: false,
        };
        let rows = (0..40).filter(|tick| !(10..14).contains(tick)).map(made).collect();
        let truth = Truth { rows, ..Truth::default() };
        assert_eq!(truth.made(RecordTick(9), 0.5), None);
        assert_eq!(truth.made(RecordTick(9), 0.0), Some(450_000_000.0));
        assert_eq!(truth.made(RecordTick(14), 0.5), Some(725_000_000.0));
    }
}
