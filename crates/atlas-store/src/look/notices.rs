//! What deserves notice: facts that no entry shows by itself.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fmt;

use atlas_core::address;
use atlas_core::alternates::Fault;
use atlas_core::choose::{Chooser, Verdict};
use atlas_core::contribution::{Said, is_dead, url_of};
use atlas_core::fingerprint;
use atlas_core::links;
use atlas_core::structured;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::arrival::{Arrivals, Place, Trait};
use crate::derive::Alternates;
use crate::settle::{Sample, Settled, Stand, Telling};
use crate::source::Outcome;

/// The most examples of one notice that a survey finds by itself.
const MOST_EXAMPLES: usize = 1000;
/// A list of pictures as long as this is compared whole.
const MOST_PICTURES: usize = 50;

/// A kind of notice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Notice {
    /// URLs under another scheme or host.
    Elsewhere,
    /// Pages that no other page links to.
    Unlinked,
    /// Links that lead to nothing: the server says so, or no source knows it.
    LinkedNotFound,
    /// Sources that say something else of one entry.
    AtOdds,
    /// Attachments that have nothing that their article has not.
    RepeatsParent,
    /// A declared date moved, the content did not.
    DateAlone,
    /// The content moved, the declared date did not.
    ContentAlone,
    /// Entries that name a section that there is not.
    UnknownSection,
    /// A section whose patterns no entry fits.
    EmptySection,
    /// Archives that the site has no page for.
    NoArchivePage,
    /// A link to a translation that does not link back.
    AlternateNotReturned,
    /// A link to a translation that does not go in.
    AlternateNotIn,
    /// A link to a translation whose language tag is none.
    AlternateLanguage,
    /// Two pages of a group of translations in one language.
    AlternateTwice,
    /// Structured data on a page that lacks something, or says otherwise than the other sources.
    VideoDataIncomplete,
    /// Videos that make no structured data.
    VideoDataLacking,
    /// Videos that are not written, because they lack a part that engines require.
    VideoNotWritten,
    /// Pages without a head, hence without title or canonical.
    NoHead,
    /// A declared date of change that is yet to come or older than the web, and is not written.
    DateNotWritten,
}

impl Notice {
    /// All kinds.
    pub const ALL: [Self; 19] = [
        Self::Elsewhere,
        Self::Unlinked,
        Self::LinkedNotFound,
        Self::AtOdds,
        Self::RepeatsParent,
        Self::DateAlone,
        Self::ContentAlone,
        Self::UnknownSection,
        Self::EmptySection,
        Self::NoArchivePage,
        Self::AlternateNotReturned,
        Self::AlternateNotIn,
        Self::AlternateLanguage,
        Self::AlternateTwice,
        Self::VideoDataIncomplete,
        Self::VideoDataLacking,
        Self::VideoNotWritten,
        Self::NoHead,
        Self::DateNotWritten,
    ];

    /// Its stable name.
    pub fn code(self) -> &'static str {
        match self {
            Self::Elsewhere => "elsewhere",
            Self::Unlinked => "unlinked",
            Self::LinkedNotFound => "linked-not-found",
            Self::AtOdds => "at-odds",
            Self::RepeatsParent => "repeats-parent",
            Self::DateAlone => "date-alone",
            Self::ContentAlone => "content-alone",
            Self::UnknownSection => "unknown-section",
            Self::EmptySection => "empty-section",
            Self::NoArchivePage => "no-archive-page",
            Self::AlternateNotReturned => "alternate-not-returned",
            Self::AlternateNotIn => "alternate-not-in",
            Self::AlternateLanguage => "alternate-language",
            Self::AlternateTwice => "alternate-twice",
            Self::VideoDataIncomplete => "video-data-incomplete",
            Self::VideoDataLacking => "video-data-lacking",
            Self::VideoNotWritten => "video-not-written",
            Self::NoHead => "no-head",
            Self::DateNotWritten => "date-not-written",
        }
    }

    /// What it means, for people: of one, and of several.
    pub fn words(self) -> (&'static str, &'static str) {
        match self {
            Self::Elsewhere => ("URL on another scheme or host", "URLs on another scheme or host"),
            Self::Unlinked => ("page that no other page links to", "pages that no other page links to"),
            Self::LinkedNotFound => ("link that leads to nothing", "links that lead to nothing"),
            Self::AtOdds => ("entry on which two sources differ", "entries on which two sources differ"),
            Self::RepeatsParent => ("attachment that repeats its article", "attachments that repeat their article"),
            Self::DateAlone => ("page whose date moved, not its content", "pages whose date moved, not their content"),
            Self::ContentAlone => {
                ("page whose content moved, not its date", "pages whose content moved, not their date")
            }
            Self::UnknownSection => ("entry that names an unknown section", "entries that name an unknown section"),
            Self::EmptySection => ("section without an entry", "sections without an entry"),
            Self::NoArchivePage => ("archive without a page", "archives without a page"),
            Self::AlternateNotReturned => ("translation that does not link back", "translations that do not link back"),
            Self::AlternateNotIn => ("translation that is not in", "translations that are not in"),
            Self::AlternateLanguage => ("translation without a language tag", "translations without a language tag"),
            Self::AlternateTwice => {
                ("translation into a language that is taken", "translations into a language that is taken")
            }
            Self::VideoDataIncomplete => {
                ("page whose own VideoObject lacks something", "pages whose own VideoObject lacks something")
            }
            Self::VideoDataLacking => {
                ("page whose video makes no VideoObject", "pages whose videos make no VideoObject")
            }
            Self::VideoNotWritten => (
                "video that is not written: a required part is missing",
                "videos that are not written: a required part is missing",
            ),
            Self::NoHead => ("page without a head", "pages without a head"),
            Self::DateNotWritten => (
                "date of change in the future or before 1990, not written",
                "dates of change in the future or before 1990, not written",
            ),
        }
    }

    /// What to do about it.
    pub fn advice(self) -> &'static str {
        match self {
            Self::Elsewhere => "write them as visitors end up on them, or correct [site] url",
            Self::Unlinked => "only the sitemap leads there: link to them, or leave them out with a rule",
            Self::LinkedNotFound => "mend the links, or add the source that knows these pages",
            Self::AtOdds => "put the source that is right first, or take the field from one of them",
            Self::RepeatsParent => "leave them out with a rule: their article is what people look for",
            Self::DateAlone => "engines stop trusting dates that move for nothing",
            Self::ContentAlone => "let the date follow the content, or do not declare one",
            Self::UnknownSection => "correct the name, or give the section a table: [[section]] name",
            Self::EmptySection => "see whether its matching fits: * stays within a part of the path, ** goes across",
            Self::NoArchivePage => "make the page, or set assume_page = true where it is there and no source reads it",
            Self::AlternateNotReturned => "let the other page link back: a link one way counts for nothing",
            Self::AlternateNotIn => "link to the page that is in, or let that one in",
            Self::AlternateLanguage => "write a language of ISO 639-1, perhaps with a region of ISO 3166-1: en-GB, cy",
            Self::AlternateTwice => "give each page of a group another language",
            Self::VideoDataIncomplete => "mend the page; where it carries a VideoObject, none is written for it",
            Self::VideoDataLacking => {
                "a VideoObject needs name, thumbnailUrl and uploadDate: tell them by page or table"
            }
            Self::VideoNotWritten => {
                "engines require title, description, thumbnail and player or file: tell them by page or table"
            }
            Self::NoHead => "no head, hence no title and no canonical; the page is listed all the same",
            Self::DateNotWritten => "correct the date, or leave it out",
        }
    }
}

impl From<Fault> for Notice {
    fn from(fault: Fault) -> Self {
        match fault {
            Fault::NotReturned => Self::AlternateNotReturned,
            Fault::NotIn => Self::AlternateNotIn,
            Fault::BadLanguage => Self::AlternateLanguage,
            Fault::SameLanguage => Self::AlternateTwice,
        }
    }
}

/// One example.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Example {
    /// The URL.
    pub url: String,
    /// What else there is to say: who links to it, what each source says.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

impl fmt::Display for Example {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.detail {
            Some(detail) => write!(formatter, "{} ({detail})", self.url),
            None => formatter.write_str(&self.url),
        }
    }
}

/// One kind of notice, with all that it is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Noticed {
    /// Its kind.
    pub code: Notice,
    /// What it is about, where the kind alone does not say it: a host, or a field and two sources.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// What it means.
    pub words: &'static str,
    /// What to do about it.
    pub advice: &'static str,
    /// How many.
    pub count: u64,
    /// The first of them.
    pub examples: Vec<Example>,
}

impl Noticed {
    fn new(code: Notice, about: Option<String>, count: u64, examples: Vec<Example>) -> Self {
        let (one, many) = code.words();
        let words = if count == 1 { one } else { many };
        Self { code, about, words, advice: code.advice(), count, examples }
    }

    fn of_sample(code: Notice, about: Option<String>, sample: &Sample) -> Self {
        let counted = sample.counted();
        let example = |text: String| match text.split_once('\n') {
            Some((url, detail)) => Example { url: url.to_owned(), detail: Some(detail.to_owned()) },
            None => Example { url: text, detail: None },
        };
        Self::new(code, about, counted.count, counted.examples.into_iter().map(example).collect())
    }
}

/// Kinds that are told by a build too: they cost nothing to find.
const BY_A_BUILD: [Notice; 3] = [Notice::VideoNotWritten, Notice::NoHead, Notice::DateNotWritten];

/// What a build tells.
pub(crate) fn notice_while_building(settled: &Settled) -> Vec<Noticed> {
    BY_A_BUILD.into_iter().filter_map(|code| of_kind(settled, code)).collect()
}

/// Goes over a settled site.
pub(crate) fn notice(
    arrivals: &Arrivals,
    settled: &Settled,
    outcomes: &[Outcome],
    (alternates, structured): (&Alternates, bool),
    telling: Telling<'_>,
) -> Vec<Noticed> {
    let chooser = arrivals.desk().chooser();
    let mut all = notice_while_building(settled);
    for (origin, sample) in &settled.counts.oddities.elsewhere {
        all.push(Noticed::of_sample(Notice::Elsewhere, Some(origin.clone()), sample));
    }
    let links = Links::read(arrivals, chooser);
    all.extend(links.unlinked(arrivals, settled, chooser, telling));
    all.extend(links.not_found(telling));
    all.extend(at_odds(settled, outcomes));
    all.extend(repeats(arrivals, settled, chooser, telling));
    let others = [Notice::DateAlone, Notice::ContentAlone, Notice::UnknownSection, Notice::NoArchivePage];
    all.extend(others.into_iter().filter_map(|code| of_kind(settled, code)));
    for (section, tally) in chooser.sections.list().iter().zip(&settled.counts.tallies) {
        let is_empty = section.on && section.matching.is_some() && tally.entries == 0;
        if is_empty && telling.wants(Notice::EmptySection, &section.name) {
            all.push(Noticed::new(Notice::EmptySection, Some(section.name.clone()), 1, Vec::new()));
        }
    }
    all.extend(alternates.faults.iter().map(|(code, sample)| Noticed::of_sample(*code, None, sample)));
    if structured {
        all.extend(structured_data(arrivals, settled, telling));
    }
    all.retain(|noticed| noticed.count > 0);
    all
}

/// Oddities of one kind, if there are any.
fn of_kind(settled: &Settled, code: Notice) -> Option<Noticed> {
    Some(Noticed::of_sample(code, None, settled.counts.oddities.by_notice.get(&code)?))
}

/// Where the links of all pages lead.
struct Links {
    any: bool,
    /// Keys of addresses that some other page links to.
    linked: HashSet<u128>,
    /// Addresses that nobody knows, each with the first page that links to it.
    unknown: BTreeMap<String, (Place, String)>,
}

impl Links {
    fn read(arrivals: &Arrivals, chooser: &Chooser) -> Self {
        let mut found = Self { any: false, linked: HashSet::new(), unknown: BTreeMap::new() };
        let mut links = arrivals.links().peekable();
        if links.peek().is_none() {
            return found;
        }
        found.any = true;
        let mut known: HashSet<u128> = arrivals.others().iter().copied().collect();
        arrivals.each_mark(|place, mark| {
            if !is_dead(&arrivals.row(place)) {
                known.insert(mark.key());
            }
        });
        let key = |url: &str| fingerprint::key(arrivals.desk().seed(), url);
        let mut missing: HashMap<u128, bool> = HashMap::new();
        for (place, packed) in links {
            // The page for visitors leads everywhere, and says nothing of how the site itself is linked.
            let row = arrivals.row(place);
            if chooser.own_files.holds(url_of(&row)) {
                continue;
            }
            let own = arrivals.mark(place).key();
            links::each(packed, |link| {
                let target = key(link);
                if target == own {
                    return;
                }
                found.linked.insert(target);
                if known.contains(&target) {
                    return;
                }
                let is_missing = *missing.entry(target).or_insert_with(|| {
                    let other =
                        spellings(link).into_iter().map(|spelling| key(&spelling)).find(|key| known.contains(key));
                    found.linked.extend(other);
                    other.is_none() && !chooser.own_files.holds(link)
                });
                if is_missing {
                    let first = found.unknown.entry(link.to_owned()).or_insert((Place(u32::MAX), String::new()));
                    if place < first.0 {
                        *first = (place, url_of(&row).to_owned());
                    }
                }
            });
        }
        found
    }

    fn unlinked(
        &self,
        arrivals: &Arrivals,
        settled: &Settled,
        chooser: &Chooser,
        telling: Telling<'_>,
    ) -> Option<Noticed> {
        if !self.any {
            return None;
        }
        let root = chooser.site.root().as_str();
        let mut lonely = Sample::default();
        settled.standing.each(arrivals, |stand| {
            let goes_in = matches!(stand.verdict(), Verdict::Kept(_)) && stand.mark.has(Trait::FromPage);
            if !goes_in || self.linked.contains(&stand.mark.key()) {
                return;
            }
            let row = arrivals.row(stand.place);
            let url = url_of(&row);
            if url != root && telling.wants(Notice::Unlinked, url) {
                lonely.add(most_of(telling), stand.named(), || url.to_owned());
            }
        });
        Some(Noticed::of_sample(Notice::Unlinked, None, &lonely))
    }

    fn not_found(&self, telling: Telling<'_>) -> Option<Noticed> {
        let wanted = self.unknown.iter().filter(|(url, _)| telling.wants(Notice::LinkedNotFound, url));
        let mut count = 0;
        let mut examples = Vec::new();
        for (url, (_, page)) in wanted {
            count += 1;
            if examples.len() < most_of(telling) {
                examples.push(Example { url: url.clone(), detail: Some(format!("linked from {page}")) });
            }
        }
        Some(Noticed::new(Notice::LinkedNotFound, None, count, examples))
    }
}

/// Other spellings under which servers give out the same page.
fn spellings(url: &str) -> Vec<String> {
    let plain = url.split('?').next().unwrap_or(url);
    let mut others = vec![plain.to_owned()];
    if let Some(folder) = plain.strip_suffix("index.html").or(plain.strip_suffix("index.htm")) {
        others.push(folder.to_owned());
    }
    match plain.strip_suffix('/') {
        Some(file) if file.len() > address::origin(url).len() => {
            others.extend([file.to_owned(), format!("{file}.html"), format!("{plain}index.html")]);
        }
        Some(_) => others.push(format!("{plain}index.html")),
        None => others.extend([format!("{plain}/"), format!("{plain}.html")]),
    }
    if let Some(stem) = plain.strip_suffix(".html") {
        others.push(stem.to_owned());
    }
    others
}

fn at_odds(settled: &Settled, outcomes: &[Outcome]) -> Vec<Noticed> {
    let name = |source: u16| outcomes.get(usize::from(source)).map_or("?", |outcome| outcome.name.as_str());
    let one = |((field, first, second), sample): (&crate::settle::Odds, &Sample)| {
        let counted = sample.counted();
        let examples = counted.examples.iter().filter_map(|example| {
            let mut lines = example.splitn(3, '\n');
            let (url, mine, theirs) = (lines.next()?, lines.next()?, lines.next()?);
            Some(Example { url: url.to_owned(), detail: Some(format!("“{mine}” and “{theirs}”")) })
        });
        let about = format!("{field}, between {} and {}", name(*first), name(*second));
        Noticed::new(Notice::AtOdds, Some(about), counted.count, examples.collect())
    };
    settled.counts.oddities.at_odds.iter().map(one).collect()
}

/// Entries that belong to another, and have no picture and no title that the other has not.
fn repeats(arrivals: &Arrivals, settled: &Settled, chooser: &Chooser, telling: Telling<'_>) -> Option<Noticed> {
    let each = |take: &mut dyn FnMut(Stand<'_>, &Said<'_>)| {
        for at in 0..arrivals.blocks() {
            let block = arrivals.block(at);
            settled.standing.of_block(arrivals, at, &block).for_each(|(stand, row)| take(stand, &Said::read(&row)));
        }
    };
    let mut attachments: Vec<(Place, bool, Said<'static>)> = Vec::new();
    each(&mut |stand, said| {
        if said.parent.is_some() {
            let goes_in = matches!(stand.verdict(), Verdict::Kept(_));
            attachments.push((stand.named(), goes_in, said.clone().into_owned()));
        }
    });
    if attachments.is_empty() {
        return None;
    }
    let address = |parent: &str| chooser.site.address(parent).map(address::Address::into_string).unwrap_or_default();
    let wanted: HashSet<String> = attachments
        .iter()
        .filter_map(|(_, _, said)| said.parent.as_deref())
        .flat_map(|parent| [parent.to_owned(), address(parent)])
        .collect();
    let mut parents: HashMap<String, Said<'static>> = HashMap::new();
    each(&mut |_, said| {
        let id = said.id.as_deref().filter(|id| wanted.contains(*id)).map(str::to_owned);
        let url = wanted.contains(said.url.as_ref()).then(|| said.url.to_string());
        for name in [id, url].into_iter().flatten() {
            parents.insert(name, said.clone().into_owned());
        }
    });
    let mut repeating: Vec<(Place, Example)> = Vec::new();
    for (named, goes_in, said) in &attachments {
        let Some(parent) =
            said.parent.as_deref().and_then(|name| parents.get(name).or_else(|| parents.get(&address(name))))
        else {
            continue;
        };
        let is_told = || telling.wants(Notice::RepeatsParent, &said.url);
        if *goes_in && parent.url != said.url && adds_nothing(said, parent) && is_told() {
            let detail = Some(format!("belongs to {}", parent.url));
            repeating.push((*named, Example { url: said.url.to_string(), detail }));
        }
    }
    repeating.sort_by_key(|(named, _)| *named);
    let count = repeating.len() as u64;
    let examples = repeating.into_iter().take(most_of(telling)).map(|(_, example)| example).collect();
    Some(Noticed::new(Notice::RepeatsParent, None, count, examples))
}

/// What the structured data of pages with videos lacks: that which they carry, and that which would be written for them.
fn structured_data(arrivals: &Arrivals, settled: &Settled, telling: Telling<'_>) -> [Noticed; 2] {
    let (mut stated, mut made) = (Sample::default(), Sample::default());
    settled.standing.each(arrivals, |stand| {
        if !(stand.mark.has(Trait::HasVideos) && matches!(stand.verdict(), Verdict::Kept(_))) {
            return;
        }
        let row = arrivals.row(stand.place);
        let said = Said::read(&row);
        if structured::is_wanted(&said) {
            let lacking = structured::video_objects(&said, &TimeZone::UTC).lacking;
            if let Some(lacks) = lacking.first().filter(|_| telling.wants(Notice::VideoDataLacking, &said.url)) {
                let names: Vec<&str> = lacks.iter().map(|property| property.as_str()).collect();
                made.add(most_of(telling), stand.named(), || format!("{}\nno {}", said.url, names.join(", no ")));
            }
        } else if let Some(difference) = structured::compare(&said).first()
            && telling.wants(Notice::VideoDataIncomplete, &said.url)
        {
            stated.add(most_of(telling), stand.named(), || format!("{}\n{difference}", said.url));
        }
    });
    [
        Noticed::of_sample(Notice::VideoDataIncomplete, None, &stated),
        Noticed::of_sample(Notice::VideoDataLacking, None, &made),
    ]
}

/// How many examples are kept of what a survey finds by itself.
fn most_of(telling: Telling<'_>) -> usize {
    telling.examples.max(MOST_EXAMPLES)
}

fn adds_nothing(said: &Said<'_>, parent: &Said<'_>) -> bool {
    let same_title = said.title.is_none() || said.title == parent.title;
    let same_text = said.description.is_none() || said.description == parent.description;
    let pictures = said.images.len() <= MOST_PICTURES && said.images.iter().all(|image| parent.images.contains(image));
    // A page that shows a picture of its article and says no more than that is the usual case.
    pictures && (same_title || !said.images.is_empty()) && same_text && said.videos.is_empty()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://a.example/halts", "https://a.example/halts/")]
    #[case("https://a.example/halts/", "https://a.example/halts.html")]
    #[case("https://a.example/halts/index.html", "https://a.example/halts/")]
    #[case("https://a.example/halts.html?v=2", "https://a.example/halts")]
    #[case("https://a.example/", "https://a.example/index.html")]
    fn servers_know_a_page_by_other_names_too(#[case] link: &str, #[case] known: &str) {
        assert!(spellings(link).iter().any(|spelling| spelling == known), "{:?}", spellings(link));
    }
}
