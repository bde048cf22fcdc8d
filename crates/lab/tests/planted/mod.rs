//! Courses with one difference planted in each: for tests of what is found, and of what is said to cure it.

use crate::scenario::{self, Words, walker};

/// A wall across the way of somebody who goes to and fro, known to one side.
pub const FENCE: &str =
    "[[solid]]\nname = \"fence\"\nat = [5, 0]\nsize = [0.6, 8]\nheight = \"2 m\"\nknown_to = \"KNOWN\"\n";
/// To and fro.
pub const ACROSS: &str = "[{ at = [9, 0], hold = [\"sprint\"] }, { at = [0, 0], press = [\"hop\"] }]";

/// A planted difference: its tables, keys of the one it is planted on, what of the link, and what must be found.
pub struct Planted {
    pub tables: String,
    pub keys: &'static str,
    pub link: &'static str,
    pub cause: &'static str,
    /// What must be found to cure it: one of these.
    pub remedies: &'static [&'static str],
}

impl Planted {
    /// The course with it.
    pub fn words(&self, seed: u64) -> Words<'static> {
        // What is held on goes unnoticed: only who does something new all the time feels that inputs are missing.
        let route = if ["made_up", "held_back"].contains(&self.cause) { scenario::ZIGZAG } else { ACROSS };
        let rest = self.tables.clone() + &plover(route, self.keys);
        Words { seed, link: self.link, rest, ..Words::default() }
    }
}

pub fn planted() -> Vec<Planted> {
    let with = |tables: &str, cause, remedies| {
        let (keys, link) = ("", "latency = \"50 ms\"");
        Planted { tables: tables.to_owned(), keys, link, cause, remedies }
    };
    let event = |what: &str| format!("[[event]]\nat = \"4 s\"\nevery = \"3 s\"\n{what}\n");
    let by_event = |tables: &str, what: &str| format!("{tables}[[event]]\nat = \"7 s\"\n{what}\n");
    let tune = "[[tune]]\nrule = \"courier\"\nknown_to = \"server\"\nset = { haste = 1.2 }\n";
    let lossy = Planted {
        keys: "settings = { ticks_per_message = 1 }",
        link: "latency = \"50 ms\"\nloss = \"8 %\"",
        ..with("", "made_up", &["plover: ticks per message 2 instead of 1", "plover: loss, one way 0 % instead of 8 %"])
    };
    // Over a stream what is lost holds back what comes behind it; where the way became longer it is late by itself.
    let streamed = Planted {
        keys: "settings = { inputs_over = \"stream\" }",
        link: "latency = \"50 ms\"\nloss = \"4 %\"",
        ..with(
            "",
            "held_back",
            &["plover: inputs over datagrams instead of stream", "plover: loss, one way 0 % instead of 4 %"],
        )
    };
    let late_in_a_stream = Planted {
        keys: "settings = { inputs_over = \"stream\" }",
        link: "latency = \"30 ms\"",
        ..with(
            &by_event("", "link = { who = \"plover\", latency = \"180 ms\" }"),
            "made_up",
            &["no change of the link of plover"],
        )
    };
    vec![
        streamed,
        late_in_a_stream,
        with(&FENCE.replace("KNOWN", "server"), "one_sided", &["fence known to all"]),
        with(&FENCE.replace("KNOWN", "clients"), "one_sided", &["fence known to all"]),
        with(tune, "tunable_differs", &["haste at 1.2 on plover"]),
        with(&event("push = { who = \"plover\", north = \"6 m/s\" }"), "pushed", &["no pushes"]),
        with(&event("teleport = { who = \"plover\", to = [-6, 6] }"), "teleported", &["no pushes"]),
        with(&event("freeze = { who = \"plover\", lasts = \"400 ms\" }"), "client_skipped", &["no hitches of plover"]),
        with(
            &event("freeze = { who = \"server\", lasts = \"500 ms\" }"),
            "server_skipped",
            &["no hitches of the server"],
        ),
        lossy,
        // What an event lets differ.
        with(
            &by_event(&FENCE.replace("KNOWN", "all"), "ground = { solid = \"fence\", known_to = \"server\" }"),
            "one_sided",
            &["fence known to all"],
        ),
        with(
            &by_event(&FENCE.replace("KNOWN", "nobody"), "ground = { solid = \"fence\", known_to = \"clients\" }"),
            "one_sided",
            &["fence known to all"],
        ),
        with(
            &by_event("", "tune = { rule = \"courier\", known_to = \"server\", set = { haste = 1.2 } }"),
            "tunable_differs",
            &["haste turned on all alike"],
        ),
        with(
            &by_event("", "tune = { rule = \"courier\", known_to = \"clients\", set = { haste = 1.2 } }"),
            "tunable_differs",
            &["haste turned on all alike"],
        ),
        Planted {
            link: "latency = \"30 ms\"",
            ..with(
                &by_event("", "link = { who = \"plover\", latency = \"180 ms\" }"),
                "made_up",
                &["no change of the link of plover"],
            )
        },
    ]
}

pub fn plover(route: &str, keys: &str) -> String {
    walker("plover", keys).replace(scenario::ROUND, route)
}
