//! Keys and what they mean, in one table. Hints, help and dispatch read it.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use super::action::{Action, Screen};

/// Where the knobs stand beside the screen.
const KNOBS: &[Screen] = &[Screen::Field, Screen::Rules];
const FIELD: &[Screen] = &[Screen::Field];
const LADDER: &[Screen] = &[Screen::Ladder];
const SCOPE: &[Screen] = &[Screen::Scope];
const GUARD: &[Screen] = &[Screen::Guard];

/// A line of the table.
#[derive(Clone, Copy, Debug)]
pub struct Binding {
    /// What it does.
    pub action: Action,
    /// The key.
    pub code: KeyCode,
    /// Modifiers that must be down. Shift is part of a character.
    pub modifiers: KeyModifiers,
    /// The key, or a pair of keys that belong together, on the key line.
    pub key: &'static str,
    /// A word or two for the key line; empty to leave it out there.
    pub hint: &'static str,
    /// A line for the help page.
    pub help: &'static str,
    /// The screens on which it works; none for all.
    pub on: &'static [Screen],
}

impl Binding {
    /// Only on these screens.
    const fn only(self, on: &'static [Screen]) -> Self {
        Self { on, ..self }
    }

    /// Whether it works on a screen.
    pub fn is_on(&self, screen: Screen) -> bool {
        self.on.is_empty() || self.on.contains(&screen)
    }

    /// The key by its own name.
    pub fn name(&self) -> String {
        let name = match self.code {
            KeyCode::Char(' ') => "space".to_owned(),
            KeyCode::Char(c) => c.to_string(),
            KeyCode::BackTab => "tab".to_owned(),
            code => format!("{code}").to_lowercase(),
        };
        match self.modifiers {
            SHIFT => format!("shift {name}"),
            CTRL => format!("ctrl {name}"),
            _ => name,
        }
    }
}

const fn bind(
    action: Action,
    code: KeyCode,
    modifiers: KeyModifiers,
    key: &'static str,
    hint: &'static str,
    help: &'static str,
) -> Binding {
    Binding { action, code, modifiers, key, hint, help, on: &[] }
}

const NONE: KeyModifiers = KeyModifiers::NONE;
const SHIFT: KeyModifiers = KeyModifiers::SHIFT;
const CTRL: KeyModifiers = KeyModifiers::CONTROL;

/// The table, in the order of the help page. Hints appear in this order while there is room.
pub const BINDINGS: [Binding; 94] = [
    bind(Action::Pause, KeyCode::Char(' '), NONE, "space", "pause", "run or pause"),
    bind(Action::TickBack, KeyCode::Char(','), NONE, ",", "", "back one tick of the selected machine"),
    bind(Action::TickOn, KeyCode::Char('.'), NONE, ". ,", "tick", "on one tick of the selected machine"),
    bind(Action::SecondBack, KeyCode::Char('<'), NONE, "<", "", "back one second"),
    bind(Action::SecondOn, KeyCode::Char('>'), NONE, "< >", "second", "on one second"),
    bind(Action::EventOn, KeyCode::Char('n'), NONE, "n p", "event", "to the selected entity's next event"),
    bind(Action::EventBack, KeyCode::Char('p'), NONE, "p", "", "to its previous event"),
    bind(Action::Beginning, KeyCode::Home, NONE, "Home", "", "to the beginning of what is kept"),
    bind(Action::Live, KeyCode::End, NONE, "End", "", "back to live"),
    bind(
        Action::Resume,
        KeyCode::Enter,
        NONE,
        "Enter",
        "",
        "resume from the moment looked at; what came later is dropped",
    ),
    bind(
        Action::Helm,
        KeyCode::Char('h'),
        NONE,
        "h",
        "helm",
        "take the helm of what is selected; again: back to its script",
    ),
    bind(
        Action::Track,
        KeyCode::Char('t'),
        CTRL,
        "C-t",
        "",
        "at the helm: keep what hands do as a track; again: stop and write it",
    ),
    bind(Action::Crash, KeyCode::Char('c'), NONE, "c", "", "the selected machine's program crashes"),
    bind(Action::Leave, KeyCode::Char('g'), NONE, "g", "", "the selected member says goodbye and leaves"),
    bind(Action::Return, KeyCode::Char('r'), NONE, "c g r", "crash, goodbye, return", "it comes (back)"),
    bind(Action::Freeze, KeyCode::Char('f'), NONE, "f", "", "the selected machine stands still for a second"),
    bind(
        Action::Push,
        KeyCode::Char('u'),
        NONE,
        "u",
        "",
        "the server pushes the selected entity ahead at 7 m/s; who claims is told",
    ),
    bind(Action::Teleport, KeyCode::Char('j'), NONE, "j", "", "the server puts the selected entity 5 m ahead"),
    bind(
        Action::Forget,
        KeyCode::Char('o'),
        NONE,
        "o",
        "",
        "the selected machine forgets the nearest solid; again: knows it again",
    ),
    bind(Action::Mend, KeyCode::Char('m'), NONE, "m", "", "mend what a machine gets wrong about who is there"),
    bind(Action::EntityOn, KeyCode::Tab, NONE, "tab", "entity", "look at the next entity"),
    bind(Action::EntityBack, KeyCode::BackTab, SHIFT, "S-tab", "", "look at the previous entity"),
    bind(Action::ViewerOn, KeyCode::Char('v'), NONE, "v", "screen of", "on the screen of the next machine"),
    bind(Action::ViewerBack, KeyCode::Char('V'), NONE, "V", "", "on the screen of the previous machine"),
    bind(Action::KnobUp, KeyCode::Up, NONE, "up", "", "the knob above").only(KNOBS),
    bind(Action::KnobDown, KeyCode::Down, NONE, "arrows", "knobs", "the knob below").only(KNOBS),
    bind(Action::Fold, KeyCode::Char('e'), NONE, "e", "", "fold the group of the chosen knob, or open it").only(FIELD),
    bind(Action::TurnDown, KeyCode::Left, NONE, "left", "", "turn the knob down, for the selected entity's machine")
        .only(KNOBS),
    bind(Action::TurnUp, KeyCode::Right, NONE, "right", "", "turn the knob up").only(KNOBS),
    bind(Action::Type, KeyCode::Char('t'), NONE, "t", "type", "type a value for the knob, with its unit or without")
        .only(KNOBS),
    bind(
        Action::Price,
        KeyCode::Char('P'),
        NONE,
        "P",
        "price",
        "what other values of the knob would have cost in the last ten seconds: tried",
    )
    .only(KNOBS),
    bind(Action::TurnDownAll, KeyCode::Left, SHIFT, "S-left", "", "turn the knob down for all machines").only(KNOBS),
    bind(Action::TurnUpAll, KeyCode::Right, SHIFT, "S-right", "", "turn the knob up for all machines").only(KNOBS),
    bind(Action::KnobUp, KeyCode::Up, NONE, "up", "", "the message that left before").only(LADDER),
    bind(Action::KnobDown, KeyCode::Down, NONE, "up down", "message", "choose a message: the one that left next")
        .only(LADDER),
    bind(
        Action::Follow,
        KeyCode::Char('i'),
        NONE,
        "i",
        "follow",
        "follows the chosen input, or the newest press, from the hand to the other's screen; again: no longer",
    )
    .only(LADDER),
    bind(
        Action::Beside,
        KeyCode::Char('s'),
        NONE,
        "s",
        "machines",
        "one more machine beside them, as far as there is room",
    )
    .only(LADDER),
    bind(Action::LetGo, KeyCode::Esc, NONE, "Esc", "", "chooses and follows nothing any more").only(LADDER),
    bind(Action::ZoomIn, KeyCode::Char(']'), NONE, "]", "", "less time a row, down to 2 ms").only(LADDER),
    bind(Action::ZoomOut, KeyCode::Char('['), NONE, "[ ]", "time", "more time a row, up to 100 ms").only(LADDER),
    bind(Action::PageUp, KeyCode::PageUp, NONE, "PgUp", "", "scroll the message's fields up").only(LADDER),
    bind(Action::PageDown, KeyCode::PageDown, NONE, "PgUp PgDn", "fields", "scroll them down").only(LADDER),
    bind(Action::KnobUp, KeyCode::Up, NONE, "up", "", "the lane above in the list").only(SCOPE),
    bind(Action::KnobDown, KeyCode::Down, NONE, "up down", "lane", "the lane below").only(SCOPE),
    bind(Action::LaneOn, KeyCode::Char('a'), NONE, "a", "show", "shows the chosen lane, or hides it").only(SCOPE),
    bind(Action::Decades, KeyCode::Char('l'), NONE, "l", "axis", "the chosen lane's axis: by decades, or even")
        .only(SCOPE),
    bind(Action::ColumnBack, KeyCode::Left, NONE, "left", "", "the playhead a column back").only(SCOPE),
    bind(Action::ColumnOn, KeyCode::Right, NONE, "left right", "column", "the playhead a column on").only(SCOPE),
    bind(Action::ZoomIn, KeyCode::Char(']'), NONE, "]", "", "lower lanes, so that more fit").only(SCOPE),
    bind(Action::ZoomOut, KeyCode::Char('['), NONE, "[ ]", "height", "higher lanes").only(SCOPE),
    bind(Action::KnobUp, KeyCode::Up, NONE, "up", "", "the newer verdict; Enter looks at it").only(GUARD),
    bind(Action::KnobDown, KeyCode::Down, NONE, "up down", "verdict", "the older verdict; Enter looks at it")
        .only(GUARD),
    bind(Action::LineLeft, KeyCode::Left, NONE, "left", "", "moves the rule's line: less is allowed").only(GUARD),
    bind(Action::LineRight, KeyCode::Right, NONE, "left right", "line", "moves it: more is allowed").only(GUARD),
    bind(
        Action::Allow,
        KeyCode::Char('a'),
        NONE,
        "a",
        "allow",
        "from now on the server allows as much as the rule's line; where it was not moved, what the gait says",
    )
    .only(GUARD),
    bind(Action::RuleOn, KeyCode::Char(']'), NONE, "]", "", "the rule below").only(GUARD),
    bind(Action::RuleBack, KeyCode::Char('['), NONE, "[ ]", "rule", "the rule above").only(GUARD),
    bind(Action::LetGo, KeyCode::Esc, NONE, "Esc", "", "all lines back to their limits").only(GUARD),
    bind(Action::PageUp, KeyCode::PageUp, NONE, "PgUp", "", "ten verdicts up").only(GUARD),
    bind(Action::PageDown, KeyCode::PageDown, NONE, "PgDn", "", "ten verdicts down").only(GUARD),
    bind(Action::Slower, KeyCode::Char('-'), NONE, "-", "", "slower, down to \u{d7}1/8"),
    bind(Action::Faster, KeyCode::Char('+'), NONE, "- +", "speed", "faster, up to \u{d7}8"),
    bind(Action::Faster, KeyCode::Char('='), NONE, "=", "", "faster, too"),
    bind(Action::ZoomIn, KeyCode::Char(']'), NONE, "]", "", "look closer").only(&[Screen::Field]),
    bind(Action::ZoomOut, KeyCode::Char('['), NONE, "[ ]", "zoom", "see more").only(&[Screen::Field]),
    bind(Action::RailIn, KeyCode::Char('}'), NONE, "}", "", "rail: finer slices"),
    bind(Action::RailOut, KeyCode::Char('{'), NONE, "{", "", "rail: coarser slices"),
    bind(
        Action::From,
        KeyCode::Char('d'),
        NONE,
        "d",
        "side",
        "from above, from the south, from the east: jumps are seen",
    )
    .only(&[Screen::Field]),
    bind(Action::Beside, KeyCode::Char('s'), NONE, "s", "screens", "one, two or three viewers' screens side by side")
        .only(&[Screen::Field]),
    bind(Action::Stand, KeyCode::Char('z'), NONE, "z", "", "the camera stands; again: it follows")
        .only(&[Screen::Field]),
    bind(Action::Loupe, KeyCode::Char('l'), NONE, "l", "", "loupe: 2 cm a dot, 5 cm, off").only(&[Screen::Field]),
    bind(
        Action::LoupeOnDrawn,
        KeyCode::Char('L'),
        NONE,
        "L",
        "",
        "loupe: on the body that the viewer draws, or on its owner's",
    )
    .only(&[Screen::Field]),
    bind(Action::Panel, KeyCode::Char('k'), NONE, "k", "", "show or hide the side panel where there is little room"),
    bind(
        Action::Prompt,
        KeyCode::Char(':'),
        NONE,
        ":",
        "type",
        "type what keys do, as latency 150 ms or go 0:12.5; tab completes",
    ),
    bind(
        Action::Budget,
        KeyCode::Char('b'),
        NONE,
        "b",
        "budget",
        "what the course allows the selected member, and what it came to",
    ),
    bind(
        Action::Why,
        KeyCode::Char('y'),
        NONE,
        "y",
        "why",
        "why the last seconds are bad, and what would cure them: tried",
    ),
    bind(Action::KeepBranch, KeyCode::Char('K'), NONE, "K", "", "keep the branch: it takes the place of the run"),
    bind(Action::DropBranch, KeyCode::Char('D'), NONE, "D", "", "drop the branch"),
    bind(Action::Again, KeyCode::Char('r'), CTRL, "C-r", "", "begin again, with the course as it is saved now"),
    bind(Action::Take, KeyCode::Char('w'), NONE, "w", "", "keep the run as a take: a file to open again, or to send"),
    bind(
        Action::Export,
        KeyCode::Char('x'),
        NONE,
        "x",
        "export",
        "take away what is seen: SVG and PDF, with its numbers as CSV",
    ),
    bind(
        Action::Show(Screen::Field),
        KeyCode::Char('1'),
        NONE,
        "1",
        "",
        "screen Field: what does each machine believe?",
    ),
    bind(
        Action::Show(Screen::Rules),
        KeyCode::Char('2'),
        NONE,
        "2",
        "",
        "screen Rules: what is the selected entity's rule, and what does it cost?",
    ),
    bind(
        Action::Show(Screen::Ladder),
        KeyCode::Char('3'),
        NONE,
        "3",
        "",
        "screen Ladder: what crossed the link, when?",
    ),
    bind(Action::Show(Screen::Scope), KeyCode::Char('4'), NONE, "4", "", "screen Scope: how did it develop?"),
    bind(
        Action::Show(Screen::Guard),
        KeyCode::Char('6'),
        NONE,
        "1 to 6",
        "screen",
        "screen Guard: who was accused of what, and how close were the honest?",
    ),
    bind(Action::Edit, KeyCode::Char('e'), NONE, "e", "", "edit the rule in $VISUAL or $EDITOR; saving takes effect")
        .only(&[Screen::Rules]),
    bind(Action::Reach, KeyCode::Char('a'), NONE, "a", "", "saved edits reach all machines, or the selected one only")
        .only(&[Screen::Rules]),
    bind(Action::PageUp, KeyCode::PageUp, NONE, "PgUp", "", "scroll up").only(&[Screen::Rules]),
    bind(Action::PageDown, KeyCode::PageDown, NONE, "PgDn", "", "scroll down").only(&[Screen::Rules]),
    bind(Action::Help, KeyCode::Char('?'), NONE, "?", "help", "this page"),
    bind(Action::Suspend, KeyCode::Char('z'), CTRL, "C-z", "", "suspend"),
    bind(Action::Quit, KeyCode::Char('q'), NONE, "q", "quit", "leave"),
    bind(Action::QuitAlways, KeyCode::Char('q'), CTRL, "C-q", "", "leave, in every mode; so does C-c"),
];

/// What a key means on a screen, outside the driving mode.
pub fn action(key: &KeyEvent, screen: Screen) -> Option<Action> {
    if key.code == KeyCode::Char('c') && key.modifiers.contains(CTRL) {
        return Some(Action::QuitAlways);
    }
    BINDINGS.iter().filter(|b| b.is_on(screen)).find(|b| b.code == key.code && held(b, key.modifiers)).map(|b| b.action)
}

fn held(binding: &Binding, modifiers: KeyModifiers) -> bool {
    // A character carries its own shift, and terminals differ in whether they say so.
    match binding.code {
        KeyCode::Char(_) | KeyCode::BackTab => modifiers.difference(SHIFT) == binding.modifiers.difference(SHIFT),
        _ => modifiers == binding.modifiers,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::screens::SCREENS;

    #[test]
    fn no_two_bindings_share_a_key_and_each_is_found_and_explained() {
        for (i, a) in BINDINGS.iter().enumerate() {
            let screen = SCREENS.iter().map(|spec| spec.screen).find(|s| a.is_on(*s)).expect("it works somewhere");
            assert_eq!(action(&KeyEvent::new(a.code, a.modifiers), screen), Some(a.action), "{}", a.key);
            assert!(!a.help.is_empty());
            for b in &BINDINGS[i + 1..] {
                let apart = SCREENS.iter().all(|spec| !(a.is_on(spec.screen) && b.is_on(spec.screen)));
                assert!(apart || a.code != b.code || a.modifiers != b.modifiers, "{} and {}", a.key, b.key);
            }
        }
    }

    #[test]
    fn every_screen_has_the_key_that_its_name_says() {
        for spec in &SCREENS {
            let key = spec.name.chars().next().expect("it has a name");
            let code = KeyEvent::new(KeyCode::Char(key), NONE);
            for on in SCREENS.iter().map(|spec| spec.screen) {
                assert_eq!(action(&code, on), Some(Action::Show(spec.screen)), "{} on {on:?}", spec.name);
            }
        }
    }

    #[test]
    fn ctrl_with_a_letter_is_not_the_letter() {
        assert_eq!(action(&KeyEvent::new(KeyCode::Char('n'), CTRL), Screen::Field), None);
        assert_eq!(action(&KeyEvent::new(KeyCode::Char('c'), CTRL), Screen::Rules), Some(Action::QuitAlways));
    }
}
