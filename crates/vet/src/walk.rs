//! A track run by itself, with one rule on a test ground.

use velocitas_core::{Input, InputKind, Motion, Rate, Schema, State, Vec3, vec3};
use velocitas_lab::track::{Track, TrackError, misfit};

use crate::grounds::{GROUNDS, TestGround};
use crate::{Stepper, defaults};

/// Where a track leads.
#[derive(Clone, Debug, PartialEq)]
pub struct Walked {
    /// Ticks a second.
    pub rate: Rate,
    /// Where it began.
    pub from: Vec3,
    /// By tick, from the beginning.
    pub states: Vec<State>,
    /// Steps that came out non-finite and were rejected.
    pub faults: u32,
}

/// Runs a track with the rule's own tunables, from a standing start in the middle of its ground, at its own rate or another.
///
/// # Errors
/// When it is for another rule, or its rate, ground or inputs do not fit.
pub fn walk(track: &Track, rule: &dyn Motion, rate: Option<Rate>) -> Result<Walked, TrackError> {
    track.fits(rule)?;
    let Some(rate) = rate.or_else(|| Rate::new(track.tick_rate)) else {
        return misfit("a tick rate from 1 to 1000", track.tick_rate.to_string());
    };
    let ground = ground_of(track)?;
    let [x, y, z] = track.from;
    let from = vec3(x, y, z);
    if !from.is_finite() || from.level().length() > 390.0 || !(0.0..=1000.0).contains(&z) {
        return misfit("a beginning within 390 m and 0 m to 1000 m high", format!("{:?}", track.from));
    }
    let (ground, tunables) = (ground.ground(), defaults(rule));
    let mut trial = Stepper::new(rule, &ground, &tunables, rate, rule.spawn(from, 0.0));
    let mut states = Vec::new();
    for input in track.inputs(rule.schema(), rate)? {
        trial.step(&input);
        states.push(trial.state);
    }
    Ok(Walked { rate, from, states, faults: trial.faults })
}

/// The test ground that a track is for.
pub(super) fn ground_of(track: &Track) -> Result<&'static TestGround, TrackError> {
    match TestGround::named(&track.ground) {
        Some(ground) => Ok(ground),
        None => {
            let names: Vec<&str> = GROUNDS.iter().map(|g| g.name).collect();
            misfit(format!("a ground ({})", names.join(", ")), format!("`{}`", track.ground))
        }
    }
}

impl Walked {
    /// Where it was, from the beginning on.
    pub fn path(&self) -> Vec<Vec3> {
        std::iter::once(self.from).chain(self.states.iter().map(|state| state.vec3(0))).collect()
    }

    /// The greatest displacement over `ticks` ticks, as a speed: along the ground, up, down.
    pub fn fastest(&self, ticks: usize) -> (f32, f32, f32) {
        let whole = self.path();
        let seconds = ticks as f32 * self.rate.dt();
        let ways = whole.windows(ticks + 1).map(|w| w[ticks] - w[0]);
        ways.fold((0.0, 0.0, 0.0), |(level, up, down), way| {
            use velocitas_core::max;
            (max(level, way.level().length() / seconds), max(up, way.z / seconds), max(down, -way.z / seconds))
        })
    }
}

/// East, to begin with.
pub(super) fn ahead(schema: &Schema) -> Input {
    let mut input = Input::default();
    for f in &schema.input {
        match f.kind {
            InputKind::Stick { .. } => input.set_real(f.lane + 1, 1.0),
            InputKind::Held => input.set_flag(f.lane, true),
            InputKind::Point { .. } => f.give(&mut input, vec3(300.0, 0.0, 0.0)),
            _ => {}
        }
    }
    if let Some(throttle) = schema.input.iter().find(|f| matches!(f.kind, InputKind::Axis { .. })) {
        input.set_real(throttle.lane, 1.0);
    }
    // Without a bearing ahead is not east but north: the stick is already in the world.
    if !schema.input.iter().any(|f| matches!(f.kind, InputKind::Bearing { .. }))
        && let Some(stick) = schema.input.iter().find(|f| matches!(f.kind, InputKind::Stick { .. }))
    {
        input.set_real(stick.lane, 1.0);
        input.set_real(stick.lane + 1, 0.0);
    }
    input
}
