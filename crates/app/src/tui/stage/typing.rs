//! A value that is being typed for the chosen knob.

/// What is typed, and why it was no value, if it was not.
#[derive(Clone, Debug, Default)]
pub(in crate::tui) struct Typing {
    pub(in crate::tui) text: String,
    pub(in crate::tui) wrong: Option<String>,
}
