//! How others are drawn, as a client's user may turn it while it runs.

use super::looks::LookBy;
use crate::ease::{EaseBy, Easing};

/// How far behind the smoothed arrival of snapshots remotes are drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ViewDelay {
    /// As much as is needed: see [`ViewBy`].
    Auto,
    /// Milliseconds.
    Millis(u32),
}

/// What an automatic view delay goes by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ViewBy {
    /// Two snapshot intervals and two standard deviations of arrival jitter.
    #[default]
    Jitter,
    /// What all but a set share of the snapshots of ten seconds needed.
    Lateness,
}

impl ViewBy {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Jitter, Self::Lateness];
}

/// At which moment others are drawn.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum RemotesAt {
    /// A view delay behind what arrives, where there are states on both sides of it.
    #[default]
    Past,
    /// The moment at which the own character is drawn: their rules take them there, with the last inputs that the server is known to have
    /// made them with.
    Present,
}

impl RemotesAt {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Past, Self::Present];
}

/// Nobody is taken to the present from a state older than this many milliseconds: it stands where it was by then.
const PRESENT_MS: u32 = 1000;

/// In which way others are drawn between two states.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Blending {
    /// Each field as its rule says.
    #[default]
    ByField,
    /// Places straight from one to the other.
    Linear,
    /// Places along a curve that leaves and arrives with their velocities, which count for no more than one and a half times the straight way.
    Curve,
}

impl Blending {
    /// All of them, the usual one first.
    pub const ALL: [Self; 3] = [Self::ByField, Self::Linear, Self::Curve];

    /// By its place among all.
    pub fn from_number(number: u8) -> Self {
        Self::ALL.get(usize::from(number)).copied().unwrap_or_default()
    }
}

/// How one is drawn past its newest state, for as long as that is allowed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum RunOn {
    /// By its velocity.
    #[default]
    Velocity,
    /// Not at all: it stands.
    Hold,
    /// By its rule, with the last input that the server is known to have made it with; where none is known, by its velocity.
    Rule,
}

impl RunOn {
    /// All of them, the usual one first.
    pub const ALL: [Self; 3] = [Self::Velocity, Self::Hold, Self::Rule];
}

/// How others are drawn from what was received of them.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RemoteSettings {
    /// At which moment.
    pub at: RemotesAt,
    /// See [`ViewDelay`].
    pub view_delay: ViewDelay,
    /// What an automatic delay goes by.
    pub view_by: ViewBy,
    /// The share of snapshots that may come too late, where it goes by that, 0 to 1.
    pub late_share: f64,
    /// How one is drawn past its newest state …
    pub run_on: RunOn,
    /// … and for how long, in milliseconds.
    pub extrapolate_ms: u32,
    /// How it comes back from where it ran on to.
    pub back: Easing,
    /// Whether they are drawn in the past and blended.
    pub interpolate: bool,
    /// In which way.
    pub blending: Blending,
    /// How the calling program has what they look to be doing: see [`Looks`](super::Looks).
    pub looks: LookBy,
}

impl RemoteSettings {
    /// The default settings.
    pub const DEFAULT: Self = Self {
        at: RemotesAt::Past,
        view_delay: ViewDelay::Auto,
        view_by: ViewBy::Jitter,
        late_share: 0.05,
        run_on: RunOn::Velocity,
        extrapolate_ms: 200,
        back: Easing { by: EaseBy::None, ms: 150, speed: 3.0 },
        interpolate: true,
        blending: Blending::ByField,
        looks: LookBy::Steady,
    };

    /// How long one may run on, in milliseconds: not at all where it is to stand.
    pub fn limit_ms(&self) -> u32 {
        match (self.at, self.run_on) {
            (RemotesAt::Present, _) => PRESENT_MS,
            (RemotesAt::Past, RunOn::Hold) => 0,
            (RemotesAt::Past, RunOn::Velocity | RunOn::Rule) => self.extrapolate_ms,
        }
    }

    /// Whether they are taken past their newest state by their rules. Snapshots have to say then what they were made with.
    pub fn goes_by_rule(&self) -> bool {
        self.at == RemotesAt::Present || self.run_on == RunOn::Rule
    }
}
