//! What a client says after a tick: of each own entity, by datagrams or by the ordered stream, as often as it is set to.

use std::collections::VecDeque;

use super::delayed::Delayed;
use super::losses::Losses;
use super::own::{Context, Own};
use super::settings::ClientSettings;
use crate::data::Input;
use crate::event::{Fact, InputFact, InputFate, Sink, tell, tell_input};
use crate::ids::{EntityId, PeerId};
use crate::pacing::{Pacing, SendRate};
use crate::snapshot::Baselines;
use crate::stream::{Delivered, InputsOver, Over, Stream};
use crate::tick::{HostNanos, Rate, Tick};
use crate::wire::{Ack, Acks, BitWriter, Header, Load, MAX_REPEATS, MessageKind, Segment, Spoken};

/// However little a way carries, messages are no more ticks apart.
const MOST_APART: u8 = 8;

/// Pieces of a stream that are sent in a tick at most, on average and saved up: what waits would be taken for a flood, all at once.
const PIECES: u32 = 6;
const MOST_PIECES: u32 = 60;

/// Who says only what changes says after so long that nothing did, in milliseconds.
const SILENCE_MS: u32 = 100;

/// The same in ticks: as many as a message covers.
fn silence(rate: Rate) -> usize {
    (rate.ticks_of(SILENCE_MS) as usize).clamp(1, MAX_REPEATS)
}

/// Whether messages of a kind go by the ordered stream.
const fn goes_by_stream(kind: MessageKind, settings: &ClientSettings) -> bool {
    match kind {
        MessageKind::Inputs => settings.inputs_over.is_stream(),
        _ => matches!(settings.claims_over, Over::Stream),
    }
}

/// What hands gave an own entity, as far as there is something to say of it.
#[derive(Clone, Debug)]
pub(super) struct Given {
    /// What was sampled and not told yet, and for which tick.
    inputs: Vec<(Tick, Input)>,
    /// How many inputs no message has covered yet.
    unsaid: usize,
    /// Whether one of them is another than the one before it.
    changed: bool,
    /// What was last said, and since which tick.
    said: Option<(Tick, Input)>,
    /// Words on their way, and the newest that has come: the next is told against that.
    pub(super) said_before: Baselines<Spoken>,
}

impl Given {
    /// Nothing yet.
    pub(super) fn new() -> Self {
        Self { inputs: Vec::new(), unsaid: 0, changed: true, said: None, said_before: Baselines::default() }
    }

    /// An input was sampled for a tick.
    pub(super) fn sampled(&mut self, tick: Tick, input: Input) {
        if self.said.is_none_or(|(_, before)| before != input) {
            self.said = Some((tick, input));
            self.changed = true;
        }
        self.inputs.push((tick, input));
        self.unsaid += 1;
    }

    /// What the hands last said, and since which tick.
    pub(super) const fn said(&self) -> Option<(Tick, Input)> {
        self.said
    }
}

/// What is said of an own entity.
pub(super) struct Saying<'a> {
    pub(super) context: Context<'a>,
    pub(super) given: &'a mut Given,
    pub(super) delayed: &'a Delayed,
    pub(super) own: &'a Own,
}

/// Where to: who says it, when, what the envelope says, and where it waits for its way.
pub(super) struct Post<'a> {
    pub(super) peer: PeerId,
    pub(super) now: HostNanos,
    /// Whether the other side measures by what comes.
    pub(super) timed: bool,
    pub(super) acks: &'a mut Acks,
    pub(super) outbox: &'a mut VecDeque<Vec<u8>>,
}

impl Post<'_> {
    fn header(&mut self, kind: MessageKind) -> Header {
        let header = self.acks.header(kind, self.peer.epoch, self.now);
        if self.timed { header } else { header.untimed() }
    }
}

/// What is due of a tick.
#[derive(Clone, Copy, Debug)]
pub(super) struct Due {
    tick: Tick,
    /// How many ticks a message covers at least; nothing where none is due.
    covered: Option<usize>,
    silence: usize,
}

/// How a client sends.
#[derive(Clone, Debug, Default)]
pub(super) struct Sending {
    /// Ticks since the last message.
    unsent: u8,
    /// What was lost on the way up, and what it carries.
    losses: Losses,
    pacing: Pacing,
    /// What goes by an ordered stream, or went.
    stream: Option<Box<Stream>>,
    /// How many of its pieces may be sent now.
    pieces: u32,
}

impl Sending {
    /// The server said, by its clock at `sent_us`, what it has decoded. Calls back with the entities and ticks of one's word that have come by that.
    pub(super) fn acknowledged(
        &mut self,
        (ack, sent_us): (&Ack, Option<u32>),
        now: HostNanos,
        acks: &mut Acks,
        (rate, settings): (Rate, &ClientSettings),
        mut come: impl FnMut(EntityId, Tick),
    ) {
        self.losses.told(ack, now);
        if let Some(stream) = &mut self.stream {
            stream.told(now, ack);
        }
        for load in acks.arrived(ack) {
            if load.bytes > 0 {
                self.pacing.arrived(now, load.bytes);
            }
            load.entity.zip(load.tick).into_iter().for_each(|(entity, tick)| come(entity, tick));
        }
        if settings.rate == SendRate::Adapted
            && let Some((round_trip, sent_us)) = acks.round_trip(ack, now).zip(sent_us)
        {
            let usual = rate.nanos() * i64::from(settings.send_every);
            self.pacing.told(now, sent_us, round_trip, usual);
        }
    }

    /// A piece of the server's stream came.
    pub(super) fn arrived(&mut self, now: HostNanos, header: &Header, segment: Segment) {
        self.stream.get_or_insert_default().arrived(now, header, segment);
    }

    /// The next of what came by the server's stream, if it is its turn.
    pub(super) fn deliver(&mut self, now: HostNanos) -> Option<Delivered> {
        self.stream.as_mut()?.deliver(now)
    }

    /// The ticks are made up to `tick`: what of it is to be said.
    pub(super) fn due(&mut self, tick: Tick, rate: Rate, settings: &ClientSettings) -> Due {
        self.unsent = self.unsent.saturating_add(1);
        let set = settings.send_every;
        let every = match settings.rate {
            SendRate::Adapted => self.pacing.every(rate, set, MOST_APART),
            SendRate::Fixed => set,
        };
        let covered = (self.unsent >= every).then(|| self.losses.covered(settings, every));
        if covered.is_some() {
            self.unsent = 0;
        }
        Due { tick, covered, silence: silence(rate) }
    }

    /// Says what there is to say of an own entity; where not every tick is sent at once, a later message covers it.
    pub(super) fn say<S: Sink>(&mut self, due: Due, mut saying: Saying<'_>, post: &mut Post<'_>, sink: &mut S) {
        if !saying.own.has_word() {
            saying.given.unsaid = 0;
            saying.given.inputs.clear();
            return;
        }
        if let Some(covered) = due.covered {
            if goes_by_stream(saying.own.says(), saying.context.settings) {
                self.say_by_stream(due, &mut saying, post.peer, sink);
            } else {
                self.say_by_datagram(covered, &mut saying, post);
            }
        }
        for (tick, sampled) in saying.given.inputs.drain(..) {
            let (peer, entity) = (post.peer, saying.context.entity);
            tell_input(sink, InputFact { peer, entity, tick, fate: InputFate::Sampled }, Some(&sampled));
        }
    }

    fn say_by_stream<S: Sink>(&mut self, due: Due, saying: &mut Saying<'_>, peer: PeerId, sink: &mut S) {
        let Saying { context, given, delayed, own } = saying;
        let says = own.says();
        let says_changes = says == MessageKind::Inputs && context.settings.inputs_over == InputsOver::Changes;
        if says_changes && !given.changed && given.unsaid < due.silence {
            return;
        }
        let mut out = BitWriter::new();
        // What comes in its turn is told by itself, and what was said before it is not counted on any more.
        given.said_before.forget();
        let _ = own.say(context, delayed, (given.unsaid.clamp(1, MAX_REPEATS), None), &mut out);
        if self.stream.get_or_insert_default().push(says, due.tick, out.finish()) {
            (given.unsaid, given.changed) = (0, false);
        } else {
            tell(sink, Fact::StreamFull { peer, up: true });
        }
    }

    fn say_by_datagram(&mut self, covered: usize, saying: &mut Saying<'_>, post: &mut Post<'_>) {
        let Saying { context, given, delayed, own } = saying;
        let mut out = BitWriter::new();
        let header = post.header(own.says());
        header.write(&mut out);
        // Where a delay became longer, or messages more frequent, several are new at once.
        let covered = covered.max(given.unsaid).min(MAX_REPEATS);
        let said = own.say(context, delayed, (covered, given.said_before.newest()), &mut out);
        given.unsaid = 0;
        let bytes = out.finish();
        let counts = context.settings.rate == SendRate::Adapted;
        if counts {
            self.pacing.sent(bytes.len());
        }
        let (tick, entity) = (said.as_ref().map(|said| said.tick), Some(context.entity));
        post.acks.holds(header.sequence, Load { bytes: if counts { bytes.len() as u32 } else { 0 }, tick, entity });
        said.into_iter().for_each(|said| given.said_before.sent(said));
        post.outbox.push_back(bytes);
    }

    /// Whether anything goes by the stream, or went.
    pub(super) const fn streams(&self) -> bool {
        self.stream.is_some()
    }

    /// A tick is over: more of the stream may be sent.
    #[inline]
    pub(super) fn tick(&mut self) {
        self.pieces = (self.pieces + PIECES).min(MOST_PIECES);
    }

    /// Sends what of the stream is due.
    pub(super) fn send_pieces(&mut self, settings: &ClientSettings, post: &mut Post<'_>) {
        while self.pieces > 0
            && let Some(stream) = &mut self.stream
            && let Some(sent) = stream.poll(post.now, || post.header(MessageKind::StreamUp))
        {
            self.pieces -= 1;
            if settings.rate == SendRate::Adapted {
                self.pacing.sent(sent.bytes.len());
                post.acks.holds(sent.sequence, Load { bytes: sent.bytes.len() as u32, ..Load::default() });
            }
            post.outbox.push_back(sent.bytes);
        }
    }
}
