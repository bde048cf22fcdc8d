//! What is wrong with a text, where, why, and what to do about it.
//!
//! A [`Diagnostic`] is data; its wording is made where the mistake is found, its looks are made here: plain, coloured
//! for a terminal, or serialised.

use std::fmt::{self, Write as _};

use serde::Serialize;

/// A range of bytes of a source text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Span {
    /// First byte.
    pub start: u32,
    /// Byte after the last.
    pub end: u32,
}

impl Span {
    /// From here to there.
    pub const fn new(start: usize, end: usize) -> Self {
        Self { start: start as u32, end: end as u32 }
    }

    /// From the beginning of this to the end of that.
    #[must_use]
    pub const fn to(self, other: Self) -> Self {
        Self { start: self.start, end: other.end }
    }

    /// The text it covers.
    pub fn of(self, text: &str) -> &str {
        text.get(self.start as usize..self.end as usize).unwrap_or("")
    }
}

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// It runs, but probably not as meant.
    Warning,
    /// It cannot be run.
    Error,
}

impl Severity {
    /// In words.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Warning => "warning",
            Self::Error => "error",
        }
    }
}

/// One thing to know about a text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Diagnostic {
    /// How bad it is.
    pub severity: Severity,
    /// A short name of the kind of mistake, for programs and the reference.
    pub code: &'static str,
    /// What was expected and what was found.
    pub message: String,
    /// Where.
    pub span: Span,
    /// Why there is such a rule.
    pub why: Option<String>,
    /// What to do about it.
    pub help: Option<String>,
}

impl Diagnostic {
    /// Something that keeps the text from running.
    pub fn error(code: &'static str, span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Error, code, message: printable(&message.into()), span, why: None, help: None }
    }

    /// Something that is probably not meant.
    pub fn warning(code: &'static str, span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, span, message) }
    }

    /// With the reason for the rule.
    #[must_use]
    pub fn why(mut self, why: impl Into<String>) -> Self {
        self.why = Some(printable(&why.into()));
        self
    }

    /// With what to do.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(printable(&help.into()));
        self
    }

    /// With what to do, where that can be told.
    #[must_use]
    pub fn maybe_help(mut self, help: Option<String>) -> Self {
        self.help = help.map(|h| printable(&h)).or(self.help);
        self
    }
}

/// Where a span begins, for people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SourcePosition {
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// Characters on that line.
    pub width: usize,
}

impl SourcePosition {
    /// The place of a span in its text.
    pub fn of(text: &str, span: Span) -> Self {
        let floor = |mut at: usize| {
            at = at.min(text.len());
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            at
        };
        let (start, end) = (floor(span.start as usize), floor(span.end as usize));
        let begin = text[..start].rfind('\n').map_or(0, |i| i + 1);
        let covered = text[start..end.max(start)].lines().next().map_or(0, |l| l.chars().count());
        Self {
            line: text[..start].matches('\n').count() + 1,
            column: text[begin..start].chars().count() + 1,
            width: covered.max(1),
        }
    }
}

/// Characters of a quote that are worth reading.
const QUOTED: usize = 60;

/// Characters of a word that is not quoted, and of a whole message.
const WORD: usize = 120;
const WHOLE: usize = 2000;

/// A text fit for a terminal: control characters are spelled out.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if c.is_control() && c != '\n' { out.extend(c.escape_default()) } else { out.push(c) }
    }
    out
}

/// The beginning of a text that is too long.
fn cut(text: &str, most: usize) -> String {
    match text.char_indices().nth(most) {
        Some((end, _)) => format!("{}\u{2026}", &text[..end]),
        None => text.to_owned(),
    }
}

/// A message fit for a terminal: control characters are spelled out, and what is quoted, and any word, is cut to a length
/// at which it can still be recognised.
pub fn printable(message: &str) -> String {
    let part = |(i, part): (usize, &str)| {
        let words = |part: &str| part.split(' ').map(|word| cut(word, WORD)).collect::<Vec<_>>().join(" ");
        if i % 2 == 1 { cut(part, QUOTED) } else { words(part) }
    };
    let parts: Vec<String> = message.split('`').enumerate().map(part).collect();
    escaped(&cut(&parts.join("`"), WHOLE))
}

/// A line of source as it is shown: the part around what is meant, with what to put below it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Excerpt {
    /// One character a column; what is left out at either end is `…`.
    pub text: String,
    /// Columns before what is meant.
    pub skip: usize,
    /// Columns of it.
    pub width: usize,
}

impl Excerpt {
    /// The longest excerpt, in characters.
    const MOST: usize = 120;
    /// Of those, this many before what is meant.
    const BEFORE: usize = 40;

    /// Of a line: `column` from 1 and `width`, both in characters.
    pub fn of(line: &str, column: usize, width: usize) -> Self {
        let shown = |c: char| match c {
            '\t' => ' ',
            c if c.is_control() => '\u{fffd}',
            c => c,
        };
        let length = line.chars().count();
        let column = column.max(1);
        let first = if length <= Self::MOST { 0 } else { (column - 1).min(length).saturating_sub(Self::BEFORE) };
        let mut text: String = line.chars().skip(first).take(Self::MOST).map(shown).collect();
        let mut skip = column - 1 - first;
        if first > 0 {
            text.insert(0, '\u{2026}');
            skip += 1;
        }
        if first + Self::MOST < length {
            text.push('\u{2026}');
        }
        let room = text.chars().count().saturating_sub(skip).max(1);
        Self { text, skip: skip.min(Self::MOST + 2), width: width.clamp(1, room) }
    }
}

/// Diagnostics of one text, shown as a person reads them.
#[derive(Clone, Copy, Debug)]
pub struct Report<'a> {
    /// The file as named by the user.
    pub file: &'a str,
    /// Its text.
    pub text: &'a str,
    /// What to show.
    pub diagnostics: &'a [Diagnostic],
    /// Whether to colour it with the sixteen colours every terminal has.
    pub coloured: bool,
}

impl Report<'_> {
    fn paint(&self, code: &str, text: &str) -> String {
        if self.coloured { format!("\u{1b}[{code}m{text}\u{1b}[0m") } else { text.to_owned() }
    }

    fn one(&self, out: &mut String, d: &Diagnostic) -> fmt::Result {
        let place = SourcePosition::of(self.text, d.span);
        let line = self.text.lines().nth(place.line - 1).unwrap_or("");
        let gutter = place.line.to_string().len();
        let colour = if d.severity == Severity::Error { "1;31" } else { "1;33" };
        let bar = self.paint("34", "|");
        let head = format!("{}[{}]", d.severity.name(), d.code);
        writeln!(out, "{}: {}", self.paint(colour, &head), self.paint("1", &d.message))?;
        writeln!(out, "{:gutter$}--> {}:{}:{}", "", escaped(self.file), place.line, place.column)?;
        writeln!(out, "{:gutter$} {bar}", "")?;
        let excerpt = Excerpt::of(line, place.column, place.width);
        writeln!(out, "{} {bar} {}", self.paint("34", &place.line.to_string()), excerpt.text)?;
        let carets = self.paint(colour, &"^".repeat(excerpt.width));
        writeln!(out, "{:gutter$} {bar} {:skip$}{carets}", "", "", skip = excerpt.skip)?;
        for (word, said) in [("why", &d.why), ("help", &d.help)] {
            if let Some(said) = said {
                writeln!(out, "{:gutter$} = {}: {said}", "", self.paint("36", word))?;
            }
        }
        Ok(())
    }

    /// As a value to serialise: one object a diagnostic, with its file and place.
    pub fn rows(&self) -> Vec<Row<'_>> {
        let place = |d: &Diagnostic| SourcePosition::of(self.text, d.span);
        self.diagnostics.iter().map(|d| Row { file: self.file, place: place(d), diagnostic: d }).collect()
    }
}

/// A diagnostic with its file and place, for serialising.
#[derive(Clone, Debug, Serialize)]
pub struct Row<'a> {
    file: &'a str,
    #[serde(flatten)]
    place: SourcePosition,
    #[serde(flatten)]
    diagnostic: &'a Diagnostic,
}

impl fmt::Display for Report<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, d) in self.diagnostics.iter().enumerate() {
            let mut out = String::new();
            self.one(&mut out, d)?;
            write!(f, "{}{out}", if i > 0 { "\n" } else { "" })?;
        }
        Ok(())
    }
}

/// "did you mean …" for the known word most like `found`, if any is like it at all.
pub(crate) fn nearest<'a>(found: &str, known: impl Iterator<Item = &'a str>) -> Option<String> {
    known
        .map(|word| (strsim::jaro_winkler(found, word), word))
        .filter(|(likeness, _)| *likeness > 0.75)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, word)| format!("did you mean `{word}`?"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_caret_stands_under_characters_not_bytes() {
        let text = "# é\nlet ü = \u{1F6A2}x\n";
        let start = text.find('x').unwrap_or(0);
        let d = [Diagnostic::error("name", Span::new(start, start + 1), "expected a name").help("try `y`")];
        let shown = Report { file: "a.gait", text, diagnostics: &d, coloured: false }.to_string();
        let carets = shown.lines().nth(4).unwrap_or("");
        assert_eq!(carets.chars().position(|c| c == '^'), Some("2 | let ü = \u{1F6A2}".chars().count()));
        assert!(shown.contains("a.gait:2:10") && shown.contains("help: try `y`"), "{shown}");
    }

    #[test]
    fn a_line_of_any_length_is_cut_around_what_is_meant() {
        let text = format!("{}@{}", " ".repeat(66_000), "x".repeat(70_000));
        let d =
            [Diagnostic::error("syntax", Span::new(66_000, 66_001), format!("found `{}\u{1b}`", "y".repeat(70_000)))];
        let shown = Report { file: "a\u{7}.gait", text: &text, diagnostics: &d, coloured: false }.to_string();
        assert!(shown.len() < 600 && !shown.contains(['\u{1b}', '\u{7}']), "{shown}");
        assert!(shown.contains("a\\u{7}.gait:1:66001"), "{shown}");
        let lines: Vec<&str> = shown.lines().collect();
        let at = |line: usize, c: char| lines[line].chars().position(|d| d == c);
        assert!(at(3, '@').is_some() && at(3, '@') == at(4, '^'), "{shown}");
        for (column, width) in [(1, 1), (1, 500), (119, 9), (120, 1), (121, 40), (400, 1), (9999, 9999)] {
            let e = Excerpt::of(&"z".repeat(400), column, width);
            assert!(e.text.chars().count() <= 122 && e.skip <= 122 && (1..=122).contains(&e.width), "{e:?}");
        }
    }

    #[test]
    fn spans_outside_the_text_or_inside_a_character_do_no_harm() {
        for (start, end) in [(0, 999), (999, 2), (1, 2), (3, 1)] {
            let d = [Diagnostic::warning("x", Span::new(start, end), "m")];
            let report = Report { file: "f", text: "é", diagnostics: &d, coloured: true };
            assert!(report.to_string().contains("warning"));
            assert_eq!(report.rows().len(), 1);
        }
    }
}
