use proptest::prelude::*;

use super::*;
use crate::body::Body;
use crate::vec3::{Vec3, vec3};

const BODY: Body = Body { radius: 0.35, height: 1.7, step: 0.3 };

fn solid(id: u16, x: f32, y: f32, half: (f32, f32), yaw: f32, heights: (f32, f32)) -> Solid {
    Solid { id: SolidId(id), x, y, half_x: half.0, half_y: half.1, yaw, low: heights.0, high: heights.1 }
}

fn world(solids: Vec<Solid>) -> Ground {
    Ground::new(Bounds { min: (-40.0, -40.0), max: (40.0, 40.0), floor: 0.0 }, solids, Vec::new())
}

prop_compose! {
    fn any_solid()(id in 0u16..99, x in -8.0f32..8.0, y in -8.0f32..8.0, hx in 0.1f32..3.0, hy in 0.1f32..3.0,
                   yaw in -3.2f32..3.2, low in -0.5f32..1.5, tall in 0.1f32..3.0) -> Solid {
        solid(id, x, y, (hx, hy), yaw, (low, low + tall))
    }
}

prop_compose! {
    fn any_point()(x in -10.0f32..10.0, y in -10.0f32..10.0, z in 0.01f32..3.0) -> Vec3 { vec3(x, y, z) }
}

/// The library that made the stored cases iterates to a tolerance, so distances along the way are compared loosely.
#[test]
fn a_sweep_meets_what_a_general_geometry_library_meets() {
    let rows = include_str!("impacts.csv").lines().filter(|line| !line.starts_with('#'));
    let mut met = 0;
    for row in rows {
        let (numbers, share) = row.rsplit_once(',').expect("fields");
        let n: Vec<f32> = numbers.split(',').map(|field| field.parse().expect("a number")).collect();
        let ground = world(vec![solid(1, n[0], n[1], (n[2], n[3]), n[4], (n[5], n[6]))]);
        let (from, to) = (vec3(n[7], n[8], n[9]), vec3(n[10], n[11], n[12]));
        let ours = ground.sweep(&BODY, from, to);
        let Ok(theirs) = share.parse::<f32>() else {
            assert_eq!(ours, None, "{row}");
            continue;
        };
        let ours = ours.unwrap_or_else(|| panic!("nothing met: {row}"));
        // Along the normal: on a shallow way the tolerance stretches.
        let apart = ((ours.fraction - theirs) * (to - from).dot(ours.normal)).abs();
        assert!(apart < 0.01, "{row}: ours {ours:?}, {apart} m apart");
        met += 1;
    }
    assert_eq!(met, 500);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    /// However a body is pushed about, it ends outside everything, and the way it took is found free again.
    #[test]
    fn a_move_that_was_free_is_found_free_again(
        solids in prop::collection::vec(any_solid(), 1..8),
        start in any_point(),
        pushes in prop::collection::vec((-0.4f32..0.4, -0.4f32..0.4, -0.3f32..0.2), 1..60),
    ) {
        let ground = world(solids);
        prop_assume!(ground.overlap(&Body { radius: 0.36, ..BODY }, start - vec3(0.0, 0.0, 0.005)).is_none());
        let mut at = start;
        for (x, y, z) in pushes {
            let travel = vec3(x, y, z);
            let moved = slide(&ground, &BODY, Slide { from: at, travel, velocity: travel, grounded: z < -0.2 });
            prop_assert_eq!(ground.overlap(&BODY, moved.position), None, "ended inside at {:?}", moved.position);
            // Who stands follows the ground down an edge: then the way is bent without a contact, the floor being none.
            if z >= -0.2 && moved.contacts.iter().next().is_none() {
                prop_assert_eq!(ground.sweep(&BODY, at, moved.position), None);
            }
            // Resting: neither staying nor trembling by less than the skin meets anything.
            prop_assert_eq!(ground.sweep(&BODY, moved.position, moved.position), None);
            at = moved.position;
        }
    }
}

#[test]
fn sliding_along_a_wall_keeps_the_way_along_it() {
    let ground = world(vec![solid(1, 0.0, 3.0, (10.0, 1.0), 0.0, (0.0, 3.0))]);
    let mut at = vec3(-5.0, 1.0, 0.01);
    for _ in 0..100 {
        let travel = vec3(0.08, 0.08, 0.0);
        at = slide(&ground, &BODY, Slide { from: at, travel, velocity: travel, grounded: true }).position;
    }
    assert!((at.x - 3.0).abs() < 1e-3, "{at:?}");
    assert!((at.y - (2.0 - BODY.radius - SKIN)).abs() < 2e-3, "{at:?}");
}

#[test]
fn a_corner_of_two_walls_holds_a_body() {
    let ground =
        world(vec![solid(1, 3.0, 0.0, (1.0, 9.0), 0.0, (0.0, 3.0)), solid(2, 0.0, 3.0, (9.0, 1.0), 0.0, (0.0, 3.0))]);
    let mut at = vec3(0.0, 0.0, 0.01);
    for _ in 0..200 {
        let travel = vec3(0.1, 0.07, 0.0);
        at = slide(&ground, &BODY, Slide { from: at, travel, velocity: travel, grounded: true }).position;
    }
    assert!(at.x < 2.0 - BODY.radius && at.y < 2.0 - BODY.radius, "{at:?}");
    assert!(at.x > 1.6 && at.y > 1.6, "{at:?}");
}

#[test]
fn small_edges_are_stepped_up_and_down_and_tall_ones_are_not() {
    let walk = |edge: f32| {
        let ground = world(vec![solid(1, 3.0, 0.0, (1.0, 9.0), 0.2, (0.0, edge))]);
        let (mut at, mut highest) = (vec3(0.0, 0.0, 0.01), 0.0f32);
        for _ in 0..80 {
            let travel = vec3(0.1, 0.0, 0.0);
            let moved = slide(&ground, &BODY, Slide { from: at, travel, velocity: travel, grounded: true });
            assert!(moved.grounded);
            at = moved.position;
            highest = crate::float::max(highest, at.z);
        }
        (at, highest)
    };
    let (over, highest) = walk(0.25);
    assert!(over.x > 7.5 && over.z < 0.01 && (highest - 0.252).abs() < 2e-3, "{over:?} {highest}");
    let (before, highest) = walk(0.4);
    assert!(before.x < 2.2 && highest < 0.02, "{before:?} {highest}");
}

#[test]
fn the_edge_of_the_world_holds() {
    let ground = Ground::flat(5.0);
    let travel = vec3(30.0, 1.0, 0.0);
    let moved = slide(&ground, &BODY, Slide { from: vec3(0.0, 0.0, 0.1), travel, velocity: travel, grounded: true });
    assert!(moved.position.x < 4.65 && moved.position.x > 4.64);
    assert_eq!(ground.sweep(&BODY, vec3(0.0, 0.0, 0.1), vec3(9.0, 0.0, 0.1)).map(|h| h.solid), Some(SolidId::EDGE));
}
