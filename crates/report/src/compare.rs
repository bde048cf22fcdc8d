//! Two runs held against each other: for people and for programs.

use std::fmt::Write;

use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use velocitas_analysis::compare::Parting;
use velocitas_analysis::metrics::{ClientMetrics, FIGURES, Figure, Unit, Value};
use velocitas_lab::Run;
use velocitas_record::LabTime;

use crate::summary::TroubleRow;

/// What came of one run.
#[derive(Clone, Debug)]
pub struct Half {
    /// Where its luck came from.
    pub seed: u64,
    /// The cast, each by name with the values of [`FIGURES`]; `None` where there were no samples.
    clients: Vec<(String, Vec<Option<f64>>)>,
    troubles: Vec<TroubleRow>,
}

/// Both runs with one seed, and where their states part.
#[derive(Clone, Debug)]
pub struct Pair {
    /// What came of the first, and of the second.
    pub halves: (Half, Half),
    /// The first first; the tick is as the first run shows it. `None` where states are not known: a report holds none.
    pub partings: Option<Vec<(u64, Parting)>>,
}

/// Two courses, takes or reports, those that can be run with the same seeds.
#[derive(Clone, Debug)]
pub struct Comparison {
    /// Their files, as they were named.
    pub files: (String, String),
    /// How long each run lasted.
    pub lasts: (LabTime, LabTime),
    /// What the second says otherwise than the first, by its keys.
    pub differ_in: Vec<String>,
    /// A pair for each seed.
    pub pairs: Vec<Pair>,
}

impl Half {
    /// What came of a run.
    pub fn of(run: &Run) -> Self {
        let measured = run.measured();
        let number = |figure: &Figure, client: &ClientMetrics| match (figure.get)(client) {
            Value::Number(x) => x,
            Value::Word(_) => None,
        };
        let figures = |client: &ClientMetrics| {
            let values = FIGURES.iter().map(|figure| number(figure, client)).collect();
            (client.name.clone(), values)
        };
        Self {
            seed: run.began().seed,
            clients: measured.clients.iter().map(figures).collect(),
            troubles: measured.troubles.iter().map(|t| TroubleRow::of(run.record(), t)).collect(),
        }
    }

    /// What a report says that `velocitas run --report json` wrote.
    ///
    /// # Errors
    /// What of it is missing, in words.
    pub fn of_report(report: &Json) -> Result<Self, String> {
        let expected = |what: &str| format!("expected {what}, as `velocitas run --report json` writes it");
        let clients = report.get("clients").and_then(Json::as_array).ok_or_else(|| expected("`clients`"))?;
        let client = |client: &Json| {
            let name =
                client.get("name").and_then(Json::as_str).ok_or_else(|| expected("the `name` of each client"))?;
            let at = |key: &str| match key.split('.').try_fold(client, |inside, part| inside.get(part))? {
                // Told by kind: the figure is how many there are of all.
                Json::Object(kinds) => kinds.values().map(Json::as_f64).sum(),
                value => value.as_f64(),
            };
            Ok((name.to_owned(), FIGURES.iter().map(|figure| figure.key.and_then(at)).collect()))
        };
        let troubles = report.get("troubles").ok_or_else(|| expected("`troubles`"))?;
        Ok(Self {
            seed: report.get("seed").and_then(Json::as_u64).ok_or_else(|| expected("a `seed`"))?,
            clients: clients.iter().map(client).collect::<Result<_, String>>()?,
            troubles: Deserialize::deserialize(troubles).map_err(|why| format!("{}: {why}", expected("`troubles`")))?,
        })
    }

    /// The figures of somebody.
    fn figures(&self, name: &str) -> Option<&[Option<f64>]> {
        self.clients.iter().find(|(other, _)| other == name).map(|(_, values)| values.as_slice())
    }
}

/// A figure that differs: means over the seeds.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Difference {
    /// A member of the cast.
    pub member: String,
    /// Its key in the report.
    pub key: &'static str,
    /// As the table for people calls it, if it does.
    #[serde(skip)]
    pub name: Option<&'static str>,
    /// Its unit.
    pub unit: &'static str,
    /// In the first; `None` where no seed had samples.
    pub a: Option<f64>,
    /// In the second.
    pub b: Option<f64>,
}

/// A trouble that came, went, or changed: means over the seeds.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TroubleChange {
    /// On whose screen, or in whose prediction.
    pub client: String,
    /// Why, in words.
    pub what: String,
    /// In the first; `None` where it is there with no seed.
    pub a: Option<TroubleMean>,
    /// In the second.
    pub b: Option<TroubleMean>,
}

/// How much of a trouble there was: means over all seeds, those without it too.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct TroubleMean {
    /// With how many seeds it was there.
    pub seeds: usize,
    /// How often the present was taken back.
    pub corrections: f64,
    /// Frames in which something drawn moved otherwise than it should.
    pub hops: f64,
    /// How often everything stood still.
    pub stalls: f64,
    /// What eyes saw jump.
    pub seen_m: f64,
}

#[derive(Serialize)]
struct Whole<'a> {
    same: bool,
    a: &'a str,
    b: &'a str,
    lasts_ms: f64,
    b_lasts_ms: f64,
    differ_in: &'a [String],
    only_in_a: Vec<&'a str>,
    only_in_b: Vec<&'a str>,
    states_known: bool,
    partings: Vec<Part<'a>>,
    troubles: Vec<TroubleChange>,
    figures: Vec<Difference>,
}

#[derive(Serialize)]
struct Part<'a> {
    seed_a: u64,
    seed_b: u64,
    entity: &'a str,
    tick: u64,
    at_ms: f64,
    what: String,
}

/// The troubles of a half that are somebody's for one reason.
fn rows<'a>(half: &'a Half, client: &str, what: &str) -> Vec<&'a TroubleRow> {
    half.troubles.iter().filter(|row| row.client == client && row.what == what).collect()
}

impl TroubleMean {
    /// Of the rows of each seed.
    fn of(seeds: &[Vec<&TroubleRow>]) -> Option<Self> {
        let there = seeds.iter().filter(|rows| !rows.is_empty()).count();
        let mean =
            |get: fn(&TroubleRow) -> f64| seeds.iter().flatten().map(|row| get(row)).sum::<f64>() / seeds.len() as f64;
        (there > 0).then(|| Self {
            seeds: there,
            corrections: mean(|row| row.corrections.into()),
            hops: mean(|row| row.hops.into()),
            stalls: mean(|row| row.stalls.into()),
            seen_m: mean(|row| row.seen_m),
        })
    }

    /// For people.
    fn words(&self) -> String {
        let counts = [(self.corrections, "corrections"), (self.hops, "hops"), (self.stalls, "stalls")];
        let shown = |x: f64| (x * 10.0).round() / 10.0;
        let one = |n: f64, what: &'static str| if shown(n) == 1.0 { what.trim_end_matches('s') } else { what };
        let mut told: Vec<String> = counts
            .iter()
            .filter(|(n, _)| *n > 0.0)
            .map(|(n, what)| format!("{} {}", shown(*n), one(*n, what)))
            .collect();
        if self.seen_m >= 0.0005 {
            told.push(format!("{:.3} m seen to jump", self.seen_m));
        }
        told.join(", ")
    }
}

impl TroubleChange {
    /// 0 where it came, 1 where it went, 2 where it differs.
    const fn kind(&self) -> u8 {
        match (&self.a, &self.b) {
            (None, _) => 0,
            (_, None) => 1,
            _ => 2,
        }
    }
}

fn mean(values: &[f64]) -> Option<f64> {
    (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64)
}

impl Comparison {
    /// Whether nothing differs: no state, no figure, nobody who takes part.
    pub fn is_same(&self) -> bool {
        let parted = self.pairs.iter().flat_map(|pair| &pair.partings).any(|partings| !partings.is_empty());
        let same = self.differences().is_empty() && self.troubles().is_empty() && self.lasts.0 == self.lasts.1;
        !parted && same && self.only().iter().all(Vec::is_empty)
    }

    /// Members of the cast that are there in the first only, and in the second only.
    fn only(&self) -> [Vec<&str>; 2] {
        let Some(Pair { halves: (a, b), .. }) = self.pairs.first() else { return [Vec::new(), Vec::new()] };
        let only = |these: &Half, those: &Half| -> Vec<usize> {
            (0..these.clients.len()).filter(|i| those.figures(&these.clients[*i].0).is_none()).collect()
        };
        [
            only(a, b).into_iter().map(|i| a.clients[i].0.as_str()).collect(),
            only(b, a).into_iter().map(|i| b.clients[i].0.as_str()).collect(),
        ]
    }

    /// Figures of those who take part in both that differ.
    pub fn differences(&self) -> Vec<Difference> {
        let Some(first) = self.pairs.first() else { return Vec::new() };
        let mut all = Vec::new();
        for (member, _) in &first.halves.0.clients {
            if first.halves.1.figures(member).is_none() {
                continue;
            }
            for (i, figure) in FIGURES.iter().enumerate() {
                let Some(key) = figure.key else { continue };
                let values = |half: fn(&Pair) -> &Half| -> Vec<f64> {
                    self.pairs.iter().filter_map(|pair| half(pair).figures(member)?[i]).collect()
                };
                let (a, b) = (values(|pair| &pair.halves.0), values(|pair| &pair.halves.1));
                if a != b {
                    let unit = if figure.unit == Unit::Count { "" } else { figure.unit.name() };
                    let (member, name) = (member.clone(), figure.name);
                    all.push(Difference { member, key, name, unit, a: mean(&a), b: mean(&b) });
                }
            }
        }
        all
    }

    /// Troubles that came, went, or changed: those that came first, and of each kind the worst first.
    pub fn troubles(&self) -> Vec<TroubleChange> {
        let mut known: Vec<(&str, &str)> = Vec::new();
        for row in self.pairs.iter().flat_map(|pair| pair.halves.0.troubles.iter().chain(&pair.halves.1.troubles)) {
            if !known.contains(&(&row.client, &row.what)) {
                known.push((&row.client, &row.what));
            }
        }
        let change = |(client, what): (&str, &str)| {
            let halves = |half: fn(&Pair) -> &Half| {
                self.pairs.iter().map(half).map(|half| rows(half, client, what)).collect::<Vec<_>>()
            };
            let (a, b) = (halves(|pair| &pair.halves.0), halves(|pair| &pair.halves.1));
            let (client, what) = (client.to_owned(), what.to_owned());
            (a != b).then(|| TroubleChange { client, what, a: TroubleMean::of(&a), b: TroubleMean::of(&b) })
        };
        let mut all: Vec<TroubleChange> = known.into_iter().filter_map(change).collect();
        let seen = |t: &TroubleChange| [t.a, t.b].iter().flatten().map(|mean| mean.seen_m).fold(0.0, f64::max);
        all.sort_by(|x, y| x.kind().cmp(&y.kind()).then(seen(y).total_cmp(&seen(x))));
        all
    }

    /// As JSON, indented.
    pub fn json(&self) -> String {
        let [only_in_a, only_in_b] = self.only();
        let partings = self.pairs.iter().flat_map(|pair| {
            pair.partings.iter().flatten().map(|(tick, parting)| Part {
                seed_a: pair.halves.0.seed,
                seed_b: pair.halves.1.seed,
                entity: &parting.entity,
                tick: *tick,
                at_ms: parting.at.millis(),
                what: parting.what.words(),
            })
        });
        let all = Whole {
            same: self.is_same(),
            a: &self.files.0,
            b: &self.files.1,
            lasts_ms: self.lasts.0.millis(),
            b_lasts_ms: self.lasts.1.millis(),
            differ_in: &self.differ_in,
            only_in_a,
            only_in_b,
            states_known: self.pairs.iter().all(|pair| pair.partings.is_some()),
            partings: partings.collect(),
            troubles: self.troubles(),
            figures: self.differences(),
        };
        serde_json::to_string_pretty(&all).unwrap_or_default() + "\n"
    }

    /// For people.
    pub fn text(&self) -> String {
        let mut out = String::new();
        let seeds = match self.pairs.len() {
            1 => {
                let (a, b) = (self.pairs[0].halves.0.seed, self.pairs[0].halves.1.seed);
                if a == b { format!("seed {a}") } else { format!("seeds {a} and {b}") }
            }
            n => format!("{n} seeds from {} on", self.pairs.first().map_or(0, |pair| pair.halves.0.seed)),
        };
        let (a, b) = (self.lasts.0.secs(), self.lasts.1.secs());
        let lasts = if a == b { format!("{a} s") } else { format!("{a} s and {b} s") };
        let _ = writeln!(out, "{} and {}: {lasts}, {seeds}", self.files.0, self.files.1);
        if !self.differ_in.is_empty() {
            let _ = writeln!(out, "  what they say differs in: {}", self.differ_in.join(", "));
        }
        if self.is_same() {
            let _ = writeln!(out, "  nothing came out otherwise");
            return out;
        }
        for (names, which) in self.only().iter().zip(["first", "second"]).filter(|(names, _)| !names.is_empty()) {
            let _ = writeln!(out, "  only in the {which}: {}", names.join(", "));
        }
        for pair in &self.pairs {
            self.parting_text(&mut out, pair);
        }
        self.troubles_text(&mut out);
        self.figures_text(&mut out);
        out
    }

    fn troubles_text(&self, out: &mut String) {
        let mut last = None;
        for change in self.troubles() {
            let kind = change.kind();
            if last != Some(kind) {
                let _ = writeln!(out, "  troubles that {}", ["came", "went", "are otherwise"][kind as usize]);
                last = Some(kind);
            }
            let told = match (change.a, change.b) {
                (Some(a), Some(b)) => format!("{}, now {}", a.words(), b.words()),
                (a, b) => a.or(b).map_or_else(String::new, |mean| mean.words()),
            };
            let seeds = change.a.or(change.b).map_or(0, |mean| mean.seeds);
            let of = self.pairs.len();
            let seeds = if kind < 2 && of > 1 { format!(" (with {seeds} of {of} seeds)") } else { String::new() };
            let _ = writeln!(out, "    {:<10} {}: {told}{seeds}", change.client, change.what);
        }
    }

    fn parting_text(&self, out: &mut String, pair: &Pair) {
        let seed = pair.halves.0.seed;
        let Some(partings) = &pair.partings else {
            let _ = writeln!(out, "  where states part is not known: a report holds none");
            return;
        };
        match partings.as_slice() {
            [] => {
                let _ = writeln!(out, "  seed {seed}: no state of the server is otherwise");
            }
            [(tick, first), rest @ ..] => {
                let also: Vec<&str> = rest.iter().map(|(_, parting)| parting.entity.as_str()).collect();
                let also = if also.is_empty() { String::new() } else { format!("; later {}", also.join(", ")) };
                let (at, entity) = (first.at, &first.entity);
                let _ =
                    writeln!(out, "  seed {seed}: parts at tick {tick} ({at}): {entity}, {}{also}", first.what.words());
            }
        }
    }

    fn figures_text(&self, out: &mut String) {
        let shown = |x: Option<f64>| x.map_or_else(|| "-".to_owned(), |x| format!("{}", (x * 1000.0).round() / 1000.0));
        let mut member = "";
        let all = self.differences();
        for d in all.iter().filter(|d| d.name.is_some()) {
            if member != d.member {
                member = &d.member;
                let _ = writeln!(out, "  {member}");
            }
            let by =
                d.a.zip(d.b).map_or(String::new(), |(a, b)| format!("{:>+12}", ((b - a) * 1000.0).round() / 1000.0));
            let name = d.name.unwrap_or(d.key).trim();
            let _ = writeln!(out, "    {name:<24}{:>12}{:>12}{by} {}", shown(d.a), shown(d.b), d.unit);
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;
    use velocitas_analysis::compare::Parted;
    use velocitas_record::RecordTick;

    use super::*;

    /// A report of one member with a figure and with troubles.
    fn half(seed: u64, corrections: u32, troubles: &[(&str, u32, f64)]) -> Half {
        let row = |&(what, hops, seen_m): &(&str, u32, f64)| {
            json!({
                "client": "teal", "reason": what, "what": what, "words": what, "corrections": 0, "hops": hops, "stalls": 0,
                "jumps_m": seen_m, "worst_m": seen_m, "seen_m": seen_m, "seconds": 1.0, "first_ms": 1.0, "last_ms": 2.0,
            })
        };
        let troubles: Vec<Json> = troubles.iter().map(row).collect();
        let client = json!({ "name": "teal", "corrections": { "count": corrections } });
        Half::of_report(&json!({ "seed": seed, "clients": [client], "troubles": troubles })).expect("it is a report")
    }

    fn comparison(halves: Vec<(Half, Half)>) -> Comparison {
        let lasts = LabTime::from_secs(20.0);
        Comparison {
            files: ("a.json".to_owned(), "b.json".to_owned()),
            lasts: (lasts, lasts),
            differ_in: Vec::new(),
            pairs: halves.into_iter().map(|halves| Pair { halves, partings: None }).collect(),
        }
    }

    #[test]
    fn the_same_twice_is_the_same_and_a_figure_is_told_with_its_means() {
        let same = comparison(vec![(half(1, 4, &[]), half(1, 4, &[]))]);
        assert!(same.is_same() && same.differences().is_empty());
        let other = comparison(vec![(half(1, 4, &[]), half(1, 7, &[])), (half(2, 6, &[]), half(2, 6, &[]))]);
        let found: Vec<_> = other.differences().into_iter().map(|d| (d.member, d.key, d.a, d.b)).collect();
        assert_eq!(found, [("teal".to_owned(), "corrections.count", Some(5.0), Some(6.5))]);
        assert!(!other.is_same() && other.text().contains("2 seeds from 1 on"), "{}", other.text());
        let json: Json = serde_json::from_str(&other.json()).expect("it is JSON");
        assert_eq!((&json["same"], &json["figures"][0]["b"]), (&json!(false), &json!(6.5)));
        assert_eq!(json["states_known"], json!(false), "a report holds no states");
    }

    #[test]
    fn troubles_that_came_stand_before_those_that_went_and_those_that_are_otherwise() {
        let (a, b) = ([("jitter", 4, 0.2), ("loss", 2, 0.1)], [("jitter", 4, 0.3), ("crate 7", 8, 0.5)]);
        let compared = comparison(vec![(half(1, 0, &a), half(1, 0, &b)), (half(2, 0, &a), half(2, 0, &a))]);
        let kinds: Vec<_> = compared.troubles().iter().map(|t| (t.what.clone(), t.kind())).collect();
        let kind = |what: &str, kind| (what.to_owned(), kind);
        assert_eq!(kinds, [kind("crate 7", 0), kind("jitter", 2), kind("loss", 2)], "the worst of a kind first");
        // Means are over all seeds, those without it too.
        let came = compared.troubles()[0].b.expect("it came");
        assert_eq!((came.seeds, came.hops, came.seen_m), (1, 4.0, 0.25));
        assert_eq!(came.words(), "4 hops, 0.250 m seen to jump");
    }

    #[test]
    fn a_state_that_parted_is_told_with_its_tick_although_no_figure_is_otherwise() {
        let mut parted = comparison(vec![(half(1, 0, &[]), half(1, 0, &[]))]);
        let (what, at) = (Parted::Missing { first: true }, LabTime::from_secs(8.5));
        parted.pairs[0].partings =
            Some(vec![(510, Parting { entity: "teal".to_owned(), tick: RecordTick(10), at, what })]);
        assert!(!parted.is_same());
        let json: Json = serde_json::from_str(&parted.json()).expect("it is JSON");
        assert_eq!((&json["partings"][0]["tick"], &json["partings"][0]["at_ms"]), (&json!(510), &json!(8500.0)));
    }

    #[test]
    fn what_a_report_lacks_is_named() {
        let lacks = |report: Json| Half::of_report(&report).expect_err("something is missing");
        assert!(lacks(json!({})).starts_with("expected `clients`"));
        assert!(lacks(json!({ "clients": [{}], "troubles": [], "seed": 1 })).starts_with("expected the `name`"));
        assert!(lacks(json!({ "clients": [], "seed": 1 })).starts_with("expected `troubles`"));
        assert!(lacks(json!({ "clients": [], "troubles": [] })).starts_with("expected a `seed`"));
    }
}
