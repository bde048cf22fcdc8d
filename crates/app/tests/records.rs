//! Records as files: written by a run, opened again without its course, cut short, and what cannot be done with them.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

fn run(folder: &Path, args: &[&str]) -> (String, String, i32) {
    let done =
        Command::new(env!("CARGO_BIN_EXE_velocitas")).current_dir(folder).args(args).output().expect("it starts");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    (text(&done.stdout), text(&done.stderr), done.status.code().unwrap_or(-1))
}

/// A report but for how long it took, and what it took.
fn report(folder: &Path, args: &[&str]) -> Value {
    let (said, why, _) = run(folder, &[args, &["--report", "json"]].concat());
    let mut report: Value = serde_json::from_str(&said).unwrap_or_else(|e| panic!("{e}: {said}{why}"));
    for key in ["wall_ms", "times_real_time", "record_bytes"] {
        report.as_object_mut().expect("an object").remove(key).expect("it is told");
    }
    report
}

fn read(folder: &Path, name: &str) -> Vec<u8> {
    fs::read(folder.join(name)).unwrap_or_else(|e| panic!("{name}: {e}"))
}

#[test]
fn a_record_opens_as_its_course_does_and_says_the_same() {
    let folder = tempfile::tempdir().expect("a folder");
    let here = folder.path();
    let first = report(here, &["run", "--for", "12s", "--record", "a.record"]);
    assert_eq!(report(here, &["run", "a.record"]), first, "without its course, and without running anything");
    // Every row of it, and every chart.
    for (source, rows, chart) in [(vec!["--for", "12s"], "a.jsonl", "a.svg"), (vec!["a.record"], "b.jsonl", "b.svg")] {
        run(here, &[&["run"], &source[..], &["--record", rows]].concat());
        run(here, &[&["chart"], &source[..], &["--of", "jump,round-trip,drawn-error", "-o", chart]].concat());
    }
    assert_eq!(read(here, "a.jsonl"), read(here, "b.jsonl"));
    assert_eq!(read(here, "a.svg"), read(here, "b.svg"));
    let (said, _, code) = run(here, &["compare", "a.record", "a.record", "--fail"]);
    assert!(code == 0 && said.contains("a.record and a.record: 12 s, seed 40\n  nothing came out otherwise"), "{said}");
    // The same of its rows, and of either through a pipe.
    assert_eq!(report(here, &["run", "a.jsonl"]), first);
    run(here, &["chart", "a.jsonl", "--of", "jump,round-trip,drawn-error", "-o", "c.svg"]);
    assert_eq!(read(here, "c.svg"), read(here, "a.svg"));
    let (said, why, code) = run(here, &["compare", "a.record", "a.jsonl", "--fail"]);
    assert!(code == 0 && said.contains("nothing came out otherwise"), "{said}{why}");
    for name in ["a.record", "a.jsonl"] {
        let piped = Command::new(env!("CARGO_BIN_EXE_velocitas"))
            .args(["run", "-", "--record", "-"])
            .stdin(fs::File::open(here.join(name)).expect("it is there"))
            .output()
            .expect("it starts");
        assert!(piped.stdout == read(here, "a.jsonl"), "{name}: {}", String::from_utf8_lossy(&piped.stderr));
    }
    // It comes out the same, so remedies can be tried.
    assert_eq!(
        run(here, &["diagnose", "a.record", "--client", "plover"]),
        run(here, &["diagnose", "--client", "plover"])
    );
}

#[test]
fn what_cannot_be_done_with_a_record_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let here = folder.path();
    run(here, &["run", "--for", "6s", "--record", "a.record"]);
    for (args, words) in [
        (vec!["run", "a.record", "--for", "3s"], "a record is of a run that is over: leave --for out"),
        (vec!["run", "a.record", "--seed", "3"], "a record is of a run with its own seed (40)"),
        (vec!["run", "a.record", "--record", "b.record"], "as JSON Lines from here on"),
        (vec!["run", "--for", "1s", "--record", "nowhere/b.record"], "nowhere/b.record"),
        (vec!["compare", "a.record", "a.record", "--for", "3s"], "leave --for out"),
        (vec!["check", "a.record"], "it is the record of a run"),
        (vec!["guard", "a.record"], "expected a course to run over seeds; the run of a record has happened already"),
        (vec!["vet", "a.record"], "it is the record of a run"),
    ] {
        let (said, why, code) = run(here, &args);
        assert!(code == 2 && why.contains(words), "{args:?}: {said}{why}");
    }
    // Of another version, or of a run that this program makes otherwise.
    fs::write(here.join("c.record"), "velocitas record 9\n").expect("written");
    let (_, why, code) = run(here, &["run", "c.record"]);
    assert!(
        code == 2 && why.contains("cannot read the record c.record: expected a record that this version wrote"),
        "{why}"
    );
    fs::write(here.join("c.jsonl"), "{\"kind\":\"run\",\"format\":2}\n").expect("written");
    let (_, why, code) = run(here, &["run", "c.jsonl"]);
    assert!(code == 2 && why.contains("c.jsonl: expected a record of format 3; found format 2"), "{why}");
    run(here, &["run", "--for", "3s", "--record", "short.record"]);
    let (said, _, code) = run(here, &["diagnose", "short.record", "--to", "3s", "--client", "plover"]);
    assert!(code == 0 && said.starts_with("plover: crate 7: "), "{said}");
    assert!(said.ends_with("nothing can be tried: it has no checkpoint to be held against\n"), "{said}");
}

#[test]
fn a_record_whose_program_was_killed_opens_up_to_its_last_second() {
    let folder = tempfile::tempdir().expect("a folder");
    let here = folder.path();
    let mut running = Command::new(env!("CARGO_BIN_EXE_velocitas"))
        .current_dir(here)
        .args(["run", "--for", "60min", "--record", "a.record"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("it starts");
    let begun = Instant::now();
    // It has its name from the first on, and grows.
    while fs::metadata(here.join("a.record")).map_or(0, |there| there.len()) < 400_000 {
        assert!(begun.elapsed() < Duration::from_secs(60), "it does not grow");
        std::thread::sleep(Duration::from_millis(20));
    }
    running.kill().expect("it runs");
    running.wait().expect("it ends");
    // A piece of a block is what a kill in the middle of writing leaves.
    let whole = read(here, "a.record");
    fs::write(here.join("a.record"), &whole[..whole.len() - 7]).expect("written");
    let (said, why, code) = run(here, &["run", "a.record", "--report", "json"]);
    assert!(code == 0 && why.contains("a.record: it is sound for ") && why.contains("a block is cut short"), "{why}");
    let report: Value = serde_json::from_str(&said).expect("JSON");
    assert_eq!(report["digest"], "not known");
    run(here, &["run", "a.record", "--record", "a.jsonl"]);
    let rows = String::from_utf8(read(here, "a.jsonl")).expect("text");
    assert!(rows.contains("\"kind\":\"run\"") && !rows.contains("\"kind\":\"end\""), "no end is told");
    assert!(report["ends_ms"].as_f64().is_some_and(|ends| ends > 3000.0), "{}", report["ends_ms"]);
}
