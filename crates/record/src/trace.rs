//! A recorded trace of a link: what each moment did to a datagram. CSV, documented in `docs/links.md`.

use thiserror::Error;

use crate::time::LabTime;

/// The longest trace, in rows.
const MOST_ROWS: usize = 1_000_000;
/// The longest delay, in milliseconds.
const MOST_DELAY_MS: f64 = 60_000.0;

/// Delays and losses over time. At its end it begins again.
#[derive(Clone, Debug, PartialEq)]
pub struct DelayTrace {
    /// The file it was read from, as the course names it.
    pub name: String,
    /// From when on what holds: a delay in milliseconds, or everything is lost.
    rows: Vec<(LabTime, Option<f64>)>,
}

/// Why a trace cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("line {line}: expected {expected}; found {found}")]
pub struct TraceError {
    /// From 1, with the heading.
    pub line: u64,
    /// What should be there.
    pub expected: &'static str,
    /// What is there.
    pub found: String,
}

impl DelayTrace {
    /// From text: a heading `seconds,delay_ms`, then rows in order. The last row ends it.
    ///
    /// # Errors
    /// The first mistake, with its line.
    pub fn parse(name: &str, text: &str) -> Result<Self, TraceError> {
        let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
        let wrong = |line: u64, expected, found: &str| {
            let found: String = found.chars().take(60).collect();
            Err(TraceError {
                line,
                expected,
                found: if found.is_empty() {
                    "nothing".to_owned()
                } else {
                    format!("`{}`", velocitas_gait::printable(&found))
                },
            })
        };
        let heading: Vec<String> = match reader.headers() {
            Ok(heading) => heading.iter().map(str::to_owned).collect(),
            Err(_) => Vec::new(),
        };
        if heading != ["seconds", "delay_ms"] {
            return wrong(1, "the heading seconds,delay_ms", &heading.join(","));
        }
        let mut rows: Vec<(LabTime, Option<f64>)> = Vec::new();
        for record in reader.records() {
            let record = match record {
                Ok(record) => record,
                Err(e) => {
                    let line = e.position().map_or(0, csv::Position::line);
                    return wrong(line, "two values, a time and a delay", "more or fewer");
                }
            };
            let line = record.position().map_or(0, csv::Position::line);
            let (at, delay) = (&record[0], &record[1]);
            let Some(seconds) = at.parse::<f64>().ok().filter(|s| (0.0..=86_400.0).contains(s)) else {
                return wrong(line, "a time in seconds, 0 to 86400", at);
            };
            let value = match delay {
                "lost" => None,
                other => match other.parse::<f64>().ok().filter(|ms| (0.0..=MOST_DELAY_MS).contains(ms)) {
                    Some(ms) => Some(ms),
                    None => return wrong(line, "a delay of 0 to 60000 ms, or `lost`", delay),
                },
            };
            let time = LabTime::from_secs(seconds);
            if rows.last().is_some_and(|(before, _)| *before >= time) {
                return wrong(line, "a time after that of the row before", at);
            }
            if rows.is_empty() && time > LabTime::ZERO {
                return wrong(line, "the first row at 0 seconds", at);
            }
            if rows.len() == MOST_ROWS {
                return wrong(line, "at most 1000000 rows", at);
            }
            rows.push((time, value));
        }
        if rows.len() < 2 {
            return wrong(1, "two rows or more: the last one says when it ends", &format!("{} rows", rows.len()));
        }
        Ok(Self { name: name.to_owned(), rows })
    }

    /// How long it is until it begins again.
    pub fn lasts(&self) -> LabTime {
        self.rows.last().map_or(LabTime::ZERO, |(at, _)| *at)
    }

    /// What it says of a moment: a delay in milliseconds, or `None` where everything is lost.
    pub fn at(&self, now: LabTime) -> Option<f64> {
        let into = LabTime(now.0 % self.lasts().0.max(1));
        let next = self.rows.partition_point(|(at, _)| *at <= into);
        self.rows.get(next.checked_sub(1)?)?.1
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_row_holds_until_the_next_and_the_end_is_the_beginning() {
        let trace = DelayTrace::parse("a.csv", "seconds,delay_ms\n0, 40\n0.5, lost\n1, 80.5\n2, 0\n").expect("sound");
        let at = |s: f64| trace.at(LabTime::from_secs(s));
        assert_eq!(
            [at(0.0), at(0.4), at(0.5), at(0.9), at(1.0), at(1.9)],
            [Some(40.0), Some(40.0), None, None, Some(80.5), Some(80.5)]
        );
        assert_eq!([at(2.0), at(2.6), at(201.0)], [Some(40.0), None, Some(80.5)]);
        assert_eq!(trace.lasts(), LabTime::from_secs(2.0));
    }

    #[test]
    fn what_is_no_trace_is_refused_with_its_line() {
        let told = [
            "",
            "time,delay\n0,1\n1,1\n",
            "seconds,delay_ms\n0,1\n",
            "seconds,delay_ms\n0,1\n2,1\n1,1\n",
            "seconds,delay_ms\n0,1\n1,1\n1,2\n",
            "seconds,delay_ms\n1,1\n2,1\n",
            "seconds,delay_ms\n0,1\n1,-3\n",
            "seconds,delay_ms\n0,1\n1,gone\n",
            "seconds,delay_ms\n0,1\nsoon,1\n",
            "seconds,delay_ms\n0,1\n1\n",
            "seconds,delay_ms\n0,nan\n1,1\n",
        ]
        .map(|text| DelayTrace::parse("a.csv", text).map(|_| ()).expect_err(text).to_string());
        insta::assert_snapshot!(told.join("\n"));
    }
}
