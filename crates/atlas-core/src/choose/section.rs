//! Sections: named groups of entries with sitemap files of their own.

use std::collections::HashMap;

use serde::Serialize;
use thiserror::Error;

use super::pattern::{FirstFit, Patterns};
use crate::archive::ascii_slug;
use crate::hint::Hints;

/// The section of every entry that nothing else assigns.
pub const DEFAULT_SECTION: &str = "pages";

/// The most characters of a section's name.
const LONGEST_NAME: usize = 40;

/// Why a text cannot be the name of a section.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "“{0}” is not a valid section name: use 1 to 40 lower-case letters, digits and hyphens, beginning with a letter or digit (it becomes part of file names)"
)]
pub struct SectionNameError(String);

/// Checks a section's name.
///
/// # Errors
///
/// Returns a [`SectionNameError`] if the name could not be part of a file name.
pub fn check_section_name(name: &str) -> Result<(), SectionNameError> {
    let allowed = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
    let good = (1..=LONGEST_NAME).contains(&name.len()) && name.bytes().all(allowed) && !name.starts_with('-');
    if good { Ok(()) } else { Err(SectionNameError(name.to_owned())) }
}

/// A section as configured.
#[derive(Debug, Clone, Serialize)]
pub struct Section {
    /// Its name, checked by [`check_section_name`].
    pub name: String,
    /// The name that visitors see.
    pub title: Option<String>,
    /// Paths that belong to it, whichever source names them.
    pub matching: Option<Patterns>,
    /// Whether its entries are kept.
    pub on: bool,
    /// The most entries in one of its files, if set for this section.
    pub urls_per_file: Option<u32>,
    /// The most bytes in one of its files, if set for this section.
    pub bytes_per_file: Option<u64>,
    /// The most pictures and videos in one of its files, if set for this section.
    pub media_per_file: Option<u32>,
    /// The hints and date policy of its entries, unless something closer to the entry sets them.
    pub hints: Hints,
}

impl Section {
    /// A section with a name and no settings.
    pub fn named(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            title: None,
            matching: None,
            on: true,
            urls_per_file: None,
            bytes_per_file: None,
            media_per_file: None,
            hints: Hints::default(),
        }
    }

    /// The name that visitors see: the title, or the name as a word (`cab-rides` becomes `Cab rides`).
    pub fn label(&self) -> String {
        self.title.clone().unwrap_or_else(|| {
            let words = self.name.replace('-', " ");
            let mut letters = words.chars();
            letters.next().map(char::to_uppercase).into_iter().flatten().chain(letters).collect()
        })
    }
}

/// The most sections that rows may make.
pub const MOST_MADE: usize = 1_000;

/// A name that a row gives, as the name of a section; `None` if no letter or digit is in it.
///
/// ```
/// assert_eq!(atlas_core::choose::made_name("Cab rides & Films").as_deref(), Some("cab-rides-films"));
/// assert_eq!(atlas_core::choose::made_name("—"), None);
/// ```
pub fn made_name(text: &str) -> Option<String> {
    let mut name = ascii_slug(text);
    name.truncate(LONGEST_NAME);
    name.truncate(name.trim_end_matches('-').len());
    (!name.is_empty()).then_some(name)
}

/// All sections of a site, in the order in which they are listed.
#[derive(Debug, Clone, Serialize)]
pub struct Sections {
    list: Vec<Section>,
    /// The index of the default section.
    default: usize,
    /// The settings of sections that rows make.
    usual: Section,
    /// How many sections at the end of the list rows have made.
    made: usize,
    /// The index of every section, by its name.
    #[serde(skip)]
    by_name: HashMap<String, usize>,
    /// The patterns of the sections that have some.
    #[serde(skip)]
    by_path: FirstFit,
}

/// Why an entry is in its section.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SectionReason {
    /// A `matching` pattern of the section fits its path.
    ByPath,
    /// The source puts it there.
    BySource,
    /// Nothing assigns it anywhere else.
    ByDefault,
}

impl Sections {
    /// The configured sections, then those that only sources, rules and archives name, then the default section if it
    /// is not among them.
    pub fn new(configured: Vec<Section>, named_elsewhere: impl IntoIterator<Item = String>) -> Self {
        Self::with_usual(configured, named_elsewhere, Section::named(""))
    }

    /// The same, where sections that are not configured, and those that rows make, have these usual settings.
    pub fn with_usual(
        configured: Vec<Section>,
        named_elsewhere: impl IntoIterator<Item = String>,
        usual: Section,
    ) -> Self {
        let owned: Vec<_> =
            configured.iter().enumerate().filter_map(|(at, one)| Some((at, one.matching.as_ref()?))).collect();
        let by_path = FirstFit::new(&owned);
        let mut by_name = HashMap::new();
        for (at, section) in configured.iter().enumerate() {
            by_name.entry(section.name.clone()).or_insert(at);
        }
        let mut sections = Self { list: configured, default: 0, usual, made: 0, by_name, by_path };
        for name in named_elsewhere.into_iter().chain([DEFAULT_SECTION.to_owned()]) {
            sections.add(name);
        }
        sections.default = sections.named(DEFAULT_SECTION).unwrap_or(0);
        sections
    }

    /// Adds a section with the usual settings, unless there is one with this name.
    fn add(&mut self, name: String) {
        if self.named(&name).is_none() {
            self.by_name.insert(name.clone(), self.list.len());
            self.list.push(Section { name, ..self.usual.clone() });
        }
    }

    /// Adds sections that rows make, as far as they are not known and not too many.
    pub fn make<'n>(&mut self, names: impl IntoIterator<Item = &'n str>) {
        for name in names {
            if self.may_make(name) {
                self.add(name.to_owned());
                self.made += 1;
            }
        }
    }

    /// Whether a row may make a section with this name: it does not exist, and there are not too many.
    pub fn may_make(&self, name: &str) -> bool {
        self.made < MOST_MADE && check_section_name(name).is_ok() && self.named(name).is_none()
    }

    /// The names of the sections that rows have made, in the order in which they came.
    pub fn made(&self) -> impl Iterator<Item = &str> {
        self.list[self.list.len() - self.made..].iter().map(|section| section.name.as_str())
    }

    /// Finds the section of an entry: the first whose `matching` fits, else the one that its source names, else the
    /// default. Returns an index into [`Sections::list`].
    pub fn find(&self, path: &str, from_source: Option<&str>) -> (usize, SectionReason) {
        if let Some(at) = self.by_path.find(path) {
            return (at, SectionReason::ByPath);
        }
        match from_source.and_then(|name| self.named(name)) {
            Some(at) => (at, SectionReason::BySource),
            None => (self.default, SectionReason::ByDefault),
        }
    }

    /// The index in [`Sections::list`] of the section with this name.
    pub fn named(&self, wanted: &str) -> Option<usize> {
        self.by_name.get(wanted).copied()
    }

    /// The names of the sections, in order.
    pub fn names(&self) -> Vec<&str> {
        self.list.iter().map(|section| section.name.as_str()).collect()
    }

    /// The sections, in order.
    pub fn list(&self) -> &[Section] {
        &self.list
    }
}

#[cfg(test)]
mod tests {
    use globset::Glob;
    use rstest::rstest;

    use super::*;

    fn sections() -> Sections {
        let patterns = Patterns::new(vec![Glob::new("/journal/**").unwrap()]).unwrap();
        let journal = Section { matching: Some(patterns), ..Section::named("journal") };
        Sections::new(vec![journal], ["locomotives".to_owned()])
    }

    #[rstest]
    #[case("/journal/frost/", None, "journal", SectionReason::ByPath)]
    #[case("/journal/frost/", Some("locomotives"), "journal", SectionReason::ByPath)]
    #[case("/engines/tern/", Some("locomotives"), "locomotives", SectionReason::BySource)]
    #[case("/fares/", None, "pages", SectionReason::ByDefault)]
    #[case("/fares/", Some("unheard-of"), "pages", SectionReason::ByDefault)]
    fn path_before_source_before_default(
        #[case] path: &str,
        #[case] source: Option<&str>,
        #[case] wanted: &str,
        #[case] because: SectionReason,
    ) {
        let sections = sections();
        let (at, placed) = sections.find(path, source);
        assert_eq!((sections.list()[at].name.as_str(), placed), (wanted, because));
    }

    #[test]
    fn rows_make_sections_up_to_a_number() {
        let usual = Section { urls_per_file: Some(7), ..Section::named("") };
        let mut sections = Sections::with_usual(vec![Section::named("journal")], [], usual);
        sections.make(["films", "journal", "films", "Films"]);
        assert_eq!(sections.made().collect::<Vec<_>>(), ["films"]);
        assert_eq!(sections.list().last().map(|section| section.urls_per_file), Some(Some(7)));
        let many: Vec<String> = (0..2 * MOST_MADE).map(|at| format!("s{at}")).collect();
        sections.make(many.iter().map(String::as_str));
        assert_eq!(sections.made().count(), MOST_MADE);
        assert!(!sections.may_make("one-more"));
    }

    #[rstest]
    #[case("journal", true)]
    #[case("c-api", true)]
    #[case("3d", true)]
    #[case("", false)]
    #[case("-x", false)]
    #[case("Journal", false)]
    #[case("a/b", false)]
    fn names_go_into_file_names(#[case] name: &str, #[case] good: bool) {
        assert_eq!(check_section_name(name).is_ok(), good);
    }
}
