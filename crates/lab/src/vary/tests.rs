use velocitas_analysis::budget::Measure;
use velocitas_record::knob::KnobValue;
use velocitas_record::settings::Knob;

use super::*;

fn read(text: &str) -> Result<Axis, String> {
    Axis::read(text, &Course::demo()).map_err(|why| why.to_string())
}

fn values(text: &str) -> Vec<String> {
    let axis = read(text).unwrap_or_else(|why| panic!("{why}"));
    axis.shown().values
}

fn matrix(axes: &[&str], in_step: bool) -> Result<Matrix, String> {
    let course = Course::demo();
    let axes =
        axes.iter().map(|text| Axis::read(text, &course)).collect::<Result<_, _>>().map_err(|e| e.to_string())?;
    Matrix::new(course, axes, in_step).map_err(|why| why.to_string())
}

#[test]
fn values_are_lists_ranges_and_choices_in_any_unit() {
    assert_eq!(values("latency=0ms..60ms:20ms"), ["0 ms", "20 ms", "40 ms", "60 ms"]);
    assert_eq!(values("latency=0..0.05s:20ms"), ["0 ms", "20 ms", "40 ms"], "the last step falls short of the end");
    assert_eq!(values("snapshot_every=1,3,6"), ["1 tick", "3 tick", "6 tick"]);
    assert_eq!(values("loss=0..0.3%:0.1%"), ["0 %", "0.1 %", "0.2 %", "0.3 %"], "sums of tenths are tenths");
    assert_eq!(values("prediction=all"), ["on", "off"]);
    assert_eq!(values("view_delay=auto, 100 ms"), ["auto", "100 ms"]);
    assert_eq!(values("courier.walk=3 m/s..4 m/s:0.5 m/s"), ["3 m/s", "3.5 m/s", "4 m/s"]);
    assert_eq!(values("tick_rate=30..60:30"), ["30 Hz", "60 Hz"]);
    assert_eq!(values("loss=0.01%,0.02%"), ["0.01 %", "0.02 %"], "what differs looks different");
    assert_eq!(values("server.frame_rate=30Hz..90Hz:30"), ["30 Hz", "60 Hz", "90 Hz"]);
    assert_eq!(values("copies=1..3:1"), ["1", "2", "3"]);
    assert_eq!(values("missing=all"), ["hold", "fade", "rest", "wait"]);
    assert_eq!(values("plover.missing=rest,hold"), ["rest", "hold"]);
    assert_eq!(values("profile=all").len(), crate::PROFILES.len());
    assert_eq!(values("teal.arrangement=all"), velocitas_core::Arrangement::ALL.map(velocitas_core::Arrangement::name));
    assert!(values("guard.checks=all").starts_with(&["full".to_owned()]));
    let numbers = |text: &str| read(text).expect("it is one").shown();
    assert_eq!(numbers("silence.gone=500 ms,3 s").numbers, None, "of two units there is no axis");
    assert_eq!((numbers("latency=1,2").numbers, numbers("latency=1,2").unit), (Some(vec![1.0, 2.0]), "ms".to_owned()));
}

#[test]
fn a_mistake_is_told_with_what_was_expected_and_the_nearest_word() {
    let mistakes = [
        ("latency", "expected KEY=VALUES"),
        ("latancy=3", "did you mean `latency`?"),
        ("plovr.latency=3", "did you mean `plover`?"),
        ("plover.latncy=3", "did you mean `latency`?"),
        ("missing=hodl", "expected hold, fade, rest or wait; found `hodl`; did you mean `hold`?"),
        ("link.hom.latency=3", "did you mean `home`?"),
        ("link.home.view_delay=3", "`view_delay` is no setting of a link"),
        ("courier.wlk=3", "did you mean `walk`?"),
        ("courier.walk=3 s", "expected a value in m/s; found `3 s`"),
        ("courier.walk=900 m/s", "expected "),
        ("latency=0..90ms", "expected a step behind a range"),
        ("latency=90..0:10", "expected a range that rises"),
        ("latency=0..90:0", "expected a range that rises"),
        ("latency=3 apples", "latency: expected"),
        ("latency=all", "`all` stands for"),
        ("prediction=on..off:1", "expected a number at the end of a range"),
        ("tick_rate=4", "expected a whole tick rate"),
        ("latency=", "latency: expected a time"),
        ("copies=0", "expected how often, 1 or more"),
        ("copes=2", "did you mean `copies`?"),
        ("link.home.copies=2", "`copies` is no setting of a link"),
        ("link.home.profile=fone", "did you mean `phone`?"),
        ("server.frame_rat=30 Hz", "did you mean `frame_rate`?"),
        ("guard.anser.reach=note", "did you mean `guard.answer`?"),
        ("guard.answer.rech=note", "did you mean `reach`?"),
        ("silence.gon=3 s", "did you mean `gone`?"),
        ("server.frame_rate=30 Hz..60 fps:10 Hz", "expected one unit in a range; found Hz and fps"),
    ];
    for (text, wanted) in mistakes {
        let said = read(text).expect_err(text);
        assert!(said.contains(wanted), "{text}: {said}");
    }
    let same = matrix(&["latency=1", "latency=2"], false).expect_err("twice");
    assert!(same.contains("found `latency` twice"), "{same}");
    let twice = matrix(&["loss=2", "latency=1,1"], false).expect_err("twice");
    assert_eq!(twice, "latency: expected each value once; found 1 ms twice");
    let steps = matrix(&["loss=2,2,3", "latency=1,5,5"], true).map(|matrix| matrix.grid().cells());
    assert_eq!(steps, Ok(3), "each step is another");
    let twice = matrix(&["loss=2,3,2", "latency=1,5,1"], true).expect_err("twice");
    assert_eq!(twice, "loss, latency: expected each value once; found 2 %, 1 ms twice");
    let uneven = matrix(&["latency=1,2", "loss=1,2,3"], true).expect_err("uneven");
    assert!(uneven.contains("2 of `latency` and 3 of `loss`"), "{uneven}");
    let many = ["latency=0..4:0.001", "jitter=0..4:0.001", "loss=1,2,3"];
    assert!(matrix(&many, false).is_err_and(|why| why.contains("at most 1000000 cells")));
    assert!(matrix(&[], false).is_err());
}

#[test]
fn cells_are_every_combination_or_go_in_step() {
    let all = matrix(&["latency=10,20", "loss=1,2,3"], false).expect("it is one");
    let values: Vec<Vec<&str>> = (0..all.grid().cells()).map(|cell| all.grid().values(cell)).collect();
    assert_eq!(values[..4], [["10 ms", "1 %"], ["10 ms", "2 %"], ["10 ms", "3 %"], ["20 ms", "1 %"]]);
    assert_eq!(values.len(), 6);
    let pairs = matrix(&["latency=10,20", "loss=1,2"], true).expect("it is one");
    assert_eq!(
        (0..pairs.grid().cells()).map(|cell| pairs.grid().values(cell)).collect::<Vec<_>>(),
        [["10 ms", "1 %"], ["20 ms", "2 %"]]
    );
}

#[test]
fn a_cell_is_the_course_with_its_values_and_the_narrower_holds() {
    let matrix = matrix(&["plover.latency=5", "link.home.latency=70", "latency=200", "courier.walk=3 m/s"], false)
        .expect("one cell");
    let course = matrix.at(0).expect("it can be run");
    let latency = |name: &str| {
        let member = course.member(name).expect("it is there");
        Knob::Latency.get(&course[member].knobs)
    };
    let on_home: Vec<&str> =
        course.cast.iter().filter(|m| m.link.as_deref() == Some("home")).map(|m| m.name.as_str()).collect();
    assert!(on_home.contains(&"plover") && on_home.len() < course.cast.len(), "{on_home:?}");
    for member in &course.cast {
        let wanted = match member.name.as_str() {
            "plover" => 5.0,
            name if on_home.contains(&name) => 70.0,
            _ => 200.0,
        };
        assert_eq!(latency(&member.name), KnobValue::Number(wanted), "{}", member.name);
        assert_eq!((member.knobs.up.latency_ms, member.knobs.down.latency_ms), (wanted, wanted), "both ways");
    }
    let (kind, rule) = course.kinds.iter().find(|(_, rule)| rule.name() == "courier").expect("it is in the demo");
    let walk = rule.tunables().iter().position(|t| t.name == "walk").expect("it walks");
    for side in [crate::course::KnownTo::Server, crate::course::KnownTo::Clients] {
        assert_eq!(course.known(side).tunables[usize::from(kind)][walk], 3.0);
    }
}

#[test]
fn the_worst_and_the_median_member_are_told_over_the_seeds() {
    let measure = Measure::named("view_age").expect("there is one");
    let seeds = [vec![10.0, 30.0, 900.0], vec![20.0, 40.0], vec![]];
    let cost = Cost::of(measure, &seeds).expect("there are values");
    assert_eq!(cost.worst, Range { least: 40.0, median: 40.0, greatest: 900.0 });
    assert_eq!(cost.median, Range { least: 20.0, median: 20.0, greatest: 30.0 });
    let least = Measure::named("tricks_answered").expect("there is one");
    assert_eq!(Cost::of(least, &seeds).expect("there are values").worst.least, 10.0, "the worst is the least");
    assert_eq!(Cost::of(measure, &[vec![], vec![]]), None);
}

#[test]
fn those_who_are_meant_are_named_and_rogues_only_where_it_is_of_rogues() {
    let course = Course::demo();
    let among = |text: &str| Among::read(text, &course);
    let names = |among: &Among, measure: &str| -> Vec<String> {
        let measure = Measure::named(measure).expect("there is one");
        let meant = (0..course.cast.len()).filter(|place| among.includes(&course, *place, measure));
        meant.map(|place| course.cast[place].name.clone()).collect()
    };
    let all = names(&among("all").expect("all"), "view_age");
    assert!(all.contains(&"plover".to_owned()) && !all.contains(&"magpie".to_owned()), "{all:?}");
    assert_eq!(names(&among("all").expect("all"), "tricks_answered"), ["magpie"]);
    assert_eq!(names(&among("magpie").expect("a member"), "view_age"), ["magpie"]);
    assert!(among("plovr").is_err_and(|why| why.to_string().contains("did you mean `plover`?")));
}

#[test]
fn machines_the_server_and_arrangements_are_set_as_a_course_would_write_them() {
    let at = |axes: &[&str]| matrix(axes, false).and_then(|all| all.at(0).map_err(|why| why.to_string()));
    let course = at(&["frame_rate=50 Hz", "plover.frame_rate=30 Hz", "silence.gone=3 s"]).expect("it can be run");
    let base = Course::demo();
    for member in course.members() {
        let wanted = if course[member].name == "plover" { 30.0 } else { 50.0 };
        assert_eq!(course[member].host.fps, wanted, "{}", course[member].name);
        assert_eq!(course[member].host.offset, base[member].host.offset, "and nothing else of it");
    }
    assert_eq!(course.server.fps, 50.0);
    assert_ne!(course.patience, base.patience);
    assert_eq!((course.seed, &course.text), (base.seed, &base.text));
    let followed = at(&["plover.arrangement=terminal"]).expect("it can be run");
    assert_eq!(followed[followed.member("plover").expect("there")].arrangement, velocitas_core::Arrangement::TERMINAL);
    for (refused, wanted) in [
        ("frame_rate=3 Hz", "frame_rate=3 Hz: expected 5 Hz to 1000 Hz; found 3 Hz"),
        ("plover.frame_rate=3 apples", "expected "),
        ("plover.arrangement=terminl", "did you mean `terminal`?"),
        ("magpie.arrangement=server", "expected a trick with inputs"),
        ("guard.answer.reach=shrug", "expected an answer"),
        ("copies=40", "copies=40: expected a cast of 1 to 48"),
    ] {
        let said = matrix(&[refused], false).expect_err(refused);
        assert!(said.contains(wanted), "{refused}: {said}");
    }
}

#[test]
fn every_key_of_machines_and_of_the_server_is_one_of_courses() {
    for (key, value) in [
        ("frame_rate", "30 Hz"),
        ("frame_unevenness", "10 %"),
        ("hitches", "2 /min"),
        ("hitch", "90 ms"),
        ("clock_offset", "300 ms"),
        ("clock_drift", "43 ppm"),
        ("phase", "3.3 ms"),
    ] {
        assert!(edit::HOST_KEYS.contains(&key));
        for whose in ["", "server.", "plover."] {
            let set = format!("{whose}{key}={value}");
            let all = matrix(&[&set], false).unwrap_or_else(|why| panic!("{set}: {why}"));
            let (course, base) = (all.at(0).expect("it can be run"), Course::demo());
            assert_eq!(course.server != base.server, whose != "plover.", "{set}");
            assert_eq!(course.cast[0].host != base.cast[0].host, whose != "server.", "{set}");
        }
    }
    for set in [
        "silence.hold=90 ms",
        "silence.gone=4 s",
        "silence.keep=9 s",
        "guard.checks=all",
        "guard.strikes=2",
        "guard.within=9 s",
        "guard.answer.reach=note",
        "guard.allowed.reach=1.1 times",
    ] {
        assert!(matrix(&[set], false).is_ok(), "{set}");
    }
}

#[test]
fn a_profile_is_all_of_a_link_and_what_is_set_besides_holds() {
    let all = matrix(&["latency=30", "profile=phone", "plover.profile=fibre"], false).expect("one cell");
    let course = all.at(0).expect("it can be run");
    let named = |name: &str| crate::Profile::named(name).expect("there is one");
    for member in &course.cast {
        let wanted = if member.name == "plover" { named("fibre").down } else { named("phone").down };
        let latency_ms = if member.name == "plover" { wanted.latency_ms } else { 30.0 };
        assert_eq!(member.knobs.down, velocitas_record::Conditions { latency_ms, ..wanted }, "{}", member.name);
    }
}

#[test]
fn copies_are_like_those_they_are_copies_of_and_stand_beside_them() {
    let base = Course::parse("comings", crate::COMINGS, &[]).expect("it can be read");
    let axes = ["copies=2", "heron.copies=3", "heron.latency=5"].map(|text| Axis::read(text, &base).expect("an axis"));
    let matrix = Matrix::new(base.clone(), axes.to_vec(), false).expect("it is one");
    let course = matrix.at(0).expect("it can be run");
    let cast = base.cast.len();
    assert_eq!(course.cast.len(), cast * 2 + 1, "each twice, heron three times");
    assert_eq!(course.things.len(), base.things.len(), "things once");
    for place in cast..course.cast.len() {
        let name = whose::original(&course, place, cast);
        let (copy, original) = (&course.cast[place], &course[course.member(name).expect("it is there")]);
        let apart = copy.spawn - original.spawn;
        assert!((1.0..=8.0).contains(&f64::from(apart.x.hypot(apart.y))), "{} is {apart:?} apart", copy.name);
        assert_eq!(
            (copy.kind, copy.role, copy.knobs, copy.there),
            (original.kind, original.role, original.knobs, original.there)
        );
        let moves = |name: &str| {
            let member = course.member(name).expect("it is there");
            let of =
                course.events.iter().filter(|event| matches!(event.what, crate::What::Moves(who, _) if who == member));
            of.map(|event| (event.at, event.every)).collect::<Vec<_>>()
        };
        assert_eq!(moves(&copy.name), moves(name), "{} comes and goes as {name} does", copy.name);
    }
    let spawns: BTreeSet<[u32; 2]> =
        course.cast.iter().map(|member| [member.spawn.x.to_bits(), member.spawn.y.to_bits()]).collect();
    assert_eq!(spawns.len(), course.cast.len(), "nobody begins where another does");
    let heron = Among::read("heron", &base).expect("it is there");
    let measure = Measure::named("view_age").expect("there is one");
    let meant = (0..course.cast.len()).filter(|place| heron.includes(&course, *place, measure));
    assert_eq!(
        meant.map(|place| course.cast[place].name.as_str()).collect::<Vec<_>>(),
        ["heron", "heron 2", "heron 3"]
    );
    crate::Run::new(course).expect("and it runs").advance(velocitas_record::LabTime::from_secs(0.5));
}
