//! What each piece of a text is, for showing it.

use crate::builtin::builtin_named;
use crate::diagnostic::Span;
use crate::lexer::{Kind, lex};
use crate::parser::{ATTRIBUTES, KEYWORDS, SECTIONS};
use crate::unit::unit_named;

/// What a piece of text is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Class {
    /// A remark after `#`.
    Comment,
    /// A word of the language or a section.
    Keyword,
    /// What may follow a field's kind.
    Attribute,
    /// A function of the language.
    Builtin,
    /// A number.
    Number,
    /// A unit behind a number.
    Unit,
    /// Anything else.
    Plain,
}

/// The pieces of a text that are more than plain, in order. Works on any text, broken or not.
pub fn classes(text: &str) -> Vec<(Span, Class)> {
    let (tokens, _) = lex(text);
    let mut out = Vec::new();
    let mut end = 0usize;
    let mut behind_number = false;
    for (i, token) in tokens.iter().enumerate() {
        let (start, word) = (token.span.start as usize, token.span.of(text));
        // Between two tokens lie only white space, what could not be read, and remarks.
        comments(text, end, start, &mut out);
        let known = SECTIONS.contains(&word) || KEYWORDS.contains(&word);
        let called = tokens.get(i + 1).is_some_and(|next| next.kind == Kind::ParenOpen);
        let class = match token.kind {
            Kind::Number(_) => Class::Number,
            Kind::Name if behind_number && !token.first && unit_named(word).is_some() => Class::Unit,
            Kind::Name if known => Class::Keyword,
            Kind::Name if called && builtin_named(word).is_some() => Class::Builtin,
            Kind::Name if ATTRIBUTES.contains(&word) => Class::Attribute,
            _ => Class::Plain,
        };
        let goes_on = matches!(token.kind, Kind::Slash | Kind::Star | Kind::Caret) && behind_number;
        behind_number = matches!(class, Class::Number | Class::Unit) || goes_on;
        if class != Class::Plain {
            out.push((token.span, class));
        }
        end = token.span.end as usize;
    }
    out
}

fn comments(text: &str, from: usize, to: usize, out: &mut Vec<(Span, Class)>) {
    let mut at = from;
    while let Some(found) = text.get(at..to).and_then(|gap| gap.find('#')) {
        let start = at + found;
        let end = text[start..to].find('\n').map_or(to, |i| start + i);
        out.push((Span::new(start, end), Class::Comment));
        at = end;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pieces_are_told_apart() {
        let text = "walk 4.2 m/s # so fast\nlet m2 = toward(a, b, 3) # \u{e9}\n&& step";
        let found: Vec<(&str, Class)> = classes(text).into_iter().map(|(s, c)| (s.of(text), c)).collect();
        use Class::{Builtin, Comment, Keyword, Number, Unit};
        assert_eq!(
            found,
            [
                ("4.2", Number),
                ("m", Unit),
                ("s", Unit),
                ("# so fast", Comment),
                ("let", Keyword),
                ("toward", Builtin),
                ("3", Number),
                ("# \u{e9}", Comment),
                ("step", Keyword),
            ]
        );
    }
}
