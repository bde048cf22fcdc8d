//! One kind of row of a record as CSV (RFC 4180), for people who plot with tools of their own.
//!
//! Columns are those of all rows of the kind, in the order in which they are first met. What lies inside each other has a name
//! with dots; a list of two or three numbers is columns `.x`, `.y` and `.z`; any other list is joined by semicolons.

use std::io::Write;

use serde_json::Value;
use velocitas_lab::export;
use velocitas_record::record::Record;

/// Writes a table.
///
/// # Errors
/// Those of the writer.
pub fn csv_table(record: &Record, kind: &str, out: impl Write) -> Result<(), csv::Error> {
    let mut columns: Vec<String> = Vec::new();
    export::each_of(record, kind, |row| {
        flat("", row, &mut |name, _| {
            if !columns.iter().any(|column| column == name) {
                columns.push(name.to_owned());
            }
        });
    });
    let mut writer = csv::Writer::from_writer(out);
    writer.write_record(&columns)?;
    let mut done = Ok(());
    export::each_of(record, kind, |row| {
        if done.is_ok() {
            let mut cells = vec![String::new(); columns.len()];
            flat("", row, &mut |name, value| {
                if let Some(place) = columns.iter().position(|column| column == name) {
                    cells[place] = value;
                }
            });
            done = writer.write_record(&cells);
        }
    });
    done?;
    writer.flush()?;
    Ok(())
}

/// Rows of text as CSV.
pub(crate) fn quoted(rows: &[Vec<String>]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    // Memory takes everything.
    rows.iter().for_each(|row| drop(writer.write_record(row)));
    writer.into_inner().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default()
}

/// Calls back with the name and text of every cell of a row.
fn flat(name: &str, value: &Value, each: &mut impl FnMut(&str, String)) {
    let inner = |key: &str| if name.is_empty() { key.to_owned() } else { format!("{name}.{key}") };
    match value {
        // The table is of one kind.
        Value::Object(map) => {
            map.iter().filter(|(key, _)| !(name.is_empty() && *key == "kind")).for_each(|(key, value)| {
                flat(&inner(key), value, each);
            });
        }
        Value::Array(all) if (2..=3).contains(&all.len()) && all.iter().all(Value::is_number) => {
            ["x", "y", "z"].iter().zip(all).for_each(|(axis, value)| flat(&inner(axis), value, each));
        }
        Value::Array(all) => each(name, all.iter().map(words).collect::<Vec<_>>().join("; ")),
        other => each(name, words(other)),
    }
}

fn words(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        Value::Object(map) => map.get("words").or(map.get("name")).map_or_else(|| value.to_string(), words),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;
    use velocitas_lab::{Course, Run};
    use velocitas_record::LabTime;

    #[test]
    fn cells_have_names_that_say_where_they_lie() {
        let row = json!({
            "kind": "input", "at_ns": 5, "sampled": { "move": [0.5, -1.0], "sprint": true }, "contacts": ["crate 1", "kerb"],
            "causes": [{ "cause": "pushed", "words": "a push, by the server" }], "to": null,
        });
        let mut cells = Vec::new();
        flat("", &row, &mut |name, value| cells.push(format!("{name}={value}")));
        cells.sort();
        let wanted = [
            "at_ns=5",
            "causes=a push, by the server",
            "contacts=crate 1; kerb",
            "sampled.move.x=0.5",
            "sampled.move.y=-1.0",
            "sampled.sprint=true",
            "to=",
        ];
        assert_eq!(cells, wanted);
    }

    #[test]
    fn every_kind_of_row_is_a_table_with_as_many_lines_as_there_are_rows() {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        run.advance(LabTime::from_secs(12.0));
        let mut total = 0;
        for kind in export::row_kinds() {
            let mut out = Vec::new();
            csv_table(run.record(), kind.name, &mut out).expect("into memory");
            let mut rows = 0;
            export::each_of(run.record(), kind.name, |row| {
                assert_eq!(row["kind"], kind.name);
                rows += 1;
            });
            let mut reader = csv::Reader::from_reader(&out[..]);
            let width = reader.headers().expect("a head").len();
            let lines: Vec<csv::StringRecord> =
                reader.records().map(|line| line.expect("as wide as the head")).collect();
            assert_eq!((lines.len(), width > 1 || rows == 0), (rows, true), "{}", kind.name);
            total += rows;
        }
        let mut whole = Vec::new();
        export::write(run.record(), &export::Ending::default(), &mut whole).expect("into memory");
        assert_eq!(whole.iter().filter(|byte| **byte == b'\n').count(), total + 2, "and no row is in two tables");
    }
}
