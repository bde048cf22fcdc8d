//! Reads JSON Lines of a record back to the record that they were written from.
//!
//! Rows of one moment are put back together, in the order in which they come about: rules and who is there first, frames last. Windows,
//! causes and what a client drew for the first time follow from the rest.

use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom};
use std::sync::Arc;

use serde_json::Value;
use velocitas_core::Motion;

use super::block::Damage;
use super::putting::{Putting, RowPosition};
use super::read::{Stored, StoredError};
use super::restore::Restored;
use crate::export::RECORD_FORMAT;
use crate::run::Keep;
use crate::take::Take;

/// The first line is not longer: it holds a take.
const MOST_HEAD: u64 = crate::take::MOST_BYTES * 2;
/// No other line is longer.
const MOST_LINE: u64 = 1 << 22;

/// Whether a text begins as a record in JSON Lines does, of whatever format.
pub fn is_lines(bytes: &[u8]) -> bool {
    let mut plain = bytes.iter().filter(|byte| !byte.is_ascii_whitespace());
    br#"{"kind":"run""#.iter().all(|byte| plain.next() == Some(byte))
}

/// Lines of a file, one by one.
struct Lines<R> {
    from: BufReader<R>,
    line: Vec<u8>,
    number: usize,
    /// Where the line at hand begins.
    begin: usize,
}

impl<R: Read> Lines<R> {
    /// Goes on to the next line; `None` at the end. A line that is longer than `most` is cut.
    fn next(&mut self, most: u64) -> io::Result<Option<(&[u8], RowPosition)>> {
        self.begin += self.line.len();
        self.line.clear();
        self.number += 1;
        self.from.by_ref().take(most).read_until(b'\n', &mut self.line)?;
        Ok((!self.line.is_empty()).then_some((&self.line, (self.number, self.begin))))
    }
}

/// An object with kind and format.
fn head(line: &[u8]) -> Result<Value, StoredError> {
    let head: Value = serde_json::from_slice(line).map_err(|_| StoredError::NoRecord)?;
    match (&head["kind"], &head["format"]) {
        (kind, _) if kind != "run" => Err(StoredError::NoRecord),
        (_, format) if *format != RECORD_FORMAT => {
            Err(StoredError::Format(if format.is_null() { "no format".to_owned() } else { format!("format {format}") }))
        }
        _ => Ok(head),
    }
}

impl Stored {
    /// Reads JSON Lines. `own` are rules in Rust that its course may name; of what happened so much is kept.
    ///
    /// # Errors
    /// When the first line is not that of a record, or what it says of its course is not sound.
    pub fn read_lines(mut from: impl Read + Seek, own: &[Arc<dyn Motion>], keep: Keep) -> Result<Self, StoredError> {
        let length = from.seek(SeekFrom::End(0))? as usize;
        from.seek(SeekFrom::Start(0))?;
        let from = BufReader::with_capacity(1 << 16, from);
        let mut lines = Lines { from, line: Vec::new(), number: 0, begin: 0 };
        let head = head(lines.next(MOST_HEAD)?.map_or(&[], |(line, _)| line))?;
        let text: Option<Vec<&str>> = head["take"].as_array().and_then(|all| all.iter().map(Value::as_str).collect());
        let text = text.ok_or(StoredError::NoTake)?;
        let text = text.into_iter().fold(String::new(), |all, line| all + line + "\n");
        drop(head);
        let take = Take::read_over(text.as_bytes(), own)?;
        let mut putting = Putting::new(&take, keep)?;
        let done = loop {
            let Some((line, place)) = lines.next(MOST_LINE)? else { break putting.end() };
            putting.place = place;
            if !line.ends_with(b"\n") && !line.ends_with(b"}") {
                break Err(if line.len() as u64 == MOST_LINE {
                    "it is longer than any row"
                } else {
                    "it is cut short"
                });
            }
            let row = std::str::from_utf8(line).map_err(|_| "it is no UTF-8 text");
            if let Err(why) = row.and_then(|row| putting.row(row, place)) {
                break Err(why);
            }
        };
        let until = putting.until();
        let damage = done.err().map(|why| {
            let (line, begin) = putting.place;
            let why = format!("line {line}: {why}");
            Damage { sound: begin, left: length.saturating_sub(begin), until, why }
        });
        let Restored { record, meter, findings, ending } = putting.finish();
        Ok(Self { record, meter, findings, ending, damage, take })
    }
}
