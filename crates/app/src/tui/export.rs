//! Taking away what is seen: the page as SVG and PDF, the numbers behind it as CSV.

use std::path::Path;

use velocitas_report::drawing::{Drawing, Theme, pdf, svg, table};

use super::stage::Stage;
use crate::files::Output;

/// Writes a drawing into a folder, named after the screen, the entity and the moment: what was written of them before is replaced. Gives
/// the name without its ending.
pub(super) fn export(
    stage: &Stage,
    screen: &str,
    drawing: &Drawing,
    theme: Theme,
    folder: &Path,
) -> Result<String, String> {
    let at = stage.at.to_string().replace(':', "m").replace('.', "s");
    // A name may hold what a path does not.
    let who: String = stage.subject_name().chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    let name = format!("velocitas-{}-{who}-{at}", screen.to_lowercase());
    let page = pdf(drawing, theme).map_err(|why| why.to_string())?;
    let all = [("svg", svg(drawing, theme).into_bytes()), ("pdf", page), ("csv", table(drawing).into_bytes())];
    for (ending, bytes) in all {
        let path = folder.join(format!("{name}.{ending}"));
        let output = Output::create_file(&path).map_err(|why| why.to_string())?;
        output.finish(|out| out.write_all(&bytes)).map_err(|why| why.to_string())?;
    }
    Ok(name)
}
