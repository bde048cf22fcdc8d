//! Many runs at once: on as many threads as are asked for, with results in the order of what was asked, whatever ends first.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc;

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use rayon::{ThreadPool, ThreadPoolBuildError, ThreadPoolBuilder};
use velocitas_record::time::LabTime;

use crate::course::Course;
use crate::run::{Run, RunError};

/// Virtual time between two words on how far it is.
const GRAIN: LabTime = LabTime(1_000_000_000);

/// Runs on to a moment, telling on the way how much virtual time has passed.
pub fn run_on(run: &mut Run, to: LabTime, passed: &(impl Fn(LabTime) + Sync)) {
    // What is over comes no further.
    while run.now() < to && !run.is_over() {
        let before = run.now();
        run.advance(to.min(before.plus(GRAIN)));
        passed(run.now().minus(before));
    }
}

/// A run that is wanted for its figures: a course, a seed, and how long.
#[derive(Clone, Copy, Debug)]
pub struct Wanted<'a> {
    /// What.
    pub course: &'a Course,
    /// With which seed.
    pub seed: u64,
    /// For how long.
    pub lasts: LabTime,
}

impl<'a> Wanted<'a> {
    /// The same with `count` seeds, each the one after.
    pub fn seeds(self, count: u32) -> impl Iterator<Item = Self> + use<'a> {
        (0..u64::from(count)).map(move |n| Self { seed: self.seed.wrapping_add(n), ..self })
    }

    /// Runs it, keeping no more than figures and causes are had from; tells on the way how much virtual time has passed.
    ///
    /// # Errors
    /// When the course cannot be run.
    pub fn run(&self, passed: &(impl Fn(LabTime) + Sync)) -> Result<Run, RunError> {
        let mut run = Run::new(Course { seed: self.seed, ..self.course.clone() })?;
        run.keep_figures();
        run.meter();
        run_on(&mut run, self.lasts, passed);
        Ok(run)
    }
}

/// Threads on which runs go on.
#[derive(Debug)]
pub struct Many(ThreadPool);

impl Many {
    /// The number of threads; 0 is one for each core.
    ///
    /// # Errors
    /// When the system gives none.
    pub fn on(threads: u16) -> Result<Self, ThreadPoolBuildError> {
        ThreadPoolBuilder::new().num_threads(usize::from(threads)).build().map(Self)
    }

    /// Does a piece of work for each of what is given. Results are in the order in which that was given; where any fails, the error is
    /// that of the first in this order.
    ///
    /// # Errors
    /// Those of the work.
    pub fn each<T: Sync, R: Send, E: Send>(
        &self,
        all: &[T],
        work: impl Fn(&T) -> Result<R, E> + Sync,
    ) -> Result<Vec<R>, E> {
        let done: Vec<Result<R, E>> = self.0.install(|| all.par_iter().map(&work).collect());
        done.into_iter().collect()
    }

    /// Does `count` pieces of work, each by its number, and gives what comes of them to `take` on this thread, in order: what ends early
    /// waits for those before it. Ends at the first error in this order, of the work or of `take`.
    ///
    /// # Errors
    /// Those of the work and of `take`.
    pub fn in_order<R: Send, E: Send>(
        &self,
        count: usize,
        work: impl Fn(usize) -> Result<R, E> + Sync,
        mut take: impl FnMut(usize, R) -> Result<(), E>,
    ) -> Result<(), E> {
        let (next, is_over) = (AtomicUsize::new(0), AtomicBool::new(false));
        let (tell, told) = mpsc::channel();
        let mut done = Ok(());
        self.0.in_place_scope(|scope| {
            for _ in 0..self.0.current_num_threads().min(count) {
                let (tell, next, is_over, work) = (tell.clone(), &next, &is_over, &work);
                scope.spawn(move |_| {
                    while !is_over.load(Ordering::Relaxed) {
                        let place = next.fetch_add(1, Ordering::Relaxed);
                        // Nobody listens any more where something went wrong.
                        if place >= count || tell.send((place, work(place))).is_err() {
                            return;
                        }
                    }
                });
            }
            drop(tell);
            let (mut early, mut wanted) = (BTreeMap::new(), 0);
            'told: for (place, result) in told {
                early.insert(place, result);
                while let Some(result) = early.remove(&wanted) {
                    done = result.and_then(|result| take(wanted, result));
                    if done.is_err() {
                        is_over.store(true, Ordering::Relaxed);
                        break 'told;
                    }
                    wanted += 1;
                }
            }
        });
        done
    }

    /// Does two things at once.
    pub fn both<A: Send, B: Send>(&self, a: impl FnOnce() -> A + Send, b: impl FnOnce() -> B + Send) -> (A, B) {
        self.0.install(|| rayon::join(a, b))
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicU64;

    use super::*;

    #[test]
    fn results_are_in_the_order_of_what_was_asked_on_any_number_of_threads() {
        let course = Course::demo();
        let lasts = |n: u64| LabTime::from_secs(if n.is_multiple_of(2) { 2.5 } else { 1.0 });
        let wanted: Vec<Wanted<'_>> =
            (0..6).map(|n| Wanted { course: &course, seed: 40 + n, lasts: lasts(n) }).collect();
        let came = |threads| {
            let counted = AtomicU64::new(0);
            let passed = |time: LabTime| {
                counted.fetch_add(time.0, Ordering::Relaxed);
            };
            let many = Many::on(threads).expect("threads");
            let of = |wanted: &Wanted<'_>| wanted.run(&passed).map(|run| (run.course().seed, run.now(), run.digest()));
            let came = many.each(&wanted, of).expect("it fits");
            let told: u64 = wanted.iter().map(|wanted| wanted.lasts.0).sum();
            assert_eq!(counted.load(Ordering::Relaxed), told, "all of it was told");
            came
        };
        let one = came(1);
        assert_eq!(one.iter().map(|(seed, now, _)| (*seed, *now)).collect::<Vec<_>>(), {
            wanted.iter().map(|wanted| (wanted.seed, wanted.lasts)).collect::<Vec<_>>()
        });
        assert_eq!(came(3), one);
        let seeds: Vec<u64> = wanted[0].seeds(3).map(|wanted| wanted.seed).collect();
        assert_eq!(seeds, [40, 41, 42]);
    }

    #[test]
    fn of_several_errors_the_first_asked_is_told() {
        let many = Many::on(2).expect("threads");
        let work = |n: &u32| if *n > 3 { Err(*n) } else { Ok(*n) };
        assert_eq!(many.each(&[9, 1, 7], work), Err(9));
        assert_eq!(many.each(&[1, 3, 2], work), Ok(vec![1, 3, 2]));
    }

    #[test]
    fn what_ends_early_waits_for_those_before_it() {
        for threads in [1, 3] {
            let many = Many::on(threads).expect("threads");
            let work = |n: usize| {
                std::thread::sleep(std::time::Duration::from_micros(if n.is_multiple_of(3) { 900 } else { 10 }));
                if n == 17 { Err("seventeen") } else { Ok(n * n) }
            };
            let mut came = Vec::new();
            let take = |place, square| {
                came.push((place, square));
                Ok(())
            };
            assert_eq!(many.in_order(40, work, take), Err("seventeen"));
            assert_eq!(came, (0..17).map(|n| (n, n * n)).collect::<Vec<_>>());
            assert_eq!(many.in_order(17, work, |n, _| if n == 5 { Err("full") } else { Ok(()) }), Err("full"));
            assert_eq!(many.in_order(0, work, |_, _| Ok(())), Ok(()));
        }
    }
}
