//! Takes on the command line: a run kept, run again, cut short, and held against another.

use std::fs;
use std::path::Path;
use std::process::Command;

use serde_json::Value;

fn run(folder: &Path, args: &[&str]) -> (String, String, i32) {
    let done =
        Command::new(env!("CARGO_BIN_EXE_velocitas")).current_dir(folder).args(args).output().expect("it starts");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    (text(&done.stdout), text(&done.stderr), done.status.code().unwrap_or(-1))
}

fn json(folder: &Path, args: &[&str]) -> Value {
    let (said, why, _) = run(folder, &[args, &["--report", "json"]].concat());
    serde_json::from_str(&said).unwrap_or_else(|e| panic!("{e}: {said}{why}"))
}

/// A folder with ten seconds of the demo in `a.take`.
fn kept() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    let (_, why, code) = run(folder.path(), &["run", "--for", "10s", "--take", "a.take"]);
    assert_eq!((why.as_str(), code), ("", 0));
    folder
}

/// The lines of a take with the checksums that they should have.
fn sealed(text: &str) -> String {
    let mut so_far = crc32fast::Hasher::new();
    let mut seal = |line: &str| {
        so_far.update(&line.as_bytes()[9..]);
        so_far.update(b"\n");
        format!("{:08x} {}\n", so_far.clone().finalize(), &line[9..])
    };
    text.lines().map(&mut seal).collect()
}

#[test]
fn a_take_runs_again_to_its_end_and_says_that_it_is_the_same() {
    let folder = kept();
    let first = json(folder.path(), &["run", "--for", "10s"]);
    let again = json(folder.path(), &["run", "a.take"]);
    assert_eq!((&first["digest"], &first["take"]), (&again["digest"], &Value::Null));
    assert_eq!((&again["take"]["checkpoints"], &again["take"]["parted_ms"]), (&2.into(), &Value::Null));
    let (said, _, code) = run(folder.path(), &["run", "a.take", "--for", "5s"]);
    assert!(code == 0 && said.contains("the same again at 1 checkpoint\n"), "{said}");
    // Kept again it is the same take.
    run(folder.path(), &["run", "a.take", "--take", "b.take"]);
    let read = |name: &str| fs::read_to_string(folder.path().join(name)).expect("there");
    assert_eq!(read("a.take"), read("b.take"));
    assert_eq!(sealed(&read("a.take")), read("a.take"));
    for command in ["check", "vet"] {
        let (_, why, code) = run(folder.path(), &[command, "a.take"]);
        assert!(code == 2 && why.contains("a.take: expected a gait or a course; found a take"), "{command}: {why}");
    }
    // Its course need not be there, and its luck is its own.
    let (_, why, code) = run(folder.path(), &["run", "a.take", "--seed", "8"]);
    assert!(code == 2 && why.contains("a take has its own seed (40)"), "{why}");
}

#[test]
fn a_take_that_comes_out_otherwise_says_from_which_checkpoint_on() {
    let folder = kept();
    let path = folder.path().join("a.take");
    let text = fs::read_to_string(&path).expect("there");
    let digest = text.find("8000000000,\"is\":\"").expect("a digest at 8 s") + 17;
    let other = format!("{}{}{}", &text[..digest], "0123456789abcdef", &text[digest + 16..]);
    fs::write(&path, sealed(&other)).expect("written");
    let (said, _, code) = run(folder.path(), &["run", "a.take"]);
    assert!(code == 1 && said.contains("no longer the same from checkpoint 0:08.00 on, of 2 checkpoints"), "{said}");
    assert_eq!(json(folder.path(), &["run", "a.take"])["take"]["parted_ms"], 8000.0);
}

#[test]
fn a_take_cut_at_any_byte_opens_up_to_there_or_says_why_not() {
    let folder = kept();
    let path = folder.path().join("a.take");
    let bytes = fs::read(&path).expect("there");
    let tail = bytes[..bytes.len() - 1].iter().rposition(|b| *b == b'\n').expect("a line before the last") + 1;
    let course = bytes.iter().enumerate().filter(|(_, b)| **b == b'\n').nth(1).map_or(0, |(i, _)| i + 1);
    for cut in [0, 5, 40, 200, course, course + 9, tail, tail + 1, bytes.len() - 1] {
        fs::write(&path, &bytes[..cut]).expect("written");
        let (said, why, code) = run(folder.path(), &["run", "a.take"]);
        let whole = cut == tail || cut == course;
        match code {
            0 => assert!(said.contains("the same again at") && why.is_empty() == whole, "{cut}: {said}{why}"),
            2 => {
                assert!(cut < course && why.starts_with("velocitas: cannot read the take a.take: "), "{cut}: {why}");
            }
            _ => panic!("{cut}: {code}: {said}{why}"),
        }
        if code == 0 && !whole {
            assert!(why.contains("warning: a.take: line ") && why.contains(" bytes are left out"), "{cut}: {why}");
        }
    }
}

#[test]
fn takes_and_reports_are_held_against_each_other() {
    let folder = kept();
    let (said, why, code) = run(folder.path(), &["compare", "a.take", "a.take", "--fail"]);
    assert!(
        code == 0 && said.contains("a.take and a.take: 10 s, seed 40\n  nothing came out otherwise"),
        "{said}{why}"
    );
    for (name, seed) in [("a.json", "40"), ("b.json", "8")] {
        let (said, ..) = run(folder.path(), &["run", "--for", "10s", "--seed", seed, "--report", "json"]);
        fs::write(folder.path().join(name), said).expect("written");
    }
    // A report and the run that it is of are the same as far as a report says.
    let (said, _, code) = run(folder.path(), &["compare", "a.json", "a.take", "--fail"]);
    assert!(code == 0 && said.contains("nothing came out otherwise"), "{said}");
    let (said, _, code) = run(folder.path(), &["compare", "a.json", "b.json", "--fail"]);
    assert!(code == 1 && said.contains("where states part is not known") && said.contains("seeds 40 and 8"), "{said}");
    assert!(said.contains("  troubles that ") && said.contains("  plover\n    corrections "), "{said}");
    run(folder.path(), &["run", "--for", "12s", "--seed", "8", "--take", "b.take"]);
    let (said, ..) = run(folder.path(), &["compare", "a.take", "b.take"]);
    assert!(said.contains("10 s, seeds 40 and 8\n  what they say differs in: seed\n"), "{said}");
    assert!(said.contains("parts at tick "), "{said}");
    let (_, why, code) = run(folder.path(), &["compare", "a.take", "b.take", "--seeds", "3"]);
    assert!(code == 2 && why.contains("takes, records and reports have their own seed"), "{why}");
    fs::write(folder.path().join("c.json"), "{\"ends_ms\": 3, \"clients\": 4}").expect("written");
    let (_, why, code) = run(folder.path(), &["compare", "a.json", "c.json"]);
    assert!(code == 2 && why.contains("c.json") && why.contains("expected `clients`"), "{why}");
}

#[test]
fn a_crate_that_comes_to_be_known_is_a_trouble_that_went() {
    let folder = tempfile::tempdir().expect("a folder");
    // Everybody knows the crate that only the server did.
    let all = velocitas::lab::DEMO.replace("known_to = \"server\"", "known_to = \"all\"").replace("../gaits/", "");
    for (name, text) in velocitas::lab::GAITS {
        fs::write(folder.path().join(name), text).expect("written");
    }
    fs::write(folder.path().join("b.course.toml"), &all).expect("written");
    fs::write(folder.path().join("a.course.toml"), velocitas::lab::DEMO.replace("../gaits/", "")).expect("written");
    let report = json(folder.path(), &["compare", "a.course.toml", "b.course.toml", "--for", "12s", "--seeds", "2"]);
    let troubles = report["troubles"].as_array().expect("a list");
    let went = troubles.iter().find(|t| t["client"] == "plover" && t["what"] == "crate 7").expect("named");
    assert!(went["b"].is_null() && went["a"]["seeds"] == 2 && went["a"]["corrections"].as_f64() > Some(20.0), "{went}");
}

#[test]
fn a_sealed_record_comes_back_as_it_was() {
    let folder = tempfile::tempdir().expect("a folder");
    let args = ["run", "--for", "3s", "--record", "a.jsonl", "--take", "a.take", "--sealed"];
    let (_, why, code) = run(folder.path(), &args);
    assert_eq!((why.as_str(), code), ("", 0));
    let read = |name: &str| fs::read_to_string(folder.path().join(name)).expect("there");
    assert_eq!(sealed(&read("a.take")), read("a.take"));
    let (said, why, code) = run(folder.path(), &["run", "a.take", "--unseal", "b.jsonl"]);
    assert!(code == 0 && said.contains("the same again"), "{said}{why}");
    let (head, rows) = read("a.jsonl").split_once('\n').map(|(a, b)| (a.to_owned(), b.to_owned())).expect("lines");
    let (again, same) = read("b.jsonl").split_once('\n').map(|(a, b)| (a.to_owned(), b.to_owned())).expect("lines");
    assert!(rows == same && rows.lines().count() > 1000);
    let plain = |line: &str| {
        let mut head: Value = serde_json::from_str(line).expect("JSON");
        assert!(head["take"].take().as_array().is_some_and(|take| take.len() > 2), "it can be opened");
        head
    };
    assert_eq!(plain(&head), plain(&again));
    let [was, is] = ["a.jsonl", "b.jsonl"].map(|name| json(folder.path(), &["run", name])["digest"].clone());
    assert_eq!(was, is);
    let report = json(folder.path(), &["run", "a.take"]);
    assert_eq!(report["take"]["sealed_rows"].as_u64(), Some(read("a.jsonl").lines().count() as u64));
    // One without has none, and a course is none.
    run(folder.path(), &["run", "--for", "1s", "--take", "c.take"]);
    let (_, why, code) = run(folder.path(), &["run", "c.take", "--unseal", "c.jsonl"]);
    assert!(code == 2 && why.contains("c.take") && why.contains("expected a take with a sealed record"), "{why}");
    assert!(!folder.path().join("c.jsonl").exists());
    let (_, why, code) = run(folder.path(), &["run", "--sealed"]);
    assert!(code == 2 && why.contains("--take"), "{why}");
}
