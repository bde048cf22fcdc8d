//! Seconds of screens that were judged for lanes.

use std::collections::BTreeMap;

use velocitas_record::ids::{ActorId, MachineId};
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;

use crate::metrics::{Reel, WINDOW};

/// What a viewer drew of an entity in a second.
#[derive(Clone, Debug, Default)]
pub(super) struct Drawn {
    /// In each frame how old it is, in milliseconds, and how far off, in metres.
    pub(super) ages_ms: Vec<(LabTime, f64)>,
    pub(super) errors_m: Vec<(LabTime, f64)>,
    pub(super) roughness_mps: Option<f64>,
    pub(super) judder_mps: Option<f64>,
    /// The share of its frames in which it is past its newest state, 0 to 1.
    pub(super) past: f64,
    /// Hops: when, how far.
    pub(super) hops: Vec<(LabTime, f64)>,
}

/// Seconds that were judged, of one viewer each: several lanes are of the same. Holds while the record stands.
#[derive(Debug, Default)]
pub(crate) struct Screenings {
    reel: Reel,
    seconds: BTreeMap<(MachineId, u64), BTreeMap<ActorId, Drawn>>,
}

impl Screenings {
    /// The record has gone on: what was judged may come out otherwise.
    pub(super) fn forget(&mut self) {
        *self = Self::default();
    }

    pub(super) fn second(&mut self, record: &Record, viewer: MachineId, second: u64) -> &BTreeMap<ActorId, Drawn> {
        self.seconds.entry((viewer, second)).or_insert_with(|| {
            let mut all = BTreeMap::new();
            self.reel.play(record, viewer, LabTime(second * WINDOW.0), |actor, _, sights, window| {
                let when = |frames: &[usize], values: &[f64]| {
                    frames.iter().zip(values).map(|(frame, value)| (sights[*frame].at, *value)).collect()
                };
                let drawn = Drawn {
                    ages_ms: when(&window.aged, &window.ages_ms),
                    errors_m: when(&window.placed, &window.errors_m),
                    roughness_mps: window.roughness_mps,
                    judder_mps: window.judder_mps,
                    past: sights.iter().filter(|sight| sight.how.is_past()).count() as f64 / sights.len() as f64,
                    hops: window.hopped.iter().map(|(frame, off)| (sights[*frame].at, *off)).collect(),
                };
                all.insert(actor, drawn);
            });
            all
        })
    }
}
