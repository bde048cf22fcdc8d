//! `velocitas diagnose` as somebody at a prompt has it.

use std::io::Write;
use std::process::{Command, Output, Stdio};

fn diagnose(args: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_velocitas"));
    command.arg("diagnose").args(args).current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    command.output().expect("it starts")
}

fn said(output: &Output) -> String {
    String::from_utf8(output.stdout.clone()).expect("text")
}

fn complained(output: &Output) -> String {
    String::from_utf8(output.stderr.clone()).expect("text")
}

#[test]
fn the_demo_is_told_of_its_crate() {
    let output = diagnose(&["--client", "plover"]);
    let text = said(&output);
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines[0], "Lampwick Quay \u{b7} seed 40 \u{b7} 0:00.00 to 0:10.00");
    assert!(lines[1].starts_with("plover: crate 7: ") && lines[1].ends_with(" seen to jump"), "{}", lines[1]);
    assert!(lines[4].ends_with("  as it was"), "{}", lines[4]);
    assert!(
        lines[5].trim_start().starts_with(['0', '1']) && lines[5].ends_with("  crate 7 known to all"),
        "{}",
        lines[5]
    );
    assert!(!text.contains("nothing tried cures it"), "{text}");
    assert_eq!(output.status.code(), Some(0));
    // Every line of the table is as wide as its head.
    let words = ["as it was", "crate 7 known to all"];
    let begins: Vec<Option<usize>> = lines[4..6].iter().zip(words).map(|(line, words)| line.find(words)).collect();
    assert_eq!(begins, [Some(lines[3].chars().count() + 2); 2], "{text}");
    // On one core or on all of them it is the same.
    assert_eq!(said(&diagnose(&["--client", "plover", "--jobs", "1"])), text);
    assert_eq!(diagnose(&["--client", "plover", "--fail"]).status.code(), Some(1));
}

#[test]
fn programs_are_told_the_same() {
    let output = diagnose(&["--client", "plover", "--report", "json"]);
    let json: serde_json::Value = serde_json::from_slice(&output.stdout).expect("JSON");
    assert_eq!((json["client"].as_str(), json["cured"].as_bool()), (Some("plover"), Some(true)));
    assert_eq!((json["from_ms"].as_f64(), json["to_ms"].as_f64()), (Some(0.0), Some(10_000.0)));
    assert_eq!(json["trouble"]["reason"], "one_sided");
    let remedies = json["remedies"].as_array().expect("a list");
    assert_eq!(remedies[0]["remedy"], "crate 7 known to all");
    let left: Vec<f64> = remedies.iter().filter_map(|r| r["left_share"].as_f64()).collect();
    assert!(left.len() == remedies.len() && left.len() > 6, "{left:?}");
    assert!(left.iter().map(|l| (l * 100.0) as u32).is_sorted(), "{left:?}");
}

#[test]
fn where_one_alone_does_little_pairs_are_tried_unasked() {
    let text = said(&diagnose(&["--client", "magpie"]));
    assert!(text.contains("alone or in pairs, cures it") || text.contains(" and "), "{text}");
    assert!(!text.contains("--pairs"), "{text}");
    assert_eq!(said(&diagnose(&["--client", "magpie", "--pairs"])), text);
    let cured = said(&diagnose(&["--client", "plover"]));
    assert!(!cured.contains(" and crate") && !cured.contains("crate 7 known to all and"), "{cured}");
}

#[test]
fn nonsense_is_told_what_was_expected() {
    for (args, words) in [
        (vec!["--client", "gull"], "expected --client to be one of plover, heron, "),
        (vec!["--from", "8s", "--to", "3s"], "expected --to after --from; found 0:03.00 and 0:08.00"),
        (vec!["--from", "2100ms", "--to", "2900ms"], "expected a stretch of at least a second within what is kept"),
        (vec!["nowhere.course.toml"], "nowhere.course.toml"),
    ] {
        let output = diagnose(&args);
        assert_eq!(output.status.code(), Some(2), "{args:?}");
        assert!(complained(&output).contains(words), "{args:?}: {}", complained(&output));
    }
}

#[test]
fn where_nothing_is_wrong_that_is_said() {
    let course = "format = 1\nname = \"calm\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                  [[cast]]\nname = \"teal\"\nrole = \"bot\"\nspawn = [0, 0]\n";
    let mut command = Command::new(env!("CARGO_BIN_EXE_velocitas"));
    command.args(["diagnose", "-", "--from", "3s", "--to", "5s", "--fail"]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("it starts");
    child.stdin.take().expect("a pipe").write_all(course.as_bytes()).expect("it reads");
    let output = child.wait_with_output().expect("it ends");
    assert_eq!(said(&output), "nothing went wrong from 0:03.00 to 0:05.00\n");
    assert_eq!(output.status.code(), Some(0));
}
