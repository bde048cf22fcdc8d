//! What crossed the links, and when: time runs down, a vertical line a machine, a slanted stroke a datagram.

use std::collections::BTreeMap;

use velocitas_analysis::crossing::{Crossing, crossings, missed, ticks, was_late_for};
use velocitas_analysis::follow::{Station, Stop, Way};
use velocitas_core::{Fact, MessageKind, Restored};
use velocitas_lab::Run;
use velocitas_record::record::Record;
use velocitas_record::{Happening, LabTime, MachineId, MemberId, Part};

use crate::about::about;
use crate::drawing::{Axis, Drawing, Mark, Plot, Shape, Tone, told};

/// What is drawn.
#[derive(Clone, Copy, Debug)]
pub struct Ladder<'a> {
    /// From left to right, the server among them.
    pub machines: &'a [MachineId],
    /// The first moment, and the last.
    pub span: (LabTime, LabTime),
    /// Where the playhead is, if it is to be drawn.
    pub cursor: Option<LabTime>,
    /// The datagram that is chosen.
    pub chosen: Option<&'a Crossing>,
    /// The way that is followed: everything else steps back.
    pub way: Option<&'a Way>,
    /// Every n-th tick has its number written.
    pub numbered: u32,
}

/// The drawing of a stretch, for a member.
pub fn ladder(run: &Run, member: MemberId, it: &Ladder<'_>) -> Drawing {
    let (from, to) = it.span;
    let record = run.record();
    let title = match it.way {
        Some(way) => format!(
            "{}: the way of {}'s input of tick {}",
            run.course().name,
            run.course()[member].name,
            record.shown(way.tick)
        ),
        None => format!("{}: what crossed {}'s link", run.course().name, run.course()[member].name),
    };
    let mut facts = about(run, member, (from, to.min(run.now())));
    facts.extend(it.way.map(|way| way_in_words(record, way)));
    Drawing { title, facts, plots: vec![strokes(run, it)] }
}

/// The plot alone, for a screen.
pub fn strokes(run: &Run, it: &Ladder<'_>) -> Plot {
    let (from, to) = it.span;
    let record = run.record();
    let names: Vec<(f64, String)> =
        it.machines.iter().enumerate().map(|(i, machine)| (i as f64, record.cast.name(*machine).to_owned())).collect();
    let last = it.machines.len().saturating_sub(1) as f64;
    let across = Axis { named: names, ..Axis::linear("machine", "", (-0.35, last + 0.35)) };
    Plot {
        name: format!("{from} to {to}"),
        across,
        up: Axis::linear("lab time", "lab time", (to.secs(), from.secs())),
        marks: Marks { record, it, now: run.now(), lost_after: BTreeMap::new(), all: Vec::new() }.gathered(),
        legend: vec![
            (Tone::Owner, "inputs, claims (dashed)".to_owned()),
            (Tone::Authority, "snapshots".to_owned()),
            (Tone::Muted, "other; lost ones break off".to_owned()),
            (Tone::Plain, "beside a line: held back in a stream".to_owned()),
            (Tone::Fault, "corrections".to_owned()),
        ],
        weight: 6,
        even: false,
    }
}

/// Several numbers in a row, short: of the last only what is other than in the first.
fn from_to(first: u64, last: u64) -> String {
    let (first, last) = (first.to_string(), last.to_string());
    let same = first.chars().zip(last.chars()).take_while(|(a, b)| a == b).count();
    let other = if first.len() == last.len() { &last[same.min(last.len() - 1)..] } else { &last };
    format!("{first}-{other}")
}

/// A way in a line: each station with how long after the first it was.
fn way_in_words(record: &Record, way: &Way) -> String {
    let first = way.stops.first().map_or(LabTime::ZERO, |stop| stop.at);
    let stops = way
        .stops
        .iter()
        .map(|stop| format!("{} {}", station(record, way, stop), told(stop.at.minus(first).millis(), "ms")));
    format!("{}; in all {}", stops.collect::<Vec<_>>().join(", "), told(way.lasts().millis(), "ms"))
}

/// A station in a few words.
pub fn station(record: &Record, way: &Way, stop: &Stop) -> String {
    let name = record.cast.name(stop.machine);
    match stop.what {
        Station::Pressed if way.given.is_empty() => "pressed".to_owned(),
        Station::Pressed => format!("pressed: {}", way.given.join(", ")),
        Station::Sampled => "sampled".to_owned(),
        Station::DrawnHere => format!("on {name}'s own screen"),
        Station::Sent { times: 1, lost: 0 } => "sent once".to_owned(),
        Station::Sent { times, lost: 0 } => format!("sent {times} times"),
        Station::Sent { times, lost } => format!("sent {times} times, {lost} lost"),
        Station::Arrived(margin) if margin < 0 => format!("arrived {} late", told(f64::from(-margin) / 4.0, "ticks")),
        Station::Arrived(margin) => format!("arrived {} early", told(f64::from(margin) / 4.0, "ticks")),
        Station::Used { tick, with } => {
            let with = with.map_or_else(String::new, |with| format!(", {}", with.name()));
            format!("used by tick {}{with}", record.shown(tick))
        }
        Station::ToldHere(tick) => format!("told its owner in {}", record.shown(tick)),
        Station::Compared(None) => "compared: the same".to_owned(),
        Station::Compared(Some(c)) => format!("compared: corrected {}", told(f64::from(c.jump), "m")),
        Station::ToldThere(tick) => format!("told others in {}", record.shown(tick)),
        Station::TakenIn => format!("arrived at {name}"),
        Station::DrawnThere => format!("on {name}'s screen"),
    }
}

/// How far beside a machine's line what is held back waits, of the way to the next.
const WAITS: f64 = 0.05;

/// Gathers what is drawn.
struct Marks<'a> {
    record: &'a Record,
    it: &'a Ladder<'a>,
    /// What comes later has not happened yet.
    now: LabTime,
    /// How long what is lost would have taken, by direction.
    lost_after: BTreeMap<(MachineId, MachineId), f64>,
    all: Vec<Mark>,
}

/// How long datagrams took in the mean, in seconds, by direction.
fn usual(all: &[Crossing]) -> BTreeMap<(MachineId, MachineId), f64> {
    let mut took: BTreeMap<(MachineId, MachineId), (f64, f64)> = BTreeMap::new();
    for c in all {
        if let Some(arrived) = c.row.arrived {
            let (sum, count) = took.entry((c.from, c.to)).or_default();
            (*sum, *count) = (*sum + arrived.minus(c.row.at).secs(), *count + 1.0);
        }
    }
    took.into_iter().map(|(way, (sum, count))| (way, sum / count)).collect()
}

impl Marks<'_> {
    fn gathered(mut self) -> Vec<Mark> {
        if let Some(cursor) = self.it.cursor {
            let at = cursor.secs();
            self.all.push(Mark::Rule { series: "playhead".to_owned(), at, level: true, tone: Tone::Plain });
        }
        for (i, machine) in self.it.machines.iter().enumerate() {
            let series = self.record.cast.name(*machine).to_owned();
            self.all.push(Mark::Rule { series, at: i as f64, level: false, tone: Tone::Muted });
            self.notches(i, *machine);
        }
        let (from, to) = self.it.span;
        let all = crossings(self.record, self.it.machines, from, to.min(self.now));
        self.lost_after = usual(&all);
        // What is chosen or followed lies on top.
        let (top, below): (Vec<&Crossing>, Vec<&Crossing>) = all.iter().partition(|c| self.is_bright(c));
        below.into_iter().chain(top).for_each(|crossing| self.stroke(crossing));
        for (i, machine) in self.it.machines.iter().enumerate() {
            self.troubles(i, *machine);
        }
        if let Some(way) = self.it.way {
            let mut stops = way.stops.clone();
            stops.sort_by_key(|stop| (stop.machine, stop.at));
            // What happens at one place and moment is one point.
            stops.chunk_by(|a, b| (a.machine, a.at) == (b.machine, b.at)).for_each(|together| self.stop(way, together));
        }
        self.all
    }

    fn place(&self, machine: MachineId) -> Option<f64> {
        self.it.machines.iter().position(|m| *m == machine).map(|place| place as f64)
    }

    fn is_bright(&self, crossing: &Crossing) -> bool {
        let id = crossing.id();
        self.it.chosen.is_some_and(|chosen| chosen.id() == id)
            || self.it.way.is_some_and(|way| way.carried.iter().any(|c| c.id() == id))
    }

    /// A machine's ticks. Of what lies in the middle numbers would be crossed by strokes.
    fn notches(&mut self, place: usize, machine: MachineId) {
        let part = if machine == MachineId::SERVER { Part::Server } else { Part::Client };
        let is_edge = place == 0 || place + 1 == self.it.machines.len();
        let (from, to) = self.it.span;
        let mut before = None;
        for (at, tick) in ticks(self.record, machine, part, from, to.min(self.now)) {
            let shown = self.record.shown(tick);
            // Ticks that were made at one moment are one notch.
            if let Some((_, first)) = before.filter(|(made, _)| *made == at)
                && let Some(Mark::Point { label, .. }) = self.all.last_mut()
            {
                *label = if label.is_empty() { String::new() } else { from_to(first, shown) };
                continue;
            }
            before = Some((at, shown));
            let is_numbered = is_edge && shown.is_multiple_of(u64::from(self.it.numbered.max(1)));
            self.all.push(Mark::Point {
                series: format!("tick {shown}"),
                at: (place as f64, at.secs()),
                shape: Shape::Notch,
                tone: Tone::Muted,
                label: if is_numbered { shown.to_string() } else { String::new() },
            });
        }
    }

    /// A datagram: from where it left to where it arrived, as far as it has come.
    fn stroke(&mut self, crossing: &Crossing) {
        let Some((a, b)) = self.place(crossing.from).zip(self.place(crossing.to)) else { return };
        let row = &crossing.row;
        let (tone, dashed) = match row.kind {
            kind if kind.is_word() => (Tone::Owner, true),
            MessageKind::Snapshot => (Tone::Authority, false),
            MessageKind::PullBack => (Tone::Verdict, false),
            // What an answer says of the time: the clock is set by it.
            MessageKind::Clock => (Tone::Authority, true),
            _ => (Tone::Muted, true),
        };
        let is_chosen = self.it.chosen.is_some_and(|chosen| chosen.id() == crossing.id());
        let tone = match (is_chosen, self.it.way) {
            (true, _) => Tone::Bright,
            (_, Some(_)) if !self.is_bright(crossing) => Tone::Line,
            _ => tone,
        };
        let series = format!("{} to {}", crossing.words(self.record), self.record.cast.name(crossing.to));
        let left = row.at.secs();
        let mut path = |points: Vec<(f64, f64)>| {
            self.all.push(Mark::Path { series: series.clone(), points, tone, dashed });
        };
        let Some(arrived) = row.arrived else {
            if !self.record.is_lost(crossing.to, row) {
                // Nobody has told how far it came.
                let took = self.lost_after.get(&(crossing.from, crossing.to)).copied().unwrap_or(LOST);
                return path(vec![(a, left), (a + (b - a) / 4.0, left + took / 4.0)]);
            }
            // It breaks off half way at the pace of the others.
            let took = self.lost_after.get(&(crossing.from, crossing.to)).copied().unwrap_or(LOST);
            let middle = (f64::midpoint(a, b), left + took / 2.0);
            path(vec![(a, left), middle]);
            let lost = format!("{series}: lost");
            let tone = if is_chosen { Tone::Bright } else { Tone::Muted };
            self.all.push(Mark::Point { series: lost, at: middle, shape: Shape::Cross, tone, label: String::new() });
            return;
        };
        // So far it has come by now.
        let reach = |arrives: LabTime| {
            let whole = arrives.minus(row.at).secs().max(1e-9);
            let part = (self.now.minus(row.at).secs() / whole).min(1.0);
            (a + (b - a) * part, left + whole * part)
        };
        path(vec![(a, left), reach(arrived)]);
        if let Some((since, until)) = crossing.held_back(self.record).filter(|(since, _)| *since <= self.now) {
            // It waits beside the line of who has it, until its turn has come.
            let (beside, until) = (b + (a - b).signum() * WAITS, until.min(self.now));
            path(vec![reach(arrived), (beside, since.secs()), (beside, until.secs())]);
        }
        if let Some(again) = row.again {
            // It forks half way.
            let fork = (f64::midpoint(a, b), f64::midpoint(left, arrived.secs()));
            if fork.1 <= self.now.secs() {
                path(vec![fork, if again <= self.now { (b, again.secs()) } else { fork }]);
            }
        }
        if let Some((made, tick)) = was_late_for(self.record, crossing).filter(|(made, _)| *made <= self.now) {
            self.late(made, tick, "late");
        }
    }

    /// A tick that was made without its input, at the server.
    fn late(&mut self, made: LabTime, tick: velocitas_record::RecordTick, how: &str) {
        let Some(server) = self.place(MachineId::SERVER) else { return };
        let shown = self.record.shown(tick);
        self.all.push(Mark::Point {
            series: format!("{how}: tick {shown}"),
            at: (server, made.secs()),
            shape: if how == "late" { Shape::Hollow } else { Shape::Square },
            tone: Tone::Owner,
            label: format!("{how} {shown}"),
        });
    }

    /// What went wrong at a machine: made-up inputs, corrections, verdicts.
    fn troubles(&mut self, place: usize, machine: MachineId) {
        let (from, to) = self.it.span;
        let to = to.min(self.now);
        for (at, tick) in missed(self.record, machine, from, to) {
            self.late(at, tick, "made up");
        }
        for row in self.record.of(machine).happenings.span(from, to) {
            let (what, shape, tone, label) = match row.what {
                Happening::Fact(Fact::Corrected(c)) if c.why != Restored::Settled => {
                    ("correction", Shape::Cross, Tone::Fault, told(f64::from(c.jump), "m"))
                }
                Happening::Fact(Fact::Verdict(v)) => {
                    ("verdict", Shape::Exclamation, Tone::Verdict, v.evidence.rule.name().to_owned())
                }
                Happening::Fact(Fact::ClockSet { shift }) => {
                    // A tick that is due later is one that was ahead.
                    let way = if shift > 0 { "back" } else { "ahead" };
                    let by = told(shift.unsigned_abs() as f64 / 1e6, "ms");
                    ("clock set", Shape::Notch, Tone::Fault, format!("clock set {by} {way}"))
                }
                _ => continue,
            };
            // A verdict is given by the server.
            let server = self.place(MachineId::SERVER).filter(|_| what == "verdict");
            let at = (server.unwrap_or(place as f64), row.at.secs());
            self.all.push(Mark::Point { series: what.to_owned(), at, shape, tone, label });
        }
    }

    fn stop(&mut self, way: &Way, together: &[Stop]) {
        let Some((first, place)) = together.first().and_then(|first| Some((first, self.place(first.machine)?))) else {
            return;
        };
        let label = match together {
            // One snapshot is for everybody.
            [Stop { what: Station::ToldHere(a), .. }, Stop { what: Station::ToldThere(b), .. }] if a == b => {
                format!("told both in {}", self.record.shown(*a))
            }
            all => all.iter().map(|stop| station(self.record, way, stop)).collect::<Vec<_>>().join(", "),
        };
        let (series, at) = (label.clone(), (place, first.at.secs()));
        self.all.push(Mark::Point { series, at, shape: Shape::Dot, tone: Tone::Bright, label });
    }
}

/// Where nothing arrives, what is lost is drawn as if it took this long, in seconds.
const LOST: f64 = 0.1;

#[cfg(test)]
mod tests {
    use super::from_to;

    #[test]
    fn numbers_in_a_row_are_told_short() {
        assert_eq!([from_to(530, 531), from_to(599, 601), from_to(98, 101)], ["530-1", "599-601", "98-101"]);
    }
}
