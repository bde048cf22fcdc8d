//! The links between machines: a mesh of pipes, one for each pair and direction.

use std::collections::BTreeMap;
use std::sync::Arc;

use velocitas_record::Conditions;
use velocitas_record::ids::MachineId;
use velocitas_record::time::LabTime;
use velocitas_record::trace::DelayTrace;

use crate::link::{Fate, Pipe, Ticket};

/// All links.
#[derive(Clone, Debug, Default)]
pub(crate) struct Links {
    ways: BTreeMap<(MachineId, MachineId), Way>,
    /// What was recorded of links, for those that follow it.
    traces: Arc<[DelayTrace]>,
}

/// From one machine to another.
#[derive(Clone, Debug, Default)]
struct Way {
    /// The link, if one was laid.
    pipe: Option<Pipe>,
    /// Datagrams sent so far.
    sent: u64,
}

/// The number of a pipe in the book of luck: each has its own.
const fn place(from: MachineId, to: MachineId) -> u32 {
    const SERVER: u32 = MachineId::SERVER.place();
    match (from.place(), to.place()) {
        (from, SERVER) => (from - 1) * 2,
        (SERVER, to) => (to - 1) * 2 + 1,
        (from, to) => 1 << 31 | from << 15 | to,
    }
}

impl Links {
    /// No link yet; those to come may follow these traces.
    pub(crate) fn new(traces: Arc<[DelayTrace]>) -> Self {
        Self { traces, ..Self::default() }
    }

    /// Lays a link between two different machines.
    pub(crate) fn lay(&mut self, from: MachineId, to: MachineId, conditions: Conditions) {
        self.ways.entry((from, to)).or_default().pipe = Some(Pipe::new(place(from, to), conditions));
    }

    /// From now on a link is like this.
    pub(crate) fn change(&mut self, from: MachineId, to: MachineId, conditions: Conditions) {
        if let Some(pipe) = self.ways.get_mut(&(from, to)).and_then(|way| way.pipe.as_mut()) {
            pipe.change(conditions);
        }
    }

    /// Sends a datagram: what becomes of it, and how many were sent on this link before it. What a machine sends to itself
    /// arrives at once, and so does what is sent where no link was laid.
    pub(crate) fn send(
        &mut self,
        seed: u64,
        now: LabTime,
        (from, to): (MachineId, MachineId),
        ticket: Ticket,
        bytes: usize,
    ) -> (Fate, u64) {
        let way = self.ways.entry((from, to)).or_default();
        let number = way.sent;
        way.sent += 1;
        let fate = match &mut way.pipe {
            Some(pipe) => pipe.send(seed, now, ticket, bytes, &self.traces),
            None => Fate { arrives: Some(now), again: None },
        };
        (fate, number)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_pipe_of_a_mesh_has_luck_of_its_own() {
        let machines: Vec<MachineId> = MachineId::first(60).collect();
        let pairs = machines.iter().flat_map(|a| machines.iter().map(move |b| (*a, *b)));
        let places: Vec<u32> = pairs.filter(|(a, b)| a != b).map(|(a, b)| place(a, b)).collect();
        assert_eq!(places.iter().collect::<BTreeSet<_>>().len(), places.len());
    }
}
