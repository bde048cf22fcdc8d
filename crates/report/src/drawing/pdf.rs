//! A page as PDF, with the letters it needs inside.

use std::sync::Arc;

use svg2pdf::usvg::{Options, Tree, fontdb};
use svg2pdf::{ConversionOptions, PageOptions};
use thiserror::Error;

use super::{Drawing, Theme, svg};

/// Why there is no PDF.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum PdfError {
    /// The page was not understood.
    #[error("the page could not be read back: {0}")]
    Read(String),
    /// It was, and could not be written.
    #[error("the page could not be written: {0}")]
    Written(String),
}

/// A drawing as PDF. The same drawing in the same theme gives the same bytes.
///
/// # Errors
/// When the libraries that write it give up.
pub fn pdf(drawing: &Drawing, theme: Theme) -> Result<Vec<u8>, PdfError> {
    let mut fonts = fontdb::Database::new();
    fonts.load_font_data(dejavu::sans_mono::regular().to_vec());
    fonts.set_monospace_family("DejaVu Sans Mono");
    let options = Options { fontdb: Arc::new(fonts), font_family: "DejaVu Sans Mono".to_owned(), ..Options::default() };
    let tree = Tree::from_str(&svg(drawing, theme), &options).map_err(|why| PdfError::Read(why.to_string()))?;
    svg2pdf::to_pdf(&tree, ConversionOptions::default(), PageOptions::default())
        .map_err(|why| PdfError::Written(why.to_string()))
}
