//! Who comes, goes and owns what, in courses: the shipped one, and those in which something is wrong on purpose.

use crate::scenario::{Words, facts, machine, member, walker};
use velocitas_analysis::amiss::{Amiss, amiss};
use velocitas_core::{EndedBy, Fact, Presence, Restored};
use velocitas_lab::{COMINGS, Course, Run};
use velocitas_record::{Coming, Command, Happening, LabTime, MachineId, Reach};

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

fn comings() -> Run {
    let course = Course::parse("comings", COMINGS, &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut run = Run::new(course).expect("it fits");
    run.advance(secs(60.0));
    run
}

fn of(run: &Run, name: &str) -> (usize, MachineId) {
    let member = run.course().member(name).expect("it is one of the cast");
    (member.index(), run.course().machine(member))
}

/// If this breaks alone, joining, leaving or owning changed; if the others break too, look there.
#[test]
fn the_golden_digest_of_comings_and_goings() {
    assert_eq!(format!("{:016x}", comings().digest()), "1b293b64a5e1ede4");
}

#[test]
fn the_course_of_comings_and_goings_is_as_its_comments_say() {
    let run = comings();
    let record = run.record();
    let ends = |name: &str| -> Vec<EndedBy> {
        let of = facts(record, of(&run, name).1);
        of.filter_map(|(_, f)| if let Fact::Ended { why, .. } = f { Some(why) } else { None }).collect()
    };
    let again = |name: &str| -> Vec<bool> {
        let of = facts(record, of(&run, name).1);
        of.filter_map(|(_, f)| if let Fact::Connected { again, .. } = f { Some(again) } else { None }).collect()
    };
    assert_eq!((ends("curlew"), again("curlew")), (vec![EndedBy::Return, EndedBy::Silence], vec![false, true, false]));
    assert_eq!((ends("teal"), again("teal")), (vec![EndedBy::Leave], vec![false, false]));
    assert!(ends("dunlin").is_empty() && again("heron") == [false]);
    // Back before anybody knew: one and the same. Missed: another, at the place where it stood.
    let lives: Vec<_> = record.cast.actors.iter().filter(|a| a.name.starts_with("curlew")).collect();
    assert_eq!(lives.len(), 2);
    assert!((38.5..40.0).contains(&lives[0].gone.expect("it was missed").0.secs()), "five seconds after its crash");
    let teal: Vec<usize> = record
        .cast
        .actors()
        .filter(|a| record.cast.actors[a.index()].name.starts_with("teal"))
        .map(|a| a.index())
        .collect();
    let actors: Vec<_> = record.cast.actors().collect();
    let (before, after) = (record.authority(actors[teal[0]]), record.authority(actors[teal[1]]));
    assert_eq!(before.pos(before.len() - 1), after.pos(0), "it returns to where it stood");
    // Everybody knows exactly what there is.
    let there: Vec<_> = run.lab().server().world().iter().map(|e| e.id()).collect();
    for m in run.course().members() {
        let known: Vec<_> = run.lab().client(m).expect("it runs").known().map(|k| k.entity).collect();
        assert_eq!(known, there, "{}", run.course()[m].name);
    }
    assert_eq!(amiss(record, run.now()), []);
    // The cart changed hands four times, the crane obeyed both.
    let cart = record.cast.actors.iter().find(|a| a.name == "handcart").expect("it is there");
    let owners = |at| cart.owners_at(secs(at)).iter().map(|m| record.cast.name(*m)).collect::<Vec<_>>();
    assert_eq!(
        [owners(11.9), owners(12.2), owners(24.2), owners(36.2)],
        [vec!["heron"], vec!["plover"], vec![], vec!["dunlin"]]
    );
    let obeyed = |name: &str| facts(record, of(&run, name).1).filter(|(_, f)| matches!(f, Fact::Obeyed { .. })).count();
    assert!(obeyed("heron") > 3 && obeyed("plover") > 3, "{} {}", obeyed("heron"), obeyed("plover"));
    assert_eq!(run.lab().refused(), 0, "nothing honest is taken for nonsense");
}

#[test]
fn a_machine_is_seen_soon_after_it_came_and_forgotten_soon_after_it_left() {
    let run = comings();
    let record = run.record();
    for machine in record.cast.players() {
        for row in record.of(machine).seen.iter() {
            let after = velocitas_analysis::metrics::seen_after_ms(record, machine, row);
            assert!(
                (20.0..1500.0).contains(&after),
                "{} saw {:?} after {after} ms",
                record.cast.name(machine),
                row.actor
            );
        }
        let left = |f: &Fact| matches!(f, Fact::Left { .. });
        for (at, _) in facts(record, machine).filter(|(_, f)| left(f)) {
            let gone = record
                .cast
                .actors
                .iter()
                .filter_map(|a| a.gone)
                .any(|(gone, _)| gone <= at && at.minus(gone) < secs(1.0));
            assert!(gone, "{} at {at}", record.cast.name(machine));
        }
    }
}

#[test]
fn figures_of_a_window_and_of_the_whole_know_who_came() {
    let run = comings();
    let (figures, _) = run.figures();
    let connections: Vec<u32> = figures.iter().map(|f| f.joining.connections).collect();
    assert_eq!(connections, [1, 1, 3, 1, 2]);
    assert!(figures.iter().all(|f| f.joining.refusals == 0 && f.joining.bytes > 500));
    assert!(figures[2].inputs.rested > 200, "curlew was silent for five seconds: {:?}", figures[2].inputs);
    let joining: u64 = run
        .record()
        .links()
        .flat_map(|(_, _, rows)| rows.iter())
        .filter(|m| m.kind.is_joining())
        .map(|m| u64::from(m.bytes))
        .sum();
    assert_eq!(figures.iter().map(|f| f.joining.bytes).sum::<u64>(), joining);
}

#[test]
fn by_command_somebody_crashes_leaves_and_returns_and_resuming_forgets_it() {
    let mut run = Words { rest: walker("heron", "") + &walker("teal", ""), ..Words::default() }.run(5.0);
    let moves = |run: &mut Run, coming| run.command(Command::Moves(member(1), coming));
    let presence = |run: &Run| run.record().of(machine(run.record(), 1)).presence_at(run.now());
    assert_eq!(presence(&run), Presence::Playing);
    let digest = run.digest();
    run.advance(secs(5.5));
    moves(&mut run, Coming::Crash);
    moves(&mut run, Coming::Crash);
    run.advance(secs(6.0));
    assert_eq!((presence(&run), run.lab().runs(member(1))), (Presence::Left, false));
    moves(&mut run, Coming::Return);
    run.advance(secs(8.0));
    assert_eq!(presence(&run), Presence::Playing);
    moves(&mut run, Coming::Leave);
    run.advance(secs(9.0));
    assert_eq!((presence(&run), run.record().cast.actors[1].gone.is_some()), (Presence::Left, true));
    run.resume_from(secs(5.0));
    assert_eq!((presence(&run), run.record().cast.actors[1].gone, run.digest()), (Presence::Playing, None, digest));
}

#[test]
fn a_rule_that_differs_on_who_returns_is_let_in_noted_and_found_as_the_cause() {
    let mut run = Words { rest: walker("heron", "") + &walker("teal", ""), ..Words::default() }.run(3.0);
    let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
    let known = run.lab().server_known().kinds.motion(1).schema().clone();
    let faster = text.replace("4.2 m/s ", "5 m/s ");
    assert_ne!(faster, text);
    let rule = velocitas_gait::compile_after(&faster, Some(&known)).gait.expect("it is sound");
    let teal = machine(run.record(), 1);
    run.reload(1, std::sync::Arc::new(rule), Reach::One(teal)).expect("of the same layout");
    run.command(Command::Moves(member(1), Coming::Crash));
    run.advance(secs(3.5));
    run.command(Command::Moves(member(1), Coming::Return));
    run.advance(secs(9.0));
    let record = run.record();
    let told: Vec<Fact> = facts(record, teal).map(|(_, f)| f).collect();
    assert!(told.iter().any(|f| matches!(f, Fact::RuleDiffers { kind: 1, .. })), "{told:?}");
    let corrected =
        facts(record, teal).filter_map(|(at, f)| if let Fact::Corrected(c) = f { Some((at, c)) } else { None });
    let named = corrected
        .filter(|(at, c)| {
            velocitas_analysis::cause::Findings::default()
                .of(record, teal, *at, c)
                .causes
                .iter()
                .any(|c| c.name() == "rule_differs")
        })
        .count();
    assert!(named > 10, "{named}");
}

fn faulty(name: &str) -> Run {
    let path = format!("{}/../../courses/faults/{name}.course.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("it ships");
    let course = Course::parse(name, &text, &[]).unwrap_or_else(|e| panic!("{e}"));
    assert!(course.warnings.is_empty(), "{:?}", course.warnings);
    Run::new(course).expect("it fits")
}

/// What is amiss at each second, in words.
fn told(run: &Run, from: u32, to: u32) -> Vec<String> {
    let record = run.record();
    (from..=to).flat_map(|s| amiss(record, secs(f64::from(s)))).map(|a| a.words(record)).collect()
}

#[test]
fn each_fault_made_on_purpose_is_named_by_it_and_by_nothing_else() {
    for (course, key, words, begins, ends) in [
        ("untold", "untold", "plover does not know of heron, though both are there for", 6, 12),
        ("twin", "stranger", "plover is there twice for", 7, 10),
        ("leaver", "lingering", "curlew still sees plover, who is gone for", 8, 14),
        ("two-movers", "clinging", "heron moves handcart, which it owns no longer for", 8, 14),
        ("unlatched", "unlatched", "plover pressed what no input says: ", 7, 14),
        ("present", "present", "plover took older states for ticks that the server had not made yet: ", 6, 14),
        ("one-distance", "one_distance", "plover is up to ", 6, 14),
    ] {
        let mut run = faulty(course);
        run.advance(secs(14.0));
        let record = run.record();
        assert_eq!(told(&run, 0, 3), Vec::<String>::new(), "{course}: before it can be known");
        for second in begins..=ends {
            let all = amiss(record, secs(f64::from(second)));
            assert_eq!(all.len(), 1, "{course} at {second} s: {:?}", told(&run, second, second));
            assert_eq!(all[0].fault().map(|fault| fault.key), Some(key), "{course} at {second} s");
            assert!(all[0].words(record).starts_with(words), "{}", all[0].words(record));
        }
        // The remedy is at hand.
        let wrong = run.course().members().find(|m| !run.lab().faults(*m).is_empty()).expect("one has it");
        run.command(Command::Mend(wrong));
        run.advance(secs(24.0));
        assert!(run.lab().faults(wrong).is_empty());
        assert_eq!(told(&run, 22, 24), Vec::<String>::new(), "{course}: mended");
    }
}

#[test]
fn what_two_move_is_corrected_with_that_as_the_cause() {
    let mut run = faulty("two-movers");
    run.advance(secs(14.0));
    let record = run.record();
    let (_, heron) = of(&run, "heron");
    let cart = record.cast.actors.iter().find(|a| a.name == "handcart").expect("it is there").id;
    let rows: Vec<(LabTime, velocitas_core::Correction)> = facts(record, heron)
        .filter_map(|(at, f)| if let Fact::Corrected(c) = f { Some((at, c)) } else { None })
        .filter(|(at, c)| c.why != Restored::Settled && c.entity == cart && *at > secs(6.0))
        .collect();
    assert!(rows.len() > 20, "it flickers: {}", rows.len());
    for (at, c) in &rows {
        let names: Vec<&str> = velocitas_analysis::cause::Findings::default()
            .of(record, heron, *at, c)
            .causes
            .iter()
            .map(velocitas_analysis::cause::Cause::name)
            .collect();
        assert!(names.contains(&"not_owner"), "{names:?}");
    }
    let started = |m: MachineId| record.of(m).happenings.iter().any(|r| matches!(r.what, Happening::Started));
    assert!(!started(heron), "nothing else happened to it");
    let is_clung = |a: &Amiss| matches!(a, Amiss::TwoMovers { .. });
    assert!(amiss(record, run.now()).iter().all(is_clung));
}

#[test]
fn what_is_held_against_the_present_or_left_as_it_is_is_corrected_with_that_as_the_cause() {
    for (course, cause, least) in [("present", "untimely", 50), ("one-distance", "left_so", 1)] {
        let mut run = faulty(course);
        run.advance(secs(30.0));
        let (record, (_, plover)) = (run.record(), of(&run, "plover"));
        let mut named = 0;
        for (at, fact) in facts(record, plover) {
            let Fact::Corrected(c) = fact else { continue };
            if c.why == Restored::Settled {
                continue;
            }
            let found = velocitas_analysis::cause::Findings::default().of(record, plover, at, &c);
            assert!(!found.causes.is_empty(), "{course} at {at:?}: {c:?}");
            named += u32::from(found.causes.iter().any(|one| one.name() == cause));
        }
        assert!(named >= least, "{course}: {named}");
    }
}

#[test]
fn physics_out_of_step_with_ticks_is_named_with_its_rate_and_parts_of_a_tick_are_not() {
    let path = format!("{}/../../courses/faults/beat.course.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("it ships");
    let judder = |hz: &str, words: &[&str]| {
        let course = Course::parse(&path, &text.replace("50 Hz", hz), &[]).unwrap_or_else(|e| panic!("{hz}: {e}"));
        let mut run = Run::new(course).expect("it fits");
        run.meter();
        run.advance(secs(12.0));
        let said = told(&run, 4, 12);
        let is_said = |said: &String| words.iter().any(|words| said.contains(words));
        assert_eq!(
            (said.iter().filter(|said| is_said(said)).count(), said.len()),
            (9 * words.len(), 9 * words.len()),
            "{hz}: {said:?}"
        );
        run.measured().clients[1].own.judder_mps.p50.expect("it moved")
    };
    let plain = judder("60 Hz", &[]);
    assert!(judder("120 Hz", &[]) < plain + 0.01 && judder("180 Hz", &[]) < plain + 0.01);
    assert!(judder("50 Hz", &["50 steps of physics beat with 60 ticks a second"]) > plain + 0.5);
    assert!(judder("90 Hz", &["90 steps of physics beat with 60 ticks a second"]) > plain + 0.5);
}

#[test]
fn a_rule_that_goes_further_than_its_velocity_says_for_a_while_does_not_beat() {
    let path = format!("{}/../../courses/faults/beat.course.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("it ships");
    // For a third of a second of each two thirds six tenths further.
    let after = |scene: &velocitas_core::Scene<'_>, from: &velocitas_core::State, step: &mut velocitas_core::Step| {
        if (scene.tick.0 / 20).is_multiple_of(2) {
            let (was, is) = (from.vec3(0), step.state.vec3(0));
            step.state.set_vec3(0, is + (is - was) * 0.6);
        }
    };
    let altered = velocitas_core::altered::Altered::named("strider");
    let rule = velocitas_core::altered::Altered { after: Box::new(after), ..altered };
    let text =
        text.replace("physics = \"50 Hz\"\n", "").replace("gait = \"../../gaits/courier.gait\"", "rule = \"strider\"");
    let course = Course::parse(&path, &text, &[std::sync::Arc::new(rule)]).unwrap_or_else(|e| panic!("{e}"));
    let mut run = Run::new(course).expect("it fits");
    run.advance(secs(12.0));
    assert_eq!(told(&run, 4, 12), Vec::<String>::new());
}

#[test]
fn a_newcomer_gets_what_is_in_force_when_it_comes() {
    let late = walker("teal", "joins = \"4 s\"");
    let mut run = Words { rest: walker("heron", "") + &late, ..Words::default() }.run(2.0);
    run.command(Command::Tune { kind: 1, tunable: "walk", value: 6.0, reach: Reach::All });
    let known = run.lab().server_known().kinds.motion(1).schema().clone();
    let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships").replace("1.6 ", "1.8 ");
    let rule = velocitas_gait::compile_after(&text, Some(&known)).gait.expect("it is sound");
    run.advance(secs(3.0));
    run.reload(1, std::sync::Arc::new(rule), Reach::All).expect("of the same layout");
    run.advance(secs(9.0));
    let record = run.record();
    let teal = machine(record, 1);
    let (client, server) = (run.lab().client(member(1)).expect("it runs").ingredients(), run.lab().server());
    assert_eq!(client.kinds.prints(), server.ingredients().kinds.prints(), "the rule as it was read again");
    assert_eq!(client.tunables, server.ingredients().tunables, "and what was turned before it came");
    assert!(facts(record, teal).all(|(_, f)| !matches!(f, Fact::RuleDiffers { .. } | Fact::Corrected(_))));
    let (_, predicted) = crate::scenario::tracks(record, 1);
    assert!(predicted.len() > 200, "it plays");
}

#[test]
fn who_comes_with_another_layout_is_refused_in_words_until_all_have_it() {
    let mut run = Words { rest: walker("heron", "") + &walker("teal", ""), ..Words::default() }.run(3.0);
    let known = run.lab().server_known().kinds.motion(1).schema().clone();
    let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
    let wider = text.replacen("  breath", "  wind    number m/s  wire 1/8\n  breath", 1);
    assert_ne!(wider, text);
    let rule: std::sync::Arc<dyn velocitas_core::Motion> =
        std::sync::Arc::new(velocitas_gait::compile_after(&wider, Some(&known)).gait.expect("it is sound"));
    let teal = machine(run.record(), 1);
    assert!(run.reload(1, rule.clone(), Reach::One(teal)).is_err(), "not while it runs");
    run.command(Command::Moves(member(1), Coming::Crash));
    run.advance(secs(3.2));
    run.reload(1, rule.clone(), Reach::One(teal)).expect("it is out");
    run.command(Command::Moves(member(1), Coming::Return));
    run.advance(secs(6.0));
    let words = "the server's courier has another layout than yours: field `wind` is yours only";
    assert_eq!(run.record().refusal(teal, run.now()), Some(words));
    assert_eq!(run.record().refusal(teal, secs(3.0)), None, "then it played");
    assert_eq!(run.record().of(teal).presence_at(run.now()), Presence::Refused);
    assert_eq!(run.figures().0[1].joining.connections, 1);
    assert!(run.figures().0[1].joining.refusals >= 2, "it goes on asking");
    run.reload(1, rule, Reach::All).expect("for all it may be another");
    run.advance(secs(9.0));
    assert_eq!(run.record().refusal(teal, run.now()), None);
    assert_eq!(run.record().of(teal).presence_at(run.now()), Presence::Playing);
    assert_eq!(amiss(run.record(), run.now()), []);
}
