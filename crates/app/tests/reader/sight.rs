//! What was drawn, and when hands were seen.

use std::collections::{BTreeMap, BTreeSet};

use velocitas_core::Vec3;

use super::{Figures, File, Track, at, is, number, percentile, point};

const SECOND: u64 = 1_000_000_000;

/// A frame of an entity.
struct Sight<'a> {
    at: u64,
    tick: u64,
    fraction: f64,
    pos: Vec3,
    how: &'a str,
}

fn wide(v: Vec3) -> [f64; 3] {
    [f64::from(v.x), f64::from(v.y), f64::from(v.z)]
}

fn minus(a: [f64; 3], b: [f64; 3]) -> [f64; 3] {
    [a[0] - b[0], a[1] - b[1], a[2] - b[2]]
}

fn length(v: [f64; 3]) -> f64 {
    (v[0] * v[0] + v[1] * v[1] + v[2] * v[2]).sqrt()
}

/// What may be used of a track to judge a window: from five seconds before it to three after it.
fn around(track: &Track, window: u64) -> std::ops::Range<usize> {
    let first = track.at.partition_point(|at| *at < window.saturating_sub(5 * SECOND));
    first..track.at.partition_point(|at| *at <= window + 4 * SECOND)
}

/// When the server made what lies between two ticks.
fn made(track: &Track, range: &std::ops::Range<usize>, tick: u64, fraction: f64) -> Option<f64> {
    let i = track.of_tick(tick).filter(|i| range.contains(i))?;
    let first = track.at[i] as f64;
    if fraction == 0.0 {
        return Some(first);
    }
    let next = (i + 1 < range.end && track.tick[i + 1] == tick + 1).then(|| track.at[i + 1] as f64)?;
    Some(first + (next - first) * fraction)
}

/// Where the server had it at a moment.
fn really(track: &Track, range: &std::ops::Range<usize>, moment: f64) -> Option<[f64; 3]> {
    let after = range.start + track.at[range.clone()].partition_point(|at| *at as f64 <= moment);
    if after == range.start {
        return None;
    }
    let (i, a) = (after - 1, wide(track.pos[after - 1]));
    if after >= range.end || track.teleported[after] {
        return Some(a);
    }
    let share = (moment - track.at[i] as f64) / (track.at[after] - track.at[i]) as f64;
    let b = wide(track.pos[after]);
    Some([0, 1, 2].map(|lane| a[lane] + (b[lane] - a[lane]) * share))
}

/// How something was drawn from a frame to the next.
struct Pair {
    at: u64,
    /// How many teleports lie before it.
    piece: u32,
    span: f64,
    drawn: [f64; 3],
    truly: [f64; 3],
    then: (f64, f64),
    /// Whether the server had it move otherwise.
    differs: bool,
}

/// Whether a pair of frames that differs from the server's does so from the even motion around it as well.
fn is_seen((track, range): (&Track, &std::ops::Range<usize>), one: &Pair, pairs: &[Pair]) -> bool {
    let near = |pair: &&Pair| pair.piece == one.piece && pair.at.abs_diff(one.at) <= 150_000_000;
    let before: Vec<&Pair> = pairs.iter().filter(|pair| pair.at < one.at).filter(near).collect();
    let after: Vec<&Pair> = pairs.iter().filter(|pair| pair.at > one.at).filter(near).collect();
    let even = |side: &[&Pair], lane: usize| {
        let mut speeds: Vec<f64> = side.iter().map(|pair| pair.drawn[lane] / pair.span).collect();
        speeds.sort_by(f64::total_cmp);
        speeds.get(speeds.len() / 2).map(|speed| speed * one.span)
    };
    let server = |from: f64, to: f64| {
        let put = |i: usize| track.teleported[i] && track.at[i] as f64 > from && track.at[i] as f64 <= to;
        let moved = Some(minus(really(track, range, to)?, really(track, range, from)?));
        moved.filter(|_| !range.clone().any(put))
    };
    let side = |near: &[&Pair], server: Option<[f64; 3]>| {
        [0, 1, 2].map(|lane| even(near, lane).unwrap_or(server.unwrap_or(one.truly)[lane]))
    };
    let (from, to) = one.then;
    let (a, b) = (side(&before, server(from - (to - from), from)), side(&after, server(to, to + (to - from))));
    let even = [0, 1, 2].map(|lane| one.drawn[lane].max(a[lane].min(b[lane])).min(a[lane].max(b[lane])));
    one.differs && length(minus(one.drawn, even)) > 0.02f64.max(0.25 * length(even))
}

/// How far the velocity of each pair of frames is from the middle of those of its neighbours, where the three follow each other: RMS.
fn uneven(pairs: &[Pair]) -> Option<f64> {
    let begin = |pair: &Pair| pair.at as f64 - pair.span * 1e9;
    let follows = |a: &Pair, b: &Pair| (begin(b) - a.at as f64).abs() < 1.0 && a.piece == b.piece;
    let velocity = |pair: &Pair| pair.drawn.map(|lane| lane / pair.span);
    let threes = pairs.windows(3).filter(|w| follows(&w[0], &w[1]) && follows(&w[1], &w[2]));
    let squares: Vec<f64> = threes
        .map(|w| {
            let [a, b, c] = [velocity(&w[0]), velocity(&w[1]), velocity(&w[2])];
            let off = [0, 1, 2].map(|lane| b[lane] - (a[lane] + c[lane]) / 2.0);
            off[0] * off[0] + off[1] * off[1] + off[2] * off[2]
        })
        .collect();
    (!squares.is_empty()).then(|| (squares.iter().sum::<f64>() / squares.len() as f64).sqrt())
}

#[derive(Default)]
struct Sum {
    ages: Vec<f64>,
    lags: Vec<f64>,
    errors: Vec<f64>,
    rough: Vec<f64>,
    judder: Vec<f64>,
    hops: u64,
    looks: BTreeMap<usize, Looks>,
    flickers: u64,
    camera: Vec<f64>,
    seconds: f64,
}

/// What somebody looks to be doing: which look of its rule.
#[derive(Default)]
struct Looks {
    before: Option<(u64, Vec3)>,
    speed: f32,
    look: usize,
    came_from: usize,
    since: Option<u64>,
}

impl Looks {
    /// Whether it has the look again that it left less than half a second ago.
    fn frame(&mut self, at: u64, pos: Vec3, limits: &[f32], plain: bool) -> bool {
        let Some((last, was)) = self.before.replace((at, pos)).filter(|(last, _)| *last < at) else { return false };
        let seconds = (at - last) as f32 / 1e9;
        let (x, y) = (pos.x - was.x, pos.y - was.y);
        let speed = (x * x + y * y).sqrt() / seconds;
        if speed > 50.0 {
            return false;
        }
        let smooth = !plain && seconds < 0.1;
        self.speed = if smooth { self.speed + (speed - self.speed) * (seconds / 0.1) } else { speed };
        let kept = if plain { 1.0 } else { 1.0 - 0.2f32 };
        let reached = |i: &usize| {
            let limit = limits[*i - 1];
            self.speed >= if self.look >= *i { limit * kept } else { limit }
        };
        let look = (1..=limits.len()).take_while(reached).last().unwrap_or(0);
        let stays = !plain && self.since.is_some_and(|since| at - since < 200_000_000);
        if look == self.look || stays {
            return false;
        }
        let again = self.came_from == look;
        (self.came_from, self.look) = (self.look, look);
        self.since.replace(at).is_some_and(|since| at - since < 500_000_000) && again
    }
}

impl Sum {
    fn window(&mut self, track: &Track, window: u64, sights: &[Sight<'_>], on_tick: bool) {
        let range = around(track, window);
        let known: Vec<(f64, &Sight<'_>)> =
            sights.iter().filter_map(|s| Some((made(track, &range, s.tick, s.fraction)?, s))).collect();
        let ages: Vec<f64> = known.iter().map(|(made, s)| (s.at as f64 - made) / 1e6).collect();
        if ages.is_empty() {
            return;
        }
        let lag = ages.iter().sum::<f64>() / ages.len() as f64;
        self.ages.extend(&ages);
        self.lags.push(lag);
        let then = |s: &Sight<'_>| s.at as f64 - lag * 1e6;
        let (mut squares, mut moved, mut seconds) = (0.0, 0.0, 0.0);
        let (mut pairs, mut piece): (Vec<Pair>, u32) = (Vec::new(), 0);
        let mut before: Option<(&Sight<'_>, [f64; 3])> = None;
        // A camera that is moved with ticks only.
        let (mut camera, mut followed): ([f64; 3], Vec<Pair>) = ([0.0; 3], Vec::new());
        for (_, s) in known {
            let Some(there) = really(track, &range, then(s)) else {
                before = None;
                continue;
            };
            self.errors.push(length(minus(wide(s.pos), there)));
            let Some((last, was)) = before.replace((s, there)) else {
                camera = wide(s.pos);
                continue;
            };
            let cut = range.clone().any(|i| {
                let (at, tick) = (track.at[i] as f64, track.tick[i]);
                track.teleported[i] && (at > then(last) && at <= then(s) || tick > last.tick && tick <= s.tick + 1)
            });
            piece += u32::from(cut && s.at > last.at);
            if cut || s.at == last.at {
                camera = wide(s.pos);
                continue;
            }
            let span = (s.at - last.at) as f64 / 1e9;
            let (drawn, truly) = (minus(wide(s.pos), wide(last.pos)), minus(there, was));
            let off = length(minus(drawn, truly));
            squares += (off / span) * (off / span);
            moved += length(truly);
            seconds += span;
            let differs = off > 0.02f64.max(0.25 * length(truly));
            let to = if s.tick == last.tick { camera } else { wide(s.pos) };
            let pair = Pair { at: s.at, piece, span, drawn, truly, then: (then(last), then(s)), differs };
            followed.push(Pair { drawn: minus(to, camera), ..pair });
            camera = to;
            pairs.push(pair);
        }
        self.hops += pairs.iter().filter(|pair| is_seen((track, &range), pair, &pairs)).count() as u64;
        self.seconds += seconds;
        if let Some(judder) = uneven(&pairs).filter(|_| moved >= 0.1) {
            self.judder.push(judder);
        }
        let camera = uneven(if on_tick { &followed } else { &pairs });
        self.camera.extend(camera.filter(|_| moved >= 0.1));
        if !pairs.is_empty() && moved >= 0.1 {
            self.rough.push((squares / pairs.len() as f64).sqrt());
        }
    }

    fn looked(&mut self, place: usize, sights: &[Sight<'_>], limits: &[f32], plain: bool) {
        let looks = self.looks.entry(place).or_default();
        self.flickers += sights.iter().filter(|s| looks.frame(s.at, s.pos, limits, plain)).count() as u64;
    }

    fn figures(&self, whose: &str, figures: &mut Figures) {
        let mut put = |key: &str, x: Option<f64>| figures.insert(format!("{whose}.{key}"), x);
        put("lag_ms", percentile(&self.lags, 0.5));
        put("drawn_error_m.p50", percentile(&self.errors, 0.5));
        put("drawn_error_m.p95", percentile(&self.errors, 0.95));
        put("drawn_error_m.max", percentile(&self.errors, 1.0));
        put("roughness_mps.p50", percentile(&self.rough, 0.5));
        put("roughness_mps.p95", percentile(&self.rough, 0.95));
        put("judder_mps.p50", percentile(&self.judder, 0.5));
        put("judder_mps.p95", percentile(&self.judder, 0.95));
        let per_min = |count: u64| (self.seconds > 0.0).then(|| count as f64 / self.seconds * 60.0);
        put("hops_per_min", per_min(self.hops));
        put("flickers_per_min", per_min(self.flickers));
    }
}

impl File {
    /// All that a machine drew, by second and entity.
    fn seconds<'a>(&'a self, machine: &'a str) -> BTreeMap<(u64, usize), Vec<Sight<'a>>> {
        let mut all: BTreeMap<(u64, usize), Vec<Sight<'_>>> = BTreeMap::new();
        let place: BTreeMap<&str, usize> =
            self.cast().iter().enumerate().filter_map(|(i, actor)| Some((actor["name"].as_str()?, i))).collect();
        for row in self.of("drawn", machine) {
            let tick = number(row, "tick").expect("a tick");
            let (at, fraction) = (at(row), row["fraction"].as_f64().expect("how far on it is"));
            let how = row["how"].as_str().expect("how");
            let sight = Sight { at, tick, fraction, pos: point(&row["pos"]), how };
            all.entry((at / SECOND, place[row["entity"].as_str().expect("what")])).or_default().push(sight);
        }
        all
    }

    /// Whether a machine moves its camera with ticks, and has looks from frames alone, in the first frame of a second.
    fn ways(&self, machine: &str, second: u64) -> (bool, bool) {
        let frame = self.within(("frame", machine), (second * SECOND, (second + 1) * SECOND - 1)).next();
        frame.map_or((false, false), |row| (is(row, "camera", "tick"), is(row, "looks", "plain")))
    }

    pub(super) fn sights(&self, machine: &str, figures: &mut Figures) {
        let (mut others, mut own) = (Sum::default(), Sum::default());
        let (mut frames, mut extrapolated, mut held) = (0u64, 0u64, 0u64);
        for ((second, place), sights) in self.seconds(machine) {
            // Seconds that were whole.
            if (second + 1) * SECOND > self.ends() + 1 {
                continue;
            }
            let entity = self.cast()[place]["name"].as_str().expect("a name");
            let track = self.track(entity);
            let (on_tick, plain) = self.ways(machine, second);
            let looks = self.rule(entity)["looks"].as_array().expect("a list");
            let limits: Vec<f32> = looks.iter().filter_map(|look| Some(look["below_mps"].as_f64()? as f32)).collect();
            let is_own = sights.iter().any(|s| s.how == "predicted" || self.owns(machine, entity, s.at));
            if is_own {
                // What it draws of its own are ticks of its own.
                let sends = self.sends_inputs(machine);
                let made = |s: &Sight<'_>| track.made_in(s.tick).map_or(s.tick, |i| track.tick[i]);
                let is_of_own = |s: &Sight<'_>| sends && s.how == "predicted";
                let tick = |s: &Sight<'_>| if is_of_own(s) { made(s) } else { s.tick };
                let sights: Vec<Sight<'_>> = sights.iter().map(|s| Sight { tick: tick(s), ..*s }).collect();
                own.window(track, second * SECOND, &sights, on_tick);
                own.looked(place, &sights, &limits, plain);
                continue;
            }
            others.window(track, second * SECOND, &sights, false);
            others.looked(place, &sights, &limits, plain);
            frames += sights.len() as u64;
            extrapolated += sights.iter().filter(|s| matches!(s.how, "extrapolated" | "by_rule")).count() as u64;
            held += sights.iter().filter(|s| s.how == "held").count() as u64;
        }
        others.figures("others", figures);
        own.figures("own", figures);
        figures.insert("camera_judder_mps.p50".into(), percentile(&own.camera, 0.5));
        figures.insert("camera_judder_mps.p95".into(), percentile(&own.camera, 0.95));
        figures.insert("view_age_ms.p50".into(), percentile(&others.ages, 0.5));
        figures.insert("view_age_ms.p95".into(), percentile(&others.ages, 0.95));
        let share = |n: u64| (frames > 0).then(|| n as f64 / frames as f64);
        figures.insert("extrapolated_share".into(), share(extrapolated));
        figures.insert("held_share".into(), share(held));
    }

    pub(super) fn hands(&self, machine: &str, figures: &mut Figures) {
        let (mut responses, mut seen) = (Vec::new(), Vec::new());
        for row in self.of("pressed", machine) {
            let (moment, hand) = (at(row), number(row, "hand_ns").expect("a moment"));
            let Some(entity) = self.body(machine, moment) else { continue };
            responses.extend(self.response(machine, entity, moment).map(|seen| (seen - hand) as f64 / 1e6));
            for viewer in self.players().into_iter().filter(|viewer| *viewer != machine) {
                seen.extend(self.seen_by(viewer, machine, entity, moment).map(|seen| (seen - hand) as f64 / 1e6));
            }
        }
        figures.insert("responses".into(), Some(responses.len() as f64));
        figures.insert("response_ms".into(), percentile(&responses, 0.5));
        figures.insert("seen_ms.p50".into(), percentile(&seen, 0.5));
        figures.insert("seen_ms.p95".into(), percentile(&seen, 0.95));
    }

    /// The first frame after a press in which the own character moves, if it stood before.
    fn response(&self, machine: &str, entity: &str, moment: u64) -> Option<u64> {
        // More than enough for four frames, however long it stands still.
        let around = (moment.saturating_sub(20 * SECOND), moment + 3 * SECOND);
        let frames: BTreeSet<u64> = self.within(("drawn", machine), around).map(at).collect();
        let drawn: BTreeMap<u64, Vec3> = self
            .within(("drawn", machine), around)
            .filter(|row| is(row, "entity", entity))
            .map(|row| (at(row), point(&row["pos"])))
            .collect();
        let before: Vec<u64> = frames.range(..moment).rev().take(4).copied().collect();
        let rest = *drawn.get(before.first()?)?;
        let earlier = *drawn.get(before.get(3)?)?;
        let stirs = |pos: Vec3| (pos - rest).dot(pos - rest) > 1e-3f32 * 1e-3;
        if stirs(earlier) {
            return None;
        }
        if let Some(first) = self.first_use(machine, entity, moment) {
            let track = self.track(entity);
            let (rest, soon) = (track.pos[first.checked_sub(1)?], track.at[first] + SECOND / 4);
            let moves =
                |i: usize| track.at[i] <= soon && (track.pos[i] - rest).dot(track.pos[i] - rest) > 1e-3f32 * 1e-3;
            if !(first..track.at.len()).any(moves) {
                return None;
            }
        }
        drawn.range(moment..=(moment + 3 * SECOND).min(self.ends())).find(|(_, pos)| stirs(**pos)).map(|(at, _)| *at)
    }

    /// The server's first state that includes what was sampled first after a moment.
    fn first_use(&self, machine: &str, entity: &str, moment: u64) -> Option<usize> {
        let last = (moment + 3 * SECOND).min(self.ends());
        let rows = self.within(("input", machine), (moment, moment + 3 * SECOND));
        let mut sampled = rows.filter(|row| is(row, "entity", entity) && !row["sampled_ns"].is_null());
        let tick = sampled.find_map(|r| number(r, "tick"))?;
        let track = self.track(entity);
        let includes = |i: &usize| {
            track.at[*i] >= moment.saturating_sub(3 * SECOND)
                && track.at[*i] <= last
                && track.used[*i].is_some_and(|used| used >= tick)
        };
        (0..track.at.len()).find(includes)
    }

    /// The first frame of a viewer that shows a tick which used a press, if it had moved by then.
    fn seen_by(&self, viewer: &str, machine: &str, entity: &str, moment: u64) -> Option<u64> {
        let last = (moment + 3 * SECOND).min(self.ends());
        let track = self.track(entity);
        let first = self.first_use(machine, entity, moment)?;
        let rest = track.pos[first.checked_sub(1)?];
        let mut rows = self.within(("drawn", viewer), (moment, last)).filter(|row| is(row, "entity", entity));
        let row = rows.find(|row| row["tick"].as_f64().is_some_and(|t| t >= track.tick[first] as f64))?;
        let shown = track.pos[track.of_tick(row["tick"].as_f64()?.floor() as u64)?];
        ((shown - rest).dot(shown - rest) > 1e-3f32 * 1e-3).then(|| at(row))
    }
}
