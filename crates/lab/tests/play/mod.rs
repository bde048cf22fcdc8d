//! Honest play made up from a number: any rule, on any link, while everything happens that can.
//!
//! A course comes of each number: who plays by which rule, over which link and on which machine, what stands about, and what happens
//! when. Nobody in it cheats, and nothing in it is known to one side only, so no guard has a reason to accuse anybody.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use velocitas_core::{Fact, Motion};
use velocitas_gait::compile;
use velocitas_lab::{Course, Keep, LEAST_KEPT, PROFILES, Run, Sources};
use velocitas_record::{Happening, LabTime};

/// Rules that ship or are shown in documents: a name for the file, and what it says.
const RULES: [(&str, &str); 18] = [
    ("courier", include_str!("../../../../gaits/courier.gait")),
    ("ferry", include_str!("../../../../gaits/ferry.gait")),
    ("handcart", include_str!("../../../../gaits/handcart.gait")),
    ("barge", include_str!("../../../../gaits/barge.gait")),
    ("crane", include_str!("../../../../gaits/crane.gait")),
    ("stated", include_str!("../../../../gaits/walker.gait")),
    ("scout", include_str!("../../../../courses/guard/scout.gait")),
    ("starter", include_str!("../../../app/starter/walker.gait")),
    ("step-1", include_str!("../../../../docs/tutorial/step-1.gait")),
    ("step-2", include_str!("../../../../docs/tutorial/step-2.gait")),
    ("step-3", include_str!("../../../../docs/tutorial/step-3.gait")),
    ("step-4", include_str!("../../../../docs/tutorial/step-4.gait")),
    ("step-5", include_str!("../../../../docs/tutorial/step-5.gait")),
    ("step-6", include_str!("../../../../docs/tutorial/step-6.gait")),
    ("step-7", include_str!("../../../../docs/tutorial/step-7.gait")),
    ("step-8", include_str!("../../../../docs/tutorial/step-8.gait")),
    ("glider", include_str!("../../../../docs/helm/glider.gait")),
    ("skater", include_str!("skater.gait")),
];

/// Members of a course.
const CAST: usize = 3;
const NAMES: [&str; CAST] = ["curlew", "teal", "knot"];

/// Numbers one after the other from a seed (splitmix64).
struct Luck(u64);

impl Luck {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn real(&mut self, low: f64, high: f64) -> f64 {
        low + (high - low) * (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    fn below(&mut self, n: usize) -> usize {
        (self.next() % n as u64) as usize
    }

    fn of<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }

    fn is(&mut self, share: f64) -> bool {
        self.real(0.0, 1.0) < share
    }
}

/// What can happen, each of which can be left out.
#[derive(Clone, Copy, Debug)]
pub struct Happens {
    pub freezes: bool,
    pub tunes: bool,
    pub grounds: bool,
    pub comings: bool,
    pub owners: bool,
    pub pushes: bool,
    pub hitches: bool,
    pub links: bool,
}

impl Happens {
    pub const ALL: Self = Self {
        freezes: true,
        tunes: true,
        grounds: true,
        comings: true,
        owners: true,
        pushes: true,
        hitches: true,
        links: true,
    };
}

/// A gait's text under a name of its own: several of the shipped are called alike.
fn named(file: &str) -> Option<String> {
    let (name, text) = RULES.iter().find(|(name, _)| file == format!("{name}.gait"))?;
    let at = text.find("gait \"")?;
    let end = at + 6 + text[at + 6..].find('"')?;
    Some(format!("{}gait \"{name}{}", &text[..at], &text[end..]))
}

/// A course of this number and length in seconds.
pub fn words(number: u64, seconds: f64, happens: Happens) -> String {
    let mut luck = Luck(number.wrapping_mul(0x1234_5678_9abc_def1));
    let hz = *luck.of(&[10u32, 20, 30, 60, 60, 90, 128]);
    let every = *luck.of(&[1, 2, 3, 5]);
    let mut text = format!(
        "format = 1\nname = \"honest {number}\"\nseed = {number}\ntick_rate = \"{hz} Hz\"\nsnapshot_every = {every}\n\
         world = {{ min = [-25, -25], max = [25, 25] }}\nsilence = {{ hold = \"500 ms\", gone = \"3 s\", keep = \"60 s\" }}\n"
    );
    let server = host(&mut luck, happens);
    writeln!(text, "server = {server}").expect("to a string");
    let mut events = String::new();
    solids(&mut luck, seconds, happens, (&mut text, &mut events));
    let mut rules = Vec::new();
    for name in NAMES {
        rules.push(member(&mut luck, name, happens, &mut text));
    }
    things(&mut luck, seconds, happens, (&mut text, &mut events));
    for (place, name) in NAMES.iter().enumerate() {
        happenings(&mut luck, (name, rules[place]), seconds, happens, &mut events);
    }
    text + &events
}

fn host(luck: &mut Luck, happens: Happens) -> String {
    let fps = *luck.of(&[30, 48, 60, 75, 90, 144]);
    let (drift, uneven) = (luck.real(-300.0, 300.0), luck.real(0.0, 10.0));
    let hitches = if happens.hitches && luck.is(0.6) { luck.real(1.0, 12.0) } else { 0.0 };
    let hitch = luck.real(30.0, 400.0);
    format!(
        "{{ frame_rate = \"{fps} Hz\", clock_drift = \"{drift:.0} ppm\", frame_unevenness = \"{uneven:.1} %\", \
         hitches = \"{hitches:.1} /min\", hitch = \"{hitch:.0} ms\" }}"
    )
}

/// What stands about, and what comes and goes.
fn solids(luck: &mut Luck, seconds: f64, happens: Happens, (text, events): (&mut String, &mut String)) {
    for i in 0..8 {
        let at = [luck.real(-13.0, 13.0), luck.real(-13.0, 13.0)];
        let size = [luck.real(0.4, 6.0), luck.real(0.4, 6.0)];
        let (base, height) = match luck.below(4) {
            0 => (0.0, luck.real(0.05, 0.35)),
            1 => (0.0, luck.real(0.4, 1.4)),
            2 => (0.0, 3.0),
            // About as high above the floor as somebody is tall.
            _ => (*luck.of(&[1.7, 1.1, 2.2, 1.4, 1.8]) + luck.real(-0.004, 0.02), 0.5),
        };
        let yaw = luck.real(0.0, 90.0);
        let late = happens.grounds && i % 2 == 1;
        let known = if late { "nobody" } else { "all" };
        write!(
            text,
            "[[solid]]\nname = \"solid {i}\"\nat = [{:.3}, {:.3}]\nsize = [{:.3}, {:.3}]\nyaw = \"{yaw:.1} deg\"\n\
             base = \"{base:.4} m\"\nheight = \"{height:.3} m\"\nknown_to = \"{known}\"\n",
            at[0], at[1], size[0], size[1]
        )
        .expect("to a string");
        if late {
            let (mut at, mut there) = (luck.real(1.0, 8.0), true);
            while at < seconds {
                let known = if there { "all" } else { "nobody" };
                writeln!(
                    events,
                    "[[event]]\nat = \"{at:.3} s\"\nground = {{ solid = \"solid {i}\", known_to = \"{known}\" }}"
                )
                .expect("to a string");
                there = !there;
                at += luck.real(0.3, 6.0);
            }
        }
    }
    for (i, surface) in ["ice", "water", "water"].iter().enumerate() {
        let (x, y) = (luck.real(-15.0, 10.0), luck.real(-15.0, 10.0));
        let (width, depth) = (luck.real(2.0, 9.0), luck.real(2.0, 9.0));
        write!(
            text,
            "[[zone]]\nname = \"zone {i}\"\nsurface = \"{surface}\"\nmin = [{x:.2}, {y:.2}]\nmax = [{:.2}, {:.2}]\n",
            x + width,
            y + depth
        )
        .expect("to a string");
    }
}

/// A place where nothing solid ever is.
fn beside(luck: &mut Luck) -> [f64; 2] {
    let (along, side) = (luck.real(-20.0, 20.0), *luck.of(&[-20.5, 20.5]));
    if luck.is(0.5) { [along, side] } else { [side, along] }
}

/// Somebody, and by which rule.
fn member(luck: &mut Luck, name: &str, happens: Happens, text: &mut String) -> &'static str {
    let rule = luck.of(&RULES).0;
    let arrangement = *luck.of(&["claims", "claims", "claims with inputs"]);
    let spawn = beside(luck);
    let facing = luck.real(0.0, 360.0);
    write!(
        text,
        "[[cast]]\nname = \"{name}\"\nrole = \"bot\"\ngait = \"{rule}.gait\"\narrangement = \"{arrangement}\"\n\
         spawn = [{:.2}, {:.2}]\nfacing = \"{facing:.0} deg\"\nhost = {}\n",
        spawn[0],
        spawn[1],
        host(luck, happens)
    )
    .expect("to a string");
    if luck.is(0.8) {
        writeln!(text, "link = \"{}\"", luck.of(&PROFILES).name).expect("to a string");
    }
    let batch = *luck.of(&[1, 2, 3, 3, 4]);
    // Some say something seldom: a message covers the ticks since the last, and more or not.
    let sends = [1, 2, 1, 1, 3][batch];
    writeln!(text, "settings = {{ ticks_per_message = {batch}, send_every = {sends} }}").expect("to a string");
    if luck.is(0.5) {
        text.push_str("route = [");
        for _ in 0..5 {
            let hold = if luck.is(0.4) { ", hold = [\"sprint\"]" } else { "" };
            let press = if luck.is(0.5) { ", press = [\"hop\"]" } else { "" };
            write!(text, "{{ at = [{:.1}, {:.1}]{hold}{press} }}, ", luck.real(-15.0, 15.0), luck.real(-15.0, 15.0))
                .expect("to a string");
        }
        text.push_str("]\n");
    } else {
        text.push_str("script = [");
        for _ in 0..6 {
            let hold = if luck.is(0.5) { ", hold = [\"sprint\"]" } else { "" };
            let press = if luck.is(0.6) { ", press = [\"hop\"]" } else { "" };
            let (x, y) = (luck.real(-0.7, 0.7), luck.real(-0.7, 0.7));
            let axes = match rule {
                "ferry" => {
                    format!(
                        ", axis = {{ throttle = {:.2}, rudder = {:.2} }}",
                        luck.real(-1.0, 1.0),
                        luck.real(-1.0, 1.0)
                    )
                }
                "glider" => format!(", axis = {{ lift = {:.2} }}", luck.real(-1.0, 1.0)),
                _ => String::new(),
            };
            let (lasts, facing) = (luck.real(100.0, 2500.0), luck.real(0.0, 360.0));
            write!(
                text,
                "{{ lasts = \"{lasts:.0} ms\", stick = [{x:.2}, {y:.2}], facing = \"{facing:.0} deg\"{hold}{press}{axes} }}, "
            )
            .expect("to a string");
        }
        text.push_str("]\n");
    }
    if luck.is(0.5) {
        text.push_str("random = \"3 /s\"\n");
    }
    if luck.is(0.3) {
        text.push_str("exercise = true\n");
    }
    rule
}

/// Things that nobody comes with, and who owns them when.
fn things(luck: &mut Luck, seconds: f64, happens: Happens, (text, events): (&mut String, &mut String)) {
    if !happens.owners {
        return;
    }
    for name in ["thing 0", "thing 1"] {
        let rule = luck.of(&["handcart", "ferry", "courier", "stated", "crane", "glider"]);
        let (owner, at) = (luck.of(&NAMES), beside(luck));
        write!(
            text,
            "[[thing]]\nname = \"{name}\"\ngait = \"{rule}.gait\"\nat = [{:.2}, {:.2}]\nowners = [\"{owner}\"]\n",
            at[0], at[1]
        )
        .expect("to a string");
        let mut at = luck.real(2.0, 8.0);
        while at < seconds {
            let by = match luck.below(6) {
                0 => String::new(),
                1 => format!("\"{}\", \"{}\"", NAMES[0], NAMES[1]),
                _ => format!("\"{}\"", luck.of(&NAMES)),
            };
            writeln!(events, "[[event]]\nat = \"{at:.3} s\"\nown = {{ what = \"{name}\", by = [{by}] }}")
                .expect("to a string");
            at += luck.real(1.0, 9.0);
        }
    }
}

/// What happens to a member.
fn happenings(luck: &mut Luck, (name, rule): (&str, &str), seconds: f64, happens: Happens, events: &mut String) {
    let gait = compile(&named(&format!("{rule}.gait")).expect("it is among them")).gait.expect("it is sound");
    let mut at = luck.real(1.0, 4.0);
    while at < seconds {
        let what = match luck.below(8) {
            0 | 1 if happens.freezes => {
                let who = if luck.is(0.15) { "server" } else { name };
                let lasts = if luck.is(0.2) { luck.real(900.0, 2600.0) } else { luck.real(20.0, 900.0) };
                format!("freeze = {{ who = \"{who}\", lasts = \"{lasts:.0} ms\" }}")
            }
            2 | 3 if happens.tunes && !gait.tunables().is_empty() => {
                let tunable = luck.of(gait.tunables());
                let times = luck.real(-1.2, 1.2).exp2();
                let value =
                    (f64::from(tunable.default) * times).clamp(f64::from(tunable.least), f64::from(tunable.most));
                let value = if tunable.unit == "1" {
                    format!("{value:.4}")
                } else {
                    format!("\"{value:.4} {}\"", tunable.unit)
                };
                format!("tune = {{ rule = \"{rule}\", set = {{ {} = {value} }} }}", tunable.name)
            }
            4 if happens.comings && at + 12.0 < seconds => {
                let (goes, away) = (luck.of(&["crash", "leave"]), luck.real(0.3, 9.0));
                writeln!(events, "[[event]]\nat = \"{at:.3} s\"\n{goes} = {{ who = \"{name}\" }}")
                    .expect("to a string");
                at += away;
                format!("return = {{ who = \"{name}\" }}")
            }
            5 if happens.pushes => {
                let [east, north, up] = [9.0, 9.0, 6.0].map(|most| luck.real(-most, most));
                format!(
                    "push = {{ who = \"{name}\", east = \"{east:.2} m/s\", north = \"{north:.2} m/s\", up = \"{up:.2} m/s\" }}"
                )
            }
            6 if happens.pushes && luck.is(0.5) => {
                let [x, y] = beside(luck);
                format!(
                    "teleport = {{ who = \"{name}\", to = [{x:.2}, {y:.2}], height = \"{:.2} m\" }}",
                    luck.real(0.0, 1.5)
                )
            }
            7 if happens.links => {
                let (latency, loss) = (luck.real(0.0, 250.0), luck.real(0.0, 30.0));
                format!("link = {{ who = \"{name}\", latency = \"{latency:.0} ms\", loss = \"{loss:.1} %\" }}")
            }
            _ => {
                at += luck.real(0.2, 2.0);
                continue;
            }
        };
        writeln!(events, "[[event]]\nat = \"{at:.3} s\"\n{what}").expect("to a string");
        at += luck.real(0.3, 5.0);
    }
}

/// What came of a course.
#[derive(Debug, Default)]
pub struct Came {
    /// Verdicts, in words.
    pub verdicts: Vec<String>,
    /// Resyncs by reason.
    pub resyncs: BTreeMap<&'static str, u32>,
}

/// Reads a course of [`words`].
pub fn course(text: &str) -> Course {
    let read = |file: &str| named(file).ok_or_else(|| format!("no {file}"));
    let sources = Sources { own: &[], read: &read };
    Course::parse_with("honest.course.toml", text, sources).unwrap_or_else(|e| panic!("{e}\n{text}"))
}

/// Runs a course of [`words`].
pub fn play(text: &str, seconds: f64) -> Came {
    let mut run = Run::new(course(text)).expect("it fits");
    run.set_keep(Keep::Time(LEAST_KEPT));
    let mut came = Came::default();
    let mut seen = LabTime::ZERO;
    let mut now = 0.0;
    while now < seconds {
        now = f64::min(now + 10.0, seconds);
        run.advance(LabTime::from_secs(now));
        let record = run.record();
        for machine in record.cast.players() {
            for row in record.of(machine).happenings.iter().filter(|row| row.at > seen && row.at <= run.now()) {
                match row.what {
                    Happening::Fact(Fact::Verdict(v)) => {
                        let name = record.cast.name(machine);
                        let path: Vec<_> =
                            v.exhibit.iter().flat_map(|exhibit| exhibit.path.corners().to_vec()).collect();
                        came.verdicts.push(format!("{name} at {}: {:?} of {}, {path:?}", row.at, v.evidence, v.entity));
                    }
                    Happening::Fact(Fact::Resync { why, .. }) => *came.resyncs.entry(why.name()).or_default() += 1,
                    _ => {}
                }
            }
        }
        seen = run.now();
    }
    came
}
