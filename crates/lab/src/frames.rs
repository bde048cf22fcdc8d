//! How long a machine's frames last.

use velocitas_record::host::HostSpec;
use velocitas_record::time::LabTime;

use crate::chance::{Chance, Purpose};

/// How long frame number `index` lasts. The draws happen whether they matter or not.
pub(crate) fn frame(host: &HostSpec, seed: u64, place: u32, index: u64) -> LabTime {
    let period = 1e9 / host.fps;
    if host.unevenness == 0.0 && host.hitches_per_minute == 0.0 {
        // Without rounding adding up: from one frame's due time to the next.
        let due = |n: u64| (n as f64 * period) as u64;
        return LabTime(due(index + 1) - due(index));
    }
    let mut chance = Chance::of(seed, Purpose::Frame, place, 0, index);
    let uneven = period * (1.0 + (host.unevenness * chance.normal()).clamp(-0.9, 4.0));
    let hitches = chance.uniform() < host.hitches_per_minute / 60.0 / host.fps;
    let long = host.hitch.0 as f64 * (0.5 + chance.uniform());
    LabTime(uneven.max(1e5) as u64 + if hitches { long as u64 } else { 0 })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn even_frames_do_not_drift() {
        let total: u64 = (0..36_000).map(|i| frame(&HostSpec::PERFECT, 1, 1, i).0).sum();
        assert_eq!(total, 600_000_000_000);
    }

    #[test]
    fn hitches_come_as_often_as_asked() {
        let host = HostSpec { hitches_per_minute: 6.0, hitch: LabTime::from_millis(100.0), ..HostSpec::PERFECT };
        let long = (0..36_000).filter(|&i| frame(&host, 1, 1, i) > LabTime::from_millis(50.0)).count();
        assert!((40..80).contains(&long), "{long} in ten minutes");
    }
}
