//! What a rogue's tricks came to.

use std::sync::Arc;

use serde_json::Value;
use velocitas_core::walker::Walker;
use velocitas_core::{
    Body, Bounds, Carry, Footing, Going, Ground, Input, Motion, Scene, Slide, Solid, SolidId, State, Surface, Tick,
    Vec3, Zone, checked_step, slide, touching, vec3,
};

use super::{Figures, File, at, is, number, point};

const SECOND: u64 = 1_000_000_000;

struct Trick {
    at: u64,
    lasts: u64,
    first: u64,
    last: u64,
    gains: Vec<(u64, [f64; 2])>,
    peak: [f64; 2],
    caught: bool,
}

fn real(value: &Value, key: &str) -> f32 {
    value[key].as_f64().unwrap_or_else(|| panic!("{key} in {value}")) as f32
}

fn pair(value: &Value) -> (f32, f32) {
    (value[0].as_f64().expect("a number") as f32, value[1].as_f64().expect("a number") as f32)
}

impl File {
    /// The ground as the server knows it at a tick.
    fn ground(&self, tick: u64) -> Ground {
        let ground = &self.head["ground"];
        let is_there = |solid: &&Value| {
            let rows = self.all("ground").iter().rev().filter(|row| row["solid"] == solid["id"]);
            let mut rows = rows.filter(|row| row["reach"] == "all" || row["reach"] == self.server());
            let newest = rows.find(|row| number(row, "tick").is_some_and(|from| from <= tick));
            newest.map_or(solid["known_to"] == "all" || solid["known_to"] == "server", |row| row["there"] == true)
        };
        let known = ground["solids"].as_array().expect("a list").iter().filter(is_there);
        let solids = known.map(|s| Solid {
            id: SolidId(number(s, "id").expect("a number") as u16),
            x: real(s, "x_m"),
            y: real(s, "y_m"),
            half_x: real(s, "half_x_m"),
            half_y: real(s, "half_y_m"),
            yaw: real(s, "yaw_rad"),
            low: real(s, "low_m"),
            high: real(s, "high_m"),
        });
        let zones = ground["zones"].as_array().expect("a list").iter().map(|z| Zone {
            min: pair(&z["min_m"]),
            max: pair(&z["max_m"]),
            surface: Surface { grip: real(z, "grip"), pace: real(z, "pace") },
        });
        let bounds =
            Bounds { min: pair(&ground["min_m"]), max: pair(&ground["max_m"]), floor: real(ground, "floor_m") };
        Ground::new(bounds, solids.collect(), zones.collect())
    }

    /// The rule itself: the built-in one, or the gait of that name.
    fn motion(&self, entity: &str) -> Arc<dyn Motion> {
        let name = self.rule(entity)["name"].as_str().expect("a name");
        let gaits = self.head["gaits"].as_array().expect("a list").iter();
        let gaits = gaits.filter_map(|g| velocitas_gait::compile(g["text"].as_str()?).gait);
        gaits
            .into_iter()
            .find(|gait| gait.name() == name)
            .map_or_else(|| Arc::new(Walker::new()) as Arc<dyn Motion>, |gait| Arc::new(gait) as Arc<dyn Motion>)
    }

    pub(super) fn tricks(&self, machine: &str, figures: &mut Figures) {
        let mut tricks = self.begun(machine);
        let entities: Vec<&str> =
            self.cast().iter().filter(|a| a["came_with"] == machine).filter_map(|a| a["name"].as_str()).collect();
        for entity in entities {
            self.gains(machine, entity, &mut tricks);
        }
        let (mut played, mut answered, mut idle, mut gain, mut peak) = (0, 0, 0, [0.0; 2], [0.0f64; 2]);
        for trick in &tricks {
            let over = trick.at + trick.lasts + 3 * SECOND <= self.ends();
            played += u32::from(over || trick.caught);
            answered += u32::from(trick.caught);
            idle += u32::from(over && !trick.caught && self.is_idle(machine, trick));
        }
        // Those that are over are counted in the order in which they came to be so.
        let mut order: Vec<&Trick> = tricks.iter().collect();
        order.sort_by_key(|trick| (trick.at + trick.lasts + 3 * SECOND > self.ends(), self.closes(trick)));
        for trick in order {
            for k in 0..2 {
                gain[k] += trick.gains.iter().map(|(_, metres)| metres[k]).sum::<f64>();
                peak[k] = peak[k].max(trick.peak[k]);
            }
        }
        figures.insert("tricks".into(), Some(f64::from(played)));
        figures.insert("tricks_answered".into(), Some(f64::from(answered)));
        figures.insert("tricks_idle".into(), Some(f64::from(idle)));
        figures.insert("gain_m".into(), Some(gain[0]));
        figures.insert("gain_peak_m".into(), Some(peak[0]));
        figures.insert("gain_pressed_m".into(), Some(gain[1]));
        figures.insert("gain_pressed_peak_m".into(), Some(peak[1]));
    }

    fn closes(&self, trick: &Trick) -> u64 {
        (trick.at + trick.lasts + 3 * SECOND).div_ceil(SECOND)
    }

    /// Tricks that were begun, with their ticks.
    fn begun(&self, machine: &str) -> Vec<Trick> {
        let rows: Vec<&Value> = self.of("trick", machine).collect();
        let begins = rows.iter().filter(|row| row["begins"] == true && !row["tick"].is_null());
        let trick = |row: &&Value| {
            let (begin, lasts, after) = (at(row), number(row, "lasts_ns")?, number(row, "tick")?);
            let ended = |end: &&&Value| end["begins"] == false && at(end) == begin + lasts;
            let until = rows.iter().find(ended).and_then(|end| number(end, "tick")).unwrap_or(u64::MAX);
            let sampled = self.of("input", machine).filter(|row| !row["sampled_ns"].is_null());
            let mut ticks: Vec<u64> =
                sampled.filter_map(|row| number(row, "tick")).filter(|t| *t > after && *t <= until).collect();
            ticks.sort_unstable();
            if lasts == 0 {
                ticks.truncate(1);
            }
            let (first, last) = (ticks.first().copied().unwrap_or(u64::MAX), ticks.last().copied().unwrap_or(0));
            Some(Trick { at: begin, lasts, first, last, gains: Vec::new(), peak: [0.0; 2], caught: false })
        };
        begins.filter_map(trick).collect()
    }

    fn gains(&self, machine: &str, entity: &str, tricks: &mut [Trick]) {
        let motion = self.motion(entity);
        let mut ground = self.ground(0);
        let track = self.track(entity);
        let mut answers: Vec<&Value> = self.of("verdict", machine).filter(|row| is(row, "entity", entity)).collect();
        // What was put back without a verdict.
        let resyncs: Vec<&Value> = self.of("resync", machine).collect();
        let put_back = |row: &&Value| resyncs.iter().any(|r| at(r) == at(row) && r["tick"] == row["tick"]);
        answers.extend(self.of("pulled_back", machine).filter(|row| is(row, "entity", entity)).filter(put_back));
        answers.sort_by_key(|row| at(row));
        let mut verdicts = answers.into_iter().peekable();
        let mut books = Books::default();
        let accuse = |i: usize, verdict: &Value, tricks: &mut [Trick]| {
            if !verdict["to"].is_null() {
                let to = point(&verdict["to"]);
                let earlier = (i.saturating_sub(1024)..i).rev().find(|i| track.pos[*i] == to);
                if let Some(tick) = earlier.and_then(|i| track.used[i]) {
                    tricks.iter_mut().for_each(|trick| trick.gains.retain(|(of, _)| *of <= tick));
                }
                return;
            }
            let (from, to) =
                (number(verdict, "from_tick").expect("a tick"), number(verdict, "to_tick").expect("a tick"));
            for trick in tricks {
                trick.caught |= to >= trick.first && from <= trick.last;
                if verdict["answer"] == "pulledback" {
                    trick.gains.retain(|(tick, _)| *tick <= from);
                }
            }
        };
        for i in 0..track.at.len() {
            while let Some(verdict) = verdicts.next_if(|row| at(row) <= track.at[i]) {
                accuse(i, verdict, tricks);
            }
            if !self.all("ground").is_empty() {
                ground = self.ground(track.tick[i]);
            }
            let found = self.gain((machine, entity), i, (&ground, &*motion), &mut books, tricks);
            let Some((tick, metres)) = found else { continue };
            if let Some(trick) = tricks.iter_mut().rev().find(|trick| (trick.first..=trick.last).contains(&tick)) {
                trick.gains.push((tick, metres));
                for k in 0..2 {
                    trick.peak[k] = trick.peak[k].max(trick.gains.iter().map(|(_, metres)| metres[k]).sum());
                }
            }
        }
        verdicts.for_each(|verdict| accuse(track.at.len(), verdict, tricks));
    }

    /// How far beyond what is allowed, and beyond what was pressed, the server's state at a place of its track is, and for which of the
    /// owner's ticks, where that is one of a trick.
    fn gain(
        &self,
        (machine, entity): (&str, &str),
        i: usize,
        (ground, motion): (&Ground, &dyn Motion),
        books: &mut Books,
        tricks: &[Trick],
    ) -> Option<(u64, [f64; 2])> {
        let track = self.track(entity);
        let before = i.checked_sub(1)?;
        let says_where = self.says_where(machine);
        let of = |i: usize| if says_where { track.used[i] } else { Some(track.tick[i]) };
        let hz = self.head["tick_rate"].as_u64().expect("a rate");
        let asked = |tick: u64| tricks.iter().any(|trick| (trick.first..=trick.last).contains(&tick));
        let is_known = |&(from, tick): &(u64, u64)| asked(tick) && tick > from && tick - from <= hz;
        let ticks = of(before).zip(of(i)).filter(is_known).filter(|_| !track.teleported[i]);
        let pushed =
            |tick| self.all("pushed").iter().any(|p| is(p, "entity", entity) && number(p, "tick") == Some(tick));
        let Some((from, tick)) = ticks.filter(|(_, tick)| !pushed(*tick)) else {
            *books = Books::default();
            return None;
        };
        if books.tick != Some(from) {
            *books = Books::default();
        }
        books.tick = Some(tick);
        let rule = self.rule(entity);
        let quantum = rule["state"][0]["wire_step"].as_f64().expect("a step");
        let tunables: Vec<f32> = rule["tunables"].as_array()?.iter().map(|t| real(t, "at_server")).collect();
        let scene = Scene { tick: Tick(tick), dt: 1.0 / hz as f32, ground, tunables: &tunables };
        let states = [before, i].map(|i| self.state(rule, &self.all("authority")[track.rows[i]]));
        let ways = (states[0].vec3(0), states[1].vec3(0));
        let allowed =
            if says_where { books.beyond_allowed((motion, &scene), &states, (tick - from, hz), quantum) } else { 0.0 };
        // A double, where it was accepted to be, as the hands would have made it.
        let mut double =
            books.double.take().unwrap_or(Double { state: states[0], above: 0.0, stretch: (0, Vec3::ZERO, 0.0, 0.0) });
        let own = Vec3 { z: double.state.vec3(0).z, ..ways.0 };
        let fits = ground.overlap(&motion.body(), own).is_none();
        double.state.set_vec3(0, if fits { own } else { ways.0 });
        double.above = if fits { double.above } else { 0.0 };
        let mut all = !is_inside(ground, motion, ways.0, quantum);
        for tick in from + 1..=tick {
            let Some(input) = self.pressed(machine, entity, tick) else {
                all = false;
                break;
            };
            let step =
                checked_step(motion, &Scene { tick: Tick(tick), ..scene }, &double.state, &input).expect("a number");
            double.state = step.state;
        }
        let mut pressed = 0.0;
        if all {
            pressed = double.further(ways, (tick - from, hz), 2.0 * quantum);
            books.double = Some(double);
        }
        (allowed > 0.0 || pressed > 0.0).then_some((tick, [allowed, pressed]))
    }

    fn says_where(&self, machine: &str) -> bool {
        ["claims", "relay", "claims with inputs"].iter().any(|kind| self.machine(machine)["arrangement"] == *kind)
    }

    /// What a step reads of what hands gave in a tick.
    fn pressed(&self, machine: &str, entity: &str, tick: u64) -> Option<Input> {
        let row = |tick| self.of("input", machine).find(|r| is(r, "entity", entity) && number(r, "tick") == Some(tick));
        let now = row(tick)?;
        let given = |row: &Value, presses: &Value, others: &Value| {
            let mut input = Input::default();
            for field in self.rule(entity)["input"].as_array().filter(|_| !row.is_null()).into_iter().flatten() {
                let (name, lane) =
                    (field["name"].as_str().expect("a name"), number(field, "lane").expect("a lane") as usize);
                let is_press = field["shape"] == "press";
                match if is_press { &presses[name] } else { &others[name] } {
                    Value::Bool(down) => input.set_flag(lane, *down),
                    Value::Array(all) => all.iter().enumerate().for_each(|(i, x)| {
                        input.set_real(lane + i, x.as_f64().expect("a number") as f32);
                    }),
                    Value::Number(n) if is_press => input.set_int(lane, n.as_u64().expect("a count") as u32),
                    Value::Number(n) => input.set_real(lane, n.as_f64().expect("a number") as f32),
                    _ => {}
                }
            }
            input
        };
        let sampled = |row: &Value| given(row, &row["sampled"], &row["sampled"]);
        if self.says_where(machine) {
            if now["sampled"].is_null() {
                return None;
            }
            let before = row(tick.checked_sub(1)?).filter(|row| !row["sampled"].is_null()).unwrap_or(now);
            return Some(self.motion(entity).schema().presses_since(&sampled(now), &sampled(before)));
        }
        match (now["provenance"].as_str()?, now["used"].is_null(), now["sampled"].is_null()) {
            (_, true, _) | ("fresh", _, true) => None,
            ("fresh", ..) => Some(given(now, &now["used"], &now["sampled"])),
            _ => Some(given(now, &now["used"], &now["used"])),
        }
    }

    /// A state from its fields.
    fn state(&self, rule: &Value, row: &Value) -> State {
        let mut state = State::default();
        for field in rule["state"].as_array().expect("a list") {
            let lane = number(field, "lane").expect("a lane") as usize;
            let value = &row[field["name"].as_str().expect("a name")];
            match (value, field["shape"].as_str()) {
                (Value::Array(_), _) => state.set_vec3(lane, point(value)),
                (Value::Bool(on), _) => state.set_flag(lane, *on),
                (_, Some("counter")) => state.set_int(lane, value.as_u64().expect("a count") as u32),
                _ => state.set_real(lane, value.as_f64().expect("a number") as f32),
            }
        }
        state
    }

    fn is_idle(&self, machine: &str, trick: &Trick) -> bool {
        let has = |row: &Value| number(row, "tick").is_some_and(|t| (trick.first..=trick.last).contains(&t));
        let offends = self.of("offence", machine).any(has);
        let taken = |row: &Value| !row["arrived_ns"].is_null() && row["outdated_ns"].is_null();
        let mut ticks = self.of("input", machine).filter(|row| has(row) && !row["sampled_ns"].is_null());
        (!offends || !ticks.any(taken)) && trick.peak[0] <= 0.0
    }
}

/// What is remembered of an entity from state to state.
#[derive(Default)]
struct Books {
    tick: Option<u64>,
    carry: Carry,
    footing: Footing,
    stretch: Stretch,
    double: Option<Double>,
}

struct Double {
    state: State,
    above: f64,
    stretch: Stretch,
}

/// Its ticks, its way, what was lawful; and what was too far before it.
type Stretch = (u64, Vec3, f64, f64);

/// Adds a step to a stretch of an eighth of a second: what is too far by its end, once that is more than rounding.
fn stretched(stretch: &mut Stretch, went: Vec3, lawful: f64, (ticks, hz): (u64, u64), least: f64) -> f64 {
    *stretch = (stretch.0 + ticks, stretch.1 + went, stretch.2 + lawful, stretch.3);
    if stretch.0 < (hz / 8).max(1) {
        return 0.0;
    }
    let left = (stretch.3 + f64::from(stretch.1.length()) - stretch.2).max(0.0);
    let counts = left > least;
    *stretch = (0, Vec3::ZERO, 0.0, if counts { 0.0 } else { left });
    if counts { left } else { 0.0 }
}

impl Books {
    fn beyond_allowed(
        &mut self,
        (motion, scene): (&dyn Motion, &Scene<'_>),
        [before, after]: &[State; 2],
        (ticks, hz): (u64, u64),
        quantum: f64,
    ) -> f64 {
        let (start, end) = (before.vec3(0), after.vec3(0));
        let step = vec3(quantum as f32, quantum as f32, quantum as f32);
        let underfoot = scene.ground.underfoot(start - step, start + step);
        let underfoot = &self.footing.of(scene.ground, motion, (start, false), underfoot);
        let most = motion.limits(scene.tunables);
        let in_state = |state: &State| motion.limits_in(&most, scene.tunables, (state, 0.0), underfoot);
        let mut limits = in_state(before).or(&in_state(after));
        let (way, told) = ((start, end), Some(after));
        self.carry.widen(&Going { scene, motion, before, told, way, ticks, changed: false, underfoot }, &mut limits);
        let seconds = scene.dt * ticks as f32;
        let most = (limits.level * seconds, limits.up * seconds, limits.down * seconds);
        let beyond = if is_inside(scene.ground, motion, start, quantum) {
            beyond_limits(start, end, most).1
        } else {
            beyond_claim(scene.ground, &motion.body(), start, end, most)
        };
        if beyond > quantum {
            return beyond;
        }
        stretched(&mut self.stretch, (end - start).level(), f64::from(most.0), (ticks, hz), 2.0 * quantum)
    }
}

impl Double {
    fn further(&mut self, (from, to): (Vec3, Vec3), ticks: (u64, u64), least: f64) -> f64 {
        let (went, own) = ((to - from).level(), f64::from((self.state.vec3(0) - from).level().length()));
        let further = f64::from(went.length()) - own;
        let mut gained = if further > least { further } else { stretched(&mut self.stretch, went, own, ticks, least) };
        let height = f64::from(to.z - self.state.vec3(0).z);
        if height > self.above + least {
            gained += height - self.above;
            self.above = height;
        }
        self.above = self.above.min(height);
        gained
    }
}

fn is_inside(ground: &Ground, motion: &dyn Motion, at: Vec3, quantum: f64) -> bool {
    let (near, body) = (touching(quantum as f32), motion.body());
    let thin = Body { radius: (body.radius - near).max(near), height: (body.height - 2.0 * near).max(near), step: 0.0 };
    ground.overlap(&thin, at + vec3(0.0, 0.0, near)).is_some()
}

/// The way that limits leave of another, and how far that is from its end.
fn beyond_limits(from: Vec3, to: Vec3, (level, up, down): (f32, f32, f32)) -> (Vec3, f64) {
    let mut travel = to - from;
    let along = travel.level().length();
    if along > level {
        let share = level / along;
        (travel.x, travel.y) = (travel.x * share, travel.y * share);
    }
    travel.z = travel.z.clamp(-down, up);
    (travel, f64::from((from + travel).distance(to)))
}

fn beyond_claim(ground: &Ground, body: &Body, from: Vec3, to: Vec3, most: (f32, f32, f32)) -> f64 {
    let (travel, _) = beyond_limits(from, to, most);
    let reached = |grounded| {
        let wanted = Slide { from, travel, velocity: Vec3::ZERO, grounded };
        f64::from(slide(ground, body, wanted).position.distance(to))
    };
    reached(true).min(reached(false))
}
