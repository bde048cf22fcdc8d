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
    of_seconds(r, from, to, |drawn| drawn.roughness_mps, tell);
}

pub(super) fn judder(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    of_seconds(r, from, to, |drawn| drawn.judder_mps, tell);
}

pub(super) fn run_on(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    of_seconds(r, from, to, |drawn| Some(100.0 * drawn.past), tell);
}

/// What is of a whole second: told every hundredth of it, so that no column lies between two.
fn of_seconds(
    r: &mut Reading<'_>,
    from: LabTime,
    to: LabTime,
    of: impl Fn(&Drawn) -> Option<f64>,
    tell: &mut dyn FnMut(usize, LabTime, f64),
) {
    each(r, from, to, |second, drawn| {
        let Some(value) = of(drawn) else { return };
        let moments = (0..100).map(|n| LabTime(second * WINDOW.0 + n * WINDOW.0 / 100));
        moments.filter(|at| (from..to).contains(at)).for_each(|at| tell(0, at, value));
    });
}

pub(super) fn severity(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: &mut dyn FnMut(usize, LabTime, f64)) {
    for second in from.0 / WINDOW.0..to.0.div_ceil(WINDOW.0) {
        let all = r.screenings.second(r.record, r.subject.machine, second);
        all.values().for_each(|drawn| within(&drawn.hops, from, to, tell));
    }
}
