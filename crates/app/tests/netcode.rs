//! The page on netcode says of every choice what the table of settings says, and its figures are those that `vary` arrives at.

use std::fmt::Write;
use std::process::Command;

use velocitas::lab::PROFILES;
use velocitas_record::{Choice, KnobSpec, SETTINGS};

use crate::documents::{document, is_current};

const PAGE: &str = "docs/netcode.md";
const BEGINNING: &str = "docs/beginning.md";

/// What a table is measured on.
#[derive(Clone, Copy, PartialEq)]
enum On {
    /// The courses of all kinds of links.
    Links,
    /// That of a phone's, with sixteen members.
    Phones,
    /// A course to begin with: as settings usually are, and as they are there.
    Begin,
}

/// A table of what settings cost.
struct Table {
    /// Between which marks it stands.
    mark: &'static str,
    on: On,
    /// What is set, in step.
    sets: &'static [&'static str],
    measures: &'static [&'static str],
}

const TABLES: [Table; 31] = [
    Table { mark: "clock", on: On::Links, sets: &["clock=all"], measures: &["corrections", "late", "ahead"] },
    Table {
        mark: "clock_change",
        on: On::Links,
        sets: &[
            "clock_change=slewed,slewed,set,set",
            "slew=10 %,2 %,10 %,10 %",
            "clock_tolerance=20 ms,20 ms,20 ms,60 ms",
        ],
        measures: &["corrections", "late", "own_hops"],
    },
    Table {
        mark: "lead",
        on: On::Links,
        sets: &["lead=adapted,fixed,fixed,fixed", "extra_lead=0,0,2,4"],
        measures: &["corrections", "late", "ahead"],
    },
    Table {
        mark: "input_delay",
        on: On::Links,
        sets: &["input_delay=0,2,4,8"],
        measures: &["corrections", "largest_jump", "response", "ahead"],
    },
    Table {
        mark: "inputs_over",
        on: On::Links,
        sets: &["inputs_over=datagrams,stream,changes,changes", "send_every=1,1,1,2"],
        measures: &["corrections", "late", "bytes_up"],
    },
    Table {
        mark: "claims_over",
        on: On::Links,
        sets: &["arrangement=claims,claims", "claims_over=datagrams,stream"],
        measures: &["corrections", "late", "seen_by_others", "bytes_up"],
    },
    Table {
        mark: "snapshots_over",
        on: On::Links,
        sets: &["snapshots_over=all"],
        measures: &["view_age", "hops", "stalled", "bytes_down"],
    },
    Table {
        mark: "state_down",
        on: On::Links,
        sets: &["state_down=whole,compressed,delta,coded,delta", "snapshot_every=3,3,3,3,1"],
        measures: &["view_age", "hops", "bytes_down"],
    },
    Table {
        mark: "missing",
        on: On::Links,
        sets: &["missing=all"],
        measures: &["corrections", "largest_jump", "hops"],
    },
    Table {
        mark: "rate_down",
        on: On::Links,
        sets: &[
            "bandwidth=32kbit/s,32kbit/s,16kbit/s,16kbit/s",
            "rate_down=fixed,adapted,fixed,adapted",
            "rate_up=adapted,adapted,adapted,adapted",
        ],
        measures: &["view_age", "hops", "bytes_down"],
    },
    Table {
        mark: "rate_up",
        on: On::Links,
        sets: &[
            "bandwidth=32kbit/s,32kbit/s,16kbit/s,16kbit/s",
            "rate_down=adapted,adapted,adapted,adapted",
            "rate_up=fixed,adapted,fixed,adapted",
            "redundancy=adapted,adapted,adapted,adapted",
        ],
        measures: &["corrections", "ahead", "bytes_up"],
    },
    Table {
        mark: "all of it",
        on: On::Links,
        sets: &["send_every=1,2", "redundancy=fixed,adapted", "extra_lead=0,1", "missing=hold,wait", "wait=6,16"],
        measures: &["corrections", "late", "bytes_up", "hops", "ahead"],
    },
    Table {
        mark: "waiting",
        on: On::Links,
        sets: &["missing=wait,wait,wait", "waiting=together,one,kept"],
        measures: &["corrections", "seen_by_others", "hops", "drawn_error"],
    },
    Table {
        mark: "send_every",
        on: On::Links,
        sets: &["send_every=1,2,3,4", "ticks_per_message=3,6,6,8"],
        measures: &["corrections", "late", "bytes_up"],
    },
    Table {
        mark: "redundancy",
        on: On::Links,
        sets: &["send_every=1,1,2,2", "redundancy=fixed,adapted,fixed,adapted"],
        measures: &["corrections", "late", "bytes_up"],
    },
    Table {
        mark: "view_delay_by",
        on: On::Links,
        sets: &[
            "view_delay_by=jitter,lateness,lateness,lateness",
            "view_late=5 %,2 %,5 %,10 %",
            "return=none,half_life,half_life,half_life",
        ],
        measures: &["view_age", "roughness", "judder", "hops", "extrapolated"],
    },
    Table {
        mark: "echo",
        on: On::Links,
        sets: &[
            "missing=wait,wait,wait",
            "wait=16,16,16",
            "waiting=together,together,together",
            "echo=raw,smooth,binding",
            "echo_leash=1 m,1 m,1 m",
        ],
        measures: &["judder", "hops", "drawn_error", "seen_by_others", "echoes_apart", "corrections"],
    },
    Table {
        mark: "blending",
        on: On::Links,
        sets: &["blending=by_field,linear,curve", "snapshot_every=12,12,12"],
        measures: &["drawn_error", "roughness", "judder", "hops"],
    },
    Table {
        mark: "run_on",
        on: On::Links,
        sets: &[
            "run_on=velocity,velocity,hold,rule,rule",
            "extrapolate=200 ms,400 ms,200 ms,200 ms,400 ms",
            "view_delay=50 ms,50 ms,50 ms,50 ms,50 ms",
        ],
        measures: &["drawn_error", "judder", "hops", "stalled", "bytes_down"],
    },
    Table {
        mark: "remotes_at",
        on: On::Links,
        sets: &[
            "remotes_at=past,past,present,present",
            "return=none,none,none,half_life",
            "run_on=velocity,rule,rule,rule",
        ],
        measures: &["view_age", "drawn_error", "judder", "hops", "bytes_down"],
    },
    Table {
        mark: "return",
        on: On::Links,
        sets: &["return=none,smooth,half_life,speed", "view_delay=50 ms,50 ms,50 ms,50 ms"],
        measures: &["drawn_error", "roughness", "judder", "hops"],
    },
    Table { mark: "looks", on: On::Links, sets: &["looks=all"], measures: &["flickers"] },
    Table {
        mark: "camera",
        on: On::Links,
        sets: &[
            "frame_rate=60 Hz,60 Hz,60 Hz,144 Hz,144 Hz,144 Hz",
            "between_ticks=true,false,true,true,false,true",
            "camera=frame,frame,tick,frame,frame,tick",
        ],
        measures: &["camera_judder", "own_judder", "own_hops"],
    },
    Table {
        mark: "frames",
        on: On::Links,
        sets: &[
            "frame_rate=60 Hz,20 Hz,37 Hz,144 Hz,60 Hz,60 Hz",
            "frame_unevenness=0 %,0 %,0 %,0 %,40 %,0 %",
            "hitches=0 /min,0 /min,0 /min,0 /min,0 /min,20 /min",
        ],
        measures: &["response", "own_judder", "judder", "hops", "view_age", "corrections", "late"],
    },
    Table {
        mark: "ease_by",
        on: On::Links,
        sets: &["ease_by=smooth,half_life,speed,none", "ticks_per_message=1,1,1,1"],
        measures: &["corrections", "own_roughness", "own_judder", "own_hops"],
    },
    Table {
        mark: "seen together",
        on: On::Links,
        sets: &[
            "snapshot_every=3,1",
            "view_delay_by=jitter,lateness",
            "view_late=5 %,2 %",
            "run_on=velocity,rule",
            "return=none,half_life",
            "return_over=150 ms,100 ms",
        ],
        measures: &["view_age", "roughness", "judder", "hops", "bytes_down"],
    },
    Table {
        mark: "sixteen phones",
        on: On::Phones,
        sets: &[
            "copies=5,5,5,5,5,5",
            "plover.copies=6,6,6,6,6,6",
            "snapshot_every=3,8,8,7,7,8",
            "view_delay=auto,100 ms,115 ms,115 ms,115 ms,115 ms",
            "run_on=velocity,velocity,rule,velocity,velocity,rule",
            "return=none,none,half_life,none,half_life,half_life",
            "return_over=200 ms,200 ms,200 ms,200 ms,200 ms,200 ms",
            "remotes_at=past,past,past,past,past,present",
        ],
        measures: &["view_age", "bytes_down", "roughness", "hops"],
    },
    Table {
        mark: "shooter",
        on: On::Begin,
        sets: &[
            "snapshot_every=3,2",
            "state_down=whole,delta",
            "view_delay_by=jitter,lateness",
            "return=none,half_life",
            "send_every=1,2",
            "redundancy=fixed,adapted",
            "extra_lead=0,1",
        ],
        measures: &["view_age", "roughness", "hops", "corrections", "bytes_up", "bytes_down"],
    },
    Table {
        mark: "racing",
        on: On::Begin,
        sets: &[
            "snapshot_every=3,6",
            "state_down=whole,delta",
            "remotes_at=past,present",
            "return=none,half_life",
            "send_every=1,2",
            "redundancy=fixed,adapted",
        ],
        measures: &["view_age", "roughness", "hops", "drawn_error", "bytes_up", "bytes_down"],
    },
    Table {
        mark: "platformer",
        on: On::Begin,
        sets: &[
            "snapshot_every=3,2",
            "state_down=whole,delta",
            "view_delay_by=jitter,lateness",
            "view_late=5 %,2 %",
            "return=none,half_life",
            "ease_by=smooth,half_life",
            "ease=120 ms,60 ms",
        ],
        measures: &["view_age", "roughness", "hops", "response", "bytes_down"],
    },
    Table {
        mark: "units",
        on: On::Begin,
        sets: &["snapshot_every=3,4", "state_down=whole,delta", "inputs_over=datagrams,changes"],
        measures: &["view_age", "roughness", "hops", "corrections", "bytes_up", "bytes_down"],
    },
];

/// The page with other lines between two marks.
pub fn with(page: &str, mark: &str, lines: &str) -> String {
    let mark = format!("<!-- {mark} -->\n");
    let begin = page.find(&mark).unwrap_or_else(|| panic!("no {mark}")) + mark.len();
    let end = begin + page[begin..].find("<!-- end -->").expect("its end");
    format!("{}{lines}{}", &page[..begin], &page[end..])
}

fn listed(spec: &KnobSpec) -> String {
    let row = |choice: &Choice| {
        let sound = if choice.is_sound { "" } else { " **No one should ship it.**" };
        format!("| `{}` | {}{sound} | {} | {} |\n", choice.name, choice.does, choice.price, choice.invites)
    };
    let rows: String = spec.knob.choices().iter().map(row).collect();
    format!("| `{}` | does | costs | invites |\n|---|---|---|---|\n{rows}", spec.key)
}

/// A figure with three digits at most; none where there was nothing to measure.
fn short(text: &str, unit: &str) -> String {
    if text.is_empty() {
        return "none".to_owned();
    }
    let x: f64 = text.parse().unwrap_or_else(|_| panic!("a number: {text}"));
    let (x, unit) = match unit {
        "m" => (x * 100.0, "cm"),
        "B/s" => (x / 1000.0, "kB/s"),
        // A share.
        "%" => (x * 100.0, "%"),
        _ => (x, unit),
    };
    let digits = if x >= 10.0 { 0 } else { 2 };
    let number = format!("{x:.digits$}");
    let number = if digits > 0 { number.trim_end_matches('0').trim_end_matches('.') } else { &number };
    format!("{number} {unit}")
}

/// What `vary` makes of a table on one kind of link, written to a place.
fn varied(Table { sets, measures, on, .. }: &Table, name: &str, to: &str) -> Vec<u8> {
    let folder = if *on == On::Begin { "begin" } else { "links" };
    let course = format!("{}/../../courses/{folder}/{name}.course.toml", env!("CARGO_MANIFEST_DIR"));
    let mut vary = Command::new(env!("CARGO_BIN_EXE_velocitas"));
    vary.args(["vary", &course, "--pair", "--seeds", "5", "--for", "30s", "-o", to]);
    vary.args(sets.iter().flat_map(|set| ["--set", set]));
    let out = vary.args(["--measure", &measures.join(",")]).output().expect("it runs");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    out.stdout
}

/// What a table is measured on, by name.
fn names(table: &Table) -> Vec<&'static str> {
    match table.on {
        On::Links => PROFILES.iter().map(|profile| profile.name).collect(),
        On::Phones => vec!["phone"],
        On::Begin => vec![table.mark],
    }
}

/// The chart of a table on a phone's link: its name beside the page.
fn chart(table: &Table) -> String {
    format!("netcode/{}.svg", table.mark.replace(' ', "-"))
}

/// The rows of a table on one kind of link.
fn rows(table: &Table, profile: &str) -> String {
    let Table { sets, measures, on, .. } = table;
    let text = String::from_utf8(varied(table, profile, "-")).expect("text");
    let mut lines = text.lines().map(|line| line.split(',').collect::<Vec<_>>());
    let head = lines.next().expect("a head");
    let at = |name: &str| head.iter().position(|it| *it == name).unwrap_or_else(|| panic!("no {name} in {head:?}"));
    let (unit, worst, median) = (at("unit"), at("worst_median"), at("median_median"));
    let mut table = String::new();
    for (i, cells) in lines.collect::<Vec<_>>().chunks(measures.len()).enumerate() {
        let values: Vec<String> = cells[0][..sets.len()].iter().map(|value| format!("`{value}`")).collect();
        let _ = match on {
            On::Links => write!(table, "| {profile} | {} |", values.join(" | ")),
            // The first two are how many there are.
            On::Phones => write!(table, "| {} |", values[2..].join(" | ")),
            On::Begin => write!(table, "| {} |", ["as usual", "as in the course"][i]),
        };
        for cell in cells {
            let _ = write!(table, " {} ({}) |", short(cell[worst], cell[unit]), short(cell[median], cell[unit]));
        }
        table.push('\n');
    }
    table
}

#[test]
fn every_choice_is_told_with_what_it_costs_and_what_it_invites() {
    let choices = SETTINGS.iter().filter(|spec| !spec.knob.choices().is_empty());
    let mut page = document(PAGE);
    for spec in choices {
        assert!(TABLES.iter().any(|table| table.mark == spec.key), "{} is not measured", spec.key);
        page = with(&page, &format!("choices {}", spec.key), &listed(spec));
    }
    is_current(PAGE, &page);
}

/// Looked at each time; the others in the soak. A change of the netcode shows in these first.
const USUAL: [&str; 2] = ["inputs_over", "redundancy"];

#[test]
fn what_choices_cost_on_a_phone_is_as_the_page_says() {
    let page = document(PAGE);
    for table in TABLES.iter().filter(|table| table.on == On::Links) {
        assert!(document(&format!("docs/{}", chart(table))).starts_with("<svg"), "{}", table.mark);
    }
    for table in TABLES.iter().filter(|table| USUAL.contains(&table.mark)) {
        let rows = rows(table, "phone");
        assert!(page.contains(&rows), "{}: VELOCITAS_WRITE=1 scripts/soak writes them anew:\n{rows}", table.mark);
    }
}

#[test]
#[ignore = "six kinds of link: seconds for each table"]
fn what_choices_cost_on_every_link_is_as_the_page_says() {
    let mut pages = [PAGE, BEGINNING].map(|page| (page, document(page)));
    for table in &TABLES {
        let (_, page) = &mut pages[usize::from(table.on == On::Begin)];
        let keys = table.sets.iter().filter_map(|set| set.split_once('=')).map(|(key, _)| format!("`{key}`"));
        let keys: Vec<String> = match table.on {
            On::Links => std::iter::once("link".to_owned()).chain(keys).collect(),
            On::Phones => keys.skip(2).collect(),
            On::Begin => vec!["settings".to_owned()],
        };
        let names_of = table.measures.iter().map(|measure| measure_name(measure).to_owned());
        let columns: Vec<String> = keys.into_iter().chain(names_of).collect();
        let all: String = names(table).into_iter().map(|name| rows(table, name)).collect();
        let head = format!("| {} |\n|{}\n", columns.join(" | "), "---|".repeat(columns.len()));
        let mut lines = head + &all;
        if table.on == On::Links {
            lines += &format!("\n![On a phone's link: what `{}` costs]({})\n", table.mark, chart(table));
            let folder = tempfile::tempdir().expect("a folder");
            let file = folder.path().join("chart.svg");
            varied(table, "phone", file.to_str().expect("a name"));
            let name = format!("docs/{}", chart(table));
            is_current(&name, &std::fs::read_to_string(&file).expect("it was written"));
        }
        *page = with(page, &format!("measured {}", table.mark), &lines);
    }
    pages.iter().for_each(|(name, page)| is_current(name, page));
}

fn measure_name(key: &str) -> &'static str {
    velocitas_analysis::budget::Measure::named(key).map(|measure| measure.name).expect("a measure")
}
