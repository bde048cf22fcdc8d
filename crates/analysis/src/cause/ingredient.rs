//! Everything in which two sides of a tick can differ: a table. Each row finds what of it is present in a case, exchanges it,
//! and says what it was. A new source of difference enters its row here.

use velocitas_core::{Contacts, Provenance, SolidId};
use velocitas_record::ids::RecordTick;
use velocitas_record::world::KnownTo;

use super::Cause;
use super::case::{Both, Case, Turn};
use super::mind::Mind;
use crate::held::delayed;

/// One thing that differs between the two sides of a case.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Ingredient {
    pub(super) source: &'static Source,
    pub(super) what: What,
}

/// Which one, where a source may have several.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum What {
    /// There is only one.
    All,
    /// What happened in one tick.
    Tick(RecordTick),
    Solid(SolidId),
    Tunable(&'static str),
}

/// A row of the table.
#[derive(Debug)]
pub(super) struct Source {
    /// What it is.
    pub(super) name: &'static str,
    /// What of it is present; told what the two sides touched.
    find: fn(&Case<'_>, &Touched) -> Vec<What>,
    /// Gives the client's side the server's.
    pub(super) exchange: Exchange,
    /// What it is as a cause.
    cause: fn(&Case<'_>, What) -> Cause,
}

impl PartialEq for Source {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}

/// What an exchange works on: what is done in a tick, or what is known in it.
#[derive(Debug)]
pub(super) enum Exchange {
    Turn(fn(&Both, What, &mut Turn)),
    Mind(fn(&Mind, What, &mut Mind)),
}

/// Solids touched by either side's steps.
pub(super) type Touched = Vec<SolidId>;

/// Adds what a step touched.
pub(super) fn touch(touched: &mut Touched, contacts: &Contacts) {
    let new: Touched = contacts.iter().filter(|id| !touched.contains(id)).collect();
    touched.extend(new);
}

/// The table. Where one alone of several would do, the first of them is named: what is done to one entity once before what is so
/// for good, and what somebody gave before what was made of it.
static SOURCES: [Source; 8] = [
    Source {
        name: "put elsewhere",
        find: |case, _| ticks(case, |both| both.there.put.is_some()),
        exchange: Exchange::Turn(|both, what, turn| {
            if what == What::Tick(both.tick) {
                turn.put = both.there.put;
            }
        }),
        cause: |_, what| Cause::Teleported(tick(what)),
    },
    Source {
        name: "pushed",
        find: |case, _| ticks(case, |both| both.there.push != velocitas_core::Vec3::ZERO),
        exchange: Exchange::Turn(|both, what, turn| {
            if what == What::Tick(both.tick) {
                turn.push = both.there.push;
            }
        }),
        cause: |_, what| Cause::Pushed(tick(what)),
    },
    Source {
        name: "one-sided solid",
        find: |case, touched| {
            let one_sided = |id: &&SolidId| case.minds.iter().any(|m| m.here.knows(**id) != m.there.knows(**id));
            touched.iter().filter(one_sided).map(|id| What::Solid(*id)).collect()
        },
        exchange: Exchange::Mind(|there, what, mind| {
            if let What::Solid(id) = what
                && let Some(known) = mind.solids.get_mut(usize::from(id.0))
            {
                *known = there.knows(id);
            }
        }),
        cause: |case, what| {
            let id = if let What::Solid(id) = what { id } else { SolidId::FLOOR };
            // Where it came to be or went in between, as it was when it made a difference first.
            let sides = case.minds.iter().map(|m| KnownTo::of(m.there.knows(id), m.here.knows(id)));
            Cause::OneSided(id, sides.into_iter().find(|s| is_one_sided(*s)).unwrap_or(KnownTo::All))
        },
    },
    Source {
        name: "tunable",
        find: |case, _| {
            let mut differ = Vec::new();
            for stretch in &case.minds {
                for spec in stretch.there.rule.tunables() {
                    let sides = [&stretch.here, &stretch.there];
                    let [here, there] = sides.map(|mind| mind.tunable(spec.name));
                    // What each has by its rule is the rule's.
                    let is_turned = sides.iter().any(|mind| mind.is_turned(spec.name));
                    let differs = here.is_some() && here != there && is_turned;
                    if differs && !differ.contains(&What::Tunable(spec.name)) {
                        differ.push(What::Tunable(spec.name));
                    }
                }
            }
            differ
        },
        exchange: Exchange::Mind(|there, what, mind| {
            if let What::Tunable(name) = what {
                there.tunable(name).into_iter().for_each(|value| mind.tune(name, value));
            }
        }),
        cause: tunable,
    },
    Source {
        name: "rule",
        find: |case, _| {
            let other = case.minds.iter().any(|m| m.here.version != m.there.version);
            other.then_some(What::All).into_iter().collect()
        },
        exchange: Exchange::Mind(|there, _, mind| mind.take_rule(there)),
        cause: |case, _| Cause::OtherRule(case.kind),
    },
    Source {
        name: "ticks the client passed over",
        find: |case, _| any(case, |both| !both.here.made && both.there.made),
        exchange: Exchange::Turn(|both, _, turn| turn.made |= both.there.made),
        cause: |case, _| Cause::ClientSkipped(count(case, |both| !both.here.made && both.there.made)),
    },
    Source {
        name: "ticks the server passed over",
        find: |case, _| any(case, |both| both.here.made && !both.there.made),
        exchange: Exchange::Turn(|both, _, turn| turn.made &= both.there.made),
        cause: |case, _| Cause::ServerSkipped(count(case, |both| both.here.made && !both.there.made)),
    },
    Source {
        name: "inputs",
        find: |case, _| any(case, differs),
        exchange: Exchange::Turn(|both, _, turn| {
            if both.there.made {
                turn.input = both.there.input;
            }
        }),
        cause: inputs,
    },
];

/// What is present in a case, in the order of the table.
pub(super) fn present(case: &Case<'_>, touched: &Touched) -> Vec<Ingredient> {
    let of =
        |source: &'static Source| (source.find)(case, touched).into_iter().map(move |what| Ingredient { source, what });
    SOURCES.iter().flat_map(of).collect()
}

impl Ingredient {
    /// What it is as a cause.
    pub(super) fn cause(&self, case: &Case<'_>) -> Cause {
        (self.source.cause)(case, self.what)
    }
}

const fn is_one_sided(side: KnownTo) -> bool {
    matches!(side, KnownTo::Server | KnownTo::Clients)
}

/// The ticks of a case in which something is so.
fn ticks(case: &Case<'_>, is: impl Fn(&Both) -> bool) -> Vec<What> {
    case.ticks.iter().filter(|both| is(both)).map(|both| What::Tick(both.tick)).collect()
}

fn any(case: &Case<'_>, is: impl Fn(&Both) -> bool) -> Vec<What> {
    case.ticks.iter().any(is).then_some(What::All).into_iter().collect()
}

fn count(case: &Case<'_>, is: impl Fn(&Both) -> bool) -> u64 {
    case.ticks.iter().filter(|both| is(both)).count() as u64
}

fn tick(what: What) -> RecordTick {
    if let What::Tick(tick) = what { tick } else { RecordTick::default() }
}

/// Whether both read something else in a tick.
fn differs(both: &Both) -> bool {
    both.there.made && both.here.input != both.there.input
}

fn tunable(case: &Case<'_>, what: What) -> Cause {
    let name = if let What::Tunable(name) = what { name } else { "" };
    let values = |m: &super::mind::Stretch| Some((m.here.tunable(name)?, m.there.tunable(name)?));
    let (here, there) = case.minds.iter().filter_map(values).find(|(a, b)| a != b).unwrap_or_default();
    let rule = case.minds.first().map(|m| m.there.rule.clone());
    let unit = rule.and_then(|rule| rule.tunables().iter().find(|t| t.name == name).map(|t| t.unit));
    Cause::Differs { tunable: name, unit: unit.unwrap_or("1"), here, there }
}

/// What came between the hands and the server's steps.
fn inputs(case: &Case<'_>, _: What) -> Cause {
    let (machine, actor) = (case.machine, case.actor);
    let other: Vec<&Both> = case.ticks.iter().filter(|both| differs(both)).collect();
    if other.iter().any(|both| !both.owned) {
        return Cause::NotOwner;
    }
    let span = |ticks: &[RecordTick]| Some((*ticks.first()?, *ticks.last()?));
    let missed = |both: &&&Both| both.provenance.is_some_and(|how| how != Provenance::Fresh);
    let made_up: Vec<RecordTick> = other.iter().filter(missed).map(|both| both.tick).collect();
    // A press whose tick was missed is played in the next that arrives: that one differs, and is as it was sent.
    let made_up = span(&made_up).or_else(|| case.missed_before(other.first()?.tick));
    if let Some((first, last)) = made_up {
        let own = case.record.of(machine).own(actor);
        let mut rows = (first.0..=last.0).filter_map(|tick| own?.inputs.of_tick(RecordTick(tick)));
        let by_stream = rows.any(|row| delayed(case.record, machine, actor, &row).is_some());
        return if by_stream {
            Cause::HeldBack { machine, actor, first, last }
        } else {
            Cause::MadeUp { machine, actor, first, last }
        };
    }
    // After ticks that it passed over the server reads at once what was pressed in them.
    let over = other.iter().map(|both| case.passed_over_before(both.tick)).collect::<Option<Vec<u64>>>();
    if let Some(most) = over.into_iter().flatten().max() {
        return Cause::ServerSkipped(most);
    }
    let all: Vec<RecordTick> = other.iter().map(|both| both.tick).collect();
    let (first, last) = span(&all).unwrap_or_default();
    Cause::Altered { first, last }
}
