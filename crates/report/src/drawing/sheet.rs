//! What is drawn, as the strokes of a PDF page.

use std::collections::BTreeMap;
use std::convert::Infallible;

use pdf_writer::{Content, Name, Str};
use plotters::backend::DrawingBackend;
use plotters::style::text_anchor::{HPos, VPos};
use plotters_backend::{BackendColor, BackendCoord, BackendStyle, BackendTextStyle, DrawingErrorKind};
use ttf_parser::{Face, GlyphId};

/// By this name a page's strokes call its font.
pub(super) const FONT: Name<'_> = Name(b"M");
/// A font's size is this much less than what the plotting library calls one: it takes that for the height of a line.
const LINE: f64 = 1.24;
/// How far below its anchor a line of text stands that hangs there, in sizes of the font: as the pages in SVG have it.
const HANGS: f64 = 0.76;
/// Half the height of a small letter: what is centred is lowered by it, what stands on its anchor raised.
const HALF: f64 = 0.5;

type Drawn = Result<(), DrawingErrorKind<Infallible>>;

/// A page that is drawn on. Its unit is a pixel of the page in SVG; it counts from the top, PDF from the bottom.
pub(super) struct Sheet<'f> {
    size: (u32, u32),
    face: &'f Face<'f>,
    content: Content,
    /// Glyphs that were written, and for which letter each stands.
    letters: BTreeMap<u16, char>,
}

impl<'f> Sheet<'f> {
    pub(super) fn new(size: (u32, u32), face: &'f Face<'f>) -> Self {
        Self { size, face, content: Content::new(), letters: BTreeMap::new() }
    }

    /// The strokes, and the glyphs that they use.
    pub(super) fn finish(self) -> (Vec<u8>, BTreeMap<u16, char>) {
        (self.content.finish(), self.letters)
    }

    fn place(&self, (x, y): BackendCoord) -> (f32, f32) {
        (x as f32, self.size.1 as f32 - y as f32)
    }

    fn follow(&mut self, path: impl IntoIterator<Item = BackendCoord>) {
        for (i, at) in path.into_iter().enumerate() {
            let (x, y) = self.place(at);
            if i == 0 {
                self.content.move_to(x, y)
            } else {
                self.content.line_to(x, y)
            };
        }
    }

    fn stroke(&mut self, style: &impl BackendStyle) {
        let [r, g, b] = shares(style.color());
        self.content.set_stroke_rgb(r, g, b).set_line_width(style.stroke_width() as f32).stroke();
    }

    fn fill(&mut self, style: &impl BackendStyle) {
        let [r, g, b] = shares(style.color());
        self.content.set_fill_rgb(r, g, b).fill_nonzero();
    }

    fn finish_path(&mut self, style: &impl BackendStyle, fill: bool) {
        if fill { self.fill(style) } else { self.stroke(style) }
    }
}

/// A colour as PDF has it.
fn shares(color: BackendColor) -> [f32; 3] {
    let (r, g, b) = color.rgb;
    [r, g, b].map(|part| f32::from(part) / 255.0)
}

/// The plotting library keeps what it draws on, so it is lent.
impl DrawingBackend for &mut Sheet<'_> {
    type ErrorType = Infallible;

    fn get_size(&self) -> (u32, u32) {
        self.size
    }

    fn ensure_prepared(&mut self) -> Drawn {
        Ok(())
    }

    fn present(&mut self) -> Drawn {
        Ok(())
    }

    fn draw_pixel(&mut self, (x, y): BackendCoord, color: BackendColor) -> Drawn {
        self.draw_rect((x, y), (x + 1, y + 1), &color, true)
    }

    fn draw_line<S: BackendStyle>(&mut self, from: BackendCoord, to: BackendCoord, style: &S) -> Drawn {
        self.draw_path([from, to], style)
    }

    fn draw_rect<S: BackendStyle>(&mut self, a: BackendCoord, b: BackendCoord, style: &S, fill: bool) -> Drawn {
        let (x, y) = self.place((a.0.min(b.0), a.1.max(b.1)));
        self.content.rect(x, y, (a.0 - b.0).abs() as f32, (a.1 - b.1).abs() as f32);
        self.finish_path(style, fill);
        Ok(())
    }

    fn draw_path<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(&mut self, path: I, style: &S) -> Drawn {
        self.follow(path);
        self.stroke(style);
        Ok(())
    }

    /// Of four curves (Bézier's, the usual approximation of a quarter).
    fn draw_circle<S: BackendStyle>(&mut self, at: BackendCoord, radius: u32, style: &S, fill: bool) -> Drawn {
        const BEND: f32 = 0.552_284_8;
        let ((x, y), r) = (self.place(at), radius as f32);
        self.content.move_to(x + r, y);
        for (c, s) in [(1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0)] {
            // From (c, s) to a quarter further, (-s, c).
            let point = |a: f32, b: f32| (x + r * (c * a - s * b), y + r * (s * a + c * b));
            let ((x1, y1), (x2, y2), (x3, y3)) = (point(1.0, BEND), point(BEND, 1.0), point(0.0, 1.0));
            self.content.cubic_to(x1, y1, x2, y2, x3, y3);
        }
        self.content.close_path();
        self.finish_path(style, fill);
        Ok(())
    }

    fn fill_polygon<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(&mut self, corners: I, style: &S) -> Drawn {
        self.follow(corners);
        self.content.close_path();
        self.fill(style);
        Ok(())
    }

    fn draw_text<S: BackendTextStyle>(&mut self, text: &str, style: &S, at: BackendCoord) -> Drawn {
        let size = style.size() / LINE;
        let em = f64::from(self.face.units_per_em());
        let letter = f64::from(self.face.glyph_hor_advance(GlyphId(0)).unwrap_or_default()) / em * size;
        let small = f64::from(self.face.x_height().unwrap_or_default()) / em * size;
        let mut glyphs = Vec::new();
        for letter in text.chars() {
            let glyph = self.face.glyph_index(letter).unwrap_or_default().0;
            self.letters.entry(glyph).or_insert(letter);
            glyphs.extend(glyph.to_be_bytes());
        }
        let anchor = style.anchor();
        let wide = letter * text.chars().count() as f64;
        let left = match anchor.h_pos {
            HPos::Left => 0.0,
            HPos::Center => wide / 2.0,
            HPos::Right => wide,
        };
        let down = match anchor.v_pos {
            VPos::Top => HANGS * size,
            VPos::Center => HALF * small,
            VPos::Bottom => -HALF * small,
        };
        let ((x, y), [r, g, b]) = (self.place(at), shares(style.color()));
        self.content.set_fill_rgb(r, g, b).begin_text().set_font(FONT, size as f32);
        self.content.next_line(x - left as f32, y - down as f32).show(Str(&glyphs)).end_text();
        Ok(())
    }

    fn estimate_text_size<S: BackendTextStyle>(
        &self,
        text: &str,
        style: &S,
    ) -> Result<(u32, u32), DrawingErrorKind<Infallible>> {
        Ok(((text.chars().count() as f64 * style.size() / 2.0) as u32, style.size() as u32))
    }
}
