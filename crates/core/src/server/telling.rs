//! What a peer is told: a snapshot of everybody, and pull backs it has not answered.

use std::cell::OnceCell;
use std::collections::VecDeque;
use std::sync::Arc;

use super::control::Control;
use super::peer::Peer;
use crate::ids::Address;
use crate::pacing::SendRate;
use crate::session::{Kinds, Owned};
use crate::snapshot::{Has, Moment, Telling, ToldOwn};
use crate::tick::{HostNanos, Rate, Tick};
use crate::wire::{
    BitRow, BitWriter, ClockTold, EntityRecord, EntityRef, Load, MAX_DATAGRAM, MessageKind, PullBack, SnapshotHead,
    StateDown, Used, input_rows, seen_record, snapshot_bytes, write_compressed, write_shared, write_told,
};
use crate::world::{Entity, World};

/// Bytes of a datagram that a piece of a stream takes besides what is in it, at most.
const BESIDE: usize = 16;

/// A tick that is told, and of it what is the same for all who are told of it.
pub(super) struct Shared<'a> {
    pub(super) world: &'a World,
    pub(super) kinds: &'a Kinds,
    pub(super) tick: Tick,
    pub(super) rate: Rate,
    /// Every entity as those get it who do not own it, in the order of the world: written, and as numbers.
    seen: OnceCell<Vec<BitRow>>,
    moment: OnceCell<Arc<Moment>>,
}

impl<'a> Shared<'a> {
    pub(super) const fn new(world: &'a World, kinds: &'a Kinds, (tick, rate): (Tick, Rate)) -> Self {
        Self { world, kinds, tick, rate, seen: OnceCell::new(), moment: OnceCell::new() }
    }

    fn seen(&self) -> &[BitRow] {
        let seen = |e: &Entity| EntityRef { id: e.id(), kind: e.kind(), teleports: e.echo_teleports(), own: None };
        let rows = |e: &Entity| seen_record(self.kinds, &seen(e), e.echo());
        self.seen.get_or_init(|| self.world.iter().map(rows).collect())
    }

    fn moment(&self) -> &Arc<Moment> {
        self.moment.get_or_init(|| {
            let mut moment = Moment::new(self.tick, self.kinds.clone());
            self.world.iter().for_each(|e| moment.tell_state((e.id(), e.kind(), e.echo_teleports()), e.echo()));
            Arc::new(moment)
        })
    }
}

/// A snapshot for a peer.
pub(super) fn snapshot(peer: &mut Peer, shared: &Shared<'_>, now: HostNanos) -> Vec<u8> {
    let mut out = BitWriter::new();
    let header = peer.acks.header(MessageKind::Snapshot, peer.id.epoch, now);
    header.write(&mut out);
    say_snapshot(peer, shared, &mut out);
    let bytes = out.finish();
    let counts = peer.settings.rate == SendRate::Adapted;
    if counts {
        peer.pacing.sent(bytes.len());
    }
    let load = Load { bytes: if counts { bytes.len() as u32 } else { 0 }, tick: Some(shared.tick), entity: None };
    peer.acks.holds(header.sequence, load);
    bytes
}

/// Puts a snapshot into a peer's stream. `false` where there is no room: it is left out, and what was to be said in it is said in the next.
pub(super) fn stream_snapshot(peer: &mut Peer, shared: &Shared<'_>) -> bool {
    let margins = peer.margins;
    let mut out = BitWriter::new();
    say_snapshot(peer, shared, &mut out);
    let is_taken = peer.stream.get_or_insert_default().push(MessageKind::Snapshot, shared.tick, out.finish());
    if !is_taken {
        peer.margins = margins;
    }
    is_taken
}

/// Appends a snapshot for a peer.
fn say_snapshot(peer: &mut Peer, shared: &Shared<'_>, out: &mut BitWriter) {
    let Shared { world, kinds, tick, rate, .. } = *shared;
    let (every, margin, news) = (peer.snapshot_every(rate), peer.margins.take(), peer.unacknowledged.compose(tick));
    let wants_times = peer.settings.rate == SendRate::Adapted;
    let form = StateDown::Whole;
    let head = SnapshotHead { tick: tick.wire(), every, wants_times, form, margin, news };
    let inputs = peer.settings.tells_inputs.then(|| inputs_of_others(peer, world, kinds));
    if peer.settings.state_down.has_baseline() && say_against(peer, shared, &head, inputs.as_ref(), out) {
        return;
    }
    let owner = &*peer;
    let entities = || {
        world.iter().zip(shared.seen()).map(|(e, seen)| {
            let own = owner.control(e.id()).map(|control| used(control, e, tick));
            (EntityRef { id: e.id(), kind: e.kind(), teleports: e.teleports, own }, e.state(), seen)
        })
    };
    // Where they do not fit, others are told without.
    let fits = |inputs: &BitRow| {
        let owns = |e: &Entity| (kinds.motion(e.kind()).schema(), owner.control(e.id()).is_some());
        snapshot_bytes(world.iter().map(owns)) + (inputs.len_bits() / 8) as usize + BESIDE < MAX_DATAGRAM
    };
    let inputs = inputs.filter(fits);
    if owner.settings.state_down == StateDown::Compressed {
        write_compressed(out, &head, kinds, entities(), inputs.as_ref());
    } else {
        write_shared(out, &head, kinds, entities(), inputs.as_ref());
    }
}

/// Appends a snapshot told against what a peer is known to have. `false` where that would be too long for a datagram.
fn say_against(
    peer: &mut Peer,
    shared: &Shared<'_>,
    head: &SnapshotHead,
    inputs: Option<&BitRow>,
    out: &mut BitWriter,
) -> bool {
    let Shared { world, kinds, tick, rate, .. } = *shared;
    let own = peer.controls().filter_map(|(owned, control)| {
        let e = world.get(owned.entity)?;
        let own = Some(used(control, e, tick));
        Some(EntityRecord {
            entity: EntityRef { id: e.id(), kind: e.kind(), teleports: e.teleports, own },
            state: *e.state(),
        })
    });
    let own: Vec<EntityRecord> = own.collect();
    let form = peer.settings.state_down;
    let (moment, dt, base) = (shared.moment(), rate.dt(), peer.baselines.newest());
    let body = Telling { tick, kinds, dt, base, moment, own: &own, inputs }.body(form);
    let mut said = out.clone();
    write_told(&mut said, &SnapshotHead { form, ..head.clone() }, body);
    if said.len_bits() as usize / 8 + BESIDE > MAX_DATAGRAM {
        return false;
    }
    *out = said;
    let told = |EntityRecord { entity, state }: &EntityRecord| {
        ToldOwn::new((entity.id, entity.kind, entity.teleports), state, kinds.plan(entity.kind))
    };
    peer.baselines.sent(Has::new(moment.clone(), own.iter().map(told).collect()));
    true
}

/// What of its owner's an entity's state includes.
fn used(control: &Control, e: &Entity, tick: Tick) -> Used {
    let includes = control.includes(tick);
    Used { tick: includes.newest.unwrap_or(tick).wire(), made_up: includes.made_up, shared: e.owners().len() > 1 }
}

/// What those were made with lately that are not a peer's.
fn inputs_of_others(peer: &Peer, world: &World, kinds: &Kinds) -> BitRow {
    let others = world.iter().filter(|e| peer.control(e.id()).is_none());
    input_rows(kinds, others.map(|e| (e.kind(), e.input.as_deref())))
}

/// Which tick it is, for a peer.
pub(super) fn clock(peer: &mut Peer, now: HostNanos, told: &ClockTold) -> Vec<u8> {
    let mut out = BitWriter::new();
    peer.acks.header(MessageKind::Clock, peer.id.epoch, now).write(&mut out);
    told.write(&mut out);
    out.finish()
}

/// Pull backs that a peer has not answered yet.
pub(super) fn pull_backs(
    peer: &mut Peer,
    kinds: &Kinds,
    now: HostNanos,
    tick: Tick,
    outbox: &mut VecDeque<(Address, Vec<u8>)>,
) {
    let unanswered = |(owned, control): (&Owned, &Control)| {
        control.unanswered(kinds.motion(owned.kind).schema().velocity_lane()).map(|told| (*owned, told))
    };
    let unanswered: Vec<_> = peer.controls().filter_map(unanswered).collect();
    for (Owned { entity, kind }, (epoch, reason, state)) in unanswered {
        let mut out = BitWriter::new();
        peer.acks.header(MessageKind::PullBack, peer.id.epoch, now).write(&mut out);
        PullBack { entity, epoch, tick: tick.wire(), reason, state }.write(&mut out, kinds.plan(kind));
        outbox.push_back((peer.at, out.finish()));
    }
}
