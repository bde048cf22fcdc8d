//! How results are written: by the end of the output's name.

use std::path::Path;

use velocitas_report::vary::Varied;

use crate::files::{OpenError, Output, Outputs};

/// How an output is written.
#[derive(Clone, Copy)]
pub(super) enum Form {
    Csv,
    Json,
}

impl Form {
    /// Opens an output, if one is wanted; and tells whether it is standard output.
    ///
    /// # Errors
    /// When it has another end, or cannot be written.
    pub(super) fn open(
        path: Option<&Path>,
        outputs: &mut Outputs<'_>,
    ) -> Result<Option<(Output, Self, bool)>, OpenError> {
        let Some(path) = path else { return Ok(None) };
        let form = Self::of(path)?;
        let output = outputs.create(path)?;
        Ok(Some((output, form, outputs.takes_standard())))
    }

    fn of(path: &Path) -> Result<Self, OpenError> {
        match path.extension().and_then(|end| end.to_str()) {
            Some("csv") => Ok(Self::Csv),
            Some("json") => Ok(Self::Json),
            None if path.as_os_str() == "-" => Ok(Self::Csv),
            _ => {
                let found = path.display();
                Err(OpenError::Usage(format!("expected an output that ends in .csv or .json; found {found}")))
            }
        }
    }

    /// Writes it.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn write(self, varied: &Varied, output: Output) -> Result<(), OpenError> {
        output.finish(|out| match self {
            Self::Csv => varied.csv(out),
            Self::Json => varied.json(out),
        })
    }
}
