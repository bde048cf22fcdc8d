//! A result on its way to where it was asked for.
//!
//! Where nothing or a regular file is, the result is written beside it and renamed: it appears whole or not at all.
//! Symbolic links are followed, so that the link stays. A device or a pipe is opened and written into, never replaced.
//! `-` is standard output, and so is any path that leads there.

use std::fs::{self, File, Metadata, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};

use super::input::{STANDARD, name_of};
use super::stream::{forgiving, said};
use super::{OpenError, signals};

/// Symbolic links in a row, at most.
const MOST_LINKS: usize = 40;

/// A result on its way.
pub(crate) struct Output {
    path: PathBuf,
    target: Target,
    /// Nothing may be written over.
    is_new: bool,
}

enum Target {
    /// Written beside and renamed.
    Beside {
        file: Pending,
        at: PathBuf,
    },
    /// A regular file in a folder where nothing can be made: written in its place.
    InPlace(PathBuf),
    /// A device or a pipe, open.
    Into(File),
    Standard,
    StandardError,
}

/// A result that has its name from the first on, and is sound however far it has come.
pub(crate) struct Growing {
    path: PathBuf,
    file: File,
}

impl Growing {
    /// The file, to be written to.
    pub(crate) fn file(&self) -> io::Result<File> {
        self.file.try_clone()
    }

    /// That it cannot be written.
    pub(crate) fn wrong(&self, why: io::Error) -> OpenError {
        OpenError::Write { path: self.path.clone(), why }
    }
}

/// A file beside the result's place, known to [`signals`].
struct Pending(Option<tempfile::NamedTempFile>);

impl Drop for Pending {
    fn drop(&mut self) {
        if let Some(file) = self.0.take() {
            let path = file.path().to_owned();
            drop(file);
            signals::settled(&path);
        }
    }
}

impl Output {
    /// Opens a place for the result, before long work is done for nothing. `inputs` are the files that are read: none of
    /// them is written over.
    pub(crate) fn create(path: &Path, inputs: &[PathBuf]) -> Result<Self, OpenError> {
        Self::open(path, inputs, true)
    }

    /// The same for a place that was not named by the user: a regular file or nothing.
    pub(crate) fn create_file(path: &Path) -> Result<Self, OpenError> {
        Self::open(path, &[], false)
    }

    /// The same for one that must not be there yet: it is not even written over when it comes to be there meanwhile.
    pub(crate) fn create_new(path: &Path) -> Result<Self, OpenError> {
        if path.symlink_metadata().is_ok() {
            let why = io::Error::new(io::ErrorKind::AlreadyExists, "it is there already");
            return Err(OpenError::Write { path: path.to_owned(), why });
        }
        let mut output = Self::open(path, &[], false)?;
        output.is_new = true;
        Ok(output)
    }

    fn open(path: &Path, inputs: &[PathBuf], named: bool) -> Result<Self, OpenError> {
        let wrong = |why| OpenError::Write { path: path.to_owned(), why };
        if let Some(input) = inputs.iter().find(|input| same_file(path, input)) {
            let why = format!("it is {}, which is read; name another file", input.display());
            return Err(wrong(io::Error::new(io::ErrorKind::InvalidInput, why)));
        }
        let target = Self::target(path, named).map_err(wrong)?;
        Ok(Self { path: path.to_owned(), target, is_new: false })
    }

    fn target(path: &Path, named: bool) -> io::Result<Target> {
        if named && path == Path::new(STANDARD) {
            return Ok(Target::Standard);
        }
        match fs::metadata(path) {
            Ok(there) if there.is_dir() => Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder")),
            Ok(there) if named && is_stream(&there, 1) => Ok(Target::Standard),
            Ok(there) if named && is_stream(&there, 2) => Ok(Target::StandardError),
            Ok(there) if there.is_file() => {
                // Whoever may not write the file may not replace it either.
                OpenOptions::new().write(true).open(path)?;
                let at = fs::canonicalize(path)?;
                match Self::beside(&at, Some(&there)) {
                    Ok(target) => Ok(target),
                    Err(why) if why.kind() == io::ErrorKind::PermissionDenied => Ok(Target::InPlace(at)),
                    Err(why) => Err(why),
                }
            }
            Ok(_) if named => Ok(Target::Into(OpenOptions::new().write(true).open(path)?)),
            Ok(there) => {
                let why = format!("it is {}", name_of(there.file_type()));
                Err(io::Error::new(io::ErrorKind::AlreadyExists, why))
            }
            Err(why) if why.kind() == io::ErrorKind::NotFound => Self::beside(&followed(path)?, None),
            Err(why) => Err(why),
        }
    }

    /// A new file beside `at`, with the mode of the file that it will replace or the usual one.
    fn beside(at: &Path, replaced: Option<&Metadata>) -> io::Result<Target> {
        let folder = folder_of(at);
        // Less what the umask takes away, as for any file that its user makes.
        let usual = fs::Permissions::from_mode(0o666);
        let file = signals::pending_file(|| tempfile::Builder::new().permissions(usual).tempfile_in(folder))
            .map_err(|why| plain(&why))?;
        let file = Pending(Some(file));
        if let (Some(file), Some(replaced)) = (&file.0, replaced) {
            // Whose it was and who may read it; only root can give a file away.
            let _ = chown(file.path(), Some(replaced.uid()), Some(replaced.gid()));
            fs::set_permissions(file.path(), replaced.permissions())?;
        }
        Ok(Target::Beside { file, at: at.to_owned() })
    }

    /// A file without a name, and the folder it is in, for what cannot go out before something else: beside the result, or where nothing
    /// can be made there, or it is no file, in the place for what is passing.
    pub(crate) fn aside(&self) -> Result<(File, PathBuf), OpenError> {
        let beside = match &self.target {
            Target::Beside { at, .. } | Target::InPlace(at) => Some(folder_of(at)),
            Target::Into(_) | Target::Standard | Target::StandardError => None,
        };
        if let Some((file, folder)) = beside.and_then(|folder| Some((tempfile::tempfile_in(folder).ok()?, folder))) {
            return Ok((file, folder.to_owned()));
        }
        let folder = std::env::temp_dir();
        let file = tempfile::tempfile_in(&folder).map_err(|why| self.waiting(&folder, &why))?;
        Ok((file, folder))
    }

    /// That it cannot be written, since what waits for it in a folder cannot.
    pub(crate) fn waiting(&self, folder: &Path, why: &io::Error) -> OpenError {
        let said =
            format!("until the run is over its rows wait in {} (TMPDIR says where): {}", folder.display(), plain(why));
        match &self.target {
            // That is where it was asked for.
            Target::Beside { at, .. } | Target::InPlace(at) if folder_of(at) == folder => self.wrong(why),
            _ => self.wrong(&io::Error::new(why.kind(), said)),
        }
    }

    /// That it cannot be written.
    pub(crate) fn wrong(&self, why: &io::Error) -> OpenError {
        OpenError::Write { path: self.path.clone(), why: plain(why) }
    }

    /// Gives it its name at once, for what may be read while it is written.
    pub(crate) fn grow(self) -> Result<Growing, OpenError> {
        let Self { path, target, is_new } = self;
        let file = match target {
            Target::Beside { mut file, at } => match file.0.take() {
                Some(temporary) => named(temporary, &at, is_new),
                None => File::create(at),
            },
            Target::InPlace(at) => File::create(at),
            Target::Into(file) => Ok(file),
            Target::Standard | Target::StandardError => {
                let why = "a record in blocks goes to a file; name it NAME.jsonl or - for JSON Lines";
                Err(io::Error::new(io::ErrorKind::InvalidInput, why))
            }
        };
        match file {
            Ok(file) => Ok(Growing { path, file }),
            Err(why) => Err(OpenError::Write { path, why }),
        }
    }

    /// Writes all of it and gives it its name.
    pub(crate) fn finish(self, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> Result<(), OpenError> {
        let Self { path, target, is_new } = self;
        let wrong = |why| OpenError::Write { path: path.clone(), why };
        let all = |to: &mut dyn Write| {
            let mut out = io::BufWriter::with_capacity(1 << 16, to);
            write(&mut out).and_then(|()| out.flush())
        };
        match target {
            Target::Beside { mut file, at } => {
                let Some(temporary) = file.0.as_mut() else { return Ok(()) };
                all(temporary.as_file_mut()).map_err(wrong)?;
                let Some(temporary) = file.0.take() else { return Ok(()) };
                named(temporary, &at, is_new).map(drop).map_err(wrong)
            }
            Target::InPlace(at) => File::create(at).and_then(|mut file| all(&mut file)).map_err(wrong),
            Target::Into(mut file) => forgiving(all(&mut file)).map_err(wrong),
            Target::Standard => said(all(&mut io::stdout().lock())),
            Target::StandardError => {
                forgiving(all(&mut io::stderr().lock())).map_err(|why| OpenError::Say { stream: "standard error", why })
            }
        }
    }
}

/// Gives a file its name, over nothing that is there if it is to be new.
fn named(temporary: tempfile::NamedTempFile, at: &Path, is_new: bool) -> io::Result<File> {
    let before = temporary.path().to_owned();
    let kept = if is_new { temporary.persist_noclobber(at) } else { temporary.persist(at) };
    signals::settled(&before);
    kept.map_err(|e| e.error)
}

/// The folder of a file.
fn folder_of(at: &Path) -> &Path {
    match at.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

/// What the system says, without the name of a file that nobody asked for.
fn plain(why: &io::Error) -> io::Error {
    let said = why.to_string();
    io::Error::new(why.kind(), said.split(" at path ").next().unwrap_or(&said).to_owned())
}

/// Whether a path leads to standard output: then nothing else may be said there.
pub(crate) fn is_standard_output(path: &Path) -> bool {
    path == Path::new(STANDARD) || fs::metadata(path).is_ok_and(|there| is_stream(&there, 1))
}

/// Whether two paths lead to the same regular file.
pub(crate) fn same_file(a: &Path, b: &Path) -> bool {
    let (Ok(there), Ok(other)) = (fs::metadata(a), fs::metadata(b)) else { return false };
    if !there.is_file() || !other.is_file() {
        return false;
    }
    (there.dev(), there.ino()) == (other.dev(), other.ino())
}

/// Whether a file is the one behind standard output (1) or standard error (2). Devices are not: opened again they are
/// the same device.
fn is_stream(there: &Metadata, stream: u8) -> bool {
    if there.file_type().is_char_device() || there.file_type().is_block_device() {
        return false;
    }
    let stat = match stream {
        1 => rustix::fs::fstat(io::stdout()),
        _ => rustix::fs::fstat(io::stderr()),
    };
    stat.is_ok_and(|s| (s.st_dev, s.st_ino) == (there.dev(), there.ino()))
}

/// Where a path leads that has nothing at its end: a symbolic link into nothing is followed, so that the link stays.
pub(super) fn followed(path: &Path) -> io::Result<PathBuf> {
    let mut at = path.to_owned();
    for _ in 0..MOST_LINKS {
        let Ok(to) = fs::read_link(&at) else { return Ok(at) };
        at = at.parent().map_or_else(|| to.clone(), |folder| folder.join(&to));
    }
    Err(io::Error::other("expected at most 40 symbolic links in a row"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_result_appears_whole_or_not_at_all() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("result.txt");
        let good = Output::create(&path, &[]).expect("it can be made");
        assert!(!path.exists(), "not before it is whole");
        good.finish(|out| out.write_all(b"all of it")).expect("written");
        assert_eq!(fs::read(&path).expect("there"), b"all of it");

        let bad = Output::create(&path, &[]).expect("it can be made");
        let error = bad.finish(|out| {
            out.write_all(b"half")?;
            Err(io::Error::other("the pen broke"))
        });
        assert!(error.is_err_and(|e| e.to_string().contains("the pen broke")));
        assert_eq!(fs::read(&path).expect("there"), b"all of it", "what was there stays");
        assert_eq!(fs::read_dir(folder.path()).expect("a folder").count(), 1, "and nothing is left behind");
        drop(Output::create(&path, &[]));
        assert_eq!(fs::read_dir(folder.path()).expect("a folder").count(), 1, "nor by one that was never finished");
    }

    #[test]
    fn a_folder_is_no_place_for_a_result_nor_is_a_file_that_is_read() {
        let folder = tempfile::tempdir().expect("a folder");
        let why = |done: Result<Output, OpenError>| done.map(|_| ()).unwrap_err().to_string();
        assert!(why(Output::create(folder.path(), &[])).contains("it is a folder"));
        let path = folder.path().join("x.course.toml");
        fs::write(&path, "text").expect("written");
        let again = folder.path().join(".").join("x.course.toml");
        let said = why(Output::create(&again, std::slice::from_ref(&path)));
        assert!(said.contains("which is read; name another file"), "{said}");
        // Under a name of its own it would never be a device or a pipe.
        assert!(why(Output::create_file(Path::new("/dev/null"))).contains("it is a device"));
    }
}
