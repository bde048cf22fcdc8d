//! What happened, in values that can be kept.

use serde::{Deserialize, Serialize};

use super::Gap;
use crate::ids::{Address, EntityId, PeerId, Token};
use crate::names::Name;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::Verdict;
use crate::wire::{Denied, EndedBy};

/// How the authority came by the input of a tick.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Provenance {
    /// As it was sent.
    Fresh,
    /// Made up: the last one's keys held on.
    Repeated,
    /// Made up after so many others that the keys came up.
    Rested,
    /// Taken for the same as before: its owner says only what changes.
    Unchanged,
}

impl Provenance {
    /// Its name in reports.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Fresh => "fresh",
            Self::Repeated => "repeated",
            Self::Rested => "rested",
            Self::Unchanged => "unchanged",
        }
    }
}

/// A moment in an input's life.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InputFate {
    /// Client: it was put on its way.
    Sampled,
    /// Server: it arrived for the first time; how early, in quarter ticks; negative: after its tick was simulated.
    Arrived(i16),
    /// Server: it arrived for a tick that the server passes over after a stall; its owner is not at fault.
    Dropped,
    /// Server: it is a claim that goes on from before the guard's last pull back, and dropped for that: on arrival, or while
    /// it waited for its tick.
    Outdated,
    /// Server: its tick was simulated, with it or with one made up.
    Used(Provenance),
}

/// What became of an input, or of a claim.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct InputFact {
    /// Whose.
    pub peer: PeerId,
    /// For which entity.
    pub entity: EntityId,
    /// For which tick.
    pub tick: Tick,
    /// What.
    pub fate: InputFate,
}

/// What a client knows of its clock and link, once a snapshot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClockFact {
    /// Newest own tick minus the newest acknowledged one.
    pub behind: i32,
    /// Round trip in microseconds: mean.
    pub rtt_us: u32,
    /// Standard deviation of the round trip in microseconds.
    pub rtt_sigma_us: u32,
    /// Least margin reported, in quarter ticks.
    pub margin: Option<i8>,
    /// How far behind the smoothed arrivals remotes are drawn, in microseconds.
    pub view_delay_us: u32,
    /// What it takes the server's time to be, in microseconds since the base of its ticks fell due; `None` where it goes by margins and none was
    /// reported.
    pub server_us: Option<u64>,
}

/// Why a client took over the server's state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Restored {
    /// Prediction and authority differed by more than a field's agreement.
    Diverged,
    /// They differed by less: the client follows so that differences cannot add up, and nobody is told.
    Settled,
    /// The server was already past the newest prediction.
    Overtaken,
    /// The guard pulled a claiming owner back.
    PulledBack,
    /// The server put it elsewhere: the prediction is cut, which is no jump.
    Teleported,
}

/// A client rewrote its present.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Correction {
    /// Of which entity.
    pub entity: EntityId,
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

/// Something that happened in a client or the server, other than a state being made.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub enum Fact {
    /// Client: what it knows of its clock and link.
    Clock(ClockFact),
    /// Client: a snapshot of this tick was taken in, for the first time.
    Received {
        /// The tick it shows.
        tick: Tick,
    },
    /// Client: prediction and authority are the same at a tick.
    Agreed {
        /// Of which entity.
        entity: EntityId,
        /// That tick.
        tick: Tick,
    },
    /// Client: they were not.
    Corrected(Correction),
    /// Server: an accusation.
    Verdict(Verdict),
    /// Server: something that hands seldom give, which is no accusation.
    Note(Verdict),
    /// Server: an owner is put back; claims that go on from before are dropped.
    PulledBack {
        /// Whose.
        peer: PeerId,
        /// Which entity.
        entity: EntityId,
        /// At which tick.
        tick: Tick,
        /// The number that claims must carry from now on.
        epoch: u8,
        /// To where.
        to: Vec3,
    },
    /// Server: a gap was bridged without an accusation.
    Resync {
        /// Whose.
        peer: PeerId,
        /// Of which entity.
        entity: EntityId,
        /// At which tick.
        tick: Tick,
        /// What was not known.
        why: Gap,
    },
    /// Ticks were passed over, by the machine that tells it.
    Dropped {
        /// First of them.
        first: Tick,
        /// How many.
        count: u64,
    },
    /// A step came out non-finite and was rejected whole.
    StepFault {
        /// Which entity.
        entity: EntityId,
        /// At which tick.
        tick: Tick,
        /// The field.
        #[serde(with = "crate::names")]
        field: Name,
    },
    /// Client: the tick clock was set, not slewed, by this number of nanoseconds.
    ClockSet {
        /// Positive: later.
        shift: i64,
    },
    /// A message was held back in an ordered stream until what was sent before it had come.
    HeldBack {
        /// Of which connection.
        peer: PeerId,
        /// Whether it was on its way up: the server tells of it then.
        up: bool,
        /// The number of the piece that carried it.
        number: u16,
        /// For how long, in microseconds.
        waited_us: u32,
    },
    /// There was no room in an ordered stream for a message: it was not sent.
    StreamFull {
        /// Of which connection.
        peer: PeerId,
        /// Whether it was to go up: the client tells of it then.
        up: bool,
    },
    /// Client: joined.
    Joined {
        /// As whom.
        peer: PeerId,
        /// With this tick as its newest.
        tick: Tick,
    },
    /// Client: it is not let in.
    Denied(Denied),
    /// Client: nothing was heard of the server for so long that it asks anew.
    Unheard,
    /// Client: it is out for good.
    Out(EndedBy),
    /// Client: it learnt of an entity from a snapshot of this tick.
    Entered {
        /// Which.
        entity: EntityId,
        /// That tick.
        tick: Tick,
    },
    /// Client: it learnt from a snapshot of this tick that an entity is no more.
    Left {
        /// Which.
        entity: EntityId,
        /// That tick.
        tick: Tick,
    },
    /// Client: by a snapshot of this tick it owns an entity, or no longer.
    Owns {
        /// Which.
        entity: EntityId,
        /// That tick.
        tick: Tick,
        /// Whether it does.
        owns: bool,
    },
    /// Server: a connection began.
    Connected {
        /// Which.
        peer: PeerId,
        /// Where it comes from.
        from: Address,
        /// In this tick.
        tick: Tick,
        /// Whether its player had another one until then.
        again: bool,
    },
    /// Server: a connection is no more.
    Ended {
        /// Which.
        peer: PeerId,
        /// In this tick.
        tick: Tick,
        /// Why.
        why: EndedBy,
    },
    /// Server: somebody was not let in.
    Refused {
        /// Where the asker is.
        from: Address,
        /// Why.
        why: Denied,
    },
    /// Server: a client was let in whose rule has the same layout and does something else.
    RuleDiffers {
        /// Who.
        peer: PeerId,
        /// The number of the rule.
        kind: u8,
    },
    /// Server: an entity exists from this tick on.
    Born {
        /// Which.
        entity: EntityId,
        /// The number of its rule.
        kind: u8,
        /// The player with whom it comes and will leave; `None` for what belongs to the world.
        with: Option<Token>,
        /// That tick.
        tick: Tick,
    },
    /// Server: an entity is gone from this tick on.
    Gone {
        /// Which.
        entity: EntityId,
        /// That tick.
        tick: Tick,
    },
    /// Server: from this tick on a player owns an entity, or no longer.
    Owner {
        /// Which entity.
        entity: EntityId,
        /// That tick.
        tick: Tick,
        /// Who.
        player: Token,
        /// Whether it does.
        owns: bool,
    },
    /// Server: of several owners, this one's new order arrived last and is obeyed from this tick on.
    Obeyed {
        /// Whose.
        peer: PeerId,
        /// Of which entity.
        entity: EntityId,
        /// That tick.
        tick: Tick,
    },
}

impl Fact {
    /// The tick it is about, if it is about one.
    pub const fn tick(&self) -> Option<Tick> {
        match self {
            Self::Received { tick }
            | Self::Agreed { tick, .. }
            | Self::Corrected(Correction { tick, .. })
            | Self::Verdict(Verdict { tick, .. })
            | Self::Note(Verdict { tick, .. })
            | Self::Resync { tick, .. }
            | Self::PulledBack { tick, .. }
            | Self::Dropped { first: tick, .. }
            | Self::StepFault { tick, .. }
            | Self::Entered { tick, .. }
            | Self::Left { tick, .. }
            | Self::Owns { tick, .. }
            | Self::Connected { tick, .. }
            | Self::Ended { tick, .. }
            | Self::Born { tick, .. }
            | Self::Gone { tick, .. }
            | Self::Owner { tick, .. }
            | Self::Obeyed { tick, .. }
            | Self::Joined { tick, .. } => Some(*tick),
            Self::Clock(_)
            | Self::ClockSet { .. }
            | Self::Denied(_)
            | Self::Unheard
            | Self::Out(_)
            | Self::Refused { .. }
            | Self::HeldBack { .. }
            | Self::StreamFull { .. }
            | Self::RuleDiffers { .. } => None,
        }
    }

    /// The peer it is about, where it is told by a server.
    pub const fn peer(&self) -> Option<PeerId> {
        match self {
            Self::Verdict(Verdict { peer, .. })
            | Self::Note(Verdict { peer, .. })
            | Self::Resync { peer, .. }
            | Self::PulledBack { peer, .. }
            | Self::Connected { peer, .. }
            | Self::Ended { peer, .. }
            | Self::HeldBack { peer, .. }
            | Self::StreamFull { peer, .. }
            | Self::RuleDiffers { peer, .. }
            | Self::Obeyed { peer, .. }
            | Self::Joined { peer, .. } => Some(*peer),
            _ => None,
        }
    }
}
