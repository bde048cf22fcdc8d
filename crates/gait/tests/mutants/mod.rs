//! Texts with something wrong in them, as fingers, disks and merges make them: seeded, so that a failure can be had again.

mod dice;

use dice::Dice;

/// Pieces of a text that mean something: words, numbers, signs, blanks.
fn tokens(text: &str) -> Vec<&str> {
    let class = |c: char| match c {
        c if c.is_alphanumeric() || c == '_' || c == '.' => 0,
        '\n' => 1,
        c if c.is_whitespace() => 2,
        _ => 3,
    };
    let mut out = Vec::new();
    let mut start = 0;
    let mut before = None;
    for (i, c) in text.char_indices() {
        let now = class(c);
        if before.is_some_and(|b| b != now || now == 3 || now == 1) {
            out.push(&text[start..i]);
            start = i;
        }
        before = Some(now);
    }
    out.push(&text[start..]);
    out
}

/// A text with one to three things wrong with it, as bytes.
pub fn mutant(text: &str, seed: u64) -> Vec<u8> {
    let mut dice = Dice::new(seed);
    let mut bytes = text.as_bytes().to_vec();
    for _ in 0..=dice.below(3) {
        let whole = String::from_utf8_lossy(&bytes).into_owned();
        bytes = one(&whole, &mut dice);
    }
    bytes
}

fn one(text: &str, dice: &mut Dice) -> Vec<u8> {
    let joined = |parts: Vec<&str>| parts.concat().into_bytes();
    let at = |dice: &mut Dice| dice.below(text.len().max(1));
    match dice.below(13) {
        0 => {
            let mut bytes = text.as_bytes().to_vec();
            if let Some(byte) = bytes.get_mut(at(dice)) {
                *byte ^= 1 << dice.below(8);
            }
            bytes
        }
        1 => text.as_bytes()[..at(dice).min(text.len())].to_vec(),
        kind @ 2..=4 => {
            let mut parts = tokens(text);
            let (i, j) = (dice.below(parts.len()), dice.below(parts.len()));
            shuffle(&mut parts, kind - 2, i, j);
            joined(parts)
        }
        kind @ 5..=7 => {
            let mut lines: Vec<&str> = text.split_inclusive('\n').collect();
            let (i, j) = (dice.below(lines.len()), dice.below(lines.len()));
            shuffle(&mut lines, kind - 5, i, j);
            joined(lines)
        }
        8 | 9 => {
            let mut parts = tokens(text);
            let numbers: Vec<usize> =
                (0..parts.len()).filter(|i| parts[*i].starts_with(|c: char| c.is_ascii_digit())).collect();
            if !numbers.is_empty() {
                let chosen = numbers[dice.below(numbers.len())];
                parts[chosen] = ["0", "-1", "1e30", "nan", "inf", "1e-60", "99999999999999999999"][dice.below(7)];
            }
            joined(parts)
        }
        10 => inserted(text, at(dice), &"long".repeat(2500)),
        11 => inserted(text, at(dice), &["(", "{", "[", "if x then ", "-", "not "][dice.below(6)].repeat(1000)),
        _ => inserted(text, at(dice), ["\u{feff}", "\0", "\u{1b}[2J", "\r\n", "\"", "\u{202e}", "# "][dice.below(7)]),
    }
}

fn shuffle(parts: &mut Vec<&str>, how: usize, i: usize, j: usize) {
    match how {
        0 if !parts.is_empty() => {
            parts.remove(i);
        }
        1 if !parts.is_empty() => parts.insert(i, parts[i]),
        2 if !parts.is_empty() => parts.swap(i, j),
        _ => {}
    }
}

fn inserted(text: &str, at: usize, what: &str) -> Vec<u8> {
    let at = (0..=at.min(text.len())).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0);
    format!("{}{what}{}", &text[..at], &text[at..]).into_bytes()
}
