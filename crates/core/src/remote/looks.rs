//! What somebody looks to be doing, by how fast it is drawn to go: standing, walking, running.
//!
//! Whoever draws legs needs to know, and speeds that are blended, run on and eased tremble about any threshold. So a look is left at a lower speed
//! than it is taken up, and not before it has stood for a while.

use crate::motion::Look;
use crate::tick::HostNanos;
use crate::vec3::Vec3;

/// In which way looks are had from speeds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum LookBy {
    /// From a smoothed speed, with hysteresis and a shortest stay.
    #[default]
    Steady,
    /// From the speed of each frame.
    Plain,
}

impl LookBy {
    /// All of them, the usual one first.
    pub const ALL: [Self; 2] = [Self::Steady, Self::Plain];

    /// By its place among all.
    pub fn from_number(number: u8) -> Self {
        Self::ALL.get(usize::from(number)).copied().unwrap_or_default()
    }
}

/// How looks are had from speeds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LookSettings {
    /// A look is left for a slower one at a speed lower by this share, 0 to 1.
    pub hysteresis: f32,
    /// Over how many milliseconds a speed is smoothed; 0: not at all.
    pub over_ms: u32,
    /// For how many milliseconds a look stays at least.
    pub stay_ms: u32,
}

impl LookSettings {
    /// Those of a way.
    pub const fn of(by: LookBy) -> Self {
        match by {
            LookBy::Steady => Self { hysteresis: 0.2, over_ms: 100, stay_ms: 200 },
            LookBy::Plain => Self { hysteresis: 0.0, over_ms: 0, stay_ms: 0 },
        }
    }

    /// From which speed to which a look is kept.
    fn keeps(&self, looks: &[Look], look: usize) -> (f32, f32) {
        let below = |i: usize| looks.get(i).and_then(|look| look.below);
        let least = look.checked_sub(1).and_then(below).map_or(0.0, |below| below * (1.0 - self.hysteresis));
        (least, below(look).unwrap_or(f32::INFINITY))
    }

    /// Which look fits a speed, coming from another.
    fn look(&self, looks: &[Look], speed: f32, before: usize) -> usize {
        let is_slower = |(i, look): (usize, &Look)| {
            let kept = if i < before { 1.0 - self.hysteresis } else { 1.0 };
            look.below.is_some_and(|below| speed >= below * kept)
        };
        looks.iter().enumerate().take_while(|look| is_slower(*look)).count()
    }
}

/// Who is drawn to go faster than this was put there: it is looked at anew.
const PUT_MPS: f32 = 50.0;
/// A look that is left within so many nanoseconds for the one before it is a flicker.
const FLICKER_NANOS: i64 = 500_000_000;

/// What somebody looks to be doing, frame by frame.
#[derive(Clone, Copy, Debug, Default)]
pub struct Looks {
    /// Where it was drawn in the frame before, and when.
    before: Option<(HostNanos, Vec3)>,
    speed: f32,
    /// Which look of its rule, and which it had before.
    look: usize,
    came_from: usize,
    /// From which speed to which it keeps that: mostly there is nothing more to ask. Nothing is within it at first.
    keeps: (f32, f32),
    /// Since when it looks so; nothing before it was seen to change.
    since: Option<HostNanos>,
}

impl Looks {
    /// Takes where somebody is drawn in a frame. Says whether it flickers: has the look again that it had left less than half a second ago.
    pub fn drawn(&mut self, now: HostNanos, pos: Vec3, looks: &[Look], settings: &LookSettings) -> bool {
        let Some((last, was)) = self.before.replace((now, pos)) else { return false };
        let passed = now.since(last);
        if passed <= 0 {
            return false;
        }
        let seconds = passed as f32 / 1e9;
        let (x, y) = (pos.x - was.x, pos.y - was.y);
        let speed = libm::sqrtf(x * x + y * y) / seconds;
        if speed > PUT_MPS {
            return false;
        }
        let over = settings.over_ms as f32 / 1e3;
        self.speed = if seconds < over { self.speed + (speed - self.speed) * (seconds / over) } else { speed };
        if self.speed >= self.keeps.0 && self.speed < self.keeps.1 {
            return false;
        }
        let stays = self.since.is_some_and(|since| now.since(since) < i64::from(settings.stay_ms) * 1_000_000);
        let look = settings.look(looks, self.speed, self.look);
        if look == self.look {
            self.keeps = settings.keeps(looks, look);
        }
        if look == self.look || stays {
            return false;
        }
        self.keeps = (1.0, 0.0);
        let came_from = std::mem::replace(&mut self.came_from, self.look);
        self.look = look;
        let is_short = self.since.replace(now).is_some_and(|since| now.since(since) < FLICKER_NANOS);
        is_short && came_from == look
    }

    /// Which look of its rule it has.
    pub const fn look(&self) -> usize {
        self.look
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vec3::vec3;
    use proptest::prelude::*;

    /// Draws frames of 16 ms at these speeds: the looks, and how many flickered.
    fn film(by: LookBy, speeds: impl IntoIterator<Item = f32>) -> (Vec<usize>, usize) {
        let below = [("idle", Some(0.5)), ("walk", Some(3.0)), ("sprint", None)];
        let rule = below.map(|(name, below)| Look { name: name.to_owned(), below });
        let (mut looks, mut x, mut flickers) = (Looks::default(), 0.0, 0);
        let settings = LookSettings::of(by);
        looks.drawn(HostNanos(0), vec3(0.0, 0.0, 0.0), &rule, &settings);
        let mut all = Vec::new();
        for (frame, speed) in (1i64..).zip(speeds) {
            x += speed * 0.016;
            // What falls does not run.
            let pos = vec3(x, 0.0, frame as f32);
            flickers += usize::from(looks.drawn(HostNanos(frame * 16_000_000), pos, &rule, &settings));
            all.push(looks.look());
        }
        (all, flickers)
    }

    #[test]
    fn who_stands_walks_and_runs_looks_so() {
        for by in LookBy::ALL {
            let speeds = [0.0, 2.0, 6.0, 0.0].into_iter().flat_map(|speed| [speed; 60]);
            let (looks, flickers) = film(by, speeds);
            let middles = [30, 90, 150, 210].map(|frame| looks[frame]);
            assert_eq!((middles, flickers), ([0, 1, 2, 0], 0), "{by:?}");
        }
    }

    #[test]
    fn a_speed_that_trembles_about_a_threshold_flickers_where_looks_are_plain() {
        let trembles = |frame: usize| if frame.is_multiple_of(2) { 3.3 } else { 2.7 };
        let (_, flickers) = film(LookBy::Plain, (0..120).map(trembles));
        assert!(flickers > 100, "{flickers}");
        assert_eq!(film(LookBy::Steady, (0..120).map(trembles)).1, 0);
    }

    #[test]
    fn who_is_put_elsewhere_does_not_run_there() {
        let (looks, _) = film(LookBy::Plain, [0.0, 0.0, 3000.0, 0.0, 0.0]);
        assert!(looks.iter().all(|look| *look == 0), "{looks:?}");
    }

    /// The looks of frames of 16 ms at these speeds, each asked for anew.
    fn plainly(by: LookBy, speeds: &[f32]) -> Vec<usize> {
        let settings = LookSettings::of(by);
        let (mut speed, mut look, mut since) = (0.0f32, 0, None);
        let one = |(frame, now): (usize, &f32)| {
            let smooth = settings.over_ms > 0;
            speed = if smooth { speed + (now - speed) * 0.16 } else { *now };
            let kept = |i: usize| if i <= look { 1.0 - settings.hysteresis } else { 1.0 };
            let wanted = [(1, 0.5f32), (2, 3.0)].iter().take_while(|(i, below)| speed >= below * kept(*i)).count();
            let stays = since.is_some_and(|since: usize| (frame - since) * 16 < settings.stay_ms as usize);
            if wanted != look && !stays {
                (look, since) = (wanted, Some(frame));
            }
            look
        };
        speeds.iter().enumerate().map(one).collect()
    }

    proptest! {
        #[test]
        fn looks_are_those_that_are_asked_for_anew_in_each_frame(
            spells in prop::collection::vec((0.0f32..9.0, 1usize..40), 1..30),
        ) {
            let speeds: Vec<f32> = spells.iter().flat_map(|(speed, frames)| vec![*speed; *frames]).collect();
            for by in LookBy::ALL {
                let (looks, plain) = (film(by, speeds.iter().copied()).0, plainly(by, &speeds));
                // Places are rounded: who is at a threshold to the bit may be a frame earlier or later there.
                let apart = looks.iter().zip(&plain).filter(|(a, b)| a != b).count();
                prop_assert!(apart <= looks.len() / 50 + 1, "{by:?}: {apart} of {}\n{looks:?}\n{plain:?}", looks.len());
            }
        }

        #[test]
        fn a_steady_look_stays_for_as_long_as_is_set(speeds in prop::collection::vec(0.0f32..9.0, 1..300)) {
            let (looks, _) = film(LookBy::Steady, speeds);
            let changes: Vec<usize> = (1..looks.len()).filter(|&i| looks[i] != looks[i - 1]).collect();
            prop_assert!(changes.windows(2).all(|w| (w[1] - w[0]) * 16 >= 200), "{changes:?}");
        }
    }
}
