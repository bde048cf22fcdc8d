//! Troubles: what went wrong for the same reason and in the same place, taken together. The list a person works through.
//!
//! A correction's reason is what was [found](crate::cause) behind it. A hop of the own character is its nearest correction's;
//! one of somebody else, and a stall, has its reason in how the frames before came about and in the snapshots that should have been there.

mod ledger;

pub(crate) use ledger::Ledger;

use velocitas_core::SolidId;
use velocitas_record::ids::MachineId;
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;

use crate::cause::{Cause, Finding, Found};
use crate::metrics::{Reel, Span, WINDOW};

/// One thing that corrections come from, whichever ticks it lies in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Source {
    /// As [`Cause::name`].
    pub cause: &'static str,
    /// The solid, where it is one.
    pub solid: Option<SolidId>,
    /// The tunable, where it is one.
    pub tunable: Option<&'static str>,
}

/// Why snapshots were not there when they were to be drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Dry {
    /// They were lost.
    Lost,
    /// They had come, and an ordered stream held them back behind one that was lost.
    HeldBack,
    /// They were under way.
    Late,
    /// The server stood still.
    ServerStood,
    /// None was due: the view delay is shorter than the way and the time between two of them.
    Seldom,
}

/// Why something went wrong.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reason {
    /// What was found behind corrections: one thing, or all that it takes.
    Corrected(Vec<Source>),
    /// Corrections behind which nothing was found.
    NotAttributed,
    /// Corrections of which nothing could be tried: the rule is not in this program.
    NotTried,
    /// Others were drawn past the newest snapshot.
    RanDry(Dry),
    /// Others are drawn as they come: interpolation is off.
    AsItCame,
    /// Drawn time ran on unevenly.
    Uneven,
    /// The guard pulled somebody else back.
    PutBack,
    /// The server put somebody else elsewhere.
    PutElsewhere,
    /// Others were drawn elsewhere than what had been received has them.
    Misdrawn,
    /// Others went otherwise between two snapshots than straight on.
    Straight,
    /// It was taken over or given up just before: its own is drawn where it is now, somebody else where it was a while ago.
    ChangedHands,
    /// The machine itself stood still.
    StoodStill,
    /// The own character was drawn otherwise than it went, and no correction is near.
    Unknown,
    /// Somebody was drawn in the present, and did otherwise than its rule and its last input had let expect.
    Foreseen,
}

/// What went wrong at a machine for one reason.
#[derive(Clone, Debug, PartialEq)]
pub struct Trouble {
    /// Whose screen.
    pub machine: MachineId,
    /// Why.
    pub reason: Reason,
    /// How often the present was taken back.
    pub corrections: u32,
    /// Frames in which something drawn moved otherwise than it should.
    pub hops: u32,
    /// How often everything stood still.
    pub stalls: u32,
    /// The jumps of the corrections, in metres.
    pub jumps_m: f64,
    /// The largest of them.
    pub worst_m: f64,
    /// Severity: what eyes saw jump after easing, the metres of all hops.
    pub seen_m: f64,
    /// Seconds in which it went on; what is less than a quarter of a second apart belongs together.
    pub seconds: f64,
    /// When it was first, and last.
    pub first: LabTime,
    /// When it was last.
    pub last: LabTime,
}

/// The troubles of all who play, or of one machine, in the whole seconds between two moments: the worst first.
pub fn troubles(found: Found<'_>, whose: Option<MachineId>, from: LabTime, to: LabTime) -> Vec<Trouble> {
    let record = found.record;
    let mut reel = Reel::default();
    let mut all = Vec::new();
    let (first, after) = (from.0.div_ceil(WINDOW.0), to.0 / WINDOW.0);
    let mut ledgers: Vec<(MachineId, Ledger)> =
        record.cast.players().filter(|m| whose.is_none_or(|w| w == *m)).map(|m| (m, Ledger::default())).collect();
    for second in first..after {
        let begin = LabTime(second * WINDOW.0);
        let span = Span { from: begin, to: LabTime(begin.0 + WINDOW.0 - 1), end: record.end };
        for (machine, ledger) in &mut ledgers {
            ledger.add(found, *machine, span, &mut reel);
        }
    }
    ledgers.into_iter().for_each(|(machine, ledger)| all.extend(ledger.troubles(machine)));
    sort(&mut all);
    all
}

/// The worst first: what eyes saw most of, then what lasted longest, then what was most often.
pub(crate) fn sort(all: &mut [Trouble]) {
    let often = |t: &Trouble| t.corrections + t.hops + t.stalls;
    all.sort_by(|a, b| {
        let by = b.seen_m.total_cmp(&a.seen_m).then(b.seconds.total_cmp(&a.seconds));
        by.then(often(b).cmp(&often(a))).then(a.reason.cmp(&b.reason)).then(a.machine.cmp(&b.machine))
    });
}

impl Source {
    fn of(cause: &Cause) -> Self {
        let (mut solid, mut tunable) = (None, None);
        match *cause {
            Cause::OneSided(id, _) => solid = Some(id),
            Cause::Differs { tunable: name, .. } => tunable = Some(name),
            _ => {}
        }
        Self { cause: cause.name(), solid, tunable }
    }

    fn words(&self, record: &Record) -> String {
        if let Some(solid) = self.solid {
            return record.cast.solid(solid).map_or("a solid", |s| s.name.as_str()).to_owned();
        }
        if let Some(tunable) = self.tunable {
            return format!("{tunable} differs");
        }
        match self.cause {
            "made_up" => "inputs made up",
            "held_back" => "inputs held back in the stream",
            "altered" => "inputs altered on the way",
            "client_skipped" => "ticks the client passed over",
            "server_skipped" => "ticks the server passed over",
            "pushed" => "pushes",
            "teleported" => "teleports",
            "knob" => "reconciliation turned",
            "pulled_back" => "pulls back by the guard",
            "rule_differs" => "another version of the rule",
            "not_owner" => "moved without owning it",
            "untimely" => "snapshots held against the present",
            "left_so" => "differences left as they were",
            other => other,
        }
        .to_owned()
    }
}

impl Reason {
    /// The reason of a correction.
    pub fn of(finding: &Finding) -> Self {
        if finding.rule_absent {
            return Self::NotTried;
        }
        if finding.causes.is_empty() {
            return Self::NotAttributed;
        }
        Self::Corrected(finding.causes.iter().map(Source::of).collect())
    }

    /// In a few words, for people.
    pub fn words(&self, record: &Record) -> String {
        match self {
            Self::Corrected(sources) => sources.iter().map(|s| s.words(record)).collect::<Vec<_>>().join(" with "),
            Self::NotAttributed => "not attributed".to_owned(),
            Self::NotTried => "not tried: the rule is not here".to_owned(),
            Self::RanDry(Dry::Lost) => "snapshots lost".to_owned(),
            Self::RanDry(Dry::HeldBack) => "snapshots held back in the stream".to_owned(),
            Self::RanDry(Dry::Late) => "snapshots late".to_owned(),
            Self::RanDry(Dry::ServerStood) => "the server stood still".to_owned(),
            Self::RanDry(Dry::Seldom) => "drawn past the newest snapshot".to_owned(),
            Self::AsItCame => "drawn as it comes".to_owned(),
            Self::Uneven => "drawn time runs unevenly".to_owned(),
            Self::PutBack => "somebody pulled back by the guard".to_owned(),
            Self::PutElsewhere => "somebody put elsewhere by the server".to_owned(),
            Self::Misdrawn => "drawn elsewhere than what was received has it".to_owned(),
            Self::Straight => "turns between snapshots".to_owned(),
            Self::ChangedHands => "it changed hands".to_owned(),
            Self::StoodStill => "the machine stood still".to_owned(),
            Self::Unknown => "no correction near".to_owned(),
            Self::Foreseen => "others did otherwise than foreseen".to_owned(),
        }
    }

    /// One word, for programs: that of the causes, joined.
    pub fn name(&self) -> String {
        match self {
            Self::Corrected(sources) => sources.iter().map(|s| s.cause).collect::<Vec<_>>().join("+"),
            Self::NotAttributed => "not_attributed".to_owned(),
            Self::NotTried => "not_tried".to_owned(),
            Self::RanDry(Dry::Lost) => "snapshots_lost".to_owned(),
            Self::RanDry(Dry::HeldBack) => "snapshots_held_back".to_owned(),
            Self::RanDry(Dry::Late) => "snapshots_late".to_owned(),
            Self::RanDry(Dry::ServerStood) => "server_stood_still".to_owned(),
            Self::RanDry(Dry::Seldom) => "snapshots_seldom".to_owned(),
            Self::AsItCame => "as_it_came".to_owned(),
            Self::Uneven => "drawn_time_uneven".to_owned(),
            Self::PutBack => "other_pulled_back".to_owned(),
            Self::PutElsewhere => "other_teleported".to_owned(),
            Self::Misdrawn => "drawn_otherwise".to_owned(),
            Self::Straight => "turns_between_snapshots".to_owned(),
            Self::ChangedHands => "changed_hands".to_owned(),
            Self::StoodStill => "stood_still".to_owned(),
            Self::Unknown => "unknown".to_owned(),
            Self::Foreseen => "foreseen_otherwise".to_owned(),
        }
    }
}

impl Trouble {
    /// In a line, for people.
    pub fn words(&self, record: &Record) -> String {
        format!("{}: {}", self.reason.words(record), self.counts())
    }

    /// In a few words: why, and how often.
    pub fn briefly(&self, record: &Record) -> String {
        let most = self.happened().into_iter().next().map_or_else(String::new, |most| format!(": {most}"));
        format!("{}{most}", self.reason.words(record))
    }

    /// What happened, how often each.
    fn happened(&self) -> Vec<String> {
        let plural = |n: u32, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        let counts = [(self.corrections, "correction"), (self.hops, "hop"), (self.stalls, "stall")];
        counts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| plural(*n, what)).collect()
    }

    /// How often, how long, how far.
    pub fn counts(&self) -> String {
        let mut words = self.happened().join(", ");
        if self.seconds >= 0.05 {
            words += if words.is_empty() { "for" } else { " in" };
            words += &format!(" {:.1} s", self.seconds);
        }
        if self.corrections > 0 {
            words += &format!(", {} each", metres(self.jumps_m / f64::from(self.corrections)));
        }
        if self.seen_m > 0.0 {
            words += &format!("; {} seen to jump", metres(self.seen_m));
        }
        words
    }
}

/// Metres, with centimetres below one.
fn metres(m: f64) -> String {
    match m {
        m if m < 0.01 => format!("{:.1} mm", m * 1e3),
        m if m < 1.0 => format!("{:.1} cm", m * 1e2),
        m => format!("{m:.1} m"),
    }
}
