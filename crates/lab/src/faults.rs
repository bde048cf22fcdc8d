//! Wrong on purpose: what a rogue does to its own machine.
//!
//! A client is lied to by its ingredients (another rule's speed, a ground without walls), moves itself where it likes,
//! or its bytes are rewritten on their way out. The core knows nothing of any of it.

use velocitas_core::{
    Bounds, Carried, Ingredients, Input, Kinds, Layouts, MAX_REPEATS, Message, Scene, Schema, State, Tick, WireTick,
    checked_step,
};
use velocitas_record::time::LabTime;

use crate::cheat::{Answered, Cheat, CheatSpec, Does, Post};
use crate::opened::Opened;

/// A cheat on one machine.
#[derive(Clone, Debug)]
struct InForce {
    cheat: Cheat,
    /// What it keeps back.
    post: Post,
    /// The first and the last tick whose newest word it has bent: what was told before it began, and after it is over, is as it was.
    ticks: Option<(WireTick, WireTick)>,
    /// Whether it is over, and only what it bent is still repeated so.
    is_over: bool,
}

/// The cheats in force on one machine.
#[derive(Clone, Debug, Default)]
pub(crate) struct Forged {
    all: Vec<InForce>,
    /// Whether the server was ever told otherwise than the client believes: what rests on what was said is then told by itself.
    told_otherwise: bool,
}

impl Forged {
    /// Begins or ends a cheat that lasts. One of a kind is in force at a time.
    pub(crate) fn set(&mut self, cheat: Cheat, on: bool) {
        let is_it = |other: &InForce| other.cheat.spec.key == cheat.spec.key;
        if on {
            self.all.retain(|other| !is_it(other));
            self.all.push(InForce { cheat, post: Post::new(), ticks: None, is_over: false });
        } else {
            self.all.retain(|other| !is_it(other) || matches!(cheat.spec.does, Does::Rewrites(_)));
            self.all.iter_mut().filter(|other| is_it(other)).for_each(|other| other.is_over = true);
        }
    }

    /// Whether it does nothing to what is sent.
    pub(crate) fn is_lawful(&self) -> bool {
        self.all.is_empty()
    }

    /// Those that are not over.
    fn cheats(&self) -> impl Iterator<Item = &Cheat> {
        self.all.iter().filter(|it| !it.is_over).map(|it| &it.cheat)
    }

    /// What the client is told of the world: the truth, bent.
    pub(crate) fn ingredients(&self, lawful: Ingredients, kinds: &Kinds, kind: u8) -> Ingredients {
        let mut forged = lawful;
        for cheat in self.cheats() {
            if let Does::Tells(tells) = cheat.spec.does {
                tells(&mut forged, kinds, kind, cheat.amount);
            }
        }
        forged
    }

    /// The own entity as the rogue would have it.
    pub(crate) fn moved(cheat: Cheat, state: State, schema: &Schema, bounds: &Bounds) -> State {
        let mut moved = state;
        if let Does::Moves(moves) = cheat.spec.does {
            moves(&mut moved, schema, bounds, cheat.amount);
        }
        moved
    }

    /// Whether it keeps its own entity otherwise than it comes to be.
    pub(crate) fn keeps_any(&self) -> bool {
        self.cheats().any(|cheat| matches!(cheat.spec.does, Does::Keeps(_)))
    }

    /// The own entity as the rogue keeps it, a while after it was looked at; `None` where it leaves it alone.
    pub(crate) fn kept(&self, state: &State, schema: &Schema, first: &State, seconds: f32) -> Option<State> {
        let mut kept = *state;
        for cheat in self.cheats() {
            if let Does::Keeps(keeps) = cheat.spec.does {
                keeps(&mut kept, schema, first, (cheat.amount, seconds));
            }
        }
        (kept != *state).then_some(kept)
    }

    /// How many times as fast its clock runs.
    pub(crate) fn haste(&self) -> f64 {
        let all = self.cheats().map(|cheat| match cheat.spec.does {
            Does::Hurries(hurries) => hurries(cheat.amount),
            _ => 1.0,
        });
        all.product()
    }

    /// A message of its ticks as the rogue sends it, and whether that is something that must be answered; `None` where it goes out as it
    /// is.
    pub(crate) fn rewritten(&mut self, bytes: &[u8], layouts: &Layouts<'_>) -> Option<(Vec<u8>, bool)> {
        if !self.told_otherwise && !self.all.iter().any(|it| it.cheat.spec.is_on_the_way_out()) {
            return None;
        }
        if !Carried::of(bytes)?.kind.is_word() {
            return None;
        }
        let mut opened = Opened::read(bytes, layouts).ok()?;
        let message = &mut opened.message;
        if let Message::Inputs(inputs) = message {
            // What is no longer repeated is over for good.
            let repeated = later(inputs.newest, -(MAX_REPEATS as i16));
            self.all.retain(|it| !it.is_over || it.ticks.is_some_and(|(_, last)| !is_before(last, repeated)));
        }
        self.told_otherwise = true;
        match message {
            Message::Inputs(inputs) => inputs.back = 0,
            Message::Account(account) => account.back = 0,
            Message::Claim(claim) => claim.back = 0,
            _ => {}
        }
        let mut must = false;
        for it in &mut self.all {
            let before = message.clone();
            let (does, amount) = (it.cheat.spec.does, it.cheat.amount);
            match (&mut *message, does) {
                (Message::Inputs(inputs), Does::Rewrites(rewrites) | Does::Contradicts(rewrites)) => {
                    let newest = inputs.newest;
                    if !it.is_over {
                        it.ticks = Some((it.ticks.map_or(newest, |(first, _)| first), newest));
                    }
                    let Some((first, last)) = it.ticks else { continue };
                    // Of what contradicts, the newest is told as it is, and nothing is told twice alike.
                    let contradicts = matches!(does, Does::Contradicts(_));
                    let is_its = |tick: WireTick| !is_before(tick, first) && !is_before(last, tick);
                    let schema = layouts.schema(layouts.kind(inputs.entity)?, newest);
                    let count = inputs.count;
                    // A rule that changes in the middle of a message is bent as it was at its end.
                    for (back, input) in inputs.inputs[..count].iter_mut().enumerate() {
                        let tick = later(newest, (back as i16).wrapping_neg());
                        if if contradicts { back > 0 } else { is_its(tick) } {
                            rewrites(input, schema, (amount, tick));
                        }
                    }
                }
                (message, Does::Shifts(way)) => shift(message, (amount as i16).wrapping_mul(way)),
                _ => {}
            }
            must |= *message != before && it.cheat.spec.answered == Answered::Verdict;
        }
        Some((opened.write(layouts), must)).filter(|(forged, _)| forged != bytes)
    }
}

/// Whether a tick is earlier than another, by serial-number arithmetic (RFC 1982).
const fn is_before(tick: WireTick, other: WireTick) -> bool {
    (tick.0.wrapping_sub(other.0) as i16) < 0
}

/// A tick later by this number.
const fn later(tick: WireTick, by: i16) -> WireTick {
    WireTick(tick.0.wrapping_add_signed(by))
}

/// Says that what is told belongs to a later tick, by this number.
fn shift(message: &mut Message, by: i16) {
    match message {
        Message::Inputs(inputs) => inputs.newest = later(inputs.newest, by),
        Message::Claim(claim) => (claim.newest, claim.since) = (later(claim.newest, by), later(claim.since, by)),
        Message::Account(account) => {
            (account.newest, account.since) = (later(account.newest, by), later(account.since, by));
        }
        _ => {}
    }
}

impl Forged {
    /// What goes out in place of a datagram, and whether that is something that must be answered.
    pub(crate) fn sent(&mut self, bytes: Vec<u8>, now: LabTime) -> (Vec<Vec<u8>>, bool) {
        let (mut all, mut offends) = (vec![bytes], false);
        for it in &mut self.all {
            if let Does::Sends(sends) = it.cheat.spec.does {
                offends |= it.cheat.spec.answered == Answered::Verdict;
                all = all.into_iter().flat_map(|bytes| sends(&mut it.post, bytes, it.cheat.amount, now)).collect();
            }
        }
        (all, offends)
    }
}

/// Holds what a rogue's machine makes of its ticks against what would be lawful, until the first that differs: a trick in
/// which none does (no wall was met, the stick was at rest) could have no effect.
#[derive(Clone, Debug)]
pub(crate) struct TrickWatch {
    /// Which of the member's tricks.
    pub(crate) trick: usize,
    kind: u8,
    dt: f32,
    lawful: Ingredients,
    /// The newest own tick and its state before the trick touched it.
    newest: Option<(Tick, State)>,
    /// Whether nothing was done yet that is not lawful.
    open: bool,
    cheat: &'static CheatSpec,
    /// Ticks looked at.
    ticks: u32,
}

impl TrickWatch {
    /// Of a trick of somebody of a kind; `lawful` is what its client would know without it.
    pub(crate) const fn new(
        trick: usize,
        cheat: &'static CheatSpec,
        (kind, dt): (u8, f32),
        lawful: Ingredients,
        newest: Option<(Tick, State)>,
    ) -> Self {
        Self { trick, kind, dt, lawful, newest, open: true, cheat, ticks: 0 }
    }

    /// Whether what it does is done to bytes on their way out.
    pub(crate) const fn rewrites(&self) -> bool {
        self.cheat.is_on_the_way_out()
    }

    /// Whether there is nothing more to find: what happens at once has one tick.
    pub(crate) const fn is_over(&self) -> bool {
        self.cheat.is_once() && self.ticks > 0
    }

    /// Says once that something was done that is not lawful.
    pub(crate) const fn take_offence(&mut self) -> bool {
        std::mem::replace(&mut self.open, false)
    }

    /// The machine goes on from elsewhere by the server's word: what its next tick came from is not known.
    pub(crate) const fn interrupted(&mut self) {
        self.newest = None;
    }

    /// Whether this is the first tick that came out otherwise than its rule would have it.
    pub(crate) fn offends(&mut self, tick: Tick, state: &State, input: &Input) -> bool {
        let before = self.newest.replace((tick, *state));
        self.ticks += 1;
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

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::cheat::cheat;
    use velocitas_core::walker::{Walker, input_lane};
    use velocitas_core::{
        Acks, BitReader, BitWriter, EntityId, Ground, Header, HostNanos, INPUT_LANES, Inputs, MessageKind, Motion,
        Owned, Timeline,
    };

    fn kinds() -> Kinds {
        Kinds::new(vec![Arc::new(Walker::new())]).expect("a sound schema")
    }

    #[test]
    fn a_cheat_bends_what_the_client_is_told_and_its_end_straightens_it() {
        let kinds = kinds();
        let ground = Arc::new(crate::Course::demo().ground(velocitas_record::KnownTo::Clients));
        let lawful = Ingredients::new(ground, &kinds);
        let mut forged = Forged::default();
        forged.set(cheat("run", 1.5), true);
        forged.set(cheat("walls", 1.0), true);
        let bent = forged.ingredients(lawful.clone(), &kinds, 0);
        assert_eq!(bent.tunables[0][0], lawful.tunables[0][0] * 1.5);
        assert!(bent.ground.solids().is_empty() && !lawful.ground.solids().is_empty());
        forged.set(cheat("run", 1.5), false);
        forged.set(cheat("walls", 1.0), false);
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
        let inputs = Inputs { newest: WireTick(9), entity, back: 0, count: 2, inputs: [input; MAX_REPEATS] };
        let mut out = BitWriter::new();
        let header = Acks::default().header(MessageKind::Inputs, 1, HostNanos(0));
        header.write(&mut out);
        let timeline = Timeline::new(Ingredients::new(Arc::new(Ground::flat(1.0)), &kinds()));
        let owned = [Owned { entity, kind: 0 }];
        let layouts = Layouts::new(&timeline, None, &owned);
        inputs.write(&mut out, |tick| layouts.plan(0, tick));
        let mut cheats = Forged::default();
        let bytes = out.finish();
        assert_eq!(cheats.rewritten(&bytes, &layouts), None, "nothing is in force");
        cheats.set(cheat("overreach", 4.0), true);
        let (forged, must) = cheats.rewritten(&bytes, &layouts).expect("something is bent");
        assert!(must);
        let mut reader = BitReader::new(&forged);
        assert_eq!(Header::read(&mut reader), Ok(header));
        let read = Inputs::read_for(&mut reader, &layouts).expect("still well formed");
        assert_eq!((read.newest, read.count), (WireTick(9), 2));
        assert_eq!(read.inputs[0].real(input_lane::MOVE), 1.0);
        let rest = |i: &Input| (2..INPUT_LANES).map(|lane| i.int(lane)).collect::<Vec<_>>();
        assert_eq!(rest(&read.inputs[0]), rest(&input));
        // What is no input message goes out as it came.
        assert_eq!(cheats.rewritten(&[1, 2, 3], &layouts), None);
    }
}
