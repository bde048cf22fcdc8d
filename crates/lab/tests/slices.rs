//! What the rail shows, cut while a run goes on.

use velocitas_analysis::slices::{Sliced, Slices, slices};
use velocitas_lab::{Course, Run};
use velocitas_record::{Command, LabTime, MemberId, Sudden};

#[test]
fn what_was_cut_while_it_ran_is_as_if_it_were_cut_at_once() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    let machine = run.course().machine(MemberId::new(0));
    let of = (LabTime::from_secs(1.0), LabTime::from_millis(80.0), 150, machine);
    let mut sliced = Sliced::default();
    let told = |s: &Slices| format!("{s:?}");
    for tenth in 1..160u32 {
        run.advance(LabTime::from_secs(f64::from(tenth) / 10.0));
        if tenth == 90 {
            // Back, and otherwise on.
            run.resume_from(LabTime::from_secs(5.0));
            let push = Sudden::Push(velocitas_core::vec3(0.0, 9.0, 0.0));
            run.command(Command::Happens(MemberId::new(0), push));
            run.advance(LabTime::from_secs(9.0));
        }
        sliced.follow(&run, of);
        let whole = slices(run.record(), of.0, of.1, of.2, of.3);
        assert_eq!(sliced.get(of).map(told), Some(told(&whole)), "at {tenth} tenths");
    }
    assert!(sliced.get((LabTime::ZERO, of.1, of.2, of.3)).is_none());
}
