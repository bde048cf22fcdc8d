//! What the screens remember until the next time, in the user's state folder: which lanes were shown, and how.

use std::fs;
use std::io::{self, Read};
use std::path::Path;

use serde_json::{Map, Value};

const FILE: &str = "screens.json";
/// No more than this is read of it, in bytes: what is longer was not written here.
const MOST: u64 = 64 * 1024;

/// What each screen remembered, by its name.
pub(crate) type Remembered = Map<String, Value>;

/// Reads what was written into a folder; nothing where nothing was.
///
/// # Errors
/// What is wrong with the file, in words.
pub(crate) fn read(folder: &Path) -> Result<Remembered, String> {
    let path = folder.join(FILE);
    let wrong = |why: &dyn std::fmt::Display| format!("{}: {why}: the screens begin as at first", path.display());
    let file = match fs::File::open(&path) {
        Err(why) if why.kind() == io::ErrorKind::NotFound => return Ok(Remembered::new()),
        file => file.map_err(|why| wrong(&why))?,
    };
    if !file.metadata().map_err(|why| wrong(&why))?.is_file() {
        return Err(wrong(&"it is no file"));
    }
    let mut text = String::new();
    file.take(MOST).read_to_string(&mut text).map_err(|why| wrong(&why))?;
    serde_json::from_str(&text).map_err(|why| wrong(&why))
}

/// Writes it into a folder, whole or not at all.
///
/// # Errors
/// When it cannot be written.
pub(crate) fn write(folder: &Path, remembered: &Remembered) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    let mut text = serde_json::to_string_pretty(remembered)?;
    text.push('\n');
    // Two programs that end at once do not write into each other's.
    let beside = folder.join(format!("{FILE}.{}", std::process::id()));
    fs::write(&beside, text)?;
    fs::rename(&beside, folder.join(FILE)).inspect_err(|_| {
        let _ = fs::remove_file(&beside);
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_what_is_broken_is_told() {
        let folder = tempfile::tempdir().unwrap();
        assert_eq!(read(folder.path()), Ok(Remembered::new()), "nothing was written yet");
        let mut remembered = Remembered::new();
        remembered.insert("Scope".to_owned(), serde_json::json!({ "lanes": ["jump"] }));
        write(&folder.path().join("deeper"), &remembered).unwrap();
        assert_eq!(read(&folder.path().join("deeper")), Ok(remembered));
        assert_eq!(fs::read_dir(folder.path().join("deeper")).unwrap().count(), 1, "nothing is left beside it");
        for broken in ["{", "[]", "\u{0}"] {
            fs::write(folder.path().join(FILE), broken).unwrap();
            let why = read(folder.path()).unwrap_err();
            assert!(why.contains(FILE) && why.ends_with("the screens begin as at first"), "{why}");
        }
        fs::remove_file(folder.path().join(FILE)).unwrap();
        fs::create_dir(folder.path().join(FILE)).unwrap();
        assert!(read(folder.path()).unwrap_err().contains("no file"));
    }
}
