//! What can be watched.
//!
//! A [`Sink`] is passed into each call and told what happens. It is never stored and never asked: watching cannot change
//! a run. A sink that wants nothing costs nothing. States are borrowed; facts are `Copy` and can be kept as they are.

mod fact;
mod gap;
mod state;

use crate::data::Input;
use crate::verdict::Measure;

pub use fact::{ClockFact, Correction, Fact, InputFact, InputFate, Provenance, Restored};
pub use gap::Gap;
pub use state::{Made, StateEvent};

/// Groups of events.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mask(u8);

impl Mask {
    /// Nothing.
    pub const NONE: Self = Self(0);
    /// A state for each entity or prediction and tick: much.
    pub const STATES: Self = Self(1);
    /// What became of each input.
    pub const INPUTS: Self = Self(2);
    /// Corrections, verdicts, clocks: seldom.
    pub const NETCODE: Self = Self(4);
    /// What the guard measured of each claim, lawful or not: much.
    pub const GUARD: Self = Self(8);
    /// Everything.
    pub const ALL: Self = Self(15);

    /// Whether all of `other` is wanted.
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }
}

/// Something that happened in a client or the server.
#[derive(Clone, Copy, Debug)]
pub enum Event<'a> {
    /// A tick of an entity was made.
    State(StateEvent<'a>),
    /// Something became of an input. Its value goes along where it was sampled, as it travels, and where it was used, as the
    /// step read it; of claims the latter is not known.
    Input(InputFact, Option<&'a Input>),
    /// The guard measured something.
    Measure(Measure),
    /// Anything else.
    Fact(Fact),
}

impl Event<'_> {
    const fn mask(&self) -> Mask {
        match self {
            Self::State(_) => Mask::STATES,
            Self::Input(..) => Mask::INPUTS,
            Self::Measure(_) => Mask::GUARD,
            Self::Fact(_) => Mask::NETCODE,
        }
    }
}

/// Somebody watching.
///
/// A sink is passed into each call and told what happens. It is never stored and never asked: watching cannot change a run. A sink that wants
/// nothing costs nothing. States are borrowed; facts are `Copy` and can be kept as they are.
pub trait Sink {
    /// What it wants to be told.
    const WANTS: Mask;

    /// Told.
    fn on(&mut self, event: Event<'_>);
}

/// Nobody watching.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unwatched;

impl Sink for Unwatched {
    const WANTS: Mask = Mask::NONE;
    fn on(&mut self, _: Event<'_>) {}
}

/// Tells `sink` if it wants to know; compiles away if not.
fn pass<S: Sink>(sink: &mut S, event: Event<'_>) {
    if S::WANTS.has(event.mask()) {
        sink.on(event);
    }
}

/// Tells of a state.
pub(crate) fn show<S: Sink>(sink: &mut S, state: StateEvent<'_>) {
    pass(sink, Event::State(state));
}

/// Tells what became of an input.
pub(crate) fn tell_input<S: Sink>(sink: &mut S, fact: InputFact, value: Option<&Input>) {
    pass(sink, Event::Input(fact, value));
}

/// Tells what the guard measured.
pub(crate) fn measured<S: Sink>(sink: &mut S, measure: Measure) {
    pass(sink, Event::Measure(measure));
}

/// Tells a fact.
pub(crate) fn tell<S: Sink>(sink: &mut S, fact: Fact) {
    pass(sink, Event::Fact(fact));
}
