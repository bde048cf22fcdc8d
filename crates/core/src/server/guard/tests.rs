use std::sync::Arc;

use proptest::prelude::*;

use super::bank::Bank;
use super::bank::MOST_SLEPT;
use super::*;
use crate::ground::{Bounds, Ground, Solid, SolidId};
use crate::ids::EntityId;
use crate::motion::Motion;
use crate::session::{Ingredients, Kinds, Timeline};
use crate::vec3::vec3;
use crate::verdict::RULES;
use crate::walker::Walker;

const HZ: u32 = 60;

/// A guard, the ground it guards, and an owner who claims along a line.
struct Bench {
    guard: Guard,
    policy: Policy,
    ground: Ground,
    walker: Walker,
    state: State,
    tick: Tick,
    /// How many epochs the owner is behind.
    behind: u8,
}

impl Bench {
    fn new() -> Self {
        let walker = Walker::new();
        let state = walker.spawn(vec3(0.0, 0.0, 0.002), 0.0);
        let wall = Solid { id: SolidId(1), x: 12.0, y: 0.0, half_x: 0.5, half_y: 30.0, yaw: 0.0, low: 0.0, high: 3.0 };
        let bounds = Bounds { min: (-50.0, -50.0), max: (50.0, 50.0), floor: 0.0 };
        let rate = Rate::new(HZ).unwrap();
        Self {
            guard: Guard::new(rate, state, &Policy::default()),
            policy: Policy::default(),
            ground: Ground::new(bounds, vec![wall], Vec::new()),
            walker,
            state,
            tick: Tick(100),
            behind: 0,
        }
    }

    fn claim(&mut self, tick: Tick, x: f32, y: f32) {
        self.claim_place(tick, vec3(x, y, 0.002));
    }

    fn claim_place(&mut self, tick: Tick, at: Vec3) {
        let mut state = self.state;
        state.set_vec3(0, at);
        let state = self.walker.schema().round_state(&state);
        let epoch = self.guard.hearing.claims.epoch.wrapping_sub(self.behind);
        let since = self.guard.hearing.claims.newest.unwrap_or(Tick(100));
        let claim = Claim {
            newest: tick.wire(),
            entity: EntityId::first(0),
            back: 0,
            epoch,
            since: since.wire(),
            state,
            count: 0,
            trail: [Vec3::ZERO; 16],
        };
        self.guard.take_in(tick, since, &claim, self.tick);
    }

    fn judge(&mut self) -> Ruling {
        self.tick = self.tick.next();
        let rate = Rate::new(HZ).unwrap();
        let kinds = Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema");
        let timeline = Timeline::new(Ingredients::new(Arc::new(self.ground.clone()), &kinds));
        let rules = Rules { timeline: &timeline, kind: 0, rate, policy: &self.policy };
        self.guard.judge(&rules, self.tick, &mut self.state).0
    }

    /// Runs north at this speed, in metres a second, for `ticks` ticks; the first ruling that is not lawful.
    fn run_north(&mut self, speed: f32, ticks: u64) -> Option<(u64, Evidence)> {
        for i in 1..=ticks {
            self.claim(self.tick.next(), 0.0, i as f32 * speed / HZ as f32);
            match self.judge() {
                Ruling::Lawful => {}
                Ruling::Resync(_) => panic!("resync after {i} ticks"),
                Ruling::Guilty(offence, _) => return Some((i, offence.evidence)),
            }
        }
        None
    }
}

/// Walk times haste: the lawful top speed.
const TOP: f32 = 4.2 * 1.6;

#[test]
fn top_speed_is_lawful() {
    assert!(Bench::new().run_north(TOP, 400).is_none());
}

#[test]
fn six_per_cent_too_fast_is_found_within_a_second_and_undone() {
    let mut trial = Bench::new();
    let (ticks, verdict) = trial.run_north(TOP * 1.06, 400).unwrap();
    assert_eq!(verdict.rule, Rule::Pace);
    assert!(ticks <= 70, "{ticks}");
    assert!(verdict.measured > verdict.limit && (0.3..0.6).contains(&verdict.gain), "{verdict:?}");
    assert!(trial.state.vec3(0).y < 0.01, "back where the second began");
}

#[test]
fn three_times_too_fast_is_found_in_the_first_claim() {
    let (ticks, verdict) = Bench::new().run_north(TOP * 3.0, 10).unwrap();
    assert_eq!((ticks, verdict.rule), (1, Rule::Reach));
}

#[test]
fn a_wall_is_not_crossed() {
    let mut trial = Bench::new();
    let mut crossed = None;
    for i in 1..200 {
        trial.claim(trial.tick.next(), i as f32 * 0.11, 0.0);
        if let Some(broken) = rule(&trial.judge()) {
            crossed = Some(broken);
            break;
        }
    }
    assert_eq!(crossed, Some(Rule::Sweep));
    assert!(trial.state.vec3(0).x < 11.2);
}

#[test]
fn a_wall_behind_a_hole_in_the_path_is_a_resync() {
    let mut trial = Bench::new();
    for i in 1..=100 {
        trial.claim(trial.tick.next(), i as f32 * 0.11, 0.0);
        assert!(matches!(trial.judge(), Ruling::Lawful));
    }
    for _ in 0..19 {
        assert!(matches!(trial.judge(), Ruling::Lawful));
    }
    trial.claim(trial.tick.next(), 13.1, 0.0);
    assert!(matches!(trial.judge(), Ruling::Resync(Gap::Lost)));
}

#[test]
fn a_gap_longer_than_the_bank_is_a_resync() {
    let mut trial = Bench::new();
    assert!(trial.run_north(4.0, 30).is_none());
    for _ in 0..90 {
        trial.judge();
    }
    trial.claim(trial.tick.next(), 0.0, 3.0);
    assert!(matches!(trial.judge(), Ruling::Resync(Gap::Silence)));
}

#[test]
fn claims_of_an_older_epoch_are_not_judged() {
    let mut trial = Bench::new();
    trial.run_north(TOP * 3.0, 1).unwrap();
    trial.behind = 1;
    trial.claim(trial.tick.next(), 0.0, 40.0);
    assert!(matches!(trial.judge(), Ruling::Lawful));
    assert!(trial.guard.unanswered(None).is_some());
}

proptest! {
    /// Whatever is asked of it, a bank never pays out more ticks than have passed, plus its cap and 1/512.
    #[test]
    fn a_bank_never_pays_more_than_time(demands in prop::collection::vec(0u64..90, 1..400)) {
        let rate = Rate::new(HZ).unwrap();
        let mut bank = Bank::new(rate);
        let (mut paid, mut passed) = (0u64, 0u64);
        for demand in demands {
            bank.gain();
            passed += 1;
            if bank.pay(demand) {
                paid += demand;
            }
            prop_assert!(paid * 512 <= (passed * 513) + 60 * 512);
        }
    }

    /// An owner whose claims come in bunches, out of order and with lost ones, but lawfully, is never accused.
    #[test]
    fn bunches_and_holes_are_lawful(fates in prop::collection::vec(0u8..10, 300..420), bunch in 1usize..12) {
        let mut trial = Bench::new();
        let mut held = Vec::new();
        for (i, fate) in fates.iter().enumerate() {
            let tick = Tick(101 + i as u64);
            if *fate > 0 {
                held.push((tick, (i + 1) as f32 * TOP / HZ as f32));
            }
            if i % bunch == 0 {
                for (tick, y) in held.drain(..).rev() {
                    trial.claim(tick, 0.0, y);
                }
            }
            let ruling = trial.judge();
            prop_assert!(!matches!(ruling, Ruling::Guilty(..)), "{ruling:?} at {tick:?}");
        }
    }
}

#[test]
fn ticks_that_the_server_dropped_are_paid_and_lapse_when_the_owner_has_caught_up() {
    let hz = u64::from(HZ);
    let mut bank = Bank::new(Rate::new(HZ).unwrap());
    assert!(bank.pay(hz) && !bank.pay(1), "a second is saved, no more");
    bank.sleep(90);
    assert!((0..90).all(|_| bank.pay(1)) && !bank.pay(1));
    bank.sleep(90);
    bank.wake();
    assert!(!bank.pay(1), "nothing is left over for later");
    bank.sleep(90);
    (0..2 * hz).for_each(|_| bank.gain());
    assert!(!bank.pay(hz + 1), "nor for much later");
    bank.sleep(u64::MAX);
    assert!(bank.pay(MOST_SLEPT) && !bank.pay(hz + 40));
}

impl Bench {
    /// Claims this very place in the next tick.
    fn claim_at(&mut self, at: Vec3) -> Ruling {
        self.claim_place(self.tick.next(), at);
        self.judge()
    }

    /// With one more solid, so high.
    fn with_block(mut self, x: f32, half: f32, high: f32) -> Self {
        let mut solids = self.ground.solids().to_vec();
        solids.push(Solid { id: SolidId(2), x, y: 0.0, half_x: half, half_y: 3.0, yaw: 0.0, low: 0.0, high });
        self.ground = Ground::new(*self.ground.bounds(), solids, Vec::new());
        self
    }
}

fn rule(ruling: &Ruling) -> Option<Rule> {
    match ruling {
        Ruling::Guilty(offence, _) => Some(offence.evidence.rule),
        Ruling::Lawful | Ruling::Resync(_) => None,
    }
}

#[test]
fn a_hop_is_lawful_and_who_stays_up_is_found_when_it_should_have_come_down() {
    let dt = 1.0 / HZ as f32;
    let hop = |tick: u32| 7.4 * tick as f32 * dt - 22.0 * (tick as f32 * dt) * (tick as f32 * dt) / 2.0;
    let mut trial = Bench::new();
    for tick in 1..=40 {
        let ruling = trial.claim_at(vec3(0.0, 0.0, max(hop(tick), 0.002)));
        assert!(matches!(ruling, Ruling::Lawful), "{tick}: {ruling:?}");
    }
    // Up as far as it may, and there it stays.
    let mut trial = Bench::new();
    let found = (1..=60).find_map(|tick| {
        let ruling = trial.claim_at(vec3(0.0, 0.0, hop(tick.min(20))));
        rule(&ruling).map(|rule| (tick, rule))
    });
    let (tick, rule) = found.expect("nobody floats");
    assert!(rule == Rule::Support && (22..32).contains(&tick), "{rule:?} in tick {tick}");
}

#[test]
fn who_rises_at_a_lawful_speed_with_nothing_under_the_feet_is_found() {
    let mut trial = Bench::new();
    let found =
        (1..=120).find_map(|tick| rule(&trial.claim_at(vec3(0.0, 0.0, tick as f32 / HZ as f32))).map(|r| (tick, r)));
    let (tick, rule) = found.expect("it rises at 1 m/s");
    assert!(rule == Rule::Support && tick < 20, "{rule:?} in tick {tick}");
}

#[test]
fn an_edge_is_stepped_up_where_there_is_one_and_nowhere_else() {
    let block = || Bench::new().with_block(2.0, 1.0, 0.3);
    let mut up = block();
    up.state.set_vec3(0, vec3(0.6, 0.0, 0.002));
    up.guard = Guard::new(Rate::new(HZ).unwrap(), up.state, &up.policy);
    assert!(matches!(up.claim_at(vec3(0.7, 0.0, 0.302)), Ruling::Lawful), "onto the block");
    let mut nowhere = block();
    let ruling = nowhere.claim_at(vec3(-0.1, 0.0, 0.302));
    assert_eq!(rule(&ruling), Some(Rule::Edge), "{ruling:?}");
    let mut tall = Bench::new().with_block(2.0, 1.0, 0.6);
    tall.state.set_vec3(0, vec3(0.6, 0.0, 0.002));
    tall.guard = Guard::new(Rate::new(HZ).unwrap(), tall.state, &tall.policy);
    assert_eq!(rule(&tall.claim_at(vec3(0.7, 0.0, 0.602))), Some(Rule::Edge));
}

#[test]
fn nobody_stands_in_a_low_wall() {
    let mut trial = Bench::new().with_block(1.0, 0.1, 0.25);
    let found = (1..60).find_map(|tick| {
        let x = tick as f32 * 0.1;
        rule(&trial.claim_at(vec3(x, 0.0, 0.002))).map(|rule| (x, rule))
    });
    let (x, rule) = found.expect("the wall is lower than a step");
    assert!(rule == Rule::Sweep && (0.55..0.75).contains(&x), "{rule:?} at {x} m");
}

#[test]
fn what_is_missing_is_believed_now_and_then_and_not_always() {
    // Every second tick is left out, and nobody stands on anything: each might be a new hop.
    let mut trial = Bench::new();
    let mut z = 0.002;
    let height = (0..2 * HZ).find_map(|_| {
        trial.judge();
        z += 0.1;
        matches!(trial.claim_at(vec3(0.0, 0.0, z)), Ruling::Resync(_)).then_some(z)
    });
    assert!(height.is_some_and(|z| z < 8.0), "{height:?}");
}

#[test]
fn each_answer_does_what_it_says() {
    let run = |response| {
        let mut trial = Bench::new();
        trial.policy.responses[Rule::Reach as usize] = response;
        let ruling = trial.claim_at(vec3(0.0, 0.5, 0.002));
        let notes = trial.guard.notes().count();
        (ruling, notes, trial.state.vec3(0).y, trial.guard.unanswered(None).is_some())
    };
    let (ruling, notes, y, pulled) = run(Response::Note);
    assert!(matches!(ruling, Ruling::Lawful) && notes == 1 && y > 0.49 && !pulled, "{ruling:?} {notes} {y}");
    let (ruling, notes, y, pulled) = run(Response::Clamp);
    let lawful = TOP / HZ as f32 * 1.04 + 0.006;
    assert!(matches!(ruling, Ruling::Guilty(_, Response::Clamp)) && notes == 0 && pulled, "{ruling:?}");
    assert!((0.1..lawful).contains(&y), "{y}");
    for response in [Response::PullBack, Response::Strike, Response::Disconnect] {
        let (ruling, _, y, pulled) = run(response);
        assert!(
            matches!(ruling, Ruling::Guilty(_, with) if with == response) && y.abs() < 0.01 && pulled,
            "{ruling:?}"
        );
    }
    // The same every tick is noted once a second.
    let mut trial = Bench::new();
    trial.policy.responses = [Response::Note; RULES.len()];
    for tick in 1..=150 {
        trial.claim_at(vec3(0.0, tick as f32 * 0.3, 0.002));
    }
    assert_eq!(trial.guard.notes().filter(|note| note.evidence.rule == Rule::Reach).count(), 3);
}

#[test]
fn a_hands_breadth_at_once_is_found_and_its_exhibit_shows_it() {
    // At rest, then 8 cm ahead, then at rest: within reach, within the pace of a second.
    let mut trial = Bench::new();
    for _ in 0..30 {
        assert!(matches!(trial.claim_at(vec3(0.0, 0.0, 0.002)), Ruling::Lawful));
    }
    let Ruling::Guilty(offence, _) = trial.claim_at(vec3(0.0, 0.08, 0.002)) else { panic!("nobody is there at once") };
    let Offence { evidence, path } = *offence;
    assert_eq!(evidence.rule, Rule::Accel);
    // From 0 to 4.8 m/s in a tick, of which 38 m/s² make 0.63.
    assert!((evidence.measured - 4.8).abs() < 0.3 && evidence.limit < 1.5, "{evidence:?}");
    assert_eq!(path.corners().len(), 3, "where it was before, and then, and now");
    assert!(trial.state.vec3(0).y.abs() < 0.01, "none of it is gained");
    // As fast as it may from rest to top speed and back to rest is lawful, whichever way.
    let mut trial = Bench::new();
    let (mut y, mut speed) = (0.0, 0.0f32);
    for tick in 0..120 {
        let wanted = if (tick / 30) % 2 == 0 { TOP } else { -TOP };
        let before = speed;
        speed += (wanted - speed).clamp(-38.0 / HZ as f32, 38.0 / HZ as f32);
        y += (before + speed) / 2.0 / HZ as f32;
        let ruling = trial.claim_at(vec3(0.0, y, 0.002));
        assert!(matches!(ruling, Ruling::Lawful), "{tick}: {ruling:?}");
    }
}

#[test]
fn whoever_runs_into_something_stops_as_hard_as_it_does() {
    let mut trial = Bench::new().with_block(3.0, 1.0, 2.0);
    let mut x = 0.0f32;
    for tick in 0..60 {
        // The block begins at 2 m, the body is 0.35 m wide.
        x = min(x + TOP / HZ as f32, 1.645);
        let ruling = trial.claim_at(vec3(x, 0.0, 0.002));
        assert!(matches!(ruling, Ruling::Lawful), "{tick}: {ruling:?}");
    }
    // In the open nobody does.
    let mut trial = Bench::new();
    let mut x = 0.0f32;
    let found = (0..60).find_map(|_| {
        x = min(x + TOP / HZ as f32, 1.645);
        rule(&trial.claim_at(vec3(x, 0.0, 0.002)))
    });
    assert_eq!(found, Some(Rule::Accel));
}

#[test]
fn further_than_a_second_leads_is_a_teleport_and_nearer_is_not() {
    assert_eq!(rule(&Bench::new().claim_at(vec3(0.0, TOP * 1.2, 0.002))), Some(Rule::Teleport));
    assert_eq!(rule(&Bench::new().claim_at(vec3(0.0, TOP * 0.8, 0.002))), Some(Rule::Reach));
}

#[test]
fn so_many_times_of_what_a_rule_says_is_allowed() {
    let found = |times: f32, speed: f32| {
        let mut trial = Bench::new();
        trial.policy.allowed[Rule::Pace as usize] = times;
        let found = trial.run_north(TOP * speed, 100).map(|(_, evidence)| (evidence.rule, evidence.allowed));
        let measured: Vec<Evidence> = trial.guard.measures().filter(|m| m.rule == Rule::Pace).collect();
        assert!(measured.iter().all(|m| m.allowed == 1.0 && m.limit < TOP * 1.1), "kept beside what the rule says");
        found
    };
    assert_eq!((found(1.0, 1.0), found(1.1, 1.08)), (None, None));
    assert_eq!((found(1.0, 1.08), found(0.9, 1.0)), (Some((Rule::Pace, 1.0)), Some((Rule::Pace, 0.9))));
}

#[test]
fn a_verdict_for_pace_shows_the_path_of_the_second() {
    let mut trial = Bench::new();
    let path = (1..=100).find_map(|i| {
        trial.claim(trial.tick.next(), 0.0, i as f32 * TOP * 1.08 / HZ as f32);
        match trial.judge() {
            Ruling::Guilty(offence, _) => Some(offence.path),
            _ => None,
        }
    });
    let path = path.expect("too fast");
    let corners = path.corners();
    assert!((8..=12).contains(&corners.len()), "{corners:?}");
    let way = corners[0].distance(corners[corners.len() - 1]);
    assert!((way - TOP * 1.08).abs() < 1.0 && corners.windows(2).all(|c| c[1].y > c[0].y), "{corners:?}");
}

#[test]
fn whoever_falls_past_a_kerb_is_stopped_by_its_side() {
    // Towards a kerb of 15 cm from above it, and below its edge when it gets there.
    let mut trial = Bench::new().with_block(2.6, 0.35, 0.15);
    // Where it was put it stands on nothing, and falls from the first tick on.
    let start = vec3(1.4, 0.0, 0.35);
    trial.state.set_vec3(0, start);
    trial.guard = Guard::new(Rate::new(HZ).unwrap(), trial.state, &trial.policy);
    let (mut at, dt) = (start, 1.0 / HZ as f32);
    for tick in 1..21 {
        let before = at;
        at.z = max(0.35 - 22.0 * (tick as f32 * dt) * (tick as f32 * dt) / 2.0, 0.002);
        let wanted = before.x + TOP * dt * min(tick as f32 / 8.0, 1.0);
        // The block begins at 2.25 m, the body is 0.35 m wide.
        at.x = if before.z < 0.15 || at.z < 0.15 { min(wanted, 1.895) } else { wanted };
        let ruling = trial.claim_at(at);
        assert!(matches!(ruling, Ruling::Lawful), "{tick} at {at:?}: {ruling:?}");
    }
    assert!((at.x - 1.895).abs() < 1e-3, "it was stopped: {at:?}");
}

#[test]
fn whoever_lands_and_hops_again_where_nothing_is_known_is_not_accused_for_it() {
    let dt = 1.0 / HZ as f32;
    let thrown = |up: f32, ticks: u32| up * ticks as f32 * dt - 22.0 * (ticks as f32 * dt) * (ticks as f32 * dt) / 2.0;
    // Off a block of 20 cm, down to the ground in ticks that are lost, and up again from there.
    let run = |again: bool| {
        let mut trial = Bench::new().with_block(2.0, 1.0, 0.2);
        trial.state.set_vec3(0, vec3(0.7, 0.0, 0.202));
        trial.guard = Guard::new(Rate::new(HZ).unwrap(), trial.state, &trial.policy);
        assert!(matches!(trial.claim_at(vec3(0.7, 0.0, 0.202)), Ruling::Lawful));
        for tick in 1..=6 {
            assert!(matches!(trial.claim_at(vec3(0.6, 0.0, 0.202 + thrown(0.0, tick))), Ruling::Lawful), "{tick}");
        }
        (7..=10).for_each(|_| drop(trial.judge()));
        let hop = |tick: u32| if again { thrown(7.4, tick - 9) } else { thrown(0.0, 1) + 0.9 };
        (11..=48).find_map(|tick| rule(&trial.claim_at(vec3(0.6, 0.0, max(hop(tick), 0.002)))))
    };
    assert_eq!(run(true), None);
    assert_eq!(run(false), Some(Rule::Support), "whoever stays up there is found all the same");
}
