//! Two runs held against each other: for people and for programs.

use std::fmt::Write;

use serde::Serialize;
use velocitas_lab::LabTime;
use velocitas_lab::compare::Parting;
use velocitas_lab::metrics::{ClientMetrics, FIGURES, Unit, Value};

/// The figures of both runs with one seed, and where their states part.
#[derive(Clone, Debug)]
pub struct Pair {
    /// Of the first run, and of the second.
    pub seeds: (u64, u64),
    /// The figures of the cast.
    pub clients: (Vec<ClientMetrics>, Vec<ClientMetrics>),
    /// The first first; the tick is as the first run shows it.
    pub partings: Vec<(u64, Parting)>,
}

/// Two courses, each run with the same seeds.
#[derive(Clone, Debug)]
pub struct Comparison {
    /// Their files, as they were named.
    pub files: (String, String),
    /// How long each run lasted.
    pub lasts: LabTime,
    /// What the second says otherwise than the first, by its keys.
    pub differ_in: Vec<String>,
    /// A pair for each seed.
    pub pairs: Vec<Pair>,
}

/// A figure that is otherwise: means over the seeds.
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

#[derive(Serialize)]
struct Json<'a> {
    same: bool,
    a: &'a str,
    b: &'a str,
    lasts_ms: f64,
    differ_in: &'a [String],
    only_in_a: Vec<&'a str>,
    only_in_b: Vec<&'a str>,
    partings: Vec<Part<'a>>,
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

fn mean(values: &[f64]) -> Option<f64> {
    (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64)
}

impl Comparison {
    /// Whether nothing is otherwise: no state, no figure, nobody who takes part.
    pub fn is_same(&self) -> bool {
        let parted = self.pairs.iter().any(|pair| !pair.partings.is_empty());
        !parted && self.differences().is_empty() && self.only().iter().all(Vec::is_empty)
    }

    /// Members of the cast that are there in the first only, and in the second only.
    fn only(&self) -> [Vec<&str>; 2] {
        let Some(Pair { clients: (a, b), .. }) = self.pairs.first() else { return [Vec::new(), Vec::new()] };
        let missing = |from: &[ClientMetrics], name: &str| from.iter().all(|client| client.name != name);
        let only = |these: &[ClientMetrics], those: &[ClientMetrics]| -> Vec<usize> {
            (0..these.len()).filter(|i| missing(those, &these[*i].name)).collect()
        };
        [
            only(a, b).into_iter().map(|i| a[i].name.as_str()).collect(),
            only(b, a).into_iter().map(|i| b[i].name.as_str()).collect(),
        ]
    }

    /// Figures of those who take part in both that are otherwise.
    pub fn differences(&self) -> Vec<Difference> {
        let Some(first) = self.pairs.first() else { return Vec::new() };
        let mut all = Vec::new();
        for client in &first.clients.0 {
            let of = |clients: &[ClientMetrics]| clients.iter().position(|c| c.name == client.name);
            let (Some(i), Some(j)) = (of(&first.clients.0), of(&first.clients.1)) else { continue };
            for figure in FIGURES {
                let Some(key) = figure.key else { continue };
                let number = |client: &ClientMetrics| match (figure.get)(client) {
                    Value::Number(x) => x,
                    Value::Word(_) => None,
                };
                let a: Vec<f64> = self.pairs.iter().filter_map(|pair| number(&pair.clients.0[i])).collect();
                let b: Vec<f64> = self.pairs.iter().filter_map(|pair| number(&pair.clients.1[j])).collect();
                if a != b {
                    let (member, name, unit) = (client.name.clone(), figure.name, figure.unit);
                    let unit = if unit == Unit::Count { "" } else { unit.name() };
                    all.push(Difference { member, key, name, unit, a: mean(&a), b: mean(&b) });
                }
            }
        }
        all
    }

    /// As JSON, indented.
    pub fn json(&self) -> String {
        let [only_in_a, only_in_b] = self.only();
        let partings = self.pairs.iter().flat_map(|pair| {
            pair.partings.iter().map(|(tick, parting)| Part {
                seed_a: pair.seeds.0,
                seed_b: pair.seeds.1,
                entity: &parting.entity,
                tick: *tick,
                at_ms: parting.at.millis(),
                what: parting.what.words(),
            })
        });
        let all = Json {
            same: self.is_same(),
            a: &self.files.0,
            b: &self.files.1,
            lasts_ms: self.lasts.millis(),
            differ_in: &self.differ_in,
            only_in_a,
            only_in_b,
            partings: partings.collect(),
            figures: self.differences(),
        };
        serde_json::to_string_pretty(&all).unwrap_or_default() + "\n"
    }

    /// For people.
    pub fn text(&self) -> String {
        let mut out = String::new();
        let seeds = match self.pairs.len() {
            1 => format!("seed {}", self.pairs[0].seeds.0),
            n => format!("{n} seeds from {} on", self.pairs.first().map_or(0, |pair| pair.seeds.0)),
        };
        let _ = writeln!(out, "{} and {}: {} s, {seeds}", self.files.0, self.files.1, self.lasts.secs());
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
        self.figures_text(&mut out);
        out
    }

    fn parting_text(&self, out: &mut String, pair: &Pair) {
        let seed = pair.seeds.0;
        match pair.partings.as_slice() {
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
