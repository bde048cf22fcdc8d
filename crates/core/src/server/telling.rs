//! What a peer is told: a snapshot of everybody, and pull backs it has not answered.

use std::collections::VecDeque;

use super::control::Control;
use super::peer::Peer;
use crate::ids::Address;
use crate::pacing::SendRate;
use crate::session::{Kinds, Owned};
use crate::tick::{HostNanos, Rate, Tick};
use crate::wire::{
    BitRow, BitWriter, ClockTold, EntityRef, Load, MAX_DATAGRAM, MessageKind, PullBack, SnapshotHead, Used, input_rows,
    seen_record, snapshot_bytes, write_shared,
};
use crate::world::{Entity, World};

/// Bytes of a datagram that a piece of a stream takes besides what is in it, at most.
const BESIDE: usize = 16;

/// Every entity as those get it who do not own it, in the order of the world: written once a tick.
pub(super) fn seen_by_others(world: &World, kinds: &Kinds) -> Vec<BitRow> {
    let seen = |e: &Entity| EntityRef { id: e.id(), kind: e.kind(), teleports: e.echo_teleports(), own: None };
    world.iter().map(|e| seen_record(kinds, &seen(e), e.echo())).collect()
}

/// A snapshot for a peer, given [what others get](seen_by_others).
pub(super) fn snapshot(
    peer: &mut Peer,
    (world, seen): (&World, &[BitRow]),
    kinds: &Kinds,
    now: HostNanos,
    (tick, rate): (Tick, Rate),
) -> Vec<u8> {
    let mut out = BitWriter::new();
    let header = peer.acks.header(MessageKind::Snapshot, peer.id.epoch, now);
    header.write(&mut out);
    say_snapshot(peer, (world, seen), kinds, (tick, rate), &mut out);
    let bytes = out.finish();
    let counts = peer.settings.rate == SendRate::Adapted;
    if counts {
        peer.pacing.sent(bytes.len());
    }
    let load = Load { bytes: if counts { bytes.len() as u32 } else { 0 }, snapshot: Some(tick) };
    peer.acks.holds(header.sequence, load);
    bytes
}

/// Puts a snapshot into a peer's stream. `false` where there is no room: it is left out, and what was to be said in it is said in the next.
pub(super) fn stream_snapshot(
    peer: &mut Peer,
    world: (&World, &[BitRow]),
    kinds: &Kinds,
    (tick, rate): (Tick, Rate),
) -> bool {
    let margins = peer.margins;
    let mut out = BitWriter::new();
    say_snapshot(peer, world, kinds, (tick, rate), &mut out);
    let is_taken = peer.stream.get_or_insert_default().push(MessageKind::Snapshot, tick, out.finish());
    if !is_taken {
        peer.margins = margins;
    }
    is_taken
}

/// Appends a snapshot for a peer, given what others get.
fn say_snapshot(
    peer: &mut Peer,
    (world, seen): (&World, &[BitRow]),
    kinds: &Kinds,
    (tick, rate): (Tick, Rate),
    out: &mut BitWriter,
) {
    let (every, margin, news) = (peer.snapshot_every(rate), peer.margins.take(), peer.unacknowledged.compose(tick));
    let owner = &*peer;
    let entities = world.iter().zip(seen).map(|(e, seen)| {
        let own = owner.control(e.id()).map(|control| {
            let includes = control.includes(tick);
            Used {
                tick: includes.newest.unwrap_or(tick).wire(),
                made_up: includes.made_up,
                shared: e.owners().len() > 1,
            }
        });
        (EntityRef { id: e.id(), kind: e.kind(), teleports: e.teleports, own }, e.state(), seen)
    });
    let wants_times = peer.settings.rate == SendRate::Adapted;
    let head = SnapshotHead { tick: tick.wire(), every, wants_times, margin, news };
    let inputs = owner.settings.tells_inputs.then(|| inputs_of_others(owner, world, kinds));
    // Where they do not fit, others are told without.
    let fits = |inputs: &BitRow| {
        let owns = |e: &Entity| (kinds.motion(e.kind()).schema(), owner.control(e.id()).is_some());
        snapshot_bytes(world.iter().map(owns)) + (inputs.len_bits() / 8) as usize + BESIDE < MAX_DATAGRAM
    };
    let inputs = inputs.filter(fits);
    write_shared(out, &head, kinds, entities, inputs.as_ref());
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
