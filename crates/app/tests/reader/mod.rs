//! An independent reader: plain code that arrives at every figure of the report from the file of a record alone.
//!
//! It uses nothing of the lab or the report. Of the core it uses arithmetic of vectors, the ground, and the rules themselves, as
//! anybody could who wants to know what a rule would have done.

mod sight;
mod tricks;

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;
use velocitas_core::{Vec3, vec3};

/// A record as it was read.
pub struct File {
    pub head: Value,
    pub end: Value,
    /// By kind, in the order of the file.
    rows: BTreeMap<String, Vec<Value>>,
    authority: BTreeMap<String, Track>,
}

/// What the server made of an entity, in the order of its ticks.
#[derive(Default)]
pub struct Track {
    pub at: Vec<u64>,
    pub tick: Vec<u64>,
    pub used: Vec<Option<u64>>,
    pub pos: Vec<Vec3>,
    pub teleported: Vec<bool>,
    pub rows: Vec<usize>,
}

impl Track {
    pub fn of_tick(&self, tick: u64) -> Option<usize> {
        self.tick.binary_search(&tick).ok()
    }

    /// The first state that includes a tick of its owner's, whose inputs are what is sent: mostly that of the same tick.
    pub fn made_in(&self, tick: u64) -> Option<usize> {
        let same = self.of_tick(tick)?;
        (same..self.tick.len()).find(|i| self.used[*i].is_none_or(|used| used >= tick))
    }

    /// The same, if nothing later is in it.
    pub fn answer(&self, tick: u64) -> Option<usize> {
        let made = self.made_in(tick)?;
        (self.tick[made] == tick || self.used[made] == Some(tick)).then_some(made)
    }
}

/// A figure: a number, or none.
pub type Figures = BTreeMap<String, Option<f64>>;

pub fn number(row: &Value, key: &str) -> Option<u64> {
    row[key].as_u64()
}

pub fn at(row: &Value) -> u64 {
    row["at_ns"].as_u64().expect("every row has its moment")
}

pub fn is(row: &Value, key: &str, word: &str) -> bool {
    row[key].as_str() == Some(word)
}

pub fn point(value: &Value) -> Vec3 {
    let x = |i: usize| value[i].as_f64().expect("three numbers") as f32;
    vec3(x(0), x(1), x(2))
}

/// The number of a piece.
fn piece(row: &Value) -> u64 {
    number(row, "piece").expect("a number")
}

/// The value at a share, by nearest rank.
fn percentile(values: &[f64], share: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let rank = ((share * sorted.len() as f64).ceil() as usize).clamp(1, sorted.len().max(1));
    sorted.get(rank - 1).copied()
}

impl File {
    pub fn read(text: &str) -> Self {
        let mut lines = text.lines().map(|line| serde_json::from_str::<Value>(line).expect("JSON"));
        let head = lines.next().expect("a first row");
        assert_eq!((&head["kind"], &head["format"]), (&Value::from("run"), &Value::from(3)));
        let mut rows: BTreeMap<String, Vec<Value>> = BTreeMap::new();
        let mut newest = 0;
        for row in lines {
            assert!(at(&row) >= newest, "rows are in order");
            newest = at(&row);
            rows.entry(row["kind"].as_str().expect("a kind").to_owned()).or_default().push(row);
        }
        let end = rows.remove("end").and_then(|mut rows| rows.pop()).expect("a last row");
        let mut file = Self { head, end, rows, authority: BTreeMap::new() };
        let mut authority: BTreeMap<String, Track> = BTreeMap::new();
        for (i, row) in file.all("authority").iter().enumerate() {
            let track = authority.entry(row["entity"].as_str().expect("whose").to_owned()).or_default();
            track.at.push(at(row));
            track.tick.push(number(row, "tick").expect("a tick"));
            track.used.push(number(row, "used_tick"));
            track.pos.push(point(&row["pos"]));
            track.teleported.push(row["teleported"] == true);
            track.rows.push(i);
        }
        file.authority = authority;
        file
    }

    pub fn all(&self, kind: &str) -> &[Value] {
        self.rows.get(kind).map_or(&[], Vec::as_slice)
    }

    pub fn of<'a>(&'a self, kind: &str, machine: &'a str) -> impl DoubleEndedIterator<Item = &'a Value> {
        self.all(kind).iter().filter(move |row| is(row, "machine", machine))
    }

    /// The same between two moments: rows are in the order of time.
    pub fn within<'a>(
        &'a self,
        (kind, machine): (&str, &'a str),
        (from, to): (u64, u64),
    ) -> impl DoubleEndedIterator<Item = &'a Value> {
        let all = self.all(kind);
        let (first, after) = (all.partition_point(|row| at(row) < from), all.partition_point(|row| at(row) <= to));
        all[first..after.max(first)].iter().filter(move |row| is(row, "machine", machine))
    }

    pub fn track(&self, entity: &str) -> &Track {
        &self.authority[entity]
    }

    /// Whether it is told of what was pressed, and by that alone.
    pub fn sends_inputs(&self, machine: &str) -> bool {
        ["server", "terminal"].iter().any(|kind| self.machine(machine)["arrangement"] == *kind)
    }

    pub fn ends(&self) -> u64 {
        at(&self.end)
    }

    pub fn machines(&self) -> impl Iterator<Item = &Value> {
        self.head["machines"].as_array().expect("a list").iter()
    }

    pub fn players(&self) -> Vec<&str> {
        self.machines().filter(|m| !m["plays"].is_null()).map(|m| m["name"].as_str().expect("a name")).collect()
    }

    fn machine(&self, name: &str) -> &Value {
        self.machines().find(|m| m["name"] == name).expect("a machine")
    }

    fn server(&self) -> &str {
        self.machines().find(|m| m["decides"] == true).and_then(|m| m["name"].as_str()).expect("one that decides")
    }

    pub fn cast(&self) -> &[Value] {
        self.head["cast"].as_array().expect("a list")
    }

    pub fn actor(&self, entity: &str) -> &Value {
        self.cast().iter().find(|actor| actor["name"] == entity).expect("an entity")
    }

    pub fn rule(&self, entity: &str) -> &Value {
        let rules = self.head["rules"].as_array().expect("a list");
        rules.iter().find(|rule| rule["name"] == self.actor(entity)["rule"]).expect("a rule")
    }

    /// What came last with the player of a machine up to a moment.
    fn body(&self, machine: &str, moment: u64) -> Option<&str> {
        let came =
            |actor: &&Value| actor["came_with"] == machine && actor["born_ns"].as_u64().is_some_and(|b| b <= moment);
        self.cast().iter().rev().find(came).and_then(|actor| actor["name"].as_str())
    }

    /// Whether the player of a machine owns an entity at a moment.
    fn owns(&self, machine: &str, entity: &str, moment: u64) -> bool {
        let rows = self.all("owner").iter().rev();
        let mut rows = rows.filter(|row| is(row, "entity", entity) && is(row, "owner", machine) && at(row) <= moment);
        match rows.next() {
            Some(row) => row["owns"] == true,
            None => {
                self.actor(entity)["owners_at_birth"].as_array().is_some_and(|all| all.iter().any(|o| o == machine))
            }
        }
    }

    /// Every figure of a machine under its key in the report.
    pub fn figures(&self, machine: &str) -> Figures {
        let mut figures = Figures::new();
        self.corrections(machine, &mut figures);
        self.joining(machine, &mut figures);
        self.inputs(machine, &mut figures);
        self.bytes(machine, &mut figures);
        self.streamed(machine, &mut figures);
        self.sights(machine, &mut figures);
        self.echoes(machine, &mut figures);
        self.hands(machine, &mut figures);
        if self.machine(machine)["plays"] == "rogue" {
            self.tricks(machine, &mut figures);
        }
        figures
    }

    /// Accusations by rule.
    pub fn verdicts(&self, machine: &str) -> BTreeMap<String, u64> {
        self.by("verdict", machine, "rule")
    }

    /// Resyncs by reason.
    pub fn resyncs(&self, machine: &str) -> BTreeMap<String, u64> {
        self.by("resync", machine, "why")
    }

    fn by(&self, kind: &str, machine: &str, key: &str) -> BTreeMap<String, u64> {
        let mut by = BTreeMap::new();
        for row in self.of(kind, machine) {
            *by.entry(row[key].as_str().expect("a word").to_owned()).or_default() += 1;
        }
        by
    }

    fn corrections(&self, machine: &str, figures: &mut Figures) {
        let rows: Vec<&Value> = self.of("correction", machine).collect();
        let teleported = |row: &&&Value| row["teleported"] == true;
        let jumped = || rows.iter().filter(|row| !teleported(row));
        let jumps = jumped().map(|row| row["jump_m"].as_f64().expect("metres"));
        let jumps: Vec<f64> = jumps.filter(|jump| *jump > 0.0).collect();
        let seen: BTreeSet<(u64, &str)> = jumped()
            .filter(|row| row["jump_m"].as_f64() > Some(0.0))
            .map(|row| (at(row), row["entity"].as_str().unwrap_or("")))
            .collect();
        let unexplained = rows.iter().filter(|row| row["causes"].as_array().is_none_or(Vec::is_empty)).count();
        let mut put = |key: &str, x: Option<f64>| figures.insert(format!("corrections.{key}"), x);
        put("count", Some(rows.len() as f64));
        put("teleported", Some(rows.iter().filter(teleported).count() as f64));
        put("jumps_seen", Some(seen.len() as f64));
        put("unexplained", Some(unexplained as f64));
        put("mean_m", (!jumps.is_empty()).then(|| jumps.iter().sum::<f64>() / jumps.len() as f64));
        put("p95_m", percentile(&jumps, 0.95));
        put("max_m", percentile(&jumps, 1.0));
        put("replayed_ticks", Some(rows.iter().filter_map(|row| number(row, "replayed_ticks")).sum::<u64>() as f64));
        let mut errors = Vec::new();
        for row in self.of("predicted", machine) {
            let track = self.track(row["entity"].as_str().expect("whose"));
            let tick = number(row, "tick").expect("a tick");
            let there = if self.sends_inputs(machine) { track.answer(tick) } else { track.of_tick(tick) };
            if let Some(i) = there {
                errors.push(f64::from(point(&row["pos"]).distance(track.pos[i])));
            }
        }
        for (key, share) in [("p50", 0.5), ("p95", 0.95), ("max", 1.0)] {
            figures.insert(format!("prediction_error_m.{key}"), percentile(&errors, share));
        }
        figures.insert("resyncs".into(), Some(self.of("resync", machine).count() as f64));
    }

    fn joining(&self, machine: &str, figures: &mut Figures) {
        let bytes = self
            .of("message", machine)
            .filter(|row| ["hello", "welcome", "challenge", "refusal"].iter().any(|kind| is(row, "message", kind)));
        let bytes: u64 = bytes.filter_map(|row| number(row, "bytes")).sum();
        figures.insert("joining.bytes".into(), Some(bytes as f64));
        figures.insert("joining.connections".into(), Some(self.of("connected", machine).count() as f64));
        figures.insert("joining.refusals".into(), Some(self.of("refused", machine).count() as f64));
        figures.insert("joining.there_ms".into(), Some(self.there(machine)));
        let mut after = Vec::new();
        for row in self.of("seen", machine) {
            let born = number(self.actor(row["entity"].as_str().expect("whom")), "born_ns").expect("a moment");
            let starts = self.of("started", machine).chain(self.of("unheard", machine));
            let started = starts.map(at).filter(|start| *start <= at(row)).max().unwrap_or(0);
            after.push((at(row) - born.max(started)) as f64 / 1e6);
        }
        figures.insert("seen_after_ms.p50".into(), percentile(&after, 0.5));
        figures.insert("seen_after_ms.max".into(), percentile(&after, 1.0));
    }

    /// How long the program of a machine ran, in milliseconds.
    fn there(&self, machine: &str) -> f64 {
        let from_the_beginning = self.cast().iter().any(|actor| actor["came_with"] == machine && actor["born_ns"] == 0);
        let mut turns: Vec<(u64, bool)> = vec![(0, from_the_beginning)];
        for (kind, there) in [("started", true), ("crashed", false), ("out", false)] {
            turns.extend(self.of(kind, machine).map(|row| (at(row), there)));
        }
        turns.sort_by_key(|(moment, _)| *moment);
        let until = self.ends();
        let ends = turns.iter().skip(1).map(|(moment, _)| *moment).chain([until]);
        let spans = turns.iter().zip(ends).filter(|((_, there), _)| *there);
        spans.map(|((from, _), to)| to - from).sum::<u64>() as f64 / 1e6
    }

    fn bytes(&self, machine: &str, figures: &mut Figures) {
        for way in ["up", "down"] {
            let rows: Vec<&Value> = self.of("message", machine).filter(|row| is(row, "way", way)).collect();
            let bytes: u64 = rows.iter().filter_map(|row| number(row, "bytes")).sum();
            figures.insert(format!("bytes_{way}"), Some(bytes as f64));
            figures.insert(format!("bytes_{way}_udp"), Some((bytes + 28 * rows.len() as u64) as f64));
        }
    }

    /// Where others were sent that its own are, where that was elsewhere.
    fn echoes(&self, machine: &str, figures: &mut Figures) {
        let (mut apart, mut cuts) = (Vec::new(), 0);
        for row in self.all("echo") {
            let entity = row["entity"].as_str().expect("whose");
            let track = self.track(entity);
            let Some(i) = track.of_tick(number(row, "tick").expect("a tick")) else { continue };
            if self.owns(machine, entity, at(row)) {
                apart.push(f64::from(track.pos[i].distance(point(&row["pos"]))));
                cuts += u32::from(row["teleported"] == true && !track.teleported[i]);
            }
        }
        for (key, share) in [("p50", 0.5), ("p95", 0.95), ("max", 1.0)] {
            figures.insert(format!("echo.apart_m.{key}"), percentile(&apart, share));
        }
        figures.insert("echo.cuts".into(), Some(f64::from(cuts)));
    }

    /// What ordered streams did: what was held back is told, and follows from the order in which pieces came.
    fn streamed(&self, machine: &str, figures: &mut Figures) {
        let told: Vec<&Value> = self.of("held_back", machine).collect();
        for way in ["up", "down"] {
            let found = self.held_back(machine, way);
            let told: BTreeSet<u64> = told.iter().filter(|row| is(row, "way", way)).map(|row| piece(row)).collect();
            assert!(told.iter().all(|number| found.contains_key(number)), "{machine} {way}: {told:?} of {found:?}");
            // What comes out of order and is read in one frame waits for nothing.
            let long =
                found.iter().filter(|(_, (waited, until))| *waited > 150_000_000 && *until < self.ends() - 100_000_000);
            long.for_each(|(number, _)| assert!(told.contains(number), "{machine} {way}: piece {number}"));
        }
        let again = self.of("message", machine).filter(|row| row["sent_before"] == true).count();
        let waits: Vec<f64> = told.iter().filter_map(|row| row["waited_us"].as_f64()).map(|us| us / 1e3).collect();
        figures.insert("stream.sent_again".into(), Some(again as f64));
        figures.insert("stream.held_back".into(), Some(told.len() as f64));
        figures.insert("stream.longest_ms".into(), percentile(&waits, 1.0));
        figures.insert("stream.full".into(), Some(self.of("stream_full", machine).count() as f64));
    }

    /// The pieces of a stream that came before one sent before them did: for how long each waited, and until when.
    fn held_back(&self, machine: &str, way: &str) -> BTreeMap<u64, (u64, u64)> {
        let mut came: BTreeMap<u64, u64> = BTreeMap::new();
        for row in self.of("message", machine).filter(|row| is(row, "way", way) && !row["piece"].is_null()) {
            for arrived in ["arrived_ns", "again_ns"].iter().filter_map(|key| number(row, key)) {
                let first = came.entry(piece(row)).or_insert(arrived);
                *first = arrived.min(*first);
            }
        }
        let mut turn = 0;
        let mut held = BTreeMap::new();
        for (next, (number, arrived)) in came.into_iter().enumerate() {
            if next as u64 != number {
                break;
            }
            turn = turn.max(arrived);
            if turn > arrived {
                held.insert(number, (turn - arrived, turn));
            }
        }
        held
    }

    fn inputs(&self, machine: &str, figures: &mut Figures) {
        let mut counts: BTreeMap<&str, u32> = BTreeMap::new();
        let (mut margins, mut latest) = (Vec::new(), Vec::new());
        for row in self.of("input", machine) {
            let fate = self.fate(machine, row);
            assert_eq!(row["fate"].as_str(), fate.map(|(name, _)| name), "{row}");
            if let Some((name, late)) = fate {
                *counts.entry("sampled").or_default() += 1;
                *counts.entry(name).or_default() += 1;
                latest.extend(late);
            }
            let is_fresh = fate.is_some_and(|(name, _)| name == "fresh");
            let is_open = fate.is_some_and(|(name, _)| name == "under_way");
            match row["provenance"].as_str() {
                Some("rested") => *counts.entry("rested").or_default() += 1,
                Some("repeated") => *counts.entry("repeated").or_default() += 1,
                // Taken for the same as before, and it was not.
                Some("unchanged") if !is_fresh && !is_open => *counts.entry("repeated").or_default() += 1,
                _ => {}
            }
            if row["provenance"].as_str().is_some_and(|made| made != "fresh" && made != "restated") && fate.is_none() {
                *counts.entry("never_sampled").or_default() += 1;
            }
            let is_said = row["provenance"].as_str() != Some("unchanged");
            margins.extend(row["margin_ticks"].as_f64().filter(|margin| is_said || *margin < 0.0));
        }
        for key in [
            "sampled",
            "fresh",
            "late",
            "passed_over",
            "outdated",
            "refused",
            "unused",
            "lost",
            "unheard",
            "under_way",
            "repeated",
            "rested",
            "never_sampled",
        ] {
            figures.insert(format!("inputs.{key}"), Some(f64::from(counts.get(key).copied().unwrap_or(0))));
        }
        figures.insert("inputs.latest_ms".into(), percentile(&latest, 1.0));
        figures.insert("margin_ticks.p05".into(), percentile(&margins, 0.05));
        figures.insert("margin_ticks.p50".into(), percentile(&margins, 0.5));
    }

    /// When the connection of an input ended or what it is for was gone.
    fn over(&self, machine: &str, row: &Value) -> Option<u64> {
        let ended = self.of("ended", machine).filter(|e| e["connection"] == row["connection"] && at(e) >= at(row));
        let gone = number(self.actor(row["entity"].as_str()?), "gone_ns");
        ended.map(at).chain(gone).min()
    }

    /// What became of an input, and how late it was if it was.
    fn fate(&self, machine: &str, row: &Value) -> Option<(&'static str, Option<f64>)> {
        let sampled = number(row, "sampled_ns")?;
        if !row["outdated_ns"].is_null() {
            return Some(("outdated", None));
        }
        if !row["passed_over_ns"].is_null() {
            return Some(("passed_over", None));
        }
        let (entity, tick) = (row["entity"].as_str()?, number(row, "tick")?);
        let track = self.track(entity);
        let made = if self.sends_inputs(machine) { track.made_in(tick) } else { track.of_tick(tick) };
        let made = made.map(|i| track.at[i]);
        let is_waited_for = made.is_none() && track.of_tick(tick).is_some();
        if let Some(arrived) = number(row, "arrived_ns") {
            let late = made.map(|made| arrived.saturating_sub(made) as f64 / 1e6);
            return Some(match (row["margin_ticks"].as_f64()? < 0.0, row["provenance"].as_str()) {
                (true, _) => ("late", late),
                (_, Some("fresh" | "unchanged")) => ("fresh", None),
                (_, Some(_)) => ("refused", None),
                _ if made.is_some() => ("unused", None),
                _ if is_waited_for => ("under_way", None),
                _ if track.tick.last() > Some(&tick) => ("passed_over", None),
                _ if self.over(machine, row).is_some() => ("unused", None),
                _ => ("under_way", None),
            });
        }
        let newest = track.at.last().copied().unwrap_or(0);
        let carriers = self.of("message", machine).filter(|m| is(m, "way", "up") && is(m, "to", self.server()));
        let carriers = carriers.filter(|m| at(m) >= sampled && is(m, "entity", entity)).filter(|m| {
            let (last, ticks) = (number(m, "tick").unwrap_or(0), number(m, "ticks").unwrap_or(0));
            last >= tick && last < tick + ticks
        });
        let carriers: Vec<&Value> = carriers.collect();
        // What goes by a stream comes in the end, as long as there is somebody to take it.
        if carriers.iter().any(|m| !m["piece"].is_null()) {
            return Some((if self.over(machine, row).is_some() { "unheard" } else { "under_way" }, None));
        }
        let carriers = carriers.into_iter();
        let arrived: Vec<u64> =
            carriers.filter(|m| m["unread"] != true).filter_map(|m| number(m, "arrived_ns")).collect();
        let over = self.over(machine, row).is_some();
        Some(match arrived.iter().max() {
            Some(last) if *last > newest && !over => ("under_way", None),
            Some(_) => ("unheard", None),
            // It may be said again, until its tick is over.
            None if !over && (is_waited_for || track.tick.last() < Some(&tick)) => ("under_way", None),
            None => ("lost", None),
        })
    }
}
