//! Budgets: those of the shipped courses hold, are tight, and each is exceeded by one change.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use velocitas_analysis::budget::{Bound, Held, MEASURES, Outcome, hold};
use velocitas_core::altered::Altered;
use velocitas_core::{Arrangement, InputsOver, Motion, Rate, Scene, State, Step, vec3};
use velocitas_lab::{Course, Happens, Keep, LEAST_KEPT, Override, Run, What};
use velocitas_record::{KnownTo, LabTime, MemberId, Role};

/// Every course that ships, with its path.
fn shipped() -> Vec<(PathBuf, Course)> {
    fn collect(folder: &Path, all: &mut Vec<PathBuf>) {
        for entry in std::fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path()) {
            // Those of the guard are there to fail: `tests/naive.rs` sees to it that they do.
            if entry.ends_with("guard") {
                continue;
            }
            if entry.is_dir() {
                collect(&entry, all);
            } else {
                all.push(entry);
            }
        }
    }
    let mut paths = Vec::new();
    collect(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../courses"), &mut paths);
    paths.retain(|path| path.to_string_lossy().ends_with(".course.toml"));
    paths.sort();
    assert!(paths.len() >= 14);
    let read = |path: PathBuf| {
        let text = std::fs::read_to_string(&path).expect("it can be read");
        let course = Course::parse(&path.display().to_string(), &text, &[]).unwrap_or_else(|e| panic!("{e}"));
        (path, course)
    };
    paths.into_iter().map(read).collect()
}

fn held(course: Course) -> Vec<Held> {
    held_until(course, |_| false)
}

/// The same, ended early once that is enough: not before a course's first quarter minute, in which rates say little.
fn held_until(course: Course, is_enough: impl Fn(&[Held]) -> bool) -> Vec<Held> {
    let lasts = course.check.lasts;
    let mut run = Run::new(course).expect("it fits");
    run.set_keep(Keep::Time(LEAST_KEPT));
    run.meter();
    loop {
        run.advance(lasts.min(run.now().plus(LabTime::from_secs(15.0))));
        let measured = run.measured();
        assert_eq!(measured.totals.step_faults, 0);
        let held = hold(&run.course().limits, &measured);
        if run.now() >= lasts || is_enough(&held) {
            return held;
        }
    }
}

/// A rule that is not the same twice: what no step may be.
fn moody() -> Altered {
    let steps = AtomicU32::new(0);
    let after = move |_: &Scene<'_>, _: &State, step: &mut Step| {
        if steps.fetch_add(1, Ordering::Relaxed).is_multiple_of(97) {
            let pos = step.state.vec3(0);
            step.state.set_vec3(0, vec3(pos.x + 0.2, pos.y, pos.z));
        }
    };
    Altered { after: Box::new(after), ..Altered::named("moody") }
}

/// One change of a member, or of the course, that costs what a measure measures.
fn change(key: &str, course: &mut Course, member: MemberId) {
    let who = member.index();
    let claims = !course.cast[who].arrangement.sends_inputs();
    match key {
        // A client that moves three times as fast is pulled back and accused; others are pushed.
        "verdicts" | "corrections" | "largest_jump" | "own_drawn_error" if claims => {
            let kind = course.cast[who].kind;
            let defaults = course.kinds.motion(kind).tunables();
            let faster = defaults.iter().enumerate().filter(|(_, t)| t.unit == "m/s").map(|(tunable, t)| Override {
                kind,
                tunable,
                value: t.default * 3.0,
                known_to: KnownTo::Clients,
            });
            course.overrides.extend(faster.collect::<Vec<_>>());
        }
        "corrections" | "largest_jump" | "own_drawn_error" => course.events.push(Happens {
            at: LabTime::from_secs(2.0),
            every: Some(LabTime::from_millis(150.0)),
            what: What::Push(member, vec3(9.0, 0.0, 200.0)),
        }),
        "roughness" | "drawn_error" | "hops" => course.cast[who].knobs.down.loss = 0.9,
        "view_age" => course.cast[who].knobs.down.latency_ms += 1500.0,
        "verdicts" => {}
        "response" if claims => course.cast[who].host.fps = 12.0,
        "response" => course.cast[who].knobs.settings.predict = false,
        "bytes_up" => {
            course.cast[who].knobs.settings.inputs_over = InputsOver::Datagrams;
            course.rate = Rate::new(180).expect("a rate");
        }
        "bytes_down" => course.cast[who].knobs.served.snapshot_every = 1,
        // Less than what is sent, and room for a long queue.
        "late" => (course.cast[who].knobs.up.bandwidth, course.cast[who].knobs.up.queue) = (10.0, 1000.0),
        "tricks_answered" => course.cast[who].arrangement = Arrangement::RELAY,
        other => panic!("{other}: no change is known that costs it"),
    }
}

/// On as many threads as there are cores, each course on its own.
fn each_course(test: impl Fn(&Path, &Course) + Sync) {
    let all = shipped();
    let next = AtomicU32::new(0);
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some((path, course)) = all.get(next.fetch_add(1, Ordering::Relaxed) as usize) {
                    test(path, course);
                }
            });
        }
    });
}

#[test]
fn every_shipped_budget_is_exceeded_by_one_change() {
    each_course(|path, course| {
        let bounded: BTreeSet<&str> =
            course.limits.iter().filter(|limit| limit.line.is_some()).map(|limit| limit.measure.key).collect();
        assert!(bounded.len() >= 4, "{}: {bounded:?}", path.display());
        // What no change of a course can bring about is tried with a rule of another kind, below.
        for key in bounded.into_iter().filter(|key| *key != "unexplained") {
            let mut changed = course.clone();
            course.members().for_each(|member| change(key, &mut changed, member));
            let mut exceeded: BTreeMap<usize, bool> = BTreeMap::new();
            let is_key = |one: &&Held| one.limit.measure.key == key;
            let all_exceeded = |held: &[Held]| {
                let lines = |beyond: bool| -> BTreeSet<usize> {
                    let is = |one: &&Held| !beyond || one.outcome() == Outcome::Beyond;
                    held.iter().filter(is_key).filter(is).filter_map(|one| one.limit.line).collect()
                };
                lines(true) == lines(false)
            };
            for one in held_until(changed, all_exceeded).iter().filter(is_key) {
                if let Some(line) = one.limit.line {
                    let beyond = one.outcome() == Outcome::Beyond;
                    *exceeded.entry(line).or_default() |= beyond;
                    assert!(!beyond || one.at.is_some_and(|at| at <= course.check.lasts), "{key}: no moment");
                }
            }
            for (line, exceeded) in exceeded {
                assert!(exceeded, "{}, line {line}: {key}", path.display());
            }
        }
    });
}

#[test]
fn a_rule_that_is_not_the_same_twice_is_corrected_without_an_explanation() {
    let text = "format = 1\nname = \"moody\"\ntick_rate = \"60 Hz\"\nworld = { min = [-30, -20], max = [30, 20] }\n\
                [[cast]]\nname = \"heron\"\nrole = \"bot\"\nrule = \"RULE\"\nspawn = [0, 0]\nroute = [{ at = [9, 9] }, { at = [0, 0] }]\n\
                [[budget]]\nunexplained = 0\nlargest_jump = \"1 cm\"\n";
    let course = |rule: &str| {
        let moody: Arc<dyn Motion> = Arc::new(moody());
        Course::parse("moody", &text.replace("RULE", rule), &[moody]).unwrap_or_else(|e| panic!("{e}"))
    };
    let outcomes = |rule: &str| held(course(rule)).iter().map(Held::outcome).collect::<Vec<_>>();
    assert_eq!(outcomes("walker"), [Outcome::Within; 3]);
    assert_eq!(outcomes("moody"), [Outcome::Beyond, Outcome::Beyond, Outcome::Within]);
}

/// For each line and measure of a course the bound and the worst value of these seeds.
fn worst(course: &Course, seeds: u64) -> BTreeMap<(usize, &'static str), (f64, f64)> {
    let mut all = BTreeMap::new();
    for n in 0..seeds {
        let seeded = Course { seed: course.seed + n, ..course.clone() };
        for one in held(seeded) {
            assert_ne!(one.outcome(), Outcome::Beyond, "{}, seed {}: {one:?}", course.name, course.seed + n);
            let (Some(line), Some(value)) = (one.limit.line, one.value) else { continue };
            let (_, worst) = all.entry((line, one.limit.measure.key)).or_insert((one.limit.value, value));
            *worst = match one.limit.measure.bound {
                Bound::Most => worst.max(value),
                Bound::Least => worst.min(value),
            };
        }
    }
    all
}

#[test]
fn shipped_courses_keep_within_their_budgets() {
    each_course(|_, course| {
        let lines: BTreeSet<(usize, &str)> =
            course.limits.iter().filter_map(|limit| Some((limit.line?, limit.measure.key))).collect();
        let measured = worst(course, u64::from(course.check.seeds));
        assert_eq!(measured.into_keys().collect::<BTreeSet<_>>(), lines, "{}: nothing to measure", course.name);
    });
}

#[test]
#[ignore = "twenty seeds of every course: run it after changes to budgets"]
fn no_shipped_budget_is_looser_than_twice_the_worst_of_twenty_seeds() {
    each_course(|path, course| {
        for ((line, key), (bound, worst)) in worst(course, 20) {
            assert!(bound <= 2.0 * worst + 1e-12, "{}, line {line}: {key} is {worst} at worst", path.display());
        }
    });
}

#[test]
fn what_is_said_of_one_goes_before_what_is_said_of_its_link_and_of_all() {
    let text = "format = 1\nname = \"quay\"\ntick_rate = \"60 Hz\"\nworld = { min = [-30, -20], max = [30, 20] }\n\
                [[cast]]\nname = \"heron\"\nrole = \"bot\"\nlink = \"home\"\nspawn = [0, 0]\n\
                [[cast]]\nname = \"teal\"\nrole = \"bot\"\nlink = \"home\"\nspawn = [4, 0]\n\
                [[cast]]\nname = \"knot\"\nrole = \"bot\"\nspawn = [8, 0]\n\
                [[cast]]\nname = \"magpie\"\nrole = \"rogue\"\nlink = \"home\"\nspawn = [-8, 0]\n\
                [[budget]]\nwho = \"teal\"\nview_age = \"100 ms\"\n\
                [[budget]]\nview_age = \"300 ms\"\n\
                [[budget]]\nlink = \"home\"\nview_age = \"200 ms\"\n\
                [[budget]]\nwho = \"magpie\"\ncorrections = \"60 /min\"\n";
    let course = Course::parse("quay", text, &[]).unwrap_or_else(|e| panic!("{e}"));
    let bounds = course.limits.iter().map(|limit| {
        let name = course[limit.member].name.as_str();
        (name, limit.measure.key, limit.value, limit.line)
    });
    assert_eq!(
        bounds.collect::<Vec<_>>(),
        [
            ("heron", "view_age", 200.0, Some(31)),
            ("heron", "verdicts", 0.0, None),
            ("teal", "view_age", 100.0, Some(26)),
            ("teal", "verdicts", 0.0, None),
            ("knot", "view_age", 300.0, Some(28)),
            ("knot", "verdicts", 0.0, None),
            ("magpie", "corrections", 60.0, Some(34)),
            ("magpie", "tricks_answered", 1.0, None),
        ]
    );
    assert_eq!(course.cast[3].role, Role::Rogue);
}

#[test]
fn whatever_is_measured_has_a_moment_at_which_to_look() {
    let mut met = BTreeSet::new();
    let mut phone = link_course("phone");
    phone.cast.iter_mut().for_each(|member| member.knobs.down.outages = 10.0);
    for (course, lasts) in [(Course::demo(), 12.0), (phone, 20.0)] {
        let mut run = Run::new(course).expect("it fits");
        run.meter();
        run.advance(LabTime::from_secs(lasts));
        let measured = run.measured();
        for (client, moments) in measured.clients.iter().zip(&measured.moments) {
            for measure in MEASURES.iter().filter(|measure| measure.bound == Bound::Most) {
                if (measure.get)(client).is_some_and(|value| value > 0.0) {
                    let when = (measure.when)(moments).unwrap_or_else(|| panic!("{} of {}", measure.key, client.name));
                    assert!(when <= run.now(), "{}: {when}", measure.key);
                    met.insert(measure.key);
                }
            }
        }
    }
    for key in ["own_hops", "ahead", "seen_by_others", "extrapolated", "stalled", "udp_up", "udp_down"] {
        assert!(met.contains(key), "{key} is among what was met: {met:?}");
    }
}

fn link_course(name: &str) -> Course {
    let mut all = shipped().into_iter();
    let wanted = format!("links/{name}.course.toml");
    all.find(|(path, _)| path.to_string_lossy().ends_with(&wanted)).expect("it ships").1
}
