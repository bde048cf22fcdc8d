//! `velocitas vary`: what it says is what `check` says of the same course, seeds and values, in the order of the matrix.

use std::process::{Command, Output};

use serde_json::Value;

fn velocitas(args: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_velocitas")).args(args).output().expect("the program starts")
}

fn course(latency: &str) -> String {
    format!(
        "format = 1\nname = \"pier\"\nseed = 4\ntick_rate = \"60 Hz\"\nworld = {{ min = [-20, -20], max = [20, 20] }}\n\
         [link.far]\nlatency = \"{latency}\"\njitter = \"6 ms\"\n\
         [[cast]]\nname = \"tern\"\nrole = \"bot\"\nlink = \"far\"\nspawn = [0, 0]\nroute = [{{ at = [8, 2] }}, {{ at = [0, 0] }}]\n\
         [[cast]]\nname = \"knot\"\nrole = \"bot\"\nspawn = [4, 4]\nroute = [{{ at = [-6, 2] }}, {{ at = [4, 4] }}]\n"
    )
}

#[test]
fn a_cell_says_what_check_says_of_a_course_that_is_set_so() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name).to_str().expect("a name").to_owned();
    let file = path("pier.course.toml");
    std::fs::write(&file, course("10 ms")).expect("it is written");
    let json = path("vary.json");
    let set =
        ["vary", &file, "--set", "link.far.latency=10ms..90ms:40ms", "--for", "6s", "--seeds", "3", "--whose", "tern"];
    let measure = ["--measure", "view_age,bytes_down", "-o", &json];
    let done = velocitas(&[&set[..], &measure[..]].concat());
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let varied: Value = serde_json::from_slice(&std::fs::read(&json).expect("it was written")).expect("it is JSON");
    let cells = varied["cells"].as_array().expect("a list");
    assert_eq!(cells.len(), 3);
    for (cell, latency) in cells.iter().zip(["10 ms", "50 ms", "90 ms"]) {
        assert_eq!(cell["values"][0], latency);
        std::fs::write(&file, course(latency)).expect("it is written");
        let checked = path("check.json");
        let done = velocitas(&["check", &file, "--for", "6s", "--seeds", "3", "--json", &checked]);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        let checked: Value =
            serde_json::from_slice(&std::fs::read(&checked).expect("it is there")).expect("it is JSON");
        for (i, measure) in ["view_age", "bytes_down"].iter().enumerate() {
            let runs = checked["runs"].as_array().expect("a list").iter();
            let mut values: Vec<f64> =
                runs.map(|run| run["measured"]["tern"][measure].as_f64().expect("it is measured")).collect();
            values.sort_by(f64::total_cmp);
            let range = &cell["measures"][i]["worst_member"];
            let said = ["least", "median", "greatest"].map(|key| range[key].as_f64().expect("a number"));
            assert_eq!(said, [values[0], values[1], values[2]], "{latency}: {measure}");
        }
    }
    let age = |cell: &Value| cell["measures"][0]["worst_member"]["median"].as_f64().expect("a number");
    assert!(
        age(&cells[2]) > age(&cells[0]) + 60.0,
        "a longer way is seen: {} ms, {} ms",
        age(&cells[0]),
        age(&cells[2])
    );
}

#[test]
fn one_thread_and_two_give_the_same_bytes() {
    let on = |jobs: &str| {
        let args =
            ["vary", "--set", "snapshot_every=1,6", "--set", "courier.walk=3 m/s,4 m/s", "--for", "2s", "--seeds", "2"];
        let done = velocitas(&[&args[..], &["--jobs", jobs, "-o", "-"]].concat());
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        done.stdout
    };
    let one = on("1");
    assert_eq!(one, on("2"));
    let text = String::from_utf8_lossy(&one);
    let head = text.lines().next().expect("a head");
    assert!(head.starts_with("snapshot_every,courier.walk,measure,unit,worst_least"), "{head}");
    assert_eq!(text.lines().count(), 1 + 4 * 4, "a row for each cell and measure: {text}");
}

#[test]
fn what_cannot_be_varied_is_told_before_anything_runs() {
    let refused = [
        (&["vary", "--set", "latancy=3"][..], "did you mean `latency`?"),
        (&["vary", "--set", "latency=1", "--measure", "view_ago"], "did you mean `view_age`?"),
        (&["vary", "--set", "latency=1", "--whose", "plovr"], "did you mean `plover`?"),
        (&["vary", "--set", "latency=1", "-o", "x.pdf"], "expected an output that ends in .csv or .json"),
        (&["vary", "--set", "latency=1,2", "--set", "loss=1,2,3", "--pair"], "to go in step"),
        (&["vary"], "--set <KEY=VALUES>"),
    ];
    for (args, wanted) in refused {
        let done = velocitas(args);
        let said = String::from_utf8_lossy(&done.stderr);
        assert!(done.status.code() == Some(2) && said.contains(wanted), "{args:?}: {said}");
        assert!(done.stdout.is_empty(), "{args:?}");
    }
}
