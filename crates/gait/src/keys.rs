//! Keys of the keyboard for the inputs of a rule: those that its author asks for, and for all others those that are free, in
//! an order that `docs/gait.md` states.

use std::fmt;

use velocitas_core::{InputField, InputKind, Motion, Schema};

/// A key that can give an input.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Key {
    /// A letter, small.
    Letter(char),
    /// The space bar.
    Space,
    /// An arrow.
    Left,
    /// An arrow.
    Right,
    /// An arrow.
    Up,
    /// An arrow.
    Down,
}

/// Keys with names of more than a letter.
const NAMED: [(&str, Key); 5] =
    [("space", Key::Space), ("left", Key::Left), ("right", Key::Right), ("up", Key::Up), ("down", Key::Down)];

/// Letters that stay the interface's at the helm, and what they do there.
pub const RESERVED: [(Key, &str); 3] = [
    (Key::Letter('h'), "hands the helm back to the script"),
    (Key::Letter('q'), "quits"),
    (Key::Letter('x'), "lets everything go"),
];

impl Key {
    /// A key by its name: a letter, `space`, `left`, `right`, `up` or `down`.
    pub fn named(name: &str) -> Option<Self> {
        let letter =
            || Some(name.chars().next()?.to_ascii_lowercase()).filter(|c| name.len() == 1 && c.is_ascii_lowercase());
        NAMED.iter().find(|(known, _)| *known == name).map(|(_, key)| *key).or_else(|| letter().map(Self::Letter))
    }

    /// What it does at the helm whatever the rule, if anything.
    pub fn reserved(self) -> Option<&'static str> {
        RESERVED.iter().find(|(key, _)| *key == self).map(|(_, use_)| *use_)
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Letter(c) => write!(f, "{c}"),
            key => f.write_str(NAMED.iter().find(|(_, known)| known == key).map_or("", |(name, _)| name)),
        }
    }
}

/// What the keys of an input of a kind are for, one each.
pub const fn parts(kind: InputKind) -> &'static [&'static str] {
    match kind {
        InputKind::Stick { .. } => &["ahead", "left", "back", "right"],
        InputKind::Bearing { .. } => &["left", "right"],
        InputKind::Pitch { .. } => &["up", "down"],
        InputKind::Axis { .. } => &["more", "less"],
        InputKind::Held => &["down"],
        InputKind::Press => &["press"],
        InputKind::Point { .. } => &["order"],
    }
}

/// Sets of keys for a kind, the first of which that is free is taken. Anything not in a list gets free letters in the order of
/// the alphabet.
const fn usual(kind: InputKind) -> &'static [&'static [&'static str]] {
    match kind {
        InputKind::Stick { .. } => &[&["w", "a", "s", "d"], &["i", "j", "k", "l"]],
        InputKind::Bearing { .. } => &[&["left", "right"]],
        InputKind::Pitch { .. } => &[&["up", "down"]],
        InputKind::Axis { .. } => &[&["r", "f"], &["t", "g"], &["u", "j"], &["o", "l"]],
        InputKind::Held => &[&["e"], &["c"], &["v"], &["b"]],
        InputKind::Press => &[&["space"], &["f"], &["g"], &["r"], &["t"], &["z"]],
        InputKind::Point { .. } => &[&["o"], &["p"]],
    }
}

/// What a rule without a stick is steered by: its first axis is more and less way on, its second turns it right and left.
const STEERING: [&[&str]; 2] = [&["w", "s"], &["d", "a"]];

/// For each input of a rule its keys, one for each of [`parts`]; empty where no keys are left.
pub fn keys(rule: &dyn Motion) -> Vec<Vec<Key>> {
    let schema = rule.schema();
    let asked = |f: &InputField| {
        let of = rule.keys().iter().find(|(input, _)| *input == f.name);
        of.map(|(_, names)| names.iter().filter_map(|name| Key::named(name)).collect::<Vec<_>>())
            .filter(|keys| keys.len() == parts(f.kind).len())
    };
    let mut all: Vec<Option<Vec<Key>>> = schema.input.iter().map(asked).collect();
    let mut taken: Vec<Key> = all.iter().flatten().flatten().copied().collect();
    // What moves first, so that a button never takes the keys one steers by.
    for buttons in [false, true] {
        for (place, f) in schema.input.iter().enumerate() {
            let is_button = matches!(f.kind, InputKind::Held | InputKind::Press);
            if all[place].is_none() && is_button == buttons {
                let keys = free(schema, f, &taken);
                taken.extend(&keys);
                all[place] = Some(keys);
            }
        }
    }
    all.into_iter().map(Option::unwrap_or_default).collect()
}

/// Keys for an input that nothing else has.
fn free(schema: &Schema, f: &InputField, taken: &[Key]) -> Vec<Key> {
    let is_axis = |f: &&InputField| matches!(f.kind, InputKind::Axis { .. });
    let steered = !schema.input.iter().any(|f| matches!(f.kind, InputKind::Stick { .. }));
    let axis = schema.input.iter().filter(is_axis).position(|axis| axis.name == f.name).filter(|_| steered);
    let steering = axis.and_then(|axis| STEERING.get(axis).copied());
    let is_free = |key: &Key| !taken.contains(key) && key.reserved().is_none();
    let sets = steering.into_iter().chain(usual(f.kind).iter().copied());
    let named = |set: &[&str]| set.iter().filter_map(|name| Key::named(name)).collect::<Vec<_>>();
    if let Some(set) = sets.map(named).find(|set| set.iter().all(is_free)) {
        return set;
    }
    let wanted = parts(f.kind).len();
    let letters: Vec<Key> = ('a'..='z').map(Key::Letter).filter(is_free).take(wanted).collect();
    if letters.len() == wanted { letters } else { Vec::new() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(inputs: &str) -> String {
        let text = format!(
            "gait \"x\"\ninput {{\n{inputs}\n}}\nstate {{\n  pos point m wire 1/256\n  vel vector m/s wire 1/128\n}}\n\
             body {{ radius 0.3 m height 1 m step 0.1 m }}\nstep {{ slide pos, vel }}\n\
             limits {{\n pace vel.xy at most 1 m/s\n climb vel.z at most 1 m/s\n drop vel.z at most 1 m/s\n}}\n"
        );
        let gait = crate::compile(&text).gait.unwrap_or_else(|| panic!("{text}"));
        let all = keys(&gait);
        let told =
            gait.schema().input.iter().zip(&all).map(|(f, keys)| {
                format!("{} {}", f.name, keys.iter().map(Key::to_string).collect::<Vec<_>>().join(" "))
            });
        told.collect::<Vec<_>>().join(", ")
    }

    #[test]
    fn keys_come_in_the_order_that_the_docs_state() {
        assert_eq!(
            told("  move stick\n  sprint held\n  hop press\n  facing bearing"),
            "move w a s d, sprint e, hop space, facing left right"
        );
        assert_eq!(
            told("  throttle axis\n  rudder axis\n  pump axis\n  horn press\n  goal point"),
            "throttle w s, rudder d a, pump r f, horn space, goal o"
        );
        assert_eq!(
            told(
                "  dash press\n  fire press\n  crouch held\n  aim held\n  move stick\n  lift axis\n  look pitch\n  eyes bearing"
            ),
            "dash space, fire g, crouch e, aim c, move w a s d, lift r f, look up down, eyes left right"
        );
    }

    #[test]
    fn a_key_asked_for_is_given_and_taken_from_all_others() {
        assert_eq!(
            told("  move stick\n  dash press key \"E\"\n  crouch held\n  lift axis key \"up\" \"down\"\n  look pitch"),
            "move w a s d, dash e, crouch v, lift up down, look b c"
        );
    }

    #[test]
    fn every_key_has_the_name_it_is_found_by_and_none_is_reserved_twice() {
        for name in ["a", "z", "space", "left", "right", "up", "down"] {
            assert_eq!(Key::named(name).map(|key| key.to_string()).as_deref(), Some(name));
        }
        assert!(["", "1", "ab", "\u{e9}", "Space"].iter().all(|name| Key::named(name).is_none()));
        assert_eq!(Key::named("q").and_then(Key::reserved), Some("quits"));
    }
}
