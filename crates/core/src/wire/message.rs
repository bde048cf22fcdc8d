//! The messages, by number. Each has a file in which it is written and read side by side.
//!
//! | kind | goes | carries |
//! |---|---|---|
//! | hello | up | who asks to join, with which rules |
//! | challenge | down | what a stranger is asked to repeat |
//! | refusal | down | why somebody is not let in |
//! | welcome | down | the session's ticks and who you are |
//! | inputs | up | the last inputs of an entity, newest first, one for each tick |
//! | snapshot | down | a tick, every entity's state, what became of your inputs, who left and who owns what |
//! | claim | up | the newest state and the last positions of an owner who decides them |
//! | account | up | what was pressed in the last ticks and the exact state that it led an owner to who decides |
//! | pull back | down | where the guard wants your entity, with an epoch |
//! | goodbye | up | nothing: the sender leaves |
//! | ended | down | why the connection is no more |
//! | clock | down | which tick the server is in, to who goes by that |
//! | stream up | up | a piece of the ordered stream: inputs, a claim, an account; or only word of what has come |
//! | stream down | down | the same: a snapshot |

use super::MAX_DATAGRAM;
use super::account::Account;
use super::bits::{BitReader, BitWriter};
use super::claim::{Claim, PullBack};
use super::clock::ClockTold;
use super::datagram::Header;
use super::ended::{Ended, EndedBy};
use super::error::WireError;
use super::hello::{Challenge, Hello};
use super::inputs::Inputs;
use super::kind::MessageKind;
use super::refusal::Refusal;
use super::rows::{Passed, Way, written};
use super::segment::Segment;
use super::snapshot::Snapshot;
use super::welcome::Welcome;
use crate::session::Layouts;

/// Any message. What is large lies elsewhere, so that it is not moved about.
#[derive(Clone, Debug, PartialEq)]
pub enum Message {
    /// See [`Hello`].
    Hello(Hello),
    /// See [`Welcome`].
    Welcome(Welcome),
    /// See [`Inputs`].
    Inputs(Box<Inputs>),
    /// See [`Snapshot`].
    Snapshot(Snapshot),
    /// See [`Claim`].
    Claim(Box<Claim>),
    /// See [`Account`].
    Account(Box<Account>),
    /// See [`PullBack`].
    PullBack(PullBack),
    /// See [`Challenge`].
    Challenge(Challenge),
    /// See [`Refusal`].
    Refusal(Refusal),
    /// The sender leaves.
    Goodbye,
    /// See [`Ended`].
    Ended(Ended),
    /// See [`ClockTold`].
    Clock(ClockTold),
    /// See [`Segment`].
    StreamUp(Segment),
    /// See [`Segment`].
    StreamDown(Segment),
}

impl Message {
    /// Reads the message behind `header`, in the layouts of the ticks it is about.
    ///
    /// # Errors
    /// Whatever is wrong with the bytes; see [`WireError`].
    pub fn read(header: &Header, mut from: BitReader<'_>, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        if from.left() > MAX_DATAGRAM as u32 * 8 {
            return Err(WireError::Long((from.left() / 8) as usize));
        }
        let message = Self::pass(header, &mut from, layouts)?;
        is_finished(header, &from)?;
        Ok(message)
    }

    /// Reads the message behind `header` in one way or the other.
    pub(super) fn pass<W: Way>(header: &Header, way: &mut W, layouts: &Layouts<'_>) -> Result<Self, WireError> {
        let mut message = match header.kind {
            MessageKind::Hello => Self::Hello(Hello::default()),
            MessageKind::Welcome => Self::Welcome(Welcome::default()),
            MessageKind::Inputs => Self::Inputs(Box::default()),
            MessageKind::Snapshot => Self::Snapshot(Snapshot::default()),
            MessageKind::Claim => Self::Claim(Box::default()),
            MessageKind::Account => Self::Account(Box::default()),
            MessageKind::PullBack => Self::PullBack(PullBack::default()),
            MessageKind::Challenge => Self::Challenge(Challenge::default()),
            MessageKind::Refusal => Self::Refusal(Refusal::default()),
            MessageKind::Goodbye => Self::Goodbye,
            MessageKind::Ended => Self::Ended(Ended { why: EndedBy::Leave }),
            MessageKind::Clock => Self::Clock(ClockTold::default()),
            MessageKind::StreamUp => Self::StreamUp(Segment::default()),
            MessageKind::StreamDown => Self::StreamDown(Segment::default()),
        };
        message.rows(way, layouts)?;
        Ok(message)
    }

    /// All of it.
    fn rows<W: Way>(&mut self, way: &mut W, layouts: &Layouts<'_>) -> Passed {
        match self {
            Self::Hello(m) => m.rows(way),
            Self::Welcome(m) => m.rows(way),
            Self::Challenge(m) => m.rows(way),
            Self::Refusal(m) => m.rows(way),
            Self::Goodbye => Ok(()),
            Self::Ended(m) => m.rows(way),
            Self::Clock(m) => m.rows(way),
            Self::StreamUp(m) | Self::StreamDown(m) => m.rows(way),
            Self::Inputs(m) => m.rows(way, layouts),
            Self::Claim(m) => m.rows(way, layouts),
            Self::Account(m) => m.rows(way, layouts),
            Self::PullBack(m) => m.rows(way, layouts),
            Self::Snapshot(m) => m.rows(way, layouts),
        }
    }

    /// The number that names it in the envelope.
    pub const fn kind(&self) -> MessageKind {
        match self {
            Self::Hello(_) => MessageKind::Hello,
            Self::Welcome(_) => MessageKind::Welcome,
            Self::Inputs(_) => MessageKind::Inputs,
            Self::Snapshot(_) => MessageKind::Snapshot,
            Self::Claim(_) => MessageKind::Claim,
            Self::Account(_) => MessageKind::Account,
            Self::PullBack(_) => MessageKind::PullBack,
            Self::Challenge(_) => MessageKind::Challenge,
            Self::Refusal(_) => MessageKind::Refusal,
            Self::Goodbye => MessageKind::Goodbye,
            Self::Ended(_) => MessageKind::Ended,
            Self::Clock(_) => MessageKind::Clock,
            Self::StreamUp(_) => MessageKind::StreamUp,
            Self::StreamDown(_) => MessageKind::StreamDown,
        }
    }

    /// Appends the message in the layouts of the ticks it is about.
    ///
    /// # Panics
    /// When it is about an entity that `layouts` does not know.
    pub fn write(&self, out: &mut BitWriter, layouts: &Layouts<'_>) {
        written(self.clone().rows(out, layouts));
    }
}

/// Whether nothing but what pads it to a byte is left behind a message.
pub(super) fn is_finished(header: &Header, from: &BitReader<'_>) -> Passed {
    if from.is_finished() { Ok(()) } else { Err(WireError::LeftOver { kind: header.kind, bits: from.left() }) }
}
