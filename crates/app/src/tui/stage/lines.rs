//! The lines that take text: a value for the chosen knob, or what keys do.

/// The lines that take text; at most one is open.
#[derive(Debug, Default)]
pub(in crate::tui) struct Lines {
    /// What is typed for the chosen knob, while it is.
    pub(in crate::tui) typing: Option<Typing>,
    /// What is typed behind `:`, while it is.
    pub(in crate::tui) prompt: Option<Prompt>,
    /// What was done from there, oldest first.
    pub(in crate::tui) history: Vec<String>,
}

/// What is typed, and why it was no value, if it was not.
#[derive(Clone, Debug, Default)]
pub(in crate::tui) struct Typing {
    pub(in crate::tui) text: String,
    pub(in crate::tui) wrong: Option<String>,
}

/// A line that is being typed.
#[derive(Clone, Debug, Default)]
pub(in crate::tui) struct Prompt {
    pub(in crate::tui) text: String,
    /// Why it could not be done, if it was tried.
    pub(in crate::tui) wrong: Option<String>,
    /// Which line of those done before is shown, from the newest, 1 being the newest.
    pub(in crate::tui) back: usize,
}
