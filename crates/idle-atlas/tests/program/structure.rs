//! The structure of the code: in every crate, a module imports only from those that are declared above it.
//!
//! Among the modules of one parent, their order in the parent counts. A folder counts as one module for those outside
//! it; modules inside may use the folder's own module, and the reverse.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use regex::Regex;

/// The path of a module, from the root of its crate.
type Module = Vec<String>;

struct SourceFile {
    /// The modules that it declares, in order.
    children: Vec<String>,
    /// Its code, without comments and tests.
    code: String,
}

/// Reads a module and everything that it declares.
fn read(path: Module, file: &Path, folder: &Path, all: &mut HashMap<Module, SourceFile>) {
    let text = fs::read_to_string(file).unwrap_or_else(|error| panic!("{}: {error}", file.display()));
    let text = text.split("#[cfg(test)]\n").next().unwrap();
    let code: String =
        text.lines().filter(|line| !line.trim_start().starts_with("//")).map(|line| format!("{line}\n")).collect();
    let declared = Regex::new(r"(?m)^(?:pub(?:\([a-z]+\))? )?mod ([a-z_0-9]+);").unwrap();
    let children: Vec<String> = declared.captures_iter(&code).map(|found| found[1].to_owned()).collect();
    for child in &children {
        let (alone, room) = (folder.join(format!("{child}.rs")), folder.join(child).join("mod.rs"));
        let file = if alone.exists() { alone } else { room };
        read([&path[..], std::slice::from_ref(child)].concat(), &file, &folder.join(child), all);
    }
    all.insert(path, SourceFile { children, code });
}

/// The paths that a `use` names, with braces resolved.
fn resolved(text: &str) -> Vec<String> {
    let Some((before, rest)) = text.split_once('{') else { return vec![text.to_owned()] };
    let (mut parts, mut depth, mut part) = (Vec::new(), 0, String::new());
    for letter in rest.chars() {
        match letter {
            '}' if depth == 0 => break,
            ',' if depth == 0 => parts.push(std::mem::take(&mut part)),
            _ => {
                depth += i32::from(letter == '{') - i32::from(letter == '}');
                part.push(letter);
            }
        }
    }
    parts.push(part);
    let parts = parts.iter().filter(|part| !part.is_empty());
    parts.flat_map(|part| resolved(&format!("{before}{part}"))).collect()
}

/// All paths within the crate that a module names.
fn named(code: &str) -> Vec<String> {
    let uses = Regex::new(r"\buse ((?:crate|super|self)::[^;]*);").unwrap();
    let inline = Regex::new(r"\b((?:crate|super)::[A-Za-z_0-9:]+)").unwrap();
    let in_uses = uses.captures_iter(code).flat_map(|found| resolved(&found[1].replace(char::is_whitespace, "")));
    let rest = Regex::new(r"\buse [^;]*;").unwrap().replace_all(code, "").into_owned();
    let others: Vec<String> = inline.captures_iter(&rest).map(|found| found[1].to_owned()).collect();
    in_uses.chain(others).collect()
}

/// The module that a path leads to, from another module.
fn target(from: &Module, path: &str, all: &HashMap<Module, SourceFile>) -> Module {
    let mut parts = path.split("::").peekable();
    let mut module = if parts.next_if_eq(&"crate").is_some() { Module::new() } else { from.clone() };
    parts.next_if_eq(&"self");
    while parts.next_if_eq(&"super").is_some() {
        module.pop();
    }
    for part in parts {
        let deeper = [&module[..], &[part.to_owned()]].concat();
        if !all.contains_key(&deeper) {
            break;
        }
        module = deeper;
    }
    module
}

/// What a module imports from below, in words.
fn imports_from_below(all: &HashMap<Module, SourceFile>) -> Vec<String> {
    let mut found = Vec::new();
    for (module, source) in all {
        for path in named(&source.code) {
            let target = target(module, &path, all);
            let common = module.iter().zip(&target).take_while(|(one, other)| one == other).count();
            let (Some(own), Some(other)) = (module.get(common), target.get(common)) else { continue };
            let place = |name: &String| all[&module[..common]].children.iter().position(|child| child == name);
            if place(other) > place(own) {
                found.push(format!("{} names {path}, which is declared below it", module.join("::")));
            }
        }
    }
    found.sort_unstable();
    found
}

fn crate_at(folder: &Path, root: &str) -> HashMap<Module, SourceFile> {
    let mut all = HashMap::new();
    read(Module::new(), &folder.join(root), folder, &mut all);
    all
}

#[test]
fn modules_import_only_from_above() {
    let crates = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..");
    for (name, root) in
        [("atlas-core", "lib.rs"), ("atlas-store", "lib.rs"), ("atlas-io", "lib.rs"), ("idle-atlas", "main.rs")]
    {
        let all = crate_at(&crates.join(name).join("src"), root);
        assert!(all.len() > 20, "{name}: only {} modules were read", all.len());
        assert_eq!(imports_from_below(&all), Vec::<String>::new(), "{name}");
    }
}

/// Files are short enough to be read at once, or say in their first lines why not.
#[test]
fn files_are_of_moderate_size() {
    let crates = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut long = Vec::new();
    for entry in walkdir::WalkDir::new(crates).into_iter().flatten() {
        let path = entry.path();
        if path.extension().is_none_or(|extension| extension != "rs")
            || path.components().any(|part| part.as_os_str() == "target")
        {
            continue;
        }
        let text = fs::read_to_string(path).unwrap();
        let says_why = text.lines().take(12).any(|line| line.contains("Longer than other files"));
        if text.lines().count() > 500 && !says_why {
            long.push(path.display().to_string());
        }
    }
    assert_eq!(long, Vec::<String>::new());
}

#[test]
fn an_import_from_below_is_found() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
    write("lib.rs", "mod upper;\nmod room;\n");
    write("upper.rs", "use crate::{\n    room::{self, Lamp},\n};\n// use crate::room::Oil;\n");
    fs::create_dir(folder.path().join("room")).unwrap();
    write("room/mod.rs", "mod first;\nmod second;\npub use self::second::Wick;\n");
    write("room/first.rs", "fn light() { super::second::burn(); crate::upper::look() }\n");
    write(
        "room/second.rs",
        "use super::first::light;\nuse crate::upper::look;\n#[cfg(test)]\nmod tests { use crate::room::first; }\n",
    );
    let found = imports_from_below(&crate_at(folder.path(), "lib.rs"));
    assert_eq!(
        found,
        [
            "room::first names super::second::burn, which is declared below it",
            "upper names crate::room::Lamp, which is declared below it",
            "upper names crate::room::self, which is declared below it",
        ]
    );
}

/// All Rust files below a folder, with their contents.
fn sources(folder: &Path) -> Vec<(PathBuf, String)> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(sources(&path));
        } else if path.extension().is_some_and(|end| end == "rs") {
            found.push((path.clone(), fs::read_to_string(&path).unwrap()));
        }
    }
    found
}

/// Type aliases inside an `impl` are indented; they take their names from the trait.
#[test]
fn no_type_name_stands_twice() {
    let declared = Regex::new(
        r"(?m)^(?:(?:pub(?:\([a-z: ]+\))? )?type|[ ]*(?:pub(?:\([a-z: ]+\))? )?(?:struct|enum|trait|union)) ([A-Z][A-Za-z0-9]*)",
    )
    .unwrap();
    let mut places: HashMap<String, Vec<String>> = HashMap::new();
    let crates = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..");
    for (path, text) in sources(&crates) {
        for found in declared.captures_iter(&text) {
            places.entry(found[1].to_owned()).or_default().push(path.display().to_string());
        }
    }
    assert!(places.len() > 300, "only {} types were read", places.len());
    let twice: Vec<_> = places.iter().filter(|(_, places)| places.len() > 1).collect();
    assert!(twice.is_empty(), "{twice:#?}");
}

/// The core turns values into values.
#[test]
fn the_core_has_no_clock_network_or_file_system() {
    let outside = Regex::new(
        r"\b(?:std::(?:fs|net|env|process|io)\b|SystemTime|Instant::now|Timestamp::now|Zoned::now|TimeZone::system|e?println!|tracing::)",
    )
    .unwrap();
    let core = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../atlas-core/src");
    for (path, text) in sources(&core) {
        if let Some(found) = outside.find(&text) {
            panic!("{}: {}", path.display(), found.as_str());
        }
    }
}
