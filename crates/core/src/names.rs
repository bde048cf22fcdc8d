//! Names that live as long as the program.
//!
//! The core knows names as `&'static str`, because a rule in Rust has them so. What is read from a file gets them from here: each
//! distinct name is kept once and never given back, however often a file is read again, and names are short.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Deserializer, Serializer};

/// A name of a rule, a field or a tunable.
pub type Name = &'static str;

static NAMES: Mutex<BTreeSet<&'static str>> = Mutex::new(BTreeSet::new());

/// The one copy of a name.
pub fn name(text: &str) -> &'static str {
    let mut names = NAMES.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = names.get(text) {
        return known;
    }
    let kept: &'static str = Box::leak(text.to_owned().into_boxed_str());
    names.insert(kept);
    kept
}

/// Writes a name.
///
/// # Errors
/// Those of the serializer.
pub fn serialize<S: Serializer>(name: &&'static str, to: S) -> Result<S::Ok, S::Error> {
    to.serialize_str(name)
}

/// Reads a name.
///
/// # Errors
/// Those of the deserializer.
pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<&'static str, D::Error> {
    String::deserialize(from).map(|text| name(&text))
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_name_is_kept_once() {
        let (a, b) = (super::name(&String::from("grip")), super::name("grip"));
        assert!(std::ptr::eq(a, b));
        assert_eq!(super::name("leap"), "leap");
    }
}
