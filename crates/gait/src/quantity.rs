//! A quantity written on its own, as courses do: a number with its unit.

use crate::lexer::lex;
use crate::parser::Parser;
use crate::unit::Dimension;

/// Reads a quantity such as `4.2 m/s` written on its own, as courses do. Returns SI base units.
///
/// # Errors
/// What is wrong with it, in words.
pub fn read_quantity(text: &str) -> Result<(f64, Dimension), String> {
    let (tokens, diagnostics) = lex(text);
    if let Some(d) = diagnostics.first() {
        return Err(d.message.clone());
    }
    let mut parser = Parser::new(text, &tokens);
    let quantity = parser.quantity().filter(|_| parser.at_end());
    match (quantity, parser.into_diagnostics().first()) {
        (_, Some(d)) => Err(match &d.help {
            Some(help) => format!("{}; {help}", d.message),
            None => d.message.clone(),
        }),
        (Some(q), None) => Ok((q.value, q.dimension)),
        (None, None) => Err(format!("expected a number with a unit, such as \"4.2 m/s\"; found \"{text}\"")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::unit::tests::dimensions;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_dimension_reads_back_as_it_is_shown(a in dimensions()) {
            let text = if a.is_none() { "2".to_owned() } else { format!("2 {a}") };
            // "1/s" begins with a bare 1, which is a ratio and not a unit.
            prop_assume!(!text.contains(" 1/"));
            prop_assert_eq!(read_quantity(&text), Ok((2.0, a)));
        }
    }

    #[test]
    fn quantities_are_read_in_si() {
        let near = |text: &str, value: f64, dimension| {
            let (found, of) = read_quantity(text).unwrap_or_else(|e| panic!("{text}: {e}"));
            assert!((found - value).abs() < 1e-9 && of == dimension, "{text}: {found} {of}");
        };
        near("15 km/h", 15.0 / 3.6, Dimension::SPEED);
        near("-3 cm", -0.03, Dimension::LENGTH);
        near("90 deg/s", std::f64::consts::FRAC_PI_2, Dimension::RATE);
        near("2 m/s^2", 2.0, Dimension::ACCELERATION);
        near("2 m s^-1", 2.0, Dimension::SPEED);
        near("4 %", 0.04, Dimension::NONE);
        near("1/256", 1.0 / 256.0, Dimension::NONE);
        assert!(read_quantity("12 kmh").is_err_and(|e| e.contains("km/h")));
        assert!(read_quantity("fast").is_err() && read_quantity("3 m m/").is_err() && read_quantity("").is_err());
    }
}
