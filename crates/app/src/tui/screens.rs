//! The screens there are, in one table.

use super::field::Field;
use super::guard::Guard;
use super::ladder::Ladder;
use super::rules::Rules;
use super::scope::Scope;
use super::view::View;
use crate::remembered::Remembered;

pub(super) use super::action::Screen;

/// A row of the table.
pub(super) struct Spec {
    pub(super) screen: Screen,
    /// Its name, behind the key that shows it.
    pub(super) name: &'static str,
    make: fn() -> Box<dyn View>,
}

impl Spec {
    /// Its name alone.
    pub(super) fn word(&self) -> &'static str {
        self.name.split_once(' ').map_or(self.name, |(_, word)| word)
    }
}

/// All of them, in the order of their keys.
pub(super) const SCREENS: [Spec; 5] = [
    Spec { screen: Screen::Field, name: "1 Field", make: || Box::<Field>::default() },
    Spec { screen: Screen::Rules, name: "2 Rules", make: || Box::<Rules>::default() },
    Spec { screen: Screen::Ladder, name: "3 Ladder", make: || Box::<Ladder>::default() },
    Spec { screen: Screen::Scope, name: "4 Scope", make: || Box::<Scope>::default() },
    Spec { screen: Screen::Guard, name: "6 Guard", make: || Box::<Guard>::default() },
];

/// One of each, and which is shown.
pub(super) struct Shown {
    views: Vec<Box<dyn View>>,
    current: usize,
}

impl Default for Shown {
    fn default() -> Self {
        Self { views: SCREENS.iter().map(|spec| (spec.make)()).collect(), current: 0 }
    }
}

impl Shown {
    pub(super) const fn screen(&self) -> Screen {
        SCREENS[self.current].screen
    }

    pub(super) const fn name(&self) -> &'static str {
        SCREENS[self.current].name
    }

    pub(super) fn show(&mut self, screen: Screen) {
        self.current = SCREENS.iter().position(|spec| spec.screen == screen).unwrap_or(self.current);
    }

    /// What the screens want to be there again the next time.
    pub(super) fn remember(&self) -> Remembered {
        let each = SCREENS.iter().zip(&self.views);
        each.filter_map(|(spec, view)| Some((spec.word().to_owned(), view.remember()?))).collect()
    }

    /// Takes up what they remembered.
    pub(super) fn recall(&mut self, remembered: &Remembered) {
        for (spec, view) in SCREENS.iter().zip(&mut self.views) {
            if let Some(value) = remembered.get(spec.word()) {
                view.recall(value);
            }
        }
    }

    pub(super) fn view(&self) -> &dyn View {
        &*self.views[self.current]
    }

    pub(super) fn view_mut(&mut self) -> &mut dyn View {
        &mut *self.views[self.current]
    }
}
