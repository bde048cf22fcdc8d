//! Who left and who owns what: part of a snapshot, repeated until it is acknowledged.

use super::error::ranged;
use super::noting::FieldValue;
use super::rows::{Passed, Way, number};
use super::{ID_BITS, LEAST_ID_BITS};
use crate::ids::EntityId;

/// The most owners told of an entity.
pub const MOST_OWNERS: usize = 15;
/// The most bits of news in a snapshot.
pub const NEWS_BITS: u32 = 1 + 8 + 1024;

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

    /// Bits it takes at most.
    pub fn bits(&self) -> u32 {
        ID_BITS
            + 1
            + match self {
                Self::Gone(_) => 0,
                Self::Owned(_, owners) => 4 + 16 * owners.len() as u32,
            }
    }
}

impl Default for News {
    fn default() -> Self {
        Self::Gone(EntityId::first(0))
    }
}

/// All of it, with its number before.
pub(super) fn news_rows<W: Way>(way: &mut W, news: &mut Vec<News>) -> Passed {
    let mut some = !news.is_empty();
    way.flag("has news", &mut some)?;
    if !some {
        return Ok(());
    }
    let least = LEAST_ID_BITS + 1;
    way.list("number of news", news, (8, least, (0, (NEWS_BITS - 9) / (ID_BITS + 1))), |way, one| {
        let words = |one: &News| match one {
            News::Gone(_) => "is gone".to_owned(),
            News::Owned(_, owners) => format!("belongs to {owners:?}"),
        };
        way.one(one, one_of_news, |one| ("news".to_owned(), FieldValue::Words(words(one))))
    })?;
    // Room is kept for no more.
    ranged("bits of news", news.iter().map(News::bits).sum(), 0, NEWS_BITS - 9)?;
    Ok(())
}

fn one_of_news<W: Way>(way: &mut W, one: &mut News) -> Passed {
    let mut entity = one.entity();
    way.entity(&mut entity)?;
    way.of(Some(entity));
    let mut gone = matches!(one, News::Gone(_));
    way.flag("is gone", &mut gone)?;
    let mut owners = match one {
        News::Owned(_, owners) => std::mem::take(owners),
        News::Gone(_) => Vec::new(),
    };
    if !gone {
        way.list("owners", &mut owners, (4, 16, (0, MOST_OWNERS as u32)), |way, slot| way.word("owner", slot, number))?;
    }
    *one = if gone { News::Gone(entity) } else { News::Owned(entity, owners) };
    Ok(())
}
