//! Numbers with units, as courses write them: `"75 ms"`, `"2 %"`, `"0.5 m"`.

use std::fmt;
use std::marker::PhantomData;

use schemars::{Schema, SchemaGenerator};
use serde::de::{Deserialize, Deserializer, Error, Visitor};

/// What kind of thing is measured.
pub trait Dimension {
    /// With its article.
    const NAME: &'static str;
    /// How one is written.
    const EXAMPLE: &'static str;
    /// Units and what one of them is in the unit kept.
    const UNITS: &'static [(&'static str, f64)];
    /// The largest magnitude that makes sense, in the unit kept: what it is turned into must not overflow.
    const MOST: f64;
    /// Whether less than nothing makes sense.
    const SIGNED: bool = false;
}

macro_rules! dimension {
    ($($doc:literal $name:ident: $article:literal, $example:literal, $units:expr, $most:literal, $signed:literal;)*) => {
        $(#[doc = $doc] #[derive(Clone, Copy, Debug)] pub struct $name;
        impl Dimension for $name {
            const NAME: &'static str = $article;
            const EXAMPLE: &'static str = $example;
            const UNITS: &'static [(&'static str, f64)] = &$units;
            const MOST: f64 = $most;
            const SIGNED: bool = $signed;
        })*
    };
}

dimension! {
    "Kept in milliseconds." Time: "a time", "75 ms", [("ms", 1.0), ("s", 1000.0), ("min", 60_000.0)], 86_400_000.0, false;
    "A time that may be negative, in milliseconds." Offset: "a time", "-250 ms", [("ms", 1.0), ("s", 1000.0), ("min", 60_000.0)], 86_400_000.0, true;
    "Kept from 0 to 1." Share: "a share", "2 %", [("%", 0.01)], 1.0, false;
    "Kept in metres." Length: "a length", "0.5 m", [("m", 1.0), ("cm", 0.01), ("mm", 0.001)], 1000.0, true;
    "Kept in metres a second." Speed: "a speed", "4.2 m/s", [("m/s", 1.0), ("km/h", 1.0 / 3.6)], 1000.0, true;
    "Kept in radians." Angle: "an angle", "90 deg", [("deg", std::f64::consts::PI / 180.0), ("rad", 1.0)], 1000.0, true;
    "Kept in hertz." Frequency: "a frequency", "60 Hz", [("Hz", 1.0)], 1_000_000.0, false;
    "Kept in millionths." Drift: "a clock drift", "100 ppm", [("ppm", 1.0)], 10_000.0, true;
    "Kept in times a minute." Often: "how often", "4 /min", [("/min", 1.0), ("/s", 60.0)], 6000.0, false;
    "Kept in thousand bits a second." Bandwidth: "a bandwidth", "256 kbit/s", [("kbit/s", 1.0), ("Mbit/s", 1000.0)], 1_000_000.0, false;
    "Kept in thousand bytes." Size: "a size", "64 kB", [("kB", 1.0), ("MB", 1000.0), ("B", 0.001)], 10_000.0, false;
    "Kept in bytes a second." Flow: "a data rate", "12 kB/s", [("kB/s", 1000.0), ("B/s", 1.0), ("MB/s", 1e6)], 1e9, false;
    "Kept as it is." Factor: "a factor", "1.5 times", [("times", 1.0)], 1000.0, false;
}

/// A number of some dimension, in the unit that dimension keeps.
#[derive(Clone, Copy)]
pub struct Quantity<D> {
    /// How much.
    pub value: f64,
    dimension: PhantomData<D>,
}

impl<D: Dimension> Quantity<D> {
    /// From text.
    pub fn parse(text: &str) -> Result<Self, String> {
        let found = |why: &str| format!("expected {} such as \"{}\", found \"{text}\"{why}", D::NAME, D::EXAMPLE);
        let (number, unit) = text.split_at(number_length(text));
        let unit = unit.trim();
        let number: f64 = number.parse().map_err(|_| found(": it does not begin with a number"))?;
        let units = || D::UNITS.iter().map(|(u, _)| *u).collect::<Vec<_>>().join(", ");
        let Some((_, scale)) = D::UNITS.iter().find(|(u, _)| *u == unit) else {
            return Err(found(&if unit.is_empty() {
                format!(": it has no unit ({})", units())
            } else {
                format!(": the unit must be {}", units())
            }));
        };
        if number < 0.0 && !D::SIGNED {
            return Err(found(": it must not be negative"));
        }
        if (number * scale).abs() > D::MOST {
            // In the unit that was written.
            return Err(found(&format!(
                ": at most {} {unit} makes sense",
                (D::MOST / scale * 1000.0).round() / 1000.0
            )));
        }
        Ok(Self { value: number * scale, dimension: PhantomData })
    }
}

/// How a course writes a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    /// A time with its unit.
    Time,
    /// The same, or "auto".
    TimeOrAuto,
    /// A share in per cent.
    Share,
    /// A length with its unit.
    Length,
    /// A factor, in times.
    Factor,
    /// How often.
    Often,
    /// An amount a second, in bits.
    Bandwidth,
    /// A number of bytes.
    Size,
    /// Metres a second.
    Speed,
    /// Bytes a second.
    Flow,
    /// A whole number.
    Whole,
    /// true or false.
    Switch,
    /// One of several words.
    Choice,
}

/// What is measured: how it is called and written, and how it is read into the unit kept.
pub struct Measure {
    /// With its article.
    pub name: &'static str,
    /// How one is written.
    pub example: &'static str,
    /// Reads one into the unit kept.
    pub parse: fn(&str) -> Result<f64, String>,
    /// How it is written, for editors.
    pub schema: fn(&mut SchemaGenerator) -> Schema,
}

fn measure<D: Dimension>() -> Measure {
    Measure {
        name: D::NAME,
        example: D::EXAMPLE,
        parse: |text| Quantity::<D>::parse(text).map(|q| q.value),
        schema: |generator| generator.subschema_for::<Quantity<D>>(),
    }
}

/// What is measured by a setting; `None` for what has no unit.
pub fn measure_of(takes: Takes) -> Option<Measure> {
    Some(match takes {
        Takes::Time | Takes::TimeOrAuto => measure::<Time>(),
        Takes::Share => measure::<Share>(),
        Takes::Length => measure::<Length>(),
        Takes::Often => measure::<Often>(),
        Takes::Bandwidth => measure::<Bandwidth>(),
        Takes::Size => measure::<Size>(),
        Takes::Speed => measure::<Speed>(),
        Takes::Flow => measure::<Flow>(),
        Takes::Factor => measure::<Factor>(),
        Takes::Whole | Takes::Switch | Takes::Choice => return None,
    })
}

/// A number with its unit, in the unit kept; `None` for what has none.
pub fn measured(takes: Takes, text: &str) -> Option<Result<f64, String>> {
    measure_of(takes).map(|measure| (measure.parse)(text))
}

/// How many bytes at the beginning are a number: digits with a sign, a point and a power of ten.
fn number_length(text: &str) -> usize {
    let digits = |from: usize| text[from..].bytes().take_while(|b| b.is_ascii_digit() || *b == b'.').count();
    let sign = |from: usize| usize::from(text[from..].starts_with(['+', '-']));
    let mantissa = sign(0) + digits(sign(0));
    if text[mantissa..].starts_with(['e', 'E']) {
        let power = mantissa + 1 + sign(mantissa + 1);
        if digits(power) > 0 {
            return power + digits(power);
        }
    }
    mantissa
}

struct Text<D>(PhantomData<D>);

impl<D: Dimension> Visitor<'_> for Text<D> {
    type Value = Quantity<D>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} in quotes with its unit, such as \"{}\"", D::NAME, D::EXAMPLE)
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<Self::Value, E> {
        Quantity::parse(text).map_err(E::custom)
    }
}

impl<'de, D: Dimension> Deserialize<'de> for Quantity<D> {
    fn deserialize<T: Deserializer<'de>>(from: T) -> Result<Self, T::Error> {
        from.deserialize_str(Text(PhantomData))
    }
}

/// For editors: a text with a unit. The unit is checked when the course is read.
impl<D: Dimension> schemars::JsonSchema for Quantity<D> {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        format!("quantity: {}", D::NAME).into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        let units: Vec<&str> = D::UNITS.iter().map(|(unit, _)| *unit).collect();
        let pattern: Vec<String> = units.iter().map(|u| u.replace('/', "\\/")).collect();
        schemars::json_schema!({
            "type": "string",
            "description": format!("{} with its unit ({})", D::NAME, units.join(", ")),
            "pattern": format!("^[-+]?[0-9]*\\.?[0-9]+([eE][-+]?[0-9]+)? *({})$", pattern.join("|")),
            "examples": [D::EXAMPLE],
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_are_converted_and_wrong_ones_named() {
        assert_eq!(Quantity::<Time>::parse("1.5 s").map(|q| q.value), Ok(1500.0));
        assert_eq!(Quantity::<Share>::parse("5%").map(|q| q.value), Ok(0.05));
        assert_eq!(Quantity::<Length>::parse("1e0 m").map(|q| q.value), Ok(1.0));
        assert_eq!(Quantity::<Time>::parse("2.5E-1 s").map(|q| q.value), Ok(250.0));
        let large = Quantity::<Length>::parse("1000001 m").map(|q| q.value).unwrap_err();
        assert!(large.ends_with("at most 1000 m makes sense"), "{large}");
        let large = Quantity::<Length>::parse("1e9 mm").map(|q| q.value).unwrap_err();
        assert!(large.ends_with("at most 1000000 mm makes sense"), "{large}");
        assert_eq!(Quantity::<Drift>::parse("-100 ppm").map(|q| q.value), Ok(-100.0));
        for bad in [
            "75",
            "75 m",
            "ms",
            "",
            "-3 ms",
            "1e9 ms",
            "ü ms",
            "1e ms",
            "e5 ms",
            "1e99999 ms",
            "--1 ms",
            "1.2.3 ms",
            "nan ms",
            "inf s",
        ] {
            let error = Quantity::<Time>::parse(bad).map(|q| q.value).unwrap_err();
            assert!(error.starts_with("expected a time such as \"75 ms\", found"), "{error}");
        }
    }
}
