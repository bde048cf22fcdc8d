//! `velocitas new`: a folder to begin with.

use std::fs;
use std::io;

use velocitas_lab::Course;

use super::Outcome;
use super::args::NewTask;
use crate::files::stream::say;
use crate::files::{OpenError, Output};

/// What is put into the folder.
const FILES: [(&str, &str); 6] = [
    ("walker.gait", include_str!("../../starter/walker.gait")),
    ("game.course.toml", include_str!("../../starter/game.course.toml")),
    ("teal.track.json", include_str!("../../starter/teal.track.json")),
    ("check.sh", include_str!("../../starter/check.sh")),
    ("pipeline.yml", include_str!("../../starter/pipeline.yml")),
    ("README.md", include_str!("../../starter/README.md")),
];

/// Where what is for editors is put.
const EDITOR: &str = "editor";

/// The grammar of gaits as a file.
fn grammar_text() -> String {
    serde_json::to_string_pretty(&velocitas_gait::grammar()).unwrap_or_default() + "\n"
}

pub(super) fn run(task: &NewTask) -> Result<Outcome, OpenError> {
    let folder = &task.folder;
    let wrong = |why: io::Error| OpenError::Write { path: folder.clone(), why };
    let was_new = !folder.exists();
    fs::create_dir_all(folder).map_err(wrong)?;
    if fs::read_dir(folder).map_err(wrong)?.next().is_some() {
        let why = "expected a new or empty folder; there are files in it, and none is overwritten";
        return Err(wrong(io::Error::new(io::ErrorKind::AlreadyExists, why)));
    }
    let for_editors = [
        (format!("{EDITOR}/course.schema.json"), Course::schema()),
        (format!("{EDITOR}/gait.tmLanguage.json"), grammar_text()),
    ];
    let files = FILES.map(|(name, text)| (name.to_owned(), text.to_owned())).into_iter().chain(for_editors);
    let mut names = String::new();
    let make = |names: &mut String| -> Result<(), OpenError> {
        fs::create_dir_all(folder.join(EDITOR)).map_err(wrong)?;
        for (name, text) in files {
            Output::create(&folder.join(&name), &[])?.finish(|out| out.write_all(text.as_bytes()))?;
            *names += &format!("  {name}\n");
        }
        Ok(())
    };
    if let Err(why) = make(&mut names) {
        // Half a game is none. The folder was empty, so all in it is ours.
        let all = fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok).map(|entry| entry.path());
        all.for_each(|path| drop(if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) }));
        if was_new {
            let _ = fs::remove_dir(folder);
        }
        return Err(why);
    }
    let course = folder.join("game.course.toml");
    say(format_args!(
        "made {}\n{names}open it:  velocitas {}\nhold it to its budgets:  velocitas check {}\nREADME.md says the next five \
         things to try\n",
        folder.display(),
        course.display(),
        folder.display()
    ))?;
    Ok(Outcome::Good)
}
