//! What is done to a lab from outside: keys, the helm, settings, rules.

use velocitas_core::{Client, Tick};
use velocitas_record::Conditions;
use velocitas_record::addresses::token;
use velocitas_record::command::{Calm, Command, Sudden};
use velocitas_record::controls::Controls;
use velocitas_record::ids::{MachineId, MemberId, Part};
use velocitas_record::knob::KnobValue;
use velocitas_record::known::{Change, Changed, Reach};
use velocitas_record::settings::Knob;
use velocitas_record::watch::{Happening, Watch};

use super::{Helm, Lab};
use crate::course::{ALLOWED, What};
use crate::hands::Hands;
use crate::machine::Serving;
use crate::reread::ReadLater;

impl Lab {
    /// Does what was commanded, now: what cannot be done here is left.
    ///
    /// `read` is what was read while it ran, for commands that speak of it by number.
    pub fn command<W: Watch>(&mut self, command: Command, read: ReadLater<'_>, watch: &mut W) {
        let count = self.course.cast.len();
        let is_there = |member: &MemberId| member.index() < count;
        if !matches!(command, Command::Helm(_)) && command.member().is_some_and(|member| !is_there(&member)) {
            return;
        }
        match command {
            Command::Keys(controls) => self.take_keys(controls),
            Command::Helm(member) => {
                if let Some(left) = self.helm.member {
                    self.playing_mut(left).hands = Hands::begin(self.now);
                }
                let member = member.filter(is_there);
                self.helm = Helm { member, controls: Controls::default(), since: self.now };
            }
            Command::Moves(member, coming) if !self.comes_or_goes(member, coming, watch) => return,
            Command::Mend(member) if !self.mend(member, watch) => return,
            Command::Moves(..) | Command::Mend(_) => {}
            Command::Happens(member, sudden) => {
                let is_moved = self.course[member].arrangement.is_moved();
                let what = match sudden {
                    Sudden::Push(velocity) if is_moved => What::Push(member, velocity),
                    Sudden::Teleport(to) if is_moved => What::Teleport(member, to),
                    Sudden::Freeze(lasts) => What::Freeze(Some(member), lasts),
                    Sudden::Push(_) | Sudden::Teleport(_) => return,
                };
                self.happen(&what, watch);
            }
            Command::Calm(calm) => self.calm(calm),
            Command::Set { member, knob, value } => self.set(member, knob, value),
            Command::Tune { .. } | Command::Solid { .. } | Command::Reload { .. } => {
                return self.command_change(command, read, watch);
            }
            Command::Allow { rule, times } => {
                if !rule.is_adjustable() || !ALLOWED.contains(&times) {
                    return;
                }
                self.serving_mut().server.allow(rule, times);
                return self.tell_at_server(command, watch);
            }
            Command::TakeOver { version } => {
                if let Some(course) = read.courses.get(usize::from(version).wrapping_sub(1)).cloned() {
                    self.tell_at_server(command, watch);
                    self.take_over(&course, watch);
                }
                return;
            }
        }
        let concerns = match command {
            Command::Keys(_) | Command::Helm(_) => self.helm.member,
            Command::Calm(_) if command.member().is_none() => return self.tell_at_server(command, watch),
            _ => command.member(),
        };
        let Some(member) = concerns else { return };
        let tick = self.client(member).and_then(Client::newest_tick);
        self.tell(watch, self.course.machine(member), Part::Client, tick, Happening::Command(command));
    }

    /// The hands at the helm move.
    fn take_keys(&mut self, controls: Controls) {
        self.helm.since = self.now;
        let before = std::mem::replace(&mut self.helm.controls, controls);
        if let Some(member) = self.helm.member {
            let kind = self.course[member].kind;
            let own = self.playing(member).known.kinds.motion(kind).schema().clone();
            self.helm.controls.add_presses(&before, &own);
        }
    }

    /// What machines know changes at one tick.
    fn command_change<W: Watch>(&mut self, command: Command, read: ReadLater<'_>, watch: &mut W) {
        let (reach, changed) = match command {
            Command::Tune { kind, tunable, value, reach } => (reach, Changed::Tuned { kind, tunable, value }),
            Command::Solid { solid, there, reach } if self.course.solid(solid).is_some() => {
                (reach, Changed::Solid { solid, there })
            }
            Command::Reload { kind, version, reach } => {
                let Some(read) = read.rules.get(usize::from(version).wrapping_sub(1)) else { return };
                let rule = self.course.stepped(read.rule.clone());
                if self.may_reload(kind, &rule, reach).is_err() {
                    return;
                }
                (reach, Changed::Reloaded { kind, version, rule })
            }
            _ => return,
        };
        self.change(reach, changed, command, watch);
    }

    fn tell_at_server<W: Watch>(&mut self, command: Command, watch: &mut W) {
        let tick = Some(self.server_tick());
        self.tell(watch, MachineId::SERVER, Part::Server, tick, Happening::Command(command));
    }

    /// Something no longer goes wrong from now on.
    fn calm(&mut self, calm: Calm) {
        self.calms.retain(|other| *other != calm);
        self.calms.push(calm);
        match calm {
            Calm::Up(member) | Calm::Down(member) => self.lay(member),
            Calm::Frames(member) => {
                let machine = member.map_or(MachineId::SERVER, |member| self.course.machine(member));
                let machine = &mut self.machines[machine.index()];
                machine.host.hitches_per_minute = 0.0;
                machine.frozen_until = machine.frozen_until.min(self.now);
            }
            Calm::Pushes | Calm::Hands | Calm::Solid(_) | Calm::Tunable { .. } | Calm::Link(..) => {}
        }
    }

    /// Lays a member's link as its knobs say, or as if it were perfect where it is calm.
    pub(super) fn lay(&mut self, member: MemberId) {
        let machine = self.course.machine(member);
        let knobs = self.playing(member).knobs;
        let is_calm = |calm| self.calms.contains(&calm);
        let up = if is_calm(Calm::Up(member)) { Conditions::PERFECT } else { knobs.up };
        let down = if is_calm(Calm::Down(member)) { Conditions::PERFECT } else { knobs.down };
        self.links.change(machine, MachineId::SERVER, up);
        self.links.change(MachineId::SERVER, machine, down);
    }

    /// Lets machines know something else from one tick on that lies ahead of them all.
    fn change<W: Watch>(&mut self, reach: Reach, what: Changed, command: Command, watch: &mut W) {
        // Also beyond what those said who have crashed since: it may be under way.
        let clients =
            self.clients().map(|p| p.client.as_ref().and_then(Client::newest_tick).unwrap_or_default().max(p.played));
        let now = self.server_tick();
        let from = clients.fold(now, Tick::max).next();
        let course = self.course.clone();
        let machines = MachineId::first(self.machines.len()).zip(&mut self.machines);
        for (_, machine) in machines.filter(|(id, _)| reach.covers(*id)) {
            if let Some(Serving { server, known }) = machine.server.as_deref_mut() {
                known.take(&what);
                server.set_ingredients_at(from, known.ingredients());
            }
            if let Some(playing) = machine.client.as_deref_mut() {
                playing.learns(&what, from, now);
                let ingredients = playing.ingredients(&course);
                if let Some(client) = &mut playing.client {
                    client.set_ingredients_at(from, ingredients);
                }
            }
        }
        watch.changed(Change { at: self.now, tick: self.record_tick(from), reach, what });
        let machine = match reach {
            Reach::All => MachineId::SERVER,
            Reach::One(machine) => machine,
        };
        self.tell(watch, machine, Part::Server, Some(from), Happening::Command(command));
    }

    fn set(&mut self, member: MemberId, knob: Knob, value: KnobValue) {
        let playing = self.playing_mut(member);
        knob.set(&mut playing.knobs, value);
        let knobs = playing.knobs;
        if let Some(client) = &mut playing.client {
            client.set_settings(knobs.settings);
        }
        self.lay(member);
        self.serving_mut().server.set_settings(token(member), knobs.served);
    }
}
