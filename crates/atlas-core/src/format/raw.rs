//! The contents of a sitemap file as text, before they are judged. The texts borrow from the file where they can.

use std::borrow::Cow;

use super::elements::VideoElement;
use super::oddity::{Oddity, OddityKind};
use crate::language::Alternate;
use crate::video::{Access, MOST_TAGS, Video, read_yes_or_no};

/// One `url` element as found in a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RawUrl<'a> {
    /// The line of its start tag, counted from 1.
    pub line: u64,
    /// The text of `loc`.
    pub loc: Option<Cow<'a, str>>,
    /// The text of `lastmod`.
    pub lastmod: Option<Cow<'a, str>>,
    /// The text of `changefreq`.
    pub changefreq: Option<Cow<'a, str>>,
    /// The text of `priority`.
    pub priority: Option<Cow<'a, str>>,
    /// The texts of `image:loc`; one is empty if an `image:image` has none.
    pub images: Vec<Cow<'a, str>>,
    /// Videos.
    pub videos: Vec<RawVideo<'a>>,
    /// The same page in other languages: `xhtml:link rel="alternate"`.
    pub alternates: Vec<Alternate<'static>>,
    /// The contents of `news:news`, if there is one.
    pub news: Option<RawNews<'a>>,
    /// Elements in it that are not as the protocol and its extensions define them.
    pub oddities: Vec<Oddity>,
}

impl RawUrl<'_> {
    /// The name of the first element that the protocol or an extension defines but that is not in its namespace here,
    /// as written (`image:image`). Such elements are not read.
    pub fn misplaced(&self) -> Option<&str> {
        let mut misplaced = self.oddities.iter().filter(|oddity| oddity.kind == OddityKind::Misplaced);
        misplaced.next().map(|oddity| oddity.name.as_str())
    }

    /// The same element with texts of its own.
    pub fn into_owned(self) -> RawUrl<'static> {
        let owned = |text: Option<Cow<'_, str>>| text.map(|text| Cow::Owned(text.into_owned()));
        RawUrl {
            line: self.line,
            loc: owned(self.loc),
            lastmod: owned(self.lastmod),
            changefreq: owned(self.changefreq),
            priority: owned(self.priority),
            images: self.images.into_iter().map(|image| Cow::Owned(image.into_owned())).collect(),
            videos: self.videos.into_iter().map(RawVideo::into_owned).collect(),
            alternates: self.alternates,
            news: self.news.map(RawNews::into_owned),
            oddities: self.oddities,
        }
    }
}

/// One element of a video as found in a file: which one, its text, and the attribute that belongs to it.
#[derive(Debug, Clone, PartialEq)]
pub struct VideoText<'a> {
    /// Which element.
    pub element: VideoElement,
    /// Its text.
    pub text: Cow<'a, str>,
    /// The value of `relationship` or `info`.
    pub detail: Option<String>,
}

/// One `video:video` element as found in a file: its elements in their order.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RawVideo<'a> {
    /// Its elements.
    pub elements: Vec<VideoText<'a>>,
}

impl RawVideo<'_> {
    /// The text of the first element of a kind.
    pub fn text(&self, element: VideoElement) -> Option<&str> {
        self.elements.iter().find(|one| one.element == element).map(|one| one.text.as_ref())
    }

    fn into_owned(self) -> RawVideo<'static> {
        let elements = self.elements.into_iter().map(|one| VideoText {
            text: Cow::Owned(one.text.into_owned()),
            element: one.element,
            detail: one.detail,
        });
        RawVideo { elements: elements.collect() }
    }

    /// The video that the elements describe; values that cannot be read are left out.
    pub fn to_video(&self) -> Video {
        use VideoElement as V;
        let mut video = Video::default();
        for VideoText { element, text, detail } in &self.elements {
            let owned = || Some(text.to_string());
            let detail = detail.as_deref().unwrap_or_default();
            match element {
                V::Thumbnail => video.thumbnail_loc = owned(),
                V::Title => video.title = owned(),
                V::Description => video.description = owned(),
                V::Content => video.content_loc = owned(),
                V::Player => video.player_loc = owned(),
                V::Duration => video.duration = text.parse().ok(),
                V::Expiration => video.expiration_date = owned(),
                V::Rating => video.rating = text.parse().ok(),
                V::ViewCount => video.view_count = text.parse().ok(),
                V::Publication => video.publication_date = owned(),
                V::Tag if video.tags.len() <= MOST_TAGS => video.tags.push(text.to_string()),
                V::Tag => {}
                V::FamilyFriendly => video.family_friendly = read_yes_or_no(text),
                V::Restriction => video.restriction = Access::new(detail, text),
                V::Subscription => video.requires_subscription = read_yes_or_no(text),
                V::Uploader => {
                    video.uploader = owned();
                    video.uploader_info = Some(detail.to_owned()).filter(|info| !info.is_empty());
                }
                V::Platform => video.platform = Access::new(detail, text),
                V::Live => video.live = read_yes_or_no(text),
            }
        }
        video
    }
}

/// One `news:news` element as found in a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RawNews<'a> {
    /// The text of `news:name`.
    pub publication: Option<Cow<'a, str>>,
    /// The text of `news:publication_date`.
    pub published: Option<Cow<'a, str>>,
    /// The text of `news:title`.
    pub title: Option<Cow<'a, str>>,
    /// The text of `news:language`.
    pub language: Option<Cow<'a, str>>,
}

impl RawNews<'_> {
    fn into_owned(self) -> RawNews<'static> {
        let owned = |text: Option<Cow<'_, str>>| text.map(|text| Cow::Owned(text.into_owned()));
        RawNews {
            publication: owned(self.publication),
            published: owned(self.published),
            title: owned(self.title),
            language: owned(self.language),
        }
    }
}

/// One `sitemap` element as found in an index.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RawSitemap<'a> {
    /// The line of its start tag, counted from 1.
    pub line: u64,
    /// The text of `loc`.
    pub loc: Option<Cow<'a, str>>,
    /// The text of `lastmod`.
    pub lastmod: Option<Cow<'a, str>>,
    /// Elements in it that are not as the protocol defines them.
    pub oddities: Vec<Oddity>,
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use super::*;
    use crate::entry::{Entry, NewsArticle, Priority};
    use crate::lastmod::Lastmod;

    impl RawUrl<'_> {
        /// The element as an entry, without what the protocol does not allow. `None` if it has no `loc`.
        pub(crate) fn into_entry(self) -> Option<Entry<'static>> {
            Some(Entry {
                address: Cow::Owned(self.loc?.into_owned()),
                lastmod: self.lastmod.and_then(|text| Lastmod::read(&text, &jiff::tz::TimeZone::UTC)),
                changefreq: self.changefreq.and_then(|text| text.parse().ok()),
                priority: self.priority.and_then(|text| Priority::new(text.parse().ok()?)),
                images: self.images.into_iter().map(|image| Cow::Owned(image.into_owned())).collect(),
                videos: self.videos.iter().map(RawVideo::to_video).collect(),
                news: self.news.and_then(RawNews::into_article),
                alternates: self.alternates,
            })
        }
    }

    impl RawNews<'_> {
        /// The element as an article; `None` if a required part is missing.
        fn into_article(self) -> Option<NewsArticle<'static>> {
            Some(NewsArticle {
                publication: self.publication?.into_owned().into(),
                language: self.language?.into_owned().into(),
                published: Lastmod::read(&self.published?, &jiff::tz::TimeZone::UTC)?,
                title: self.title?.into_owned().into(),
            })
        }
    }
}
