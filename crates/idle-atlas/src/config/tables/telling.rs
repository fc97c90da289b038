//! Who is told, and the programs around a build, as typed.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;

use super::At;

/// An engine that is told of changes.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EngineTable {
    /// Its name, under which the ledger remembers what it was told.
    ///
    /// Example: `name = "all-indexnow"`
    pub name: At<String>,
    /// Its former name, so that it goes on where it was.
    ///
    /// Example: `was = "old-name"`
    pub was: Option<String>,
    /// The protocol.
    ///
    /// Words: indexnow, websub, sitemap-ping, http-call
    /// Example: `via = "indexnow"`
    pub via: At<String>,
    /// The address that messages are sent to.
    ///
    /// Secret. Example: `endpoint = "https://api.indexnow.org/indexnow"`
    pub endpoint: Option<At<String>>,
    /// Whether it is told. If not, what changes is kept for it.
    ///
    /// Default: `true`
    #[serde(default = "yes")]
    pub on: bool,
    /// indexnow: the key, if there is one already; announce --key-file makes one.
    ///
    /// Secret. Example: `key = "${INDEXNOW_KEY}"`
    pub key: Option<At<String>>,
    /// http-call: what there is a call for.
    ///
    /// Words: url, batch, build, file
    /// Default: `"url"`
    pub each: Option<At<String>>,
    /// http-call: the method. Without it: POST if there is a body, else GET.
    ///
    /// Example: `method = "PUT"`
    pub method: Option<At<String>>,
    /// http-call: the headers.
    ///
    /// Secret. Example: `headers = { Authorization = "Bearer {token}" }`
    pub headers: Option<At<BTreeMap<String, At<String>>>>,
    /// http-call: the body, a template.
    ///
    /// Secret. Example: `body = '{"url": "{url}", "type": "{change}"}'`
    pub body: Option<At<String>>,
    /// http-call: the statuses that mean success. Without it: 200 to 299.
    ///
    /// Example: `expect = [200, 204]`
    pub expect: Option<At<Vec<i64>>>,
    /// http-call: the words for added, changed, removed and redirected.
    ///
    /// Example: `changes = { removed = "URL_DELETED" }`
    pub changes: Option<At<BTreeMap<String, At<String>>>>,
    /// http-call: the most URLs of a batch, from 1 to 10,000.
    ///
    /// Default: `100`
    pub most_urls: Option<At<i64>>,
    /// http-call: a program that prints the value of {token}.
    ///
    /// Example: `token_command = ["./token"]`
    pub token_command: Option<At<Vec<String>>>,
    /// The most URLs in 24 hours. Without it there is no limit.
    ///
    /// Example: `per_day = 10000`
    pub per_day: Option<At<i64>>,
    /// The least minutes between two announcements of one URL.
    ///
    /// Default: `0`
    pub pause_minutes: Option<At<i64>>,
    /// The longest that one answer may take, in seconds, from 1 to 300.
    ///
    /// Default: `20`
    pub wait_seconds: Option<At<i64>>,
    /// The longest that all messages may take, in minutes. The rest goes with the next announce.
    ///
    /// Default: `30`
    pub round_minutes: Option<At<i64>>,
    /// Whether only what the live site already serves is announced.
    ///
    /// Default: `true`
    #[serde(default = "yes")]
    pub wait_until_live: bool,
}

fn yes() -> bool {
    true
}

/// What a console asks for, to know whose site it is: an element of the home page, or a file.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnershipTable {
    /// The element as it was copied, or its name and content.
    ///
    /// Example: `meta = { name = "lamp-verification", content = "a1b2" }`
    pub meta: Option<At<ElementOrTable>>,
    /// The name of a file in the web root, and its content.
    ///
    /// Example: `file = { name = "lamp-a1b2.html", content = "lamp-verification: a1b2" }`
    pub file: Option<At<NamedContent>>,
}

/// An element as it was copied, or its name and content.
#[derive(Debug, Deserialize, JsonSchema)]
#[schemars(inline)]
#[serde(untagged, expecting = "expected the element as it was copied, or { name = \"…\", content = \"…\" }")]
pub enum ElementOrTable {
    /// The element as it was copied.
    Element(String),
    /// Its name and content.
    Table(NamedContent),
}

/// A name and a content.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[schemars(inline)]
#[serde(deny_unknown_fields)]
pub struct NamedContent {
    /// The name.
    pub name: String,
    /// The content.
    pub content: String,
}

/// A program of your own, which runs in the folder of the configuration.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ProgramTable {
    /// The program and its arguments. No shell is involved.
    ///
    /// Example: `run = ["./deploy"]`
    pub run: At<Vec<String>>,
    /// The longest that it may take, in seconds.
    ///
    /// Default: `600`
    pub wait_seconds: Option<At<i64>>,
}
