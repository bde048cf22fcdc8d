//! `velocitas check` as a pipeline uses it.

use std::fs;
use std::path::Path;
use std::process::{Command, Output};

use crate::pty_driver::Pty;
use serde_json::Value;

/// A crate of which only the server knows stands in the way of one of two.
const COURSE: &str = r#"format = 1
name = "quay"
seed = 3
tick_rate = "60 Hz"
world = { min = [-20, -20], max = [20, 20] }

[[solid]]
name = "crate"
at = [5, 0]
size = [2, 2]
height = "1.4 m"
known_to = "server"

[link.home]
latency = "60 ms"
jitter = "8 ms"

[[cast]]
name = "teal"
role = "helm"
link = "home"
spawn = [0, 0]
route = [{ at = [10, 0] }, { at = [0, 0], wait = "1 s" }]

[[cast]]
name = "heron"
role = "bot"
link = "home"
spawn = [0, 9]
route = [{ at = [10, 9] }, { at = [0, 9] }]

[check]
lasts = "10 s"
seeds = 2

[[budget]]
corrections = "6 /min"
largest_jump = "5 cm"
bytes_up = "6 kB/s"
"#;

fn velocitas(folder: &Path, args: &[&str]) -> (Output, String) {
    let done =
        Command::new(env!("CARGO_BIN_EXE_velocitas")).current_dir(folder).args(args).output().expect("it starts");
    let said = String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
    (done, said)
}

fn code((done, _): &(Output, String)) -> i32 {
    done.status.code().unwrap_or(-1)
}

/// A folder with the course in it.
fn quay() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    fs::write(folder.path().join("quay.course.toml"), COURSE).expect("written");
    folder
}

fn read(path: &Path) -> Value {
    serde_json::from_str(&fs::read_to_string(path).expect("written")).expect("JSON")
}

#[test]
fn what_was_not_kept_is_told_with_its_moment_and_the_command_that_opens_it() {
    let folder = quay();
    let at = |name: &str| folder.path().join(name);
    let done = velocitas(folder.path(), &["check", "quay.course.toml", "--json", "out.json", "--junit", "out.xml"]);
    assert_eq!(code(&done), 1, "{}", done.1);
    assert!(done.1.contains("teal: corrections a minute") && !done.1.contains("heron: corr"), "{}", done.1);
    let opens = done.1.lines().find(|line| line.trim_start().starts_with("velocitas ")).expect("a command").trim();

    // Every number is had again from the report and the record of a run with that seed.
    let json = read(&at("out.json"));
    for run in json["runs"].as_array().expect("runs") {
        let seed = run["seed"].to_string();
        let args =
            ["run", "quay.course.toml", "--for", "10s", "--seed", &seed, "--report", "json", "--record", "r.jsonl"];
        let report: Value = serde_json::from_slice(&velocitas(folder.path(), &args).0.stdout).expect("JSON");
        assert_eq!(run["digest"], report["digest"]);
        let teal = &report["clients"][0];
        let limit = |key: &str| {
            let limits = run["limits"].as_array().expect("limits");
            limits.iter().find(|l| l["member"] == "teal" && l["measure"] == key).expect("it is there")
        };
        let minutes = teal["joining"]["there_ms"].as_f64().expect("a time") / 60_000.0;
        let rate = teal["corrections"]["count"].as_f64().expect("a count") / minutes;
        assert!((limit("corrections")["value"].as_f64().expect("a rate") - rate).abs() < 1e-9);
        let jump = limit("largest_jump");
        assert_eq!(jump["value"], teal["corrections"]["max_m"]);
        let record = fs::read_to_string(at("r.jsonl")).expect("written");
        let rows = record.lines().map(|line| serde_json::from_str::<Value>(line).expect("JSON"));
        let mut corrections = rows.filter(|row| row["kind"] == "correction" && row["machine"] == "teal");
        let largest = corrections.find(|row| row["jump_m"] == jump["value"]).expect("that correction");
        let moment = largest["at_ns"].as_f64().expect("a moment") / 1e6;
        assert_eq!(jump["at_ms"].as_f64(), Some(moment));
        assert_eq!((jump["outcome"].as_str(), limit("bytes_up")["outcome"].as_str()), (Some("beyond"), Some("within")));
        let command = jump["opens"].as_str().expect("a command");
        assert!(command.contains(&format!("--seed {seed} --at 0:")) && command.ends_with("--entity teal"), "{command}");
    }
    let xml = fs::read_to_string(at("out.xml")).expect("written");
    assert!(
        xml.contains("name=\"teal corrections seed 3\"") && xml.contains("name=\"heron bytes_up seed 4\""),
        "{xml}"
    );
    assert_eq!(xml.matches("<failure").count(), 4, "{xml}");
    assert!(xml.contains("velocitas quay.course.toml --seed 3 --at 0:"), "{xml}");

    // And the command opens it there.
    let words: Vec<&str> = opens.split(' ').skip(1).collect();
    let course = at("quay.course.toml").display().to_string();
    let mut args = words.clone();
    args[0] = &course;
    let mut t = Pty::started(&[], &args);
    let moment = words[words.iter().position(|word| *word == "--at").expect("a moment") + 1];
    t.wait_for("BACK");
    t.wait_for(moment.get(..7).expect("minutes and hundredths"));
    assert!(t.screen().contains("looking at teal"), "{}", t.screen());
    t.send(b"q");
    assert_eq!(t.ended(), Some(0));
}

#[test]
fn a_course_that_keeps_to_its_budget_is_good_and_every_limit_is_told_when_asked() {
    let folder = quay();
    let path = folder.path().join("quay.course.toml");
    fs::write(&path, COURSE.replace("known_to = \"server\"\n", "")).expect("written");
    let done = velocitas(folder.path(), &["check", ".", "--all", "--seeds", "1", "--for", "5s"]);
    assert_eq!(code(&done), 0, "{}", done.1);
    assert!(done.1.contains("1 seed of 5 s, 8 limits: kept"), "{}", done.1);
    assert!(done.1.contains("heron: bytes up ") && done.1.contains("at most 6 kB/s (line 38): kept"), "{}", done.1);
    // One that bounds what nobody did guards nothing.
    fs::write(
        &path,
        COURSE.replace("known_to = \"server\"\n", "") + "[[budget]]\nwho = \"heron\"\nresponse = \"40 ms\"\n",
    )
    .expect("written");
    let done = velocitas(folder.path(), &["check", "quay.course.toml"]);
    assert_eq!(code(&done), 1, "{}", done.1);
    assert!(done.1.contains("heron: response: nothing to measure"), "{}", done.1);
}

#[test]
fn what_became_worse_than_in_a_kept_report_is_told() {
    let folder = quay();
    let path = folder.path().join("quay.course.toml");
    let good = COURSE.replace("known_to = \"server\"\n", "");
    fs::write(&path, &good).expect("written");
    let check = |args: &[&str]| velocitas(folder.path(), &[&["check", "quay.course.toml"], args].concat());
    assert_eq!(code(&check(&["--json", "kept.json"])), 0);
    let same = check(&["--against", "kept.json"]);
    assert_eq!(code(&same), 0, "{}", same.1);
    assert!(same.1.contains("none worse by more than 10 %"), "{}", same.1);

    // Within its budgets, and yet worse.
    fs::write(&path, good.replace("latency = \"60 ms\"", "latency = \"90 ms\"")).expect("written");
    assert_eq!(code(&check(&[])), 0);
    let worse = check(&["--against", "kept.json", "--junit", "out.xml"]);
    assert_eq!(code(&worse), 1, "{}", worse.1);
    assert!(worse.1.contains("heron: view age was ") && worse.1.contains("(mean of 2 seeds"), "{}", worse.1);
    let xml = fs::read_to_string(folder.path().join("out.xml")).expect("written");
    assert!(xml.contains("against kept.json") && xml.contains("heron view_age"), "{xml}");
    assert_eq!(code(&check(&["--against", "kept.json", "--worse", "300%"])), 0);

    // What cannot be compared says so, and so does what is no report.
    for (args, said) in [
        (&["--against", "kept.json", "--for", "5s"][..], "nothing in kept.json can be compared"),
        (&["--against", "quay.course.toml"][..], "expected a report that `velocitas check --json` wrote"),
        (&["--against", "nothing.json"][..], "nothing.json"),
        (&["--worse", "10%"][..], "--against"),
        (&["--against", "kept.json", "--worse", "ten"][..], "expected a share from 0% to 1000%"),
        (&["--against", "kept.json", "--json", "kept.json"][..], "which is read"),
    ] {
        let done = check(args);
        assert!(code(&done) == 2 && done.1.contains(said), "{args:?}: {}", done.1);
    }
}

#[test]
fn courses_that_cannot_be_run_are_all_told_before_any_is() {
    let folder = quay();
    let inside = folder.path().join("more");
    fs::create_dir(&inside).expect("made");
    fs::write(inside.join("a.course.toml"), COURSE.replace("corrections =", "corections =")).expect("written");
    fs::write(inside.join("b.course.toml"), "format = 2").expect("written");
    let done = velocitas(folder.path(), &["check", "."]);
    assert_eq!(code(&done), 2);
    for said in ["did you mean `corrections`?", "b.course.toml", "2 of 3 courses cannot be run; nothing was checked"] {
        assert!(done.1.contains(said), "{said}: {}", done.1);
    }
    fs::create_dir(folder.path().join("empty")).expect("made");
    let done = velocitas(folder.path(), &["check", "empty"]);
    assert!(code(&done) == 2 && done.1.contains("expected courses (*.course.toml) in it; found none"), "{}", done.1);
    let done = velocitas(folder.path(), &["quay.course.toml", "--at", "soon"]);
    assert!(code(&done) == 2 && done.1.contains("expected a time"), "{}", done.1);
    let done = velocitas(folder.path(), &["quay.course.toml", "--entity", "lapwing"]);
    assert!(code(&done) == 2 && done.1.contains("expected --entity to be one of teal, heron"), "{}", done.1);
}

#[test]
fn a_course_that_is_meant_to_fail_is_good_while_it_does_and_only_then() {
    let folder = quay();
    let path = folder.path().join("quay.course.toml");
    let meant = |text: &str, keys: &str| {
        fs::write(&path, format!("{text}[[budget]]\nwho = \"teal\"\n{keys}\n")).expect("written");
        velocitas(folder.path(), &["check", "quay.course.toml", "--all", "--junit", "out.xml", "--json", "out.json"])
    };
    let [sound, wrong] = [COURSE.replace("known_to = \"server\"\n", ""), COURSE.to_owned()];
    let keys = "exceeded = [\"corrections\", \"largest_jump\"]";
    let done = meant(&wrong, keys);
    assert_eq!(code(&done), 0, "{}", done.1);
    assert!(done.1.contains("8 limits: kept; fails as meant\n"), "{}", done.1);
    assert!(done.1.contains("at most 5 cm (line 38): exceeded as meant; the worst is seed "), "{}", done.1);
    let (xml, json) = (folder.path().join("out.xml"), folder.path().join("out.json"));
    assert!(!fs::read_to_string(&xml).expect("written").contains("<failure"));
    let read = |path| serde_json::from_str::<Value>(&fs::read_to_string(path).expect("written")).expect("JSON");
    let limits = read(&json)["runs"][0]["limits"].as_array().expect("a list").clone();
    let jump = limits.iter().find(|l| l["member"] == "teal" && l["measure"] == "largest_jump").expect("bounded");
    assert_eq!((jump["outcome"].as_str(), jump["exceeded_line"].as_u64()), (Some("beyond"), Some(42)));

    // Nothing goes wrong any more.
    let done = meant(&sound, keys);
    assert_eq!(code(&done), 1, "{}", done.1);
    assert!(done.1.contains("kept; 2 meant to fail and did not"), "{}", done.1);
    assert!(done.1.contains("kept, and is meant to be exceeded (line 41)"), "{}", done.1);
    assert!(fs::read_to_string(&xml).expect("written").contains("is meant to be exceeded, and is with no seed"));
    let done = meant(&sound, "accused_by = [\"reach\"]");
    assert_eq!(code(&done), 1, "{}", done.1);
    assert!(done.1.contains("teal: not accused by `reach` with any seed, and is meant to be (line 41)"), "{}", done.1);
    assert!(fs::read_to_string(&xml).expect("written").contains("teal accused by reach"));

    for (keys, said) in [
        ("exceeded = [\"hops\"]", "expected a bound of `hops` that can be exceeded; found none"),
        ("exceeded = [\"hop\"]", "expected one of the keys"),
        ("accused_by = [\"reech\"]", "expected a check of the guard"),
        ("", "expected something to be bounded"),
    ] {
        let done = meant(&sound, keys);
        assert!(code(&done) == 2 && done.1.contains(said), "{keys}: {}", done.1);
    }
    let courses = format!("{}/../../courses/guard", env!("CARGO_MANIFEST_DIR"));
    let done = velocitas(folder.path(), &["check", &courses, "--seeds", "2"]);
    assert_eq!((code(&done), done.1.matches("fails as meant").count()), (0, 7), "{}", done.1);
}
