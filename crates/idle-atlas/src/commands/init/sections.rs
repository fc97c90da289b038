//! The sections that the folders of a site get.

use atlas_core::choose;

use super::found::FoundSite;
use crate::view::init::ProposedSection;

/// Folders with fewer pages than this get no section of their own.
const SECTION_LEAST: usize = 8;
/// The most sections that are proposed.
const MOST_SECTIONS: usize = 30;
/// Folders with these names are often not meant for engines.
const PRIVATE: [&str; 9] = ["account", "admin", "cart", "checkout", "drafts", "internal", "login", "private", "staff"];

impl FoundSite {
    /// The folders directly below the site with their numbers of pages, and whether any of them would be listed.
    pub(super) fn folders(&self) -> Vec<(String, usize, bool)> {
        let built = self.pages.folders.iter().map(|one| (one.name.clone(), one.pages, one.is_listed));
        let mut all: Vec<(String, usize, bool)> = built.collect();
        let paths = self.live.iter().flat_map(|live| &live.paths);
        for path in paths {
            if let Some((top, _)) = path.trim_start_matches('/').split_once('/') {
                match all.iter_mut().find(|(name, ..)| name == top) {
                    Some((_, count, _)) => *count += 1,
                    None => all.push((top.to_owned(), 1, true)),
                }
            }
        }
        all.sort_by_key(|(_, count, _)| std::cmp::Reverse(*count));
        all
    }

    /// The names of the sections that folders get.
    pub(super) fn facts_sections(&self) -> Vec<String> {
        self.sections().into_iter().map(|section| section.name).collect()
    }

    pub(super) fn sections(&self) -> Vec<ProposedSection> {
        let folders = self.folders();
        let all = self.pages.pages + self.live.as_ref().map_or(0, |live| live.paths.len());
        let mut sections: Vec<ProposedSection> = Vec::new();
        let is_large =
            |(_, count, is_listed): &&(String, usize, bool)| *count >= SECTION_LEAST.max(all / 50) && *is_listed;
        for (folder, pages, _) in folders.iter().filter(is_large).filter(|(name, ..)| !is_year(name)) {
            let Some(name) = section_name(folder) else { continue };
            let taken = sections.iter().any(|known| known.name == name);
            if !taken && sections.len() < MOST_SECTIONS {
                sections.push(ProposedSection { name, folder: folder.clone(), pages: *pages });
            }
        }
        let news = self
            .pages
            .publisher
            .as_ref()
            .filter(|publisher| !sections.iter().any(|one| one.folder == publisher.folder));
        if let Some(publisher) = news.filter(|publisher| publisher.name.is_some()) {
            let pages = folders.iter().find(|(name, ..)| *name == publisher.folder).map_or(0, |(_, count, _)| *count);
            if let Some(name) = section_name(&publisher.folder).filter(|name| !is_year(name)) {
                sections.push(ProposedSection { name, folder: publisher.folder.clone(), pages });
            }
        }
        sections
    }

    pub(super) fn private(&self) -> Vec<String> {
        self.folders().into_iter().map(|(name, ..)| name).filter(|name| PRIVATE.contains(&name.as_str())).collect()
    }

    /// Whether the name and language of the publication of news are known.
    pub(super) fn has_publication(&self) -> bool {
        self.pages.publisher.as_ref().is_some_and(|publisher| publisher.name.is_some() && publisher.language.is_some())
    }
}

/// The name of a section for the rows of a table, if its name can be one.
pub(super) fn section_name(stem: &str) -> Option<String> {
    let name: String = stem
        .chars()
        .map(|letter| if letter.is_ascii_alphanumeric() { letter.to_ascii_lowercase() } else { '-' })
        .collect();
    let name = name.trim_matches('-').to_owned();
    (choose::check_section_name(&name).is_ok() && name != choose::DEFAULT_SECTION).then_some(name)
}

/// Whether a folder is named like a year, a month or a number.
fn is_year(name: &str) -> bool {
    name.bytes().all(|byte| byte.is_ascii_digit())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("journal", Some("journal"))]
    #[case("C API", Some("c-api"))]
    #[case("_static", Some("static"))]
    #[case("Teithiau ’26", Some("teithiau--26"))]
    #[case("pages", None)]
    #[case("…", None)]
    fn folders_become_names(#[case] folder: &str, #[case] wanted: Option<&str>) {
        assert_eq!(section_name(folder).as_deref(), wanted);
    }
}
