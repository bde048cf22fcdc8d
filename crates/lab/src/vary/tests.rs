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
}

#[test]
fn a_mistake_is_told_with_what_was_expected_and_the_nearest_word() {
    let mistakes = [
        ("latency", "expected KEY=VALUES"),
        ("latancy=3", "did you mean `latency`?"),
        ("plovr.latency=3", "did you mean `plover`?"),
        ("plover.latncy=3", "did you mean `latency`?"),
        ("link.hom.latency=3", "did you mean `home`?"),
        ("link.home.view_delay=3", "`view_delay` is no setting of a link"),
        ("courier.wlk=3", "did you mean `walk`?"),
        ("courier.walk=3 s", "expected a value in m/s; found `3 s`"),
        ("courier.walk=900 m/s", "expected "),
        ("latency=0..90ms", "expected a step behind a range"),
        ("latency=90..0:10", "expected a range that rises"),
        ("latency=0..90:0", "expected a range that rises"),
        ("latency=3 apples", "latency: expected"),
        ("latency=1,1", "expected each value once; found 1 ms twice"),
        ("latency=all", "`all` stands for"),
        ("prediction=on..off:1", "expected a number at the end of a range"),
        ("tick_rate=4", "expected a whole tick rate"),
        ("latency=", "latency: expected a time"),
    ];
    for (text, wanted) in mistakes {
        let said = read(text).expect_err(text);
        assert!(said.contains(wanted), "{text}: {said}");
    }
    let same = matrix(&["latency=1", "latency=2"], false).expect_err("twice");
    assert!(same.contains("found `latency` twice"), "{same}");
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
    let course = matrix.at(0);
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
