//! Who left and who owns what: part of a snapshot, repeated until it is acknowledged.

use super::bits::{BitReader, BitWriter};
use super::entity::{ENTITY_ID_BITS, read_entity, write_entity};
use super::error::{WireError, ranged};
use crate::ids::EntityId;

/// The most owners told of an entity.
pub const MOST_OWNERS: usize = 15;
/// The most bits of news in a snapshot.
pub const NEWS_BITS: u32 = 8 + 1024;

/// Something to be known of an entity.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum News {
    /// It is no more.
    Gone(EntityId),
    /// It belongs to those who have these places at the server: none, one, or several.
    Owned(EntityId, Vec<u16>),
}

impl News {
    /// Which entity it is about.
    pub const fn entity(&self) -> EntityId {
        match self {
            Self::Gone(entity) | Self::Owned(entity, _) => *entity,
        }
    }

    /// Bits it takes.
    pub fn bits(&self) -> u32 {
        ENTITY_ID_BITS
            + 1
            + match self {
                Self::Gone(_) => 0,
                Self::Owned(_, owners) => 4 + 16 * owners.len() as u32,
            }
    }
}

/// Appends news.
pub(super) fn write_news(out: &mut BitWriter, news: &[News]) {
    debug_assert!(8 + news.iter().map(News::bits).sum::<u32>() <= NEWS_BITS, "room was kept for no more");
    out.put(news.len() as u32, 8);
    for one in news {
        write_entity(out, one.entity());
        out.flag(matches!(one, News::Gone(_)));
        if let News::Owned(_, owners) = one {
            out.put(owners.len() as u32, 4);
            owners.iter().for_each(|slot| out.put(u32::from(*slot), 16));
        }
    }
}

pub(super) fn read_news(from: &mut BitReader<'_>) -> Result<Vec<News>, WireError> {
    let most = (NEWS_BITS - 8) / (ENTITY_ID_BITS + 1);
    let count = ranged("number of news", from.take(8)?, 0, most)?;
    let mut news = Vec::with_capacity(count.min(from.left() / (ENTITY_ID_BITS + 1)) as usize);
    for _ in 0..count {
        let entity = read_entity(from)?;
        if from.flag()? {
            news.push(News::Gone(entity));
            continue;
        }
        let owners = from.take(4)?;
        let mut slots = Vec::with_capacity(owners as usize);
        for _ in 0..owners {
            slots.push(from.take(16)? as u16);
        }
        news.push(News::Owned(entity, slots));
    }
    Ok(news)
}
