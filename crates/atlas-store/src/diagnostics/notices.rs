//! Notices: facts that no single entry shows.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};

use atlas_core::address;
use atlas_core::choose::{Chooser, Verdict};
use atlas_core::contribution::{Contribution, url_of};
use atlas_core::derive::structured;
use jiff::tz::TimeZone;

use super::links::{Links, most_of};
use crate::arrival::{Arrivals, RowFlag, RowId};
use crate::derive::Alternates;
use crate::settle::{EntryRow, ReportLimits, Sample, Settled};
use crate::source::Source;
use atlas_core::report::{Example, Notice, Noticed, Outcome};

/// Lists with at most this many pictures are compared completely.
const MOST_PICTURES: usize = 50;

/// Notices that a build reports, too, because they cost nothing to find.
const BY_A_BUILD: [Notice; 5] =
    [Notice::NewSection, Notice::UnknownPlayer, Notice::VideoNotWritten, Notice::NoHead, Notice::DateNotWritten];

/// The notices of a build.
pub(crate) fn notice_while_building(settled: &Settled) -> Vec<Noticed> {
    BY_A_BUILD.into_iter().filter_map(|code| of_kind(settled, code)).collect()
}

/// The notices of a survey.
pub(crate) fn notice(
    arrivals: &Arrivals,
    settled: &Settled,
    (sources, outcomes): (&[Box<dyn Source>], &[Outcome]),
    (alternates, structured): (&Alternates, bool),
    telling: ReportLimits<'_>,
) -> Vec<Noticed> {
    let chooser = arrivals.decider().chooser();
    let mut all = notice_while_building(settled);
    for (origin, sample) in &settled.counts.remarks.elsewhere {
        all.push(Noticed::of_counted(Notice::Elsewhere, Some(origin.clone()), sample.counted()));
    }
    // What could not be read says nothing about the rest.
    let whole = outcomes.iter().all(|outcome| outcome.failure.is_none());
    if whole {
        let links = Links::read(arrivals, settled, sources, telling);
        all.extend(links.unlinked());
        all.extend(links.astray());
    }
    all.extend(at_odds(settled, outcomes));
    all.extend(repeats(arrivals, settled, chooser, telling));
    let others = [
        Notice::CanonicalMisspelt,
        Notice::DateAlone,
        Notice::ContentAlone,
        Notice::UnknownSection,
        Notice::NoArchivePage,
    ];
    all.extend(others.into_iter().filter_map(|code| of_kind(settled, code)));
    for (section, tally) in chooser.sections.list().iter().zip(&settled.counts.tallies) {
        let is_empty = whole && section.on && section.matching.is_some() && tally.entries == 0;
        if is_empty && telling.wants(Notice::EmptySection, &section.name) {
            all.push(Noticed::new(Notice::EmptySection, Some(section.name.clone()), 1, Vec::new()));
        }
    }
    for rule in chooser.rules.iter().filter(|rule| !rule.met.any()) {
        let about = format!("line {}, {}", rule.line, rule.is_for());
        if telling.wants(Notice::UnusedRule, &about) {
            all.push(Noticed::new(Notice::UnusedRule, Some(about), 1, Vec::new()));
        }
    }
    if whole {
        all.push(only_in_old_sitemaps(arrivals, settled, sources, telling));
    }
    all.push(same_parameters(arrivals, settled, telling));
    all.extend(alternates.faults.iter().map(|(code, sample)| Noticed::of_counted(*code, None, sample.counted())));
    if structured {
        all.extend(structured_data(arrivals, settled, telling));
    }
    all.retain(|noticed| noticed.count > 0);
    all
}

/// Remarks of one kind, if there are any.
fn of_kind(settled: &Settled, code: Notice) -> Option<Noticed> {
    Some(Noticed::of_counted(code, None, settled.counts.remarks.by_notice.get(&code)?.counted()))
}

fn at_odds(settled: &Settled, outcomes: &[Outcome]) -> Vec<Noticed> {
    let name = |source: u16| outcomes.get(usize::from(source)).map_or("?", |outcome| outcome.name.as_str());
    let one = |((field, first, second), sample): (&crate::settle::Odds, &Sample)| {
        let counted = sample.counted();
        let examples = counted.examples.iter().filter_map(|example| {
            let mut lines = example.splitn(3, '\n');
            let (url, mine, theirs) = (lines.next()?, lines.next()?, lines.next()?);
            Some(Example { url: url.to_owned(), detail: Some(format!("“{mine}” and “{theirs}”")), page: None })
        });
        let about = format!("{field}, between {} and {}", name(*first), name(*second));
        Noticed::new(Notice::AtOdds, Some(about), counted.count, examples.collect())
    };
    settled.counts.remarks.at_odds.iter().map(one).collect()
}

/// Entries that only old sitemaps name, although some source reads the pages of the site.
fn only_in_old_sitemaps(
    arrivals: &Arrivals,
    settled: &Settled,
    sources: &[Box<dyn Source>],
    telling: ReportLimits<'_>,
) -> Noticed {
    let is_old = |source: &u16| sources.get(usize::from(*source)).is_some_and(|source| source.is_old_sitemap());
    let mut alone = Sample::default();
    if sources.iter().any(|source| source.reads_pages()) && sources.iter().any(|source| source.is_old_sitemap()) {
        settled.entry_rows.each(arrivals, |entry_row| {
            if matches!(entry_row.verdict(), Verdict::Kept(_)) && entry_row.sources(arrivals).iter().all(is_old) {
                let row = arrivals.row(entry_row.row_id);
                if telling.wants(Notice::OnlyOldSitemap, url_of(&row)) {
                    alone.add(most_of(telling), entry_row.named(), || url_of(&row).to_owned());
                }
            }
        });
    }
    Noticed::of_counted(Notice::OnlyOldSitemap, None, alone.counted())
}

/// Passes on the rows of all entries, block by block, so that each block on disk is read once.
pub(super) fn each_row(arrivals: &Arrivals, settled: &Settled, take: &mut dyn FnMut(EntryRow<'_>, &[u8])) {
    for at in 0..arrivals.blocks() {
        let block = arrivals.block(at);
        settled.entry_rows.of_block(arrivals, at, &block).for_each(|(entry_row, row)| take(entry_row, &row));
    }
}

/// Pages whose URLs differ only in the order of their parameters and whose text is the same.
fn same_parameters(arrivals: &Arrivals, settled: &Settled, telling: ReportLimits<'_>) -> Noticed {
    let mut first: HashMap<(String, u64), String> = HashMap::new();
    let mut pages: Vec<(RowId, String, u64)> = Vec::new();
    each_row(arrivals, settled, &mut |entry_row, row| {
        let goes_in = matches!(entry_row.verdict(), Verdict::Kept(_)) && entry_row.summary.has(RowFlag::FromPage);
        if goes_in
            && url_of(row).contains('&')
            && let Contribution { url, digest: Some(digest), .. } = Contribution::read(row)
        {
            pages.push((entry_row.named(), url.into_owned(), digest));
        }
    });
    pages.sort_unstable();
    let mut repeated = Sample::default();
    for (named, url, digest) in pages {
        match first.entry((in_one_order(&url), digest)) {
            Entry::Vacant(row_id) => _ = row_id.insert(url),
            Entry::Occupied(known) if telling.wants(Notice::SameParameters, &url) => {
                repeated.add(most_of(telling), named, || format!("{url}\nrepeats {}", known.get()));
            }
            Entry::Occupied(_) => {}
        }
    }
    Noticed::of_counted(Notice::SameParameters, None, repeated.counted())
}

/// A URL with its parameters sorted by name.
fn in_one_order(url: &str) -> String {
    let Some((before, query)) = url.split_once('?') else { return url.to_owned() };
    let mut parameters: Vec<&str> = query.split('&').collect();
    parameters.sort_unstable();
    format!("{before}?{}", parameters.join("&"))
}

/// Entries that belong to another and have no picture and no title that the other lacks.
fn repeats(arrivals: &Arrivals, settled: &Settled, chooser: &Chooser, telling: ReportLimits<'_>) -> Option<Noticed> {
    let each = |take: &mut dyn FnMut(EntryRow<'_>, &Contribution<'_>)| {
        each_row(arrivals, settled, &mut |entry_row, row| take(entry_row, &Contribution::read(row)));
    };
    let mut attachments: Vec<(RowId, bool, Contribution<'static>)> = Vec::new();
    each(&mut |entry_row, contribution| {
        if contribution.parent.is_some() {
            let goes_in = matches!(entry_row.verdict(), Verdict::Kept(_));
            attachments.push((entry_row.named(), goes_in, contribution.clone().into_owned()));
        }
    });
    if attachments.is_empty() {
        return None;
    }
    let address = |parent: &str| chooser.site.address(parent).map(address::Address::into_string).unwrap_or_default();
    let wanted: HashSet<String> = attachments
        .iter()
        .filter_map(|(_, _, contribution)| contribution.parent.as_deref())
        .flat_map(|parent| [parent.to_owned(), address(parent)])
        .collect();
    let mut parents: HashMap<String, Contribution<'static>> = HashMap::new();
    each(&mut |_, contribution| {
        let id = contribution.id.as_deref().filter(|id| wanted.contains(*id)).map(str::to_owned);
        let url = wanted.contains(contribution.url.as_ref()).then(|| contribution.url.to_string());
        for name in [id, url].into_iter().flatten() {
            parents.insert(name, contribution.clone().into_owned());
        }
    });
    let mut repeating: Vec<(RowId, Example)> = Vec::new();
    for (named, goes_in, contribution) in &attachments {
        let Some(parent) =
            contribution.parent.as_deref().and_then(|name| parents.get(name).or_else(|| parents.get(&address(name))))
        else {
            continue;
        };
        let is_told = || telling.wants(Notice::RepeatsParent, &contribution.url);
        if *goes_in && parent.url != contribution.url && adds_nothing(contribution, parent) && is_told() {
            let detail = Some(format!("belongs to {}", parent.url));
            repeating.push((*named, Example { url: contribution.url.to_string(), detail, page: None }));
        }
    }
    repeating.sort_by_key(|(named, _)| *named);
    let count = repeating.len() as u64;
    let examples = repeating.into_iter().take(most_of(telling)).map(|(_, example)| example).collect();
    Some(Noticed::new(Notice::RepeatsParent, None, count, examples))
}

/// What the structured data of pages with videos lacks: the pages' own, and ours.
fn structured_data(arrivals: &Arrivals, settled: &Settled, telling: ReportLimits<'_>) -> [Noticed; 2] {
    let (mut stated, mut made) = (Sample::default(), Sample::default());
    settled.entry_rows.each(arrivals, |entry_row| {
        if !(entry_row.summary.has(RowFlag::HasVideos) && matches!(entry_row.verdict(), Verdict::Kept(_))) {
            return;
        }
        let row = arrivals.row(entry_row.row_id);
        let contribution = Contribution::read(&row);
        if structured::is_wanted(&contribution) {
            let lacking = structured::video_objects(&contribution, &TimeZone::UTC).lacking;
            if let Some(lacks) = lacking.first().filter(|_| telling.wants(Notice::VideoDataLacking, &contribution.url))
            {
                let names: Vec<&str> = lacks.iter().map(|property| property.as_str()).collect();
                made.add(most_of(telling), entry_row.named(), || {
                    format!("{}\nno {}", contribution.url, names.join(", no "))
                });
            }
        } else if let Some(difference) = structured::compare(&contribution).first()
            && telling.wants(Notice::VideoDataIncomplete, &contribution.url)
        {
            stated.add(most_of(telling), entry_row.named(), || format!("{}\n{difference}", contribution.url));
        }
    });
    [
        Noticed::of_counted(Notice::VideoDataIncomplete, None, stated.counted()),
        Noticed::of_counted(Notice::VideoDataLacking, None, made.counted()),
    ]
}

fn adds_nothing(contribution: &Contribution<'_>, parent: &Contribution<'_>) -> bool {
    let same_title = contribution.title.is_none() || contribution.title == parent.title;
    let same_text = contribution.description.is_none() || contribution.description == parent.description;
    let pictures = contribution.images.len() <= MOST_PICTURES
        && contribution.images.iter().all(|image| parent.images.contains(image));
    // The usual case: a page that shows a picture of its article and nothing else.
    pictures && (same_title || !contribution.images.is_empty()) && same_text && contribution.videos.is_empty()
}
