//! What the documents promise is tried as it stands there.

use std::fs;
use std::path::PathBuf;

use velocitas::lab::export;
use velocitas::lab::{CHEATS, Course, DEMO, Run};
use velocitas_analysis::metrics::{FIGURES, Value};
use velocitas_record::{KNOBS, LabTime, MachineId, MemberId, SETTINGS};

/// The machine of the first of the cast.
fn machine(run: &Run) -> MachineId {
    run.course().machine(MemberId::new(0))
}

pub fn document(name: &str) -> String {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
    fs::read_to_string(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
}

/// The first block of TOML in a document.
fn course_in(document: &str) -> String {
    let begin = document.find("```toml\n").expect("an example") + 8;
    let length = document[begin..].find("```").expect("its end");
    document[begin..begin + length].to_owned()
}

#[test]
fn the_readmes_course_runs_and_shows_what_it_says() {
    let course = Course::parse("README.md", &course_in(&document("README.md")), &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut run = Run::new(course).expect("it fits");
    run.advance(LabTime::from_secs(12.0));
    let corrected =
        velocitas_analysis::metrics::measure(run.record(), machine(&run), LabTime::ZERO, run.now()).corrections;
    assert!(corrected.count > 3 && corrected.unexplained == 0, "{corrected:?}");
}

#[test]
fn the_course_page_shows_every_key_as_it_is_read() {
    let page = document("docs/course.md");
    let example = course_in(&page);
    // The page describes one cast of several; a server, a rogue and a second machine complete it.
    let rest = "[[cast]]\nname = \"dunlin\"\nrole = \"bot\"\nspawn = [-30, -5]\n";
    let tricks = example.find("trick = [").expect("tricks");
    let settings_end = example.find("route = [").expect("a route");
    assert!(settings_end < tricks);
    // Tricks belong to a rogue who claims: the example's helm goes without them.
    let end = tricks + example[tricks..].find("]\n").expect("their end") + 2;
    let trick_text = &example[tricks..end];
    let helm = example.replace(trick_text, "");
    let rogue = format!(
        "[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\narrangement = \"claims\"\nspawn = [-30, 5]\n{trick_text}\n"
    );
    let text = format!("{helm}\n{rest}\n{rogue}");
    let course = Course::parse("docs/course.md", &text, &[]).unwrap_or_else(|e| panic!("{e}"));
    assert_eq!((course.cast.len(), course.events.len(), course.cast[2].tricks.len()), (3, 10, 9));
    assert_eq!((course.things.len(), course.cast[0].faults.len(), course.cast[0].there), (1, 1, false));
}

/// A profile's settings that are otherwise than those of a perfect link.
fn told(conditions: &velocitas_record::Conditions) -> String {
    use velocitas_record::{Accessor, Conditions, SETTINGS, Takes};
    let told = SETTINGS.iter().filter_map(|spec| {
        let Accessor::Link { get, .. } = spec.accessor else { return None };
        let (x, perfect) = (get(conditions), get(&Conditions::PERFECT));
        let x = if spec.takes == Takes::Share { x * 100.0 } else { x };
        (x != perfect).then(|| format!("{} {} {}", spec.key, (x * 1000.0).round() / 1000.0, spec.unit))
    });
    told.collect::<Vec<_>>().join(", ")
}

#[test]
fn the_profiles_are_on_their_page() {
    let page = document("docs/links.md");
    let (mark, end) = ("<!-- profiles -->\n", "<!-- end -->");
    let (begin, stop) = (page.find(mark).expect("a mark") + mark.len(), page.find(end).expect("an end"));
    let row = |profile: &velocitas::lab::Profile| {
        let (up, down) = (told(&profile.up), told(&profile.down));
        let down = if down == up { "the same".to_owned() } else { down };
        format!("| `{}` | {} | {up} | {down} |\n", profile.name, profile.says)
    };
    let rows: String = velocitas::lab::PROFILES.iter().map(row).collect();
    let table = format!("| profile | is | up | down |\n|---|---|---|---|\n{rows}");
    is_current("docs/links.md", &format!("{}{table}{}", &page[..begin], &page[stop..]));
}

#[test]
fn every_key_of_the_demo_is_on_the_course_page() {
    let page = document("docs/course.md") + &document("docs/check.md");
    for line in DEMO.lines().chain(velocitas_lab::COMINGS.lines()).filter(|l| !l.starts_with('#')) {
        for key in line.split(['{', ',', '[']).filter_map(|part| part.split_once('=')).map(|(key, _)| key.trim()) {
            assert!(page.contains(key), "`{key}` is not explained");
        }
    }
}

/// The rows of the record as its page lists them.
fn row_table() -> String {
    let mut table = "| `kind` | keys | says |\n|---|---|---|\n".to_owned();
    for row in export::row_kinds() {
        let keys = row
            .keys
            .iter()
            .map(|(name, says)| if says.is_empty() { format!("`{name}`") } else { format!("`{name}` ({says})") });
        table += &format!("| `{}` | {} | {} |\n", row.name, keys.collect::<Vec<_>>().join(", "), row.says);
    }
    table
}

#[test]
fn the_course_page_says_of_every_setting_what_it_does() {
    use velocitas_record::{Accessor, KnobSpec, SETTINGS};
    let page = document("docs/course.md");
    let (mark, end) = ("<!-- settings -->\n", "<!-- end -->");
    let (begin, stop) = (page.find(mark).expect("a mark") + mark.len(), page.find(end).expect("an end"));
    let row = |spec: &KnobSpec| {
        let of = if matches!(spec.accessor, Accessor::Link { .. }) { "link" } else { "settings" };
        let mut help = spec.help.to_owned();
        if let Some(first) = help.get_mut(..1) {
            first.make_ascii_uppercase();
        }
        format!("| `{}` | {of} | {} | {help}. |\n", spec.key, spec.name)
    };
    let rows: String = SETTINGS.iter().map(row).collect();
    let head = "| key | of | on screens | does |\n|---|---|---|---|\n";
    is_current("docs/course.md", &format!("{}{head}{rows}{}", &page[..begin], &page[stop..]));
}

#[test]
fn the_record_page_lists_the_table_of_rows() {
    let page = document("docs/record.md");
    let begin = page.find("<!-- rows -->\n").expect("a table of rows") + 14;
    let end = begin + page[begin..].find("<!-- end -->").expect("its end");
    is_current("docs/record.md", &format!("{}{}{}", &page[..begin], row_table(), &page[end..]));
}

/// A page with what stands between a mark and its end made anew.
fn with_table(page: &str, mark: &str, table: &str) -> String {
    let mark = format!("<!-- {mark} -->\n");
    let begin = page.find(&mark).unwrap_or_else(|| panic!("no {mark}")) + mark.len();
    let end = begin + page[begin..].find("<!-- end -->").expect("its end");
    format!("{}{table}{}", &page[..begin], &page[end..])
}

#[test]
fn the_guard_page_lists_rules_checks_and_cheats() {
    use velocitas::core::RULES;
    use velocitas::lab::{Fails, NAIVE, Whose};
    let mut rules = "| rule | what is not lawful | measured in | by which clock |\n|---|---|---|---|\n".to_owned();
    for rule in &RULES {
        let unit = if rule.unit == "1" { "times what is allowed" } else { rule.unit };
        rules += &format!("| `{}` | {} | {unit} | {} |\n", rule.name, rule.help, rule.clock);
    }
    let mut naive = "| checks | looks at | fails, because |\n|---|---|---|\n".to_owned();
    for row in &NAIVE {
        let how = match row.fails {
            Fails::AccusesTheHonest => "it accuses the honest",
            Fails::MissesTheCheat => "it misses the cheat",
        };
        let file = row.name.replace(' ', "-");
        let link = format!("[`{}`](../courses/guard/{file}.course.toml)", row.name);
        naive += &format!("| {link} | {} | {how}: {} |\n", row.help, row.why);
    }
    let mut cheats = "| cheat | does | of whom | must be answered by |\n|---|---|---|---|\n".to_owned();
    for row in &CHEATS {
        let whose = match row.whose() {
            Whose::Inputs => "whose inputs travel",
            Whose::Positions => "who says where it is",
            Whose::Either => "anybody",
        };
        cheats += &format!("| `{}` | {} | {whose} | {} |\n", row.key, row.help, row.answered.name());
    }
    let page = document("docs/guard.md");
    let page = with_table(&with_table(&with_table(&page, "rules", &rules), "naive", &naive), "cheats", &cheats);
    is_current("docs/guard.md", &page);
}

#[test]
fn rows_of_a_record_have_the_keys_that_the_table_lists() {
    let comings = Course::parse("comings", velocitas_lab::COMINGS, &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut out = Vec::new();
    for (course, seconds) in [(Course::demo(), 20.0), (comings, 40.0)] {
        let mut run = Run::new(course).expect("it fits");
        run.advance(LabTime::from_secs(seconds));
        export::write(run.record(), &export::Ending::default(), &mut out).expect("a vector never fails");
    }
    let text = String::from_utf8(out).expect("UTF-8");
    let kinds = export::row_kinds();
    let mut seen = std::collections::BTreeSet::new();
    let is_frame = |line: &&str| !["run", "end"].iter().any(|kind| line.contains(&format!("\"kind\":\"{kind}\"")));
    for line in text.lines().filter(is_frame) {
        let row: serde_json::Value = serde_json::from_str(line).expect("JSON");
        let row = row.as_object().expect("an object");
        let kind = kinds.iter().find(|kind| row["kind"] == kind.name).expect("a kind of the table");
        seen.insert(kind.name);
        let wanted = kind.keys.iter().filter(|(_, says)| !says.ends_with("if any")).map(|(name, _)| *name);
        for key in wanted.chain(["at_ns"]) {
            assert!(row.contains_key(key), "{}: no `{key}` in {line}", kind.name);
        }
        // A state has its fields besides.
        let is_state = ["authority", "echo", "predicted", "rewritten"].contains(&kind.name);
        let known = |key: &str| {
            ["kind", "at_ns", "nth", "fact"].contains(&key) || kind.keys.iter().any(|(name, _)| *name == key)
        };
        assert!(is_state || row.keys().all(|key| known(key)), "{}: {line}", kind.name);
    }
    for kind in
        ["started", "connected", "ended", "born", "gone", "owner", "obeyed", "ordered", "entered", "left", "seen"]
    {
        assert!(seen.contains(kind), "no `{kind}`");
    }
    assert!(seen.len() > 28, "{seen:?}");
}

#[test]
fn the_report_page_lists_the_table_of_figures() {
    let page = document("docs/report.md");
    let begin = page.find("<!-- figures -->\n").expect("a table of figures") + 17;
    let end = begin + page[begin..].find("<!-- end -->").expect("its end");
    let rows: Vec<String> =
        FIGURES.iter().filter_map(|f| Some(format!("| `{}` | {} | {} |\n", f.key?, f.unit.name(), f.help))).collect();
    let whole = format!("{}| key | in | is |\n|---|---|---|\n{}{}", &page[..begin], rows.concat(), &page[end..]);
    is_current("docs/report.md", &whole);
}

#[test]
fn the_page_about_checking_lists_the_table_of_measures_and_its_example_is_read() {
    use velocitas_analysis::budget::{MEASURES, Whose};
    let page = document("docs/check.md");
    let (mark, end) = ("<!-- measures -->\n", "<!-- end -->");
    let (begin, stop) = (page.find(mark).expect("a mark") + mark.len(), page.find(end).expect("an end"));
    let row = |m: &velocitas_analysis::budget::Measure| {
        let side = m.bound.words();
        let whose = match m.whose {
            Whose::All => "all",
            Whose::Honest => "the honest",
            Whose::Rogues => "rogues",
        };
        let unit = if m.unit.is_empty() { "a number" } else { m.unit };
        let grain = if m.grain == 0.0 { "none".to_owned() } else { m.shown(m.grain) };
        format!("| `{}` | {side}, {unit} | {} | {whose} | {} | {grain} |\n", m.key, m.help, m.look)
    };
    let rows: String = MEASURES.iter().map(row).collect();
    let head = "| key | bound | is | of | where to look | grain |\n|---|---|---|---|---|---|\n";
    is_current("docs/check.md", &format!("{}{head}{rows}{}", &page[..begin], &page[stop..]));
    let cast = "format = 1\nname = \"quay\"\ntick_rate = \"60 Hz\"\nworld = { min = [-30, -20], max = [30, 20] }\n\
                [[cast]]\nname = \"heron\"\nrole = \"bot\"\nlink = \"home\"\nspawn = [0, 0]\n\
                [[cast]]\nname = \"magpie\"\nrole = \"rogue\"\nspawn = [8, 0]\n";
    let course = Course::parse("docs/check.md", &(cast.to_owned() + &course_in(&page)), &[]);
    let limits = course.unwrap_or_else(|e| panic!("{e}")).limits;
    assert_eq!(limits.iter().filter(|limit| limit.line.is_some()).count(), 6);
}

#[test]
fn the_record_page_lists_every_cause_every_fate_and_every_key_of_the_first_row() {
    let page = document("docs/record.md");
    let causes: Vec<String> = velocitas_analysis::cause::Cause::NAMES.iter().map(|name| format!("`{name}`")).collect();
    assert!(page.replace('\n', " ").contains(&format!("`cause` is one of {}.", causes.join(", "))), "{causes:?}");
    let fates = velocitas_analysis::Fate::NAMES;
    let begin = page.find("| fate | is |").expect("a table of fates");
    let rows = page[begin..].lines().skip(2).take_while(|line| line.starts_with("| `"));
    let listed: Vec<&str> = rows.filter_map(|line| line.split('`').nth(1)).collect();
    assert_eq!(listed, fates);
    let run = Run::new(Course::demo()).expect("it fits");
    let mut out = Vec::new();
    export::write(run.record(), &export::Ending::default(), &mut out).expect("a vector never fails");
    let text = String::from_utf8(out).expect("UTF-8");
    for line in [text.lines().next(), text.lines().last()] {
        let row: serde_json::Value = serde_json::from_str(line.expect("two rows")).expect("JSON");
        for key in row.as_object().expect("an object").keys().filter(|key| *key != "kind") {
            assert!(page.contains(&format!("`{key}`")), "`{key}` is not explained");
        }
    }
}

/// Every key with a value of its own, with dots between those inside each other.
fn leaves(within: &str, value: &serde_json::Value, keys: &mut Vec<String>) {
    match value.as_object().filter(|_| !["verdicts", "resync_reasons"].contains(&within)) {
        Some(object) => object.iter().filter(|(key, _)| *key != "name").for_each(|(key, value)| {
            leaves(&if within.is_empty() { key.clone() } else { format!("{within}.{key}") }, value, keys);
        }),
        None => keys.push(within.to_owned()),
    }
}

#[test]
fn the_keys_of_the_report_are_those_of_the_table_of_figures() {
    let page = document("docs/report.md");
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.advance(LabTime::from_secs(3.0));
    let summary = velocitas_report::summarise(&run, std::time::Duration::from_millis(10));
    let report: serde_json::Value = serde_json::from_str(&summary.json()).expect("JSON");
    for key in report.as_object().expect("an object").keys() {
        assert!(page.contains(key.as_str()), "`{key}` is not explained");
    }
    // A rogue has every key.
    let mut keys = Vec::new();
    leaves("", &report["clients"][4], &mut keys);
    let listed: Vec<&str> = FIGURES.iter().filter_map(|f| f.key).collect();
    // Its parts go with the figure of which they are.
    keys.retain(|key| key != "resync_reasons");
    assert!(keys.iter().all(|key| listed.contains(&key.as_str())) && keys.len() == listed.len(), "{keys:?}");
    // And what the table gets is what stands there.
    for figure in FIGURES {
        let Some(key) = figure.key.filter(|key| *key != "verdicts") else { continue };
        let found = key.split('.').fold(&report["clients"][4], |at, key| &at[key]);
        match (figure.get)(&summary.clients[4]) {
            Value::Word(word) => assert_eq!(found, word, "{key}"),
            Value::Number(x) => assert_eq!(found.as_f64(), x, "{key}"),
        }
    }
}

#[test]
fn pictures_linked_from_the_readme_are_there() {
    let readme = document("README.md");
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut linked = 0;
    for part in readme.split("](").skip(1) {
        let target = part.split([')', '#']).next().unwrap_or("");
        assert!(folder.join(target).exists(), "{target}");
        linked += 1;
    }
    assert!(linked > 5);
}

#[test]
fn the_course_page_lists_the_table_of_arrangements_and_every_cheat() {
    let page = document("docs/course.md");
    for row in velocitas_core::Arrangement::ALL {
        assert!(page.contains(&format!("| `{}` | {} |", row.name(), row.help())), "{}", row.name());
    }
    for cheat in &CHEATS {
        assert!(page.contains(&format!("{{ {} = ", cheat.key)), "{}", cheat.key);
    }
}

#[test]
fn every_setting_can_be_set_in_a_course() {
    let page = document("docs/course.md");
    for spec in &SETTINGS {
        assert!(page.contains(&format!("{} = ", spec.key)), "{}", spec.name);
    }
    assert!(KNOBS.iter().all(|knob| SETTINGS.iter().any(|spec| spec.knob == knob.knob)));
}

/// `VELOCITAS_WRITE=1 cargo test -p velocitas --test documents` writes what is generated anew.
#[track_caller]
pub fn is_current(name: &str, generated: &str) {
    if std::env::var_os("VELOCITAS_WRITE").is_some() {
        let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
        fs::write(&path, generated).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
    }
    assert!(document(name) == generated, "{name} is out of date: run the test with VELOCITAS_WRITE=1");
}

#[test]
fn the_schema_of_courses_is_current_and_knows_every_key_of_the_demo() {
    let schema = Course::schema();
    is_current("docs/course.schema.json", &schema);
    for line in DEMO.lines().chain(velocitas_lab::COMINGS.lines()).filter(|l| !l.starts_with('#')) {
        for key in line.split(['{', ',', '[']).filter_map(|part| part.split_once('=')).map(|(key, _)| key.trim()) {
            assert!(schema.contains(&format!("\"{key}\"")), "`{key}`");
        }
    }
}

#[test]
fn the_script_and_the_pipeline_on_the_page_are_those_that_new_makes() {
    let page = document("docs/check.md");
    for (mark, file) in [("```sh\n", "check.sh"), ("```yaml\n", "pipeline.yml")] {
        let shown = format!("{mark}{}```", document(&format!("crates/app/starter/{file}")));
        assert!(page.contains(&shown), "{file}");
    }
}

#[test]
fn the_grammar_for_editors_is_current() {
    let text = serde_json::to_string_pretty(&velocitas_gait::grammar()).expect("JSON") + "\n";
    is_current("docs/gait.tmLanguage.json", &text);
}

#[test]
fn the_reference_of_the_language_lists_every_function_unit_and_kind_of_mistake() {
    let page = document("docs/gait.md");
    let begin = page.find("<!-- functions -->\n").expect("a table of functions") + 19;
    let end = begin + page[begin..].find("<!-- end -->").expect("its end");
    let rows: Vec<String> =
        velocitas_gait::BUILTINS.iter().map(|b| format!("| `{}({})` | {} |\n", b.name, b.takes, b.help)).collect();
    let whole = format!("{}| function | gives |\n|---|---|\n{}{}", &page[..begin], rows.concat(), &page[end..]);
    is_current("docs/gait.md", &whole);
    for (unit, _) in velocitas_gait::UNITS {
        assert!(page.contains(&format!("`{unit}`")), "unit {unit}");
    }
}

/// The gaits of the tutorial, in order.
fn tutorial() -> Vec<(String, String)> {
    let page = document("docs/tutorial.md");
    let step = |n: usize| {
        let name = format!("docs/tutorial/step-{n}.gait");
        (name.clone(), document(&name), page.contains(&format!("tutorial/step-{n}.gait")))
    };
    (1..=8)
        .map(step)
        .map(|(name, text, told)| {
            assert!(told, "{name} is not on the page");
            (name, text)
        })
        .collect()
}

#[test]
fn every_step_of_the_tutorial_is_sound_runs_and_the_last_is_the_courier() {
    let course = document("docs/tutorial/tutorial.course.toml");
    let mut ends = Vec::new();
    for (name, text) in tutorial() {
        let compiled = velocitas_gait::compile(&text);
        let errors: Vec<_> =
            compiled.diagnostics.iter().filter(|d| d.severity == velocitas_gait::Severity::Error).collect();
        assert!(errors.is_empty(), "{name}: {errors:?}");
        let read = |_: &str| Ok(text.clone());
        let sources = velocitas::lab::Sources { own: &[], read: &read };
        let course = Course::parse_with("tutorial.course.toml", &course, sources).unwrap_or_else(|e| panic!("{e}"));
        let mut run = Run::new(course).expect("it fits");
        run.advance(LabTime::from_secs(6.0));
        let m = velocitas_analysis::metrics::measure(run.record(), machine(&run), LabTime::ZERO, run.now());
        assert_eq!((m.corrections.count, m.corrections.unexplained), (0, 0), "{name}: {:?}", m.corrections);
        let track = run.record().authority(run.record().cast.actors().next().expect("somebody"));
        let highest = (0..track.len()).map(|i| track.vec3(i, 0).z).fold(0.0, velocitas::core::max);
        ends.push((run.lab().server_state(MemberId::new(0)).map(|s| s.vec3(0)), highest));
    }
    assert!(ends.windows(2).all(|pair| pair[0] != pair[1]), "each step moves otherwise than the one before: {ends:?}");
    let code = |text: &str| {
        let lines =
            text.lines().map(|l| l.split('#').next().unwrap_or("").split_whitespace().collect::<Vec<_>>().join(" "));
        lines.filter(|l| !l.is_empty()).collect::<Vec<_>>()
    };
    let courier = velocitas::lab::shipped_gait("courier.gait").expect("it ships");
    assert_eq!(code(&tutorial()[7].1), code(&courier));
}

#[test]
fn the_first_example_of_the_language_is_a_rule() {
    let page = document("docs/gait.md");
    let begin = page.find("```\ngait ").expect("an example") + 4;
    let text = &page[begin..begin + page[begin..].find("```").expect("its end")];
    let compiled = velocitas_gait::compile(text);
    assert!(compiled.diagnostics.is_empty(), "{:?}", compiled.diagnostics);
}

#[test]
fn the_tour_lists_every_lane_as_it_is_and_names_every_screen() {
    let page = document("docs/screens.md");
    let head = "| lane | unit | is |\n|---|---|---|\n";
    let begin = page.find(head).expect("a table of lanes") + head.len();
    let end = begin + page[begin..].find("\n\n").map_or(0, |n| n + 1);
    let rows: String = velocitas_analysis::lane::LANES
        .iter()
        .map(|lane| format!("| {} (`{}`) | {} | {} |\n", lane.name, lane.key, lane.unit, lane.help))
        .collect();
    let current = format!("{}{rows}{}", &page[..begin], &page[end..]);
    is_current("docs/screens.md", &current);
    for heading in ["## Field (1)", "## Rules (2)", "## Ladder (3)", "## Scope (4)"] {
        assert!(page.contains(heading), "{heading}");
    }
}
