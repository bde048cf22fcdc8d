//! The run kept as a record: run again from its beginning beside the frames, and written as it goes.

use std::path::Path;

use velocitas_record::LabTime;

use super::job::Job;
use super::stage::Stage;
use super::stage::kept::{Writing, Wrote};
use crate::files::{Output, RECORD, Recording};

/// Virtual time between two words on how far it is.
const GRAIN: LabTime = LabTime(1_000_000_000);

impl Stage {
    /// Begins to keep the run as a record. Says so, or why it cannot.
    pub(super) fn keep_record(&mut self, folder: &Path, name: &str) -> Result<String, String> {
        if let Some((now, to)) = self.reading() {
            return Err(format!("the take is still being read: {now} of {to}"));
        }
        if self.kept.writing.as_ref().is_some_and(|writing| !writing.job.is_over()) {
            return Err("a record is still being written".to_owned());
        }
        if name.is_empty() {
            return Err(format!("expected a name: `record NAME` keeps the run as NAME.{RECORD}"));
        }
        let ending = format!(".{RECORD}");
        let name = if name.ends_with(&ending) { name.to_owned() } else { format!("{name}{ending}") };
        if self.whole().is_over() {
            return Err("it was read from a record: copy that file".to_owned());
        }
        let (to, begun) = (self.whole().now(), self.whole().recalled(LabTime::ZERO));
        let Some(mut run) = begun else {
            return Err("its beginning is no longer kept: keep it as a take (w)".to_owned());
        };
        let path = folder.join(&name);
        let output = Output::create_new(&path).map_err(|why| why.to_string())?;
        let recording = Recording::new(output, &path, &run, self.journal());
        let mut recording = recording.map_err(|why| why.to_string())?;
        let job = Job::begin(move |teller| {
            while run.now() < to {
                let next = to.min(run.now().plus(GRAIN));
                if let Err(why) = recording.advance(&mut run, next) {
                    teller.tell(Err(why.to_string()));
                    return;
                }
                if !teller.tell(Ok(Wrote::Until(run.now()))) {
                    return;
                }
            }
            let done = recording.finish(&run).map(|()| Wrote::All(to));
            teller.tell(done.map_err(|why| why.to_string()));
        });
        let said = format!("{name} is being written, to {to}");
        self.kept.writing = Some(Writing { name, job });
        Ok(said)
    }

    /// What was told of a record that is written. Says whether there is something to show.
    pub(super) fn look_at_writing(&mut self) -> bool {
        let Some(writing) = &mut self.kept.writing else { return false };
        let news = writing.job.news();
        let name = writing.name.clone();
        let over = writing.job.is_over();
        if over {
            self.kept.writing = None;
        }
        match news.into_iter().last() {
            None => return false,
            Some(Ok(Wrote::Until(now))) => self.say(format!("{name} is being written: {now}")),
            Some(Ok(Wrote::All(to))) => self.say(format!("kept as {name}, to {to}: `velocitas {name}` opens it")),
            Some(Err(why)) => self.say(why),
        }
        true
    }
}
