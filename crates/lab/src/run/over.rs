//! A run that is over: it was read from a record file, and nothing of it is run again.

use velocitas_analysis::cause::Findings;
use velocitas_analysis::metrics::Meter;
use velocitas_core::Tick;
use velocitas_record::command::Command;
use velocitas_record::ids::{MachineId, Part};
use velocitas_record::record::{Record, Recorder};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Unrecorded;

use super::{Run, RunError};
use crate::ending::Ending;
use crate::reread::ReadLater;
use crate::take::Take;

/// How a run ended that is over.
#[derive(Clone, Copy, Debug)]
pub(super) struct Over {
    pub(super) end: LabTime,
    /// `None` where that is not told.
    pub(super) ending: Option<Ending>,
}

impl Run {
    /// A run as its record tells it, with the figures so far and what was found for them. Settings and rules are those at its end.
    ///
    /// # Errors
    /// When the cast of its course does not fit a snapshot.
    pub(crate) fn over(
        take: &Take,
        (record, meter, findings): (Record, Meter, Findings),
        ending: Option<Ending>,
    ) -> Result<Self, RunError> {
        let mut run = Self::of_take(take)?;
        run.ahead.clear();
        run.told.clear();
        run.commands.clone_from(&take.commands);
        run.digests.clone_from(&take.digests);
        let read = ReadLater { rules: &run.rules, courses: &run.courses };
        let is_lasting = |command: &&Command| {
            use Command::{Allow, Calm, Reload, Set, Solid, Tune};
            matches!(command, Allow { .. } | Calm(_) | Reload { .. } | Set { .. } | Solid { .. } | Tune { .. })
        };
        for command in take.commands.iter().map(|(_, command)| command).filter(is_lasting) {
            run.lab.command(*command, read, &mut Unrecorded);
        }
        run.over = Some(Over { end: record.end, ending });
        (run.recorder, run.meter, run.findings) = (Recorder::of(record), Some(meter), findings);
        Ok(run)
    }

    /// Whether it is over: it can be looked at, and nothing of it can be run.
    pub const fn is_over(&self) -> bool {
        self.over.is_some()
    }

    /// How it stands: with the digest of everything so far, and how many datagrams could not be read. `None` where its record was cut
    /// short.
    pub fn ending(&self) -> Option<Ending> {
        let now = || Some(Ending { digest: self.lab.digest(), refused_datagrams: self.lab.refused() });
        self.over.map_or_else(now, |over| over.ending)
    }

    /// The newest tick that the server made.
    pub fn server_tick(&self) -> Tick {
        let of_record = || {
            let moment = self.moment(self.record().end);
            moment.tick(MachineId::SERVER, Part::Server).map(|tick| tick.tick(self.record().cast.first))
        };
        self.over.and_then(|_| of_record()).unwrap_or_else(|| self.lab.server_tick())
    }
}
