//! Asking to join, and the question asked back.

use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};
use crate::ids::{Life, Token};
use crate::schema::MOST_KINDS;
use crate::session::KindPrint;

/// Asks to join. The envelope says in which version of the protocol.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hello {
    /// Who asks.
    pub token: Token,
    /// In which life.
    pub life: Life,
    /// What the server asked back, once it has: whoever can repeat it receives what is sent to its address.
    pub cookie: u64,
    /// Fingerprints of the asker's rules, by number.
    pub kinds: Vec<KindPrint>,
}

impl Hello {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        out.long(self.token.0);
        out.long(self.life.0);
        out.long(self.cookie);
        debug_assert!(self.kinds.len() <= MOST_KINDS, "a session has no more");
        out.put(self.kinds.len() as u32, 8);
        for kind in &self.kinds {
            out.put(kind.layout, 32);
            out.put(kind.rule, 32);
        }
    }

    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        let (token, life, cookie) = (Token(from.long()?), Life(from.long()?), from.long()?);
        let count = ranged("number of rules", from.take(8)?, 0, MOST_KINDS as u32)?;
        // What is reserved is bounded by what arrived.
        let mut kinds = Vec::with_capacity(count.min(from.left() / 64) as usize);
        for _ in 0..count {
            kinds.push(KindPrint { layout: from.take(32)?, rule: from.take(32)? });
        }
        Ok(Self { token, life, cookie, kinds })
    }
}

/// Asks a stranger to repeat something, which costs the server no memory: only who has its own address can.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Challenge {
    /// The clock in the envelope of the hello that this answers.
    pub asked_us: u32,
    /// What to repeat.
    pub cookie: u64,
}

impl Challenge {
    /// Appends the message.
    pub fn write(&self, out: &mut BitWriter) {
        out.put(self.asked_us, 32);
        out.long(self.cookie);
    }

    pub(super) fn read(from: &mut BitReader<'_>) -> Result<Self, WireError> {
        Ok(Self { asked_us: from.take(32)?, cookie: from.long()? })
    }
}
