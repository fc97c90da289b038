//! Rules from the configuration, which change how entries are chosen. For each setting, the last rule that matches
//! wins.

use std::collections::{BTreeSet, HashSet};
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use regex::Regex;
use serde::{Serialize, Serializer};

use super::pattern::Patterns;
use crate::archive::{By, ascii_slug, slug};
use crate::contribution::Contribution;
use crate::hint::{Hints, PriorityHint, depth};

/// One rule.
#[derive(Debug, Clone, Serialize)]
pub struct Rule {
    /// The line of the configuration in which it begins, for `why`.
    #[serde(skip)]
    pub line: u32,
    /// The conditions, all of which must hold.
    pub conditions: Vec<Condition>,
    /// Whether matching entries are kept.
    pub keep: Option<bool>,
    /// The section of matching entries.
    pub section: Option<String>,
    /// The hints and date policy of matching entries.
    pub hints: Hints,
    /// Whether any entry has matched.
    #[serde(skip)]
    pub met: Met,
}

/// Whether any entry has matched a rule. All copies of the rule share it.
#[derive(Debug, Clone, Default)]
pub struct Met(Arc<AtomicBool>);

impl Met {
    fn set(&self) {
        // Reading is cheaper than writing what is already there.
        if !self.0.load(Ordering::Relaxed) {
            self.0.store(true, Ordering::Relaxed);
        }
    }

    /// Whether any entry has matched.
    pub fn any(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// Which entries a rule on a category, tag or author covers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub enum Covers {
    /// The archive's page and every entry in the archive.
    #[default]
    EntriesAndArchivePage,
    /// The entries, but not the archive's page.
    Entries,
    /// Only the archive's page.
    ArchivePage,
}

/// One condition on an entry. A list holds if any of its items does.
#[derive(Debug, Clone, Serialize)]
pub enum Condition {
    /// Its path matches.
    Path(Patterns),
    /// The section that the entry would be in without rules.
    Section(Vec<String>),
    /// A source that names it, by index, and the names as typed.
    Source(Vec<u16>, String),
    /// Its kind, whatever the case of letters.
    Kind(Vec<String>),
    /// Its id.
    Id(Vec<String>),
    /// Its slug.
    Slug(Vec<String>),
    /// A category, tag or author, by [slugs](slug).
    Group(By, Vec<String>, Covers),
    /// Its title matches.
    Title(#[serde(serialize_with = "as_written")] Regex),
    /// Its whole URL matches.
    Url(#[serde(serialize_with = "as_written")] Regex),
    /// Its URL or its id is in a list, and the list's name.
    Listed(#[serde(serialize_with = "in_order")] HashSet<String>, String),
    /// It was published (or, if that is unknown, modified) at least this many days ago.
    OlderThan(u32),
    /// It was published (or, if that is unknown, modified) less than this many days ago.
    NewerThan(u32),
    /// Its path has at least this many parts.
    LeastDepth(usize),
    /// Its path has at most this many parts.
    MostDepth(usize),
    /// Whether it has pictures.
    WithImages(bool),
    /// Whether it has videos.
    WithVideos(bool),
}

/// Serializes a pattern as it was typed, because that decides what it matches.
fn as_written<S: Serializer>(pattern: &Regex, serializer: S) -> Result<S::Ok, S::Error> {
    pattern.as_str().serialize(serializer)
}

/// Serializes a list in an order that is the same in every run.
fn in_order<S: Serializer>(list: &HashSet<String>, serializer: S) -> Result<S::Ok, S::Error> {
    list.iter().collect::<BTreeSet<_>>().serialize(serializer)
}

const DAY: i64 = 24 * 3600;

/// What the conditions of a rule are checked against.
pub(super) struct RuleSubject<'a> {
    pub(super) contribution: &'a Contribution<'a>,
    pub(super) path: &'a str,
    pub(super) section: &'a str,
    pub(super) sources: &'a [u16],
    pub(super) now: i64,
}

impl Rule {
    /// The first condition that does not hold, if any.
    pub(super) fn against(&self, facts: &RuleSubject<'_>) -> Option<&Condition> {
        let against = self.conditions.iter().find(|condition| !condition.holds(facts));
        if against.is_none() {
            self.met.set();
        }
        against
    }

    /// Whether it depends on the time of the run, so that it may decide differently about the same entry on another
    /// day.
    pub fn asks_for_the_instant(&self) -> bool {
        self.conditions.iter().any(|one| matches!(one, Condition::OlderThan(_) | Condition::NewerThan(_)))
    }

    /// Its conditions, as the configuration writes them.
    pub fn is_for(&self) -> String {
        self.conditions.iter().map(Condition::written).collect::<Vec<_>>().join(" and ")
    }

    /// Its settings, as the configuration writes them.
    pub(super) fn says(&self) -> String {
        let priority = self.hints.priority.map(|priority| match priority {
            PriorityHint::Fixed(number) => format!("priority = {number}"),
            PriorityHint::ByDepth => "priority = by-depth".to_owned(),
            PriorityHint::ByShare => "priority = by-share".to_owned(),
        });
        let words = [
            self.keep.map(|keep| format!("keep = {keep}")),
            self.section.as_ref().map(|section| format!("section = {section}")),
            priority,
            self.hints.changefreq.map(|word| format!("changefreq = {}", word.as_str())),
            self.hints.date_policy.map(|word| format!("date_policy = {}", word.as_str())),
            self.hints.announce.map(|announce| format!("announce = {announce}")),
        ];
        words.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

impl Condition {
    fn holds(&self, facts: &RuleSubject<'_>) -> bool {
        let RuleSubject { contribution, path, section, sources, now } = facts;
        let any = |wanted: &[String], word: Option<&str>| word.is_some_and(|word| wanted.iter().any(|one| one == word));
        let age = || contribution.age().map(|born| now - born);
        match self {
            Self::Path(patterns) => patterns.fits(path),
            Self::Section(names) => any(names, Some(section)),
            Self::Source(places, _) => sources.iter().any(|source| places.contains(source)),
            Self::Kind(kinds) => {
                contribution.kind.as_ref().is_some_and(|kind| kinds.iter().any(|one| one.eq_ignore_ascii_case(kind)))
            }
            Self::Id(ids) => any(ids, contribution.id.as_deref()),
            Self::Slug(slugs) => any(slugs, contribution.slug.as_deref()),
            Self::Group(by, slugs, covers) => {
                let page_of = || contribution.archive.as_deref().and_then(|archive| by.of_archive(archive));
                // The archive's URLs may be in plain ASCII.
                let names_it = |page: &str| slugs.iter().any(|slug| slug == page || ascii_slug(slug) == page);
                let is_page = *covers != Covers::Entries && page_of().is_some_and(names_it);
                let is_member = || {
                    by.names(contribution, &jiff::tz::TimeZone::UTC).iter().any(|name| any(slugs, Some(&slug(name))))
                };
                is_page || (*covers != Covers::ArchivePage && is_member())
            }
            Self::Title(pattern) => contribution.title.as_deref().is_some_and(|title| pattern.is_match(title)),
            Self::Url(pattern) => pattern.is_match(&contribution.url),
            Self::Listed(list, _) => {
                list.contains(contribution.url.as_ref())
                    || contribution.id.as_deref().is_some_and(|id| list.contains(id))
            }
            Self::OlderThan(days) => age().is_some_and(|age| age >= i64::from(*days) * DAY),
            Self::NewerThan(days) => age().is_some_and(|age| age < i64::from(*days) * DAY),
            Self::LeastDepth(least) => depth(path) >= *least,
            Self::MostDepth(most) => depth(path) <= *most,
            Self::WithImages(wanted) => contribution.images.is_empty() != *wanted,
            Self::WithVideos(wanted) => contribution.videos.is_empty() != *wanted,
        }
    }
}

impl Condition {
    /// The condition, as the configuration writes it.
    fn written(&self) -> String {
        let list = |key: &str, names: &[String]| format!("{key} {}", names.join(" or "));
        match self {
            Self::Path(patterns) => format!("matching {}", patterns.written()),
            Self::Section(names) => list("in_section", names),
            Self::Source(_, written) => format!("source {written}"),
            Self::Kind(names) => list("kind", names),
            Self::Id(names) => list("id", names),
            Self::Slug(names) => list("slug", names),
            Self::Group(by, names, Covers::EntriesAndArchivePage) => list(by.as_str(), names),
            Self::Group(by, names, Covers::Entries) => list(by.as_str(), names) + ", entries",
            Self::Group(by, names, Covers::ArchivePage) => list(by.as_str(), names) + ", archive page",
            Self::Title(pattern) => format!("title_pattern {pattern}"),
            Self::Url(pattern) => format!("url_pattern {pattern}"),
            Self::Listed(_, file) => format!("listed_in {file}"),
            Self::OlderThan(days) => format!("older_than_days {days}"),
            Self::NewerThan(days) => format!("newer_than_days {days}"),
            Self::LeastDepth(depth) => format!("least_depth {depth}"),
            Self::MostDepth(depth) => format!("most_depth {depth}"),
            Self::WithImages(wanted) => format!("with_images {wanted}"),
            Self::WithVideos(wanted) => format!("with_videos {wanted}"),
        }
    }
}

/// Completes “does not apply because …” with what does not hold.
impl fmt::Display for Condition {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let one_of = |formatter: &mut fmt::Formatter<'_>, what: &str, names: &[String]| {
            write!(formatter, "its {what} is not {}", names.join(" or "))
        };
        match self {
            Self::Path(patterns) => write!(formatter, "its path does not match {}", patterns.written()),
            Self::Section(names) => one_of(formatter, "section", names),
            Self::Source(_, written) => write!(formatter, "no source like {written} names it"),
            Self::Kind(names) => one_of(formatter, "kind", names),
            Self::Id(names) => one_of(formatter, "id", names),
            Self::Slug(names) => one_of(formatter, "slug", names),
            Self::Group(by, names, covers) => {
                let (by, names) = (by.as_str(), names.join(" or "));
                match covers {
                    Covers::EntriesAndArchivePage => {
                        write!(formatter, "it neither has nor is the page of {by} {names}")
                    }
                    Covers::Entries => write!(formatter, "its {by} is not {names}"),
                    Covers::ArchivePage => write!(formatter, "it is not the archive page of {by} {names}"),
                }
            }
            Self::Title(pattern) => write!(formatter, "its title does not match {pattern}"),
            Self::Url(pattern) => write!(formatter, "its URL does not match {pattern}"),
            Self::Listed(_, file) => write!(formatter, "neither its URL nor its id is listed in {file}"),
            Self::OlderThan(days) => write!(formatter, "it is not known to be {days} days old"),
            Self::NewerThan(days) => write!(formatter, "it is not known to be newer than {days} days"),
            Self::LeastDepth(least) => write!(formatter, "its path has fewer than {least} parts"),
            Self::MostDepth(most) => write!(formatter, "its path has more than {most} parts"),
            Self::WithImages(true) => formatter.write_str("it has no pictures"),
            Self::WithImages(false) => formatter.write_str("it has pictures"),
            Self::WithVideos(true) => formatter.write_str("it has no videos"),
            Self::WithVideos(false) => formatter.write_str("it has videos"),
        }
    }
}

#[cfg(test)]
pub(super) mod tests {
    use globset::Glob;
    use rstest::rstest;

    use super::*;
    use crate::lastmod::Lastmod;
    use crate::video::Video;

    pub(in crate::choose) fn globs(patterns: &[&str]) -> Patterns {
        Patterns::new(patterns.iter().map(|pattern| Glob::new(pattern).unwrap()).collect()).unwrap()
    }

    /// A rule without settings.
    pub(in crate::choose) fn rule_of(line: u32, condition: Condition) -> Rule {
        Rule {
            line,
            conditions: vec![condition],
            keep: None,
            section: None,
            hints: Hints::default(),
            met: Met::default(),
        }
    }

    const NOW: i64 = 20_000 * DAY;

    fn entry() -> Contribution<'static> {
        Contribution {
            url: "https://www.marrowvale.example/journal/frost/?page=2".into(),
            id: Some("417".into()),
            slug: Some("frost".into()),
            kind: Some("Article".into()),
            title: Some("Frost on the cutting".into()),
            categories: vec!["Timetable Changes".into()],
            tags: vec!["Winter".into()],
            authors: vec!["Mabel Rook".into()],
            images: vec!["https://www.marrowvale.example/frost.svg".into()],
            published: Lastmod::from_epoch_day(19_990),
            ..Contribution::default()
        }
    }

    fn words(words: &[&str]) -> Vec<String> {
        words.iter().map(|word| (*word).to_owned()).collect()
    }

    fn regex(pattern: &str) -> Regex {
        Regex::new(pattern).unwrap()
    }

    #[rstest]
    #[case::path(Condition::Path(globs(&["/journal/**"])), true)]
    #[case::other_path(Condition::Path(globs(&["/halts/**"])), false)]
    #[case::section(Condition::Section(words(&["journal"])), true)]
    #[case::other_section(Condition::Section(words(&["pages"])), false)]
    #[case::source(Condition::Source(vec![3, 1], "table".into()), true)]
    #[case::other_source(Condition::Source(vec![0], "html".into()), false)]
    #[case::kind(Condition::Kind(words(&["note", "article"])), true)]
    #[case::other_kind(Condition::Kind(words(&["note"])), false)]
    #[case::id(Condition::Id(words(&["417"])), true)]
    #[case::other_id(Condition::Id(words(&["41"])), false)]
    #[case::slug(Condition::Slug(words(&["frost"])), true)]
    #[case::other_slug(Condition::Slug(words(&["thaw"])), false)]
    #[case::category(Condition::Group(By::Category, words(&["timetable-changes"]), Covers::Entries), true)]
    #[case::category_and_page(Condition::Group(By::Category, words(&["timetable-changes"]), Covers::EntriesAndArchivePage), true)]
    #[case::page_of_category(Condition::Group(By::Category, words(&["timetable-changes"]), Covers::ArchivePage), false)]
    #[case::tag(Condition::Group(By::Tag, words(&["winter"]), Covers::Entries), true)]
    #[case::tag_is_no_category(Condition::Group(By::Tag, words(&["timetable-changes"]), Covers::Entries), false)]
    #[case::author(Condition::Group(By::Author, words(&["mabel-rook"]), Covers::Entries), true)]
    #[case::title(Condition::Title(regex("(?i)^frost")), true)]
    #[case::other_title(Condition::Title(regex("^on")), false)]
    #[case::url(Condition::Url(regex(r"\?page=\d+$")), true)]
    #[case::other_url(Condition::Url(regex(r"\?sort=")), false)]
    #[case::listed_id(Condition::Listed(["417".to_owned()].into(), "private.txt".into()), true)]
    #[case::listed_url(Condition::Listed([entry().url.into_owned()].into(), "private.txt".into()), true)]
    #[case::not_listed(Condition::Listed(HashSet::new(), "private.txt".into()), false)]
    #[case::older(Condition::OlderThan(10), true)]
    #[case::not_so_old(Condition::OlderThan(11), false)]
    #[case::newer(Condition::NewerThan(11), true)]
    #[case::not_so_new(Condition::NewerThan(10), false)]
    #[case::deep(Condition::LeastDepth(2), true)]
    #[case::not_so_deep(Condition::LeastDepth(3), false)]
    #[case::shallow(Condition::MostDepth(2), true)]
    #[case::not_so_shallow(Condition::MostDepth(1), false)]
    #[case::pictures(Condition::WithImages(true), true)]
    #[case::no_pictures(Condition::WithImages(false), false)]
    #[case::no_videos(Condition::WithVideos(false), true)]
    #[case::videos(Condition::WithVideos(true), false)]
    fn each_form_of_rule(#[case] condition: Condition, #[case] wanted: bool) {
        let contribution = entry();
        let path = crate::address::path(&contribution.url);
        let facts = RuleSubject { contribution: &contribution, path, section: "journal", sources: &[1, 2], now: NOW };
        assert_eq!(condition.holds(&facts), wanted, "{condition}");
        let rule = rule_of(1, condition);
        assert_eq!(rule.against(&facts).is_none(), wanted);
    }

    #[rstest]
    #[case(Covers::ArchivePage, true)]
    #[case(Covers::EntriesAndArchivePage, true)]
    #[case(Covers::Entries, false)]
    fn the_page_of_an_archive_is_not_an_entry_in_it(#[case] covers: Covers, #[case] wanted: bool) {
        let contribution =
            Contribution { archive: Some("category timetable-changes".into()), ..Contribution::default() };
        let facts = RuleSubject { contribution: &contribution, path: "/", section: "", sources: &[], now: NOW };
        let condition = Condition::Group(By::Category, words(&["timetable-changes"]), covers);
        assert_eq!(condition.holds(&facts), wanted);
        let condition = Condition::Group(By::Tag, words(&["timetable-changes"]), covers);
        assert!(!condition.holds(&facts), "another kind of archive by that name");
    }

    #[test]
    fn an_entry_without_a_date_is_neither_old_nor_new() {
        let contribution = Contribution { videos: vec![Video::default()], ..Contribution::default() };
        let facts = RuleSubject { contribution: &contribution, path: "/", section: "", sources: &[], now: NOW };
        assert!(!Condition::OlderThan(0).holds(&facts) && !Condition::NewerThan(9999).holds(&facts));
        assert!(Condition::WithVideos(true).holds(&facts));
    }

    #[test]
    fn all_conditions_must_hold() {
        let contribution = entry();
        let facts = RuleSubject {
            contribution: &contribution,
            path: "/journal/frost/",
            section: "journal",
            sources: &[],
            now: NOW,
        };
        let mut rule = rule_of(1, Condition::MostDepth(2));
        rule.conditions.push(Condition::Kind(words(&["note"])));
        assert_eq!(rule.against(&facts).unwrap().to_string(), "its kind is not note");
    }
}
