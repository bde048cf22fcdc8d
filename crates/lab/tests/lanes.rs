//! Figures over time, as the demo gives them.

use velocitas_analysis::lane::*;
use velocitas_analysis::metrics::measure;
use velocitas_lab::{Course, Run};
use velocitas_record::{Command, LabTime, MemberId, Sudden};

fn run(seconds: f64) -> Run {
    let mut run = Run::new(Course::demo()).expect("the demo fits");
    run.advance(LabTime::from_secs(seconds));
    run
}

fn subject(run: &Run, member: u16, viewer: u16) -> Subject {
    let machine = |member| run.course().machine(MemberId::new(member));
    Subject {
        machine: machine(member),
        actor: run.record().cast.body(machine(member), run.now()),
        viewer: machine(viewer),
    }
}

/// All columns between two moments, read at once by a strip of their own.
fn fresh(run: &Run, lane: &'static Lane, of: Subject, slice: LabTime, columns: (u64, u64)) -> Vec<Option<Column>> {
    let mut strip = Strip::new(lane, of, slice);
    strip.read(run, columns, Effort::WHOLE, &mut Reader::default());
    (columns.0..columns.0 + columns.1).map(|n| strip.column(n).copied()).collect()
}

#[test]
fn every_lane_has_samples_in_the_demo_in_order_and_within_what_was_asked_for() {
    let run = run(22.0);
    let (from, to) = (LabTime::from_secs(9.0), LabTime::from_secs(20.0));
    for lane in &LANES {
        let mut any = 0;
        // Plover predicts, magpie claims.
        for member in [0, 4] {
            for of in samples(run.record(), lane, subject(&run, member, 1), from, to) {
                any += of.len();
                assert!(of.iter().all(|(at, value)| (from..to).contains(at) && value.is_finite()), "{}", lane.key);
            }
        }
        assert!(any > 0, "{} is never told", lane.key);
        assert!(lane.series.len() <= MOST_SERIES);
        assert_eq!(Lane::of_key(lane.key).map(|found| found.name), Some(lane.name));
    }
}

#[test]
fn a_spike_of_one_tick_is_in_its_column_at_any_zoom() {
    let run = run(22.0);
    let lane = Lane::of_key("error").expect("it is in the table");
    let of = subject(&run, 0, 0);
    let all = samples(run.record(), lane, of, LabTime::ZERO, LabTime::from_secs(20.0));
    let (at, worst) = all[0].iter().copied().max_by(|a, b| a.1.total_cmp(&b.1)).expect("it erred");
    assert!(worst > 0.05);
    for ms in [10.0, 40.0, 640.0, 5120.0] {
        let slice = LabTime::from_millis(ms);
        let number = at.0 / slice.0;
        let cells = fresh(&run, lane, of, slice, (number, 1));
        assert_eq!(cells[0].and_then(|c| c[0]).map(|c| c.most), Some(worst), "{ms} ms");
    }
}

#[test]
fn a_strip_that_followed_a_run_is_as_one_that_reads_it_at_its_end() {
    let mut run = run(3.0);
    let slice = LabTime::from_millis(80.0);
    let columns = (0, 150);
    let mut reader = Reader::default();
    let of = subject(&run, 0, 1);
    let mut strips: Vec<Strip> = LANES.iter().map(|lane| Strip::new(lane, of, slice)).collect();
    let mut follow = |run: &Run, strips: &mut Vec<Strip>| {
        for strip in strips {
            let effort = Effort { most: LabTime::from_secs(1.0), pace: LabTime::ZERO };
            while !strip.has(run, columns, effort.pace) {
                strip.read(run, columns, effort, &mut reader);
            }
        }
    };
    for tenth in 31..=100u32 {
        run.advance(LabTime::from_secs(f64::from(tenth) / 10.0));
        follow(&run, &mut strips);
    }
    // Back, something else, and on again.
    run.resume_from(LabTime::from_secs(6.0));
    let push = Sudden::Push(velocitas_core::vec3(0.0, 7.0, 0.0));
    run.command(Command::Happens(MemberId::new(0), push));
    run.advance(LabTime::from_secs(11.0));
    follow(&run, &mut strips);
    for (lane, strip) in LANES.iter().zip(&strips) {
        let read: Vec<Option<Column>> = (columns.0..columns.1).map(|n| strip.column(n).copied()).collect();
        assert_eq!(read, fresh(&run, lane, of, slice, columns), "{}", lane.key);
    }
}

#[test]
fn lanes_agree_with_the_figures_of_the_same_stretch() {
    let run = run(24.0);
    let (from, to) = (LabTime::from_secs(8.0), LabTime(16_000_000_000 - 1));
    let of = subject(&run, 0, 1);
    let measured = measure(run.record(), of.machine, from, to);
    let series = |key: &str| {
        let lane = Lane::of_key(key).expect("it is in the table");
        samples(run.record(), lane, of, from, LabTime(to.0 + 1))
    };
    let most = |values: &[(LabTime, f64)]| values.iter().map(|(_, v)| *v).fold(f64::NAN, f64::max);
    assert_eq!(Some(most(&series("error")[0])), measured.prediction_error_m.max);
    assert_eq!(series("jump")[0].len() as u32, measured.corrections.count);
    assert_eq!(series("late")[1].len() as u32, measured.inputs.repeated + measured.inputs.rested);
    let replayed: f64 = series("replayed")[0].iter().map(|(_, ticks)| ticks).sum();
    assert!(replayed as u64 >= measured.corrections.replayed_ticks, "those that settled are replayed as well");
    // The last kilobytes a second are those of the last second.
    let rate = value_at(run.record(), Lane::of_key("bytes-up").expect("there"), of, LabTime::from_secs(16.0));
    let second = measure(run.record(), of.machine, LabTime(15_000_000_001), LabTime::from_secs(16.0));
    assert_eq!(rate.iter().flatten().sum::<f64>(), second.bytes_up as f64 / 1e3);
}

#[test]
fn a_value_is_the_newest_at_its_moment() {
    let run = run(12.0);
    let of = subject(&run, 0, 0);
    let lane = Lane::of_key("lead").expect("it is in the table");
    let at = LabTime::from_secs(10.0);
    let newest = samples(run.record(), lane, of, LabTime::from_secs(9.0), LabTime(at.0 + 1))[0].last().copied();
    assert_eq!(value_at(run.record(), lane, of, at)[0], newest.map(|(_, ticks)| ticks));
    // Nothing is told of who has not come.
    let nobody = Subject { actor: None, ..of };
    assert_eq!(value_at(run.record(), Lane::of_key("speed").expect("there"), nobody, at), [None; MOST_SERIES]);
}

#[test]
fn at_a_pace_little_is_read_again_and_nothing_ever_goes_missing() {
    let mut run = run(5.0);
    let lane = Lane::of_key("drawn-error").expect("in the table");
    let (of, slice, columns) = (subject(&run, 0, 1), LabTime::from_millis(40.0), (0, 150));
    let mut strip = Strip::new(lane, of, slice);
    let mut reader = Reader::default();
    let effort = Effort { most: LabTime::from_secs(1.0), pace: lane.pace() };
    (0..9).for_each(|_| strip.read(&run, columns, effort, &mut reader));
    let known = |strip: &Strip| (0..150).filter(|n| strip.column(*n).is_some()).count();
    let mut before = known(&strip);
    for frame in 1..=30u32 {
        run.advance(LabTime::from_secs(5.0 + f64::from(frame) / 30.0));
        strip.read(&run, columns, effort, &mut reader);
        assert!(known(&strip) >= before, "frame {frame}");
        before = known(&strip);
    }
    // As soon as time stands it is as it is.
    let whole = Effort { pace: LabTime::ZERO, ..effort };
    while !strip.has(&run, columns, LabTime::ZERO) {
        strip.read(&run, columns, whole, &mut reader);
    }
    let read: Vec<Option<Column>> = (0..150).map(|n| strip.column(n).copied()).collect();
    assert_eq!(read, fresh(&run, lane, of, slice, columns));
}

/// The mean of a lane's first series in a second.
fn mean(run: &Run, key: &str, second: f64) -> f64 {
    let lane = Lane::of_key(key).expect("it is in the table");
    let (from, to) = (LabTime::from_secs(second), LabTime::from_secs(second + 1.0));
    let all = samples(run.record(), lane, subject(run, 0, 0), from, to);
    all[0].iter().map(|(_, value)| value).sum::<f64>() / all[0].len() as f64
}

#[test]
fn what_a_client_takes_the_servers_time_to_be_is_held_against_what_it_is() {
    for (clock, most) in [("timestamps", 5.0), ("told", 9.0), ("margins", 17.0), ("assumed", f64::INFINITY)] {
        let text = format!(
            "format = 1\nname = \"clocks\"\ntick_rate = \"60 Hz\"\nsnapshot_every = 3\n[world]\nmin = [-30, -20]\nmax = [30, 20]\n\
             [link.even]\nlatency = \"60 ms\"\njitter = \"4 ms\"\n\
             [[cast]]\nname = \"plover\"\nrole = \"bot\"\nlink = \"even\"\nspawn = [0, 0]\nrandom = \"2 /s\"\n\
             host = {{ clock_drift = \"400 ppm\" }}\nsettings = {{ clock = \"{clock}\" }}\n"
        );
        let mut run = Run::new(Course::parse("clocks", &text, &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
        run.advance(LabTime::from_secs(62.0));
        let (begin, end) = (mean(&run, "offset", 5.0), mean(&run, "offset", 60.0));
        assert!(begin.abs() < most && end.abs() < most, "{clock}: {begin} ms, {end} ms");
        // 400 millionths of 55 seconds.
        let drifted = end - begin;
        assert_eq!((drifted - 22.0).abs() < 2.0, clock == "assumed", "{clock}: {drifted} ms");
    }
}

#[test]
fn what_waits_in_a_stream_is_counted_while_it_does() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../courses/links/phone.course.toml");
    let text = std::fs::read_to_string(path).expect("it ships");
    let settings = "[defaults]\ninputs_over = \"stream\"\nsnapshots_over = \"stream\"\n\n[world]";
    let text = text.replacen("[world]", settings, 1);
    let mut run = Run::new(Course::parse(path, &text, &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    run.advance(LabTime::from_secs(30.0));
    let lane = Lane::of_key("held").expect("it is in the table");
    let of = subject(&run, 0, 0);
    let all = samples(run.record(), lane, of, LabTime::ZERO, LabTime::from_secs(24.0));
    let told: Vec<_> =
        velocitas_analysis::held::held_back(run.record(), of.machine, LabTime::ZERO, run.now()).collect();
    for (series, up) in [(0, true), (1, false)] {
        assert!(all[series].iter().any(|(_, n)| *n > 1.0) && all[series].iter().any(|(_, n)| *n == 0.0));
        for (at, count) in &all[series] {
            let waits = told.iter().filter(|held| held.up == up && held.since <= *at && *at < held.until);
            assert_eq!(*count, waits.count() as f64, "{at}");
        }
    }
}
