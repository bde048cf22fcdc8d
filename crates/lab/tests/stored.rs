//! A record that was written while it ran is read back to the same record, wherever the file was cut or damaged up to there.

use std::io::Cursor;
use std::path::Path;

use crate::scenario::{Words, member};
use proptest::prelude::*;
use velocitas_analysis::cause::{Findings, Found};
use velocitas_analysis::{metrics, trouble};
use velocitas_core::Motion;
use velocitas_core::altered::Altered;
use velocitas_lab::export::{self, Ending, Lines};
use velocitas_lab::stored::{Store, Stored, StoredError, is_lines, is_record};
use velocitas_lab::take::{Journal, Take};
use velocitas_lab::{Course, Keep, Run};
use velocitas_record::{Coming, Command, Knob, KnobValue, LabTime};

fn secs(s: f64) -> LabTime {
    LabTime::from_secs(s)
}

/// A run written as it goes, with the file.
fn written(course: Course, lasts: f64, commands: &[(f64, Command)]) -> (Run, Vec<u8>) {
    let mut run = Run::new(course).expect("it fits");
    run.set_keep(Keep::All);
    let mut journal = Journal::new("quay.course.toml", "test");
    let mut store = Store::new(Vec::new(), run.record()).expect("memory");
    let mut commands = commands.iter().peekable();
    while run.now() < secs(lasts) {
        store.text(&journal.news(&run)).expect("memory");
        let next = run.now().plus(secs(1.0)).min(secs(lasts));
        let stop = commands.peek().map_or(next, |(at, _)| next.min(secs(*at)));
        run.advance_with(stop, &mut store);
        while let Some((_, command)) = commands.next_if(|(at, _)| secs(*at) <= stop) {
            run.command_with(*command, &mut store);
        }
    }
    store.text(&journal.news(&run)).expect("memory");
    let file = store.finish(run.now(), &ending(&run)).expect("memory");
    (run, file)
}

/// Its rows, with all that is needed to open them.
fn rows(run: &Run) -> Vec<u8> {
    let take = Journal::new("quay.course.toml", "test").news(run);
    let mut rows = Vec::new();
    export::first_row(run.record(), Some(&take), &mut rows).expect("memory");
    Lines::default().rest(run.found(), &mut rows).expect("memory");
    export::last_row(run.record(), &ending(run), &mut rows).expect("memory");
    rows
}

fn ending(run: &Run) -> Ending {
    Ending { digest: run.digest(), refused_datagrams: run.lab().refused() }
}

fn read(file: &[u8]) -> Stored {
    Stored::read(Cursor::new(file), &[], Keep::All).unwrap_or_else(|e| panic!("{e}"))
}

/// Every row of a record, and all that it comes to.
fn told(record: &velocitas_record::record::Record, ending: &Ending) -> Vec<String> {
    let mut rows = Vec::new();
    export::write(record, ending, &mut rows).expect("memory");
    let mut told: Vec<String> = String::from_utf8(rows).expect("text").lines().map(str::to_owned).collect();
    for machine in record.cast.players() {
        told.push(format!("{:?}", metrics::measure(record, machine, LabTime::ZERO, record.end)));
        let rows = record.of(machine);
        told.push(format!("{:?}", rows.otherwise.iter().collect::<Vec<_>>()));
        // Of one moment they have no order.
        let mut marks: Vec<String> = rows.marks.iter().map(|mark| format!("{mark:?}")).collect();
        marks.sort();
        told.push(marks.concat());
        told.push(format!("{:?} {:?}", rows.frames.len(), rows.presence.iter().collect::<Vec<_>>()));
        told.push(format!("{:?}", record.refusal(machine, record.end)));
    }
    told.push(format!(
        "{:?}",
        trouble::troubles(Found { record, findings: &Findings::default() }, None, LabTime::ZERO, record.end)
    ));
    told
}

#[track_caller]
fn is_the_same(run: &Run, stored: &Stored) {
    assert_eq!(stored.damage, None);
    let (was, is) = (told(run.record(), &ending(run)), told(&stored.record, stored.ending.as_ref().expect("it ended")));
    let parted = was.iter().zip(&is).find(|(was, is)| was != is);
    assert!(parted.is_none() && was.len() == is.len(), "{parted:?}, {} and {} rows", was.len(), is.len());
    assert_eq!(stored.take.commands, run.commands());
}

/// Courses in which there is something of everything.
fn shipped(name: &str) -> Course {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../courses").join(name);
    let text = std::fs::read_to_string(&path).expect("it ships");
    Course::parse(&path.display().to_string(), &text, &[]).unwrap_or_else(|e| panic!("{e}"))
}

#[test]
fn what_is_read_back_is_the_record_it_was() {
    let moves = |at, m, coming| (at, Command::Moves(member(m), coming));
    let set = |at, m: usize, knob, value| (at, Command::Set { member: member(m), knob, value });
    let commands = [
        set(1.5, 0, Knob::Latency, KnobValue::Number(140.0)),
        moves(3.0, 1, Coming::Crash),
        moves(4.5, 1, Coming::Return),
        set(5.0, 0, Knob::Interpolation, KnobValue::Switch(false)),
    ];
    for name in ["lampwick-quay", "bad-evening", "comings-and-goings", "faults/twin", "faults/stale", "faults/leaver"] {
        for seed in [3, 4] {
            let course = Course { seed, ..shipped(&format!("{name}.course.toml")) };
            let (run, file) = written(course, 9.0, &commands);
            assert!(is_record(&file));
            is_the_same(&run, &read(&file));
            let rows = rows(&run);
            assert!(is_lines(&rows));
            is_the_same(&run, &Stored::read_lines(Cursor::new(rows), &[], Keep::All).unwrap_or_else(|e| panic!("{e}")));
        }
    }
}

#[test]
fn a_file_that_is_cut_or_damaged_is_read_up_to_its_last_sound_block() {
    let (run, file) = written(Course::demo(), 6.0, &[]);
    for (part, damaged) in [(0.3, false), (0.5, true), (0.8, false), (0.95, true)] {
        let at = (file.len() as f64 * part) as usize;
        let mut bytes = file.clone();
        if damaged {
            bytes[at] ^= 0x10;
        } else {
            bytes.truncate(at);
        }
        let stored = read(&bytes);
        let damage = stored.damage.as_ref().expect("it is told");
        assert!(damage.sound <= at && damage.sound + damage.left == bytes.len() && stored.ending.is_none());
        // A block is of a second at most.
        let until = stored.record.end;
        assert!(until.secs() > 6.0 * part - 1.6 && until < run.now(), "{part}: {until}");
        let plover = stored.record.cast.players().next().expect("somebody plays");
        let frames = |record: &velocitas_record::record::Record| {
            record.of(plover).frames.iter().filter(|f| f.at <= until).map(|f| (f.at, f.tick)).collect::<Vec<_>>()
        };
        assert_eq!(frames(&stored.record), frames(run.record()));
    }
}

#[test]
fn what_is_no_record_is_refused_in_words_and_memory_is_bounded() {
    for bytes in [&b""[..], b"velocitas record 1\n", b"format = 1\n", b"velocitas recor"] {
        let refused = Stored::read(Cursor::new(bytes), &[], Keep::All);
        assert!(matches!(refused, Err(StoredError::Foreign)), "{bytes:?}");
    }
    for (text, why) in [
        ("", "whose first line is a whole object of kind `run`"),
        ("hello", "whose first line is a whole object of kind `run`"),
        ("{\"kind\":\"authority\"}", "whose first line is a whole object of kind `run`"),
        ("{\"kind\":\"run\",\"format\":2}", "expected a record of format 3; found format 2"),
        ("{\"kind\":\"run\"}", "expected a record of format 3; found no format"),
        ("{\"kind\":\"run\",\"format\":3}", "expected `take` in its first line"),
        ("{\"kind\":\"run\",\"format\":3,\"take\":[]}", "what it says of its course cannot be read"),
    ] {
        let refused = Stored::read_lines(Cursor::new(text), &[], Keep::All).err().map(|why| why.to_string());
        assert!(refused.as_ref().is_some_and(|said| said.contains(why)), "{text}: {refused:?}");
    }
    // A block of a time that no run reaches: its seconds are not looked through.
    let text = Journal::new("quay.course.toml", "test").news(&Run::new(Course::demo()).expect("it fits"));
    let late = Stored::read(Cursor::new(velocitas_lab::stored::framed(&text, &[], LabTime(u64::MAX))), &[], Keep::All);
    let late = late.expect("it is sound up to there");
    assert!(late.damage.as_ref().is_some_and(|damage| damage.why.contains("long after")), "{:?}", late.damage);
    assert!(late.run().is_ok_and(|run| run.measured().clients.len() == 6));
    let only = Stored::read(Cursor::new(b"velocitas record 2\n"), &[], Keep::All);
    assert!(matches!(only, Err(StoredError::Take(_))));
    let (run, file) = written(Course::demo(), 80.0, &[]);
    let bounded = Stored::read(Cursor::new(&file[..]), &[], Keep::Bytes(1)).expect("it is sound");
    assert!(bounded.record.kept_from > secs(10.0) && bounded.record.bytes() < run.record().bytes());
    // However little is kept, figures are of the whole.
    let is = bounded.run().expect("it fits").measured();
    assert_eq!(format!("{is:?}"), format!("{:?}", run.measured()));
    assert!(file.len() < 2 * run.record().bytes(), "{} bytes of {}", file.len(), run.record().bytes());
}

#[test]
fn rows_that_are_cut_or_damaged_are_read_up_to_the_last_sound_one() {
    let run = written(Course::demo(), 4.0, &[]).0;
    let whole = rows(&run);
    let lines: Vec<&[u8]> = whole.split_inclusive(|byte| *byte == b'\n').collect();
    let at = lines.len() * 3 / 4;
    let before = lines[..at].concat();
    let cut =
        |more: &[u8]| Stored::read_lines(Cursor::new([&before, more].concat()), &[], Keep::All).expect("it is sound");
    for (more, why) in [
        (&lines[at][..lines[at].len() / 2], "it is cut short"),
        (&b"nothing\n"[..], "no JSON object"),
        (&b"{\"kind\":\"clock\",\"at_ns\":5}\n"[..], "older than the one before"),
        (&b"{\"kind\":\"clock\",\"at_ns\":3999999999}\n"[..], "a key that is missing"),
        (
            &b"{\"kind\":\"end\",\"at_ns\":18446744073709551615,\"digest\":\"0\",\"refused_datagrams\":0}\n"[..],
            "long after",
        ),
        (&b"{\"kind\":\"weather\",\"at_ns\":3999999999}\n"[..], "unknown kind"),
    ] {
        let stored = cut(more);
        let damage = stored.damage.expect("it is told");
        assert!(damage.why.contains(why) && damage.why.starts_with(&format!("line {}: ", at + 1)), "{damage}");
        assert_eq!((damage.sound, damage.left), (before.len(), more.len()));
        let until = stored.record.end;
        assert!(stored.ending.is_none() && until > secs(2.5) && until < run.now(), "{until}");
    }
    // However much is said of one moment, no more of it is held.
    let same = format!("{{\"kind\":\"clock\",\"at_ns\":3999999999,\"x\":\"{}\"}}\n", "x".repeat(1 << 20)).repeat(70);
    let damage = cut(same.as_bytes()).damage.expect("it is told");
    assert!(damage.why.contains("more at one moment than any run has"), "{damage}");
    // Without an end it is not known how it ended, and nothing is left out.
    let stored = cut(b"");
    assert!(stored.damage.is_none() && stored.ending.is_none());
    let plover = stored.record.cast.players().next().expect("somebody plays");
    let frames = |record: &velocitas_record::record::Record| record.of(plover).frames.before(stored.record.end);
    assert_eq!(frames(&stored.record), frames(run.record()));
}

/// What blocks of facts hold.
fn facts(file: &[u8]) -> Vec<&[u8]> {
    const HEAD: usize = 25;
    let mut rest = &file[b"velocitas record 2\n".len()..];
    let mut all = Vec::new();
    while !rest.is_empty() {
        let length = u32::from_le_bytes(rest[1..5].try_into().expect("four bytes")) as usize;
        all.extend((rest[0] == 2).then(|| &rest[HEAD..HEAD + length]));
        rest = &rest[HEAD + length..];
    }
    all
}

/// How many damaged files are read: more where asked for.
fn cases() -> u32 {
    std::env::var("VELOCITAS_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(24)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), ..ProptestConfig::default() })]
    #[test]
    fn bytes_turned_anywhere_stop_nothing(turned in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..6)) {
        static FILE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
        let file = FILE.get_or_init(|| written(Course::demo(), 2.5, &[]).1);
        let mut bytes = file.clone();
        for (at, byte) in &turned {
            bytes[at.index(file.len())] = *byte;
        }
        velocitas_lab::fuzz::record(&bytes);
        // The same where checksums are right: a file may be made by anybody.
        let all = facts(file);
        let mut bytes = all[turned[0].0.index(all.len())].to_vec();
        for (at, byte) in &turned {
            let at = at.index(bytes.len());
            bytes[at] = *byte;
        }
        velocitas_lab::fuzz::facts(&bytes);
    }

    #[test]
    fn rows_turned_anywhere_stop_nothing(turned in prop::collection::vec((any::<prop::sample::Index>(), any::<prop::sample::Index>()), 1..6)) {
        static ROWS: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
        let rows = ROWS.get_or_init(|| {
            let all = rows(&written(Course::demo(), 2.5, &[]).0);
            all.splitn(2, |byte| *byte == b'\n').nth(1).expect("there are rows").to_vec()
        });
        let mut bytes = rows.clone();
        for (at, from) in &turned {
            // What stands elsewhere in rows is likelier to be read than any byte.
            bytes[at.index(rows.len())] = rows[from.index(rows.len())];
        }
        velocitas_lab::fuzz::rows(&bytes);
        // And rows themselves, in the place of others.
        let mut lines: Vec<&[u8]> = rows.split_inclusive(|byte| *byte == b'\n').collect();
        for (at, from) in &turned {
            let (at, from) = (at.index(lines.len()), from.index(lines.len()));
            lines.swap(at, from);
        }
        velocitas_lab::fuzz::rows(&lines.concat());
    }
}

#[test]
fn a_record_opens_where_a_rule_in_rust_is_not_and_nothing_is_tried() {
    let cast = "[[cast]]\nname = \"plover\"\nrole = \"bot\"\nrule = \"strider\"\nlink = \"test\"\nspawn = [0, 0]\nroute = [\n\
                { at = [8, 0] }, { at = [0, 8] }, { at = [-8, 0] }]\n";
    let words = Words { link: "latency = \"60 ms\"\nloss = \"8 %\"", rest: cast.to_owned(), ..Words::default() };
    let own: Vec<std::sync::Arc<dyn Motion>> = vec![std::sync::Arc::new(Altered::named("strider"))];
    let course = Course::parse("yard.course.toml", &words.text(), &own).unwrap_or_else(|e| panic!("{e}"));
    let push = (3.0, Command::Happens(member(0), velocitas_record::Sudden::Push(velocitas_core::vec3(4.0, 3.0, 0.0))));
    let (run, file) = written(course, 9.0, &[push]);
    let lines = rows(&run);
    for of_blocks in [true, false] {
        let read = |own: &[std::sync::Arc<dyn Motion>]| match of_blocks {
            true => Stored::read(Cursor::new(&file), own, Keep::All),
            false => Stored::read_lines(Cursor::new(&lines), own, Keep::All),
        };
        let there = read(&own).unwrap_or_else(|e| panic!("{e}"));
        is_the_same(&run, &there);
        let absent = read(&[]).unwrap_or_else(|e| panic!("{e}"));
        assert_eq!((&absent.damage, absent.record.end), (&None, run.now()));
        let [was, is] = [&there, &absent].map(|it| told(&it.record, it.ending.as_ref().expect("it ended")));
        let untried: Vec<&String> = is.iter().zip(&was).filter(|(is, was)| is != was).map(|(is, _)| is).collect();
        assert!(was.len() == is.len() && !untried.is_empty());
        for line in untried {
            assert!(
                ["not tried: the rule is not here", "NotTried"].iter().any(|said| line.contains(said)),
                "only what would be tried is otherwise: {line}"
            );
        }
        let frame = absent.run().expect("it fits");
        assert!(frame.is_over() && frame.measured().clients[0].corrections.count > 0);
    }
    // To be run, the rule has to be here.
    let take = Journal::new("yard.course.toml", "test").news(&run);
    assert!(take.contains("in_rust") && Take::read(take.as_bytes(), &own).is_ok());
    // What is told of it is looked at: it is no rule that draws on a terminal, or has lanes that are not there.
    for (was, is, why) in [
        ("\"name\":\"pos\"", "\"name\":\"\\u001b[2J\"", "a name of at most 64"),
        ("\"lane\":3", "\"lane\":300", "beyond the last"),
        ("\"bits\":7", "\"bits\":1", "must take 2 to 16 bits"),
        ("\"radius\":", "\"radius\":-", "that are numbers"),
    ] {
        let (mut so_far, mut told) = (String::new(), String::new());
        for line in take.lines() {
            let text = line.split_once(' ').expect("a checksum stands before it").1;
            let text = if text.contains("in_rust") { text.replacen(was, is, 1) } else { text.to_owned() };
            so_far += &format!("{text}\n");
            told += &format!("{:08x} {text}\n", crc32fast::hash(so_far.as_bytes()));
        }
        assert_ne!(told, take, "{was} is there");
        let refused = Take::read(told.as_bytes(), &own).err().map(|why| why.to_string());
        assert!(refused.as_ref().is_some_and(|said| said.contains(why)), "{is}: {refused:?}");
    }
    let refused = Take::read(take.as_bytes(), &[]).err().map(|why| why.to_string()).expect("it cannot be run");
    assert!(refused.contains("strider"), "{refused}");
}
