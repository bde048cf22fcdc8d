//! What keys do on the Rules screen: choose and turn tunables, scroll.

use velocitas_record::{Command, Reach, turned};

use super::{Both, Rules};
use crate::tui::stage::Stage;

impl Rules {
    /// Turns the chosen tunable, on the selected entity's machine or on all.
    pub(super) fn tune(&self, stage: &mut Stage, up: bool, all: bool) {
        let (chosen, entity) = (self.tunable, stage.selected.entity);
        let kind = stage.run.course()[entity].kind;
        let found = stage.ask_lab(|lab| {
            let here = lab.known(entity);
            let tunables = here.kinds.motion(kind).tunables();
            // Another rule may have fewer: then its last one is chosen, as it is drawn.
            let chosen = chosen.min(tunables.len().saturating_sub(1));
            let spec = tunables.get(chosen)?;
            Some((*spec, here.tunables[usize::from(kind)].get(chosen).copied().unwrap_or(spec.default)))
        });
        let (spec, now) = match found {
            Ok(Some(found)) => found,
            Ok(None) => return,
            Err(why) => return stage.say(why),
        };
        let reach = if all { Reach::All } else { Reach::One(stage.machine(entity)) };
        // Turned further, it is offered further.
        let offered = stage.branching.offered.as_ref().and_then(|offer| match offer.change.commands.first() {
            Some(Command::Tune { kind: of, tunable, value, reach: r })
                if (*of, *tunable, *r) == (kind, spec.name, reach) =>
            {
                Some(*value)
            }
            _ => None,
        });
        let value = turned(&spec, offered.unwrap_or(now), up);
        stage.tunes(kind, &spec, value, reach, !all);
    }

    pub(super) fn choose(&mut self, stage: &Stage, down: bool) {
        let count = Both::of(stage).rule().tunables().len().max(1);
        let now = self.tunable.min(count - 1);
        self.tunable = (now + if down { 1 } else { count - 1 }) % count;
    }

    pub(super) fn scroll(&mut self, stage: &Stage, down: bool) {
        let kind = stage.run.course()[stage.selected.entity].kind;
        let most = stage.edits.source(kind).map_or(0, |s| s.said.text.lines().count().saturating_sub(8));
        let page = 12;
        self.scroll = if down { (self.scroll + page).min(most) } else { self.scroll.min(most).saturating_sub(page) };
    }
}
