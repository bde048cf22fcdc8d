//! The ways in which others and own entities are drawn.

use super::Choice;

/// What an automatic view delay goes by, in the order of [`velocitas_core::ViewBy`].
pub static VIEW_DELAY_BY: [Choice; 2] = [
    Choice {
        name: "jitter",
        does: "two snapshot intervals and two standard deviations of arrival jitter",
        price: "an interval more than an even way needs, and too little where several are lost on end",
        invites: "nothing: who delays what it gets looks further into the past itself",
        is_sound: true,
    },
    Choice {
        name: "lateness",
        does: "what all but `view_late` of the snapshots of ten seconds needed to be there in time",
        price: "after a burst of losses all are seen later for ten seconds",
        invites: "whoever shoots at what it sees gains by looking into the past: the server has to bound that",
        is_sound: true,
    },
];

/// At which moment others are drawn, in the order of [`velocitas_core::RemotesAt`].
pub static REMOTES_AT: [Choice; 2] = [
    Choice {
        name: "past",
        does: "a view delay behind what arrives, between two states",
        price: "they are seen as they were: by the way down and the view delay",
        invites: "who runs round a corner is there before others see it come",
        is_sound: true,
    },
    Choice {
        name: "present",
        does: "their rules take them to where the own character is drawn, with the last input known",
        price: "all that is pressed meanwhile comes as a leap, each snapshot carries inputs, and all those ticks are made at each",
        invites: "what others press is on the wire; whoever turns often is hard to hit",
        is_sound: true,
    },
];

/// In which way others are drawn between two states, in the order of [`velocitas_core::Blending`].
pub static BLENDING: [Choice; 3] = [
    Choice {
        name: "by_field",
        does: "each field as its rule says",
        price: "what the rule's author thought of",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "linear",
        does: "places straight from one to the other",
        price: "a corner at each snapshot, and bends are cut short: the more, the further snapshots lie apart",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "curve",
        does: "places along a curve by the velocities at both ends, which bend it by three eighths of its way at most",
        price: "who stops dead or bounces is drawn beyond, by up to three eighths of the way between two snapshots",
        invites: "nothing",
        is_sound: true,
    },
];

/// How a program has what others look to be doing, in the order of [`velocitas_core::LookBy`].
pub static LOOKS: [Choice; 2] = [
    Choice {
        name: "steady",
        does: "from a speed smoothed over 100 ms, left at a fifth less than taken up, for 200 ms at least",
        price: "legs start and stop a tenth of a second after the body",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "plain",
        does: "from how far it was drawn to go in the frame",
        price: "legs tremble wherever a speed is near a threshold, or what is drawn judders",
        invites: "nothing",
        is_sound: false,
    },
];

/// When the camera behind the own character is moved, in the order of [`velocitas_core::CameraOn`].
pub static CAMERA: [Choice; 2] = [
    Choice {
        name: "frame",
        does: "in each frame, to where the own character is drawn",
        price: "nothing",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "tick",
        does: "in frames in which a tick was made",
        price: "all that stands is seen to step, and the own character trembles before it",
        invites: "players who turn the frame rate down",
        is_sound: false,
    },
];

/// How one is drawn past its newest state, in the order of [`velocitas_core::RunOn`].
pub static RUN_ON: [Choice; 3] = [
    Choice {
        name: "velocity",
        does: "it runs on by its velocity for `extrapolate`, then it stands",
        price: "who turns or stops meanwhile is drawn where it never was, through walls too, and has to come back",
        invites: "whoever withholds inputs is aimed at where it is not",
        is_sound: true,
    },
    Choice {
        name: "hold",
        does: "it stands until more comes",
        price: "everybody stops with each gap, and hops when it ends",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "rule",
        does: "it runs on by its rule with the last input known of it, for `extrapolate`, then it stands",
        price: "its input goes along in each snapshot, and its rule is stepped here for each tick past that",
        invites: "what others press is on the wire, for whoever reads it there",
        is_sound: true,
    },
];

/// How one comes back from where it ran on to, in the order of [`velocitas_core::EaseBy::NONE_FIRST`].
pub static RETURN: [Choice; 4] = [
    Choice { name: "none", does: "at once", price: "a hop after each gap", invites: "nothing", is_sound: true },
    Choice {
        name: "smooth",
        does: "within `return_over`, slowly at first and at last",
        price: "for so long it is drawn beside where it was",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "half_life",
        does: "by half in each `return_over`",
        price: "half of the way back is gone in one stretch: a large return is still seen",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "speed",
        does: "at `return_speed`, however far it is",
        price: "a far return takes long, and one slower than its owner never looks right",
        invites: "nothing",
        is_sound: true,
    },
];

/// How corrections of own entities are eased, in the order of [`velocitas_core::EaseBy`].
pub static EASE: [Choice; 4] = [
    Choice {
        name: "smooth",
        does: "within `ease`, slowly at first and at last",
        price: "for so long it is drawn beside where it is",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "half_life",
        does: "by half in each `ease`",
        price: "half of the way is gone in one stretch: a large correction is still seen",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "speed",
        does: "at `ease_speed`, however large it is",
        price: "a large correction takes long: it is drawn meanwhile where nothing can be touched",
        invites: "nothing",
        is_sound: true,
    },
    Choice {
        name: "none",
        does: "not at all",
        price: "each correction is seen as a hop",
        invites: "players who call it lag",
        is_sound: false,
    },
];

/// Which echo of what an owner does others are sent, in the order of [`velocitas_core::EchoBy`].
pub static ECHO: [Choice; 3] = [
    Choice {
        name: "raw",
        does: "what the authority has, as it is",
        price: "where claims come in bunches, or inputs that were waited for are used together, others see a leap",
        invites: "who holds back what it says leaps on all other screens",
        is_sound: true,
    },
    Choice {
        name: "smooth",
        does: "one that walks after that, at the rule's pace and a tenth, never through solids, by `echo_leash`",
        price: "others aim at where it is not: as far beside as it is behind, and later by as long",
        invites: "who leaps is drawn beside where it can be hit, for half a second at most beyond the leash",
        is_sound: true,
    },
    Choice {
        name: "binding",
        does: "the same; who is beyond `echo_leash` from it for half a second is put back to it",
        price: "owners on bad links lose metres of their way, though nothing they did was unlawful",
        invites: "whoever can make another's link worse pins it down",
        is_sound: true,
    },
];
