//! Of whom something is set or measured: of all, of those on a link, of one and its copies.

use crate::course::Course;

/// Of whom, from the widest on.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Whose {
    /// Of everybody.
    All,
    /// Of those on a link of this name.
    Link(String),
    /// Of a member of this name, and those who are copies of it.
    Member(String),
}

impl Whose {
    /// The places in the cast of those who are meant.
    pub(super) fn places(&self, course: &Course, cast: usize) -> Vec<usize> {
        (0..course.cast.len()).filter(|place| self.includes(course, *place, cast)).collect()
    }

    /// Whether a member is meant.
    pub(super) fn includes(&self, course: &Course, place: usize, cast: usize) -> bool {
        match self {
            Self::All => true,
            Self::Link(link) => course.cast[place].link.as_ref() == Some(link),
            Self::Member(name) => original(course, place, cast) == name,
        }
    }
}

/// The name of the member that one is a copy of, or its own; the first `cast` are no copies.
pub(super) fn original(course: &Course, place: usize, cast: usize) -> &str {
    let name = course.cast[place].name.as_str();
    if place < cast { name } else { name.rsplit_once(' ').map_or(name, |(original, _)| original) }
}
