//! Whom the server's owner expects, and what they come with.

use super::settings::PlayerSettings;
use crate::arrangement::Arrangement;
use crate::data::State;
use crate::ids::Token;
use crate::tick::HostNanos;

/// A player that may join.
#[derive(Clone, Copy, Debug)]
pub struct Guest {
    /// The player.
    pub token: Token,
    /// Who decides where its entities are.
    pub arrangement: Arrangement,
    /// What the server does for it.
    pub settings: PlayerSettings,
    /// What comes into the world with it, if anything does: the number of a rule, and its first state. It leaves with its
    /// player; what else a player owns stays.
    pub body: Option<(u8, State)>,
}

#[derive(Clone, Debug)]
struct Expected {
    guest: Guest,
    /// How its body stood when it left, and when that was.
    left: Option<(State, HostNanos)>,
}

/// All of them.
#[derive(Clone, Debug, Default)]
pub(super) struct Guests(Vec<Expected>);

impl Guests {
    /// Invites a player; a second invitation replaces the first.
    pub(super) fn invite(&mut self, guest: Guest) {
        let guest = Guest { settings: guest.settings.held(), ..guest };
        match self.0.iter_mut().find(|e| e.guest.token == guest.token) {
            Some(expected) => expected.guest = guest,
            None => self.0.push(Expected { guest, left: None }),
        }
    }

    /// Takes an invitation back.
    pub(super) fn uninvite(&mut self, token: Token) {
        self.0.retain(|e| e.guest.token != token);
    }

    /// Who a player is, if it may come; its body stands as it left it, unless it left before `remembered`.
    pub(super) fn of(&self, token: Token, remembered: HostNanos) -> Option<Guest> {
        let Expected { mut guest, left } = self.0.iter().find(|e| e.guest.token == token)?.clone();
        if let (Some((_, state)), Some((stood, _))) = (&mut guest.body, left.filter(|(_, at)| *at >= remembered)) {
            *state = stood;
        }
        Some(guest)
    }

    /// A player's body leaves the world.
    pub(super) fn left(&mut self, token: Token, state: State, now: HostNanos) {
        if let Some(expected) = self.0.iter_mut().find(|e| e.guest.token == token) {
            expected.left = Some((state, now));
        }
    }

    /// Nobody comes back to how it stood before `remembered`.
    pub(super) fn forget(&mut self, remembered: HostNanos) {
        for expected in &mut self.0 {
            expected.left = expected.left.filter(|(_, at)| *at >= remembered);
        }
    }

    /// How many bodies are remembered.
    pub(super) fn remembered(&self) -> usize {
        self.0.iter().filter(|e| e.left.is_some()).count()
    }

    /// Sets what is done for it in its next connection.
    pub(super) fn set_settings(&mut self, token: Token, settings: PlayerSettings) {
        if let Some(expected) = self.0.iter_mut().find(|e| e.guest.token == token) {
            expected.guest.settings = settings.held();
        }
    }
}
