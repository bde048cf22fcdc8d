//! Asking to join, and the question asked back.

use super::bits::BitWriter;
use super::noting::FieldValue;
use super::rows::{Passed, Way, micros, number, written};
use crate::ids::{Life, Token};
use crate::schema::MOST_KINDS;
use crate::session::KindPrint;

/// Asks to join. The envelope says in which version of the protocol.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
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
    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        debug_assert!(self.kinds.len() <= MOST_KINDS, "a session has no more");
        way.long("player's token", &mut self.token.0, FieldValue::Number)?;
        way.long("life", &mut self.life.0, FieldValue::Number)?;
        way.long("cookie", &mut self.cookie, FieldValue::Number)?;
        let mut place = 0;
        way.list("rules", &mut self.kinds, (8, 64, (0, MOST_KINDS as u32)), |way, print| {
            let named = format_args!("rule {place}").to_string();
            place += 1;
            let words = |p: &KindPrint| FieldValue::Words(format!("layout {:08x}, rule {:08x}", p.layout, p.rule));
            way.one(print, print_rows, |print| (named, words(print)))
        })
    }

    /// Appends the message.
    pub fn write(mut self, out: &mut BitWriter) {
        written(self.rows(out));
    }
}

/// A rule's fingerprints.
fn print_rows<W: Way>(way: &mut W, print: &mut KindPrint) -> Passed {
    way.bits("layout", &mut print.layout, 32, number)?;
    way.bits("rule", &mut print.rule, 32, number)
}

/// Asks a stranger to repeat something, which costs the server no memory: only who has its own address can.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Challenge {
    /// The clock in the envelope of the hello that this answers.
    pub asked_us: u32,
    /// What to repeat.
    pub cookie: u64,
}

impl Challenge {
    /// All of it.
    pub(super) fn rows<W: Way>(&mut self, way: &mut W) -> Passed {
        way.bits("clock of the hello", &mut self.asked_us, 32, micros)?;
        way.long("cookie", &mut self.cookie, FieldValue::Number)
    }
}
