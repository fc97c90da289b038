//! The pages of the guide: every command on them is run as it stands, from an empty folder, and prints what the page
//! shows. With `WRITE_GUIDE=1`, what it printed is written into the page.
//!
//! A page is Markdown with a few words for this test, which readers do not see:
//!
//! | on the page | what the test does |
//! |---|---|
//! | a block `console` | runs each line that begins with `$ `, and compares what follows; `console head=9` shows nine lines of it, `console fails` expects an exit code of 1 or more |
//! | a block with `file=NAME` | writes the file |
//! | `<!-- make NAME -->` | makes something that no command of the page can: see [`make`] |
//! | any other block | nothing |

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use regex::Regex;
use rstest::rstest;
use tempfile::TempDir;

use crate::server::{CannedAnswer, Server};
use crate::support::NOON;
#[cfg(feature = "parquet")]
use crate::support::copy;

/// A piece of a page.
enum PagePiece {
    /// Anything that is only read.
    Text(String),
    /// A file to write: its opening line, its name, its contents.
    File(String, String, String),
    /// Commands with what they print: the opening line, and pairs.
    Console(String, Vec<(String, String)>),
    /// Something to make.
    Make(String, String),
}

fn pieces(page: &str) -> Vec<PagePiece> {
    let mut all = Vec::new();
    let mut lines = page.lines();
    while let Some(line) = lines.next() {
        if let Some(what) = line.strip_prefix("<!-- make ").and_then(|rest| rest.strip_suffix(" -->")) {
            all.push(PagePiece::Make(line.to_owned(), what.to_owned()));
        } else if line.starts_with("```") && line.len() > 3 {
            let body: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
            if let Some((_, name)) = line.split_once("file=") {
                all.push(PagePiece::File(line.to_owned(), name.to_owned(), body.join("\n") + "\n"));
            } else if line.starts_with("```console") {
                all.push(PagePiece::Console(line.to_owned(), commands(&body)));
            } else {
                all.push(PagePiece::Text(format!("{line}\n{}\n```", body.join("\n"))));
            }
        } else {
            all.push(PagePiece::Text(line.to_owned()));
        }
    }
    all
}

fn commands(body: &[&str]) -> Vec<(String, String)> {
    let mut all: Vec<(String, String)> = Vec::new();
    for line in body {
        match (line.strip_prefix("$ "), all.last_mut()) {
            (Some(command), _) => all.push((command.to_owned(), String::new())),
            (None, Some((command, _))) if command.ends_with('\\') => *command += &format!("\n{line}"),
            (None, Some((_, output))) => *output += &format!("{line}\n"),
            (None, None) => panic!("{line}: a block of commands begins with one"),
        }
    }
    all
}

/// A folder in which a page is followed.
struct Reader {
    folder: TempDir,
    /// A site that is served, and stands for the one on the page.
    server: Option<Server>,
    /// The URL of an object store.
    store: Option<String>,
}

/// The site on the pages.
const SITE: &str = "https://www.marrowvale.example/";
/// The same where a live site is served: a proxy can stand for one without encryption.
const SERVED: &str = "http://www.marrowvale.example/";

impl Reader {
    /// Runs a command; returns whether it succeeded, and what it printed.
    fn run(&self, command: &str) -> (bool, String) {
        let bin = Path::new(env!("CARGO_BIN_EXE_idle-atlas")).parent().unwrap().to_owned();
        // The site on the page is reached through the server that stands for it.
        let proxy = self.server.iter().map(|server| ("http_proxy", server.url()));
        let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap_or_default());
        let mut shell = Command::new("bash");
        for name in
            ["HTTPS_PROXY", "https_proxy", "HTTP_PROXY", "ALL_PROXY", "all_proxy", "NO_PROXY", "no_proxy", "NO_COLOR"]
        {
            shell.env_remove(name);
        }
        let output = shell
            .args(["-c", &format!("{command} 2>&1")])
            .current_dir(self.folder.path())
            .env("PATH", path)
            .env("HOME", self.folder.path())
            .env("SOURCE_DATE_EPOCH", NOON.to_string())
            .env("TZ", "Etc/UTC")
            .env("LC_ALL", "C.UTF-8")
            .envs(proxy)
            .envs(self.store.iter().map(|url| ("STORE_URL", url)))
            .output()
            .unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        let text = text.replace(&self.folder.path().display().to_string(), "/srv/railway");
        let text = text.replace(&bin.display().to_string(), "/usr/local/bin");
        (output.status.success(), text.trim_end().to_owned() + "\n")
    }

    fn write(&self, name: &str, text: &str) {
        let path = self.folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
}

/// Makes what no command of a page can.
fn make(what: &str, reader: &mut Reader) {
    match what.split_once(' ').unwrap_or((what, "")) {
        ("database", name) => {
            let database = rusqlite::Connection::open(reader.folder.path().join(name)).unwrap();
            database.execute_batch(include_str!("../guide/shop.sql")).unwrap();
        }
        ("pages", folder) => {
            let site = if folder == "live" { SERVED } else { SITE };
            for (name, title) in [
                ("index.html", "The Marrow Vale Light Railway"),
                ("fares/index.html", "Fares"),
                ("timetable/index.html", "Timetable"),
                ("journal/frost-on-the-cutting/index.html", "Frost on the cutting"),
                ("journal/a-new-lamp/index.html", "A new lamp"),
            ] {
                let address = name.trim_end_matches("index.html");
                reader.write(
                    &format!("{folder}/{name}"),
                    &format!("<!doctype html>\n<html lang=\"en\"><head><title>{title}</title><link rel=\"canonical\" href=\"{site}{address}\"></head>\n<body><nav><a href=\"/\">Home</a> <a href=\"/fares/\">Fares</a> <a href=\"/timetable/\">Timetable</a> <a href=\"/journal/frost-on-the-cutting/\">Frost</a> <a href=\"/journal/a-new-lamp/\">Lamp</a></nav><main><h1>{title}</h1><p>All that the Marrow Vale Light Railway has to say about it.</p></main></body></html>\n"),
                );
            }
        }
        ("table", name) => {
            let rows = (0..60_000).map(|row| format!("/photographs/{row}/,2026-10-{:02}\n", row % 28 + 1));
            reader.write(name, &format!("url,modified\n{}", rows.collect::<String>()));
        }
        #[cfg(feature = "parquet")]
        ("spark", folder) => {
            let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/parquet/spark");
            copy(&from, &reader.folder.path().join(folder));
        }
        ("store", _) => {
            let url =
                std::env::var("IDLE_ATLAS_CONDITIONAL_STORE").expect("IDLE_ATLAS_CONDITIONAL_STORE names a store");
            reader.store = Some(url);
        }
        ("served", folder) => {
            let root = reader.folder.path().join(folder);
            reader.server = Some(Server::start(move |request| {
                let path = request
                    .path
                    .trim_start_matches(SERVED)
                    .split('?')
                    .next()
                    .unwrap()
                    .trim_start_matches('/')
                    .to_owned();
                let file =
                    root.join(if path.is_empty() || path.ends_with('/') { format!("{path}index.html") } else { path });
                let kind =
                    if file.extension().is_some_and(|kind| kind == "html") { "text/html" } else { "application/xml" };
                match fs::read(&file) {
                    Ok(bytes) => CannedAnswer::Full(200, vec![("Content-Type".into(), kind.into())], bytes),
                    Err(_) => CannedAnswer::Full(404, Vec::new(), Vec::new()),
                }
            }));
        }
        other => panic!("{other:?} cannot be made"),
    }
}

/// What differs from one run to the next.
fn steady(text: &str) -> String {
    let times = Regex::new(r"\b(under )?\d+(\.\d+)? (ms|s)\b").unwrap();
    let keys = Regex::new(r"\b[0-9a-f]{32}\b").unwrap();
    keys.replace_all(&times.replace_all(text, "12 ms"), "0123456789abcdef0123456789abcdef").into_owned()
}

/// The output as it is shown: its first lines, if not all are wanted.
fn shown(output: &str, opening: &str) -> String {
    let output = steady(output);
    let most = opening.split_once("head=").and_then(|(_, rest)| rest.split(' ').next()?.parse::<usize>().ok());
    match most.filter(|most| output.lines().count() > *most) {
        Some(most) => output.lines().take(most).map(|line| format!("{line}\n")).collect::<String>() + "…\n",
        None if output.trim().is_empty() => String::new(),
        None => output,
    }
}

/// Follows a page; returns it with what its commands printed.
fn follow(page: &str) -> String {
    let mut reader = Reader { folder: tempfile::tempdir().unwrap(), server: None, store: None };
    let mut out = String::new();
    for piece in pieces(page) {
        match piece {
            PagePiece::Text(text) => out += &format!("{text}\n"),
            PagePiece::File(opening, name, text) => {
                reader.write(&name, &text);
                out += &format!("{opening}\n{text}```\n");
            }
            PagePiece::Make(line, what) => {
                make(&what, &mut reader);
                out += &format!("{line}\n");
            }
            PagePiece::Console(opening, commands) => {
                out += &format!("{opening}\n");
                for (command, _) in commands {
                    let (succeeded, output) = reader.run(&command);
                    assert!(succeeded != opening.contains("fails"), "{command}\n{output}");
                    out += &format!("$ {command}\n{}", shown(&output, &opening));
                }
                out += "```\n";
            }
        }
    }
    out
}

#[rstest]
#[case("static-site")]
#[case("database")]
#[cfg_attr(feature = "markdown", case("markdown-site"))]
#[case("crawled-site")]
#[case("moving")]
#[case("large-site")]
#[case("languages")]
#[case("news")]
#[case("pictures-and-films")]
#[case("several-sites")]
#[case("for-good")]
#[case("first-month")]
#[case("when-something-is-wrong")]
#[case("many-sites")]
#[case("serving")]
#[cfg_attr(feature = "parquet", case("parquet"))]
fn commands_of_the_guide_print_what_it_shows(#[case] name: &str) {
    is_as_shown(name);
}

#[cfg(feature = "object-stores")]
#[rstest]
#[case("object-store")]
#[case("throw-away")]
#[ignore = "needs the store that IDLE_ATLAS_CONDITIONAL_STORE names"]
fn commands_in_a_store_print_what_the_guide_shows(#[case] name: &str) {
    is_as_shown(name);
}

fn is_as_shown(name: &str) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/guide/{name}.md"));
    let page = fs::read_to_string(&path).unwrap();
    let followed = follow(&page);
    assert!(followed.contains("$ idle-atlas "), "{name} runs no command");
    if std::env::var_os("WRITE_GUIDE").is_some() {
        fs::write(&path, &followed).unwrap();
        return;
    }
    if followed != page {
        let differs = followed.lines().zip(page.lines()).find(|(now, shown)| now != shown);
        panic!("docs/guide/{name}.md is stale; run: WRITE_GUIDE=1 cargo test -p idle-atlas guide\n{differs:#?}");
    }
}

/// Every page is tested, and the first page leads to it; every link within the documentation leads somewhere.
#[test]
fn pages_are_reached() {
    let docs = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let source = fs::read_to_string(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/program/guide.rs")).unwrap();
    let index = fs::read_to_string(docs.join("guide/README.md")).unwrap();
    for entry in fs::read_dir(docs.join("guide")).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if let Some(page) = name.strip_suffix(".md").filter(|name| *name != "README") {
            assert!(source.contains(&format!("(\"{page}\")")), "{name} is not tested");
            assert!(index.contains(&format!("({name})")), "docs/guide/README.md does not lead to {name}");
        }
    }
    let link = Regex::new(r"\]\(([^)#:]+)(#[^)]*)?\)").unwrap();
    let pages = walkdir::WalkDir::new(docs.join(".."))
        .max_depth(4)
        .into_iter()
        .filter_entry(|entry| !["target", "crates", ".git"].iter().any(|name| entry.file_name() == *name));
    let mut links = 0;
    for entry in pages.flatten().filter(|entry| entry.path().extension().is_some_and(|kind| kind == "md")) {
        let text = fs::read_to_string(entry.path()).unwrap();
        for found in link.captures_iter(&text) {
            links += 1;
            let target = entry.path().parent().unwrap().join(&found[1]);
            assert!(target.exists(), "{} links to {}, which is not there", entry.path().display(), &found[1]);
        }
    }
    assert!(links > 50, "{links}");
}
