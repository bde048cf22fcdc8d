//! The checks that the guard puts claims to, in the order in which it does.

use super::accel::Accel;
use super::burst::Burst;
use super::case::Check;
use super::edge::Edge;
use super::growth::Growth;
use super::pace::Pace;
use super::reach::Reach;
use super::support::Support;
use super::sweep::Sweep;
use super::teleport::Teleport;

/// The checks that a guard makes, in their order, as they are before anything was seen.
pub fn checks() -> Vec<Box<dyn Check>> {
    vec![
        Box::new(Teleport),
        Box::new(Reach),
        Box::new(Edge),
        Box::new(Sweep),
        Box::new(Support::default()),
        Box::new(Pace::default()),
        Box::new(Burst::default()),
        Box::new(Accel::default()),
        Box::new(Growth),
    ]
}
