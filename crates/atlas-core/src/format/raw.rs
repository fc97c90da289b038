//! The contents of a sitemap file as text, before they are judged.

use crate::language::Alternate;
use crate::video::Video;

/// One `url` element as found in a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RawUrl {
    /// The line of its start tag, counted from 1.
    pub line: u64,
    /// The text of `loc`.
    pub loc: Option<String>,
    /// The text of `lastmod`.
    pub lastmod: Option<String>,
    /// The text of `changefreq`.
    pub changefreq: Option<String>,
    /// The text of `priority`.
    pub priority: Option<String>,
    /// The texts of `image:loc`.
    pub images: Vec<String>,
    /// Videos.
    pub videos: Vec<Video>,
    /// The same page in other languages: `xhtml:link rel="alternate"`.
    pub alternates: Vec<Alternate<'static>>,
    /// The contents of `news:news`.
    pub news: RawNews,
    /// The name of the first element that the protocol or an extension defines but that is not in its namespace here,
    /// as written (`image:image`). Such elements are not read.
    pub misplaced: Option<String>,
}

/// One `news:news` element as found in a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RawNews {
    /// The text of `news:name`.
    pub publication: Option<String>,
    /// The text of `news:publication_date`.
    pub published: Option<String>,
    /// The text of `news:title`.
    pub title: Option<String>,
    /// The text of `news:language`.
    pub language: Option<String>,
}

/// One `sitemap` element as found in an index.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RawSitemap {
    /// The line of its start tag, counted from 1.
    pub line: u64,
    /// The text of `loc`.
    pub loc: Option<String>,
    /// The text of `lastmod`.
    pub lastmod: Option<String>,
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use super::*;
    use crate::entry::{Entry, NewsArticle, Priority};
    use crate::lastmod::Lastmod;

    impl RawUrl {
        /// The element as an entry, without what the protocol does not allow. `None` if it has no `loc`.
        pub(crate) fn into_entry(self) -> Option<Entry<'static>> {
            Some(Entry {
                address: Cow::Owned(self.loc?),
                lastmod: self.lastmod.and_then(|text| Lastmod::read(&text, &jiff::tz::TimeZone::UTC)),
                changefreq: self.changefreq.and_then(|text| text.parse().ok()),
                priority: self.priority.and_then(|text| Priority::new(text.parse().ok()?)),
                images: self.images.into_iter().map(Cow::Owned).collect(),
                videos: self.videos,
                news: self.news.into_article(),
                alternates: self.alternates,
            })
        }
    }

    impl RawNews {
        /// The element as an article; `None` if a required part is missing.
        fn into_article(self) -> Option<NewsArticle<'static>> {
            Some(NewsArticle {
                publication: self.publication?.into(),
                language: self.language?.into(),
                published: Lastmod::read(&self.published?, &jiff::tz::TimeZone::UTC)?,
                title: self.title?.into(),
            })
        }
    }
}
