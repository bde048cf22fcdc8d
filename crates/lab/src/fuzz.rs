//! What the fuzz targets in `fuzz/` call: ordinary functions, so that the usual build compiles and tests them.

use std::io::Cursor;
use std::sync::OnceLock;

use velocitas_analysis::{amiss, metrics};
use velocitas_record::LabTime;

use crate::export::Ending;
use crate::stored::{self, Stored, StoredError};
use crate::take::Journal;
use crate::{Course, Keep, Run, export};

/// Reads any bytes as a course and runs what is one for a moment, twice.
///
/// # Panics
/// When something in it panics, or comes out otherwise the second time.
pub fn course(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    match Course::parse("fuzz.course.toml", &text, &[]) {
        Ok(course) => {
            course.warnings.iter().for_each(|w| drop(w.to_string()));
            let to = LabTime::from_secs(0.3);
            let advanced = |course| {
                Run::new(course).map(|mut run| {
                    run.advance(to);
                    run
                })
            };
            if let (Ok(run), Ok(again)) = (advanced(course.clone()), advanced(course)) {
                assert_eq!((run.now(), run.digest()), (to, again.digest()), "the same course is the same run");
                let _ = run.figures();
            }
        }
        Err(error) => drop(error.to_string()),
    }
}

/// Reads any bytes as what machines told in three seconds of the demo, and asks of it.
///
/// # Panics
/// When something in it panics.
pub fn facts(data: &[u8]) {
    static TEXT: OnceLock<String> = OnceLock::new();
    let text = TEXT.get_or_init(|| {
        Run::new(Course::demo()).map(|run| Journal::new("demo", "fuzz").news(&run)).unwrap_or_default()
    });
    record(&stored::framed(text, data, LabTime::from_secs(3.0)));
}

/// Reads any bytes as rows of three seconds of the demo, and asks of them.
///
/// # Panics
/// When something in it panics.
pub fn rows(data: &[u8]) {
    static HEAD: OnceLock<Vec<u8>> = OnceLock::new();
    let head = HEAD.get_or_init(|| {
        let mut head = Vec::new();
        if let Ok(run) = Run::new(Course::demo()) {
            // Memory takes all.
            let _ = export::first_row(run.record(), Some(&Journal::new("demo", "fuzz").news(&run)), &mut head);
        }
        head
    });
    asked(Stored::read_lines(Cursor::new([head, data].concat()), &[], Keep::All));
    asked(Stored::read_lines(Cursor::new(data), &[], Keep::All));
}

/// Reads any bytes as a record file, and asks of what is one.
///
/// # Panics
/// When something in it panics.
pub fn record(data: &[u8]) {
    asked(Stored::read(Cursor::new(data), &[], Keep::All));
}

/// Asks a record for all that is asked of one.
fn asked(read: Result<Stored, StoredError>) {
    match read {
        Ok(Stored { record, .. }) => {
            let (from, to) = (LabTime::ZERO, record.end.min(LabTime::from_secs(3.0)));
            for machine in record.cast.players() {
                let _ = metrics::measure(&record, machine, from, to);
            }
            drop(amiss::amiss(&record, to));
            let mut rows = Vec::new();
            let written = export::write(&record, &Ending::default(), &mut rows);
            assert!(written.is_ok() && rows.ends_with(b"\n"), "memory takes all: {written:?}");
            let mut lines = rows.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
            assert!(lines.all(|line| line.starts_with(b"{") && line.ends_with(b"}")), "a row is an object on a line");
        }
        Err(error) => drop(error.to_string()),
    }
}
