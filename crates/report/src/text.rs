//! The figures of a run as a table for people.

use std::fmt::Write;

use velocitas_lab::metrics::ClientMetrics;

use crate::summary::Summary;

/// Width of a client's column.
const COLUMN: usize = 12;

/// A row of the table: its name and what to show of each client.
type Row = (&'static str, fn(&ClientMetrics) -> String);

const ROWS: [Row; 22] = [
    ("kind", |c| c.kind.to_owned()),
    ("arrangement", |c| c.arrangement.to_owned()),
    ("corrections", |c| c.corrections.count.to_string()),
    ("  unexplained", |c| c.corrections.unexplained.to_string()),
    ("  mean jump", |c| metres(c.corrections.mean_m)),
    ("  largest jump", |c| metres(c.corrections.max_m)),
    ("  ticks replayed", |c| c.corrections.replayed_ticks.to_string()),
    ("prediction error p95", |c| metres(c.prediction_error_m.p95)),
    ("inputs sent", |c| c.inputs.sent.to_string()),
    ("  used as sent", |c| percent(c.inputs.fresh_share())),
    ("  made up", |c| c.inputs.repeated.to_string()),
    ("  late", |c| c.inputs.late.to_string()),
    ("  lost", |c| c.inputs.lost.to_string()),
    ("margin p05, ticks", |c| c.margin_ticks.p05.map_or_else(none, |m| format!("{m:.2}"))),
    ("view age p50", |c| millis(c.view_age_ms.p50)),
    ("extrapolated", |c| percent(c.extrapolated_share)),
    ("held", |c| percent(c.held_share)),
    ("response", |c| millis(c.response_ms)),
    ("bytes up", |c| c.bytes_up.to_string()),
    ("bytes down", |c| c.bytes_down.to_string()),
    ("verdicts", |c| c.verdicts.values().sum::<u32>().to_string()),
    ("resyncs", |c| c.resyncs.to_string()),
];

fn none() -> String {
    "-".to_owned()
}

fn metres(m: Option<f64>) -> String {
    m.map_or_else(none, |m| if m < 1.0 { format!("{:.1} cm", m * 100.0) } else { format!("{m:.2} m") })
}

fn millis(ms: Option<f64>) -> String {
    ms.map_or_else(none, |ms| format!("{ms:.0} ms"))
}

fn percent(share: Option<f64>) -> String {
    share.map_or_else(none, |s| format!("{:.2} %", s * 100.0))
}

/// A table with a column for each client.
pub fn text(s: &Summary) -> String {
    let mut out = String::new();
    // Writing to a string does not fail.
    let _ = writeln!(out, "{} \u{b7} {} Hz \u{b7} {} ticks \u{b7} seed {}", s.course, s.tick_rate, s.ticks, s.seed);
    let _ = writeln!(
        out,
        "digest {} \u{b7} {:.0} ms, {:.0} times real time \u{b7} record {:.1} MB",
        s.digest,
        s.wall_ms,
        s.times_real_time,
        s.record_bytes as f64 / 1e6
    );
    let _ = write!(out, "\n{:21}", "");
    for c in &s.clients {
        let _ = write!(out, "{:>COLUMN$}", c.name);
    }
    out.push('\n');
    for (name, show) in ROWS {
        let _ = write!(out, "{name:21}");
        for c in &s.clients {
            let _ = write!(out, "{:>COLUMN$}", show(c));
        }
        out.push('\n');
    }
    for c in s.clients.iter().filter(|c| c.kind == "rogue") {
        let rules: Vec<String> = c.verdicts.iter().map(|(rule, n)| format!("{rule} {n}")).collect();
        let _ = writeln!(
            out,
            "\n{}: {} of {} tricks answered ({}){}; gained {:.2} m before that",
            c.name,
            c.tricks_answered.unwrap_or(0),
            c.tricks.unwrap_or(0),
            rules.join(", "),
            match c.tricks_idle.unwrap_or(0) {
                0 => String::new(),
                idle => format!(", {idle} could have no effect"),
            },
            c.gain_m.unwrap_or(0.0)
        );
    }
    for c in s.clients.iter().filter(|c| c.kind != "rogue" && !c.verdicts.is_empty()) {
        let _ = writeln!(out, "\n{} is honest and was accused: {:?}", c.name, c.verdicts);
    }
    out
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use velocitas_lab::{Course, LabTime, Run};

    use super::*;
    use crate::summary::summarise;

    fn run() -> Run {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        run.advance(LabTime::from_secs(20.0));
        run
    }

    /// Twenty seconds of the demo in numbers: a change in the netcode shows here as a change that can be judged.
    #[test]
    fn twenty_seconds_of_the_demo() {
        let mut summary = summarise(&run(), Duration::from_millis(100));
        // What depends on the machine or on memory layout is not part of the picture.
        summary.record_bytes = 0;
        insta::assert_snapshot!(text(&summary));
    }

    #[test]
    fn good_means_nobody_honest_accused_and_every_trick_answered() {
        let summary = summarise(&run(), Duration::from_millis(100));
        assert!(summary.is_good());
        let mut accused = summary.clone();
        accused.clients[0].verdicts.insert("reach", 1);
        assert!(!accused.is_good());
        let mut unanswered = summary.clone();
        unanswered.clients[4].tricks_answered = Some(0);
        assert!(!unanswered.is_good());
        let faulty = Summary { step_faults: 1, ..summary };
        assert!(!faulty.is_good());
    }

    #[test]
    fn figures_have_the_precision_that_suits_them() {
        assert_eq!(metres(Some(0.0031)), "0.3 cm");
        assert_eq!(metres(Some(12.345)), "12.35 m");
        assert_eq!((metres(None), millis(None), percent(None)), (none(), none(), none()));
        assert_eq!(percent(Some(0.0123)), "1.23 %");
    }
}
