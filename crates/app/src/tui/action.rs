//! What can be asked for, by a key or a line that is typed.

/// What a key asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Run or pause.
    Pause,
    /// The selected machine's previous tick.
    TickBack,
    /// The selected machine's next tick.
    TickOn,
    /// A second back.
    SecondBack,
    /// A second on.
    SecondOn,
    /// The previous event of the selected entity.
    EventBack,
    /// The next one.
    EventOn,
    /// To the beginning.
    Beginning,
    /// Back to live.
    Live,
    /// Resume from the moment looked at.
    Resume,
    /// Slower.
    Slower,
    /// Faster.
    Faster,
    /// Take the helm, or hand it back to the script.
    Helm,
    /// Keep what hands do at the helm as a track, or stop and write it.
    Track,
    /// Type a value for the chosen knob.
    Type,
    /// The selected machine stands still.
    Freeze,
    /// The selected member is pushed.
    Push,
    /// The selected member is put elsewhere.
    Teleport,
    /// The selected machine forgets the nearest solid, or knows it again.
    Forget,
    /// The selected machine's program ends without a word.
    Crash,
    /// The selected member says goodbye.
    Leave,
    /// The selected member comes back.
    Return,
    /// What the selected machine's program gets wrong is put right.
    Mend,
    /// The next entity.
    EntityOn,
    /// The previous one.
    EntityBack,
    /// The next viewer.
    ViewerOn,
    /// The previous one.
    ViewerBack,
    /// The knob above.
    KnobUp,
    /// The knob below.
    KnobDown,
    /// Fold the group of the chosen knob, or open it.
    Fold,
    /// Turn the knob down.
    TurnDown,
    /// Turn the knob up.
    TurnUp,
    /// Turn it down for all.
    TurnDownAll,
    /// Turn it up for all.
    TurnUpAll,
    /// Show or hide the side panel where there is little room.
    Panel,
    /// Look closer.
    ZoomIn,
    /// See more.
    ZoomOut,
    /// The playhead a column back.
    ColumnBack,
    /// The playhead a column on.
    ColumnOn,
    /// Finer slices on the rail.
    RailIn,
    /// Coarser slices.
    RailOut,
    /// The loupe's scale, or none.
    Loupe,
    /// The loupe on the drawn body, or on its owner's.
    LoupeOnDrawn,
    /// A screen.
    Show(Screen),
    /// Look from another side.
    From,
    /// The camera stands, or follows.
    Stand,
    /// One, two or three viewers side by side.
    Beside,
    /// Follow an input, or no longer.
    Follow,
    /// Choose nothing any more.
    LetGo,
    /// Show the chosen lane, or no longer.
    LaneOn,
    /// The axis of the chosen lane by decades, or even.
    Decades,
    /// The rule above.
    RuleBack,
    /// The rule below.
    RuleOn,
    /// The line of the rule allows less.
    LineLeft,
    /// It allows more.
    LineRight,
    /// The server allows as much as the line of the rule.
    Allow,
    /// Scroll up.
    PageUp,
    /// Scroll down.
    PageDown,
    /// Edit the rule in an editor.
    Edit,
    /// Whether saved edits reach all machines or the selected one only.
    Reach,
    /// Type what keys do.
    Prompt,
    /// The selected member's budgets, held against the run so far.
    Budget,
    /// Why the last seconds are bad, and what would cure them.
    Why,
    /// What the values of the chosen knob would have cost.
    Price,
    /// The branch takes the place of the run.
    KeepBranch,
    /// The branch is let go.
    DropBranch,
    /// Begin again, with the course as it was saved.
    Again,
    /// Keep the run as a take.
    Take,
    /// Take away what is seen.
    Export,
    /// The same, dark on light, for print.
    ExportLight,
    /// This list.
    Help,
    /// Suspend.
    Suspend,
    /// Leave.
    Quit,
    /// Leave, in every mode.
    QuitAlways,
}

impl Action {
    /// Whether it needs a run that goes on, or can be gone on with: of one that is over it is not offered, and says why not.
    pub const fn needs_a_run(self) -> bool {
        matches!(
            self,
            Self::Pause
                | Self::Resume
                | Self::Slower
                | Self::Faster
                | Self::Helm
                | Self::Track
                | Self::Type
                | Self::Freeze
                | Self::Push
                | Self::Teleport
                | Self::Forget
                | Self::Crash
                | Self::Leave
                | Self::Return
                | Self::Mend
                | Self::TurnDown
                | Self::TurnUp
                | Self::TurnDownAll
                | Self::TurnUpAll
                | Self::Allow
                | Self::Edit
                | Self::Reach
                | Self::Why
                | Self::Price
                | Self::KeepBranch
                | Self::DropBranch
        )
    }
}

/// A screen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Screen {
    /// What does each machine believe?
    #[default]
    Field,
    /// What is the rule, and what does it cost?
    Rules,
    /// What crossed the link, when?
    Ladder,
    /// How did it develop?
    Scope,
    /// Who was accused of what, and how close were the honest?
    Guard,
}
