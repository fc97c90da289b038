//! What is listed, and in which section, as typed.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;

use super::{At, WordOrList, YesOrWord};

/// Hints, which rules, archives and sections set in the same way.
#[derive(Debug, Default)]
pub struct HintKeys<'t> {
    pub changefreq: Option<&'t At<String>>,
    pub priority: Option<&'t At<NumberOrWord>>,
    pub date_policy: Option<&'t At<String>>,
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

/// A section: entries that have sitemap files, limits and hints of their own.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SectionTable {
    /// Its name: lower-case letters, digits and hyphens, at most 40.
    ///
    /// Example: `name = "journal"`
    pub name: At<String>,
    /// Its name for visitors.
    ///
    /// Example: `title = "The journal"`
    pub title: Option<String>,
    /// Path patterns of its entries: * within a part of the path, ** across parts, {a,b} for alternatives.
    ///
    /// Default: `[]`
    /// Example: `matching = ["/journal/**"]`
    #[serde(default)]
    pub matching: Vec<At<String>>,
    /// Whether its entries are listed.
    ///
    /// Default: `true`
    pub on: Option<bool>,
    /// The most entries in one of its files, from 1 to 50,000.
    ///
    /// Example: `urls_per_file = 1000`
    pub urls_per_file: Option<At<i64>>,
    /// The most bytes of one of its files, unpacked, from 10,000 to 52,428,800.
    ///
    /// Example: `bytes_per_file = 1000000`
    pub bytes_per_file: Option<At<i64>>,
    /// The most pictures and videos in one of its files, from 2,000.
    ///
    /// Example: `media_per_file = 5000`
    pub media_per_file: Option<At<i64>>,
    /// Whether its pictures are listed, and where: true, false, with-pages, own-files or off.
    ///
    /// Example: `images = "own-files"`
    pub images: Option<At<YesOrWord>>,
    /// The most pictures of one entry, from 0 to 1,000.
    ///
    /// Example: `most_images = 20`
    pub most_images: Option<At<i64>>,
    /// The hosts whose pictures are listed: "all", "own" or a list.
    ///
    /// Example: `image_hosts = ["own"]`
    pub image_hosts: Option<At<WordOrList>>,
    /// Whether its videos are listed, and where: true, false, with-pages, own-files or off.
    ///
    /// Example: `videos = "own-files"`
    pub videos: Option<At<YesOrWord>>,
    /// The most videos of one entry, from 0 to 200.
    ///
    /// Example: `most_videos = 3`
    pub most_videos: Option<At<i64>>,
    /// The hosts whose videos are listed: "all", "own" or a list.
    ///
    /// Example: `video_hosts = ["own", "*.weirfilms.example"]`
    pub video_hosts: Option<At<WordOrList>>,
    /// The hint changefreq of its entries.
    ///
    /// Words: always, hourly, daily, weekly, monthly, yearly, never
    /// Example: `changefreq = "monthly"`
    pub changefreq: Option<At<String>>,
    /// The hint priority of its entries: from 0.0 to 1.0, or "by-depth".
    ///
    /// Example: `priority = 0.8`
    pub priority: Option<At<NumberOrWord>>,
    /// Where lastmod comes from: as declared or else seen (usual), or only one of them.
    ///
    /// Words: usual, declared, seen, none
    /// Example: `date_policy = "declared"`
    pub date_policy: Option<At<String>>,
    /// Whether engines are told of its entries.
    ///
    /// Example: `announce = false`
    pub announce: Option<bool>,
    /// The least words of a page that is not thin, for its entries.
    ///
    /// Example: `thin_words = 40`
    pub thin_words: Option<At<i64>>,
}

has_hints!(SectionTable);

/// What holds for sections that do not set it themselves.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SectionsTable {
    /// The most entries in one file, from 1 to 50,000.
    ///
    /// Example: `urls_per_file = 1000`
    pub urls_per_file: Option<At<i64>>,
    /// The most bytes of one file, unpacked, from 10,000 to 52,428,800.
    ///
    /// Example: `bytes_per_file = 1000000`
    pub bytes_per_file: Option<At<i64>>,
    /// The most pictures and videos in one file, from 2,000.
    ///
    /// Example: `media_per_file = 5000`
    pub media_per_file: Option<At<i64>>,
    /// The hint changefreq.
    ///
    /// Words: always, hourly, daily, weekly, monthly, yearly, never
    /// Example: `changefreq = "monthly"`
    pub changefreq: Option<At<String>>,
    /// The hint priority: from 0.0 to 1.0, or "by-depth".
    ///
    /// Example: `priority = "by-depth"`
    pub priority: Option<At<NumberOrWord>>,
    /// Where lastmod comes from: as declared or else seen (usual), or only one of them.
    ///
    /// Words: usual, declared, seen, none
    /// Default: `"usual"`
    pub date_policy: Option<At<String>>,
    /// Whether engines are told.
    ///
    /// Default: `true`
    pub announce: Option<bool>,
}

has_hints!(SectionsTable);

/// A number, or a word that says how to compute one.
#[derive(Debug, Deserialize, JsonSchema)]
#[schemars(inline)]
#[serde(untagged, expecting = "expected a number from 0.0 to 1.0, \"by-depth\" or \"by-share\"")]
pub enum NumberOrWord {
    /// The priority itself.
    Number(f64),
    /// How it is computed: "by-depth", or for archives "by-share".
    Word(String),
}

/// A rule for entries. All conditions must hold; for each setting, the last rule that matches wins.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct RuleTable {
    /// Condition: path patterns.
    ///
    /// Example: `matching = ["/staff/**"]`
    pub matching: Option<Vec<At<String>>>,
    /// Condition: the section that the entry would be in without rules.
    ///
    /// Example: `in_section = ["journal"]`
    pub in_section: Option<Vec<At<String>>>,
    /// Condition: part of the name of a source.
    ///
    /// Example: `source = ["photographs.csv"]`
    pub source: Option<Vec<At<String>>>,
    /// Condition: the field kind, as the source gives it.
    ///
    /// Example: `kind = ["leaflet"]`
    pub kind: Option<Vec<String>>,
    /// Condition: the field id.
    ///
    /// Example: `id = ["417"]`
    pub id: Option<Vec<String>>,
    /// Condition: the field slug.
    ///
    /// Example: `slug = ["first-light"]`
    pub slug: Option<Vec<String>>,
    /// Condition: a category, in any spelling.
    ///
    /// Example: `category = ["Weather"]`
    pub category: Option<Vec<String>>,
    /// Condition: a tag, in any spelling.
    ///
    /// Example: `tag = ["members-only"]`
    pub tag: Option<Vec<String>>,
    /// Condition: an author, in any spelling.
    ///
    /// Example: `author = ["Tomos Weir"]`
    pub author: Option<Vec<String>>,
    /// What category, tag and author stand for; without it, entries-and-archive-page.
    ///
    /// Words: entries-and-archive-page, entries, archive-page
    /// Example: `covers = "entries"`
    pub covers: Option<At<String>>,
    /// Condition: a regular expression for the title.
    ///
    /// Example: `title_pattern = "(?i)thank you"`
    pub title_pattern: Option<At<String>>,
    /// Condition: a regular expression for the whole URL.
    ///
    /// Example: `url_pattern = "/print/$"`
    pub url_pattern: Option<At<String>>,
    /// Condition: a file of URLs, paths or ids, one per line.
    ///
    /// Example: `listed_in = "private.txt"`
    pub listed_in: Option<At<String>>,
    /// Condition: more days than this since publication, else since the last change.
    ///
    /// Example: `older_than_days = 3650`
    pub older_than_days: Option<At<i64>>,
    /// Condition: fewer days than this.
    ///
    /// Example: `newer_than_days = 30`
    pub newer_than_days: Option<At<i64>>,
    /// Condition: at least so many parts in the path.
    ///
    /// Example: `least_depth = 2`
    pub least_depth: Option<At<i64>>,
    /// Condition: at most so many parts in the path.
    ///
    /// Example: `most_depth = 4`
    pub most_depth: Option<At<i64>>,
    /// Condition: whether it has pictures.
    ///
    /// Example: `with_images = true`
    pub with_images: Option<bool>,
    /// Condition: whether it has videos.
    ///
    /// Example: `with_videos = true`
    pub with_videos: Option<bool>,
    /// Setting: whether the entry is listed.
    ///
    /// Example: `keep = false`
    pub keep: Option<bool>,
    /// Setting: the section that it goes into.
    ///
    /// Example: `section = "films"`
    pub section: Option<At<String>>,
    /// Setting: the hint changefreq.
    ///
    /// Words: always, hourly, daily, weekly, monthly, yearly, never
    /// Example: `changefreq = "daily"`
    pub changefreq: Option<At<String>>,
    /// Setting: the hint priority, from 0.0 to 1.0, or "by-depth".
    ///
    /// Example: `priority = 0.3`
    pub priority: Option<At<NumberOrWord>>,
    /// Setting: where lastmod comes from: as declared or else seen (usual), or only one of them.
    ///
    /// Words: usual, declared, seen, none
    /// Example: `date_policy = "none"`
    pub date_policy: Option<At<String>>,
    /// Setting: whether engines are told.
    ///
    /// Example: `announce = false`
    pub announce: Option<bool>,
}

has_hints!(RuleTable);

/// Pages that exist because entries share something.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ArchiveTable {
    /// What entries share.
    ///
    /// Words: category, tag, author, year, month, week, day
    /// Example: `by = "category"`
    pub by: At<String>,
    /// The address of each page: a template with {slug}, or {year}, {month}, {week}, {day}.
    ///
    /// Example: `url = "/journal/about/{slug}/"`
    pub url: At<String>,
    /// The section whose entries are counted; all without it.
    ///
    /// Example: `section = "journal"`
    pub section: Option<At<String>>,
    /// The section that the pages go into.
    ///
    /// Example: `into = "authors"`
    pub into: Option<At<String>>,
    /// Whether the pages exist although no source reads them.
    ///
    /// Default: `false`
    #[serde(default)]
    pub assume_page: bool,
    /// How names become parts of an address.
    ///
    /// Words: as-written, ascii
    /// Default: `"as-written"`
    pub slugs: Option<At<String>>,
    /// The hint changefreq of the pages.
    ///
    /// Words: always, hourly, daily, weekly, monthly, yearly, never
    /// Example: `changefreq = "weekly"`
    pub changefreq: Option<At<String>>,
    /// The hint priority: from 0.0 to 1.0, "by-depth", or "by-share" (the more entries, the higher).
    ///
    /// Example: `priority = "by-share"`
    pub priority: Option<At<NumberOrWord>>,
    /// Where lastmod comes from: as declared or else seen (usual), or only one of them.
    ///
    /// Words: usual, declared, seen, none
    /// Example: `date_policy = "none"`
    pub date_policy: Option<At<String>>,
    /// Whether engines are told of the pages.
    ///
    /// Example: `announce = false`
    pub announce: Option<bool>,
}

has_hints!(ArchiveTable);

/// News: the articles of the last two days, in files of their own.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewsTable {
    /// The sections that contain articles.
    ///
    /// Example: `sections = ["news"]`
    pub sections: At<Vec<At<String>>>,
    /// The name of the publication, exactly as it calls itself.
    ///
    /// Example: `publication = "The Marrow Vale Gazette"`
    pub publication: At<String>,
    /// Its language (ISO 639), or zh-cn or zh-tw.
    ///
    /// Example: `language = "en"`
    pub language: At<String>,
}

/// How translations are found and written.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct AlternatesTable {
    /// Whether translations are written.
    ///
    /// Default: `true`
    pub write: Option<bool>,
    /// The folder of each language, if pages with the same path below are translations.
    ///
    /// Example: `paths = { en = "/", cy = "/cy/" }`
    pub paths: BTreeMap<String, At<String>>,
    /// The language that everyone else gets.
    ///
    /// Example: `x_default = "en"`
    pub x_default: Option<At<String>>,
}
