//! The rows of messages, each said once.
//!
//! A message goes through its rows in their order. To write it, to read it, and to read it for people who want to see what each row says and costs are
//! three [ways](Way) through the same rows, so that they cannot come to differ.

use std::fmt::Display;

use super::bits::{BitReader, BitWriter};
use super::error::{WireError, ranged};
use super::lanes::{read_exact, read_input, read_lanes, write_exact, write_input, write_lanes};
use super::noting::{FieldValue, Noting, WireField};
use crate::data::{Input, State};
use crate::ids::EntityId;
use crate::plan::{Plan, Rounded};
use crate::tick::WireTick;

/// What a row comes to.
pub(crate) type Passed = Result<(), WireError>;

/// A number in few bits, from the least on. All bits set say that it is beyond what they hold: `more` follow.
pub(crate) struct Short {
    pub(crate) least: u32,
    pub(crate) bits: u32,
    pub(crate) more: u32,
}

/// The slot of an entity: five bits up to the thirtieth.
pub(super) const INDEX: Short = Short { least: 0, bits: 5, more: 16 };

impl Short {
    const fn most(&self) -> u32 {
        (1 << self.bits) - 1
    }

    /// Bits that a number takes.
    pub(super) const fn bits(&self, number: u32) -> u32 {
        if number - self.least < self.most() { self.bits } else { self.bits + self.more }
    }
}

/// A way through the rows of a message. What is said of a row besides its bits is for those who look at it.
pub(crate) trait Way: Sized {
    /// Whether values come out of it. Where they go into it they are within their ranges by construction.
    const READS: bool;
    /// Whether what is read is noted.
    const NOTES: bool = false;

    /// A number of 1 to 32 bits.
    fn bits(&mut self, name: impl Display, value: &mut u32, bits: u32, show: impl FnOnce(u32) -> FieldValue) -> Passed;

    /// A number of 64 bits.
    fn long(&mut self, name: impl Display, value: &mut u64, show: impl FnOnce(u64) -> FieldValue) -> Passed;

    /// A number that is mostly small.
    fn short(
        &mut self,
        name: impl Display,
        value: &mut u32,
        form: &Short,
        show: impl FnOnce(u32) -> FieldValue,
    ) -> Passed;

    /// Lanes of a state, rounded.
    fn rounded(&mut self, rounded: &Rounded, state: &mut State) -> Passed;

    /// All lanes of a state as they are.
    fn exact(&mut self, plan: &Plan, state: &mut State) -> Passed;

    /// An input; where it is known to differ from another, only what does.
    fn input(&mut self, plan: &Plan, input: &mut Input, like: Option<&Input>) -> Passed;

    /// On to a whole byte.
    fn align(&mut self) -> Passed;

    /// Bytes up to the end, of which the first begins here.
    fn rest(&mut self, bytes: &mut Vec<u8>) -> Passed;

    /// The most things of so many bits that may still come.
    fn room(&self, bits: u32) -> usize;

    /// From here on it is about one of several entities, or about none.
    fn of(&mut self, _entity: Option<EntityId>) {}

    /// Where it is among what is looked at.
    fn mark(&self) -> usize {
        0
    }

    /// Everything since that mark is looked at as one row, with a name and a value of its own.
    fn merge(&mut self, _mark: usize, _show: impl FnOnce() -> (String, FieldValue)) {}

    /// Everything since that mark is of an entity.
    fn belongs(&mut self, _mark: usize, _entity: EntityId) {}

    /// So many bits of bytes are looked at as one.
    fn note_bytes(&mut self, _name: &'static str, _bits: u32) {}

    /// Takes over what was noted elsewhere.
    fn adopt(&mut self, _fields: Vec<WireField>) {}

    /// Rows that are looked at as one.
    fn one<T>(
        &mut self,
        it: &mut T,
        rows: impl FnOnce(&mut Self, &mut T) -> Passed,
        show: impl FnOnce(&T) -> (String, FieldValue),
    ) -> Passed {
        let mark = self.mark();
        rows(self, it)?;
        self.merge(mark, || show(it));
        Ok(())
    }

    /// A number of which small ones take few bits, the fewest where it is of about `bits` of them: its length in unary, then itself (Elias gamma code
    /// with `bits` low ones apart).
    fn gamma(&mut self, value: &mut u32, bits: u32) -> Passed;

    /// A number of at most eight bits.
    fn byte(&mut self, name: impl Display, value: &mut u8, bits: u32, show: impl FnOnce(u32) -> FieldValue) -> Passed {
        let mut wide = u32::from(*value);
        self.bits(name, &mut wide, bits, show)?;
        *value = wide as u8;
        Ok(())
    }

    /// A number of sixteen bits.
    fn word(&mut self, name: impl Display, value: &mut u16, show: impl FnOnce(u32) -> FieldValue) -> Passed {
        let mut wide = u32::from(*value);
        self.bits(name, &mut wide, 16, show)?;
        *value = wide as u16;
        Ok(())
    }

    /// A tick.
    fn tick(&mut self, name: impl Display, tick: &mut WireTick) -> Passed {
        self.word(name, &mut tick.0, |tick| FieldValue::Tick(WireTick(tick as u16)))
    }

    /// Yes or no.
    fn flag(&mut self, name: impl Display, value: &mut bool) -> Passed {
        let mut wide = u32::from(*value);
        self.bits(name, &mut wide, 1, |value| FieldValue::Flag(value != 0))?;
        *value = wide != 0;
        Ok(())
    }

    /// A number that may be there or not.
    fn maybe(&mut self, name: &'static str, value: &mut Option<u8>, show: impl FnOnce(u32) -> FieldValue) -> Passed {
        let mut known = value.is_some();
        self.flag(format_args!("{name} known"), &mut known)?;
        if !known {
            *value = None;
            return Ok(());
        }
        self.byte(name, value.get_or_insert_default(), 8, show)
    }

    /// Which entity: slots are used again, so that their numbers are small, and most have had one tenant.
    fn entity(&mut self, id: &mut EntityId) -> Passed {
        let rows = |way: &mut Self, id: &mut EntityId| {
            let mut index = u32::from(id.index);
            way.short("index", &mut index, &INDEX, number)?;
            let mut again = id.generation != 0;
            way.flag("used again", &mut again)?;
            if again {
                way.byte("generation", &mut id.generation, 8, number)?;
            } else {
                id.generation = 0;
            }
            id.index = index as u16;
            Ok(())
        };
        self.one(id, rows, |id| ("entity".to_owned(), FieldValue::Entity(*id)))
    }

    /// Yes or no for each of 32, in eights: where it is yes for all of eight, one bit says so.
    fn eights(&mut self, name: &'static str, mask: &mut u32, show: impl FnOnce(u32) -> FieldValue) -> Passed {
        let rows = |way: &mut Self, mask: &mut u32| {
            for eight in 0..4 {
                let mut part = *mask >> (8 * eight) & 0xff;
                let mut all = part == 0xff;
                way.flag("all of eight", &mut all)?;
                if all {
                    part = 0xff;
                } else {
                    way.bits("of eight", &mut part, 8, number)?;
                }
                *mask = *mask & !(0xff << (8 * eight)) | part << (8 * eight);
            }
            Ok(())
        };
        self.one(mask, rows, |mask| (name.to_owned(), show(*mask)))
    }

    /// A count, and as many things, each of at least so many bits; `range` is what the count may be.
    fn list<T: Default>(
        &mut self,
        name: &'static str,
        items: &mut Vec<T>,
        (bits, least, range): (u32, u32, (u32, u32)),
        mut each: impl FnMut(&mut Self, &mut T) -> Passed,
    ) -> Passed {
        let mut count = items.len() as u32;
        self.bits(name, &mut count, bits, number)?;
        if Self::READS {
            let count = ranged(name, count, range.0, range.1)? as usize;
            // What is reserved is bounded by what arrived.
            items.reserve(count.min(self.room(least)));
            for _ in 0..count {
                items.push(T::default());
                let last = items.len() - 1;
                each(self, &mut items[last])?;
            }
            return Ok(());
        }
        items.iter_mut().try_for_each(|item| each(self, item))
    }
}

/// What was written: no row of it has an error.
pub(super) fn written(passed: Passed) {
    passed.expect("what is written is within its ranges");
}

/// As a number.
pub(crate) const fn number(value: u32) -> FieldValue {
    FieldValue::Number(value as u64)
}

/// Microseconds as milliseconds.
pub(super) fn micros(value: u32) -> FieldValue {
    FieldValue::Real(value as f32 / 1e3, "ms")
}

impl Way for BitWriter {
    const READS: bool = false;

    #[inline]
    fn bits(&mut self, _: impl Display, value: &mut u32, bits: u32, _: impl FnOnce(u32) -> FieldValue) -> Passed {
        self.put(*value, bits);
        Ok(())
    }

    fn long(&mut self, _: impl Display, value: &mut u64, _: impl FnOnce(u64) -> FieldValue) -> Passed {
        Self::long(self, *value);
        Ok(())
    }

    #[inline]
    fn short(&mut self, _: impl Display, value: &mut u32, form: &Short, _: impl FnOnce(u32) -> FieldValue) -> Passed {
        let (code, most) = (*value - form.least, form.most());
        self.put(code.min(most), form.bits);
        if code >= most {
            self.put(code - most, form.more);
        }
        Ok(())
    }

    #[inline]
    fn gamma(&mut self, value: &mut u32, bits: u32) -> Passed {
        let high = u64::from(*value >> bits) + 1;
        let above = 63 - high.leading_zeros();
        // Above noughts, a one, and what follows the first one of the number.
        if above < 16 {
            let follows = high as u32 & !(1 << above);
            self.put(1 << above | follows << (above + 1), 2 * above + 1);
        } else {
            self.put(0, above);
            self.put(1, 1);
            self.put(high as u32 & ((1u64 << above) - 1) as u32, above);
        }
        if bits > 0 {
            self.put(*value, bits);
        }
        Ok(())
    }

    fn rounded(&mut self, rounded: &Rounded, state: &mut State) -> Passed {
        write_lanes(self, rounded, state);
        Ok(())
    }

    fn exact(&mut self, plan: &Plan, state: &mut State) -> Passed {
        write_exact(self, plan, state);
        Ok(())
    }

    fn input(&mut self, plan: &Plan, input: &mut Input, like: Option<&Input>) -> Passed {
        write_input(self, plan, input, like);
        Ok(())
    }

    fn align(&mut self) -> Passed {
        self.pad();
        Ok(())
    }

    fn rest(&mut self, bytes: &mut Vec<u8>) -> Passed {
        bytes.iter().for_each(|byte| self.put(u32::from(*byte), 8));
        Ok(())
    }

    fn room(&self, _: u32) -> usize {
        0
    }
}

impl Way for BitReader<'_> {
    const READS: bool = true;

    #[inline]
    fn bits(&mut self, _: impl Display, value: &mut u32, bits: u32, _: impl FnOnce(u32) -> FieldValue) -> Passed {
        *value = self.take(bits)?;
        Ok(())
    }

    fn long(&mut self, _: impl Display, value: &mut u64, _: impl FnOnce(u64) -> FieldValue) -> Passed {
        *value = Self::long(self)?;
        Ok(())
    }

    #[inline]
    fn short(&mut self, _: impl Display, value: &mut u32, form: &Short, _: impl FnOnce(u32) -> FieldValue) -> Passed {
        let code = self.take(form.bits)?;
        let more = if code == form.most() { self.take(form.more)? } else { 0 };
        *value = form.least + code + more;
        Ok(())
    }

    #[inline]
    fn gamma(&mut self, value: &mut u32, bits: u32) -> Passed {
        let above = self.noughts(32)?;
        let follows = if above > 0 { self.take(above)? } else { 0 };
        let high = ((1u64 << above) | u64::from(follows)) - 1;
        let low = if bits > 0 { self.take(bits)? } else { 0 };
        let whole = high << bits | u64::from(low);
        *value = u32::try_from(whole).map_err(|_| WireError::Count {
            what: "a difference",
            found: u32::MAX,
            least: 0,
            most: u32::MAX - 1,
        })?;
        Ok(())
    }

    fn rounded(&mut self, rounded: &Rounded, state: &mut State) -> Passed {
        read_lanes(self, rounded, state)
    }

    fn exact(&mut self, plan: &Plan, state: &mut State) -> Passed {
        *state = read_exact(self, plan)?;
        Ok(())
    }

    fn input(&mut self, plan: &Plan, input: &mut Input, like: Option<&Input>) -> Passed {
        *input = read_input(self, plan, like)?;
        Ok(())
    }

    fn align(&mut self) -> Passed {
        match self.left() % 8 {
            0 => Ok(()),
            over => ranged("what pads to a byte", self.take(over)?, 0, 0).map(|_| ()),
        }
    }

    fn rest(&mut self, bytes: &mut Vec<u8>) -> Passed {
        while self.left() > 0 {
            bytes.push(self.take(8)? as u8);
        }
        Ok(())
    }

    fn room(&self, bits: u32) -> usize {
        (self.left() / bits) as usize
    }
}

impl Way for Noting<'_> {
    const READS: bool = true;
    const NOTES: bool = true;

    fn bits(&mut self, name: impl Display, value: &mut u32, bits: u32, show: impl FnOnce(u32) -> FieldValue) -> Passed {
        self.from.bits("", value, bits, number)?;
        self.note(name, bits, show(*value));
        Ok(())
    }

    fn long(&mut self, name: impl Display, value: &mut u64, show: impl FnOnce(u64) -> FieldValue) -> Passed {
        *value = self.from.long()?;
        self.note(name, 64, show(*value));
        Ok(())
    }

    fn short(
        &mut self,
        name: impl Display,
        value: &mut u32,
        form: &Short,
        show: impl FnOnce(u32) -> FieldValue,
    ) -> Passed {
        self.from.short("", value, form, number)?;
        self.note(name, form.bits(*value), show(*value));
        Ok(())
    }

    fn gamma(&mut self, value: &mut u32, bits: u32) -> Passed {
        let before = self.from.left();
        self.from.gamma(value, bits)?;
        self.note("difference", before - self.from.left(), number(*value));
        Ok(())
    }

    fn rounded(&mut self, rounded: &Rounded, state: &mut State) -> Passed {
        read_lanes(&mut self.from, rounded, state)?;
        rounded.fields.iter().for_each(|field| self.note_lanes(field, state));
        Ok(())
    }

    fn exact(&mut self, plan: &Plan, state: &mut State) -> Passed {
        *state = read_exact(&mut self.from, plan)?;
        plan.exact_fields.iter().for_each(|field| self.note_lanes(field, state));
        Ok(())
    }

    fn input(&mut self, plan: &Plan, input: &mut Input, like: Option<&Input>) -> Passed {
        *input = read_input(&mut self.from, plan, like)?;
        plan.input.iter().for_each(|lanes| self.note_input(lanes, input, like));
        Ok(())
    }

    fn align(&mut self) -> Passed {
        let over = self.from.left() % 8;
        self.from.align()?;
        if over > 0 {
            self.note("up to a whole byte", over, FieldValue::Nothing);
        }
        Ok(())
    }

    fn rest(&mut self, bytes: &mut Vec<u8>) -> Passed {
        self.from.rest(bytes)
    }

    fn room(&self, bits: u32) -> usize {
        self.from.room(bits)
    }

    fn of(&mut self, entity: Option<EntityId>) {
        self.of = entity;
    }

    fn mark(&self) -> usize {
        self.all.len()
    }

    fn belongs(&mut self, mark: usize, entity: EntityId) {
        self.all[mark..].iter_mut().for_each(|field| field.of = Some(entity));
    }

    fn note_bytes(&mut self, name: &'static str, bits: u32) {
        self.note(name, bits, FieldValue::Words(format!("{} bytes", bits / 8)));
    }

    fn adopt(&mut self, fields: Vec<WireField>) {
        self.all.extend(fields);
    }

    fn merge(&mut self, mark: usize, show: impl FnOnce() -> (String, FieldValue)) {
        let bits = self.all.drain(mark..).map(|field| field.bits).sum();
        let (name, value) = show();
        self.note(name, bits, value);
    }
}
