//! One connection at the server: who it is, what it owns, what is reported back.

use super::control::{Arrival, Control, Margins};
use crate::arrangement::Arrangement;
use crate::data::State;
use crate::event::Sink;
use crate::ids::{EntityId, PeerId, Token};
use crate::session::Owned;
use crate::tick::{Rate, Tick};
use crate::wire::{Acks, Claim, Inputs};

/// Whom to let in.
#[derive(Clone, Copy, Debug)]
pub struct PeerConfig {
    /// The player.
    pub token: Token,
    /// Who decides where its entities are.
    pub arrangement: Arrangement,
    /// Ticks from snapshot to snapshot.
    pub snapshot_every: u8,
}

/// One connection.
#[derive(Clone, Debug)]
pub(super) struct Peer {
    pub(super) id: PeerId,
    pub(super) token: Token,
    arrangement: Arrangement,
    pub(super) joined: bool,
    pub(super) snapshot_every: u8,
    pub(super) acks: Acks,
    /// What it owns, and in the same order how its word moves it.
    owned: Vec<Owned>,
    controls: Vec<Control>,
    pub(super) margins: Margins,
}

impl Peer {
    pub(super) fn new(id: PeerId, config: PeerConfig) -> Self {
        Self {
            id,
            token: config.token,
            arrangement: config.arrangement,
            joined: false,
            snapshot_every: config.snapshot_every.max(1),
            acks: Acks::default(),
            owned: Vec::new(),
            controls: Vec::new(),
            margins: Margins::default(),
        }
    }

    /// Bytes it takes, roughly.
    pub(super) fn bytes(&self) -> usize {
        size_of::<Self>() + self.controls.iter().map(|c| size_of::<Control>() + c.bytes()).sum::<usize>()
    }

    /// From now on its word moves this entity, which stands so.
    pub(super) fn take_over(&mut self, owned: Owned, rate: Rate, state: State) {
        if self.control(owned.entity).is_none() {
            self.owned.push(owned);
            self.controls.push(Control::new(self.arrangement.authority(), rate, state));
        }
    }

    /// From now on it does not.
    pub(super) fn give_up(&mut self, entity: EntityId) {
        if let Some(place) = self.place(entity) {
            self.owned.remove(place);
            self.controls.remove(place);
        }
    }

    /// What it owns.
    pub(super) fn owned(&self) -> &[Owned] {
        &self.owned
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

    /// All of them, each with its entity.
    pub(super) fn controls(&self) -> impl Iterator<Item = (&Owned, &Control)> {
        self.owned.iter().zip(&self.controls)
    }

    pub(super) fn controls_mut(&mut self) -> impl Iterator<Item = &mut Control> {
        self.controls.iter_mut()
    }

    /// Takes the inputs of a message.
    pub(super) fn inputs<S: Sink>(&mut self, arrival: &Arrival<'_>, newest: Tick, inputs: &Inputs, sink: &mut S) {
        let Some(place) = self.place(inputs.entity) else { return };
        let kind = self.owned[place].kind;
        self.controls[place].inputs(arrival, kind, newest, inputs, &mut self.margins, sink);
    }

    /// Takes a claim.
    pub(super) fn claim<S: Sink>(&mut self, arrival: &Arrival<'_>, ticks: (Tick, Tick), claim: &Claim, sink: &mut S) {
        let Some(place) = self.place(claim.entity) else { return };
        self.controls[place].claim(arrival, ticks, claim, &mut self.margins, sink);
    }
}
