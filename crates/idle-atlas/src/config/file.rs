//! The configuration as typed, and errors that say where it is wrong and how to fix it.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Deserialize;

use super::tables::{
    AccessLogTable, AlternatesTable, ArchiveTable, At, CheckTable, CrawlerTable, EngineTable, FilesTable, GuardsTable,
    HistoryTable, ImagesTable, LedgerTable, NewestTable, NewsTable, OembedTable, OwnershipTable, PlayerTable,
    ProgramTable, RobotsTable, RuleTable, SectionTable, SectionsTable, SiteTable, SourceTable, StoreTable,
    StructuredTable, UptakeTable, VideosTable, VisitorTable, WatchTable,
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
    pub fn error<T>(&self, at: &At<T>, message: impl AsRef<str>) -> Failure {
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

/// The configuration of a site.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConfigFile {
    pub site: SiteTable,
    #[serde(default)]
    pub source: Vec<At<SourceTable>>,
    #[serde(default)]
    pub store: Vec<StoreTable>,
    #[serde(default)]
    pub sections: SectionsTable,
    #[serde(default)]
    pub section: Vec<SectionTable>,
    #[serde(default)]
    pub rule: Vec<At<RuleTable>>,
    #[serde(default)]
    pub archive: Vec<At<ArchiveTable>>,
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
    pub player: Vec<At<PlayerTable>>,
    #[serde(default)]
    pub oembed: Vec<OembedTable>,
    #[serde(default)]
    pub files: FilesTable,
    #[serde(default)]
    pub robots: RobotsTable,
    #[serde(default)]
    pub engine: Vec<EngineTable>,
    #[serde(default)]
    pub ownership: Vec<At<OwnershipTable>>,
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
    pub ledger: LedgerTable,
    #[serde(default)]
    pub watch: WatchTable,
    #[serde(default)]
    pub crawler: Vec<CrawlerTable>,
    #[serde(default)]
    pub uptake: Vec<UptakeTable>,
    #[serde(default)]
    pub access_log: AccessLogTable,
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
