//! Puts rows of JSON Lines back, moment by moment.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::ops::Range;

use serde::Deserialize;
use serde::de::IgnoredAny;
use velocitas_core::{
    Blending, CameraOn, ClockFact, Contacts, Drawn, Evidence, Input, InputFact, InputFate, LookBy, Made, Measure,
    MessageKind, Provenance, RULES, SolidId, StateEvent,
};
use velocitas_record::choice::{BLENDING, CAMERA, Choice, LOOKS};
use velocitas_record::ids::{MachineId, RecordTick};
use velocitas_record::known::Reach;
use velocitas_record::record::{ClockRow, ReceivedRow, Record};
use velocitas_record::screen::{DrawnFact, Screen};
use velocitas_record::time::LabTime;
use velocitas_record::watch::MessageRow;

use super::block::SILENT;
use super::restore::{Restored, Restoring, STRANGE, Strange};
use super::rows::{KEY, Keys, Names};
use super::said::{Row, Said};
use super::seldom::{ChangeNote, Seldom};
use crate::export::Ending;
use crate::run::{Keep, RunError};
use crate::take::Take;

/// Of a moment, what is put back first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Rank {
    Change,
    Fact,
    State,
    Input,
    Other,
    Frame,
    Drawn,
    End,
}

impl Rank {
    /// Of a kind of row; `None` where the row follows from others.
    fn of(kind: &str, has_fact: bool) -> Result<Option<Self>, Strange> {
        Ok(Some(match kind {
            "rule" | "tuned" | "ground" => Self::Change,
            "authority" | "echo" | "predicted" | "rewritten" => Self::State,
            "input" => Self::Input,
            "message" | "clock" | "measure" | "received" | "refusal" => Self::Other,
            "frame" => Self::Frame,
            "drawn" => Self::Drawn,
            "end" => Self::End,
            "window" | "seen" => return Ok(None),
            _ if has_fact => Self::Fact,
            _ => return Err("a row of an unknown kind, without `fact`"),
        }))
    }
}

const NO_ROW: Strange = "it is no JSON object with `kind` and `at_ns`";

/// What is needed of a row to put it in its place.
#[derive(Deserialize)]
struct Begin<'a> {
    #[serde(borrow)]
    kind: Cow<'a, str>,
    at_ns: LabTime,
    #[serde(default)]
    nth: u64,
    fact: Option<IgnoredAny>,
}

/// Kind and moment of a row that begins as rows are written, and of which no more is needed.
fn usual(line: &str) -> Option<(&str, LabTime)> {
    let (kind, rest) = line.strip_prefix("{\"kind\":\"")?.split_once("\",\"at_ns\":")?;
    let at = rest.split_once(',')?.0.parse().ok()?;
    let is_plain = matches!(Rank::of(kind, false), Ok(rank) if rank != Some(Rank::Fact));
    is_plain.then_some((kind, LabTime(at)))
}

/// A row that says exactly what was told.
#[derive(Deserialize)]
struct Exactly {
    fact: Seldom,
}

/// Rows of one moment have no more bytes, and inputs no more that is still to become of them: more is held by no run.
const MOST_AT_ONCE: usize = 1 << 26;
const MOST_PENDING: usize = 1 << 20;

/// What became of an input, and with which value.
type Became = (MachineId, InputFact, Option<Input>);

/// Where a row is: the number of its line, and its first byte.
pub(super) type RowPosition = (usize, usize);

/// Rows on their way back.
pub(super) struct Putting<'a> {
    into: Restoring<'a>,
    names: Names,
    /// The moment at hand, its rows, and up to when all were put back.
    at: LabTime,
    rows: Vec<(Rank, u64, Range<usize>, RowPosition)>,
    text: String,
    /// The row that is looked at.
    pub(super) place: RowPosition,
    until: LabTime,
    /// What becomes of inputs later than their rows come.
    pending: BTreeMap<LabTime, Vec<Became>>,
    ending: Option<Ending>,
}

impl<'a> Putting<'a> {
    pub(super) fn new(take: &'a Take, keep: Keep) -> Result<Self, RunError> {
        let (into, names) = (Restoring::new(take, keep)?, Names::default());
        let (rows, text, pending, ending) = (Vec::new(), String::new(), BTreeMap::new(), None);
        Ok(Self { into, names, at: LabTime::ZERO, rows, text, place: (0, 0), until: LabTime::ZERO, pending, ending })
    }

    /// Up to when all was put back.
    pub(super) const fn until(&self) -> LabTime {
        self.until
    }

    /// What came of it.
    pub(super) fn finish(self) -> Restored {
        Restored { ending: self.ending, ..self.into.finish(self.until) }
    }

    /// Takes the next row.
    pub(super) fn row(&mut self, line: &str, place: RowPosition) -> Result<(), Strange> {
        self.place = place;
        let (kind, at, nth, has_fact) = match usual(line) {
            Some((kind, at)) => (Cow::Borrowed(kind), at, 0, false),
            None => {
                let Begin { kind, at_ns, nth, fact } = serde_json::from_str(line).map_err(|_| NO_ROW)?;
                (kind, at_ns, nth, fact.is_some())
            }
        };
        if at < self.at {
            return Err("a row that is older than the one before");
        }
        if at.minus(self.at) > SILENT {
            return Err("a row of a time long after the one before");
        }
        let rank = Rank::of(&kind, has_fact)?;
        if at > self.at {
            self.put()?;
            if at.0 / 1_000_000_000 > self.at.0 / 1_000_000_000 {
                self.into.pass();
            }
            self.at = at;
        }
        if self.text.len() + line.len() > MOST_AT_ONCE || self.pending.len() > MOST_PENDING {
            return Err("more at one moment than any run has");
        }
        if let Some(rank) = rank {
            let begin = self.text.len();
            self.text.push_str(line);
            self.rows.push((rank, nth, begin..self.text.len(), place));
        }
        Ok(())
    }

    /// No more rows come. What became of inputs later is not told of.
    pub(super) fn end(&mut self) -> Result<(), Strange> {
        self.put()
    }

    /// Puts the rows of the moment at hand back.
    fn put(&mut self) -> Result<(), Strange> {
        let (mut rows, text) = (std::mem::take(&mut self.rows), std::mem::take(&mut self.text));
        // Facts of a machine are counted; all else is as it came.
        rows.sort_by_key(|(rank, nth, ..)| (*rank, *nth));
        self.become_until(LabTime(self.at.0.saturating_sub(1)))?;
        let mut screens: BTreeMap<MachineId, Screen> = BTreeMap::new();
        let later = rows.partition_point(|(rank, ..)| *rank <= Rank::Input);
        for (at, (rank, _, range, place)) in rows.iter().enumerate() {
            self.place = *place;
            if at == later {
                self.become_until(self.at)?;
            }
            self.names.learn(&self.into.record().cast);
            let line = &text[range.clone()];
            let row: Row<'_> = serde_json::from_str(line).map_err(|_| NO_ROW)?;
            let keys = Keys { row: &row, names: &self.names };
            match rank {
                Rank::Change => change(&mut self.into, keys, self.at)?,
                Rank::Fact => fact(&mut self.into, line, self.at)?,
                Rank::State => state(&mut self.into, keys, self.at)?,
                Rank::Input => input(self.into.record(), keys, self.at, &mut self.pending)?,
                Rank::Other => other(&mut self.into, keys, self.at)?,
                Rank::Frame => drop(screens.insert(keys.machine("machine")?, frame(keys)?)),
                Rank::Drawn => {
                    let (own, drawn) = drawn(keys)?;
                    let screen = screens.get_mut(&keys.machine("machine")?).ok_or("what is drawn in no frame")?;
                    if own { screen.own.push(drawn) } else { screen.others.push(drawn) }
                }
                Rank::End => {
                    let digest = keys.must("digest", |digest| u64::from_str_radix(digest.word()?, 16).ok())?;
                    let refused_datagrams = keys.must("refused_datagrams", Said::whole)?;
                    self.ending = Some(Ending { digest, refused_datagrams });
                }
            }
        }
        self.become_until(self.at)?;
        screens.iter().try_for_each(|(machine, screen)| self.into.screen(self.at, *machine, screen))?;
        self.until = self.at;
        // Their room is used again.
        (self.rows, self.text) = (rows, text);
        self.rows.clear();
        self.text.clear();
        Ok(())
    }

    /// What becomes of inputs up to a moment.
    fn become_until(&mut self, until: LabTime) -> Result<(), Strange> {
        while let Some(first) = self.pending.first_entry().filter(|first| *first.key() <= until) {
            let (at, all) = first.remove_entry();
            for (machine, fact, value) in all {
                self.into.input(at, machine, (fact, value.as_ref()))?;
            }
        }
        Ok(())
    }
}

fn change(into: &mut Restoring<'_>, keys: Keys<'_>, at: LabTime) -> Result<(), Strange> {
    let (tick, reach) = (RecordTick(keys.tick("tick")?), keys.word("reach")?);
    let reach = if reach == "all" { Reach::All } else { Reach::One(keys.machine("reach")?) };
    let what = match keys.word("kind")? {
        "rule" => ChangeNote::Reloaded { kind: keys.whole("place")?, version: keys.whole("version")? },
        "tuned" => ChangeNote::Tuned {
            kind: keys.whole("place")?,
            tunable: keys.word("tunable")?.to_owned(),
            value: keys.real("value")?,
        },
        _ => ChangeNote::Solid { solid: SolidId(keys.whole("solid")?), there: keys.flag("there")? },
    };
    into.seldom(Seldom::Changed { at, tick, reach, what })
}

fn fact(into: &mut Restoring<'_>, line: &str, at: LabTime) -> Result<(), Strange> {
    let Exactly { fact } = serde_json::from_str(line).map_err(|_| KEY)?;
    match &fact {
        Seldom::Fact(when, ..) if *when == at => into.seldom(fact),
        Seldom::Happening(_, row) if row.at == at => into.seldom(fact),
        _ => Err(STRANGE),
    }
}

fn state(into: &mut Restoring<'_>, keys: Keys<'_>, at: LabTime) -> Result<(), Strange> {
    let (made, machine) = match keys.word("kind")? {
        "authority" => (Made::Authority, MachineId::SERVER),
        "echo" => (Made::Echo, MachineId::SERVER),
        "predicted" => (Made::Predicted, keys.machine("machine")?),
        _ => (Made::Rewritten, keys.machine("machine")?),
    };
    let (entity, tick, cast) = (keys.entity("entity")?, RecordTick(keys.tick("tick")?), &into.record().cast);
    let actor = cast.actor(entity).ok_or(KEY)?;
    let state = keys.state(into.record().layout(actor, tick).schema())?;
    let mut contacts = Contacts::default();
    let solid = |name: &str| match cast.world.solids.iter().find(|solid| solid.name == name) {
        Some(solid) => Some(solid.solid.id),
        None => (name == "edge").then_some(SolidId::EDGE),
    };
    let touched = keys
        .may("contacts", |all| all.list()?.iter().map(|name| solid(name.word()?)).collect::<Option<Vec<SolidId>>>())?;
    touched.into_iter().flatten().for_each(|id| contacts.add(id));
    let used = keys.tick_if_any("used_tick")?.map(|used| RecordTick(used).tick(cast.first));
    let teleported = keys.get("teleported").is_some_and(|teleported| *teleported == Said::Flag(true));
    let (tick, contacts) = (tick.tick(cast.first), &contacts);
    into.state(at, machine, &StateEvent { entity, tick, used, made, state: &state, input: None, contacts, teleported })
}

/// What became of an input, each at its moment.
fn input(
    record: &Record,
    keys: Keys<'_>,
    at: LabTime,
    pending: &mut BTreeMap<LabTime, Vec<Became>>,
) -> Result<(), Strange> {
    let (machine, entity, peer) = (keys.machine("machine")?, keys.entity("entity")?, keys.peer("connection")?);
    let tick = RecordTick(keys.tick("tick")?);
    let layout = record.layout(record.cast.actor(entity).ok_or(KEY)?, tick);
    let tick = tick.tick(record.cast.first);
    let mut became = |key: &str, fate: InputFate, value: Option<Input>| {
        let Some(when) = keys.time_if_any(key)? else { return Ok(()) };
        if when < at {
            return Err(STRANGE);
        }
        pending.entry(when).or_default().push((machine, InputFact { peer, entity, tick, fate }, value));
        Ok(())
    };
    became("sampled_ns", InputFate::Sampled, keys.input("sampled", layout.schema())?)?;
    let margin = keys.may("margin_ticks", |margin| Some((margin.real()? * 4.0) as i16))?;
    became("arrived_ns", InputFate::Arrived(margin.unwrap_or_default()), None)?;
    became("passed_over_ns", InputFate::Dropped, None)?;
    became("outdated_ns", InputFate::Outdated, None)?;
    let provenance = match keys.get("provenance").and_then(Said::word) {
        Some("repeated") => Provenance::Repeated,
        Some("rested") => Provenance::Rested,
        Some("unchanged") => Provenance::Unchanged,
        _ => Provenance::Fresh,
    };
    became("used_ns", InputFate::Used(provenance), keys.input("used", layout.schema())?)
}

/// A datagram, or what a machine measured or was told.
fn other(into: &mut Restoring<'_>, keys: Keys<'_>, at: LabTime) -> Result<(), Strange> {
    match keys.word("kind")? {
        "message" => into.message((keys.machine("from")?, keys.machine("to")?), message(keys, at)?),
        "received" => into.received(keys.machine("machine")?, ReceivedRow { at, tick: RecordTick(keys.tick("tick")?) }),
        "clock" => {
            let margin = keys.may("margin_ticks", |margin| Some((margin.real()? * 4.0) as i8))?;
            let fact = ClockFact {
                behind: keys.whole("behind_ticks")?,
                rtt_us: keys.whole("rtt_us")?,
                rtt_sigma_us: keys.whole("rtt_sigma_us")?,
                margin,
                view_delay_us: keys.whole("view_delay_us")?,
                server_us: keys.whole_if_any("server_us")?,
            };
            into.clock(keys.machine("machine")?, ClockRow { at, fact })
        }
        "measure" => {
            let machine = keys.machine("machine")?;
            let (cast, entity) = (&into.record().cast, keys.entity("entity")?);
            let rule = keys.must("rule", |name| RULES.iter().find(|spec| Some(spec.rule.name()) == name.word()))?.rule;
            let ticks = [keys.tick("from_tick")?, keys.tick("tick")?].map(|tick| RecordTick(tick).tick(cast.first));
            let evidence = Evidence::plain(rule, (ticks[0], ticks[1]), keys.real("measured")?, keys.real("limit")?);
            let peer = cast.newest_peer(machine).ok_or(KEY)?;
            into.measure(at, machine, &Measure { peer, entity, evidence })
        }
        _ => into.seldom(Seldom::Refused(at, keys.machine("machine")?, keys.word("words")?.to_owned())),
    }
}

fn is_true(said: &Said<'_>) -> bool {
    *said == Said::Flag(true)
}

fn message(keys: Keys<'_>, at: LabTime) -> Result<MessageRow, Strange> {
    let kind = keys.must("message", |name| MessageKind::ALL.into_iter().find(|kind| Some(kind.name()) == name.word()));
    let arrived = keys.time_if_any("arrived_ns")?;
    Ok(MessageRow {
        at,
        arrived,
        lost: arrived.is_none(),
        again: keys.time_if_any("again_ns")?,
        unread: keys.get("unread").is_some_and(is_true),
        kind: kind?,
        bytes: keys.whole("bytes")?,
        tick: keys.tick_if_any("tick")?.map(RecordTick),
        ticks: keys.whole_if_any("ticks")?.unwrap_or_default(),
        entity: keys.get("entity").map(|_| keys.entity("entity")).transpose()?,
        entities: keys.whole_if_any("entities")?.unwrap_or_default(),
        epoch: keys.whole_if_any("epoch")?,
        piece: keys.whole_if_any("piece")?.map(|number| (number, keys.get("sent_before").is_some_and(is_true))),
    })
}

fn frame(keys: Keys<'_>) -> Result<Screen, Strange> {
    let moment = keys.tick_if_any("tick")?.map(RecordTick);
    let moment = moment.map(|tick| keys.real("fraction").map(|fraction| (tick, fraction))).transpose()?;
    let (limit_ms, blends) = (keys.whole("limit_ms")?, keys.flag("blends")?);
    let chosen = |key: &str, choices: &[Choice]| {
        let place = |name: &Said<'_>| choices.iter().position(|choice| Some(choice.name) == name.word());
        keys.may(key, place).map(|place| place.unwrap_or_default() as u8)
    };
    let blending = Blending::from_number(chosen("blending", &BLENDING)?);
    let looks = LookBy::from_number(chosen("looks", &LOOKS)?);
    let camera = CameraOn::from_number(chosen("camera", &CAMERA)?);
    Ok(Screen { plays: true, moment, limit_ms, blends, blending, looks, camera, ..Screen::default() })
}

/// Something drawn, and whether its viewer makes its states itself.
fn drawn(keys: Keys<'_>) -> Result<(bool, DrawnFact), Strange> {
    let how = keys
        .must("how", |name| (0..=u8::MAX).map_while(Drawn::from_number).find(|how| Some(how.name()) == name.word()))?;
    let (tick, fraction) = (RecordTick(keys.tick("tick")?), keys.real("fraction")?);
    let (pos, bearing) = (keys.point("pos")?, keys.real("bearing")?);
    Ok((how == Drawn::Predicted, DrawnFact { entity: keys.entity("entity")?, tick, fraction, how, pos, bearing }))
}
