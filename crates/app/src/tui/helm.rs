//! At the helm: who is driven, what the keyboard tells the run, and what is kept of it as a track.

use std::path::Path;

use velocitas_core::{InputKind, Kinds, Motion};
use velocitas_lab::track::{LONGEST, Recorder};
use velocitas_record::{Command, Controls, LabTime, MemberId};

use super::driving::Driving;
use super::stage::{Stage, Wish};
use crate::files::Output;

impl Stage {
    /// Takes the helm of the selected member, or gives it back to its script.
    pub(super) fn helm(&mut self) {
        if !self.is_live() {
            self.offer();
            return;
        }
        self.end_recording(Path::new("."));
        if self.run.lab().helm() == Some(self.selected.entity) {
            self.helm.driving.on = false;
            self.run.command(Command::Helm(None));
            self.say(format!("{} follows its script again", self.name(self.selected.entity)));
        } else {
            self.run.command(Command::Helm(Some(self.selected.entity)));
            let (kinds, kind, orders) = self.driven();
            self.helm.driving.begin(kinds.motion(kind), orders);
            self.pace.running = true;
            self.drive(0.0);
        }
    }

    /// Whether keys drive somebody now.
    pub(super) fn drives(&self) -> bool {
        self.helm.driving.on && self.is_live() && self.pace.running
    }

    /// Whoever is at the helm; else who would be.
    pub(super) fn at_helm(&self) -> MemberId {
        self.run.lab().helm().unwrap_or(self.selected.entity)
    }

    /// The rules as the client at the helm knows them, the number of its own, and whether anything in the world takes orders.
    fn driven(&self) -> (Kinds, u8, bool) {
        let member = self.at_helm();
        let kinds = self.run.lab().known(member).kinds.clone();
        let takes = |rule: &dyn Motion| rule.schema().input.iter().any(|f| matches!(f.kind, InputKind::Point { .. }));
        let orders = kinds.iter().any(|(_, rule)| takes(rule));
        (kinds, self.run.course()[member].kind, orders)
    }

    /// The keys of the rule at the helm, taken or not.
    pub(super) fn hands_at_helm(&self) -> Driving {
        let mut driving = self.helm.driving.clone();
        let (kinds, kind, orders) = self.driven();
        driving.take(kinds.motion(kind), orders);
        driving
    }

    pub(super) fn leave_driving(&mut self) {
        self.release_all();
        self.helm.driving.on = false;
        self.say(format!("{} stands; h gives it back to its script", self.name(self.at_helm())));
    }

    /// Nothing is held any more.
    pub(super) fn release_all(&mut self) {
        self.helm.driving.rest();
        self.drive(0.0);
    }

    /// Tells the run what the hands do, if that is news.
    pub(super) fn drive(&mut self, seconds: f32) {
        let Some(member) = self.run.lab().helm().filter(|_| self.is_live()) else { return };
        let viewer = self.machine(member);
        let echoes = self.body(member).map(|body| self.moment().echoes(body, viewer));
        let at = echoes.and_then(|e| e.predicted.or(e.authority)).map(|e| (e.pos.x, e.pos.y));
        self.helm.driving.send(at);
        let (kinds, kind, orders) = self.driven();
        self.helm.driving.take(kinds.motion(kind), orders);
        if let Some(controls) = self.helm.driving.news(seconds) {
            self.run.command(Command::Keys(controls));
            self.keep(kinds.motion(kind), &controls);
        }
        if self.recorded().is_some_and(|lasts| lasts >= LONGEST) {
            self.end_recording(Path::new("."));
        }
    }

    fn keep(&mut self, rule: &dyn Motion, controls: &Controls) {
        let (now, schema) = (self.run.now(), rule.schema());
        if let Some(kept) = &mut self.helm.kept {
            kept.note(now, schema, &controls.to_input(schema, schema));
        }
    }

    /// For how long hands have been kept, if they are.
    pub(super) fn recorded(&self) -> Option<LabTime> {
        self.helm.kept.as_ref().map(|kept| self.run.now().minus(kept.begun()))
    }

    /// Begins to keep what hands do, or stops and writes it into a folder.
    pub(super) fn record_hands(&mut self, folder: &Path) {
        if self.helm.kept.is_some() {
            return self.end_recording(folder);
        }
        if !self.drives() {
            return self.say("a track is kept at the helm: take it first (h)");
        }
        let (kinds, kind, _) = self.driven();
        let schema = kinds.motion(kind).schema();
        let now = self.helm.driving.told().to_input(schema, schema);
        self.helm.kept = Some(Recorder::begin(self.run.now(), schema, &now));
        self.say("what hands do is kept as a track from here on; C-t stops and writes it");
    }

    /// Leaves the program: what was being kept is written.
    pub(super) fn leave(&mut self) -> Option<Wish> {
        self.end_recording(Path::new("."));
        Some(Wish::Leave)
    }

    fn end_recording(&mut self, folder: &Path) {
        let Some(kept) = self.helm.kept.take() else { return };
        let (kinds, kind, _) = self.driven();
        let mut track = kept.track(kinds.motion(kind), self.run.course().rate, self.run.now());
        let who = self.name(self.at_helm()).to_owned();
        track.about = format!("{who} at the helm, from {}", kept.begun());
        // A name may hold what a path does not.
        let plain: String = who.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
        let at = kept.begun().to_string().replace(':', "m").replace('.', "s");
        let name = format!("{plain}-{at}.track.json");
        let done = Output::create_file(&folder.join(&name)).map_err(|e| e.to_string()).and_then(|output| {
            output.finish(|out| std::io::Write::write_all(out, track.to_text().as_bytes())).map_err(|e| e.to_string())
        });
        match done {
            Ok(()) => self
                .say(format!("wrote {name}, {:.1} s: a member plays it with track = \"{name}\"", track.lasts().secs())),
            Err(why) => {
                // What was done is not lost: it can be tried again.
                self.helm.kept = Some(kept);
                self.say(format!("{why}; what hands did is still kept"));
            }
        }
    }
}
