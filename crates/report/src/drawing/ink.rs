//! Colours of a page: dark as on the screen, or light for print.

use plotters::style::RGBColor;

use super::Tone;

/// Which.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Theme {
    /// As on the screen.
    #[default]
    Dark,
    /// For print.
    Light,
}

const fn rgb(hex: u32) -> RGBColor {
    RGBColor((hex >> 16) as u8, (hex >> 8) as u8, hex as u8)
}

impl Theme {
    /// The page.
    pub(super) const fn ground(self) -> RGBColor {
        match self {
            Self::Dark => rgb(0x0b_0e14),
            Self::Light => rgb(0xff_ffff),
        }
    }

    /// A tone.
    pub(super) const fn ink(self, tone: Tone) -> RGBColor {
        let (dark, light) = match tone {
            Tone::Owner => (0xf5_b942, 0xa8_6a00),
            Tone::Authority => (0xa7_8bfa, 0x5b_3fc4),
            Tone::Viewer => (0x2d_d4bf, 0x0b_7d70),
            Tone::Fault => (0xff_7a62, 0xc2_3a1f),
            Tone::Verdict => (0xd0_2648, 0xd0_2648),
            Tone::Bright => (0xff_ffff, 0x00_0000),
            Tone::Plain => (0xc9_d1d9, 0x1f_2630),
            Tone::Muted => (0x8b_95a5, 0x5a_6474),
            Tone::Line => (0x3a_4354, 0xc8_ced8),
            Tone::Water => (0x12_283c, 0xd6_e6f5),
            Tone::Ice => (0x22_303e, 0xe6_eef4),
            Tone::Planks => (0x1a_1a1c, 0xf1_eee8),
            Tone::Wall => (0x2a_3140, 0xd3_d7de),
            Tone::OneSided => (0x4c_2f30, 0xf6_d5cf),
        };
        match self {
            Self::Dark => rgb(dark),
            Self::Light => rgb(light),
        }
    }

    /// A tone as it looks when so much of it lies over the page. Nothing is left to see through: what can be seen through is written
    /// in another order each time.
    pub(super) fn thinned(self, tone: Tone, share: f64) -> RGBColor {
        let (ink, ground) = (self.ink(tone), self.ground());
        let of = |ink: u8, ground: u8| (f64::from(ink) * share + f64::from(ground) * (1.0 - share)).round() as u8;
        RGBColor(of(ink.0, ground.0), of(ink.1, ground.1), of(ink.2, ground.2))
    }
}
