//! A machine with faults made on purpose. They are given to it from outside, and the core knows nothing of them: snapshots are rewritten on
//! their way in, or the token is lost.

use velocitas_core::{
    Carried, Client, EntityId, EntityRecord, HostNanos, Message, MessageKind, News, Snapshot, State, StateDown, Used,
    vec3,
};

use velocitas_analysis::fault::Fault;

use crate::opened::Opened;

/// The faults of one machine, and what they have made of it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Faulty {
    faults: Vec<Fault>,
    /// Who was there before it, as far as it was not told.
    hidden: Option<Vec<EntityId>>,
    /// What it owned once.
    clung: Vec<EntityId>,
    /// The states of others that it keeps too long, and whether the next are put in their place.
    kept: (Vec<(EntityId, State)>, bool),
}

/// Up to this many metres apart two states are taken for the same.
const NEAR_M: f32 = 0.5;

/// Takes the server's state of an older tick for that of the newest.
fn take_for_present(snapshot: &mut Snapshot, client: &Client) {
    let Some(newest) = client.newest_tick() else { return };
    for used in snapshot.entities.iter_mut().filter_map(|record| record.entity.own.as_mut()) {
        used.tick = newest.wire();
    }
}

/// Looks at positions alone, and takes nothing over while they are near.
fn leave_what_is_near(snapshot: &mut Snapshot, client: &Client) {
    let Some(newest) = client.newest_tick() else { return };
    for record in &mut snapshot.entities {
        let Some(Ok(used)) = record.entity.own.map(|used| used.tick.unwrap_near(newest)) else { continue };
        let own = client.predicted(record.entity.id, used);
        if let Some(own) = own.filter(|own| own.vec3(0).distance(record.state.vec3(0)) < NEAR_M) {
            record.state = own;
        }
    }
}

/// By how much positions are read off, in metres.
const MISREAD_M: f32 = 0.5;

/// A datagram as it is heard.
pub(crate) enum Heard {
    /// As if these bytes had come.
    Bytes(Vec<u8>),
    /// As it came, but taken for this.
    Snapshot(Box<Snapshot>),
}

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
        (self.hidden, self.clung, self.kept) = (None, Vec::new(), Default::default());
    }

    /// A datagram as the machine hears it; `None` where that is as it came.
    pub(crate) fn heard(&mut self, bytes: &[u8], client: &Client, read: HostNanos) -> Option<Heard> {
        let snapshots = |fault: &Fault| !matches!(fault, Fault::Stranger | Fault::Unlatched);
        if !self.faults.iter().any(snapshots) {
            return None;
        }
        Carried::of(bytes).filter(|carried| carried.kind == MessageKind::Snapshot)?;
        let layouts = &client.layouts(read);
        let mut opened = Opened::read(bytes, layouts).ok()?;
        let Message::Snapshot(snapshot) = &mut opened.message else { return None };
        // What rests on another is kept as it came, or the next could not be read: only what is made of it is otherwise.
        let rests = snapshot.body.is_some();
        if rests {
            client.receiver(read).open(snapshot).ok()?;
            (snapshot.body, snapshot.head.form) = (None, StateDown::Whole);
        }
        if self.has(Fault::Untold) {
            self.hide(snapshot);
        }
        if self.has(Fault::Lingering) {
            snapshot.head.news.retain(|news| !matches!(news, News::Gone(_)));
        }
        if self.has(Fault::Clinging) {
            self.cling(snapshot);
        }
        if self.has(Fault::Misread) {
            for record in snapshot.entities.iter_mut().filter(|record| record.entity.own.is_none()) {
                record.state.set_vec3(0, record.state.vec3(0) + vec3(MISREAD_M, 0.0, 0.0));
            }
        }
        if self.has(Fault::Stale) {
            self.keep_too_long(snapshot);
        }
        if self.has(Fault::Present) {
            take_for_present(snapshot, client);
        }
        if self.has(Fault::OneDistance) {
            leave_what_is_near(snapshot, client);
        }
        let written = opened.write(layouts);
        if !rests {
            return Some(Heard::Bytes(written));
        }
        match Opened::read(&written, layouts).ok()?.message {
            Message::Snapshot(snapshot) => Some(Heard::Snapshot(Box::new(snapshot))),
            _ => None,
        }
    }

    /// Leaves out who was there in the first snapshot.
    fn hide(&mut self, snapshot: &mut Snapshot) {
        let others = |records: &[EntityRecord]| -> Vec<EntityId> {
            records.iter().filter(|r| r.entity.own.is_none()).map(|r| r.entity.id).collect()
        };
        let hidden = self.hidden.get_or_insert_with(|| others(&snapshot.entities));
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
