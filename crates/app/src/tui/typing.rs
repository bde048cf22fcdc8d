//! Typing a value for the chosen knob.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use velocitas_analysis::cause::shown;
use velocitas_record::Command;

use super::stage::Stage;
use super::stage::lines::Typing;

/// The longest that is typed.
const MOST: usize = 24;

impl Stage {
    /// Whether a line is open that takes text.
    pub(super) const fn has_line(&self) -> bool {
        self.lines.typing.is_some() || self.lines.prompt.is_some()
    }

    /// Begins to type a value for the chosen knob.
    pub(super) fn type_value(&mut self) {
        if !self.selected.knobs.open() {
            self.lines.typing = Some(Typing::default());
        }
    }

    /// Takes a key while a value is typed.
    pub(super) fn typing_key(&mut self, key: &KeyEvent) {
        let Some(typing) = &mut self.lines.typing else { return };
        typing.wrong = None;
        let text = &mut typing.text;
        match key.code {
            KeyCode::Esc => self.lines.typing = None,
            KeyCode::Backspace => drop(text.pop()),
            KeyCode::Enter => self.typed(),
            KeyCode::Char(c)
                if text.len() < MOST && c.is_ascii() && key.modifiers.difference(KeyModifiers::SHIFT).is_empty() =>
            {
                text.push(c);
            }
            _ => {}
        }
    }

    /// Sets what was typed; what is no value stays to be mended.
    fn typed(&mut self) {
        let Some(Typing { text, .. }) = self.lines.typing.take() else { return };
        let knob = self.chosen_knob();
        match knob.read(&text) {
            Ok(value) => {
                let (name, whose, shown) = (knob.spec().name, self.name(self.selected.entity), shown(knob, value));
                let (words, says) = (format!("{whose}: {name} {shown}"), format!("{name} of {whose} set to {shown}"));
                let commands = vec![Command::Set { member: self.selected.entity, knob, value }];
                self.do_or_offer(words, commands, Some(says));
            }
            Err(why) => self.lines.typing = Some(Typing { text, wrong: Some(why) }),
        }
    }
}
