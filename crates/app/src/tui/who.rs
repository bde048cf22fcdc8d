//! Who is looked at, and who is made to come and go.

use velocitas_analysis::amiss::Amiss;
use velocitas_analysis::moment::Echoes;
use velocitas_lab::Lab;
use velocitas_record::{ActorId, Coming, Command, MemberId};

use super::stage::Stage;

impl Stage {
    /// What came with a member, there or gone; `None` before it first came.
    pub(super) fn body(&self, member: MemberId) -> Option<ActorId> {
        self.run.record().cast.body(self.machine(member), self.at)
    }

    /// What is looked at: a thing of the world, or what came with the selected member.
    pub(super) fn subject(&self) -> Option<ActorId> {
        match self.selected.thing {
            Some(thing) => self.run.record().cast.things().nth(thing),
            None => self.body(self.selected.entity),
        }
    }

    /// Its name, also where it is not there.
    pub(super) fn subject_name(&self) -> &str {
        match self.selected.thing {
            Some(thing) => self.run.course().things.get(thing).map_or("?", |thing| &thing.name),
            None => self.name(self.selected.entity),
        }
    }

    /// What is believed of it, as the viewer sees it.
    pub(super) fn echoes(&self) -> Echoes {
        let viewer = self.machine(self.selected.viewer);
        self.subject().map_or_else(Echoes::default, |subject| self.moment().echoes(subject, viewer))
    }

    /// The next thing to look at, members first.
    pub(super) fn look_on(&mut self, on: bool) {
        let (members, things) = (self.run.course().cast.len(), self.run.course().things.len());
        let now = self.selected.thing.map_or(self.selected.entity.index(), |thing| members + thing);
        let count = members + things;
        let next = (now + if on { 1 } else { count - 1 }) % count;
        self.selected.thing = next.checked_sub(members);
        if let Some(member) = self.run.course().members().nth(next) {
            self.selected.entity = member;
        }
    }

    /// A member comes or goes, if it can.
    pub(super) fn comes_or_goes(&mut self, member: MemberId, coming: Coming) {
        let name = self.name(member).to_owned();
        match self.ask_lab(|lab| lab.runs(member) == coming.comes()) {
            Ok(false) => {}
            Ok(true) => {
                let is = if coming.comes() { "is there" } else { "is not there: r brings it back" };
                return self.say(format!("{name} {is}"));
            }
            Err(why) => return self.say(why),
        }
        let gone = f64::from(self.run.course().patience.gone_ms) / 1000.0;
        let (words, says) = match coming {
            Coming::Join | Coming::Return => ("coming", "comes: it asks the server to join".to_owned()),
            Coming::Leave => ("leaving", "says goodbye".to_owned()),
            Coming::Crash => ("crashing", format!("crashed; the server misses it after {gone:.0} s; r brings it back")),
        };
        let commands = vec![Command::Moves(member, coming)];
        self.do_or_offer(format!("{name} {words}"), commands, Some(format!("{name} {says}")));
    }

    /// What is amiss first is mended, or else the selected machine.
    pub(super) fn mend(&mut self) {
        let shows = self.facts.as_ref().and_then(|f| f.amiss.first()).map(Amiss::machine);
        let shown = shows.and_then(|machine| self.run.course().player(machine));
        let remedies =
            |lab: &Lab, member| -> Vec<&str> { lab.faults(member).iter().map(|fault| fault.spec().remedy).collect() };
        let first = |lab: &Lab| {
            let asked = shown.into_iter().chain([self.selected.entity]);
            asked.map(|member| (member, remedies(lab, member))).find(|(_, remedies)| !remedies.is_empty())
        };
        match self.ask_lab(first) {
            Ok(Some((member, remedies))) => {
                let name = self.name(member);
                let (words, says) = (format!("{name} mended"), format!("mended {name}: {}", remedies.join("; ")));
                self.do_or_offer(words, vec![Command::Mend(member)], Some(says));
            }
            Ok(None) => {
                self.say("no machine that shows a fault was given one on purpose: there is nothing to mend");
            }
            Err(why) => self.say(why),
        }
    }
}
