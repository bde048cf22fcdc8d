//! The real program at the far end of a pseudo-terminal, sent bytes that no keyboard sends.

use std::fs;
use std::time::{Duration, Instant};

use crate::dice::Dice;
use crate::pty_driver::Pty;

#[test]
fn half_a_sequence_stops_no_frame_and_the_next_key_counts() {
    let mut t = Pty::open(&[]);
    for half in [
        &b"\x1b["[..],
        b"\x1bO",
        b"\xff",
        b"\x80",
        b"\x1b[M",
        b"\x1b[1;999999R",
        b"\x1b[<-1;-5;3M",
        b"\x1b[200~",
        b"\x1b]0;",
        b"\x1bP",
        b"\xf0\x9f",
        b"\x1b[?1;2",
    ] {
        t.send(half);
        let before = t.bytes();
        t.wait_for_more_than(before);
        // Longer than half a sequence waits for its rest; a frame may come at once.
        std::thread::sleep(Duration::from_millis(150));
        // A busy machine may have read nothing by then: the two are one sequence to it, and it is the next key that counts.
        t.press_until(b" ", "PAUSED");
        t.send(b" ");
        t.wait_for("LIVE");
    }
    t.send(b"q");
    assert_eq!(t.ended(), Some(0));
}

#[test]
fn a_terminal_without_rows_is_no_reason_to_panic() {
    let mut t = Pty::open(&[]);
    for (columns, rows) in [(80, 0), (0, 24), (1, 1), (0, 0), (80, 1), (400, 200), (120, 36)] {
        t.resize(columns, rows);
        std::thread::sleep(Duration::from_millis(120));
        assert!(t.is_running(), "{columns} x {rows}: {}", t.screen());
    }
    t.send(b"q");
    assert_eq!(t.ended(), Some(0));
}

#[test]
fn every_signal_that_ends_it_restores_the_terminal_and_is_the_exit_code() {
    for (name, number) in [("HUP", 1), ("INT", 2), ("QUIT", 3), ("TERM", 15)] {
        let mut t = Pty::open(&[]);
        assert!(!t.is_cooked(), "raw while it runs");
        t.signal(name);
        assert_eq!(t.ended(), Some(128 + number), "{name}");
        assert!(t.is_cooked(), "SIG{name} leaves the terminal raw");
        assert!(t.sent().ends_with(b"\x1b[?1049l\x1b[?25h"), "SIG{name} leaves the screen");
    }
}

#[test]
fn a_terminal_that_goes_away_ends_it_even_where_hanging_up_is_ignored() {
    let mut t = Pty::open_in_shell("trap '' HUP; exec \"$0\"");
    t.hang_up();
    let began = Instant::now();
    while t.is_running() {
        assert!(began.elapsed() < Duration::from_secs(10), "it goes on without a terminal");
        std::thread::sleep(Duration::from_millis(20));
    }
    assert_eq!(t.ended(), Some(129));
}

#[test]
fn a_dumb_terminal_is_refused_in_one_line() {
    let mut t = Pty::started(&[("TERM", "dumb")], &[]);
    assert_eq!(t.ended(), Some(2));
    let said = String::from_utf8_lossy(t.sent()).into_owned();
    assert!(
        said.contains("found TERM=dumb") && said.trim().lines().count() == 1 && !said.contains('\u{1b}'),
        "{said:?}"
    );
}

/// What a terminal that tells releases answers.
const CAN_RELEASE: &[u8] = b"\x1b[?0u";
const ASKS: &[u8] = b"\x1b[?u";
const WANTS: &[u8] = b"\x1b[>3u";

#[test]
fn key_releases_are_asked_for_again_after_a_suspend_and_no_answer_is_no_end() {
    let mut t = Pty::open(&[]);
    t.wait_for_bytes(ASKS, 1);
    t.send(CAN_RELEASE);
    t.wait_for_bytes(WANTS, 1);
    t.send(b"\x1a");
    t.wait_until_stopped();
    assert!(t.is_cooked());
    t.signal("CONT");
    t.wait_for_bytes(ASKS, 2);
    // This terminal answers nothing for longer than anybody waits: frames go on.
    std::thread::sleep(Duration::from_millis(2600));
    t.wait_for("LIVE");
    t.send(CAN_RELEASE);
    t.wait_for_bytes(WANTS, 2);
    // Held and let go: w moves only while it is down.
    t.send(b"h");
    t.wait_for("keys hold");
    t.send(b"\x1b[119;1:1u");
    t.send(b"\x1b[119;1:3u");
    t.send(b"\x1b");
    t.wait_for("h gives it back");
    t.send(b"q");
    assert_eq!(t.ended(), Some(0));
}

#[test]
fn a_gait_that_becomes_a_pipe_or_a_device_stops_nothing() {
    let folder = tempfile::tempdir().expect("a folder");
    let game = folder.path().join("game");
    let made =
        std::process::Command::new(env!("CARGO_BIN_EXE_velocitas")).arg("new").arg(&game).output().expect("it starts");
    assert!(made.status.success());
    let gait = game.join("walker.gait");
    let text = fs::read_to_string(&gait).expect("there");
    let mut t = Pty::open(&[&game.join("game.course.toml").display().to_string()]);
    t.send(b"2");
    t.wait_for("IN FORCE");
    fs::remove_file(&gait).expect("removed");
    let made = std::process::Command::new("mkfifo").arg(&gait).status().expect("mkfifo");
    assert!(made.success());
    t.wait_for("cannot read it: it is a pipe");
    t.goes_on();
    fs::remove_file(&gait).expect("removed");
    std::os::unix::fs::symlink("/dev/zero", &gait).expect("linked");
    t.wait_for("cannot read it: it is a device");
    t.goes_on();
    // Mistakes of a file that is gone are gone from the screen.
    fs::remove_file(&gait).expect("removed");
    fs::write(&gait, text.replace("fall * dt", "fall")).expect("written");
    t.wait_for("multiply by dt?");
    fs::remove_file(&gait).expect("removed");
    t.wait_until("the mistake gone", |s| s.contains("cannot read it: No such file") && !s.contains("multiply by dt?"));
    fs::write(&gait, &text).expect("written");
    t.wait_for("IN FORCE");
    t.send(b"q");
    assert_eq!(t.ended(), Some(0));
}

#[test]
fn a_course_from_standard_input_opens_with_the_keys_of_the_terminal() {
    let folder = tempfile::tempdir().expect("a folder");
    let course = folder.path().join("c.course.toml");
    let text = "format = 1\nname = \"Piped quay\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                [[cast]]\nname = \"teal\"\nrole = \"bot\"\nspawn = [0, 0]\n";
    fs::write(&course, text).expect("written");
    let mut t = Pty::open_in_shell(&format!("cat '{}' | \"$0\" -", course.display()));
    t.wait_for("Piped quay");
    t.send(b" ");
    t.wait_for("PAUSED");
    t.send(b"q");
    assert_eq!(t.ended(), Some(0));
}

/// Something that a keyboard, a mouse or a broken line might send: no key that leaves, suspends or opens an editor.
fn chunk(dice: &mut Dice) -> Vec<u8> {
    const KEYS: &[u8] = b"hwasdxk12?lnpvV,.<>-+=[]{}ta \r\t";
    let number = |dice: &mut Dice| [0, 1, 2, 3, 9, 80, 999, 65_535, 999_999][dice.below(9)];
    let mut bytes = match dice.below(8) {
        0 | 1 => (0..1 + dice.below(4)).map(|_| KEYS[dice.below(KEYS.len())]).collect(),
        2 => format!("\x1b[{}", ["A", "B", "C", "D", "H", "F", "5~", "6~", "Z", "I", "O", "1;2C"][dice.below(12)])
            .into_bytes(),
        3 => format!("\x1b[<{};{};{}{}", number(dice), number(dice), number(dice), ["M", "m", ""][dice.below(3)])
            .into_bytes(),
        4 => format!("\x1b[{};{}:{}u", [97, 104, 119, 32, 13][dice.below(5)], 1 + dice.below(2), dice.below(5))
            .into_bytes(),
        5 => format!("\x1b[?{}{}", number(dice), ["u", "c", ";1;2c", "n", "y"][dice.below(5)]).into_bytes(),
        6 => b"\x1b\x1b[O\x1bP\x1b]\x9b\xc3\xff\x80\x1b[200~"[dice.below(8)..8 + dice.below(11)].to_vec(),
        _ => (0..dice.below(12)).map(|_| dice.roll() as u8).collect(),
    };
    if dice.below(3) == 0 {
        bytes.truncate(dice.below(bytes.len() + 1));
    }
    bytes.retain(|b| !matches!(b, b'q' | b'e' | 0x03 | 0x11 | 0x1a));
    bytes
}

/// Sends chunks at the pace of a fast hand, and sees that frames and keys go on.
fn soak(seed: u64, chunks: usize) {
    let mut dice = Dice::new(seed);
    let mut t = Pty::open(&[]);
    for i in 0..chunks {
        t.send(&chunk(&mut dice));
        if i % 100 == 99 {
            std::thread::sleep(Duration::from_millis(120));
            assert!(t.is_running(), "it ended after {i} chunks of seed {seed}:\n{}", t.screen());
            let size = [(120, 36), (80, 24), (40, 10), (200, 60)][dice.below(4)];
            t.resize(size.0, size.1);
        } else if dice.below(4) == 0 {
            std::thread::sleep(Duration::from_millis(5));
        }
    }
    t.resize(120, 36);
    std::thread::sleep(Duration::from_millis(100));
    // Out of help and helm, back to the present, and out.
    t.send(b"\x1b");
    std::thread::sleep(Duration::from_millis(100));
    t.send(b"\x1b");
    std::thread::sleep(Duration::from_millis(100));
    t.send(b"\x1b[F");
    t.wait_for("LIVE");
    t.send(b"\x11");
    assert_eq!(t.ended(), Some(0), "seed {seed}");
}

#[test]
fn any_keys_are_survived() {
    soak(1, 400);
}

#[test]
#[ignore = "a minute: run it after changes to keys and screens"]
fn ten_thousand_mutated_keys_are_survived() {
    for seed in 2..12 {
        soak(seed, 1000);
    }
}
