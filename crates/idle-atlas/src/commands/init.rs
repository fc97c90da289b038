//! The command `init`: examines a folder of pages and writes a configuration that works as it is.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::address::{Address, Site};
use atlas_core::choose;
use atlas_core::page::{PageReader, read};
use atlas_core::robots::sitemap_lines;
use atlas_io::sources::folder::SourceFolder;
use atlas_io::sources::html::{self, path_of};
use atlas_store::destination::MAIN;
use jiff::tz::TimeZone;

use crate::config::NAME;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::view::init::{SiteFacts, UrlFrom};
use crate::{args, view};

/// How many pages are read to find the site's URL.
const SAMPLE: usize = 300;
/// Folders with fewer pages than this get no section of their own.
const SECTION_LEAST: usize = 8;
/// The most sections that are proposed.
const MOST_SECTIONS: usize = 30;
/// Folders with these names are often not meant for engines.
const PRIVATE: [&str; 9] = ["account", "admin", "cart", "checkout", "drafts", "internal", "login", "private", "staff"];

pub fn run(init: &args::InitArguments, shared: &args::Shared, screen: &Screen) -> Result<Exit, Failure> {
    let (target, screen) = match &shared.config[..] {
        [] => (PathBuf::from(NAME), screen.clone()),
        [one] if one.is_dir() => (one.join(NAME), screen.for_site(Some(&one.join(NAME)))),
        [one] => (one.clone(), screen.for_site(Some(one))),
        _ => return Err(Failure::said("--config: name one configuration to write")),
    };
    let found = write(Path::new(""), &target, init)?;
    screen.show(&found, || view::init::wrote(&found, &screen.layout_of_none()))?;
    Ok(Exit::Done)
}

/// Writes the configuration to `target`, which, like `init.folder`, is relative to the folder `base`.
pub fn write(base: &Path, target: &Path, init: &args::InitArguments) -> Result<SiteFacts, Failure> {
    let name = target.display().to_string();
    let target = base.join(target);
    if target.exists() {
        return Err(Failure::said(format!(
            "there is a {} already; edit it, or move it away to begin anew",
            target.display()
        )));
    }
    let folder = base.join(&init.folder);
    let whole = |path: &Path| fs::canonicalize(path).ok();
    let Some(web_root) = whole(&folder).filter(|folder| folder.is_dir()) else {
        return Err(Failure::said(format!(
            "there is no folder {}; name the folder of built pages: idle-atlas init FOLDER",
            folder.display()
        )));
    };
    let home = target.parent().filter(|home| !home.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let here = whole(home);
    if here.is_none() {
        return Err(Failure::said(format!("there is no folder {}; make it first", home.display())));
    }
    let is_beside = here == whole(if base.as_os_str().is_empty() { Path::new(".") } else { base });
    if here.is_some_and(|here| here.starts_with(&web_root)) {
        return Err(Failure::said(format!(
            "the configuration would be written into {}, where visitors could read it; go to the folder above and run: idle-atlas init {}",
            folder.display(),
            web_root.file_name().map_or_else(|| "FOLDER".into(), |name| name.to_string_lossy())
        )));
    }
    // Paths in a configuration are relative to it.
    let shown = if is_beside { init.folder.display().to_string() } else { web_root.display().to_string() };
    let found = SiteFacts { config: name, folder: shown, ..look(&folder, init)? };
    let text = configuration(&found, init);
    fs::write(&target, text).map_err(|error| Failure::said(format!("cannot write {}: {error}", target.display())))?;
    Ok(found)
}

fn look(folder: &Path, init: &args::InitArguments) -> Result<SiteFacts, Failure> {
    let placeholder = Site::parse("https://placeholder.example/").map_err(|error| Failure::said(error.to_string()))?;
    let pages = SourceFolder { path: folder.to_owned(), shown: folder.display().to_string() };
    let files: Vec<(PathBuf, String)> = html::files(&pages);
    if files.is_empty() {
        return Err(Failure::said(format!(
            "there is no page (.html) in {}; name the folder of built pages: idle-atlas init FOLDER",
            folder.display()
        )));
    }
    let votes = Votes::of(&files, &placeholder, &PageReader::default());
    let robots = fs::read(folder.join("robots.txt")).unwrap_or_default();
    let (site, url_from) = match &init.url {
        Some(url) => (Site::parse(url).map_err(|why| Failure::said(format!("--url: {why}")))?, UrlFrom::Told),
        None => votes.site().or_else(|| from_robots(&robots)).ok_or_else(|| {
            Failure::said(format!(
                "the pages do not state the site's URL; add it: idle-atlas init {} --url https://www.marrowvale.example/",
                init.folder.display()
            ))
        })?,
    };
    let tops = by_top_folder(&files);
    let mut sections: Vec<(String, String, usize)> = Vec::new();
    for (name, count) in tops.iter().filter(|(_, count)| *count >= SECTION_LEAST.max(files.len() / 50)) {
        let slug = slug(name);
        let taken = slug == choose::DEFAULT_SECTION || sections.iter().any(|(known, ..)| *known == slug);
        if choose::check_section_name(&slug).is_ok() && !taken && sections.len() < MOST_SECTIONS {
            sections.push((slug, name.clone(), *count));
        }
    }
    let private = tops.iter().map(|(name, _)| name.clone()).filter(|name| PRIVATE.contains(&name.as_str())).collect();
    let main_exists = folder.join(MAIN).exists();
    let news = tops.iter().any(|(name, _)| name == "news");
    let proposals = [
        (votes.filed > 0, ARCHIVES),
        (news && votes.dated > 0, NEWS),
        (votes.translated > 0, ALTERNATES),
        (votes.bare_videos > 0, STRUCTURED_DATA),
        (true, VISITOR_PAGE),
        (votes.dated > 0, NEWEST),
    ];
    let proposed = proposals.into_iter().filter_map(|(suits, what)| suits.then_some(what)).collect();
    Ok(SiteFacts {
        config: NAME.to_owned(),
        url: site.root().as_str().to_owned(),
        url_from,
        folder: init.folder.display().to_string(),
        pages: files.len(),
        drop_html: votes.drops_html(),
        other_canonical: votes.other_canonical(&site),
        sections,
        private,
        proposed,
        robots: address_path(&site) == "/",
        robots_exists: folder.join("robots.txt").exists(),
        main_exists,
    })
}

fn address_path(site: &Site) -> &str {
    site.root().path()
}

/// What pages say about their addresses, and what they contain.
#[derive(Default)]
struct Votes {
    /// One of the canonical links, for messages.
    example: Option<Address>,
    roots: BTreeMap<String, usize>,
    with: usize,
    without: usize,
    stated: usize,
    /// The number of pages that have categories; likewise for publication dates, translations, and videos without
    /// linked data.
    filed: usize,
    dated: usize,
    translated: usize,
    bare_videos: usize,
}

impl Votes {
    fn of(files: &[(PathBuf, String)], site: &Site, reader: &PageReader) -> Self {
        let mut votes = Self::default();
        let step = files.len().div_ceil(SAMPLE);
        for (path, relative) in files.iter().step_by(step) {
            let Ok(bytes) = fs::read(path) else { continue };
            let Ok(page) = read(&bytes, &site.of_file(relative), reader) else { continue };
            votes.filed += usize::from(!page.categories.is_empty());
            votes.dated += usize::from(page.published.is_some());
            votes.translated += usize::from(!page.alternates.is_empty());
            votes.bare_videos += usize::from(!page.videos.is_empty() && page.stated_videos.is_empty());
            let Some(canonical) = page.canonical.filter(|canonical| canonical.origin() != site.root().origin()) else {
                continue;
            };
            votes.stated += 1;
            votes.count(&canonical, relative);
            votes.example.get_or_insert(canonical);
        }
        votes
    }

    fn count(&mut self, canonical: &Address, relative: &str) {
        let encoded = atlas_core::address::encode_path(path_of(relative, false));
        let dropped = atlas_core::address::encode_path(path_of(relative, true));
        if let Some(root) = canonical.as_str().strip_suffix(&encoded).filter(|root| root.ends_with('/')) {
            self.with += usize::from(encoded != dropped);
            *self.roots.entry(root.to_owned()).or_default() += 1;
        } else if let Some(root) = canonical.as_str().strip_suffix(&dropped).filter(|root| root.ends_with('/')) {
            self.without += 1;
            *self.roots.entry(root.to_owned()).or_default() += 1;
        }
    }

    /// The root that more than half of the pages which state one agree on.
    fn site(&self) -> Option<(Site, UrlFrom)> {
        let (root, count) = self.roots.iter().max_by_key(|(_, count)| **count)?;
        let site = Site::parse(root).ok()?;
        (count * 2 > self.stated).then_some((site, UrlFrom::Canonical { agree: *count, stated: self.stated }))
    }

    /// A canonical link, if most of them are not on this site. If they counted, everything would be left out.
    fn other_canonical(&self, site: &Site) -> Option<String> {
        let agree = self.roots.get(site.root().as_str()).copied().unwrap_or(0);
        let example = self.example.as_ref().filter(|_| agree * 2 < self.stated)?;
        Some(example.as_str().to_owned())
    }

    fn drops_html(&self) -> bool {
        self.without > self.with
    }
}

fn from_robots(robots: &[u8]) -> Option<(Site, UrlFrom)> {
    let (_, address) = sitemap_lines(robots).into_iter().next()?;
    let address = Address::parse(&address).ok()?;
    Some((Site::parse(address.folder()).ok()?, UrlFrom::Robots))
}

/// The folders directly below the web root with their pages, largest first.
fn by_top_folder(files: &[(PathBuf, String)]) -> Vec<(String, usize)> {
    let mut tops: BTreeMap<&str, usize> = BTreeMap::new();
    for (_, relative) in files {
        if let Some((top, _)) = relative.split_once('/') {
            *tops.entry(top).or_default() += 1;
        }
    }
    let mut tops: Vec<(String, usize)> = tops.into_iter().map(|(name, count)| (name.to_owned(), count)).collect();
    tops.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    tops
}

fn slug(name: &str) -> String {
    let slug: String = name
        .chars()
        .map(|letter| if letter.is_ascii_alphanumeric() { letter.to_ascii_lowercase() } else { '-' })
        .collect();
    slug.trim_matches('-').chars().take(40).collect()
}

fn configuration(found: &SiteFacts, init: &args::InitArguments) -> String {
    let quoted = |text: &str| toml::Value::String(text.to_owned()).to_string();
    let zone = TimeZone::system().iana_name().unwrap_or("UTC").to_owned();
    let path = Address::parse(&found.url).map(|address| address.path().to_owned()).unwrap_or_else(|_| "/".to_owned());
    let mut out = format!(
        "# Idle Atlas: what the site is, where its entries come from, what is written and who is told.
# Paths are relative to this file. ${{NAME}} reads the environment.

[site]
url      = {}   # exactly as visitors reach it
web_root = {}   # what the web server serves; sitemap files are written here
timezone = {}   # for dates without a zone

# Where entries come from. If several sources name the same URL, the first takes precedence.
[[source]]
from   = \"html\"
folder = {}
",
        quoted(&found.url),
        quoted(&found.folder),
        quoted(&zone),
        quoted(&found.folder)
    );
    if found.drop_html {
        out += "drop_html = true   # pages are served without .html at the end\n";
    }
    if found.other_canonical.is_some() {
        out += "canonical = \"ignore\"   # the canonical links name another site; if followed, they would leave every page out\n";
    }
    out += "
# A table of further entries (CSV or JSON Lines):
# [[source]]
# from    = \"table\"
# file    = \"photographs.csv\"
# section = \"photographs\"
# fields  = { url = \"/photographs/{Slug}/\", modified = \"Updated\" }   # a column, or a template over columns
# dates   = \"%d/%m/%Y\"                                               # if they are not ISO

# Sections get sitemap files of their own, so that engines report on each separately.
";
    for (name, folder, _) in &found.sections {
        let glob = format!("{path}{}/**", atlas_core::address::encode_path(folder));
        out += &format!("[[section]]\nname     = {}\nmatching = [{}]\n\n", quoted(name), quoted(&glob));
    }
    out += "# Rules for entries; the last rule that matches wins.\n";
    let staff = found.private.first().map_or("staff", String::as_str);
    out += &format!("# [[rule]]\n# matching = [\"{path}{staff}/**\"]\n# keep     = false\n\n");
    out += &proposals(found, &path);
    out += "[files]
main          = \"sitemap.xml\"   # the one URL to submit
urls_per_file = \"auto\"          # or a number, 50,000 at most
gzip          = \"beside\"        # beside, only, off

";
    out += &if found.robots {
        let create = if found.robots_exists {
            ""
        } else {
            "create = true   # there is none yet: it is made and allows everything. Take this line out if the server has one elsewhere\n"
        };
        format!(
            "[robots]\nfile = {}   # gets a Sitemap line; every other byte stays\n{create}",
            quoted(&format!("{}/robots.txt", found.folder.trim_end_matches('/')))
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
        quoted(&init.engine)
    );
    out
}

const ARCHIVES: &str = "archives";
const NEWS: &str = "news";
const ALTERNATES: &str = "languages";
const STRUCTURED_DATA: &str = "data about videos";
const VISITOR_PAGE: &str = "a page for visitors";
const NEWEST: &str = "a feed of the newest";

/// Proposed settings for the site, commented out.
fn proposals(found: &SiteFacts, path: &str) -> String {
    let mut out = String::new();
    for what in &found.proposed {
        out += &match *what {
            ARCHIVES => format!(
                "# Archives: pages that exist because entries share something (category, tag, author, year, month, week, day).\n\
                 # [[archive]]\n# by  = \"category\"\n# url = \"{path}category/{{slug}}/\"   # where they are on this site\n\n"
            ),
            NEWS => {
                let section = found.sections.iter().any(|(name, ..)| name == "news");
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("journal", "journal")]
    #[case("C API", "c-api")]
    #[case("_static", "static")]
    #[case("Teithiau ’26", "teithiau--26")]
    fn folders_become_names(#[case] folder: &str, #[case] wanted: &str) {
        assert_eq!(slug(folder), wanted);
    }

    #[test]
    fn canonicals_vote_for_the_root() {
        let mut votes = Votes { stated: 3, ..Votes::default() };
        let address = |text: &str| Address::parse(text).unwrap();
        votes.count(&address("https://www.marrowvale.example/cy/"), "cy/index.html");
        votes.count(&address("https://www.marrowvale.example/fares"), "fares.html");
        votes.count(&address("https://old.marrowvale.example/x/y.html"), "z.html");
        let (site, from) = votes.site().unwrap();
        assert_eq!(site.root().as_str(), "https://www.marrowvale.example/");
        assert!(matches!(from, UrlFrom::Canonical { agree: 2, stated: 3 }));
        assert!(votes.drops_html());
    }
}
