//! Several results of one command: no two of them go to the same place.

use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use super::output::{Output, followed, is_standard_output};
use super::{LOG, OpenError};

/// The results of a command, as they are opened one after the other.
pub(crate) struct Outputs<'a> {
    /// What is read.
    inputs: &'a [PathBuf],
    taken: Vec<(PathBuf, Destination)>,
    takes_standard: bool,
}

/// Where a result goes, by whatever name.
#[derive(PartialEq, Eq)]
enum Destination {
    /// A file, a pipe or a terminal, by device and number.
    There(u64, u64),
    /// Nothing is there yet: the folder and the name in it.
    New(PathBuf),
    /// What swallows everything may do so several times.
    Nowhere,
}

impl<'a> Outputs<'a> {
    /// None so far, of a command that reads these files. A log is one as well.
    pub(crate) fn beside(inputs: &'a [PathBuf]) -> Self {
        let log = std::env::var_os(LOG).filter(|path| !path.is_empty()).map(PathBuf::from);
        let taken = log.map(|path| (path.clone(), place(&path))).into_iter().collect();
        Self { inputs, taken, takes_standard: false }
    }

    /// Opens a place for a result.
    ///
    /// # Errors
    /// When it cannot be written, is read, or is another result's.
    pub(crate) fn create(&mut self, path: &Path) -> Result<Output, OpenError> {
        let here = self.free(path)?;
        let output = Output::create(path, self.inputs)?;
        self.taken.push((path.to_owned(), here));
        self.takes_standard |= is_standard_output(path);
        Ok(output)
    }

    /// Keeps a place for a result that is opened otherwise.
    ///
    /// # Errors
    /// When it is another result's.
    pub(crate) fn taken(&mut self, path: &Path) -> Result<(), OpenError> {
        let here = self.free(path)?;
        self.taken.push((path.to_owned(), here));
        Ok(())
    }

    fn free(&self, path: &Path) -> Result<Destination, OpenError> {
        let here = place(path);
        if let Some((other, _)) = self.taken.iter().find(|(_, taken)| here != Destination::Nowhere && *taken == here) {
            let why = match is_standard_output(path) {
                true => "another result goes to standard output; name a file".to_owned(),
                false => format!("another result goes there ({}); name another file", other.display()),
            };
            let why = io::Error::new(io::ErrorKind::InvalidInput, why);
            return Err(OpenError::Write { path: path.to_owned(), why });
        }
        Ok(here)
    }

    /// Whether standard output is one's: then nothing else may be said there.
    pub(crate) const fn takes_standard(&self) -> bool {
        self.takes_standard
    }
}

fn place(path: &Path) -> Destination {
    if is_standard_output(path) {
        return rustix::fs::fstat(io::stdout())
            .map_or(Destination::Nowhere, |stat| of(stat.st_dev, stat.st_ino, stat.st_rdev));
    }
    if let Ok(there) = fs::metadata(path) {
        let device = there.file_type().is_char_device() || there.file_type().is_block_device();
        return of(there.dev(), there.ino(), if device { there.rdev() } else { 0 });
    }
    let at = followed(path).unwrap_or_else(|_| path.to_owned());
    let folder = at.parent().filter(|folder| *folder != Path::new("")).unwrap_or_else(|| Path::new("."));
    let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_owned());
    Destination::New(folder.join(at.file_name().unwrap_or(OsStr::new(""))))
}

/// A device is the same by whatever file it is reached.
fn of(dev: u64, ino: u64, rdev: u64) -> Destination {
    let swallows = fs::metadata("/dev/null").is_ok_and(|null| null.rdev() == rdev);
    match rdev {
        _ if swallows => Destination::Nowhere,
        0 => Destination::There(dev, ino),
        device => Destination::There(u64::MAX, device),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_results_go_to_two_places_by_whatever_names() {
        let folder = tempfile::tempdir().expect("a folder");
        let at = |name: &str| folder.path().join(name);
        fs::create_dir(at("in")).expect("made");
        fs::write(at("there"), "").expect("written");
        std::os::unix::fs::symlink(at("there"), at("link")).expect("linked");
        std::os::unix::fs::symlink("new", at("to-nothing")).expect("linked");
        fs::hard_link(at("there"), at("hard")).expect("linked");
        let clash = |a: &str, b: &str| {
            let mut all = Outputs::beside(&[]);
            let _first = all.create(&at(a)).expect("it can be made");
            all.create(&at(b)).map(|_| ()).err().map(|e| e.to_string())
        };
        for (a, b) in [
            ("new", "new"),
            ("new", "in/../new"),
            ("to-nothing", "new"),
            ("there", "there"),
            ("there", "./link"),
            ("hard", "link"),
        ] {
            let said = clash(a, b).unwrap_or_else(|| panic!("{a} and {b} are one"));
            assert!(said.contains("another result goes there") && said.contains("name another file"), "{said}");
        }
        for (a, b) in [("new", "in/new"), ("new", "there")] {
            assert_eq!(clash(a, b), None, "{a} and {b} are two");
        }
        let mut all = Outputs::beside(&[]);
        assert!((0..2).all(|_| all.create(Path::new("/dev/null")).is_ok()), "nothing is lost there");
        assert!(!all.takes_standard());
    }
}
