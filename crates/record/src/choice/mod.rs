//! Settings that are a choice among named ways to do one thing: what each does, what it costs and what it invites.

mod drawing;

pub use drawing::{BLENDING, CAMERA, EASE, ECHO, LOOKS, REMOTES_AT, RETURN, RUN_ON, VIEW_DELAY_BY};

/// One way among several.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Choice {
    /// As a course writes it.
    pub name: &'static str,
    /// What it does.
    pub does: &'static str,
    /// What it costs, in one sentence.
    pub price: &'static str,
    /// How it goes wrong, or what somebody hostile makes of it.
    pub invites: &'static str,
    /// Whether it may be tried as a cure. One that no one should ship is not.
    pub is_sound: bool,
}

/// What the server makes a tick with whose input has not come; the while is `hold` of a course's `silence`. In the order of [`velocitas_core::Missing`].
pub static MISSING: [Choice; 4] = [
    Choice {
        name: "hold",
        does: "the last keys stay down for a while with nothing pressed, then they come up",
        price: "who stops or turns just then walks on until the input comes, and is corrected back",
        invites: "whoever withholds inputs walks on for that long (`silence.hold`)",
        is_sound: true,
    },
    Choice {
        name: "fade",
        does: "as hold, and sticks and axes go evenly to their middle meanwhile",
        price: "who walks on is slowed down with every missing tick, and is corrected ahead",
        invites: "nothing new, and nothing gained where a rule is steered by keys: they do not fade",
        is_sound: true,
    },
    Choice {
        name: "rest",
        does: "all keys come up at once",
        price: "a walking player stands still in every missing tick, and each is a correction",
        invites: "nothing: to be silent is to stand",
        is_sound: true,
    },
    Choice {
        name: "wait",
        does: "it stands still until the input comes, for `wait` ticks at most; then one is made up as by hold",
        price: "nobody is corrected, and all others see it stop and go on",
        invites: "whoever withholds inputs is up to `wait` ticks late, and then moved at once: others aim at where it is not",
        is_sound: true,
    },
];

/// What is done with inputs that wait behind one that was waited for, in the order of [`velocitas_core::Waiting`].
pub static WAITING: [Choice; 3] = [
    Choice {
        name: "together",
        does: "all that have come are used in one tick",
        price: "others see it leap after each stop",
        invites: "held-back inputs that take effect together, as many as `wait`",
        is_sound: true,
    },
    Choice {
        name: "one",
        does: "one is used a tick: it stays as far behind as the longest wait made it",
        price: "after one bad second all else it does is late by `wait` ticks, for as long as it plays",
        invites: "one bad second by intent, and everything of it is seen later than it is pressed",
        is_sound: true,
    },
    Choice {
        name: "kept",
        does: "one is used a tick, and two where for half a second nothing had to be waited for",
        price: "after a burst it catches up by a tick in half a second, and goes so much faster",
        invites: "a speed check that counts ticks of the server, not of its owner",
        is_sound: true,
    },
];

/// How a client chooses how many ticks a message covers, in the order of [`velocitas_core::Redundancy`].
pub static REDUNDANCY: [Choice; 2] = [
    Choice {
        name: "fixed",
        does: "each message covers `ticks_per_message` ticks",
        price: "bits for losses that never come, and a correction for each burst that is longer",
        invites: "a number found on one good evening",
        is_sound: true,
    },
    Choice {
        name: "adapted",
        does: "each covers as many as survive the longest run of losses of ten seconds, or one lost message",
        price: "the first burst of an evening is met unprepared",
        invites: "whoever drops its own messages has the server read up to 16 ticks in each",
        is_sound: true,
    },
];

/// How a client knows which tick it should be in, in the order of [`velocitas_core::ClockBy`].
pub static CLOCK: [Choice; 4] = [
    Choice {
        name: "margins",
        does: "snapshots report how early inputs arrive, and the clock is moved until that is enough",
        price: "nine bits a snapshot; a change of the way is known once inputs were late, or a second later",
        invites: "whoever holds its own inputs back is let run further ahead",
        is_sound: true,
    },
    Choice {
        name: "timestamps",
        does: "each datagram says when it left and what it answers; the quickest exchange of five seconds gives the offset",
        price: "nothing: the envelope has the times anyway",
        invites: "a way that is slower up than down deceives it by half of the difference",
        is_sound: true,
    },
    Choice {
        name: "told",
        does: "every `told_every` the server says its tick; half the mean round trip is added",
        price: "a message each time, and between two of them the clock runs on as it was, with the jitter of the last",
        invites: "one late message sets the clock wrong for as long as it holds",
        is_sound: true,
    },
    Choice {
        name: "assumed",
        does: "half the round trip measured while joining, never measured again",
        price: "clocks that drift apart by 100 ppm are a tick apart after three minutes; a way that changes is never made up for",
        invites: "inputs that are late for good, from the day the way changed",
        is_sound: false,
    },
];

/// How a client follows what it knows, in the order of [`velocitas_core::ClockChange`].
pub static CLOCK_CHANGE: [Choice; 2] = [
    Choice {
        name: "slewed",
        does: "ticks are made longer or shorter by a little until it fits, at most by `slew`",
        price: "a change of the way is made up for in a second or more, and inputs are late meanwhile",
        invites: "a slew so large that the own character is seen to hurry",
        is_sound: true,
    },
    Choice {
        name: "set",
        does: "off by more than `clock_tolerance`, it is set at once: ticks are passed over, or stand still",
        price: "each time the own character jumps or stops, and what was pressed in a tick passed over is missing",
        invites: "a tolerance below the jitter, and the clock is set again and again",
        is_sound: false,
    },
];

/// How far a client runs ahead, in the order of [`velocitas_core::LeadBy`].
pub static LEAD: [Choice; 2] = [
    Choice {
        name: "adapted",
        does: "so far that all but one in thirty inputs have three quarters of a tick and `extra_lead` to spare",
        price: "on a way that jitters the own character is further ahead of the server",
        invites: "an owner who makes its own way jitter, so as to be told of others later than it acts",
        is_sound: true,
    },
    Choice {
        name: "fixed",
        does: "so far that half of all inputs have three quarters of a tick and `extra_lead` to spare",
        price: "who jitters by more than that has late inputs for as long as it does",
        invites: "a number found on one good evening",
        is_sound: true,
    },
];

/// Whether messages are sent as often as is set, in the order of [`velocitas_core::SendRate`].
pub static RATE: [Choice; 2] = [
    Choice {
        name: "fixed",
        does: "as often as is set, whatever the way carries",
        price: "on a way that carries less, all that is sent waits in a queue that fills, and arrives seconds late",
        invites: "one neighbour's download, and everybody on that link sees the past",
        is_sound: true,
    },
    Choice {
        name: "adapted",
        does: "at most as often as is set, and further apart where round trips say that a queue fills",
        price: "the last quarter of what the way carries; a way that becomes longer is taken for a queue for a second or two",
        invites: "whoever delays its own acknowledgements is told less often",
        is_sound: true,
    },
];

/// What inputs travel by, and which do, in the order of [`velocitas_core::InputsOver`].
pub static INPUTS_OVER: [Choice; 3] = [
    Choice {
        name: "datagrams",
        does: "each tick's in a datagram, with those of the ticks before it once more",
        price: "what is said again: two thirds of the inputs sent, and hardly a tenth of the bytes, as most are the same as before",
        invites: "losses on end that are longer than what is said again",
        is_sound: true,
    },
    Choice {
        name: "stream",
        does: "each tick's once, by an ordered stream",
        price: "behind a lost one all others wait for a round trip and more, and come too late together",
        invites: "whoever holds one piece back holds all back: the guard sees silence, then a bunch",
        is_sound: true,
    },
    Choice {
        name: "changes",
        does: "by a stream when they change, else every 100 ms; what is not there is taken for the same",
        price: "a key that comes up while the stream waits walks on until then; sticks and views change in each tick, and nothing is saved",
        invites: "who goes silent with a key down walks on until taken for gone (`silence.gone`)",
        is_sound: true,
    },
];

/// What claims and accounts travel by, in the order of [`velocitas_core::Over`].
pub static CLAIMS_OVER: [Choice; 2] = [
    Choice {
        name: "datagrams",
        does: "each in a datagram, with the places of the ticks before it once more",
        price: "ten bytes a tick that is said again",
        invites: "gaps that cannot be judged, where more are lost on end",
        is_sound: true,
    },
    Choice {
        name: "stream",
        does: "each once, by an ordered stream",
        price: "behind a lost one all others wait for a round trip and more, and all are judged late",
        invites: "a bunch that a check by arrival takes for haste",
        is_sound: true,
    },
];

/// What snapshots travel by, in the order of [`velocitas_core::Over`].
pub static SNAPSHOTS_OVER: [Choice; 2] = [
    Choice {
        name: "datagrams",
        does: "each in a datagram: a lost one is never missed, as the next says more",
        price: "what changes only once is told again until it is acknowledged",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "stream",
        does: "all of them, in order, by an ordered stream",
        price: "behind a lost one newer ones wait that would have made up for it: others stop for a round trip and more, then catch up",
        invites: "an outage after which the past is sent again before the present",
        is_sound: true,
    },
];

/// In which form snapshots travel, in the order of [`velocitas_core::StateDown`].
pub static STATE_DOWN: [Choice; 4] = [
    Choice {
        name: "whole",
        does: "everybody in every snapshot, each lane in the bits of its field",
        price: "who stands still is told as often, and in as many bits, as who runs",
        invites: "nothing: each can be read by itself",
        is_sound: true,
    },
    Choice {
        name: "compressed",
        does: "the same through a general-purpose compressor, where it becomes shorter by that",
        price: "time, for nearly nothing: bits that are packed leave it little to find",
        invites: "the belief that something was done about bytes",
        is_sound: true,
    },
    Choice {
        name: "delta",
        does: "what differs from the newest snapshot that is known to have come, carried on to now",
        price: "both ends keep the last 64 snapshots; the first after a gap is whole",
        invites: "who never acknowledges is told whole, and costs as much as before",
        is_sound: true,
    },
    Choice {
        name: "coded",
        does: "the same, and what is frequent takes less than a bit: a range coder",
        price: "several times the work of packing, on both ends",
        invites: "tables trained on one game, and used in another",
        is_sound: true,
    },
];

/// The names of all, as they are listed in a sentence.
pub fn listed(choices: &[Choice]) -> String {
    let names: Vec<&str> = choices.iter().map(|choice| choice.name).collect();
    match names.as_slice() {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [first @ .., last] => format!("{} or {last}", first.join(", ")),
    }
}
