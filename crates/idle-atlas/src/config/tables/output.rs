//! What is written, as typed.

use schemars::JsonSchema;
use serde::Deserialize;

use super::At;

/// A page that lists everything for visitors: atlas.html.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct VisitorTable {
    /// Its title. Without it: All pages of the host.
    ///
    /// Example: `title = "Everything on the Marrow Vale Light Railway"`
    pub title: Option<String>,
    /// Its language.
    ///
    /// Default: `"en"`
    pub language: Option<At<String>>,
    /// A page with {{title}}, {{language}}, {{style}}, {{navigation}} and {{content}}.
    ///
    /// Example: `template = "page.html"`
    pub template: Option<At<String>>,
    /// The most entries on one page, from 1 to 10,000. If there are more, each section gets pages of its own.
    ///
    /// Default: `1000`
    pub entries_per_page: Option<At<i64>>,
}

/// Feeds of the newest entries: atlas-newest.xml, atlas-newest-rss.xml.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewestTable {
    /// The forms to write.
    ///
    /// Words: atom, rss
    /// Default: `["atom"]`
    pub forms: Option<At<Vec<String>>>,
    /// The title of the feed. Without it: New at the host.
    ///
    /// Example: `title = "New on the Marrow Vale Light Railway"`
    pub title: Option<String>,
    /// The number of entries, from 1 to 1,000.
    ///
    /// Default: `50`
    pub entries: Option<At<i64>>,
    /// The sections whose entries it has; all if none are named.
    ///
    /// Default: `[]`
    /// Example: `sections = ["news", "journal"]`
    #[serde(default)]
    pub sections: Vec<At<String>>,
}

/// Files with schema.org VideoObject, for the site's own templates.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StructuredTable {
    /// The folder to write into, outside of what is served.
    ///
    /// Example: `folder = "structured-data"`
    pub folder: At<String>,
}

/// Pictures.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ImagesTable {
    /// Where they are written.
    ///
    /// Words: with-pages, own-files, off
    /// Default: `"with-pages"`
    pub write: Option<At<String>>,
    /// The most of one page, from 0 to 1,000.
    ///
    /// Default: `1000`
    pub most_per_page: Option<At<i64>>,
    /// The hosts whose pictures are written: "all", "own" or a list.
    ///
    /// Default: `"all"`
    /// Example: `hosts = ["own", "*.weirfilms.example"]`
    pub hosts: Option<At<WordOrList>>,
    /// Whether the pictures of Open Graph and JSON-LD count, even if the text does not contain them.
    ///
    /// Default: `true`
    pub lead_picture: Option<bool>,
    /// Parameters that do not select another picture, such as signatures.
    ///
    /// Example: `drop_parameters = ["sig", "X-Day-*"]`
    pub drop_parameters: Option<At<Vec<String>>>,
}

/// Videos.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct VideosTable {
    /// Where they are written.
    ///
    /// Words: with-pages, own-files, off
    /// Default: `"with-pages"`
    pub write: Option<At<String>>,
    /// The most of one page, from 0 to 200.
    ///
    /// Default: `200`
    pub most_per_page: Option<At<i64>>,
    /// The hosts whose videos are written: "all", "own" or a list. The host is that of the player, else of the file.
    ///
    /// Default: `"all"`
    /// Example: `hosts = ["own", "*.weirfilms.example"]`
    pub hosts: Option<At<WordOrList>>,
    /// Whether the oEmbed links of pages are followed.
    ///
    /// Default: `false`
    pub oembed: bool,
}

/// A player of videos, recognised by the address of its frame.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlayerTable {
    /// The address of the frame, with {id}.
    ///
    /// Example: `url = "https://weirfilms.example/embed/{id}"`
    pub url: String,
    /// The address of the file, with {id}, if there is one.
    ///
    /// Example: `content = "https://weirfilms.example/files/{id}.webm"`
    pub content: Option<String>,
    /// The address of the thumbnail, with {id}.
    ///
    /// Example: `thumbnail = "https://weirfilms.example/stills/{id}.jpg"`
    pub thumbnail: Option<String>,
}

/// A provider that is asked about frames by oEmbed.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OembedTable {
    /// Patterns for the addresses of frames.
    ///
    /// Example: `matching = ["https://weirfilms.example/**"]`
    pub matching: Vec<At<String>>,
    /// The address to ask.
    ///
    /// Secret. Example: `endpoint = "https://weirfilms.example/oembed"`
    pub endpoint: At<String>,
}

/// The sitemap files.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct FilesTable {
    /// The name of the main file, whose URL is submitted.
    ///
    /// Default: `"sitemap.xml"`
    pub main: Option<At<String>>,
    /// The most entries in one file: "auto", or a number from 1 to 50,000.
    ///
    /// Default: `"auto"`
    /// Example: `urls_per_file = 10000`
    pub urls_per_file: Option<At<NumberOrAuto>>,
    /// The most bytes of one file, unpacked, from 10,000 to 52,428,800.
    ///
    /// Default: `10485760`
    pub bytes_per_file: Option<At<i64>>,
    /// The most pictures and videos in one file, from 2,000.
    ///
    /// Default: `20000`
    pub media_per_file: Option<At<i64>>,
    /// The most files that one index lists, from 1 to 50,000. More make a second index.
    ///
    /// Default: `50000`
    pub files_per_index: Option<At<i64>>,
    /// How many days a file stays on disk after it left the index, from 0 to 365.
    ///
    /// Default: `14`
    pub folded_days: Option<At<i64>>,
    /// Whether files are compressed: beside means as well; encoded, for a web root in an object store, means under the
    /// plain name, as an encoding of it.
    ///
    /// Words: beside, only, off, encoded
    /// Default: `"beside"`
    pub gzip: Option<At<String>>,
    /// The Cache-Control of what is published into an object store or served by serve.
    ///
    /// Example: `cache_control = "public, max-age=300"`
    pub cache_control: Option<At<String>>,
    /// Whether atlas.css is written, which displays the files in a browser.
    ///
    /// Default: `true`
    pub style: Option<bool>,
    /// Whether atlas.txt is written: one URL per line.
    ///
    /// Default: `false`
    pub text: bool,
    /// The URL of the folder below, if sitemaps are served from elsewhere.
    ///
    /// Example: `address = "https://sitemaps.marrowvale.example/railway/"`
    pub address: Option<At<String>>,
    /// The folder for sitemap files, if that is not the web root.
    ///
    /// Example: `folder = "sitemaps"`
    pub folder: Option<At<String>>,
}

/// `"auto"` or a number.
#[derive(Debug, Deserialize, JsonSchema)]
#[schemars(inline)]
#[serde(untagged, expecting = "expected \"auto\" or a number")]
pub enum NumberOrAuto {
    /// The number itself.
    Number(i64),
    /// "auto".
    Word(String),
}

/// Yes, no, or a word.
#[derive(Debug, Deserialize, JsonSchema)]
#[schemars(inline)]
#[serde(untagged, expecting = "expected true, false, \"with-pages\", \"own-files\" or \"off\"")]
pub enum YesOrWord {
    /// Yes or no.
    Yes(bool),
    /// with-pages, own-files or off.
    Word(String),
}

/// A word, or a list of hosts.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[schemars(inline)]
#[serde(untagged, expecting = "expected \"all\", \"own\" or a list of hosts")]
pub enum WordOrList {
    /// "all" or "own".
    Word(String),
    /// Hosts; * stands for one part or more, "own" for the site's.
    List(Vec<String>),
}

/// robots.txt.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct RobotsTable {
    /// The file that gets a Sitemap line; every other byte stays.
    ///
    /// Example: `file = "public/robots.txt"`
    pub file: Option<At<String>>,
    /// Whether it is created if it does not exist. It then allows everything.
    ///
    /// Default: `false`
    pub create: bool,
    /// The product tokens of crawlers whose rules count, besides those for all.
    ///
    /// Default: `[]`
    /// Example: `crawlers = ["lampbot"]`
    pub crawlers: Vec<String>,
}
