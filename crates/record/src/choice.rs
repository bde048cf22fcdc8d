//! Settings that are a choice among named ways to do one thing: what each does, what it costs and what it invites.

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
pub static MISSING: [Choice; 3] = [
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

/// The names of all, as they are listed in a sentence.
pub fn listed(choices: &[Choice]) -> String {
    let names: Vec<&str> = choices.iter().map(|choice| choice.name).collect();
    match names.as_slice() {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [first @ .., last] => format!("{} or {last}", first.join(", ")),
    }
}
