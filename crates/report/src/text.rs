//! The figures of a run as a table for people.

use std::fmt::Write;

use velocitas_analysis::metrics::{ClientMetrics, FIGURES, Figure, Unit, Value};

use crate::summary::{EntityLife, Summary, TroubleRow};

/// Least width of a client's column.
const COLUMN: usize = 12;

/// A value in the digits that suit its unit.
fn shown(figure: &Figure, client: &ClientMetrics) -> String {
    let x = match (figure.get)(client) {
        Value::Word(word) => return word.to_owned(),
        Value::Number(None) => return "-".to_owned(),
        Value::Number(Some(x)) => x,
    };
    match figure.unit {
        Unit::Word | Unit::Count | Unit::Bytes => format!("{x:.0}"),
        Unit::Metres if x < 1.0 => format!("{:.1} cm", x * 100.0),
        Unit::Metres => format!("{x:.2} m"),
        Unit::Millis => format!("{x:.0} ms"),
        Unit::Ticks => format!("{x:.2}"),
        Unit::Share => format!("{:.2} %", x * 100.0),
        Unit::MetresPerSecond => format!("{x:.2} m/s"),
        Unit::Rate => format!("{x:.1}"),
    }
}

/// The figures, a column for each client as wide as what stands in it.
fn table(clients: &[ClientMetrics]) -> String {
    let figures = || FIGURES.iter().filter_map(|f| Some((f.name?, f)));
    let wide = |c: &ClientMetrics| {
        let all = figures().map(|(_, figure)| shown(figure, c).chars().count() + 2);
        all.chain([c.name.chars().count() + 2, COLUMN]).max().unwrap_or(COLUMN)
    };
    let widths: Vec<usize> = clients.iter().map(wide).collect();
    let row = |name: &str, cell: &dyn Fn(&ClientMetrics) -> String| {
        let cells = clients.iter().zip(&widths).map(|(c, width)| format!("{:>width$}", cell(c)));
        format!("{name:21}{}\n", cells.collect::<String>())
    };
    let figures = figures().map(|(name, figure)| row(name, &|c| shown(figure, c)));
    std::iter::once("\n".to_owned() + &row("", &|c| c.name.clone())).chain(figures).collect()
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
    if let Some(take) = &s.take {
        let _ = writeln!(out, "take {}", take.words());
    }
    out.push_str(&table(&s.clients));
    out.push_str(&troubles(s));
    out.push_str(&comings(s));
    for c in s.clients.iter().filter(|c| c.kind == "rogue") {
        let _ = writeln!(
            out,
            "\n{}: {} of {} tricks answered ({}){}; gained {:.2} m beyond what its rule allows (at most {:.2} m before a pull back), \
             {:.2} m beyond what was pressed",
            c.name,
            c.tricks_answered.unwrap_or(0),
            c.tricks.unwrap_or(0),
            accusations(c),
            match c.tricks_idle.unwrap_or(0) {
                0 => String::new(),
                idle => format!(", {idle} could have no effect"),
            },
            c.gain_m.unwrap_or(0.0),
            c.gain_peak_m.unwrap_or(0.0),
            c.gain_pressed_m.unwrap_or(0.0)
        );
    }
    for c in s.clients.iter().filter(|c| c.resyncs > 0) {
        let told: Vec<String> = c.resync_reasons.iter().map(|(why, n)| format!("{n} for {why}")).collect();
        let _ = writeln!(out, "\n{} was put back without an accusation: {}", c.name, told.join(", "));
    }
    if !s.still.is_empty() {
        let _ = writeln!(out, "\nproves nothing about what did not stir: {}", s.still.join("; "));
    }
    for c in s.clients.iter().filter(|c| c.kind != "rogue" && !c.verdicts.is_empty()) {
        let _ = writeln!(out, "\n{} is honest and was accused: {}", c.name, accusations(c));
    }
    out
}

/// Accusations by rule, in words.
fn accusations(client: &ClientMetrics) -> String {
    let by_rule = |(rule, n): (&&str, &u32)| format!("{n} for {rule}");
    let told: Vec<String> = client.verdicts.iter().map(by_rule).collect();
    if told.is_empty() { "no verdict".to_owned() } else { told.join(", ") }
}

/// So many troubles are told of; all are in the report for programs.
const TOLD: usize = 8;

/// What went wrong, by reason: the worst first.
fn troubles(s: &Summary) -> String {
    let mut out = String::new();
    // What a rogue brings upon itself is told with its tricks.
    let is_rogue = |t: &&TroubleRow| s.clients.iter().any(|c| c.name == t.client && c.kind == "rogue");
    let honest: Vec<&TroubleRow> = s.troubles.iter().filter(|t| !is_rogue(t)).collect();
    for t in honest.iter().take(TOLD) {
        let head = if out.is_empty() { "\ntroubles, the worst first\n" } else { "" };
        let _ = writeln!(out, "{head}  {:10} {}", t.client, t.words);
    }
    if honest.len() > TOLD {
        let _ = writeln!(out, "  and {} more: --report json has all", honest.len() - TOLD);
    }
    out
}

/// Who came later than the beginning, or went, or has not exactly the owner it came with: nothing where that is nobody.
fn comings(s: &Summary) -> String {
    let told = |e: &&EntityLife| e.born_ms > 0.0 || e.gone_ms.is_some() || e.owners != [e.name.as_str()];
    let mut out = String::new();
    for e in s.entities.iter().filter(told) {
        if out.is_empty() {
            let _ = writeln!(
                out,
                "\n{:27}{:>COLUMN$}{:>COLUMN$}{:>COLUMN$}  owned by",
                "came and went", "born", "gone", "seen after"
            );
        }
        let seconds = |ms: f64| format!("{:.2} s", ms / 1000.0);
        let gone = e.gone_ms.map_or_else(|| "-".to_owned(), seconds);
        let most = e.seen_after_ms.values().copied().fold(0.0, f64::max);
        let seen = if e.seen_after_ms.is_empty() { "-".to_owned() } else { format!("{most:.0} ms") };
        let owners = if e.owners.is_empty() { "nobody".to_owned() } else { e.owners.join(", ") };
        let name = format!("{} ({}, {})", e.name, e.rule, e.id);
        let _ = writeln!(out, "{name:27}{:>COLUMN$}{gone:>COLUMN$}{seen:>COLUMN$}  {owners}", seconds(e.born_ms));
    }
    out
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use velocitas_lab::{Course, Run};
    use velocitas_record::LabTime;

    use super::*;
    use crate::summary::summarise;

    fn run() -> Run {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        run.advance(LabTime::from_secs(20.0));
        run
    }

    fn run_figures() -> ClientMetrics {
        summarise(&run(), Duration::from_millis(100)).clients.swap_remove(4)
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
        let with = |m: Option<f64>| {
            let client = ClientMetrics { gain_m: m, response_ms: m, held_share: m, ..run_figures() };
            let of = |key| FIGURES.iter().find(|f| f.key == Some(key)).map(|f| shown(f, &client)).unwrap_or_default();
            [of("gain_m"), of("response_ms"), of("held_share")]
        };
        assert_eq!(with(Some(0.0031)), ["0.3 cm", "0 ms", "0.31 %"]);
        assert_eq!(with(Some(12.345)), ["12.35 m", "12 ms", "1234.50 %"]);
        assert_eq!(with(None), ["-", "-", "-"]);
    }
}
