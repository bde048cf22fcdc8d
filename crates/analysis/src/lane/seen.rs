//! Samples of what is drawn: judged in whole seconds, as the figures are.

use velocitas_record::time::LabTime;

use super::reading::Reading;
use super::screenings::Drawn;
use crate::metrics::WINDOW;

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
