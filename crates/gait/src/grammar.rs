//! The language for editors: a TextMate grammar, made from the tables that the parser reads.

use serde::Serialize;

use crate::builtin::BUILTINS;
use crate::parser::{ATTRIBUTES, KEYWORDS, SECTIONS};
use crate::unit::UNITS;

/// A pattern: what matches, and what it and its groups are called.
#[derive(Debug, Serialize)]
struct Pattern {
    #[serde(rename = "match")]
    matches: String,
    #[serde(skip_serializing_if = "str::is_empty")]
    name: &'static str,
    #[serde(skip_serializing_if = "Captures::is_empty")]
    captures: Captures,
}

/// Groups with their names.
#[derive(Debug, Default, Serialize)]
struct Captures {
    #[serde(rename = "1", skip_serializing_if = "Option::is_none")]
    first: Option<Named>,
    #[serde(rename = "2", skip_serializing_if = "Option::is_none")]
    second: Option<Named>,
}

impl Captures {
    const fn is_empty(&self) -> bool {
        self.first.is_none() && self.second.is_none()
    }
}

#[derive(Debug, Serialize)]
struct Named {
    name: &'static str,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Grammar {
    name: &'static str,
    scope_name: &'static str,
    file_types: [&'static str; 1],
    patterns: Vec<Pattern>,
}

/// One of these words, as a whole; longer ones first, so that none hides another.
fn one_of(words: impl Iterator<Item = &'static str>) -> String {
    let mut words: Vec<&str> = words.collect();
    words.sort_by_key(|word| (std::cmp::Reverse(word.len()), *word));
    words.join("|")
}

fn whole(matches: String, name: &'static str) -> Pattern {
    Pattern { matches, name, captures: Captures::default() }
}

/// The grammar, to be written as JSON: of the first match of a line, or of several there the first in order, the name holds.
pub fn grammar() -> impl Serialize {
    the_grammar()
}

fn the_grammar() -> Grammar {
    let unit = one_of(UNITS.iter().map(|(name, _)| *name));
    let unit = format!(r"(?:{unit})\b(?:\^-?[0-9]+)?");
    let number = r"[0-9]+(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?";
    let quantity = Pattern {
        matches: format!(r"\b({number})(?:[ \t]*(/?{unit}(?:[ \t]*[*/][ \t]*{unit})*))?"),
        name: "",
        captures: Captures {
            first: Some(Named { name: "constant.numeric.gait" }),
            second: Some(Named { name: "keyword.other.unit.gait" }),
        },
    };
    let called = Pattern {
        matches: format!(r"\b({})[ \t]*\(", one_of(BUILTINS.iter().map(|builtin| builtin.name))),
        name: "",
        captures: Captures { first: Some(Named { name: "support.function.gait" }), second: None },
    };
    let word =
        |words: &'static [&'static str], name| whole(format!(r"\b(?:{})\b", one_of(words.iter().copied())), name);
    Grammar {
        name: "Gait",
        scope_name: "source.gait",
        file_types: ["gait"],
        patterns: vec![
            whole("#.*$".to_owned(), "comment.line.number-sign.gait"),
            whole(r#""[^"]*""#.to_owned(), "string.quoted.double.gait"),
            quantity,
            called,
            word(&SECTIONS, "keyword.other.section.gait"),
            word(&KEYWORDS, "keyword.control.gait"),
            word(&ATTRIBUTES, "storage.modifier.gait"),
        ],
    }
}

#[cfg(test)]
mod tests {
    use regex::Regex;

    use super::*;
    use crate::{Class, classes};

    /// The names that the grammar gives to the characters of a line, as editors do it.
    fn names(patterns: &[(Regex, Pattern)], line: &str) -> Vec<&'static str> {
        let mut names = vec![""; line.len()];
        let mut at = 0;
        while at <= line.len() {
            let found = patterns.iter().filter_map(|(regex, pattern)| Some((regex.captures_at(line, at)?, pattern)));
            // The first of the earliest.
            let Some((found, pattern)) = found.min_by_key(|(found, _)| found.get(0).map(|all| all.start())) else {
                break;
            };
            let all = found.get(0).expect("the whole");
            names[all.range()].fill(pattern.name);
            for (group, named) in [(1, &pattern.captures.first), (2, &pattern.captures.second)] {
                if let (Some(part), Some(named)) = (found.get(group), named) {
                    names[part.range()].fill(named.name);
                }
            }
            at = all.end().max(at + 1);
        }
        names
    }

    #[test]
    fn editors_see_the_shipped_gaits_as_the_program_does() {
        let patterns: Vec<(Regex, Pattern)> = {
            let all = the_grammar().patterns.into_iter();
            all.map(|pattern| (Regex::new(&pattern.matches).expect("a pattern"), pattern)).collect()
        };
        let mut held = 0;
        for file in ["barge", "courier", "crane", "ferry", "handcart"] {
            let path = format!("{}/../../gaits/{file}.gait", env!("CARGO_MANIFEST_DIR"));
            let text = std::fs::read_to_string(path).expect("it ships");
            let mut seen = Vec::new();
            for line in text.split_inclusive('\n') {
                let ends = line.trim_end_matches('\n').len();
                seen.extend(names(&patterns, &line[..ends]));
                seen.extend(std::iter::repeat_n("", line.len() - ends));
            }
            for (span, class) in classes(&text) {
                let here = seen[span.start as usize];
                let wanted: &[&str] = match class {
                    Class::Comment => &["comment.line.number-sign.gait"],
                    Class::Keyword => &["keyword.other.section.gait", "keyword.control.gait"],
                    Class::Attribute => &["storage.modifier.gait"],
                    Class::Builtin => &["support.function.gait"],
                    // A power belongs to its unit.
                    Class::Number => &["constant.numeric.gait", "keyword.other.unit.gait"],
                    Class::Unit => &["keyword.other.unit.gait"],
                    Class::Plain => continue,
                };
                assert!(wanted.contains(&here), "{file}: `{}` is {class:?}, and `{here}` to editors", span.of(&text));
                held += 1;
            }
        }
        assert!(held > 700, "{held}");
    }
}
