//! What keys do to the world: knobs that are turned, and what happens to somebody at once.

use velocitas_core::{Rule, vec3};
use velocitas_lab::Lab;
use velocitas_record::{Command, Knob, MemberId, NamedSolid, Reach, Sudden, Unrecorded};

use super::stage::Stage;

impl Stage {
    /// The knob that keys act on.
    pub(super) fn chosen_knob(&self) -> Knob {
        self.selected.knobs.knob()
    }

    /// Asks the lab as it is, or as it was at the moment looked at: that is had by running it there again.
    pub(super) fn ask_lab<T>(&self, ask: impl FnOnce(&Lab) -> T) -> Result<T, String> {
        if self.is_live() {
            return Ok(ask(self.run.lab()));
        }
        let again = self.run.again(self.at, self.at, &mut Unrecorded);
        again.map(|lab| ask(&lab)).map_err(|why| why.to_string())
    }

    /// Does something to the run now; looking back, offers a branch in which it is done at the moment looked at.
    pub(super) fn do_or_offer(&mut self, words: String, commands: Vec<Command>, says: Option<String>) {
        if !self.is_live() {
            return self.offer_branch(words, commands);
        }
        commands.into_iter().for_each(|command| self.run.command(command));
        if let Some(says) = says {
            self.say(says);
        }
    }

    pub(super) fn turn(&mut self, up: bool, all: bool) {
        if self.selected.knobs.open() {
            return;
        }
        let knob = self.chosen_knob();
        let members: Vec<MemberId> =
            if all { self.run.course().members().collect() } else { vec![self.selected.entity] };
        // Turned further, it is offered further.
        let offered = self.branching.offered.as_ref().and_then(|offer| match offer.change.commands.first() {
            Some(Command::Set { member, knob: of, value }) if (*member, *of) == (members[0], knob) => Some(*value),
            _ => None,
        });
        let now = match offered.map_or_else(|| self.ask_lab(|lab| knob.get(lab.knobs(self.selected.entity))), Ok) {
            Ok(now) => now,
            Err(why) => return self.say(why),
        };
        let value = knob.turned(now, up);
        let whose = if all { "all".to_owned() } else { self.name(self.selected.entity).to_owned() };
        let (name, shown) = (knob.spec().name, velocitas_analysis::cause::shown(knob, value));
        let commands = members.into_iter().map(|member| Command::Set { member, knob, value }).collect();
        let says = all.then(|| format!("{name} set to {shown} for all machines"));
        self.do_or_offer(format!("{whose}: {name} {shown}"), commands, says);
    }

    /// Something happens to the selected member, at a key.
    pub(super) fn happens(&mut self, what: Sudden, says: &str) {
        if let Err(why) = self.happens_to(self.selected.entity, what, says) {
            self.say(why);
        }
    }

    /// What a push of a member comes to: who says where it is has to be told.
    pub(super) fn pushed(&self, member: MemberId) -> &'static str {
        if self.run.course()[member].arrangement.sends_inputs() {
            "is pushed, and only the server knows"
        } else {
            "is pushed, and is told so"
        }
    }

    /// Something happens to a member, or why it cannot.
    pub(super) fn happens_to(&mut self, member: MemberId, what: Sudden, says: &str) -> Result<(), String> {
        let name = self.name(member).to_owned();
        let moves_itself = !self.run.course()[member].arrangement.is_moved();
        if moves_itself && !matches!(what, Sudden::Freeze(_)) {
            return Err(format!("{name} says where it is and is believed: the server cannot move it so"));
        }
        let words = match what {
            Sudden::Push(v) => format!("{name} pushed by {:.1}, {:.1}, {:.1} m/s", v.x, v.y, v.z),
            Sudden::Teleport(to) => format!("{name} put at {:.1}, {:.1}, {:.1}", to.x, to.y, to.z),
            Sudden::Freeze(lasts) => format!("{name} standing still for {} s", lasts.secs()),
        };
        self.do_or_offer(words, vec![Command::Happens(member, what)], Some(format!("{name} {says}")));
        Ok(())
    }

    /// The server puts the selected entity this far ahead, if there is room.
    pub(super) fn put_ahead(&mut self, far: f32) {
        let (east, north) = self.ahead();
        let Some(from) = self.echoes().authority.map(|e| e.pos) else { return };
        let to = from + vec3(east * far, north * far, 0.0);
        match self.ask_lab(|lab| lab.has_room(self.selected.entity, to)) {
            Ok(true) => self.happens(Sudden::Teleport(to), "is put elsewhere by the server"),
            Ok(false) => self.say(format!("there is no room {far} m ahead: turn, or walk on")),
            Err(why) => self.say(why),
        }
    }

    /// The solid nearest to the selected entity is known to its machine no more, or again.
    pub(super) fn forget_solid(&mut self) {
        let Some(at) = self.echoes().authority.map(|e| e.pos) else { return };
        let course = self.run.course().clone();
        let Some(solid) = course.world.nearest(at) else {
            return self.say("there is nothing on the ground that could be forgotten");
        };
        match self.ask_lab(|lab| lab.known(self.selected.entity).knows(solid.solid.id)) {
            Ok(knows) => self.know(self.selected.entity, solid, !knows),
            Err(why) => self.say(why),
        }
    }

    /// A member's machine knows a solid from now on, or no more.
    pub(super) fn know(&mut self, member: MemberId, solid: &NamedSolid, there: bool) {
        let reach = Reach::One(self.machine(member));
        let name = self.name(member);
        let says = format!("{name} {} `{}`", if there { "knows of" } else { "has forgotten" }, solid.name);
        let words = format!("{} {} {name}", solid.name, if there { "known to" } else { "forgotten by" });
        self.do_or_offer(words, vec![Command::Solid { solid: solid.solid.id, there, reach }], Some(says));
    }

    /// From now on the server's guard allows a multiple of what a rule says.
    pub(super) fn allow(&mut self, rule: Rule, times: f32) {
        if !rule.is_adjustable() {
            return self.say(format!("`{}` is broken or it is not: there is no more or less of it", rule.name()));
        }
        let words = format!("{}: {:.1} % allowed", rule.name(), times * 100.0);
        let says = format!("the server allows {:.1} % of what `{}` says", times * 100.0, rule.name());
        self.do_or_offer(words, vec![Command::Allow { rule, times }], Some(says));
    }

    /// Where the selected entity looks, to the east and to the north.
    pub(super) fn ahead(&self) -> (f32, f32) {
        let bearing = self.echoes().authority.and_then(|e| e.bearing).unwrap_or(0.0);
        (libm::cosf(bearing), libm::sinf(bearing))
    }
}
