//! How near everybody comes to what the guard allows, counted while a run goes on.

use velocitas_analysis::nearness::{BIN, Nearness, beyond, bin, together};
use velocitas_core::Rule;
use velocitas_lab::{Course, Run};
use velocitas_record::record::MeasureRow;
use velocitas_record::{Command, LabTime, MemberId, Sudden};

#[test]
fn what_is_counted_as_it_runs_is_what_a_recount_finds() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    let mut nearness = Nearness::default();
    for tenth in 1..120u32 {
        run.advance(LabTime::from_secs(f64::from(tenth) / 10.0));
        if tenth == 80 {
            // Back, and otherwise on.
            run.resume_from(LabTime::from_secs(5.0));
            let frozen = Sudden::Freeze(LabTime::from_secs(0.4));
            run.command(Command::Happens(MemberId::new(3), frozen));
            run.advance(LabTime::from_secs(8.0));
        }
        assert!(nearness.follow(&run, tenth % 2 == 0));
    }
    let (record, mut told) = (run.record(), 0);
    for machine in record.cast.players() {
        for row in record.of(machine).measures.iter().filter(|row| row.at < run.now()) {
            let near = nearness.all().iter().find(|near| (near.machine, near.rule) == (machine, row.rule()));
            let near = near.expect("it was counted");
            let same = |other: &MeasureRow| {
                other.rule() == row.rule() && bin(f64::from(other.share())) == bin(f64::from(row.share()))
            };
            let all = record.of(machine).measures.iter().filter(|r| r.at < run.now() && same(r)).count();
            assert_eq!(near.bins[bin(f64::from(row.share()))] as usize, all);
            told += 1;
            if told > 300 {
                return;
            }
        }
    }
    assert!(told > 100, "{told} measures");
}

#[test]
fn whoever_reads_the_lines_of_the_record_counts_the_same() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.advance(LabTime::from_secs(12.0));
    let mut nearness = Nearness::default();
    nearness.follow(&run, true);
    let mut counted = std::collections::BTreeMap::<(String, usize), u32>::new();
    velocitas_lab::export::each_of(run.record(), "measure", |row| {
        let share = row["measured"].as_f64().expect("a number") / row["limit"].as_f64().expect("a number");
        let (at, rule) = (row["at_ns"].as_u64().expect("when"), row["rule"].as_str().expect("its name"));
        if at < run.now().0 {
            *counted.entry((rule.to_owned(), (share / 0.1) as usize)).or_default() += 1;
        }
    });
    let mut told = std::collections::BTreeMap::<(String, usize), u32>::new();
    for near in nearness.all() {
        for (i, count) in near.bins.iter().enumerate().filter(|(_, count)| **count > 0) {
            *told.entry((near.rule.name().to_owned(), i * 25 / 100)).or_default() += count;
        }
    }
    let total = |all: &std::collections::BTreeMap<(String, usize), u32>| all.values().sum::<u32>();
    assert_eq!(total(&counted), total(&told));
    // Tenths of what is allowed, of the honest and rogues together; what lies on a line between two may lie in either.
    for (of, count) in &told {
        let found = counted.get(of).copied().unwrap_or(0);
        assert!(found.abs_diff(*count) <= count / 20 + 5, "{of:?}: {count} and {found}");
    }
}

#[test]
fn the_demo_finds_the_honest_below_their_limits_and_the_rogue_beyond() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.advance(LabTime::from_secs(20.0));
    let mut nearness = Nearness::default();
    assert!(nearness.follow(&run, true));
    let told = [Rule::Reach, Rule::Edge, Rule::Support, Rule::Pace, Rule::Burst, Rule::Accel, Rule::Growth, Rule::Turn];
    assert!(nearness.rules().iter().all(|rule| told.contains(rule)), "{:?}", nearness.rules());
    let line = (1.0 / BIN).round() as usize;
    let (honest, rogue) = (nearness.of(run.record(), Rule::Reach, false), nearness.of(run.record(), Rule::Reach, true));
    assert_eq!(beyond(&honest, line), (0, 0));
    let found = rogue.iter().map(|near| near.beyond).sum::<u32>();
    assert!(found > 3 && beyond(&rogue, line) == (found, 1), "{found}");
    // A tighter line accuses the honest.
    assert!(beyond(&honest, line / 2).0 > 100);
    assert!(together(&honest).iter().sum::<u32>() > 1000);
}
