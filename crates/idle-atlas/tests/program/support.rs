//! A site in a temporary folder, and the program run in it.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use atlas_core::format::{Document, RawUrl, RawVideo, read};
use atlas_core::language::Alternate;
use atlas_core::video::Video;
use serde_json::Value;
use tempfile::TempDir;

use crate::schemas;

/// Noon on 23 November 2026.
pub const NOON: i64 = 1_795_435_200;
pub const DAY: i64 = 86_400;
pub const ROOT: &str = "https://www.marrowvale.example/";

const CONFIG: &str = r#"
web_root = "public"
timezone = "Europe/London"
[robots]
file = "public/robots.txt"
create = true
"#;

pub const HTML: &str = "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n";

/// A site under test.
pub struct TestSite {
    folder: TempDir,
    url: String,
    now: i64,
    spoilt: Cell<bool>,
}

impl TestSite {
    /// An empty web root, and a configuration with these additions.
    pub fn new(config: &str) -> Self {
        Self::at_url(ROOT, config)
    }

    /// The same for a site at another URL.
    pub fn at_url(url: &str, config: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let site = Self { folder, url: url.to_owned(), now: NOON, spoilt: Cell::new(false) };
        fs::create_dir(site.path("public")).unwrap();
        site.configure(config);
        site
    }

    /// A copy of the sample site, with every setting of the program in use.
    pub fn sample() -> Self {
        let site = Self::new("");
        let sample = Path::new(env!("CARGO_MANIFEST_DIR")).join("sample");
        copy(&sample, site.folder.path());
        fs::rename(site.path("every-choice.toml"), site.path("idle-atlas.toml")).unwrap();
        site
    }

    /// Replaces a piece of the configuration, which must occur in it.
    pub fn reconfigure(&self, piece: &str, by: &str) {
        let text = self.read("idle-atlas.toml");
        assert!(text.contains(piece), "{piece} is not in the configuration");
        self.write("idle-atlas.toml", text.replacen(piece, by, 1));
    }

    pub fn configure(&self, config: &str) {
        self.write("idle-atlas.toml", format!("\n[site]\nurl = \"{}\"{CONFIG}{config}", self.url));
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
    }

    /// A page with a title and a text, between a menu and a footer.
    pub fn page(&self, name: &str, title: &str, text: &str) {
        self.write(
            &format!("public/{name}"),
            format!("<html><head><title>{title}</title></head><body><nav>Home Fares</nav><main><p>{text}</main><footer>2026</footer>"),
        );
    }

    /// Overwrites a file in the web root with something that no validator should check.
    pub fn spoil(&self, name: &str, text: impl AsRef<[u8]>) {
        self.spoilt.set(true);
        self.write(&format!("public/{name}"), text);
    }

    /// Sets the clock.
    pub fn at(&mut self, now: i64) {
        self.now = now;
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_idle-atlas"));
        command
            .args(arguments)
            .current_dir(self.folder.path())
            .env("SOURCE_DATE_EPOCH", self.now.to_string())
            .env_remove("NO_COLOR");
        command
    }

    /// Runs the program; returns its exit code and both outputs.
    pub fn run(&self, arguments: &[&str]) -> Ran {
        Ran::of(self.command(arguments).output().unwrap())
    }

    /// Runs a command that must succeed, and returns its JSON.
    pub fn json(&self, arguments: &[&str]) -> Value {
        let ran = self.run(&[arguments, &["--json"]].concat());
        assert!(ran.code <= 1, "{arguments:?}: exit {}\n{}", ran.code, ran.errors);
        let document = serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}\n{}", ran.out));
        schemas::hold(arguments, &document);
        document
    }

    pub fn build(&self) -> Value {
        self.json(&["build"])
    }

    /// The names and contents of the sitemap files in the web root, and of robots.txt.
    pub fn outputs(&self) -> BTreeMap<String, Vec<u8>> {
        let ours = |name: &str| name.contains(".xml") || name == "robots.txt";
        let names = fs::read_dir(self.path("public")).unwrap().flatten();
        let names = names.map(|entry| entry.file_name().into_string().unwrap()).filter(|name| ours(name));
        names.map(|name| (name.clone(), fs::read(self.path("public").join(&name)).unwrap())).collect()
    }

    /// The entries of all files that the main file leads to, by file name.
    pub fn listed(&self) -> BTreeMap<String, Vec<UrlRead>> {
        let mut files = BTreeMap::new();
        let (document, urls, children) = parse(&self.sitemap("sitemap.xml"));
        match document {
            Document::Urlset => {
                files.insert("sitemap.xml".to_owned(), urls);
            }
            Document::Index => {
                for child in children {
                    let name = child.strip_prefix(ROOT).unwrap().to_owned();
                    let (document, urls, _) = parse(&self.sitemap(&name));
                    assert_eq!(document, Document::Urlset, "{name}");
                    assert!(!urls.is_empty(), "{name} is empty");
                    files.insert(name, urls);
                }
            }
        }
        files
    }

    fn sitemap(&self, name: &str) -> Vec<u8> {
        let path = self.path("public").join(name);
        let bytes = fs::read(&path).unwrap_or_else(|error| panic!("{name}: {error}"));
        if name.ends_with(".gz") { atlas_store::disk::segmented_gzip::unpack(&bytes, 1 << 26).unwrap() } else { bytes }
    }

    /// The paths of all listed URLs, each of which must be listed once, except that its pictures, videos or news may be
    /// in files of their own.
    pub fn paths(&self) -> BTreeSet<String> {
        let mut paths = BTreeSet::new();
        let kind = |name: &str| [".images-", ".videos-", ".news-"].iter().any(|kind| name.contains(kind));
        for url in self.listed().into_iter().filter(|(name, _)| !kind(name)).flat_map(|(_, urls)| urls) {
            let loc = url.loc.unwrap();
            assert!(
                paths.insert(loc.strip_prefix("https://www.marrowvale.example").unwrap().to_owned()),
                "{loc} is listed twice"
            );
        }
        paths
    }

    /// The lastmod of a listed URL, by its path.
    pub fn lastmod(&self, path: &str) -> Option<String> {
        let wanted = format!("https://www.marrowvale.example{path}");
        let url = self.listed().into_values().flatten().find(|url| url.loc.as_deref() == Some(&wanted));
        url.unwrap_or_else(|| panic!("{path} is not listed")).lastmod
    }
}

pub fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap().flatten() {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), target).unwrap();
        }
    }
}

/// Names a folder in which everything that was written is kept for a validator; set by the project's own checks.
const KEEP: &str = "IDLE_ATLAS_KEEP_SITEMAPS";

impl Drop for TestSite {
    fn drop(&mut self) {
        let Some(keep) = std::env::var_os(KEEP) else { return };
        if std::thread::panicking() || self.spoilt.get() {
            return;
        }
        let folder = Path::new(&keep).join(self.folder.path().file_name().unwrap());
        fs::create_dir_all(&folder).unwrap();
        let Ok(names) = fs::read_dir(self.path("public")) else { return };
        for entry in names.flatten().filter(|entry| entry.path().extension().is_some_and(|end| end == "xml")) {
            let name = entry.file_name();
            let name_of_child = |name: &str| name.starts_with("atlas-") && !name.starts_with("atlas-newest");
            if name == "sitemap.xml" || name_of_child(&name.to_string_lossy()) {
                fs::copy(entry.path(), folder.join(name)).unwrap();
            }
        }
    }
}

/// An entry of a sitemap file.
#[derive(Debug, Clone, PartialEq)]
pub struct UrlRead {
    pub loc: Option<String>,
    pub lastmod: Option<String>,
    pub changefreq: Option<String>,
    pub priority: Option<String>,
    pub images: Vec<String>,
    pub videos: Vec<Video>,
    pub alternates: Vec<Alternate<'static>>,
    pub news: NewsRead,
}

/// The news element of an entry; empty if there is none.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct NewsRead {
    pub publication: Option<String>,
    pub published: Option<String>,
    pub title: Option<String>,
    pub language: Option<String>,
}

impl From<RawUrl<'_>> for UrlRead {
    fn from(url: RawUrl<'_>) -> Self {
        let owned = |text: Option<std::borrow::Cow<'_, str>>| text.map(Into::into);
        let news = url.news.unwrap_or_default();
        Self {
            loc: owned(url.loc),
            lastmod: owned(url.lastmod),
            changefreq: owned(url.changefreq),
            priority: owned(url.priority),
            images: url.images.into_iter().map(Into::into).collect(),
            videos: url.videos.iter().map(RawVideo::to_video).collect(),
            alternates: url.alternates,
            news: NewsRead {
                publication: owned(news.publication),
                published: owned(news.published),
                title: owned(news.title),
                language: owned(news.language),
            },
        }
    }
}

/// The kind of document, its entries, and the files it lists.
pub fn parse(bytes: &[u8]) -> (Document, Vec<UrlRead>, Vec<String>) {
    let (mut urls, mut children) = (Vec::new(), Vec::new());
    let document =
        read(bytes, |url| urls.push(url.into()), |child| children.extend(child.loc.map(Into::into))).unwrap();
    (document, urls, children)
}

/// The result of a run.
#[derive(Debug)]
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub errors: String,
}

impl Ran {
    pub fn of(output: Output) -> Self {
        let text = |bytes| String::from_utf8(bytes).unwrap();
        Self { code: output.status.code().unwrap_or(-1), out: text(output.stdout), errors: text(output.stderr) }
    }

    /// Checks the exit code, and that both outputs together contain these words.
    #[track_caller]
    pub fn says(&self, code: i32, words: &[&str]) {
        let all = format!("{}\n{}", self.out, self.errors);
        assert_eq!(self.code, code, "{all}");
        for word in words {
            assert!(all.contains(word), "“{word}” is not said in:\n{all}");
        }
    }
}

/// Reads a count out of a JSON report.
pub fn count(report: &Value, kind: &str) -> u64 {
    report["changes"][kind]["count"].as_u64().unwrap()
}

/// A source, in the configuration.
pub fn source(kind: &str, more: &str) -> String {
    format!("[[source]]\nfrom = \"{kind}\"\n{more}\n")
}

/// The fields of a URL with their values, in words.
pub fn words(site: &TestSite, path: &str) -> Vec<(String, String)> {
    let why = site.json(&["why", "--fresh", path]);
    let word =
        |field: &Value| (field["field"].as_str().unwrap().to_owned(), field["value"].as_str().unwrap().to_owned());
    why["fields"].as_array().unwrap().iter().map(word).collect()
}

/// Whether a field is among [`words`].
pub fn has(words: &[(String, String)], field: &str, value: &str) -> bool {
    words.contains(&(field.to_owned(), value.to_owned()))
}
