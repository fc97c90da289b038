//! What became of URLs that are no longer listed: redirected, and where to, gone, or still there.

use std::collections::BTreeMap;

use serde::Serialize;

use super::codes::{FindingKind, GONE_DEAD_END, GONE_LOST, GONE_STILL_THERE, GONE_TO_HOME, SERVER_ERROR};
use crate::address;

/// What became of a URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Fate {
    /// It leads to another page.
    Redirected,
    /// It leads to the home page.
    ToHome,
    /// It leads to something that is not there.
    DeadEnd,
    /// It answers 404 or 410, or with the text for addresses that do not exist.
    Lost,
    /// It answers 200 and may be listed.
    StillThere,
    /// It answers 200 and forbids engines to list it, or names another page as canonical.
    NotListed,
    /// The server fails or does not answer.
    Failing,
}

impl Fate {
    /// All of them, in the order of the columns of a table.
    pub const ALL: [Self; 7] =
        [Self::Redirected, Self::ToHome, Self::DeadEnd, Self::Lost, Self::StillThere, Self::NotListed, Self::Failing];

    /// The kind of finding, if it is one.
    pub fn kind(self) -> Option<&'static FindingKind> {
        match self {
            Self::Redirected | Self::NotListed => None,
            Self::ToHome => Some(&GONE_TO_HOME),
            Self::DeadEnd => Some(&GONE_DEAD_END),
            Self::Lost => Some(&GONE_LOST),
            Self::StillThere => Some(&GONE_STILL_THERE),
            Self::Failing => Some(&SERVER_ERROR),
        }
    }

    /// Whether engines and visitors find nothing that took its place.
    pub fn is_loss(self) -> bool {
        matches!(self, Self::ToHome | Self::DeadEnd | Self::Lost)
    }
}

/// What was seen of a URL: the statuses on the way, and why engines would not list where it ends.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct GoneTrail {
    /// The address and the status of each answer; 0 if there was none.
    pub steps: Vec<(String, u16)>,
    /// The code of what keeps engines from listing the last one, if it answers 200.
    pub trouble: Option<&'static str>,
}

/// What became of a URL of the site whose home page is at `home`.
pub fn fate(trail: &GoneTrail, home: &str) -> Fate {
    let redirects = trail.steps.len() > 1;
    let Some((end, status)) = trail.steps.last() else { return Fate::Failing };
    match (redirects, status) {
        (false, 404 | 410) => Fate::Lost,
        (true, 300..=499) | (true, 0) => Fate::DeadEnd,
        (_, 200..=299) if trail.trouble == Some("soft-404") => {
            if redirects {
                Fate::DeadEnd
            } else {
                Fate::Lost
            }
        }
        (true, 200..=299) if is_home(end, home) => Fate::ToHome,
        (true, 200..=299) => Fate::Redirected,
        (false, 200..=299) if trail.trouble.is_some() => Fate::NotListed,
        (false, 200..=299) => Fate::StillThere,
        (false, 300..=399) => Fate::DeadEnd,
        (false, 400..=499) => Fate::Lost,
        _ => Fate::Failing,
    }
}

/// Whether an address is that of the home page.
fn is_home(address: &str, home: &str) -> bool {
    let bare = |text: &str| {
        let path = text.split(['?', '#']).next().unwrap_or_default();
        path.trim_end_matches("index.html").trim_end_matches("index.php").trim_end_matches('/').to_owned()
    };
    bare(address) == bare(home) || matches!(address::path(address), "" | "/")
}

/// The URLs of one folder, by what became of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct GoneFolder {
    /// The first folder of the path: `/journal/`.
    pub folder: String,
    /// How many URLs there are.
    pub urls: u64,
    /// How many of each fate.
    pub fates: BTreeMap<Fate, u64>,
}

/// Groups URLs by their first folder, the one with most losses first.
pub fn by_folder<'u>(urls: impl Iterator<Item = (&'u str, Fate)>) -> Vec<GoneFolder> {
    let mut folders: BTreeMap<String, GoneFolder> = BTreeMap::new();
    for (url, fate) in urls {
        let path = address::path(url).split(['?', '#']).next().unwrap_or_default();
        let first = path.get(1..).and_then(|rest| rest.find('/')).map_or("/", |end| &path[..end + 2]);
        let folder = folders.entry(first.to_owned()).or_insert_with(|| GoneFolder {
            folder: first.to_owned(),
            urls: 0,
            fates: BTreeMap::new(),
        });
        folder.urls += 1;
        *folder.fates.entry(fate).or_default() += 1;
    }
    let losses = |folder: &GoneFolder| {
        folder.fates.iter().filter(|(fate, _)| fate.is_loss()).map(|(_, count)| count).sum::<u64>()
    };
    let mut folders: Vec<GoneFolder> = folders.into_values().collect();
    folders.sort_by_key(|folder| std::cmp::Reverse((losses(folder), folder.urls)));
    folders
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const HOME: &str = "https://www.marrowvale.example/";

    #[rstest]
    #[case(&[404], None, Fate::Lost)]
    #[case(&[410], None, Fate::Lost)]
    #[case(&[200], None, Fate::StillThere)]
    #[case(&[200], Some("noindex"), Fate::NotListed)]
    #[case(&[200], Some("soft-404"), Fate::Lost)]
    #[case(&[301, 200], None, Fate::Redirected)]
    #[case(&[301, 404], None, Fate::DeadEnd)]
    #[case(&[301, 302], None, Fate::DeadEnd)]
    #[case(&[503], None, Fate::Failing)]
    #[case(&[0], None, Fate::Failing)]
    fn fates(#[case] statuses: &[u16], #[case] trouble: Option<&'static str>, #[case] wanted: Fate) {
        let steps = statuses.iter().zip(0..).map(|(status, at): (_, u32)| (format!("{HOME}old/{at}/"), *status));
        assert_eq!(fate(&GoneTrail { steps: steps.collect(), trouble }, HOME), wanted);
    }

    #[rstest]
    #[case("https://www.marrowvale.example/", Fate::ToHome)]
    #[case("https://www.marrowvale.example/index.html?from=old", Fate::ToHome)]
    #[case("https://marrowvale.example", Fate::ToHome)]
    #[case("https://www.marrowvale.example/cy/", Fate::Redirected)]
    fn redirects_to_the_home_page_are_told_apart(#[case] end: &str, #[case] wanted: Fate) {
        let steps = vec![(format!("{HOME}old/"), 301), (end.to_owned(), 200)];
        assert_eq!(fate(&GoneTrail { steps, trouble: None }, HOME), wanted);
    }

    #[test]
    fn folders_with_most_losses_come_first() {
        let urls = [
            ("/a/1", Fate::Redirected),
            ("/a/2", Fate::Redirected),
            ("/b/c/1?x=/", Fate::Lost),
            ("/x", Fate::Redirected),
        ];
        let urls: Vec<(String, Fate)> =
            urls.iter().map(|(path, fate)| (format!("https://a.example{path}"), *fate)).collect();
        let folders = by_folder(urls.iter().map(|(url, fate)| (url.as_str(), *fate)));
        let told: Vec<(&str, u64)> = folders.iter().map(|one| (one.folder.as_str(), one.urls)).collect();
        assert_eq!(told, [("/b/", 1), ("/a/", 2), ("/", 1)]);
    }
}
