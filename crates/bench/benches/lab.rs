//! How fast virtual time runs, and how fast it runs back. `cargo bench -p velocitas-bench --bench lab`.

#![allow(missing_docs, reason = "criterion's macros make undocumented functions")]

use criterion::{BatchSize, Criterion, criterion_group, criterion_main};
use velocitas_analysis::cause::Findings;
use velocitas_core::{Correction, Fact};
use velocitas_lab::diagnose::TroubleCase;
use velocitas_lab::{Course, Run};
use velocitas_record::{Happening, LabTime, MachineId, Unrecorded};

fn demo(seconds: f64) -> Run {
    let mut run = Run::new(Course::demo()).expect("the demo fits");
    run.advance(LabTime::from_secs(seconds));
    run
}

fn lab(c: &mut Criterion) {
    let mut group = c.benchmark_group("lab");
    group.sample_size(10);
    group.bench_function("ten seconds of the demo, recorded", |b| b.iter(|| demo(10.0)));
    let minute = demo(63.9);
    group.bench_function("resume from 30 s ago", |b| {
        let at = LabTime::from_secs(33.9);
        b.iter_batched(
            || minute.clone(),
            |mut run| {
                run.resume_from(at);
                run
            },
            BatchSize::LargeInput,
        );
    });
    group.bench_function("branch ten seconds back and run it up to now", |b| {
        let at = minute.now().minus(LabTime::from_secs(10.0));
        b.iter(|| {
            let mut branch = minute.branch(at).expect("it is kept");
            branch.advance(minute.now());
            branch
        });
    });
    // Each as far from its checkpoint as can be.
    let long = demo(140.0);
    for (name, at) in [("a moment of the last minute", 139.9), ("one of long ago", 15.9)] {
        let at = LabTime::from_secs(at);
        group.bench_function(format!("again: {name}"), |b| b.iter(|| long.again(at, at, &mut Unrecorded)));
    }
    group.bench_function("figures of ten seconds", |b| {
        let moment = minute.moment(minute.now());
        let machine = minute.record().cast.players().next().expect("somebody plays");
        b.iter(|| moment.figures(machine, LabTime::from_secs(10.0)));
    });
    let corrected: Vec<_> = minute.record().cast.players().flat_map(|m| corrections(&minute, m)).collect();
    group.bench_function(format!("why: each of {} corrections of the demo", corrected.len()), |b| {
        b.iter_batched(
            Findings::default,
            |findings| {
                let record = minute.record();
                corrected.iter().map(|(m, at, c)| findings.of(record, *m, *at, c).replays).sum::<u32>()
            },
            BatchSize::LargeInput,
        );
    });
    let plover = minute.record().cast.players().next();
    let (from, to) = (LabTime::from_secs(1.0), LabTime::from_secs(11.0));
    group.bench_function("diagnose ten seconds of the demo, every remedy in turn", |b| {
        b.iter(|| {
            let case = TroubleCase::of(&minute, plover, from, to).expect("there is a trouble");
            case.remedies.iter().map(|remedy| case.try_out(remedy).left).sum::<f64>()
        });
    });
    group.finish();
}

/// Everything that a machine took back.
fn corrections(run: &Run, machine: MachineId) -> Vec<(MachineId, LabTime, Correction)> {
    let rows = run.record().of(machine).happenings.iter();
    rows.filter_map(|row| match row.what {
        Happening::Fact(Fact::Corrected(c)) => Some((machine, row.at, c)),
        _ => None,
    })
    .collect()
}

criterion_group!(benches, lab);
criterion_main!(benches);
