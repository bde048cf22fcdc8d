//! The rows of a span of time, as text, until they are put in order.

use std::collections::BTreeMap;
use std::io;
use std::ops::Range;

use super::cell::Cell;
use super::kind::{Kind, Place};
use crate::ids::ActorId;
use crate::time::LabTime;

/// Where a row stands among others: by time, then kinds in the order of the table, machines, entities.
type Rank = (LabTime, u16, usize, usize);

/// Rows on their way out.
#[derive(Debug)]
pub(super) struct Page {
    /// The place of each kind in the table.
    order: BTreeMap<&'static str, u16>,
    /// Only rows of this kind are wanted.
    only: Option<String>,
    text: Vec<u8>,
    rows: Vec<(Rank, Range<usize>)>,
    /// That a row could not be written as JSON.
    amiss: Option<serde_json::Error>,
}

impl Page {
    pub(super) fn new(only: Option<&str>) -> Self {
        let order = (0..).zip(super::row_kinds()).map(|(place, kind)| (kind.name, place)).collect();
        Self { order, only: only.map(str::to_owned), text: Vec::new(), rows: Vec::new(), amiss: None }
    }

    /// Whether rows of a kind are wanted.
    pub(super) fn wants<R>(&self, kind: &Kind<R>) -> bool {
        self.only.as_deref().is_none_or(|only| only == kind.name)
    }

    /// Adds a row that is about no entity, or about what is not ordered by it.
    pub(super) fn put<R>(&mut self, kind: &Kind<R>, place: &Place<'_>, row: &R) {
        self.put_with(kind, place, None, row, std::iter::empty::<(&str, Cell<'_>)>());
    }

    /// Adds a row about an entity.
    pub(super) fn put_of<R>(&mut self, kind: &Kind<R>, place: &Place<'_>, actor: ActorId, row: &R) {
        self.put_with(kind, place, Some(actor), row, std::iter::empty::<(&str, Cell<'_>)>());
    }

    /// Adds a row with more keys than all of its kind have.
    pub(super) fn put_with<'a, R, K: serde::Serialize>(
        &mut self,
        kind: &Kind<R>,
        place: &Place<'_>,
        actor: Option<ActorId>,
        row: &R,
        more: impl IntoIterator<Item = (K, Cell<'a>)>,
    ) {
        if !self.wants(kind) {
            return;
        }
        let from = self.text.len();
        if let Err(why) = kind.write(place, row, more, &mut self.text) {
            self.amiss.get_or_insert(why);
        }
        self.text.push(b'\n');
        let kind = self.order.get(kind.name).copied().unwrap_or(u16::MAX);
        let rank = (place.at, kind, place.machine.index(), actor.map_or(0, ActorId::index));
        self.rows.push((rank, from..self.text.len()));
    }

    /// Hands out every row in order, and forgets them.
    ///
    /// # Errors
    /// Those of `each`, and where a row could not be written as JSON.
    pub(super) fn turn(&mut self, mut each: impl FnMut(&[u8]) -> io::Result<()>) -> io::Result<()> {
        self.rows.sort_by_key(|(rank, _)| *rank);
        for (_, range) in self.rows.drain(..) {
            each(&self.text[range])?;
        }
        self.text.clear();
        self.amiss.take().map_or(Ok(()), |why| Err(why.into()))
    }
}
