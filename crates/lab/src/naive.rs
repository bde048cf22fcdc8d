//! Checks that are often written first, to be seen failing: a table. Each takes the place of all the guard's own, through the same
//! trait; a course switches it on by `[guard] checks = "…"`. The guard itself knows nothing of any of them.

use velocitas_core::{Body, Check, ClaimCase, Finding, Rule, Tick, Vec3};

/// What is wrong with a check.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fails {
    /// It accuses who did nothing.
    AccusesTheHonest,
    /// It lets a rogue go.
    MissesTheCheat,
}

/// A row of the table.
#[derive(Clone, Copy, Debug)]
pub struct NaiveSpec {
    /// Its name, as courses write it.
    pub name: &'static str,
    /// What it does, in a line.
    pub help: &'static str,
    /// How it fails.
    pub fails: Fails,
    /// Why, in a line.
    pub why: &'static str,
    /// Whether others' clients look, at what they draw, and the server does not.
    pub is_of_clients: bool,
    make: fn() -> Box<dyn Check>,
}

impl NaiveSpec {
    /// What the server checks.
    pub fn checks(&self) -> Vec<Box<dyn Check>> {
        if self.is_of_clients { Vec::new() } else { vec![self.check()] }
    }

    /// The check, as it is before anything was seen.
    pub(crate) fn check(&self) -> Box<dyn Check> {
        (self.make)()
    }

    /// The row of a name.
    pub fn named(name: &str) -> Option<&'static Self> {
        NAIVE.iter().find(|row| row.name == name)
    }
}

/// The table.
pub static NAIVE: [NaiveSpec; 7] = [
    NaiveSpec {
        name: "server tick",
        help: "the way within a tick of the server, over a tick",
        fails: Fails::AccusesTheHonest,
        why: "packets come in bunches: what was many ticks to its owner is one to the server",
        is_of_clients: false,
        make: || Box::new(ServerTick::default()),
    },
    NaiveSpec {
        name: "arrival",
        help: "the way from one arrival to the next, over the time between them",
        fails: Fails::AccusesTheHonest,
        why: "the time between arrivals is the link's, not the owner's: jitter is taken for speed",
        is_of_clients: false,
        make: || Box::new(Arrival::default()),
    },
    NaiveSpec {
        name: "no slack",
        help: "the way of each claim, over its ticks, with nothing allowed for rounding",
        fails: Fails::AccusesTheHonest,
        why: "places travel rounded: at top speed every other claim is a little too far",
        is_of_clients: false,
        make: || Box::new(NoSlack),
    },
    NaiveSpec {
        name: "single move",
        help: "the way of each claim, over its ticks, with slack and rounding, and nothing else",
        fails: Fails::MissesTheCheat,
        why: "what a single move must allow for rounding adds up over many",
        is_of_clients: false,
        make: || Box::new(SingleMove),
    },
    NaiveSpec {
        name: "collisions again",
        help: "the body as it is, moved again from one claimed place to the next",
        fails: Fails::AccusesTheHonest,
        why: "who walks along a wall touches it, and rounding puts it in: the same move again meets what it grazed",
        is_of_clients: false,
        make: || Box::new(CollisionsAgain),
    },
    NaiveSpec {
        name: "teleport threshold",
        help: "a jump of more than five metres in a claim",
        fails: Fails::MissesTheCheat,
        why: "nobody who runs three times too fast goes five metres in a tick",
        is_of_clients: false,
        make: || Box::new(Teleport),
    },
    NaiveSpec {
        name: "other clients",
        help: "at everybody else's client: how far somebody is drawn from where it was drawn a tick before",
        fails: Fails::AccusesTheHonest,
        why: "what others see is late, blended and made up where datagrams are missing: when the truth comes, it leaps",
        is_of_clients: true,
        make: || Box::new(SingleMove),
    },
];

/// From where it was when the server's tick began in which it arrived.
#[derive(Clone, Copy, Debug, Default)]
struct ServerTick {
    began: Option<(Tick, Vec3)>,
}

impl Check for ServerTick {
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let (_, at) = match self.began {
            Some((tick, at)) if tick == case.arrived => (tick, at),
            _ => *self.began.insert((case.arrived, case.start)),
        };
        let lawful = case.limits.level * (1.0 + case.limits.slack) * case.scene.dt + case.rounding();
        case.finding(Rule::Reach, (case.end - at).level().length(), lawful)
    }

    fn clear(&mut self) {
        self.began = None;
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}

/// From what arrived before.
#[derive(Clone, Copy, Debug, Default)]
struct Arrival {
    last: Option<(Tick, Vec3)>,
}

impl Check for Arrival {
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let last = self.last.replace((case.arrived, case.end));
        let Some((tick, at)) = last else { return Finding::Nothing };
        let ticks = case.arrived.since(tick).max(0);
        let seconds = ticks as f32 * case.scene.dt;
        let lawful = case.limits.level * (1.0 + case.limits.slack) * seconds + case.rounding();
        case.finding(Rule::Reach, (case.end - at).level().length(), lawful)
    }

    fn clear(&mut self) {
        self.last = None;
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}

#[derive(Clone, Copy, Debug)]
struct NoSlack;

impl Check for NoSlack {
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let way = (case.end - case.start).level().length();
        case.finding(Rule::Reach, way, case.limits.level * case.seconds())
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}

#[derive(Clone, Copy, Debug)]
struct SingleMove;

impl Check for SingleMove {
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        case.finding(Rule::Reach, (case.end - case.start).level().length(), case.lawful_way())
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}

#[derive(Clone, Copy, Debug)]
struct CollisionsAgain;

impl Check for CollisionsAgain {
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        let body: Body = case.motion.body();
        let moved = case.start.distance(case.end);
        match case.scene.ground.sweep(&body, case.start, case.end) {
            Some(hit) if moved > 0.0 => case.finding(Rule::Sweep, moved, moved * hit.fraction),
            _ => Finding::Nothing,
        }
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}

/// What counts as a teleport, in metres.
const FAR: f32 = 5.0;

#[derive(Clone, Copy, Debug)]
struct Teleport;

impl Check for Teleport {
    fn judge(&mut self, case: &ClaimCase<'_>) -> Finding {
        case.finding(Rule::Reach, case.start.distance(case.end), FAR)
    }

    fn copy(&self) -> Box<dyn Check> {
        Box::new(*self)
    }
}
