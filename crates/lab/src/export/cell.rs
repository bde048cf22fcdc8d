//! What stands under a key of a row.

use serde::ser::{Serialize, SerializeSeq, Serializer};
use serde_json::Value;
use velocitas_core::Vec3;

/// A value on its way into a line. Numbers of single precision are written as the double that they are.
#[derive(Debug)]
pub(super) enum Cell<'a> {
    Null,
    Flag(bool),
    Whole(u64),
    Signed(i64),
    Real(f64),
    Word(&'a str),
    Text(String),
    /// A stick.
    Pair([f32; 2]),
    Point(Vec3),
    Words(Vec<&'a str>),
    /// By name.
    Fields(Vec<(&'a str, Cell<'a>)>),
    /// What is seldom.
    Tree(Value),
}

impl Cell<'_> {
    pub(super) const fn is_null(&self) -> bool {
        matches!(self, Self::Null)
    }

    /// Writes it as JSON.
    pub(super) fn write(&self, out: &mut Vec<u8>) -> serde_json::Result<()> {
        match self {
            Self::Word(word) => quoted(word, out),
            _ => serde_json::to_writer(out, self),
        }
    }

    /// Whether it is what hands give that rest.
    pub(super) fn is_at_rest(&self) -> bool {
        match self {
            Self::Flag(held) => !held,
            Self::Whole(n) => *n == 0,
            Self::Real(x) => *x == 0.0,
            Self::Pair(both) => *both == [0.0; 2],
            _ => false,
        }
    }
}

impl Serialize for Cell<'_> {
    fn serialize<S: Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        let reals = |all: &[f32], out: S| {
            let mut list = out.serialize_seq(Some(all.len()))?;
            all.iter().try_for_each(|x| list.serialize_element(&f64::from(*x)))?;
            list.end()
        };
        match self {
            Self::Null => out.serialize_unit(),
            Self::Flag(flag) => out.serialize_bool(*flag),
            Self::Whole(n) => out.serialize_u64(*n),
            Self::Signed(n) => out.serialize_i64(*n),
            Self::Real(x) => out.serialize_f64(*x),
            Self::Word(word) => out.serialize_str(word),
            Self::Text(text) => out.serialize_str(text),
            Self::Pair(both) => reals(both, out),
            Self::Point(p) => reals(&[p.x, p.y, p.z], out),
            Self::Words(words) => words.serialize(out),
            Self::Fields(fields) => out.collect_map(fields.iter().map(|(name, cell)| (name, cell))),
            Self::Tree(value) => value.serialize(out),
        }
    }
}

/// Writes a string as JSON. Most are plain words.
pub(super) fn quoted(text: &str, out: &mut Vec<u8>) -> serde_json::Result<()> {
    if text.bytes().any(|byte| byte < 0x20 || byte == b'"' || byte == b'\\') {
        return serde_json::to_writer(out, text);
    }
    out.push(b'"');
    out.extend_from_slice(text.as_bytes());
    out.push(b'"');
    Ok(())
}

/// What a cell is made from.
macro_rules! from {
    ($($of:ty => |$x:ident| $cell:expr),* $(,)?) => { $(
        impl<'a> From<$of> for Cell<'a> {
            fn from($x: $of) -> Self {
                $cell
            }
        }
    )* };
}

from! {
    bool => |x| Self::Flag(x),
    u8 => |x| Self::Whole(x.into()),
    u16 => |x| Self::Whole(x.into()),
    u32 => |x| Self::Whole(x.into()),
    u64 => |x| Self::Whole(x),
    usize => |x| Self::Whole(x as u64),
    i64 => |x| Self::Signed(x),
    i32 => |x| Self::Signed(x.into()),
    f32 => |x| Self::Real(x.into()),
    f64 => |x| Self::Real(x),
    &'a str => |x| Self::Word(x),
    String => |x| Self::Text(x),
    Vec3 => |x| Self::Point(x),
    [f32; 2] => |x| Self::Pair(x),
    [f32; 3] => |x| Self::Point(Vec3 { x: x[0], y: x[1], z: x[2] }),
    Vec<&'a str> => |x| Self::Words(x),
    Value => |x| Self::Tree(x),
}

impl<'a, T: Into<Cell<'a>>> From<Option<T>> for Cell<'a> {
    fn from(of: Option<T>) -> Self {
        of.map_or(Self::Null, Into::into)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    fn written(cell: &Cell<'_>) -> String {
        let mut out = Vec::new();
        cell.write(&mut out).expect("it is JSON");
        String::from_utf8(out).expect("text")
    }

    proptest! {
        #[test]
        fn any_text_reads_back(text in "(\\PC|[\"\\\\\n\u{7}])*") {
            let read: Value = serde_json::from_str(&written(&Cell::Word(&text))).expect("it is JSON");
            prop_assert_eq!(read, json!(text));
        }
    }

    #[test]
    fn cells_are_what_the_library_makes_of_the_same() {
        let p = [0.1f32, -3.5, 7.0];
        let cells = [
            (Cell::Null, json!(null)),
            (f32::NAN.into(), json!(null)),
            (true.into(), json!(true)),
            (7u64.into(), json!(7)),
            ((-7i64).into(), json!(-7)),
            (0.1f32.into(), json!(0.1f32)),
            ([p[0], p[1]].into(), json!([p[0], p[1]])),
            (p.into(), json!(p)),
            (Cell::Fields(vec![("a b", 1u8.into()), ("c", Cell::Null)]), json!({ "a b": 1, "c": null })),
        ];
        for (cell, value) in cells {
            assert_eq!(written(&cell), value.to_string());
        }
    }
}
