//! Wrong on purpose: what a rogue does to its own machine.
//!
//! A client is lied to by its ingredients (another rule's speed, a ground without walls), moves itself where it likes,
//! or its bytes are rewritten on their way out. The core knows nothing of any of it.

use std::sync::Arc;

use velocitas_core::{
    Client, EntityId, Ground, Ingredients, Input, Kinds, Scene, Schema, State, Tick, checked_step, vec3,
};

use crate::course::Cheat;

/// The cheats in force on one machine.
#[derive(Clone, Debug, Default)]
pub(crate) struct Forged {
    run: Option<f32>,
    walls: bool,
    pub(crate) overreach: Option<f32>,
}

impl Forged {
    /// Begins or ends a cheat that lasts.
    pub(crate) fn set(&mut self, cheat: Cheat, on: bool) {
        match cheat {
            Cheat::Run(factor) => self.run = on.then_some(factor),
            Cheat::Walls => self.walls = on,
            Cheat::Overreach(factor) => self.overreach = on.then_some(factor),
            Cheat::Jump(_) => {}
        }
    }

    /// What the client is told of the world: the truth, bent.
    pub(crate) fn ingredients(&self, lawful: Ingredients, kinds: &Kinds, kind: u8) -> Ingredients {
        let mut forged = lawful;
        if let Some(factor) = self.run {
            let mut all: Vec<Vec<f32>> = forged.tunables.to_vec();
            let tunables = kinds.motion(kind).tunables();
            // The first speed of a rule is how fast it goes; it needs the grip to get there as well.
            if let Some(speed) = tunables.iter().position(|t| t.unit == "m/s") {
                all[usize::from(kind)][speed] *= factor;
            }
            for (i, _) in tunables.iter().enumerate().filter(|(_, t)| t.unit == "m/s^2" && t.name == "grip") {
                all[usize::from(kind)][i] *= factor;
            }
            forged.tunables = all.into();
        }
        if self.walls {
            let bounds = *forged.ground.bounds();
            forged.ground = Arc::new(Ground::new(bounds, Vec::new(), forged.ground.zones().to_vec()));
        }
        forged
    }

    /// Puts the own entity so many metres ahead of where it looks; a rule without a bearing jumps east.
    pub(crate) fn jump(client: &mut Client, entity: EntityId, schema: &Schema, metres: f32) {
        let Some(mut state) = client.own_state(entity) else { return };
        let bounds = *client.ingredients().ground.bounds();
        let bearing = schema.bearing_lane().map_or(0.0, |lane| state.real(lane));
        let mut at = state.vec3(0) + vec3(libm::cosf(bearing), libm::sinf(bearing), 0.0) * metres;
        at.x = at.x.clamp(bounds.min.0 + 0.5, bounds.max.0 - 0.5);
        at.y = at.y.clamp(bounds.min.1 + 0.5, bounds.max.1 - 0.5);
        state.set_vec3(0, at);
        client.place(entity, state);
    }
}

/// Holds what a rogue's machine makes of its ticks against what would be lawful, until the first that differs: a trick in
/// which none does (no wall was met, the stick was at rest) could have no effect.
#[derive(Clone, Debug)]
pub(crate) struct Trial {
    /// Which of the member's tricks.
    pub(crate) trick: usize,
    kind: u8,
    dt: f32,
    lawful: Ingredients,
    /// The newest own tick and its state before the trick touched it.
    newest: Option<(Tick, State)>,
    open: bool,
}

impl Trial {
    /// Of a trick of somebody of a kind; `lawful` is what its client would know without it.
    pub(crate) const fn new(
        trick: usize,
        kind: u8,
        dt: f32,
        lawful: Ingredients,
        newest: Option<(Tick, State)>,
    ) -> Self {
        Self { trick, kind, dt, lawful, newest, open: true }
    }

    /// Says once that something was done that is not lawful.
    pub(crate) const fn take_offence(&mut self) -> bool {
        std::mem::replace(&mut self.open, false)
    }

    /// Whether this is the first tick that came out otherwise than its rule would have it.
    pub(crate) fn offends(&mut self, tick: Tick, state: &State, input: &Input) -> bool {
        let before = self.newest.replace((tick, *state));
        if !self.open {
            return false;
        }
        let Some((_, from)) = before.filter(|(newest, _)| newest.next() == tick) else { return false };
        let tunables = &self.lawful.tunables[usize::from(self.kind)];
        let scene = Scene { tick, dt: self.dt, ground: &self.lawful.ground, tunables };
        let step = checked_step(self.lawful.kinds.motion(self.kind), &scene, &from, input);
        step.is_ok_and(|lawful| lawful.state.vec3(0) != state.vec3(0)) && self.take_offence()
    }
}

/// Rewriting of bytes on their way out.
pub(crate) mod forge {
    use velocitas_core::{BitReader, BitWriter, Header, InputKind, Inputs, Layouts, MessageKind, stick_quantiser};

    /// Pushes every stick of an input message `factor` times as far as it was, beyond the disc if need be. What is not
    /// an input message is left as it is.
    pub(crate) fn overreach(bytes: Vec<u8>, layouts: &Layouts<'_>, factor: f32) -> Vec<u8> {
        rewritten(&bytes, layouts, factor).unwrap_or(bytes)
    }

    fn rewritten(bytes: &[u8], layouts: &Layouts<'_>, factor: f32) -> Option<Vec<u8>> {
        let mut reader = BitReader::new(bytes);
        let header = Header::read(&mut reader).ok()?;
        if header.kind != MessageKind::Inputs {
            return None;
        }
        let mut inputs = Inputs::read_for(&mut reader, layouts).ok()?;
        let (newest, kind) = (inputs.newest, layouts.kind(inputs.entity)?);
        for input in &mut inputs.inputs[..inputs.count] {
            // A rule that changes in the middle of a message is bent as it was at its end.
            for f in &layouts.schema(kind, newest).input {
                if let InputKind::Stick { bits } = f.kind {
                    for lane in [f.lane, f.lane + 1] {
                        let q = stick_quantiser(bits);
                        input.set_real(lane, q.round((input.real(lane) * factor).clamp(-1.0, 1.0)));
                    }
                }
            }
        }
        let mut out = BitWriter::new();
        header.write(&mut out);
        inputs.write(&mut out, |tick| layouts.schema(kind, tick));
        Some(out.finish())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use velocitas_core::walker::{Walker, input_lane};
    use velocitas_core::{
        Acks, BitReader, BitWriter, Header, HostNanos, INPUT_LANES, Input, Inputs, Layouts, MAX_REPEATS, MessageKind,
        Motion, Owned, Timeline, WireTick,
    };

    fn kinds() -> Kinds {
        Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema")
    }

    #[test]
    fn a_cheat_bends_what_the_client_is_told_and_its_end_straightens_it() {
        let kinds = kinds();
        let ground = Arc::new(crate::Course::demo().ground(crate::KnownTo::Clients));
        let lawful = Ingredients::new(ground, &kinds);
        let mut forged = Forged::default();
        forged.set(Cheat::Run(1.5), true);
        forged.set(Cheat::Walls, true);
        let bent = forged.ingredients(lawful.clone(), &kinds, 0);
        assert_eq!(bent.tunables[0][0], lawful.tunables[0][0] * 1.5);
        assert!(bent.ground.solids().is_empty() && !lawful.ground.solids().is_empty());
        forged.set(Cheat::Run(1.5), false);
        forged.set(Cheat::Walls, false);
        let straight = forged.ingredients(lawful.clone(), &kinds, 0);
        assert_eq!(straight.tunables, lawful.tunables);
        assert_eq!(straight.ground.solids().len(), lawful.ground.solids().len());
    }

    #[test]
    fn overreaching_rewrites_sticks_and_nothing_else() {
        let walker = Walker::new();
        let mut input = Input::default();
        input.set_real(input_lane::MOVE, 0.5);
        input.set_real(input_lane::MOVE + 1, 0.5);
        input.set_int(input_lane::HOP, 3);
        let input = walker.schema().round_input(&input);
        let entity = EntityId::first(3);
        let inputs = Inputs { newest: WireTick(9), entity, count: 2, inputs: [input; MAX_REPEATS] };
        let mut out = BitWriter::new();
        let header = Acks::default().header(MessageKind::Inputs, 1, HostNanos(0));
        header.write(&mut out);
        let timeline = Timeline::new(Ingredients::new(Arc::new(Ground::flat(1.0)), &kinds()));
        let owned = [Owned { entity, kind: 0 }];
        let layouts = Layouts::new(&timeline, None, &owned);
        inputs.write(&mut out, |tick| layouts.schema(0, tick));
        let forged = forge::overreach(out.finish(), &layouts, 4.0);
        let mut reader = BitReader::new(&forged);
        assert_eq!(Header::read(&mut reader), Ok(header));
        let read = Inputs::read_for(&mut reader, &layouts).expect("still well formed");
        assert_eq!((read.newest, read.count), (WireTick(9), 2));
        assert_eq!(read.inputs[0].real(input_lane::MOVE), 1.0);
        let rest = |i: &Input| (2..INPUT_LANES).map(|lane| i.int(lane)).collect::<Vec<_>>();
        assert_eq!(rest(&read.inputs[0]), rest(&input));
        // What is no input message goes out as it came.
        assert_eq!(forge::overreach(vec![1, 2, 3], &layouts, 4.0), vec![1, 2, 3]);
    }
}
