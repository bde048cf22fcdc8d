//! An axis: what it measures, from where to where, and which of its values are written beside it.

/// How values lie on an axis.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scale {
    /// Evenly.
    Linear,
    /// By decades; what is below the least lies at the least.
    Decades,
}

/// No axis of decades goes further.
const MOST_DECADES: f64 = 1e12;

/// An axis.
#[derive(Clone, Debug, PartialEq)]
pub struct Axis {
    /// What it measures.
    pub name: String,
    /// In which unit; empty for none.
    pub unit: &'static str,
    /// The value at its beginning: the left, or the bottom.
    pub from: f64,
    /// The value at its end. It may be less than the first: such an axis runs down.
    pub to: f64,
    /// How values lie on it.
    pub scale: Scale,
    /// Values with names, instead of numbers.
    pub named: Vec<(f64, String)>,
}

impl Axis {
    /// An even axis.
    pub fn linear(name: &str, unit: &'static str, (from, to): (f64, f64)) -> Self {
        Self { name: name.to_owned(), unit, from, to, scale: Scale::Linear, named: Vec::new() }
    }

    /// One that holds all from nothing, or from the least if that is below it, to a round number beyond the greatest.
    pub fn holding(name: &str, unit: &'static str, least: f64, most: f64) -> Self {
        let step = step((most.max(0.0) - least.min(0.0)).max(1e-3), 2);
        let (from, to) = ((least.min(0.0) / step).floor() * step, (most.max(0.0) / step).ceil() * step);
        Self::linear(name, unit, (from, if to > from { to } else { from + step }))
    }

    /// Whole decades from the least that is told apart.
    pub fn decades(name: &str, unit: &'static str, least: f64, most: f64) -> Self {
        let mut to = least * 10.0;
        // What is beyond all measure is drawn at the end.
        while to < most && to < MOST_DECADES {
            to *= 10.0;
        }
        Self { scale: Scale::Decades, ..Self::linear(name, unit, (least, to)) }
    }

    /// Where a value lies, from 0 to 1; beyond them it is outside.
    pub fn place(&self, value: f64) -> f64 {
        match self.scale {
            Scale::Linear => (value - self.from) / (self.to - self.from),
            Scale::Decades => (value.max(self.from) / self.from).log10() / (self.to / self.from).log10(),
        }
    }

    /// About this number of values to be written beside it, each with its words.
    pub fn ticks(&self, about: usize) -> Vec<(f64, String)> {
        let (low, high) = (self.from.min(self.to), self.from.max(self.to));
        if !self.named.is_empty() {
            let within = |(value, _): &&(f64, String)| (low..=high).contains(value);
            return self.named.iter().filter(within).cloned().collect();
        }
        let values: Vec<f64> = match self.scale {
            Scale::Linear => {
                let step = step(high - low, about);
                let first = (low / step - 1e-9).ceil() as i64;
                let last = (high / step + 1e-9).floor() as i64;
                (first..=last).map(|n| n as f64 * step).collect()
            }
            Scale::Decades => {
                let decades = (high / low).log10().round() as usize;
                // Both ends are among them.
                let least = decades.div_ceil(about.max(1)).max(1);
                let every = (least..=decades).find(|every| decades.is_multiple_of(*every)).unwrap_or(1);
                (0..=decades).step_by(every).map(|n| low * 10f64.powi(n as i32)).collect()
            }
        };
        values.into_iter().map(|value| (value, told(value, self.unit))).collect()
    }
}

/// One, two or five times a power of ten, such that about this number fit.
fn step(length: f64, about: usize) -> f64 {
    let rough = length / about.max(1) as f64;
    let power = 10f64.powf(rough.log10().floor());
    let times = [1.0, 2.0, 5.0, 10.0].into_iter().find(|times| times * power >= rough * (1.0 - 1e-9));
    times.unwrap_or(10.0) * power
}

/// A value with its unit, as people read it.
pub fn told(value: f64, unit: &str) -> String {
    let size = value.abs();
    match unit {
        "m" if size == 0.0 => "0 m".to_owned(),
        "m" if size < 0.009_95 => format!("{} mm", round(value * 1e3, 1)),
        "m" if size < 0.9995 => format!("{} cm", round(value * 1e2, 1)),
        "m" => format!("{} m", round(value, 2)),
        "lab time" => {
            let (minutes, seconds) = ((size / 60.0).floor(), size % 60.0);
            format!("{minutes:.0}:{seconds:05.2}")
        }
        "" => round(value, 2),
        unit => format!("{} {unit}", round(value, if size < 10.0 { 2 } else { 1 })),
    }
}

/// So many digits after the point, less those that say nothing.
fn round(value: f64, digits: usize) -> String {
    let text = format!("{value:.digits$}");
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    if text == "-0" { "0".to_owned() } else { text.replace('-', "\u{2212}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(axis: &Axis, about: usize) -> Vec<String> {
        axis.ticks(about).into_iter().map(|(_, words)| words).collect()
    }

    #[test]
    fn ticks_are_round_and_within() {
        let axis = Axis::holding("round trip", "ms", 12.0, 97.0);
        assert_eq!((axis.from, axis.to), (0.0, 100.0));
        assert_eq!(words(&axis, 2), ["0 ms", "50 ms", "100 ms"]);
        let margin = Axis::holding("margin", "ticks", -1.3, 3.2);
        assert!(margin.from <= -1.3 && margin.to >= 3.2);
        assert_eq!(words(&Axis::linear("time", "lab time", (59.0, 61.0)), 2), ["0:59.00", "1:00.00", "1:01.00"]);
        assert_eq!(words(&Axis::decades("error", "m", 1e-3, 0.3), 2), ["1 mm", "1 m"]);
        // Nothing at all has an axis too.
        let nothing = Axis::holding("late", "inputs", 0.0, 0.0);
        assert!(nothing.to > nothing.from && nothing.place(0.0) == 0.0);
    }

    #[test]
    fn decades_lie_evenly_and_what_is_below_them_at_their_beginning() {
        let axis = Axis::decades("error", "m", 1e-3, 0.3);
        assert_eq!(words(&axis, 5), ["1 mm", "1 cm", "10 cm", "1 m"]);
        assert_eq!((axis.place(0.0), axis.place(1e-3)), (0.0, 0.0));
        assert!((axis.place(0.01) - 1.0 / 3.0).abs() < 1e-9);
        // Distances may overflow: the axis ends all the same.
        assert!(Axis::decades("error", "m", 1e-3, f64::INFINITY).to.is_finite());
        let down = Axis::linear("time", "lab time", (8.0, 4.0));
        assert_eq!((down.place(8.0), down.place(4.0)), (0.0, 1.0));
    }

    #[test]
    fn values_carry_the_unit_that_suits_them() {
        let all = [0.0, 0.0002, 0.004, 0.25, 3.0].map(|metres| told(metres, "m"));
        assert_eq!(all, ["0 m", "0.2 mm", "4 mm", "25 cm", "3 m"]);
        assert_eq!((told(-0.25, "ticks"), told(-0.001, "")), ("\u{2212}0.25 ticks".into(), "0".into()));
    }
}
