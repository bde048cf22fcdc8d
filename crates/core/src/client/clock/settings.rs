//! The ways to know which tick the server is in, and to keep to it.

/// How a client knows which tick it should be in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClockBy {
    /// By how early its inputs arrive, as snapshots report.
    #[default]
    Margins,
    /// By the times of leaving and arriving of ordinary traffic: the offset of the server's clock and the round trip, as in the on-wire protocol of
    /// RFC 5905, section 8. Of a few seconds the sample with the shortest round trip counts.
    Timestamps,
    /// By a message in which the server tells its tick every so often; half the mean round trip is added.
    Told,
    /// By the first: half the round trip measured while joining, never measured again.
    Assumed,
}

/// What is done where the clock is off.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClockChange {
    /// Ticks are made longer or shorter by a little, until it fits.
    #[default]
    Slewed,
    /// It is set, when it is off by more than so much. Ticks are passed over, or stand still.
    Set,
}

/// How far ahead of the server a client runs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum LeadBy {
    /// So far that nearly all inputs arrive in time, however much the way jitters.
    #[default]
    Adapted,
    /// So far that the middle of all inputs has the margin that is set.
    Fixed,
}

impl ClockBy {
    /// All of them, the usual one first.
    pub const ALL: [Self; 4] = [Self::Margins, Self::Timestamps, Self::Told, Self::Assumed];
}

impl ClockChange {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Slewed, Self::Set];
}

impl LeadBy {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Adapted, Self::Fixed];
}

/// What a client does about its clock.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ClockSettings {
    /// How it knows.
    pub by: ClockBy,
    /// How it follows.
    pub change: ClockChange,
    /// How far ahead.
    pub lead: LeadBy,
    /// Ticks by which inputs are to arrive earlier than they need to.
    pub extra_lead: u8,
    /// By which share of it a tick is made longer at most, or so many more of them made; above 0, to 0.5.
    pub slew: f64,
    /// Off by more than this, in milliseconds, it is set, where it is not slewed.
    pub tolerance_ms: u32,
}

impl ClockSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self {
        by: ClockBy::Margins,
        change: ClockChange::Slewed,
        lead: LeadBy::Adapted,
        extra_lead: 0,
        slew: 0.1,
        tolerance_ms: 20,
    };

    /// What inputs are to have to spare, in ticks.
    pub(super) fn spare(&self) -> f64 {
        WANTED_TICKS + f64::from(self.extra_lead)
    }
}

impl Default for ClockSettings {
    fn default() -> Self {
        Self::DEFAULT
    }
}

/// The margin wanted where no more is asked for, in ticks.
const WANTED_TICKS: f64 = 0.75;
