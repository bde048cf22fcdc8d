//! What rogues gain by what happens, and what is said of that: told truly.

use crate::scenario::Words;
use velocitas_analysis::metrics::ClientMetrics;
use velocitas_lab::{Course, Run};
use velocitas_record::LabTime;

/// How far east the only member of a course is after `seconds`, with its figures.
fn after(text: &str, seconds: f64) -> (f64, ClientMetrics) {
    let course = Course::parse("rogues.course.toml", text, &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut run = Run::new(course).expect("it fits");
    run.advance(LabTime::from_secs(seconds));
    let record = run.record();
    let track = record.authority(crate::scenario::actor(record, 0));
    let at = track.between(LabTime::ZERO, LabTime::from_secs(seconds)).last().expect("some");
    (f64::from(track.pos(at).x), crate::scenario::measure(record, 0, LabTime::ZERO, run.now()))
}

#[test]
fn what_was_allowed_for_a_moment_is_not_allowed_for_long() {
    let text = include_str!("rogues/a-tune-for-a-moment.course.toml");
    let trick = text.lines().find(|line| line.starts_with("trick")).expect("there is one");
    let (rogue, figures) = after(text, 64.2);
    let (honest, _) = after(&text.replace(trick, ""), 64.2);
    // Its speed is bent for a minute, of which three seconds are those of a turned tunable and what follows it.
    assert!(rogue < honest + 1.0, "{rogue} against {honest}");
    assert!(figures.verdicts["reach"] > 100 && figures.gain_m < Some(3.0), "{figures:?}");
}

/// Somebody who runs east into a solid that comes to be around it.
fn waits(trick: &str, solid: &str) -> String {
    let cast = format!(
        "[[solid]]\nname = \"late\"\nknown_to = \"nobody\"\n{solid}\n[[cast]]\nname = \"magpie\"\nrole = \"rogue\"\n\
         arrangement = \"claims\"\ngait = \"courier.gait\"\nlink = \"test\"\nspawn = [0, 0]\n\
         script = [{{ lasts = \"2 s\" }}, {{ lasts = \"60 s\", stick = [0, 1], facing = \"0 deg\" }}]\n{trick}\n\
         [[event]]\nat = \"2 s\"\nground = {{ solid = \"late\", known_to = \"all\" }}\n"
    );
    Words { link: "latency = \"20 ms\"", rest: cast, ..Words::default() }.text()
}

#[test]
fn who_waits_for_a_solid_to_come_gains_its_own_width_at_most() {
    let wall = "at = [1.0, 0]\nsize = [2, 30]\nheight = \"3 m\"";
    let (honest, _) = after(&waits("", wall), 12.0);
    let (rogue, m) = after(&waits("trick = [{ walls = true, at = \"1 s\", lasts = \"8 s\" }]", wall), 12.0);
    // Pushed out on the side from which it came, as whoever is honest is once the trick is over.
    assert!(honest < -0.3 && (rogue - honest).abs() < 0.75, "{rogue} and {honest}");
    assert!(m.resync_reasons["around"] > 10 && m.gain_m < Some(0.1), "{m:?}");
    let through = after(&waits("trick = [{ walls = true, at = \"1 s\", lasts = \"60 s\" }]", wall), 30.0).0;
    assert!(through - honest < 0.75, "{through}: it stays where it was when that came");
}
