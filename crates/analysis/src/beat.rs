//! Physics that is stepped at another rate than the tick's: some ticks go further than others while nothing else changes.
//!
//! A step moves by the velocity after it times its length. So in a tick the share of what its velocity makes in a tick is the number of steps in it times a
//! tick rate for each step rate. Where that is two values and not one, their difference is one step, and says how many there are in a second. Steps that are
//! spread over ticks as evenly as can be leave one of the two values alone each time: a rule that goes further for a while does not beat.

use velocitas_core::Vec3;
use velocitas_record::ids::{ActorId, RecordTick};
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;

/// Ticks are looked at for so long.
const LATELY: LabTime = LabTime(2_000_000_000);
/// Of who is slower nothing can be told, in m/s.
const LEAST_MPS: f32 = 0.5;
/// By so much of itself a velocity may change from tick to tick and count as the same.
const STEADY: f32 = 0.01;
/// So many steady ticks it takes, and so many of them of either kind.
const ENOUGH: usize = 30;
const OF_EACH: usize = 5;
/// Shares of the same number of steps differ by less than this, and of two numbers by more.
const ALIKE: f32 = 0.03;

/// How many steps of physics there are in a second, where they are out of step with ticks; as far as an entity shows it at a moment.
pub fn out_of_step(record: &Record, actor: ActorId, at: LabTime) -> Option<f64> {
    let lane = record.layout(actor, RecordTick(u32::MAX)).schema().velocity_lane()?;
    // Whoever predicts it makes all ticks one after the other; what the server has of it may wait for inputs, or come in bunches.
    let mut machines = record.cast.machines().filter_map(|machine| record.of(machine).own(actor));
    let predicted = machines.find(|own| own.predicted.at(at).is_some()).map(|own| &own.predicted);
    let (track, dt) = (predicted.unwrap_or_else(|| record.authority(actor)), record.cast.rate.dt());
    let mut shares = Vec::new();
    let mut before: Option<(u32, Vec3, Vec3)> = None;
    for i in track.between(at.minus(LATELY), at) {
        let Some(head) = track.head(i) else { continue };
        let (pos, velocity) = (track.pos(i), track.vec3(i, lane));
        let last = before.replace((head.tick.0, pos, velocity));
        let Some((tick, was, speed)) = last.filter(|_| !head.teleported) else { continue };
        let (fast, change) = (velocity.length(), velocity.distance(speed));
        if tick + 1 == head.tick.0 && fast > LEAST_MPS && change < STEADY * fast {
            shares.push((head.tick.0, pos.distance(was) / (fast * dt)));
        }
    }
    if shares.len() < ENOUGH {
        return None;
    }
    let by_share = |a: &&(u32, f32), b: &&(u32, f32)| a.1.total_cmp(&b.1);
    let (least, most) = (shares.iter().min_by(by_share)?.1, shares.iter().max_by(by_share)?.1);
    let (is_few, is_many) = (|share: f32| share - least < ALIKE, |share: f32| most - share < ALIKE);
    let few = shares.iter().filter(|(_, share)| is_few(*share)).count();
    let many = shares.iter().filter(|(_, share)| is_many(*share)).count();
    let is_alone =
        |is: &dyn Fn(f32) -> bool| !shares.windows(2).any(|w| w[0].0 + 1 == w[1].0 && is(w[0].1) && is(w[1].1));
    let is_spread = is_alone(&is_few) || is_alone(&is_many);
    let is_beat = is_spread && most - least > 2.0 * ALIKE && few + many == shares.len();
    let (rate, hz) = (f64::from(record.cast.rate.hz()), f64::from(record.cast.rate.hz()) / f64::from(most - least));
    // Whole numbers of steps in each tick do not beat: that is something else.
    let each = hz / rate;
    let is_whole = each > 0.98 && (each - libm::round(each)).abs() < 0.02;
    (is_beat && !is_whole && few.min(many) >= OF_EACH).then_some(hz)
}
