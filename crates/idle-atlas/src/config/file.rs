//! The configuration as typed, and errors that say where it is wrong and how to fix it.

use schemars::JsonSchema;
use serde::Deserialize;

use super::extends::merged;
pub use super::origin::ConfigText;
use super::tables::{
    AccessLogTable, AlternatesTable, ArchiveTable, At, CheckTable, CrawlerTable, EngineTable, FilesTable, GuardsTable,
    HistoryTable, ImagesTable, LedgerTable, NewestTable, NewsTable, OembedTable, OwnershipTable, PlayerTable,
    ProgramTable, RobotsTable, RuleTable, SectionTable, SectionsTable, SiteTable, SourceTable, StoreTable,
    StructuredTable, UptakeTable, VideosTable, VisitorTable, WatchTable,
};
use crate::exit::Failure;

/// The configuration of a site.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConfigFile {
    /// A configuration that is shared with other sites, from which everything is taken over that is not set here. Paths in
    /// it are relative to this file, too.
    ///
    /// Example: `extends = "../common.toml"`
    pub extends: Option<String>,
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
    let wrong = |message: &str, byte: usize| origin.error_at(byte, explain(message, origin, byte));
    let tables = merged(origin).map_err(|(message, byte)| wrong(&message, byte))?;
    ConfigFile::deserialize(toml::de::Deserializer::from(tables))
        .map_err(|error| wrong(error.message(), error.span().map_or(0, |span| span.start)))
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
        let (_, text, byte) = origin.part(byte);
        let rest = text.get(byte..).unwrap_or("").lines().next().unwrap_or("");
        let key = rest.split(['=', ']']).next().unwrap_or("").trim();
        return format!("“{key}” is set a second time here; set it in one place");
    }
    if message.starts_with("invalid type") || message.starts_with("expected") {
        let (_, text, byte) = origin.part(byte);
        let line = text[..byte.min(text.len())].rsplit('\n').next().unwrap_or("");
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
    use crate::config::origin::SharedText;

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
        let origin = ConfigText { path: "idle-atlas.toml".into(), text, shared: None };
        let message = parse(&origin).unwrap_err().to_string();
        assert!(message.contains(wanted), "{message}");
        assert!(message.starts_with("idle-atlas.toml line "), "{message}");
    }

    const OWN: &str = "extends = \"../common.toml\"\n[site]\nurl = \"https://www.marrowvale.example/\"\n";

    fn texts(own: &str, shared: &str) -> ConfigText {
        let shared = SharedText { path: "../common.toml".into(), text: shared.to_owned() };
        ConfigText { path: "idle-atlas.toml".into(), text: own.to_owned(), shared: Some(shared) }
    }

    #[test]
    fn own_keys_win() {
        let shared = "[site]\nurl = \"https://other.example/\"\nweb_root = \"public\"\n[files]\nmain = \"a.xml\"\n[[engine]]\nname = \"lamp\"\nvia = \"websub\"\n";
        let typed = parse(&texts(OWN, shared)).unwrap();
        assert_eq!(typed.site.url.as_ref(), "https://www.marrowvale.example/");
        assert_eq!(typed.site.web_root.as_ref(), "public");
        assert_eq!((typed.files.main.unwrap().as_ref().as_str(), typed.engine.len()), ("a.xml", 1));
        let own =
            format!("{OWN}[[engine]]\nname = \"a\"\nvia = \"websub\"\n[[engine]]\nname = \"b\"\nvia = \"websub\"\n");
        assert_eq!(parse(&texts(&own, shared)).unwrap().engine.len(), 2, "a list is taken over as a whole");
    }

    #[rstest]
    #[case::a_wrong_key("[site]\nweb_root = \"public\"\n[fles]\n", "../common.toml line 3: unknown key “fles”")]
    #[case::a_wrong_type("[site]\nweb_root = \"public\"\n[files]\nstyle = 3\n", "../common.toml line 4: “style”")]
    #[case::broken("[site\n", "../common.toml line 1")]
    #[case::a_chain(
        "extends = \"x.toml\"\n",
        "../common.toml line 1: “extends”: a configuration that is extended extends no other"
    )]
    fn errors_name_the_file_that_they_are_in(#[case] shared: &str, #[case] wanted: &str) {
        let message = parse(&texts(OWN, shared)).unwrap_err().to_string();
        assert!(message.starts_with(wanted), "{message}");
    }

    #[test]
    fn an_error_of_its_own_names_the_site() {
        let own = format!("{OWN}[fles]\n");
        let message = parse(&texts(&own, "[site]\nweb_root = \"public\"\n")).unwrap_err().to_string();
        assert!(message.starts_with("idle-atlas.toml line 4: unknown key “fles”"), "{message}");
    }
}
