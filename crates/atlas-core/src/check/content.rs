//! Advice about the content of the pages that are listed.

use std::collections::{BTreeMap, HashMap};

use super::codes::{
    DESCRIPTION_REPEATED, FindingKind, HEADING_SKIPPED, LONG_WITHOUT_HEADING, LOOKS_PRIVATE, MAIN_HEADING_MISSING,
    MAIN_HEADINGS_MANY, MUCH_NOINDEX, NO_TITLE, OLD_SECTION, PICTURE_WITHOUT_WORDS, THIN_PAGE, TITLE_REPEATED,
    TITLES_MANY,
};
use super::findings::{Findings, Place, excerpt};
use crate::address;
use crate::lastmod::Lastmod;
use crate::number::{count, grouped};
use crate::page::PageFacts;

/// A page with more words, and without a heading in them, is long.
const LONG: u32 = 600;
/// A section whose newest page is this much older than that of the site, in days, is old.
const OLD_DAYS: i32 = 730;
/// From this share of all pages on, in percent, many pages say noindex.
const MUCH: u64 = 25;
/// Fewer pages that say noindex are never many.
const FEW_NOINDEX: u64 = 5;
/// Names of folders that visitors are not meant to see.
const PRIVATE: [&str; 12] = [
    "admin", "backup", "backups", "drafts", "intern", "internal", "intranet", "login", "private", "staff", "staging",
    "tmp",
];

/// A listed page.
#[derive(Debug, Clone, PartialEq)]
pub struct ContentPage<'p> {
    /// Its URL.
    pub url: &'p str,
    /// Its section.
    pub section: &'p str,
    /// Its title, without the site's name.
    pub title: Option<&'p str>,
    /// Its description.
    pub description: Option<&'p str>,
    /// Its date.
    pub lastmod: Option<Lastmod>,
    /// Facts about its content, if its page was read.
    pub facts: Option<PageFacts>,
}

/// What counts as thin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ThinWords {
    /// A page with fewer words is thin.
    pub usual: u32,
    /// The same for single sections.
    pub sections: BTreeMap<String, u32>,
}

impl Default for ThinWords {
    fn default() -> Self {
        Self { usual: 100, sections: BTreeMap::new() }
    }
}

impl ThinWords {
    /// The number for a section.
    pub fn of(&self, section: &str) -> u32 {
        self.sections.get(section).copied().unwrap_or(self.usual)
    }
}

/// How many pages say noindex, now and at the last build, and how many there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct NoindexShare {
    /// Now.
    pub now: u64,
    /// At the last build, if there was one.
    pub before: Option<u64>,
    /// All pages, listed or not.
    pub pages: u64,
}

/// The advice about single pages, and about what they have in common.
pub fn judge_content(pages: &[ContentPage<'_>], thin: &ThinWords, noindex: NoindexShare, findings: &mut Findings<'_>) {
    much_noindex(noindex, findings);
    pages.iter().for_each(|page| of_page(page, thin, findings));
    repeated(pages, |page| page.title, &TITLE_REPEATED, findings);
    repeated(pages, |page| page.description, &DESCRIPTION_REPEATED, findings);
    old_sections(pages, findings);
}

fn of_page(page: &ContentPage<'_>, thin: &ThinWords, findings: &mut Findings<'_>) {
    let place = Place::url(page.url);
    let path = address::path(page.url).to_lowercase();
    if let Some(folder) = path.split('/').find(|part| PRIVATE.contains(part)) {
        findings.add(&LOOKS_PRIVATE, place, || format!("it lies in a folder “{folder}”"));
    }
    let Some(facts) = page.facts else { return };
    if facts.password {
        findings.add(&LOOKS_PRIVATE, place, || "it asks for a password".to_owned());
    }
    match facts.titles {
        0 => findings.add(&NO_TITLE, place, || "it has no title element".to_owned()),
        1 => {}
        many => findings.add(&TITLES_MANY, place, || format!("it has {many} title elements")),
    }
    match facts.first_level {
        0 => findings.add(&MAIN_HEADING_MISSING, place, || "it has no h1".to_owned()),
        1 => {}
        many => findings.add(&MAIN_HEADINGS_MANY, place, || format!("it has {many} h1 elements")),
    }
    if facts.skips_level {
        findings.add(&HEADING_SKIPPED, place, || "a heading is more than one level below the one before".to_owned());
    }
    let words = || count(u64::from(facts.words), "word", "words");
    if facts.words < thin.of(page.section) {
        findings.add(&THIN_PAGE, place, || format!("it has {}", words()));
    }
    if facts.words > LONG && facts.headings <= 1 {
        findings.add(&LONG_WITHOUT_HEADING, place, || format!("{} without a heading in them", words()));
    }
    if facts.wordless > 0 {
        findings.add(&PICTURE_WITHOUT_WORDS, place, || {
            let (wordless, pictures) = (facts.wordless, facts.pictures);
            let verb = if wordless == 1 { "has" } else { "have" };
            format!("{} of {} {verb} no alt", wordless, count(u64::from(pictures), "picture", "pictures"))
        });
    }
}

/// Titles or descriptions that several pages share.
fn repeated<'p>(
    pages: &[ContentPage<'p>],
    text: impl Fn(&ContentPage<'p>) -> Option<&'p str>,
    kind: &'static FindingKind,
    findings: &mut Findings<'_>,
) {
    let mut by_text: HashMap<String, u64> = HashMap::new();
    let key = |text: &str| text.trim().to_lowercase();
    let given = |page: &ContentPage<'p>| text(page).filter(|text| !text.trim().is_empty());
    for text in pages.iter().filter_map(given) {
        *by_text.entry(key(text)).or_default() += 1;
    }
    for (page, text) in pages.iter().filter_map(|page| Some((page, given(page)?))) {
        let number = by_text.get(&key(text)).copied().unwrap_or(1);
        if number > 1 {
            findings.add(kind, Place::url(page.url), || {
                format!("“{}” is also that of {}", excerpt(text), count(number - 1, "other page", "other pages"))
            });
        }
    }
}

fn much_noindex(noindex: NoindexShare, findings: &mut Findings<'_>) {
    let NoindexShare { now, before, pages } = noindex;
    let is_large = now * 100 >= pages * MUCH;
    let has_grown = before.is_some_and(|before| now > 2 * before);
    if now < FEW_NOINDEX || !(is_large || has_grown) {
        return;
    }
    findings.add(&MUCH_NOINDEX, Place::default(), || {
        let then = before.map_or(String::new(), |before| format!("; at the last build {} did", grouped(before)));
        format!("{} of {} say noindex{then}", grouped(now), count(pages, "page", "pages"))
    });
}

/// Sections whose newest page is far older than that of the site.
fn old_sections(pages: &[ContentPage<'_>], findings: &mut Findings<'_>) {
    let mut newest: BTreeMap<&str, (&ContentPage<'_>, Lastmod)> = BTreeMap::new();
    for (page, date) in pages.iter().filter_map(|page| Some((page, page.lastmod?))) {
        let known = newest.entry(page.section).or_insert((page, date));
        if known.1.seconds() < date.seconds() {
            *known = (page, date);
        }
    }
    let Some(of_site) = newest.values().map(|(_, date)| date.epoch_day()).max() else { return };
    for (section, (page, date)) in newest {
        if of_site - date.epoch_day() > OLD_DAYS {
            findings.add(&OLD_SECTION, Place::url(page.url), || {
                let of_site = Lastmod::from_epoch_day(of_site).map_or(String::new(), |day| day.to_string());
                format!("the newest page of section {section} is of {date}, that of the site of {of_site}")
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::accepted::Accepted;

    const FINE: PageFacts = PageFacts {
        words: 300,
        titles: 1,
        first_level: 1,
        headings: 3,
        skips_level: false,
        pictures: 2,
        wordless: 0,
        nofollow: 0,
        password: false,
    };

    fn page(url: &'static str, facts: PageFacts) -> ContentPage<'static> {
        let lastmod = Lastmod::from_epoch_day(20_000);
        ContentPage { url, section: "pages", title: None, description: None, lastmod, facts: Some(facts) }
    }

    fn codes(pages: &[ContentPage<'_>], noindex: NoindexShare) -> Vec<&'static str> {
        let mut findings = Findings::new(Accepted::none());
        judge_content(pages, &ThinWords::default(), noindex, &mut findings);
        findings.finish().findings.into_iter().map(|finding| finding.code).collect()
    }

    #[rstest]
    #[case::fine(FINE, &[])]
    #[case::no_title(PageFacts { titles: 0, ..FINE }, &["no-title"])]
    #[case::two_titles(PageFacts { titles: 2, ..FINE }, &["titles-many"])]
    #[case::no_heading(PageFacts { first_level: 0, ..FINE }, &["main-heading-missing"])]
    #[case::two_headings(PageFacts { first_level: 2, ..FINE }, &["main-headings-many"])]
    #[case::skipped(PageFacts { skips_level: true, ..FINE }, &["heading-skipped"])]
    #[case::thin(PageFacts { words: 99, ..FINE }, &["thin-page"])]
    #[case::long(PageFacts { words: 700, headings: 1, ..FINE }, &["long-without-heading"])]
    #[case::wordless(PageFacts { wordless: 1, ..FINE }, &["picture-without-words"])]
    #[case::password(PageFacts { password: true, ..FINE }, &["looks-private"])]
    fn advice_about_a_page(#[case] facts: PageFacts, #[case] wanted: &[&str]) {
        assert_eq!(codes(&[page("https://www.marrowvale.example/fares/", facts)], NoindexShare::default()), wanted);
    }

    #[test]
    fn advice_about_pages_together() {
        let titled = |url, title, section, day| ContentPage {
            title: Some(title),
            section,
            lastmod: Lastmod::from_epoch_day(day),
            ..page(url, FINE)
        };
        let pages = [
            titled("https://www.marrowvale.example/a", "Frost", "pages", 20_000),
            titled("https://www.marrowvale.example/b", "frost ", "pages", 20_000),
            titled("https://www.marrowvale.example/c", "Ice", "news", 18_000),
            titled("https://www.marrowvale.example/Staff/d", "Rota", "pages", 20_000),
        ];
        let noindex = NoindexShare { now: 10, before: Some(4), pages: 100 };
        assert_eq!(
            codes(&pages, noindex),
            ["much-noindex", "looks-private", "title-repeated", "title-repeated", "old-section"]
        );
        assert_eq!(codes(&pages[..1], NoindexShare { now: 10, before: Some(6), pages: 100 }), [""; 0]);
    }

    #[test]
    fn sections_may_be_thin_by_their_own_measure() {
        let thin = ThinWords { usual: 100, sections: BTreeMap::from([("photographs".to_owned(), 0)]) };
        assert_eq!([thin.of("pages"), thin.of("photographs")], [100, 0]);
    }
}
