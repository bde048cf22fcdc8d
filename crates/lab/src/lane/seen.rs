//! Samples of what is drawn: judged in whole seconds, as the figures are.

use std::collections::BTreeMap;

use super::Reading;
use crate::ids::{ActorId, MachineId};
use crate::metrics::{Reel, WINDOW};
use crate::record::Record;
use crate::time::LabTime;

/// What a viewer drew of an entity in a second.
#[derive(Clone, Debug, Default)]
struct Drawn {
    /// In each frame how old it is, in milliseconds, and how far off, in metres.
    ages_ms: Vec<(LabTime, f64)>,
    errors_m: Vec<(LabTime, f64)>,
    roughness_mps: Option<f64>,
    /// Hops: when, how far.
    hops: Vec<(LabTime, f64)>,
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

    fn second(&mut self, record: &Record, viewer: MachineId, second: u64) -> &BTreeMap<ActorId, Drawn> {
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
                    hops: window.hopped.iter().map(|(frame, off)| (sights[*frame].at, *off)).collect(),
                };
                all.insert(actor, drawn);
            });
            all
        })
    }
}

/// What the viewer drew of the subject in each second of a stretch.
fn each(r: &mut Reading<'_>, from: LabTime, to: LabTime, mut tell: impl FnMut(u64, &Drawn)) {
    let Some(actor) = r.subject.actor else { return };
    for second in from.0 / WINDOW.0..to.0.div_ceil(WINDOW.0) {
        if let Some(drawn) = r.screenings.second(r.record, r.subject.viewer, second).get(&actor) {
            tell(second, drawn);
        }
    }
}

fn within(values: &[(LabTime, f64)], from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    values.iter().filter(|(at, _)| (from..to).contains(at)).for_each(|(at, value)| tell(0, *at, *value));
}

pub(super) fn view_age(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    each(r, from, to, |_, drawn| within(&drawn.ages_ms, from, to, tell));
}

pub(super) fn drawn_error(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    each(r, from, to, |_, drawn| within(&drawn.errors_m, from, to, tell));
}

pub(super) fn roughness(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    each(r, from, to, |second, drawn| {
        let Some(roughness) = drawn.roughness_mps else { return };
        // It is of the whole second: told every hundredth of it, so that no column lies between two.
        let moments = (0..100).map(|n| LabTime(second * WINDOW.0 + n * WINDOW.0 / 100));
        moments.filter(|at| (from..to).contains(at)).for_each(|at| tell(0, at, roughness));
    });
}

pub(super) fn severity(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    for second in from.0 / WINDOW.0..to.0.div_ceil(WINDOW.0) {
        let all = r.screenings.second(r.record, r.subject.machine, second);
        all.values().for_each(|drawn| within(&drawn.hops, from, to, tell));
    }
}
