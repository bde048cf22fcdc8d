//! What a datagram is about, as far as that can be read without knowing any rule's layout.

use super::account::Account;
use super::bits::BitReader;
use super::claim::{Claim, PullBack};
use super::clock::ClockTold;
use super::datagram::Header;
use super::error::WireError;
use super::inputs::Inputs;
use super::kind::MessageKind;
use super::segment::SegmentHead;
use super::snapshot::{Extent, SnapshotHead};
use crate::ids::EntityId;
use crate::tick::WireTick;

/// What a datagram is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Carried {
    /// What it is.
    pub kind: MessageKind,
    /// The tick it is about: of inputs, claims and accounts the newest.
    pub tick: Option<WireTick>,
    /// Inputs, claims and accounts: for how many ticks it has one, that tick and those before it.
    pub ticks: u8,
    /// The entity it is about: of inputs, claims, accounts, pull backs.
    pub entity: Option<EntityId>,
    /// Snapshots: of how many entities it tells.
    pub entities: u8,
    /// Claims and accounts: the pull back it goes on from; pull backs: its own number.
    pub epoch: Option<u8>,
    /// Of a piece of an ordered stream: its number, and whether it was sent before. What it carries is what it is; one that carries nothing has
    /// no number.
    pub piece: Option<(u16, bool)>,
}

impl Carried {
    /// Of a datagram; `None` where it is none of ours.
    pub fn of(bytes: &[u8]) -> Option<Self> {
        Self::read(bytes).ok()
    }

    fn read(bytes: &[u8]) -> Result<Self, WireError> {
        let from = &mut BitReader::new(bytes);
        let mut kind = Header::read(from)?.kind;
        let mut piece = None;
        if kind.is_piece() {
            let mut head = SegmentHead::default();
            head.rows(from)?;
            piece = head.kind.map(|_| (head.number, head.again));
            kind = head.kind.unwrap_or(kind);
        }
        let none = Self { kind, tick: None, ticks: 0, entity: None, entities: 0, epoch: None, piece };
        let word = |tick, entity, epoch| Self { tick: Some(tick), entity: Some(entity), epoch, ..none };
        Ok(match kind {
            MessageKind::Inputs => {
                let mut m = Inputs::default();
                m.head(from)?;
                Self { ticks: m.count as u8, ..word(m.newest, m.entity, None) }
            }
            MessageKind::Claim => {
                let mut m = Claim::default();
                m.head(from)?;
                Self { ticks: m.count as u8 + 1, ..word(m.newest, m.entity, Some(m.epoch)) }
            }
            MessageKind::Account => {
                let mut m = Account::default();
                m.head(from)?;
                Self { ticks: m.count as u8, ..word(m.newest, m.entity, Some(m.epoch)) }
            }
            MessageKind::PullBack => {
                let mut m = PullBack::default();
                m.head(from)?;
                word(m.tick, m.entity, Some(m.epoch))
            }
            MessageKind::Snapshot => {
                let (mut head, mut extent) = (SnapshotHead::default(), Extent::default());
                head.rows(from, &mut extent)?;
                Self { tick: Some(head.tick), entities: extent.entities, ..none }
            }
            MessageKind::Clock => {
                let mut m = ClockTold::default();
                m.rows(from)?;
                Self { tick: Some(m.tick), ..none }
            }
            _ => none,
        })
    }
}
