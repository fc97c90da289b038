//! Alternates: the same page in other languages, combined into complete groups.
//!
//! Pages belong together because of their own links (`hreflang`), a shared key (`language_group`) or the shape of their
//! URLs. Each page of a group lists every page of the group, itself included. A link that is known not to be returned
//! is ignored.

use std::collections::{BTreeMap, HashMap};

use serde::Serialize;

use crate::address;
use crate::language::{Alternate, X_DEFAULT, tag};
use crate::report::Notice;

/// How groups are found, and how they are written.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct AlternatesSettings {
    /// Path prefixes by language. Pages that differ only in the prefix are translations of each other.
    pub paths: Vec<(String, String)>,
    /// The language whose page is the `x-default`, unless the pages name one themselves.
    pub x_default: Option<String>,
}

impl AlternatesSettings {
    /// The language of a path and the path without its prefix. The longest prefix that fits wins.
    pub fn split<'p>(&self, path: &'p str) -> Option<(&str, &'p str)> {
        let fitting = self.paths.iter().filter_map(|(language, prefix)| {
            Some((prefix.len(), language.as_str(), path.strip_prefix(prefix.as_str())?))
        });
        fitting.max_by_key(|(length, ..)| *length).map(|(_, language, rest)| (language, rest))
    }
}

/// One entry that may belong to a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GroupMember<'a> {
    /// Its URL.
    pub url: &'a str,
    /// Its own language, if known.
    pub language: Option<&'a str>,
    /// The key that its translations share.
    pub group: Option<&'a str>,
    /// Its links to translations: language and URL.
    pub links: Vec<(&'a str, &'a str)>,
}

/// What is known of a URL that a page links to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LinkTarget {
    /// It is on another site, so its links are unknown.
    Elsewhere,
    /// It is on this site and left out.
    NotIn,
    /// It is listed, and its page was read: all of its links to translations are known.
    Read,
    /// It is listed, and the links on its page are not known.
    Unread,
}

/// What is wrong with a link to a translation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// The other page does not link back.
    NotReturned,
    /// The other page is not listed.
    NotIn,
    /// The language tag is invalid.
    BadLanguage,
    /// Another page of the group has the same language.
    SameLanguage,
}

/// The groups of translations of a site.
#[derive(Debug, Default)]
pub struct Groups {
    /// What the pages of each group list, sorted by language.
    pub lists: Vec<Vec<Alternate<'static>>>,
    /// The group of each page, in the order in which the pages were given; `None` if it has no group.
    pub of: Vec<Option<u32>>,
    /// Links that are ignored: the index of the page, what is wrong, and the details in words.
    pub faults: Vec<(usize, Fault, String)>,
}

/// Groups pages. `known` tells what is known of a URL that is not among them. The result depends on the order of the
/// pages only if two of them claim the same language: the first gets it, so their order should mean something.
pub fn group(pages: &[GroupMember<'_>], settings: &AlternatesSettings, known: impl Fn(&str) -> LinkTarget) -> Groups {
    let mut finding = GroupFinder::new(pages, settings);
    finding.by_word();
    finding.by_path();
    finding.by_links(known);
    finding.finish()
}

struct GroupFinder<'a> {
    pages: &'a [GroupMember<'a>],
    settings: &'a AlternatesSettings,
    places: HashMap<&'a str, usize>,
    /// A union-find forest: for each page the index of another page of its group, or its own.
    parents: Vec<usize>,
    languages: Vec<Option<String>>,
    /// Links to other sites: page, language, URL.
    outward: Vec<(usize, String, &'a str)>,
    /// `x-default` links: page, URL.
    defaults: Vec<(usize, &'a str)>,
    faults: Vec<(usize, Fault, String)>,
}

impl<'a> GroupFinder<'a> {
    fn new(pages: &'a [GroupMember<'a>], settings: &'a AlternatesSettings) -> Self {
        let own = |page: &GroupMember<'a>| {
            let itself = page.links.iter().find(|(language, url)| *url == page.url && *language != X_DEFAULT);
            let by_path = || settings.split(address::path(page.url)).map(|(language, _)| language.to_owned());
            itself.and_then(|(language, _)| tag(language).ok()).or_else(|| tag(page.language?).ok()).or_else(by_path)
        };
        Self {
            pages,
            settings,
            places: pages.iter().enumerate().map(|(at, page)| (page.url, at)).collect(),
            parents: (0..pages.len()).collect(),
            languages: pages.iter().map(own).collect(),
            outward: Vec::new(),
            defaults: Vec::new(),
            faults: Vec::new(),
        }
    }

    fn root(&mut self, page: usize) -> usize {
        let mut at = page;
        while self.parents[at] != at {
            self.parents[at] = self.parents[self.parents[at]];
            at = self.parents[at];
        }
        at
    }

    fn unite(&mut self, one: usize, other: usize) {
        let (one, other) = (self.root(one), self.root(other));
        // The first page is the root of its group.
        self.parents[one.max(other)] = one.min(other);
    }

    fn by_word(&mut self) {
        let mut first: HashMap<&str, usize> = HashMap::new();
        for (at, page) in self.pages.iter().enumerate() {
            if let Some(word) = page.group {
                let with = *first.entry(word).or_insert(at);
                self.unite(with, at);
            }
        }
    }

    fn by_path(&mut self) {
        if self.settings.paths.is_empty() {
            return;
        }
        let mut first: HashMap<&str, usize> = HashMap::new();
        for (at, page) in self.pages.iter().enumerate() {
            if let Some((_, rest)) = self.settings.split(address::path(page.url)) {
                let with = *first.entry(rest).or_insert(at);
                self.unite(with, at);
            }
        }
    }

    fn by_links(&mut self, known: impl Fn(&str) -> LinkTarget) {
        for (at, page) in self.pages.iter().enumerate() {
            for &(language, url) in &page.links {
                let language = match tag(language) {
                    Ok(language) => language,
                    Err(why) => {
                        self.faults.push((at, Fault::BadLanguage, why.to_string()));
                        continue;
                    }
                };
                if language == X_DEFAULT {
                    self.defaults.push((at, url));
                    continue;
                }
                if url == page.url {
                    continue;
                }
                match self.places.get(url) {
                    Some(&other) => self.link(at, other, language, &known),
                    None => match known(url) {
                        LinkTarget::Elsewhere => self.outward.push((at, language, url)),
                        LinkTarget::NotIn => self.faults.push((at, Fault::NotIn, format!("{language} {url}"))),
                        LinkTarget::Read => self.faults.push((at, Fault::NotReturned, format!("{language} {url}"))),
                        LinkTarget::Unread => self.outward.push((at, language, url)),
                    },
                }
            }
        }
    }

    /// Records a link between two known pages.
    fn link(&mut self, at: usize, other: usize, language: String, known: &impl Fn(&str) -> LinkTarget) {
        let there = &self.pages[other];
        let returned = there.links.iter().any(|(_, back)| *back == self.pages[at].url);
        let silent = there.links.is_empty() && known(there.url) != LinkTarget::Read;
        if returned || silent || self.root(at) == self.root(other) {
            if self.languages[other].is_none() {
                self.languages[other] = Some(language);
            }
            self.unite(at, other);
        } else {
            self.faults.push((at, Fault::NotReturned, format!("{language} {}", there.url)));
        }
    }

    fn finish(mut self) -> Groups {
        let mut lists: BTreeMap<usize, BTreeMap<String, &str>> = BTreeMap::new();
        let mut members: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        let mut without_language = Vec::new();
        for at in 0..self.pages.len() {
            let root = self.root(at);
            let url = self.pages[at].url;
            let Some(language) = self.languages[at].clone() else {
                let told = self.pages[at].language.and_then(|language| tag(language).err());
                let why = told.map_or_else(|| "its own language is not known".to_owned(), |why| why.to_string());
                without_language.push((root, at, why));
                continue;
            };
            let holder = *lists.entry(root).or_default().entry(language.clone()).or_insert(url);
            if holder == url {
                members.entry(root).or_default().push(at);
            } else {
                self.faults.push((at, Fault::SameLanguage, format!("{language} is {holder} already")));
            }
        }
        // A page without a group needs no language.
        without_language.retain(|(root, ..)| lists.contains_key(root));
        self.faults.extend(without_language.into_iter().map(|(_, at, why)| (at, Fault::BadLanguage, why)));
        for (at, language, url) in std::mem::take(&mut self.outward) {
            let root = self.root(at);
            if let Some(list) = lists.get_mut(&root) {
                list.entry(language).or_insert(url);
            }
        }
        for (at, url) in std::mem::take(&mut self.defaults) {
            let root = self.root(at);
            if let Some(list) = lists.get_mut(&root) {
                list.entry(X_DEFAULT.to_owned()).or_insert(url);
            }
        }
        let mut groups = Groups { of: vec![None; self.pages.len()], faults: self.faults, ..Groups::default() };
        for (root, mut list) in lists {
            let pages: std::collections::BTreeSet<&str> = list.values().copied().collect();
            if pages.len() < 2 {
                continue;
            }
            if let Some(url) = self.settings.x_default.as_ref().and_then(|language| list.get(language).copied()) {
                list.entry(X_DEFAULT.to_owned()).or_insert(url);
            }
            for at in members.remove(&root).unwrap_or_default() {
                groups.of[at] = Some(groups.lists.len() as u32);
            }
            let owned = list
                .into_iter()
                .map(|(language, url)| Alternate { language: language.into(), url: url.to_owned().into() });
            groups.lists.push(owned.collect());
        }
        groups.faults.sort_by_key(|(at, fault, _)| (*at, *fault));
        groups
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const EN: &str = "https://www.marrowvale.example/fares/";
    const CY: &str = "https://www.marrowvale.example/cy/prisiau/";
    const FR: &str = "https://www.marrowvale.example/fr/tarifs/";
    const IE: &str = "https://www.marrowvale-ie.example/fares/";

    fn page<'a>(url: &'a str, language: &'a str, links: &[(&'a str, &'a str)]) -> GroupMember<'a> {
        GroupMember { url, language: Some(language), group: None, links: links.to_vec() }
    }

    fn told(groups: &Groups) -> Vec<Vec<String>> {
        let one = |list: &Vec<Alternate<'_>>| list.iter().map(|one| format!("{} {}", one.language, one.url)).collect();
        groups.lists.iter().map(one).collect()
    }

    fn faults(groups: &Groups) -> Vec<(usize, Fault)> {
        groups.faults.iter().map(|(at, fault, _)| (*at, *fault)).collect()
    }

    fn read(_: &str) -> LinkTarget {
        LinkTarget::Read
    }

    #[test]
    fn reciprocal_links_form_a_group() {
        let pages = [page(EN, "en", &[("en", EN), ("cy", CY)]), page(CY, "cy", &[("en", EN), ("x-default", EN)])];
        let groups = group(&pages, &AlternatesSettings::default(), read);
        assert_eq!(told(&groups), [[format!("cy {CY}"), format!("en {EN}"), format!("x-default {EN}")]]);
        assert_eq!(groups.of, [Some(0), Some(0)]);
        assert!(groups.faults.is_empty());
    }

    #[test]
    fn a_group_is_complete_even_if_its_pages_are_not() {
        let pages =
            [page(EN, "en", &[("cy", CY), ("fr", FR)]), page(CY, "cy", &[("en", EN)]), page(FR, "fr", &[("en", EN)])];
        let settings = AlternatesSettings { x_default: Some("en".into()), ..AlternatesSettings::default() };
        let groups = group(&pages, &settings, read);
        assert_eq!(groups.lists[0].len(), 4);
        assert_eq!(groups.of, [Some(0); 3]);
        assert!(groups.faults.is_empty());
    }

    #[rstest]
    #[case::read(LinkTarget::Read, 0, vec![(0, Fault::NotReturned)])]
    #[case::not_read(LinkTarget::Unread, 1, vec![])]
    fn a_link_that_is_not_reciprocal_is_left_out(
        #[case] known: LinkTarget,
        #[case] groups_wanted: usize,
        #[case] wanted: Vec<(usize, Fault)>,
    ) {
        let pages = [page(EN, "en", &[("cy", CY)]), page(CY, "cy", &[])];
        let groups = group(&pages, &AlternatesSettings::default(), |_| known);
        assert_eq!(groups.lists.len(), groups_wanted);
        assert_eq!(faults(&groups), wanted);
    }

    #[test]
    fn other_hosts_are_kept_and_unlisted_pages_are_not() {
        let pages = [page(EN, "en-GB", &[("en-IE", IE), ("cy", CY)])];
        let known = |url: &str| if url == IE { LinkTarget::Elsewhere } else { LinkTarget::NotIn };
        let groups = group(&pages, &AlternatesSettings::default(), known);
        assert_eq!(told(&groups), [[format!("en-GB {EN}"), format!("en-IE {IE}")]]);
        assert_eq!(faults(&groups), [(0, Fault::NotIn)]);
    }

    #[test]
    fn groups_by_a_shared_key() {
        let word = |url, language| GroupMember { group: Some("fares"), ..page(url, language, &[]) };
        let groups = group(&[word(EN, "en"), word(CY, "cy"), word(FR, "en")], &AlternatesSettings::default(), read);
        assert_eq!(told(&groups), [[format!("cy {CY}"), format!("en {EN}")]]);
        assert_eq!(groups.of, [Some(0), Some(0), None]);
        assert_eq!(faults(&groups), [(2, Fault::SameLanguage)]);
    }

    #[test]
    fn a_page_without_a_language_is_reported() {
        let of = |url, language| GroupMember { url, language, group: Some("fares"), links: vec![] };
        let groups =
            group(&[of(EN, Some("en")), of(CY, Some("welsh")), of(FR, None)], &AlternatesSettings::default(), read);
        assert!(groups.lists.is_empty());
        assert_eq!(faults(&groups), [(1, Fault::BadLanguage), (2, Fault::BadLanguage)]);
        let alone = group(&[of(FR, None)], &AlternatesSettings::default(), read);
        assert!(alone.faults.is_empty());
    }

    #[test]
    fn groups_by_url_pattern() {
        let paths = vec![("en".to_owned(), "/".to_owned()), ("cy".to_owned(), "/cy/".to_owned())];
        let settings = AlternatesSettings { paths, x_default: None };
        let of = |url| GroupMember { url, language: None, group: None, links: vec![] };
        let welsh = "https://www.marrowvale.example/cy/fares/";
        let alone = "https://www.marrowvale.example/staff/";
        let groups = group(&[of(EN), of(welsh), of(alone)], &settings, read);
        assert_eq!(told(&groups), [[format!("cy {welsh}"), format!("en {EN}")]]);
        assert_eq!(groups.of, [Some(0), Some(0), None]);
    }

    #[test]
    fn bad_tags_are_reported_and_left_out() {
        let pages = [page(EN, "en", &[("en-UK", EN), ("cy", CY)]), page(CY, "cy", &[("en", EN)])];
        let groups = group(&pages, &AlternatesSettings::default(), read);
        assert_eq!(groups.lists.len(), 1);
        assert_eq!(faults(&groups), [(0, Fault::BadLanguage)]);
    }
}
