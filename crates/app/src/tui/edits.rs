//! The files of the rules: saved edits are taken over while the run goes on, whichever screen is shown.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use velocitas_core::{Motion, Tunable};
use velocitas_gait::{Compiled, compile_after};
use velocitas_lab::ReadRule;
use velocitas_lab::diagnose::{Reaches, Remedy};
use velocitas_record::{Command, Reach};

use super::stage::edits::Edits;
use super::stage::{Stage, Wish};
use crate::sources::GaitWatcher;

/// How often gait files are looked at.
const LOOK_EVERY: Duration = Duration::from_millis(200);

impl Stage {
    /// The gaits lie beside this course file and may be edited there.
    pub(super) fn read_gaits_from(&mut self, file: Option<&Path>) {
        self.edits = Edits { one_only: self.edits.one_only, ..Edits::of(self.run.course(), file) };
    }

    /// Has the course's and the gaits' files looked at for saved edits now and then, and lets those that are good take effect. Never waits for
    /// a file. Says whether there was anything new.
    pub fn look_at_files(&mut self, passed: Duration) -> bool {
        self.edits.unlooked += passed;
        if self.edits.unlooked >= LOOK_EVERY {
            self.edits.unlooked = Duration::ZERO;
            self.look_now();
        }
        let news = self.take_news();
        let course = self.take_over_course();
        self.take_effect(news) || news || course
    }

    fn look_now(&mut self) {
        self.look_at_course();
        let known = self.run.lab().server_known();
        let looks = self.edits.sources.iter().filter_map(|s| s.to_look(known.kinds.motion(s.kind).schema()));
        let looks = looks.collect();
        if let Some(watcher) = &mut self.edits.watcher {
            watcher.look(looks);
        }
    }

    fn take_news(&mut self) -> bool {
        let mut any = false;
        let news = self.edits.watcher.as_mut().map(GaitWatcher::news).unwrap_or_default();
        for seen in news {
            let known = self.run.lab().server_known();
            let Some(source) = self.edits.sources.iter_mut().find(|s| seen.is_of(s.kind)) else { continue };
            let kind = source.kind;
            if !source.take_seen(seen, known.kinds.motion(kind).schema()) {
                continue;
            }
            any = true;
            let (name, trouble) = (source.name.clone(), source.trouble.clone());
            if let Some(trouble) = trouble {
                self.edits.mistake = (kind, self.edits.mistake.1 + 1);
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
        for i in 0..self.edits.sources.len() {
            let Some(rule) = self.edits.sources[i].waiting.take() else { continue };
            any = true;
            let (kind, name) = (self.edits.sources[i].kind, self.edits.sources[i].name.clone());
            let reach = self.reach_of_edits(kind);
            let text = Some(self.edits.sources[i].said.text.as_str().into());
            match self.run.reload_text(kind, ReadRule { rule, text }, reach) {
                Ok(()) => {
                    let tick = self.run.record().changes.last().map_or(0, |c| self.run.record().shown(c.tick));
                    let whom = if reach == Reach::All { "all machines" } else { self.name(self.selected.entity) };
                    self.say(format!("{name} holds from tick {tick} on, at {whom}"));
                }
                Err(why) => {
                    self.edits.sources[i].refuse(why.to_string());
                    self.say(format!("{name}: {why}"));
                }
            }
        }
        any
    }

    /// A rule that was saved while the past is looked at is offered from there on; back in the present it takes effect all the same.
    fn offer_edit(&mut self) {
        let Some(source) = self.edits.sources.iter().find(|source| source.waiting.is_some()) else { return };
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
        let whom = if reach == Reach::All { "all" } else { self.name(self.selected.entity) };
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
        let mine = self.run.course()[self.selected.entity].kind == kind;
        if self.edits.one_only && mine { Reach::One(self.machine(self.selected.entity)) } else { Reach::All }
    }

    /// Back from the editor.
    pub(super) fn edited(&mut self, done: Result<(), String>) {
        match done {
            Ok(()) => self.look_now(),
            Err(why) => self.say(why),
        }
    }

    pub(super) fn edit(&mut self) -> Option<Wish> {
        let kind = self.run.course()[self.selected.entity].kind;
        match self.edits.source(kind).map(|s| s.path.clone()) {
            Some(Some(path)) => return Some(Wish::Edit(path)),
            Some(None) => self.say("this rule came with the program; `velocitas new FOLDER` makes files to edit"),
            None => self.say("this rule is written in Rust: there is no text to edit"),
        }
        None
    }

    /// Sets a tunable on all machines or on one.
    pub(super) fn tunes(&mut self, kind: u8, spec: &Tunable, value: f32, reach: Reach, says: bool) {
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

    /// Saved edits reach all machines, or the selected one only.
    pub(super) fn turn_reach(&mut self) {
        self.edits.one_only = !self.edits.one_only;
        // What one machine alone could not take over, all may.
        let known = self.run.lab().server_known();
        for source in self.edits.sources.iter_mut().filter(|s| s.is_refused()) {
            source.take_again(known.kinds.motion(source.kind).schema());
        }
        let reach = if self.edits.one_only { self.name(self.selected.entity) } else { "all machines" };
        self.say(format!("saved edits reach {reach}"));
    }
}
