//! The authority runs the rule with the owner's inputs.

use std::collections::VecDeque;

use super::moved::Moved;
use super::ruling::tell_habits;
use super::turn::{Arrival, Includes, Margins, Turn, tell_used};
use crate::data::Input;
use crate::event::{Fact, InputFate, Provenance, Sink, tell};
use crate::ids::PeerId;
use crate::motion::checked_step;
use crate::server::guard::Habits;
use crate::server::input_buffer::{InputBuffer, Taken};
use crate::server::missing::Waiting;
use crate::tick::Tick;
use crate::vec3::Vec3;
use crate::verdict::{Evidence, Rule};
use crate::wire::Inputs;
use crate::world::Entity;

/// One owner's inputs for one entity.
#[derive(Clone, Debug, Default)]
pub(in crate::server) struct Stepping {
    buffer: InputBuffer,
    /// The newest of its owner's ticks that was made; `None` before the first.
    done: Option<Tick>,
    /// For how many ticks on end the next input was there before its turn.
    early: u32,
    /// For how many of the last ticks the input was made up.
    made_up: u8,
    /// The newest input that arrived.
    newest: Option<(Tick, Input)>,
    /// When one arrived that was another than the one before, by the tick it is for: it counts once that has come.
    said: VecDeque<(Tick, u64)>,
    spoke: u64,
    habits: Box<Habits>,
}

/// How many that are not due yet are remembered; nobody sends more within the lead.
const MOST_SAID: usize = 256;

impl Stepping {
    pub(super) fn bytes(&self) -> usize {
        self.buffer.bytes()
    }

    /// Takes the inputs of a message, oldest first.
    pub(super) fn inputs<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        kind: u8,
        newest: Tick,
        inputs: &Inputs,
        margins: &mut Margins,
        sink: &mut S,
    ) {
        // Ticks the clock has already called for count as simulated only once they are.
        let simulated = self.done.unwrap_or(arrival.ticks.newest());
        let accuse = |sink: &mut S, evidence| arrival.accuse(inputs.entity, evidence, sink);
        for back in (0..inputs.count).rev() {
            let tick = newest.offset(-(back as i64));
            let input = inputs.inputs[back];
            // Each is said several times; what was lawful once is.
            if self.buffer.knows(tick, simulated, &input) {
                continue;
            }
            if let Some((length, most)) = arrival.layouts.schema(kind, tick.wire()).input_beyond_range(&input) {
                accuse(sink, Evidence::plain(Rule::Range, (tick, tick), length, most));
                continue;
            }
            match self.buffer.take_in(tick, simulated, input) {
                Taken::InTime | Taken::Late => {
                    self.note_order(arrival.heard, tick, input);
                    margins.arrived_after(arrival, (inputs.entity, tick), simulated, sink);
                }
                // That it came after its tick was made is as it should be.
                Taken::Unchanged => arrival.tell(inputs.entity, tick, InputFate::Arrived(0), sink),
                Taken::Again => {}
                Taken::Conflict => accuse(sink, Evidence::plain(Rule::Conflict, (tick, tick), 2.0, 1.0)),
                Taken::OutOfWindow => {
                    // The client must learn how far off it is, or it could never come back.
                    margins.note(arrival.margin(tick));
                    // After a stall of ours honest ticks lie far ahead of the last one run, never of the clock.
                    let ahead = tick.since(arrival.expected);
                    let limit = i64::from(4 * arrival.ticks.rate().hz());
                    if ahead > limit {
                        accuse(sink, Evidence::plain(Rule::Window, (tick, tick), ahead as f32, limit as f32));
                    }
                }
            }
        }
    }

    fn note_order(&mut self, heard: u64, tick: Tick, input: Input) {
        if self.newest.is_none_or(|(newest, _)| newest < tick) {
            if self.newest.is_none_or(|(_, before)| before != input) && self.said.len() < MOST_SAID {
                self.said.push_back((tick, heard));
            }
            self.newest = Some((tick, input));
        }
    }

    /// Lets inputs for ticks up to this one take effect.
    pub(super) fn activate_until(&mut self, tick: Tick) {
        while let Some(&(_, heard)) = self.said.front().filter(|(said, _)| *said <= tick) {
            self.said.pop_front();
            self.spoke = self.spoke.max(heard);
        }
    }

    /// When its owner last said something new that counts.
    pub(super) const fn spoke(&self) -> u64 {
        self.spoke
    }

    /// The server has passed over this number of ticks: so are its owner's.
    pub(super) fn sleep(&mut self, ticks: u64) {
        self.done = self.done.map(|done| Tick(done.0.saturating_add(ticks)));
    }

    /// A tick is made by somebody else's word: its input has had its turn all the same.
    pub(super) fn stand_by(&mut self, turn: &Turn<'_>) {
        self.buffer.use_for(turn.scene.tick, turn.motion.schema(), turn.gap);
        self.done = Some(turn.scene.tick);
        self.made_up = 0;
    }

    /// Makes those of its owner's ticks whose turn it is: mostly the one that the server makes. Where an input is waited for there may be
    /// none, and later several.
    pub(super) fn advance<S: Sink>(
        &mut self,
        peer: PeerId,
        turn: &Turn<'_>,
        entity: &mut Entity,
        sink: &mut S,
    ) -> Moved {
        // Mostly nothing is waited for, nor was.
        let now = turn.scene.tick;
        if turn.gap.wait == 0 && self.done.is_none_or(|done| done.next() == now) {
            return self.step(peer, turn, entity, sink);
        }
        let mut moved = Moved::default();
        let mut made = 0;
        while let Some(tick) = self.next(turn, made) {
            let teleported = moved.teleported;
            moved = self.step(peer, &turn.at(tick, entity.kind()), entity, sink);
            moved.teleported |= teleported;
            made += 1;
        }
        let is_early = self.done.is_some_and(|done| self.buffer.has(done.next()));
        self.early = if is_early { self.early + 1 } else { 0 };
        moved
    }

    /// The next of its owner's ticks, if it is to be made now that so many are made in this one of the server.
    fn next(&mut self, turn: &Turn<'_>, made: usize) -> Option<Tick> {
        let now = turn.scene.tick;
        let next = self.done.map_or(now, Tick::next);
        let behind = now.since(next);
        if behind < 0 {
            return None;
        }
        let is_waited_for = behind < i64::from(turn.gap.wait) && !self.buffer.has(next) && self.buffer.has_begun(next);
        if is_waited_for {
            return None;
        }
        // Whoever waits for nothing has nothing behind it, or had lately.
        let one = match turn.gap.waiting {
            _ if turn.gap.wait == 0 => false,
            Waiting::AtOnce => false,
            Waiting::One => true,
            Waiting::Kept => {
                let shrinks = made == 1 && self.early >= turn.rate.hz() / 2;
                if shrinks {
                    self.early = 0;
                }
                !shrinks
            }
        };
        (made == 0 || !one).then_some(next)
    }

    /// Makes one of its owner's ticks.
    fn step<S: Sink>(&mut self, peer: PeerId, turn: &Turn<'_>, entity: &mut Entity, sink: &mut S) -> Moved {
        let tick = turn.scene.tick;
        let (input, provenance) = self.buffer.use_for(tick, turn.motion.schema(), turn.gap);
        self.done = Some(tick);
        self.made_up = match provenance {
            Provenance::Fresh => 0,
            Provenance::Repeated | Provenance::Rested | Provenance::Unchanged => self.made_up.saturating_add(1),
        };
        let whose = (peer, entity.id(), tick);
        tell_used(self.buffer.has_begun(tick), whose, provenance, Some(&input), sink);
        if provenance == Provenance::Fresh {
            self.habits.watch((turn.motion, turn.policy), turn.rate, tick, &input);
            tell_habits(whose, &mut self.habits, sink);
        }
        stepped(turn, entity, &input, sink)
    }

    pub(super) fn includes(&self, tick: Tick) -> Includes {
        Includes { newest: Some(self.done.unwrap_or(tick)), made_up: self.made_up }
    }
}

/// Runs the rule for a tick, with what is due to happen to the entity.
pub(in crate::server) fn stepped<S: Sink>(turn: &Turn<'_>, entity: &mut Entity, input: &Input, sink: &mut S) -> Moved {
    let mut before = entity.state;
    let put = entity.put.take();
    if let Some(place) = put {
        before.set_vec3(0, place);
        turn.motion.schema().velocity_lane().into_iter().for_each(|lane| before.set_vec3(lane, Vec3::ZERO));
    }
    if let Some(lane) = turn.motion.schema().velocity_lane().filter(|_| entity.push != Vec3::ZERO) {
        let pushed = before.vec3(lane) + entity.push;
        before.set_vec3(lane, pushed);
    }
    entity.push = Vec3::ZERO;
    match checked_step(turn.motion, &turn.scene, &before, input) {
        Ok(step) => {
            entity.state = step.state;
            entity.input = turn.tells_inputs.then(|| Box::new(*input));
            Moved { contacts: step.contacts, teleported: step.teleported || put.is_some(), sentence: None }
        }
        Err(field) => {
            tell(sink, Fact::StepFault { entity: entity.id(), tick: turn.scene.tick, field });
            Moved::default()
        }
    }
}
