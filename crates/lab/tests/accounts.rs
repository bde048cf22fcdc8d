//! Owners who give account of what was pressed: no trick of theirs leads anywhere, and nobody honest is accused.

use crate::scenario::{Words, YARD, actor, facts, machine, measure, walker};
use velocitas_core::{Fact, Rule, Verdict};
use velocitas_lab::Run;
use velocitas_record::LabTime;

const ACCOUNTS: &str = "arrangement = \"claims with inputs\"";

/// What lies across it besides.
const WALL: &str = r#"
[[solid]]
name = "low wall"
at = [0, 5]
size = [12, 0.4]
height = "0.8 m"
"#;

fn accused(run: &Run, member: usize) -> Vec<(LabTime, Verdict)> {
    let all = facts(run.record(), machine(run.record(), member));
    all.filter_map(|(at, fact)| if let Fact::Verdict(v) = fact { Some((at, v)) } else { None }).collect()
}

/// Somebody who steers about by the clock, whatever the rule's inputs are called.
fn driver(name: &str, gait: &str, spawn: (i32, i32)) -> String {
    format!(
        "[[cast]]\nname = \"{name}\"\nrole = \"bot\"\ngait = \"{gait}.gait\"\nlink = \"test\"\nspawn = [{}, {}]\n{ACCOUNTS}\n\
         route = [{{ at = [9, 0] }}, {{ at = [9, 9] }}, {{ at = [-9, 9] }}, {{ at = [-9, -9] }}]\n",
        spawn.0, spawn.1
    )
}

#[test]
fn honest_accounts_of_every_shipped_gait_agree_over_a_bad_link() {
    let link = "latency = \"60 ms\"\njitter = \"20 ms\"\nloss = \"5 %\"\nbunch = \"50 ms\"";
    for hz in [20, 60] {
        let cast =
            walker("curlew", ACCOUNTS) + &driver("teal", "ferry", (0, -14)) + &driver("knot", "handcart", (-14, 0));
        let run = Words { hz, link, rest: YARD.to_owned() + WALL + &cast, ..Words::default() }.run(300.0);
        for member in 0..3 {
            assert_eq!(accused(&run, member), [], "{} at {hz} Hz", run.course().cast[member].name);
            let m = measure(run.record(), member, LabTime::ZERO, run.now());
            assert!(m.inputs.fresh > 290 * hz, "it did give account: {:?}", m.inputs);
            assert_eq!((m.corrections.count, m.resyncs), (0, 0), "nor was it pulled back");
        }
    }
}

/// A courier who walks a round, never sprints, and cheats like this from the fourth second on.
fn rogue(trick: &str) -> Run {
    let cast = format!(
        "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\ngait = \"courier.gait\"\n{ACCOUNTS}\nlink = \"test\"\nspawn = [0, 0]\n\
         trick = [{{ {trick}, at = \"4 s\" }}]\nroute = [{{ at = [0, 12] }}, {{ at = [0, -12] }}]\n"
    );
    let link = "latency = \"40 ms\"\njitter = \"7 ms\"\nloss = \"2 %\"";
    Words { link, rest: YARD.to_owned() + WALL + &cast, ..Words::default() }.run(20.0)
}

#[test]
fn a_rogue_who_walks_faster_than_it_may_is_found_at_once_breath_or_no_breath() {
    // Within 4.2 m/s times 1.6 nothing of it can be told from positions alone.
    for times in ["1.06", "1.2", "1.55", "3"] {
        let run = rogue(&format!("run = \"{times} times\", lasts = \"10 s\""));
        let accused = accused(&run, 0);
        let (first, verdict) = accused.first().expect("it is found");
        assert!(matches!(verdict.evidence.rule, Rule::Step | Rule::State), "{verdict:?}");
        let after = first.minus(LabTime::from_secs(4.0)).secs();
        assert!((0.0..0.5).contains(&after), "{times}: after {after} s");
        let track = run.record().authority(actor(run.record(), 0));
        let ways = track.between(LabTime::from_secs(5.0), LabTime::from_secs(14.0));
        let fastest =
            ways.clone().zip(ways.skip(1)).map(|(a, b)| (track.pos(b) - track.pos(a)).level().length() * 60.0);
        let fastest = fastest.fold(0.0, velocitas_core::max);
        assert!(fastest < 4.21, "{times}: the authority itself went at {fastest} m/s");
    }
}

#[test]
fn low_walls_and_small_jumps_lead_nowhere() {
    // The low wall lies across the way: a body swept a step above the ground does not touch what is lower than that.
    for (trick, most) in [("walls = true, lasts = \"12 s\"", 4.7), ("jump = \"0.1 m\", every = \"1 s\"", 4.7)] {
        let run = rogue(trick);
        assert!(!accused(&run, 0).is_empty(), "{trick} is found");
        let track = run.record().authority(actor(run.record(), 0));
        let farthest = (0..track.len()).map(|i| track.pos(i).y).fold(f32::MIN, velocitas_core::max);
        assert!(farthest < most, "{trick}: it stands before the wall, not at {farthest}");
    }
}

#[test]
fn what_a_place_cannot_tell_is_told_from_what_was_pressed() {
    let run = |arrangement: &str, trick: &str| {
        let cast = format!(
            "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\ngait = \"courier.gait\"\narrangement = \"{arrangement}\"\nlink = \"test\"\n\
             spawn = [-20, 20]\ntrick = [{{ {trick}, at = \"1 s\", lasts = \"18 s\" }}]\nroute = [\n\
             {{ at = [20, 20], hold = [\"sprint\"] }}, {{ at = [-20, 20], hold = [\"sprint\"] }}]\n"
        );
        let link = "latency = \"40 ms\"\njitter = \"7 ms\"\nloss = \"2 %\"";
        Words { link, rest: cast, ..Words::default() }.run(20.0)
    };
    let way = |run: &Run| {
        let track = run.record().authority(actor(run.record(), 0));
        let ticks: Vec<usize> = track.between(LabTime::from_secs(1.0), run.now()).collect();
        ticks.windows(2).map(|pair| (track.pos(pair[1]) - track.pos(pair[0])).level().length()).sum::<f32>()
    };
    let height = |run: &Run| {
        let track = run.record().authority(actor(run.record(), 0));
        (0..track.len()).map(|i| track.pos(i).z).fold(0.0, velocitas_core::max)
    };
    let first = |run: &Run| accused(run, 0).first().map(|(at, verdict)| (*at, verdict.evidence.rule));
    // Out of breath it would walk from the fifth second on.
    let (claims, accounts) = (run("claims", "tireless = true"), run("claims with inputs", "tireless = true"));
    let (at, rule) = first(&claims).expect("breath does not grow like that");
    assert!(rule == Rule::Growth && at < LabTime::from_secs(1.5) && way(&claims) < 100.0, "{rule:?} {}", way(&claims));
    let found = accused(&accounts, 0);
    let rules =
        |found: &[(LabTime, Verdict)]| found.iter().all(|(_, v)| matches!(v.evidence.rule, Rule::Step | Rule::State));
    assert!(!found.is_empty() && rules(&found) && way(&accounts) < 100.0, "{} m, {found:?}", way(&accounts));
    let (claims, accounts) = (run("claims", "fly = \"1 m/s\""), run("claims with inputs", "fly = \"1 m/s\""));
    let (at, rule) = first(&claims).expect("nobody flies");
    assert!(
        rule == Rule::Support && at < LabTime::from_secs(1.6) && height(&claims) < 0.6,
        "{rule:?} {}",
        height(&claims)
    );
    assert!(height(&accounts) < 0.02 && first(&accounts).is_some_and(|(at, _)| at < LabTime::from_secs(1.5)));
    // Within a sprint a little more cannot be told from where it is, and is told from what was pressed.
    let (claims, accounts) = (run("claims", "drift = \"0.1 m/s\""), run("claims with inputs", "drift = \"0.1 m/s\""));
    assert_eq!(first(&claims), None);
    assert!(first(&accounts).is_some_and(|(at, _)| at < LabTime::from_secs(2.0)) && way(&accounts) < 100.0);
}

#[test]
fn a_walker_who_is_as_fast_as_a_sprint_is_found_when_a_breath_would_be_spent() {
    // It never sprints, and its breath is full: only that nobody can keep that up gives it away.
    let run = |times: &str| {
        let cast = format!(
            "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\ngait = \"courier.gait\"\narrangement = \"claims\"\nlink = \"test\"\n\
             spawn = [-25, 0]\ntrick = [{{ run = \"{times} times\", at = \"1 s\", lasts = \"40 s\" }}]\nroute = [\n\
             {{ at = [25, 0] }}, {{ at = [-25, 0] }}]\n"
        );
        let link = "latency = \"40 ms\"\njitter = \"7 ms\"\nloss = \"2 %\"";
        Words { link, rest: cast, ..Words::default() }.run(41.0)
    };
    for (times, within) in [("1.55", 9.0), ("1.5", 11.0), ("1.4", 30.0)] {
        let run = run(times);
        let (at, verdict) = accused(&run, 0)[0];
        assert_eq!(verdict.evidence.rule, Rule::Burst, "{times}");
        assert!(at < LabTime::from_secs(within), "{times}: at {at}");
    }
    assert!(accused(&run("1.2"), 0).is_empty(), "who rests and sprints in turn is as fast");
}

#[test]
fn who_knows_another_ground_or_rule_is_told_apart_from_a_rogue() {
    use velocitas_analysis::cause::{Excuse, excuse};
    use velocitas_analysis::nearness::Nearness;
    let excuses = |arrangement: &str, role: &str, rest: &str| {
        let cast = format!(
            "[[cast]]\nname = \"curlew\"\nrole = \"{role}\"\ngait = \"courier.gait\"\narrangement = \"{arrangement}\"\nlink = \"test\"\n\
             spawn = [-12, 0]\nroute = [{{ at = [12, 0] }}, {{ at = [-12, 0] }}]\n{rest}\n"
        );
        let run = Words { link: "latency = \"40 ms\"", rest: cast, ..Words::default() }.run(8.0);
        let mut nearness = Nearness::default();
        assert!(nearness.follow(&run, true));
        let all = nearness.ledger().iter().map(|it| (excuse(run.record(), it), it.verdict.evidence.rule));
        all.map(|(excuse, rule)| (excuse.as_ref().map(|e| e.words(run.record())), excuse, rule)).collect::<Vec<_>>()
    };
    let crate9 = |known: &str, height: &str| {
        format!(
            "[[solid]]\nname = \"crate 9\"\nat = [0, 0]\nsize = [2, 2]\nheight = \"{height}\"\nknown_to = \"{known}\"\n"
        )
    };
    let slow = "[[tune]]\nrule = \"courier\"\nknown_to = \"server\"\nset = { walk = \"2 m/s\" }\n";
    for arrangement in ["claims", "claims with inputs"] {
        // What it does not know it walks into, and what only it knows it stands on.
        for (known, owner_knows, height) in [("server", false, "3 m"), ("clients", true, "0.25 m")] {
            let found = excuses(arrangement, "bot", &crate9(known, height));
            let (words, first, rule) = found.first().expect("it is accused").clone();
            assert!(
                matches!(first, Some(Excuse::Solid { owner_knows: knows, .. }) if knows == owner_knows),
                "{arrangement}, {known}: {first:?} by {rule:?}"
            );
            assert!(words.is_some_and(|words| words.contains("crate 9")));
            // Put back, it walks into it again.
            assert!(found.len() > 3 && found.iter().all(|(_, excuse, _)| *excuse == first), "{arrangement}: {found:?}");
        }
        // Along what only it knows it slides, which near nothing is another speed at once.
        let turned = crate9("clients", "3 m").replace("size = [2, 2]", "size = [2, 2]\nyaw = \"30 deg\"");
        let found = excuses(arrangement, "bot", &turned);
        let is_told = |excuse: &Option<Excuse>| matches!(excuse, Some(Excuse::Solid { owner_knows: true, .. }));
        assert!(!found.is_empty() && found.iter().all(|(_, excuse, _)| is_told(excuse)), "{arrangement}: {found:?}");
        let found = excuses(arrangement, "bot", slow);
        let (words, first, rule) = found.first().expect("it is accused").clone();
        assert!(matches!(first, Some(Excuse::Tunable { name: "walk", .. })), "{arrangement}: {first:?} by {rule:?}");
        assert!(words.is_some_and(|words| words.contains("walk is 4.2 there, 2 at the server")));
        // A rogue has none, though grounds differ somewhere.
        let trick = "trick = [{ run = \"3 times\", at = \"1 s\", lasts = \"2 s\" }]\n".to_owned();
        let elsewhere = crate9("server", "3 m").replace("at = [0, 0]", "at = [20, 20]");
        let found = excuses(arrangement, "rogue", &(trick + &elsewhere));
        assert!(!found.is_empty() && found.iter().all(|(_, excuse, _)| excuse.is_none()), "{arrangement}: {found:?}");
    }
}

/// Of each gait, on each kind of link, by both arrangements, at a rate of each.
#[test]
#[ignore = "a long soak: cargo test -p velocitas-lab --test accounts -- --ignored --nocapture"]
fn ten_hours_of_the_honest_accuse_nobody() {
    let rates = [10, 20, 30, 60, 128];
    let gaits = ["courier", "ferry", "handcart", "barge", "walker", "crane"];
    let mut simulated = 0.0;
    let mut wrong: Vec<String> = Vec::new();
    for (i, profile) in velocitas_lab::PROFILES.iter().enumerate() {
        for (j, gait) in gaits.iter().enumerate() {
            for (k, arrangement) in ["claims", "claims with inputs"].into_iter().enumerate() {
                let hz = rates[(i + j + k) % rates.len()];
                let hands = if ["courier", "walker"].contains(gait) {
                    format!("route = {}", crate::scenario::ROUND)
                } else if *gait == "crane" {
                    // It goes straight to where it is told, and round nothing.
                    "route = [{ at = [9, -14] }, { at = [-9, -16] }, { at = [4, -20] }]".to_owned()
                } else {
                    "route = [{ at = [9, 0] }, { at = [9, 9] }, { at = [-9, 9] }, { at = [-9, -9] }]".to_owned()
                };
                let cast = format!(
                    "[[cast]]\nname = \"curlew\"\nrole = \"bot\"\ngait = \"{gait}.gait\"\nlink = \"{}\"\nspawn = [0, -14]\n\
                     arrangement = \"{arrangement}\"\n{hands}\n",
                    profile.name
                );
                let course =
                    Words { hz, seed: (i * 7 + j) as u64, rest: YARD.to_owned() + WALL + &cast, ..Words::default() }
                        .course();
                let mut run = Run::new(course).expect("it fits");
                run.set_keep(velocitas_lab::Keep::Time(velocitas_lab::LEAST_KEPT));
                let mut nearness = velocitas_analysis::nearness::Nearness::default();
                // Whoever is steered into a corner stays there, honestly: it has moved before.
                let mut most = 0.0f32;
                for minute in 1..=13u32 {
                    run.advance(LabTime::from_secs(f64::from(minute) * 60.0));
                    nearness.follow(&run, true);
                    let track = run.record().authority(actor(run.record(), 0));
                    let steps = (1..track.len()).map(|i| (track.pos(i) - track.pos(i - 1)).level().length());
                    let moved: f32 = steps.sum();
                    most = if moved > most { moved } else { most };
                }
                simulated += run.now().secs() / 3600.0;
                let claims: u32 = nearness
                    .rules()
                    .into_iter()
                    .map(|rule| velocitas_analysis::nearness::beyond(&nearness.of(run.record(), rule, false), 0).0)
                    .sum();
                assert!(
                    claims > 5 * 13 * 60 && most > 20.0,
                    "{gait} by {arrangement}: {claims} claims, {most} m in the best of its minutes"
                );
                for it in nearness.ledger() {
                    let evidence = it.verdict.evidence;
                    wrong.push(format!(
                        "{gait} by {arrangement} on {} at {hz} Hz, {}: {evidence:?}",
                        profile.name, it.at
                    ));
                }
            }
        }
    }
    assert!(simulated > 10.0, "{simulated} h");
    assert!(wrong.is_empty(), "{simulated} h, {} verdicts:\n{}", wrong.len(), wrong.join("\n"));
}
