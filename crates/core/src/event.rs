//! What can be watched.
//!
//! A [`Sink`] is passed into each call and told what happens, by borrowed [`Event`]s. It is never stored and never
//! asked: watching cannot change a run. A sink that wants nothing costs nothing.

use crate::data::{Input, State};
use crate::motion::Contacts;
use crate::server::{PeerId, Verdict};
use crate::tick::Tick;
use crate::wire::Provenance;

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
    /// Everything.
    pub const ALL: Self = Self(7);

    /// Whether all of `other` is wanted.
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }
}

/// Why a client took over the server's state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Restored {
    /// Prediction and authority differed by more than a field's agreement.
    Diverged,
    /// They differed by less: the client follows so that differences cannot add up, and nobody is told.
    Settled,
    /// The server was already past the newest prediction.
    Overtaken,
    /// The guard pulled a claiming owner back.
    PulledBack,
}

/// A client rewrote its present.
#[derive(Clone, Copy, Debug)]
pub struct Correction {
    /// The tick compared (`used`).
    pub tick: Tick,
    /// The newest tick that had agreed before.
    pub agreed: Tick,
    /// The newest tick predicted.
    pub newest: Tick,
    /// Distance at the tick compared, in metres.
    pub divergence: f32,
    /// How far the newest position moved, in metres: what eyes see.
    pub jump: f32,
    /// Ticks simulated again.
    pub replayed: u32,
    /// What kind it was.
    pub why: Restored,
}

/// Something that happened in a client or the server.
#[derive(Clone, Copy, Debug)]
pub enum Event<'a> {
    /// Server: an entity's state at a tick.
    Authority {
        /// Which entity.
        entity: u16,
        /// Its tick.
        tick: Tick,
        /// Its state at the end of it.
        state: &'a State,
        /// What it touched.
        contacts: &'a Contacts,
        /// Whether it was moved other than by its rule.
        teleported: bool,
    },
    /// Server: an input was used, or made up.
    InputUsed {
        /// Whose.
        peer: PeerId,
        /// For which tick.
        tick: Tick,
        /// Where it came from.
        provenance: Provenance,
    },
    /// Server: an input arrived for the first time.
    InputArrived {
        /// Whose.
        peer: PeerId,
        /// For which tick.
        tick: Tick,
        /// How early, in quarter ticks; negative: after its tick was simulated.
        margin: i32,
    },
    /// Server: ticks were passed over after a stall.
    ServerDropped {
        /// First of them.
        first: Tick,
        /// How many.
        count: u64,
    },
    /// Server: an accusation.
    Verdict(&'a Verdict),
    /// Server: a gap was bridged without an accusation.
    Resync {
        /// Whose.
        peer: PeerId,
        /// At which tick.
        tick: Tick,
    },
    /// A step came out non-finite and was rejected whole.
    StepFault {
        /// Which entity.
        entity: u16,
        /// At which tick.
        tick: Tick,
        /// The field.
        field: &'static str,
    },
    /// Client: a tick's first prediction.
    Predicted {
        /// The tick.
        tick: Tick,
        /// What it came to.
        state: &'a State,
        /// With which input.
        input: &'a Input,
        /// What it touched.
        contacts: &'a Contacts,
    },
    /// Client: a tick was predicted again.
    Rewritten {
        /// The tick.
        tick: Tick,
        /// What it came to now.
        state: &'a State,
    },
    /// Client: an input was put on its way.
    InputSampled {
        /// For which tick.
        tick: Tick,
    },
    /// Client: ticks that were never simulated.
    ClientDropped {
        /// First of them.
        first: Tick,
        /// How many.
        count: u64,
    },
    /// Client: prediction and authority are the same at a tick.
    Agreed {
        /// That tick.
        tick: Tick,
    },
    /// Client: they were not.
    Corrected(&'a Correction),
    /// Client: what it knows of its clock and link, once a snapshot.
    Clock {
        /// Newest own tick minus the newest acknowledged one.
        behind: i64,
        /// Round trip in nanoseconds: mean.
        rtt: i64,
        /// Standard deviation of the round trip in nanoseconds.
        rtt_sigma: i64,
        /// Least margin reported, in quarter ticks.
        margin: Option<i8>,
        /// How far in the past remotes are drawn, in nanoseconds.
        view_delay: i64,
    },
    /// Client: the tick clock was set, not slewed, by so many nanoseconds.
    ClockSet {
        /// Positive: later.
        shift: i64,
    },
    /// Client: joined with this tick as its newest.
    Joined {
        /// Newest own tick.
        tick: Tick,
    },
}

impl Event<'_> {
    const fn mask(&self) -> Mask {
        match self {
            Self::Authority { .. } | Self::Predicted { .. } | Self::Rewritten { .. } => Mask::STATES,
            Self::InputUsed { .. } | Self::InputArrived { .. } | Self::InputSampled { .. } => Mask::INPUTS,
            _ => Mask::NETCODE,
        }
    }
}

/// Somebody watching. See the [module](self).
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
pub(crate) fn tell<S: Sink>(sink: &mut S, event: Event<'_>) {
    if S::WANTS.has(event.mask()) {
        sink.on(event);
    }
}
