//! Who comes, goes and is given what, when: from the file's words, and whether it can happen in that order.

use std::ops::Range;

use toml::Spanned;
use velocitas_record::ids::MemberId;
use velocitas_record::time::LabTime;

use super::resolve::{Resolver, Result, time};
use super::{Coming, Course, Happens, Owned, What, file, script};

/// What comes again is followed for so long, and so often, when it is asked whether it can happen.
const FOLLOWED: LabTime = LabTime(600_000_000_000);
const MOST_TIMES: u64 = 2000;

/// What somebody is at a moment.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Whereabouts {
    NotYet,
    There,
    Away,
}

impl Resolver<'_> {
    /// Somebody's coming or going in an event, if it is one.
    pub(super) fn coming(&self, course: &Course, e: &script::Event) -> Result<Option<What>> {
        let said = [&e.join, &e.leave, &e.crash, &e.come_back];
        let Some((who, coming)) = said.into_iter().zip(Coming::ALL).find_map(|(who, c)| Some((who.as_ref()?, c)))
        else {
            return Ok(None);
        };
        Ok(Some(What::Moves(self.one_of(course, &who.who)?, coming)))
    }

    /// A change of owners in an event.
    pub(super) fn change_of_owners(&self, course: &Course, own: &script::Own) -> Result<What> {
        let mut known: Vec<(&str, Owned)> =
            course.things.iter().enumerate().map(|(i, thing)| (thing.name.as_str(), Owned::Thing(i))).collect();
        known.extend(course.members().map(|m| (course[m].name.as_str(), Owned::Body(m))));
        let what = self.word(&own.what, "a thing or a member of the cast", &known)?;
        Ok(What::Own(what, self.owners(course, &own.by)?))
    }

    /// Who gives something orders.
    pub(super) fn owners(&self, course: &Course, names: &[Spanned<String>]) -> Result<Vec<MemberId>> {
        let most = velocitas_core::MOST_OWNERS;
        if let Some(one_more) = names.get(most) {
            return Err(self.wrong(one_more.span(), format!("expected at most {most} owners; found {}", names.len())));
        }
        let mut owners = Vec::new();
        for name in names {
            let owner = self.one_of(course, name)?;
            if owners.contains(&owner) {
                return Err(
                    self.wrong(name.span(), format!("expected each owner once; found `{}` twice", name.get_ref()))
                );
            }
            owners.push(owner);
        }
        Ok(owners)
    }

    fn one_of(&self, course: &Course, name: &Spanned<String>) -> Result<MemberId> {
        let names: Vec<(&str, MemberId)> = course.members().map(|m| (course[m].name.as_str(), m)).collect();
        self.word(name, "a member of the cast", &names)
    }

    /// Whether everybody can come and go as they are said to: each in its own order. `spans` are the places of events.
    pub(super) fn in_order(&self, course: &Course, spans: &[Range<usize>]) -> Result<()> {
        let mut times: Vec<(LabTime, usize)> = Vec::new();
        for (i, event) in course.events.iter().enumerate() {
            if !matches!(event.what, What::Moves(..) | What::Own(Owned::Body(_), _)) {
                continue;
            }
            times.push((event.at, i));
            if let Some(every) = event.every {
                let again = (1..MOST_TIMES).map(|n| LabTime(event.at.0 + n * every.0));
                times.extend(again.take_while(|at| *at <= FOLLOWED).map(|at| (at, i)));
            }
        }
        times.sort_unstable();
        let mut all: Vec<Whereabouts> =
            course.members().map(|m| if course[m].there { Whereabouts::There } else { Whereabouts::NotYet }).collect();
        for (at, i) in times {
            let event = &course.events[i];
            self.can_happen(course, event, at, &mut all).map_err(|message| self.wrong(spans[i].clone(), message))?;
        }
        Ok(())
    }

    fn can_happen(
        &self,
        course: &Course,
        event: &Happens,
        at: LabTime,
        all: &mut [Whereabouts],
    ) -> std::result::Result<(), String> {
        let (member, wanted) = match &event.what {
            What::Moves(member, Coming::Join) => (*member, Whereabouts::NotYet),
            What::Moves(member, Coming::Return) => (*member, Whereabouts::Away),
            What::Moves(member, _) | What::Own(Owned::Body(member), _) => (*member, Whereabouts::There),
            _ => return Ok(()),
        };
        let is = all[member.index()];
        if is != wanted {
            let named = |w| match w {
                Whereabouts::NotYet => "has not been there before",
                Whereabouts::There => "is there",
                Whereabouts::Away => "has left or crashed",
            };
            let name = &course[member].name;
            return Err(format!("expected somebody who {}; at {at} `{name}` {}", named(wanted), named(is)));
        }
        if let What::Moves(_, coming) = event.what {
            all[member.index()] = if coming.comes() { Whereabouts::There } else { Whereabouts::Away };
        }
        Ok(())
    }

    /// How long the server waits for a silent player.
    pub(super) fn silence(&self, silence: &file::Silence) -> Result<velocitas_core::Patience> {
        let usual = velocitas_core::Patience::DEFAULT;
        let millis = |q: Option<&Spanned<velocitas_record::quantity::Quantity<velocitas_record::quantity::Time>>>,
                      default: u32| { q.map_or(default, |q| time(*q.get_ref()).millis() as u32) };
        let patience = velocitas_core::Patience {
            hold_ms: millis(silence.hold.as_ref(), usual.hold_ms),
            gone_ms: millis(silence.gone.as_ref(), usual.gone_ms),
            keep_ms: millis(silence.keep.as_ref(), usual.keep_ms),
        };
        if let Some(gone) = silence.gone.as_ref().filter(|_| patience.gone_ms < 1000) {
            // A client that hitches is not gone.
            return Err(self.wrong(gone.span(), format!("expected 1 s or more; found {} ms", patience.gone_ms)));
        }
        if let Some(hold) = silence.hold.as_ref().filter(|_| patience.hold_ms > patience.gone_ms) {
            let message =
                format!("expected `hold` within `gone`, {} ms; found {} ms", patience.gone_ms, patience.hold_ms);
            return Err(self.wrong(hold.span(), message));
        }
        Ok(patience)
    }
}
