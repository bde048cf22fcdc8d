//! What the Rules screen does: taking over saved edits, opening the editor, turning tunables.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use velocitas_core::{Motion, Tunable};
use velocitas_gait::{Compiled, compile_after};
use velocitas_lab::diagnose::{Reaches, Remedy};
use velocitas_lab::{Command, Reach, ReadRule, turned};

use super::Both;
use crate::sources::{GaitWatcher, Source};
use crate::tui::stage::{Stage, Wish};

/// How often gait files are looked at.
const LOOK_EVERY: Duration = Duration::from_millis(200);

impl Stage {
    /// The gaits lie beside this course file and may be edited there.
    pub(in crate::tui) fn read_gaits_from(&mut self, file: Option<&Path>) {
        self.rules.sources = Source::of(self.run.course(), file);
        self.rules.watcher = self.rules.sources.iter().any(|s| s.path.is_some()).then(GaitWatcher::of_gaits);
    }

    /// Has the course's and the gaits' files looked at for saved edits now and then, and lets those that are good take effect. Never waits for
    /// a file. Says whether there was anything new.
    pub fn look_at_files(&mut self, passed: Duration) -> bool {
        self.unlooked += passed;
        if self.unlooked >= LOOK_EVERY {
            self.unlooked = Duration::ZERO;
            self.look_now();
        }
        let news = self.take_news();
        let course = self.take_over_course();
        self.take_effect(news) || news || course
    }

    fn look_now(&mut self) {
        self.look_at_course();
        let known = self.run.lab().server_known();
        let looks = self.rules.sources.iter().filter_map(|s| s.to_look(known.kinds.motion(s.kind).schema()));
        let looks = looks.collect();
        if let Some(watcher) = &mut self.rules.watcher {
            watcher.look(looks);
        }
    }

    fn take_news(&mut self) -> bool {
        let mut any = false;
        let news = self.rules.watcher.as_mut().map(GaitWatcher::news).unwrap_or_default();
        for seen in news {
            let known = self.run.lab().server_known();
            let Some(source) = self.rules.sources.iter_mut().find(|s| seen.is_of(s.kind)) else { continue };
            let kind = source.kind;
            if !source.take_seen(seen, known.kinds.motion(kind).schema()) {
                continue;
            }
            any = true;
            let (name, trouble) = (source.name.clone(), source.trouble.clone());
            if let Some(trouble) = trouble {
                self.rules.show_first_mistake(kind);
                self.say(format!("{name}: {trouble}; the last good rule runs on"));
            }
        }
        any
    }

    /// Puts rules that wait into force, unless the past is looked at. Says whether there were any.
    fn take_effect(&mut self, news: bool) -> bool {
        if !self.is_live() {
            if news {
                self.offer_edit();
            }
            return false;
        }
        let mut any = false;
        for i in 0..self.rules.sources.len() {
            let Some(rule) = self.rules.sources[i].waiting.take() else { continue };
            any = true;
            let (kind, name) = (self.rules.sources[i].kind, self.rules.sources[i].name.clone());
            let reach = self.reach_of_edits(kind);
            let text = Some(self.rules.sources[i].said.text.as_str().into());
            match self.run.reload_text(kind, ReadRule { rule, text }, reach) {
                Ok(()) => {
                    let tick = self.run.record().changes.last().map_or(0, |c| self.run.record().shown(c.tick));
                    let whom = if reach == Reach::All { "all machines" } else { self.name(self.entity) };
                    self.say(format!("{name} holds from tick {tick} on, at {whom}"));
                }
                Err(why) => {
                    self.rules.sources[i].refuse(why.to_string());
                    self.say(format!("{name}: {why}"));
                }
            }
        }
        any
    }

    /// A rule that was saved while the past is looked at is offered from there on; back in the present it takes effect all the same.
    fn offer_edit(&mut self) {
        let Some(source) = self.rules.sources.iter().find(|source| source.waiting.is_some()) else { return };
        let (kind, name, text) = (source.kind, source.name.clone(), source.said.text.clone());
        let reach = self.reach_of_edits(kind);
        // Its fields stay in the lanes that they had then, and what could not have taken effect there is not offered.
        let read = self.ask_lab(|lab| {
            let before = lab.server_known().kinds.motion(kind).schema();
            let Compiled { gait: Some(gait), .. } = compile_after(&text, Some(before)) else { return Ok(None) };
            let rule: Arc<dyn Motion> = Arc::new(gait);
            lab.may_reload(kind, &rule, reach).map_err(|why| why.to_string())?;
            Ok(Some(ReadRule { rule, text: Some(text.as_str().into()) }))
        });
        let read = match read.and_then(|read| read) {
            Ok(Some(read)) => read,
            Ok(None) => return,
            Err(why) => return self.say(format!("{name}: {why}")),
        };
        let whom = if reach == Reach::All { "all" } else { self.name(self.entity) };
        let words = format!("{name} as it is saved now, on {whom}");
        self.offer_change(Remedy {
            words,
            reaches: Reaches::Mistake,
            commands: Vec::new(),
            rule: Some((kind, read, reach)),
        });
    }

    /// Which machines a saved edit of a rule reaches.
    fn reach_of_edits(&self, kind: u8) -> Reach {
        let mine = self.run.course()[self.entity].kind == kind;
        if self.rules.one_only && mine { Reach::One(self.machine(self.entity)) } else { Reach::All }
    }

    /// Back from the editor.
    pub(in crate::tui) fn edited(&mut self, done: Result<(), String>) {
        match done {
            Ok(()) => self.look_now(),
            Err(why) => self.say(why),
        }
    }

    pub(in crate::tui) fn edit(&mut self) -> Option<Wish> {
        let kind = self.run.course()[self.entity].kind;
        match self.rules.source(kind).map(|s| s.path.clone()) {
            Some(Some(path)) => return Some(Wish::Edit(path)),
            Some(None) => self.say("this rule came with the program; `velocitas new FOLDER` makes files to edit"),
            None => self.say("this rule is written in Rust: there is no text to edit"),
        }
        None
    }

    /// Turns the chosen tunable, on the selected entity's machine or on all.
    pub(in crate::tui) fn tune(&mut self, up: bool, all: bool) {
        let (chosen, entity) = (self.rules.tunable, self.entity);
        let kind = self.run.course()[entity].kind;
        let found = self.ask_lab(|lab| {
            let here = lab.known(entity);
            let tunables = here.kinds.motion(kind).tunables();
            // Another rule may have fewer: then its last one is chosen, as it is drawn.
            let chosen = chosen.min(tunables.len().saturating_sub(1));
            let spec = tunables.get(chosen)?;
            Some((*spec, here.tunables[usize::from(kind)].get(chosen).copied().unwrap_or(spec.default)))
        });
        let (spec, now) = match found {
            Ok(Some(found)) => found,
            Ok(None) => return,
            Err(why) => return self.say(why),
        };
        let reach = if all { Reach::All } else { Reach::One(self.machine(entity)) };
        // Turned further, it is offered further.
        let offered = self.offered.as_ref().and_then(|offer| match offer.change.commands.first() {
            Some(Command::Tune { kind: of, tunable, value, reach: r })
                if (*of, *tunable, *r) == (kind, spec.name, reach) =>
            {
                Some(*value)
            }
            _ => None,
        });
        let value = turned(&spec, offered.unwrap_or(now), up);
        self.tunes(kind, &spec, value, reach, !all);
    }

    /// Sets a tunable on all machines or on one.
    pub(in crate::tui) fn tunes(&mut self, kind: u8, spec: &Tunable, value: f32, reach: Reach, says: bool) {
        let name = spec.name;
        let whom = match reach {
            Reach::All => "all".to_owned(),
            Reach::One(machine) => self.run.record().cast.name(machine).to_owned(),
        };
        let unit = if spec.unit == "1" { String::new() } else { format!(" {}", spec.unit) };
        let words = format!("{name} at {value}{unit} on {whom}");
        let only = format!("{name} at {whom} only: the server does not know of it");
        let commands = vec![Command::Tune { kind, tunable: name, value, reach }];
        self.do_or_offer(words, commands, says.then_some(only));
    }

    pub(in crate::tui) fn choose_tunable(&mut self, down: bool) {
        let count = Both::of(self).rule().tunables().len().max(1);
        let now = self.rules.tunable.min(count - 1);
        self.rules.tunable = (now + if down { 1 } else { count - 1 }) % count;
    }

    pub(in crate::tui) fn scroll(&mut self, down: bool) {
        let kind = self.run.course()[self.entity].kind;
        let most = self.rules.source(kind).map_or(0, |s| s.said.text.lines().count().saturating_sub(8));
        let page = 12;
        self.rules.scroll =
            if down { (self.rules.scroll + page).min(most) } else { self.rules.scroll.min(most).saturating_sub(page) };
    }

    /// Saved edits reach all machines, or the selected one only.
    pub(in crate::tui) fn turn_reach(&mut self) {
        self.rules.one_only = !self.rules.one_only;
        // What one machine alone could not take over, all may.
        let known = self.run.lab().server_known();
        for source in self.rules.sources.iter_mut().filter(|s| s.is_refused()) {
            source.take_again(known.kinds.motion(source.kind).schema());
        }
        let reach = if self.rules.one_only { self.name(self.entity) } else { "all machines" };
        self.say(format!("saved edits reach {reach}"));
    }
}
