//! Any history of loss, order, doubling, silence, comings and goings: what is read is what was sent.

use std::sync::Arc;

use proptest::prelude::*;

use super::body::open;
use super::*;
use crate::body::Body as Room;
use crate::data::{Input, State};
use crate::field::{Agree, Blend, SeenBy, Shape, StateField};
use crate::ids::EntityId;
use crate::motion::{Limits, Motion, Scene, Step};
use crate::quantiser::Quantiser;
use crate::schema::Schema;
use crate::session::Kinds;
use crate::tick::Tick;
use crate::vec3::{Vec3, vec3};
use crate::walker::Walker;
use crate::wire::KEPT;
use crate::wire::{BitReader, EntityRecord, EntityRef, Noting, Snapshot, SnapshotHead, StateDown, Used, WireError};

const DT: f32 = 1.0 / 60.0;

/// A rule of any layout, of which nothing moves. The odd one: a velocity that only its owner sees, a counter, a number of few bits, a vector, two flags; the place is not carried.
#[derive(Debug)]
pub(super) struct Laid(pub(super) Schema);

impl Laid {
    fn odd(bits: u32) -> Self {
        let field = |name, lane, shape, unit, (step, bits), seen_by| StateField {
            name,
            lane,
            shape,
            unit,
            wire: Quantiser::new(step, bits),
            agree: Agree::Exactly,
            blend: Blend::None,
            seen_by,
        };
        let state = vec![
            field("pos", 0, Shape::Point, "m", (0.01, 20), SeenBy::All),
            field("vel", 9, Shape::Vector, "m/s", (0.01, 12), SeenBy::Owner),
            field("count", 3, Shape::Counter, "1", (1.0, 8), SeenBy::All),
            field("heat", 4, Shape::Number, "1", (0.5, bits), SeenBy::All),
            field("wind", 5, Shape::Vector, "1/s", (0.25, 5), SeenBy::All),
            field("lit", 8, Shape::Flag, "1", (1.0, 2), SeenBy::All),
            field("hidden", 12, Shape::Flag, "1", (1.0, 2), SeenBy::Owner),
        ];
        Self(Schema { state, input: Vec::new() })
    }

    /// All lanes in use, and a second place, which nothing carries, in the last of them.
    fn wide() -> Self {
        let Self(mut schema) = Self::odd(9);
        let like = |i: usize| schema.state[i].clone();
        let mut state = vec![like(0), StateField { lane: 3, seen_by: SeenBy::All, ..like(1) }];
        state.extend((6..29).map(|lane| StateField { lane, name: crate::names::name(&format!("n{lane}")), ..like(3) }));
        state.push(StateField { lane: 29, name: "goal", ..like(0) });
        schema.state = state;
        Self(schema)
    }
}

impl Motion for Laid {
    fn name(&self) -> &'static str {
        "odd"
    }

    fn schema(&self) -> &Schema {
        &self.0
    }

    fn body(&self) -> Room {
        Walker::new().body()
    }

    fn limits(&self, tunables: &[f32]) -> Limits {
        Walker::new().limits(tunables)
    }

    fn spawn(&self, position: Vec3, _: f32) -> State {
        let mut state = State::default();
        state.set_vec3(0, position);
        state
    }

    fn step(&self, _: &Scene<'_>, state: &State, _: &Input) -> Step {
        Step { state: *state, ..Step::default() }
    }
}

/// Numbers by chance, from a seed.
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u32 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as u32
    }

    fn below(&mut self, most: u32) -> u32 {
        self.next() % most
    }

    fn percent(&mut self, of: u32) -> bool {
        self.below(100) < of
    }

    fn real(&mut self, reach: f32) -> f32 {
        (self.next() as f32 / 2f32.powi(30) - 1.0) * reach
    }
}

#[derive(Clone)]
struct Being {
    id: EntityId,
    kind: u8,
    teleports: u8,
    own: bool,
    state: State,
}

impl Being {
    fn pass(&mut self, dice: &mut Dice) {
        let velocity = if self.kind == 1 { 9 } else { 3 };
        match dice.below(12) {
            0 => self.state.set_vec3(velocity, vec3(dice.real(9.0), dice.real(9.0), dice.real(2.0))),
            1 => self.state.set_vec3(velocity, Vec3::ZERO),
            2 => self.state.set_flag(if self.kind == 0 { 7 } else { 8 }, dice.percent(50)),
            3 if self.kind == 1 => self.state.set_int(3, dice.next()),
            7 if self.kind == 2 => self.state.set_vec3(29, vec3(dice.real(40.0), dice.real(40.0), dice.real(4.0))),
            4 if self.kind == 1 => self.state.set_vec3(5, vec3(dice.real(9.0), 1e9, 0.0)),
            5 => self.state.set_real(if self.kind == 0 { 6 } else { 4 }, dice.real(4.0)),
            6 if dice.percent(10) => {
                self.teleports = (self.teleports + 1) % 8;
                self.state.set_vec3(0, vec3(dice.real(900.0), dice.real(900.0), dice.real(90.0)));
            }
            _ => {}
        }
        let by = self.state.vec3(velocity) * DT;
        self.state.set_vec3(0, self.state.vec3(0) + by);
    }

    fn record(&self, tick: Tick) -> EntityRecord {
        let used =
            Used { tick: tick.offset(-i64::from(self.teleports)).wire(), made_up: self.teleports, shared: false };
        let own = self.own.then_some(used);
        let Self { id, kind, teleports, state, .. } = *self;
        EntityRecord { entity: EntityRef { id, kind, teleports, own }, state }
    }
}

/// A snapshot under way, and what was to be told by it.
#[derive(Clone)]
struct UnderWay {
    tick: Tick,
    snapshot: Snapshot,
    told: Vec<EntityRecord>,
}

/// How a way behaves, in percent and in ticks.
#[derive(Clone, Copy, Debug)]
struct Weather {
    loss: u32,
    longest: u32,
    doubled: u32,
    silence: u32,
}

/// A sender and a receiver with the same layouts; at one tick they change.
struct Ends {
    kinds: [Kinds; 2],
    /// The receiver's rules do something else.
    theirs: [Kinds; 2],
    changes: Tick,
    baselines: Baselines<Has>,
    had: Had,
    received: Vec<Tick>,
}

fn kinds(bits: u32, other: bool) -> Kinds {
    let walker: Arc<dyn Motion> = if other { Arc::new(Stander(Walker::new())) } else { Arc::new(Walker::new()) };
    Kinds::new(vec![walker, Arc::new(Laid::odd(bits)), Arc::new(Laid::wide())]).expect("sound schemas")
}

/// A walker that never moves: another rule of the same layout.
#[derive(Debug)]
struct Stander(Walker);

impl Motion for Stander {
    fn name(&self) -> &'static str {
        self.0.name()
    }

    fn schema(&self) -> &Schema {
        self.0.schema()
    }

    fn body(&self) -> Room {
        self.0.body()
    }

    fn limits(&self, tunables: &[f32]) -> Limits {
        self.0.limits(tunables)
    }

    fn spawn(&self, position: Vec3, bearing: f32) -> State {
        self.0.spawn(position, bearing)
    }

    fn step(&self, _: &Scene<'_>, state: &State, _: &Input) -> Step {
        Step { state: *state, ..Step::default() }
    }
}

impl Ends {
    fn new(changes: Tick) -> Self {
        let of = |other| [kinds(9, other), kinds(14, other)];
        let (baselines, had) = (Baselines::default(), Had::new());
        Self { kinds: of(false), theirs: of(true), changes, baselines, had, received: Vec::new() }
    }

    fn at<'a>(&self, kinds: &'a [Kinds; 2], tick: Tick) -> &'a Kinds {
        &kinds[usize::from(tick >= self.changes)]
    }

    fn send(&mut self, tick: Tick, form: StateDown, world: &[Being]) -> UnderWay {
        let kinds = self.at(&self.kinds, tick).clone();
        let mut moment = Moment::new(tick, kinds.clone());
        world.iter().for_each(|b| moment.tell_state((b.id, b.kind, b.teleports), &b.state));
        let told: Vec<EntityRecord> = world.iter().map(|b| b.record(tick)).collect();
        let own: Vec<EntityRecord> = told.iter().copied().filter(|r| r.entity.own.is_some()).collect();
        let base = self.baselines.newest();
        let body = Telling { tick, kinds: &kinds, dt: DT, base, moment: &moment, own: &own, inputs: None }.body(form);
        let keep = |r: &EntityRecord| {
            ToldOwn::new((r.entity.id, r.entity.kind, r.entity.teleports), &r.state, kinds.plan(r.entity.kind))
        };
        self.baselines.sent(Has::new(Arc::new(moment), own.iter().map(keep).collect()));
        let head = SnapshotHead { tick: tick.wire(), every: 1, form, ..SnapshotHead::default() };
        UnderWay { tick, snapshot: Snapshot { head, body: Some(body), ..Snapshot::default() }, told }
    }

    /// Reads a snapshot: it says what was to be told by it, exactly or rounded; or it was overtaken by so many that it may be forgotten what it rests on.
    fn read(&mut self, come: &UnderWay) -> bool {
        let theirs = self.at(&self.theirs, come.tick);
        let mut snapshot = come.snapshot.clone();
        let body = snapshot.body.take().expect("it has one");
        let mut from = BitReader::new(&body.bytes);
        let has = match open(&mut from, &mut snapshot, &body, (come.tick, theirs, DT), &self.had) {
            Ok(has) => has,
            Err(why) => {
                assert!(matches!(why, WireError::Baseline(_)), "{why}");
                let rests = come.tick.offset(-i64::from(body.back));
                let newer = self.received.iter().filter(|tick| **tick > rests).count();
                assert!(newer >= KEPT, "{rests:?} is not forgotten: {newer} newer ones");
                return false;
            }
        };
        assert!(from.is_finished());
        assert_eq!(snapshot.entities.len(), come.told.len());
        for (read, told) in snapshot.entities.iter().zip(&come.told) {
            assert_eq!(read.entity, told.entity);
            let schema = theirs.motion(told.entity.kind).schema();
            let is = |state: &State| if told.entity.own.is_some() { *state } else { schema.seen(state) };
            assert_eq!(read.state, is(&told.state), "{:?}", told.entity);
        }
        noted_alike(&body, (come, theirs, &self.had));
        if !self.received.contains(&come.tick) {
            self.received.push(come.tick);
            self.had.keep(has);
        }
        true
    }
}

/// What is looked at takes as many bits as there are, and says the same.
fn noted_alike(body: &crate::wire::Body, (come, kinds, had): (&UnderWay, &Kinds, &Had)) {
    let mut snapshot = Snapshot { body: None, ..come.snapshot.clone() };
    let mut noting = Noting::new(&body.bytes);
    open(&mut noting, &mut snapshot, body, (come.tick, kinds, DT), had).expect("it was read");
    let fields = noting.finish(crate::wire::MessageKind::Snapshot).expect("nothing is left over");
    let bits: u32 = fields.iter().map(|field| field.bits).sum();
    let all = body.bytes.len() as u32 * 8;
    assert!(bits <= all && all - bits < 8, "{bits} of {all}");
}

/// Plays a history, and gives how many snapshots rested on another.
fn history(seed: u64, form: StateDown, weather: Weather) -> usize {
    let mut dice = Dice(seed);
    let mut ends = Ends::new(Tick(65_400 + u64::from(dice.below(400))));
    let mut world: Vec<Being> = Vec::new();
    let (mut generations, mut way, mut acks) = ([0u8; 9], Vec::new(), Vec::new());
    let (mut silent_until, mut rested, every) = (0, 0, 1 + u64::from(dice.below(4)));
    for now in 65_300..65_700u64 {
        let tick = Tick(now);
        come_and_go(&mut dice, &mut world, &mut generations);
        world.iter_mut().for_each(|being| being.pass(&mut dice));
        if dice.percent(weather.silence) {
            silent_until = now + u64::from(dice.below(120));
        }
        if now % every == 0 {
            let sent = ends.send(tick, form, &world);
            rested += usize::from(sent.snapshot.body.as_ref().is_some_and(|body| body.back > 0));
            let copies = if dice.percent(weather.doubled) { 2 } else { 1 };
            for _ in 0..copies {
                let arrives = now + 1 + u64::from(dice.below(weather.longest));
                if !dice.percent(weather.loss) {
                    way.push((arrives.max(silent_until), sent.clone()));
                }
            }
        }
        let (come, rest) = way.into_iter().partition::<Vec<_>, _>(|(arrives, _)| *arrives <= now);
        way = rest;
        for (_, sent) in come {
            if ends.read(&sent) && !dice.percent(weather.loss) {
                acks.push((now + 1 + u64::from(dice.below(weather.longest)), sent.tick));
            }
        }
        let (come, rest) = acks.into_iter().partition::<Vec<_>, _>(|(arrives, _)| *arrives <= now);
        acks = rest;
        come.into_iter().for_each(|(_, tick)| ends.baselines.arrived(tick));
        if dice.percent(1) {
            ends.baselines.forget();
        }
    }
    rested
}

/// Beings come, go, and change hands.
fn come_and_go(dice: &mut Dice, world: &mut Vec<Being>, generations: &mut [u8; 9]) {
    if dice.percent(5) {
        let slot = dice.below(9) as u16;
        match world.binary_search_by_key(&slot, |being| being.id.index) {
            Ok(at) => {
                generations[usize::from(slot)] = generations[usize::from(slot)].wrapping_add(1);
                world.remove(at);
            }
            Err(at) => {
                let kind = dice.below(3) as u8;
                let mut state = State::default();
                state.set_vec3(0, vec3(dice.real(40.0), dice.real(40.0), 0.0));
                let id = EntityId { index: slot, generation: generations[usize::from(slot)] };
                world.insert(at, Being { id, kind, teleports: 0, own: dice.percent(20), state });
            }
        }
    }
    if dice.percent(2)
        && let Some(being) = world.first_mut()
    {
        being.own = !being.own;
    }
}

fn weather() -> impl Strategy<Value = Weather> {
    (0u32..70, 1u32..90, 0u32..30, 0u32..3).prop_map(|(loss, longest, doubled, silence)| Weather {
        loss,
        longest,
        doubled,
        silence,
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(100))]

    #[test]
    fn what_is_read_is_what_was_sent_whatever_becomes_of_datagrams(seed: u64, coded: bool, weather in weather()) {
        history(seed, if coded { StateDown::Coded } else { StateDown::Delta }, weather);
    }

    #[test]
    fn any_bytes_are_a_body_or_an_error(seed: u64, bytes in prop::collection::vec(any::<u8>(), 0..200), coded: bool, entities in 0u8..=255) {
        let mut ends = Ends::new(Tick(65_400));
        let mut dice = Dice(seed);
        let mut world = Vec::new();
        (0..60).for_each(|_| come_and_go(&mut dice, &mut world, &mut [0; 9]));
        let form = if coded { StateDown::Coded } else { StateDown::Delta };
        let first = ends.send(Tick(65_390), form, &world);
        prop_assert!(ends.read(&first));
        ends.baselines.arrived(Tick(65_390));
        let mut sent = ends.send(Tick(65_395), form, &world);
        let body = sent.snapshot.body.as_mut().expect("it has one");
        // Half of the time what was sent, with something else in it.
        if dice.percent(50) {
            for byte in bytes.iter().take(4) {
                let at = dice.below(body.bytes.len() as u32) as usize;
                body.bytes[at] = *byte;
            }
        } else {
            (body.bytes, body.entities) = (bytes, entities);
        }
        let mut snapshot = sent.snapshot.clone();
        let body = snapshot.body.take().expect("it has one");
        let about = (sent.tick, &ends.kinds[0], DT);
        let read = open(&mut BitReader::new(&body.bytes), &mut snapshot, &body, about, &ends.had);
        let mut noting = Noting::new(&body.bytes);
        let noted = open(&mut noting, &mut Snapshot { body: None, ..sent.snapshot.clone() }, &body, about, &ends.had);
        prop_assert_eq!(read.is_ok(), noted.is_ok());
        prop_assert!(snapshot.entities.len() <= 255);
    }
}

#[test]
#[ignore = "minutes: 10,000 histories"]
fn ten_thousand_histories() {
    for seed in 0..10_000u64 {
        let mut dice = Dice(seed ^ 0x5eed);
        let weather = Weather {
            loss: dice.below(70),
            longest: 1 + dice.below(90),
            doubled: dice.below(30),
            silence: dice.below(3),
        };
        history(seed, if seed % 2 == 0 { StateDown::Delta } else { StateDown::Coded }, weather);
    }
}

#[test]
fn on_a_good_way_nearly_all_rest_on_another() {
    let calm = Weather { loss: 0, longest: 6, doubled: 0, silence: 0 };
    let rested = (0..8).map(|seed| history(seed, StateDown::Delta, calm)).collect::<Vec<_>>();
    assert!(rested.iter().all(|rested| *rested >= 70), "{rested:?} of 100 or more");
}

/// Sixty-four entities, half of them still, told every tick; what each entry takes of those that move and of those that stand, in bits.
pub(super) fn entries(form: StateDown, back: u64) -> (f64, f64) {
    let mut ends = Ends::new(Tick(1 << 20));
    let mut dice = Dice(7);
    let being = |index: u16| {
        let mut state = State::default();
        state.set_vec3(0, vec3(f32::from(index) * 3.0, 5.0, 0.0));
        state.set_flag(7, true);
        Being { id: EntityId::first(index), kind: 0, teleports: 0, own: false, state }
    };
    let mut world: Vec<Being> = (0..64).map(being).collect();
    let mut come = Vec::new();
    let (mut moving, mut still) = ((0u32, 0u32), (0u32, 0u32));
    for now in 1000..1400 {
        for (i, being) in world.iter_mut().enumerate().filter(|(i, _)| i % 2 == 0) {
            walk(being, &mut dice, now, i);
        }
        let sent = ends.send(Tick(now), form, &world);
        assert!(ends.read(&sent));
        let mut snapshot = Snapshot { body: None, ..sent.snapshot.clone() };
        let body = sent.snapshot.body.clone().expect("it has one");
        let mut noting = Noting::new(&body.bytes);
        let _ = open(&mut noting, &mut snapshot, &body, (sent.tick, &ends.kinds[0], DT), &ends.had);
        let fields = noting.finish(crate::wire::MessageKind::Snapshot).expect("sound");
        if now > 1100 {
            for field in &fields {
                let Some(of) = field.of else { continue };
                let sum = if of.index % 2 == 0 { &mut moving } else { &mut still };
                sum.0 += field.bits;
            }
            (moving.1, still.1) = (moving.1 + 32, still.1 + 32);
        }
        come.push(sent.tick);
        if let Some(at) = come.iter().position(|tick| tick.0 + back == now + 1) {
            ends.baselines.arrived(come[at]);
        }
    }
    let each = |(bits, count): (u32, u32)| f64::from(bits) / f64::from(count);
    (each(moving), each(still))
}

/// Walks as somebody does who turns, stops and goes on.
fn walk(being: &mut Being, dice: &mut Dice, now: u64, i: usize) {
    let phase = (now + i as u64 * 17) / 40 % 5;
    let (turn, pace) = ([0.0, 0.02, 0.0, -0.03, 0.01][phase as usize], [4.2, 4.2, 6.7, 4.2, 4.2][phase as usize]);
    // Eyes turn unevenly, and travel in ten bits.
    let turned = crate::float::wrap_angle(being.state.real(6) + turn * (1.0 + dice.real(0.5)));
    let facing = crate::field::bearing_quantiser(10).round(turned);
    let want = vec3(libm::cosf(facing) * pace, libm::sinf(facing) * pace, 0.0);
    let before = being.state.vec3(3);
    let apart = want - before;
    let most = 38.0 * DT;
    let size = apart.length();
    let after = if size <= most { want } else { before + apart * (most / size) };
    being.state.set_real(6, facing);
    being.state.set_vec3(3, after);
    being.state.set_vec3(0, being.state.vec3(0) + (before + after) * (0.5 * DT));
}

#[test]
fn an_entry_takes_few_bits_and_one_that_stands_hardly_any() {
    for (form, most) in [(StateDown::Delta, 31.0), (StateDown::Coded, 22.5)] {
        let (moving, still) = entries(form, 6);
        assert!(moving <= most && still <= 2.0, "{form:?}: {moving:.1} bits moving, {still:.2} standing");
    }
}
