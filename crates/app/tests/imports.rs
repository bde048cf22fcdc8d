//! No two files import each other: read from the `use` lines of every crate, and from paths that are named in full.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// A module by its path; the crate's root is empty.
type Module = Vec<String>;

/// The sources of a crate without what follows `#[cfg(test)]`, and without comments.
fn sources(of: &str) -> BTreeMap<Module, String> {
    fn collect(folder: &Path, all: &mut Vec<PathBuf>) {
        for entry in fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path()) {
            if entry.is_dir() { collect(&entry, all) } else { all.push(entry) }
        }
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(of).join("src");
    let mut paths = Vec::new();
    collect(&root, &mut paths);
    let mut all: BTreeMap<Module, String> = BTreeMap::new();
    for path in paths.iter().filter(|path| path.extension().is_some_and(|kind| kind == "rs")) {
        let inside = path.strip_prefix(&root).expect("it is in it").with_extension("");
        let mut module: Module = inside.iter().map(|part| part.to_string_lossy().into_owned()).collect();
        if module.last().is_some_and(|last| ["mod", "lib", "main"].contains(&last.as_str())) {
            module.pop();
        }
        let text = fs::read_to_string(path).expect("text");
        let text = text.split("#[cfg(test)]").next().unwrap_or_default();
        let lines = text.lines().map(|line| line.split("//").next().unwrap_or_default());
        *all.entry(module).or_default() += &lines.collect::<Vec<_>>().join("\n");
    }
    all
}

/// What a `use` names, one by one.
fn named(tree: &str) -> Vec<String> {
    let tree = tree.trim();
    let Some((before, inside)) = tree.split_once('{') else {
        return vec![tree.split(" as ").next().unwrap_or_default().trim().to_owned()];
    };
    let inside = inside.rsplit_once('}').map_or(inside, |(inside, _)| inside);
    let (mut depth, mut parts) = (0, vec![String::new()]);
    for c in inside.chars() {
        depth += i32::from(c == '{') - i32::from(c == '}');
        match c {
            ',' if depth == 0 => parts.push(String::new()),
            c => parts.last_mut().expect("there is one").push(c),
        }
    }
    let whole = parts.iter().filter(|part| !part.trim().is_empty());
    whole.flat_map(|part| named(&format!("{before}{}", part.trim()))).collect()
}

/// The `use` lines of a file: whether each exports, and the whole path within the crate that it names.
fn uses(module: &Module, text: &str, all: &BTreeMap<Module, String>) -> Vec<(bool, Module)> {
    let mut found = Vec::new();
    for statement in text.split(';') {
        let line = statement.rsplit('\n').find(|line| line.contains("use ")).unwrap_or_default();
        let from = statement.rfind(line).unwrap_or(0);
        let Some((before, tree)) = statement[from..].split_once("use ") else { continue };
        let before = before.trim();
        if !(before.is_empty() || before.starts_with("pub")) {
            continue;
        }
        for path in named(tree) {
            let mut parts: Module = path.split("::").map(|part| part.trim().to_owned()).collect();
            let mut base = module.clone();
            let child: Module = module.iter().chain(parts.first()).cloned().collect();
            match parts.first().map(String::as_str) {
                Some("crate") => base.clear(),
                Some("self") => {}
                Some("super") => {
                    while parts.first().is_some_and(|part| part == "super") {
                        parts.remove(0);
                        base.pop();
                    }
                    parts.insert(0, String::new());
                }
                _ if all.contains_key(&child) => parts.insert(0, String::new()),
                _ => continue,
            }
            let rest = parts.into_iter().skip(1).filter(|part| part != "self");
            found.push((!before.is_empty(), base.into_iter().chain(rest).collect()));
        }
    }
    // What is named in full where it is used.
    for (at, _) in text.match_indices("crate::").filter(|(at, _)| !text[..*at].ends_with("(in ")) {
        let is_word = |c: char| c.is_alphanumeric() || c == '_';
        let path = text[at..].split(|c: char| !is_word(c) && c != ':').next().unwrap_or_default();
        let path = path.split("::").skip(1).take_while(|part| !part.is_empty()).map(str::to_owned);
        found.push((false, path.collect()));
    }
    found
}

/// Which file imports which, seen through what is exported again.
fn imports(of: &str) -> BTreeMap<Module, BTreeSet<Module>> {
    let all = sources(of);
    let lines: BTreeMap<&Module, Vec<(bool, Module)>> =
        all.iter().map(|(module, text)| (module, uses(module, text, &all))).collect();
    let exported = |module: &Module, name: &String| {
        let is_it = |(exports, path): &&(bool, Module)| *exports && path.last() == Some(name);
        lines[module].iter().find(is_it).map(|(_, path)| path.clone())
    };
    let home = |path: &Module| {
        let mut path = path.clone();
        for _ in 0..8 {
            let at = (0..=path.len()).rev().find(|at| all.contains_key(&path[..*at])).unwrap_or(0);
            let (module, rest) = (path[..at].to_vec(), path[at..].to_vec());
            match rest.first().and_then(|name| exported(&module, name)) {
                Some(next) => path = next.into_iter().chain(rest.into_iter().skip(1)).collect(),
                None => return module,
            }
        }
        path
    };
    let of_file = |(module, lines): (&&Module, &Vec<(bool, Module)>)| {
        let used = lines.iter().filter(|(exports, _)| !exports).map(|(_, path)| home(path));
        ((*module).clone(), used.filter(|used| used != *module).collect())
    };
    lines.iter().map(of_file).collect()
}

/// The files that lie on a circle.
fn circle(of: &str) -> BTreeSet<String> {
    let imports = imports(of);
    assert!(imports.values().map(BTreeSet::len).sum::<usize>() > imports.len(), "{of}: hardly anything was read");
    let reached = |from: &Module| {
        let (mut reached, mut next) = (BTreeSet::new(), vec![from]);
        while let Some(module) = next.pop() {
            next.extend(imports.get(module).into_iter().flatten().filter(|used| reached.insert((*used).clone())));
        }
        reached
    };
    imports.keys().filter(|module| reached(module).contains(*module)).map(|module| module.join("::")).collect()
}

/// Every crate after those that it may use.
const CRATES: [&str; 9] = ["core", "gait", "record", "analysis", "lab", "vet", "report", "app", "bench"];

#[test]
fn no_two_files_import_each_other() {
    for of in CRATES.iter().filter(|of| **of != "bench") {
        assert_eq!(circle(of), BTreeSet::new(), "{of}");
    }
}

#[test]
fn arrows_between_crates_go_one_way() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut folders: Vec<String> = fs::read_dir(&crates)
        .expect("a folder")
        .map(|entry| entry.expect("an entry").path())
        .filter(|path| path.is_dir())
        .map(|path| path.file_name().expect("it has a name").to_string_lossy().into_owned())
        .collect();
    folders.sort_by_key(|folder| CRATES.iter().position(|known| known == folder));
    assert_eq!(folders, CRATES, "every crate has its place in the list");
    for (place, folder) in CRATES.iter().enumerate() {
        let manifest = fs::read_to_string(crates.join(folder).join("Cargo.toml")).expect("a manifest");
        let lines = manifest.split("[dependencies]").nth(1).unwrap_or_default().lines();
        let used: Vec<&str> = lines
            .take_while(|line| !line.starts_with('['))
            .filter_map(|line| line.split(['.', ' ']).next()?.strip_prefix("velocitas-"))
            .collect();
        assert!(used.iter().all(|used| CRATES[..place].contains(used)), "{folder} uses {used:?}");
    }
}
