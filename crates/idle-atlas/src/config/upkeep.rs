//! The tables of the configuration, as typed, that are not about entries: files, robots.txt, guards, history, findings and
//! engines.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml::Spanned;

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct FilesTable {
    pub main: Option<Spanned<String>>,
    pub urls_per_file: Option<Spanned<NumberOrAuto>>,
    pub bytes_per_file: Option<Spanned<i64>>,
    pub media_per_file: Option<Spanned<i64>>,
    pub files_per_index: Option<Spanned<i64>>,
    pub folded_days: Option<Spanned<i64>>,
    pub gzip: Option<Spanned<String>>,
    pub style: Option<bool>,
    pub text: bool,
    pub address: Option<Spanned<String>>,
    pub folder: Option<Spanned<String>>,
}

/// `"auto"` or a number.
#[derive(Debug, Deserialize)]
#[serde(untagged, expecting = "expected \"auto\" or a number")]
pub enum NumberOrAuto {
    Number(i64),
    Word(String),
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct RobotsTable {
    pub file: Option<Spanned<String>>,
    pub create: bool,
    pub crawlers: Vec<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct GuardsTable {
    pub most_lost: Option<Spanned<String>>,
    pub most_left_out: Option<Spanned<String>>,
    pub left_out_may_grow: Option<Spanned<String>>,
    pub few: Option<Spanned<i64>>,
    pub stand_days: Option<Spanned<i64>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct HistoryTable {
    pub keep_days: Option<Spanned<i64>>,
    pub patience_days: Option<Spanned<i64>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct WatchTable {
    pub quiet_seconds: Option<Spanned<i64>>,
    pub every: Option<Spanned<String>>,
    pub also: Vec<Spanned<String>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct CheckTable {
    pub known_findings: Option<Spanned<String>>,
    pub thin_words: Option<Spanned<i64>>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OwnershipTable {
    pub meta: Option<Spanned<ElementOrTable>>,
    pub file: Option<Spanned<NamedContent>>,
}

/// An element as it was copied, or its name and content.
#[derive(Debug, Deserialize)]
#[serde(untagged, expecting = "expected the element as it was copied, or { name = \"…\", content = \"…\" }")]
pub enum ElementOrTable {
    Element(String),
    Table(NamedContent),
}

/// A name and a content.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NamedContent {
    pub name: String,
    pub content: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CrawlerTable {
    pub token: Spanned<String>,
    pub addresses: Option<Spanned<String>>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UptakeTable {
    pub engine: Spanned<String>,
    pub files: Option<Spanned<String>>,
    pub of: Option<Spanned<String>>,
    pub columns: Option<BTreeMap<String, Spanned<String>>>,
    pub dates: Option<String>,
    #[serde(default)]
    pub picked_up: Vec<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AccessLogTable {
    pub format: Option<Spanned<String>>,
    pub fields: Option<BTreeMap<String, Spanned<String>>>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProgramTable {
    pub run: Spanned<Vec<String>>,
    pub wait_seconds: Option<Spanned<i64>>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EngineTable {
    pub name: Spanned<String>,
    pub was: Option<String>,
    pub via: Spanned<String>,
    pub endpoint: Option<Spanned<String>>,
    #[serde(default = "yes")]
    pub on: bool,
    pub key: Option<Spanned<String>>,
    pub each: Option<Spanned<String>>,
    pub method: Option<Spanned<String>>,
    pub headers: Option<Spanned<BTreeMap<String, Spanned<String>>>>,
    pub body: Option<Spanned<String>>,
    pub expect: Option<Spanned<Vec<i64>>>,
    pub changes: Option<Spanned<BTreeMap<String, Spanned<String>>>>,
    pub most_urls: Option<Spanned<i64>>,
    pub token_command: Option<Spanned<Vec<String>>>,
    pub per_day: Option<Spanned<i64>>,
    pub pause_minutes: Option<Spanned<i64>>,
    pub wait_seconds: Option<Spanned<i64>>,
    pub round_minutes: Option<Spanned<i64>>,
    #[serde(default = "yes")]
    pub wait_until_live: bool,
}

fn yes() -> bool {
    true
}
