//! Blocks of a record file: how they are framed.

use std::io::{self, Read, Seek, SeekFrom, Write};

use thiserror::Error;

use velocitas_record::time::LabTime;

/// The line that a file begins with.
pub(super) const MAGIC: &[u8] = b"velocitas record 2\n";
/// What any version begins with.
const ANY: &[u8] = b"velocitas record ";
/// Bytes in front of what a block holds: kind, length, from, to, checksum.
const HEAD: usize = 1 + 4 + 8 + 8 + 4;
/// The most bytes of a block.
pub(super) const MOST: usize = 1 << 24;

/// Nothing is told for no longer: somewhere a frame is drawn, or a tick made.
pub(super) const SILENT: LabTime = LabTime(600_000_000_000);

/// What a block holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Holds {
    /// Lines of a take.
    Text = 1,
    /// What machines told.
    Facts = 2,
}

/// Both ends included.
pub(super) type Span = (LabTime, LabTime);

/// A block, as it was read.
#[derive(Clone, Copy, Debug)]
pub(super) struct Block<'a> {
    pub(super) holds: Holds,
    /// Of which span of lab time.
    pub(super) span: Span,
    pub(super) bytes: &'a [u8],
}

/// Where a record file is not sound.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("it is sound for {sound} bytes, up to {until}; {left} bytes are left out: {why}")]
pub struct Damage {
    /// So many bytes are sound.
    pub sound: usize,
    /// So many are left out.
    pub left: usize,
    /// The last moment that is read.
    pub until: LabTime,
    /// What is wrong there.
    pub why: String,
}

/// Whether a file is a record, of whatever version.
pub fn is_record(bytes: &[u8]) -> bool {
    bytes.starts_with(ANY)
}

fn head(holds: Holds, (from, to): Span, bytes: &[u8]) -> [u8; HEAD] {
    let mut head = [0; HEAD];
    head[0] = holds as u8;
    head[1..5].copy_from_slice(&(bytes.len() as u32).to_le_bytes());
    head[5..13].copy_from_slice(&from.0.to_le_bytes());
    head[13..21].copy_from_slice(&to.0.to_le_bytes());
    let mut sum = crc32fast::Hasher::new();
    sum.update(&head[..21]);
    sum.update(bytes);
    head[21..].copy_from_slice(&sum.finalize().to_le_bytes());
    head
}

/// Writes a block.
pub(super) fn write(out: &mut impl Write, holds: Holds, span: Span, bytes: &[u8]) -> io::Result<()> {
    out.write_all(&head(holds, span, bytes))?;
    out.write_all(bytes)
}

/// Reads blocks one after the other, up to the last sound one.
pub(super) struct Blocks<R> {
    from: R,
    /// What the block at hand holds.
    bytes: Vec<u8>,
    at: usize,
    length: usize,
    until: LabTime,
    pub(super) damage: Option<Damage>,
}

impl<R: Read + Seek> Blocks<R> {
    /// Of a file; `None` where it is no record of this version.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(super) fn of(mut from: R) -> io::Result<Option<Self>> {
        let length = from.seek(SeekFrom::End(0))? as usize;
        from.seek(SeekFrom::Start(0))?;
        let mut magic = Vec::new();
        from.by_ref().take(MAGIC.len() as u64).read_to_end(&mut magic)?;
        let blocks = Self { from, bytes: Vec::new(), at: MAGIC.len(), length, until: LabTime::ZERO, damage: None };
        Ok((magic == MAGIC).then_some(blocks))
    }

    /// From the beginning again.
    pub(super) fn rewind(&mut self) -> io::Result<()> {
        (self.at, self.until) = (MAGIC.len(), LabTime::ZERO);
        self.from.seek(SeekFrom::Start(self.at as u64)).map(|_| ())
    }

    /// From here on nothing is read.
    pub(super) fn give_up(&mut self, sound: usize, why: &str) {
        let length = self.damage.as_ref().map_or(self.length, |damage| damage.sound.max(sound));
        let damage = Damage { sound, left: self.length - sound, until: self.until, why: why.to_owned() };
        if self.damage.as_ref().is_none_or(|before| before.sound > sound) {
            self.damage = Some(damage);
        }
        self.at = length;
    }

    /// Where the next block begins.
    pub(super) const fn place(&self) -> usize {
        self.at
    }

    /// The last moment of which anything was read.
    pub(super) const fn until(&self) -> LabTime {
        self.until
    }

    fn sound(&mut self) -> io::Result<Result<(Holds, Span), &'static str>> {
        const SHORT: &str = "a block is cut short";
        let mut head = [0; HEAD];
        if self.length - self.at < HEAD {
            return Ok(Err(SHORT));
        }
        self.from.read_exact(&mut head)?;
        let number = |from: usize| u64::from_le_bytes(std::array::from_fn(|i| head[from + i]));
        let length = u32::from_le_bytes(std::array::from_fn(|i| head[1 + i])) as usize;
        let holds = match head[0] {
            1 => Holds::Text,
            2 => Holds::Facts,
            _ => return Ok(Err("a block of an unknown kind")),
        };
        if length > MOST || length > self.length - self.at - HEAD {
            return Ok(Err(SHORT));
        }
        self.bytes.resize(length, 0);
        self.from.read_exact(&mut self.bytes)?;
        let span = (LabTime(number(5)), LabTime(number(13)));
        if self::head(holds, span, &self.bytes) != head {
            return Ok(Err("a block does not have the checksum that it should"));
        }
        if span.0 > span.1 || span.0 < self.until {
            return Ok(Err("blocks are not in the order of time"));
        }
        if span.1.minus(self.until) > SILENT {
            return Ok(Err("a block is of a time long after the one before"));
        }
        Ok(Ok((holds, span)))
    }

    /// The next block.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub(super) fn next(&mut self) -> io::Result<Option<Block<'_>>> {
        let end = self.damage.as_ref().map_or(self.length, |damage| damage.sound);
        if self.at >= end {
            return Ok(None);
        }
        match self.sound()? {
            Ok((holds, span)) => {
                self.at += HEAD + self.bytes.len();
                self.until = span.1;
                Ok(Some(Block { holds, span, bytes: &self.bytes }))
            }
            Err(why) => {
                self.give_up(self.at, why);
                Ok(None)
            }
        }
    }
}
