//! Faults made on purpose: what a machine's program gets wrong of who is there and of where others are, given to it from outside. The
//! core knows nothing of them; snapshots are rewritten on their way in, or the token is lost.

use velocitas_core::{
    BitReader, BitWriter, EntityId, EntityRecord, Header, Layouts, Message, MessageKind, News, Snapshot, State, Used,
    vec3,
};

/// One of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    /// It is not told of who was there before it.
    Untold,
    /// It comes back as somebody else: its token is lost.
    Stranger,
    /// It does not hear of who is gone.
    Lingering,
    /// It does not hear that it owns something no longer.
    Clinging,
    /// It reads the positions of others a little off.
    Misread,
    /// It keeps an older state of others under a newer tick.
    Stale,
}

/// What there is to a fault.
#[derive(Clone, Copy, Debug)]
pub struct FaultSpec {
    /// Which.
    pub fault: Fault,
    /// As courses write it.
    pub key: &'static str,
    /// What is wrong.
    pub wrong: &'static str,
    /// How it shows.
    pub shows: &'static str,
    /// What helps.
    pub remedy: &'static str,
}

/// All of them.
pub static FAULTS: [FaultSpec; 6] = [
    FaultSpec {
        fault: Fault::Untold,
        key: "untold",
        wrong: "a newcomer is not told of who was there before it",
        shows: "one side sees two, the other sees one",
        remedy: "tell a newcomer of everybody, until it has acknowledged",
    },
    FaultSpec {
        fault: Fault::Stranger,
        key: "stranger",
        wrong: "who returns has lost its token and is taken for somebody else",
        shows: "a twin stands where it left until the server misses it",
        remedy: "keep the token across a crash, and send it in the hello",
    },
    FaultSpec {
        fault: Fault::Lingering,
        key: "lingering",
        wrong: "who is gone is not told of, or told once and lost",
        shows: "a leaver stays on this screen, and stands",
        remedy: "tell of who is gone until it is acknowledged",
    },
    FaultSpec {
        fault: Fault::Clinging,
        key: "clinging",
        wrong: "the old owner is not told that it owns something no longer",
        shows: "both sides move the same thing: it flickers between two places",
        remedy: "change owners at one tick, and tell the old one until it has acknowledged",
    },
    FaultSpec {
        fault: Fault::Misread,
        key: "misread",
        wrong: "positions of others are decoded with another origin than they were written with",
        shows: "others are drawn beside where they are, always by the same",
        remedy: "write and read positions by one table of origins and steps",
    },
    FaultSpec {
        fault: Fault::Stale,
        key: "stale",
        wrong: "the buffer of remotes keeps an older state under a newer tick",
        shows: "others stand, then leap: they are drawn where they were",
        remedy: "keep each state under its own tick, and put none in the place of another",
    },
];

impl Fault {
    /// Its row.
    pub fn spec(self) -> &'static FaultSpec {
        &FAULTS[self as usize]
    }
}

/// The faults of one machine, and what they have made of it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Faulty {
    faults: Vec<Fault>,
    /// Who was there before it, as far as it was not told.
    untold: Option<Vec<EntityId>>,
    /// What it owned once.
    clung: Vec<EntityId>,
    /// The states of others that it keeps too long, and whether the next are put in their place.
    kept: (Vec<(EntityId, State)>, bool),
}

/// By how much positions are read off, in metres.
const MISREAD_M: f32 = 0.5;

impl Faulty {
    pub(crate) fn of(faults: &[Fault]) -> Self {
        Self { faults: faults.to_vec(), ..Self::default() }
    }

    pub(crate) fn faults(&self) -> &[Fault] {
        &self.faults
    }

    /// From now on it gets nothing wrong.
    pub(crate) fn mend(&mut self) {
        *self = Self::default();
    }

    pub(crate) fn has(&self, fault: Fault) -> bool {
        self.faults.contains(&fault)
    }

    /// Its program is started anew.
    pub(crate) fn start(&mut self) {
        (self.untold, self.clung, self.kept) = (None, Vec::new(), Default::default());
    }

    /// A datagram as the machine hears it; `None` where that is as it came.
    pub(crate) fn heard(&mut self, bytes: &[u8], layouts: &Layouts<'_>) -> Option<Vec<u8>> {
        if self.faults.is_empty() || self.faults == [Fault::Stranger] {
            return None;
        }
        let mut reader = BitReader::new(bytes);
        let header = Header::read(&mut reader).ok().filter(|header| header.kind == MessageKind::Snapshot)?;
        let Ok(Message::Snapshot(mut snapshot)) = Message::read(&header, reader, layouts) else { return None };
        if self.has(Fault::Untold) {
            self.hide(&mut snapshot);
        }
        if self.has(Fault::Lingering) {
            snapshot.head.news.retain(|news| !matches!(news, News::Gone(_)));
        }
        if self.has(Fault::Clinging) {
            self.cling(&mut snapshot);
        }
        if self.has(Fault::Misread) {
            for record in snapshot.entities.iter_mut().filter(|record| record.entity.own.is_none()) {
                record.state.set_vec3(0, record.state.vec3(0) + vec3(MISREAD_M, 0.0, 0.0));
            }
        }
        if self.has(Fault::Stale) {
            self.keep_too_long(&mut snapshot);
        }
        let mut out = BitWriter::new();
        header.write(&mut out);
        Message::Snapshot(snapshot).write(&mut out, layouts);
        Some(out.finish())
    }

    /// Leaves out who was there in the first snapshot.
    fn hide(&mut self, snapshot: &mut Snapshot) {
        let others = |records: &[EntityRecord]| -> Vec<EntityId> {
            records.iter().filter(|r| r.entity.own.is_none()).map(|r| r.entity.id).collect()
        };
        let hidden = self.untold.get_or_insert_with(|| others(&snapshot.entities));
        snapshot.entities.retain(|record| !hidden.contains(&record.entity.id));
        snapshot.head.news.retain(|news| !hidden.contains(&news.entity()));
    }

    /// Every second snapshot tells what the one before told.
    fn keep_too_long(&mut self, snapshot: &mut Snapshot) {
        let (kept, again) = &mut self.kept;
        *again = !*again;
        let others = snapshot.entities.iter_mut().filter(|record| record.entity.own.is_none());
        if *again {
            *kept = others.map(|record| (record.entity.id, record.state)).collect();
            return;
        }
        for record in others {
            let older = kept.iter().find(|(id, _)| *id == record.entity.id);
            record.state = older.map_or(record.state, |(_, state)| *state);
        }
    }

    /// Takes what it once owned for its own.
    fn cling(&mut self, snapshot: &mut Snapshot) {
        let tick = snapshot.head.tick;
        for record in &mut snapshot.entities {
            let id = record.entity.id;
            match record.entity.own {
                Some(_) if !self.clung.contains(&id) => self.clung.push(id),
                None if self.clung.contains(&id) => {
                    record.entity.own = Some(Used { tick, made_up: 0, shared: false });
                }
                _ => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_fault_has_a_row_of_its_own() {
        for (i, spec) in FAULTS.iter().enumerate() {
            assert_eq!(spec.fault.spec().key, spec.key);
            assert!(FAULTS[i + 1..].iter().all(|other| other.key != spec.key));
        }
    }
}
