//! Units and the dimensions behind them.
//!
//! Everything is calculated in SI base units; a unit is a factor and a [`Dimension`]. An angle is a ratio of lengths
//! and has no dimension (SI Brochure, 9th edition, 2.3.4), so `rad/s` is `1/s`.

use std::fmt;

use crate::diagnostic::nearest;

/// Powers of metre, second and kilogram.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Dimension {
    /// Power of the metre.
    pub metre: i8,
    /// Power of the second.
    pub second: i8,
    /// Power of the kilogram.
    pub kilogram: i8,
}

impl Dimension {
    /// A bare number.
    pub const NONE: Self = Self::new(0, 0, 0);
    /// Length.
    pub const LENGTH: Self = Self::new(1, 0, 0);
    /// Time.
    pub const TIME: Self = Self::new(0, 1, 0);
    /// Speed.
    pub const SPEED: Self = Self::new(1, -1, 0);
    /// Acceleration.
    pub const ACCELERATION: Self = Self::new(1, -2, 0);
    /// Times a second.
    pub const RATE: Self = Self::new(0, -1, 0);

    /// From the powers.
    pub const fn new(metre: i8, second: i8, kilogram: i8) -> Self {
        Self { metre, second, kilogram }
    }

    /// Of a product.
    #[must_use]
    pub const fn times(self, o: Self) -> Self {
        Self::new(
            self.metre.saturating_add(o.metre),
            self.second.saturating_add(o.second),
            self.kilogram.saturating_add(o.kilogram),
        )
    }

    /// Of a quotient.
    #[must_use]
    pub const fn per(self, o: Self) -> Self {
        Self::new(
            self.metre.saturating_sub(o.metre),
            self.second.saturating_sub(o.second),
            self.kilogram.saturating_sub(o.kilogram),
        )
    }

    /// Of a power.
    #[must_use]
    pub const fn power(self, n: i8) -> Self {
        Self::new(self.metre.saturating_mul(n), self.second.saturating_mul(n), self.kilogram.saturating_mul(n))
    }

    /// Of a square root, if it has one.
    pub const fn root(self) -> Option<Self> {
        if self.metre % 2 == 0 && self.second % 2 == 0 && self.kilogram % 2 == 0 {
            Some(Self::new(self.metre / 2, self.second / 2, self.kilogram / 2))
        } else {
            None
        }
    }

    /// Whether it is a bare number.
    pub fn is_none(self) -> bool {
        self == Self::NONE
    }
}

impl fmt::Display for Dimension {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts = [("kg", self.kilogram), ("m", self.metre), ("s", self.second)];
        let shown = |sign: i8| {
            let part = |(name, power): &(&str, i8)| match power.unsigned_abs() {
                1 => (*name).to_owned(),
                n => format!("{name}^{n}"),
            };
            parts.iter().filter(|(_, p)| p.signum() == sign).map(part).collect::<Vec<_>>()
        };
        match (shown(1), shown(-1)) {
            (over, under) if over.is_empty() && under.is_empty() => write!(f, "1"),
            (over, under) if under.is_empty() => write!(f, "{}", over.join("*")),
            (over, under) => {
                let over = if over.is_empty() { "1".to_owned() } else { over.join("*") };
                write!(f, "{over}/{}", under.join("/"))
            }
        }
    }
}

/// A unit: how much of which dimension.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Unit {
    /// SI base units in one of it.
    pub factor: f64,
    /// Its dimension.
    pub dimension: Dimension,
}

impl Unit {
    /// A bare number.
    pub const NONE: Self = Self { factor: 1.0, dimension: Dimension::NONE };

    /// The product.
    #[must_use]
    pub fn times(self, o: Self) -> Self {
        Self { factor: self.factor * o.factor, dimension: self.dimension.times(o.dimension) }
    }

    /// A whole power, negative ones too.
    #[must_use]
    pub fn power(self, n: i8) -> Self {
        let times = |x: f64, n: u8| (0..n).fold(1.0, |product, _| product * x);
        let factor = times(self.factor, n.unsigned_abs());
        Self { factor: if n < 0 { 1.0 / factor } else { factor }, dimension: self.dimension.power(n) }
    }
}

/// Every unit by its name.
pub const UNITS: [(&str, Unit); 16] = {
    const fn unit(factor: f64, metre: i8, second: i8, kilogram: i8) -> Unit {
        Unit { factor, dimension: Dimension::new(metre, second, kilogram) }
    }
    [
        ("m", unit(1.0, 1, 0, 0)),
        ("cm", unit(0.01, 1, 0, 0)),
        ("mm", unit(0.001, 1, 0, 0)),
        ("km", unit(1000.0, 1, 0, 0)),
        ("s", unit(1.0, 0, 1, 0)),
        ("ms", unit(0.001, 0, 1, 0)),
        ("min", unit(60.0, 0, 1, 0)),
        ("h", unit(3600.0, 0, 1, 0)),
        ("Hz", unit(1.0, 0, -1, 0)),
        ("kg", unit(1.0, 0, 0, 1)),
        ("t", unit(1000.0, 0, 0, 1)),
        ("N", unit(1.0, 1, -2, 1)),
        ("kN", unit(1000.0, 1, -2, 1)),
        ("rad", unit(1.0, 0, 0, 0)),
        ("deg", unit(std::f64::consts::PI / 180.0, 0, 0, 0)),
        ("turns", unit(std::f64::consts::TAU, 0, 0, 0)),
    ]
};

/// The unit of a name.
pub(crate) fn unit_named(name: &str) -> Option<Unit> {
    UNITS.iter().find(|(known, _)| *known == name).map(|(_, unit)| *unit)
}

/// What somebody who wrote `found` as a unit probably meant: in words, and the unit where there is no doubt.
pub(crate) fn unit_meant(found: &str) -> (Option<String>, Option<Unit>) {
    let named = |name: &str| UNITS.iter().find(|(known, _)| *known == name).map(|(_, unit)| *unit);
    let speed = |factor| Some(Unit { factor, dimension: Dimension::SPEED });
    let (help, unit) = match found {
        "kmh" | "kph" | "kmph" => ("write `km/h`", speed(1.0 / 3.6)),
        "mps" => ("write `m/s`", speed(1.0)),
        "mph" => ("write it in `km/h`: one mile is 1.609 km", speed(1.609_344 / 3.6)),
        "g" | "G" => ("as an acceleration write `9.81 m/s^2`, as a mass write `kg`", None),
        "sec" | "secs" | "second" | "seconds" => ("write `s`", named("s")),
        "meter" | "meters" | "metre" | "metres" => ("write `m`", named("m")),
        "degrees" | "degree" => ("write `deg`", named("deg")),
        "radians" => ("write `rad`", named("rad")),
        "ticks" | "tick" => ("a rule is written per second; the tick's length is `dt`", None),
        _ => return (nearest(found, UNITS.iter().map(|(name, _)| *name)), None),
    };
    (Some(help.to_owned()), unit)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::*;

    pub(crate) fn dimensions() -> impl Strategy<Value = Dimension> {
        (-6i8..6, -6i8..6, -6i8..6).prop_map(|(m, s, kg)| Dimension::new(m, s, kg))
    }

    proptest! {
        #[test]
        fn dimensions_form_a_group(a in dimensions(), b in dimensions(), c in dimensions()) {
            prop_assert_eq!(a.times(b), b.times(a));
            prop_assert_eq!(a.times(b).times(c), a.times(b.times(c)));
            prop_assert_eq!(a.times(Dimension::NONE), a);
            prop_assert_eq!(a.per(a), Dimension::NONE);
            prop_assert_eq!(a.times(b).per(b), a);
        }

        #[test]
        fn powers_and_roots_undo_each_other(a in dimensions(), n in 0i8..4) {
            prop_assert_eq!(a.power(2).root(), Some(a));
            prop_assert_eq!(a.power(n).times(a), a.power(n + 1));
            prop_assert_eq!(a.power(-n), Dimension::NONE.per(a.power(n)));
        }
    }
}
