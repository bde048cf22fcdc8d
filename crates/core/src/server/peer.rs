//! One connection at the server: who it is, what it owns, what is reported back.

use std::collections::VecDeque;

use super::control::{Arrival, Control, Margins};
use super::guests::Guest;
use super::settings::PlayerSettings;
use super::talk::Talk;
use crate::arrangement::{Arrangement, Authority};
use crate::data::{Input, State};
use crate::event::{Sink, tell};
use crate::ids::{Address, EntityId, Life, PeerId, Token};
use crate::pacing::{Pacing, SendRate};
use crate::policy::{Policy, Strikes};
use crate::session::{Heard, Layouts, Owned, Timeline};
use crate::snapshot::{Baselines, Has, Unacknowledged};
use crate::stream::{Delivered, Over, Stream};
use crate::tick::{HostNanos, Rate, Tick, WireTick};
use crate::wire::{
    Account, Acks, BitReader, Claim, Header, Inputs, Load, Message, MessageKind, Newest, Segment, Spoken, WireError,
};

/// What of an entity no longer owned is still read, and let go: as many as may lie in datagrams under way.
const FORMER: usize = 16;

/// However little a way carries, snapshots are no more ticks apart.
const MOST_APART: u8 = 60;

/// One connection.
#[derive(Clone, Debug)]
pub(super) struct Peer {
    pub(super) id: PeerId,
    pub(super) at: Address,
    pub(super) token: Token,
    pub(super) life: Life,
    arrangement: Arrangement,
    pub(super) settings: PlayerSettings,
    /// When something was last heard of it.
    pub(super) heard: HostNanos,
    /// Whether it was ever heard to play: before it takes no piece of a stream.
    plays: bool,
    pub(super) acks: Acks,
    pub(super) unacknowledged: Unacknowledged,
    /// What it is known to have of snapshots.
    pub(super) baselines: Baselines<Has>,
    /// What it owns, and in the same order how its word moves it.
    owned: Vec<Owned>,
    controls: Vec<Control>,
    /// What it owned until lately: inputs and claims for it may still be under way.
    former: Vec<Owned>,
    /// Both, and of each its last words.
    spoken_of: Vec<Owned>,
    words: Vec<(EntityId, Newest<Spoken>)>,
    pub(super) margins: Margins,
    /// What its way down carries.
    pub(super) pacing: Pacing,
    /// What goes by an ordered stream, or went.
    pub(super) stream: Option<Box<Stream>>,
    /// Ticks since its last snapshot.
    unsent: u8,
    /// How much of it is read.
    pub(super) talk: Talk,
    /// Ticks of what counts against it.
    strikes: VecDeque<Tick>,
}

impl Peer {
    pub(super) fn new(id: PeerId, at: Address, life: Life, guest: &Guest, now: HostNanos) -> Self {
        Self {
            id,
            at,
            token: guest.token,
            life,
            arrangement: guest.arrangement,
            settings: guest.settings,
            heard: now,
            plays: false,
            acks: Acks::default(),
            unacknowledged: Unacknowledged::default(),
            baselines: Baselines::default(),
            owned: Vec::new(),
            controls: Vec::new(),
            former: Vec::new(),
            spoken_of: Vec::new(),
            words: Vec::new(),
            margins: Margins::default(),
            pacing: Pacing::default(),
            stream: None,
            unsent: 0,
            talk: Talk::default(),
            strikes: VecDeque::new(),
        }
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        size_of::<Self>()
            + self.unacknowledged.bytes()
            + self.baselines.iter().map(Has::bytes).sum::<usize>()
            + self.stream.as_ref().map_or(0, |stream| stream.bytes())
            + self.words.iter().map(|(_, words)| words.iter().map(Spoken::bytes).sum::<usize>()).sum::<usize>()
            + self.controls.iter().map(|c| size_of::<Control>() + c.bytes()).sum::<usize>()
    }

    /// From now on its word moves this entity, which stands so.
    ///
    /// What others give orders as well is stepped whatever the arrangement: nobody alone could claim where it is.
    pub(super) fn take_over(&mut self, owned: Owned, (rate, policy): (Rate, &Policy), state: State, shared: bool) {
        let authority = if shared { Authority::Step } else { self.arrangement.authority() };
        match self.place(owned.entity) {
            Some(place) if self.controls[place].authority() == authority => {}
            Some(place) => self.controls[place] = Control::new(authority, rate, state, policy),
            None => {
                self.former.retain(|former| former.entity != owned.entity);
                self.owned.push(owned);
                self.controls.push(Control::new(authority, rate, state, policy));
                self.talk.owns(self.controls.len(), rate);
                self.note_spoken_of();
            }
        }
    }

    /// From now on it does not.
    pub(super) fn give_up(&mut self, entity: EntityId) {
        if let Some(place) = self.place(entity) {
            self.former.push(self.owned.remove(place));
            if self.former.len() > FORMER {
                self.former.remove(0);
            }
            self.controls.remove(place);
            self.note_spoken_of();
        }
    }

    /// What it owns or owned until lately: what a message of its may be about.
    pub(super) fn spoken_of(&self) -> &[Owned] {
        &self.spoken_of
    }

    fn note_spoken_of(&mut self) {
        self.spoken_of.clear();
        self.spoken_of.extend(self.owned.iter().chain(&self.former));
        self.words.retain(|(entity, _)| self.spoken_of.iter().any(|owned| owned.entity == *entity));
    }

    fn place(&self, entity: EntityId) -> Option<usize> {
        self.owned.iter().position(|o| o.entity == entity)
    }

    /// How its word moves an entity, if it owns it.
    pub(super) fn control(&self, entity: EntityId) -> Option<&Control> {
        self.place(entity).map(|place| &self.controls[place])
    }

    pub(super) fn control_mut(&mut self, entity: EntityId) -> Option<&mut Control> {
        self.place(entity).map(|place| &mut self.controls[place])
    }

    /// By its index among them.
    pub(super) fn control_at(&self, place: u16) -> Option<&Control> {
        self.controls.get(usize::from(place))
    }

    pub(super) fn control_at_mut(&mut self, place: u16) -> Option<&mut Control> {
        self.controls.get_mut(usize::from(place))
    }

    /// All of them, each with its entity.
    pub(super) fn controls(&self) -> impl Iterator<Item = (&Owned, &Control)> {
        self.owned.iter().zip(&self.controls)
    }

    pub(super) fn controls_mut(&mut self) -> impl Iterator<Item = &mut Control> {
        self.controls.iter_mut()
    }

    /// Counts a strike; `true` when it is one too many.
    pub(super) fn strike(&mut self, tick: Tick, rate: Rate, strikes: &Strikes) -> bool {
        let within = i64::from(rate.ticks_of(strikes.within_ms));
        self.strikes.push_back(tick);
        while self.strikes.front().is_some_and(|first| tick.since(*first) > within) {
            self.strikes.pop_front();
        }
        self.strikes.len() >= strikes.most as usize
    }

    /// A datagram of this connection was understood. `false` when it was before: drop it.
    #[must_use]
    pub(super) fn understood(&mut self, header: &Header, now: HostNanos, rate: Rate) -> bool {
        let first = self.acks.decoded(header.sequence, now);
        if first {
            self.heard = now;
            if header.lacks {
                self.baselines.forget();
            }
            if let Some(ack) = &header.ack {
                let round_trip = self.acks.round_trip(ack, now);
                for load in self.acks.arrived(ack) {
                    if load.bytes > 0 {
                        self.pacing.arrived(now, load.bytes);
                    }
                    if let Some(tick) = load.tick {
                        self.unacknowledged.delivered(tick);
                        self.baselines.arrived(tick);
                    }
                }
                if let Some(stream) = &mut self.stream {
                    stream.told(now, ack);
                }
                if self.settings.rate == SendRate::Adapted
                    && let Some((round_trip, sent_us)) = round_trip.zip(header.sent_us)
                {
                    let usual = rate.nanos() * i64::from(self.settings.snapshot_every);
                    self.pacing.told(now, sent_us, round_trip, usual);
                }
            }
        }
        first
    }

    /// Ticks from snapshot to snapshot, as it is now.
    pub(super) fn snapshot_every(&self, rate: Rate) -> u8 {
        match self.settings.rate {
            SendRate::Fixed => self.settings.snapshot_every,
            SendRate::Adapted => self.pacing.every(rate, self.settings.snapshot_every, MOST_APART),
        }
    }

    /// Another tick was made, so many after the session's first. Whether it is told of it.
    pub(super) fn is_told(&mut self, passed: u64, rate: Rate) -> bool {
        let every = self.snapshot_every(rate);
        self.unsent = self.unsent.saturating_add(1);
        // In step with all others, where it is as often as is set.
        let due = if every == self.settings.snapshot_every {
            passed.is_multiple_of(u64::from(every))
        } else {
            self.unsent >= every
        };
        if due {
            self.unsent = 0;
        }
        due
    }

    /// What its snapshots travel by now.
    pub(super) fn snapshots_over(&self) -> Over {
        if self.plays { self.settings.snapshots_over } else { Over::Datagrams }
    }

    /// Takes a piece of the stream.
    pub(super) fn piece(&mut self, now: HostNanos, header: &Header, segment: Segment) {
        let come = self.stream.get_or_insert_default().arrived(now, header, segment);
        if let Some(tick) = come {
            self.unacknowledged.delivered(tick);
            self.baselines.arrived(tick);
        }
    }

    /// Takes whatever of the stream has its turn.
    ///
    /// # Errors
    /// Where one of them cannot be read; the others are taken all the same.
    pub(super) fn deliver<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        timeline: &Timeline,
        sink: &mut S,
    ) -> Result<(), WireError> {
        let mut taken = Ok(());
        while let Some(delivered) = self.stream.as_mut().and_then(|s| s.deliver(arrival.now)) {
            delivered.held_back(self.id, true).into_iter().for_each(|fact| tell(sink, fact));
            let Delivered { waited, came, .. } = delivered;
            // What a stream took for longer no lead makes up for.
            arrival.is_direct.set(waited == 0 && !came.again);
            let said = SaidBy { peer: self, dt: arrival.ticks.rate().dt() };
            let layouts = Layouts::new(timeline, Some(arrival.expected), &self.spoken_of).hearing(&said);
            let read = Message::read(&came.header, BitReader::new(&came.body), &layouts);
            self.note_read(read.as_ref());
            let one = read.and_then(|message| self.take(arrival, &message, |_| true, sink));
            taken = one.and(taken);
        }
        taken
    }

    /// Whether anything goes by its stream, or went.
    pub(super) const fn streams(&self) -> bool {
        self.stream.is_some()
    }

    /// Sends what of the stream is due.
    pub(super) fn send_pieces(&mut self, now: HostNanos, outbox: &mut VecDeque<(Address, Vec<u8>)>) {
        let Some(stream) = &mut self.stream else { return };
        let (acks, epoch, adapts) = (&mut self.acks, self.id.epoch, self.settings.rate == SendRate::Adapted);
        while let Some(sent) = stream.poll(now, || acks.header(MessageKind::StreamDown, epoch, now)) {
            if adapts {
                self.pacing.sent(sent.bytes.len());
                let load = Load { bytes: sent.bytes.len() as u32, ..Load::default() };
                acks.holds(sent.sequence, load);
            }
            outbox.push_back((self.at, sent.bytes));
        }
    }

    /// Takes a message, once its ticks are known, if it `is_first`.
    ///
    /// # Errors
    /// Where a tick is too far from now.
    pub(super) fn take<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        message: &Message,
        is_first: impl FnOnce(&mut Self) -> bool,
        sink: &mut S,
    ) -> Result<(), WireError> {
        self.plays = true;
        // Ticks are unwrapped before anything is acknowledged: what is refused must not count as understood.
        let near = |newest: WireTick, since: WireTick| -> Result<(Tick, Tick), WireError> {
            let newest = newest.unwrap_near(arrival.expected)?;
            Ok((newest, since.unwrap_near(newest)?))
        };
        match message {
            Message::Inputs(inputs) => {
                let newest = inputs.newest.unwrap_near(arrival.expected)?;
                if is_first(self) {
                    let word = Spoken { tick: newest, input: inputs.inputs[0], state: None };
                    self.keep(inputs.entity, word);
                    self.inputs(arrival, newest, inputs, sink);
                }
            }
            Message::Claim(claim) => {
                let ticks = near(claim.newest, claim.since)?;
                if is_first(self) {
                    let state = Some(Box::new(claim.state));
                    self.keep(claim.entity, Spoken { tick: ticks.0, input: Input::default(), state });
                    self.claim(arrival, ticks, claim, sink);
                }
            }
            Message::Account(account) => {
                let ticks = near(account.newest, account.since)?;
                if is_first(self) {
                    let state = Some(Box::new(account.state));
                    let word = Spoken { tick: ticks.0, input: account.inputs[0], state };
                    self.keep(account.entity, word);
                    self.account(arrival, ticks, account, sink);
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Whether a message could be read: one that is told against what is not here any more is to be told whole.
    pub(super) fn note_read(&mut self, read: Result<&Message, &WireError>) {
        match read {
            Err(WireError::Baseline(_)) => self.acks.lacks = true,
            Ok(Message::Inputs(inputs)) if inputs.back == 0 => self.acks.lacks = false,
            Ok(Message::Account(account)) if account.back == 0 => self.acks.lacks = false,
            Ok(Message::Claim(claim)) if claim.back == 0 => self.acks.lacks = false,
            _ => {}
        }
    }

    /// Keeps a word of an entity: later ones may be told against it, whoever owns that meanwhile.
    fn keep(&mut self, entity: EntityId, word: Spoken) {
        match self.words.iter_mut().find(|(of, _)| *of == entity) {
            Some((_, words)) => words.keep(word),
            None => {
                let mut words = Newest::new();
                words.keep(word);
                self.words.push((entity, words));
            }
        }
    }

    /// What it said of an entity for a tick.
    fn word(&self, entity: EntityId, tick: Tick) -> Option<&Spoken> {
        self.words.iter().find(|(of, _)| *of == entity)?.1.of(tick)
    }

    /// Takes the inputs of a message.
    pub(super) fn inputs<S: Sink>(&mut self, arrival: &Arrival<'_>, newest: Tick, inputs: &Inputs, sink: &mut S) {
        let Some(place) = self.place(inputs.entity) else { return };
        let kind = self.owned[place].kind;
        let mut margins = self.margins;
        self.controls[place].inputs(arrival, kind, newest, inputs, &mut margins, sink);
        if self.settings.says_changes {
            // Of what did not change it does not matter how early it came.
            margins = self.margins;
            margins.note_of(arrival, newest);
        }
        self.margins = margins;
    }

    /// Takes an account.
    pub(super) fn account<S: Sink>(
        &mut self,
        arrival: &Arrival<'_>,
        ticks: (Tick, Tick),
        account: &Account,
        sink: &mut S,
    ) {
        let Some(place) = self.place(account.entity) else { return };
        let kind = self.owned[place].kind;
        self.controls[place].account((arrival, kind), ticks, account, &mut self.margins, sink);
    }

    /// Takes a claim.
    pub(super) fn claim<S: Sink>(&mut self, arrival: &Arrival<'_>, ticks: (Tick, Tick), claim: &Claim, sink: &mut S) {
        let Some(place) = self.place(claim.entity) else { return };
        self.controls[place].claim(arrival, ticks, claim, &mut self.margins, sink);
    }
}

/// What a peer has said of its entities.
#[derive(Debug)]
pub(super) struct SaidBy<'a> {
    pub(super) peer: &'a Peer,
    pub(super) dt: f32,
}

impl Heard for SaidBy<'_> {
    fn input(&self, entity: EntityId, tick: Tick) -> Option<Input> {
        self.peer.word(entity, tick).map(|word| word.input)
    }

    fn state(&self, entity: EntityId, tick: Tick) -> Option<State> {
        self.peer.word(entity, tick).and_then(|word| word.state.as_deref().copied())
    }

    fn dt(&self) -> f32 {
        self.dt
    }
}
