//! Limits that depend on what is remembered: what a guard may hold against whom.

use velocitas_core::{Motion, State, Surface, Tick, Underfoot, max};
use velocitas_gait::compile;

const COURIER: &str = include_str!("../gaits/courier.gait");

const STONE: Underfoot = Underfoot::of(Surface::PLAIN);

fn courier() -> velocitas_gait::Gait {
    compile(COURIER).gait.expect("it is sound")
}

fn with_breath(rule: &dyn Motion, breath: f32) -> State {
    let mut state = State::default();
    let field = rule.schema().state.iter().find(|f| f.name == "breath").expect("it has breath");
    state.set_real(field.lane, breath);
    state
}

#[test]
fn out_of_breath_a_sprint_is_not_lawful() {
    let rule = courier();
    let tunables: Vec<f32> = rule.tunables().iter().map(|t| t.default).collect();
    let most = rule.limits(&tunables);
    let level = |breath, ago| rule.limits_in(&most, &tunables, (&with_breath(&rule, breath), ago), &STONE).level;
    assert!((most.level - 4.2 * 1.6).abs() < 1e-4);
    assert!((level(4.0, 0.0) - most.level).abs() < 1e-5);
    // Half a step of the wire, a sixty-fourth of a second, may be left of it.
    assert!((4.2..4.25).contains(&level(0.0, 0.0)), "{}", level(0.0, 0.0));
    // What was told a second ago may have grown since, by what the gait says.
    assert!((level(0.0, 1.0) - 4.2 * (1.0 + 0.6 * (0.8 + 1.0 / 64.0))).abs() < 0.01, "{}", level(0.0, 1.0));
    assert!((level(0.0, 60.0) - most.level).abs() < 1e-5, "never more than in whatever state");
    let burst = most.burst.expect("it is declared");
    assert!(
        (burst.level - 4.2 * (1.0 + 0.6 * 0.8 / 1.8)).abs() < 1e-4 && (burst.metres - 5.6).abs() < 1e-4,
        "{burst:?}"
    );
    assert_eq!((most.fall, most.accel), (Some(22.0), Some(38.0)));
}

#[test]
fn whatever_the_state_the_limit_is_at_least_what_it_is_there() {
    // What an interval says of a value holds for the value: the limit of a state known exactly lies below that of one of a while ago.
    let rule = courier();
    let tunables: Vec<f32> = rule.tunables().iter().map(|t| t.default).collect();
    let most = rule.limits(&tunables);
    for tick in 0..400u64 {
        let breath = Tick(tick).0 as f32 / 100.0;
        let exactly = 4.2 * (1.0 + 0.6 * velocitas_core::clamp(breath, 0.0, 1.0));
        for ago in [0.0, 0.1, 2.0] {
            let level = rule
                .limits_in(&most, &tunables, (&with_breath(&rule, max(breath - 0.8 * ago, 0.0)), ago), &STONE)
                .level;
            assert!(level >= exactly - 1e-4, "{breath} after {ago} s: {level} < {exactly}");
        }
    }
}

/// What is said of a courier with these limits.
fn said(limits: &str) -> Vec<String> {
    let (head, _) = COURIER.split_once("limits {").expect("it has limits");
    let compiled = compile(&format!("{head}limits {{\n{limits}\n}}\n"));
    compiled
        .diagnostics
        .iter()
        .map(|d| format!("{}: {} {}", d.code, d.message, d.why.as_deref().unwrap_or("")))
        .collect()
}

#[test]
fn a_limit_that_the_guard_cannot_know_is_refused_with_the_reason() {
    let one = |limits: &str, parts: &[&str]| {
        let said = said(limits);
        assert!(said.iter().any(|s| parts.iter().all(|part| s.contains(part))), "{limits}: {said:#?}");
    };
    one(
        "pace vel.xy at most walk * if sprint then haste else 1",
        &["limit", "`sprint`", "does not say what it pressed"],
    );
    one("pace vel.xy at most length(vel.xy) + walk", &["limit", "`vel`", "cannot depend on them"]);
    one("pace vel.xy at most walk * dt / 1 s", &["limit", "only the step knows"]);
    one("pace vel.xy at most walk\naccel vel.xy at most grip * surface.grip", &["limit", "underfoot", "only `pace`"]);
    one("pace vel.xy at most walk * haste\nfall vel.z at most fall", &["limit", "`at least`"]);
    one("pace vel.xy at least walk", &["limit", "`at most` for `pace`"]);
    one("pace vel.xy at most walk * haste\ngain pos at most 1 m/s", &["limit", "a remembered number"]);
    one(
        "pace vel.xy at most walk * haste\ngain breath at most 2 s",
        &["unit", "expected a number; found a number in s"],
    );
    one(
        "pace vel.xy at most walk * haste\nfall vel.z at least fall * breath / 1 s",
        &["limit", "`breath`", "only `pace`"],
    );
    one("pace vel.xy at most walk * haste\nclimb vel.z at most leap burst 2 m", &["limit", "`burst` for `pace` only"]);
    one("pace vel.xy at most walk / breath * 1 s", &["limit", "without bounds"]);
    one("pace vel.xy at most walk\naccel vel.xy at most walk", &["unit", "found a number in m/s"]);
    one("pace vel.xy at most walk\naccel vel.z at most grip", &["limit", "`vel.xy` for `accel`"]);
    one("pace vel.xy at most walk\naccel vel.xy at most grip burst 2 m", &["limit", "`burst` for `pace` only"]);
    one("pace vel.xy at most walk\naccel vel.xy at most grip * breath / 1 s", &["limit", "`breath`", "only `pace`"]);
    one("pace vel.xy at most walk\npace vel.xy at most walk", &["limit", "expected one `pace`"]);
    let fine = said("pace vel.xy at most walk * surface.pace * if breath > 0 s then haste else 1 slack 4 %");
    assert!(fine.iter().all(|s| !s.starts_with("limit")), "{fine:#?}");
}

/// A courier of whose hands something else is said.
fn with_hands(hands: &str) -> velocitas_gait::Compiled {
    let (head, _) = COURIER.split_once("hands {").expect("it has hands");
    compile(&format!("{head}hands {{\n{hands}\n}}\n"))
}

fn said_of_hands(hands: &str) -> Vec<String> {
    let compiled = with_hands(hands);
    compiled.diagnostics.iter().map(|d| format!("{}: {}", d.code, d.message)).collect()
}

#[test]
fn what_is_said_of_hands_is_read_and_nonsense_is_refused() {
    let hands = "turn look at most 1800 deg/s\napart sprint and hop";
    let gait = with_hands(hands).gait.expect("it is sound");
    let place = |name: &str| gait.schema().input.iter().position(|f| f.name == name).expect("an input");
    let said = gait.hands();
    assert_eq!((said.turns[0].0, said.apart.clone()), (place("look"), vec![[place("sprint"), place("hop")]]));
    assert!((said.turns[0].1 - 1800f32.to_radians()).abs() < 1e-3);
    assert!(with_hands("").gait.is_some_and(|gait| gait.hands().turns.is_empty() && gait.hands().apart.is_empty()));
    for (hands, parts) in [
        ("turn move at most 3 1/s", ["kind", "a bearing or a pitch"]),
        ("turn look at most 3 m/s", ["unit", "radians a second"]),
        ("turn look at most 0 1/s", ["range", "more than 0"]),
        ("turn look at most 3 1/s\nturn look at most 4 1/s", ["limit", "another"]),
        ("turn lok at most 3 1/s", ["name", "`lok`"]),
        ("apart look and hop", ["kind", "always given"]),
        ("apart hop and hop", ["name", "another input"]),
        ("apart hop", ["syntax", "`and`"]),
        ("never hop and sprint", ["name", "turn or apart"]),
        ("trun look at most 3 1/s", ["name", "`trun`"]),
        ("turn look", ["syntax", "`at most`"]),
    ] {
        let said = said_of_hands(hands);
        assert!(said.iter().any(|s| parts.iter().all(|part| s.contains(part))), "{hands}: {said:#?}");
    }
}
