//! A correction that is looked into: from where its two sides went on alike, and what each made of every tick since.
//!
//! Only the record is asked. Of the client's side it has what the hands gave and every state that was made; how the steps
//! read that follows by the netcode's own rule (see [`Case::reads`]), and the first replay shows whether it does.

use velocitas_core::{Correction, Fact, Input, PeerId, Provenance, Restored, Schema, State, Vec3, vec3};
use velocitas_record::ids::{ActorId, MachineId, Part, RecordTick};
use velocitas_record::record::{InputRow, Record};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use super::by_tick::ByTick;
use super::mind::{Stretch, stretches};

/// What is due to happen in a tick is asked for so long before either side makes it, at most.
const EARLIER: LabTime = LabTime(2_500_000_000);

/// The most ticks that are stepped again: of what parted longer ago it is said since when.
pub(super) const MOST_TICKS: u32 = 1024;

/// What one side did in a tick.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Turn {
    /// Whether it made the tick at all.
    pub(super) made: bool,
    /// What its step read, or would have.
    pub(super) input: Input,
    /// What was added to the velocity before it.
    pub(super) push: Vec3,
    /// Where it was put before it.
    pub(super) put: Option<Vec3>,
}

/// A tick on both sides.
#[derive(Clone, Copy, Debug)]
pub(super) struct Both {
    pub(super) tick: RecordTick,
    /// At the client whose correction it is.
    pub(super) here: Turn,
    /// At the server.
    pub(super) there: Turn,
    /// How the server came by its input; `None` where nobody was missed.
    pub(super) provenance: Option<Provenance>,
    /// Whether the machine owned the entity in it.
    pub(super) owned: bool,
}

/// The stretch from which on both sides may differ.
pub(super) struct Case<'a> {
    pub(super) record: &'a Record,
    pub(super) machine: MachineId,
    pub(super) actor: ActorId,
    pub(super) kind: u8,
    /// The state from which both went on.
    pub(super) from: State,
    /// The ticks since.
    pub(super) ticks: Vec<Both>,
    /// What the client had after the last of them, where that is known.
    pub(super) had: Option<State>,
    /// What it took over instead.
    pub(super) truth: State,
    /// What each side knows of rules and ground, from which of these ticks on.
    pub(super) minds: Vec<Stretch>,
    /// Whether the two agree only where they are the same, bit for bit.
    pub(super) exactly: bool,
    /// The ticks whose inputs the server missed, in these or before.
    missed: Vec<RecordTick>,
}

/// Why there is no case to be made.
pub(super) enum NoCase {
    /// The record does not go back so far, or both went their own ways for longer than is stepped again: since before this tick.
    Parted(RecordTick),
    /// What is needed is not in the record.
    Unknown,
}

/// A correction and where it stands in the record.
#[derive(Clone, Copy)]
struct RecordedCorrection<'a> {
    record: &'a Record,
    machine: MachineId,
    actor: ActorId,
    at: LabTime,
    /// The tick that last agreed, and the one that was compared.
    agreed: RecordTick,
    compared: RecordTick,
    /// Since when nothing about these ticks can have happened.
    since: LabTime,
    /// The position among what was predicted again at which this correction begins.
    rewritten: usize,
    /// The place among what happened at the machine from which on it owned the entity.
    owned: usize,
}

impl<'a> Case<'a> {
    /// What is known of a correction.
    pub(super) fn of(record: &'a Record, (machine, at): (MachineId, LabTime), c: &Correction) -> Result<Self, NoCase> {
        let actor = record.cast.actor(c.entity).ok_or(NoCase::Unknown)?;
        let [agreed, compared, newest] = [c.agreed, c.tick, c.newest].map(|tick| record.cast.tick(tick));
        let authority = record.authority(actor);
        let answer = |tick| record.answer(machine, actor, tick);
        let truth = answer(compared).ok_or(NoCase::Unknown)?;
        let first = answer(agreed).and_then(|i| authority.head(i)).map_or(at, |head| head.at);
        let place = RecordedCorrection {
            record,
            machine,
            actor,
            at,
            agreed,
            compared,
            since: began_here(record, machine, actor, agreed).map_or(first, |here| here.min(first)).minus(EARLIER),
            rewritten: began(record, machine, actor, at, (compared, newest)),
            owned: owned_since(record, machine, at, c),
        };
        // Who is not its owner is told of it less exactly, and takes that for the truth.
        let owns = |tick| record.cast.actors[actor.index()].is_owned_in(machine, tick);
        let truth = place.took(compared).filter(|_| !owns(compared)).unwrap_or_else(|| authority.state(truth));
        let had = place.had(compared);
        let later = had == Some(truth) && newest > compared;
        let (from, to) = if later { (compared, newest) } else { (place.alike()?, compared) };
        let begin = answer(from).ok_or(NoCase::Parted(from.plus(1)))?;
        let begin = place.had(from).filter(|_| !later && !owns(from)).unwrap_or_else(|| authority.state(begin));
        let kind = record.cast.actors[actor.index()].kind;
        let schema = record.layout(actor, to);
        let given = Given::of(&place);
        let ticks = place.ticks(&given, schema.schema(), (from, to), later);
        let (had, truth) = if later { (place.had(to), place.took(to).ok_or(NoCase::Unknown)?) } else { (had, truth) };
        let minds = stretches(record, (machine, kind), (from, to), later);
        Ok(Self {
            record,
            machine,
            actor,
            kind,
            from: begin,
            ticks,
            had,
            truth,
            minds,
            exactly: c.why == Restored::Settled,
            missed: given.missed(&place),
        })
    }

    /// How many ticks the server passed over just before one that it made, if it did.
    pub(super) fn passed_over_before(&self, tick: RecordTick) -> Option<u64> {
        let made = self.record.authority(self.actor);
        let over = (0..tick.0)
            .rev()
            .take_while(|before| made.of_tick(RecordTick(*before)).is_none())
            .take(MOST_TICKS as usize);
        Some(over.count() as u64).filter(|over| *over > 0)
    }

    /// The last ticks before one whose inputs the server missed, from the first to the last, where nothing reached it since.
    pub(super) fn missed_before(&self, tick: RecordTick) -> Option<(RecordTick, RecordTick)> {
        let last = *self.missed.iter().rev().find(|missed| **missed < tick)?;
        let first = self.missed.iter().rev().skip_while(|m| **m > last).zip(0..).take_while(|(m, n)| m.0 + n == last.0);
        Some((first.last()?.0.to_owned(), last))
    }
}

/// When the client made a tick, or the last one before it that it did not pass over: how far ahead it runs is for its clock to say.
fn began_here(record: &Record, machine: MachineId, actor: ActorId, tick: RecordTick) -> Option<LabTime> {
    let predicted = &record.of(machine).own(actor)?.predicted;
    let ticks = (0..=tick.0).rev().take(MOST_TICKS as usize);
    let made = ticks.map(RecordTick).find_map(|tick| predicted.of_tick(tick))?;
    Some(predicted.head(made)?.at)
}

/// Where what was predicted again because of a correction begins, or would.
fn began(
    record: &Record,
    machine: MachineId,
    actor: ActorId,
    at: LabTime,
    (compared, newest): (RecordTick, RecordTick),
) -> usize {
    let Some(track) = record.of(machine).own(actor).map(|own| &own.rewritten) else { return 0 };
    let end = track.at(at).map_or(0, |last| last + 1);
    let begins = |i: usize| track.head(i).is_some_and(|head| head.at == at && head.tick == compared);
    // Mostly nothing else was predicted again in that frame.
    let ticks = (newest.0 + 1).saturating_sub(compared.0) as usize;
    if let Some(i) = end.checked_sub(ticks).filter(|i| begins(*i)) {
        return i;
    }
    let in_frame = |i: &usize| track.head(*i).is_some_and(|head| head.at == at);
    (0..end).rev().take_while(in_frame).find(|i| begins(*i)).unwrap_or(end)
}

/// Where among what happened at a machine it took over the entity whose correction this is.
fn owned_since(record: &Record, machine: MachineId, at: LabTime, c: &Correction) -> usize {
    let rows = &record.of(machine).happenings;
    let owns = |row: &velocitas_record::watch::HappeningRow| matches!(row.what, Happening::Fact(Fact::Owns { entity, owns: true, .. }) if entity == c.entity);
    let until = rows.until(at);
    (0..until).rev().find(|i| rows.get(*i).is_some_and(owns)).unwrap_or(0)
}

impl RecordedCorrection<'_> {
    /// The place of the authority's state that answers a tick of the client's.
    fn answer(&self, tick: RecordTick) -> Option<usize> {
        self.record.answer(self.machine, self.actor, tick)
    }

    /// Whether the server made a tick of the client's.
    fn was_made(&self, tick: RecordTick) -> bool {
        self.record.made_in(self.machine, self.actor, tick).is_some()
    }

    /// What the client had at a tick before this correction.
    fn had(&self, tick: RecordTick) -> Option<State> {
        let own = self.record.of(self.machine).own(self.actor)?;
        let again = self.rewritten.checked_sub(1).and_then(|last| {
            let newest = own.rewritten.head(last)?.tick;
            // What is predicted again at once are consecutive ticks.
            let i = last.checked_sub(newest.0.checked_sub(tick.0)? as usize)?;
            own.rewritten.head(i).filter(|head| head.tick == tick).map(|_| (i, own.rewritten.state(i)))
        });
        let first = own.predicted.of_tick(tick).filter(|i| own.predicted.head(*i).is_some_and(|h| h.at <= self.at));
        // Who came back makes a tick anew that it had made before.
        let newer = |i: usize| {
            let (a, b) = (own.predicted.head(first?)?.at, own.rewritten.head(i)?.at);
            Some(a > b)
        };
        match again {
            Some((i, state)) if newer(i) != Some(true) => Some(state),
            _ if first.is_some() => first.map(|i| own.predicted.state(i)),
            // In a tick that was passed over it stood still.
            _ => self.stood(tick),
        }
    }

    /// What the client had in the last tick that it made, or was told of, before one that it passed over.
    fn stood(&self, tick: RecordTick) -> Option<State> {
        let over: Vec<(RecordTick, u32)> = self.passed_over().collect();
        let is_over =
            |tick: RecordTick| over.iter().any(|(first, n)| (first.0..first.0.saturating_add(*n)).contains(&tick.0));
        let before = (self.agreed.0..tick.0).rev().map(RecordTick).find(|t| *t == self.agreed || !is_over(*t));
        let before = before.filter(|_| is_over(tick))?;
        if before != self.agreed {
            return self.had(before);
        }
        let authority = self.record.authority(self.actor);
        self.answer(before).map(|i| authority.state(i))
    }

    /// What the client took over, or made of it, at a tick.
    fn took(&self, tick: RecordTick) -> Option<State> {
        let track = &self.record.of(self.machine).own(self.actor)?.rewritten;
        let i = self.rewritten + tick.0.checked_sub(self.compared.0)? as usize;
        track.head(i).filter(|head| head.tick == tick).map(|_| track.state(i))
    }

    /// The newest tick before the one compared in which both were the same, bit for bit: from there on what came before no longer
    /// matters.
    fn alike(&self) -> Result<RecordTick, NoCase> {
        let authority = self.record.authority(self.actor);
        let least = self.compared.0.saturating_sub(MOST_TICKS).max(self.agreed.0);
        for tick in (least..self.compared.0).rev().map(RecordTick) {
            let there = self.answer(tick).map(|i| authority.state(i));
            let same = there.is_some() && (tick == self.agreed || there == self.had(tick));
            if same {
                return Ok(tick);
            }
        }
        Err(NoCase::Parted(RecordTick(least)))
    }

    /// The ticks that the client passed over while it owned the entity: the first, and how many.
    fn passed_over(&self) -> impl Iterator<Item = (RecordTick, u32)> {
        let rows = &self.record.of(self.machine).happenings;
        let facts = (self.owned..rows.until(self.at)).filter_map(|i| rows.get(i)).rev();
        facts.take_while(|row| row.at >= self.since).filter_map(|row| match row.what {
            Happening::Fact(Fact::Dropped { count, .. }) if row.part == Part::Client => {
                Some((row.tick?, u32::try_from(count).unwrap_or(u32::MAX)))
            }
            _ => None,
        })
    }

    /// What happened to the entity by the server's will, each in the tick of which it was to be told: pushes, and where it was put.
    fn sudden(&self) -> Vec<(RecordTick, Vec3, Option<Vec3>)> {
        let rows = self.record.of(self.machine).happenings.span(self.since, self.at);
        let mine = |entity| self.record.cast.actor(entity) == Some(self.actor);
        let of_owner = |tick| self.record.owners_tick(self.machine, self.actor, tick);
        rows.filter_map(|row| match row.what {
            Happening::Pushed(entity, [x, y, z]) if mine(entity) => Some((of_owner(row.tick?), vec3(x, y, z), None)),
            Happening::Teleported(entity, [x, y, z]) if mine(entity) => {
                Some((of_owner(row.tick?), Vec3::ZERO, Some(vec3(x, y, z))))
            }
            _ => None,
        })
        .collect()
    }

    /// What both sides did in each tick after `from` up to `to`. `later`: of ticks that the server has not come to yet, how the
    /// client read its own inputs and how it reads them from now on.
    fn ticks(&self, given: &Given, schema: &Schema, (from, to): (RecordTick, RecordTick), later: bool) -> Vec<Both> {
        let here = given.reads(self, schema, (self.agreed, to));
        let there = later.then(|| given.reads(self, schema, (self.compared, to)));
        let sudden = self.sudden();
        let mut before = from;
        let mut ticks = Vec::new();
        for tick in (from.0 + 1..=to.0).map(RecordTick) {
            let here = here[(tick.0 - self.agreed.0) as usize - 1];
            let owned = self.record.cast.actors[self.actor.index()].is_owned_in(self.machine, tick);
            let Some(there) = &there else {
                let (input, provenance) = given.used(self, tick);
                let mut there = Turn { made: self.was_made(tick), input, ..Turn::default() };
                if there.made {
                    let due = sudden.iter().filter(|(due, ..)| *due <= tick && *due > before);
                    for (_, push, put) in due {
                        there.push += *push;
                        there.put = put.or(there.put);
                    }
                    before = tick;
                }
                ticks.push(Both { tick, here, there, provenance, owned });
                continue;
            };
            let there = there[(tick.0 - self.compared.0) as usize - 1];
            ticks.push(Both { tick, here, there, provenance: None, owned });
        }
        ticks
    }
}

/// What the hands gave and what the server read, by tick.
struct Given {
    sampled: ByTick<Input>,
    used: ByTick<(Input, Provenance)>,
    /// Since when the machine owns the entity, and by which connection.
    taken: LabTime,
    peer: Option<PeerId>,
}

impl Given {
    fn of(place: &RecordedCorrection<'_>) -> Self {
        let taken = place.record.of(place.machine).happenings.get(place.owned).map_or(LabTime::ZERO, |row| row.at);
        let mine = place.record.of(place.machine).own(place.actor);
        // By the connection that it still has.
        let peer = mine.and_then(|own| own.inputs.rows().span(place.since, place.at).next_back()).map(|row| row.peer);
        let mut given = Self { sampled: ByTick::new(), used: ByTick::new(), taken, peer };
        for machine in place.record.cast.machines() {
            let Some(own) = place.record.of(machine).own(place.actor) else { continue };
            for row in own.inputs.rows().span(place.since, place.at) {
                if row.used().is_some_and(|(at, _)| at <= place.at) {
                    let used = own.inputs.used(&row).zip(row.used());
                    used.into_iter().for_each(|(input, (_, how))| {
                        given.used.put(row.tick, (input, how));
                    });
                }
                let by = |row: &InputRow| row.sampled_at().is_some_and(|at| at >= taken && at <= place.at);
                if machine == place.machine && Some(row.peer) == peer && by(&row) {
                    own.inputs.sampled(&row).into_iter().for_each(|input| {
                        given.sampled.put(row.tick, input);
                    });
                }
            }
        }
        given
    }

    /// What the server read in a tick, and how it came by it: nothing where nobody gives orders or nothing was heard yet.
    fn used(&self, place: &RecordedCorrection<'_>, tick: RecordTick) -> (Input, Option<Provenance>) {
        if let Some((input, how)) = self.used.get(tick) {
            return (*input, Some(*how));
        }
        // What was sent before anything arrived the server could not miss, yet it made those ticks without it.
        let made = place.was_made(tick);
        (Input::default(), (made && self.sampled.get(tick).is_some()).then_some(Provenance::Rested))
    }

    /// The ticks whose inputs the server missed, up to the one that was compared.
    fn missed(&self, place: &RecordedCorrection<'_>) -> Vec<RecordTick> {
        let missed = self.used.iter().filter(|(_, (_, how))| *how != Provenance::Fresh);
        missed.map(|(tick, _)| *tick).filter(|tick| *tick <= place.compared).collect()
    }

    /// The newest tick up to one that the server made with what was sent for it.
    fn fresh(&self, place: &RecordedCorrection<'_>, tick: RecordTick) -> Option<RecordTick> {
        let is_fresh = |how: Provenance| how == Provenance::Fresh;
        if let Some((fresh, _)) = self.used.until(tick).rev().find(|(_, (_, how))| is_fresh(*how)) {
            return Some(*fresh);
        }
        // Where nothing has arrived for long.
        let rows = place.record.of(place.machine).own(place.actor)?.inputs.rows();
        let mut earlier = rows.range(0, rows.before(place.since)).rev().take_while(|row| row.at >= self.taken);
        earlier
            .find(|row| Some(row.peer) == self.peer && row.used().is_some_and(|(_, how)| is_fresh(how)))
            .map(|row| row.tick)
    }

    /// What the hands gave in a tick, also before these.
    fn gave(&self, place: &RecordedCorrection<'_>, tick: RecordTick) -> Option<Input> {
        self.sampled.get(tick).copied().or_else(|| {
            let inputs = &place.record.of(place.machine).own(place.actor)?.inputs;
            let row = inputs.of_tick(tick).filter(|row| Some(row.peer) == self.peer)?;
            inputs.sampled(&row).filter(|_| row.at >= self.taken)
        })
    }

    /// The newest input up to a tick of which the client was told that the server has used it, as it travels.
    fn confirmed(&self, place: &RecordedCorrection<'_>, tick: RecordTick) -> Option<Input> {
        let authority = place.record.authority(place.actor);
        let fresh = self.fresh(place, tick)?;
        // The word says how many were made up, and so counts over what the server passed over as well.
        let made_up = authority.of_tick(tick)?.checked_sub(authority.of_tick(fresh)?)? as u32;
        let told = tick.0.checked_sub(made_up).map(RecordTick)?;
        self.gave(place, told).or_else(|| self.gave(place, fresh))
    }

    /// How the client's steps read what the hands gave, tick by tick after one up to which it was told: presses since the input
    /// before, and in the first that was played since the last that the server is known to have had.
    fn reads(
        &self,
        place: &RecordedCorrection<'_>,
        schema: &Schema,
        (told, to): (RecordTick, RecordTick),
    ) -> Vec<Turn> {
        let before = self.sampled.until(told).next_back().map(|(_, input)| *input);
        let mut before = before.or_else(|| self.gave(place, told)).unwrap_or_default();
        let mut owed = Some(self.confirmed(place, told).unwrap_or_default());
        let over: Vec<_> = place.passed_over().collect();
        let is_over =
            |tick: RecordTick| over.iter().any(|(first, n)| (first.0..first.0.saturating_add(*n)).contains(&tick.0));
        let mut turns = Vec::new();
        for tick in (told.0 + 1..=to.0).map(RecordTick) {
            let turn = match self.sampled.get(tick) {
                Some(sampled) => {
                    let input = schema.presses_since(sampled, &owed.take().unwrap_or(before));
                    before = *sampled;
                    Turn { made: true, input, ..Turn::default() }
                }
                // Begun before there was anything to go on from: with empty hands. Or passed over: then keys would have held on.
                None => {
                    let input = if is_over(tick) { schema.held_on(&before) } else { Input::default() };
                    Turn { made: !is_over(tick), input, ..Turn::default() }
                }
            };
            turns.push(turn);
        }
        turns
    }
}
