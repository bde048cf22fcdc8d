#![allow(warnings)]
mod play;
mod scenario;
use play::{Happens, words};
use scenario::{actor, machine};
use velocitas_core::Fact;
use velocitas_lab::{Happening, LabTime, Run};

#[test]
fn scratch_trace() {
    let number: u64 = std::env::var("N").unwrap().parse().unwrap();
    let w: usize = std::env::var("W").unwrap().parse().unwrap();
    let from: f64 = std::env::var("FROM").unwrap().parse().unwrap();
    let to: f64 = std::env::var("TO").unwrap().parse().unwrap();
    let thing = std::env::var("THING").ok();
    let text = words(number, 60.0, Happens::ALL);
    std::fs::write("/tmp/w.toml", &text).unwrap();
    let mut run = Run::new(play::course(&text)).expect("it fits");
    run.advance(LabTime::from_secs(to));
    let r = run.record();
    let m = machine(r, w);
    for (i, act) in r.cast.actors.iter().enumerate() {
        println!("actor {i} {:?} {} kind {}", act.id, act.name, act.kind);
    }
    let want = thing.map(|t| t.parse::<usize>().unwrap());
    for own in r.of(m).own.iter() {
        println!("== own {:?}", own.actor);
        if want.is_some_and(|w| own.actor.index() != w) || (want.is_none() && own.actor != actor(r, w)) {
            continue;
        }
        let t = r.authority(own.actor);
        for i in t.between(LabTime::from_secs(from), LabTime::from_secs(to)) {
            println!("auth {:?} {:?} {:?}", t.head(i).map(|h| (h.tick, h.at)), t.state(i).vec3(0), t.state(i).vec3(3));
        }
        let p = &own.predicted;
        for i in p.between(LabTime::from_secs(from), LabTime::from_secs(to)) {
            println!("own {:?} {:?} {:?}", p.head(i).map(|h| (h.tick, h.at)), p.state(i).vec3(0), p.state(i).vec3(3));
        }
    }
    for row in r.of(m).happenings.iter().filter(|row| row.at > LabTime::from_secs(from)) {
        println!("{} {:?}", row.at, row.what);
    }
}
