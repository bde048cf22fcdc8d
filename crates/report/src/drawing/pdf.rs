//! A page as PDF (ISO 32000-1), with the letters it needs inside.

use std::collections::BTreeMap;

use miniz_oxide::deflate::compress_to_vec_zlib;
use pdf_writer::types::{CidFontType, FontFlags, SystemInfo, UnicodeCmap};
use pdf_writer::{Filter, Finish, Name, Pdf, Rect, Ref, Str};
use thiserror::Error;
use ttf_parser::{Face, GlyphId};

use super::sheet::{FONT, Sheet};
use super::{Drawing, Theme, page};

/// Why there is no PDF.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum PdfError {
    /// The letters could not be read.
    #[error("the letters of the page could not be read: {0}")]
    Letters(String),
}

/// How hard streams are packed, of ten.
const PACKED: u8 = 6;
/// What of a font is used by reference to glyphs, in two bytes each.
const IDENTITY: Name<'_> = Name(b"Identity-H");
const ADOBE: SystemInfo<'_> = SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };

/// A drawing as PDF. The same drawing in the same theme gives the same bytes.
///
/// # Errors
/// When the font that is compiled in cannot be read.
pub fn pdf(drawing: &Drawing, theme: Theme) -> Result<Vec<u8>, PdfError> {
    let face = Face::parse(dejavu::sans_mono::regular(), 0).map_err(|why| PdfError::Letters(why.to_string()))?;
    let size = page::size(drawing);
    let mut sheet = Sheet::new(size, &face);
    page::draw(drawing, theme, &mut sheet);
    let (content, letters) = sheet.finish();
    let [catalog, pages, leaf, strokes, font] = [1, 2, 3, 4, 5].map(Ref::new);
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(pages);
    pdf.pages(pages).kids([leaf]).count(1);
    let mut it = pdf.page(leaf);
    it.parent(pages).media_box(Rect::new(0.0, 0.0, size.0 as f32, size.1 as f32)).contents(strokes);
    it.resources().fonts().pair(FONT, font);
    it.finish();
    pdf.stream(strokes, &compress_to_vec_zlib(&content, PACKED)).filter(Filter::FlateDecode);
    write_font(&mut pdf, font, &face, &letters)?;
    Ok(pdf.finish())
}

/// The font with no more than those letters, by their glyphs, and what each stands for: text can be copied.
fn write_font(pdf: &mut Pdf, font: Ref, face: &Face<'_>, letters: &BTreeMap<u16, char>) -> Result<(), PdfError> {
    const NAME: Name<'_> = Name(b"VELOCI+DejaVuSansMono");
    let [by_glyph, about, file, meaning] = [1, 2, 3, 4].map(|part| Ref::new(font.get() + part));
    // A thousandth of a letter's size is the unit of a font.
    let unit = 1000.0 / f32::from(face.units_per_em());
    let scaled = |v: i16| f32::from(v) * unit;
    pdf.type0_font(font).base_font(NAME).encoding_predefined(IDENTITY).descendant_font(by_glyph).to_unicode(meaning);
    let width = f32::from(face.glyph_hor_advance(GlyphId(0)).unwrap_or_default()) * unit;
    let mut glyphs = pdf.cid_font(by_glyph);
    glyphs.subtype(CidFontType::Type2).base_font(NAME).system_info(ADOBE).font_descriptor(about);
    // What is not whole is read as nothing here, and only here.
    glyphs.default_width(width.round()).cid_to_gid_map_predefined(Name(b"Identity"));
    glyphs.widths().same(0, u16::MAX, width);
    glyphs.finish();
    let round = face.global_bounding_box();
    pdf.font_descriptor(about)
        .name(NAME)
        .flags(FontFlags::FIXED_PITCH | FontFlags::NON_SYMBOLIC)
        .bbox(Rect::new(scaled(round.x_min), scaled(round.y_min), scaled(round.x_max), scaled(round.y_max)))
        .italic_angle(0.0)
        .ascent(scaled(face.ascender()))
        .descent(scaled(face.descender()))
        .cap_height(face.capital_height().map_or(0.0, scaled))
        .stem_v(80.0)
        .font_file2(file);
    let glyphs: Vec<u16> = letters.keys().copied().collect();
    let subset = subsetter::subset(face.raw_face().data, 0, subsetter::Profile::pdf(&glyphs))
        .map_err(|why| PdfError::Letters(why.to_string()))?;
    let packed = compress_to_vec_zlib(&subset, PACKED);
    let mut stream = pdf.stream(file, &packed);
    stream.filter(Filter::FlateDecode).pair(Name(b"Length1"), subset.len() as i32);
    stream.finish();
    let mut map = UnicodeCmap::new(Name(b"Meaning"), ADOBE);
    letters.iter().for_each(|(glyph, letter)| map.pair(*glyph, *letter));
    pdf.cmap(meaning, &map.finish());
    Ok(())
}
