//! What a receiver is still to be told: news goes into every snapshot from one on, until a snapshot that held it is
//! acknowledged. What never changes again need never be told again, whatever was lost, doubled or overtaken.

use std::collections::VecDeque;

use crate::tick::Tick;
use crate::wire::{NEWS_BITS, News};

#[derive(Clone, Debug)]
struct Item {
    news: News,
    /// The first snapshot that held it; all later ones do.
    since: Option<Tick>,
}

/// News of one receiver, oldest first.
#[derive(Clone, Debug, Default)]
pub(crate) struct Unacknowledged {
    items: VecDeque<Item>,
}

impl Unacknowledged {
    /// There is something to tell; it takes the place of what was to be told of the same entity.
    pub(crate) fn add(&mut self, news: News) {
        self.items.retain(|item| item.news.entity() != news.entity());
        self.items.push_back(Item { news, since: None });
    }

    /// The news for the snapshot of a tick: as much as there is room for, what was told already in front.
    pub(crate) fn compose(&mut self, tick: Tick) -> Vec<News> {
        let mut left = NEWS_BITS - 9;
        let mut told = Vec::new();
        for item in &mut self.items {
            let Some(after) = left.checked_sub(item.news.bits()).filter(|_| told.len() < 255) else { break };
            left = after;
            item.since.get_or_insert(tick);
            told.push(item.news.clone());
        }
        told
    }

    /// The snapshot of a tick is known to have come.
    pub(crate) fn delivered(&mut self, tick: Tick) {
        self.items.retain(|item| item.since.is_none_or(|since| since > tick));
    }

    /// Bytes it takes, roughly.
    pub(crate) fn bytes(&self) -> usize {
        self.items.len() * size_of::<Item>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::EntityId;
    use proptest::prelude::*;

    const fn gone(index: u16) -> News {
        News::Gone(EntityId::first(index))
    }

    #[test]
    fn news_is_told_until_a_snapshot_that_held_it_has_arrived() {
        let mut unacknowledged = Unacknowledged::default();
        unacknowledged.compose(Tick(3));
        unacknowledged.add(gone(1));
        for tick in [6, 9] {
            assert_eq!(unacknowledged.compose(Tick(tick)), [gone(1)]);
        }
        unacknowledged.delivered(Tick(3));
        assert_eq!(unacknowledged.compose(Tick(12)), [gone(1)], "that one did not hold it");
        // The first that held it did not arrive, one after it did.
        unacknowledged.delivered(Tick(9));
        assert!(unacknowledged.compose(Tick(15)).is_empty());
    }

    #[test]
    fn what_is_newer_of_an_entity_takes_the_place_of_what_was() {
        let mut unacknowledged = Unacknowledged::default();
        unacknowledged.add(News::Owned(EntityId::first(1), vec![4]));
        unacknowledged.compose(Tick(3));
        unacknowledged.add(gone(1));
        assert_eq!(unacknowledged.compose(Tick(6)), [gone(1)]);
        unacknowledged.delivered(Tick(3));
        assert_eq!(unacknowledged.compose(Tick(9)), [gone(1)], "what arrived was the older word");
    }

    proptest! {
        /// Whatever is lost: all is told in the end, in bounded messages, and nothing is remembered.
        #[test]
        fn everything_is_told_in_the_end(
            rounds in prop::collection::vec((0u16..40, any::<bool>()), 1..80),
        ) {
            let mut unacknowledged = Unacknowledged::default();
            let mut heard = Vec::new();
            let mut added = 0;
            let quiet = (0..60).map(|_| (0, true));
            for (n, (more, arrives)) in rounds.into_iter().chain(quiet).enumerate() {
                for _ in 0..more {
                    unacknowledged.add(gone(added));
                    added += 1;
                }
                let tick = Tick(n as u64 * 3);
                let news = unacknowledged.compose(tick);
                prop_assert!(news.iter().map(News::bits).sum::<u32>() <= NEWS_BITS - 9);
                if arrives {
                    heard.extend(news);
                    unacknowledged.delivered(tick);
                }
            }
            prop_assert!((0..added).all(|n| heard.contains(&gone(n))));
            prop_assert!(unacknowledged.items.is_empty());
        }
    }
}
