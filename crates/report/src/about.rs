//! What a page says about where it comes from: the course, its seed, the time, the settings.

use velocitas_analysis::cause::shown;
use velocitas_core::PlayerSettings;
use velocitas_lab::Run;
use velocitas_record::{Knobs, LabTime, MemberId, SETTINGS, Unrecorded};

/// The lines under a title: the course with its seed and the time, and how the member was set at the end of it, as far as that is no default.
pub fn about(run: &Run, member: MemberId, (from, to): (LabTime, LabTime)) -> Vec<String> {
    let course = run.course();
    // As they were then: they may have been turned since.
    let then = (to < run.now()).then(|| run.again(to, to, &mut Unrecorded).ok()).flatten();
    let knobs = then.as_ref().unwrap_or(run.lab()).knobs(member);
    let usual = Knobs {
        // The first line says how far apart snapshots are.
        served: PlayerSettings { snapshot_every: knobs.served.snapshot_every, ..PlayerSettings::DEFAULT },
        ..Knobs::USUAL
    };
    let set: Vec<String> = SETTINGS
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
            knobs.served.snapshot_every
        ),
        format!("{} was set, at {}: {set}", course[member].name, to.min(run.now())),
    ]
}
