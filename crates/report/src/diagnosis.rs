//! What would cure a bad stretch: for people and for programs.

use std::fmt::Write;

use serde::Serialize;
use velocitas_lab::diagnose::{CURED, HELPS, Outcome, Tried, TroubleCase};

use crate::summary::TroubleRow;

/// A stretch, and everything that was tried on it, the best first.
#[derive(Clone, Debug)]
pub struct Diagnosis<'a> {
    /// What was run, as it was named.
    pub course: String,
    /// With which seed.
    pub seed: u64,
    /// The stretch and its trouble.
    pub case: &'a TroubleCase,
    /// The trouble, in numbers and words.
    pub trouble: TroubleRow,
    /// What was tried, one remedy each.
    pub tried: Vec<Tried>,
    /// What was tried two at a time, if that was asked for.
    pub pairs: Vec<Tried>,
}

#[derive(Serialize)]
struct Json<'a> {
    course: &'a str,
    seed: u64,
    from_ms: f64,
    to_ms: f64,
    client: &'a str,
    trouble: &'a TroubleRow,
    before: Row,
    cured: bool,
    remedies: Vec<Row>,
    pairs: Vec<Row>,
}

/// What a stretch came to.
#[derive(Serialize)]
struct Row {
    #[serde(skip_serializing_if = "Option::is_none")]
    remedy: Option<String>,
    left_share: f64,
    corrections: u32,
    hops: u32,
    stalls: u32,
    seen_m: f64,
    others_drawn_error_m: Option<f64>,
    own_drawn_error_m: Option<f64>,
    others_roughness_mps: Option<f64>,
    own_roughness_mps: Option<f64>,
    bytes: u64,
}

impl Row {
    fn of(outcome: &Outcome, remedy: Option<&str>, left_share: f64) -> Self {
        let ([others_drawn_error_m, own_drawn_error_m], [others_roughness_mps, own_roughness_mps]) =
            (outcome.drawn_error_m, outcome.roughness_mps);
        Self {
            remedy: remedy.map(str::to_owned),
            left_share,
            corrections: outcome.corrections,
            hops: outcome.hops,
            stalls: outcome.stalls,
            seen_m: outcome.seen_m,
            others_drawn_error_m,
            own_drawn_error_m,
            others_roughness_mps,
            own_roughness_mps,
            bytes: outcome.bytes,
        }
    }

    /// A line of the table, all columns as wide as their heads.
    fn line(&self) -> String {
        let [left, corrections, hops, stalls, seen, error, roughness, bytes] = self.cells();
        format!("{left:>7}{corrections:>13}{hops:>7}{stalls:>8}{seen:>9}{error:>16}{roughness:>15}{bytes:>9}")
    }

    fn cells(&self) -> [String; 8] {
        let metres = |m: Option<f64>| match m {
            None => "-".to_owned(),
            Some(m) if m < 0.01 => format!("{:.0} mm", m * 1e3),
            Some(m) if m < 1.0 => format!("{:.0} cm", m * 1e2),
            Some(m) => format!("{m:.1} m"),
        };
        let speed = |v: Option<f64>| v.map_or_else(|| "-".to_owned(), |v| format!("{v:.2}"));
        [
            format!("{:.0} %", self.left_share * 100.0),
            self.corrections.to_string(),
            self.hops.to_string(),
            self.stalls.to_string(),
            metres(Some(self.seen_m)),
            format!("{:>7}/{:<7}", metres(self.others_drawn_error_m), metres(self.own_drawn_error_m)),
            format!("{:>6}/{:<6}", speed(self.others_roughness_mps), speed(self.own_roughness_mps)),
            self.bytes.to_string(),
        ]
    }
}

/// What a stretch came to, as the cells of a table: what is left, corrections, hops, stalls, metres seen to jump, drawn error and
/// roughness (of others and of the own, each pair equally wide), bytes.
pub fn cells(outcome: &Outcome, left: f64) -> [String; 8] {
    Row::of(outcome, None, left).cells()
}

const HEAD: &str = "   left  corrections   hops  stalls     seen     drawn error  roughness m/s    bytes";

impl Diagnosis<'_> {
    /// Whether something that was tried takes all of the trouble away.
    pub fn is_cured(&self) -> bool {
        self.tried.iter().chain(&self.pairs).any(|t| t.left <= CURED)
    }

    /// For people.
    pub fn text(&self) -> String {
        let (from, to) = self.case.stretch;
        let mut out = String::new();
        // Writing to a string does not fail.
        let _ = writeln!(out, "{} \u{b7} seed {} \u{b7} {from} to {to}", self.course, self.seed);
        let _ = writeln!(out, "{}: {}\n", self.trouble.client, self.trouble.words);
        let before = Row::of(&self.case.before, None, 1.0);
        let _ = writeln!(out, "{HEAD}\n{}  as it was", before.line());
        let alone = self.tried.first().map_or(1.0, |t| t.left);
        // A pair is worth a line where it does better than anything alone.
        let pairs = || self.pairs.iter().filter(move |t| t.left < alone - CURED);
        for t in self.tried.iter().filter(|t| t.left < HELPS).chain(pairs()) {
            let _ = writeln!(out, "{}  {}", Row::of(&t.outcome, None, t.left).line(), t.remedy.words);
        }
        if !self.is_cured() {
            let what = if self.pairs.is_empty() { "nothing tried" } else { "nothing tried, alone or in pairs," };
            let best = self.tried.iter().chain(&self.pairs).map(|t| t.left).fold(f64::INFINITY, f64::min);
            let _ = writeln!(out, "\n{what} cures it: the best leaves {:.0} %", best * 100.0);
            if self.pairs.is_empty() {
                let _ = writeln!(out, "--pairs tries the best two at a time");
            }
        }
        let rest: Vec<&str> = self.tried.iter().filter(|t| t.left >= HELPS).map(|t| t.remedy.words.as_str()).collect();
        if !rest.is_empty() {
            let _ = writeln!(out, "\n{} leave nearly all of it or add to it: {}", rest.len(), rest.join("; "));
        }
        let idle = self.pairs.len() - pairs().count();
        if idle > 0 {
            let _ = writeln!(out, "{idle} pairs do no better than one alone");
        }
        out.push_str("\nfirst others, then the own; drawn error and roughness are 95th percentiles\n");
        out
    }

    /// For programs, indented.
    pub fn json(&self) -> String {
        let rows = |all: &[Tried]| all.iter().map(|t| Row::of(&t.outcome, Some(&t.remedy.words), t.left)).collect();
        let (from, to) = self.case.stretch;
        let json = Json {
            course: &self.course,
            seed: self.seed,
            from_ms: from.millis(),
            to_ms: to.millis(),
            client: &self.trouble.client,
            trouble: &self.trouble,
            before: Row::of(&self.case.before, None, 1.0),
            cured: self.is_cured(),
            remedies: rows(&self.tried),
            pairs: rows(&self.pairs),
        };
        let mut text = serde_json::to_string_pretty(&json).unwrap_or_default();
        text.push('\n');
        text
    }
}

#[cfg(test)]
mod tests {
    use serde_json::Value;
    use velocitas_analysis::trouble::troubles;
    use velocitas_lab::{Course, Run};
    use velocitas_record::LabTime;

    use super::*;

    #[test]
    fn text_and_json_tell_the_same_of_what_was_tried() {
        let mut run = Run::new(Course::demo()).expect("the demo fits");
        run.advance(LabTime::from_secs(14.0));
        let stretch = (LabTime::from_secs(4.0), LabTime::from_secs(14.0));
        let all = troubles(run.found(), None, stretch.0, stretch.1);
        let worst =
            all.into_iter().find(|t| t.reason.words(run.record()).contains("crate 7")).expect("it is in the way");
        let case = TroubleCase::about(&run, worst.clone(), stretch).expect("it is kept");
        let best = case.remedies.iter().find(|remedy| remedy.words == "crate 7 known to all").expect("it is offered");
        let tried = vec![case.try_out(best)];
        let trouble = TroubleRow::of(run.record(), &worst);
        let of = |tried: &[Tried]| {
            let (course, trouble) = ("demo".to_owned(), trouble.clone());
            Diagnosis { course, seed: 11, case: &case, trouble, tried: tried.to_vec(), pairs: Vec::new() }
        };
        let diagnosis = of(&tried);
        let (text, json) = (diagnosis.text(), diagnosis.json());
        let json: Value = serde_json::from_str(&json).expect("it is JSON");
        assert!(diagnosis.is_cured() && json["cured"] == true);
        let row = text.lines().find(|line| line.ends_with("crate 7 known to all")).expect("it is listed");
        let cells: Vec<&str> = row.split_whitespace().collect();
        let number = |key: &str| json["remedies"][0][key].as_f64().expect("a number");
        assert_eq!(cells[0], format!("{:.0}", number("left_share") * 100.0));
        assert_eq!((cells[2], cells[3]), (&*number("corrections").to_string(), &*number("hops").to_string()));
        let before = text.lines().find(|line| line.ends_with("as it was")).expect("it stands above");
        assert!(before.trim_start().starts_with("100 %"), "{before}");
        let [whole, of_it] = ["before", "trouble"].map(|of| json[of]["corrections"].as_u64().expect("a count"));
        assert!(whole >= of_it && of_it > 0, "{of_it} corrections of {whole} are of this trouble");
        // What helps little is told in a line of its own, and that nothing cures.
        let idle = Tried { left: 1.0, ..tried[0].clone() };
        let text = of(&[idle]).text();
        assert!(text.contains("nothing tried cures it: the best leaves 100 %"), "{text}");
        assert!(text.contains("1 leave nearly all of it or add to it: crate 7 known to all"), "{text}");
    }
}
