//! What a peer is told: a snapshot of everybody, and pull backs it has not answered.

use std::collections::VecDeque;

use super::control::Control;
use super::peer::Peer;
use crate::ids::Address;
use crate::pacing::SendRate;
use crate::session::{Kinds, Owned};
use crate::tick::{HostNanos, Rate, Tick};
use crate::wire::{
    BitRow, BitWriter, ClockTold, EntityRef, MessageKind, PullBack, SnapshotHead, Used, seen_record, write_shared,
};
use crate::world::{Entity, World};

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
    peer.unacknowledged.sent(header.sequence, tick);
    say_snapshot(peer, (world, seen), kinds, (tick, rate), &mut out);
    let bytes = out.finish();
    if peer.settings.rate == SendRate::Adapted {
        peer.pacing.sent(header.sequence, bytes.len());
    }
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
    write_shared(out, &SnapshotHead { tick: tick.wire(), every, margin, news }, kinds, entities);
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
