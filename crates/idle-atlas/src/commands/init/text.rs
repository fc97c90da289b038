//! The text of the configuration that `init` writes.

use atlas_core::address::{Address, encode_path};
use atlas_core::derive::news::is_language;
use jiff::tz::TimeZone;

use super::found::FoundSite;
use super::proposed::{ProposedSource, quoted};
use crate::view::init::{ALTERNATES, ARCHIVES, NEWS, STRUCTURED_DATA, SiteFacts, VISITOR_PAGE};

/// What is said of further sources, if there is none with rows.
const MORE: &str = "# A table of further entries (CSV or JSON Lines):
# [[source]]
# from    = \"table\"
# file    = \"photographs.csv\"
# section = \"photographs\"
# fields  = { url = \"/photographs/{Slug}/\", modified = \"Updated\" }   # a column, or a template over columns
# dates   = \"%d/%m/%Y\"                                               # if they are not ISO

";

/// News, if pages say who publishes them, and in which language.
fn news(facts: &SiteFacts, found: &FoundSite) -> String {
    let publisher = found.pages.publisher.as_ref();
    let named = publisher.and_then(|one| Some((one, one.name.as_deref()?, one.language.as_deref()?)));
    let Some((publisher, name, language)) = named else { return String::new() };
    let language = language.split('-').next().unwrap_or(language);
    let Some(section) = facts.sections.iter().find(|section| section.folder == publisher.folder) else {
        return String::new();
    };
    if !is_language(language) {
        return String::new();
    }
    format!(
        "# News: the articles of the last two days, in files of their own. Name and language are those of the pages.\n[[news]]\nsections    = [{}]\npublication = {}\nlanguage    = {}\n\n",
        quoted(&section.name),
        quoted(name),
        quoted(language)
    )
}

/// The text of the configuration.
pub(super) fn configuration(
    facts: &SiteFacts,
    proposals: &[ProposedSource],
    found: &FoundSite,
    engine: &str,
) -> String {
    let zone = TimeZone::system().iana_name().unwrap_or("UTC").to_owned();
    let path = Address::parse(&facts.url).map(|address| address.path().to_owned()).unwrap_or_else(|_| "/".to_owned());
    let mut out = format!(
        "# Idle Atlas: what the site is, where its entries come from, what is written and who is told.
# Paths are relative to this file. ${{NAME}} reads the environment.

[site]
url      = {}   # exactly as visitors reach it
web_root = {}   # what the web server serves; sitemap files are written here
timezone = {}   # for dates without a zone

# Where entries come from. If several sources name the same URL, the first takes precedence.
",
        quoted(&facts.url),
        quoted(&facts.folder),
        quoted(&zone)
    );
    for proposal in proposals {
        out += &(proposal.text() + "\n");
    }
    if !proposals.iter().any(|proposal| proposal.shown.starts_with("table") || proposal.shown.starts_with("sql")) {
        out += MORE;
    }
    out += "# Sections get sitemap files of their own, so that engines report on each separately.
";
    for section in &facts.sections {
        let glob = format!("{path}{}/**", encode_path(&section.folder));
        out += &format!("[[section]]\nname     = {}\nmatching = [{}]\n\n", quoted(&section.name), quoted(&glob));
    }
    if facts.sections.is_empty() {
        out += &format!("# [[section]]\n# name     = \"journal\"\n# matching = [\"{path}journal/**\"]\n\n");
    }
    out += "# Rules for entries; the last rule that matches wins.\n";
    let staff = facts.private.first().map_or("staff", String::as_str);
    out += &format!("# [[rule]]\n# matching = [\"{path}{staff}/**\"]\n# keep     = false\n\n");
    out += &news(facts, found);
    out += &proposed(facts, &path);
    out += "[files]
main          = \"sitemap.xml\"   # the one URL to submit
urls_per_file = \"auto\"          # or a number, 50,000 at most
gzip          = \"beside\"        # beside, only, off

";
    out += &if facts.robots {
        let create = if facts.robots_exists || facts.url_from.is_live() {
            ""
        } else {
            "create = true   # there is none yet: it is made and allows everything. Take this line out if the server has one elsewhere\n"
        };
        format!(
            "[robots]\nfile = {}   # gets a Sitemap line; every other byte stays\n{create}",
            quoted(&format!("{}/robots.txt", facts.folder.trim_end_matches('/')))
        )
    } else {
        "# The site lives in a folder of its host, so its robots.txt is not in this web root. To name it:\n# [robots]\n# file = \"../robots.txt\"\n".to_owned()
    };
    out += &format!(
        "
# Engines that are told of changes. The key is made by: idle-atlas announce --key-file
[[engine]]
name     = \"all-indexnow\"
via      = \"indexnow\"
endpoint = {}
# key    = \"${{INDEXNOW_KEY}}\"   # if you have one already
# wait_until_live = false      # tell it at once, without a look at the live site

# Or let it run by itself: idle-atlas watch, or idle-atlas watch --unit systemd
# [watch]
# quiet_seconds = 5            # so that a site generator can finish
",
        quoted(engine)
    );
    out
}

/// Proposed settings for the site, commented out.
fn proposed(facts: &SiteFacts, path: &str) -> String {
    let mut out = String::new();
    for what in &facts.proposed {
        out += &match *what {
            ARCHIVES => format!(
                "# Archives: pages that exist because entries share something (category, tag, author, year, month, week, day).\n\
                 # [[archive]]\n# by  = \"category\"\n# url = \"{path}category/{{slug}}/\"   # where they are on this site\n\n"
            ),
            NEWS => {
                let section = facts.sections.iter().any(|section| section.name == "news");
                let section = if section {
                    String::new()
                } else {
                    format!("# [[section]]\n# name     = \"news\"\n# matching = [\"{path}news/**\"]\n#\n")
                };
                format!(
                    "# News: the articles of the last two days, in files of their own.\n{section}# [[news]]\n\
                     # sections    = [\"news\"]\n# publication = \"The name of the paper\"   # exactly as it calls itself\n\
                     # language    = \"en\"\n\n"
                )
            }
            ALTERNATES => "# Translations are listed as the pages link to each other (hreflang). The page for everyone else:\n\
                           # [alternates]\n# x_default = \"en\"\n\n"
                .to_owned(),
            STRUCTURED_DATA => "# Files with schema.org VideoObject for pages with a video that have none, for templates to include.\n\
                                # [structured_data]\n# folder = \"structured-data\"\n\n"
                .to_owned(),
            VISITOR_PAGE => "# A page that lists everything for visitors: atlas.html.\n# [visitor_page]\n# title = \"Everything on this site\"\n\n"
                .to_owned(),
            _ => "# A feed of the newest: atlas-newest.xml.\n# [newest]\n# forms = [\"atom\"]   # and \"rss\"\n\n".to_owned(),
        };
    }
    out
}
