//! What a client does with an entity of its own: one file for each side that [`OwnerSide`] can take, dispatched here and
//! nowhere else.

mod context;
mod deciding;
mod following;
mod past;
mod predicting;

pub(super) use context::{Context, Moved, Word};

use deciding::Deciding;
use following::Following;
use past::Past;
use predicting::Predicting;

use crate::arrangement::OwnerSide;
use crate::client::delayed::Delayed;
use crate::data::{Input, State};
use crate::event::Sink;
use crate::tick::Tick;
use crate::wire::{BitWriter, MessageKind, PullBack, Spoken};

/// An entity of one's own.
#[derive(Clone, Debug)]
pub(super) enum Own {
    Following(Following),
    Predicting(Predicting),
    Deciding(Deciding),
}

impl Own {
    /// Begins in a session that began at `base`, with `newest` as the newest tick.
    pub(super) fn new(side: OwnerSide, base: Tick, newest: Tick) -> Self {
        match side {
            OwnerSide::Follow => Self::Following(Following::of(Past::default(), base)),
            OwnerSide::Predict => Self::Predicting(Predicting::of(Past::default(), base)),
            OwnerSide::Decide => Self::Deciding(Deciding::new(base, newest, false)),
            OwnerSide::Account => Self::Deciding(Deciding::new(base, newest, true)),
        }
    }

    fn past(&self) -> &Past {
        match self {
            Self::Following(own) => &own.past,
            Self::Predicting(own) => &own.past,
            Self::Deciding(own) => &own.past,
        }
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        self.past().bytes()
    }

    /// Makes a tick of what the hands did.
    pub(super) fn tick<S: Sink>(&mut self, context: &Context<'_>, tick: Tick, sampled: Input, sink: &mut S) {
        match self {
            Self::Following(own) => own.tick(context, tick, sampled),
            Self::Predicting(own) => own.tick(context, tick, sampled, sink),
            Self::Deciding(own) => own.tick(context, tick, sampled, sink),
        }
    }

    /// What the messages are that it sends.
    pub(super) const fn says(&self) -> MessageKind {
        match self {
            Self::Following(_) | Self::Predicting(_) => MessageKind::Inputs,
            Self::Deciding(own) => own.says(),
        }
    }

    /// Whether there is anything to say yet.
    pub(super) fn has_word(&self) -> bool {
        match self {
            Self::Following(_) | Self::Predicting(_) => self.past().has_played(),
            Self::Deciding(own) => own.has_word(),
        }
    }

    /// Appends the message for the newest tick that has an input and those before it, so many in all; `delayed` have one and are still to
    /// come. It is told against a word that has come, if there is one; given back is the word against which later ones may be told.
    pub(super) fn say(
        &self,
        context: &Context<'_>,
        delayed: &Delayed,
        (covered, base): (usize, Option<&Spoken>),
        out: &mut BitWriter,
    ) -> Option<Spoken> {
        match self {
            Self::Following(own) => own.past.say_inputs(context, delayed, (covered, base), out),
            Self::Predicting(own) => own.past.say_inputs(context, delayed, (covered, base), out),
            Self::Deciding(own) => own.say(context, (covered, base), out),
        }
    }

    /// Takes the authority's word.
    pub(super) fn told<S: Sink>(
        &mut self,
        context: &Context<'_>,
        newest: Tick,
        word: &Word<'_>,
        sink: &mut S,
    ) -> Option<Moved> {
        match self {
            Self::Following(own) => {
                own.told(word);
                None
            }
            Self::Predicting(own) => own.told(context, newest, word, sink),
            Self::Deciding(own) => {
                own.told(newest, word);
                None
            }
        }
    }

    /// Takes the guard's word.
    pub(super) fn pulled_back<S: Sink>(
        &mut self,
        context: &Context<'_>,
        newest: Tick,
        pull: &PullBack,
        sink: &mut S,
    ) -> Option<Moved> {
        match self {
            Self::Following(_) | Self::Predicting(_) => None,
            Self::Deciding(own) => own.pulled_back(context, newest, pull, sink),
        }
    }

    /// Notes ticks as never simulated: the state stands still through them.
    pub(super) fn pass_over(&mut self, first: Tick, last: Tick) {
        match self {
            Self::Following(own) => own.past.pass_over(first, last),
            Self::Predicting(own) => own.past.pass_over(first, last),
            Self::Deciding(own) => own.pass_over(first, last),
        }
    }

    /// Applies inputs at once, or waits to be told; who decides does not wait.
    pub(super) fn set_predicting(&mut self, predicts: bool) {
        let turned = match self {
            Self::Following(own) if predicts => {
                Self::Predicting(Predicting::of(std::mem::take(&mut own.past), own.agreed))
            }
            Self::Predicting(own) if !predicts => {
                Self::Following(Following::of(std::mem::take(&mut own.past), own.agreed))
            }
            _ => return,
        };
        *self = turned;
    }

    /// The entity is put elsewhere by its owner's will, where that is the owner's to say.
    pub(super) fn place(&mut self, state: State) {
        match self {
            Self::Following(_) | Self::Predicting(_) => {}
            Self::Deciding(own) => own.place(state),
        }
    }

    /// The newest tick that the authority is known to include.
    pub(super) const fn agreed(&self) -> Tick {
        match self {
            Self::Following(own) => own.agreed,
            Self::Predicting(own) => own.agreed,
            Self::Deciding(own) => own.agreed(),
        }
    }

    /// The newest tick begun.
    pub(super) fn newest(&self) -> Option<Tick> {
        self.past().newest()
    }

    /// The state after the newest tick, if the owner makes any.
    pub(super) fn state(&self) -> Option<State> {
        self.past().state()
    }

    /// The state after a tick, as far as it is kept.
    pub(super) fn state_at(&self, tick: Tick) -> Option<State> {
        self.past().ticks().state(tick)
    }

    /// The state after the tick before the newest.
    pub(super) fn state_before(&self) -> Option<State> {
        self.past().state_before()
    }
}
