//! What may cure a trouble: one change each, that is done to a branch.

use std::sync::Arc;

use velocitas_analysis::cause::shown;
use velocitas_core::{Fact, Motion};
use velocitas_record::command::{Calm, Command};
use velocitas_record::host::HostSpec;
use velocitas_record::ids::{MachineId, MemberId, Part, RecordTick};
use velocitas_record::knob::KnobValue;
use velocitas_record::known::{Known, Reach};
use velocitas_record::record::Record;
use velocitas_record::settings::SETTINGS;
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use crate::course::What;
use crate::reread::ReadRule;
use crate::run::Run;

/// How far a remedy reaches: of two that do the same the nearer one is named first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reaches {
    /// What both sides should have alike is made alike.
    Mistake,
    /// A setting of a program.
    Setting,
    /// Something that the course changes on the way.
    Event,
    /// A quality of the link, which nobody has in hand.
    Link,
    /// Something that simply no longer happens.
    World,
}

/// One change that may cure a trouble.
#[derive(Clone, Debug)]
pub struct Remedy {
    /// What is done, in words.
    pub words: String,
    /// How far it reaches.
    pub reaches: Reaches,
    /// What is commanded.
    pub commands: Vec<Command>,
    /// A rule that is read first, for one machine.
    pub rule: Option<(u8, ReadRule, Reach)>,
}

impl PartialEq for Remedy {
    fn eq(&self, other: &Self) -> bool {
        self.words == other.words
    }
}

impl Remedy {
    fn of(reaches: Reaches, words: String, commands: impl IntoIterator<Item = Command>) -> Self {
        Self { words, reaches, commands: commands.into_iter().collect(), rule: None }
    }

    /// Both at once.
    pub(super) fn and(&self, other: &Self) -> Self {
        Self {
            words: format!("{} and {}", self.words, other.words),
            reaches: self.reaches.max(other.reaches),
            commands: self.commands.iter().chain(&other.commands).copied().collect(),
            rule: self.rule.clone().or_else(|| other.rule.clone()),
        }
    }

    /// Does it to a run, now.
    pub fn apply(&self, run: &mut Run) {
        if let Some((kind, rule, reach)) = &self.rule {
            // Whoever made it saw that it may take the place of the one in force.
            let _ = run.reload_text(*kind, rule.clone(), *reach);
        }
        self.commands.iter().for_each(|command| run.command(*command));
    }
}

/// Everything to be tried for a member from a moment on, as the lab is there; `record` is that of the whole stretch.
pub(super) fn remedies(at: &Run, record: &Record, machine: MachineId, (from, to): (LabTime, LabTime)) -> Vec<Remedy> {
    let Some(member) = at.course().player(machine) else { return Vec::new() };
    let mut all = Vec::new();
    let ticks = ticks(record, (from, to));
    let ticks = changes(record, ticks);
    all.extend(solids(record, machine, &ticks));
    all.extend(rules(at, record, machine, &ticks));
    all.extend(knobs(at, member));
    all.extend(calm(at, record, (machine, member), (from, to)));
    all
}

/// The server's first and last tick of a stretch.
fn ticks(record: &Record, (from, to): (LabTime, LabTime)) -> (RecordTick, RecordTick) {
    let of = |at| {
        let tick = |actor| {
            let track = record.authority(actor);
            track.at(at).and_then(|i| track.head(i)).map(|head| head.tick)
        };
        record.cast.actors().filter_map(tick).max().unwrap_or_default()
    };
    (of(from), of(to))
}

/// The first tick of a stretch, and each in it from which on some machine knows something else.
fn changes(record: &Record, (first, last): (RecordTick, RecordTick)) -> Vec<RecordTick> {
    let changes = record.changes.iter().map(|change| change.tick).filter(|tick| *tick > first && *tick <= last);
    std::iter::once(first).chain(changes).collect()
}

/// What one side alone knows, made known to all: what it knows by now, and what events tell it later.
fn solids(record: &Record, machine: MachineId, ticks: &[RecordTick]) -> Vec<Remedy> {
    let one_sided = |solid, tick| {
        record.knows(machine, Part::Client, solid, tick) != record.knows(MachineId::SERVER, Part::Server, solid, tick)
    };
    let solids = record.cast.world.solids.iter();
    let solids = solids.filter(|named| ticks.iter().any(|tick| one_sided(named.solid.id, *tick)));
    let known = |named: &crate::course::NamedSolid| {
        let solid = named.solid.id;
        let now = one_sided(solid, ticks[0]).then_some(Command::Solid { solid, there: true, reach: Reach::All });
        let commands = now.into_iter().chain([Command::Calm(Calm::Solid(solid))]);
        Remedy::of(Reaches::Mistake, format!("{} known to all", named.name), commands)
    };
    solids.map(known).collect()
}

/// Rules and tunables that differ, made as the server has them. What an event lets differ later, all are told of.
fn rules(at: &Run, record: &Record, machine: MachineId, ticks: &[RecordTick]) -> Vec<Remedy> {
    let known = |tick: &RecordTick| {
        (record.known(machine, Part::Client, *tick), record.known(MachineId::SERVER, Part::Server, *tick))
    };
    let mut all: Vec<Remedy> = Vec::new();
    for (i, (here, there)) in ticks.iter().map(known).enumerate() {
        for remedy in differing(at, record, machine, (&here, &there), i == 0) {
            if !all.contains(&remedy) {
                all.push(remedy);
            }
        }
    }
    all
}

/// What of rules and tunables differs in a tick, `now` or later.
fn differing(at: &Run, record: &Record, machine: MachineId, (here, there): (&Known, &Known), now: bool) -> Vec<Remedy> {
    let who = record.cast.name(machine);
    let mut all = Vec::new();
    for (kind, rule) in there.kinds.iter() {
        let place = usize::from(kind);
        if here.versions[place] != there.versions[place] {
            let words = format!("the server's {} on {who}", rule.name());
            let text = at.rule_text(kind, there.versions[place]);
            let read = |rule: &Arc<dyn Motion>| ReadRule { rule: rule.clone(), text };
            let rule = there.kinds.shared(kind).map(|rule| (kind, read(rule), Reach::One(machine)));
            all.push(Remedy { words, reaches: Reaches::Mistake, commands: Vec::new(), rule });
            continue;
        }
        for (i, spec) in rule.tunables().iter().enumerate() {
            let value = there.tunables[place][i];
            if here.tunables[place][i] != value {
                let unit = if spec.unit == "1" { String::new() } else { format!(" {}", spec.unit) };
                let words = match now {
                    true => format!("{} at {value}{unit} on {who}", spec.name),
                    false => format!("{} turned on all alike", spec.name),
                };
                let tune = now.then_some(Command::Tune { kind, tunable: spec.name, value, reach: Reach::One(machine) });
                let held = Command::Calm(Calm::Tunable { kind, tunable: spec.name });
                all.push(Remedy::of(Reaches::Mistake, words, tune.into_iter().chain([held])));
            }
        }
    }
    all
}

/// Every knob at its sound value, or a notch towards it.
fn knobs(at: &Run, member: MemberId) -> Vec<Remedy> {
    let knobs = at.lab().knobs(member);
    let name = &at.course()[member].name;
    let cure = |(spec, value): (&velocitas_record::settings::KnobSpec, KnobValue)| {
        let now = spec.knob.get(knobs);
        let is_link = matches!(spec.accessor, velocitas_record::knob::Accessor::Link { .. });
        let reaches = if is_link { Reaches::Link } else { Reaches::Setting };
        let (now, then) = (shown(spec.knob, now), shown(spec.knob, value));
        let words = format!("{name}: {} {then} instead of {now}", spec.name);
        // No event turns it back.
        let held = is_link.then_some(Command::Calm(Calm::Link(member, Some(spec.knob))));
        let set = Command::Set { member, knob: spec.knob, value };
        Remedy::of(reaches, words, std::iter::once(set).chain(held))
    };
    SETTINGS
        .iter()
        .flat_map(|spec| spec.knob.cures(knobs).into_iter().map(move |value| (spec, value)))
        .map(cure)
        .collect()
}

/// What no longer goes wrong by itself.
fn calm(
    at: &Run,
    record: &Record,
    (machine, member): (MachineId, MemberId),
    (from, to): (LabTime, LabTime),
) -> Vec<Remedy> {
    let mut all = Vec::new();
    let name = record.cast.name(machine);
    // Who comes is given its own as well.
    let events = at.course().events.iter().any(|event| matches!(event.what, What::Own(..)));
    let owners = |row: &velocitas_record::watch::HappeningRow| matches!(row.what, Happening::Fact(Fact::Owns { .. }));
    if events && record.of(machine).happenings.span(from, to).any(owners) {
        let calm = [Command::Calm(Calm::Hands)];
        all.push(Remedy::of(Reaches::Event, "nothing changes hands".to_owned(), calm));
    }
    let turned = |row: &velocitas_record::watch::HappeningRow| matches!(row.what, Happening::Link { .. });
    if record.of(machine).happenings.span(from, to).any(turned) {
        let calm = [Command::Calm(Calm::Link(member, None))];
        all.push(Remedy::of(Reaches::Event, format!("no change of the link of {name}"), calm));
    }
    let mut push = |words: String, calm| all.push(Remedy::of(Reaches::World, words, [Command::Calm(calm)]));
    push(format!("a perfect link up from {name}"), Calm::Up(member));
    push(format!("a perfect link down to {name}"), Calm::Down(member));
    let hitches = |host: &HostSpec| host.hitches_per_minute > 0.0;
    let froze = |machine: MachineId| {
        let stood = |row: &velocitas_record::watch::HappeningRow| {
            matches!(row.what, Happening::Frozen(_) | Happening::Fact(Fact::Dropped { .. }))
        };
        hitches(&record.cast.machines[machine.index()].host) || record.of(machine).happenings.span(from, to).any(stood)
    };
    if froze(machine) {
        push(format!("no hitches of {name}"), Calm::Frames(Some(member)));
    }
    if machine != MachineId::SERVER && froze(MachineId::SERVER) {
        push("no hitches of the server".to_owned(), Calm::Frames(None));
    }
    let pushed = |row: &velocitas_record::watch::HappeningRow| {
        matches!(row.what, Happening::Pushed(..) | Happening::Teleported(..))
    };
    if record.of(machine).happenings.span(from, to).any(pushed) {
        push("no pushes".to_owned(), Calm::Pushes);
    }
    all
}
