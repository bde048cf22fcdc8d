//! Something long that goes on beside the frames, in a thread of its own: it tells what it has, and can be let go.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, TryRecvError, channel};
use std::thread;

/// What somebody who works tells, piece by piece.
pub(super) struct Teller<T> {
    to: Sender<T>,
    stop: Arc<AtomicBool>,
}

impl<T> Teller<T> {
    /// Tells something. `false` when nobody wants any more of it.
    pub(super) fn tell(&self, what: T) -> bool {
        !self.stop.load(Ordering::Relaxed) && self.to.send(what).is_ok()
    }
}

/// Work under way. Letting go of it ends it at its next word.
pub(super) struct Job<T> {
    from: Receiver<T>,
    stop: Arc<AtomicBool>,
    over: bool,
}

impl<T: Send + 'static> Job<T> {
    /// Begins to work.
    pub(super) fn begin(work: impl FnOnce(&Teller<T>) + Send + 'static) -> Self {
        let ((to, from), stop) = (channel(), Arc::new(AtomicBool::new(false)));
        let teller = Teller { to, stop: stop.clone() };
        // Where no thread can be had nothing is ever told, and the job is over at once.
        let started = thread::Builder::new().name("branch".to_owned()).spawn(move || work(&teller));
        Self { from, stop, over: started.is_err() }
    }

    /// What was told since it was last asked.
    pub(super) fn news(&mut self) -> Vec<T> {
        let mut all = Vec::new();
        loop {
            match self.from.try_recv() {
                Ok(what) => all.push(what),
                Err(TryRecvError::Empty) => return all,
                Err(TryRecvError::Disconnected) => {
                    self.over = true;
                    return all;
                }
            }
        }
    }

    /// Whether nothing more will be told.
    pub(super) const fn is_over(&self) -> bool {
        self.over
    }
}

impl<T> Drop for Job<T> {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn it_tells_in_order_and_is_over_at_the_end() {
        let mut job = Job::begin(|teller: &Teller<u32>| {
            (0..5).for_each(|n| {
                teller.tell(n);
            });
        });
        let mut all = Vec::new();
        while !job.is_over() {
            all.extend(job.news());
            thread::sleep(Duration::from_millis(1));
        }
        assert_eq!(all, [0, 1, 2, 3, 4]);
    }

    #[test]
    fn let_go_of_it_works_no_further() {
        let done = Arc::new(AtomicBool::new(false));
        let told = done.clone();
        let job = Job::begin(move |teller: &Teller<()>| {
            while teller.tell(()) {
                thread::sleep(Duration::from_millis(1));
            }
            told.store(true, Ordering::Relaxed);
        });
        drop(job);
        for _ in 0..2000 {
            if done.load(Ordering::Relaxed) {
                return;
            }
            thread::sleep(Duration::from_millis(1));
        }
        panic!("it goes on");
    }
}
