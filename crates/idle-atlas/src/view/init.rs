//! The output of `init`.

use atlas_store::report::MoveReport;
use serde::Serialize;

use super::survey::move_report;
use crate::screen::{Layout, STRONG, WARN, count, grouped};

/// Further settings that may suit a site.
pub const ARCHIVES: &str = "archives";
pub const NEWS: &str = "news";
pub const ALTERNATES: &str = "languages";
pub const STRUCTURED_DATA: &str = "data about videos";
pub const VISITOR_PAGE: &str = "a page for visitors";
pub const NEWEST: &str = "a feed of the newest";

/// What was found.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct SiteFacts {
    pub config: String,
    pub url: String,
    pub url_from: UrlFrom,
    /// The addresses on the way to the URL, from the one that was typed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub way: Vec<String>,
    pub folder: String,
    /// Whether the web root was made, because there was none.
    pub made_web_root: bool,
    pub pages: usize,
    /// The sources that were written, in words.
    pub sources: Vec<String>,
    /// The sources that were written as comments.
    pub maybe: Vec<String>,
    /// What may not be right, in sentences.
    pub unsure: Vec<String>,
    pub drop_html: bool,
    /// A canonical link, if most of them name another site.
    pub other_canonical: Option<String>,
    pub sections: Vec<ProposedSection>,
    /// Folders that may not be meant for engines.
    pub private: Vec<String>,
    /// Further settings that may suit the site, which the file contains commented out.
    pub proposed: Vec<&'static str>,
    pub robots: bool,
    pub robots_exists: bool,
    /// Whether everything can be read without a network or a password.
    #[serde(skip)]
    pub is_local: bool,
    /// The number of entries that would be listed.
    pub entries: Option<u64>,
    /// The comparison with the sitemap so far.
    pub moved: Option<MoveReport>,
    /// Why the first look failed.
    pub first_look: Option<String>,
}

/// A section that is written.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct ProposedSection {
    pub name: String,
    pub folder: String,
    pub pages: usize,
}

/// How the site's URL is known.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum UrlFrom {
    Told,
    Live,
    Canonical { agree: usize, stated: usize },
    Robots,
    Sitemap,
    Rows,
}

impl UrlFrom {
    /// Whether the live site was asked.
    pub fn is_live(&self) -> bool {
        matches!(self, Self::Live)
    }

    fn words(&self) -> String {
        match self {
            Self::Told => "as given".to_owned(),
            Self::Live => "where visitors end up".to_owned(),
            Self::Canonical { agree, stated } => format!(
                "according to the canonical links of {} of {} pages that have one",
                grouped(*agree as u64),
                grouped(*stated as u64)
            ),
            Self::Robots => "according to the Sitemap line in robots.txt".to_owned(),
            Self::Sitemap => "according to the sitemap in the web root".to_owned(),
            Self::Rows => "according to the URLs in a table".to_owned(),
        }
    }
}

/// What `init` says about the site.
pub fn site(found: &SiteFacts) -> String {
    let mut out = format!("{STRONG}Wrote {}; it works as it is.{STRONG:#}\n\n", found.config);
    out += &format!("  site      {} ({})\n", found.url, found.url_from.words());
    let pages =
        if found.pages > 0 { format!(", {}", count(found.pages as u64, "page", "pages")) } else { String::new() };
    let made = if found.made_web_root { "; made, because there was none" } else { "" };
    out += &format!("  web root  {}{pages}{made}\n", found.folder);
    for (at, source) in found.sources.iter().enumerate() {
        out += &format!("  {:8}  {source}\n", if at == 0 { "sources" } else { "" });
    }
    let sections: Vec<String> =
        found.sections.iter().map(|one| format!("{} {}", one.name, grouped(one.pages as u64))).collect();
    let in_sections: usize = found.sections.iter().map(|one| one.pages).sum();
    let rest = match (sections.is_empty(), in_sections < found.pages) {
        (true, _) => "pages (all)".to_owned(),
        (false, true) => format!("{}, and pages for the rest", sections.join(", ")),
        (false, false) => sections.join(", "),
    };
    out += &format!("  sections  {rest}\n");
    if found.drop_html {
        out += "  URLs      without .html, as in the canonical links\n";
    }
    out
}

/// The text of `init`.
pub fn wrote(found: &SiteFacts, layout: &Layout) -> String {
    let mut out = site(found);
    if let Some(entries) = found.entries {
        out += &format!("  entries   {} would be listed\n", grouped(entries));
    }
    if let Some(typed) = found.way.first().filter(|typed| **typed != found.url) {
        out += &format!("\n{typed} leads to {}, so that is the site's URL.\n", found.way.last().unwrap_or(&found.url));
    }
    if let Some(moved) = &found.moved {
        out += &format!("\n{}", move_report(moved, layout));
    }
    if let Some(why) = &found.first_look {
        out += &format!("\n{WARN}A first look failed:{WARN:#} {why}\n");
    }
    for sentence in &found.unsure {
        out += &format!("\n{WARN}Look at this:{WARN:#} {sentence}\n");
    }
    if let Some(canonical) = &found.other_canonical {
        out += &format!(
            "\n{WARN}Most canonical links name another site,{WARN:#} such as {canonical}\nIf they were followed, every page would be left out, so the source has canonical = \"ignore\". Is the URL right?\n"
        );
    }
    if let Some(folder) = found.private.first() {
        out += &format!(
            "\n{WARN}Is /{folder}/ meant for engines?{WARN:#} If not, uncomment the rule in {}.\n",
            found.config
        );
    }
    if !found.maybe.is_empty() {
        out += &format!("\nAlso found, and written as comments: {}.\n", found.maybe.join("; "));
    }
    if !found.proposed.is_empty() {
        out += &format!("\nAlso proposed, commented out: {}.\n", found.proposed.join(", "));
    }
    out + "\n" + &layout.next("idle-atlas survey")
}
