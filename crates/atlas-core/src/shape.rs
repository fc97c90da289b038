//! From what was said of a page to what is written of it.

use std::borrow::Cow;

use crate::choose::Kept;
use crate::contribution::Said;
use crate::entry::Entry;
use crate::lastmod::Lastmod;

/// What of the entries of one section is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SectionShape {
    /// Pictures with the pages, at most so many of one page; 0 for none.
    pub most_images: usize,
    /// Videos with the pages.
    pub videos: bool,
}

/// What of an entry is written, by the site's settings: section by section, in the order of
/// [`Sections::list`](crate::section::Sections::list).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shape {
    /// Of each section.
    pub sections: Vec<SectionShape>,
}

impl Shape {
    /// Of one section.
    pub fn of(&self, section: usize) -> SectionShape {
        self.sections.get(section).copied().unwrap_or(SectionShape { most_images: 0, videos: false })
    }

    /// Makes the entry. `observed` is the day, counted from 1970-01-01, on which the ledger saw the page's content change.
    /// Videos that lack a required part are left out.
    pub fn entry<'a>(&self, said: &'a Said<'_>, kept: Kept, observed: Option<i32>) -> Entry<'a> {
        let SectionShape { most_images, videos } = self.of(kept.section);
        let complete = said.videos.iter().filter(|video| videos && video.lacks(&said.url).is_empty());
        Entry {
            address: Cow::Borrowed(&said.url),
            lastmod: lastmod(said, observed),
            changefreq: kept.changefreq,
            priority: kept.priority,
            images: said.images.iter().take(most_images).map(|image| Cow::Borrowed(image.as_ref())).collect(),
            videos: complete.map(|video| video.beside(&said.url)).collect(),
        }
    }
}

/// The date to write: the declared one, else the day a change was seen, else the day of publication, else none. Never the
/// time of the build, never a file's own time.
///
/// ```
/// use atlas_core::contribution::Said;
/// use atlas_core::shape::lastmod;
///
/// assert_eq!(lastmod(&Said::default(), None), None);
/// assert_eq!(lastmod(&Said::default(), Some(20_000)).unwrap().to_string(), "2024-10-04");
/// ```
pub fn lastmod(said: &Said<'_>, observed: Option<i32>) -> Option<Lastmod> {
    let seen = observed.and_then(Lastmod::from_epoch_day);
    said.modified.or_else(|| match (seen, said.published) {
        (Some(seen), Some(published)) if published.epoch_day() > seen.epoch_day() => Some(published),
        (seen, published) => seen.or(published),
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::video::Video;

    fn day(day: i32) -> Option<Lastmod> {
        Lastmod::from_epoch_day(day)
    }

    #[rstest]
    #[case::declared(day(10), day(5), Some(20), day(10))]
    #[case::seen_after_publication(None, day(5), Some(20), day(20))]
    #[case::published_after_seen(None, day(30), Some(20), day(30))]
    #[case::published(None, day(5), None, day(5))]
    #[case::unknown(None, None, None, None)]
    fn dates_are_honest_or_absent(
        #[case] modified: Option<Lastmod>,
        #[case] published: Option<Lastmod>,
        #[case] observed: Option<i32>,
        #[case] wanted: Option<Lastmod>,
    ) {
        assert_eq!(lastmod(&Said { modified, published, ..Said::default() }, observed), wanted);
    }

    #[test]
    fn leaves_out_incomplete_videos_and_surplus_pictures() {
        let said = Said {
            images: vec!["https://a.example/1".into(), "https://a.example/2".into()],
            videos: vec![Video::default()],
            ..Said::default()
        };
        let shape = Shape { sections: vec![SectionShape { most_images: 1, videos: true }; 1] };
        let kept = |section| Kept { section, changefreq: None, priority: None };
        let entry = shape.entry(&said, kept(0), None);
        assert_eq!((entry.images.len(), entry.videos.len()), (1, 0));
        assert_eq!(shape.entry(&said, kept(1), None).images.len(), 0, "a section that nobody told of writes none");
    }
}
