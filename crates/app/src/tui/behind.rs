//! Another run that lies behind this one: a kept take, or a course, that was run beside the frames.

use std::path::Path;

use super::stage::Stage;
use super::stage::behind::{Behind, Told};

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
