//! What keys do to the world: knobs that are turned, and what happens to somebody at once.

use velocitas_lab::{Command, KNOBS, Knob, KnobValue, MemberId, NamedSolid, Reach, Sudden};

use super::stage::Stage;

impl Stage {
    /// The knob that keys act on.
    pub(super) const fn chosen_knob(&self) -> Knob {
        KNOBS[self.knob].knob
    }

    pub(super) fn turn(&mut self, up: bool, all: bool) {
        let knob = self.chosen_knob();
        let members: Vec<MemberId> = if all { self.run.course().members().collect() } else { vec![self.entity] };
        let now = knob.get(self.run.lab().knobs(self.entity));
        if !self.is_live() {
            // Turned further, it is offered further.
            let offered = self.offered.as_ref().and_then(|offer| match offer.change.commands.first() {
                Some(Command::Set { member, knob: of, value }) if (*member, *of) == (members[0], knob) => Some(*value),
                _ => None,
            });
            let value = knob.turned(offered.unwrap_or(now), up);
            let whose = if all { "all".to_owned() } else { self.name(self.entity).to_owned() };
            let words = format!("{whose}: {} {}", knob.spec().name, velocitas_lab::cause::shown(knob, value));
            let commands = members.into_iter().map(|member| Command::Set { member, knob, value }).collect();
            return self.offer_branch(words, commands);
        }
        let value = knob.turned(now, up);
        for member in members {
            self.set(member, knob, value);
        }
        if all {
            let shown = velocitas_lab::cause::shown(knob, value);
            self.say(format!("{} set to {shown} for all machines", knob.spec().name));
        }
    }

    /// Something happens to the selected member, at a key.
    pub(super) fn happens(&mut self, what: Sudden, says: &str) {
        if !self.is_live() {
            return self.offer();
        }
        if let Err(why) = self.happens_to(self.entity, what, says) {
            self.say(why);
        }
    }

    /// Something happens to a member, or why it cannot.
    pub(super) fn happens_to(&mut self, member: MemberId, what: Sudden, says: &str) -> Result<(), String> {
        let name = self.name(member).to_owned();
        let moves_itself = !self.run.course()[member].arrangement.sends_inputs();
        if moves_itself && !matches!(what, Sudden::Freeze(_)) {
            return Err(format!("{name} says where it is: the server cannot move it so"));
        }
        self.run.command(Command::Happens(member, what));
        self.say(format!("{name} {says}"));
        Ok(())
    }

    /// The solid nearest to the selected entity is known to its machine no more, or again.
    pub(super) fn forget_solid(&mut self) {
        if !self.is_live() {
            return self.offer();
        }
        let Some(at) = self.echoes().authority.map(|e| e.pos) else { return };
        let course = self.run.course().clone();
        let Some(solid) = course.world.nearest(at) else {
            return self.say("there is nothing on the ground that could be forgotten");
        };
        self.know(self.entity, solid, !self.run.lab().known(self.entity).knows(solid.solid.id));
    }

    /// A member's machine knows a solid from now on, or no more.
    pub(super) fn know(&mut self, member: MemberId, solid: &NamedSolid, there: bool) {
        let reach = Reach::One(self.machine(member));
        self.run.command(Command::Solid { solid: solid.solid.id, there, reach });
        let says = if there { "knows of" } else { "has forgotten" };
        self.say(format!("{} {says} `{}`", self.name(member), solid.name));
    }

    /// Where the selected entity looks, to the east and to the north.
    pub(super) fn ahead(&self) -> (f32, f32) {
        let bearing = self.echoes().authority.and_then(|e| e.bearing).unwrap_or(0.0);
        (libm::cosf(bearing), libm::sinf(bearing))
    }

    pub(super) fn set(&mut self, member: MemberId, knob: Knob, value: KnobValue) {
        self.run.command(Command::Set { member, knob, value });
    }
}
