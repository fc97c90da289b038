//! The configuration as typed, and errors that say where it is wrong and how to fix it.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::Deserialize;
use toml::Spanned;

use super::upkeep::{
    AccessLogTable, CheckTable, CrawlerTable, EngineTable, FilesTable, GuardsTable, HistoryTable, OwnershipTable,
    ProgramTable, RobotsTable, UptakeTable, WatchTable,
};
use crate::exit::Failure;

/// The file and its text, for the positions of errors.
#[derive(Debug)]
pub struct ConfigText {
    pub path: PathBuf,
    pub text: String,
}

impl ConfigText {
    /// An error about this value.
    pub fn error<T>(&self, at: &Spanned<T>, message: impl AsRef<str>) -> Failure {
        self.error_at(at.span().start, message)
    }

    /// An error about the value that begins at this byte.
    pub fn error_at(&self, byte: usize, message: impl AsRef<str>) -> Failure {
        Failure::said(format!("{} line {}: {}", self.path.display(), self.line_of(byte), message.as_ref()))
    }

    /// The line of a byte, counted from 1.
    pub fn line_of(&self, byte: usize) -> usize {
        let before = &self.text.as_bytes()[..byte.min(self.text.len())];
        before.iter().filter(|byte| **byte == b'\n').count() + 1
    }
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfigFile {
    pub site: SiteTable,
    #[serde(default)]
    pub source: Vec<Spanned<SourceTable>>,
    #[serde(default)]
    pub sections: SectionsTable,
    #[serde(default)]
    pub section: Vec<SectionTable>,
    #[serde(default)]
    pub rule: Vec<Spanned<RuleTable>>,
    #[serde(default)]
    pub archive: Vec<Spanned<ArchiveTable>>,
    #[serde(default)]
    pub news: Vec<NewsTable>,
    #[serde(default)]
    pub alternates: AlternatesTable,
    pub visitor_page: Option<VisitorTable>,
    pub newest: Option<NewestTable>,
    pub structured_data: Option<StructuredTable>,
    #[serde(default)]
    pub images: ImagesTable,
    #[serde(default)]
    pub videos: VideosTable,
    #[serde(default)]
    pub player: Vec<Spanned<PlayerTable>>,
    #[serde(default)]
    pub oembed: Vec<OembedTable>,
    #[serde(default)]
    pub files: FilesTable,
    #[serde(default)]
    pub robots: RobotsTable,
    #[serde(default)]
    pub engine: Vec<EngineTable>,
    #[serde(default)]
    pub ownership: Vec<Spanned<OwnershipTable>>,
    #[serde(default)]
    pub before_build: Vec<ProgramTable>,
    #[serde(default)]
    pub when_built: Vec<ProgramTable>,
    #[serde(default)]
    pub when_failed: Vec<ProgramTable>,
    #[serde(default)]
    pub guards: GuardsTable,
    #[serde(default)]
    pub check: CheckTable,
    #[serde(default)]
    pub history: HistoryTable,
    #[serde(default)]
    pub watch: WatchTable,
    #[serde(default)]
    pub crawler: Vec<CrawlerTable>,
    #[serde(default)]
    pub uptake: Vec<UptakeTable>,
    #[serde(default)]
    pub access_log: AccessLogTable,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SiteTable {
    pub url: Spanned<String>,
    pub web_root: Spanned<String>,
    pub timezone: Option<Spanned<String>>,
    pub reached_at: Option<Spanned<String>>,
}

/// Declares the table of a source, which knows the keys that were typed in it.
macro_rules! source_table {
    ($($key:ident: $type:ty),* $(,)?) => {
        #[derive(Debug, Deserialize)]
        #[serde(deny_unknown_fields)]
        pub struct SourceTable {
            pub from: Spanned<String>,
            $(pub $key: Option<Spanned<$type>>),*
        }

        impl SourceTable {
            /// The keys that were typed besides “from”, with the positions of their values.
            pub fn typed(&self) -> Vec<(&'static str, usize)> {
                let keys = [$((stringify!($key), self.$key.as_ref().map(|value| value.span().start))),*];
                keys.into_iter().filter_map(|(key, at)| Some((key, at?))).collect()
            }
        }
    };
}

source_table! {
    name: String,
    section: String,
    pages: String,
    folder: String,
    drop_html: bool,
    canonical: String,
    documents: Vec<String>,
    file: String,
    hints: bool,
    layout: String,
    dates: String,
    lists: String,
    fields: BTreeMap<String, Spanned<OneOrMore>>,
    connection: String,
    query: String,
    query_file: String,
    retries: i64,
    run: Vec<String>,
    wait_seconds: i64,
    requests_per_second: f64,
    connections: i64,
    most_pages: i64,
    most_depth: i64,
    most_minutes: i64,
    drop_parameters: Vec<String>,
}

/// A column or template, or a list of them.
#[derive(Debug, Clone, Deserialize)]
#[serde(untagged, expecting = "expected a column's name or template, or a list of them")]
pub enum OneOrMore {
    One(String),
    More(Vec<String>),
}

impl OneOrMore {
    pub fn to_vec(&self) -> Vec<String> {
        match self {
            Self::One(text) => vec![text.clone()],
            Self::More(texts) => texts.clone(),
        }
    }
}

/// Hints, which rules, archives and sections set in the same way.
#[derive(Debug, Default)]
pub struct HintKeys<'t> {
    pub changefreq: Option<&'t Spanned<String>>,
    pub priority: Option<&'t Spanned<NumberOrWord>>,
    pub date_policy: Option<&'t Spanned<String>>,
    pub announce: Option<bool>,
}

/// Implements access to a table's hints.
macro_rules! has_hints {
    ($table:ident) => {
        impl $table {
            pub fn hints(&self) -> HintKeys<'_> {
                HintKeys {
                    changefreq: self.changefreq.as_ref(),
                    priority: self.priority.as_ref(),
                    date_policy: self.date_policy.as_ref(),
                    announce: self.announce,
                }
            }
        }
    };
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SectionTable {
    pub name: Spanned<String>,
    pub title: Option<String>,
    #[serde(default)]
    pub matching: Vec<Spanned<String>>,
    pub on: Option<bool>,
    pub urls_per_file: Option<Spanned<i64>>,
    pub bytes_per_file: Option<Spanned<i64>>,
    pub media_per_file: Option<Spanned<i64>>,
    pub images: Option<Spanned<YesOrWord>>,
    pub most_images: Option<Spanned<i64>>,
    pub image_hosts: Option<Spanned<WordOrList>>,
    pub videos: Option<Spanned<YesOrWord>>,
    pub most_videos: Option<Spanned<i64>>,
    pub video_hosts: Option<Spanned<WordOrList>>,
    pub changefreq: Option<Spanned<String>>,
    pub priority: Option<Spanned<NumberOrWord>>,
    pub date_policy: Option<Spanned<String>>,
    pub announce: Option<bool>,
    pub thin_words: Option<Spanned<i64>>,
}

has_hints!(SectionTable);

/// What holds for sections that do not set it themselves.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct SectionsTable {
    pub urls_per_file: Option<Spanned<i64>>,
    pub bytes_per_file: Option<Spanned<i64>>,
    pub media_per_file: Option<Spanned<i64>>,
    pub changefreq: Option<Spanned<String>>,
    pub priority: Option<Spanned<NumberOrWord>>,
    pub date_policy: Option<Spanned<String>>,
    pub announce: Option<bool>,
}

has_hints!(SectionsTable);

/// A number, or a word that says how to compute one.
#[derive(Debug, Deserialize)]
#[serde(untagged, expecting = "expected a number from 0.0 to 1.0, \"by-depth\" or \"by-share\"")]
pub enum NumberOrWord {
    Number(f64),
    Word(String),
}

/// Yes, no, or a word.
#[derive(Debug, Deserialize)]
#[serde(untagged, expecting = "expected true, false, \"with-pages\", \"own-files\" or \"off\"")]
pub enum YesOrWord {
    Yes(bool),
    Word(String),
}

/// A word, or a list of hosts.
#[derive(Debug, Clone, Deserialize)]
#[serde(untagged, expecting = "expected \"all\", \"own\" or a list of hosts")]
pub enum WordOrList {
    Word(String),
    List(Vec<String>),
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct RuleTable {
    pub matching: Option<Vec<Spanned<String>>>,
    pub in_section: Option<Vec<Spanned<String>>>,
    pub source: Option<Vec<Spanned<String>>>,
    pub kind: Option<Vec<String>>,
    pub id: Option<Vec<String>>,
    pub slug: Option<Vec<String>>,
    pub category: Option<Vec<String>>,
    pub tag: Option<Vec<String>>,
    pub author: Option<Vec<String>>,
    pub covers: Option<Spanned<String>>,
    pub title_pattern: Option<Spanned<String>>,
    pub url_pattern: Option<Spanned<String>>,
    pub listed_in: Option<Spanned<String>>,
    pub older_than_days: Option<Spanned<i64>>,
    pub newer_than_days: Option<Spanned<i64>>,
    pub least_depth: Option<Spanned<i64>>,
    pub most_depth: Option<Spanned<i64>>,
    pub with_images: Option<bool>,
    pub with_videos: Option<bool>,
    pub keep: Option<bool>,
    pub section: Option<Spanned<String>>,
    pub changefreq: Option<Spanned<String>>,
    pub priority: Option<Spanned<NumberOrWord>>,
    pub date_policy: Option<Spanned<String>>,
    pub announce: Option<bool>,
}

has_hints!(RuleTable);

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ArchiveTable {
    pub by: Spanned<String>,
    pub url: Spanned<String>,
    pub section: Option<Spanned<String>>,
    pub into: Option<Spanned<String>>,
    #[serde(default)]
    pub assume_page: bool,
    pub slugs: Option<Spanned<String>>,
    pub changefreq: Option<Spanned<String>>,
    pub priority: Option<Spanned<NumberOrWord>>,
    pub date_policy: Option<Spanned<String>>,
    pub announce: Option<bool>,
}

has_hints!(ArchiveTable);

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewsTable {
    pub sections: Spanned<Vec<Spanned<String>>>,
    pub publication: Spanned<String>,
    pub language: Spanned<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AlternatesTable {
    pub write: Option<bool>,
    pub paths: BTreeMap<String, Spanned<String>>,
    pub x_default: Option<Spanned<String>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct VisitorTable {
    pub title: Option<String>,
    pub language: Option<Spanned<String>>,
    pub template: Option<Spanned<String>>,
    pub entries_per_page: Option<Spanned<i64>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct NewestTable {
    pub forms: Option<Spanned<Vec<String>>>,
    pub title: Option<String>,
    pub entries: Option<Spanned<i64>>,
    #[serde(default)]
    pub sections: Vec<Spanned<String>>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StructuredTable {
    pub folder: Spanned<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct ImagesTable {
    pub write: Option<Spanned<String>>,
    pub most_per_page: Option<Spanned<i64>>,
    pub hosts: Option<Spanned<WordOrList>>,
    pub lead_picture: Option<bool>,
    pub drop_parameters: Option<Spanned<Vec<String>>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct VideosTable {
    pub write: Option<Spanned<String>>,
    pub most_per_page: Option<Spanned<i64>>,
    pub hosts: Option<Spanned<WordOrList>>,
    pub oembed: bool,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlayerTable {
    pub url: String,
    pub content: Option<String>,
    pub thumbnail: Option<String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OembedTable {
    pub matching: Vec<Spanned<String>>,
    pub endpoint: Spanned<String>,
}

/// Parses the text. Unknown keys and wrong types are errors that name the line and the most similar key.
pub fn parse(origin: &ConfigText) -> Result<ConfigFile, Failure> {
    toml::from_str(&origin.text).map_err(|error| {
        let byte = error.span().map_or(0, |span| span.start);
        origin.error_at(byte, explain(error.message(), origin, byte))
    })
}

/// Rewords the parser's most common messages.
fn explain(message: &str, origin: &ConfigText, byte: usize) -> String {
    let quoted: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
    if message.starts_with("unknown field") && !quoted.is_empty() {
        let (wrong, known) = (quoted[0], &quoted[1..]);
        let nearest = known
            .iter()
            .max_by(|one, other| strsim::jaro_winkler(one, wrong).total_cmp(&strsim::jaro_winkler(other, wrong)));
        let hint = match nearest.filter(|nearest| strsim::jaro_winkler(nearest, wrong) > 0.75) {
            Some(nearest) => format!(" (did you mean “{nearest}”?)"),
            None => String::new(),
        };
        return format!("unknown key “{wrong}”{hint}; known keys: {}", known.join(", "));
    }
    if message.starts_with("missing field") && !quoted.is_empty() {
        return format!("the key “{}” is missing here", quoted[0]);
    }
    if message.starts_with("duplicate key") {
        let rest = origin.text.get(byte..).unwrap_or("").lines().next().unwrap_or("");
        let key = rest.split(['=', ']']).next().unwrap_or("").trim();
        return format!("“{key}” is set a second time here; set it in one place");
    }
    if message.starts_with("invalid type") || message.starts_with("expected") {
        let line = origin.text[..byte.min(origin.text.len())].rsplit('\n').next().unwrap_or("");
        let key = line.split('=').next().unwrap_or("").trim();
        let subject = if key.is_empty() { String::new() } else { format!("“{key}”: ") };
        return format!("{subject}{}", in_our_words(&message.replace('`', "")));
    }
    message.replace('\n', "; ")
}

/// The expected type, in the words of people who write configurations.
fn in_our_words(message: &str) -> String {
    const WORDS: [(&str, &str); 5] = [
        ("expected a sequence", "expected a list, such as [\"…\"]"),
        ("expected a string", "expected a text in quotes"),
        ("expected a boolean", "expected true or false"),
        ("expected i64", "expected a whole number"),
        ("expected f64", "expected a number"),
    ];
    WORDS.iter().fold(message.to_owned(), |message, (theirs, ours)| message.replace(theirs, ours))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const SITE: &str = "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n";

    #[rstest]
    #[case::unknown_key("[site]\nurl = \"x\"\nweb_rot = \"public\"\n".into(), "line 3: unknown key “web_rot” (did you mean “web_root”?); known keys: ")]
    #[case::unknown_table(format!("{SITE}[[sauce]]\nfrom = \"html\"\n"), "unknown key “sauce” (did you mean “source”?)")]
    #[case::missing("[site]\nurl = \"x\"\n".into(), "“web_root” is missing")]
    #[case::wrong_type(format!("{SITE}[[rule]]\nmatching = \"/staff/**\"\n"), "line 5: “matching”: invalid type: string")]
    #[case::no_list(format!("{SITE}[[rule]]\nmatching = \"/staff/**\"\n"), "expected a list, such as")]
    #[case::no_number(format!("{SITE}[images]\nmost_per_page = true\n"), "expected a whole number")]
    #[case::wrong_word(format!("{SITE}[files]\nurls_per_file = true\n"), "line 5: “urls_per_file”: expected \"auto\" or a number")]
    #[case::key_twice(format!("{SITE}url = \"x\"\n"), "line 4: “url” is set a second time here")]
    #[case::table_twice(format!("{SITE}[files]\n[site]\n"), "line 5: “site” is set a second time here")]
    #[case::broken("[site\nurl = 1\n".into(), "line 1")]
    fn errors_name_line_and_key(#[case] text: String, #[case] wanted: &str) {
        let origin = ConfigText { path: "idle-atlas.toml".into(), text };
        let message = parse(&origin).unwrap_err().to_string();
        assert!(message.contains(wanted), "{message}");
        assert!(message.starts_with("idle-atlas.toml line "), "{message}");
    }
}
