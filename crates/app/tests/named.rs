//! What documents name is there: files, commands, options.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::documents::document;

/// The root of the project.
fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The documents that somebody reads, by their names.
fn documents() -> Vec<(String, String)> {
    let mut names: Vec<String> = ["README.md", "ARCHITECTURE.md", "CONTRIBUTING.md"].map(str::to_owned).to_vec();
    let pages = fs::read_dir(root().join("docs")).expect("a folder").map(|entry| entry.expect("an entry").file_name());
    names.extend(pages.map(|name| format!("docs/{}", name.to_string_lossy())).filter(|name| name.ends_with(".md")));
    names.sort();
    names.into_iter().map(|name| (name.clone(), document(&name))).collect()
}

/// All files of the project as documents name them: from the root, without the `crates` and `src` that say nothing.
fn files() -> Vec<String> {
    fn collect(folder: &Path, all: &mut Vec<PathBuf>) {
        for path in fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path()) {
            let name = path.file_name().expect("it has a name").to_string_lossy().into_owned();
            if name.starts_with("target") || name == ".git" {
                continue;
            }
            if path.is_dir() {
                collect(&path, all);
            }
            all.push(path);
        }
    }
    let root = root();
    let mut all = Vec::new();
    collect(&root, &mut all);
    let named = |path: &PathBuf| {
        let name = path.strip_prefix(&root).expect("it is in it").to_string_lossy().into_owned();
        let short = name.strip_prefix("crates/").unwrap_or(&name).replacen("/src/", "/", 1);
        let end = if path.is_dir() { "/" } else { "" };
        [format!("/{name}{end}"), format!("/{short}{end}")]
    };
    all.iter().flat_map(named).collect()
}

#[test]
fn every_file_that_a_document_names_exists() {
    let files = files();
    let (mut named, mut missing) = (0, Vec::new());
    for (document, text) in &documents() {
        // What stands between single backticks; code blocks are apart.
        for name in text.split("```").step_by(2).flat_map(|prose| prose.split('`').skip(1).step_by(2)) {
            let is_source = name.ends_with(".rs") || name.ends_with(".md") || name.starts_with("scripts/");
            let is_folder = name.ends_with('/') && name.len() > 2;
            if name.contains(|c: char| c.is_whitespace() || "*<{".contains(c)) || !(is_source || is_folder) {
                continue;
            }
            named += 1;
            if !files.iter().any(|file| file.ends_with(&format!("/{name}"))) {
                missing.push(format!("{document}: {name}"));
            }
        }
        // Links to files of the project.
        for link in text.split("](").skip(1).filter_map(|rest| rest.split([')', '#', ' ']).next()) {
            let beside = root().join(document).with_file_name(link);
            if !link.is_empty() && !link.contains("://") && !link.starts_with("mailto:") && !beside.exists() {
                missing.push(format!("{document}: link to {link}"));
            }
        }
    }
    assert!(named > 100, "{named} names were read");
    assert_eq!(missing, Vec::<String>::new());
}

/// What the program says of itself when it is asked for help.
fn help(command: &[&str]) -> String {
    let told = Command::new(env!("CARGO_BIN_EXE_velocitas")).args(command).arg("--help").output().expect("it runs");
    assert!(told.status.success(), "{command:?}");
    String::from_utf8(told.stdout).expect("text")
}

/// The long options in a text.
fn options(text: &str) -> BTreeSet<String> {
    let is_part = |c: char| c.is_ascii_lowercase() || c == '-';
    let begins =
        text.match_indices("--").filter(|(at, _)| !text[..*at].ends_with(|c: char| c == '-' || c.is_alphanumeric()));
    let words =
        begins.map(|(at, _)| text[at..].split(|c| !is_part(c)).next().unwrap_or_default().trim_end_matches('-'));
    words.filter(|word| word.len() > 2).map(str::to_owned).collect()
}

#[test]
fn every_command_and_option_that_a_document_names_exists() {
    let main = help(&[]);
    let listed =
        main.split("Commands:").nth(1).expect("it lists them").lines().skip(1).take_while(|line| !line.is_empty());
    let commands: BTreeSet<&str> = listed.filter_map(|line| line.split_whitespace().next()).collect();
    assert!(commands.contains("run") && commands.contains("check"), "{commands:?}");
    let mut known = options(&main);
    known.extend(commands.iter().filter(|command| **command != "help").flat_map(|command| options(&help(&[command]))));
    let (mut named, mut missing) = (0, Vec::new());
    for (document, text) in &documents() {
        // Cargo and others have options of their own.
        let ours = |line: &&str| {
            !["cargo", "scripts/", "valgrind", "perf", "SBATCH", "sbatch", "parallel --"]
                .iter()
                .any(|other| line.contains(other))
        };
        for line in text.lines().filter(ours) {
            named += options(line).len();
            missing.extend(options(line).difference(&known).map(|option| format!("{document}: {option}")));
            let called = line.split("velocitas ").skip(1).filter_map(|rest| rest.split([' ', '`']).next());
            let is_word = |word: &&str| word.len() > 1 && word.chars().all(|c| c.is_ascii_lowercase());
            let is_code = line.starts_with("    ") || line.contains("`velocitas ");
            // The first bytes of a record in blocks read like one.
            let is_known = |word: &&str| *word == "record" || commands.contains(word);
            let strange = called.filter(is_word).filter(|word| is_code && !is_known(word));
            missing.extend(strange.map(|word| format!("{document}: velocitas {word}")));
        }
    }
    assert!(named > 50, "{named} options were read");
    assert_eq!(missing, Vec::<String>::new());
}
