//! When an entity has a smooth echo, and when that is put where it belongs.

use super::control::Turn;
use super::settings::PlayerSettings;
use crate::data::State;
use crate::echo::{Echo, EchoBy, THERE_M};
use crate::event::{Made, Sink, StateEvent, show};
use crate::ground::Contacts;
use crate::wire::TELEPORT_BITS;
use crate::world::Entity;

/// For so long it may be further away than its leash, in milliseconds.
const APART_MS: u32 = 500;

/// Moves the smooth echo of an entity that was made, if its owner's settings ask for one, and tells of it.
pub(super) fn echoed<S: Sink>(entity: &mut Entity, settings: Option<PlayerSettings>, turn: &Turn<'_>, sink: &mut S) {
    let is_smooth = settings.is_some_and(|settings| settings.echo != EchoBy::Raw);
    if !is_smooth && entity.smooth.is_none() {
        return;
    }
    if let Some(teleported) = entity.move_echo(&settings.unwrap_or_default(), turn) {
        let (entity, tick, state) = (entity.id(), turn.scene.tick, entity.echo());
        let (made, contacts) = (Made::Echo, &Contacts::default());
        show(sink, StateEvent { entity, tick, used: None, made, state, input: None, contacts, teleported });
    }
}

impl Entity {
    /// What others are sent of it.
    pub(super) fn echo(&self) -> &State {
        self.smooth.as_deref().map_or(&self.state, |echo| &echo.state)
    }

    /// What others are told of its teleports: with how often its smooth echo was put where it belongs.
    pub(super) const fn echo_teleports(&self) -> u8 {
        self.teleports.wrapping_add(self.cuts) % (1 << TELEPORT_BITS)
    }

    /// Moves its smooth echo by a tick, as its owner's settings have it. Where there is one that is elsewhere, or was, says whether it was cut: put there otherwise
    /// than by what the raw one was put by.
    pub(super) fn move_echo(&mut self, settings: &PlayerSettings, turn: &Turn<'_>) -> Option<bool> {
        if settings.echo == EchoBy::Raw {
            return self.end_echo();
        }
        let counts = (self.teleports, self.cuts);
        let mut echo = self.smooth.take().unwrap_or_else(|| Box::new(Echo::at(self.state, counts)));
        let (was_there, was_cut) = (echo.is_there, echo.cuts != self.cuts);
        if was_cut || echo.teleports != self.teleports {
            *echo = Echo::at(self.state, counts);
        }
        echo.follow(&self.state, &turn.scene, turn.motion);
        let away = echo.away(&self.state);
        echo.apart = if away > settings.echo_leash_m { echo.apart + 1 } else { 0 };
        let mut is_lost = echo.apart > turn.rate.ticks_of(APART_MS);
        if is_lost && settings.echo == EchoBy::Binding {
            // The raw one is put there instead, before its next step; what others see stays.
            self.put = Some(echo.state.vec3(0));
            (echo.apart, is_lost) = (0, false);
        }
        self.smooth = Some(echo);
        if is_lost {
            self.cut_echo();
            self.smooth = Some(Box::new(Echo::at(self.state, (self.teleports, self.cuts))));
        }
        let is_there = is_lost || away < THERE_M;
        self.smooth.iter_mut().for_each(|echo| echo.is_there = is_there);
        (was_cut || is_lost || !is_there || !was_there).then_some(was_cut || is_lost)
    }

    /// Others are sent the raw one again. Says, as above, whether that is a cut.
    fn end_echo(&mut self) -> Option<bool> {
        let is_away = self.smooth.as_ref().is_some_and(|echo| echo.away(&self.state) >= THERE_M);
        if is_away {
            self.cut_echo();
        }
        let echo = self.smooth.take()?;
        let is_cut = echo.cuts != self.cuts;
        (is_cut || !echo.is_there).then_some(is_cut)
    }
}
