//! Times as people type them, on the command line and in the interface.

use velocitas_record::LabTime;

/// A span of time as typed.
pub(crate) fn span(text: &str) -> Result<LabTime, String> {
    let split = text.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(text.len());
    let scale = match text[split..].trim() {
        "ms" => 1.0,
        "s" => 1000.0,
        "min" => 60_000.0,
        "" => return Err("expected a time with its unit, such as 60s".to_owned()),
        unit => return Err(format!("expected a time in ms, s or min, found the unit `{unit}`")),
    };
    let number: f64 = text[..split].parse().map_err(|_| "expected a time such as 60s".to_owned())?;
    let ms = number * scale;
    if ms > 0.0 && ms <= 24.0 * 3_600_000.0 {
        Ok(LabTime::from_millis(ms))
    } else {
        Err("expected more than nothing and at most a day (1440min)".to_owned())
    }
}

/// A moment as typed: a time with its unit, or minutes and seconds.
pub(crate) fn moment(text: &str) -> Result<LabTime, String> {
    let Some((minutes, seconds)) = text.split_once(':') else {
        // The beginning is a moment, though nothing is no span.
        let is_zero = ["ms", "s", "min"].iter().any(|unit| text.strip_suffix(unit).is_some_and(|n| n.trim() == "0"));
        return if is_zero { Ok(LabTime::ZERO) } else { span(text) };
    };
    let wrong = || format!("expected a moment such as 0:31.4 or 31.4s; found `{text}`");
    let digits = |s: &str, also: &str| !s.is_empty() && s.chars().all(|c| c.is_ascii_digit() || also.contains(c));
    if !digits(minutes, "") || !digits(seconds, ".") {
        return Err(wrong());
    }
    let minutes: f64 = minutes.parse().map_err(|_| wrong())?;
    let seconds: f64 = seconds.parse().map_err(|_| wrong())?;
    if seconds >= 60.0 || minutes > 1440.0 {
        return Err(format!("{}: below 60 s, and at most a day", wrong()));
    }
    Ok(LabTime::from_secs(minutes * 60.0 + seconds))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_read_as_they_are_printed() {
        assert_eq!(moment("0:31.417"), Ok(LabTime::from_millis(31_417.0)));
        assert_eq!((moment("0s"), moment("0 ms"), span("0s").is_err()), (Ok(LabTime::ZERO), Ok(LabTime::ZERO), true));
        assert_eq!(moment("2:05"), Ok(LabTime::from_secs(125.0)));
        assert_eq!(moment("31.4s"), Ok(LabTime::from_millis(31_400.0)));
        for bad in ["", ":", "1:", ":3", "0:60", "0:-1", "0:1e3", "0:nan", "9999:00", "1:2:3", "0:1.2.3", "31.4"] {
            assert!(moment(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn times_are_read_with_their_unit() {
        assert_eq!(span("1.5s"), Ok(LabTime::from_millis(1500.0)));
        assert_eq!(span("10min"), Ok(LabTime::from_secs(600.0)));
        for bad in ["", "60", "s", "-3s", "0s", "60 parsecs", "9999min", "1.2.3s"] {
            assert!(span(bad).is_err(), "{bad}");
        }
    }
}
