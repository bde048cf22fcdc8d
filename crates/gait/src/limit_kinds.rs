//! The kinds of limits that a rule can state, in one table: those of pace, those of one number each ([`LIMITS`]), and that of a field.

use velocitas_core::{LIMITS, LimitOf, LimitSpec};

use crate::unit::Dimension;

/// What a limit is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Of {
    /// The velocity along the ground.
    Level,
    /// The velocity up and down.
    Height,
    /// A number that is remembered.
    Field,
}

/// A kind of line.
pub(crate) struct Kind {
    pub(crate) name: &'static str,
    pub(crate) of: Of,
    /// Whether it is the least that is given.
    pub(crate) least: bool,
    /// The dimension of the limit, that of what it is of aside.
    pub(crate) dimension: Dimension,
}

/// Those of pace.
pub(crate) const PACES: [Kind; 3] = [
    Kind { name: "pace", of: Of::Level, least: false, dimension: Dimension::SPEED },
    Kind { name: "climb", of: Of::Height, least: false, dimension: Dimension::SPEED },
    Kind { name: "drop", of: Of::Height, least: false, dimension: Dimension::SPEED },
];

/// That of a field; those between are of one number each.
const GAIN: Kind = Kind { name: "gain", of: Of::Field, least: false, dimension: Dimension::RATE };

/// All kinds, in the order in which they are named.
pub(crate) fn kinds() -> Vec<Kind> {
    let single = |limit: &LimitSpec| Kind {
        name: limit.name,
        of: if limit.of == LimitOf::Level { Of::Level } else { Of::Height },
        least: limit.least,
        dimension: Dimension::new(limit.unit.0, limit.unit.1, 0),
    };
    PACES.into_iter().chain(LIMITS.iter().map(single)).chain([GAIN]).collect()
}

/// Their names, for a message.
pub(crate) fn limit_names() -> String {
    let names: Vec<&str> = kinds().iter().map(|kind| kind.name).collect();
    let (last, others) = names.split_last().map_or(("", &[][..]), |(last, others)| (*last, others));
    format!("{} or {last}", others.join(", "))
}

/// Whether the least is stated by the kind of this name.
pub(crate) fn states_the_least(name: &str) -> bool {
    kinds().iter().any(|kind| kind.name == name && kind.least)
}
