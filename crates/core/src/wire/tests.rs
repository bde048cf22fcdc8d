use std::sync::Arc;

use proptest::prelude::*;

use super::noting::WireField;
use super::rows::{Way, written};
use super::*;
use crate::data::{Input, State};
use crate::ids::{EntityId, Life, Token};
use crate::motion::Motion;
use crate::quantiser::Quantiser;
use crate::session::{Ingredients, KindPrint, Kinds, Layouts, Owned, Timeline};
use crate::tick::{HostNanos, Tick, WireTick};
use crate::vec3::vec3;
use crate::walker::Walker;

/// The entity whose inputs and claims are read.
const OWN: EntityId = EntityId { index: 4, generation: 250 };

fn kinds() -> Kinds {
    Kinds::new(vec![Arc::new(Walker::new())]).unwrap()
}

fn timeline() -> Timeline {
    Timeline::new(Ingredients::new(Arc::new(crate::Ground::flat(1.0)), &kinds()))
}

fn read(bytes: &[u8]) -> Result<(Header, Message), WireError> {
    let mut reader = BitReader::new(bytes);
    let header = Header::read(&mut reader)?;
    let timeline = timeline();
    let owned = [Owned { entity: OWN, kind: 0 }];
    Message::read(&header, reader, &Layouts::new(&timeline, None, &owned)).map(|m| (header, m))
}

/// The fields of a datagram; what rests on what its receiver has is one of them.
fn fields_of(bytes: &[u8], layouts: &Layouts<'_>) -> Result<Vec<WireField>, WireError> {
    fields(bytes, layouts, |snapshot| {
        let body = snapshot.body.as_ref().map_or(0, |body| body.bytes.len() as u32 * 8);
        Ok(vec![WireField::new("body", body, FieldValue::Nothing)])
    })
}

/// Bytes are refused, field by field as well; or they are said in no more bits than there are, and mean the same when they are
/// written and read again.
fn value_or_error(bytes: &[u8]) {
    let (timeline, owned) = (timeline(), [Owned { entity: OWN, kind: 0 }]);
    let layouts = Layouts::new(&timeline, None, &owned);
    let fields = fields_of(bytes, &layouts);
    let Ok((header, message)) = read(bytes) else {
        assert!(fields.is_err(), "only its fields are read: {bytes:?}");
        return;
    };
    let bits = |fields: &[WireField]| fields.iter().map(|field| field.bits).sum::<u32>();
    assert!(bits(&fields.expect("it was read")) <= bytes.len() as u32 * 8, "{message:?}");
    let written = |message: &Message| {
        let mut out = BitWriter::new();
        header.write(&mut out);
        message.write(&mut out, &layouts);
        out.finish()
    };
    let once = written(&message);
    let (_, again) = read(&once).expect("it was written by us");
    assert_eq!(written(&again), once, "{message:?}");
    // What is the same as before may come at length; we never write it so.
    let (said, all) = (bits(&fields_of(&once, &layouts).expect("it was written by us")), once.len() as u32 * 8);
    // What a piece carries is passed on as it came.
    let is_ours = all - said < 8 || header.kind.is_piece();
    assert!(said <= all && is_ours, "{said} of {all} bits: {message:?}");
}

fn envelope(kind: MessageKind) -> (Header, BitWriter) {
    let header = Acks::default().header(kind, 7, HostNanos(1_000_000));
    let mut out = BitWriter::new();
    header.write(&mut out);
    (header, out)
}

fn state(seed: f32) -> State {
    let mut state = Walker::new().spawn(vec3(seed, -seed * 0.5, 1.0), 0.7);
    state.set_vec3(3, vec3(1.5, -2.25, seed * 0.1));
    Walker::new().schema().round_state(&state)
}

/// One message of each kind with its bytes.
fn samples() -> Vec<(Message, Vec<u8>)> {
    let kinds = kinds();
    let (schema, plan) = (kinds.motion(0).schema(), kinds.plan(0));
    let mut out = Vec::new();

    let mut plain = |message: Message| {
        let (_, mut bits) = envelope(message.kind());
        message.write(&mut bits, &Layouts::new(&timeline(), None, &[]));
        out.push((message, bits.finish()));
    };
    let kinds_said = (0..3).map(|n| KindPrint { layout: 0xffff_fff0 + n, rule: 77 * n }).collect();
    plain(Message::Hello(Hello {
        token: Token(0x0123_4567_89ab_cdef),
        life: Life(1 << 63),
        cookie: 0xfeed,
        kinds: kinds_said,
    }));
    plain(Message::Challenge(Challenge { asked_us: 12, cookie: u64::MAX }));
    let why = RefusedFor::Layout(ForeignLayout::of(3, "courier", schema));
    plain(Message::Refusal(Refusal { asked_us: 1 << 31, why }));
    plain(Message::Goodbye);
    plain(Message::Clock(ClockTold { tick: WireTick(65_500), part: 200 }));
    plain(Message::Ended(Ended { why: EndedBy::Verdict(crate::verdict::Rule::Growth) }));
    plain(Message::Welcome(Welcome {
        asked_us: 0xfedc_ba98,
        slot: 900,
        base: 65_236,
        since_base_us: 1 << 33,
        rate: 128,
        snapshot_every: 3,
        frame_us: 8333,
        gone_ms: 10_000,
    }));

    let mut inputs = [Input::default(); MAX_REPEATS];
    for (i, input) in inputs.iter_mut().take(5).enumerate() {
        input.set_real(0, stick(i as f32 / 5.0));
        input.set_int(3, 9);
    }
    inputs[3] = inputs[2];
    let message = Inputs { newest: WireTick(3), entity: OWN, back: 0, count: 5, inputs };
    let (_, mut bits) = envelope(MessageKind::Inputs);
    message.write(&mut bits, |_| plan);
    out.push((Message::Inputs(message.into()), bits.finish()));

    let used = Used { tick: WireTick(65_535), made_up: 200, shared: true };
    let news = vec![News::Gone(EntityId::first(6)), News::Owned(OWN, vec![0, 65_535]), News::Owned(OWN, Vec::new())];
    let head = SnapshotHead {
        tick: WireTick(9),
        every: 200,
        wants_times: true,
        form: StateDown::Whole,
        margin: Some(-7),
        news,
    };
    let entities: Vec<_> = (0..3u16)
        .map(|index| EntityRecord {
            entity: EntityRef {
                id: EntityId { index, generation: 1 },
                kind: 0,
                teleports: 5,
                own: (index == 1).then_some(used),
            },
            state: state(f32::from(index) * 3.0),
        })
        .collect();
    let (_, mut bits) = envelope(MessageKind::Snapshot);
    write_snapshot(&mut bits, &head, &kinds, entities.iter().map(|e| (e.entity, &e.state)), None);
    out.push((
        Message::Snapshot(Snapshot { head: head.clone(), entities: entities.clone(), ..Snapshot::default() }),
        bits.finish(),
    ));
    out.extend(in_other_forms(&head, &entities));
    let told = vec![Some(inputs[0]), None];
    let (_, mut bits) = envelope(MessageKind::Snapshot);
    write_snapshot(&mut bits, &head, &kinds, entities.iter().map(|e| (e.entity, &e.state)), Some(&told));
    out.push((Message::Snapshot(Snapshot { head, entities, inputs: Some(told), body: None }), bits.finish()));

    let mut trail = [crate::Vec3::ZERO; MAX_REPEATS];
    trail[0] = vec3(1.25, 2.5, 0.0);
    let claim = Claim {
        newest: WireTick(70),
        entity: OWN,
        back: 0,
        epoch: 2,
        since: WireTick(50),
        state: state(6.0),
        count: 2,
        trail,
    };
    let (_, mut bits) = envelope(MessageKind::Claim);
    claim.write(&mut bits, plan);
    out.push((Message::Claim(claim.into()), bits.finish()));

    let mut inputs = [Input::default(); MAX_REPEATS + 1];
    for (i, input) in inputs.iter_mut().take(4).enumerate() {
        input.set_real(0, stick(i as f32 / 4.0));
        input.set_int(3, 2);
    }
    inputs[2] = inputs[1];
    let account = Account {
        newest: WireTick(70),
        entity: OWN,
        back: 0,
        epoch: 3,
        since: WireTick(51),
        count: 3,
        inputs,
        state: state(0.3),
    };
    let (_, mut bits) = envelope(MessageKind::Account);
    account.write(&mut bits, |_| plan);
    out.push((Message::Account(account.into()), bits.finish()));

    let pull = PullBack { entity: OWN, epoch: 255, tick: WireTick(4), reason: PullReason::Push, state: state(8.0) };
    let (_, mut bits) = envelope(MessageKind::PullBack);
    pull.write(&mut bits, plan);
    out.push((Message::PullBack(pull), bits.finish()));
    let pieces = pieces(&out);
    out.extend(pieces);
    out
}

/// A snapshot through a compressor, and one that rests on another.
fn in_other_forms(head: &SnapshotHead, entities: &[EntityRecord]) -> Vec<(Message, Vec<u8>)> {
    let alike = |index| EntityRecord {
        entity: EntityRef { id: EntityId::first(index), own: None, ..entities[0].entity },
        ..entities[0]
    };
    let compressed = Snapshot {
        head: SnapshotHead { form: StateDown::Compressed, ..head.clone() },
        entities: (0..20).map(alike).collect(),
        ..Snapshot::default()
    };
    let body = Body { back: 90, entities: 3, with_inputs: true, bytes: vec![1, 250, 7] };
    let head = SnapshotHead { form: StateDown::Delta, ..head.clone() };
    let against = Snapshot { head, body: Some(body), ..Snapshot::default() };
    let written = |snapshot: Snapshot| {
        let message = Message::Snapshot(snapshot);
        let (_, mut bits) = envelope(MessageKind::Snapshot);
        message.write(&mut bits, &Layouts::new(&timeline(), None, &[]));
        (message, bits.finish())
    };
    [compressed, against].into_iter().map(written).collect()
}

/// What may travel in a stream, in pieces of one; and a piece that only says what has come.
fn pieces(samples: &[(Message, Vec<u8>)]) -> Vec<(Message, Vec<u8>)> {
    let may = samples.iter().filter(|(message, _)| message.kind().may_be_streamed());
    let (timeline, owned) = (timeline(), [Owned { entity: OWN, kind: 0 }]);
    let body = |message: &Message| {
        let mut out = BitWriter::new();
        message.write(&mut out, &Layouts::new(&timeline, None, &owned));
        out.finish()
    };
    let carried = may.map(|(message, _)| (Some(message.kind()), body(message)));
    let piece = |(kind, body): (Option<MessageKind>, Vec<u8>)| {
        let head = SegmentHead { number: 65_535, expects: 3, kind, again: kind == Some(MessageKind::Claim) };
        let up = kind != Some(MessageKind::Snapshot);
        let message = if up { Message::StreamUp } else { Message::StreamDown }(Segment { head, body });
        let (_, mut bits) = envelope(message.kind());
        message.write(&mut bits, &Layouts::new(&timeline, None, &[]));
        (message, bits.finish())
    };
    carried.chain([(None, Vec::new())]).map(piece).collect()
}

/// Whether a message rests on another snapshot.
fn rests(message: &Message) -> bool {
    matches!(message, Message::Snapshot(snapshot) if snapshot.body.is_some())
}

/// The message that a piece carries, if it can be read.
fn carried_by(piece: &Message) -> Option<Message> {
    let (Message::StreamUp(segment) | Message::StreamDown(segment)) = piece else { return None };
    let (header, _) = envelope(segment.head.kind?);
    let (timeline, owned) = (timeline(), [Owned { entity: OWN, kind: 0 }]);
    Message::read(&header, BitReader::new(&segment.body), &Layouts::new(&timeline, None, &owned)).ok()
}

fn stick(x: f32) -> f32 {
    crate::field::stick_quantiser(7).round(x)
}

#[test]
fn what_a_datagram_is_about_can_be_read_without_any_layout() {
    for (message, bytes) in samples() {
        let carried = Carried::of(&bytes).expect("it is one of ours");
        let told = (carried.tick, carried.ticks, carried.entity, carried.entities, carried.epoch);
        // A piece is about what it carries.
        let (kind, message) = match &message {
            Message::StreamUp(piece) | Message::StreamDown(piece) => {
                assert_eq!(carried.piece, piece.head.kind.map(|_| (piece.head.number, piece.head.again)));
                match carried_by(&message) {
                    Some(inner) => (inner.kind(), inner),
                    None => (message.kind(), message),
                }
            }
            _ => (message.kind(), message),
        };
        let is = match &message {
            Message::Inputs(m) => (Some(m.newest), m.count as u8, Some(m.entity), 0, None),
            Message::Claim(m) => (Some(m.newest), m.count as u8 + 1, Some(m.entity), 0, Some(m.epoch)),
            Message::Account(m) => (Some(m.newest), m.count as u8, Some(m.entity), 0, Some(m.epoch)),
            Message::Snapshot(m) => {
                let entities = m.body.as_ref().map_or(m.entities.len() as u8, |body| body.entities);
                (Some(m.head.tick), 0, None, entities, None)
            }
            Message::PullBack(m) => (Some(m.tick), 0, Some(m.entity), 0, Some(m.epoch)),
            Message::Clock(m) => (Some(m.tick), 0, None, 0, None),
            _ => (None, 0, None, 0, None),
        };
        assert_eq!((carried.kind, told), (kind, is));
        assert_eq!(Carried::of(&bytes[..8]), None, "cut short");
    }
}

#[test]
fn every_message_comes_back_as_it_was_written() {
    let samples = samples();
    // Pieces: of inputs, a claim, an account, four snapshots, and of nothing. Snapshots: whole, compressed, against another, with inputs.
    assert_eq!(samples.len(), MessageKind::ALL.len() + 9);
    for (message, bytes) in samples {
        assert_eq!(read(&bytes).map(|(_, m)| m), Ok(message));
    }
}

#[test]
fn every_message_cut_at_any_length_is_refused() {
    for (message, bytes) in samples() {
        for length in 0..bytes.len() {
            // What a piece carries is read when its turn has come.
            let is_read = read(&bytes[..length]).is_ok_and(|(_, cut)| {
                let is_piece =
                    cut.kind().is_piece() && !matches!(&message, Message::StreamUp(p) if p.head.kind.is_none());
                // And what rests on another snapshot when it is opened.
                !rests(&cut) && (!is_piece || carried_by(&cut).is_some_and(|inner| !rests(&inner)))
            });
            assert!(!is_read, "{message:?} cut to {length} of {} bytes", bytes.len());
        }
        let mut longer = bytes.clone();
        longer.push(0);
        match read(&longer) {
            Ok((_, longer)) if rests(&longer) => {}
            Ok((_, piece)) => assert!(carried_by(&piece).is_none_or(|inner| rests(&inner)), "{message:?}"),
            Err(why) => {
                assert!(matches!(why, WireError::LeftOver { .. } | WireError::Compressed), "{message:?}");
            }
        }
    }
}

#[test]
fn another_version_is_named() {
    let (_, mut bytes) = samples().swap_remove(0);
    let found = |bytes: &[u8]| read(bytes).unwrap_err();
    bytes[0] = (bytes[0] & !7) | 2;
    assert_eq!(found(&bytes), WireError::Version { found: 10 });
    // Seven says that eight more bits follow.
    let mut long = BitWriter::new();
    long.put(7, 3);
    long.put(200, 8);
    let long = long.finish();
    assert_eq!(found(&long), WireError::Version { found: 215 });
    assert!(matches!(found(&long[..1]), WireError::Short { .. }));
}

#[test]
fn a_kind_beyond_four_bits_has_eight_more() {
    let (_, bytes) = samples().swap_remove(0);
    let kind = |number: u8, more: u8| read(&[bytes[0] & 15 | number << 4, more]).unwrap_err();
    assert_eq!(kind(14, 0), WireError::Kind(14));
    assert_eq!(kind(15, 0), WireError::Kind(15));
    assert_eq!(kind(15, 255), WireError::Kind(270));
    let bits = |number| datagram::KIND.bits(number);
    assert_eq!((bits(14), bits(15)), (4, 12));
}

#[test]
fn an_exact_lane_that_is_not_a_number_is_refused() {
    let mut bad = state(1.0);
    bad.set_int(4, f32::INFINITY.to_bits());
    let (_, mut bits) = envelope(MessageKind::PullBack);
    PullBack { entity: OWN, epoch: 1, tick: WireTick(4), reason: PullReason::Guard, state: bad }
        .write(&mut bits, &crate::Plan::of(Walker::new().schema()));
    assert_eq!(read(&bits.finish()).unwrap_err(), WireError::NotFinite("vel"));
}

#[test]
fn acknowledgements_tell_new_from_seen_and_measure_the_way() {
    let (mut here, mut there) = (Acks::default(), Acks::default());
    let first = here.header(MessageKind::Hello, 1, HostNanos(0));
    let _lost = here.header(MessageKind::Hello, 1, HostNanos(10_000_000));
    let third = here.header(MessageKind::Hello, 1, HostNanos(20_000_000));
    assert!(there.decoded(third.sequence, HostNanos(50_000_000)));
    assert!(there.decoded(first.sequence, HostNanos(51_000_000)));
    assert!(!there.decoded(first.sequence, HostNanos(52_000_000)));
    let answer = there.header(MessageKind::Snapshot, 1, HostNanos(60_000_000)).ack.unwrap();
    assert_eq!((answer.newest, answer.mask), (2, 0b10));
    assert_eq!(here.round_trip(&answer, HostNanos(100_000_000)), Some(70_000_000));
}

#[test]
fn what_a_datagram_holds_is_told_once_it_is_known_to_have_come_and_only_once() {
    let mut acks = Acks::default();
    let load = |n: u64| Load { bytes: 100, tick: Some(Tick(n)), entity: None };
    // Numbers wrap on the way.
    let sent: Vec<u16> = (0..65_600u64)
        .map(|n| {
            let sequence = acks.header(MessageKind::Snapshot, 1, HostNanos(0)).sequence;
            acks.holds(sequence, load(n));
            sequence
        })
        .collect();
    let newest = sent[65_598];
    let mut arrived = |newest, mask| acks.arrived(&Ack { newest, mask, hold: 0 }).collect::<Vec<_>>();
    assert_eq!(arrived(newest, 0b101), [load(65_595), load(65_597), load(65_598)]);
    assert_eq!(arrived(newest, 0b111), [load(65_596)], "the others were told");
    assert_eq!(arrived(newest.wrapping_add(1), 0), [load(65_599)]);
    assert_eq!(arrived(sent[1000], u32::MAX), [], "what was so long ago is forgotten");
    assert_eq!(arrived(newest.wrapping_add(9), 0), [], "that was never sent");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn a_row_is_appended_as_if_it_were_put_there(
        before in prop::collection::vec((any::<u32>(), 1u32..=32), 0..40),
        row in prop::collection::vec((any::<u32>(), 1u32..=32), 0..40),
        after in any::<u32>(),
    ) {
        let put = |out: &mut BitWriter, values: &[(u32, u32)]| values.iter().for_each(|&(value, bits)| out.put(value, bits));
        let (mut whole, mut apart, mut middle) = (BitWriter::new(), BitWriter::new(), BitWriter::new());
        put(&mut whole, &before);
        put(&mut whole, &row);
        put(&mut apart, &before);
        put(&mut middle, &row);
        apart.append(&middle.into_row());
        [&mut whole, &mut apart].into_iter().for_each(|out| out.put(after, 32));
        prop_assert_eq!(whole.len_bits(), apart.len_bits());
        prop_assert_eq!(whole.finish(), apart.finish());
    }

    #[test]
    fn bits_come_back_as_they_were_put(values in prop::collection::vec((any::<u32>(), 1u32..=32), 0..200)) {
        let mut out = BitWriter::new();
        for &(value, bits) in &values {
            out.put(value, bits);
        }
        let total = out.len_bits();
        let bytes = out.finish();
        prop_assert_eq!(bytes.len() as u32, total.div_ceil(8));
        let mut reader = BitReader::new(&bytes);
        for &(value, bits) in &values {
            prop_assert_eq!(u64::from(reader.take(bits).unwrap()), u64::from(value) & ((1u64 << bits) - 1));
        }
        prop_assert!(reader.is_finished());
    }

    #[test]
    fn a_quantiser_is_off_by_half_a_step_at_most_and_stable(bits in 2u32..=18, step in 0.001f32..2.0, x in -1.0f32..1.0) {
        let q = Quantiser::new(step, bits);
        let x = x * q.reach();
        let rounded = q.round(x);
        prop_assert!((rounded - x).abs() <= step * 0.5001 + x.abs() * 1e-6, "{x} became {rounded}");
        prop_assert_eq!(q.round(rounded), rounded);
        prop_assert!(q.round(f32::INFINITY) >= q.reach() * 0.999);
        prop_assert!(q.round(f32::NAN).is_finite());
    }

    #[test]
    fn random_bytes_are_a_value_or_an_error(bytes in prop::collection::vec(any::<u8>(), 0..1300)) {
        value_or_error(&bytes);
    }

    #[test]
    fn a_true_envelope_with_random_bytes_behind_it_is_a_value_or_an_error(
        kind in 0..MessageKind::ALL.len(), bytes in prop::collection::vec(any::<u8>(), 0..400), named in any::<bool>(),
    ) {
        let kind = MessageKind::ALL[kind];
        let (_, mut out) = envelope(kind);
        // Most entities are not the sender's: half of the time the one that is.
        if named {
            out.put(3, 16);
            written(out.entity(&mut OWN.clone()));
        }
        bytes.iter().for_each(|byte| out.put(u32::from(*byte), 8));
        let all = out.finish();
        if let Ok((_, Message::Snapshot(snapshot))) = read(&all) {
            prop_assert!(snapshot.entities.capacity() <= all.len() * 8 / 12 + 1);
        }
    }

    #[test]
    fn mutated_messages_are_a_value_or_an_error(which in 0..MessageKind::ALL.len(), flips in prop::collection::vec(any::<u16>(), 1..6)) {
        let (_, mut bytes) = samples().swap_remove(which);
        for flip in flips {
            let bit = usize::from(flip) % (bytes.len() * 8);
            bytes[bit / 8] ^= 1 << (bit % 8);
        }
        value_or_error(&bytes);
    }
}

#[test]
fn inputs_and_claims_of_what_is_not_owned_are_refused_by_name() {
    let twin = EntityId { generation: OWN.generation + 1, ..OWN };
    for named in [EntityId { index: 9, ..OWN }, twin] {
        let timeline = timeline();
        let owned = [Owned { entity: named, kind: 0 }];
        for (mut message, _) in samples() {
            match &mut message {
                Message::Inputs(m) => m.entity = named,
                Message::Claim(m) => m.entity = named,
                Message::Account(m) => m.entity = named,
                Message::PullBack(m) => m.entity = named,
                _ => continue,
            }
            let (_, mut out) = envelope(message.kind());
            message.write(&mut out, &Layouts::new(&timeline, None, &owned));
            assert_eq!(read(&out.finish()).unwrap_err(), WireError::NotOwned(named), "{message:?}");
        }
    }
}

#[test]
fn an_envelope_says_no_more_than_there_is_to_say() {
    let bits = |header: Header| {
        let mut out = BitWriter::new();
        header.write(&mut out);
        let bits = out.len_bits();
        let bytes = out.finish();
        assert_eq!(Header::read(&mut BitReader::new(&bytes)), Ok(header));
        bits
    };
    let (bare, _) = envelope(MessageKind::Snapshot);
    let with = |mask, hold| Header { ack: Some(Ack { newest: 9, mask, hold }), ..bare };
    assert_eq!((bits(bare), bits(bare.untimed())), (66, 34));
    assert_eq!((bits(with(u32::MAX, 510)), bits(with(u32::MAX, 511))), (66 + 16 + 4 + 9, 66 + 16 + 4 + 25));
    assert_eq!(bits(with(u32::MAX ^ 1 << 9, u16::MAX)), 66 + 16 + 12 + 25, "one was lost");
    assert_eq!(bits(with(0, u16::MAX)), Header::BITS);
    assert_eq!(bits(with(u32::MAX, 0).untimed()), 34 + 16 + 4);
}

/// One word that was heard.
#[derive(Debug)]
struct Heard(Tick, Input, State);

impl crate::session::Heard for Heard {
    fn input(&self, entity: EntityId, tick: Tick) -> Option<Input> {
        (entity == OWN && tick == self.0).then_some(self.1)
    }

    fn state(&self, entity: EntityId, tick: Tick) -> Option<State> {
        (entity == OWN && tick == self.0).then_some(self.2)
    }

    fn dt(&self) -> f32 {
        1.0 / 60.0
    }
}

#[test]
fn words_against_others_come_back_in_few_bits_and_without_those_not_at_all() {
    let (timeline, owned) = (timeline(), [Owned { entity: OWN, kind: 0 }]);
    let mut input = Input::default();
    input.set_real(0, stick(0.5));
    let then = state(1.0);
    let heard = Heard(Tick(64), input, then);
    let layouts = Layouts::new(&timeline, Some(Tick(70)), &owned).hearing(&heard);
    let mut on = then;
    on.set_vec3(0, then.vec3(0) + then.vec3(3) * 0.1);
    let on = Walker::new().schema().round_state(&on);
    let mut inputs = [input; MAX_REPEATS + 1];
    inputs[2].set_int(3, 5);
    let mut trail = [crate::Vec3::ZERO; MAX_REPEATS];
    for (i, p) in trail.iter_mut().take(3).enumerate() {
        let back = then.vec3(3) * ((i + 1) as f32 / 60.0);
        *p = Walker::new().schema().round_state(&Walker::new().spawn(on.vec3(0) - back, 0.0)).vec3(0);
    }
    let (newest, entity, back, epoch, since) = (WireTick(70), OWN, 6, 3, WireTick(60));
    let only = std::array::from_fn(|i| inputs[i]);
    let told = [
        (Message::Inputs(Inputs { newest, entity, back, count: 4, inputs: only }.into()), 90),
        (Message::Account(Account { newest, entity, back, epoch, since, count: 3, inputs, state: on }.into()), 150),
        (Message::Claim(Claim { newest, entity, back, epoch, since, state: on, count: 3, trail }.into()), 120),
    ];
    for (mut message, most) in told {
        let (Message::Inputs(_) | Message::Account(_) | Message::Claim(_)) = &message else { continue };
        if let Message::Inputs(inputs) = &mut message {
            inputs.inputs[4..].fill(Input::default());
        }
        if let Message::Account(account) = &mut message {
            account.inputs[4..].fill(Input::default());
        }
        let (header, mut out) = envelope(message.kind());
        let before = out.len_bits();
        message.write(&mut out, &layouts);
        assert!(out.len_bits() - before <= most, "{} bits: {message:?}", out.len_bits() - before);
        let bytes = out.finish();
        let mut from = BitReader::new(&bytes);
        assert_eq!(Header::read(&mut from), Ok(header));
        assert_eq!(Message::read(&header, from, &layouts), Ok(message));
        let deaf = Layouts::new(&timeline, Some(Tick(70)), &owned);
        assert_eq!(Message::read(&header, from, &deaf), Err(WireError::Baseline(OWN.index)));
        let fields = fields_of(&bytes, &layouts).expect("it is sound");
        let bits: u32 = fields.iter().map(|field| field.bits).sum();
        assert!(bytes.len() as u32 * 8 - bits < 8);
    }
}

#[test]
fn a_snapshot_is_as_long_as_it_is_said_to_be() {
    let kinds = kinds();
    let schema = kinds.motion(0).schema();
    for count in [1u16, 2, 7, 40] {
        let (_, mut out) = envelope(MessageKind::Snapshot);
        let used = Used { tick: WireTick(1), made_up: 0, shared: false };
        let own = |id: u16| id < 3;
        let entity = |index| EntityRef {
            id: EntityId { index, generation: 1 },
            kind: 0,
            teleports: 0,
            own: own(index).then_some(used),
        };
        let state = state(1.0);
        let entities: Vec<_> = (0..count).map(|id| (entity(id), &state)).collect();
        // As much news as there may be, and what is left is less than one.
        let news = News::Gone(EntityId { index: 40_000, generation: 1 });
        let news = vec![news.clone(); (NEWS_BITS / news.bits()) as usize];
        let head = SnapshotHead {
            tick: WireTick(9),
            every: 200,
            wants_times: true,
            form: StateDown::Whole,
            margin: Some(3),
            news,
        };
        write_snapshot(&mut out, &head, &kinds, entities.into_iter(), None);
        let (said, is) = (snapshot_bytes((0..count).map(|id| (schema, own(id)))), out.finish().len());
        // It may acknowledge something, and be of rules that are numbered higher.
        let more = (Header::BITS - Header::BARE_BITS) as usize / 8 + usize::from(count) + 5;
        assert!(is <= said && said - is <= more, "{count} entities: {is} of {said}");
    }
}

#[test]
fn the_fields_of_a_datagram_take_all_of_its_bits() {
    let timeline = timeline();
    let owned = [Owned { entity: OWN, kind: 0 }];
    let layouts = Layouts::new(&timeline, None, &owned);
    for (message, bytes) in samples() {
        let fields = fields_of(&bytes, &layouts).expect("it is sound");
        let bits: u32 = fields.iter().map(|field| field.bits).sum();
        let all = bytes.len() as u32 * 8;
        assert!(bits <= all && all - bits < 8, "{:?}: {bits} of {all} bits", message.kind());
        let envelope: u32 = fields.iter().filter(|field| field.of_envelope).map(|field| field.bits).sum();
        assert_eq!(envelope, Header::BARE_BITS);
        assert_eq!(fields[2].value, FieldValue::Words(message.kind().name().to_owned()));
    }
    // What is not sound has none.
    let (_, bytes) = samples().swap_remove(0);
    assert!(fields_of(&bytes[..9], &layouts).is_err());
}
