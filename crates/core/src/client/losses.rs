//! What was lost on the way up, as acknowledgements tell, and how many ticks a message therefore covers.
//!
//! Each acknowledgement says which of 33 datagrams were decoded. One that is not, though one sent some later is, was lost or is too late to be of use. A
//! run of such datagrams is survived where the next covers what each of them had to say: one message more than the longest run.

use std::collections::VecDeque;

use super::redundancy::Redundancy;
use super::settings::ClientSettings;
use crate::tick::HostNanos;
use crate::wire::{Ack, MAX_REPEATS};

/// A datagram is given up where one is decoded that was sent so many later.
const BEHIND: u16 = 4;
/// A mask says nothing of those before.
const KNOWN: u16 = 32;
/// Runs are remembered for so long, in nanoseconds.
const REMEMBERED: i64 = 10_000_000_000;
/// Runs remembered at most; no more end in the time.
const MOST: usize = 1024;
/// So many messages on end may always be lost.
const ALWAYS: usize = 1;

/// What was lost.
#[derive(Clone, Debug, Default)]
pub(super) struct Losses {
    /// The newest datagram whose fate is known.
    settled: Option<u16>,
    /// How many on end up to that one were lost.
    run: usize,
    /// Runs that ended: when, and how long each was.
    runs: VecDeque<(HostNanos, usize)>,
}

impl Losses {
    /// Takes an acknowledgement.
    pub(super) fn told(&mut self, ack: &Ack, now: HostNanos) {
        let newest = ack.newest.wrapping_sub(BEHIND);
        // Of what the mask no longer says nothing is known, and it was not lost for that.
        let oldest = ack.newest.wrapping_sub(KNOWN);
        let mut next = self.settled.map_or(newest, |settled| settled.wrapping_add(1));
        if (oldest.wrapping_sub(next) as i16) > 0 {
            (next, self.run) = (oldest, 0);
        }
        while (newest.wrapping_sub(next) as i16) >= 0 {
            if ack.has(next) {
                self.end_run(now);
            } else {
                self.run += 1;
            }
            self.settled = Some(next);
            next = next.wrapping_add(1);
        }
        while self.runs.front().is_some_and(|(at, _)| now.since(*at) > REMEMBERED) {
            self.runs.pop_front();
        }
    }

    fn end_run(&mut self, now: HostNanos) {
        let run = std::mem::take(&mut self.run);
        if run > ALWAYS && self.runs.len() < MOST {
            self.runs.push_back((now, run));
        }
    }

    /// How many ticks a message covers where one is sent every so many.
    pub(super) fn covered(&self, settings: &ClientSettings, every: u8) -> usize {
        let every = usize::from(every).max(1);
        let ticks = match settings.redundancy {
            Redundancy::Fixed => usize::from(settings.repeats).max(every),
            Redundancy::Adapted => {
                let longest = self.runs.iter().map(|(_, run)| *run).chain([self.run, ALWAYS]).fold(0, usize::max);
                every * (longest + 1)
            }
        };
        ticks.clamp(1, MAX_REPEATS)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ADAPTED: ClientSettings = ClientSettings { redundancy: Redundancy::Adapted, ..ClientSettings::DEFAULT };

    /// Sends datagrams from `first` on, a sixtieth of a second apart, those lost that are said to be; each that is decoded is acknowledged. Gives
    /// how many ticks the message after the last covers.
    fn after(losses: &mut Losses, first: u32, count: u32, lost: impl Fn(u32) -> bool) -> usize {
        for number in first..first + count {
            if lost(number) {
                continue;
            }
            let mask =
                (0..32).filter(|back| number > *back && !lost(number - 1 - back)).fold(0, |m, back| m | 1 << back);
            let ack = Ack { newest: number as u16, mask, hold: 0 };
            losses.told(&ack, HostNanos(i64::from(number) * 16_666_667));
        }
        losses.covered(&ADAPTED, ADAPTED.send_every)
    }

    #[test]
    fn the_longest_run_of_ten_seconds_is_survived_and_then_forgotten() {
        // Sequence numbers wrap on the way.
        let begin = 65_400;
        let mut losses = Losses::default();
        assert_eq!(losses.covered(&ADAPTED, ADAPTED.send_every), 2, "one is always survived");
        assert_eq!(after(&mut losses, begin, 60, |_| false), 2);
        assert_eq!(after(&mut losses, begin + 60, 60, |n| n % 10 == 0), 2, "one in ten, never two");
        let burst = begin + 130..begin + 135;
        assert_eq!(after(&mut losses, begin + 120, 60, |n| burst.contains(&n)), 6);
        assert_eq!(after(&mut losses, begin + 180, 500, |_| false), 6, "within ten seconds it may come again");
        assert_eq!(after(&mut losses, begin + 680, 200, |_| false), 2);
    }

    #[test]
    fn seldom_messages_cover_as_many_times_more_and_no_message_more_than_it_holds() {
        let mut losses = Losses::default();
        after(&mut losses, 100, 60, |n| (110..114).contains(&n));
        let covered = |send_every| losses.covered(&ADAPTED, send_every);
        assert_eq!([1, 2, 3, 8].map(covered), [5, 10, 15, 16]);
        let fixed = ClientSettings { repeats: 3, ..ClientSettings::DEFAULT };
        assert_eq!(losses.covered(&fixed, fixed.send_every), 3);
        assert_eq!(losses.covered(&fixed, 8), 8, "none is left out");
    }

    #[test]
    fn lost_acknowledgements_are_no_lost_messages_and_neither_are_overtaken_ones() {
        let mut losses = Losses::default();
        // Sixty arrive of which no acknowledgement comes: the next tells of the last of them only.
        for number in [100u16, 160, 161] {
            losses.told(&Ack { newest: number, mask: u32::MAX, hold: 0 }, HostNanos(i64::from(number)));
        }
        assert_eq!(losses.covered(&ADAPTED, ADAPTED.send_every), 2);
        // Of an outage longer than a mask as much is known as the mask tells.
        after(&mut losses, 200, 60, |n| (210..250).contains(&n));
        assert_eq!(losses.covered(&ADAPTED, ADAPTED.send_every), MAX_REPEATS);
        let mut losses = Losses::default();
        // Every fourth arrives after the three behind it.
        for number in 100u16..160 {
            let late =
                (0..32u16).filter(|back| *back < 3 && (number - 1 - back) % 4 == 0).fold(0, |m, back| m | 1 << back);
            losses.told(&Ack { newest: number, mask: !late, hold: 0 }, HostNanos(i64::from(number)));
        }
        assert_eq!(losses.covered(&ADAPTED, ADAPTED.send_every), 2);
    }
}
