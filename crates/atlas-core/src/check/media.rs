//! Judging the pictures, videos and news of an entry.

use jiff::tz::TimeZone;

use super::codes::{
    FindingKind, IMAGE_NO_URL, NEWS_INCOMPLETE, NEWS_LANGUAGE, NEWS_TOO_OLD, TOO_MANY_IMAGES, VIDEO_COUNTRIES,
    VIDEO_DATE, VIDEO_DESCRIPTION, VIDEO_DURATION, VIDEO_EXPIRED, VIDEO_INCOMPLETE, VIDEO_IS_PAGE, VIDEO_NO_PLACE,
    VIDEO_NO_URL, VIDEO_PLATFORMS, VIDEO_RATING, VIDEO_TAGS, VIDEO_UPLOADER, VIDEO_VIEWS, VIDEO_YES_NO,
};
use super::entry::FileJudge;
use super::findings::excerpt;
use crate::address::{self, Address};
use crate::derive::news::{NEWS_SECONDS, is_language};
use crate::format::{RawUrl, RawVideo, VideoElement as E, VideoText};
use crate::language::is_region;
use crate::lastmod::{self, Lastmod};
use crate::number::{count, grouped};
use crate::page::MOST_IMAGES;
use crate::video::{Access, DURATIONS, MOST_TAGS, UPLOADER_LONGEST, VIDEO_DESCRIPTION_LONGEST};

impl FileJudge<'_, '_> {
    pub(super) fn media(&mut self, line: u64, url: &RawUrl<'_>, loc: &str) {
        if url.images.len() > MOST_IMAGES {
            self.find(&TOO_MANY_IMAGES, line, loc, || "more than 1,000 pictures".to_owned());
        }
        for image in url.images.iter().filter(|image| !is_url(image)) {
            self.find(&IMAGE_NO_URL, line, loc, || match image.is_empty() {
                true => "a picture without image:loc".to_owned(),
                false => format!("image:loc “{}” is not an absolute URL", excerpt(image)),
            });
        }
        url.videos.iter().for_each(|video| self.video(line, video, loc));
        self.news(line, url, loc);
    }

    fn news(&mut self, line: u64, url: &RawUrl<'_>, loc: &str) {
        let Some(news) = &url.news else { return };
        self.seen.news += 1;
        let parts = [
            (&news.publication, "news:name"),
            (&news.language, "news:language"),
            (&news.published, "news:publication_date"),
            (&news.title, "news:title"),
        ];
        for (text, name) in parts {
            if text.as_deref().is_none_or(str::is_empty) {
                self.find(&NEWS_INCOMPLETE, line, loc, || format!("an article without {name}"));
            }
        }
        if let Some(language) = news.language.as_deref().filter(|text| !text.is_empty() && !is_language(text)) {
            self.find(&NEWS_LANGUAGE, line, loc, || format!("news:language “{}”", excerpt(language)));
        }
        let text = news.published.as_deref().filter(|text| !text.is_empty());
        let published = text.and_then(|text| self.date(line, loc, text));
        if let Some(published) = published.filter(|date| self.judge.now.seconds() - date.seconds() >= NEWS_SECONDS) {
            self.find(&NEWS_TOO_OLD, line, loc, || format!("published on {published}"));
        }
    }

    fn video(&mut self, line: u64, video: &RawVideo<'_>, loc: &str) {
        let title = video.text(E::Title).map_or(String::new(), |title| format!(" “{}”", excerpt(title)));
        let has = |element| video.text(element).is_some_and(|text| !text.is_empty());
        for part in [E::Thumbnail, E::Title, E::Description].into_iter().filter(|part| !has(*part)) {
            self.find(&VIDEO_INCOMPLETE, line, loc, || format!("the video{title} has no video:{}", part.as_str()));
        }
        if !has(E::Content) && !has(E::Player) {
            self.find(&VIDEO_NO_PLACE, line, loc, || format!("the video{title} has neither file nor player"));
        }
        let tags = video.elements.iter().filter(|one| one.element == E::Tag).count();
        if tags > MOST_TAGS {
            self.find(&VIDEO_TAGS, line, loc, || format!("the video{title} has {}", count(tags as u64, "tag", "tags")));
        }
        for one in &video.elements {
            if let Some((kind, why)) = self.of_video(one, loc) {
                let name = one.element.as_str();
                self.find(kind, line, loc, || format!("video:{name} {why}"));
            }
        }
    }

    /// What is wrong with one element of a video.
    fn of_video(&self, one: &VideoText<'_>, loc: &str) -> Option<(&'static FindingKind, String)> {
        let text = one.text.as_ref();
        let said = || format!("“{}”", excerpt(text));
        let wrong = |is_wrong: bool, kind: &'static FindingKind| is_wrong.then(|| (kind, said()));
        let letters = text.chars().count();
        match one.element {
            E::Content | E::Player if text == loc => Some((&VIDEO_IS_PAGE, "is the page itself".to_owned())),
            E::Thumbnail | E::Content | E::Player if !text.is_empty() => wrong(!is_url(text), &VIDEO_NO_URL),
            E::Thumbnail | E::Content | E::Player | E::Title | E::Tag => None,
            E::Description => (letters > VIDEO_DESCRIPTION_LONGEST)
                .then(|| (&VIDEO_DESCRIPTION, format!("has {} characters", grouped(letters as u64)))),
            E::Duration => wrong(!text.parse().is_ok_and(|seconds| DURATIONS.contains(&seconds)), &VIDEO_DURATION),
            E::Rating => wrong(!text.parse().is_ok_and(|rating: f64| (0.0..=5.0).contains(&rating)), &VIDEO_RATING),
            E::ViewCount => wrong(text.parse::<u64>().is_err(), &VIDEO_VIEWS),
            E::Expiration | E::Publication => {
                let date = Lastmod::read(text, &TimeZone::UTC).filter(|_| lastmod::is_schema_form(text));
                let Some(date) = date else { return Some((&VIDEO_DATE, said())) };
                let is_over = one.element == E::Expiration && date.seconds() < self.judge.now.seconds();
                is_over.then(|| (&VIDEO_EXPIRED, format!("{text} has passed")))
            }
            E::FamilyFriendly | E::Subscription | E::Live => wrong(!matches!(text, "yes" | "no"), &VIDEO_YES_NO),
            E::Restriction => self.access(one, is_region).map(|why| (&VIDEO_COUNTRIES, why)),
            E::Platform => {
                self.access(one, |name| matches!(name, "web" | "mobile" | "tv")).map(|why| (&VIDEO_PLATFORMS, why))
            }
            E::Uploader if letters > UPLOADER_LONGEST => {
                Some((&VIDEO_UPLOADER, format!("has {} characters", grouped(letters as u64))))
            }
            E::Uploader => {
                let info = one.detail.as_deref().filter(|info| address::origin(info) != address::origin(loc))?;
                Some((&VIDEO_UPLOADER, format!("has the info {info}, which is on another host")))
            }
        }
    }

    /// What is wrong with where a video is available.
    fn access(&self, one: &VideoText<'_>, is_known: impl Fn(&str) -> bool) -> Option<String> {
        let relationship = one.detail.as_deref().unwrap_or_default();
        let Some(access) = Access::new(relationship, &one.text) else {
            return Some(format!("has the relationship “{}”, not allow or deny", excerpt(relationship)));
        };
        let unknown = access.names.split(' ').find(|name| !is_known(name))?;
        Some(format!("names “{}”", excerpt(unknown)))
    }
}

/// Whether a text is an absolute URL, percent-encoded.
fn is_url(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_graphic()) && Address::parse(text).is_ok()
}
