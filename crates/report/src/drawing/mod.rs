//! What is seen, described once: plots with axes, units and marks. A screen renders it to cells, [`svg`] and [`pdf`] to pages, and
//! [`table`] to the numbers behind it.
//!
//! A drawing holds no colour and no place on a page: what a mark stands for is its [`Tone`], where it lies is in the units of its
//! plot's axes. The same drawing gives the same bytes.

mod axis;
mod clip;
mod ink;
mod page;
mod pdf;
mod sheet;
mod table;

pub use axis::{Axis, Scale, told};
pub use clip::cut;
pub use ink::Theme;
pub use page::svg;
pub use pdf::{PdfError, pdf};
pub use table::table;

use velocitas_analysis::lane::Stands;

/// What a mark stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Tone {
    /// What the owner believes or does.
    Owner,
    /// What the server believes or does.
    Authority,
    /// What a viewer sees.
    Viewer,
    /// A fault: a correction, something lost.
    Fault,
    /// An accusation.
    Verdict,
    /// What is chosen.
    Bright,
    /// Nothing of these.
    Plain,
    /// What is less important.
    Muted,
    /// Lines that only help the eye.
    Line,
    /// Water.
    Water,
    /// Ice.
    Ice,
    /// Planks.
    Planks,
    /// Something solid.
    Wall,
    /// Something solid that one side only knows.
    OneSided,
}

impl Tone {
    /// Its name in tables.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Owner => "owner",
            Self::Authority => "authority",
            Self::Viewer => "viewer",
            Self::Fault => "fault",
            Self::Verdict => "verdict",
            Self::Bright => "chosen",
            Self::Plain => "plain",
            Self::Muted => "muted",
            Self::Line => "line",
            Self::Water => "water",
            Self::Ice => "ice",
            Self::Planks => "planks",
            Self::Wall => "wall",
            Self::OneSided => "one-sided",
        }
    }
}

impl From<Stands> for Tone {
    fn from(stands: Stands) -> Self {
        match stands {
            Stands::Owner => Self::Owner,
            Stands::Authority => Self::Authority,
            Stands::Viewer => Self::Viewer,
            Stands::Fault => Self::Fault,
            Stands::Plain => Self::Plain,
        }
    }
}

/// The shape of a point: it says the same as its tone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// An owner's echo.
    Dot,
    /// An authority's echo.
    Diamond,
    /// A viewer's echo.
    Ring,
    /// A correction, or where something was lost.
    Cross,
    /// A tick.
    Notch,
    /// An input that was made up.
    Square,
    /// An input that came late.
    Hollow,
    /// An accusation.
    Exclamation,
}

/// A stretch of one axis and what lay in it on the other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Span {
    /// From here …
    pub from: f64,
    /// … to here, not included.
    pub to: f64,
    /// The least in it.
    pub least: f64,
    /// The greatest.
    pub most: f64,
    /// The newest.
    pub last: f64,
}

/// Something drawn.
#[derive(Clone, Debug, PartialEq)]
pub enum Mark {
    /// Least and greatest by column; where `holds`, a value lasts until the next.
    Band {
        /// Of what.
        series: String,
        /// By column, in order.
        spans: Vec<Span>,
        /// What it stands for.
        tone: Tone,
        /// Whether a value lasts until the next one.
        holds: bool,
        /// Whether it lies behind: a branch's, a kept run's.
        ghost: bool,
    },
    /// A path.
    Path {
        /// Of what.
        series: String,
        /// Its points in order.
        points: Vec<(f64, f64)>,
        /// What it stands for.
        tone: Tone,
        /// Whether it is drawn in dashes: the shape says the same as the tone.
        dashed: bool,
    },
    /// A point.
    Point {
        /// Of what.
        series: String,
        /// Where.
        at: (f64, f64),
        /// Its shape.
        shape: Shape,
        /// What it stands for.
        tone: Tone,
        /// Words beside it; empty for none.
        label: String,
    },
    /// An area.
    Area {
        /// What it is.
        series: String,
        /// Its corners in order.
        corners: Vec<(f64, f64)>,
        /// What it stands for.
        tone: Tone,
    },
    /// A square of a map, a unit wide and high, with words in it.
    Cell {
        /// What it is of.
        series: String,
        /// Its corner where both axes are least.
        at: (f64, f64),
        /// How dark it is, from 0 to 1.
        share: f64,
        /// What it stands for.
        tone: Tone,
        /// Words in its middle, where they fit.
        label: String,
    },
    /// A line across the whole plot.
    Rule {
        /// What it is.
        series: String,
        /// Where.
        at: f64,
        /// Whether at this place of the vertical axis; else of the horizontal one.
        level: bool,
        /// What it stands for.
        tone: Tone,
    },
}

impl Mark {
    /// Of what it is.
    pub fn series(&self) -> &str {
        match self {
            Self::Band { series, .. }
            | Self::Path { series, .. }
            | Self::Point { series, .. }
            | Self::Area { series, .. }
            | Self::Cell { series, .. }
            | Self::Rule { series, .. } => series,
        }
    }
}

/// Two axes and what is drawn between them.
#[derive(Clone, Debug, PartialEq)]
pub struct Plot {
    /// What it shows.
    pub name: String,
    /// From left to right.
    pub across: Axis,
    /// From the bottom up, or down.
    pub up: Axis,
    /// What is drawn, what lies on top last.
    pub marks: Vec<Mark>,
    /// What its tones and shapes mean, in words.
    pub legend: Vec<(Tone, String)>,
    /// How high it is, among those of a drawing.
    pub weight: u32,
    /// Whether a unit is as long on both axes.
    pub even: bool,
}

/// All of it.
#[derive(Clone, Debug, PartialEq)]
pub struct Drawing {
    /// What it shows.
    pub title: String,
    /// The course, the seed, the time, the settings.
    pub facts: Vec<String>,
    /// From the top down.
    pub plots: Vec<Plot>,
}

#[cfg(test)]
mod tests;
