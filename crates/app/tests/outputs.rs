//! Where results go, as the shell sees it: files, links, devices, pipes, standard output; and what is never written over.

use std::fs;
use std::io::Read;
use std::os::unix::fs::{FileTypeExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Output, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

const BIN: &str = env!("CARGO_BIN_EXE_velocitas");

/// A shell command in a folder; `velocitas` is the program.
fn shell(folder: &Path, line: &str) -> Output {
    let line = format!("velocitas() {{ '{BIN}' \"$@\"; }}\n{line}");
    Command::new("bash").arg("-c").arg(line).current_dir(folder).output().expect("bash")
}

#[track_caller]
fn good(folder: &Path, line: &str) -> String {
    let done = shell(folder, line);
    assert!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8_lossy(&done.stdout).into_owned()
}

/// Exit code and what was said.
fn refused(folder: &Path, line: &str) -> (Option<i32>, String) {
    let done = shell(folder, line);
    (done.status.code(), String::from_utf8_lossy(&done.stderr).into_owned())
}

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a folder")
}

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(folder)
        .expect("a folder")
        .map(|e| e.expect("an entry").file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

const COURSE: &str = "format = 1\nname = \"x\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                      [[cast]]\nname = \"teal\"\nrole = \"bot\"\ngait = \"a.gait\"\nspawn = [0, 0]\n\
                      route = [{ at = [5, 0] }, { at = [-5, 0] }]\n";

/// A folder with a course on a gait.
fn game() -> tempfile::TempDir {
    let folder = folder();
    fs::write(folder.path().join("c.course.toml"), COURSE).expect("written");
    let gait = velocitas::lab::shipped_gait("courier.gait").expect("it ships");
    fs::write(folder.path().join("a.gait"), gait).expect("written");
    folder
}

#[test]
fn a_link_stays_and_its_target_has_the_result() {
    let f = folder();
    fs::write(f.path().join("target"), "old").expect("written");
    symlink("target", f.path().join("link")).expect("linked");
    symlink("not/yet", f.path().join("into-nothing")).expect("linked");
    good(f.path(), "velocitas run --for 1s --record link >/dev/null");
    assert!(fs::symlink_metadata(f.path().join("link")).expect("there").is_symlink());
    assert!(fs::read_to_string(f.path().join("target")).expect("there").starts_with("{\""));
    let (code, said) = refused(f.path(), "velocitas run --for 1s --record into-nothing");
    assert_eq!(code, Some(2), "the folder that the link leads to is missing: {said}");
    assert!(said.trim_end().ends_with("No such file or directory (os error 2)"), "{said}");
    fs::create_dir(f.path().join("not")).expect("made");
    good(f.path(), "velocitas run --for 1s --record into-nothing >/dev/null");
    assert!(f.path().join("not/yet").is_file());
    assert!(fs::symlink_metadata(f.path().join("into-nothing")).expect("there").is_symlink());
    assert_eq!(names(f.path()), ["into-nothing", "link", "not", "target"]);
}

#[test]
fn a_pipe_is_written_into_and_stays_one() {
    let f = folder();
    let read = good(
        f.path(),
        "mkfifo p && (velocitas run --for 1s --record p >/dev/null & wc -l <p; wait) && \
         (velocitas chart --for 3s -o p & head -c 4 <p; wait)",
    );
    let lines: usize = read.lines().next().and_then(|l| l.trim().parse().ok()).unwrap_or(0);
    assert!(lines > 100, "{read}");
    assert!(read.contains("<svg"), "{read}");
    assert!(fs::symlink_metadata(f.path().join("p")).expect("there").file_type().is_fifo());
    assert_eq!(names(f.path()), ["p"]);
}

#[test]
fn a_device_is_written_into_and_stays_one() {
    let f = folder();
    good(f.path(), "velocitas run --for 1s --record /dev/null >/dev/null");
    assert!(fs::metadata("/dev/null").expect("there").file_type().is_char_device());
    let (code, said) = refused(f.path(), "velocitas run --for 1s --record /dev/full >/dev/null");
    assert_eq!(code, Some(2));
    assert!(said.contains("cannot write /dev/full: No space left"), "{said}");
    assert!(fs::metadata("/dev/full").expect("there").file_type().is_char_device());
}

#[test]
fn where_the_rows_of_a_record_wait_is_said_when_that_fails() {
    let f = folder();
    let line = "TMPDIR=/nowhere velocitas run --for 1s --record - > out";
    let (code, said) = refused(f.path(), line);
    assert_eq!(code, Some(2));
    assert!(said.contains("cannot write -") && said.contains("wait in /nowhere (TMPDIR says where)"), "{said}");
    // Beside the result nothing is left of them, whether it was written or its program was killed.
    let (code, _) = refused(f.path(), "TMPDIR=/nowhere velocitas run --for 1s --record r.jsonl > said");
    assert_eq!(code, Some(0));
    refused(f.path(), "timeout -s KILL 0.3 velocitas run --for 9min --record killed.jsonl > said2");
    let mut left: Vec<String> = fs::read_dir(f.path())
        .expect("it is there")
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .filter(|name| !name.starts_with(".tmp"))
        .collect();
    left.sort();
    assert_eq!(left, ["out", "r.jsonl", "said", "said2"]);
}

#[test]
fn standard_output_is_a_place_by_three_names() {
    let f = folder();
    for name in ["-", "/dev/stdout", "/dev/fd/1"] {
        let lines = good(f.path(), &format!("velocitas run --for 1s --record {name} 2>report.txt | cat"));
        assert!(lines.lines().all(|l| l.starts_with("{\"")) && lines.contains("\"digest\""), "{name}");
        assert!(fs::read_to_string(f.path().join("report.txt")).expect("there").contains("Lampwick Quay"), "{name}");
        good(f.path(), &format!("velocitas run --for 1s --record {name} >lines.jsonl 2>report.txt"));
        assert_eq!(fs::read_to_string(f.path().join("lines.jsonl")).expect("there"), lines, "{name}");
        assert!(good(f.path(), &format!("velocitas chart --for 3s -o {name}")).contains("</svg>"));
    }
    assert_eq!(names(f.path()), ["lines.jsonl", "report.txt"]);
}

#[test]
fn modes_follow_the_umask_and_the_file_that_is_replaced() {
    let f = folder();
    let mode = |name: &str| fs::metadata(f.path().join(name)).expect("there").permissions().mode() & 0o777;
    good(f.path(), "umask 077; velocitas run --for 1s --record private >/dev/null");
    good(f.path(), "umask 002; velocitas run --for 1s --record shared >/dev/null");
    good(f.path(), "touch old; chmod 640 old; umask 022; velocitas run --for 1s --record old >/dev/null");
    good(f.path(), "umask 027; velocitas new game >/dev/null");
    assert_eq!((mode("private"), mode("shared"), mode("old")), (0o600, 0o664, 0o640));
    assert_eq!(mode("game/walker.gait"), 0o640);
}

#[test]
fn what_is_read_is_never_written_over() {
    let f = game();
    fs::create_dir(f.path().join("sub")).expect("made");
    symlink("../a.gait", f.path().join("sub/link")).expect("linked");
    fs::hard_link(f.path().join("c.course.toml"), f.path().join("twin")).expect("linked");
    let before: Vec<Vec<u8>> = ["c.course.toml", "a.gait"].map(|n| fs::read(f.path().join(n)).expect("there")).into();
    for line in [
        "velocitas run c.course.toml --for 1s --record c.course.toml",
        "velocitas run c.course.toml --for 1s --record ./sub/../c.course.toml",
        "velocitas run c.course.toml --for 1s --record twin",
        "velocitas run c.course.toml --for 1s --record a.gait",
        "velocitas chart c.course.toml -o a.gait",
        "velocitas chart c.course.toml -o sub/link",
        "velocitas run c.course.toml --for 1s >/dev/null --record \"$PWD/c.course.toml\"",
        "VELOCITAS_LOG=c.course.toml velocitas run c.course.toml --for 1s",
        "VELOCITAS_LOG=sub/link velocitas vet a.gait",
    ] {
        let (code, said) = refused(f.path(), line);
        assert_eq!(code, Some(2), "{line}");
        assert!(said.contains("is read; name another"), "{line}: {said}");
    }
    let after: Vec<Vec<u8>> = ["c.course.toml", "a.gait"].map(|n| fs::read(f.path().join(n)).expect("there")).into();
    assert_eq!(before, after);
}

#[test]
fn a_file_that_may_not_be_written_is_not_replaced() {
    let f = folder();
    fs::write(f.path().join("kept"), "kept").expect("written");
    fs::set_permissions(f.path().join("kept"), fs::Permissions::from_mode(0o444)).expect("set");
    // Root may write anything: then there is nothing to see.
    if fs::OpenOptions::new().write(true).open(f.path().join("kept")).is_ok() {
        return;
    }
    let (code, said) = refused(f.path(), "velocitas run --for 1s --record kept");
    assert_eq!(code, Some(2), "{said}");
    assert_eq!(fs::read(f.path().join("kept")).expect("there"), b"kept");
}

#[test]
fn a_full_disk_on_standard_output_is_told_and_a_closed_pipe_is_forgiven() {
    let f = game();
    for line in [
        "velocitas run --for 1s",
        "velocitas run --for 1s --report json",
        "velocitas vet --check a.gait c.course.toml",
        "velocitas vet --check --report json a.gait",
        "velocitas --help",
        "velocitas run --help",
        "velocitas --version",
        "velocitas run --for 1s --record -",
        "velocitas chart --for 3s -o -",
        "velocitas new made",
    ] {
        let (code, said) = refused(f.path(), &format!("{line} >/dev/full"));
        assert_eq!(code, Some(2), "{line}: {said}");
        assert!(said.contains("cannot write to standard output: No space left"), "{line}: {said}");
        assert!(!said.contains("panicked"), "{line}: {said}");
        let _ = fs::remove_dir_all(f.path().join("made"));
        let closed = good(f.path(), &format!("{line} | true; echo ${{PIPESTATUS[0]}}"));
        assert_eq!(closed.trim(), "0", "{line}");
        let _ = fs::remove_dir_all(f.path().join("made"));
    }
    // Nobody to tell: still no panic.
    for line in ["velocitas run nothing.toml 2>/dev/full", "velocitas --nothing 2>/dev/full"] {
        assert_eq!(refused(f.path(), line).0, Some(2), "{line}");
    }
}

/// Waits until something holds; bounded.
#[track_caller]
fn until(what: &str, holds: impl Fn() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < Duration::from_secs(20), "never: {what}");
        sleep(Duration::from_millis(10));
    }
}

/// The program, by which signals are heeded that whoever runs the tests may ignore, as what a script puts into the background does: no
/// shell can heed those again.
fn with_usual_signals() -> Command {
    let mut command = Command::new("perl");
    command.args(["-e", "$SIG{$_} = 'DEFAULT' for qw(INT TERM HUP QUIT); exec { $ARGV[0] } @ARGV", BIN]);
    command
}

/// How it ended. One that does not is killed, and has failed.
#[track_caller]
fn ended(child: &mut Child) -> ExitStatus {
    let began = Instant::now();
    loop {
        if let Some(status) = child.try_wait().expect("a child") {
            return status;
        }
        if began.elapsed() > Duration::from_secs(20) {
            child.kill().expect("killed");
            panic!("it does not end");
        }
        sleep(Duration::from_millis(10));
    }
}

#[test]
fn a_signal_takes_half_a_result_away_and_is_the_exit_code() {
    for (name, number) in [("INT", 2), ("TERM", 15), ("HUP", 1), ("QUIT", 3)] {
        let f = folder();
        fs::write(f.path().join("r.jsonl"), "before").expect("written");
        let mut child = with_usual_signals()
            .args(["run", "--for", "1440min", "--record", "r.jsonl"])
            .current_dir(f.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("it starts");
        until("the file beside", || names(f.path()).len() == 2);
        Command::new("kill").args([&format!("-{name}"), &child.id().to_string()]).status().expect("kill");
        assert_eq!(ended(&mut child).code(), Some(128 + number), "{name}");
        assert_eq!(names(f.path()), ["r.jsonl"], "{name}");
        assert_eq!(fs::read(f.path().join("r.jsonl")).expect("there"), b"before");
    }
}

#[test]
fn a_hangup_that_is_ignored_stays_ignored() {
    let f = folder();
    let line =
        "nohup '{BIN}' run --for 5s --report json >out.json 2>/dev/null & sleep 0.05; kill -HUP $!; wait $!; echo $?"
            .replace("{BIN}", BIN);
    assert_eq!(good(f.path(), &line).trim(), "0");
}

#[test]
fn only_regular_files_and_named_pipes_are_read_and_never_without_end() {
    let f = game();
    let p = |name: &str| f.path().join(name).display().to_string();
    for line in [
        "velocitas vet /dev/zero",
        "velocitas run /dev/zero",
        "velocitas /dev/zero",
        "velocitas vet --track /dev/zero a.gait",
    ] {
        let (code, said) = refused(f.path(), line);
        assert_eq!(code, Some(2), "{line}");
        assert!(said.contains("it is a device"), "{line}: {said}");
    }
    for line in ["velocitas run - </dev/zero", "velocitas vet - </dev/zero", "velocitas run <(cat /dev/zero)"] {
        let (code, said) = refused(f.path(), line);
        assert_eq!(code, Some(2), "{line}");
        assert!(said.contains("more than 4194304 bytes"), "{line}: {said}");
    }
    // Process substitution and standard input; what they name is looked for from the working folder.
    for line in [
        "velocitas run <(cat c.course.toml) --for 2s",
        "velocitas run - --for 2s <c.course.toml",
        "cat c.course.toml | velocitas run /dev/stdin --for 2s",
        "velocitas run /dev/stdin --for 2s <c.course.toml",
        "velocitas run --for 2s -- ./c.course.toml",
        "velocitas vet --check <(cat c.course.toml) <(cat a.gait)",
        "velocitas vet --check - <a.gait",
    ] {
        let said = good(f.path(), line);
        assert!(said.contains("teal") || said.contains("is sound"), "{line}: {said}");
    }
    // A gait that is a pipe: refused at once, though nobody writes into it.
    fs::remove_file(p("a.gait")).expect("removed");
    good(f.path(), "mkfifo a.gait");
    let (code, said) = refused(f.path(), "velocitas run c.course.toml");
    assert_eq!(code, Some(2));
    assert!(said.contains("it is a pipe; a gait is a text file"), "{said}");
    // Nor is one waited for that was found in a folder and not named itself.
    for line in ["velocitas vet --check .", "mkfifo q.course.toml; velocitas check .", "velocitas vet --check ."] {
        let (code, said) = refused(f.path(), line);
        assert_eq!(code, Some(2), "{line}");
        assert!(said.contains("it is a pipe; "), "{line}: {said}");
    }
    fs::remove_file(p("q.course.toml")).expect("removed");
    let bad = COURSE.replace("a.gait", "/dev/zero");
    fs::write(p("c.course.toml"), bad).expect("written");
    assert!(refused(f.path(), "velocitas run c.course.toml").1.contains("it is a device"));
}

#[test]
fn a_track_without_a_gait_is_bad_usage() {
    let f = game();
    fs::write(f.path().join("t.track.json"), "{}").expect("written");
    let (code, said) = refused(f.path(), "velocitas vet c.course.toml --track t.track.json");
    assert_eq!(code, Some(2));
    assert!(said.contains("expected a gait to run --track with; found only courses"), "{said}");
}

#[test]
fn the_interface_is_refused_where_it_cannot_be_shown() {
    let f = folder();
    let mut child = Command::new(BIN)
        .current_dir(f.path())
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("it starts");
    let mut said = String::new();
    child.stderr.take().expect("piped").read_to_string(&mut said).expect("text");
    assert_eq!(ended(&mut child).code(), Some(2));
    assert!(said.contains("expected standard output to be a terminal"), "{said}");
    assert_eq!(said.lines().count(), 1);
}

#[test]
fn two_results_of_a_command_are_refused_one_place_before_anything_runs() {
    let folder = tempfile::tempdir().expect("a folder");
    let at = |name: &str| folder.path().join(name).display().to_string();
    fs::write(at("kept"), "precious").expect("written");
    let (kept, inputs, dot) = (at("kept"), at("inputs.csv"), format!("{}/./inputs.csv", folder.path().display()));
    let run = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_velocitas"));
        let done = command.current_dir(folder.path()).arg("run").args(["--for", "600min"]).args(args).output();
        let done = done.expect("it starts");
        (done.status.code(), String::from_utf8_lossy(&done.stderr).into_owned())
    };
    // An hour would take a while: it must not begin.
    for args in [
        &["--record", &kept, "--take", &kept][..],
        &["--record", "kept", "--take", &kept],
        &["--record", &inputs, "--table", &inputs],
        &["--table", &inputs, "--table", &dot],
        &["--record", "-", "--take", "-"],
        &["--record", "-", "--take", "/dev/stdout"],
    ] {
        let (code, said) = run(args);
        assert!(code == Some(2) && said.contains("another result goes"), "{args:?}: {said}");
    }
    assert_eq!(fs::read_to_string(at("kept")).expect("there"), "precious");
    // The log is one as well.
    let mut command = Command::new(env!("CARGO_BIN_EXE_velocitas"));
    let done =
        command.env("VELOCITAS_LOG", at("log")).args(["run", "--for", "600min", "--record", &at("log")]).output();
    assert_eq!(done.expect("it starts").status.code(), Some(2));
    // What is said goes elsewhere where standard output is a result's.
    let done = Command::new(env!("CARGO_BIN_EXE_velocitas"))
        .args(["run", "--for", "2s", "--take", "-"])
        .output()
        .expect("it starts");
    let text = String::from_utf8(done.stdout).expect("text");
    assert!(text.lines().count() > 2 && text.lines().all(|line| line.contains(" {")), "{text}");
    assert!(String::from_utf8_lossy(&done.stderr).contains("plover"));
}
