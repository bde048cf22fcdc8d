//! What the terminal sends, read on a thread of its own.
//!
//! Whatever arrives, frames go on: the loop only takes from a channel. Half a sequence (`ESC [`, a first byte of a longer
//! character) is given up when nothing followed for [`PATIENCE`], or when it grows beyond [`MOST_PENDING`] bytes; then the
//! next key counts again. What is pasted comes as one input, and no more of it than a line could take. Keys that wait behind slow
//! work are few and not old: see [`Inbox`]. The thread ends when it is asked to, so that an editor has the terminal for itself, and when
//! the terminal goes away.

use std::cell::RefCell;
use std::collections::VecDeque;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crossterm::event::{KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use termina::escape::csi::{Csi, Keyboard};
use termina::event as sent;

/// How long half a sequence waits for its rest.
const PATIENCE: Duration = Duration::from_millis(40);
/// The longest sequence of which anything can become.
const MOST_PENDING: usize = 64;
/// The longest pause within pasted text.
const PASTE_PATIENCE: Duration = Duration::from_millis(100);
/// How much of pasted text is kept, in bytes.
const MOST_PASTED: usize = 1024;
/// Around what is pasted (bracketed paste).
const PASTE_BEGINS: &[u8] = b"\x1b[200~";
const PASTE_ENDS: &[u8] = b"\x1b[201~";
/// The most keys that wait, and the most that have waited for [`STALE`]: the oldest are let go, as whoever pressed them has seen
/// nothing of it since.
const MOST_WAITING: usize = 256;
const MOST_STALE: usize = 8;
const STALE: Duration = Duration::from_secs(2);
/// Read at once.
const CHUNK: usize = 1024;

/// Something that the terminal sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Input {
    Key(KeyEvent),
    Mouse(MouseEvent),
    /// Text that was pasted.
    Paste(String),
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
    send: Sender<(Instant, Input)>,
    receive: Receiver<(Instant, Input)>,
    waiting: RefCell<VecDeque<(Instant, Input)>>,
}

impl Inbox {
    pub(super) fn new() -> Self {
        let (send, receive) = channel();
        Self { send, receive, waiting: RefCell::default() }
    }

    /// The next input, and when it arrived; waits for it for this long.
    pub(super) fn next(&self, wait: Duration) -> Option<(Instant, Input)> {
        let mut waiting = self.waiting.borrow_mut();
        waiting.extend(self.receive.try_iter());
        if waiting.is_empty() {
            return self.receive.recv_timeout(wait).ok();
        }
        let_go(&mut waiting, Instant::now());
        waiting.pop_front()
    }
}

/// Lets the oldest of too many keys go. One that was let go of is told in any case: else it would be held for ever.
fn let_go(waiting: &mut VecDeque<(Instant, Input)>, now: Instant) {
    let is_key = |input: &Input| {
        matches!(input, Input::Key(key) if key.kind != KeyEventKind::Release) || matches!(input, Input::Paste(_))
    };
    let keys = waiting.iter().filter(|(_, input)| is_key(input)).count();
    let stale = waiting.iter().filter(|(at, input)| is_key(input) && now.duration_since(*at) > STALE).count();
    let mut many = keys.saturating_sub(MOST_WAITING).max(stale.saturating_sub(MOST_STALE));
    waiting.retain(|(_, input)| {
        let goes = many > 0 && is_key(input);
        many -= usize::from(goes);
        !goes
    });
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
fn read(tty: &OwnedFd, woken: &UnixStream, send: &Sender<(Instant, Input)>) {
    let mut decoder = Decoder::default();
    let mut bytes = [0; CHUNK];
    loop {
        let mut both = [PollFd::new(tty, PollFlags::IN), PollFd::new(woken, PollFlags::IN)];
        let patience = decoder
            .patience()
            .map(|wait| Timespec { tv_sec: wait.as_secs() as i64, tv_nsec: wait.subsec_nanos().into() });
        let ready = match poll(&mut both, patience.as_ref()) {
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
        let now = Instant::now();
        if inputs.into_iter().any(|input| send.send((now, input)).is_err()) || gone {
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
    /// What is being pasted: what is pending may be its end.
    paste: Option<Vec<u8>>,
}

impl Decoder {
    const fn is_pending(&self) -> bool {
        !self.pending.is_empty() || self.paste.is_some()
    }

    /// How long to wait for the rest of what began.
    fn patience(&self) -> Option<Duration> {
        self.is_pending().then_some(if self.paste.is_some() { PASTE_PATIENCE } else { PATIENCE })
    }

    fn take(&mut self, bytes: &[u8]) -> Vec<Input> {
        let mut inputs = Vec::new();
        for byte in bytes {
            self.pending.push(*byte);
            if self.paste.is_some() {
                inputs.extend(self.pasted());
                continue;
            }
            self.parser.parse(&[*byte], true);
            self.drain(&mut inputs);
            if self.pending.ends_with(PASTE_BEGINS) {
                self.forget();
                self.paste = Some(Vec::new());
            } else if self.pending.len() >= MOST_PENDING {
                self.forget();
            }
        }
        inputs
    }

    /// Another byte of what is pasted has come. Gives it when it is whole.
    fn pasted(&mut self) -> Option<Input> {
        let text = self.paste.as_mut()?;
        if self.pending == PASTE_ENDS {
            let text = String::from_utf8_lossy(text).into_owned();
            self.forget();
            return Some(Input::Paste(text));
        }
        while !PASTE_ENDS.starts_with(&self.pending) {
            let byte = self.pending.remove(0);
            if text.len() < MOST_PASTED {
                text.push(byte);
            }
        }
        None
    }

    /// Nothing followed: a lone escape is the key; of anything else nothing will become.
    fn give_up(&mut self) -> Vec<Input> {
        let mut inputs = Vec::new();
        if let Some(text) = self.paste.take() {
            // It ends without saying so.
            self.forget();
            return vec![Input::Paste(String::from_utf8_lossy(&text).into_owned())];
        }
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
        let long = [b"\x1b[200~".as_slice(), &[b'x'; 9000], b"q\x1b[2x\x1b[201~q"].concat();
        let told = decoder.take(&long);
        assert!(
            matches!(&told[..], [Input::Paste(text), Input::Key(k)] if text.len() == MOST_PASTED && k.code == KeyCode::Char('q'))
        );
        let told = decoder.take("\x1b[200~3 m/s \u{e9}\x1b[20\x1b[201~".as_bytes());
        assert_eq!(told, [Input::Paste("3 m/s \u{e9}\x1b[20".to_owned())]);
        // One without an end ends when nothing follows for a while.
        assert_eq!(keys(decoder.take(b"\x1b[200~qx")), []);
        assert_eq!(decoder.patience(), Some(PASTE_PATIENCE));
        assert_eq!(decoder.give_up(), [Input::Paste("qx".to_owned())]);
        assert_eq!(keys(decoder.take(b"q")), [KeyCode::Char('q')]);
        let mut endless = b"\x1b]0;".to_vec();
        endless.extend([b'a'; 200]);
        let count = keys(Decoder::default().take(&endless)).len();
        assert!(count > 200 - MOST_PENDING, "{count}");
    }

    #[test]
    fn keys_that_wait_behind_slow_work_are_few_and_what_is_let_go_of_is_told() {
        let key = |c, kind| Input::Key(KeyEvent::new_with_kind(KeyCode::Char(c), KeyModifiers::NONE, kind));
        let now = Instant::now();
        let waiting = |age: Duration| -> VecDeque<(Instant, Input)> {
            let typed = (0..2000).map(|_| (now, key('x', KeyEventKind::Press)));
            let last = [key('w', KeyEventKind::Release), key('q', KeyEventKind::Press)].map(|input| (now, input));
            typed.chain(last).map(|(at, input)| (at - age, input)).collect()
        };
        for (age, left) in [(Duration::ZERO, MOST_WAITING), (STALE * 2, MOST_STALE)] {
            let mut waiting = waiting(age);
            let_go(&mut waiting, now);
            let released = waiting.iter().filter(|(_, input)| *input == key('w', KeyEventKind::Release)).count();
            assert_eq!((waiting.len(), released), (left + 1, 1));
            assert_eq!(waiting.back().map(|(_, input)| input), Some(&key('q', KeyEventKind::Press)));
        }
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
                prop_assert!(decoder.paste.as_ref().is_none_or(|text| text.len() <= MOST_PASTED));
            }
            let _ = decoder.give_up();
            prop_assert_eq!(keys(decoder.take(b"q")), [KeyCode::Char('q')]);
        }
    }
}
