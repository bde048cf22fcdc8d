//! The rows of a run on their way out, second by second.

use std::io::{self, Write};

use velocitas_analysis::cause::Found;
use velocitas_analysis::metrics::Reel;
use velocitas_record::record::Samples;
use velocitas_record::time::LabTime;

use super::page::Page;
use super::slice::Slice;
use super::table::row_kinds;
use crate::run::{Keep, LEAST_KEPT, Run};

/// Rows are gathered and sorted a second at a time.
pub(super) const SLICE: LabTime = LabTime(1_000_000_000);
/// How long after a second it is known what became of everything in it, if the server makes ticks meanwhile.
const SETTLED: LabTime = LabTime(30_000_000_000);

/// Rows that go out in order, each once.
#[derive(Debug)]
pub struct Lines {
    reel: Reel,
    page: Page,
    /// Everything before this is out.
    to: LabTime,
}

impl Default for Lines {
    fn default() -> Self {
        Self::of(None)
    }
}

impl Lines {
    /// Of one kind, or of all.
    pub(super) fn of(only: Option<&str>) -> Self {
        Self { reel: Reel::default(), page: Page::new(only, &row_kinds()), to: LabTime::ZERO }
    }

    /// Writes what is settled and was not written, and has the run keep the rest, with what figures look back at. To be called at
    /// least once a minute of the run.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn follow(&mut self, run: &mut Run, out: &mut impl Write) -> io::Result<()> {
        // While the server stands still nothing becomes of what it was sent.
        let record = run.record();
        let heads = record.cast.actors().filter_map(|actor| {
            let track = record.authority(actor);
            track.head(track.len().checked_sub(1)?)
        });
        let newest = heads.map(|head| head.at).max().unwrap_or(LabTime::ZERO);
        self.until(run.found(), newest.minus(SETTLED), |row| out.write_all(row))?;
        run.set_keep(Keep::Time(run.now().minus(self.to).plus(LEAST_KEPT)));
        Ok(())
    }

    /// Writes all that was not written.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn rest(&mut self, found: Found<'_>, out: &mut impl Write) -> io::Result<()> {
        self.until(found, found.record.end.plus(SLICE), |row| out.write_all(row))
    }

    /// Hands out the rows of all seconds that end by a moment.
    pub(super) fn until(
        &mut self,
        found: Found<'_>,
        moment: LabTime,
        mut each: impl FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<()> {
        while self.to.plus(SLICE) <= moment {
            let (from, to) = (self.to, self.to.plus(SLICE));
            let Found { record, findings } = found;
            Slice { record, findings, from, to, page: &mut self.page, samples: Samples::default() }
                .gather(&mut self.reel);
            self.page.turn(&mut each)?;
            self.to = to;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::course::Course;
    use crate::export::{Ending, first_row, last_row, write};

    /// Written while it runs, keeping little, it is what it is written at the end of a run of which all is kept.
    #[track_caller]
    fn held(course: &str, seconds: u32) {
        let course = Course::parse("two", course, &[]).expect("it is sound");
        let ending = Ending::default();
        let mut run = Run::new(course.clone()).expect("it fits");
        run.set_keep(Keep::All);
        run.advance(LabTime::from_secs(seconds.into()));
        let mut whole = Vec::new();
        write(run.record(), &ending, &mut whole).expect("into memory");
        let (mut run, mut lines, mut rows) = (Run::new(course).expect("it fits"), Lines::default(), Vec::new());
        run.set_keep(Keep::Time(LEAST_KEPT));
        for second in 1..=seconds {
            run.advance(LabTime::from_secs(second.into()));
            lines.follow(&mut run, &mut rows).expect("into memory");
        }
        let kept = run.record().kept_from;
        assert!(kept > LabTime::from_secs(5.0), "it let go of what was before {kept}");
        lines.rest(run.found(), &mut rows).expect("into memory");
        let mut again = Vec::new();
        first_row(run.record(), None, &mut again).expect("into memory");
        again.append(&mut rows);
        last_row(run.record(), &ending, &mut again).expect("into memory");
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("text");
        let (whole, again) = (text(whole), text(again));
        for (row, same) in whole.lines().zip(again.lines()) {
            assert_eq!(row, same);
        }
        assert_eq!(whole.len(), again.len());
    }

    const TWO: &str = "format = 1\nname = \"two\"\ntick_rate = \"20 Hz\"\nworld = { min = [-40, -40], max = [40, 40] }\n\
        [link.bad]\nlatency = \"80 ms\"\nloss = \"8 %\"\n\
        [[cast]]\nname = \"heron\"\nrole = \"bot\"\nspawn = [0, 0]\nlink = \"bad\"\nroute = [{ at = [9, 0] }, { at = [0, 9], press = [\"hop\"] }]\n\
        [[cast]]\nname = \"curlew\"\nrole = \"bot\"\nspawn = [3, 0]\nlink = \"bad\"\narrangement = \"claims\"\nroute = [{ at = [-9, 0] }, { at = [0, 9] }]\n\
        [[event]]\nat = \"3 s\"\nevery = \"7 s\"\npush = { who = \"heron\", east = \"6 m/s\" }\n";

    #[test]
    fn written_while_it_runs_it_is_the_same() {
        held(TWO, 110);
    }

    #[test]
    fn a_server_that_stands_still_holds_the_rows_back() {
        let frozen = format!("{TWO}[[event]]\nat = \"20 s\"\nfreeze = {{ who = \"server\", lasts = \"45 s\" }}\n");
        held(&frozen, 140);
    }
}
