//! The rows of a span of time, as text, until they are put in order.

use std::collections::BTreeMap;
use std::io;
use std::ops::Range;

use velocitas_record::ids::ActorId;

use super::cell::Cell;
use super::kind::{Form, Kind, RowContext, RowSpec};
use crate::stored::seldom::Seldom;

/// Where a row stands among others, in one number: by time, then kinds in the order of the table, machines, entities.
type Rank = u128;

/// Rows on their way out.
#[derive(Debug)]
pub(super) struct Page {
    /// The place of each kind in the table, and the forms in that order.
    order: BTreeMap<&'static str, usize>,
    forms: Vec<Form>,
    /// The kind that was put last, and its place: rows of one kind come together.
    last: Option<(&'static str, usize)>,
    /// Only rows of this kind are wanted.
    only: Option<String>,
    /// What the rows that come say exactly, and which at its moment it is: it goes along.
    pub(super) fact: Option<(u32, Seldom)>,
    text: Vec<u8>,
    rows: Vec<(Rank, Range<u32>)>,
    /// That a row could not be written as JSON.
    amiss: Option<serde_json::Error>,
}

impl Page {
    /// For rows of kinds, in the order of their table; of one of them alone where only that is wanted.
    pub(super) fn new(only: Option<&str>, kinds: &[RowSpec]) -> Self {
        let order = (0..).zip(kinds).map(|(place, kind)| (kind.name, place)).collect();
        let forms = kinds.iter().map(Form::of).collect();
        let only = only.map(str::to_owned);
        Self { order, forms, last: None, only, fact: None, text: Vec::new(), rows: Vec::new(), amiss: None }
    }

    /// The place of a kind in the table.
    fn place_of(&mut self, name: &'static str) -> Option<usize> {
        match self.last {
            Some((last, place)) if std::ptr::eq(last, name) => Some(place),
            _ => {
                let place = *self.order.get(name)?;
                self.last = Some((name, place));
                Some(place)
            }
        }
    }

    /// Whether rows of a kind are wanted.
    pub(super) fn wants<R>(&self, kind: &Kind<R>) -> bool {
        self.only.as_deref().is_none_or(|only| only == kind.name)
    }

    /// Adds a row that is about no entity, or about what is not ordered by it.
    pub(super) fn put<R>(&mut self, kind: &Kind<R>, place: &RowContext<'_>, row: &R) {
        self.put_with(kind, place, None, row, std::iter::empty::<(&str, Cell<'_>)>());
    }

    /// Adds a row about an entity.
    pub(super) fn put_of<R>(&mut self, kind: &Kind<R>, place: &RowContext<'_>, actor: ActorId, row: &R) {
        self.put_with(kind, place, Some(actor), row, std::iter::empty::<(&str, Cell<'_>)>());
    }

    /// Adds a row with more keys than all of its kind have.
    pub(super) fn put_with<'a, R, K: AsRef<str>>(
        &mut self,
        kind: &Kind<R>,
        place: &RowContext<'_>,
        actor: Option<ActorId>,
        row: &R,
        more: impl IntoIterator<Item = (K, Cell<'a>)>,
    ) {
        if !self.wants(kind) {
            return;
        }
        // Every kind is in the table.
        let Some(kind_place) = self.place_of(kind.name) else { return };
        let from = self.text.len();
        if let Err(why) = kind.write(&self.forms[kind_place], place, row, more, &mut self.text) {
            self.amiss.get_or_insert(why);
        }
        // Tables are for people.
        if let Some((number, fact)) = self.fact.as_ref().filter(|_| self.only.is_none())
            && self.text.pop().is_some()
            && let Err(why) = exactly(*number, fact, &mut self.text)
        {
            self.amiss.get_or_insert(why);
        }
        self.text.push(b'\n');
        let (machine, actor) = (place.machine.index() as u128, actor.map_or(0, ActorId::index) as u128);
        // Sixteen bits for a kind, a machine and an entity, of which there are no more, and for the time as many as it has.
        let rank = u128::from(place.at.0) << 48 | (kind_place as u128) << 32 | machine << 16 | actor;
        self.rows.push((rank, from as u32..self.text.len() as u32));
    }

    /// Hands out every row in order, and forgets them.
    ///
    /// # Errors
    /// Those of `each`, and where a row could not be written as JSON.
    pub(super) fn turn(&mut self, mut each: impl FnMut(&[u8]) -> io::Result<()>) -> io::Result<()> {
        // Of equal ones the first put comes first. Most are in order by stretches, which this sort makes use of.
        self.rows.sort_by_key(|(rank, _)| *rank);
        for (_, range) in self.rows.drain(..) {
            each(&self.text[range.start as usize..range.end as usize])?;
        }
        self.text.clear();
        self.amiss.take().map_or(Ok(()), |why| Err(why.into()))
    }
}

/// Goes on with an object: with which at its moment a fact is, but for the first, and the fact as the program holds it.
fn exactly(number: u32, fact: &Seldom, out: &mut Vec<u8>) -> serde_json::Result<()> {
    if number > 0 {
        out.extend_from_slice(format!(",\"nth\":{number}").as_bytes());
    }
    out.extend_from_slice(b",\"fact\":");
    serde_json::to_writer(&mut *out, fact)?;
    out.push(b'}');
    Ok(())
}
