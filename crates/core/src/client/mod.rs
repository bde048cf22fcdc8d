//! One player's machine.
//!
//! A [`Client`] samples keys at its own ticks, sends them up, predicts its own entity, holds the prediction against
//! snapshots of *the same tick*, and draws everybody else in the past. It knows no socket and no clock.
//!
//! The loop around it, once a frame:
//!
//! 1. [`handle_datagram`](Client::handle_datagram) for each datagram that came in,
//! 2. [`handle_controls`](Client::handle_controls) with what is down and what was pressed since the last frame,
//! 3. [`handle_time`](Client::handle_time): runs the ticks due,
//! 4. [`poll_transmit`](Client::poll_transmit) until it is empty,
//! 5. [`draw`](Client::draw).
//!
//! ```no_run
//! # use velocitas_core::*;
//! # fn example(mut client: Client, now: HostNanos, received: Vec<Vec<u8>>, keys: Input) {
//! for bytes in received {
//!     let _ = client.handle_datagram(now, &bytes, &mut Unwatched); // 1. strange ones are counted and dropped
//! }
//! client.handle_controls(&keys); // 2.
//! client.handle_time(now, &mut Unwatched); // 3.
//! while let Some(datagram) = client.poll_transmit() { // 4.
//!     // send it
//! }
//! client.draw(now, |entity, drawn| { // 5.
//!     // draw it
//! });
//! # }
//! ```

mod ease;
mod history;
mod latch;
mod lead;
mod link;
mod playing;
mod remote;
mod settings;

pub use remote::{Drawn, DrawnState};
pub use settings::{ClientSettings, ViewDelay};

use std::collections::VecDeque;

use latch::Latch;
use link::RoundTrip;
use playing::Playing;

use crate::data::{Input, State};
use crate::event::{Event, Sink, tell};
use crate::frame::Frame;
use crate::schema::Schema;
use crate::session::{Ingredients, Layouts, Timeline};
use crate::tick::{HostNanos, Rate, Tick};
use crate::tick_loop::TickLoop;
use crate::wire::{Acks, BitReader, BitWriter, Header, Message, MessageKind, Welcome, WireError};

/// Who decides where the owner is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Arrangement {
    /// Inputs go up, the server moves.
    ServerAuthority,
    /// The owner moves and says where it is; the guard decides whether that is believed.
    OwnerClaims,
}

/// What a client is made with.
#[derive(Clone, Debug)]
pub struct ClientConfig {
    /// The kind of the entity it will own.
    pub kind: u8,
    /// Who decides where it is.
    pub arrangement: Arrangement,
    /// What it starts with.
    pub settings: ClientSettings,
    /// What it knows of the world.
    pub ingredients: Ingredients,
    /// Names this connection; a client that comes again takes another.
    pub epoch: u8,
}

/// One player's machine. See the [module](self) for how to drive it.
#[derive(Clone, Debug)]
pub struct Client {
    kind: u8,
    arrangement: Arrangement,
    settings: ClientSettings,
    timeline: Timeline,
    epoch: u8,
    acks: Acks,
    latch: Latch,
    round_trip: RoundTrip,
    frame: Frame,
    phase: Phase,
    outbox: VecDeque<Vec<u8>>,
    refused: u64,
}

/// What exists in each phase and no other.
#[derive(Clone, Debug)]
enum Phase {
    /// Asking to join; measures the round trip meanwhile.
    Joining { asked: Option<HostNanos>, answers: u32 },
    /// In the session.
    Playing(Box<Playing>),
}

/// Time between two hellos.
const HELLO_EVERY: i64 = 50_000_000;
/// Answers wanted before the first tick: enough for a mean and a spread.
const ANSWERS: u32 = 6;

impl Client {
    /// A client that will ask to join as soon as it is told the time.
    pub fn new(config: ClientConfig) -> Self {
        Self {
            kind: config.kind,
            arrangement: config.arrangement,
            settings: config.settings,
            timeline: Timeline::new(config.ingredients),
            epoch: config.epoch,
            acks: Acks::default(),
            latch: Latch::default(),
            round_trip: RoundTrip::default(),
            frame: Frame::default(),
            phase: Phase::Joining { asked: None, answers: 0 },
            outbox: VecDeque::new(),
            refused: 0,
        }
    }

    /// Takes what is down now (held lanes, sticks, bearings) and how often keys went down since the last call (press
    /// lanes).
    pub fn handle_controls(&mut self, controls: &Input) {
        let next = self.next_tick();
        self.latch.report(self.timeline.at(next).kinds.motion(self.kind).schema(), controls);
    }

    /// Takes a datagram.
    ///
    /// # Errors
    /// When it is none of ours; it is counted, dropped and nothing changes.
    pub fn handle_datagram<S: Sink>(&mut self, now: HostNanos, bytes: &[u8], sink: &mut S) -> Result<(), WireError> {
        let done = self.datagram(now, bytes, sink);
        if done.is_err() {
            self.refused += 1;
        }
        done
    }

    fn datagram<S: Sink>(&mut self, now: HostNanos, bytes: &[u8], sink: &mut S) -> Result<(), WireError> {
        let mut reader = BitReader::new(bytes);
        let header = Header::read(&mut reader)?;
        let stale = matches!(&self.phase, Phase::Playing(p) if p.ticks.is_stale(now));
        if header.epoch != self.epoch || stale {
            return Ok(());
        }
        let message = Message::read(&header, reader, &self.layouts(now))?;
        // Ticks are unwrapped before anything is acknowledged: what is refused must not count as understood.
        let tick = match (&message, &self.phase) {
            (Message::Snapshot(s), Phase::Playing(p)) => Some(s.tick.unwrap_near(p.ticks.tick_at(now))?),
            _ => None,
        };
        if !self.acks.decoded(header.sequence, now) {
            return Ok(());
        }
        let answered = header.ack;
        if let Some(sample) = answered.and_then(|ack| self.acks.round_trip(&ack, now)) {
            self.round_trip.sample(sample);
        }
        match (message, &mut self.phase) {
            (Message::Welcome(welcome), Phase::Joining { answers, .. }) => {
                *answers += 1;
                if *answers >= ANSWERS {
                    self.join(now, &welcome, sink);
                }
            }
            (Message::Snapshot(snapshot), Phase::Playing(playing)) => {
                let context = playing::Context {
                    settings: &self.settings,
                    timeline: &self.timeline,
                    arrangement: self.arrangement,
                };
                let left = answered.and_then(|ack| self.acks.sent_at(ack.newest));
                if let Some(tick) = tick {
                    playing.snapshot(&context, now, tick, &snapshot, left, sink);
                    tell(
                        sink,
                        Event::Clock {
                            behind: playing.behind(),
                            rtt: self.round_trip.mean(),
                            rtt_sigma: self.round_trip.sigma(),
                            margin: snapshot.report.and_then(|r| r.margin),
                            view_delay: playing.view_delay(),
                        },
                    );
                }
            }
            (Message::PullBack(pull), Phase::Playing(playing)) => {
                let context = playing::Context {
                    settings: &self.settings,
                    timeline: &self.timeline,
                    arrangement: self.arrangement,
                };
                playing.pulled_back(&context, now, &pull, sink);
            }
            _ => {}
        }
        Ok(())
    }

    /// Starts ticking ahead of the server by the way up, 2.6 σ of its jitter, a frame of each side, and the losses that
    /// repeats must cover.
    fn join<S: Sink>(&mut self, now: HostNanos, welcome: &Welcome, sink: &mut S) {
        let Some(rate) = Rate::new(u32::from(welcome.rate)) else { return };
        if self.timeline.latest().kinds.get(welcome.kind).is_none() {
            return;
        }
        let tick = rate.nanos();
        let up = self.round_trip.mean() / 2;
        let jitter = (2.6 * self.round_trip.sigma() as f64 * std::f64::consts::FRAC_1_SQRT_2) as i64;
        let frame = self.frame.mean();
        let theirs = i64::from(welcome.frame_us).min(100_000) * 1000;
        let lead = up + jitter + frame + theirs + 2 * tick;
        let server = welcome.since_base_us as i64 * 1000 + up;
        let ticks = TickLoop::new(rate, Tick(welcome.base), now.plus(-(server + lead)), now);
        tell(sink, Event::Joined { tick: ticks.newest() });
        let playing = Playing::new(ticks, welcome);
        self.phase = Phase::Playing(Box::new(playing));
    }

    /// Runs the ticks due at `now` and queues what they send.
    pub fn handle_time<S: Sink>(&mut self, now: HostNanos, sink: &mut S) {
        self.frame.passed(now);
        match &mut self.phase {
            Phase::Joining { asked, .. } => {
                if asked.is_none_or(|at| now.since(at) >= HELLO_EVERY) {
                    *asked = Some(now);
                    let mut out = BitWriter::new();
                    self.acks.header(MessageKind::Hello, self.epoch, now).write(&mut out);
                    self.outbox.push_back(out.finish());
                }
            }
            Phase::Playing(playing) => {
                let context = playing::Context {
                    settings: &self.settings,
                    timeline: &self.timeline,
                    arrangement: self.arrangement,
                };
                let due = playing.due(now, sink);
                for tick in due.ticks() {
                    playing.tick(&context, tick, &mut self.latch, sink);
                    // Each tick is sent at once: a message covers the last few anyway.
                    let mut out = BitWriter::new();
                    let kind = match self.arrangement {
                        Arrangement::ServerAuthority => MessageKind::Inputs,
                        Arrangement::OwnerClaims => MessageKind::Claim,
                    };
                    self.acks.header(kind, self.epoch, now).write(&mut out);
                    if playing.write(&context, now, &mut out) {
                        self.outbox.push_back(out.finish());
                        tell(sink, Event::InputSampled { tick });
                    }
                }
            }
        }
    }

    /// The next datagram to send, if any.
    pub fn poll_transmit(&mut self) -> Option<Vec<u8>> {
        self.outbox.pop_front()
    }

    /// When it next has something to do; `None` before it was told the time.
    pub fn deadline(&self) -> Option<HostNanos> {
        match &self.phase {
            Phase::Joining { asked, .. } => asked.map(|at| at.plus(HELLO_EVERY)),
            Phase::Playing(playing) => Some(playing.ticks.deadline()),
        }
    }

    /// Calls back with each entity known, its own first, as it is to be drawn at `now`.
    pub fn draw(&mut self, now: HostNanos, mut each: impl FnMut(u16, &DrawnState)) {
        if let Phase::Playing(playing) = &mut self.phase {
            playing.draw(&self.timeline, &self.settings, now, &mut each);
        }
    }

    /// The settings in force.
    pub const fn settings(&self) -> &ClientSettings {
        &self.settings
    }

    /// Changes settings at once.
    pub fn set_settings(&mut self, settings: ClientSettings) {
        self.settings = settings;
    }

    /// The tick it will run next; 0 before it has joined.
    fn next_tick(&self) -> Tick {
        self.newest_tick().map_or(Tick(0), Tick::next)
    }

    /// How messages about ticks near `now` are laid out.
    pub fn layouts(&self, now: HostNanos) -> Layouts<'_> {
        let near = match &self.phase {
            Phase::Joining { .. } => None,
            Phase::Playing(playing) => Some(playing.ticks.tick_at(now)),
        };
        Layouts::new(&self.timeline, near, self.kind)
    }

    /// What its next input means.
    pub fn schema(&self) -> &Schema {
        self.timeline.at(self.next_tick()).kinds.motion(self.kind).schema()
    }

    /// From the next tick on, this machine knows the world so; not before a change already agreed on. Returns that tick.
    pub fn set_ingredients(&mut self, ingredients: Ingredients) -> Tick {
        let from = self.next_tick().max(self.timeline.last_change());
        self.timeline.change(from, ingredients);
        from
    }

    /// From `tick` on, or the next if that has passed, this machine knows the world so. Returns that tick.
    pub fn set_ingredients_at(&mut self, tick: Tick, ingredients: Ingredients) -> Tick {
        let from = tick.max(self.next_tick());
        self.timeline.change(from, ingredients);
        from
    }

    /// What it knows of the world now.
    pub fn ingredients(&self) -> &Ingredients {
        self.timeline.latest()
    }

    /// Puts the own entity elsewhere, as a respawn in the owner's hands does. Only an owner who claims can.
    pub fn place(&mut self, state: State) {
        if let (Phase::Playing(playing), Arrangement::OwnerClaims) = (&mut self.phase, self.arrangement) {
            playing.place(state);
        }
    }

    /// The newest tick, once playing.
    pub fn newest_tick(&self) -> Option<Tick> {
        match &self.phase {
            Phase::Joining { .. } => None,
            Phase::Playing(playing) => Some(playing.ticks.newest()),
        }
    }

    /// The newest own state predicted or received.
    pub fn own_state(&self) -> Option<State> {
        match &self.phase {
            Phase::Joining { .. } => None,
            Phase::Playing(playing) => playing.own_state(),
        }
    }

    /// Bytes it takes in memory, roughly: what grows with play.
    pub fn bytes(&self) -> usize {
        let playing = match &self.phase {
            Phase::Joining { .. } => 0,
            Phase::Playing(playing) => playing.bytes(),
        };
        size_of::<Self>() + playing
    }

    /// Datagrams refused so far.
    pub const fn refused(&self) -> u64 {
        self.refused
    }
}
