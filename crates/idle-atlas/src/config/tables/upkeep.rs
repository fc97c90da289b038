//! The site, and what keeps it in order, as typed.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;

use super::At;

/// The site.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SiteTable {
    /// Its URL, exactly as visitors reach it.
    ///
    /// Example: `url = "https://www.marrowvale.example/"`
    pub url: At<String>,
    /// The folder that the web server serves, into which sitemap files are written; or an address in an object store, such
    /// as s3://depot/site/; or "ledger:", if nothing may be written there and serve answers for the files.
    ///
    /// Example: `web_root = "public"`
    pub web_root: At<String>,
    /// The zone of dates without one, and of the site's days.
    ///
    /// Default: `"UTC"`
    /// Example: `timezone = "Europe/London"`
    pub timezone: Option<At<String>>,
    /// Where this machine reaches the live site, if not at its URL.
    ///
    /// Example: `reached_at = "http://127.0.0.1:8080"`
    pub reached_at: Option<At<String>>,
}

/// When a build is held back.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct GuardsTable {
    /// The largest share of a section that may disappear at once.
    ///
    /// Default: `"30%"`
    pub most_lost: Option<At<String>>,
    /// The largest share of the site that one reason may leave out.
    ///
    /// Default: `"50%"`
    pub most_left_out: Option<At<String>>,
    /// By how many percentage points that share may grow, once it was allowed.
    ///
    /// Default: `"10%"`
    pub left_out_may_grow: Option<At<String>>,
    /// So many entries may always disappear.
    ///
    /// Default: `2`
    pub few: Option<At<i64>>,
    /// How many days the entries of a source that cannot be read stay as they were.
    ///
    /// Default: `14`
    pub stand_days: Option<At<i64>>,
}

/// What the ledger remembers.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct HistoryTable {
    /// How many days runs, announcements and pages that have gone are remembered, from 7 to 36,500.
    ///
    /// Default: `400`
    pub keep_days: Option<At<i64>>,
    /// How many days a page may wait before it counts as not picked up, from 0 to 365.
    ///
    /// Default: `3`
    pub patience_days: Option<At<i64>>,
}

/// When `watch` builds.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct WatchTable {
    /// How many seconds nothing may have changed before a build, so that a generator can finish; from 0 to 3,600.
    ///
    /// Default: `5`
    pub quiet_seconds: Option<At<i64>>,
    /// How often to build without a change, for sources that have to be asked.
    ///
    /// Example: `every = "15m"`
    pub every: Option<At<String>>,
    /// Folders and files to watch besides what sources read.
    ///
    /// Default: `[]`
    /// Example: `also = ["templates"]`
    pub also: Vec<At<String>>,
}

/// What `check` and `survey` accept, and what counts as thin.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct CheckTable {
    /// The file of accepted remarks and findings.
    ///
    /// Default: `"known-findings.txt"`
    pub known_findings: Option<At<String>>,
    /// The least words of a page that is not thin.
    ///
    /// Default: `100`
    pub thin_words: Option<At<i64>>,
}

/// A crawler whose visits count as those of an engine.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CrawlerTable {
    /// Its product token, as it stands in its user agent.
    ///
    /// Example: `token = "lampbot"`
    pub token: At<String>,
    /// A file with the prefixes that its engine publishes.
    ///
    /// Example: `addresses = "lampbot.json"`
    pub addresses: Option<At<String>>,
}

/// How the exports of an engine's console are read.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UptakeTable {
    /// The name of the engine.
    ///
    /// Example: `engine = "lamp"`
    pub engine: At<String>,
    /// A pattern for the names of its exports.
    ///
    /// Example: `files = "lamp-*.csv"`
    pub files: Option<At<String>>,
    /// What they are of, if their columns do not tell.
    ///
    /// Words: pages, images, videos
    /// Example: `of = "pages"`
    pub of: Option<At<String>>,
    /// The names of columns, if they are not found by what they contain.
    ///
    /// Example: `columns = { url = "URL", reason = "State" }`
    pub columns: Option<BTreeMap<String, At<String>>>,
    /// The format of dates that are not ISO 8601, as in strftime.
    ///
    /// Example: `dates = "%d/%m/%Y"`
    pub dates: Option<String>,
    /// The reasons that mean "picked up".
    ///
    /// Default: `[]`
    /// Example: `picked_up = ["Picked up"]`
    #[serde(default)]
    pub picked_up: Vec<String>,
}

/// Access logs in a format of their own.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct AccessLogTable {
    /// The log_format of the server, if it is not the Common or Combined Log Format or JSON.
    ///
    /// Example: `format = '$remote_addr [$time_iso8601] "$request" $status "$http_user_agent"'`
    pub format: Option<At<String>>,
    /// The names of the members of JSON logs.
    ///
    /// Example: `fields = { agent = "client.agent", time = "when" }`
    pub fields: Option<BTreeMap<String, At<String>>>,
}
