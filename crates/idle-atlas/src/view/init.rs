//! The output of `init`.

use serde::Serialize;

use crate::screen::{Layout, STRONG, WARN, count, grouped};

/// What was found in the folder.
#[derive(Debug, Serialize)]
pub struct SiteFacts {
    pub config: String,
    pub url: String,
    pub url_from: UrlFrom,
    pub folder: String,
    pub pages: usize,
    pub drop_html: bool,
    /// A canonical link, if most of them name another site.
    pub other_canonical: Option<String>,
    /// The name, folder and number of pages of each proposed section.
    pub sections: Vec<(String, String, usize)>,
    /// Folders that may not be meant for engines.
    pub private: Vec<String>,
    /// Further settings that may suit the site, which the file contains commented out.
    pub proposed: Vec<&'static str>,
    pub robots: bool,
    pub robots_exists: bool,
    pub main_exists: bool,
}

/// How the site's URL is known.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum UrlFrom {
    Told,
    Canonical { agree: usize, stated: usize },
    Robots,
}

/// What `init` says about the site.
pub fn site(found: &SiteFacts) -> String {
    let from = match &found.url_from {
        UrlFrom::Told => "as given".to_owned(),
        UrlFrom::Canonical { agree, stated } => {
            format!(
                "according to the canonical links of {} of {} pages that have one",
                grouped(*agree as u64),
                grouped(*stated as u64)
            )
        }
        UrlFrom::Robots => "according to the Sitemap line in robots.txt".to_owned(),
    };
    let mut out = format!("{STRONG}Wrote {}{STRONG:#}; it works as it is.\n\n", found.config);
    out += &format!("  site      {} ({from})\n", found.url);
    out += &format!("  web root  {}, {}\n", found.folder, count(found.pages as u64, "page", "pages"));
    let sections: Vec<String> =
        found.sections.iter().map(|(name, _, count)| format!("{name} {}", grouped(*count as u64))).collect();
    let in_sections: usize = found.sections.iter().map(|(_, _, count)| count).sum();
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
    if found.main_exists {
        out += &format!(
            "\n{WARN}There is a sitemap.xml in {} already:{WARN:#} if another tool writes it, the first build is held back until it may overwrite\nit (--allow overwrite). To keep both, change “main” in {}.\n",
            found.folder, found.config
        );
    }
    if !found.proposed.is_empty() {
        out += &format!("\nAlso proposed, commented out: {}.\n", found.proposed.join(", "));
    }
    out + "\n" + &layout.next("idle-atlas survey")
}
