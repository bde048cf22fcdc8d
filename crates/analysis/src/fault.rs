//! Faults that a machine's program may have, about who is there, where others are and what hands do: by what each is known, and what helps.

/// One of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    /// It is not told of who was there before it.
    Untold,
    /// It comes back as somebody else: its token is lost.
    Stranger,
    /// It does not hear of who is gone.
    Lingering,
    /// It does not hear that it owns something no longer.
    Clinging,
    /// It reads the positions of others a little off.
    Misread,
    /// It keeps an older state of others under a newer tick.
    Stale,
    /// It asks its hands only in the frames that make a tick.
    Unlatched,
    /// It holds its present against the server's state of an older tick.
    Present,
    /// It goes by one distance, whatever a state consists of.
    OneDistance,
}

/// What there is to a fault.
#[derive(Clone, Copy, Debug)]
pub struct FaultSpec {
    /// Which.
    pub fault: Fault,
    /// As courses write it.
    pub key: &'static str,
    /// What is wrong.
    pub wrong: &'static str,
    /// How it shows.
    pub shows: &'static str,
    /// What helps.
    pub remedy: &'static str,
}

/// All of them.
pub static FAULTS: [FaultSpec; 9] = [
    FaultSpec {
        fault: Fault::Untold,
        key: "untold",
        wrong: "a newcomer is not told of who was there before it",
        shows: "one side sees two, the other sees one",
        remedy: "tell a newcomer of everybody, until it has acknowledged",
    },
    FaultSpec {
        fault: Fault::Stranger,
        key: "stranger",
        wrong: "who returns has lost its token and is taken for somebody else",
        shows: "a twin stands where it left until the server misses it",
        remedy: "keep the token across a crash, and send it in the hello",
    },
    FaultSpec {
        fault: Fault::Lingering,
        key: "lingering",
        wrong: "who is gone is not told of, or told once and lost",
        shows: "a leaver stays on this screen, and stands",
        remedy: "tell of who is gone until it is acknowledged",
    },
    FaultSpec {
        fault: Fault::Clinging,
        key: "clinging",
        wrong: "the old owner is not told that it owns something no longer",
        shows: "both sides move the same thing: it flickers between two places",
        remedy: "change owners at one tick, and tell the old one until it has acknowledged",
    },
    FaultSpec {
        fault: Fault::Misread,
        key: "misread",
        wrong: "positions of others are decoded with another origin than they were written with",
        shows: "others are drawn beside where they are, always by the same",
        remedy: "write and read positions by one table of origins and steps",
    },
    FaultSpec {
        fault: Fault::Stale,
        key: "stale",
        wrong: "the buffer of remotes keeps an older state under a newer tick",
        shows: "others stand, then leap: they are drawn where they were",
        remedy: "keep each state under its own tick, and put none in the place of another",
    },
    FaultSpec {
        fault: Fault::Unlatched,
        key: "unlatched",
        wrong: "hands are asked when a tick is made, not in every frame",
        shows: "a press between two ticks does nothing, on any screen",
        remedy: "latch what is pressed in each frame, until a tick has taken it",
    },
    FaultSpec {
        fault: Fault::Present,
        key: "present",
        wrong: "a snapshot is held against the present, not against the tick that it is of",
        shows: "after each change of what is pressed the own character is thrown back and forth, until the server has it too",
        remedy: "keep what was predicted by tick, and compare the same tick",
    },
    FaultSpec {
        fault: Fault::OneDistance,
        key: "one_distance",
        wrong: "only positions are compared, and half a metre apart counts as the same",
        shows: "speed and breath stay wrong until the own character is half a metre off, then it leaps",
        remedy: "give each field a tolerance of its own, and take over what differs by less without a word",
    },
];

impl Fault {
    /// Its row.
    pub fn spec(self) -> &'static FaultSpec {
        &FAULTS[self as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_fault_has_a_row_of_its_own() {
        for (i, spec) in FAULTS.iter().enumerate() {
            assert_eq!(spec.fault.spec().key, spec.key);
            assert!(FAULTS[i + 1..].iter().all(|other| other.key != spec.key));
        }
    }
}
