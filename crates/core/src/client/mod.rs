//! One player's machine.
//!
//! It joins by itself at its first reading of the clock, and again when the server was silent for too long; it leaves when it is
//! [told to](Client::leave).
//!
//! A [`Client`] samples keys at its own ticks, sends them up, predicts its own entity, holds the prediction against
//! snapshots of *the same tick*, and draws everybody else in the past. It knows no socket and no clock.
//!
//! The loop around it stands on the front page of this crate.

mod clock;
mod delayed;
mod joining;
mod latch;
mod leaving;
mod losses;
mod others;
mod own;
mod playing;
mod presence;
mod redundancy;
mod refused;
mod round_trip;
mod sending;
mod settings;

pub use clock::{ClockBy, ClockChange, ClockSettings, LeadBy};
pub use playing::{Known, Order};
pub use presence::Presence;
pub use redundancy::Redundancy;
pub use refused::Refused;
pub use settings::{CameraOn, ClientSettings, OwnSettings};

use std::collections::VecDeque;

use clock::{Clock, Measured};
use delayed::wanted_delay;
use joining::Joining;
use leaving::Leaving;
use playing::{Lent, Playing};
use round_trip::RoundTrip;

use crate::arrangement::Arrangement;
use crate::data::{Input, State};
use crate::event::{ClockFact, Fact, Sink, tell};
use crate::frame::Frame;
use crate::ids::{EntityId, Life, PeerId, Token};
use crate::remote::{DrawnSpot, DrawnState, Shown};
use crate::schema::Schema;
use crate::session::{Ingredients, Layouts, Owned, Timeline};
use crate::snapshot::{Has, Receiver};
use crate::tick::{HostNanos, Tick};
use crate::wire::{
    Acks, BitReader, ClockTold, Ended, EndedBy, Header, Message, MessageKind, PROTOCOL_VERSION, RefusedFor, Segment,
    Snapshot, SnapshotHead, Welcome, WireError,
};

/// What a client is made with.
#[derive(Clone, Debug)]
pub struct ClientConfig {
    /// The player.
    pub token: Token,
    /// A number that is new each time the program starts.
    pub life: Life,
    /// Who decides where its entities are.
    pub arrangement: Arrangement,
    /// Its settings at the start.
    pub settings: ClientSettings,
    /// What it knows of the world.
    pub ingredients: Ingredients,
}

/// One player's machine.
///
/// It samples keys at its own ticks, sends them up, predicts its own entity, compares the prediction with snapshots of *the same tick*, and
/// draws everybody else in the past. It joins by itself at its first reading of the clock, and again when the server was silent for too long;
/// it leaves when it is [told to](Client::leave). The calling loop stands on the [front page](crate).
#[derive(Clone, Debug)]
pub struct Client {
    token: Token,
    life: Life,
    arrangement: Arrangement,
    settings: ClientSettings,
    timeline: Timeline,
    acks: Acks,
    round_trip: RoundTrip,
    frame: Frame,
    phase: Phase,
    outbox: VecDeque<Vec<u8>>,
    refused: u64,
}

/// What exists in one phase only.
#[derive(Clone, Debug)]
enum Phase {
    /// Asking to join.
    Joining(Joining),
    /// In the session.
    Playing(Box<Playing>),
    /// Saying goodbye.
    Leaving(Leaving),
    /// Out for good.
    Left(EndedBy),
}

impl Client {
    /// A client that will ask to join as soon as it is told the time.
    pub fn new(config: ClientConfig) -> Self {
        Self {
            token: config.token,
            life: config.life,
            arrangement: config.arrangement,
            settings: config.settings,
            timeline: Timeline::new(config.ingredients),
            acks: Acks::default(),
            round_trip: RoundTrip::default(),
            frame: Frame::default(),
            phase: Phase::Joining(Joining::default()),
            outbox: VecDeque::new(),
            refused: 0,
        }
    }

    const fn playing(&self) -> Option<&Playing> {
        match &self.phase {
            Phase::Playing(playing) => Some(playing),
            _ => None,
        }
    }

    const fn lent(&self) -> Lent<'_> {
        Lent { settings: &self.settings, timeline: &self.timeline }
    }

    /// Takes what is down now (held lanes, sticks, bearings) and how often keys went down since the last call (press
    /// lanes), for one of the own entities. `false` when it is not one.
    pub fn handle_controls(&mut self, entity: EntityId, controls: &Input) -> bool {
        let lent = Lent { settings: &self.settings, timeline: &self.timeline };
        match &mut self.phase {
            Phase::Playing(playing) => playing.controls(&lent, entity, controls),
            _ => false,
        }
    }

    /// Takes a datagram.
    ///
    /// # Errors
    /// When it cannot be read as one of ours: it is counted and dropped, and nothing changes.
    pub fn handle_datagram<S: Sink>(&mut self, now: HostNanos, bytes: &[u8], sink: &mut S) -> Result<(), WireError> {
        self.handle_datagram_as(now, bytes, None, sink)
    }

    /// The same, where what a snapshot says is given otherwise: for who tries what becomes of that. What later ones rest on is as it came.
    ///
    /// # Errors
    /// As above.
    pub fn handle_datagram_as<S: Sink>(
        &mut self,
        now: HostNanos,
        bytes: &[u8],
        taken_for: Option<Snapshot>,
        sink: &mut S,
    ) -> Result<(), WireError> {
        let done = self.datagram(now, bytes, taken_for, sink);
        if done.is_err() {
            self.refused += 1;
        }
        done
    }

    fn datagram<S: Sink>(
        &mut self,
        now: HostNanos,
        bytes: &[u8],
        taken_for: Option<Snapshot>,
        sink: &mut S,
    ) -> Result<(), WireError> {
        let mut reader = BitReader::new(bytes);
        let header = match Header::read(&mut reader) {
            Err(WireError::Version { found }) => {
                if let Phase::Joining(joining) = &mut self.phase
                    && let Some(why) = joining.refuse(now, Refused::Version { theirs: found })
                {
                    tell(sink, Fact::Denied(why.denied()));
                }
                return Err(WireError::Version { found });
            }
            other => other?,
        };
        match &self.phase {
            Phase::Joining(_) if header.kind.is_joining() => self.answer(now, &header, reader, sink),
            Phase::Playing(p) if p.peer.epoch == header.epoch && !p.ticks.is_stale(now) => {
                self.word(now, &header, (reader, taken_for), sink)
            }
            Phase::Leaving(leaving) if leaving.epoch == header.epoch && header.kind == MessageKind::Ended => {
                Message::read(&header, reader, &self.layouts(now))?;
                self.out(EndedBy::Leave, sink);
                Ok(())
            }
            _ => Ok(()),
        }
    }

    /// Takes an answer to a hello.
    fn answer<S: Sink>(
        &mut self,
        now: HostNanos,
        header: &Header,
        reader: BitReader<'_>,
        sink: &mut S,
    ) -> Result<(), WireError> {
        let message = Message::read(header, reader, &self.layouts(now))?;
        let kinds = &self.timeline.latest().kinds;
        let Phase::Joining(joining) = &mut self.phase else { return Ok(()) };
        match message {
            Message::Challenge(challenge) => joining.challenged(now, &challenge),
            Message::Refusal(refusal) if refusal.why == RefusedFor::Over && joining.is_answer(refusal.asked_us) => {
                self.begin_anew(sink);
            }
            Message::Refusal(refusal) => {
                if let Some(why) = joining.denied(now, &refusal, kinds, PROTOCOL_VERSION) {
                    tell(sink, Fact::Denied(why.denied()));
                }
            }
            Message::Welcome(welcome) if joining.is_answer(welcome.asked_us) => {
                if !self.acks.decoded(header.sequence, now) {
                    return Ok(());
                }
                let enough = joining.answered(header);
                self.measure(now, header);
                if enough {
                    self.join(now, header, &welcome, sink);
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn measure(&mut self, now: HostNanos, header: &Header) {
        // Without times it is not known how long its answer waited.
        let Some((ack, sent_us)) = header.ack.zip(header.sent_us) else { return };
        let Some(sample) = self.acks.round_trip(&ack, now) else { return };
        self.round_trip.sample(sample);
        if let Phase::Playing(playing) = &mut self.phase {
            playing.clock.exchanged(now, sent_us, sample, &self.settings.clock);
        }
    }

    /// Takes what the server says of the session.
    fn word<S: Sink>(
        &mut self,
        now: HostNanos,
        header: &Header,
        (reader, taken_for): (BitReader<'_>, Option<Snapshot>),
        sink: &mut S,
    ) -> Result<(), WireError> {
        let mut message = Message::read(header, reader, &self.layouts(now))?;
        let timeline = &self.timeline;
        let Phase::Playing(playing) = &mut self.phase else { return Ok(()) };
        if let Message::Ended(Ended { why }) = message {
            self.ended(why, sink);
            return Ok(());
        }
        // Ticks are unwrapped before anything is acknowledged: what is refused must not count as understood.
        let expected = playing.ticks.tick_at(now);
        let tick = meant(&message, expected)?;
        let has = playing.open(&Layouts::new(timeline, Some(expected), &[]), tick, &mut message);
        note_opened(&mut self.acks, playing, tick, &has);
        let has = has?;
        if !self.acks.decoded(header.sequence, now) {
            return Ok(());
        }
        has.into_iter().for_each(|has| playing.had.keep(has));
        let message = taken_for.map_or(message, Message::Snapshot);
        playing.spoken_to(now);
        if header.lacks {
            playing.forget_words();
        }
        if let Some(ack) = &header.ack {
            let lent = (playing.ticks.rate(), &self.settings);
            let mut come = Vec::new();
            let came = |entity, tick| come.push((entity, tick));
            playing.sending.acknowledged((ack, header.sent_us), now, &mut self.acks, lent, came);
            come.into_iter().for_each(|(entity, tick)| playing.word_came(entity, tick));
        }
        self.measure(now, header);
        match message {
            Message::StreamDown(segment) => self.segment(now, header, segment, sink),
            message => {
                let left = header.ack.and_then(|ack| self.acks.sent_at(ack.newest));
                self.take((now, left), tick, message, sink);
                Ok(())
            }
        }
    }

    /// Takes a piece of the stream, and whatever has its turn by it.
    fn segment<S: Sink>(
        &mut self,
        now: HostNanos,
        header: &Header,
        segment: Segment,
        sink: &mut S,
    ) -> Result<(), WireError> {
        if let Phase::Playing(playing) = &mut self.phase {
            playing.sending.arrived(now, header, segment);
        }
        let mut read = Ok(());
        while let Phase::Playing(playing) = &mut self.phase
            && let Some(delivered) = playing.sending.deliver(now)
        {
            delivered.held_back(playing.peer, false).into_iter().for_each(|fact| tell(sink, fact));
            let came = delivered.came;
            let expected = playing.ticks.tick_at(now);
            let message = Message::read(&came.header, BitReader::new(&came.body), &self.layouts(now));
            match message.and_then(|message| self.opened(expected, message)) {
                Ok((tick, message)) => {
                    // What was sent again is older than its envelope.
                    let ack = came.header.ack.filter(|_| !came.again);
                    let left = ack.and_then(|ack| self.acks.sent_at(ack.newest));
                    self.take((now, left), tick, message, sink);
                }
                // The next ones are read all the same.
                why => read = why.map(|_| ()),
            }
        }
        read
    }

    /// A message with the tick that it is about, opened where it is told against another.
    fn opened(&mut self, expected: Tick, mut message: Message) -> Result<(Tick, Message), WireError> {
        let tick = meant(&message, expected)?;
        let layouts = Layouts::new(&self.timeline, Some(expected), &[]);
        if let Phase::Playing(playing) = &mut self.phase {
            let has = playing.open(&layouts, tick, &mut message);
            note_opened(&mut self.acks, playing, tick, &has);
            has?.into_iter().for_each(|has| playing.had.keep(has));
        }
        Ok((tick, message))
    }

    /// Takes a message about a tick, that was composed knowing of what had left by `left`.
    fn take<S: Sink>(
        &mut self,
        (now, left): (HostNanos, Option<HostNanos>),
        tick: Tick,
        message: Message,
        sink: &mut S,
    ) {
        let lent = Lent { settings: &self.settings, timeline: &self.timeline };
        let Phase::Playing(playing) = &mut self.phase else { return };
        match message {
            Message::Snapshot(snapshot) => {
                let measured = Measured { round_trip: &self.round_trip, frame: self.frame.mean() };
                playing.snapshot(&lent, now, tick, &snapshot, (left, measured), sink);
                tell(sink, Fact::Clock(clock(playing, now, snapshot.head.margin, measured, &self.settings)));
            }
            Message::PullBack(pull) => playing.pulled_back(&lent, now, &pull, sink),
            Message::Clock(told) => {
                let since = told.since(playing.ticks.base(), tick, playing.ticks.rate());
                playing.clock.told(now, since, &self.round_trip, &self.settings.clock);
            }
            _ => {}
        }
    }

    /// The connection is no more.
    fn ended<S: Sink>(&mut self, why: EndedBy, sink: &mut S) {
        match why {
            // It was taken for gone; it is not.
            EndedBy::Silence | EndedBy::Unknown => self.begin_anew(sink),
            EndedBy::Leave | EndedBy::Return | EndedBy::Dismissal | EndedBy::Verdict(_) => self.out(why, sink),
        }
    }

    /// Stays out.
    fn out<S: Sink>(&mut self, why: EndedBy, sink: &mut S) {
        tell(sink, Fact::Out(why));
        self.phase = Phase::Left(why);
    }

    /// Asks to join again, from nothing.
    fn begin_anew<S: Sink>(&mut self, sink: &mut S) {
        tell(sink, Fact::Unheard);
        self.life = self.life.next();
        self.acks = Acks::default();
        self.phase = Phase::Joining(Joining::default());
    }

    /// Begins to play.
    fn join<S: Sink>(&mut self, now: HostNanos, header: &Header, welcome: &Welcome, sink: &mut S) {
        let delay = wanted_delay(self.arrangement, &self.settings);
        let Some(ticks) = joining::schedule(now, welcome, &self.round_trip, &self.frame, delay) else { return };
        let peer = PeerId { slot: welcome.slot, epoch: header.epoch };
        tell(sink, Fact::Joined { peer, tick: ticks.newest() });
        let Some(sent_us) = header.sent_us else { return };
        let clock = Clock::new(now, sent_us, welcome, &self.round_trip);
        let playing = Playing::new(ticks, (clock, delay), peer, welcome, self.arrangement, now);
        self.phase = Phase::Playing(Box::new(playing));
    }

    /// Leaves: says goodbye until the server has acknowledged it. A client that was not welcomed yet is out at once.
    pub fn leave(&mut self) {
        let epoch = match &self.phase {
            Phase::Joining(joining) => joining.welcomed_by(),
            Phase::Playing(playing) => Some(playing.peer.epoch),
            Phase::Leaving(_) | Phase::Left(_) => return,
        };
        self.phase = Phase::Leaving(Leaving::new(epoch));
    }

    /// Whether it is joining, playing, leaving or out.
    pub const fn presence(&self) -> Presence {
        match &self.phase {
            Phase::Joining(joining) if joining.refused().is_some() => Presence::Refused,
            Phase::Joining(_) => Presence::Joining,
            Phase::Playing(_) => Presence::Playing,
            Phase::Leaving(_) => Presence::Leaving,
            Phase::Left(_) => Presence::Left,
        }
    }

    /// Why it was refused, while it is.
    pub const fn refused_for(&self) -> Option<&Refused> {
        match &self.phase {
            Phase::Joining(joining) => joining.refused(),
            _ => None,
        }
    }

    /// Why it is out, once it is.
    pub const fn left_by(&self) -> Option<EndedBy> {
        match self.phase {
            Phase::Left(why) => Some(why),
            _ => None,
        }
    }

    /// Runs the ticks due at `now`, queues what they send, and advances what is drawn.
    pub fn handle_time<S: Sink>(&mut self, now: HostNanos, sink: &mut S) {
        self.frame.passed(now);
        if self.playing().is_some_and(|playing| playing.is_unheard(now)) {
            self.begin_anew(sink);
        }
        let lent = Lent { settings: &self.settings, timeline: &self.timeline };
        match &mut self.phase {
            Phase::Joining(joining) => {
                let kinds = &self.timeline.latest().kinds;
                self.outbox.extend(joining.ask(now, (self.token, self.life), kinds, &mut self.acks));
            }
            Phase::Playing(playing) => playing.time(&lent, now, (&mut self.acks, &mut self.outbox), sink),
            Phase::Leaving(leaving) => match leaving.say(now, &mut self.acks) {
                Ok(goodbye) => self.outbox.extend(goodbye),
                Err(()) => self.out(EndedBy::Leave, sink),
            },
            Phase::Left(_) => {}
        }
    }

    /// The next datagram to send, if any.
    pub fn poll_transmit(&mut self) -> Option<Vec<u8>> {
        self.outbox.pop_front()
    }

    /// When it next has something to do; `None` before it was told the time, and once it has left.
    pub fn deadline(&self) -> Option<HostNanos> {
        match &self.phase {
            Phase::Joining(joining) => joining.deadline(),
            Phase::Playing(playing) => Some(playing.ticks.deadline()),
            Phase::Leaving(leaving) => leaving.deadline(),
            Phase::Left(_) => None,
        }
    }

    /// Calls back with each entity known, its own first, as it is to be drawn at `now`: the time last
    /// [handled](Self::handle_time).
    pub fn draw(&self, now: HostNanos, mut each: impl FnMut(EntityId, &DrawnState)) {
        self.draw_own(now, &mut each);
        if let Some(playing) = self.playing() {
            playing.draw_others(&self.lent(), now, &mut each);
        }
    }

    /// The same for its own entities whose states it makes itself.
    pub fn draw_own(&self, now: HostNanos, mut each: impl FnMut(EntityId, &DrawnState)) {
        if let Some(playing) = self.playing() {
            playing.draw_own(&self.lent(), now, &mut each);
        }
    }

    /// Where all other entities, and own entities that are not predicted, are drawn at `now`: as [`draw`](Self::draw), at less
    /// cost.
    pub fn spot_others(&self, now: HostNanos, mut each: impl FnMut(EntityId, &DrawnSpot)) {
        if let Some(playing) = self.playing() {
            playing.spot_others(&self.lent(), now, &mut each);
        }
    }

    /// The moment at which all others are drawn at `now`; `None` before anything arrived.
    pub fn shown(&self, now: HostNanos) -> Option<Shown> {
        self.playing()?.shown(&self.settings.remotes, now)
    }

    /// The settings in force.
    pub const fn settings(&self) -> &ClientSettings {
        &self.settings
    }

    /// Changes settings at once.
    pub fn set_settings(&mut self, settings: ClientSettings) {
        self.settings = settings;
        if let Phase::Playing(playing) = &mut self.phase {
            playing.set_predicting(settings.predict);
        }
    }

    /// The tick it will run next; 0 before it has joined.
    fn next_tick(&self) -> Tick {
        self.newest_tick().map_or(Tick(0), Tick::next)
    }

    /// Its connection, while it plays.
    pub fn peer(&self) -> Option<PeerId> {
        self.playing().map(|p| p.peer)
    }

    /// The entities that it knows, in the order of their ids; none before it plays.
    pub fn known(&self) -> impl Iterator<Item = Known<'_>> {
        self.playing().into_iter().flat_map(Playing::known)
    }

    /// Its own entities; none before it plays.
    pub fn owned(&self) -> &[Owned] {
        self.playing().map_or(&[], Playing::owned)
    }

    /// How messages about ticks near `now` are laid out.
    pub fn layouts(&self, now: HostNanos) -> Layouts<'_> {
        let Some(playing) = self.playing() else { return Layouts::new(&self.timeline, None, &[]) };
        Layouts::new(&self.timeline, Some(playing.ticks.tick_at(now)), playing.spoken_of()).hearing(playing)
    }

    /// What it reads datagrams with.
    pub fn receiver(&self, now: HostNanos) -> Receiver<'_> {
        let layouts = self.layouts(now);
        self.playing().map_or_else(|| Receiver::of(layouts), |p| Receiver::new(layouts, &p.had, p.ticks.rate().dt()))
    }

    /// What the next input of an entity of this kind means.
    pub fn schema(&self, kind: u8) -> &Schema {
        self.timeline.at(self.next_tick()).kinds.motion(kind).schema()
    }

    /// Changes what this machine knows of the world, from the next tick on or after a change already agreed on. Returns that tick.
    pub fn set_ingredients(&mut self, ingredients: Ingredients) -> Tick {
        let from = self.next_tick().max(self.timeline.last_change());
        self.timeline.change(from, ingredients);
        from
    }

    /// Changes what this machine knows of the world, from `tick` on, or the next tick if that has passed. Returns that tick.
    pub fn set_ingredients_at(&mut self, tick: Tick, ingredients: Ingredients) -> Tick {
        let from = tick.max(self.next_tick());
        self.timeline.change(from, ingredients);
        from
    }

    /// What it knows of the world now.
    pub fn ingredients(&self) -> &Ingredients {
        self.timeline.latest()
    }

    /// Puts an own entity elsewhere, as a respawn does. Only an owner that decides can.
    pub fn place(&mut self, entity: EntityId, state: State) {
        if let Phase::Playing(playing) = &mut self.phase {
            playing.place(entity, state);
        }
    }

    /// The newest tick, once playing.
    pub fn newest_tick(&self) -> Option<Tick> {
        self.playing().map(|p| p.ticks.newest())
    }

    /// The last order given to an entity that has other owners too. It is shown at once, though the entity is not predicted.
    pub fn order(&self, entity: EntityId) -> Option<Order> {
        self.playing()?.order(entity)
    }

    /// The newest state of an own entity, predicted or received.
    pub fn own_state(&self, entity: EntityId) -> Option<State> {
        self.playing()?.own_state(entity)
    }

    /// Its own state of an own entity after a tick, as far as it makes any and still keeps that: until the server has said what it made of it.
    pub fn predicted(&self, entity: EntityId, tick: Tick) -> Option<State> {
        self.playing()?.predicted(entity, tick)
    }

    /// Bytes it takes in memory, roughly: what grows with play.
    pub fn bytes(&self) -> usize {
        size_of::<Self>() + self.playing().map_or(0, Playing::bytes)
    }

    /// Datagrams refused so far.
    pub const fn refused(&self) -> u64 {
        self.refused
    }
}

/// Notes whether a snapshot that is told against another could be opened: where not, it is to be told whole. What was overtaken may rest on what is
/// forgotten by now.
fn note_opened(acks: &mut Acks, playing: &Playing, tick: Tick, opened: &Result<Option<Has>, WireError>) {
    match opened {
        Err(WireError::Baseline(_)) if playing.is_newer(tick) => acks.lacks = true,
        Ok(Some(_)) => acks.lacks = false,
        _ => {}
    }
}

/// The tick that a message of the server is about, if it is about one that matters.
fn meant(message: &Message, expected: Tick) -> Result<Tick, WireError> {
    Ok(match message {
        Message::Snapshot(Snapshot { head: SnapshotHead { tick, .. }, .. })
        | Message::Clock(ClockTold { tick, .. }) => tick.unwrap_near(expected)?,
        _ => Tick(0),
    })
}

/// What a client knows of its clock and link.
fn clock(
    playing: &Playing,
    now: HostNanos,
    margin: Option<i8>,
    measured: Measured<'_>,
    settings: &ClientSettings,
) -> ClockFact {
    let (server, round_trip) = (playing.server_time(now, margin, measured, settings), measured.round_trip);
    let micros = |ns: i64| (ns / 1000).clamp(0, i64::from(u32::MAX)) as u32;
    ClockFact {
        behind: playing.behind() as i32,
        rtt_us: micros(round_trip.mean()),
        rtt_sigma_us: micros(round_trip.sigma()),
        margin,
        view_delay_us: micros(playing.view_delay()),
        server_us: server.map(|ns| (ns / 1000).max(0) as u64),
    }
}
