//! What happens inside clients and the server, passed on to the watcher and into the digest.

use velocitas_core::{Digest, EntityId, Event, Fact, Made, Mask, Sink, State, StateEvent, Tick};
use velocitas_record::ids::{MachineId, Part, RecordTick};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, HappeningRow, Watch};

use crate::faults::TrickWatch;

/// The digest of a run: every state that the authority made, every first prediction, every correction's tick and jump, every
/// birth, end and change of owner.
///
/// Ticks count from the session's first, so that where the count starts changes nothing. Of a state all lanes in use are
/// taken in; of the lanes after the sixteenth those that hold anything.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct RunDigest(Digest);

/// Stand for what happens to an entity, beside the number of the rule it is born with.
const GONE: u64 = 1 << 40;
const OWNER: u64 = 1 << 41;

/// Stands for an entity in the word of a prediction.
const PREDICTED: u64 = 0xffff;

impl RunDigest {
    pub(crate) const fn value(self) -> u64 {
        self.0.value()
    }

    fn state(&mut self, tick: u64, whose: u64, state: &State) {
        self.0.word(tick << 16 | whose);
        self.0.lanes(state, lanes_in_use(state));
    }

    fn take(&mut self, base: u64, event: &Event<'_>) {
        let relative = |tick: Tick| tick.0.wrapping_sub(base);
        match event {
            Event::State(s) => match s.made {
                Made::Authority => self.state(relative(s.tick), u64::from(s.entity.index), s.state),
                Made::Predicted => self.state(relative(s.tick), PREDICTED, s.state),
                Made::Rewritten | Made::Echo => {}
            },
            Event::Fact(Fact::Corrected(c)) => {
                self.0.word(relative(c.tick));
                self.0.word(u64::from(c.jump.to_bits()));
            }
            Event::Fact(Fact::Born { entity, kind, tick, .. }) => self.life(relative(*tick), *entity, u64::from(*kind)),
            Event::Fact(Fact::Gone { entity, tick }) => self.life(relative(*tick), *entity, GONE),
            Event::Fact(Fact::Owner { entity, tick, player, owns }) => {
                self.life(relative(*tick), *entity, OWNER | player.0 << 1 | u64::from(*owns));
            }
            Event::Input(..) | Event::Measure(_) | Event::Fact(_) => {}
        }
    }

    fn life(&mut self, tick: u64, entity: EntityId, what: u64) {
        self.0.word(tick << 16 | u64::from(entity.index));
        self.0.word(what << 8 | u64::from(entity.generation));
    }
}

/// How many lanes the digest takes in: sixteen, or as many as hold anything in this state.
fn lanes_in_use(state: &State) -> usize {
    const USUAL: usize = 16;
    state.bits().iter().rposition(|lane| *lane != 0).map_or(USUAL, |last| USUAL.max(last + 1))
}

/// Passes events on to the watcher and into the digest.
pub(crate) struct Tap<'a, W> {
    pub(crate) watch: &'a mut W,
    pub(crate) digest: RunDigest,
    pub(crate) base: u64,
    pub(crate) at: LabTime,
    pub(crate) machine: MachineId,
    pub(crate) part: Part,
    /// A rogue's tricks in force, held against what would be lawful.
    pub(crate) trials: Vec<TrickWatch>,
}

impl<W: Watch> Tap<'_, W> {
    /// Tells of something the lab did.
    pub(crate) fn happening(&mut self, tick: Option<Tick>, what: Happening) {
        self.watch.happening(
            self.machine,
            HappeningRow { at: self.at, part: self.part, tick: tick.map(|t| RecordTick::of(Tick(self.base), t)), what },
        );
    }
}

impl<W: Watch> Sink for Tap<'_, W> {
    const WANTS: Mask = Mask::ALL;

    fn on(&mut self, event: Event<'_>) {
        match &event {
            Event::State(StateEvent { made: Made::Predicted, tick, state, input: Some(input), .. }) => {
                let offends =
                    self.trials.iter_mut().filter_map(|trial| trial.offends(*tick, state, input).then_some(()));
                let offences = offends.count();
                (0..offences).for_each(|_| self.happening(Some(*tick), Happening::Offence));
                self.trials.retain(|trial| !trial.is_over());
            }
            Event::Fact(Fact::Corrected(_)) => self.trials.iter_mut().for_each(TrickWatch::interrupted),
            _ => {}
        }
        self.digest.take(self.base, &event);
        self.watch.event(self.at, self.machine, self.part, &event);
    }
}
