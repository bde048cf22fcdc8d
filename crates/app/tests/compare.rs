//! `velocitas compare` as somebody uses it who changed something.

use std::fs;
use std::path::Path;
use std::process::Command;

use serde_json::Value;

const QUAY: &str = "format = 1\nname = \"quay\"\nseed = 4\ntick_rate = \"60 Hz\"\nworld = { min = [-30, -20], max = [30, 20] }\n\
    [link.home]\nlatency = \"40 ms\"\njitter = \"5 ms\"\nloss = \"2 %\"\n\
    [[cast]]\nname = \"heron\"\nrole = \"bot\"\nlink = \"home\"\nspawn = [0, 0]\nroute = [{ at = [9, 0] }, { at = [0, 0] }]\n\
    [[cast]]\nname = \"teal\"\nrole = \"bot\"\nlink = \"home\"\nspawn = [0, 6]\nroute = [{ at = [9, 6] }, { at = [0, 6] }]\n";

/// Writes two courses and compares them: what was said, and the exit code.
fn compare(a: &str, b: &str, args: &[&str]) -> (String, i32) {
    let folder = tempfile::tempdir().expect("a folder");
    let put = |name: &str, text: &str| fs::write(folder.path().join(name), text).expect("written");
    put("a.course.toml", a);
    put("b.course.toml", b);
    run(folder.path(), &[&["compare", "a.course.toml", "b.course.toml", "--for", "12s"], args].concat())
}

fn run(folder: &Path, args: &[&str]) -> (String, i32) {
    let done =
        Command::new(env!("CARGO_BIN_EXE_velocitas")).current_dir(folder).args(args).output().expect("it starts");
    let said = String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
    (said, done.status.code().unwrap_or(-1))
}

fn json(a: &str, b: &str, args: &[&str]) -> Value {
    let (said, _) = compare(a, b, &[&["--report", "json"], args].concat());
    serde_json::from_str(&said).unwrap_or_else(|e| panic!("{e}: {said}"))
}

#[test]
fn a_course_and_itself_have_no_differences() {
    let (said, code) = compare(QUAY, QUAY, &["--fail", "--seeds", "2"]);
    assert_eq!((code, said.lines().count()), (0, 2), "{said}");
    assert!(said.contains("nothing came out otherwise"), "{said}");
    let report = json(QUAY, QUAY, &[]);
    for key in ["differ_in", "only_in_a", "only_in_b", "partings", "figures"] {
        assert_eq!(report[key], Value::Array(Vec::new()), "{key}");
    }
    assert_eq!(report["same"], true);
}

#[test]
fn what_parts_first_is_named_with_its_tick_its_field_and_both_values() {
    let pushed = QUAY.to_owned() + "[[event]]\nat = \"5 s\"\npush = { who = \"teal\", north = \"3 m/s\" }\n";
    let (said, code) = compare(QUAY, &pushed, &["--fail"]);
    assert_eq!(code, 1, "{said}");
    assert!(said.contains("what they say differs in: event"), "{said}");
    assert!(said.contains("parts at tick 300 (0:05.00): teal, pos."), "{said}");
    assert!(!said.contains("heron,") && said.contains("corrections"), "{said}");
    let report = json(QUAY, &pushed, &[]);
    let [parted] = report["partings"].as_array().expect("a list").as_slice() else { panic!("{report}") };
    assert_eq!((&parted["entity"], &parted["seed_a"]), (&"teal".into(), &4.into()));
    // The push is due at 5 s: it is the server's next tick that parts.
    let (tick, at) = (parted["tick"].as_u64().expect("a tick"), parted["at_ms"].as_f64().expect("a moment"));
    assert!((298..=302).contains(&tick) && (5000.0..5035.0).contains(&at), "{parted}");
    let figures = report["figures"].as_array().expect("a list");
    let of = |key: &str| figures.iter().find(|f| f["member"] == "teal" && f["key"] == key).expect("it is otherwise");
    assert_eq!((&of("corrections.count")["a"], &of("corrections.count")["b"]), (&0.0.into(), &1.0.into()));
    // Without being asked, a difference is no failure.
    assert_eq!(compare(QUAY, &pushed, &[]).1, 0);
}

#[test]
fn who_takes_part_in_one_only_is_named_and_a_link_alone_need_not_part_states() {
    let (said, _) = compare(QUAY, &QUAY.replace("\"teal\"", "\"knot\""), &[]);
    assert!(said.contains("only in the first: teal") && said.contains("only in the second: knot"), "{said}");
    assert!(said.contains("teal, it is there in the first run only"), "{said}");
    let slower = QUAY.replace("loss = \"2 %\"", "").replace("40 ms", "45 ms").replace("jitter = \"5 ms\"", "");
    let (said, _) = compare(&QUAY.replace("loss = \"2 %\"", "").replace("jitter = \"5 ms\"", ""), &slower, &["--fail"]);
    assert!(said.contains("differs in: link") && said.contains("view age p50"), "{said}");
    // Another seed, said twice, is no difference of the courses.
    let report = json(QUAY, &QUAY.replace("seed = 4", "seed = 5"), &["--seed", "4"]);
    assert_eq!((&report["differ_in"], &report["same"]), (&Value::Array(Vec::new()), &Value::Bool(true)));
    let report = json(QUAY, &QUAY.replace("seed = 4", "seed = 5"), &[]);
    assert_eq!(report["differ_in"], Value::from(vec!["seed"]));
}

#[test]
fn who_goes_earlier_or_comes_later_in_either_parts_there() {
    let leaves = |at: &str| format!("{QUAY}[[event]]\nat = \"{at}\"\nleave = {{ who = \"teal\" }}\n");
    let joins = |at: &str| QUAY.replace("name = \"teal\"\n", &format!("name = \"teal\"\njoins = \"{at}\"\n"));
    for (early, late) in [(leaves("4 s"), leaves("7 s")), (joins("2 s"), joins("5 s"))] {
        for (a, b) in [(&early, &late), (&late, &early)] {
            let report = json(a, b, &[]);
            let partings = report["partings"].as_array().expect("a list");
            let teal = partings.iter().find(|p| p["entity"] == "teal").unwrap_or_else(|| panic!("{report}"));
            let what = teal["what"].as_str().expect("words");
            // The one who stays longer, or comes earlier, is there alone.
            let first = (a == &late) == a.contains("leave");
            let wanted = if first { "it is there in the first run only" } else { "it is there in the second run only" };
            assert_eq!(what, wanted, "{teal}");
        }
    }
}

#[test]
fn what_cannot_be_read_is_told() {
    let (said, code) = compare(QUAY, "format = 2", &[]);
    assert!(code == 2 && said.contains("b.course.toml:"), "{said}");
    let folder = tempfile::tempdir().expect("a folder");
    let (said, code) = run(folder.path(), &["compare", "none.course.toml", "none.course.toml"]);
    assert!(code == 2 && said.contains("cannot read the course none.course.toml"), "{said}");
}
