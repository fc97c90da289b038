//! Notices: remarks about entries, links and sources, with their words and advice.

use std::fmt;

use serde::Serialize;

use super::counted::Counted;

/// A kind of notice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Notice {
    /// URLs under another scheme or host.
    Elsewhere,
    /// Pages that no other page links to.
    Unlinked,
    /// Links that lead nowhere: the server says so, or no source knows their target.
    LinkedNotFound,
    /// Links to this site under another scheme or host.
    LinkedMisspelt,
    /// Links to pages that redirect.
    LinkedRedirect,
    /// Links to drafts and to pages that forbid indexing.
    LinkedKeptOut,
    /// Pages whose canonical link is their own address under another scheme or host.
    CanonicalMisspelt,
    /// Sources that disagree about an entry.
    AtOdds,
    /// Attachments that contain nothing that their article lacks.
    RepeatsParent,
    /// A declared date changed, but not the content.
    DateAlone,
    /// The content changed, but not the declared date.
    ContentAlone,
    /// Entries that name an unknown section.
    UnknownSection,
    /// Rows made a section that did not exist before.
    NewSection,
    /// A section whose patterns match no entry.
    EmptySection,
    /// A rule that matches no entry.
    UnusedRule,
    /// URLs that only an old sitemap names, although a source reads the pages of the site.
    OnlyOldSitemap,
    /// URLs that differ only in the order of their parameters and have the same content.
    SameParameters,
    /// Archives without a page on the site.
    NoArchivePage,
    /// A link to a translation that does not link back.
    AlternateNotReturned,
    /// A link to a translation that is not listed.
    AlternateNotIn,
    /// A link to a translation with an invalid language tag.
    AlternateLanguage,
    /// Two pages of a group of translations in the same language.
    AlternateTwice,
    /// Structured data on a page that lacks something or disagrees with other sources.
    VideoDataIncomplete,
    /// Videos without structured data.
    VideoDataLacking,
    /// Frames that look like players but match none in the configuration.
    UnknownPlayer,
    /// Videos that are not written because a required part is missing.
    VideoNotWritten,
    /// Pages without a head, and so without a title and canonical link.
    NoHead,
    /// A declared date of change that lies in the future or is older than the web, and is not written.
    DateNotWritten,
    /// A section that robots.txt shuts engines out of.
    SectionShut,
    /// Sitemap files that robots.txt forbids to fetch.
    SitemapShut,
    /// Lines in robots.txt that declare sitemaps which do not exist.
    DeadSitemapLine,
    /// A robots.txt that is longer than engines need to read.
    RobotsTooLarge,
}

impl Notice {
    /// All kinds.
    pub const ALL: [Self; 32] = [
        Self::Elsewhere,
        Self::Unlinked,
        Self::LinkedNotFound,
        Self::LinkedMisspelt,
        Self::LinkedRedirect,
        Self::LinkedKeptOut,
        Self::CanonicalMisspelt,
        Self::AtOdds,
        Self::RepeatsParent,
        Self::DateAlone,
        Self::ContentAlone,
        Self::UnknownSection,
        Self::NewSection,
        Self::EmptySection,
        Self::UnusedRule,
        Self::OnlyOldSitemap,
        Self::SameParameters,
        Self::NoArchivePage,
        Self::AlternateNotReturned,
        Self::AlternateNotIn,
        Self::AlternateLanguage,
        Self::AlternateTwice,
        Self::VideoDataIncomplete,
        Self::VideoDataLacking,
        Self::UnknownPlayer,
        Self::VideoNotWritten,
        Self::NoHead,
        Self::DateNotWritten,
        Self::SectionShut,
        Self::SitemapShut,
        Self::DeadSitemapLine,
        Self::RobotsTooLarge,
    ];

    /// Its stable code.
    pub fn code(self) -> &'static str {
        match self {
            Self::Elsewhere => "elsewhere",
            Self::Unlinked => "unlinked",
            Self::LinkedNotFound => "linked-not-found",
            Self::LinkedMisspelt => "linked-misspelt",
            Self::LinkedRedirect => "linked-redirect",
            Self::LinkedKeptOut => "linked-kept-out",
            Self::CanonicalMisspelt => "canonical-misspelt",
            Self::AtOdds => "at-odds",
            Self::RepeatsParent => "repeats-parent",
            Self::DateAlone => "date-alone",
            Self::ContentAlone => "content-alone",
            Self::UnknownSection => "unknown-section",
            Self::NewSection => "new-section",
            Self::EmptySection => "empty-section",
            Self::UnusedRule => "unused-rule",
            Self::OnlyOldSitemap => "only-old-sitemap",
            Self::SameParameters => "same-parameters",
            Self::NoArchivePage => "no-archive-page",
            Self::AlternateNotReturned => "alternate-not-returned",
            Self::AlternateNotIn => "alternate-not-in",
            Self::AlternateLanguage => "alternate-language",
            Self::AlternateTwice => "alternate-twice",
            Self::VideoDataIncomplete => "video-data-incomplete",
            Self::VideoDataLacking => "video-data-lacking",
            Self::UnknownPlayer => "unknown-player",
            Self::VideoNotWritten => "video-not-written",
            Self::NoHead => "no-head",
            Self::DateNotWritten => "date-not-written",
            Self::SectionShut => "section-shut",
            Self::SitemapShut => "sitemap-shut",
            Self::DeadSitemapLine => "dead-sitemap-line",
            Self::RobotsTooLarge => "robots-too-large",
        }
    }

    /// What it means, for the user: for one, and for several.
    pub fn words(self) -> (&'static str, &'static str) {
        match self {
            Self::Elsewhere => ("URL on another scheme or host", "URLs on another scheme or host"),
            Self::Unlinked => ("page that no other page links to", "pages that no other page links to"),
            Self::LinkedNotFound => ("dead link", "dead links"),
            Self::LinkedMisspelt => ("link to another scheme or host", "links to another scheme or host"),
            Self::LinkedRedirect => ("link to a page that redirects", "links to pages that redirect"),
            Self::LinkedKeptOut => ("link to a draft or noindex page", "links to drafts and noindex pages"),
            Self::CanonicalMisspelt => (
                "page whose canonical link has another scheme or host",
                "pages whose canonical links have another scheme or host",
            ),
            Self::AtOdds => ("entry on which two sources differ", "entries on which two sources differ"),
            Self::RepeatsParent => ("attachment that repeats its article", "attachments that repeat their article"),
            Self::DateAlone => {
                ("page whose date changed, but not its content", "pages whose date changed, but not their content")
            }
            Self::ContentAlone => {
                ("page whose content changed, but not its date", "pages whose content changed, but not their date")
            }
            Self::NewSection => ("section that rows made", "sections that rows made"),
            Self::UnknownSection => ("entry that names an unknown section", "entries that name an unknown section"),
            Self::EmptySection => ("section without entries", "sections without entries"),
            Self::UnusedRule => ("rule that no entry matches", "rules that no entry matches"),
            Self::OnlyOldSitemap => ("URL that only an old sitemap knows", "URLs that only an old sitemap knows"),
            Self::SameParameters => (
                "URL that repeats another with its parameters in another order",
                "URLs that repeat others with their parameters in another order",
            ),
            Self::NoArchivePage => ("archive without a page", "archives without a page"),
            Self::AlternateNotReturned => ("translation that does not link back", "translations that do not link back"),
            Self::AlternateNotIn => ("translation that is not listed", "translations that are not listed"),
            Self::AlternateLanguage => {
                ("translation with an invalid language tag", "translations with an invalid language tag")
            }
            Self::AlternateTwice => (
                "translation into a language that another page has",
                "translations into a language that another page has",
            ),
            Self::VideoDataIncomplete => {
                ("page whose own VideoObject lacks something", "pages whose own VideoObject lacks something")
            }
            Self::VideoDataLacking => {
                ("page whose video lacks data for a VideoObject", "pages whose videos lack data for a VideoObject")
            }
            Self::UnknownPlayer => ("page with an unknown player", "pages with an unknown player"),
            Self::VideoNotWritten => (
                "video that is not written because a part is missing",
                "videos that are not written because a part is missing",
            ),
            Self::NoHead => ("page without a head", "pages without a head"),
            Self::DateNotWritten => (
                "date of change in the future or before 1990, not written",
                "dates of change in the future or before 1990, not written",
            ),
            Self::SectionShut => ("section that robots.txt shuts out", "sections that robots.txt shuts out"),
            Self::SitemapShut => ("sitemap file that robots.txt shuts out", "sitemap files that robots.txt shuts out"),
            Self::DeadSitemapLine => {
                ("Sitemap line in robots.txt that leads nowhere", "Sitemap lines in robots.txt that lead nowhere")
            }
            Self::RobotsTooLarge => ("robots.txt of more than 500 KiB", "robots.txt of more than 500 KiB"),
        }
    }

    /// What to do about it.
    pub fn advice(self) -> &'static str {
        match self {
            Self::Elsewhere => "write them as visitors reach them, or correct [site] url",
            Self::Unlinked => "only the sitemap leads there; link to them, or leave them out with a rule",
            Self::LinkedNotFound => "fix the links, or add the source that has these pages",
            Self::LinkedMisspelt => {
                "write them with the site's own scheme and host: each costs visitors and engines a redirect"
            }
            Self::LinkedRedirect => "link to their targets",
            Self::LinkedKeptOut => "visitors can find what engines must not: is that intended?",
            Self::CanonicalMisspelt => {
                "they are left out: let all pages name one scheme and host, or correct [site] url if theirs is the right one"
            }
            Self::AtOdds => "put the source that is right first, or remove the field from one of them",
            Self::RepeatsParent => "leave them out with a rule: their article is what people look for",
            Self::DateAlone => "engines stop trusting dates that change without a reason",
            Self::ContentAlone => "update the date with the content, or do not declare one",
            Self::NewSection => "a table of its own ([[section]]) gives a section a title and hints",
            Self::UnknownSection => "correct the name, or give the section a table of its own ([[section]])",
            Self::EmptySection => "check its matching: * stays within a part of the path, ** crosses slashes",
            Self::UnusedRule => "check its conditions: * stays within a part of the path, ** crosses slashes",
            Self::OnlyOldSitemap => {
                "the pages are gone, or nothing links to them: leave them out with a rule, or link to them"
            }
            Self::SameParameters => "let the site write its parameters in one order, or name one URL as canonical",
            Self::NoArchivePage => "create the page, or set assume_page = true if it exists and no source reads it",
            Self::AlternateNotReturned => "let the other page link back: one-way links are ignored",
            Self::AlternateNotIn => "link to a page that is listed, or list that one",
            Self::AlternateLanguage => "use an ISO 639-1 language, optionally with an ISO 3166-1 region: en-GB, cy",
            Self::AlternateTwice => "give each page of a group a language of its own",
            Self::VideoDataIncomplete => "fix the page; if it has a VideoObject, none is written for it",
            Self::VideoDataLacking => {
                "a VideoObject needs name, thumbnailUrl and uploadDate; add them to the page or a table"
            }
            Self::UnknownPlayer => "add the configuration shown, so that its videos are listed",
            Self::VideoNotWritten => {
                "engines require title, description, thumbnail and player or file; add them to the page or a table"
            }
            Self::NoHead => "without a head it has no title and no canonical link; the page is listed anyway",
            Self::DateNotWritten => "correct the date, or leave it out",
            Self::SectionShut => "allow its folder in robots.txt, or leave the section out: on = false",
            Self::SitemapShut => "allow it in robots.txt: engines may not fetch it",
            Self::DeadSitemapLine => "remove the line, unless another tool still writes that file",
            Self::RobotsTooLarge => "shorten it: engines need not read what comes after the first 500 KiB",
        }
    }
}

/// One example.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Example {
    /// The URL.
    pub url: String,
    /// The page that links to it.
    #[serde(skip)]
    pub page: Option<String>,
    /// Details: who links to it, what each source says.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

impl fmt::Display for Example {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.detail {
            // Lines for the configuration are printed so that they can be copied.
            Some(lines) if lines.contains('\n') => write!(formatter, "{}\n{lines}", self.url),
            Some(detail) => write!(formatter, "{} ({detail})", self.url),
            None => formatter.write_str(&self.url),
        }
    }
}

/// One kind of notice, and everything that it applies to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Noticed {
    /// Its kind.
    pub code: Notice,
    /// What it is about, if the kind alone does not say it: a host, or a field and two sources.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// What it means.
    pub words: &'static str,
    /// What to do about it.
    pub advice: &'static str,
    /// The count.
    pub count: u64,
    /// The first examples.
    pub examples: Vec<Example>,
}

impl Noticed {
    /// A notice of so many, with the first of them.
    pub fn new(code: Notice, about: Option<String>, count: u64, examples: Vec<Example>) -> Self {
        let (one, many) = code.words();
        let words = if count == 1 { one } else { many };
        Self { code, about, words, advice: code.advice(), count, examples }
    }

    /// A notice from a count; an example may have details on the line after its URL.
    pub fn of_counted(code: Notice, about: Option<String>, counted: Counted) -> Self {
        let example = |text: String| match text.split_once('\n') {
            Some((url, detail)) => Example { url: url.to_owned(), detail: Some(detail.to_owned()), page: None },
            None => Example { url: text, detail: None, page: None },
        };
        Self::new(code, about, counted.count, counted.examples.into_iter().map(example).collect())
    }
}
