//! What it costs that others are told of nobody's private fields, and of no key before it is pressed: their steps made from what travels, against the
//! server's own.

use velocitas::lab::{Course, Run};
use velocitas_core::{Input, Scene, State, checked_step};
use velocitas_record::{ActorId, KnownTo, LabTime, MachineId, RecordTick};

use crate::documents::{document, is_current};
use crate::netcode::with;

const PAGE: &str = "docs/netcode.md";

/// What somebody's ticks are made again from.
#[derive(Clone, Copy)]
enum From {
    /// The server's state, and every input.
    All,
    /// What others are told of the state, the rest at its start, and every input.
    Told,
    /// The same, and the last input known, held on.
    Held,
}

/// Its ticks made again.
struct Again<'a> {
    run: &'a Run,
    machine: MachineId,
    actor: ActorId,
}

impl Again<'_> {
    /// As a step reads it; `None` where nothing was given for the tick, or the one before.
    fn input(&self, tick: RecordTick) -> Option<Input> {
        let rows = &self.run.record().of(self.machine).own(self.actor)?.inputs;
        let sampled = |tick| rows.of_tick(tick).and_then(|row| rows.sampled(&row));
        let (now, before) = (sampled(tick)?, sampled(RecordTick(tick.0 - 1))?);
        Some(self.run.course().kinds.motion(self.kind()).schema().presses_since(&now, &before))
    }

    fn kind(&self) -> u8 {
        self.run.record().cast.actors[self.actor.index()].kind
    }

    /// How far from where the server had it, so many ticks after one.
    fn off(&self, from: From, tick: RecordTick, ticks: u32) -> Option<f32> {
        let (record, course, kind) = (self.run.record(), self.run.course(), self.kind());
        let (track, rule) = (record.authority(self.actor), course.kinds.motion(kind));
        let state = |tick| track.of_tick(tick).map(|i| track.state(i));
        let begin: State = state(tick)?;
        let mut made = match from {
            From::All => begin,
            From::Told | From::Held => {
                let mut seen = rule.schema().seen(&begin);
                let start = rule.spawn(seen.vec3(0), 0.0);
                rule.schema().keep_private(&mut seen, &start);
                seen
            }
        };
        let ground = course.ground(KnownTo::Server);
        let tunables = &course.tunables(KnownTo::Server)[usize::from(kind)];
        let mut held = self.input(tick)?;
        for n in 1..=ticks {
            let tick = RecordTick(tick.0 + n);
            let given = self.input(tick)?;
            held = rule.schema().held_on(&held);
            let input = if matches!(from, From::Held) { held } else { given };
            let scene =
                Scene { tick: tick.tick(record.cast.first), dt: record.cast.rate.dt(), ground: &ground, tunables };
            made = checked_step(rule, &scene, &made, &input).ok()?.state;
        }
        Some(made.vec3(0).distance(state(RecordTick(tick.0 + ticks))?.vec3(0)))
    }
}

/// The 95th percentile and the largest, in centimetres, over all who run about on fibre: nothing of theirs is lost.
fn off(run: &Run, from: From, ticks: u32) -> (f32, f32) {
    let cast = &run.record().cast;
    let mut all = Vec::new();
    for machine in cast.players() {
        let Some(actor) = cast.body(machine, run.now()) else { continue };
        let again = Again { run, machine, actor };
        all.extend((60..1740).step_by(7).filter_map(|tick| again.off(from, RecordTick(tick), ticks)));
    }
    assert!(all.len() > 400, "{}", all.len());
    all.sort_by(f32::total_cmp);
    (all[all.len() * 95 / 100] * 100.0, all[all.len() - 1] * 100.0)
}

#[test]
fn what_others_are_not_told_costs_what_the_page_says() {
    let path = format!("{}/../../courses/links/fibre.course.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("it ships");
    let course = Course::parse(&path, &text, &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut run = Run::new(course).expect("it fits");
    run.advance(LabTime::from_secs(30.0));
    let mut lines = String::from(
        "| foreseen for | what others are told, and every input | the same, and the last input held on |\n|---|---|---|\n",
    );
    for ticks in [6, 12, 24] {
        let (all, told, held) =
            (off(&run, From::All, ticks), off(&run, From::Told, ticks), off(&run, From::Held, ticks));
        assert_eq!(all, (0.0, 0.0), "from all that the server has its ticks come out to the bit");
        assert!(held.0 > told.0, "{ticks}");
        let cell = |(usual, most): (f32, f32)| format!("{usual:.1} cm ({most:.0} cm)");
        lines += &format!("| {} ms | {} | {} |\n", ticks * 1000 / 60, cell(told), cell(held));
    }
    is_current(PAGE, &with(&document(PAGE), "measured private", &lines));
}
