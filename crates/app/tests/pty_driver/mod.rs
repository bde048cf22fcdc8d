//! A pseudo-terminal with the program at its far end: bytes in, a screen out.

use std::io::{Read, Write};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread::sleep;
use std::time::{Duration, Instant};

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};

const PATIENCE: Duration = Duration::from_secs(20);

/// The program in its terminal.
pub struct Pty {
    master: Option<Box<dyn MasterPty + Send>>,
    keys: Option<Box<dyn Write + Send>>,
    child: Box<dyn Child + Send + Sync>,
    out: Arc<Mutex<(vt100::Parser, Vec<u8>)>>,
    gone: Arc<AtomicBool>,
    kept: Vec<u8>,
    _folder: tempfile::TempDir,
}

impl Pty {
    /// The program in 120x36 cells, its first frame drawn.
    pub fn open(args: &[&str]) -> Self {
        let mut t = Self::started(&[], args);
        t.wait_for("LIVE");
        t
    }

    /// A line of shell, `$0` being the program, its first frame drawn.
    pub fn open_in_shell(line: &str) -> Self {
        let mut t = Self::spawned("sh", &[], &["-c", line, env!("CARGO_BIN_EXE_velocitas")]);
        t.wait_for("LIVE");
        t
    }

    /// The program, with variables, just started.
    pub fn started(variables: &[(&str, &str)], args: &[&str]) -> Self {
        Self::spawned(env!("CARGO_BIN_EXE_velocitas"), variables, args)
    }

    fn spawned(program: &str, variables: &[(&str, &str)], args: &[&str]) -> Self {
        let size = PtySize { rows: 36, cols: 120, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).expect("a pseudo-terminal");
        let mut command = CommandBuilder::new(program);
        command.args(args);
        command.env("TERM", "xterm-256color");
        // What is exported by a key lands here.
        let folder = tempfile::tempdir().expect("a folder");
        command.cwd(folder.path());
        // Not the sessions of whoever runs the tests.
        command.env("XDG_STATE_HOME", folder.path().join(".state"));
        for (name, value) in variables {
            command.env(name, value);
        }
        let child = pair.slave.spawn_command(command).expect("it starts");
        drop(pair.slave);
        let mut reader = pair.master.try_clone_reader().expect("readable");
        let keys = pair.master.take_writer().expect("writable");
        let out = Arc::new(Mutex::new((vt100::Parser::new(36, 120, 0), Vec::new())));
        let (to, gone) = (out.clone(), Arc::<AtomicBool>::default());
        let until = gone.clone();
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(count) = reader.read(&mut bytes) {
                if count == 0 || until.load(Ordering::Relaxed) {
                    break;
                }
                let mut out = to.lock().expect("sound");
                out.0.process(&bytes[..count]);
                out.1.extend_from_slice(&bytes[..count]);
            }
        });
        Self { master: Some(pair.master), keys: Some(keys), child, out, gone, kept: Vec::new(), _folder: folder }
    }

    /// Sends bytes as a terminal would.
    pub fn send(&mut self, bytes: &[u8]) {
        let keys = self.keys.as_mut().expect("a terminal");
        keys.write_all(bytes).and_then(|()| keys.flush()).expect("written");
    }

    pub fn screen(&self) -> String {
        self.out.lock().expect("sound").0.screen().contents()
    }

    /// Bytes that came so far.
    pub fn bytes(&self) -> usize {
        self.out.lock().expect("sound").1.len()
    }

    /// Waits for the next frame, however long a busy machine takes for it.
    #[track_caller]
    pub fn wait_for_more_than(&self, bytes: usize) {
        let began = Instant::now();
        while self.bytes() <= bytes {
            assert!(began.elapsed() < PATIENCE, "no frame comes any more:\n{}", self.screen());
            sleep(Duration::from_millis(20));
        }
    }

    /// Everything that came.
    pub fn sent(&mut self) -> &[u8] {
        // The last bytes may still be under way.
        sleep(Duration::from_millis(100));
        self.kept = self.out.lock().expect("sound").1.clone();
        &self.kept
    }

    #[track_caller]
    pub fn wait_until(&mut self, what: &str, holds: impl Fn(&str) -> bool) {
        let began = Instant::now();
        loop {
            let screen = self.screen();
            if holds(&screen) {
                return;
            }
            assert!(began.elapsed() < PATIENCE, "never saw {what}:\n{screen}");
            sleep(Duration::from_millis(20));
        }
    }

    #[track_caller]
    pub fn wait_for(&mut self, text: &str) {
        self.wait_until(text, |screen| screen.contains(text));
    }

    /// Presses a key until something is seen by it, at most three times.
    #[track_caller]
    pub fn press_until(&mut self, key: &[u8], text: &str) {
        for _ in 0..2 {
            self.send(key);
            let began = Instant::now();
            while began.elapsed() < Duration::from_secs(5) {
                if self.screen().contains(text) {
                    return;
                }
                sleep(Duration::from_millis(20));
            }
        }
        self.send(key);
        self.wait_for(text);
    }

    /// Waits until these bytes came this number of times.
    #[track_caller]
    pub fn wait_for_bytes(&mut self, wanted: &[u8], times: usize) {
        let began = Instant::now();
        loop {
            let count = self.out.lock().expect("sound").1.windows(wanted.len()).filter(|w| *w == wanted).count();
            if count >= times {
                return;
            }
            assert!(began.elapsed() < PATIENCE, "{wanted:?} came {count} times:\n{}", self.screen());
            sleep(Duration::from_millis(20));
        }
    }

    /// Frames come and keys count.
    #[track_caller]
    pub fn goes_on(&mut self) {
        self.send(b" ");
        self.wait_for("PAUSED");
        self.send(b" ");
        self.wait_for("LIVE");
    }

    pub fn resize(&self, columns: u16, rows: u16) {
        let size = PtySize { rows, cols: columns, pixel_width: 0, pixel_height: 0 };
        self.master.as_ref().expect("a terminal").resize(size).expect("resized");
        // The picture of a terminal too small to be looked at is not asked for.
        self.out.lock().expect("sound").0.screen_mut().set_size(rows.max(24), columns.max(80));
    }

    pub fn process(&self) -> String {
        self.child.process_id().expect("it runs").to_string()
    }

    pub fn signal(&self, name: &str) {
        let done = Command::new("kill").args([&format!("-{name}"), &self.process()]).status().expect("kill");
        assert!(done.success());
    }

    /// The terminal is gone, as when a window is closed.
    pub fn hang_up(&mut self) {
        // The next frame ends the thread that reads, which holds the terminal as well.
        self.gone.store(true, Ordering::Relaxed);
        self.keys = None;
        self.master = None;
    }

    pub fn is_running(&mut self) -> bool {
        self.child.try_wait().expect("a child").is_none()
    }

    /// Waits for the end and gives the exit code. A code above 128 may be that of a signal that killed it.
    #[track_caller]
    pub fn ended(&mut self) -> Option<u32> {
        let began = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().expect("a child") {
                assert!(status.signal().is_none(), "killed by {:?}", status.signal());
                return Some(status.exit_code());
            }
            assert!(began.elapsed() < PATIENCE, "it does not end:\n{}", self.screen());
            sleep(Duration::from_millis(10));
        }
    }

    /// Whether what is typed is echoed and edited by the system, as a shell wants it.
    pub fn is_cooked(&self) -> bool {
        use std::os::fd::BorrowedFd;
        let fd = self.master.as_ref().and_then(|m| m.tty_name()).expect("a terminal");
        let tty = std::fs::OpenOptions::new().read(true).open(fd).expect("a terminal");
        let borrowed: BorrowedFd<'_> = std::os::fd::AsFd::as_fd(&tty);
        let modes = rustix::termios::tcgetattr(borrowed).expect("modes");
        modes.local_modes.contains(rustix::termios::LocalModes::ICANON | rustix::termios::LocalModes::ECHO)
    }

    #[track_caller]
    pub fn wait_until_stopped(&self) {
        let began = Instant::now();
        let path = format!("/proc/{}/stat", self.process());
        while !std::fs::read_to_string(&path).expect("a process").contains(") T ") {
            assert!(began.elapsed() < PATIENCE, "it does not stop");
            sleep(Duration::from_millis(10));
        }
    }
}

impl Drop for Pty {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}
