//! What a datagram is about, as far as that can be read without knowing any rule's layout.

use super::bits::BitReader;
use super::datagram::Header;
use super::entity::read_entity;
use super::kind::MessageKind;
use super::segment::SegmentHead;
use super::snapshot::INPUTS_FOLLOW;
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
        let mut from = BitReader::new(bytes);
        let mut kind = Header::read(&mut from).ok()?.kind;
        let mut piece = None;
        if kind.is_piece() {
            let head = SegmentHead::read(&mut from).ok()?;
            piece = head.kind.map(|_| (head.number, head.again));
            kind = head.kind.unwrap_or(kind);
        }
        let mut carried = Self { kind, tick: None, ticks: 0, entity: None, entities: 0, epoch: None, piece };
        if kind.has_tick() {
            carried.tick = Some(WireTick(from.take(16).ok()? as u16));
        }
        match kind {
            MessageKind::Inputs => {
                carried.entity = Some(read_entity(&mut from).ok()?);
                carried.ticks = from.take(4).ok()? as u8 + 1;
            }
            MessageKind::Claim | MessageKind::Account => {
                carried.entity = Some(read_entity(&mut from).ok()?);
                carried.epoch = Some(from.take(8).ok()? as u8);
                from.take(16).ok()?;
                carried.ticks = from.take(4).ok()? as u8 + 1;
            }
            MessageKind::PullBack => {
                carried.entity = Some(read_entity(&mut from).ok()?);
                carried.epoch = Some(from.take(8).ok()? as u8);
            }
            MessageKind::Snapshot => {
                // Interval, behind word that inputs follow; margin and whether there is one.
                if from.take(8).ok()? == INPUTS_FOLLOW {
                    from.take(8).ok()?;
                }
                from.take(1 + 8).ok()?;
                carried.entities = from.take(8).ok()? as u8;
            }
            _ => {}
        }
        Some(carried)
    }
}
