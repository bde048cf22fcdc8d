//! What goes wrong for one reason is one trouble, and everything that goes wrong is in one.

use crate::scenario::{Words, corrections, machine, walker};
use velocitas_analysis::cause::Findings;
use velocitas_analysis::metrics;
use velocitas_analysis::trouble::{Dry, Reason, Trouble, troubles};
use velocitas_lab::{Course, Keep, Run};
use velocitas_record::{Command, Knob, KnobValue, LabTime, MachineId};

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

/// The troubles of a member in a whole run.
fn of(run: &Run, member: usize) -> Vec<Trouble> {
    let record = run.record();
    troubles(run.found(), Some(machine(record, member)), LabTime::ZERO, run.now())
}

fn named(all: &[Trouble], name: &str) -> Option<Trouble> {
    all.iter().find(|t| t.reason.name() == name).cloned()
}

const FENCE: &str =
    "[[solid]]\nname = \"fence\"\nat = [5, 0]\nsize = [0.6, 8]\nheight = \"2 m\"\nknown_to = \"server\"\n";
const ACROSS: &str = "[{ at = [9, 0] }, { at = [0, 0] }]";

fn two(link: &str, rest: &str) -> Run {
    let cast = walker("plover", "").replace(crate::scenario::ROUND, ACROSS)
        + &walker("heron", "").replace(crate::scenario::ROUND, "[{ at = [-9, 0] }, { at = [0, 0] }]");
    let words = Words { link, rest: rest.to_owned() + &cast, ..Words::default() };
    let mut run = Run::new(words.course()).expect("it fits");
    run.set_keep(Keep::All);
    run
}

#[test]
fn all_corrections_at_one_solid_are_one_trouble() {
    let mut run = two("latency = \"50 ms\"", FENCE);
    run.advance(secs(20.0));
    let all = of(&run, 0);
    let fence = named(&all, "one_sided").expect("it is there");
    let corrected = corrections(run.record(), 0, LabTime::ZERO);
    let jumps: f64 = corrected.iter().map(|(_, c)| f64::from(c.jump)).sum();
    assert!(fence.corrections as usize == corrected.len() && fence.corrections > 20, "{fence:?}");
    assert!((fence.jumps_m - jumps).abs() < 1e-9 && fence.seen_m > 0.0, "{fence:?}");
    assert_eq!(
        (fence.first, fence.last),
        (corrected[0].0.min(fence.first), corrected.last().expect("some").0.max(fence.last))
    );
    let words = fence.words(run.record());
    assert!(
        words.starts_with(&format!("fence: {} corrections, ", corrected.len())) && words.contains(" each; "),
        "{words}"
    );
    assert!(!of(&run, 1).iter().any(|t| t.corrections > 0), "heron has none of it");
}

#[test]
fn easing_takes_from_what_eyes_see_and_not_from_the_corrections() {
    let run = |ease: f64| {
        let push = "[[event]]\nat = \"4 s\"\nevery = \"2 s\"\npush = { who = \"plover\", north = \"1.5 m/s\" }\n";
        let mut run = two("latency = \"50 ms\"", push);
        run.command(Command::Set {
            member: crate::scenario::member(0),
            knob: Knob::Ease,
            value: KnobValue::Number(ease),
        });
        run.advance(secs(20.0));
        named(&of(&run, 0), "pushed").expect("it is there")
    };
    let (hard, soft) = (run(0.0), run(400.0));
    assert_eq!((hard.corrections, hard.jumps_m.to_bits()), (soft.corrections, soft.jumps_m.to_bits()));
    assert!(soft.seen_m < hard.seen_m, "{} m eased, {} m not", soft.seen_m, hard.seen_m);
}

#[test]
fn stalls_and_hops_of_others_say_what_was_missing() {
    let smooth = "latency = \"40 ms\"";
    for (link, rest, name) in [
        (
            smooth,
            "[[event]]\nat = \"5 s\"\nlink = { who = \"plover\", down = { loss = \"100 %\" } }\n[[event]]\nat = \"6.5 s\"\nlink = { who = \"plover\", down = { loss = \"0 %\" } }\n",
            "snapshots_lost",
        ),
        (smooth, "[[event]]\nat = \"5 s\"\nfreeze = { who = \"server\", lasts = \"1.5 s\" }\n", "server_stood_still"),
        (smooth, "[[event]]\nat = \"5 s\"\nfreeze = { who = \"plover\", lasts = \"700 ms\" }\n", "stood_still"),
        (
            smooth,
            "[[event]]\nat = \"5 s\"\nlink = { who = \"plover\", down = { latency = \"900 ms\" } }\n",
            "snapshots_late",
        ),
    ] {
        let mut run = two(link, rest);
        run.advance(secs(12.0));
        let all = of(&run, 0);
        let stalled: Vec<&Trouble> = all.iter().filter(|t| t.stalls > 0).collect();
        let names: Vec<String> = stalled.iter().map(|t| t.reason.name()).collect();
        assert_eq!(names, [name], "{all:?}");
        assert!(stalled[0].stalls == 1 && (0.3..2.5).contains(&stalled[0].seconds), "{:?}", stalled[0]);
        assert!(stalled[0].first > secs(4.9) && stalled[0].last < secs(8.0), "{:?}", stalled[0]);
    }
}

#[test]
fn drawn_as_it_comes_is_a_trouble_by_that_name() {
    let mut run = two("latency = \"40 ms\"", "");
    run.command(Command::Set {
        member: crate::scenario::member(0),
        knob: Knob::Interpolation,
        value: KnobValue::Switch(false),
    });
    run.advance(secs(12.0));
    let all = of(&run, 0);
    let worst = all.first().expect("it hops");
    assert_eq!((&worst.reason, worst.corrections), (&Reason::AsItCame, 0));
    assert!(worst.hops > 100 && worst.seen_m > 5.0, "{worst:?}");
    assert!(!all.iter().any(|t| t.reason == Reason::RanDry(Dry::Seldom)), "{all:?}");
}

#[test]
fn whatever_the_figures_count_is_in_a_trouble_and_the_worst_is_first() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.set_keep(Keep::All);
    run.meter();
    run.advance(secs(40.0));
    let (record, measured) = (run.record(), run.measured());
    let machines: Vec<MachineId> = record.cast.players().collect();
    for (client, machine) in measured.clients.iter().zip(&machines) {
        let mine = measured.troubles.iter().filter(|t| t.machine == *machine);
        let count: u32 = mine.clone().map(|t| t.corrections).sum();
        assert_eq!(count, client.corrections.count, "{}", client.name);
        // A teleport of the own is no hop to anybody.
        let hops: u32 = mine.map(|t| t.hops).sum();
        let told = [client.own.hops_per_min, client.others.hops_per_min].map(|h| h.unwrap_or(0.0));
        assert!(hops > 0 || told == [0.0, 0.0], "{}", client.name);
    }
    let seen: Vec<f64> = measured.troubles.iter().map(|t| t.seen_m).collect();
    assert!(seen.is_sorted_by(|a, b| a >= b) && seen.len() > 6);
    // Metered second by second or asked for at once, they are the same.
    let at_once = troubles(run.found(), None, LabTime::ZERO, run.now());
    assert_eq!(at_once, measured.troubles);
    // In one span as well: then sums are added up in the same order.
    for machine in machines {
        let (_, whole) = metrics::measure_all(run.found(), machine, LabTime::ZERO, run.now());
        let mine: Vec<&Trouble> = measured.troubles.iter().filter(|t| t.machine == machine).collect();
        assert_eq!(whole.iter().collect::<Vec<_>>(), mine);
    }
}

#[test]
fn somebody_elses_pull_back_is_no_turn_between_snapshots() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.set_keep(Keep::All);
    run.advance(secs(40.0));
    let heron = of(&run, 1);
    let back = named(&heron, "other_pulled_back").expect("magpie is pulled back, and heron sees it");
    assert!(back.hops > 3 && back.seen_m > 0.1 && back.corrections == 0, "{back:?}");
    assert_eq!(back.reason.words(run.record()), "somebody pulled back by the guard");
    // Couriers on foot do not turn so far.
    let turns = named(&heron, "turns_between_snapshots").expect("couriers turn");
    assert!(turns.seen_m / f64::from(turns.hops) < 0.1, "{turns:?}");
    // Where nobody is pulled back there is none.
    let mut honest = Course::demo();
    let magpie = honest.member("magpie").expect("the rogue");
    honest.cast[magpie.index()].tricks.clear();
    let mut run = Run::new(honest).expect("it fits");
    run.set_keep(Keep::All);
    run.advance(secs(40.0));
    assert!(named(&of(&run, 1), "other_pulled_back").is_none());
}

#[test]
fn who_says_where_it_is_and_is_put_elsewhere_was_not_pulled_back() {
    for arrangement in ["claims", "claims with inputs"] {
        let cast = walker("plover", &format!("arrangement = \"{arrangement}\"")) + &walker("heron", "");
        let put = "[[event]]\nat = \"3 s\"\nteleport = { who = \"plover\", to = [-20, 15] }\n";
        let run = Words { link: "latency = \"50 ms\"", rest: cast + put, ..Words::default() }.run(6.0);
        let record = run.record();
        let corrected = corrections(record, 0, LabTime::ZERO);
        let [(at, c)] = corrected[..] else { panic!("{arrangement}: {corrected:?}") };
        let words = Findings::default().of(record, machine(record, 0), at, &c).words(record, machine(record, 0), &c);
        assert_eq!(words, "put elsewhere by the server at tick 180", "{arrangement}");
        let (own, seen) = (of(&run, 0), of(&run, 1));
        assert!(named(&own, "not_attributed").is_none() && named(&own, "teleported").is_some(), "{own:?}");
        assert!(named(&seen, "other_pulled_back").is_none(), "{seen:?}");
        assert!(named(&seen, "other_teleported").is_some(), "{seen:?}");
    }
}

#[test]
fn who_is_put_back_to_its_echo_while_its_inputs_are_waited_for_is_told_so() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../courses/twelve-pressers.course.toml");
    let text = std::fs::read_to_string(path).expect("it ships");
    let bound = "[defaults]\nmissing = \"wait\"\nwait = 16\necho = \"binding\"\necho_leash = \"0.25 m\"\n\n[world]";
    let course = Course::parse(path, &text.replacen("[world]", bound, 1), &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut run = Run::new(course).expect("it fits");
    run.meter();
    run.advance(secs(14.0));
    let figures = run.measured();
    let put: u32 = figures.clients.iter().map(|client| client.corrections.teleported).sum();
    let unexplained: u32 = figures.clients.iter().map(|client| client.corrections.unexplained).sum();
    assert!(put > 1 && unexplained == 0, "{put} put back, {unexplained} unexplained");
}

/// What goes wrong in half a minute on phones with these settings: how often each reason is given.
fn reasons_on_phones(defaults: &str) -> std::collections::BTreeMap<String, u32> {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../courses/links/phone.course.toml");
    let text = std::fs::read_to_string(path).expect("it ships");
    let text = text.replacen("[world]", &format!("[defaults]\n{defaults}\n\n[world]"), 1);
    let mut run = Run::new(Course::parse(path, &text, &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    run.advance(secs(30.0));
    let mut reasons = std::collections::BTreeMap::new();
    for trouble in (0..3).flat_map(|member| of(&run, member)) {
        *reasons.entry(trouble.reason.name()).or_default() += trouble.hops;
    }
    reasons
}

#[test]
fn who_is_drawn_in_the_present_hops_where_it_does_otherwise_than_foreseen_and_nobody_else_does() {
    let present = reasons_on_phones("remotes_at = \"present\"\nreturn = \"half_life\"");
    let foreseen = present.get("foreseen_otherwise").copied().unwrap_or(0);
    assert!(foreseen > 100 && !present.contains_key("drawn_otherwise"), "{present:?}");
    let past = reasons_on_phones("view_delay = \"50 ms\"\nrun_on = \"rule\"\nreturn = \"half_life\"");
    let dry: u32 =
        ["snapshots_lost", "snapshots_late", "snapshots_seldom"].iter().filter_map(|name| past.get(*name)).sum();
    assert!(dry > 20 && !past.contains_key("foreseen_otherwise") && !past.contains_key("drawn_otherwise"), "{past:?}");
}

#[test]
fn what_a_stream_held_back_is_told_from_what_was_lost_or_late() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../courses/links/satellite.course.toml");
    let text = std::fs::read_to_string(path).expect("it ships");
    let troubles_of = |over: &str| {
        let text = text.replacen("[world]", &format!("[defaults]\nsnapshots_over = \"{over}\"\n\n[world]"), 1);
        let mut run = Run::new(Course::parse(path, &text, &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
        run.advance(secs(30.0));
        let all: Vec<Trouble> = (0..3).flat_map(|member| of(&run, member)).collect();
        let of = |name: &str| all.iter().filter(|t| t.reason.name() == name).map(|t| t.hops + t.stalls).sum::<u32>();
        (of("snapshots_held_back"), of("snapshots_lost") + of("snapshots_late"))
    };
    let (held, lost) = troubles_of("stream");
    assert!(held > 20 && lost < held / 2, "{held}, {lost}");
    assert_eq!(troubles_of("datagrams").0, 0);
}
