//! What is wrong with a course: where, what was expected, what was found, and the nearest known word.

use std::fmt;
use std::ops::Range;

use velocitas_gait::{Excerpt, escaped, printable};

/// One mistake in a course file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CourseError {
    /// The file as named by the user.
    pub file: Box<str>,
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// What was expected and what was found.
    pub message: String,
    /// What to do about it, where that can be told.
    pub help: Option<String>,
    /// Mistakes in another file that this one names, as people read them.
    pub inside: Option<Box<str>>,
    /// The line of the file.
    source: Box<str>,
    /// Characters to underline.
    width: usize,
}

impl CourseError {
    /// A mistake at a span of bytes of `text`.
    pub(super) fn at(file: &str, text: &str, span: Range<usize>, message: impl Into<String>) -> Self {
        let start = floor_char(text, span.start);
        let before = &text[..start];
        let begin = before.rfind('\n').map_or(0, |i| i + 1);
        let source = text[begin..].lines().next().unwrap_or("").into();
        let column = text[begin..start].chars().count() + 1;
        let end = floor_char(text, span.end.max(start));
        let width = text[start..end].lines().next().map_or(1, |l| l.chars().count()).max(1);
        Self {
            file: file.into(),
            line: before.matches('\n').count() + 1,
            column,
            message: message.into(),
            help: None,
            inside: None,
            source,
            width,
        }
    }

    #[must_use]
    pub(super) fn help(mut self, help: Option<String>) -> Self {
        self.help = help;
        self
    }

    /// From what the TOML reader says.
    pub(super) fn from_toml(file: &str, text: &str, error: &toml::de::Error) -> Self {
        let message = error.message().to_owned();
        let span = error.span().unwrap_or(0..0);
        let quoted: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
        if message.starts_with("unknown field")
            && let Some((found, known)) = quoted.split_first()
        {
            let help = nearest(found, known.iter().copied());
            let said = format!("expected one of the keys {}; found `{found}`", known.join(", "));
            return Self::at(file, text, span, said).help(help);
        }
        Self::at(file, text, span, in_our_words(&message))
    }
}

/// The reader's usual complaints as "expected …; found …".
fn in_our_words(message: &str) -> String {
    if let Some(field) = message.strip_prefix("missing field ") {
        return format!("expected the key {field} here; it is missing");
    }
    match message.strip_prefix("invalid ").and_then(|rest| rest.split_once(", expected ")) {
        Some((found, expected)) => {
            let found = found.strip_prefix("type: ").or_else(|| found.strip_prefix("value: ")).unwrap_or(found);
            format!("expected {}; found {}", kind_wanted(expected), kind_found(found))
        }
        None => message.to_owned(),
    }
}

/// The reader's name of what it wants, as people say it.
fn kind_wanted(expected: &str) -> String {
    match expected {
        "i64" | "i32" | "i16" | "i8" => "a whole number".to_owned(),
        "u64" | "u32" | "u16" | "u8" => "a whole number of 0 or more".to_owned(),
        "f32" | "f64" => "a number".to_owned(),
        "a boolean" => "true or false".to_owned(),
        "a string" => "a text in quotes".to_owned(),
        "a sequence" => "a list".to_owned(),
        "a map" => "a table".to_owned(),
        "an array of length 2" => "a list of 2 numbers".to_owned(),
        other => other.strip_prefix("struct ").map_or_else(|| other.to_owned(), |_| "a table".to_owned()),
    }
}

/// The reader's name of what it met, as people say it.
fn kind_found(found: &str) -> String {
    let value = found.split_once('`').and_then(|(_, rest)| rest.strip_suffix('`'));
    match (found.split_whitespace().next().unwrap_or(found), value) {
        ("floating", Some(x)) => format!("the number {x}"),
        ("floating", None) => "a number with a fraction".to_owned(),
        ("integer", Some(x)) => format!("the number {x}"),
        ("integer", None) => "a number".to_owned(),
        ("boolean", Some(x)) => x.to_owned(),
        ("boolean", None) => "true or false".to_owned(),
        ("string", _) => found.strip_prefix("string ").map_or_else(|| "a text".to_owned(), |x| format!("the text {x}")),
        ("map", _) => "a table".to_owned(),
        ("sequence", _) => "a list".to_owned(),
        _ => found.to_owned(),
    }
}

fn floor_char(text: &str, mut at: usize) -> usize {
    at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// "did you mean …" for the known word most like `found`, if any is like it at all.
pub fn nearest<'a>(found: &str, known: impl Iterator<Item = &'a str>) -> Option<String> {
    known
        .map(|word| (strsim::jaro_winkler(found, word), word))
        .filter(|(likeness, _)| *likeness > 0.72)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, word)| format!("did you mean `{word}`?"))
}

impl fmt::Display for CourseError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let gutter = self.line.to_string().len();
        writeln!(f, "{}:{}:{}: {}", escaped(&self.file), self.line, self.column, printable(&self.message))?;
        let excerpt = Excerpt::of(&self.source, self.column, self.width);
        writeln!(f, "{:gutter$} |", "")?;
        writeln!(f, "{} | {}", self.line, excerpt.text)?;
        write!(f, "{:gutter$} | {:skip$}{}", "", "", "^".repeat(excerpt.width), skip = excerpt.skip)?;
        if let Some(help) = &self.help {
            write!(f, "\n{:gutter$} = {}", "", printable(help))?;
        }
        if let Some(inside) = &self.inside {
            write!(f, "\n\n{}", inside.trim_end())?;
        }
        Ok(())
    }
}

impl std::error::Error for CourseError {}
