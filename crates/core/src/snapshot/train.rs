//! Writes the chances with which every datagram begins, from what the demo's entities did:
//!
//! ```text
//! velocitas run --for 60s --table /tmp/authority.csv
//! VELOCITAS_TRAIN=/tmp/authority.csv cargo test -p velocitas-core train -- --ignored
//! ```

use std::collections::BTreeMap;
use std::fmt::Write;
use std::sync::Arc;

use super::chances::{Chances, LENGTHS, OfClass};
use super::coded::{Coded, Decide, Notes};
use super::delta::{Context, Progress, Who, entity};
use super::range::{Chance, WHOLE};
use super::tests::Laid;
use super::*;
use crate::data::{STATE_LANES, State};
use crate::field::{Agree, Blend, SeenBy, Shape, StateField};
use crate::ids::EntityId;
use crate::motion::Motion;
use crate::quantiser::Quantiser;
use crate::schema::Schema;
use crate::session::Kinds;
use crate::tick::Tick;
use crate::wire::{Codes, Span};

/// Counts decisions by the chance that they are taken with.
#[derive(Default)]
struct Counting(BTreeMap<usize, (u32, u32)>);

impl Decide for &mut Counting {
    const READS: bool = false;

    fn decide(&mut self, chance: &mut Chance, yes: bool) -> bool {
        let counts = self.0.entry(std::ptr::from_ref(chance) as usize).or_default();
        if yes {
            counts.1 += 1;
        } else {
            counts.0 += 1;
        }
        yes
    }

    fn plain(&mut self, value: u32, _: u32) -> u32 {
        value
    }
}

impl Notes for &mut Counting {}

/// Fields as the demo's two rules have them, and where the lanes of each stand in the table.
fn rules() -> [(Schema, Vec<&'static str>); 2] {
    let field = |name, lane, shape, unit, (step, bits)| StateField {
        name,
        lane,
        shape,
        unit,
        wire: Quantiser::new(step, bits),
        agree: Agree::Exactly,
        blend: Blend::None,
        seen_by: SeenBy::All,
    };
    let turn = |bits: u32| (std::f32::consts::TAU / (1u32 << bits) as f32, bits);
    let common = |bearing, bits| {
        vec![
            field("pos", 0, Shape::Point, "m", (1.0 / 256.0, 18)),
            field("vel", 3, Shape::Vector, "m/s", (1.0 / 128.0, 14)),
            field(bearing, 6, Shape::Bearing, "1", turn(bits)),
        ]
    };
    let mut courier = common("facing", 10);
    courier.push(field("grounded", 7, Shape::Flag, "1", (1.0, 2)));
    let mut ferry = common("bow", 12);
    ferry.push(field("spin", 7, Shape::Number, "1/s", (1.0 / 256.0, 10)));
    ferry.push(field("grounded", 8, Shape::Flag, "1", (1.0, 2)));
    let lanes = |last: &[&'static str]| [&["pos.x", "pos.y", "pos.z", "vel.x", "vel.y", "vel.z"], last].concat();
    [
        (Schema { state: courier, input: Vec::new() }, lanes(&["facing", "grounded"])),
        (Schema { state: ferry, input: Vec::new() }, lanes(&["bow", "spin", "grounded"])),
    ]
}

/// By tick, of each entity its rule and its state.
fn table(text: &str) -> BTreeMap<u64, BTreeMap<String, (u8, State)>> {
    let mut lines = text.lines();
    let names: Vec<&str> = lines.next().expect("a head").split(',').collect();
    let mut all: BTreeMap<u64, BTreeMap<String, (u8, State)>> = BTreeMap::new();
    let rules = rules();
    for line in lines {
        let row: BTreeMap<&str, &str> = names.iter().copied().zip(line.split(',')).collect();
        let rule = u8::from(!row["bow"].is_empty());
        let mut state = State::default();
        for (lane, name) in rules[usize::from(rule)].1.iter().enumerate() {
            match row[name] {
                "true" => state.set_flag(lane, true),
                "false" => state.set_flag(lane, false),
                real => state.set_real(lane, real.parse().expect("a number")),
            }
        }
        let tick = row["tick"].parse().expect("a tick");
        all.entry(tick).or_default().insert(row["entity"].to_owned(), (rule, state));
    }
    all
}

#[test]
#[ignore = "writes the table of chances: see above"]
fn train() {
    let path = std::env::var("VELOCITAS_TRAIN").expect("the table of the demo's states");
    let ticks = table(&std::fs::read_to_string(path).expect("it can be read"));
    let kinds = Kinds::new(rules().map(|(schema, _)| Arc::new(Laid(schema)) as Arc<dyn Motion>).to_vec());
    let kinds = kinds.expect("sound schemas");
    let moment = |tick: u64, entities: &BTreeMap<String, (u8, State)>| {
        let mut moment = Moment::new(Tick(tick), kinds.clone());
        for (index, (kind, state)) in (0..).zip(entities.values()) {
            moment.tell_state((EntityId::first(index), *kind, 0), state);
        }
        Arc::new(moment)
    };
    let mut counting = Counting::default();
    let mut coded = Coded::counting(&mut counting);
    for back in [3u64, 6, 6, 6, 9, 12] {
        for (tick, entities) in &ticks {
            let Some(before) = tick.checked_sub(back).and_then(|tick| ticks.get(&tick)) else { continue };
            let has = Has::new(moment(tick - back, before), Vec::new());
            let context = Context { kinds: &kinds, base: Some((&has, Span::new(back as u32, 1.0 / 60.0))) };
            let mut progress = Progress::new();
            for (told, codes) in moment(*tick, entities).iter() {
                let mut now: Codes = [0; STATE_LANES];
                now[..codes.len()].copy_from_slice(codes);
                let mut who = Who { id: told.id, kind: told.kind, teleports: told.teleports };
                entity(&mut coded, &context, &mut progress, (&mut who, &mut now)).expect("it is within its ranges");
            }
        }
    }
    let chances = coded.into_chances();
    std::fs::write("src/snapshot/trained.rs", written(&chances, &counting)).expect("it can be written");
}

/// The file of the table.
fn written(chances: &Chances, counting: &Counting) -> String {
    // Never quite sure; what was never asked is as good as even.
    let one = |chance: &Chance| {
        let (no, yes) = counting.0.get(&(std::ptr::from_ref(chance) as usize)).copied().unwrap_or_default();
        let share = (f64::from(no) + 0.4) / (f64::from(no + yes) + 0.8);
        ((share * f64::from(WHOLE)) as u32).clamp(32, WHOLE - 32)
    };
    let row = |all: &[Chance]| all.iter().map(|chance| one(chance).to_string()).collect::<Vec<_>>().join(", ");
    let mut out = String::from(
        "//! Chances with which every datagram begins, trained on the demo. Written by a test: see `train`.\n\n\
         use super::chances::{Chances, OfClass};\nuse super::range::Chance;\n\n\
         const fn all<const N: usize>(parts: [u16; N]) -> [Chance; N] {\n    let mut chances = [Chance(0); N];\n    \
         let mut at = 0;\n    while at < N {\n        chances[at] = Chance(parts[at]);\n        at += 1;\n    }\n    \
         chances\n}\n\n/// See above.\npub(super) const TRAINED: Chances = Chances {\n",
    );
    let _ = writeln!(out, "    asked: all([{}]),\n    classes: [", row(&chances.asked));
    for OfClass { differs, longer, high } in &chances.classes {
        let _ = writeln!(
            out,
            "        OfClass {{ differs: all([{}]), longer: [{}], high: all([{}]) }},",
            row(differs),
            longer.iter().map(|case| format!("all([{}])", row(case))).collect::<Vec<_>>().join(", "),
            row(high)
        );
    }
    let _ = write!(out, "    ],\n    small: all([{}]),\n}};\n", row(&chances.small));
    debug_assert_eq!(chances.small.len(), LENGTHS);
    out
}
