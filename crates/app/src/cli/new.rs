//! `velocitas new`: a folder to begin with.

use std::fs;
use std::io;

use super::Outcome;
use super::args::NewTask;
use crate::files::stream::say;
use crate::files::{OpenError, Output};

/// What is put into the folder.
const FILES: [(&str, &str); 3] = [
    ("walker.gait", include_str!("../../starter/walker.gait")),
    ("game.course.toml", include_str!("../../starter/game.course.toml")),
    ("README.md", include_str!("../../starter/README.md")),
];

pub(super) fn run(task: &NewTask) -> Result<Outcome, OpenError> {
    let folder = &task.folder;
    let wrong = |why: io::Error| OpenError::Write { path: folder.clone(), why };
    fs::create_dir_all(folder).map_err(wrong)?;
    if fs::read_dir(folder).map_err(wrong)?.next().is_some() {
        let why = "expected a new or empty folder; there are files in it, and none is overwritten";
        return Err(wrong(io::Error::new(io::ErrorKind::AlreadyExists, why)));
    }
    for (name, text) in FILES {
        Output::create(&folder.join(name), &[])?.finish(|out| out.write_all(text.as_bytes()))?;
    }
    let files: String = FILES.iter().map(|(name, _)| format!("  {name}\n")).collect();
    let course = folder.join("game.course.toml");
    say(format_args!(
        "made {}\n{files}open it:  velocitas {}\nthen press 2 and edit walker.gait with e, or with any editor: a saved \
         edit takes effect at once\n",
        folder.display(),
        course.display()
    ))?;
    Ok(Outcome::Good)
}
