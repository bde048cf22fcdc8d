//! One connection at the server: what arrived, what is reported back.

use super::PeerId;
use super::guard::{Answer, Guard, Rule, Verdict};
use super::input_buffer::{InputBuffer, Taken};
use crate::client::Arrangement;
use crate::data::{Input, State};
use crate::event::{Event, Sink, tell};
use crate::schema::Schema;
use crate::session::Layouts;
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::wire::{Acks, Claim, InputReport, Inputs, Provenance};

/// Whom to let in.
#[derive(Clone, Copy, Debug)]
pub struct PeerConfig {
    /// The entity it owns.
    pub entity: u16,
    /// Who decides where that is.
    pub arrangement: Arrangement,
    /// Names the connection.
    pub epoch: u8,
    /// Ticks from snapshot to snapshot.
    pub snapshot_every: u8,
}

/// How its entity is moved.
#[derive(Clone, Debug)]
pub(super) enum Control {
    Inputs(InputBuffer),
    Claims(Box<Guard>),
}

/// One connection.
#[derive(Clone, Debug)]
pub(super) struct Peer {
    pub(super) entity: u16,
    pub(super) epoch: u8,
    pub(super) joined: bool,
    pub(super) snapshot_every: u8,
    pub(super) acks: Acks,
    pub(super) control: Control,
    /// Least margin since the last report, in quarter ticks.
    margin: Option<i32>,
    last_used: Provenance,
}

/// The circumstances of an arrival.
pub(super) struct Arrival<'a> {
    pub(super) now: HostNanos,
    /// The tick due now.
    pub(super) expected: Tick,
    pub(super) ticks: &'a TickLoop,
    pub(super) peer: PeerId,
    pub(super) layouts: Layouts<'a>,
}

impl Arrival<'_> {
    /// How early an input for `tick` is, in quarter ticks; below 0 it is too late.
    fn margin(&self, tick: Tick) -> i32 {
        let newest = self.ticks.newest();
        if tick <= newest {
            return (tick.since(newest).max(-1000) as i32 - 1) * 4;
        }
        let quarter = self.ticks.rate().nanos() / 4;
        // In time is in time, also in the frame that runs its tick a little after it was due.
        (self.ticks.due(tick).since(self.now) / quarter).clamp(0, 4000) as i32
    }
}

impl Peer {
    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        let control = match &self.control {
            Control::Inputs(buffer) => buffer.bytes(),
            Control::Claims(guard) => size_of_val(&**guard),
        };
        size_of::<Self>() + control
    }

    pub(super) fn new(config: PeerConfig, rate: Rate, state: State) -> Self {
        let control = match config.arrangement {
            Arrangement::ServerAuthority => Control::Inputs(InputBuffer::new()),
            Arrangement::OwnerClaims => Control::Claims(Box::new(Guard::new(rate, state))),
        };
        Self {
            entity: config.entity,
            epoch: config.epoch,
            joined: false,
            snapshot_every: config.snapshot_every.max(1),
            acks: Acks::default(),
            control,
            margin: None,
            last_used: Provenance::Repeated,
        }
    }

    pub(super) const fn arrangement(&self) -> Arrangement {
        match self.control {
            Control::Inputs(_) => Arrangement::ServerAuthority,
            Control::Claims(_) => Arrangement::OwnerClaims,
        }
    }

    fn note_margin(&mut self, margin: i32) {
        self.margin = Some(self.margin.map_or(margin, |m| m.min(margin)));
    }

    fn arrived<S: Sink>(&mut self, arrival: &Arrival<'_>, tick: Tick, sink: &mut S) {
        let margin = arrival.margin(tick);
        self.note_margin(margin);
        tell(sink, Event::InputArrived { peer: arrival.peer, tick, margin });
    }

    /// Takes the inputs of a message, oldest first.
    pub(super) fn inputs_arrived<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        newest: Tick,
        inputs: &Inputs,
        sink: &mut S,
    ) {
        // Ticks the clock has already called for count as simulated only once they are.
        let simulated = arrival.ticks.newest();
        for back in (0..inputs.count).rev() {
            let tick = newest.offset(-(back as i64));
            let input = inputs.inputs[back];
            let Control::Inputs(buffer) = &mut self.control else { return };
            let verdict = |rule, measured, limit| Verdict {
                peer: arrival.peer,
                rule,
                tick: simulated,
                from: tick,
                to: tick,
                measured,
                limit,
                slack: 0.0,
                quantum: 0.0,
                gain: 0.0,
                answer: Answer::Ignored,
            };
            if !arrival.layouts.own(tick.wire()).input_in_range(&input) {
                let length = libm::sqrtf(input.real(0) * input.real(0) + input.real(1) * input.real(1));
                tell(sink, Event::Verdict(&verdict(Rule::Range, length, 1.0)));
                continue;
            }
            match buffer.take_in(tick, simulated, input) {
                Taken::InTime | Taken::Late => self.arrived(arrival, tick, sink),
                Taken::Again => {}
                Taken::Conflict => tell(sink, Event::Verdict(&verdict(Rule::Conflict, 2.0, 1.0))),
                Taken::OutOfWindow => {
                    // The client must learn how far off it is, or it could never come back.
                    self.note_margin(arrival.margin(tick));
                    // After a stall of ours honest ticks lie far ahead of the last one run, never of the clock.
                    let ahead = tick.since(arrival.expected);
                    let limit = i64::from(4 * arrival.ticks.rate().hz());
                    if ahead > limit {
                        tell(sink, Event::Verdict(&verdict(Rule::Window, ahead as f32, limit as f32)));
                    }
                }
            }
        }
    }

    /// Takes a claim; it is judged when its tick comes.
    pub(super) fn claim_arrived<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        newest: Tick,
        since: Tick,
        claim: &Claim,
        sink: &mut S,
    ) {
        let Control::Claims(guard) = &mut self.control else { return };
        let arrived = guard.take_in(newest, since, claim, arrival.expected);
        if arrived.is_empty() && newest > arrival.expected {
            self.note_margin(arrival.margin(newest));
        }
        for tick in arrived {
            self.arrived(arrival, tick, sink);
        }
    }

    /// The input to step with at `tick`.
    pub(super) fn input_for<S: Sink>(&mut self, tick: Tick, schema: &Schema, id: PeerId, sink: &mut S) -> Input {
        let Control::Inputs(buffer) = &mut self.control else { return Input::default() };
        let (input, provenance) = buffer.use_for(tick, schema);
        if buffer.has_begun(tick) {
            tell(sink, Event::InputUsed { peer: id, tick, provenance });
        }
        self.last_used = provenance;
        input
    }

    /// What to tell it with the snapshot of `tick`.
    pub(super) fn report(&mut self, tick: Tick) -> Option<InputReport> {
        let margin = self.margin.take().map(|m| m.clamp(-128, 127) as i8);
        let (used, provenance) = match &self.control {
            Control::Inputs(_) => (tick, self.last_used),
            Control::Claims(guard) => (guard.accepted().unwrap_or(tick), Provenance::Fresh),
        };
        Some(InputReport { used: used.wire(), provenance, margin })
    }
}
