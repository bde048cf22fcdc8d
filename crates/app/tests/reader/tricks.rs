//! What a rogue's tricks came to.

use std::sync::Arc;

use serde_json::Value;
use velocitas_core::walker::Walker;
use velocitas_core::{
    Body, Bounds, Ground, Input, Motion, Scene, Slide, Solid, SolidId, State, Surface, Tick, Vec3, Zone, checked_step,
    slide,
};

use super::{Figures, File, Track, at, is, number, point};

const SECOND: u64 = 1_000_000_000;

struct Trick {
    at: u64,
    lasts: u64,
    first: u64,
    last: u64,
    gains: Vec<(u64, f64)>,
    peak: f64,
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
        let (mut played, mut answered, mut idle, mut gain, mut peak) = (0, 0, 0, 0.0, 0.0f64);
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
            gain += trick.gains.iter().map(|(_, metres)| metres).sum::<f64>();
            peak = peak.max(trick.peak);
        }
        figures.insert("tricks".into(), Some(f64::from(played)));
        figures.insert("tricks_answered".into(), Some(f64::from(answered)));
        figures.insert("tricks_idle".into(), Some(f64::from(idle)));
        figures.insert("gain_m".into(), Some(gain));
        figures.insert("gain_peak_m".into(), Some(peak));
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
            Some(Trick { at: begin, lasts, first, last, gains: Vec::new(), peak: 0.0, caught: false })
        };
        begins.filter_map(trick).collect()
    }

    fn gains(&self, machine: &str, entity: &str, tricks: &mut [Trick]) {
        let motion = self.motion(entity);
        let mut ground = self.ground(0);
        let track = self.track(entity);
        let verdicts: Vec<&Value> = self.of("verdict", machine).filter(|row| is(row, "entity", entity)).collect();
        let mut verdicts = verdicts.into_iter().peekable();
        let accuse = |verdict: &Value, tricks: &mut [Trick]| {
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
                accuse(verdict, tricks);
            }
            if !self.all("ground").is_empty() {
                ground = self.ground(track.tick[i]);
            }
            let Some((tick, metres)) = self.gain(machine, entity, i, &ground, &*motion) else { continue };
            if let Some(trick) = tricks.iter_mut().rev().find(|trick| (trick.first..=trick.last).contains(&tick)) {
                trick.gains.push((tick, metres));
                trick.peak = trick.peak.max(trick.gains.iter().map(|(_, metres)| metres).sum());
            }
        }
        verdicts.for_each(|verdict| accuse(verdict, tricks));
    }

    /// How far beyond the lawful the server's state at a place of its track is, and for which of the owner's ticks.
    fn gain(&self, machine: &str, entity: &str, i: usize, ground: &Ground, motion: &dyn Motion) -> Option<(u64, f64)> {
        let track = self.track(entity);
        let before = i.checked_sub(1)?;
        let (from, tick) = (track.used[before]?, track.used[i]?);
        if tick <= from || track.teleported[i] {
            return None;
        }
        let rule = self.rule(entity);
        let dt = 1.0 / self.head["tick_rate"].as_f64().expect("a rate") as f32;
        let quantum = rule["state"][0]["wire_step"].as_f64().expect("a step");
        let claims = ["claims", "relay"].iter().any(|kind| self.machine(machine)["arrangement"] == *kind);
        let beyond = if claims {
            let seconds = dt * (tick - from) as f32;
            let most = |key: &str| real(&rule["limits"], key) * seconds;
            let body = &rule["body"];
            let body =
                Body { radius: real(body, "radius_m"), height: real(body, "height_m"), step: real(body, "step_m") };
            let most = (most("level_mps"), most("up_mps"), most("down_mps"));
            beyond_claim(ground, &body, track.pos[before], track.pos[i], most)
        } else {
            self.beyond_input(machine, entity, track, before, (ground, motion, dt))?
        };
        (beyond > quantum).then_some((tick, beyond))
    }

    fn beyond_input(
        &self,
        machine: &str,
        entity: &str,
        track: &Track,
        before: usize,
        (ground, motion, dt): (&Ground, &dyn Motion, f32),
    ) -> Option<f64> {
        let tick = track.tick[before + 1];
        let row = self.of("input", machine).find(|r| is(r, "entity", entity) && number(r, "tick") == Some(tick))?;
        if row["provenance"] != "fresh" || row["sampled"].is_null() {
            return None;
        }
        if self.all("pushed").iter().any(|p| is(p, "entity", entity) && number(p, "tick") == Some(tick)) {
            return None;
        }
        let rule = self.rule(entity);
        let mut input = Input::default();
        for field in rule["input"].as_array()? {
            let (name, lane) = (field["name"].as_str()?, number(field, "lane")? as usize);
            let is_press = field["shape"] == "press";
            let value = if is_press { &row["used"][name] } else { &row["sampled"][name] };
            match value {
                Value::Bool(down) => input.set_flag(lane, *down),
                Value::Array(all) => all.iter().enumerate().for_each(|(i, x)| {
                    input.set_real(lane + i, x.as_f64().expect("a number") as f32);
                }),
                Value::Number(n) if is_press => input.set_int(lane, n.as_u64()? as u32),
                Value::Number(n) => input.set_real(lane, n.as_f64()? as f32),
                _ => {}
            }
        }
        let state = self.state(rule, &self.all("authority")[track.rows[before]]);
        let tunables: Vec<f32> = rule["tunables"].as_array()?.iter().map(|t| real(t, "at_server")).collect();
        let scene = Scene { tick: Tick(tick), dt, ground, tunables: &tunables };
        let lawful = checked_step(motion, &scene, &state, &input).ok()?;
        Some(f64::from(lawful.state.vec3(0).distance(track.pos[before + 1])))
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
        !offends || !ticks.any(taken)
    }
}

fn beyond_claim(ground: &Ground, body: &Body, from: Vec3, to: Vec3, (level, up, down): (f32, f32, f32)) -> f64 {
    let mut travel = to - from;
    let along = travel.level().length();
    if along > level {
        let share = level / along;
        (travel.x, travel.y) = (travel.x * share, travel.y * share);
    }
    travel.z = travel.z.clamp(-down, up);
    let reached = |grounded| {
        let wanted = Slide { from, travel, velocity: Vec3::ZERO, grounded };
        f64::from(slide(ground, body, wanted).position.distance(to))
    };
    reached(true).min(reached(false))
}
