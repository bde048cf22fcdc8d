//! What happens in a course: pushes, freezes, comings and goings, changes of hands.

use std::sync::Arc;

use velocitas_analysis::fault::Fault;
use velocitas_core::{Client, EntityId, SolidId, Token};
use velocitas_record::addresses::token;
use velocitas_record::command::{Calm, Command};
use velocitas_record::ids::{MachineId, MemberId, Part};
use velocitas_record::knob::{Accessor, Knobs};
use velocitas_record::known::Reach;
use velocitas_record::settings::{Knob, SETTINGS};
use velocitas_record::watch::{Happening, Watch};

use super::{Due, Lab, guest};
use crate::course::{Coming, Course, KnownTo, Override, Owned, Turned, What};
use crate::reread::ReadLater;

impl Lab {
    pub(super) fn event<W: Watch>(&mut self, index: usize, watch: &mut W) {
        let course = self.course.clone();
        let event = &course.events[index];
        self.happen(&event.what, watch);
        if let Some(every) = event.every {
            self.schedule(self.now.plus(every), Due::Event(index));
        }
    }

    /// Something happens now.
    pub(super) fn happen<W: Watch>(&mut self, what: &What, watch: &mut W) {
        let course = self.course.clone();
        match what {
            What::Push(..) | What::Teleport(..) if self.calms.contains(&Calm::Pushes) => {}
            What::Own(..) if self.calms.contains(&Calm::Hands) => {}
            What::Freeze(who, _) if self.calms.contains(&Calm::Frames(*who)) => {}
            What::Push(member, velocity) => {
                if let Some(entity) = self.entity(*member) {
                    self.serving_mut().server.push(entity, *velocity);
                    let (tick, by) = (self.server_tick().next(), [velocity.x, velocity.y, velocity.z]);
                    self.tell(watch, course.machine(*member), Part::Client, Some(tick), Happening::Pushed(entity, by));
                }
            }
            What::Teleport(member, to) => {
                if let Some(entity) = self.entity(*member) {
                    self.serving_mut().server.teleport(entity, *to);
                    let (tick, what) = (self.server_tick().next(), Happening::Teleported(entity, [to.x, to.y, to.z]));
                    self.tell(watch, course.machine(*member), Part::Client, Some(tick), what);
                }
            }
            What::Link(member, turned) => self.turn_link(*member, &self.without_calm(*member, turned), watch),
            What::Tune(overrides) => overrides.iter().for_each(|o| self.retune(o, watch)),
            What::Ground(solid, known_to) => self.reground(*solid, *known_to, watch),
            What::Freeze(who, lasts) => {
                let machine = who.map_or(MachineId::SERVER, |member| course.machine(member));
                self.machines[machine.index()].frozen_until = self.now.plus(*lasts);
                self.tell(watch, machine, Part::Client, None, Happening::Frozen(*lasts));
            }
            What::Moves(member, coming) => {
                self.comes_or_goes(*member, *coming, watch);
            }
            What::Own(what, owners) => self.change_hands(*what, owners),
        }
    }

    /// Somebody comes or goes, if it can. Says whether it could.
    pub(super) fn comes_or_goes<W: Watch>(&mut self, member: MemberId, coming: Coming, watch: &mut W) -> bool {
        let course = self.course.clone();
        if self.runs(member) == coming.comes() {
            return false;
        }
        let tick = self.client(member).and_then(Client::newest_tick);
        let now = self.now;
        let playing = self.playing_mut(member);
        let what = match coming {
            Coming::Join | Coming::Return => {
                playing.start(&course, now);
                let guest = guest(&course, member, playing.token());
                // By another name it is another guest.
                if guest.token != token(member) {
                    self.serving_mut().server.invite(guest);
                }
                Happening::Started
            }
            Coming::Leave => {
                playing.client.iter_mut().for_each(Client::leave);
                Happening::Leaves
            }
            Coming::Crash => {
                playing.client = None;
                Happening::Crashed
            }
        };
        self.tell(watch, course.machine(member), Part::Client, tick, what);
        true
    }

    /// What a machine's program gets wrong is put right, and it is started anew so that it learns what it missed. Says whether
    /// there was anything.
    pub(super) fn mend<W: Watch>(&mut self, member: MemberId, watch: &mut W) -> bool {
        if self.faults(member).is_empty() {
            return false;
        }
        self.playing_mut(member).faulty.mend();
        if self.comes_or_goes(member, Coming::Crash, watch) {
            self.comes_or_goes(member, Coming::Return, watch);
        }
        true
    }

    /// What a member's program gets wrong.
    pub fn faults(&self, member: MemberId) -> &[Fault] {
        self.playing(member).faulty.faults()
    }

    /// A member's link changes, in each direction apart.
    fn turn_link<W: Watch>(&mut self, member: MemberId, turned: &Turned, watch: &mut W) {
        let machine = self.course.machine(member);
        let playing = self.playing_mut(member);
        let Knobs { up, down, .. } = &mut playing.knobs;
        turned.apply(up, down);
        self.lay(member);
        for (up, settings) in [(true, &turned.up), (false, &turned.down)] {
            for (knob, value) in settings {
                let what = Happening::Link { up, knob: *knob, value: *value };
                self.tell(watch, machine, Part::Client, None, what);
            }
        }
    }

    /// What an event makes of a link, but for what is calm.
    fn without_calm(&self, member: MemberId, turned: &Turned) -> Turned {
        let is_calm = |knob| {
            self.calms.iter().any(|calm| matches!(calm, Calm::Link(of, which) if *of == member && which.is_none_or(|which| which == knob)))
        };
        let way = |way: &[(Knob, f64)]| way.iter().copied().filter(|(knob, _)| !is_calm(*knob)).collect();
        Turned { up: way(&turned.up), down: way(&turned.down) }
    }

    /// Those who get to know of a change for one side: everybody, where that is calm.
    fn told(&self, calm: Calm, side: KnownTo) -> KnownTo {
        if side != KnownTo::Nobody && self.calms.contains(&calm) { KnownTo::All } else { side }
    }

    /// A tunable changes, on the machines of a side.
    fn retune<W: Watch>(&mut self, o: &Override, watch: &mut W) {
        let tunable = self.course.kinds.motion(o.kind).tunables()[o.tunable].name;
        for reach in self.reaches(self.told(Calm::Tunable { kind: o.kind, tunable }, o.known_to)) {
            self.command(Command::Tune { kind: o.kind, tunable, value: o.value, reach }, ReadLater::default(), watch);
        }
    }

    /// A course takes the place of the one in force: what it says anew of links and settings is set, and its events happen
    /// from now on.
    pub(super) fn take_over<W: Watch>(&mut self, course: &Arc<Course>, watch: &mut W) {
        let before = std::mem::replace(&mut self.course, course.clone());
        for member in course.members() {
            let (was, is) = (&before[member].knobs, &course[member].knobs);
            let mut turned = Turned { up: Vec::new(), down: Vec::new() };
            let mut set = Vec::new();
            for spec in &SETTINGS {
                if let Accessor::Link { get, .. } = spec.accessor {
                    let ways = [(&mut turned.up, &was.up, &is.up), (&mut turned.down, &was.down, &is.down)];
                    let changed = ways.into_iter().filter(|(_, was, is)| get(was) != get(is));
                    changed.for_each(|(way, _, is)| way.push((spec.knob, get(is))));
                } else if spec.knob.get(was) != spec.knob.get(is) {
                    set.push((spec.knob, spec.knob.get(is)));
                }
            }
            if !(turned.up.is_empty() && turned.down.is_empty()) {
                self.turn_link(member, &turned, watch);
            }
            for (knob, value) in set {
                self.command(Command::Set { member, knob, value }, ReadLater::default(), watch);
            }
        }
        if before.events != course.events {
            self.agenda.retain(|due| !matches!(due, Due::Event(_)));
            for (i, event) in course.events.iter().enumerate() {
                if let Some(at) = event.next_after(self.now) {
                    self.schedule(at, Due::Event(i));
                }
            }
        }
    }

    /// The machines of a side.
    fn reaches(&self, side: KnownTo) -> Vec<Reach> {
        match side {
            KnownTo::All => vec![Reach::All],
            KnownTo::Server => vec![Reach::One(MachineId::SERVER)],
            KnownTo::Clients => {
                MachineId::first(self.machines.len()).filter(|id| *id != MachineId::SERVER).map(Reach::One).collect()
            }
            KnownTo::Nobody => Vec::new(),
        }
    }

    /// A solid is known to these from now on, and to nobody else.
    fn reground<W: Watch>(&mut self, solid: SolidId, known_to: KnownTo, watch: &mut W) {
        let known_to = self.told(Calm::Solid(solid), known_to);
        let [server, clients] = [KnownTo::Server, KnownTo::Clients].map(|side| known_to.includes(side));
        let changes = if server == clients {
            vec![(KnownTo::All, server)]
        } else {
            vec![(KnownTo::Server, server), (KnownTo::Clients, clients)]
        };
        for (side, there) in changes {
            for reach in self.reaches(side) {
                self.command(Command::Solid { solid, there, reach }, ReadLater::default(), watch);
            }
        }
    }

    /// Something changes hands at the server's next tick. What is not there changes nothing.
    fn change_hands(&mut self, what: Owned, owners: &[MemberId]) {
        let entity: Option<EntityId> = match what {
            Owned::Body(member) => self.entity(member),
            Owned::Thing(thing) => self.things.get(thing).copied(),
        };
        let owners: Vec<Token> = owners.iter().map(|owner| self.playing(*owner).token()).collect();
        if let Some(entity) = entity {
            let done = self.serving_mut().server.set_owners(entity, &owners);
            debug_assert!(done.is_ok(), "the course was checked to fit: {done:?}");
        }
    }
}
