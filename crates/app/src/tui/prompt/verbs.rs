//! The table of what can be typed, besides every setting by its key.

use std::path::Path;

use velocitas_analysis::cause::shown;
use velocitas_core::{RULES, Vec3, vec3};
use velocitas_gait::{Dimension, read_quantity};
use velocitas_lab::{ALLOWED, nearest};
use velocitas_record::{Coming, Command, KnobSpec, KnobValue, LabTime, MemberId, Part, Reach, SETTINGS, Sudden};

use crate::times;
use crate::tui::action::Action;
use crate::tui::stage::{Stage, Wish};

/// What came of a line: something that only the program around the stage can do, or why not.
type Done = Result<Option<Wish>, String>;

/// A row of the table.
struct Verb {
    name: &'static str,
    /// What may follow it.
    takes: &'static str,
    help: &'static str,
    run: fn(&mut Stage, &str) -> Done,
}

/// The table, in the order in which it is offered.
const VERBS: [Verb; 30] = [
    Verb { name: "go", takes: "0:12.5 | tick 510 | live | beginning", help: "looks at a moment", run: go },
    Verb { name: "look", takes: "NAME", help: "looks at a member", run: look },
    Verb { name: "screen", takes: "NAME", help: "on the screen of a member", run: screen },
    Verb {
        name: "push",
        takes: "[NAME] east 5 m/s north 2 m/s up 1 m/s",
        help: "pushes, at the server only",
        run: push,
    },
    Verb { name: "teleport", takes: "[NAME] EAST NORTH [HEIGHT]", help: "puts elsewhere, in metres", run: teleport },
    Verb { name: "freeze", takes: "[NAME] 2 s", help: "has a machine stand still", run: freeze },
    Verb { name: "crash", takes: "[NAME]", help: "its program ends", run: |s, rest| comes(s, rest, Coming::Crash) },
    Verb { name: "leave", takes: "[NAME]", help: "it says goodbye", run: |s, rest| comes(s, rest, Coming::Leave) },
    Verb { name: "return", takes: "[NAME]", help: "it comes back", run: |s, rest| comes(s, rest, Coming::Return) },
    Verb {
        name: "forget",
        takes: "SOLID [NAME]",
        help: "a machine forgets a solid",
        run: |s, rest| solid(s, rest, false),
    },
    Verb { name: "know", takes: "SOLID [NAME]", help: "a machine knows a solid", run: |s, rest| solid(s, rest, true) },
    Verb { name: "tune", takes: "TUNABLE VALUE [NAME]", help: "turns a tunable, for all or on one machine", run: tune },
    Verb { name: "allow", takes: "RULE 105 %", help: "how much of what a rule of the guard says", run: allow },
    Verb { name: "pause", takes: "", help: "pauses", run: |s, _| running(s, false) },
    Verb { name: "run", takes: "", help: "runs on, from the present", run: |s, _| running(s, true) },
    Verb { name: "resume", takes: "", help: "resumes from the moment looked at", run: |s, _| act(s, Action::Resume) },
    Verb {
        name: "branch",
        takes: "SETTING VALUE [NAME | all] | push … | tune … | forget …",
        help: "what would have happened with it, from the moment looked at",
        run: branch,
    },
    Verb { name: "keep", takes: "", help: "keeps the branch", run: |s, _| act(s, Action::KeepBranch) },
    Verb { name: "drop", takes: "", help: "drops the branch", run: |s, _| act(s, Action::DropBranch) },
    Verb {
        name: "why",
        takes: "",
        help: "what would cure the last seconds",
        run: |_, _| Ok(Some(Wish::Act(Action::Why))),
    },
    Verb {
        name: "price",
        takes: "",
        help: "what other values of the chosen knob would have cost",
        run: |_, _| Ok(Some(Wish::Act(Action::Price))),
    },
    Verb { name: "budget", takes: "", help: "shows the budgets", run: |_, _| Ok(Some(Wish::Act(Action::Budget))) },
    Verb { name: "again", takes: "", help: "begins again", run: |s, _| act(s, Action::Again) },
    Verb { name: "take", takes: "[NAME]", help: "keeps the run as NAME.take", run: take },
    Verb { name: "record", takes: "NAME", help: "keeps what happened as NAME.record", run: record },
    Verb {
        name: "behind",
        takes: "[FILE.take | FILE.course.toml]",
        help: "lays another run behind on Scope, or nothing",
        run: |s, rest| {
            s.lay_behind(rest);
            Ok(None)
        },
    },
    Verb { name: "export", takes: "[light]", help: "takes away what is seen, dark or light", run: export },
    Verb { name: "edit", takes: "", help: "edits the rule", run: |s, _| Ok(s.edit()) },
    Verb { name: "help", takes: "", help: "every key", run: |_, _| Ok(Some(Wish::Act(Action::Help))) },
    Verb { name: "quit", takes: "", help: "leaves", run: |s, _| Ok(s.leave()) },
];

/// Those of them that change the run: looking back, each offers a branch.
const CHANGES: [&str; 10] =
    ["push", "teleport", "freeze", "leave", "crash", "return", "forget", "know", "tune", "allow"];

fn verb(name: &str) -> Option<&'static Verb> {
    VERBS.iter().find(|verb| verb.name == name)
}

fn setting(name: &str) -> Option<&'static KnobSpec> {
    SETTINGS.iter().find(|spec| spec.key == name)
}

/// The first word, and what follows it.
fn first(text: &str) -> (&str, &str) {
    let text = text.trim_start();
    text.split_once(char::is_whitespace).map_or((text, ""), |(word, rest)| (word, rest.trim()))
}

/// Does what a line says.
pub(super) fn does(stage: &mut Stage, line: &str) -> Done {
    let (word, rest) = first(line);
    if let Some(verb) = verb(word) {
        return (verb.run)(stage, rest);
    }
    if let Some(spec) = setting(word) {
        return set(stage, spec, rest);
    }
    let known = VERBS.iter().map(|verb| verb.name).chain(SETTINGS.iter().map(|spec| spec.key));
    let meant = nearest(word, known).unwrap_or_else(|| "tab lists what can be typed".to_owned());
    Err(format!("there is no `{word}`: {meant}"))
}

/// How a word is used, once it is typed.
pub(super) fn usage(text: &str) -> Option<String> {
    let (word, _) = first(text);
    if !text.contains(char::is_whitespace) {
        return None;
    }
    match (verb(word), setting(word)) {
        (Some(verb), _) if verb.takes.is_empty() => Some(verb.help.to_owned()),
        (Some(verb), _) => Some(format!("{} {}: {}", verb.name, verb.takes, verb.help)),
        (_, Some(spec)) => {
            let choices: Vec<&str> = spec.knob.choices().iter().map(|choice| choice.name).collect();
            let value = if choices.is_empty() { "VALUE".to_owned() } else { choices.join(" | ") };
            Some(format!("{} {value} [NAME | all]: {}", spec.key, spec.help))
        }
        _ => None,
    }
}

/// What stands before the last word, and what that can be completed to.
pub(super) fn completions(stage: &Stage, text: &str) -> (String, Vec<String>) {
    // Solids may have several words.
    let is_solid = ["forget ", "know "].iter().any(|verb| text.starts_with(verb));
    let space = if is_solid { text.find(' ') } else { text.rfind(char::is_whitespace) };
    let begin = space.map_or(0, |i| i + text[i..].chars().next().map_or(1, char::len_utf8));
    let (before, word) = text.split_at(begin);
    let all: Vec<String> = if before.trim().is_empty() {
        VERBS.iter().map(|verb| verb.name).chain(SETTINGS.iter().map(|spec| spec.key)).map(str::to_owned).collect()
    } else {
        let members = stage.run.course().cast.iter().map(|member| member.name.clone());
        let solids = stage.run.course().world.solids.iter().map(|solid| solid.name.clone());
        let (verb, _) = first(before);
        match verb {
            "forget" | "know" => solids.collect(),
            "tune" => tunables(stage).map(str::to_owned).chain(members).collect(),
            "branch" if before.trim() == "branch" => {
                CHANGES.into_iter().chain(SETTINGS.iter().map(|spec| spec.key)).map(str::to_owned).collect()
            }
            "allow" => adjustable().map(str::to_owned).collect(),
            "go" => ["tick", "live", "beginning"].map(str::to_owned).to_vec(),
            _ => {
                let choices = setting(before.trim()).map_or(&[][..], |spec| spec.knob.choices());
                choices.iter().map(|choice| choice.name.to_owned()).chain(members).collect()
            }
        }
    };
    (before.to_owned(), all.into_iter().filter(|known| known.starts_with(word)).collect())
}

fn tunables(stage: &Stage) -> impl Iterator<Item = &'static str> + use<> {
    let kind = stage.run.course()[stage.selected.entity].kind;
    let names: Vec<&'static str> =
        stage.run.lab().server_known().kinds.motion(kind).tunables().iter().map(|t| t.name).collect();
    names.into_iter()
}

/// A name at the beginning, the longest there is, and what follows it.
fn named<'n, 'a>(names: impl Iterator<Item = &'n str>, text: &'a str) -> Option<(usize, &'a str)> {
    let fits = |name: &str| -> Option<&'a str> {
        let rest = text.strip_prefix(name)?;
        (rest.is_empty() || rest.starts_with(char::is_whitespace)).then(|| rest.trim_start())
    };
    let found = names.enumerate().filter_map(|(i, name)| Some((name.len(), i, fits(name)?)));
    found.max_by_key(|(length, ..)| *length).map(|(_, i, rest)| (i, rest))
}

/// A member at the beginning of a text, or the selected one.
fn who<'a>(stage: &Stage, text: &'a str) -> (MemberId, &'a str) {
    let course = stage.run.course().clone();
    match named(course.cast.iter().map(|member| member.name.as_str()), text) {
        Some((i, rest)) => (MemberId::new(i as u16), rest),
        None => (stage.selected.entity, text),
    }
}

/// Exactly a member.
fn member(stage: &Stage, text: &str) -> Result<MemberId, String> {
    stage.run.course().member(text).ok_or_else(|| {
        let names: Vec<&str> = stage.run.course().cast.iter().map(|member| member.name.as_str()).collect();
        let meant = nearest(text, names.iter().copied()).map_or_else(String::new, |meant| format!(": {meant}"));
        format!("expected one of {}; found `{text}`{meant}", names.join(", "))
    })
}

fn act(stage: &mut Stage, action: Action) -> Done {
    stage.act(action);
    Ok(None)
}

/// Takes away what is seen, as it is on the screen or for print.
fn export(_: &mut Stage, rest: &str) -> Done {
    match rest {
        "" => Ok(Some(Wish::Act(Action::Export))),
        "light" => Ok(Some(Wish::Act(Action::ExportLight))),
        _ => Err(format!("expected nothing, or light; found `{rest}`")),
    }
}

fn go(stage: &mut Stage, rest: &str) -> Done {
    let at = match first(rest) {
        ("live", "") => return act(stage, Action::Live),
        ("beginning", "") => return act(stage, Action::Beginning),
        ("tick", number) => {
            let tick: u64 = number.parse().map_err(|_| format!("expected the number of a tick; found `{number}`"))?;
            let machine = stage.machine(stage.selected.entity);
            let found = stage.moment().made_at(machine, Part::Client, tick);
            found.ok_or_else(|| format!("{} made no tick {tick} that is kept", stage.name(stage.selected.entity)))?
        }
        _ => times::moment(rest)?,
    };
    let (from, to) = (stage.whole().reach(), stage.whole().now());
    if !(from..=to).contains(&at) {
        return Err(format!("expected a moment from {from} to {to}; found {at}"));
    }
    stage.look(at);
    Ok(None)
}

fn look(stage: &mut Stage, rest: &str) -> Done {
    let member = member(stage, rest)?;
    stage.open_at(None, Some(member));
    Ok(None)
}

fn screen(stage: &mut Stage, rest: &str) -> Done {
    stage.selected.viewer = member(stage, rest)?;
    stage.refresh();
    Ok(None)
}

/// A number with its unit, or in the unit meant.
fn quantity(text: &str, of: Dimension, what: &str) -> Result<f32, String> {
    let (value, dimension) = read_quantity(text)?;
    if dimension == of || dimension == Dimension::NONE {
        Ok(value as f32)
    } else {
        Err(format!("expected {what}; found `{text}`"))
    }
}

fn push(stage: &mut Stage, rest: &str) -> Done {
    let (member, rest) = who(stage, rest);
    let mut by: [Vec<&str>; 3] = Default::default();
    let mut axis = None;
    for word in rest.split_whitespace() {
        match ["east", "north", "up"].iter().position(|name| *name == word) {
            Some(place) => axis = Some(place),
            None => by[axis.ok_or_else(|| format!("expected east, north or up; found `{word}`"))?].push(word),
        }
    }
    let mut speed = [0.0f32; 3];
    for (speed, words) in speed.iter_mut().zip(&by).filter(|(_, words)| !words.is_empty()) {
        *speed = quantity(&words.join(" "), Dimension::SPEED, "a speed such as 5 m/s")?;
    }
    if speed == [0.0; 3] {
        return Err("expected where to and how fast, such as `east 5 m/s`".to_owned());
    }
    if speed.iter().any(|v| v.abs() > 1000.0) {
        return Err("expected at most 1000 m/s".to_owned());
    }
    moved(stage, member, Sudden::Push(vec3(speed[0], speed[1], speed[2])), stage.pushed(member))
}

fn teleport(stage: &mut Stage, rest: &str) -> Done {
    let (member, rest) = who(stage, rest);
    let words: Vec<&str> = rest.split_whitespace().collect();
    let number = |word: &&str| word.parse::<f32>().ok().filter(|x| x.is_finite());
    let numbers: Option<Vec<f32>> = words.iter().map(number).collect();
    let at: Vec3 = match numbers.as_deref() {
        Some([x, y]) => vec3(*x, *y, stage.run.course().world.bounds.floor),
        Some([x, y, z]) => vec3(*x, *y, stage.run.course().world.bounds.floor + z),
        _ => return Err(format!("expected two or three numbers of metres; found `{rest}`")),
    };
    if !stage.ask_lab(|lab| lab.has_room(member, at))? {
        return Err("there is no room there".to_owned());
    }
    moved(stage, member, Sudden::Teleport(at), "is put elsewhere by the server")
}

fn freeze(stage: &mut Stage, rest: &str) -> Done {
    let (member, rest) = who(stage, rest);
    let lasts: LabTime = times::span(rest)?;
    moved(stage, member, Sudden::Freeze(lasts), "stands still")
}

/// Something happens to a member.
fn moved(stage: &mut Stage, member: MemberId, what: Sudden, says: &str) -> Done {
    stage.happens_to(member, what, says).map(|()| None)
}

fn comes(stage: &mut Stage, rest: &str, coming: Coming) -> Done {
    let member = if rest.is_empty() { stage.selected.entity } else { member(stage, rest)? };
    stage.comes_or_goes(member, coming);
    Ok(None)
}

fn solid(stage: &mut Stage, rest: &str, there: bool) -> Done {
    let course = stage.run.course().clone();
    let names = course.world.solids.iter().map(|solid| solid.name.as_str());
    let Some((place, rest)) = named(names.clone(), rest) else {
        let meant = nearest(rest, names).unwrap_or_else(|| "tab lists them".to_owned());
        return Err(format!("there is no solid `{rest}`: {meant}"));
    };
    let member = if rest.is_empty() { stage.selected.entity } else { member(stage, rest)? };
    stage.know(member, &course.world.solids[place], there);
    Ok(None)
}

fn tune(stage: &mut Stage, rest: &str) -> Done {
    let (name, rest) = first(rest);
    let kind = stage.run.course()[stage.selected.entity].kind;
    let all = stage.ask_lab(|lab| lab.server_known().kinds.motion(kind).tunables().to_vec())?;
    let Some(tunable) = all.iter().find(|t| t.name == name).copied() else {
        let rule = stage.run.course().kinds.motion(kind).name();
        let meant = nearest(name, all.iter().map(|t| t.name)).unwrap_or_else(|| "tab lists them".to_owned());
        return Err(format!("`{rule}` has no tunable `{name}`: {meant}"));
    };
    let course = stage.run.course().clone();
    let last = course.members().find(|m| rest.ends_with(&format!(" {}", course[*m].name)));
    let text = last.map_or(rest, |m| rest[..rest.len() - course[m].name.len()].trim_end());
    let (value, _) = read_quantity(text)?;
    let value = value as f32;
    if !(tunable.least..=tunable.most).contains(&value) {
        let (least, most, unit) = (tunable.least, tunable.most, tunable.unit);
        return Err(format!("expected {name} from {least} to {most} {unit}; found `{text}`"));
    }
    let reach = last.map_or(Reach::All, |m| Reach::One(stage.machine(m)));
    stage.tunes(kind, &tunable, value, reach, false);
    if stage.is_live() {
        let whom = last.map_or("all machines", |m| stage.name(m)).to_owned();
        stage.say(format!("{name} is {value} {} at {whom}", tunable.unit));
    }
    Ok(None)
}

/// Rules of the guard of which more or less can be allowed.
fn adjustable() -> impl Iterator<Item = &'static str> {
    RULES.iter().filter(|spec| spec.rule.is_adjustable()).map(|spec| spec.name)
}

fn allow(stage: &mut Stage, rest: &str) -> Done {
    let (name, rest) = first(rest);
    let Some(spec) = RULES.iter().find(|spec| spec.name == name && spec.rule.is_adjustable()) else {
        let meant = nearest(name, adjustable()).unwrap_or_else(|| "tab lists them".to_owned());
        return Err(format!("the guard has no rule `{name}` of which more or less can be allowed: {meant}"));
    };
    let times = quantity(rest, Dimension::NONE, "a share such as 105 %")?;
    if !ALLOWED.contains(&times) {
        return Err(format!("expected {} % to {} %; found `{rest}`", ALLOWED.start() * 100.0, ALLOWED.end() * 100.0));
    }
    stage.allow(spec.rule, times);
    Ok(None)
}

fn running(stage: &mut Stage, on: bool) -> Done {
    if !stage.is_live() && on {
        return act(stage, Action::Live);
    }
    stage.pace.running = on;
    stage.refresh();
    Ok(None)
}

/// Sets a setting of the selected member, of another, or of all.
fn set(stage: &mut Stage, spec: &KnobSpec, rest: &str) -> Done {
    let (value, members) = meant(stage, spec, rest)?;
    let (whom, shown) = (whom(stage, &members), shown(spec.knob, value));
    let commands = members.into_iter().map(|member| Command::Set { member, knob: spec.knob, value }).collect();
    let says = format!("{} of {whom} set to {shown}", spec.name);
    stage.do_or_offer(format!("{whom}: {} {shown}", spec.name), commands, Some(says));
    Ok(None)
}

fn whom(stage: &Stage, members: &[MemberId]) -> String {
    if members.len() == 1 { stage.name(members[0]).to_owned() } else { "all".to_owned() }
}

/// Keeps the run as a take; over nothing that is there already.
fn take(stage: &mut Stage, rest: &str) -> Done {
    let said = stage.keep_take(Path::new("."), Some(rest).filter(|name| !name.is_empty()))?;
    stage.say(said);
    Ok(None)
}

/// Keeps what happened as a record; over nothing that is there already.
fn record(stage: &mut Stage, rest: &str) -> Done {
    let said = stage.keep_record(Path::new("."), rest)?;
    stage.say(said);
    Ok(None)
}

/// Begins a branch from the moment looked at with whatever else is done there.
fn branch(stage: &mut Stage, rest: &str) -> Done {
    if stage.is_live() {
        return Err("a branch begins in the past: look back first (go 0:05, or <)".to_owned());
    }
    let (word, _) = first(rest);
    let changes = CHANGES.contains(&word) || setting(word).is_some();
    if !changes {
        let known = CHANGES.into_iter().chain(SETTINGS.iter().map(|spec| spec.key));
        let meant = nearest(word, known).unwrap_or_else(|| "expected a change, such as latency 0 ms".to_owned());
        return Err(format!("there is no `{word}` that changes a run: {meant}"));
    }
    stage.branching.offered = None;
    does(stage, rest)?;
    // What could not be done has said why.
    if stage.branching.offered.is_some() { act(stage, Action::Resume) } else { Ok(None) }
}

/// The value that a setting is to have, and whose.
fn meant(stage: &Stage, spec: &KnobSpec, rest: &str) -> Result<(KnobValue, Vec<MemberId>), String> {
    let course = stage.run.course().clone();
    let last = course.members().find(|m| rest.ends_with(&format!(" {}", course[*m].name)));
    let (text, members): (&str, Vec<MemberId>) = match (last, rest.strip_suffix(" all")) {
        (Some(m), _) => (&rest[..rest.len() - course[m].name.len()], vec![m]),
        (None, Some(text)) => (text, course.members().collect()),
        (None, None) => (rest, vec![stage.selected.entity]),
    };
    Ok((spec.knob.read(text)?, members))
}
