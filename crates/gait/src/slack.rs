//! Another slack in a text, and nothing else in it.

use crate::diagnostic::Span;
use crate::lexer::{Kind, lex};

/// A rule's text with every `slack` of its limits as this many per cent: remarks and all else stay as they are. `None` where no
/// limit says any.
pub fn with_slack(text: &str, per_cent: f64) -> Option<String> {
    let spans = slacks(text);
    if spans.is_empty() {
        return None;
    }
    let mut out = String::with_capacity(text.len());
    let mut at = 0;
    for span in spans {
        out.push_str(&text[at..span.start as usize]);
        out.push_str(&format!("{per_cent} %"));
        at = span.end as usize;
    }
    out.push_str(&text[at..]);
    Some(out)
}

/// Where the quantities stand that follow the word, in `limits`.
fn slacks(text: &str) -> Vec<Span> {
    let (tokens, _) = lex(text);
    let word = |i: usize| tokens.get(i).map(|t| &text[t.span.start as usize..t.span.end as usize]);
    let mut found = Vec::new();
    let mut inside = false;
    for (i, token) in tokens.iter().enumerate() {
        match (token.kind, word(i)) {
            (Kind::Name, Some("limits")) => inside = tokens.get(i + 1).is_some_and(|next| next.kind == Kind::Open),
            (Kind::Close, _) => inside = false,
            (Kind::Name, Some("slack")) if inside => {
                let Some(number) = tokens.get(i + 1).filter(|next| matches!(next.kind, Kind::Number(_))) else {
                    continue;
                };
                let unit = tokens.get(i + 2).filter(|next| next.kind == Kind::Percent && !next.first);
                found.push(unit.map_or(number.span, |unit| number.span.to(unit.span)));
            }
            _ => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_slack_of_limits_is_another_and_remarks_stay() {
        let text = include_str!("../gaits/courier.gait");
        let wider = with_slack(text, 6.5).expect("it has some");
        assert_eq!(wider.matches("slack 6.5 %").count(), text.matches("slack 4 %").count());
        assert_eq!(wider.replace("slack 6.5 %", "slack 4 %"), text);
        let slack = |text: &str| {
            let gait = crate::compile(text).gait.expect("sound");
            velocitas_core::Motion::limits(&gait, &[]).slack
        };
        assert!((slack(&wider) - 0.065).abs() < 1e-6 && (slack(text) - 0.04).abs() < 1e-6);
        assert_eq!(with_slack("limits { pace vel.xy at most 3 m/s } # slack 4 %", 2.0), None);
        assert_eq!(
            with_slack("limits { pace vel.xy at most 3 m/s slack 0.04 climb", 2.0).as_deref(),
            Some("limits { pace vel.xy at most 3 m/s slack 2 % climb")
        );
    }
}
