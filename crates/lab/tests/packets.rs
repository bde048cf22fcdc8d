//! What rogues do to datagrams is answered, or leads nowhere.

use crate::scenario::{ROUND, Words, actor, machine, measure};
use velocitas_core::{EndedBy, Fact, Rule, Verdict};
use velocitas_lab::Run;
use velocitas_record::{Happening, LabTime};

/// A rogue on the round with a trick from the second second on, beside an honest one; `guard` is the course's table.
fn run(arrangement: &str, trick: &str, guard: &str, seconds: f64) -> Run {
    let cast = |name: &str, role: &str, more: &str| {
        format!(
            "[[cast]]\nname = \"{name}\"\nrole = \"{role}\"\ngait = \"courier.gait\"\narrangement = \"{arrangement}\"\n\
             link = \"test\"\nspawn = [0, 0]\nroute = {ROUND}\n{more}\n"
        )
    };
    let trick = format!("trick = [{{ {trick}, at = \"2 s\", lasts = \"60 s\" }}]");
    let rest = format!("[guard]\n{guard}\n{}{}", cast("magpie", "rogue", &trick), cast("curlew", "bot", ""));
    let link = "latency = \"40 ms\"\njitter = \"5 ms\"\nloss = \"1 %\"";
    Words { link, rest, ..Words::default() }.run(seconds)
}

fn verdicts(run: &Run, member: usize) -> Vec<(LabTime, Verdict)> {
    let rows = run.record().of(machine(run.record(), member)).happenings.iter();
    rows.filter_map(|row| match row.what {
        Happening::Fact(Fact::Verdict(verdict)) => Some((row.at, verdict)),
        _ => None,
    })
    .collect()
}

/// The way that the authority went along with, in metres.
fn way(run: &Run, member: usize) -> f32 {
    let track = run.record().authority(actor(run.record(), member));
    (1..track.len()).map(|i| (track.pos(i) - track.pos(i - 1)).level().length()).sum()
}

const ALL: [&str; 3] = ["server", "claims", "claims with inputs"];

#[test]
fn a_flood_is_read_as_far_as_it_is_needed_and_accused() {
    for arrangement in ALL {
        let run = run(arrangement, "flood = \"50 times\"", "", 8.0);
        let found = verdicts(&run, 0);
        assert!(found.iter().all(|(_, verdict)| verdict.evidence.rule == Rule::Flood), "{arrangement}: {found:?}");
        // What was saved up is spent within a tenth of a second.
        assert!(found[0].0 < LabTime::from_secs(2.5), "{arrangement}: {}", found[0].0);
        assert!((4..8).contains(&found.len()), "{arrangement}: once a second, not {}", found.len());
        assert!(verdicts(&run, 1).is_empty(), "{arrangement}: nobody else");
        let m = measure(run.record(), 0, LabTime::ZERO, run.now());
        assert!(m.inputs.fresh > 400, "{arrangement}: it plays on: {:?}", m.inputs);
    }
}

#[test]
fn what_comes_again_means_nothing_or_is_withheld_leads_nowhere() {
    for arrangement in ALL {
        let honest = way(&run(arrangement, "replay = \"1 ms\"", "", 1.9), 0) / 1.9;
        for trick in ["replay = \"2 s\"", "nonsense = \"1 times\""] {
            let run = run(arrangement, trick, "", 20.0);
            assert_eq!(verdicts(&run, 0), [], "{arrangement}: {trick}");
            let per_second = way(&run, 0) / 20.0;
            assert!(per_second < honest * 2.0 + 1.0 && per_second < 6.0, "{arrangement}: {trick}: {per_second} m/s");
            assert_eq!(verdicts(&run, 1), [], "{arrangement}: {trick}: nor anybody else");
        }
        // As far as the honest come in as long, and no farther.
        let steady = way(&run(arrangement, "replay = \"1 ms\"", "", 20.0), 0) / 20.0;
        for millis in [200, 700, 3000] {
            let run = run(arrangement, &format!("withhold = \"{millis} ms\""), "", 20.0);
            assert_eq!(verdicts(&run, 1), [], "{arrangement}: nobody else");
            let per_second = way(&run, 0) / 20.0;
            assert!(per_second <= steady + 0.05, "{arrangement}: {millis} ms: {per_second} m/s, honest {steady}");
        }
    }
}

#[test]
fn another_word_for_a_tick_is_not_taken_and_accused() {
    let run = run("server", "contradict = true", "", 8.0);
    let found = verdicts(&run, 0);
    assert!(!found.is_empty() && found.iter().all(|(_, v)| v.evidence.rule == Rule::Conflict), "{found:?}");
}

#[test]
fn strikes_are_counted_and_a_connection_ends_by_the_rule_that_was_broken() {
    let ended = |run: &Run| {
        let rows = run.record().of(machine(run.record(), 0)).happenings.iter();
        let mut ends = rows.filter_map(|row| match row.what {
            Happening::Fact(Fact::Ended { why, .. }) => Some((row.at, why)),
            _ => None,
        });
        ends.next()
    };
    let guard = "answer = { reach = \"strike\", accel = \"strike\" }\nstrikes = 3\nwithin = \"10 s\"";
    let struck = run("claims", "run = \"3 times\"", guard, 12.0);
    let (at, why) = ended(&struck).expect("three strikes");
    assert_eq!(why, EndedBy::Verdict(Rule::Accel));
    let given: Vec<LabTime> = verdicts(&struck, 0).iter().map(|(at, _)| *at).collect();
    assert!(given.len() == 3 && given[2] <= at, "{given:?}, ended at {at}");
    let at_once = run("claims", "run = \"3 times\"", "answer = { accel = \"disconnect\" }", 6.0);
    let (at, why) = ended(&at_once).expect("at once");
    assert!(why == EndedBy::Verdict(Rule::Accel) && verdicts(&at_once, 0).len() == 1 && at < LabTime::from_secs(3.0));
    // What is only noted holds.
    let noted = run(
        "claims",
        "run = \"1.3 times\"",
        "answer = { reach = \"note\", pace = \"note\", burst = \"note\", accel = \"note\" }",
        12.0,
    );
    assert_eq!((ended(&noted), measure(noted.record(), 0, LabTime::ZERO, noted.now()).corrections.count), (None, 0));
    assert!(verdicts(&noted, 0).len() > 3);
    // A flood by inputs ends it as well, where that is asked for.
    let flooded = run("server", "flood = \"50 times\"", "answer = { flood = \"disconnect\" }", 6.0);
    assert_eq!(ended(&flooded).map(|(_, why)| why), Some(EndedBy::Verdict(Rule::Flood)));
}

#[test]
fn other_ticks_and_other_clocks_lead_nowhere() {
    for arrangement in ALL {
        let honest = run(arrangement, "hurry = \"1 times\"", "", 20.0);
        assert_eq!(verdicts(&honest, 0), []);
        for trick in [
            "hurry = \"1.01 times\"",
            "hurry = \"1.3 times\"",
            "hurry = \"4 times\"",
            "dawdle = \"1.3 times\"",
            "dawdle = \"4 times\"",
            "foretell = 1",
            "foretell = 30",
            "foretell = 3000",
            "backdate = 1",
            "backdate = 30",
            "backdate = 3000",
        ] {
            let run = run(arrangement, trick, "", 20.0);
            assert_eq!(verdicts(&run, 1), [], "{arrangement}: {trick}: nobody else");
            let (far, lawful) = (way(&run, 0), way(&honest, 0));
            assert!(far < lawful * 1.02 + 1.0, "{arrangement}: {trick}: {far} of {lawful} m");
        }
    }
}

#[test]
fn hands_that_turn_in_no_time_are_noted_and_nobody_is_accused() {
    for arrangement in ["server", "claims with inputs"] {
        // Of who tells of its state as well, other inputs are another state: only who sends nothing else can spin.
        let spins = arrangement == "server";
        let trick = if spins { "spin = true" } else { "hurry = \"1 times\"" };
        let run = run(arrangement, trick, "", 20.0);
        let notes = |member: usize| {
            let rows = run.record().of(machine(run.record(), member)).happenings.iter();
            let notes = rows.filter_map(|row| match row.what {
                Happening::Fact(Fact::Note(note)) => Some((row.at, note)),
                _ => None,
            });
            notes.collect::<Vec<_>>()
        };
        assert_eq!(verdicts(&run, 0), [], "{arrangement}: nor it");
        assert_eq!(verdicts(&run, 1), [], "{arrangement}: a note is no verdict");
        assert_eq!(notes(1), [], "{arrangement}: nobody else turns like that");
        let found = notes(0);
        if !spins {
            assert_eq!(found, [], "{arrangement}");
            continue;
        }
        assert!((16..20).contains(&found.len()), "once a second: {}", found.len());
        let (at, note) = found[0];
        assert!(at < LabTime::from_secs(2.5) && note.evidence.rule == Rule::Turn, "{at}: {note:?}");
        // Half a turn in a tick, where the gait says 40 rad/s.
        assert!((note.evidence.measured - std::f32::consts::PI).abs() < 0.1 && note.evidence.limit < 0.7, "{note:?}");
        let all = run.record().of(machine(run.record(), 0)).measures.iter().filter(|row| row.rule() == Rule::Turn);
        assert!((15..22).contains(&all.count()), "the fastest of each second");
    }
}
