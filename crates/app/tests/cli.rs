//! The command line as others use it.

use std::fs;
use std::process::{Command, Output};

use serde_json::Value;

fn velocitas(args: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_velocitas")).args(args).output().expect("the program starts")
}

fn json(args: &[&str]) -> (Value, i32) {
    let done = velocitas(args);
    let code = done.status.code().unwrap_or(-1);
    let value = serde_json::from_slice(&done.stdout);
    (value.unwrap_or_else(|e| panic!("{e}: {}", String::from_utf8_lossy(&done.stderr))), code)
}

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a folder")
}

#[test]
fn the_same_course_and_seed_give_the_same_digest_in_another_process() {
    let digest = |seed: &str| json(&["run", "--for", "10s", "--seed", seed, "--report", "json"]).0["digest"].clone();
    assert_eq!(digest("7"), digest("7"));
    assert_ne!(digest("7"), digest("8"));
}

#[test]
fn the_json_report_has_every_key_it_promises() {
    let (report, code) = json(&["run", "--for", "30s", "--report", "json"]);
    assert_eq!(code, 0);
    for key in ["course", "seed", "tick_rate", "ticks", "digest", "wall_ms", "clients"] {
        assert!(!report[key].is_null(), "{key}");
    }
    let clients = report["clients"].as_array().expect("a list");
    assert_eq!(clients.len(), 6);
    for client in clients {
        let client = client.as_object().expect("an object");
        for key in [
            "name",
            "kind",
            "arrangement",
            "corrections",
            "inputs",
            "margin_ticks",
            "prediction_error_m",
            "view_age_ms",
            "extrapolated_share",
            "held_share",
            "response_ms",
            "bytes_up",
            "bytes_down",
            "bytes_up_udp",
            "bytes_down_udp",
            "verdicts",
            "resyncs",
        ] {
            assert!(client.contains_key(key), "{key}");
        }
        for key in ["count", "mean_m", "p95_m", "max_m", "replayed_ticks", "unexplained"] {
            assert!(client["corrections"].get(key).is_some(), "corrections.{key}");
        }
        let fates = ["fresh", "late", "passed_over", "outdated", "refused", "unused", "lost", "unheard", "under_way"];
        let of = |key: &str| client["inputs"][key].as_u64().unwrap_or_else(|| panic!("inputs.{key}"));
        assert_eq!(fates.map(of).iter().sum::<u64>(), of("sampled"), "{}", client["name"]);
        assert_eq!(client.contains_key("gain_m"), client["kind"] == "rogue");
        assert_eq!(client["verdicts"].as_object().is_some_and(serde_json::Map::is_empty), client["kind"] != "rogue");
    }
}

#[test]
fn the_record_is_json_lines_in_order_and_agrees_with_the_report() {
    let folder = folder();
    let path = folder.path().join("run.jsonl");
    let args = ["run", "--for", "12s", "--report", "json", "--record", path.to_str().expect("a name")];
    let (report, _) = json(&args);
    let text = fs::read_to_string(&path).expect("it was written");
    let rows: Vec<Value> = text.lines().map(|l| serde_json::from_str(l).expect("JSON")).collect();
    assert_eq!(rows[0]["kind"], "run");
    let last = &rows[rows.len() - 1];
    assert_eq!((&last["kind"], &last["digest"]), (&Value::from("end"), &report["digest"]));
    let times: Vec<u64> = rows[1..].iter().map(|r| r["at_ns"].as_u64().expect("every row has its time")).collect();
    assert!(times.windows(2).all(|w| w[0] <= w[1]));
    let count =
        |kind: &str, machine: &str| rows.iter().filter(|r| r["kind"] == kind && r["machine"] == machine).count() as u64;
    for client in report["clients"].as_array().expect("a list") {
        let name = client["name"].as_str().expect("a name");
        assert_eq!(client["corrections"]["count"], count("correction", name), "{name}");
        let sampled = |r: &&Value| r["kind"] == "input" && r["machine"] == name && !r["sampled_ns"].is_null();
        assert_eq!(client["inputs"]["sampled"], rows.iter().filter(sampled).count(), "{name}");
    }
    let corrections = rows.iter().filter(|r| r["kind"] == "correction");
    assert!(corrections.clone().count() > 3);
    for row in corrections {
        assert!(row["causes"].as_array().is_some_and(|c| !c.is_empty()), "{row}");
    }
}

#[test]
fn a_table_is_named_by_its_file_and_holds_that_kind_of_row() {
    let folder = folder();
    let path = |name: &str| folder.path().join(name).to_str().expect("a name").to_owned();
    let (inputs, drawn) = (path("inputs.csv"), path("drawn.csv"));
    let (report, _) = json(&["run", "--for", "3s", "--report", "json", "--table", &inputs, "--table", &drawn]);
    let text = fs::read_to_string(&inputs).expect("it was written");
    let head: Vec<&str> = text.lines().next().expect("a head").split(',').collect();
    for column in ["at_ns", "machine", "tick", "fate", "sampled.move.x", "used.sprint"] {
        assert!(head.contains(&column), "{column} in {head:?}");
    }
    let sampled: u64 =
        report["clients"].as_array().expect("a list").iter().filter_map(|c| c["inputs"]["sampled"].as_u64()).sum();
    assert!(text.lines().count() as u64 > sampled);
    assert!(fs::read_to_string(&drawn).expect("it was written").contains("pos.z"));
    let output = velocitas(&["run", "--for", "1s", "--table", &path("shoes.csv")]);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.code() == Some(2) && said.contains("inputs.csv") && said.contains("verdict"), "{said}");
    assert!(!folder.path().join("shoes.csv").exists());
}

#[test]
fn an_unanswered_trick_or_an_accused_honest_client_is_exit_code_1() {
    let folder = folder();
    let path = folder.path().join("own.course.toml");
    // The server has a wall that the honest owner has never heard of, and holds it against him.
    let course = r#"
format = 1
name = "one-sided"
tick_rate = "60 Hz"
world = { min = [-20, -20], max = [20, 20] }
[[solid]]
name = "hidden wall"
at = [5, 0]
size = [1, 30]
height = "3 m"
known_to = "server"
[[cast]]
name = "curlew"
role = "bot"
arrangement = "claims"
spawn = [0, 0]
route = [{ at = [10, 0] }, { at = [0, 0] }]
"#;
    fs::write(&path, course).expect("written");
    let done = velocitas(&["run", path.to_str().expect("a name"), "--for", "10s"]);
    assert_eq!(done.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&done.stdout).contains("curlew is honest and was accused"));
}

#[test]
fn bad_usage_and_bad_courses_are_exit_code_2_with_the_place() {
    let folder = folder();
    let path = folder.path().join("bad.course.toml");
    fs::write(&path, "format = 1\nname = \"x\"\ntick_rate = \"60 ms\"\n").expect("written");
    let bad = path.to_str().expect("a name");
    for (args, said) in [
        (vec!["run", bad], "bad.course.toml:3:13: expected a frequency"),
        (vec![bad], "bad.course.toml:3:13: expected a frequency"),
        (vec!["run", "missing.course.toml"], "cannot read the course missing.course.toml"),
        (vec!["run", "--for", "60"], "expected a time with its unit"),
        (vec!["run", "--colour"], "unexpected argument"),
        (vec!["chart", "-o", "x.svg", "--entity", "plower"], "expected --entity to be one of plover"),
        (vec!["chart", "-o", "/nowhere/at/all/x.svg"], "cannot write /nowhere/at/all/x.svg"),
        (vec!["run", "--for", "1s", "--record", "/nowhere/r.jsonl"], "cannot write /nowhere/r.jsonl"),
    ] {
        let done = velocitas(&args);
        let errors = String::from_utf8_lossy(&done.stderr).into_owned();
        assert_eq!(done.status.code(), Some(2), "{args:?}: {errors}");
        assert!(errors.contains(said), "{args:?}: {errors}");
        assert!(done.stdout.is_empty(), "errors go to stderr");
    }
}

#[test]
fn a_chart_is_of_any_lane_of_the_field_or_of_the_ladder_as_svg_pdf_or_numbers() {
    let folder = folder();
    let draw = |name: &str, args: &[&str]| {
        let path = folder.path().join(name);
        let mut all = vec!["chart", "--for", "9s", "-o", path.to_str().expect("a name")];
        all.extend(args);
        let done = velocitas(&all);
        assert_eq!(done.status.code(), Some(0), "{args:?}: {}", String::from_utf8_lossy(&done.stderr));
        fs::read(&path).expect("it was written")
    };
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("text");
    let svg = text(draw("error.svg", &["--entity", "plover"]));
    for wanted in ["<svg", "lab time", "prediction error, m", "jump, m", "plover over time", "1 mm", "</svg>"] {
        assert!(svg.contains(wanted), "{wanted}");
    }
    assert!(draw("error.pdf", &["--light"]).starts_with(b"%PDF-"));
    let numbers = text(draw("error.csv", &["--of", "jump", "--from", "2s", "--to", "0:03"]));
    assert!(
        numbers.lines().count() > 5
            && numbers.lines().skip(1).all(|row| row.starts_with("\"jump, m\",lab time,m,band,jump,fault,2.")),
        "{numbers}"
    );
    let listed = velocitas(&["chart", "--of", "list"]);
    let listed = String::from_utf8(listed.stdout).expect("text");
    let keys: Vec<&str> =
        listed.lines().filter_map(|line| line.strip_prefix("  ")).filter_map(|line| line.split(' ').next()).collect();
    assert!(keys.len() > 18, "{listed}");
    for key in keys {
        // On heron's screen there is something of each; claims have what inputs have not.
        let svg = text(draw(&format!("{key}.svg"), &["--of", key, "--viewer", "heron"]));
        assert!(svg.contains("Lampwick Quay") && svg.len() > 2000, "{key}");
    }
    let svg = text(draw("ladder.svg", &["--of", "ladder", "--viewer", "heron", "--from", "2.2s", "--to", "2.4s"]));
    for wanted in ["heron", "server", "0:02.20", " cm"] {
        assert!(svg.contains(wanted), "{wanted}");
    }
}

#[test]
fn a_chart_of_nothing_is_an_error_and_leaves_nothing() {
    let folder = folder();
    let none = folder.path().join("none.svg");
    let name = none.to_str().expect("a name");
    for (args, said) in [
        (vec!["chart", "--for", "50ms", "-o", name], "nothing to draw: plover had no sample"),
        (vec!["chart", "--of", "eror", "-o", name], "there is no `eror` to draw"),
        (vec!["chart", "--for", "5s", "--from", "9s", "-o", name], "expected --from before --to"),
        (vec!["chart", "--for", "5s"], "expected -o FILE"),
    ] {
        let done = velocitas(&args);
        let errors = String::from_utf8_lossy(&done.stderr).into_owned();
        assert_eq!(done.status.code(), Some(2), "{args:?}: {errors}");
        assert!(errors.contains(said), "{args:?}: {errors}");
        assert_eq!(fs::read_dir(folder.path()).expect("a folder").count(), 0);
    }
}

#[test]
fn logs_go_to_the_file_asked_for_and_nowhere_else() {
    let folder = folder();
    let log = folder.path().join("log.txt");
    let done = Command::new(env!("CARGO_BIN_EXE_velocitas"))
        .args(["run", "--for", "1s"])
        .env("VELOCITAS_LOG", &log)
        .output()
        .expect("the program starts");
    assert!(done.stderr.is_empty());
    assert!(fs::read_to_string(&log).expect("it was written").contains("simulated"));
}

#[test]
fn a_new_folder_runs_as_it_is_and_nothing_in_it_is_overwritten() {
    let folder = folder();
    let game = folder.path().join("harbour-game").display().to_string();
    let done = velocitas(&["new", &game]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let course = format!("{game}/game.course.toml");
    let (report, code) = json(&["run", &course, "--for", "20s", "--report", "json"]);
    assert_eq!(code, 0);
    for client in report["clients"].as_array().expect("a list") {
        assert_eq!(client["corrections"]["count"], 0, "{client}");
    }
    let vetted = velocitas(&["vet", "--check", &format!("{game}/walker.gait"), &course]);
    let said = String::from_utf8_lossy(&vetted.stdout).into_owned();
    assert!(vetted.status.success() && !said.contains("warning"), "{said}");
    // All of it, as it is, passes.
    let vetted = velocitas(&["vet", &game]);
    let said = String::from_utf8_lossy(&vetted.stdout).into_owned();
    assert!(vetted.status.success() && said.contains("game.course.toml: good") && said.contains("drop"), "{said}");
    assert!(!said.contains("EXCEEDED") && !said.contains("warning"), "{said}");
    // Its budgets hold, as the script has it that its pipeline runs.
    let check = || {
        let path =
            std::path::Path::new(env!("CARGO_BIN_EXE_velocitas")).parent().expect("a folder").display().to_string();
        let path = format!("{path}:{}", std::env::var("PATH").unwrap_or_default());
        Command::new("sh").arg(format!("{game}/check.sh")).env("PATH", path).output().expect("a shell")
    };
    let checked = check();
    let said = String::from_utf8_lossy(&checked.stdout).into_owned();
    assert!(checked.status.success() && said.contains("5 seeds of 30 s, 30 limits: kept"), "{said}");
    assert!(fs::read_to_string(format!("{game}/netcode.xml")).is_ok_and(|xml| xml.contains("<testsuite")));
    let pipeline = fs::read_to_string(format!("{game}/pipeline.yml")).expect("there");
    assert!(pipeline.contains("sh check.sh") && pipeline.contains("netcode.xml"));
    for file in ["editor/course.schema.json", "editor/gait.tmLanguage.json", "teal.track.json"] {
        let text = fs::read_to_string(format!("{game}/{file}")).expect("there");
        assert!(serde_json::from_str::<Value>(&text).is_ok(), "{file}");
    }
    // The fault that the course offers to make: a tunable that the clients alone know.
    let text = fs::read_to_string(&course).expect("there");
    let tune = text.find("# [[tune]]").expect("the offer");
    fs::write(&course, format!("{}{}", &text[..tune], text[tune..].replace("# ", ""))).expect("written");
    let (report, _) = json(&["run", &course, "--for", "20s", "--report", "json"]);
    let first = &report["clients"][0]["corrections"];
    assert!(first["count"].as_u64() > Some(5) && first["unexplained"] == 0, "{first}");
    assert_eq!(check().status.code(), Some(1));
    let again = velocitas(&["new", &game]);
    assert_eq!(again.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&again.stderr).contains("none is overwritten"));
}

#[test]
fn vet_exits_1_with_diagnostics_and_2_for_what_it_cannot_read() {
    let folder = folder();
    let path = |name: &str| folder.path().join(name).display().to_string();
    let text = velocitas::lab::shipped_gait("courier.gait").expect("it ships");
    fs::write(path("bad.gait"), text.replace("grip * surface.grip else steer) * dt", "grip else steer)"))
        .expect("written");
    let done = velocitas(&["vet", &path("bad.gait")]);
    let said = String::from_utf8_lossy(&done.stdout).into_owned();
    assert_eq!(done.status.code(), Some(1));
    for wanted in ["error[unit]", "bad.gait:44:", "^^^", "help: multiply by `dt`"] {
        assert!(said.contains(wanted), "{wanted}: {said}");
    }
    let (report, code) = json(&["vet", "--report", "json", &path("bad.gait")]);
    assert_eq!((code, &report["good"]), (1, &Value::Bool(false)));
    assert_eq!(report["files"][0]["diagnostics"][0]["line"], 44);
    // A course that names a broken gait lists what is wrong with it.
    let course = "format = 1\nname = \"x\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                  [[cast]]\nname = \"teal\"\nrole = \"bot\"\ngait = \"bad.gait\"\nspawn = [0, 0]\n";
    fs::write(path("x.course.toml"), course).expect("written");
    let done = velocitas(&["run", &path("x.course.toml")]);
    let said = String::from_utf8_lossy(&done.stderr).into_owned();
    assert_eq!(done.status.code(), Some(2));
    assert!(
        said.contains("x.course.toml:8:8: expected a gait without mistakes") && said.contains("error[unit]"),
        "{said}"
    );
    assert_eq!(velocitas(&["vet", &path("x.course.toml")]).status.code(), Some(1));
    fs::write(path("x.course.toml"), course.replace("bad.gait", "none.gait")).expect("written");
    let said = String::from_utf8_lossy(&velocitas(&["run", &path("x.course.toml")]).stderr).into_owned();
    assert!(said.contains("cannot read `none.gait`"), "{said}");
    let empty = path("empty");
    fs::create_dir(&empty).expect("made");
    for missing in [path("none.gait"), empty] {
        assert_eq!(velocitas(&["vet", &missing]).status.code(), Some(2), "{missing}");
    }
}

#[test]
fn vet_keeps_the_inputs_that_exceed_a_limit_and_runs_them_again() {
    let folder = folder();
    let path = |name: &str| folder.path().join(name).display().to_string();
    let text = velocitas::lab::shipped_gait("courier.gait").expect("it ships");
    fs::write(
        path("low.gait"),
        text.replace("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1))", "at most walk"),
    )
    .expect("written");
    let (report, code) = json(&["vet", "--report", "json", "--restarts", "2", &path("low.gait")]);
    assert_eq!(code, 1);
    let found = report["files"][0]["envelope"]["found"].as_array().expect("an envelope").clone();
    let track = found.iter().find_map(|f| f["track"].as_str()).expect("a track was kept").to_owned();
    let again = velocitas(&["vet", &path("low.gait"), "--track", &track]);
    assert_eq!(again.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&again.stdout).contains("EXCEEDS THE LIMITS"));
    // The same inputs are lawful where the limit is.
    fs::write(path("good.gait"), &text).expect("written");
    assert_eq!(velocitas(&["vet", &path("good.gait"), "--track", &track]).status.code(), Some(0));
    fs::write(path("bad.track.json"), "{ \"format\": 1 ").expect("written");
    let bad = velocitas(&["vet", &path("good.gait"), "--track", &path("bad.track.json")]);
    assert_eq!(bad.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&bad.stderr).contains("line 1"));
}

#[test]
fn what_vet_keeps_for_a_check_of_the_guard_is_judged_by_it_again() {
    let folder = folder();
    let path = |name: &str| folder.path().join(name).display().to_string();
    let text = velocitas::lab::shipped_gait("courier.gait").expect("it ships");
    // It stops faster than it says, and falls slower.
    let strict = text.replace("at most max(grip, steer)  slack", "at most max(grip, steer) * 0.5  slack");
    fs::write(path("strict.gait"), strict.replace("at least fall  ", "at least fall * 1.5  ")).expect("written");
    let (report, code) = json(&["vet", "--report", "json", "--restarts", "4", &path("strict.gait")]);
    assert_eq!(code, 1);
    let guarded = report["files"][0]["envelope"]["guarded"].as_array().expect("the guard's checks").clone();
    let kept: Vec<&Value> = guarded.iter().filter(|one| one["exceeds"] == true).collect();
    assert!(
        kept.iter().any(|one| one["rule"] == "accel") && kept.iter().any(|one| one["rule"] == "support"),
        "{kept:?}"
    );
    for one in kept {
        let track = one["track"].as_str().expect("it was kept");
        let (again, code) = json(&["vet", "--report", "json", &path("strict.gait"), "--track", track]);
        assert_eq!(code, 1, "{one}");
        let found = again["files"][0]["track"]["guard"].as_array().expect("what the guard measured").clone();
        let found = found.iter().find(|found| found["rule"] == one["rule"]).expect("the same rule");
        assert_eq!((&found["measured"], &found["allowed"]), (&one["measured"], &one["allowed"]));
        let said = velocitas(&["vet", &path("strict.gait"), "--track", track]);
        assert!(String::from_utf8_lossy(&said.stdout).contains("THE HONEST WOULD BE ACCUSED"));
    }
}

#[test]
fn ten_minutes_of_the_demo_are_good_and_tricks_without_effect_are_said_to_be_so() {
    let (report, code) = json(&["run", "--for", "10min", "--report", "json"]);
    let magpie = &report["clients"][4];
    assert_eq!(code, 0, "{magpie}");
    let of = |key: &str| magpie[key].as_u64().expect("a number");
    assert!(of("tricks_idle") > 0 && of("tricks") == of("tricks_answered") + of("tricks_idle"), "{magpie}");
    // Whoever cheats by nothing has nothing to be answered.
    let folder = folder();
    let path = folder.path().join("idle.course.toml");
    let course = |trick: &str| {
        format!(
            "format = 1\nname = \"idle\"\ntick_rate = \"60 Hz\"\nworld = {{ min = [-20, -20], max = [20, 20] }}\n\
             [[cast]]\nname = \"magpie\"\nrole = \"rogue\"\narrangement = \"claims\"\nspawn = [0, 0]\n\
             trick = [{{ {trick}, at = \"2 s\" }}]\nroute = [{{ at = [9, 0] }}, {{ at = [-9, 0] }}]\n"
        )
    };
    for (trick, idle) in [("run = \"1 times\"", 1), ("jump = \"0 m\"", 1), ("walls = true", 1), ("jump = \"4 m\"", 0)] {
        fs::write(&path, course(trick)).expect("written");
        let args = ["run", path.to_str().expect("a name"), "--for", "8s"];
        let done = velocitas(&args);
        let said = String::from_utf8_lossy(&done.stdout).into_owned();
        assert_eq!(done.status.code(), Some(0), "{trick}: {said}");
        assert_eq!(said.contains("1 could have no effect"), idle == 1, "{trick}: {said}");
    }
}

#[test]
fn what_a_course_does_not_mean_is_warned_about_and_runs() {
    let folder = folder();
    let path = folder.path().join("odd.course.toml");
    let course = "format = 1\nname = \"odd\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                  [[cast]]\nname = \"teal\"\nrole = \"bot\"\nspawn = [0, 0]\n\
                  [[event]]\nat = \"1 s\"\npush = { who = \"teal\" }\n";
    fs::write(&path, course).expect("written");
    let name = path.to_str().expect("a name");
    let done = velocitas(&["run", name, "--for", "2s"]);
    let said = String::from_utf8_lossy(&done.stderr).into_owned();
    assert_eq!(done.status.code(), Some(0));
    assert!(said.contains("warning: ") && said.contains("odd.course.toml:9:1: a push of nothing"), "{said}");
    let vetted = velocitas(&["vet", name]);
    assert!(String::from_utf8_lossy(&vetted.stdout).contains("a push of nothing"));
    let (report, code) = json(&["vet", "--report", "json", name]);
    assert_eq!((code, &report["files"][0]["warnings"][0]["line"]), (0, &Value::from(9)));
    // Nothing that ships is warned about.
    let game = folder.path().join("game").display().to_string();
    assert!(velocitas(&["new", &game]).status.success());
    let (report, _) = json(&["vet", "--report", "json", &format!("{game}/game.course.toml")]);
    assert_eq!(report["files"][0]["warnings"], Value::Array(Vec::new()));
}

#[test]
fn guard_tells_how_near_the_honest_came_and_what_cheats_gain() {
    let folder = folder();
    let course = |arrangement: &str| {
        let path = folder.path().join("walk.course.toml");
        let gait = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
        fs::write(folder.path().join("courier.gait"), gait).expect("written");
        let text = format!(
            "format = 1\nname = \"walk\"\nseed = 3\ntick_rate = \"60 Hz\"\nworld = {{ min = [-30, -30], max = [30, 30] }}\n\
             [link.l]\nlatency = \"40 ms\"\n[[cast]]\nname = \"curlew\"\nrole = \"bot\"\narrangement = \"{arrangement}\"\n\
             gait = \"courier.gait\"\nlink = \"l\"\nspawn = [0, 0]\nroute = [{{ at = [0, 12] }}, {{ at = [0, -12] }}]\n"
        );
        fs::write(&path, text).expect("written");
        path.display().to_string()
    };
    let report = |arrangement: &str| {
        let at = course(arrangement);
        let guard = ["guard", &at, "--for", "12s", "--seeds", "1", "--search", "0", "--report", "json"];
        let done = velocitas(&guard);
        // Of claims alone a walker may be as fast as a sprint: a finding, unless that is lived with.
        let finds = i32::from(arrangement == "claims");
        assert_eq!(done.status.code(), Some(finds), "{}", String::from_utf8_lossy(&done.stderr));
        let allowed = velocitas(&[&guard[..], &["--allow", "run,drift,jump"]].concat());
        assert_eq!(allowed.status.code(), Some(0), "{}", String::from_utf8_lossy(&allowed.stdout));
        assert_eq!(velocitas(&[&guard[..], &["--allow", "runn"]].concat()).status.code(), Some(2));
        serde_json::from_slice::<Value>(&done.stdout).expect("JSON")
    };
    let cheat = |report: &Value, name: &str| {
        let all = report["members"][0]["cheats"].as_array().expect("cheats").clone();
        all.into_iter().find(|row| row["cheat"] == name).expect("it was tried")
    };
    let claims = report("claims");
    let reach = &claims["rules"][0];
    assert_eq!((&reach["rule"], &claims["honest_verdicts"]), (&"reach".into(), &0.into()));
    assert!(reach["honest"]["claims"].as_u64() > Some(500) && reach["honest"]["beyond"] == 0, "{reach}");
    let run = cheat(&claims, "run");
    assert!(run["unfound"].as_f64() > Some(1.3), "a walker may run as fast as a sprint unseen: {run}");
    assert!(run["unfound_gain_m_per_min"].as_f64() > Some(50.0), "{run}");
    let accounts = report("claims with inputs");
    assert_eq!(accounts["rules"][0]["rule"], "step");
    let run = cheat(&accounts, "run");
    assert!(run["found_from"].as_f64() < Some(1.03) && run["found_within_ms"].as_f64() < Some(3000.0), "{run}");
    let said = velocitas(&["guard", &course("claims"), "--for", "5s", "--seeds", "1"]);
    let said = String::from_utf8(said.stdout).expect("text");
    for wanted in [
        "honest members accused: 0",
        "would have accused nobody honest; 4.0 % is allowed",
        "curlew, courier, claims",
        "found in 1 of 1 seeds from",
    ] {
        assert!(said.contains(wanted), "{wanted} in {said}");
    }
    // What is proposed is written on request, line by line, and nothing else in the file is otherwise.
    let gait = folder.path().join("courier.gait");
    let before = fs::read_to_string(&gait).expect("text");
    let again = || velocitas(&["guard", &course("claims"), "--for", "5s", "--seeds", "1", "--write"]);
    let done = again();
    let said = String::from_utf8(done.stdout).expect("text");
    let after = fs::read_to_string(&gait).expect("text");
    assert!(
        before != after && after.contains("slack 1 %") && after.replace("slack 1 %", "slack 4 %") == before,
        "{said}"
    );
    let lines = |sign: &str| said.lines().filter(|l| l.get(4..7) == Some(sign) && l.contains("slack")).count();
    let changed = before.lines().filter(|line| line.contains("slack")).count();
    assert_eq!((lines(" - "), lines(" + ")), (changed, changed), "{said}");
    // A link is not written through.
    fs::rename(&gait, folder.path().join("elsewhere.gait")).expect("moved");
    std::os::unix::fs::symlink("elsewhere.gait", &gait).expect("a link");
    let text = fs::read_to_string(folder.path().join("walk.course.toml")).expect("text");
    let linked = folder.path().join("linked.course.toml");
    fs::write(&linked, text).expect("written");
    let done = velocitas(&["guard", &linked.display().to_string(), "--for", "5s", "--seeds", "1", "--write"]);
    assert_eq!(done.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&done.stderr).contains("expected a regular file"), "{:?}", done.stderr);
}
