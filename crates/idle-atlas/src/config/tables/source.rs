//! `[[source]]` as typed.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;

use super::At;

/// Declares the table of a source, which knows the keys that were typed in it.
macro_rules! source_table {
    ($($(#[$attribute:meta])* $key:ident: $type:ty),* $(,)?) => {
        /// Where entries come from. If several sources name the same URL, the first that gives a value wins.
        #[derive(Debug, Deserialize, JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub struct SourceTable {
            /// The kind of source.
            ///
            /// Words: html, markdown, table, sql, feed, sitemap, command, crawl
            /// Example: `from = "html"`
            pub from: At<String>,
            $($(#[$attribute])* pub $key: Option<At<$type>>),*
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
    /// Its name in reports and in the ledger. Without it, the name is made from the kind and what it reads.
    ///
    /// Example: `name = "depot"`
    name: String,
    /// The section of its entries, unless a section's `matching` says otherwise. Sources with rows may make it from
    /// columns.
    ///
    /// Example: `section = "journal"`
    section: String,
    /// Whether its pages have to be in a folder that an html source reads.
    ///
    /// Words: in-folder, may-be-elsewhere
    /// Default: `"in-folder"`
    pages: String,
    /// The folder to read, relative to the configuration.
    ///
    /// Example: `folder = "public"`
    folder: String,
    /// Whether pages are served without .html at the end.
    ///
    /// Default: `false`
    drop_html: bool,
    /// Whether a canonical link that names another address leaves a page out.
    ///
    /// Words: heed, ignore
    /// Default: `"heed"`
    canonical: String,
    /// Files to list besides pages, by extension.
    ///
    /// Words: pdf, txt, rtf, epub, odt, ods, odp, docx, xlsx, pptx
    /// Default: `[]`
    /// Example: `documents = ["pdf"]`
    documents: Vec<String>,
    /// What to read: a path relative to the configuration, a URL, or "-" for standard input. A table may be several
    /// files: a pattern such as exports/**/*.csv, or a folder with "/" at its end.
    ///
    /// Example: `file = "photographs.csv"`
    file: String,
    /// Whether changefreq and priority of an old sitemap are taken over.
    ///
    /// Default: `false`
    hints: bool,
    /// Whether an old sitemap gives only dates, to pages that have none of their own, and the rest is worth a look.
    ///
    /// Default: `false`
    moved: bool,
    /// The format of a table, if its name does not tell.
    ///
    /// Words: csv, tsv, json-lines, json, parquet
    /// Example: `layout = "json-lines"`
    layout: String,
    /// The format of dates that are not ISO 8601, as in strftime.
    ///
    /// Example: `dates = "%d/%m/%Y"`
    dates: String,
    /// What separates the items of a list in one cell.
    ///
    /// Default: `"|"`
    lists: String,
    /// Which column gives which field: a name, a template with columns in braces, or a list of them.
    ///
    /// Example: `fields = { url = "/photographs/{Slug}/", modified = "Updated" }`
    fields: BTreeMap<String, At<OneOrMore>>,
    /// The database: sqlite:FILE, postgres://… or mysql://…; with passwords as ${NAME}.
    ///
    /// Secret. Example: `connection = "${DATABASE_URL}"`
    connection: String,
    /// A select whose columns are fields.
    ///
    /// Example: `query = "select slug, updated_at from locomotives"`
    query: String,
    /// A file with the query.
    ///
    /// Example: `query_file = "locomotives.sql"`
    query_file: String,
    /// How often a query that uses :since is read in full all the same, so that what it misses is found.
    ///
    /// Default: `"1 day"`
    full_every: String,
    /// How often a connection that breaks before the first row is tried again, from 0 to 100.
    ///
    /// Default: `3`
    retries: i64,
    /// A program and its arguments, which writes one JSON object per line.
    ///
    /// Example: `run = ["python3", "export.py"]`
    run: Vec<String>,
    /// The longest that one answer, query or program may take, in seconds. Without it: 120 for a file by URL, 30 for a
    /// crawled page, 300 for a query and 600 for a program.
    ///
    /// Example: `wait_seconds = 60`
    wait_seconds: i64,
    /// The most requests of a crawl per second; 0 for no limit.
    ///
    /// Default: `10.0`
    requests_per_second: f64,
    /// The most connections of a crawl at once, from 1 to 256.
    ///
    /// Default: `4`
    connections: i64,
    /// The most pages that a crawl fetches.
    ///
    /// Default: `100000`
    most_pages: i64,
    /// The most links from the home page that a crawl follows.
    ///
    /// Default: `50`
    most_depth: i64,
    /// The longest that a crawl may take, in minutes.
    ///
    /// Default: `120`
    most_minutes: i64,
    /// Parameters of a crawled URL that do not select another page, besides those of campaigns and sessions.
    ///
    /// Example: `drop_parameters = ["ref"]`
    drop_parameters: Vec<String>,
}

/// A column or template, or a list of them.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[schemars(inline)]
#[serde(untagged, expecting = "expected a column's name or template, or a list of them")]
pub enum OneOrMore {
    /// One column or template.
    One(String),
    /// The first column with a value, or for lists, all of them.
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
