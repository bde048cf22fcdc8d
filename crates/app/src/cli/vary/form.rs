//! How results are written: by the end of the output's name.

use std::path::Path;

use velocitas_lab::vary::Grid;
use velocitas_report::drawing::{Theme, pdf, svg};
use velocitas_report::price::{can_be_drawn, prices};
use velocitas_report::vary::Varied;

use crate::files::{OpenError, Output, Outputs};

/// How an output is written.
#[derive(Clone, Copy)]
pub(super) enum Form {
    Csv,
    Json,
    Svg,
    Pdf,
}

impl Form {
    /// Opens an output for a matrix, if one is wanted; and tells whether it is standard output.
    ///
    /// # Errors
    /// When it has another end, cannot be written, or the matrix cannot be drawn.
    pub(super) fn open(
        path: Option<&Path>,
        grid: &Grid,
        outputs: &mut Outputs<'_>,
    ) -> Result<Option<(Output, Self, bool)>, OpenError> {
        let Some(path) = path else { return Ok(None) };
        let form = Self::of(path)?;
        if matches!(form, Self::Svg | Self::Pdf) {
            can_be_drawn(grid).map_err(OpenError::Usage)?;
        }
        let output = outputs.create(path)?;
        Ok(Some((output, form, outputs.takes_standard())))
    }

    fn of(path: &Path) -> Result<Self, OpenError> {
        match path.extension().and_then(|end| end.to_str()) {
            Some("csv") => Ok(Self::Csv),
            Some("json") => Ok(Self::Json),
            Some("svg") => Ok(Self::Svg),
            Some("pdf") => Ok(Self::Pdf),
            None if path.as_os_str() == "-" => Ok(Self::Csv),
            _ => {
                let found = path.display();
                Err(OpenError::Usage(format!(
                    "expected an output that ends in .csv, .json, .svg or .pdf; found {found}"
                )))
            }
        }
    }

    /// Writes it.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn write(self, varied: &Varied, theme: Theme, output: Output) -> Result<(), OpenError> {
        let page = match self {
            Self::Csv | Self::Json => Vec::new(),
            Self::Svg => svg(&prices(varied).map_err(OpenError::Usage)?, theme).into_bytes(),
            Self::Pdf => {
                let drawing = prices(varied).map_err(OpenError::Usage)?;
                pdf(&drawing, theme).map_err(|why| OpenError::Usage(why.to_string()))?
            }
        };
        output.finish(|out| match self {
            Self::Csv => varied.csv(out),
            Self::Json => varied.json(out),
            Self::Svg | Self::Pdf => out.write_all(&page),
        })
    }
}
