//! Which solids were touched.

use super::solid::SolidId;

/// The most different solids a step reports touching.
pub const MOST_CONTACTS: usize = 4;

/// Which solids a step touched, in the order met; further ones are not listed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Contacts {
    ids: [SolidId; MOST_CONTACTS],
    len: u8,
}

impl Contacts {
    /// Notes a contact, once.
    pub fn add(&mut self, id: SolidId) {
        if !self.iter().any(|seen| seen == id) && usize::from(self.len) < MOST_CONTACTS {
            self.ids[usize::from(self.len)] = id;
            self.len += 1;
        }
    }

    /// The solids touched.
    pub fn iter(&self) -> impl Iterator<Item = SolidId> + '_ {
        self.ids[..usize::from(self.len)].iter().copied()
    }
}
