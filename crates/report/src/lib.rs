//! What is taken away from a run: numbers for people and programs, charts.
//!
//! Nothing is simulated or measured here: a report arranges what [`velocitas_analysis::metrics`] measured, a chart draws
//! what the record holds. Everything comes out as bytes or text; who writes them where is the caller's business.

mod about;
pub mod check;
pub mod compare;
mod diagnosis;
pub mod drawing;
mod field;
mod guard;
mod guarding;
mod ladder;
pub mod price;
mod scope;
mod summary;
mod table;
mod text;
pub mod vary;

pub use about::about;
pub use diagnosis::{Diagnosis, cells};
pub use field::{FieldPage, Side, field, trails};
pub use guard::{GuardPage, LIMIT, allowed_lines, guard, nearness_plotted, times_below, verdict_plotted};
pub use guarding::{CheatRow, Guarded, MemberRow, MixtureRow, Nearest, ProposalRow, RuleRow, Spread};
pub use ladder::{Ladder, ladder, station, strokes};
pub use scope::{LaneView, Page, lanes_plotted, scope, title as lane_title};
pub use summary::{Summary, TakeSummary, TroubleRow, summarise};
pub use table::csv_table;
pub use text::text;
