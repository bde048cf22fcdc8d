//! The real program in a real terminal, driven through tmux.

use std::process::Command;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// A tmux server of its own with the program in its only window.
struct Terminal {
    socket: String,
    folder: tempfile::TempDir,
}

impl Terminal {
    fn open(width: u16, height: u16) -> Self {
        Self::open_with(width, height, "", "")
    }

    /// With variables before the program and arguments behind it.
    fn open_with(width: u16, height: u16, variables: &str, arguments: &str) -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let socket = folder.path().join("tmux").display().to_string();
        let terminal = Self { socket, folder };
        let (w, h) = (width.to_string(), height.to_string());
        // A shell around it shows what is left behind.
        terminal.tmux(&["-f", "/dev/null", "new-session", "-d", "-s", "t", "-x", &w, "-y", &h, "sh"]);
        terminal.tmux(&["set-option", "-g", "escape-time", "0"]);
        terminal.tmux(&["set-option", "-g", "window-size", "manual"]);
        terminal.type_text("PS1='ready$ '; clear");
        terminal.keys(&["Enter"]);
        terminal.wait_for("ready$");
        // Not the sessions of whoever runs the tests.
        let state = terminal.folder.path().join(".state").display().to_string();
        let program = env!("CARGO_BIN_EXE_velocitas");
        let start = format!("COLORTERM=truecolor XDG_STATE_HOME={state} {variables} {program} {arguments}");
        terminal.type_text(&start);
        terminal.keys(&["Enter"]);
        terminal.wait_until("the interface", |s| ["LIVE", "BACK", "PAUSED"].iter().any(|it| s.contains(it)));
        terminal
    }

    fn tmux(&self, args: &[&str]) -> String {
        let done = Command::new("tmux").arg("-S").arg(&self.socket).args(args).output().expect("tmux is installed");
        assert!(done.status.success(), "tmux {args:?}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8_lossy(&done.stdout).into_owned()
    }

    fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", "-t", "t", key]);
            sleep(Duration::from_millis(60));
        }
    }

    fn type_text(&self, text: &str) {
        self.tmux(&["send-keys", "-t", "t", "-l", text]);
    }

    fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p", "-t", "t"])
    }

    /// Waits until the screen is as wanted; bounded.
    #[track_caller]
    fn wait_until(&self, what: &str, wanted: impl Fn(&str) -> bool) -> String {
        let began = Instant::now();
        loop {
            let screen = self.screen();
            if wanted(&screen) {
                return screen;
            }
            assert!(began.elapsed() < Duration::from_secs(20), "never saw {what}:\n{screen}");
            sleep(Duration::from_millis(50));
        }
    }

    #[track_caller]
    fn wait_for(&self, text: &str) -> String {
        self.wait_until(text, |screen| screen.contains(text))
    }

    #[track_caller]
    fn is_clean(&self) {
        let screen = self.wait_until("the shell again", |s| {
            s.lines().rfind(|l| !l.trim().is_empty()).is_some_and(|l| l.trim_end().ends_with("ready$"))
        });
        assert!(!screen.contains("VELOCITAS"), "something was left behind:\n{screen}");
        // Cooked again: what is typed is echoed and run.
        self.type_text("echo sum=$((40+2))");
        self.keys(&["Enter"]);
        self.wait_for("sum=42");
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = Command::new("tmux").arg("-S").arg(&self.socket).arg("kill-server").output();
    }
}

#[test]
fn what_keys_do_is_typed_behind_a_colon() {
    let t = Terminal::open(120, 36);
    t.keys(&[":"]);
    t.wait_for(":_   go  look  screen");
    t.type_text("late");
    t.keys(&["Tab"]);
    t.type_text("150 ms");
    t.wait_for("latency VALUE [NAME | all]");
    t.keys(&["Enter"]);
    t.wait_for("latency, one way of plover set to 150 ms");
    t.keys(&[":"]);
    t.type_text("latancy 1");
    t.keys(&["Enter"]);
    t.wait_for("did you mean `latency`?");
    t.keys(&["Escape", "q"]);
    t.is_clean();
}

#[test]
fn a_session_from_the_start_to_a_clean_terminal() {
    let t = Terminal::open(160, 47);
    let screen = t.screen();
    assert!(screen.contains("Lampwick Quay") && screen.contains("knobs of plover"), "{screen}");

    // The helm: north for a second.
    t.keys(&["h"]);
    t.wait_for("driving plover");
    t.keys(&["w"]);
    sleep(Duration::from_millis(900));
    t.keys(&["x", "Escape"]);
    t.wait_for("h gives it back to its script");
    t.keys(&["h"]);

    // Pause, step back, on, to an event, back to live.
    t.keys(&["Space"]);
    t.wait_for("PAUSED");
    t.keys(&[",", ","]);
    t.wait_for("BACK");
    t.keys(&["p"]);
    t.wait_for("Enter resume from here");
    t.keys(&["End"]);
    t.wait_for("LIVE");

    // A knob, another entity, another viewer.
    t.keys(&["Right"]);
    t.wait_for("50 ms");
    t.keys(&["Tab"]);
    t.wait_for("looking at heron on the screen of plover");
    t.keys(&["v", "v"]);
    t.wait_for("on the screen of dunlin");

    // Smaller, too small, large again.
    t.tmux(&["resize-window", "-t", "t", "-x", "80", "-y", "24"]);
    t.wait_until("the narrow masthead", |s| s.contains("heron on dunlin"));
    t.tmux(&["resize-window", "-t", "t", "-x", "60", "-y", "20"]);
    t.wait_for("Velocitas needs 80");
    t.tmux(&["resize-window", "-t", "t", "-x", "120", "-y", "36"]);
    t.wait_for("knobs of heron");

    t.keys(&["?"]);
    t.wait_for("run or pause");
    t.keys(&["Escape", "q"]);
    t.is_clean();
}

/// The process of the program in the terminal's shell.
fn program_in(t: &Terminal) -> String {
    let shell = t.tmux(&["display-message", "-p", "-t", "t", "#{pane_pid}"]);
    let children = Command::new("ps").args(["-o", "pid=", "--ppid", shell.trim()]).output().expect("ps");
    let child = String::from_utf8_lossy(&children.stdout).trim().to_owned();
    assert!(!child.is_empty(), "the program runs");
    child
}

#[test]
fn a_terminal_that_goes_away_takes_the_program_with_it() {
    let t = Terminal::open(120, 36);
    let child = program_in(&t);
    t.tmux(&["kill-server"]);
    let began = Instant::now();
    while Command::new("ps").args(["-p", &child]).output().expect("ps").status.success() {
        assert!(began.elapsed() < Duration::from_secs(10), "it goes on without a terminal");
        sleep(Duration::from_millis(50));
    }
}

#[test]
fn a_signal_and_a_suspend_leave_the_terminal_clean() {
    let t = Terminal::open(120, 36);
    t.keys(&["C-z"]);
    t.wait_until("the shell", |s| !s.contains("VELOCITAS") && s.contains("ready$"));
    t.type_text("fg");
    t.keys(&["Enter"]);
    t.wait_for("LIVE");
    let child = program_in(&t);
    let done = Command::new("kill").args(["-TERM", &child]).status().expect("kill");
    assert!(done.success());
    t.is_clean();
}

#[test]
fn a_saved_edit_moves_the_world_and_a_broken_one_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let game = folder.path().join("game");
    let made = Command::new(env!("CARGO_BIN_EXE_velocitas")).arg("new").arg(&game).output().expect("it starts");
    assert!(made.status.success());
    let gait = game.join("walker.gait");
    let text = std::fs::read_to_string(&gait).expect("made");
    // An editor that writes what it is told to and leaves.
    let editor = folder.path().join("editor.sh");
    std::fs::write(&editor, "#!/bin/sh\nsed -i 's/walk    4 m/walk    9 m/' \"$1\"\n").expect("written");
    let variables = format!("EDITOR='sh {}'", editor.display());
    let t = Terminal::open_with(160, 47, &variables, &game.join("game.course.toml").display().to_string());
    t.keys(&["2"]);
    let screen = t.wait_for("IN FORCE");
    assert!(screen.contains("walker of mine") && screen.contains("whole input 29 bits a tick"), "{screen}");

    std::fs::write(&gait, text.replace("fall * dt", "fall")).expect("saved");
    t.wait_until("what is wrong with it", |s| {
        s.contains("BROKEN EDIT: 1 mistake")
            && s.contains("multiply by dt?")
            && s.contains("the last good rule runs on")
    });

    std::fs::write(&gait, &text).expect("saved");
    t.wait_for("IN FORCE since tick");
    t.keys(&["e"]);
    t.wait_until("the editor's change in force", |s| s.contains("9 m/s") && s.contains("IN FORCE since tick"));
    t.keys(&["1"]);
    t.wait_until("plover at its new speed", |s| s.contains("15.30 lawful"));

    // A tunable turned on one machine only.
    t.keys(&["2", "Right"]);
    t.wait_for("the server does not know of it");
    t.wait_for("server 9");
    t.keys(&["1"]);
    t.wait_for("walk is 9.5 m/s at the client");
    t.keys(&["q"]);
    t.is_clean();
}

#[test]
fn somebody_crashes_returns_and_is_driven() {
    let course = format!("{}/../../courses/comings-and-goings.course.toml", env!("CARGO_MANIFEST_DIR"));
    let t = Terminal::open_with(160, 47, "", &course);
    t.wait_for("owned by  heron;");
    t.keys(&["c"]);
    t.wait_for("heron crashed; the server misses it after 5 s");
    t.wait_for("none: it is out");
    t.wait_for("heron (silent)");
    t.keys(&["r"]);
    t.wait_for("heron comes");
    t.wait_until("it plays again", |s| s.contains("same tick 0.0 mm") && !s.contains("it is out"));
    // The helm, and an order for what it shares, seen at once.
    t.keys(&["h"]);
    t.wait_for("driving heron");
    t.keys(&["o", "Escape", "BTab"]);
    let screen = t.wait_for("crane \u{b7} figures of heron");
    assert!(screen.contains("owned by  heron, plover"), "{screen}");
    t.wait_for("\u{2295} order");
    t.wait_for("obeys heron");
    t.keys(&["q"]);
    t.is_clean();
}

/// A rule with an input of every kind.
const KITE: &str = "gait \"kite\"
input {
  move stick
  facing bearing owned
  gaze pitch
  tuck held
  dash press key \"g\"
  lift axis
  goal point
}
state {
  pos point m wire 1/256 agree 2 cm blend curve
  vel vector m/s wire 1/128 agree 10 cm/s
  aim point m wire 1/32
  seen number wire 1/32 range 4
}
body { radius 0.3 m height 1.5 m step 0.3 m }
step {
  vel.xy = toward(vel.xy, turn(move, facing) * (if tuck then 2 m/s else 4 m/s), 40 m/s^2 * dt)
  vel.z = toward(vel.z, lift * 3 m/s, 20 m/s^2 * dt)
  if dash { vel.z = 2 m/s }
  if goal.given { aim = goal }
  seen = gaze
  slide pos, vel
}
limits {
  pace vel.xy at most 4 m/s slack 4 %
  climb vel.z at most 3 m/s slack 4 %
  drop vel.z at most 3 m/s slack 4 %
}
";

const YARD: &str = "format = 1
name = \"yard\"
tick_rate = \"60 Hz\"
world = { min = [-20, -20], max = [20, 20] }
[[cast]]
name = \"teal\"
role = \"helm\"
gait = \"kite.gait\"
link = \"fibre\"
spawn = [0, 0]
";

#[test]
fn every_kind_of_input_is_driven_kept_as_a_track_and_played() {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("kite.gait"), KITE).expect("written");
    let course = folder.path().join("yard.course.toml");
    std::fs::write(&course, YARD).expect("written");
    // A track is written into the working folder.
    let variables = format!("cd {} &&", folder.path().display());
    // It is the only course there: it need not be named.
    let t = Terminal::open_with(160, 47, &variables, "");
    t.wait_for("yard");
    t.keys(&["h"]);
    let screen = t.wait_for("keys latch");
    for row in ["w a s d", "left right", "up down", "e  ", "g  ", "r f", "o  "] {
        assert!(screen.contains(row), "{row}: {screen}");
    }
    t.keys(&["C-t"]);
    t.wait_for("kept as a track");
    t.keys(&["w", "Left", "Up", "e", "g", "g", "r", "S-Right", "S-Up", "o"]);
    let wanted = ["ahead", "105\u{b0}", "+15\u{b0}", "down", "pressed 2 times", "more", "ordered to"];
    t.wait_until("every input given", |screen| wanted.iter().all(|word| screen.contains(word)));
    sleep(Duration::from_millis(600));
    t.keys(&["x", "C-t"]);
    t.wait_for("wrote teal-");
    // What was typed is set, and what is no value is told.
    t.keys(&["Escape", "t"]);
    t.type_text("9999");
    t.keys(&["Enter"]);
    t.wait_for("expected a number from 0 to 1000 ms; found 9999");
    t.keys(&["BSpace", "BSpace"]);
    t.keys(&["Enter"]);
    t.wait_for("latency, one way of teal set to 99 ms");
    t.keys(&["u"]);
    t.wait_for("teal is pushed");
    t.keys(&["q"]);
    t.is_clean();

    let kept: Vec<_> = std::fs::read_dir(folder.path())
        .expect("a folder")
        .map(|entry| entry.expect("an entry").path())
        .filter(|path| path.to_string_lossy().ends_with(".track.json"))
        .collect();
    let text = std::fs::read_to_string(&kept[0]).expect("it was written");
    for word in ["\"dash\":", "\"tuck\":true", "\"lift\":1.0", "\"goal\":[", "\"gaze\":0.26"] {
        assert!(text.contains(word), "{word}: {text}");
    }
    let name = kept[0].file_name().expect("a name").to_string_lossy().into_owned();
    let played = YARD.replace("spawn", &format!("track = \"{name}\"\nspawn"));
    std::fs::write(&course, played).expect("written");
    let run = Command::new(env!("CARGO_BIN_EXE_velocitas"))
        .args(["run", &course.display().to_string(), "--for", "5s", "--record", "-"])
        .output()
        .expect("it runs");
    let rows = String::from_utf8_lossy(&run.stdout).into_owned();
    let used = |what: &str| rows.lines().filter(|row| row.contains("\"kind\":\"input\"") && row.contains(what)).count();
    let pressed = used("\"dash\":1") + used("\"dash\":2");
    assert!(used("\"tuck\":true") > 20 && pressed > 0, "{}", String::from_utf8_lossy(&run.stderr));
    let vet = Command::new(env!("CARGO_BIN_EXE_velocitas"))
        .args([
            "vet",
            &folder.path().join("kite.gait").display().to_string(),
            "--track",
            &kept[0].display().to_string(),
        ])
        .output()
        .expect("it runs");
    let said = String::from_utf8_lossy(&vet.stdout).into_owned();
    assert!(said.contains("pos.x m") && said.contains("aim.z m"), "{said}");
}

#[test]
fn somebody_asks_why_branches_off_compares_and_keeps() {
    let t = Terminal::open_with(160, 47, "", "--at 0:08");
    t.wait_for("BACK");
    t.keys(&["y"]);
    t.wait_for("crate 7 known to all");
    t.wait_for("more change next to nothing");
    t.keys(&["Enter"]);
    t.wait_for("with crate 7 known to all");
    // Its lane, and both figures with their difference.
    let screen = t.wait_until("the branch", |s| s.contains("\u{2514}branch") && s.contains("K keep the branch"));
    let row = screen.lines().find_map(|l| l.split_once("corrections").filter(|_| l.contains("-64")));
    assert!(row.is_some_and(|(_, figures)| figures.split_whitespace().next() == Some("64")), "{screen}");
    t.keys(&["D"]);
    t.wait_for("dropped the branch");
    // By hand: look back, turn a knob, Enter.
    t.keys(&["<", "<", "Right"]);
    t.wait_for("begin a branch from 0:06.00 with plover: latency, one way 50 ms");
    t.keys(&["Enter"]);
    t.wait_for("K keep the branch");
    t.keys(&["K"]);
    t.wait_for("kept: the run is now the one with plover: latency, one way 50 ms");
    t.wait_until("the knob as it is kept", |s| {
        s.lines().any(|l| l.contains("latency, one way") && l.contains("50 ms"))
    });
    t.keys(&[":"]);
    t.type_text("branch loss 0 %");
    t.keys(&["Enter"]);
    t.wait_for("K keep the branch");
    t.keys(&["q"]);
    t.is_clean();
}

#[test]
fn a_run_is_kept_opened_again_and_not_lost_when_its_program_is_killed() {
    let t = Terminal::open(160, 47);
    let folder = t.folder.path().display().to_string();
    t.keys(&["q"]);
    t.is_clean();
    // Where takes land.
    t.type_text(&format!("cd {folder}; clear"));
    t.keys(&["Enter"]);
    let program = env!("CARGO_BIN_EXE_velocitas");
    let start = |arguments: &str| {
        t.type_text(&format!("clear; XDG_STATE_HOME={folder}/.state {program} {arguments}"));
        t.keys(&["Enter"]);
    };
    let sessions = || std::fs::read_dir(t.folder.path().join(".state/velocitas")).map_or(0, Iterator::count);
    start("");
    t.wait_for("LIVE");
    assert_eq!(sessions(), 0, "nothing was done yet");
    t.keys(&["u", "f"]);
    t.wait_for("stands still for a second");
    t.keys(&[" ", "<", "w"]);
    t.wait_for("kept as lampwick-quay-1.take");
    t.keys(&[":"]);
    t.type_text("take lampwick-quay-1");
    t.keys(&["Enter"]);
    t.wait_for("lampwick-quay-1.take: it is there already");
    t.keys(&["Escape", "w"]);
    t.wait_for("kept as lampwick-quay-2.take");
    let began = Instant::now();
    while sessions() == 0 {
        assert!(began.elapsed() < Duration::from_secs(10), "no session is kept");
        sleep(Duration::from_millis(50));
    }
    // Killed, it is offered by the next one.
    let child = program_in(&t);
    assert!(Command::new("kill").args(["-KILL", &child]).status().expect("kill").success());
    t.wait_for("Killed");
    let state = format!("XDG_STATE_HOME={folder}/.state");
    let next = Terminal::open_with(160, 47, &state, "");
    next.wait_for("a session was not closed");
    next.wait_for("lampwick-quay.course.toml to ");
    next.wait_for("2 things done");
    next.keys(&["Enter"]);
    next.wait_for("the take is read to ");
    next.wait_for("PAUSED");
    next.keys(&["q"]);
    next.is_clean();
    assert_eq!(sessions(), 0, "who leaves it has it no more");
    // The take opens where it was looked at.
    let take = Terminal::open_with(160, 47, &state, &format!("{folder}/lampwick-quay-1.take"));
    take.wait_until("the take, looking back", |s| s.contains("BACK") && s.contains("the take is read to "));
    take.keys(&["End"]);
    take.wait_for("LIVE");
    // The lanes that it leaves on Scope are there again.
    take.keys(&["4"]);
    take.wait_for("prediction error, m   ");
    take.keys(&["a", "q"]);
    take.is_clean();
    let next = Terminal::open_with(160, 47, &state, "");
    next.keys(&["4"]);
    next.wait_until("one lane less", |s| s.contains("jump, m   ") && !s.contains("prediction error, m   "));
    next.keys(&["q"]);
    next.is_clean();
}

#[test]
fn a_press_is_followed_down_the_ladder_and_a_value_read_on_scope_at_the_cursor() {
    let t = Terminal::open_with(160, 47, "", "--at 0:08.9");
    t.keys(&["3"]);
    t.wait_for("10 ms a row");
    t.keys(&["i"]);
    let screen = t.wait_for("the way of input");
    // The stations of the panel stand on the lines as well, and their sum is that of the last.
    for station in ["pressed", "used by tick", "compared: the same", "on heron's screen"] {
        assert_eq!(screen.matches(station).count(), 2, "{station}:\n{screen}");
    }
    let after = |what: &str| {
        let line = screen
            .lines()
            .find(|line| line.contains("ms") && line.trim_end_matches('\u{2502}').trim_end().ends_with(what));
        let cells = line.and_then(|line| line.rsplit('\u{2502}').nth(1)).unwrap_or_default();
        cells.split_whitespace().next().and_then(|number| number.parse::<u32>().ok())
    };
    assert_eq!(after("in all"), after("on heron's screen"), "{screen}");
    assert!(after("in all").is_some_and(|ms| (100..600).contains(&ms)), "{screen}");
    t.keys(&["Down"]);
    t.wait_for("bits  field");
    // The moment is the same on the next screen; a column on, its value is another moment's.
    t.keys(&["4"]);
    let screen = t.wait_until("all lanes", |s| s.contains("lanes \u{b7} a shows or hides") && !s.contains("reading"));
    assert!(screen.contains("BACK") && screen.contains("round trip, ms   mean 9"), "{screen}");
    let errors = |screen: &str| {
        let line = screen.lines().find(|line| line.contains("prediction error, m   ")).unwrap_or_default().to_owned();
        line.split("prediction error, m   ")
            .nth(1)
            .and_then(|rest| rest.split("  ").next())
            .unwrap_or_default()
            .to_owned()
    };
    assert_eq!(errors(&screen), "0 m", "{screen}");
    for _ in 0..2 {
        t.keys(&["Right"]);
    }
    let screen = t.wait_for("0:08.98");
    assert!(errors(&screen).ends_with("cm"), "the push is felt: {screen}");
    t.keys(&["q"]);
    t.is_clean();
}
