//! A line that is being typed.

/// A line that is being typed.
#[derive(Clone, Debug, Default)]
pub(in crate::tui) struct Prompt {
    pub(in crate::tui) text: String,
    /// Why it could not be done, if it was tried.
    pub(in crate::tui) wrong: Option<String>,
    /// Which line of those done before is shown, from the newest, 1 being the newest.
    pub(in crate::tui) back: usize,
}
