//! What a machine does when it comes round: it reads what has arrived, runs what is due, draws and sends.

use std::collections::VecDeque;

use velocitas_analysis::fault::Fault;
use velocitas_core::{Address, Carried, Client, EntityId, Event, Fact, HostNanos, MessageKind, Tick, WireTick};
use velocitas_record::addresses::machine_at;
use velocitas_record::controls::Controls;
use velocitas_record::ids::{MachineId, MemberId, Part};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, MessageRow, Watch};

use super::{Due, Lab};
use crate::bystander::Sight;
use crate::chance::{Chance, Purpose};
use crate::course::Course;
use crate::faults::{Forged, TrickWatch};
use crate::faulty::Heard;
use crate::frames::frame;
use crate::hands::{Luck, Seen};
use crate::link::Ticket;
use crate::machine::{Arrived, GroundPoint, Playing};
use crate::screen::take;
use crate::tap::Tap;

impl Lab {
    /// The reading of a machine's clock in its next frame, unless it stands still: it then comes round when it wakes.
    pub(super) fn next_frame(&mut self, id: MachineId) -> Option<HostNanos> {
        let machine = &mut self.machines[id.index()];
        if self.now < machine.frozen_until {
            let wakes = machine.frozen_until;
            self.schedule(wakes, Due::Frame(id));
            return None;
        }
        let length = frame(&machine.host, self.course.seed, id.place(), machine.frame);
        machine.frame += 1;
        let read = machine.clock(self.now);
        self.schedule(self.now.plus(length), Due::Frame(id));
        Some(read)
    }

    /// Everything a machine does at once: what it decides, then what it plays.
    pub(super) fn frame<W: Watch>(&mut self, id: MachineId, watch: &mut W) {
        let Some(read) = self.next_frame(id) else { return };
        let mut socket = self.machines[id.index()].read(std::mem::take(&mut self.empty));
        if self.machines[id.index()].server.is_some() {
            self.server_frame(id, read, &socket, watch);
        }
        if self.machines[id.index()].client.is_some() {
            self.client_frame(id, read, &socket, watch);
        }
        socket.clear();
        self.empty = socket;
    }

    pub(super) fn tap<'a, W>(&self, watch: &'a mut W, machine: MachineId, part: Part) -> Tap<'a, W> {
        Tap {
            watch,
            digest: self.digest,
            base: self.course.first_tick,
            at: self.now,
            machine,
            part,
            trials: Vec::new(),
        }
    }

    fn server_frame<W: Watch>(&mut self, id: MachineId, read: HostNanos, socket: &VecDeque<Arrived>, watch: &mut W) {
        let mut tap = self.tap(watch, id, Part::Server);
        let Some(serving) = &mut self.machines[id.index()].server else { return };
        for arrived in socket.iter().filter(|arrived| arrived.part == Part::Server) {
            // A strange packet is counted by the server and dropped.
            let _ = serving.server.handle_datagram(read, arrived.client, &arrived.bytes, &mut tap);
        }
        serving.server.handle_time(read, &mut tap);
        self.digest = tap.digest;
        let newest = Some(serving.server.newest_tick());
        let count = self.machines.len();
        while let Some(serving) = &mut self.machines[id.index()].server
            && let Some((client, bytes)) = serving.server.poll_transmit()
        {
            if let Some(to) = machine_at(client, count) {
                self.send((id, to), (Part::Client, client), newest, bytes, watch);
            }
        }
    }

    fn client_frame<W: Watch>(&mut self, id: MachineId, read: HostNanos, socket: &VecDeque<Arrived>, watch: &mut W) {
        let (controls, moved) = self.hands(id);
        let mut tap = self.tap(watch, id, Part::Client);
        let Some(playing) = &mut self.machines[id.index()].client else { return };
        let address = playing.address(id);
        let (member, kind) = (playing.member, self.course[playing.member].kind);
        let Playing { client: Some(client), resting, looked, trials, faulty, forged, played, .. } = &mut **playing
        else {
            return;
        };
        let since = self.now.minus(*looked).secs() as f32;
        let rests = controls.is_at_rest(client.schema(kind));
        if *resting && !rests {
            tap.happening(client.newest_tick(), Happening::Pressed(moved.clamp(*looked, self.now)));
        }
        (*resting, *looked) = (rests, self.now);
        tap.trials = std::mem::take(trials);
        for arrived in socket.iter().filter(|arrived| arrived.part == Part::Client && arrived.client == address) {
            let _ = match faulty.heard(&arrived.bytes, client, read) {
                None => client.handle_datagram(read, &arrived.bytes, &mut tap),
                Some(Heard::Bytes(bytes)) => client.handle_datagram(read, &bytes, &mut tap),
                Some(Heard::Snapshot(told)) => client.handle_datagram_as(read, &arrived.bytes, Some(*told), &mut tap),
            };
        }
        // Who asks only where a tick is made misses what was pressed and let go between two.
        let is_asked = !faulty.has(Fault::Unlatched) || client.deadline().is_some_and(|due| due <= read);
        let asked = if is_asked { client.owned().len() } else { 0 };
        for place in 0..asked {
            let owned = client.owned()[place];
            let input = controls.to_input(client.schema(owned.kind), client.schema(kind));
            client.handle_controls(owned.entity, &input);
        }
        client.handle_time(read, &mut tap);
        *played = client.newest_tick().unwrap_or_default().max(*played);
        if forged.keeps_any() {
            keep(client, forged, &self.course, member, since);
        }
        self.digest = tap.digest;
        *trials = tap.trials;
        if W::LOOKS {
            take(&mut self.screen.0, Tick(self.course.first_tick), client, read);
            watch.frame(self.now, id, &self.screen.0);
        }
        self.look_on(id, read, watch);
        for (tick, entity, to) in self.new_orders(id) {
            self.tell(watch, id, Part::Client, Some(tick), Happening::Ordered(entity, to));
        }
        while let Some(Playing { client: Some(client), forged, .. }) = self.machines[id.index()].client.as_deref_mut() {
            let (is_lawful, newest) = (forged.is_lawful(), client.newest_tick());
            let Some(bytes) = client.poll_transmit() else { return };
            if is_lawful {
                self.send((id, MachineId::SERVER), (Part::Server, address), newest, bytes, watch);
                continue;
            }
            let (all, offends) = self.forge(id, read, bytes);
            if offends {
                self.tell(watch, id, Part::Client, newest, Happening::Offence);
            }
            for bytes in all {
                self.send((id, MachineId::SERVER), (Part::Server, address), newest, bytes, watch);
            }
        }
    }

    /// Where clients check each other, this one does.
    fn look_on<W: Watch>(&mut self, id: MachineId, read: HostNanos, watch: &mut W) {
        let Some(row) = self.course.guard.naive.filter(|row| row.is_of_clients) else { return };
        let others = self.course.members().filter(|member| self.course.machine(*member) != id);
        let sight = |member: MemberId| {
            let (entity, peer) = (self.entity(member)?, self.server().peer_of(self.playing(member).token())?);
            Some(Sight { entity, peer, kind: self.course[member].kind })
        };
        let sights: Vec<Sight> = others.filter_map(sight).collect();
        let client = self.machines[id.index()].client.as_ref().and_then(|playing| playing.client.as_ref());
        let Some(client) = client else { return };
        let found = self.bystanders.look(row, (id, client, read), &sights, self.course.rate);
        for verdict in found {
            watch.event(self.now, id, Part::Client, &Event::Fact(Fact::Verdict(verdict)));
        }
    }

    fn new_orders(&mut self, id: MachineId) -> Vec<(Tick, EntityId, Option<GroundPoint>)> {
        self.machines[id.index()].client.as_deref_mut().map_or_else(Vec::new, Playing::new_orders)
    }

    /// What a machine sends, as its cheats would have it. Says whether that is the first offence of a trick.
    fn forge(&mut self, id: MachineId, read: HostNanos, bytes: Vec<u8>) -> (Vec<Vec<u8>>, bool) {
        let now = self.now;
        let Some(playing) = &mut self.machines[id.index()].client else { return (vec![bytes], false) };
        let Some(client) = &playing.client else { return (vec![bytes], false) };
        let (bytes, rewritten) = playing.forged.rewritten(&bytes, &client.layouts(read)).unwrap_or((bytes, false));
        let (all, offends) = playing.forged.sent(bytes, now);
        let first =
            |trials: &mut Vec<TrickWatch>| trials.iter_mut().filter(|t| t.rewrites()).any(TrickWatch::take_offence);
        (all, (rewritten || offends) && first(&mut playing.trials))
    }

    /// What the hands at a machine do in this frame, and when they began to.
    fn hands(&mut self, id: MachineId) -> (Controls, LabTime) {
        let resting = (Controls::default(), self.now);
        let Some(playing) = &mut self.machines[id.index()].client else { return resting };
        let Some(client) = &playing.client else { return resting };
        // Its own body is what it walks with, whatever else it owns.
        let kind = self.course[playing.member].kind;
        if self.helm.member == Some(playing.member) {
            let controls = self.helm.controls;
            self.helm.controls.let_go(client.schema(kind));
            return (controls, self.helm.since);
        }
        let body = client.owned().iter().find(|owned| owned.kind == kind).or(client.owned().first()).copied();
        let own = body.and_then(|owned| client.own_state(owned.entity));
        let schema = client.schema(body.map_or(kind, |owned| owned.kind));
        let (seed, bounds) = (self.course.seed, self.course.world.bounds);
        let luck = |what: Luck, count| Chance::of(seed, Purpose::Hands, id.place(), what as u32, count).uniform();
        let seen = Seen { now: self.now, own: own.as_ref(), schema, bounds };
        playing.hands.controls(&self.course[playing.member].script, &seen, &luck)
    }

    pub(super) fn send<W: Watch>(
        &mut self,
        (from, to): (MachineId, MachineId),
        (part, client): (Part, Address),
        newest: Option<Tick>,
        bytes: Vec<u8>,
        watch: &mut W,
    ) {
        let Some(carried) = Carried::of(&bytes) else { return };
        let near = |tick: WireTick| newest.and_then(|newest| tick.unwrap_near(newest).ok());
        let (kind, tick) = (carried.kind, carried.tick.and_then(near));
        // What is sent again has other luck than the first time.
        let is_again = carried.piece.is_some_and(|(_, again)| again);
        let stream = if kind.is_up() { MessageKind::StreamUp } else { MessageKind::StreamDown };
        let (named, about) = if is_again { (stream, None) } else { (kind, tick) };
        let ticket = Ticket { kind: named, tick: about.map(|t| t.0.saturating_sub(self.course.first_tick)) };
        let (fate, number) = self.links.send(self.course.seed, self.now, (from, to), ticket, bytes.len());
        let row = MessageRow {
            at: self.now,
            arrived: fate.arrives,
            again: fate.again,
            lost: fate.arrives.is_none(),
            unread: false,
            kind,
            bytes: bytes.len() as u16,
            tick: tick.map(|t| self.record_tick(t)),
            ticks: carried.ticks,
            entity: carried.entity,
            entities: carried.entities,
            epoch: carried.epoch,
            piece: carried.piece,
        };
        watch.message(from, to, row);
        watch.payload(from, to, number, &bytes);
        let arrival = |bytes| Due::Arrival { to, from, number, part, client, bytes };
        if let Some(again) = fate.again {
            self.schedule(again, arrival(bytes.clone()));
        }
        if let Some(arrives) = fate.arrives {
            self.schedule(arrives, arrival(bytes));
        }
    }
}

/// Has a rogue's own body be as its cheats keep it.
fn keep(client: &mut Client, forged: &Forged, course: &Course, member: MemberId, seconds: f32) {
    let it = &course[member];
    let Some(body) = client.owned().iter().find(|owned| owned.kind == it.kind).copied() else { return };
    let Some(state) = client.own_state(body.entity) else { return };
    let first = course.kinds.motion(it.kind).spawn(it.spawn, it.facing);
    if let Some(kept) = forged.kept(&state, client.schema(it.kind), &first, seconds) {
        client.place(body.entity, kept);
    }
}
