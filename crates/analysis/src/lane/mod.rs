//! What can be followed over time, in one table: a lane is a figure by moment, with its unit.
//!
//! A [`Lane`] gives samples, each at its moment; a [`Strip`] takes those of a stretch together by column, so that the least and
//! the greatest of each are kept and a spike of one tick is seen however much time a column stands for.

mod reading;
mod sample;
mod screenings;
mod seen;
mod strip;

pub(crate) use reading::Reading;
pub use reading::Subject;
use sample::{
    apart, behind, buffer, bytes_down, bytes_up, covered, error, held, jump, late, lead, margin, messages, offset,
    replayed, round_trip, speed, view_delay,
};
use screenings::Screenings;
use seen::{drawn_error, judder, roughness, run_on, severity, view_age};
pub use strip::{Cell, Column, Effort, Reader, Strip};

use velocitas_record::record::Record;
use velocitas_record::time::LabTime;

/// What a series stands for; colours and shapes are chosen by it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stands {
    /// What the owner believes or does.
    Owner,
    /// What the server believes or does.
    Authority,
    /// What a viewer sees.
    Viewer,
    /// A fault.
    Fault,
    /// Nothing of these.
    Plain,
}

/// How the samples of a column are taken together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Together {
    /// A value that holds until the next one: the least and the greatest.
    Range,
    /// Something that happens: the least and the greatest of what did; between them is nothing.
    Events,
    /// How many there were.
    Count,
}

/// One line of a lane.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Series {
    /// Its name; empty where the lane has one only.
    pub name: &'static str,
    /// What it stands for.
    pub stands: Stands,
}

/// Gives samples of the moments from one to another, the latter not included: of which series, when, how much.
type Sample = fn(&mut Reading<'_>, LabTime, LabTime, &mut dyn FnMut(usize, LabTime, f64));

/// A row of the table.
#[derive(Clone, Copy, Debug)]
pub struct Lane {
    /// Its name for programs.
    pub key: &'static str,
    /// Its name for people.
    pub name: &'static str,
    /// The unit of its samples.
    pub unit: &'static str,
    /// A line that says what it is, and that it is measured or set.
    pub help: &'static str,
    /// Its lines.
    pub series: &'static [Series],
    /// How samples are taken together.
    pub together: Together,
    /// The least that a logarithmic axis tells apart from nothing, where one suits it.
    pub decades_from: Option<f64>,
    /// Whether it is of what is drawn on the viewer's screen.
    pub is_seen: bool,
    /// For how long after a moment its samples may still change.
    pub settles: LabTime,
    sample: Sample,
}

const fn one(stands: Stands) -> [Series; 1] {
    [Series { name: "", stands }]
}

const PLAIN: &[Series] = &one(Stands::Plain);
const SOON: LabTime = LabTime(3_000_000_000);
/// What is drawn is judged in whole seconds, and the server may be seconds late.
const JUDGED: LabTime = LabTime(6_000_000_000);

const fn lane(key: &'static str, name: &'static str, unit: &'static str, help: &'static str, sample: Sample) -> Lane {
    Lane {
        key,
        name,
        unit,
        help,
        series: PLAIN,
        together: Together::Range,
        decades_from: None,
        is_seen: false,
        settles: SOON,
        sample,
    }
}

impl Lane {
    const fn of(self, series: &'static [Series]) -> Self {
        Self { series, ..self }
    }

    const fn on_decades(self, from: f64) -> Self {
        Self { decades_from: Some(from), ..self }
    }

    const fn taken(self, together: Together) -> Self {
        Self { together, ..self }
    }

    const fn seen(self) -> Self {
        Self { is_seen: true, settles: JUDGED, ..self }
    }

    const fn judged(self) -> Self {
        Self { settles: JUDGED, ..self }
    }

    /// How often what has not settled is worth reading again; what is judged in whole seconds once it has.
    pub const fn pace(&self) -> LabTime {
        if self.settles.0 == JUDGED.0 { JUDGED } else { LabTime(100_000_000) }
    }

    /// The lane of a key, or of what others call it.
    pub fn of_key(key: &str) -> Option<&'static Self> {
        let key = key.to_lowercase().replace([' ', '_'], "-");
        let other = OTHER_WORDS.iter().find(|(word, _)| *word == key).map_or(key.as_str(), |(_, key)| key);
        LANES.iter().find(|lane| lane.key == other)
    }
}

/// What others call lanes.
const OTHER_WORDS: [(&str, &str); 25] = [
    ("clock", "offset"),
    ("head-of-line", "held"),
    ("stream", "held"),
    ("redundancy", "covered"),
    ("send-rate", "messages"),
    ("rtt", "round-trip"),
    ("ping", "round-trip"),
    ("latency", "round-trip"),
    ("tick", "lead"),
    ("tick-offset", "lead"),
    ("prediction-error", "error"),
    ("correction", "jump"),
    ("corrections", "jump"),
    ("input-buffer", "buffer"),
    ("command-queue", "buffer"),
    ("late-inputs", "late"),
    ("interpolation-delay", "view-delay"),
    ("jitter-buffer", "view-delay"),
    ("interpolation-age", "view-age"),
    ("smoothness", "roughness"),
    ("velocity", "speed"),
    ("upload", "bytes-up"),
    ("download", "bytes-down"),
    ("replays", "replayed"),
    ("resimulated", "replayed"),
];

const OWNER: &[Series] = &one(Stands::Owner);
const FAULT: &[Series] = &one(Stands::Fault);
const VIEWER: &[Series] = &one(Stands::Viewer);
const MILLIMETRE: f64 = 1e-3;

/// The table, in the order in which lanes are offered.
pub const LANES: [Lane; 24] = [
    lane("error", "prediction error", "m", "first prediction against the authority, every own tick", error)
        .of(OWNER)
        .on_decades(MILLIMETRE),
    lane("jump", "jump", "m", "how far a correction moved the newest predicted position", jump)
        .of(FAULT)
        .on_decades(MILLIMETRE)
        .taken(Together::Events),
    lane("round-trip", "round trip", "ms", "as the client measures it, with its spread", round_trip)
        .of(&[Series { name: "mean", stands: Stands::Plain }, Series { name: "\u{3c3}", stands: Stands::Viewer }]),
    lane("lead", "lead", "ticks", "own ticks made beyond the server's at the same moment", lead).of(OWNER),
    lane("offset", "clock offset", "ms", "what it takes the server's time to be, less what it is", offset).of(OWNER),
    lane(
        "margin",
        "margin",
        "ticks",
        "how early inputs reached the server before they were needed; below 0 late",
        margin,
    )
    .of(OWNER),
    lane("buffer", "server's buffer", "inputs", "inputs that wait at the server, at each of its ticks", buffer)
        .of(&one(Stands::Authority)),
    lane(
        "behind",
        "behind its owner",
        "ticks",
        "ticks of its owner's that the server has not made yet, since it waits for inputs",
        behind,
    )
    .of(&one(Stands::Authority)),
    lane(
        "apart",
        "echoes apart",
        "m",
        "from what the server has of it to what others are sent, where that is another: the smooth echo",
        apart,
    )
    .of(&one(Stands::Authority))
    .on_decades(MILLIMETRE),
    lane(
        "late",
        "late, made up",
        "inputs",
        "inputs that came after their tick was made, and ticks made without one",
        late,
    )
    .of(&[Series { name: "late", stands: Stands::Owner }, Series { name: "made up", stands: Stands::Fault }])
    .taken(Together::Count),
    lane("view-delay", "view delay", "ms", "how far behind the smoothed arrivals others are drawn", view_delay)
        .of(VIEWER),
    lane("view-age", "view age", "ms", "how far in the past the viewer sees it, every frame; below 0 ahead", view_age)
        .of(VIEWER)
        .seen(),
    lane(
        "run-on",
        "run on",
        "%",
        "share of a second's frames in which others are drawn past their newest state",
        run_on,
    )
    .of(VIEWER)
    .seen(),
    lane("drawn-error", "drawn error", "m", "from where the viewer draws it to where it was a lag before", drawn_error)
        .of(VIEWER)
        .on_decades(MILLIMETRE)
        .seen(),
    lane("roughness", "roughness", "m/s", "RMS of drawn velocity less the true one, by second", roughness)
        .of(VIEWER)
        .seen(),
    lane(
        "judder",
        "judder",
        "m/s",
        "RMS of drawn velocity less the mean of the frames before and after, by second",
        judder,
    )
    .of(VIEWER)
    .seen(),
    lane("speed", "speed", "m/s", "along the ground, as the server has it, and the fastest that is lawful", speed)
        .of(&[Series { name: "speed", stands: Stands::Authority }, Series { name: "lawful", stands: Stands::Plain }]),
    lane("bytes-up", "payload up", "kB/s", "sent in the second before, by kind", bytes_up).of(&[
        Series { name: "inputs", stands: Stands::Owner },
        Series { name: "claims", stands: Stands::Fault },
        Series { name: "other", stands: Stands::Plain },
    ]),
    lane("bytes-down", "payload down", "kB/s", "sent to it in the second before, by kind, lost or not", bytes_down).of(
        &[Series { name: "snapshots", stands: Stands::Authority }, Series { name: "other", stands: Stands::Plain }],
    ),
    lane("covered", "redundancy", "ticks", "ticks that each message up covers", covered).of(OWNER),
    lane("messages", "messages", "/s", "datagrams sent in the second before, up and down, lost or not", messages)
        .of(&[Series { name: "up", stands: Stands::Owner }, Series { name: "down", stands: Stands::Authority }]),
    lane(
        "held",
        "waiting in the stream",
        "messages",
        "messages that have come and wait for one sent before them",
        held,
    )
    .of(&[Series { name: "up", stands: Stands::Owner }, Series { name: "down", stands: Stands::Authority }])
    .judged(),
    lane("replayed", "replayed", "ticks", "ticks simulated again at a time", replayed)
        .of(OWNER)
        .taken(Together::Events),
    lane("severity", "severity", "m", "metres that eyes saw jump on its own screen, after easing", severity)
        .of(FAULT)
        .on_decades(MILLIMETRE)
        .taken(Together::Events)
        .judged(),
];

/// The most lines a lane has.
pub const MOST_SERIES: usize = 3;

/// How long before a moment a value may lie that is still told there.
const HOLDS: LabTime = LabTime(1_000_000_000);

/// What a lane says at a moment, by series: the newest sample not more than a second old; of what is counted, how many there were
/// in the second before.
pub fn value_at(record: &Record, lane: &Lane, subject: Subject, at: LabTime) -> [Option<f64>; MOST_SERIES] {
    value_with(&mut Screenings::default(), record, lane, subject, at)
}

fn value_with(
    screenings: &mut Screenings,
    record: &Record,
    lane: &Lane,
    subject: Subject,
    at: LabTime,
) -> [Option<f64>; MOST_SERIES] {
    let mut reading = Reading { record, subject, screenings };
    let mut values: [Option<(LabTime, f64)>; MOST_SERIES] = [None; MOST_SERIES];
    if lane.together == Together::Count {
        // None is a number as well.
        values[..lane.series.len()].fill(Some((LabTime::ZERO, 0.0)));
    }
    (lane.sample)(&mut reading, LabTime(at.minus(HOLDS).0 + 1), LabTime(at.0 + 1), &mut |series, when, value| {
        let slot = &mut values[series];
        *slot = match (*slot, lane.together) {
            (Some((_, count)), Together::Count) => Some((when, count + value)),
            (Some((newest, _)), _) if newest > when => *slot,
            _ => Some((when, value)),
        };
    });
    values.map(|value| value.map(|(_, value)| value))
}

/// Every sample of a lane from one moment to another, the latter not included, by series in the order of time.
pub fn samples(record: &Record, lane: &Lane, subject: Subject, from: LabTime, to: LabTime) -> Vec<Vec<(LabTime, f64)>> {
    let mut screenings = Screenings::default();
    let mut reading = Reading { record, subject, screenings: &mut screenings };
    let mut all = vec![Vec::new(); lane.series.len()];
    (lane.sample)(&mut reading, from, to, &mut |series, at, value| all[series].push((at, value)));
    all.iter_mut().for_each(|samples| samples.sort_by_key(|(at, _)| *at));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lanes_are_known_by_what_others_call_them() {
        for (word, key) in [
            ("rtt", "round-trip"),
            ("Ping", "round-trip"),
            ("interpolation delay", "view-delay"),
            ("tick_offset", "lead"),
        ] {
            assert_eq!(Lane::of_key(word).map(|lane| lane.key), Some(key), "{word}");
        }
        assert!(
            OTHER_WORDS
                .iter()
                .all(|(word, key)| LANES.iter().any(|lane| lane.key == *key)
                    && LANES.iter().all(|lane| lane.key != *word))
        );
        assert!(Lane::of_key("eror").is_none());
    }
}
