//! Archives: pages that exist because entries share something, such as a tag or a month. Their URLs, dates and sizes
//! are derived from the entries.
//!
//! [`ArchiveTally`] is fed every entry that is kept and yields the pages of all archives, which then settle and are
//! chosen like any other entry.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use jiff::tz::TimeZone;
use serde::{Serialize, Serializer};

use crate::address::{Address, AddressError, Site};
use crate::contribution::Contribution;
use crate::entry::Priority;
use crate::hint::{Hints, by_share};
use crate::lastmod::Lastmod;

/// What the entries of an archive share.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub enum By {
    /// Category.
    Category,
    /// Tag.
    Tag,
    /// Author.
    Author,
    /// Year of publication.
    Year,
    /// Month of publication.
    Month,
    /// Week of publication (ISO 8601: it begins on Monday and belongs to the year of its Thursday).
    Week,
    /// Day of publication.
    Day,
}

impl By {
    /// All kinds.
    pub const ALL: [Self; 7] =
        [Self::Category, Self::Tag, Self::Author, Self::Year, Self::Month, Self::Week, Self::Day];

    /// The word for it in the configuration.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Category => "category",
            Self::Tag => "tag",
            Self::Author => "author",
            Self::Year => "year",
            Self::Month => "month",
            Self::Week => "week",
            Self::Day => "day",
        }
    }

    /// The placeholders that its URL pattern may contain: names in braces.
    pub fn placeholders(self) -> &'static [&'static str] {
        match self {
            Self::Category | Self::Tag | Self::Author => &["slug", "name"],
            Self::Year => &["year"],
            Self::Month => &["year", "month"],
            Self::Week => &["year", "week"],
            Self::Day => &["year", "month", "day"],
        }
    }

    /// The names of the archives of this kind that contain an entry: `Boiler days`, `2026`, `2026-11`, `2026-W48`,
    /// `2026-11-23`. Days are those of `zone`.
    pub fn names<'a>(self, contribution: &'a Contribution<'_>, zone: &TimeZone) -> Vec<Cow<'a, str>> {
        let borrowed = |names: &'a [Cow<'_, str>]| names.iter().map(|name| Cow::Borrowed(name.as_ref())).collect();
        match self {
            Self::Category => borrowed(&contribution.categories),
            Self::Tag => borrowed(&contribution.tags),
            Self::Author => borrowed(&contribution.authors),
            _ => contribution
                .published
                .and_then(|date| self.of_day(&date.at(zone)))
                .map(Cow::Owned)
                .into_iter()
                .collect(),
        }
    }

    fn of_day(self, date: &Lastmod) -> Option<String> {
        Lastmod::from_epoch_day(date.epoch_day())?.format(match self {
            Self::Year => "%Y",
            Self::Month => "%Y-%m",
            Self::Week => "%G-W%V",
            _ => "%Y-%m-%d",
        })
    }

    /// The slug in an [`ArchivePage::archive`], if the archive is of this kind.
    pub(crate) fn of_archive(self, archive: &str) -> Option<&str> {
        let (by, rest) = archive.split_once(' ')?;
        (by == self.as_str()).then(|| rest.split(' ').next().unwrap_or(rest))
    }
}

/// A name as it is written in URLs: letters and digits of any script in lower case, joined by single hyphens.
///
/// ```
/// assert_eq!(atlas_core::archive::slug("Cab rides & Films"), "cab-rides-films");
/// assert_eq!(atlas_core::archive::slug("Brân Fach"), "brân-fach");
/// ```
pub fn slug(name: &str) -> String {
    let mut slug = String::with_capacity(name.len());
    for letter in name.chars() {
        if letter.is_alphanumeric() {
            slug.extend(letter.to_lowercase());
        } else if !slug.is_empty() && !slug.ends_with('-') {
            slug.push('-');
        }
    }
    slug.truncate(slug.trim_end_matches('-').len());
    slug
}

/// The slug in plain ASCII: accents dropped, other scripts transliterated.
///
/// ```
/// assert_eq!(atlas_core::archive::ascii_slug("Brân Fach"), "bran-fach");
/// ```
pub fn ascii_slug(name: &str) -> String {
    slug(&deunicode::deunicode(name))
}

/// One kind of archive that the site has.
#[derive(Debug, Clone, Serialize)]
pub struct Archive {
    /// What its entries share.
    pub by: By,
    /// The section whose entries it covers; `None` for all.
    pub of: Option<String>,
    /// The section of its pages, whatever their paths match.
    pub into: Option<String>,
    /// The pattern of its URLs: a path of the site, or a URL, with [placeholders](By::placeholders) in braces.
    pub url: String,
    /// The hints and date policy of its pages.
    pub hints: Hints,
    /// Whether its pages are assumed to exist even if the site's pages are known and they are not among them.
    pub assume_page: bool,
    /// Whether names are written in plain ASCII in its URLs.
    pub ascii_slugs: bool,
}

impl Archive {
    /// An archive with only its required settings.
    pub fn new(by: By, url: &str) -> Self {
        Self {
            by,
            of: None,
            into: None,
            url: url.to_owned(),
            hints: Hints::default(),
            assume_page: false,
            ascii_slugs: false,
        }
    }

    /// The name of one of its pages: `category boiler-days`, `month 2026-11 in journal`.
    fn named(&self, slug: &str) -> String {
        match &self.of {
            Some(section) => format!("{} {slug} in {section}", self.by.as_str()),
            None => format!("{} {slug}", self.by.as_str()),
        }
    }

    fn address(&self, site: &Site, slug: &str, name: &str) -> Result<Address, AddressError> {
        let mut parts = slug.split('-');
        let mut part = || parts.next().unwrap_or_default().trim_start_matches(['w', 'W']).to_owned();
        let encoded = |text: &str| crate::address::encode_path(text);
        let year = part();
        let (month_or_week, day) = (part(), part());
        let filled = self
            .url
            .replace("{slug}", &encoded(slug))
            .replace("{name}", &encoded(name).replace('/', "%2F"))
            .replace("{year}", &year)
            .replace("{month}", &month_or_week)
            .replace("{week}", &month_or_week)
            .replace("{day}", &day);
        site.address(&filled)
    }
}

/// All archives of a site.
#[derive(Debug, Clone)]
pub struct Archives {
    list: Vec<Archive>,
    zone: TimeZone,
}

impl Serialize for Archives {
    /// Serializes the list, and the zone by its name.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        (&self.list, self.zone.iana_name()).serialize(serializer)
    }
}

impl Default for Archives {
    fn default() -> Self {
        Self::new(Vec::new(), TimeZone::UTC)
    }
}

impl Archives {
    /// The archives in the configuration; days are those of `zone`.
    pub fn new(list: Vec<Archive>, zone: TimeZone) -> Self {
        Self { list, zone }
    }

    /// Whether the site has no archives.
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// The archive that an entry is a page of.
    pub fn of(&self, contribution: &Contribution<'_>) -> Option<&Archive> {
        let archive = contribution.archive.as_deref()?;
        self.list.iter().find(|one| one.by.of_archive(archive).is_some_and(|slug| one.named(slug) == archive))
    }

    /// Begins to count entries by archive.
    pub fn tally(&self) -> ArchiveTally<'_> {
        ArchiveTally { archives: &self.list, zone: &self.zone, groups: BTreeMap::new() }
    }
}

/// The counts of one archive.
#[derive(Debug, Clone, Default)]
struct ArchiveCount {
    name: String,
    members: u64,
    newest: Option<Lastmod>,
}

/// The count of one archive, as it is passed on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CountedArchive<'a> {
    /// The position of its kind in the configuration.
    pub kind: usize,
    /// Its name as it is written in URLs.
    pub slug: &'a str,
    /// What its entries share, as they write it.
    pub name: &'a str,
    /// The number of its entries.
    pub members: u64,
    /// The newest date among its entries.
    pub newest: Option<Lastmod>,
}

/// Counts entries by archive. The result does not depend on the order of the entries.
#[derive(Debug)]
pub struct ArchiveTally<'a> {
    archives: &'a [Archive],
    zone: &'a TimeZone,
    groups: BTreeMap<(usize, String), ArchiveCount>,
}

impl ArchiveTally<'_> {
    /// Counts an entry of a section, with the date that is written for it.
    pub fn add(&mut self, contribution: &Contribution<'_>, section: &str, date: Option<Lastmod>) {
        for (at, archive) in self.archives.iter().enumerate() {
            if archive.of.as_deref().is_some_and(|wanted| wanted != section) {
                continue;
            }
            let mut seen = BTreeSet::new();
            for name in archive.by.names(contribution, self.zone) {
                let slug = if archive.ascii_slugs { ascii_slug(&name) } else { slug(&name) };
                if slug.is_empty() || seen.contains(&slug) {
                    continue;
                }
                self.add_counted(CountedArchive { kind: at, slug: &slug, name: &name, members: 1, newest: date });
                seen.insert(slug);
            }
        }
    }

    /// Adds the counts of another tally.
    pub fn join(&mut self, other: Self) {
        other.counts().for_each(|counted| self.add_counted(counted));
    }

    /// Adds entries of one archive that have been counted.
    pub fn add_counted(&mut self, counted: CountedArchive<'_>) {
        let CountedArchive { kind, slug, name, members, newest } = counted;
        let group = self.groups.entry((kind, slug.to_owned())).or_default();
        // Of two spellings of a name the smaller wins, whichever comes first.
        if group.name.is_empty() || *name < *group.name {
            name.clone_into(&mut group.name);
        }
        group.members += members;
        if newest.map(|date| date.seconds()) > group.newest.map(|date| date.seconds()) {
            group.newest = newest;
        }
    }

    /// The counts of all archives.
    pub fn counts(&self) -> impl Iterator<Item = CountedArchive<'_>> {
        self.groups.iter().map(|((kind, slug), group)| CountedArchive {
            kind: *kind,
            slug,
            name: &group.name,
            members: group.members,
            newest: group.newest,
        })
    }

    /// The pages of all archives, as a source would give them, and the URLs that are not valid addresses.
    pub fn pages(&self, site: &Site) -> (Vec<ArchivePage>, Vec<(String, AddressError)>) {
        let mut largest: BTreeMap<usize, u64> = BTreeMap::new();
        for ((at, _), group) in &self.groups {
            let most = largest.entry(*at).or_default();
            *most = group.members.max(*most);
        }
        let (mut pages, mut troubles) = (Vec::new(), Vec::new());
        for ((at, slug), group) in &self.groups {
            let archive = &self.archives[*at];
            match archive.address(site, slug, &group.name) {
                Err(why) => troubles.push((group.name.clone(), why)),
                Ok(address) => pages.push(ArchivePage {
                    address,
                    archive: archive.named(slug),
                    title: group.name.clone(),
                    members: group.members,
                    newest: group.newest,
                    share: by_share(group.members, largest[at]),
                    assume_page: archive.assume_page,
                }),
            }
        }
        (pages, troubles)
    }
}

/// One page of an archive.
#[derive(Debug, Clone, PartialEq)]
pub struct ArchivePage {
    /// Its address.
    pub address: Address,
    /// The archive that it is a page of.
    pub archive: String,
    /// What its entries share, as they write it.
    pub title: String,
    /// The number of its entries.
    pub members: u64,
    /// The newest date among its entries.
    pub newest: Option<Lastmod>,
    /// The hint computed from its share of the entries.
    pub share: Priority,
    /// Whether it is assumed to exist.
    pub assume_page: bool,
}

impl ArchivePage {
    /// The page as a contribution; `there` tells whether the site is known to have it.
    pub fn contribution(&self, there: bool) -> Contribution<'_> {
        Contribution {
            url: Cow::Borrowed(self.address.as_str()),
            modified: self.newest,
            title: Some(Cow::Borrowed(&self.title)),
            archive: Some(Cow::Borrowed(&self.archive)),
            members: Some(self.members),
            share: Some(self.share),
            not_there: !there && !self.assume_page,
            ..Contribution::default()
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn site() -> Site {
        Site::parse("https://www.marrowvale.example/").unwrap()
    }

    fn date(text: &str) -> Option<Lastmod> {
        Lastmod::read(text, &TimeZone::UTC)
    }

    fn article(published: &str, category: &'static str) -> Contribution<'static> {
        Contribution {
            published: date(published),
            categories: vec![category.into()],
            authors: vec!["Mabel Rook".into()],
            tags: vec!["winter".into(), "Winter".into()],
            ..Contribution::default()
        }
    }

    #[rstest]
    #[case(By::Category, "/journal/about/{slug}/", "/journal/about/boiler-days/", "category boiler-days")]
    #[case(By::Category, "/about/{name}", "/about/Boiler%20days", "category boiler-days")]
    #[case(By::Author, "/by/{name}", "/by/Mabel%20Rook", "author mabel-rook")]
    #[case(By::Tag, "/tags/{slug}/", "/tags/winter/", "tag winter")]
    #[case(By::Author, "/by/{slug}", "/by/mabel-rook", "author mabel-rook")]
    #[case(By::Year, "/{year}/", "/2027/", "year 2027")]
    #[case(By::Month, "/{year}/{month}/", "/2027/01/", "month 2027-01")]
    #[case(By::Week, "/{year}/week-{week}/", "/2026/week-53/", "week 2026-w53")]
    #[case(By::Day, "/{year}/{month}/{day}/", "/2027/01/01/", "day 2027-01-01")]
    fn urls_by_template(#[case] by: By, #[case] url: &str, #[case] wanted: &str, #[case] archive: &str) {
        let archives = Archives::new(vec![Archive::new(by, url)], TimeZone::UTC);
        let mut tally = archives.tally();
        // New Year's Day of 2027 belongs to the last week of 2026.
        tally.add(&article("2027-01-01", "Boiler days"), "journal", None);
        let (pages, troubles) = tally.pages(&site());
        assert_eq!(pages[0].address.path(), wanted);
        assert_eq!((pages[0].archive.as_str(), pages[0].members), (archive, 1));
        assert!(troubles.is_empty());
        let contribution = pages[0].contribution(true);
        assert!(std::ptr::eq(archives.of(&contribution).unwrap(), &archives.list[0]));
    }

    #[test]
    fn members_newest_date_and_share() {
        let archives = Archives::new(
            vec![
                Archive { of: Some("journal".into()), ..Archive::new(By::Category, "/about/{slug}/") },
                Archive::new(By::Category, "/all/{slug}/"),
            ],
            TimeZone::UTC,
        );
        let mut tally = archives.tally();
        for _ in 0..8 {
            tally.add(&article("2026-03-01", "boiler days"), "journal", date("2026-03-02"));
        }
        let mut other = archives.tally();
        other.add(&article("2026-03-01", "Boiler Days"), "journal", date("2026-05-09"));
        other.add(&article("2026-04-01", "Lamps"), "news", None);
        other.add(&article("2026-04-01", "–"), "news", None);
        tally.join(other);
        let (pages, _) = tally.pages(&site());
        let told: Vec<_> = pages
            .iter()
            .map(|page| (page.archive.as_str(), page.members, page.share.hundredths(), page.title.as_str()))
            .collect();
        assert_eq!(
            told,
            [
                ("category boiler-days in journal", 9, 80, "Boiler Days"),
                ("category boiler-days", 9, 80, "Boiler Days"),
                ("category lamps", 1, 20, "Lamps"),
            ]
        );
        assert_eq!(pages[0].newest, date("2026-05-09"));
        let of = |page: &ArchivePage| archives.of(&page.contribution(true)).unwrap().url.clone();
        assert_eq!(pages.iter().map(of).collect::<Vec<_>>(), ["/about/{slug}/", "/all/{slug}/", "/all/{slug}/"]);
    }

    #[rstest]
    #[case(false, false, true)]
    #[case(true, false, false)]
    #[case(false, true, false)]
    fn an_archive_needs_a_page_unless_pages_are_assumed(
        #[case] there: bool,
        #[case] assume_page: bool,
        #[case] not_there: bool,
    ) {
        let archives =
            Archives::new(vec![Archive { assume_page, ..Archive::new(By::Year, "/{year}/") }], TimeZone::UTC);
        let mut tally = archives.tally();
        tally.add(&article("2026-03-01", ""), "journal", None);
        assert_eq!(tally.pages(&site()).0[0].contribution(there).not_there, not_there);
    }
}
