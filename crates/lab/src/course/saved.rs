//! A course that was saved while it runs: what of it can be taken over, and what needs a new beginning.
//!
//! What can be taken over makes a new course in force and goes into the lab as a command, by number, as a rule does that was read again:
//! so going back and on gives the same run.

use std::collections::BTreeSet;

use toml::{Table, Value};
use velocitas_record::Conditions;

use super::{Course, Happens, Member, What};

/// Keys of a course that can be taken over while it runs.
const LIVE: [&str; 7] = ["name", "snapshot_every", "defaults", "link", "event", "budget", "check"];
/// Keys of one of the cast that can.
const LIVE_CAST: [&str; 2] = ["link", "settings"];

/// What came of a saved course.
#[derive(Clone, Debug)]
pub struct Saved {
    /// The course in force from now on: the one that runs, with what could be taken over. `None` where nothing can be.
    pub course: Option<Course>,
    /// What was taken over, by its keys.
    pub taken: Vec<String>,
    /// What holds from a new beginning on only, by its keys.
    pub restart: Vec<String>,
}

impl Course {
    /// Takes over what can be of a course that was saved; this one runs, `began` is the one that the run began with.
    pub fn take_over(&self, saved: &Self, began: &Self) -> Saved {
        let changes = |from: &Self| changes(&from.text, &saved.text);
        let mut restart = changes(began).restart;
        let names = |course: &Self| course.cast.iter().map(|member| member.name.clone()).collect::<Vec<_>>();
        let things = |course: &Self| course.things.iter().map(|thing| thing.name.clone()).collect::<Vec<_>>();
        let rules = |course: &Self| course.kinds.iter().map(|(_, rule)| rule.name()).collect::<Vec<_>>();
        if names(self) != names(saved) || things(self) != things(saved) || rules(self) != rules(saved) {
            // Events and budgets speak of others than those who are there.
            return Saved { course: None, taken: Vec::new(), restart };
        }
        let Some(events) = saved.events.iter().map(|event| self.event_here(saved, event)).collect() else {
            restart.push("event (it speaks of a tunable or a solid that is not there)".to_owned());
            return Saved { course: None, taken: Vec::new(), restart };
        };
        let mut cast = self.cast.clone();
        for (member, of) in cast.iter_mut().zip(&saved.cast) {
            member.knobs = of.knobs;
            let old = self.traces_of(member);
            if old != saved.traces_of(of) {
                restart.push(format!("{}: the trace of its link", member.name));
            }
        }
        for (member, before) in cast.iter_mut().zip(&self.cast) {
            (member.knobs.up.trace, member.knobs.down.trace) = (before.knobs.up.trace, before.knobs.down.trace);
        }
        let (name, limits, check) = (saved.name.clone(), saved.limits.clone(), saved.check);
        let accused = saved.accused.clone();
        let (warnings, text, files) = (saved.warnings.clone(), saved.text.clone(), saved.files.clone());
        let course = Self { name, limits, accused, check, warnings, text, files, events, cast, ..self.clone() };
        Saved { course: Some(course), taken: changes(self).taken, restart }
    }

    /// What this course says otherwise than another, by its keys, and which gaits of the same path differ.
    pub fn differs_from(&self, other: &Self) -> Vec<String> {
        let Changes { mut taken, restart } = changes(&other.text, &self.text);
        taken.extend(restart);
        if self.seed != other.seed && !taken.iter().any(|key| key == "seed") {
            taken.push("seed".to_owned());
        }
        for gait in &self.gaits {
            let same = other.gaits.iter().find(|of| of.path == gait.path);
            if same.is_some_and(|of| of.text != gait.text) {
                taken.push(gait.path.clone());
            }
        }
        taken
    }

    /// The names of the traces that a member's link follows, up and down.
    fn traces_of(&self, member: &Member) -> [Option<&str>; 2] {
        let name = |way: &Conditions| way.trace.map(|number| self.traces[usize::from(number.0)].name.as_str());
        [name(&member.knobs.up), name(&member.knobs.down)]
    }

    /// An event of a saved course as this one knows tunables; `None` if it does not.
    fn event_here(&self, saved: &Self, event: &Happens) -> Option<Happens> {
        if let What::Ground(solid, known_to) = event.what {
            let name = &saved.world.solids[usize::from(solid.0)].name;
            let here = self.world.solids.iter().find(|solid| solid.name == *name)?;
            return Some(Happens { what: What::Ground(here.solid.id, known_to), ..event.clone() });
        }
        let What::Tune(overrides) = &event.what else { return Some(event.clone()) };
        let mut here = overrides.clone();
        for o in &mut here {
            let name = saved.kinds.motion(o.kind).tunables()[o.tunable].name;
            o.tunable = self.kinds.motion(o.kind).tunables().iter().position(|t| t.name == name)?;
        }
        Some(Happens { what: What::Tune(here), ..event.clone() })
    }
}

/// Keys that differ between two texts, each a course.
#[derive(Default)]
struct Changes {
    taken: Vec<String>,
    restart: Vec<String>,
}

fn changes(before: &str, after: &str) -> Changes {
    let read = |text: &str| toml::from_str::<Table>(text).unwrap_or_default();
    let (before, after) = (read(before), read(after));
    let mut changes = Changes::default();
    for key in differing(&before, &after) {
        match (key, before.get(key).and_then(Value::as_array), after.get(key).and_then(Value::as_array)) {
            ("cast", Some(before), Some(after)) => cast(before, after, &mut changes),
            (key, ..) if LIVE.contains(&key) => changes.taken.push(key.to_owned()),
            (key, ..) => changes.restart.push(key.to_owned()),
        }
    }
    changes
}

fn cast(before: &[Value], after: &[Value], changes: &mut Changes) {
    let name = |member: &Value| member.get("name").and_then(Value::as_str).unwrap_or("").to_owned();
    if before.iter().map(name).ne(after.iter().map(name)) {
        return changes.restart.push("cast (others take part)".to_owned());
    }
    for (before, after) in before.iter().zip(after) {
        let (Some(old), Some(new)) = (before.as_table(), after.as_table()) else { continue };
        for key in differing(old, new) {
            let list = if LIVE_CAST.contains(&key) { &mut changes.taken } else { &mut changes.restart };
            list.push(format!("{}: {key}", name(after)));
        }
    }
}

fn differing<'a>(before: &'a Table, after: &'a Table) -> Vec<&'a str> {
    let keys: BTreeSet<&str> = before.keys().chain(after.keys()).map(String::as_str).collect();
    keys.into_iter().filter(|key| before.get(*key) != after.get(*key)).collect()
}
