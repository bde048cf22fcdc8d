//! The playhead and virtual time: how they go on, and how the moment looked at is moved.

use std::time::Duration;

use velocitas_lab::Run;
use velocitas_record::{Changed, LabTime, MemberId, Part};

use super::stage::Stage;
use crate::saved::CourseFile;

/// Virtual time advanced at once: small enough to stop a slice in time.
const GRAIN: LabTime = LabTime(4_000_000);
/// Real time that a pause of the program may make up for.
const MOST_CAUGHT_UP: f64 = 0.1;
/// When it is said what did not stir.
const STILL_AFTER: LabTime = LabTime(20_000_000_000);

impl Stage {
    /// Whether the world goes on by itself, so that every frame is another.
    pub(super) fn moves(&self) -> bool {
        self.pace.running && self.is_live() || self.run.now() < self.pace.target
    }

    /// Real time has passed: virtual time should follow.
    pub(super) fn wait_for(&mut self, passed: Duration) {
        if self.pace.running && self.is_live() {
            self.drive(passed.as_secs_f32());
            let seconds = passed.as_secs_f64().min(MOST_CAUGHT_UP) * self.pace.speed();
            self.pace.target = self.run.now().plus(LabTime::from_secs(seconds));
        } else {
            self.pace.target = self.run.now();
        }
    }

    /// A grain of virtual time, if some is due. Says whether more is.
    pub(super) fn advance_a_little(&mut self) -> bool {
        if self.run.now() < self.pace.target {
            self.run.advance(self.pace.target.min(self.run.now().plus(GRAIN)));
            self.at = self.run.now();
            self.follow();
            self.tell_still();
        }
        self.run.now() < self.pace.target
    }

    /// The slice was not enough.
    pub(super) fn fell_behind(&mut self) {
        self.pace.behind = Some(self.pace.target.minus(self.run.now()).secs());
    }

    /// It was.
    pub(super) fn caught_up(&mut self) {
        self.pace.behind = None;
    }

    /// Says once, when it has run for long enough, what did not stir.
    fn tell_still(&mut self) {
        if self.notices.still_told || self.run.now() < STILL_AFTER {
            return;
        }
        self.notices.still_told = true;
        let still = self.run.still();
        let Some(first) = still.first() else { return };
        let more = match still.len() - 1 {
            0 => String::new(),
            n => format!(" (and {n} more: velocitas run tells)"),
        };
        self.say(format!("in {} s {first}: that proves nothing about it{more}", STILL_AFTER.secs()));
    }

    /// Runs the present on to a moment, whatever the speed: for tests and for stepping.
    pub fn advance_to(&mut self, to: LabTime) {
        self.run.advance(to);
        self.go(self.run.now());
    }

    /// Looks at somebody, and stops at a moment that was run to.
    pub(super) fn open_at(&mut self, at: Option<LabTime>, entity: Option<MemberId>) {
        if let Some(entity) = entity {
            (self.selected.entity, self.selected.viewer) = (entity, entity);
        }
        if let Some(at) = at {
            self.pace.running = false;
            self.go(at);
        }
        self.refresh();
    }

    pub(super) fn go(&mut self, at: LabTime) {
        self.branching.offered = None;
        if self.fetch(at) {
            self.at = at.max(self.run.record().kept_from).min(self.run.now());
        }
        self.follow();
    }

    pub(super) fn look(&mut self, at: LabTime) {
        self.pace.running = false;
        self.go(at);
    }

    pub(super) fn second_on(&mut self) {
        let to = self.at.plus(LabTime::from_secs(1.0));
        self.pace.running = false;
        if self.is_live() {
            self.run.advance(to);
        }
        self.go(to);
    }

    /// To the selected machine's next or previous tick; from the present on, the next one is made.
    pub(super) fn step(&mut self, on: bool) {
        self.pace.running = false;
        let machine = self.machine(self.selected.entity);
        if on && self.is_live() {
            // A tick is due within its length plus a frame; a machine that stands still makes none.
            let limit = self.run.now().plus(LabTime::from_secs(0.5));
            let before = self.moment().tick(machine, Part::Client);
            while self.run.now() < limit {
                let next = self.run.now().plus(LabTime(1_000_000));
                self.run.advance(next);
                self.at = self.run.now();
                if self.moment().tick(machine, Part::Client) != before {
                    break;
                }
            }
            self.go(self.run.now());
        } else if let Some(at) = self.moment().step(machine, Part::Client, on) {
            self.go(at);
        } else if on {
            self.go(self.run.now());
        }
    }

    pub(super) fn event(&mut self, on: bool) {
        match self
            .moment()
            .event(self.machine(self.selected.entity), on)
            .filter(|at| *at >= self.run.record().kept_from)
        {
            Some(at) => self.look(at),
            None => {
                let name = self.name(self.selected.entity);
                let said = match (on, self.is_live(), self.is_whole(on)) {
                    (true, true, _) => {
                        format!("this is the present: nothing has happened to {name} after it; p goes back to the last")
                    }
                    (true, _, true) => {
                        format!("nothing happened to {name} after this moment; p goes back, End to the present")
                    }
                    (false, _, true) => format!("nothing happened to {name} before this moment; n goes on to the next"),
                    (_, _, false) => format!("nothing happened to {name} there in this stretch; < and > go on"),
                };
                self.say(said);
            }
        }
    }

    pub(super) fn offer(&mut self) {
        self.say("looking back: End returns to live, Enter resumes from here");
    }

    pub(super) fn resume(&mut self) {
        if self.must_wait() {
            return;
        }
        if let Some(offer) = self.branching.offered.take() {
            return self.begin_branch(self.at, &offer.change);
        }
        if self.is_live() {
            self.pace.running = true;
            return;
        }
        let gone = self.whole().now().minus(self.at).secs();
        let reloaded = |run: &Run| -> Vec<u8> {
            let kinds = run.record().changes.iter().filter_map(|c| match c.what {
                Changed::Reloaded { kind, .. } => Some(kind),
                Changed::Tuned { .. } | Changed::Solid { .. } => None,
            });
            kinds.collect()
        };
        let before = reloaded(self.whole());
        self.branching.branch = None;
        self.run.resume_from(self.at);
        self.forget_present();
        let at = self.at;
        self.helm.kept.iter_mut().for_each(|kept| kept.forget_after(at));
        // What was taken over of the course may be what was dropped.
        self.origin.file.iter_mut().for_each(CourseFile::forget);
        self.run_number += 1;
        let dropped = &before[reloaded(&self.run).len()..];
        // Edits that were dropped with the later part are what the files say all the same.
        let (known, sources) = (self.run.lab().server_known(), &mut self.edits.sources);
        for source in sources.iter_mut().filter(|s| s.trouble.is_none() && dropped.contains(&s.kind)) {
            source.take_again(known.kinds.motion(source.kind).schema());
        }
        self.release_all();
        self.pace.running = true;
        self.refresh();
        self.say(format!("resumed from here: the {gone:.1} s after it were dropped"));
    }
}
