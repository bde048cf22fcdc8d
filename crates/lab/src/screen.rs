//! What a machine drew in a frame, in values that can be kept.

use velocitas_core::{Client, Drawn, DrawnSpot, DrawnState, EntityId, HostNanos, Tick, canonical_bits};

use crate::ids::RecordTick;

/// An entity as it was drawn.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct DrawnFact {
    /// Which.
    pub entity: EntityId,
    /// The tick shown …
    pub tick: RecordTick,
    /// … and how far on towards the next, 0 to 1.
    pub fraction: f32,
    /// How it came about.
    pub how: Drawn,
    /// Where, in metres.
    pub pos: [f32; 3],
    /// Looking where, in radians; 0 where that is not known.
    pub bearing: f32,
}

impl DrawnFact {
    fn of_spot(first: Tick, entity: EntityId, spot: &DrawnSpot) -> Self {
        let DrawnSpot { pos, bearing, tick, fraction, how } = *spot;
        let [x, y, z, bearing] = all_canonical([pos.x, pos.y, pos.z, bearing]);
        Self { entity, tick: RecordTick::of(first, tick), fraction, how, pos: [x, y, z], bearing }
    }

    fn of(first: Tick, entity: EntityId, drawn: &DrawnState) -> Self {
        let pos = drawn.state.vec3(0);
        Self {
            entity,
            tick: RecordTick::of(first, drawn.tick),
            fraction: drawn.fraction,
            how: drawn.how,
            pos: [pos.x, pos.y, pos.z],
            bearing: drawn.bearing.unwrap_or(0.0),
        }
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

/// What a machine's screen showed.
#[derive(Clone, Debug, PartialEq)]
pub struct Screen {
    /// What its own clock read.
    pub read: HostNanos,
    /// Whether its client plays; otherwise nothing is drawn.
    pub plays: bool,
    /// Why it is not let in, in the words it was told.
    pub refused: Option<String>,
    /// The moment at which all others are drawn, a tick and how far on towards the next; `None` before anything arrived.
    pub moment: Option<(RecordTick, f32)>,
    /// Milliseconds a remote may run on past its newest state.
    pub limit_ms: u16,
    /// Whether remotes are blended at that moment; otherwise they are where they were last heard of.
    pub blends: bool,
    /// Own entities whose states it makes itself.
    pub own: Vec<DrawnFact>,
    /// All others, and own entities that are waited for.
    pub others: Vec<DrawnFact>,
}

impl Default for Screen {
    fn default() -> Self {
        Self {
            read: HostNanos(0),
            plays: false,
            refused: None,
            moment: None,
            limit_ms: 0,
            blends: false,
            own: Vec::new(),
            others: Vec::new(),
        }
    }
}

impl Screen {
    /// Takes what a client draws at a reading of its machine's clock; ticks of the record count from `first`.
    pub(crate) fn take(&mut self, first: Tick, client: &Client, read: HostNanos) {
        self.read = read;
        self.plays = client.peer().is_some();
        self.refused = client.refused_for().map(ToString::to_string);
        self.moment = client.shown(read).map(|shown| (RecordTick::of(first, shown.tick), shown.fraction));
        let settings = client.settings();
        self.limit_ms = settings.extrapolate_ms.min(u32::from(u16::MAX)) as u16;
        self.blends = settings.interpolate;
        self.own.clear();
        self.others.clear();
        client.draw_own(read, |entity, drawn| self.own.push(DrawnFact::of(first, entity, drawn)));
        client.spot_others(read, |entity, spot| self.others.push(DrawnFact::of_spot(first, entity, spot)));
    }
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
