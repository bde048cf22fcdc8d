//! Who is looked at, and who is made to come and go.

use velocitas_lab::amiss::Amiss;
use velocitas_lab::moment::Echoes;
use velocitas_lab::{ActorId, Coming, Command, MemberId};

use super::stage::Stage;

impl Stage {
    /// What came with a member, there or gone; `None` before it first came.
    pub(super) fn body(&self, member: MemberId) -> Option<ActorId> {
        self.run.record().cast.body(self.machine(member), self.at)
    }

    /// What is looked at: a thing of the world, or what came with the selected member.
    pub(super) fn subject(&self) -> Option<ActorId> {
        match self.thing {
            Some(thing) => self.run.record().cast.things().nth(thing),
            None => self.body(self.entity),
        }
    }

    /// Its name, also where it is not there.
    pub(super) fn subject_name(&self) -> &str {
        match self.thing {
            Some(thing) => self.run.course().things.get(thing).map_or("?", |thing| &thing.name),
            None => self.name(self.entity),
        }
    }

    /// What is believed of it, as the viewer sees it.
    pub(super) fn echoes(&self) -> Echoes {
        let viewer = self.machine(self.viewer);
        self.subject().map_or_else(Echoes::default, |subject| self.moment().echoes(subject, viewer))
    }

    /// The next thing to look at, members first.
    pub(super) fn look_on(&mut self, on: bool) {
        let (members, things) = (self.run.course().cast.len(), self.run.course().things.len());
        let now = self.thing.map_or(self.entity.index(), |thing| members + thing);
        let count = members + things;
        let next = (now + if on { 1 } else { count - 1 }) % count;
        self.thing = next.checked_sub(members);
        if let Some(member) = self.run.course().members().nth(next) {
            self.entity = member;
        }
    }

    /// A member comes or goes, if it can.
    pub(super) fn comes_or_goes(&mut self, member: MemberId, coming: Coming) {
        if !self.is_live() {
            self.offer();
            return;
        }
        let name = self.name(member).to_owned();
        if self.run.lab().runs(member) == coming.comes() {
            let is = if coming.comes() { "is there" } else { "is not there: r brings it back" };
            self.say(format!("{name} {is}"));
            return;
        }
        self.run.command(Command::Moves(member, coming));
        let gone = f64::from(self.run.course().patience.gone_ms) / 1000.0;
        self.say(match coming {
            Coming::Join | Coming::Return => format!("{name} comes: it asks the server to join"),
            Coming::Leave => format!("{name} says goodbye"),
            Coming::Crash => format!("{name} crashed; the server misses it after {gone:.0} s; r brings it back"),
        });
    }

    /// What is amiss first is mended, or else the selected machine.
    pub(super) fn mend(&mut self) {
        if !self.is_live() {
            self.offer();
            return;
        }
        let faulty = |member: &MemberId| !self.run.lab().faults(*member).is_empty();
        let shows = self.facts.as_ref().and_then(|f| f.amiss.first()).map(Amiss::machine);
        let shown = shows.and_then(|machine| self.run.course().player(machine)).filter(faulty);
        let Some(member) = shown.or(Some(self.entity).filter(faulty)) else {
            self.say("no machine that shows a fault was given one on purpose: there is nothing to mend");
            return;
        };
        let remedies: Vec<&str> = self.run.lab().faults(member).iter().map(|fault| fault.spec().remedy).collect();
        let said = format!("mended {}: {}", self.name(member), remedies.join("; "));
        self.run.command(Command::Mend(member));
        self.say(said);
    }
}
