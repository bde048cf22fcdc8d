//! What the terminal sends, read on a thread of its own.
//!
//! Whatever arrives, frames go on: the loop only takes from a channel. Half a sequence (`ESC [`, a first byte of a longer
//! character) is given up when nothing followed for [`PATIENCE`], or when it grows beyond [`MOST_PENDING`] bytes; then the
//! next key counts again. The thread ends when it is asked to, so that an editor has the terminal for itself, and when
//! the terminal goes away.

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use termina::escape::csi::{Csi, Keyboard};
use termina::event as sent;

/// How long half a sequence waits for its rest.
const PATIENCE: Duration = Duration::from_millis(40);
/// The longest sequence of which anything can become.
const MOST_PENDING: usize = 64;
/// Read at once.
const CHUNK: usize = 1024;

/// Something that the terminal sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Input {
    Key(KeyEvent),
    Mouse(MouseEvent),
    /// Other windows have the keys now.
    FocusLost,
    /// It says when keys are let go, if it is asked to.
    Releases,
    /// There is no terminal any more.
    Gone,
}

/// The thread that reads.
pub(super) struct Reader {
    wake: UnixStream,
    thread: Option<JoinHandle<()>>,
}

/// What it reads: a channel that outlives readers.
pub(super) struct Inbox {
    send: Sender<Input>,
    receive: Receiver<Input>,
}

impl Inbox {
    pub(super) fn new() -> Self {
        let (send, receive) = channel();
        Self { send, receive }
    }

    /// The next input; waits for it so long.
    pub(super) fn next(&self, wait: Duration) -> Option<Input> {
        self.receive.recv_timeout(wait).ok()
    }
}

impl Reader {
    /// Begins to read the terminal: standard input if it is one, else the terminal of this session.
    pub(super) fn start(inbox: &Inbox) -> io::Result<Self> {
        let tty: OwnedFd = if rustix::termios::isatty(io::stdin()) {
            io::stdin().as_fd().try_clone_to_owned()?
        } else {
            std::fs::File::open("/dev/tty")?.into()
        };
        let (wake, woken) = UnixStream::pair()?;
        let send = inbox.send.clone();
        let thread = std::thread::spawn(move || read(&tty, &woken, &send));
        Ok(Self { wake, thread: Some(thread) })
    }
}

impl Drop for Reader {
    /// Stops reading and waits until it has stopped.
    fn drop(&mut self) {
        let _ = self.wake.shutdown(std::net::Shutdown::Both);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Reads until it is woken or the terminal is gone.
fn read(tty: &OwnedFd, woken: &UnixStream, send: &Sender<Input>) {
    let mut decoder = Decoder::default();
    let mut bytes = [0; CHUNK];
    let patience = Timespec { tv_sec: 0, tv_nsec: PATIENCE.as_nanos() as i64 };
    loop {
        let mut both = [PollFd::new(tty, PollFlags::IN), PollFd::new(woken, PollFlags::IN)];
        let ready = match poll(&mut both, decoder.is_pending().then_some(&patience)) {
            Ok(ready) => ready,
            Err(rustix::io::Errno::INTR) => continue,
            Err(_) => 0,
        };
        if !both[1].revents().is_empty() {
            return;
        }
        let inputs = if ready == 0 {
            decoder.give_up()
        } else {
            match rustix::io::read(tty, &mut bytes) {
                Ok(count) if count > 0 => decoder.take(&bytes[..count]),
                Err(rustix::io::Errno::INTR | rustix::io::Errno::AGAIN) => continue,
                // The end of the file, or an error: nobody is at the other side.
                _ => vec![Input::Gone],
            }
        };
        let gone = inputs.last() == Some(&Input::Gone);
        if inputs.into_iter().any(|input| send.send(input).is_err()) || gone {
            return;
        }
    }
}

/// From bytes to inputs.
#[derive(Default)]
struct Decoder {
    parser: termina::Parser,
    /// Bytes of which nothing has become yet.
    pending: Vec<u8>,
}

impl Decoder {
    const fn is_pending(&self) -> bool {
        !self.pending.is_empty()
    }

    fn take(&mut self, bytes: &[u8]) -> Vec<Input> {
        let mut inputs = Vec::new();
        for byte in bytes {
            self.pending.push(*byte);
            self.parser.parse(&[*byte], true);
            self.drain(&mut inputs);
            // Text that is pasted is never asked for: the beginning of it would swallow every key until its end.
            if self.pending.ends_with(b"\x1b[200~") || self.pending.len() >= MOST_PENDING {
                self.forget();
            }
        }
        inputs
    }

    /// Nothing followed: a lone escape is the key; of anything else nothing will become.
    fn give_up(&mut self) -> Vec<Input> {
        let mut inputs = Vec::new();
        self.parser.parse(&[], false);
        self.drain(&mut inputs);
        self.forget();
        inputs
    }

    fn forget(&mut self) {
        *self = Self::default();
    }

    fn drain(&mut self, inputs: &mut Vec<Input>) {
        while let Some(event) = self.parser.pop() {
            self.pending.clear();
            inputs.extend(input(&event));
        }
    }
}

/// What the loop needs to know of it, if anything.
fn input(event: &termina::Event) -> Option<Input> {
    Some(match event {
        termina::Event::Key(k) => Input::Key(KeyEvent::new_with_kind(code(k.code)?, modifiers(k.modifiers), kind(k))),
        termina::Event::Mouse(m) => Input::Mouse(MouseEvent {
            kind: match m.kind {
                sent::MouseEventKind::Down(sent::MouseButton::Left) => MouseEventKind::Down(MouseButton::Left),
                sent::MouseEventKind::Drag(sent::MouseButton::Left) => MouseEventKind::Drag(MouseButton::Left),
                _ => return None,
            },
            column: m.column,
            row: m.row,
            modifiers: modifiers(m.modifiers),
        }),
        termina::Event::FocusOut => Input::FocusLost,
        termina::Event::Csi(Csi::Keyboard(Keyboard::ReportFlags(_))) => Input::Releases,
        _ => return None,
    })
}

const fn kind(key: &sent::KeyEvent) -> KeyEventKind {
    match key.kind {
        sent::KeyEventKind::Press => KeyEventKind::Press,
        sent::KeyEventKind::Repeat => KeyEventKind::Repeat,
        sent::KeyEventKind::Release => KeyEventKind::Release,
    }
}

fn modifiers(from: sent::Modifiers) -> KeyModifiers {
    let mut to = KeyModifiers::NONE;
    for (theirs, ours) in [
        (sent::Modifiers::SHIFT, KeyModifiers::SHIFT),
        (sent::Modifiers::CONTROL, KeyModifiers::CONTROL),
        (sent::Modifiers::ALT, KeyModifiers::ALT),
        (sent::Modifiers::SUPER, KeyModifiers::SUPER),
        (sent::Modifiers::HYPER, KeyModifiers::HYPER),
        (sent::Modifiers::META, KeyModifiers::META),
    ] {
        to.set(ours, from.contains(theirs));
    }
    to
}

fn code(code: sent::KeyCode) -> Option<KeyCode> {
    Some(match code {
        sent::KeyCode::Char(c) => KeyCode::Char(c),
        sent::KeyCode::Enter => KeyCode::Enter,
        sent::KeyCode::Backspace => KeyCode::Backspace,
        sent::KeyCode::Tab => KeyCode::Tab,
        sent::KeyCode::BackTab => KeyCode::BackTab,
        sent::KeyCode::Escape => KeyCode::Esc,
        sent::KeyCode::Left => KeyCode::Left,
        sent::KeyCode::Right => KeyCode::Right,
        sent::KeyCode::Up => KeyCode::Up,
        sent::KeyCode::Down => KeyCode::Down,
        sent::KeyCode::Home => KeyCode::Home,
        sent::KeyCode::End => KeyCode::End,
        sent::KeyCode::PageUp => KeyCode::PageUp,
        sent::KeyCode::PageDown => KeyCode::PageDown,
        sent::KeyCode::Insert => KeyCode::Insert,
        sent::KeyCode::Delete => KeyCode::Delete,
        sent::KeyCode::Function(n) => KeyCode::F(n),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn keys(inputs: Vec<Input>) -> Vec<KeyCode> {
        inputs.into_iter().filter_map(|i| if let Input::Key(k) = i { Some(k.code) } else { None }).collect()
    }

    #[test]
    fn after_half_a_sequence_the_next_key_counts_again() {
        let halves: [&[u8]; 12] = [
            b"\x1b[",
            b"\x1bO",
            b"\xff",
            b"\x80",
            b"\x1b[M",
            b"\x1b[1;999999R",
            b"\x1b[<-1;-5;3M",
            b"\x1b[200~",
            b"\xe2\x82",
            b"\x1b]0;title",
            b"\x1bP$q",
            b"\x1b[?",
        ];
        for half in halves {
            let mut decoder = Decoder::default();
            let _ = decoder.take(half);
            let _ = decoder.give_up();
            assert!(!decoder.is_pending());
            assert_eq!(keys(decoder.take(b"q")), [KeyCode::Char('q')], "after {half:?}");
        }
    }

    #[test]
    fn a_paste_and_an_endless_sequence_swallow_no_more_than_a_little() {
        let mut decoder = Decoder::default();
        assert_eq!(keys(decoder.take(b"\x1b[200~qx")), [KeyCode::Char('q'), KeyCode::Char('x')]);
        let mut endless = b"\x1b]0;".to_vec();
        endless.extend([b'a'; 200]);
        let count = keys(Decoder::default().take(&endless)).len();
        assert!(count > 200 - MOST_PENDING, "{count}");
    }

    #[test]
    fn sequences_become_keys_and_a_lone_escape_the_key() {
        let mut decoder = Decoder::default();
        let told = decoder.take(b"a\x1b[A\x1b[1;2C\x1b[Z\x11 \xc3\xa9");
        let codes = [KeyCode::Char('a'), KeyCode::Up, KeyCode::Right, KeyCode::BackTab, KeyCode::Char('q')];
        assert_eq!(keys(told.clone())[..5], codes);
        assert!(matches!(&told[2], Input::Key(k) if k.modifiers == KeyModifiers::SHIFT));
        assert!(matches!(&told[4], Input::Key(k) if k.modifiers == KeyModifiers::CONTROL));
        assert_eq!(keys(decoder.take(b"\x1b")), []);
        assert_eq!(keys(decoder.give_up()), [KeyCode::Esc]);
        assert_eq!(decoder.take(b"\x1b[?1u\x1b[O"), [Input::Releases, Input::FocusLost]);
        let released = decoder.take(b"\x1b[119;1:3u");
        assert!(matches!(released[..], [Input::Key(k)] if k.kind == KeyEventKind::Release));
        let click = decoder.take(b"\x1b[<0;12;5M");
        assert!(matches!(click[..], [Input::Mouse(m)] if (m.column, m.row) == (11, 4)));
    }

    proptest! {
        /// Whatever comes, in whatever pieces: no panic, and a key afterwards is a key.
        #[test]
        fn any_bytes_are_survived(pieces in prop::collection::vec(prop::collection::vec(
            prop_oneof![4 => any::<u8>(), 3 => Just(0x1b), 2 => Just(b'['), 2 => b'0'..=b'?', 1 => Just(b'M')], 0..40), 0..12)) {
            let mut decoder = Decoder::default();
            for piece in pieces {
                let _ = decoder.take(&piece);
                prop_assert!(decoder.pending.len() < MOST_PENDING);
            }
            let _ = decoder.give_up();
            prop_assert_eq!(keys(decoder.take(b"q")), [KeyCode::Char('q')]);
        }
    }
}
