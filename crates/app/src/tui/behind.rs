//! Another run that lies behind this one: a kept take, or a course, that was run beside the frames.

use std::path::Path;
use std::sync::Arc;

use velocitas_core::Motion;
use velocitas_lab::lane::Subject;
use velocitas_lab::{LabTime, MachineId, Run};

use super::job::Job;
use super::stage::Stage;
use crate::files::Opened;

/// Virtual time run between two words of it.
const GRAIN: LabTime = LabTime(500_000_000);

/// What the work tells.
enum Told {
    To(LabTime),
    Done(Box<Run>),
    Wrong(String),
}

/// Another run.
pub(super) struct Behind {
    /// Its file.
    pub(super) name: String,
    pub(super) run: Option<Box<Run>>,
    job: Job<Told>,
}

impl Behind {
    fn begin(path: &Path, own: Vec<Arc<dyn Motion>>, to: LabTime) -> Self {
        let (name, path) = (path.display().to_string(), path.to_owned());
        let job = Job::begin(move |teller| {
            let read = Opened::read(Some(&path), &own).map_err(|why| why.to_string());
            let run = read.and_then(|opened| {
                let to = opened.take().map_or(to, |take| take.end);
                opened.run().map(|run| (run, to)).map_err(|why| why.to_string())
            });
            let (mut run, to) = match run {
                Ok(run) => run,
                Err(why) => {
                    teller.tell(Told::Wrong(why));
                    return;
                }
            };
            while run.now() < to {
                run.advance(to.min(run.now().plus(GRAIN)));
                if !teller.tell(Told::To(run.now())) {
                    return;
                }
            }
            teller.tell(Told::Done(Box::new(run)));
        });
        Self { name, run: None, job }
    }

    /// The same subject there, by the names that its machines have here.
    pub(super) fn subject(run: &Run, here: &Run, of: Subject, at: LabTime) -> Option<Subject> {
        let there = |machine: MachineId| {
            let name = here.record().cast.name(machine);
            run.record().cast.machines().find(|other| run.record().cast.name(*other) == name)
        };
        let (machine, viewer) = there(of.machine).zip(there(of.viewer))?;
        Some(Subject { machine, actor: run.record().cast.body(machine, at), viewer })
    }
}

impl Stage {
    /// Lays a take or a course behind this run, or nothing any more.
    pub(super) fn lay_behind(&mut self, file: &str) {
        if file.is_empty() {
            let was = self.other.take();
            return self.say(if was.is_some() {
                "nothing lies behind any more"
            } else {
                "nothing lay behind: behind FILE"
            });
        }
        self.other = Some(Behind::begin(Path::new(file), self.own_rules(), self.whole().now()));
        self.say(format!("{file} is run, to lie behind on Scope"));
    }

    /// What it has told since the last frame. Says whether anything changed.
    pub(super) fn look_at_behind(&mut self) -> bool {
        let Some(behind) = &mut self.other else { return false };
        let (name, news) = (behind.name.clone(), behind.job.news());
        let any = !news.is_empty();
        for told in news {
            match told {
                Told::To(at) => self.say(format!("{name} is run, to lie behind on Scope: {at}")),
                Told::Done(run) => {
                    if let Some(behind) = &mut self.other {
                        behind.run = Some(run);
                    }
                    self.say(format!("{name} lies behind on Scope (4)"));
                }
                Told::Wrong(why) => {
                    self.other = None;
                    self.say(why);
                }
            }
        }
        any
    }

    /// Whether it is still run.
    pub(super) fn lays_behind(&self) -> bool {
        self.other.as_ref().is_some_and(|behind| behind.run.is_none() && !behind.job.is_over())
    }
}
