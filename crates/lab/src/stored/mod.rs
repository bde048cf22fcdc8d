//! A record as a file: written while it runs, read back to the same record.
//!
//! After a line that says what it is come blocks, each with its kind, its length, the span of lab time that it is of and a CRC-32 over all
//! of that. A block of *text* holds lines of a [take](crate::take): course, gaits, seed and what was commanded, as they come. A block of
//! *facts* holds what machines told in at most a second, in the order in which it was told, of each row only what differs from what the
//! row before it of the same machine and kind lets expect; nothing in it needs another block. So a file that was cut short, or damaged,
//! is read up to its last sound block.

mod block;
mod coded;
mod lines;
mod putting;
mod read;
mod restore;
mod rows;
mod said;
pub(crate) mod seldom;
mod write;

use velocitas_record::time::LabTime;

pub use block::{Damage, is_record};
pub use lines::is_lines;
pub use read::{Stored, StoredError};
pub use write::Store;

/// A file with these lines of a take, and one block with these bytes as facts: what nobody writes, to be read all the same.
#[doc(hidden)]
pub fn framed(text: &str, facts: &[u8], until: LabTime) -> Vec<u8> {
    let mut file = block::MAGIC.to_vec();
    // Memory takes all.
    let _ = block::write(&mut file, block::Holds::Text, (LabTime::ZERO, LabTime::ZERO), text.as_bytes());
    let _ = block::write(&mut file, block::Holds::Facts, (LabTime::ZERO, until), facts);
    file
}
