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
fn the_best_view_delay_is_the_one_that_was_planted() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name).to_str().expect("a name").to_owned();
    let (file, json, page, into) = (path("pier.course.toml"), path("best.json"), path("best.svg"), path("best.vary"));
    std::fs::write(&file, course("10 ms").replace("jitter = \"6 ms\"\n", "")).expect("it is written");
    let asked =
        ["vary", &file, "--set", "snapshot_every=2,3,4,6", "--set", "view_delay=20ms..120ms:20ms", "--for", "3s"];
    let asked = [&asked[..], &["--seeds", "2", "--within", "extrapolated=0%", "--into", &into]].concat();
    for output in [&json, &page] {
        let done = velocitas(&[&asked[..], &["-o", output]].concat());
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }
    let varied: Value = serde_json::from_slice(&std::fs::read(&json).expect("it was written")).expect("it is JSON");
    let cells = varied["cells"].as_array().expect("a list");
    let mut least = Vec::new();
    for (row, every) in cells.chunks(6).zip([2.0, 3.0, 4.0, 6.0]) {
        let share = |cell: &Value| {
            let all = cell["measures"].as_array().expect("a list").iter().find(|of| of["measure"] == "extrapolated");
            all.expect("it is measured")["worst_member"]["median"].as_f64().expect("a number")
        };
        let found = row.iter().position(|cell| share(cell) == 0.0).expect("one is long enough");
        // On an even link a frame is drawn from what came up to one frame less than a gap between snapshots ago.
        let needed: f64 = (every - 1.0) * 1000.0 / 60.0;
        assert_eq!(found, (needed / 20.0).ceil() as usize - 1, "a snapshot every {every} ticks");
        least.push(found);
    }
    assert_eq!(least, [0, 1, 2, 4]);
    let page = std::fs::read_to_string(&page).expect("it was written");
    assert!(page.contains("frames past the newest state, at most 0 %") && page.contains("0 % | 0 %"));
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

/// A short matrix of four cells with three seeds.
const SMALL: [&str; 10] = [
    "vary",
    "--set",
    "snapshot_every=1,6",
    "--set",
    "latency=10,90",
    "--for",
    "1s",
    "--seeds",
    "3",
    "--measure=bytes_down,view_age",
];

fn text(path: &std::path::Path) -> String {
    std::fs::read_to_string(path).expect("it is there")
}

#[test]
fn whoever_is_killed_goes_on_and_gives_the_same_bytes() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name);
    let name = |name: &str| path(name).to_str().expect("a name").to_owned();
    let whole =
        velocitas(&[&SMALL[..], &["--jobs", "1", "--into", &name("whole.vary"), "-o", &name("whole.csv")]].concat());
    assert!(whole.status.success(), "{}", String::from_utf8_lossy(&whole.stderr));
    let (lines, csv) = (text(&path("whole.vary")), text(&path("whole.csv")));
    assert_eq!(lines.lines().count(), 1 + 12, "what was asked, and a line for each run");
    let again =
        || velocitas(&[&SMALL[..], &["--jobs", "2", "--into", &name("cut.vary"), "-o", &name("cut.csv")]].concat());
    let third = lines.match_indices('\n').nth(2).expect("there are more").0;
    // Torn in the first line, between two lines, in a line, with nothing left to do, and behind a changed byte.
    let changed = lines.replacen("\"cell\":1", "\"cell\":7", 1);
    for left in [&lines[..30], "", &lines[..=third], &lines[..third + 40], &lines[..], &changed] {
        std::fs::write(path("cut.vary"), left).expect("it is written");
        let done = again();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        assert_eq!((text(&path("cut.vary")), text(&path("cut.csv"))), (lines.clone(), csv.clone()), "of {left:.60}");
        assert_eq!(done.stdout, whole.stdout);
    }
    // A process that is killed at some moment, again and again until it comes to the end.
    std::fs::remove_file(path("cut.vary")).expect("it was there");
    for wait in [60, 150, 20, 300, 90] {
        let into = name("cut.vary");
        let args = [&SMALL[..], &["--jobs", "2", "--into", &into]].concat();
        let mut child = Command::new(env!("CARGO_BIN_EXE_velocitas"))
            .args(args)
            .stdout(std::process::Stdio::null())
            .spawn()
            .expect("it starts");
        std::thread::sleep(std::time::Duration::from_millis(wait));
        child.kill().expect("it can be killed");
        child.wait().expect("it ends");
    }
    assert!(again().status.success());
    assert_eq!((text(&path("cut.vary")), text(&path("cut.csv"))), (lines, csv));
}

#[test]
fn results_of_something_else_are_refused_and_stay_as_they_are() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("kept.vary");
    let name = path.to_str().expect("a name").to_owned();
    assert!(velocitas(&[&SMALL[..], &["--into", &name]].concat()).status.success());
    let before = text(&path);
    let other = |args: &[&str]| {
        let done = velocitas(&[args, &["--into", &name]].concat());
        assert_eq!(done.status.code(), Some(2));
        assert_eq!(text(&path), before);
        String::from_utf8_lossy(&done.stderr).into_owned()
    };
    let changed = |from: &str, to: &'static str| SMALL.map(|arg| if arg == from { to } else { arg });
    let said = other(&changed("latency=10,90", "latency=10,80"));
    assert!(said.contains("expected the settings to be `snapshot_every=1 tick,6 tick latency=10 ms,80 ms`"), "{said}");
    assert!(other(&changed("3", "4")).contains("the seeds to be `4 from 40 on`; found `3 from 40 on`"));
    assert!(other(&changed("1s", "2s")).contains("the length of a run"));
    assert!(other(&[&SMALL[..], &["--part", "1/2"]].concat()).contains("expected part 1/2; found 1/1"));
    let other_course = folder.path().join("pier.course.toml");
    std::fs::write(&other_course, course("10 ms")).expect("it is written");
    let course_name = other_course.to_str().expect("a name");
    let args = [&["vary", course_name][..], &SMALL[1..]].concat();
    assert!(other(&args).contains("expected the course to be `pier.course.toml`"));
    std::fs::write(&path, "not results\n").expect("it is written");
    let done = velocitas(&[&SMALL[..], &["--into", &name]].concat());
    assert!(String::from_utf8_lossy(&done.stderr).contains("expected results of `velocitas vary --into`"));
    assert_eq!(text(&path), "not results\n");
}

#[test]
fn parts_that_are_merged_are_the_whole() {
    let folder = tempfile::tempdir().expect("a folder");
    let name = |name: &str| folder.path().join(name).to_str().expect("a name").to_owned();
    let whole = velocitas(&[&SMALL[..], &["-o", &name("whole.json")]].concat());
    assert!(whole.status.success());
    let part = |number: &str, file: &str| {
        let done = velocitas(&[&SMALL[..], &["--part", number, "--into", &name(file)]].concat());
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    part("1/3", "1.vary");
    part("3/3", "3.vary");
    let merge = |files: &[&str]| {
        let files: Vec<String> = files.iter().map(|file| name(file)).collect();
        let files: Vec<&str> = files.iter().map(String::as_str).collect();
        velocitas(&[&["vary", "--merge"], &files[..], &["-o", &name("merged.json")]].concat())
    };
    let said = |done: &Output| String::from_utf8_lossy(&done.stderr).into_owned();
    let less = said(&merge(&["3.vary", "1.vary"]));
    assert!(less.contains("part 2/3 is missing"), "{less}");
    part("2/3", "2.vary");
    let lines = text(&folder.path().join("2.vary"));
    std::fs::write(folder.path().join("2.vary"), &lines[..lines.len() - 9]).expect("it is written");
    let torn = said(&merge(&["3.vary", "1.vary", "2.vary"]));
    assert!(torn.contains("has 2 of 3 runs: run it again"), "{torn}");
    part("2/3", "2.vary");
    let done = merge(&["3.vary", "1.vary", "2.vary"]);
    assert!(done.status.success(), "{}", said(&done));
    assert_eq!(done.stdout, whole.stdout);
    let json = |file: &str| text(&folder.path().join(file));
    assert_eq!(json("merged.json"), json("whole.json"));
    let twice = said(&merge(&["1.vary", "1.vary"]));
    assert!(twice.contains("part 1 is in"), "{twice}");
    part("1/2", "other.vary");
    assert!(said(&merge(&["1.vary", "other.vary"])).contains("expected one of 3 parts; found one of 2 parts"));
}

#[test]
fn what_cannot_be_varied_is_told_before_anything_runs() {
    let refused = [
        (&["vary", "--set", "latancy=3"][..], "did you mean `latency`?"),
        (&["vary", "--set", "latency=1", "--measure", "view_ago"], "did you mean `view_age`?"),
        (&["vary", "--set", "latency=1", "--whose", "plovr"], "did you mean `plover`?"),
        (&["vary", "--set", "latency=1", "-o", "x.png"], "expected an output that ends in .csv, .json, .svg or .pdf"),
        (
            &["vary", "--set", "latency=1,2", "--set", "loss=1,2", "--set", "jitter=1,2", "-o", "x.pdf"],
            "one or two settings",
        ),
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
