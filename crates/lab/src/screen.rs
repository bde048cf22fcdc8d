//! What a client draws in a frame, put down as values that can be kept.

use velocitas_core::{Client, DrawnSpot, DrawnState, EntityId, HostNanos, Tick, canonical_bits};
use velocitas_record::ids::RecordTick;
use velocitas_record::screen::{DrawnFact, Screen};

/// Takes what a client draws at a reading of its machine's clock; ticks of the record count from `first`.
pub(crate) fn take(screen: &mut Screen, first: Tick, client: &Client, read: HostNanos) {
    screen.read = read;
    screen.plays = client.peer().is_some();
    screen.refused = client.refused_for().map(ToString::to_string);
    screen.moment = client.shown(read).map(|shown| (RecordTick::of(first, shown.tick), shown.fraction));
    let settings = client.settings();
    screen.limit_ms = settings.remotes.limit_ms().min(u32::from(u16::MAX)) as u16;
    screen.blends = settings.remotes.interpolate;
    screen.blending = settings.remotes.blending;
    screen.looks = settings.remotes.looks;
    screen.camera = settings.own.camera;
    screen.own.clear();
    screen.others.clear();
    client.draw_own(read, |entity, drawn| screen.own.push(of_state(first, entity, drawn)));
    client.spot_others(read, |entity, spot| screen.others.push(of_spot(first, entity, spot)));
}

fn of_spot(first: Tick, entity: EntityId, spot: &DrawnSpot) -> DrawnFact {
    let DrawnSpot { pos, bearing, tick, fraction, how } = *spot;
    let [x, y, z, bearing] = all_canonical([pos.x, pos.y, pos.z, bearing]);
    DrawnFact { entity, tick: RecordTick::of(first, tick), fraction, how, pos: [x, y, z], bearing }
}

fn of_state(first: Tick, entity: EntityId, drawn: &DrawnState) -> DrawnFact {
    let pos = drawn.state.vec3(0);
    DrawnFact {
        entity,
        tick: RecordTick::of(first, drawn.tick),
        fraction: drawn.fraction,
        how: drawn.how,
        pos: [pos.x, pos.y, pos.z],
        bearing: drawn.bearing.unwrap_or(0.0),
    }
}

/// Numbers as states hold them: one zero, one that is none.
fn all_canonical(numbers: [f32; 4]) -> [f32; 4] {
    // Adding zero leaves all as they are but a zero below zero; a sum of numbers is seldom none.
    let [a, b, c, d] = numbers.map(|x| x + 0.0);
    if (a + b + c + d).is_nan() {
        return numbers.map(|x| f32::from_bits(canonical_bits(x)));
    }
    [a, b, c, d]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn numbers_are_made_canonical_together_as_one_by_one(
            numbers in prop::array::uniform4(prop_oneof![
                any::<f32>(),
                prop::sample::select(vec![0.0, -0.0, f32::NAN, -f32::NAN, f32::INFINITY, f32::NEG_INFINITY, f32::MAX, f32::MIN]),
            ]),
        ) {
            prop_assert_eq!(all_canonical(numbers).map(f32::to_bits), numbers.map(canonical_bits));
        }
    }
}
