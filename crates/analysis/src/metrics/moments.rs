//! Where to look: of each thing that can go wrong with a member, the moment at which it went most wrong.

use velocitas_record::time::LabTime;

use super::views::{WINDOW, Window};

/// The greatest up to now, and when; of equal ones the first.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Peak(Option<(f64, LabTime)>);

impl Peak {
    /// Takes what happened at a moment.
    pub(super) fn note(&mut self, value: f64, at: LabTime) {
        if self.0.is_none_or(|(most, _)| value > most) {
            self.0 = Some((value, at));
        }
    }

    /// When.
    pub fn at(&self) -> Option<LabTime> {
        self.0.map(|(_, at)| at)
    }
}

/// How much of something fell into each second. What belongs to an earlier second may be noted later.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Seconds(Vec<u32>);

impl Seconds {
    pub(super) fn note(&mut self, much: u32, at: LabTime) {
        let second = (at.0 / WINDOW.0) as usize;
        if self.0.len() <= second {
            self.0.resize(second + 1, 0);
        }
        self.0[second] = self.0[second].saturating_add(much);
    }

    /// The beginning of the second with the most of it, if there was any; of equal ones the first.
    pub fn busiest(&self) -> Option<LabTime> {
        let most = self.0.iter().copied().max().filter(|most| *most > 0)?;
        let second = self.0.iter().position(|much| *much == most)?;
        Some(LabTime(second as u64 * WINDOW.0))
    }
}

/// What is wrong with what is drawn, in whole seconds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SeenMoments {
    /// The second in which it moved most roughly.
    pub roughness: Peak,
    /// The second in which it was drawn to move most unevenly.
    pub judder: Peak,
    /// The second in which it was drawn furthest from where it should have been.
    pub drawn_error: Peak,
    /// The second in which the oldest was drawn.
    pub age: Peak,
    /// The second in which it was drawn furthest ahead of the server.
    pub lead: Peak,
    /// In which seconds it hopped.
    pub hops: Seconds,
}

impl SeenMoments {
    pub(super) fn note(&mut self, window: &Window, at: LabTime) {
        let most = |values: &[f64]| values.iter().copied().reduce(f64::max);
        let peaks = [
            (&mut self.roughness, window.roughness_mps),
            (&mut self.judder, window.judder_mps),
            (&mut self.drawn_error, most(&window.errors_m)),
            (&mut self.age, most(&window.ages_ms)),
            (&mut self.lead, window.lag_ms.map(|lag| -lag)),
        ];
        peaks.into_iter().for_each(|(peak, value)| value.into_iter().for_each(|value| peak.note(value, at)));
        if window.hops > 0 {
            self.hops.note(window.hops, at);
        }
    }
}

/// The moments of a member at which to look.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Moments {
    /// Its largest jump.
    pub jump: Peak,
    /// When it was corrected.
    pub corrections: Seconds,
    /// The first correction that the record does not explain.
    pub unexplained: Peak,
    /// How it saw others.
    pub others: SeenMoments,
    /// How it saw its own.
    pub own: SeenMoments,
    /// The press that took longest to be seen by who pressed.
    pub response: Peak,
    /// The press that took longest to be seen by another.
    pub seen: Peak,
    /// When others were drawn past their newest state.
    pub extrapolated: Seconds,
    /// When they were drawn past the limit of that, and stood still.
    pub held: Seconds,
    /// Payload sent.
    pub up: Seconds,
    /// Payload sent to it.
    pub down: Seconds,
    /// Its first verdict.
    pub verdict: Peak,
    /// The begin of the first trick that had an effect and was not answered.
    pub trick: Peak,
    /// Inputs that arrived after their tick was made, by when they were sampled.
    pub late: Seconds,
}

impl Moments {
    /// Notes what is of a kind of which the first is wanted.
    pub(super) fn first(peak: &mut Peak, at: LabTime) {
        peak.note(-at.secs(), at);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_of_the_greatest_is_the_one_to_look_at() {
        let mut peak = Peak::default();
        assert_eq!(peak.at(), None);
        for (value, at) in [(1.0, 5), (3.0, 7), (3.0, 9), (2.0, 11)] {
            peak.note(value, LabTime(at));
        }
        assert_eq!(peak.at(), Some(LabTime(7)));
        let mut first = Peak::default();
        for at in [9, 4, 6] {
            Moments::first(&mut first, LabTime::from_secs(f64::from(at)));
        }
        assert_eq!(first.at(), Some(LabTime::from_secs(4.0)));
    }

    #[test]
    fn the_busiest_second_may_be_told_of_late() {
        let mut seconds = Seconds::default();
        assert_eq!(seconds.busiest(), None);
        for (much, at) in [(2, 0.5), (3, 4.0), (2, 4.9), (4, 1.2), (1, 1.0)] {
            seconds.note(much, LabTime::from_secs(at));
        }
        assert_eq!(seconds.busiest(), Some(LabTime::from_secs(1.0)), "of 5 and 5 the first");
    }
}
