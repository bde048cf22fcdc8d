//! The record as JSON Lines, one object a line, in the order in which things happened. What there is to a row stands in one
//! table, from which `docs/record.md` is made.
//!
//! A cell is the text of what stands under a key. The rows of a second are put in order and go out once it is known what became of
//! everything in them, while the run goes on.

mod cell;
mod changes;
mod comings;
mod frames;
mod head;
mod inputs;
mod judged;
mod kind;
mod lines;
mod messages;
mod page;
mod slice;
mod states;
mod table;

pub use kind::RowSpec;
pub use lines::Lines;
pub use table::row_kinds;

use std::io::{self, Write};

use serde_json::{Value, json};

pub use head::RECORD_FORMAT;
use head::head;
use lines::SLICE;

pub use crate::ending::Ending;
use velocitas_analysis::cause::{Findings, Found};
use velocitas_record::record::Record;

/// Writes the whole record.
///
/// # Errors
/// Those of the writer.
pub fn write(record: &Record, ending: &Ending, out: &mut impl Write) -> io::Result<()> {
    first_row(record, None, out)?;
    let findings = Findings::default();
    Lines::default().rest(Found { record, findings: &findings }, out)?;
    last_row(record, ending, out)
}

/// Writes the first row: it tells of all that ever was, so it is known at the end. With the lines of its [take](crate::take) the record can be
/// opened again.
///
/// # Errors
/// Those of the writer.
pub fn first_row(record: &Record, take: Option<&str>, out: &mut impl Write) -> io::Result<()> {
    begin(out, &head(record, take))
}

/// By this it is known what a file is.
fn begin(out: &mut (impl Write + ?Sized), rest: &Value) -> io::Result<()> {
    write!(out, "{{\"kind\":\"run\",\"format\":{RECORD_FORMAT},")?;
    out.write_all(&serde_json::to_vec(rest)?[1..])?;
    out.write_all(b"\n")
}

/// Writes a first row that has no lines of a take, or others, with these: then its record can be opened. One of another format is written as it
/// is.
///
/// # Errors
/// Those of the writer.
pub fn with_take(first_row: &str, take: &str, out: &mut (impl Write + ?Sized)) -> io::Result<()> {
    match serde_json::from_str(first_row) {
        Ok(Value::Object(mut row)) if row.get("format").is_some_and(|format| *format == RECORD_FORMAT) => {
            row.retain(|key, _| key != "kind" && key != "format");
            row.insert("take".to_owned(), take.lines().collect());
            begin(out, &Value::Object(row))
        }
        _ => writeln!(out, "{first_row}"),
    }
}

/// Writes the last row.
///
/// # Errors
/// Those of the writer.
pub fn last_row(record: &Record, ending: &Ending, out: &mut impl Write) -> io::Result<()> {
    line(
        out,
        &json!({
            "kind": "end", "at_ns": record.end.0, "digest": format!("{:016x}", ending.digest),
            "refused_datagrams": ending.refused_datagrams,
        }),
    )
}

/// Calls back with each row of a kind, in the order of the record.
pub fn each_of(record: &Record, kind: &str, mut each: impl FnMut(&Value)) {
    let findings = Findings::default();
    let read = Lines::of(Some(kind)).until(Found { record, findings: &findings }, record.end.plus(SLICE), |row| {
        each(&serde_json::from_slice(row)?);
        Ok(())
    });
    // It was written just now.
    debug_assert!(read.is_ok(), "{read:?}");
}

fn line(out: &mut impl Write, value: &Value) -> io::Result<()> {
    serde_json::to_writer(&mut *out, value)?;
    out.write_all(b"\n")
}
