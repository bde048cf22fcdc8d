//! Behaviour as grids of numbers that a person can judge: a change in the netcode shows as a change in these.

use std::fmt::Write;

use crate::scenario::{Words, ZIGZAG, measure, walker};
use velocitas_analysis::metrics::ClientMetrics;
use velocitas_record::LabTime;

/// A minute and a half of somebody with something new to do every third of a second; the first ten seconds are left out.
fn figures(link: &str, settings: &str) -> ClientMetrics {
    let cast = walker("dunlin", &format!("settings = {{ {settings} }}")).replace(crate::scenario::ROUND, ZIGZAG)
        + &walker("heron", "");
    let run = Words { seed: 5, link, rest: cast, ..Words::default() }.run(90.0);
    measure(run.record(), 0, LabTime::from_secs(10.0), run.now())
}

fn table(head: &str, rows: &[(String, Vec<String>)]) -> String {
    let mut out = format!("{head}\n");
    for (name, cells) in rows {
        let _ = write!(out, "{name:>12}");
        for cell in cells {
            let _ = write!(out, "{cell:>12}");
        }
        out.push('\n');
    }
    out
}

#[test]
fn what_loss_and_repeats_cost() {
    let rows: Vec<_> = [0, 2, 5, 10, 20]
        .map(|loss| {
            let cells = [1, 2, 3, 5].map(|repeats| {
                let link = format!("latency = \"60 ms\"\njitter = \"5 ms\"\nloss = \"{loss} %\"");
                let m = figures(&link, &format!("ticks_per_message = {repeats}"));
                assert_eq!(m.corrections.unexplained, 0);
                format!("{} / {}", m.inputs.repeated, m.corrections.count)
            });
            (format!("{loss} % lost"), cells.to_vec())
        })
        .to_vec();
    let head = "inputs made up / corrections in 80 s, by ticks covered by a message\n                       1           2           3           5";
    insta::assert_snapshot!(table(head, &rows));
}

#[test]
fn what_latency_and_jitter_cost() {
    let rows: Vec<_> = [10, 60, 150, 300]
        .map(|latency| {
            let cells = [0, 5, 15, 30].map(|jitter| {
                let m = figures(&format!("latency = \"{latency} ms\"\njitter = \"{jitter} ms\""), "");
                assert_eq!(m.corrections.unexplained, 0);
                let age = m.view_age_ms.p50.unwrap_or(0.0);
                format!("{:.1} / {age:.0}", m.margin_ticks.p50.unwrap_or(0.0))
            });
            (format!("{latency} ms"), cells.to_vec())
        })
        .to_vec();
    let head = "median margin in ticks / view age in ms, by jitter\n                    0 ms        5 ms       15 ms       30 ms";
    insta::assert_snapshot!(table(head, &rows));
}
