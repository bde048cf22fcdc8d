//! Takes: whatever was done to a run, what was told of it gives it again.

use std::sync::Arc;

use proptest::prelude::*;
use velocitas_core::{Input, Rule, SolidId, vec3};
use velocitas_lab::take::{Journal, Take, TakeError, is_take};
use velocitas_lab::{Course, ReadRule, Run};
use velocitas_record::{Calm, Coming, Command, Controls, KNOBS, KnobValue, LabTime, MemberId, Reach, Sudden};

/// The number of the courier in the demo.
const COURIER: u8 = 1;

fn member(i: usize) -> MemberId {
    MemberId::new(i as u16)
}

fn demo() -> Run {
    Run::new(Course::demo()).expect("it fits")
}

fn told(run: &Run) -> String {
    Journal::new("lampwick-quay.course.toml", "0").news(run)
}

/// What a take comes to when it is run to its end.
fn again(take: &Take) -> Run {
    let mut run = Run::of_take(take).expect("it fits");
    run.advance(take.end);
    run
}

fn read(text: &str) -> Take {
    Take::read(text.as_bytes(), &[]).expect("a take")
}

#[derive(Clone, Debug)]
enum Step {
    Advance(u64),
    Do(Command),
    /// Goes back so much of all there is, in per mille, and on from there.
    Resume(u64),
    /// The same in a branch in which something is commanded, which is kept.
    Branch(u64, Command),
    Reload(u32, Option<usize>),
    TakeOver(u32),
    Tell,
}

fn number() -> impl Strategy<Value = f32> {
    prop_oneof![-9.0f32..9.0, Just(0.1), Just(-0.0), Just(1e-30), Just(f32::MIN_POSITIVE / 2.0)]
}

fn command() -> impl Strategy<Value = Command> {
    let who = || (0usize..3).prop_map(member);
    let reach = |course: &Course| {
        let machine = course.machine(member(1));
        prop_oneof![Just(Reach::All), Just(Reach::One(machine))]
    };
    let course = Course::demo();
    let knob = (0..KNOBS.len(), 0.0f64..200.0, any::<bool>()).prop_map(|(i, x, on)| {
        let knob = KNOBS[i].knob;
        let value = match knob.get(&Course::demo()[member(0)].knobs) {
            KnobValue::Switch(_) => KnobValue::Switch(on),
            KnobValue::Choice(_) => KnobValue::Choice(x as u8 % knob.choices().len() as u8),
            KnobValue::Auto if on => KnobValue::Auto,
            KnobValue::Auto | KnobValue::Number(_) => KnobValue::Number(x),
        };
        (knob, value)
    });
    let keys = (number(), number(), number(), any::<bool>(), 0u32..4).prop_map(|(x, y, facing, order, given)| {
        let mut input = Input::default();
        input.set_int(3, given);
        Command::Keys(Controls {
            stick: (x / 9.0, y / 9.0),
            facing,
            pitch: -0.0,
            order: order.then_some(vec3(x, y, 0.5)),
            given: input,
        })
    });
    prop_oneof![
        4 => keys,
        1 => proptest::option::of(who()).prop_map(Command::Helm),
        1 => (who(), 0usize..4).prop_map(|(who, how)| Command::Moves(who, Coming::ALL[how])),
        1 => who().prop_map(Command::Mend),
        1 => (who(), number(), number()).prop_map(|(who, x, y)| Command::Happens(who, Sudden::Push(vec3(x, y, -0.0)))),
        1 => (who(), number(), number()).prop_map(|(who, x, y)| Command::Happens(who, Sudden::Teleport(vec3(x, y, 1.0)))),
        1 => (who(), 0u64..900_000_001).prop_map(|(who, ns)| Command::Happens(who, Sudden::Freeze(LabTime(ns)))),
        1 => (proptest::option::of(who()), 0u8..9).prop_map(|(who, which)| {
            Command::Calm(match (which, who) {
                (0, Some(who)) => Calm::Up(who),
                (1, Some(who)) => Calm::Down(who),
                (2, who) => Calm::Frames(who),
                (7, _) => Calm::Hands,
                (3, _) => Calm::Solid(SolidId(1)),
                (4, _) => Calm::Tunable { kind: COURIER, tunable: "walk" },
                (5, Some(who)) => Calm::Link(who, None),
                (6, Some(who)) => Calm::Link(who, Some(velocitas_record::Knob::Loss)),
                _ => Calm::Pushes,
            })
        }),
        3 => (who(), knob).prop_map(|(member, (knob, value))| Command::Set { member, knob, value }),
        1 => (number(), reach(&course)).prop_map(|(value, reach)| Command::Tune { kind: COURIER, tunable: "walk", value, reach }),
        1 => (0u16..4, any::<bool>(), reach(&course)).prop_map(|(solid, there, reach)| Command::Solid { solid: SolidId(solid), there, reach }),
        1 => (0usize..3, 1u8..80).prop_map(|(which, bins)| Command::Allow {
            rule: [Rule::Reach, Rule::Pace, Rule::Accel][which],
            times: f32::from(bins) / 40.0,
        }),
    ]
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => (1u64..2_500).prop_map(Step::Advance),
        5 => command().prop_map(Step::Do),
        1 => (0u64..1000).prop_map(Step::Resume),
        1 => (500u64..1000, command()).prop_map(|(at, command)| Step::Branch(at, command)),
        1 => (1u32..90, proptest::option::of(0usize..2)).prop_map(|(tenths, one)| Step::Reload(tenths, one)),
        1 => (2u32..7).prop_map(Step::TakeOver),
        3 => Just(Step::Tell),
    ]
}

fn courier(tenths: u32) -> String {
    let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
    assert!(text.contains("4.2 m/s"), "that is how it walks");
    text.replace("4.2 m/s", &format!("{}.{} m/s", tenths / 10 + 1, tenths % 10))
}

fn done(run: &mut Run, step: &Step) {
    match step {
        Step::Advance(ms) => run.advance(run.now().plus(LabTime(ms * 1_000_000))),
        Step::Do(command) => run.command(*command),
        Step::Resume(share) => run.resume_from(LabTime(run.now().0 / 1000 * share)),
        Step::Branch(share, command) => {
            let at = LabTime(run.now().0 / 1000 * share);
            let Some(mut branch) = run.branch(at) else { return };
            branch.command(*command);
            branch.advance(run.now());
            *run = branch;
        }
        Step::Reload(tenths, one) => {
            let text = courier(*tenths);
            let before = run.lab().server_known().kinds.motion(COURIER).schema().clone();
            let rule = velocitas_gait::compile_after(&text, Some(&before)).gait.expect("sound");
            let reach = one.map_or(Reach::All, |one| Reach::One(run.course().machine(member(one))));
            let read = ReadRule { rule: Arc::new(rule), text: Some(text.as_str().into()) };
            run.reload_text(COURIER, read, reach).expect("of the same layout");
        }
        Step::TakeOver(every) => {
            let text = format!("snapshot_every = {every}\n{}", velocitas_lab::DEMO.replace("snapshot_every = 3", ""));
            let saved = Course::parse("saved", &text, &[]).expect("sound");
            run.take_over(&saved);
        }
        Step::Tell => {}
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, ..ProptestConfig::default() })]
    #[test]
    fn whatever_was_done_is_done_again(steps in proptest::collection::vec(step(), 1..25), cut in any::<prop::sample::Index>()) {
        let mut run = demo();
        let mut journal = Journal::new("lampwick-quay.course.toml", "0");
        let mut text = journal.news(&run);
        for step in &steps {
            done(&mut run, step);
            if matches!(step, Step::Tell) {
                text += &journal.news(&run);
            }
        }
        text += &journal.news(&run);
        prop_assert_eq!(journal.news(&run), "", "nothing is told twice");

        let take = read(&text);
        prop_assert_eq!((take.end, take.damage), (run.now(), None));
        let same = |a: &(LabTime, Command), b: &(LabTime, Command)| {
            // What was read and dropped is gone from the count.
            a.0 == b.0 && (a.1 == b.1 || matches!(a.1, Command::Reload { .. } | Command::TakeOver { .. }))
        };
        prop_assert!(take.commands.len() == run.commands().len() && take.commands.iter().zip(run.commands()).all(|(a, b)| same(a, b)));
        let replayed = again(&take);
        prop_assert_eq!((replayed.digest(), replayed.parted()), (run.digest(), None));
        prop_assert_eq!(replayed.digests(), run.digests());
        prop_assert_eq!(take.look, None);
        text += &journal.look(run.now(), "heron");
        prop_assert_eq!(read(&text).look, Some((run.now(), member(1))));
        // Told at once it is the same run; what was told bit by bit and cut short is a run up to there.
        prop_assert_eq!(again(&read(&told(&run))).digest(), run.digest());
        let cut = cut.index(text.len());
        if let Ok(take) = Take::read(&text.as_bytes()[..cut], &[]) {
            prop_assert_eq!(take.damage.is_some(), !text[..cut].ends_with('\n'));
            prop_assert_eq!(again(&take).parted(), None);
        }
    }
}

#[test]
fn a_take_damaged_at_any_line_opens_up_to_there_and_says_so() {
    let mut run = demo();
    for i in 0..6 {
        run.command(Command::Happens(member(i % 2), Sudden::Freeze(LabTime(1 + i as u64))));
        run.advance(LabTime::from_secs(1.5 * (i + 1) as f64));
    }
    let text = told(&run);
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    assert!(lines.len() == 2 + 6 + 2 + 1, "{text}");
    let mut begin = 0;
    for (i, line) in lines.iter().enumerate() {
        let mut bytes = text.clone().into_bytes();
        bytes[begin + line.len() / 2] ^= 1;
        match Take::read(&bytes, &[]) {
            Err(TakeError::NoTake(_)) => assert_eq!(i, 0),
            Err(TakeError::NoCourse(why)) => assert!(i == 1 && why.contains("line 2"), "{i}: {why}"),
            Err(other) => panic!("line {i}: {other}"),
            Ok(take) => {
                let damage = take.damage.expect("noticed");
                assert_eq!((damage.line, damage.byte, damage.lost), (i + 1, begin, text.len() - begin));
                assert!(take.commands.len() == lines[2..i].iter().filter(|line| line.contains("\"do\"")).count());
                assert_eq!(again(&take).parted(), None);
            }
        }
        begin += line.len();
    }
    let cut = Take::read(&text.as_bytes()[..text.len() - 3], &[]).expect("most of it");
    let said = cut.damage.map(|damage| damage.to_string()).unwrap_or_default();
    assert!(
        said.starts_with("line 11 (byte ") && said.contains("is cut short") && said.ends_with("bytes are left out"),
        "{said}"
    );
}

#[test]
fn where_a_take_is_no_longer_what_it_was_is_told_by_its_checkpoints() {
    let mut run = demo();
    run.advance(LabTime::from_secs(13.0));
    let mut take = read(&told(&run));
    assert_eq!(take.digests.len(), 3, "at 4, 8 and 12 s");
    take.digests[1].1 ^= 1;
    assert_eq!(again(&take).parted(), Some(LabTime::from_secs(8.0)));
    // What is done otherwise from there on was never told.
    let mut other = Run::of_take(&take).expect("it fits");
    other.advance(LabTime::from_secs(6.0));
    other.resume_from(LabTime::from_secs(5.0));
    other.advance(take.end);
    assert_eq!(other.parted(), None);
}

#[test]
fn bytes_that_are_no_take_are_told_from_those_of_another_format() {
    let wrong = |bytes: &[u8]| Take::read(bytes, &[]).map(drop).unwrap_err().to_string();
    assert!(wrong(b"").contains("found an empty file"));
    assert!(wrong(b"format = 1\n").contains("found `format = 1`"), "{}", wrong(b"format = 1\n"));
    assert!(wrong(&[0xff; 200]).contains("expected a take, which begins with"));
    let text = told(&demo());
    assert!(is_take(text.as_bytes()) && !is_take(b"format = 1\n") && !is_take(b""));
    let sealed = |lines: &[&str]| {
        let mut all = Vec::<u8>::new();
        let mut so_far = Vec::<u8>::new();
        for line in lines {
            so_far.extend(line.bytes().chain(*b"\n"));
            all.extend(format!("{:08x} {line}\n", crc32fast::hash(&so_far)).bytes());
        }
        all
    };
    let first = "{\"take\":{\"format\":1,\"program\":\"0\",\"seed\":7}}";
    assert!(
        wrong(&sealed(&["{\"take\":{\"format\":2,\"era\":3}}"]))
            .contains("expected a take of format 1; found format 2")
    );
    assert!(wrong(&sealed(&[first])).contains("expected a course on line 2"));
    let bad =
        wrong(&sealed(&[first, "{\"course\":{\"version\":0,\"file\":\"x\",\"text\":\"format = 1\",\"files\":[]}}"]));
    assert!(bad.starts_with("line 2: the course in it cannot be read: x:1:1: "), "{bad}");
    let course = text.lines().nth(1).map(|line| line[9..].to_owned()).expect("a course");
    let said = |line: &str| wrong(&sealed(&[first, &course, line]));
    let freeze = |who: &str, at: u64| {
        format!("{{\"do\":{{\"at_ns\":{at},\"what\":{{\"freeze\":{{\"who\":\"{who}\",\"for_ns\":5}}}}}}}}")
    };
    assert!(said(&freeze("plovr", 3)).contains("line 3: the course has no member `plovr`: did you mean `plover`?"));
    let late = said(&freeze("plover", u64::MAX));
    assert!(late.contains("expected a moment from 0:00.00 on, within a week"), "{late}");
    assert!(said("{\"dance\":{}}").contains("line 3: unknown variant `dance`"), "{}", said("{\"dance\":{}}"));
    assert!(said("{\"rule\":{\"version\":2,\"text\":null}}").contains("expected a version from 1 to 1; found 2"));
    assert!(said("{\"back\":{\"at_ns\":4,\"commands\":0}}").contains("expected to go back from 0:00.00"));
    let reload = "{\"do\":{\"at_ns\":1,\"what\":{\"reload\":{\"rule\":\"courier\",\"version\":1,\"at\":\"all\"}}}}";
    assert!(said(reload).contains("there is no rule 1 before it"));
    let unwritten = wrong(&sealed(&[first, &course, "{\"rule\":{\"version\":1,\"text\":null}}", reload]));
    assert!(unwritten.contains("line 4: a rule without a file was read here"), "{unwritten}");
    // No number is too large for the file and then none.
    let push = |x: &str| {
        format!("{{\"do\":{{\"at_ns\":1,\"what\":{{\"push\":{{\"who\":\"plover\",\"by_mps\":[{x},0,0]}}}}}}}}")
    };
    assert!(said(&push("1e300")).contains("line 3: expected a number of 32 bits; found 1"), "{}", said(&push("1e300")));
    // One that 32 bits just hold is run without end or panic.
    for what in [
        "\"push\":{\"who\":\"plover\",\"by_mps\":[3e38,-3e38,3e38]}",
        "\"teleport\":{\"who\":\"heron\",\"to_m\":[3e38,1e30,-3e38]}",
    ] {
        let line = format!("{{\"do\":{{\"at_ns\":1000000000,\"what\":{{{what}}}}}}}");
        let take = Take::read(&sealed(&[first, &course, &line, "{\"reached\":{\"at_ns\":3000000000}}"]), &[]);
        assert_eq!(again(&take.expect("sound")).now(), LabTime::from_secs(3.0));
    }
}
