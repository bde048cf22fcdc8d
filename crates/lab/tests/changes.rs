//! Rules and grounds that change under owners who claim: nobody honest is accused for what it did before.

use crate::scenario::{Words, machine};
use velocitas_core::{Fact, SolidId};
use velocitas_lab::Run;
use velocitas_record::{Command, Happening, LabTime, Reach};

/// A run of 24 seconds over a bad link in which things are done at some seconds; the verdicts on its only player.
fn verdicts(gait: &str, solids: &str, done: &[(f64, Command)]) -> Vec<(LabTime, Fact)> {
    let rest = format!(
        "{solids}\n[[cast]]\nname = \"curlew\"\nrole = \"bot\"\ngait = \"{gait}.gait\"\narrangement = \"claims\"\nlink = \"test\"\n\
         spawn = [0, 0]\nroute = [{{ at = [20, 0], hold = [{}] }}, {{ at = [-20, 0] }}]\n",
        if gait == "courier" { "\"sprint\"" } else { "" }
    );
    let link = "latency = \"60 ms\"\njitter = \"30 ms\"\nloss = \"3 %\"\nbunch = \"50 ms\"";
    let mut run = Run::new(Words { link, rest, ..Words::default() }.course()).expect("it fits");
    for (at, command) in done {
        run.advance(LabTime::from_secs(*at));
        run.command(*command);
    }
    run.advance(LabTime::from_secs(24.0));
    let rows = run.record().of(machine(run.record(), 0)).happenings.iter();
    let found = rows.filter_map(|row| match row.what {
        Happening::Fact(fact @ Fact::Verdict(_)) => Some((row.at, fact)),
        _ => None,
    });
    found.collect()
}

fn tune(tunable: &'static str, value: f32) -> Command {
    // The built-in walker is the first rule.
    Command::Tune { kind: 1, tunable, value, reach: Reach::All }
}

#[test]
fn whoever_was_faster_may_be_until_it_has_slowed_down() {
    let courier =
        [(3.0, tune("walk", 2.0)), (9.0, tune("grip", 4.0)), (12.0, tune("walk", 6.0)), (17.0, tune("walk", 1.0))];
    assert_eq!(verdicts("courier", "", &courier), []);
    // A ferry has way on for long.
    let ferry = [(6.0, tune("thrust", 3000.0)), (14.0, tune("drag", 2.0))];
    assert_eq!(verdicts("ferry", "", &ferry), []);
}

#[test]
fn what_comes_to_be_around_somebody_is_none_of_its_doing() {
    let solids: String = (0..8)
        .map(|i| {
            let x = -14 + i * 4;
            format!("[[solid]]\nname = \"gate {i}\"\nat = [{x}, 0]\nsize = [3, 2]\nheight = \"2 m\"\nknown_to = \"nobody\"\n")
        })
        .collect();
    let there = |at: f64, i: u16, there: bool| (at, Command::Solid { solid: SolidId(i), there, reach: Reach::All });
    let done: Vec<(f64, Command)> = (0..8)
        .flat_map(|i| [there(3.0, i, true), there(5.0, i, false), there(9.0, i, true), there(11.0, i, false)])
        .collect();
    let mut done = done;
    done.sort_by(|a, b| a.0.total_cmp(&b.0));
    assert_eq!(verdicts("courier", &solids, &done), []);
}
