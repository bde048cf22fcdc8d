//! Another run that lies behind this one.

use std::path::Path;
use std::sync::Arc;

use velocitas_analysis::lane::Subject;
use velocitas_core::Motion;
use velocitas_lab::Run;
use velocitas_record::{LabTime, MachineId};

use crate::files::Opened;
use crate::tui::job::Job;

/// Virtual time run between two words of it.
const GRAIN: LabTime = LabTime(500_000_000);

/// What the work tells.
pub(in crate::tui) enum Told {
    To(LabTime),
    Done(Box<Run>),
    Wrong(String),
}

/// Another run.
pub(in crate::tui) struct Behind {
    /// Its file.
    pub(in crate::tui) name: String,
    pub(in crate::tui) run: Option<Box<Run>>,
    pub(in crate::tui) job: Job<Told>,
}

impl Behind {
    pub(in crate::tui) fn begin(path: &Path, own: Vec<Arc<dyn Motion>>, to: LabTime) -> Self {
        let (name, path) = (path.display().to_string(), path.to_owned());
        let job = Job::begin(move |teller| {
            let read = Opened::read(Some(&path), &own).map_err(|why| why.to_string());
            let run = read.and_then(|opened| {
                let to = opened.end().unwrap_or(to);
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
    pub(in crate::tui) fn subject(run: &Run, here: &Run, of: Subject, at: LabTime) -> Option<Subject> {
        let there = |machine: MachineId| {
            let name = here.record().cast.name(machine);
            run.record().cast.machines().find(|other| run.record().cast.name(*other) == name)
        };
        let (machine, viewer) = there(of.machine).zip(there(of.viewer))?;
        Some(Subject { machine, actor: run.record().cast.body(machine, at), viewer })
    }
}
