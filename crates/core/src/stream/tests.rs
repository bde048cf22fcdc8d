use proptest::prelude::*;

use super::*;
use crate::wire::{Acks, BitReader};

const MS: i64 = 1_000_000;

/// One end with its envelopes.
#[derive(Default)]
struct End {
    stream: Stream,
    acks: Acks,
    /// Ticks whose messages are known to have come.
    known: Vec<u64>,
    /// What came, in the order in which it was given on, and how long each was held back.
    came: Vec<(Vec<u8>, i64)>,
    sent: usize,
}

impl End {
    fn polled(&mut self, now: HostNanos) -> Vec<Vec<u8>> {
        let End { stream, acks, .. } = self;
        let next = || stream.poll(now, || acks.header(MessageKind::StreamUp, 1, now)).map(|sent| sent.bytes);
        let all: Vec<_> = std::iter::from_fn(next).collect();
        self.sent += all.len();
        all
    }

    fn hears(&mut self, now: HostNanos, bytes: &[u8]) {
        let mut reader = BitReader::new(bytes);
        let header = Header::read(&mut reader).expect("an envelope");
        let segment = Segment::read(&mut reader).expect("a piece");
        let _ = self.acks.decoded(header.sequence, now);
        header.ack.iter().for_each(|ack| self.stream.told(now, ack));
        self.known.extend(self.stream.arrived(now, &header, segment).map(|tick| tick.0));
        while let Some(delivered) = self.stream.deliver(now) {
            assert_eq!(delivered.came.header.kind, MessageKind::Inputs);
            self.came.push((delivered.came.body, delivered.waited));
        }
    }
}

/// Two ends, and what is under way: when it arrives, at which end, what.
struct Pair {
    ends: [End; 2],
    under_way: Vec<(i64, usize, Vec<u8>)>,
    now: i64,
}

impl Pair {
    fn new() -> Self {
        Self { ends: [End::default(), End::default()], under_way: Vec::new(), now: 0 }
    }

    /// A frame of 16 ms at both ends. `fate` says of each datagram after how many milliseconds it arrives: never, once or more often.
    fn frame(&mut self, mut fate: impl FnMut(usize) -> Vec<i64>) {
        let now = HostNanos(self.now);
        for (at, bytes) in [0, 1].into_iter().flat_map(|end| {
            self.ends[end].polled(now).into_iter().map(move |bytes| (1 - end, bytes)).collect::<Vec<_>>()
        }) {
            for ms in fate(at) {
                self.under_way.push((self.now + ms * MS, at, bytes.clone()));
            }
        }
        self.now += 16 * MS;
        self.under_way.sort_by_key(|(arrives, ..)| *arrives);
        let due = self.under_way.partition_point(|(arrives, ..)| *arrives <= self.now);
        for (_, at, bytes) in self.under_way.drain(..due) {
            self.ends[at].hears(HostNanos(self.now), &bytes);
        }
    }
}

fn body(n: u32) -> Vec<u8> {
    n.to_le_bytes().repeat(1 + n as usize % 30)
}

fn push(end: &mut End, n: u32) -> bool {
    end.stream.push(MessageKind::Inputs, Tick(u64::from(n)), body(n))
}

proptest! {
    /// Whatever is lost, doubled and overtaken both ways: all that was taken comes, once and in order, and its sender knows.
    #[test]
    fn all_comes_once_and_in_order(
        fates in prop::collection::vec((0u8..10, 1i64..120), 200..600),
        count in 20u32..400,
        both in any::<bool>(),
    ) {
        let mut pair = Pair::new();
        // Numbers wrap on the way.
        for end in &mut pair.ends {
            (end.stream.outgoing.next, end.stream.incoming.next) = (65_400, 65_400);
        }
        let mut at = 0;
        let mut taken = [Vec::new(), Vec::new()];
        for n in 0..count {
            for (end, taken) in pair.ends.iter_mut().zip(&mut taken).take(1 + usize::from(both)) {
                if push(end, n) {
                    taken.push(body(n));
                }
            }
            pair.frame(|_| {
                at += 1;
                match fates[at % fates.len()] {
                    (0..=2, _) => vec![],
                    (3, ms) => vec![ms, ms + 40],
                    (_, ms) => vec![ms],
                }
            });
        }
        // Then nothing is lost any more: within the longest time-out that can have come of it all is there.
        for _ in 0..4000 {
            pair.frame(|_| vec![30]);
        }
        for (end, taken) in taken.iter().enumerate() {
            let came: Vec<_> = pair.ends[1 - end].came.iter().map(|(body, _)| body.clone()).collect();
            prop_assert_eq!(&came, taken);
            prop_assert_eq!(pair.ends[end].known.last().is_some(), !taken.is_empty());
            prop_assert!(pair.ends[end].known.is_sorted());
        }
        let quiet = pair.ends.iter().map(|end| end.sent).sum::<usize>();
        (0..200).for_each(|_| pair.frame(|_| vec![30]));
        prop_assert_eq!(pair.ends.iter().map(|end| end.sent).sum::<usize>(), quiet, "and then there is peace");
    }

    /// No bytes and no numbers upset it, and what it keeps is bounded.
    #[test]
    fn strange_pieces_are_borne(pieces in prop::collection::vec((any::<u16>(), any::<u16>(), any::<bool>(), any::<bool>(), 0usize..1200), 1..600)) {
        let mut stream = Stream::default();
        let mut acks = Acks::default();
        for (n, (number, expects, carries, again, long)) in pieces.into_iter().enumerate() {
            let now = HostNanos(n as i64 * 16 * MS);
            let _ = stream.push(MessageKind::Inputs, Tick(n as u64), vec![0; long]);
            let header = acks.header(MessageKind::StreamUp, 1, now);
            let head = SegmentHead { number, expects, kind: carries.then_some(MessageKind::Claim), again };
            stream.arrived(now, &header, Segment { head, body: vec![0; long] });
            while stream.deliver(now).is_some() {}
            let mut sent = 0;
            while stream.poll(now, || acks.header(MessageKind::StreamUp, 1, now)).is_some() {
                sent += 1;
                prop_assert!(sent < 1000, "it ends");
            }
            prop_assert!(stream.bytes() < 700_000, "{}", stream.bytes());
        }
    }
}

/// Sends one every tick over a way of 40 ms each, of which it loses those said; gives how long each was held back.
fn held_back(lost: impl Fn(usize) -> bool) -> Vec<i64> {
    let mut pair = Pair::new();
    let mut up = 0;
    for n in 0..200 {
        assert!(push(&mut pair.ends[0], n));
        pair.frame(|at| {
            up += usize::from(at == 1);
            if at == 1 && lost(up - 1) { vec![] } else { vec![40] }
        });
    }
    (0..30).for_each(|_| pair.frame(|_| vec![40]));
    let came = &pair.ends[1].came;
    assert_eq!(came.len(), 200);
    came.iter().map(|(_, waited)| *waited / MS).collect()
}

#[test]
fn behind_a_lost_piece_all_others_wait_until_it_was_sent_again() {
    assert!(held_back(|_| false).iter().all(|waited| *waited == 0));
    let waited = held_back(|n| n == 100);
    assert_eq!(
        waited.iter().filter(|waited| **waited > 0).count(),
        waited[101..].iter().take_while(|w| **w > 0).count()
    );
    assert_eq!(waited[100], 0, "itself was not there to wait");
    // Three that come after it are the sign: its round trip later it is there.
    assert!((90..200).contains(&waited[101]), "{waited:?}");
    assert!(waited[101..].windows(2).all(|w| w[1] <= w[0]), "the first waits longest");
}

#[test]
fn where_nothing_comes_back_the_time_out_doubles_and_all_is_there_soon_after() {
    let mut pair = Pair::new();
    for n in 0..60 {
        assert!(push(&mut pair.ends[0], n));
        pair.frame(|_| vec![40]);
    }
    let before = pair.ends[0].sent;
    for n in 60..180 {
        assert!(push(&mut pair.ends[0], n));
        pair.frame(|_| vec![]);
    }
    assert_eq!(pair.ends[1].came.len(), 60, "those under way arrived still");
    assert!(pair.ends[0].sent - before < 260, "{}: a window is not sent again and again", pair.ends[0].sent - before);
    let mut frames = 0;
    while pair.ends[1].came.len() < 180 {
        pair.frame(|_| vec![40]);
        frames += 1;
        assert!(frames < 125, "within the time that it was out");
    }
}

#[test]
fn what_there_is_no_room_for_is_not_taken_and_what_was_is_kept() {
    let mut pair = Pair::new();
    let taken = (0..2000).filter(|n| push(&mut pair.ends[0], *n)).count();
    assert!((300..=512).contains(&taken), "{taken}");
    assert!(pair.ends[0].stream.bytes() < 200_000);
    (0..2000).for_each(|_| pair.frame(|_| vec![5]));
    assert_eq!(pair.ends[1].came.len(), taken);
    assert!(push(&mut pair.ends[0], 0), "there is room again");
}

#[test]
fn a_full_window_is_not_exceeded_and_a_large_one_grows() {
    let mut stream = Stream::default();
    let mut acks = Acks::default();
    for n in 0..50 {
        assert!(stream.push(MessageKind::Snapshot, Tick(n), vec![0; 1000]));
    }
    let now = HostNanos(0);
    let mut burst = |stream: &mut Stream, now| {
        std::iter::from_fn(|| stream.poll(now, || acks.header(MessageKind::StreamUp, 1, now))).count() as u16
    };
    let first = burst(&mut stream, now);
    assert_eq!(first, 3, "RFC 5681: three full ones to begin with");
    let now = HostNanos(40 * MS);
    let header = Acks::default().header(MessageKind::StreamUp, 1, now);
    let head = SegmentHead { number: 0, expects: first, kind: None, again: false };
    assert_eq!(stream.arrived(now, &header, Segment { head, body: vec![] }), Some(Tick(2)));
    assert!((4..=6).contains(&burst(&mut stream, now)), "slow start");
}

#[test]
fn what_arrives_at_an_end_is_read_as_it_was_sent() {
    let (mut one, now) = (End::default(), HostNanos(5));
    assert!(push(&mut one, 7));
    let sent = one.polled(now);
    let mut reader = BitReader::new(&sent[0]);
    let header = Header::read(&mut reader).expect("an envelope");
    assert_eq!(header.kind, MessageKind::StreamUp);
    let segment = Segment::read(&mut reader).expect("a piece");
    assert_eq!((segment.head.number, segment.body.clone()), (0, body(7)));
    let mut out = BitWriter::new();
    header.write(&mut out);
    segment.write(&mut out);
    assert_eq!(out.finish(), sent[0]);
}

#[test]
fn of_a_gap_word_is_given_at_once_and_of_what_comes_in_order_a_little_later() {
    let mut pair = Pair::new();
    let mut sent = Vec::new();
    for n in 0..4 {
        assert!(push(&mut pair.ends[0], n));
        sent.extend(pair.ends[0].polled(HostNanos(0)));
    }
    let at = |ms: i64| HostNanos(ms * MS);
    let mut words = |arrived: &[usize], ms: i64| {
        arrived.iter().for_each(|n| pair.ends[1].hears(at(ms), &sent[*n]));
        pair.ends[1].polled(at(ms)).len()
    };
    assert_eq!(words(&[0], 0), 0, "one in order");
    assert_eq!(words(&[], 39), 0);
    assert_eq!(words(&[], 40), 1, "within 40 ms");
    assert_eq!(words(&[2], 41), 1, "one is missing");
    assert_eq!(words(&[2], 42), 1, "and one came twice");
    assert_eq!(words(&[1, 3], 43), 1, "the gap is filled");
}
