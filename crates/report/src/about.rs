//! What a page says about where it comes from: the course, its seed, the time, the settings.

use velocitas_core::ClientSettings;
use velocitas_lab::cause::shown;
use velocitas_lab::{Conditions, KNOBS, Knobs, LabTime, MemberId, Run};

/// The lines under a title: the course with its seed and the time, and how the member is set, as far as that is no default.
pub fn about(run: &Run, member: MemberId, (from, to): (LabTime, LabTime)) -> Vec<String> {
    let (course, knobs) = (run.course(), run.lab().knobs(member));
    let usual = Knobs {
        up: Conditions::PERFECT,
        down: Conditions::PERFECT,
        settings: ClientSettings::default(),
        // The first line says it.
        snapshot_every: knobs.snapshot_every,
    };
    let set: Vec<String> = KNOBS
        .iter()
        .filter(|spec| spec.knob.get(knobs) != spec.knob.get(&usual))
        .map(|spec| format!("{} {}", spec.name, shown(spec.knob, spec.knob.get(knobs))))
        .collect();
    let set = if set.is_empty() { "as usual".to_owned() } else { set.join(", ") };
    let time = if from == to { format!("at {from}") } else { format!("{from} to {to} lab time") };
    vec![
        format!(
            "{}, seed {}, {time}; {} ticks a second, a snapshot every {}",
            course.name,
            course.seed,
            course.rate.hz(),
            knobs.snapshot_every
        ),
        format!("{} is set: {set}", course[member].name),
    ]
}
