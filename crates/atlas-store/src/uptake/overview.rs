//! What engines took, as it is shown and printed as JSON.

use atlas_core::rfc3339;
use atlas_core::uptake::difference::{Difference, PageTrait};
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::standing::{Delay, Standings};
use serde::Serialize;

/// What engines took of the whole site.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Overview {
    /// The instant of the command, in seconds since 1970.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub at: i64,
    /// How many days something may wait before it counts as not taken.
    pub patience_days: u32,
    /// What is known from access logs.
    pub logs: Option<LogsOverview>,
    /// The last export of each engine and subject.
    pub exports: Vec<ExportOverview>,
    /// Where pages stand.
    pub totals: Standings,
    /// Where pictures stand.
    pub images: MediaStandings,
    /// Where videos stand.
    pub videos: MediaStandings,
    /// The same by section.
    pub sections: Vec<SectionUptake>,
    /// Pages by the time since they last changed.
    pub ages: Vec<AgeUptake>,
    /// How long things took.
    pub delays: Delays,
    /// The crawlers that came, those with most requests first.
    pub crawlers: Vec<CrawlerUptake>,
    /// What engines' crawlers asked for.
    pub crawl: Vec<CrawlShare>,
    /// The most visited URLs that no sitemap lists.
    pub fetched_not_listed: Vec<VisitedUrl>,
    /// Some URLs that engines have and no sitemap lists.
    pub picked_up_not_listed: Vec<String>,
    /// Sitemap files: who read them, and what consoles say of them.
    pub sitemap_files: Vec<SitemapFileUptake>,
    /// The reasons that exports give, beside our own decisions.
    pub reasons: Vec<ReasonUptake>,
    /// What sets pages that were not picked up apart from those that were.
    pub differences: Vec<Difference>,
    /// The pages that are most worth looking at.
    pub worth_looking_at: Vec<WorthLooking>,
    /// What searchers did.
    pub searches: Vec<Searches>,
    /// Pages with fewer words are thin.
    pub thin_words: u32,
}

impl Overview {
    /// Whether engines' crawlers came and none of them read any sitemap file.
    pub fn sitemap_is_unread(&self) -> bool {
        self.crawlers.iter().any(|crawler| crawler.counts) && self.sitemap_files.iter().all(|file| file.requests == 0)
    }
}

/// Where pictures or videos stand.
#[derive(Debug, Clone, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct MediaStandings {
    /// As those of pages.
    #[serde(flatten)]
    pub standings: Standings,
    /// Those on other hosts, whose logs are not here.
    pub elsewhere: u64,
}

/// What is known from access logs.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LogsOverview {
    /// The lines that were read so far.
    pub lines: u64,
    /// Lines that could not be read.
    pub broken: u64,
    /// Lines that name no user agent.
    pub without_agent: u64,
    /// Requests of crawlers for other hosts.
    pub other_hosts: u64,
    /// The time of the first line.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub from: Option<i64>,
    /// The time of the last line.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub to: Option<i64>,
}

/// An export, as it was taken.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ExportOverview {
    /// The engine.
    pub engine: String,
    /// What it is of.
    pub of: Subject,
    /// When.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub at: i64,
    /// The files.
    pub files: Vec<String>,
    /// Rows with a URL of the site.
    pub rows: u64,
    /// URLs that are in the index.
    pub picked_up: u64,
    /// Whether what it does not name is not in the index.
    pub is_whole: bool,
    /// What changed since the export before, if there was one.
    pub since_before: Option<SinceBefore>,
}

/// What changed between two exports.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SinceBefore {
    /// When the one before was.
    #[serde(serialize_with = "rfc3339::seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub before: i64,
    /// URLs that are picked up now and were not then.
    pub came: u64,
    /// URLs that were picked up then and are not now.
    pub went: u64,
    /// Some of those that went and are still listed.
    pub went_examples: Vec<String>,
}

/// Where the entries of a section stand.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SectionUptake {
    /// Its name.
    pub section: String,
    /// Pages.
    pub pages: Standings,
    /// Pictures.
    pub images: Standings,
    /// Videos.
    pub videos: Standings,
}

/// Where pages of an age stand.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AgeUptake {
    /// They last changed less than so many days ago; `None`: any time before.
    pub under_days: Option<u32>,
    /// Pages.
    pub pages: Standings,
}

/// How long things took.
#[derive(Debug, Clone, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Delays {
    /// From a change to its announcement.
    pub change_to_announcement: Option<Delay>,
    /// From the announcement to the first fetch after it.
    pub announcement_to_fetch: Option<Delay>,
    /// From that fetch to the first export that has it as picked up.
    pub fetch_to_pick_up: Option<Delay>,
}

/// What a crawler did.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CrawlerUptake {
    /// Its product token.
    pub token: String,
    /// Whether it came from an address of its engine.
    pub verified: bool,
    /// Whether the addresses of its engine are known, so that it could be verified.
    pub addresses_known: bool,
    /// Whether its visits count as those of an engine.
    pub counts: bool,
    /// Its requests.
    pub requests: u64,
    /// The listed pages that it visited; `None` if too many crawlers came to tell.
    pub pages: Option<u64>,
    /// Its requests for listed pictures.
    pub image_requests: u64,
    /// Its requests for listed videos.
    pub video_requests: u64,
    /// Its requests for sitemap files.
    pub sitemap_requests: u64,
    /// Its requests for robots.txt.
    pub robots_requests: u64,
    /// Requests that were answered with 400 or above.
    pub errors: u64,
    /// Its first request.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub first: Option<i64>,
    /// Its last request.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub last: Option<i64>,
}

/// A part of what engines' crawlers asked for.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CrawlShare {
    /// What.
    pub kind: atlas_core::uptake::request::RequestKind,
    /// The requests.
    pub requests: u64,
    /// Their share of all, in percent.
    pub percent: f64,
    /// Whether it is spent on what no sitemap lists.
    pub is_spent: bool,
}

/// A URL and its visits.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct VisitedUrl {
    /// The URL.
    pub url: String,
    /// How often crawlers asked for it.
    pub requests: u32,
}

/// What is known of a sitemap file.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SitemapFileUptake {
    /// Its address.
    pub address: String,
    /// The entries in it now.
    pub entries: Option<u64>,
    /// How often engines' crawlers read it.
    pub requests: u64,
    /// When it was last read.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub last_read: Option<i64>,
    /// The status of the last answer.
    pub status: Option<u16>,
    /// What consoles say of it.
    pub consoles: Vec<ConsoleCount>,
}

/// What a console says of a sitemap file.
#[derive(Debug, Clone, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ConsoleCount {
    /// The engine.
    pub engine: String,
    /// When it says that it read the file.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub read: Option<i64>,
    /// How many URLs it says that it found.
    pub found: Option<u64>,
    /// How many the file held then; `None` if that is no longer remembered.
    pub held: Option<u64>,
    /// How many it says are in its index.
    pub in_index: Option<u64>,
    /// Its words for the state.
    pub words: Option<String>,
}

/// A reason that exports give, beside our own decisions.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ReasonUptake {
    /// The engine.
    pub engine: String,
    /// Its words.
    pub reason: String,
    /// Whether they were taken to mean “picked up”.
    pub means_picked_up: bool,
    /// The URLs with this reason.
    pub urls: u64,
    /// What we know of them, the most frequent first.
    pub known: Vec<KnownOfReason>,
    /// Those that are listed and nothing explains.
    pub unexplained: u64,
    /// Some of these.
    pub examples: Vec<String>,
}

/// What we know of some of the URLs with a reason.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct KnownOfReason {
    /// A code: that of the reason for which they are left out, or `gone`, `unknown`, `redirects`, `fails`, `waiting`.
    pub code: String,
    /// In words.
    pub words: String,
    /// How many.
    pub urls: u64,
    /// Whether that is as the user wants it, so that nothing has to be done.
    pub on_purpose: bool,
    /// Some of them.
    pub examples: Vec<String>,
}

/// A page that is worth looking at.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WorthLooking {
    /// The URL.
    pub url: String,
    /// Its section.
    pub section: String,
    /// What the engine says, if it says anything.
    pub reason: Option<String>,
    /// When it last changed.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub changed: Option<i64>,
    /// How often engines' crawlers fetched it.
    pub visits: u32,
    /// When they last did.
    #[serde(serialize_with = "rfc3339::maybe_seconds")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub last_visit: Option<i64>,
    /// The status of the last answer.
    pub status: Option<u16>,
    /// Its words, if the page was read.
    pub words: Option<u32>,
    /// How many pages link to it, if pages were read.
    pub linked_from: Option<u32>,
    /// What may keep an engine from taking it.
    pub traits: Vec<PageTrait>,
}

/// What searchers did, by the numbers of an engine.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Searches {
    /// The engine.
    pub engine: String,
    /// What the numbers are of.
    pub of: Subject,
    /// The days for which there are numbers: first and last.
    pub days: (String, String),
    /// How often URLs of the site were shown on the last day, or until it.
    pub shown: u64,
    /// How often they were clicked.
    pub clicked: u64,
    /// Listed URLs that were never shown on any of the days.
    pub never_shown: u64,
    /// Some of them.
    pub never_shown_examples: Vec<String>,
    /// URLs whose numbers moved most between the last two days with numbers.
    pub moved: Vec<MovedUrl>,
}

/// A URL whose numbers moved.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct MovedUrl {
    /// The URL.
    pub url: String,
    /// How often it was shown, before and now.
    pub shown: (u32, u32),
    /// Its position, before and now; `None` if not told.
    pub position: Option<(f32, f32)>,
}
