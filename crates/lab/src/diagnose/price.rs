//! What each value of one setting would have cost in a stretch: branches on the same luck, with the setting at that value from a while
//! before the stretch on.

use velocitas_analysis::cause::shown;
use velocitas_analysis::metrics::{ClientMetrics, measure_all};
use velocitas_core::Tunable;
use velocitas_record::command::Command;
use velocitas_record::ids::{MachineId, MemberId};
use velocitas_record::knob::KnobValue;
use velocitas_record::known::{Reach, turned};
use velocitas_record::settings::Knob;
use velocitas_record::time::LabTime;

use super::{DiagnoseError, branch_end};
use crate::run::Run;

/// So long before the stretch the setting is turned, so that what follows it slowly has settled: a view
/// delay that is left to the machine takes a better link for the old one with luck until it has seen it for some seconds.
const SETTLES: LabTime = LabTime(8_000_000_000);
/// So many notches to either side are tried.
const NOTCHES: usize = 5;
/// Where a setting is left to the machine there is nothing to be near to: of all notches every so many are tried.
const SPARSE: usize = 2;

/// Something that can be turned, and how it is set.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Turn {
    /// A knob of one member.
    Knob(Knob, KnobValue),
    /// A tunable of a rule, for all machines.
    Tunable {
        /// The number of the rule.
        kind: u8,
        /// Which.
        spec: Tunable,
        /// Its value.
        value: f32,
    },
}

impl Turn {
    /// What it is called.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Knob(knob, _) => knob.spec().name,
            Self::Tunable { spec, .. } => spec.name,
        }
    }

    /// Its value with its unit.
    pub fn words(&self) -> String {
        match self {
            Self::Knob(knob, value) => shown(*knob, *value),
            Self::Tunable { spec, value, .. } if spec.unit == "1" => value.to_string(),
            Self::Tunable { spec, value, .. } => format!("{value} {}", spec.unit),
        }
    }

    /// The command that sets it for a member; a tunable for all.
    pub const fn command(&self, member: MemberId) -> Command {
        match *self {
            Self::Knob(knob, value) => Command::Set { member, knob, value },
            Self::Tunable { kind, spec, value } => Command::Tune { kind, tunable: spec.name, value, reach: Reach::All },
        }
    }

    /// One notch further; `None` at the end.
    fn notch(self, up: bool) -> Option<Self> {
        let next = match self {
            Self::Knob(knob, value @ KnobValue::Switch(on)) => {
                Self::Knob(knob, if on == up { value } else { KnobValue::Switch(up) })
            }
            Self::Knob(knob, value) => Self::Knob(knob, knob.turned(value, up)),
            Self::Tunable { kind, spec, value } => Self::Tunable { kind, spec, value: turned(&spec, value, up) },
        };
        (next != self).then_some(next)
    }

    /// The notches to one side, from here on.
    fn notches(self, up: bool) -> impl Iterator<Item = Self> {
        std::iter::successors(self.notch(up), move |turn| turn.notch(up))
    }

    /// Whether a command sets the same.
    fn is_set_by(&self, command: &Command, whose: MemberId) -> bool {
        match (self, command) {
            (Self::Knob(knob, _), Command::Set { member, knob: of, .. }) => (whose, knob) == (*member, of),
            (Self::Tunable { kind, spec, .. }, Command::Tune { kind: of, tunable, .. }) => {
                kind == of && spec.name == *tunable
            }
            _ => false,
        }
    }
}

/// A setting whose values are to be priced over a stretch.
#[derive(Clone, Debug, PartialEq)]
pub struct PriceCase {
    member: MemberId,
    machine: MachineId,
    /// From when on the setting is turned.
    begins: LabTime,
    /// The stretch: whole seconds.
    pub stretch: (LabTime, LabTime),
    /// The values, from the lowest on.
    pub values: Vec<Turn>,
    /// Which of them is in force.
    pub in_force: usize,
}

impl PriceCase {
    /// Of a setting of a member, as it is set, over the whole seconds of the `lasts` before a moment.
    ///
    /// # Errors
    /// When no whole second of that is kept.
    pub fn of(run: &Run, member: MemberId, turn: Turn, (at, lasts): (LabTime, LabTime)) -> Result<Self, DiagnoseError> {
        let second = 1_000_000_000;
        let kept = run.record().kept_from;
        let to = LabTime(at.0 / second * second);
        let from = to.minus(lasts).max(LabTime(kept.0.div_ceil(second) * second));
        if from >= to {
            return Err(DiagnoseError::Stretch(kept, run.now()));
        }
        let mut values: Vec<Turn> = turn.notches(false).take(NOTCHES).collect();
        values.reverse();
        let in_force = values.len();
        values.push(turn);
        match turn {
            Turn::Knob(_, KnobValue::Auto) => values.extend(turn.notches(true).step_by(SPARSE).take(2 * NOTCHES)),
            _ => values.extend(turn.notches(true).take(NOTCHES)),
        }
        let (machine, begins) = (run.course().machine(member), from.minus(SETTLES).max(kept));
        Ok(Self { member, machine, begins, stretch: (from, to), values, in_force })
    }

    /// The figures of the member over the stretch with each value, by its place, in the order in which they are worth having: the one in force,
    /// then the nearest. `run` is the one that it was asked of.
    pub fn prices(&self, run: &Run) -> impl Iterator<Item = (usize, ClientMetrics)> + '_ {
        let before = run.branch(self.begins).map(|mut before| {
            before.forget_before(self.begins);
            // What was set later would hide it.
            before.forget_commands(|command| self.values[0].is_set_by(command, self.member));
            before
        });
        let mut order: Vec<usize> = (0..self.values.len()).collect();
        order.sort_by_key(|place| place.abs_diff(self.in_force));
        before.into_iter().flat_map(move |before| {
            let price = move |place| (place, self.price(before.clone(), place));
            order.clone().into_iter().map(price)
        })
    }

    fn price(&self, mut branch: Run, place: usize) -> ClientMetrics {
        branch.command(self.values[place].command(self.member));
        let (from, to) = self.stretch;
        branch.advance(branch_end(to));
        measure_all(branch.found(), self.machine, from, LabTime(to.0 - 1)).0
    }
}
