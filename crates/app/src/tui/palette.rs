//! Colours and glyphs by meaning. Colour means a kind of echo or a fault and nothing else; shapes say the same again.

use ratatui::style::{Color, Modifier, Style};

use super::parts::is_part;

/// What the terminal can show.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Colours {
    /// 24 bits.
    True,
    /// The sixteen of old.
    Sixteen,
    /// None: shapes alone must do.
    None,
}

/// Colours and glyphs in force.
#[derive(Clone, Copy, Debug)]
pub struct Palette {
    colours: Colours,
    ascii: bool,
}

/// A meaning that has a colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// Plain text.
    Text,
    /// What is less important.
    Muted,
    /// Lines and frames.
    Line,
    /// The most important.
    Bright,
    /// The server's belief.
    Authority,
    /// The owner's belief; also late and made-up inputs.
    Predicted,
    /// A viewer's picture.
    Drawn,
    /// A correction.
    Correction,
}

/// What lies on the ground.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ground {
    /// Stone underfoot.
    Floor,
    /// Outside the world.
    Outside,
    /// Water.
    Water,
    /// Ice.
    Ice,
    /// Planks.
    Planks,
    /// Something solid.
    Wall,
    /// Something solid that one side only knows.
    OneSided,
}

impl Palette {
    /// A palette for a test or a known terminal.
    pub const fn new(colours: Colours, ascii: bool) -> Self {
        Self { colours, ascii }
    }

    /// What the environment asks for: `NO_COLOR`, `COLORTERM`.
    pub fn from_environment(ascii: bool) -> Self {
        let set = |name| std::env::var_os(name).is_some_and(|v| !v.is_empty());
        let colours = if set("NO_COLOR") {
            Colours::None
        } else if std::env::var("COLORTERM").is_ok_and(|v| v == "truecolor" || v == "24bit") {
            Colours::True
        } else {
            Colours::Sixteen
        };
        Self { colours, ascii }
    }

    /// Whether plain ASCII is asked for.
    pub const fn is_ascii(self) -> bool {
        self.ascii
    }

    fn pick(self, rgb: (u8, u8, u8), sixteen: Color) -> Color {
        match self.colours {
            Colours::True => Color::Rgb(rgb.0, rgb.1, rgb.2),
            Colours::Sixteen => sixteen,
            Colours::None => Color::Reset,
        }
    }

    /// The colour of a meaning.
    fn colour(self, tone: Tone) -> Color {
        match tone {
            Tone::Text => self.pick((0xc9, 0xd1, 0xd9), Color::Gray),
            Tone::Muted => self.pick((0x6e, 0x78, 0x88), Color::DarkGray),
            Tone::Line => self.pick((0x3a, 0x43, 0x54), Color::DarkGray),
            Tone::Bright => self.pick((0xff, 0xff, 0xff), Color::White),
            Tone::Authority => self.pick((0xa7, 0x8b, 0xfa), Color::LightMagenta),
            Tone::Predicted => self.pick((0xf5, 0xb9, 0x42), Color::LightYellow),
            Tone::Drawn => self.pick((0x2d, 0xd4, 0xbf), Color::LightCyan),
            Tone::Correction => self.pick((0xff, 0x7a, 0x62), Color::LightRed),
        }
    }

    /// Letters of a meaning.
    pub fn text(self, tone: Tone) -> Style {
        let style = Style::new().fg(self.colour(tone));
        if self.colours == Colours::None && matches!(tone, Tone::Bright) {
            return style.add_modifier(Modifier::BOLD);
        }
        style
    }

    /// A badge: dark letters on a colour.
    pub fn badge(self, tone: Tone) -> Style {
        match self.colours {
            Colours::None => Style::new().add_modifier(Modifier::REVERSED),
            Colours::True => Style::new().fg(Color::Rgb(0x0b, 0x0e, 0x14)).bg(self.colour(tone)),
            Colours::Sixteen => Style::new().fg(Color::Black).bg(self.colour(tone)),
        }
    }

    /// A guard's verdict.
    pub fn verdict(self) -> Style {
        match self.colours {
            Colours::None => Style::new().add_modifier(Modifier::REVERSED | Modifier::BOLD),
            Colours::True => Style::new().fg(Color::Rgb(0xff, 0xff, 0xff)).bg(Color::Rgb(0xd0, 0x26, 0x48)),
            Colours::Sixteen => Style::new().fg(Color::White).bg(Color::Red),
        }
    }

    /// The row of a list that keys act on.
    pub fn chosen(self) -> Style {
        self.text(Tone::Bright).add_modifier(Modifier::BOLD)
    }

    /// Everything behind.
    pub fn base(self) -> Style {
        let bg = self.pick((0x0b, 0x0e, 0x14), Color::Reset);
        self.text(Tone::Text).bg(bg)
    }

    /// The background of a cell of ground.
    pub fn ground(self, ground: Ground) -> Color {
        match ground {
            Ground::Floor => self.pick((0x0b, 0x0e, 0x14), Color::Reset),
            Ground::Outside => self.pick((0x06, 0x08, 0x0b), Color::Reset),
            Ground::Water => self.pick((0x12, 0x28, 0x3c), Color::Blue),
            Ground::Ice => self.pick((0x22, 0x30, 0x3e), Color::Cyan),
            Ground::Planks => self.pick((0x1a, 0x1a, 0x1c), Color::Reset),
            Ground::Wall => self.pick((0x2a, 0x31, 0x40), Color::DarkGray),
            Ground::OneSided => self.pick((0x4c, 0x2f, 0x30), Color::Red),
        }
    }

    /// What stands in a cell of ground where colour cannot say it.
    pub fn ground_glyph(self, ground: Ground) -> char {
        if self.colours != Colours::None {
            return ' ';
        }
        match ground {
            Ground::Floor => ' ',
            Ground::Outside => '/',
            Ground::Water => '~',
            Ground::Ice => '_',
            Ground::Planks => '=',
            Ground::Wall => '#',
            Ground::OneSided => '%',
        }
    }

    /// Whether there are any colours.
    pub fn has_colours(self) -> bool {
        self.colours != Colours::None
    }

    /// Whether parts of a cell can be told apart.
    pub fn has_parts(self) -> bool {
        self.colours != Colours::None && !self.ascii
    }

    /// Whether a cell shows nothing but ground.
    pub fn is_ground(self, symbol: &str) -> bool {
        let mut letters = symbol.chars();
        let Some(c) = letters.next().filter(|_| letters.next().is_none()) else { return false };
        is_part(c) || self.colours == Colours::None && "/~_=#%".contains(c)
    }

    fn glyph(self, usual: char, ascii: char) -> char {
        if self.ascii { ascii } else { usual }
    }

    /// The server's belief.
    pub fn authority(self) -> char {
        self.glyph('\u{25c6}', 'A')
    }

    /// What others are sent of it.
    pub fn smooth(self) -> char {
        self.glyph('\u{25c8}', 'E')
    }

    /// The owner's belief.
    pub fn predicted(self) -> char {
        self.glyph('\u{25cf}', 'P')
    }

    /// The server's belief in a branch.
    pub fn authority_hollow(self) -> char {
        self.glyph('\u{25c7}', 'V')
    }

    /// The owner's belief in a branch.
    pub fn predicted_hollow(self) -> char {
        self.glyph('\u{25a1}', 'O')
    }

    /// A viewer's picture.
    pub fn drawn(self) -> char {
        self.glyph('\u{25cb}', 'o')
    }

    /// A correction.
    pub fn correction(self) -> char {
        self.glyph('\u{d7}', 'x')
    }

    /// An input that came late.
    pub fn late(self) -> char {
        self.glyph('\u{25ab}', 'l')
    }

    /// An input that was made up.
    pub fn made_up(self) -> char {
        self.glyph('\u{25aa}', 'm')
    }

    /// A datagram that was lost.
    pub fn lost(self) -> char {
        self.glyph('\u{2508}', '-')
    }

    /// Nothing, on the rail.
    pub fn nothing(self) -> char {
        self.glyph('\u{b7}', '.')
    }

    /// A snapshot leaving, on the rail.
    pub fn snapshot(self) -> char {
        self.glyph('\u{2502}', '|')
    }

    /// The server's belief at an earlier snapshot.
    pub fn authority_trail(self) -> char {
        self.glyph('\u{22c4}', 'a')
    }

    /// Where something was ordered to.
    pub fn order(self) -> char {
        self.glyph('\u{2295}', 'G')
    }

    /// Where the next order will go.
    pub fn cursor(self) -> char {
        self.glyph('\u{253c}', '#')
    }

    /// A tick, on the line of a machine.
    pub fn notch(self) -> char {
        self.glyph('\u{253c}', '+')
    }

    /// A viewer's earlier picture.
    pub fn drawn_trail(self) -> char {
        self.glyph('\u{2218}', ',')
    }

    /// A horizontal line.
    pub fn line(self) -> char {
        self.glyph('\u{2500}', '-')
    }

    /// A vertical line.
    pub fn bar(self) -> char {
        self.glyph('\u{2502}', '|')
    }

    /// The playhead.
    pub fn playhead(self) -> char {
        self.glyph('\u{2503}', '|')
    }

    /// Where something leaves something else.
    pub fn branch(self) -> char {
        self.glyph('\u{2514}', '`')
    }

    /// Between two facts of a line.
    pub fn dot(self) -> &'static str {
        if self.ascii { "-" } else { "\u{b7}" }
    }

    /// Handles of a knob.
    pub fn handles(self) -> (&'static str, &'static str) {
        if self.ascii { ("<", ">") } else { ("\u{25c2}", "\u{25b8}") }
    }

    /// Before what is chosen in a list in which things fold.
    pub fn mark(self) -> &'static str {
        if self.ascii { ">" } else { "\u{203a}" }
    }

    /// Before what is folded, or open.
    pub fn fold(self, folded: bool) -> &'static str {
        match (self.ascii, folded) {
            (false, true) => "\u{25b8}",
            (false, false) => "\u{25be}",
            (true, true) => "+",
            (true, false) => "-",
        }
    }

    /// A column filled to this number of eighths.
    pub fn eighths(self, n: usize) -> char {
        const BLOCKS: [char; 9] =
            [' ', '\u{2581}', '\u{2582}', '\u{2583}', '\u{2584}', '\u{2585}', '\u{2586}', '\u{2587}', '\u{2588}'];
        const PLAIN: [char; 9] = [' ', '.', '.', ':', ':', '+', '+', '#', '#'];
        if self.ascii { PLAIN[n.min(8)] } else { BLOCKS[n.min(8)] }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_kind_of_echo_has_a_shape_and_a_colour_of_its_own() {
        for ascii in [false, true] {
            let p = Palette::new(Colours::True, ascii);
            let hollow = [p.authority_hollow(), p.predicted_hollow()];
            let shapes = [
                p.authority(),
                p.predicted(),
                hollow[0],
                hollow[1],
                p.drawn(),
                p.correction(),
                p.late(),
                p.made_up(),
                '!',
            ];
            for (i, a) in shapes.iter().enumerate() {
                assert!(!shapes[i + 1..].contains(a), "{a}");
            }
        }
        let p = Palette::new(Colours::True, false);
        let tones = [Tone::Authority, Tone::Predicted, Tone::Drawn, Tone::Correction];
        let colours: Vec<_> = tones.iter().map(|t| p.text(*t).fg).collect();
        for (i, a) in colours.iter().enumerate() {
            assert!(!colours[i + 1..].contains(a), "{a:?}");
        }
    }

    #[test]
    fn without_colour_nothing_asks_for_one() {
        let p = Palette::new(Colours::None, false);
        for tone in [Tone::Text, Tone::Authority, Tone::Correction, Tone::Bright] {
            assert_eq!(p.text(tone).fg, Some(Color::Reset));
        }
        assert_eq!(p.ground(Ground::Water), Color::Reset);
        assert_ne!(p.ground_glyph(Ground::Water), p.ground_glyph(Ground::Wall));
    }
}
