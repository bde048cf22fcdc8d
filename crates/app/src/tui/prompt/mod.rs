//! Typing what keys do: `:` opens a line, Enter does it, Tab completes, up and down go through what was done before.

mod verbs;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use super::stage::lines::Prompt;
use super::stage::{Stage, Wish};

use verbs::{completions, does, usage};

/// The longest line, in bytes.
const MOST: usize = 160;
/// Lines that are remembered.
const REMEMBERED: usize = 100;
/// Completions that are shown at most.
const SHOWN: usize = 12;

impl Stage {
    /// Opens the line.
    pub(super) fn open_prompt(&mut self) {
        self.lines.prompt = Some(Prompt::default());
    }

    /// Takes a key while a line is typed.
    pub(super) fn prompt_key(&mut self, key: &KeyEvent) -> Option<Wish> {
        let Some(prompt) = &mut self.lines.prompt else { return None };
        prompt.wrong = None;
        match key.code {
            KeyCode::Esc => self.lines.prompt = None,
            KeyCode::Backspace if prompt.text.is_empty() => self.lines.prompt = None,
            KeyCode::Backspace => drop(prompt.text.pop()),
            KeyCode::Up | KeyCode::Down => self.remember(key.code == KeyCode::Up),
            KeyCode::Tab => self.complete(),
            KeyCode::Enter => return self.enter(),
            KeyCode::Char(c)
                if prompt.text.len() < MOST
                    && !c.is_control()
                    && key.modifiers.difference(KeyModifiers::SHIFT).is_empty() =>
            {
                prompt.text.push(c);
            }
            _ => {}
        }
        None
    }

    /// Shows a line that was done before.
    fn remember(&mut self, earlier: bool) {
        let Some(prompt) = &mut self.lines.prompt else { return };
        prompt.back =
            if earlier { (prompt.back + 1).min(self.lines.history.len()) } else { prompt.back.saturating_sub(1) };
        prompt.text = match prompt.back {
            0 => String::new(),
            back => self.lines.history[self.lines.history.len() - back].clone(),
        };
    }

    /// Completes the last word as far as there is only one way to go on.
    fn complete(&mut self) {
        let Some(text) = self.lines.prompt.as_ref().map(|prompt| prompt.text.clone()) else { return };
        let (before, all) = completions(self, &text);
        let Some(first) = all.first() else { return };
        let common = all.iter().skip(1).fold(first.clone(), |common, word| {
            common.chars().zip(word.chars()).take_while(|(a, b)| a == b).map(|(a, _)| a).collect()
        });
        let space = if all.len() == 1 { " " } else { "" };
        if let Some(prompt) = &mut self.lines.prompt {
            prompt.text = format!("{before}{common}{space}");
        }
    }

    /// Does what was typed; what cannot be done stays to be mended.
    fn enter(&mut self) -> Option<Wish> {
        let prompt = self.lines.prompt.take()?;
        let line = prompt.text.trim();
        if line.is_empty() {
            return None;
        }
        match does(self, line) {
            Ok(wish) => {
                if self.lines.history.last().is_none_or(|last| last != line) {
                    self.lines.history.push(line.to_owned());
                }
                let old = self.lines.history.len().saturating_sub(REMEMBERED);
                self.lines.history.drain(..old);
                wish
            }
            Err(why) => {
                self.lines.prompt = Some(Prompt { wrong: Some(why), ..prompt });
                None
            }
        }
    }

    /// What can follow what is typed, or how it is used: for the key line.
    pub(super) fn prompt_hint(&self) -> String {
        let Some(prompt) = &self.lines.prompt else { return String::new() };
        if let Some(usage) = usage(&prompt.text) {
            return usage;
        }
        let (_, all) = completions(self, &prompt.text);
        let more = if all.len() > SHOWN { " \u{2026}" } else { "" };
        format!("{}{more}", all.iter().take(SHOWN).cloned().collect::<Vec<_>>().join("  "))
    }
}
