//! The course that runs: taken over when its file is saved, begun again when it is asked for.

use std::path::Path;
use std::sync::Arc;

use velocitas_core::Motion;
use velocitas_lab::Run;

use super::stage::Stage;
use crate::saved::CourseFile;

impl Stage {
    /// The course comes from this file, and its gaits lie beside it: both may be edited there.
    pub fn read_from(&mut self, file: Option<&Path>, own: &[Arc<dyn Motion>]) {
        self.origin.file = file.and_then(|file| CourseFile::of(file, own));
        self.read_gaits_from(file);
    }

    /// Has the course's file looked at.
    pub(super) fn look_at_course(&mut self) {
        self.origin.file.iter_mut().for_each(CourseFile::look);
    }

    /// Takes over a course that was saved, unless the past is looked at. Says whether there was anything new.
    pub(super) fn take_over_course(&mut self) -> bool {
        let Some(file) = &mut self.origin.file else { return false };
        let news = file.take_news();
        let name = file.name();
        if let Some(why) = file.trouble.clone().filter(|_| news) {
            self.say(format!("{why}; the course runs on as it was"));
        }
        if !self.is_live() {
            return news;
        }
        let Some(saved) = self.origin.file.as_mut().and_then(|file| file.waiting.take()) else { return news };
        let came = self.run.take_over(&saved);
        let taken = came.taken.join(", ");
        let restart = (!came.restart.is_empty()).then(|| came.restart.join(", "));
        match &restart {
            Some(keys) if came.taken.is_empty() => {
                self.say(format!("{name}: saved; what changed needs a new beginning (C-r): {keys}"));
            }
            Some(keys) => self.say(format!("{name}: took over {taken}; needs a new beginning (C-r): {keys}")),
            None if came.taken.is_empty() => self.say(format!("{name}: saved, and nothing in it is otherwise")),
            None => self.say(format!("{name}: took over {taken}, from now on")),
        }
        if let Some(file) = &mut self.origin.file {
            file.trouble = restart.map(|keys| format!("{name} was saved; a new beginning (C-r) is needed for {keys}"));
        }
        true
    }

    /// What stands against what was saved of the course, in a line.
    pub(super) fn course_trouble(&self) -> Option<&str> {
        self.origin.file.as_ref()?.trouble.as_deref()
    }

    /// Begins again, with the course as its file says it now.
    pub(super) fn begin_again(&mut self) {
        let course = match self.origin.file.as_ref().map(CourseFile::read) {
            None => (**self.run.began()).clone(),
            Some(Ok(course)) => course,
            Some(Err(why)) => {
                let first = why.lines().next().unwrap_or("").to_owned();
                return self.say(format!("{first}; the course runs on as it was"));
            }
        };
        if let Some(rule) = course.absent() {
            return self.say(format!(
                "the rule `{rule}` is written in Rust and is not in this program: the course cannot be run"
            ));
        }
        let seed = self.origin.seed.unwrap_or(course.seed);
        let run = match Run::new(velocitas_lab::Course { seed, ..course }) {
            Ok(run) => run,
            Err(why) => return self.say(format!("{why}; the course runs on as it was")),
        };
        let path = self.origin.file.as_ref().map(|file| file.path().to_owned());
        let mut stage = self.anew(run);
        stage.origin = std::mem::take(&mut self.origin);
        stage.origin.file.iter_mut().for_each(|file| (file.waiting, file.trouble) = (None, None));
        stage.read_gaits_from(path.as_deref());
        stage.session_again(std::mem::take(&mut self.kept));
        *self = stage;
        self.refresh();
        self.say("begun again, as the course says it now");
    }

    /// A stage of another run, on which is looked at and chosen what is here, as far as it is there.
    pub(super) fn anew(&mut self, mut run: Run) -> Self {
        run.set_keep(self.origin.keep);
        run.meter();
        let names = [self.selected.entity, self.selected.viewer].map(|member| self.name(member).to_owned());
        let mut stage = Self::new(run, self.palette);
        let [entity, viewer] = names.map(|name| stage.run.course().member(&name));
        stage.selected.entity = entity.unwrap_or(stage.selected.entity);
        stage.selected.viewer = viewer.unwrap_or(stage.selected.entity);
        stage.run_number = self.run_number + 1;
        stage.helm.driving.releases = self.helm.driving.releases;
        stage.lines.history = std::mem::take(&mut self.lines.history);
        (stage.panel, stage.selected.knobs) = (self.panel, self.selected.knobs);
        stage
    }
}
