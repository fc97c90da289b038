//! The output policy: which parts of a contribution are written, and into which kind of file.

use std::borrow::Cow;

use crate::address;
use crate::calendar::Calendar;
use crate::choose::Kept;
use crate::contribution::Contribution;
use crate::derive::news::News;
use crate::entry::{DatePolicy, Entry};
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::placement::FileKind;
use serde::Serialize;

/// Where pictures or videos are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub enum Media {
    /// Nowhere.
    #[default]
    Off,
    /// With the pages that contain them.
    WithPages,
    /// In files of their own.
    OwnFiles,
}

/// The hosts whose pictures or videos are written.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub enum Hosts {
    /// All hosts.
    #[default]
    All,
    /// These hosts; a name that begins with `*.` covers all hosts below it.
    Listed(Vec<String>),
}

impl Hosts {
    /// Whether the picture or video at an address is written.
    ///
    /// ```
    /// use atlas_core::output_policy::Hosts;
    ///
    /// let hosts = Hosts::Listed(vec!["www.marrowvale.example".into(), "*.weirfilms.example".into()]);
    /// assert!(hosts.hold("https://www.marrowvale.example/a.svg") && hosts.hold("https://player.weirfilms.example/7"));
    /// assert!(!hosts.hold("https://pictures.example/a.svg"));
    /// ```
    pub fn hold(&self, url: &str) -> bool {
        let Self::Listed(names) = self else { return true };
        let host = address::host(url);
        let host = host.split(':').next().unwrap_or(host);
        names.iter().any(|name| match name.strip_prefix('*') {
            Some(below) => host.ends_with(below),
            None => host == name,
        })
    }
}

/// What is written for the entries of one section.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct SectionPolicy {
    /// Where pictures go.
    pub images: Media,
    /// The most pictures written for one entry.
    pub most_images: usize,
    /// The hosts whose pictures are written.
    pub image_hosts: Hosts,
    /// Where videos go.
    pub videos: Media,
    /// The most videos written for one entry.
    pub most_videos: usize,
    /// The hosts whose videos are written: the host of the player, else that of the file.
    pub video_hosts: Hosts,
    /// The publication of its articles, if they are news.
    pub news: Option<News>,
}

/// What is written for an entry, section by section in the order of [`Sections::list`](crate::choose::Sections::list).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutputPolicy {
    /// The policy of each section.
    pub sections: Vec<SectionPolicy>,
    /// The policy of sections beyond these, which rows make.
    pub usual: SectionPolicy,
    /// The instant of the run and the site's zone. What was published within the two days before is news.
    pub calendar: Calendar,
}

impl OutputPolicy {
    /// The policy of one section.
    pub fn of(&self, section: usize) -> &SectionPolicy {
        self.sections.get(section).unwrap_or(&self.usual)
    }

    /// The kinds of file, besides pages, that contain an entry.
    pub fn own_files(&self, contribution: &Contribution<'_>, section: usize) -> impl Iterator<Item = FileKind> {
        let policy = self.of(section);
        let images = policy.images == Media::OwnFiles && self.images(contribution, policy).next().is_some();
        let videos = policy.videos == Media::OwnFiles && self.videos(contribution, policy).next().is_some();
        let news = policy.news.as_ref().is_some_and(|news| news.article(contribution, &self.calendar).is_some());
        [(images, FileKind::Images), (videos, FileKind::Videos), (news, FileKind::News)]
            .into_iter()
            .filter_map(|(wanted, kind)| wanted.then_some(kind))
    }

    /// Makes the entry for one kind of file. `observed` is the day, counted from 1970-01-01, on which the ledger saw
    /// the page's content change; `group` is its group of translations. Videos that lack a required part are left out.
    /// Only pages files have dates, hints and alternates, so that other files need not be rewritten because of them.
    pub fn entry<'a>(
        &'a self,
        contribution: &'a Contribution<'_>,
        kept: Kept,
        observed: Option<i32>,
        group: Vec<Alternate<'a>>,
        kind: FileKind,
    ) -> Entry<'a> {
        let policy = self.of(usize::from(kept.section));
        let goes = |media: Media| match kind {
            FileKind::Pages => media == Media::WithPages,
            FileKind::News => false,
            FileKind::Images | FileKind::Videos => media == Media::OwnFiles,
        };
        let mut entry = Entry::at(Cow::Borrowed(&contribution.url));
        if kind != FileKind::Videos && goes(policy.images) {
            entry.images = self.images(contribution, policy).map(Cow::Borrowed).collect();
        }
        if kind != FileKind::Images && goes(policy.videos) {
            entry.videos = self.videos(contribution, policy).map(|video| video.beside(&contribution.url)).collect();
        }
        match kind {
            FileKind::Pages => {
                entry.lastmod = lastmod(contribution, observed, kept.date_policy, &self.calendar);
                entry.changefreq = kept.changefreq;
                entry.priority = kept.priority;
                entry.alternates = group;
            }
            FileKind::News => {
                entry.news = policy.news.as_ref().and_then(|news| news.article(contribution, &self.calendar))
            }
            FileKind::Images | FileKind::Videos => {}
        }
        entry
    }

    fn images<'a>(
        &self,
        contribution: &'a Contribution<'_>,
        policy: &'a SectionPolicy,
    ) -> impl Iterator<Item = &'a str> + use<'a> {
        let most = if policy.images == Media::Off { 0 } else { policy.most_images };
        contribution.images.iter().map(Cow::as_ref).filter(|image| policy.image_hosts.hold(image)).take(most)
    }

    fn videos<'a>(
        &self,
        contribution: &'a Contribution<'_>,
        policy: &'a SectionPolicy,
    ) -> impl Iterator<Item = &'a crate::video::Video> + use<'a> {
        let most = if policy.videos == Media::Off { 0 } else { policy.most_videos };
        let place = |video: &'a crate::video::Video| video.player_loc.as_deref().or(video.content_loc.as_deref());
        let wanted = move |video: &&'a crate::video::Video| {
            video.lacks(&contribution.url).is_empty() && place(video).is_none_or(|place| policy.video_hosts.hold(place))
        };
        contribution.videos.iter().filter(wanted).take(most)
    }

    /// The numbers of pictures and videos written for an entry, in any kind of file.
    pub fn media(&self, contribution: &Contribution<'_>, section: usize) -> (u64, u64) {
        let policy = self.of(section);
        (self.images(contribution, policy).count() as u64, self.videos(contribution, policy).count() as u64)
    }
}

/// The date to write: normally the declared date, else the day on which a change was seen (or the date in a sitemap
/// that was replaced), else the publication date, else none. It is never the time of the build or the time of a file,
/// and never in the future or older than the web (see [`Calendar::may_be_written`]).
///
/// ```
/// use atlas_core::calendar::Calendar;
/// use atlas_core::contribution::Contribution;
/// use atlas_core::entry::DatePolicy;
/// use atlas_core::output_policy::lastmod;
///
/// let (contribution, calendar) = (Contribution::default(), Calendar::utc(1_795_392_000));
/// assert_eq!(lastmod(&contribution, None, DatePolicy::Usual, &calendar), None);
/// assert_eq!(lastmod(&contribution, Some(20_000), DatePolicy::Usual, &calendar).unwrap().to_string(), "2024-10-04");
/// assert_eq!(lastmod(&contribution, Some(20_000), DatePolicy::None, &calendar), None);
/// ```
pub fn lastmod(
    contribution: &Contribution<'_>,
    observed: Option<i32>,
    policy: DatePolicy,
    calendar: &Calendar,
) -> Option<Lastmod> {
    let honest = |date: Option<Lastmod>| date.filter(|date| calendar.may_be_written(date));
    let seen = || {
        let recorded = honest(contribution.recorded);
        let seen = observed.and_then(Lastmod::from_epoch_day);
        let seen = match (seen, recorded) {
            (Some(seen), Some(recorded)) if recorded.epoch_day() > seen.epoch_day() => Some(recorded),
            (seen, recorded) => seen.or(recorded),
        };
        match (seen, honest(contribution.published)) {
            (Some(seen), Some(published)) if published.epoch_day() > seen.epoch_day() => Some(published),
            (seen, published) => seen.or(published),
        }
    };
    match policy {
        DatePolicy::Usual => honest(contribution.modified).or_else(seen),
        DatePolicy::Declared => honest(contribution.modified),
        DatePolicy::Seen => seen(),
        DatePolicy::None => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::video::Video;

    /// The day with this number; 2024-01-01 is day 19,723.
    fn day(day: i32) -> Option<Lastmod> {
        Lastmod::from_epoch_day(19_723 + day)
    }

    #[rstest]
    #[case::declared(day(10), day(5), Some(20), DatePolicy::Usual, day(10))]
    #[case::seen_after_publication(None, day(5), Some(20), DatePolicy::Usual, day(20))]
    #[case::published_after_seen(None, day(30), Some(20), DatePolicy::Usual, day(30))]
    #[case::published(None, day(5), None, DatePolicy::Usual, day(5))]
    #[case::unknown(None, None, None, DatePolicy::Usual, None)]
    #[case::only_declared(None, day(5), Some(20), DatePolicy::Declared, None)]
    #[case::only_seen(day(10), day(5), Some(20), DatePolicy::Seen, day(20))]
    #[case::no_date(day(10), day(5), Some(20), DatePolicy::None, None)]
    #[case::to_come(day(400), day(5), Some(20), DatePolicy::Usual, day(20))]
    #[case::to_come_and_nothing_else(day(400), None, None, DatePolicy::Declared, None)]
    #[case::older_than_the_web(Lastmod::from_epoch_day(0), None, None, DatePolicy::Usual, None)]
    fn dates_are_honest_or_absent(
        #[case] modified: Option<Lastmod>,
        #[case] published: Option<Lastmod>,
        #[case] observed: Option<i32>,
        #[case] policy: DatePolicy,
        #[case] wanted: Option<Lastmod>,
    ) {
        let calendar = Calendar::utc((19_723 + 300) * 86_400);
        let observed = observed.map(|day| 19_723 + day);
        assert_eq!(
            lastmod(&Contribution { modified, published, ..Contribution::default() }, observed, policy, &calendar),
            wanted
        );
    }

    /// The date in a sitemap that was replaced holds until something newer is known.
    #[rstest]
    #[case::alone(None, None, day(15))]
    #[case::a_change_was_seen(None, Some(20), day(20))]
    #[case::a_change_was_seen_before(None, Some(10), day(15))]
    #[case::declared(day(5), Some(20), day(5))]
    fn recorded_dates(
        #[case] modified: Option<Lastmod>,
        #[case] observed: Option<i32>,
        #[case] wanted: Option<Lastmod>,
    ) {
        let contribution = Contribution { modified, recorded: day(15), ..Contribution::default() };
        let observed = observed.map(|day| 19_723 + day);
        let calendar = Calendar::utc((19_723 + 300) * 86_400);
        assert_eq!(lastmod(&contribution, observed, DatePolicy::Usual, &calendar), wanted);
    }

    fn contribution() -> Contribution<'static> {
        let film = Video {
            thumbnail_loc: Some("https://a.example/t".into()),
            title: Some("Weir curve".into()),
            description: Some("From the cab".into()),
            content_loc: Some("https://a.example/f".into()),
            ..Video::default()
        };
        Contribution {
            url: "https://www.marrowvale.example/news/weir/".into(),
            title: Some("Weir path closed".into()),
            images: vec!["https://a.example/1".into(), "https://a.example/2".into()],
            videos: vec![
                Video::default(),
                film.clone(),
                Video { content_loc: Some("https://a.example/g".into()), ..film },
            ],
            published: Lastmod::from_epoch_day(20_000),
            ..Contribution::default()
        }
    }

    fn kept(section: u16) -> Kept {
        Kept { section, changefreq: None, priority: None, date_policy: DatePolicy::Usual, announce: true }
    }

    /// The contents of each kind of file: pictures, videos, and whether it has a date and is news.
    #[rstest]
    #[case::off(Media::Off, Media::Off, &[(FileKind::Pages, 0, 0, true, false)])]
    #[case::with(Media::WithPages, Media::WithPages, &[(FileKind::Pages, 1, 1, true, false)])]
    #[case::own(Media::OwnFiles, Media::OwnFiles, &[
        (FileKind::Pages, 0, 0, true, false), (FileKind::Images, 1, 0, false, false), (FileKind::Videos, 0, 1, false, false),
    ])]
    #[case::mixed(Media::OwnFiles, Media::WithPages, &[
        (FileKind::Pages, 0, 1, true, false), (FileKind::Images, 1, 0, false, false),
    ])]
    fn each_kind_of_file_has_its_part(
        #[case] images: Media,
        #[case] videos: Media,
        #[case] wanted: &[(FileKind, usize, usize, bool, bool)],
        #[values(false, true)] news: bool,
    ) {
        let news = news.then(|| News { publication: "Vale Gazette".into(), language: "en".into() });
        let of = SectionPolicy {
            images,
            most_images: 1,
            videos,
            most_videos: 1,
            news: news.clone(),
            ..SectionPolicy::default()
        };
        let policy = OutputPolicy {
            sections: vec![of],
            usual: SectionPolicy::default(),
            calendar: Calendar::utc(20_001 * 86_400),
        };
        let contribution = contribution();
        let kinds = std::iter::once(FileKind::Pages).chain(policy.own_files(&contribution, 0));
        let found: Vec<_> = kinds
            .map(|kind| {
                let entry = policy.entry(&contribution, kept(0), None, Vec::new(), kind);
                (kind, entry.images.len(), entry.videos.len(), entry.lastmod.is_some(), entry.news.is_some())
            })
            .collect();
        let mut wanted = wanted.to_vec();
        wanted.extend(news.map(|_| (FileKind::News, 0, 0, false, true)));
        assert_eq!(found, wanted);
        assert_eq!(policy.own_files(&contribution, 7).count(), 0, "an unknown section has no files of its own");
    }
}
