//! What the memory bound let go, had again: a stretch is run once more from a checkpoint, beside the frames, and takes the place of
//! the run while it is looked at. Its present stays the present.

use velocitas_lab::Run;
use velocitas_record::LabTime;

use super::job::Job;
use super::stage::Stage;
use super::stage::past::Recalling;

/// How much of what followed a moment is fetched with it.
const BEYOND: LabTime = LabTime(10_000_000_000);
/// Who steps on no farther than this from the end of a stretch has it lengthened at once.
const STEP: LabTime = LabTime(2_000_000_000);
/// Virtual time between two looks at whether it is still wanted.
const GRAIN: LabTime = LabTime(500_000_000);

impl Stage {
    /// The run in its present, whichever stretch of it is looked at.
    pub(super) fn whole(&self) -> &Run {
        self.past.present.as_deref().unwrap_or(&self.run)
    }

    /// The same, to be changed.
    pub(super) fn whole_mut(&mut self) -> &mut Run {
        self.past.present.as_deref_mut().unwrap_or(&mut self.run)
    }

    /// Makes the record of a moment be there. Where it must be run again this begins, and the answer is `false`.
    pub(super) fn fetch(&mut self, at: LabTime) -> bool {
        self.past.recalling = None;
        let (reach, now) = (self.whole().reach(), self.whole().now());
        let at = at.max(reach).min(now);
        if self.whole().record().kept_from <= at {
            if let Some(present) = self.past.present.take() {
                self.run = *present;
            }
            return true;
        }
        if self.past.present.is_some() && self.run.record().kept_from <= at {
            if at < self.run.now() {
                return true;
            }
            if at <= self.run.now().plus(STEP) {
                self.run.advance(at.plus(STEP).min(now));
                return true;
            }
        }
        let Some(mut run) = self.whole().recalled(at) else { return true };
        let to = at.plus(BEYOND).min(now);
        let job = Job::begin(move |teller| {
            while run.now() < to {
                run.advance(to.min(run.now().plus(GRAIN)));
                if !teller.tell(None) {
                    return;
                }
            }
            teller.tell(Some(Box::new(run)));
        });
        self.past.recalling = Some(Recalling { wanted: at, job });
        self.say(format!("{at} is no longer kept: it is run again"));
        false
    }

    /// Whether what is at hand goes to the end of the run, or to its beginning.
    pub(super) fn is_whole(&self, to_end: bool) -> bool {
        if to_end { self.past.present.is_none() } else { self.run.record().kept_from <= self.whole().reach() }
    }

    /// Whether a stretch is run again.
    pub(super) fn recalls(&self) -> bool {
        self.past.recalling.as_ref().is_some_and(|recalling| !recalling.job.is_over())
    }

    /// A stretch that was run again takes its place. Says whether one did.
    pub(super) fn look_at_recalled(&mut self) -> bool {
        let Some(recalling) = &mut self.past.recalling else { return false };
        let Some(run) = recalling.job.news().into_iter().flatten().next() else { return false };
        let wanted = recalling.wanted;
        self.past.recalling = None;
        let was = std::mem::replace(&mut self.run, *run);
        if self.past.present.is_none() {
            self.past.present = Some(Box::new(was));
        }
        let said = match self.run.parted() {
            None => format!("run again from {}: the same as it was", self.run.reach()),
            Some(at) => format!("run again, it is no more what it was from {at} on"),
        };
        self.say(said);
        self.pace.running = false;
        self.at = wanted.max(self.run.record().kept_from).min(self.run.now());
        self.refresh();
        true
    }

    /// The stretch looked at is the run from now on.
    pub(super) fn forget_present(&mut self) {
        self.past.recalling = None;
        if self.past.present.take().is_some() {
            self.run.meter();
        }
    }
}
