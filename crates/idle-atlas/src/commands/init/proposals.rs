//! A source for everything that was found, as TOML. What is certain is a setting; what is not is a comment.

use atlas_io::examine::{ArticleFolder, RowSample, saved_name};

use super::found::FoundSite;
use super::proposed::{ProposedSource, quoted};
use super::row_sources::{of_database, of_table};
use crate::config::DOCUMENTS;
use crate::screen::{count, grouped};

/// The folder beside the configuration in which the sitemaps of a live site are saved.
pub(super) const SAVED: &str = "old-sitemaps";

/// All sources that fit. `from_home` turns a path into one relative to the configuration.
pub(super) fn sources(found: &FoundSite, from_home: &dyn Fn(&str) -> String) -> Vec<ProposedSource> {
    let mut all = Vec::new();
    if found.pages.pages > 0 {
        all.push(pages(found, from_home));
    }
    all.extend(found.articles.iter().map(|folder| articles(found, folder, from_home)));
    all.extend(found.tables.iter().filter_map(|table| of_table(found, table, from_home)));
    for database in &found.databases {
        all.extend(of_database(found, database, from_home));
    }
    all.extend(found.feeds.iter().map(|feed| self::feed(found, feed, from_home)));
    let needs_crawl = !all.iter().any(|one| !one.is_commented);
    all.extend(crawl(found, needs_crawl));
    let is_alone = !all.iter().any(|one| !one.is_commented);
    all.extend(old_sitemaps(found, is_alone, from_home));
    // A configuration without a source does nothing: then guesses have to do.
    if !all.iter().any(|one| !one.is_commented && !one.shown.starts_with("old sitemap")) {
        all.iter_mut().for_each(|one| one.is_commented = false);
    }
    all
}

fn pages(found: &FoundSite, from_home: &dyn Fn(&str) -> String) -> ProposedSource {
    let mut lines = vec![
        "[[source]]".to_owned(),
        "from   = \"html\"".to_owned(),
        format!("folder = {}", quoted(&from_home(&found.web_root))),
    ];
    if found.pages.drop_html {
        lines.push("drop_html = true   # pages are served without .html at the end".to_owned());
    }
    if found.pages.other_canonical.is_some() {
        lines.push("canonical = \"ignore\"   # the canonical links name another site; if followed, they would leave every page out".to_owned());
    }
    if !found.pages.documents.is_empty() {
        let kinds: Vec<String> = found.pages.documents.keys().map(|kind| quoted(kind)).collect();
        let counts: Vec<String> = (found.pages.documents.iter())
            .map(|(kind, number)| format!("{} .{kind}", grouped(*number as u64)))
            .collect();
        lines.push(format!("# documents = [{}]   # to list them, too: {}", kinds.join(", "), counts.join(", ")));
    }
    let mut unsure = Vec::new();
    if found.pages.needs_script {
        unsure.push("The home page is empty until a script has run. If other pages are, too, list them from a table or a database.".to_owned());
    }
    let shown = format!("html {}, {}", found.web_root, count(found.pages.pages as u64, "page", "pages"));
    ProposedSource { lines, is_commented: false, shown, unsure }
}

fn articles(found: &FoundSite, folder: &ArticleFolder, from_home: &dyn Fn(&str) -> String) -> ProposedSource {
    let rows = folder.slugs.iter().map(|slug| vec![slug.clone()]).collect();
    let sample = RowSample { columns: vec!["slug".to_owned()], rows };
    let seen = sample.guess(&folder.name, &found.known).filter(|guess| guess.is_sure).map(|guess| guess.url);
    let has_own = folder.with_url * 10 >= folder.articles * 9;
    let has_pages = found.pages.pages > 0;
    let mut lines = vec![
        "[[source]]".to_owned(),
        "from   = \"markdown\"".to_owned(),
        format!("folder = {}", quoted(&from_home(&folder.name))),
    ];
    let mut unsure = Vec::new();
    match &seen {
        Some(template) => lines.push(format!("fields = {{ url = {} }}", quoted(template))),
        None if has_own => {}
        None => {
            lines.push("# fields = { url = \"/{published:%Y/%m}/{slug}/\" }   # if the URL does not follow from the path of the file".to_owned());
            unsure.push(format!(
                "The URLs of the articles in {} follow from the paths of their files; if that is not so, set fields = {{ url = … }}.",
                folder.name
            ));
        }
    }
    // Where built pages exist, an article under a wrong URL would be left out, or doubled.
    let is_commented = (has_pages && seen.is_none() && !has_own) || cfg!(not(feature = "markdown"));
    let shown = format!("markdown {}, {}", folder.name, count(folder.articles as u64, "article", "articles"));
    ProposedSource { lines, is_commented, shown, unsure }
}

fn feed(found: &FoundSite, (feed, is_named): &(String, bool), from_home: &dyn Fn(&str) -> String) -> ProposedSource {
    let file = match (feed.contains("://"), *is_named) {
        (true, _) => feed.clone(),
        (false, true) => from_home(feed),
        (false, false) => from_home(&format!("{}/{feed}", found.web_root.trim_end_matches('/'))),
    };
    ProposedSource {
        lines: vec!["[[source]]".to_owned(), "from = \"feed\"".to_owned(), format!("file = {}", quoted(&file))],
        // Pages say more than a feed, which has only the newest.
        is_commented: (!is_named && found.pages.pages > 0) || cfg!(not(feature = "feed")),
        shown: format!("feed {feed}"),
        unsure: Vec::new(),
    }
}

/// An old sitemap: beside other sources it gives dates; alone, it has to name the pages.
fn old_sitemap(file: Option<String>, shown: &str, is_alone: bool) -> ProposedSource {
    let mut lines = Vec::new();
    if !is_alone {
        lines.push("# The sitemap so far: its dates hold for pages that have none of their own. Take this out after some months.".to_owned());
    }
    lines.extend(["[[source]]", "from = \"sitemap\""].map(str::to_owned));
    lines.extend((!is_alone).then(|| "moved = true".to_owned()));
    lines.extend(file.map(|file| format!("file = {}", quoted(&file))));
    let shown = if is_alone { format!("sitemap {shown}") } else { format!("old sitemap {shown}") };
    ProposedSource { lines, is_commented: false, shown, unsure: Vec::new() }
}

/// A crawl, if a live site was named, or if only its server can make the pages.
fn crawl(found: &FoundSite, is_needed: bool) -> Vec<ProposedSource> {
    let mut all = Vec::new();
    let is_known = found.live.is_some() || found.pages.scripts > 0;
    if !is_known {
        return all;
    }
    let mut unsure = Vec::new();
    let can_read = found.live.as_ref().is_none_or(|live| live.barred.is_none() && !live.needs_script);
    let has_sitemap = found.live.as_ref().is_some_and(|live| !live.sitemaps.is_empty());
    let is_commented = !is_needed || (!can_read && has_sitemap);
    if let Some(live) = &found.live {
        for feed in &live.feeds {
            all.push(ProposedSource {
                lines: vec!["[[source]]".to_owned(), "from = \"feed\"".to_owned(), format!("file = {}", quoted(feed))],
                is_commented: true,
                shown: format!("feed {feed}"),
                unsure: Vec::new(),
            });
        }
        if let Some(barred) = &live.barred {
            unsure.push(format!("robots.txt forbids a crawl by idle-atlas: {barred}. Allow it there, or list the pages from a table or a database."));
        } else if live.needs_script {
            unsure.push("The home page is empty until a script has run, so a crawl finds no links. List the pages from a table or a database, or from the old sitemap.".to_owned());
        }
    }
    let mut lines = vec![
        "[[source]]".to_owned(),
        "from                = \"crawl\"".to_owned(),
        "requests_per_second = 10       # 0 for no limit".to_owned(),
        "most_pages          = 100000".to_owned(),
    ];
    let linked = |kind: &str| {
        let paths = found.live.iter().flat_map(|live| &live.paths);
        paths.filter(|path| path.to_lowercase().ends_with(&format!(".{kind}"))).count()
    };
    let documents: Vec<String> =
        DOCUMENTS.iter().map(|(kind, _)| *kind).filter(|kind| linked(kind) > 0).map(quoted).collect();
    if !documents.is_empty() {
        lines.push(format!("# documents = [{}]   # to list them, too", documents.join(", ")));
    }
    all.push(ProposedSource { lines, is_commented, shown: format!("crawl {}", found.site.root()), unsure });
    all
}

/// The sitemaps of the site so far.
fn old_sitemaps(found: &FoundSite, is_alone: bool, from_home: &dyn Fn(&str) -> String) -> Vec<ProposedSource> {
    let named = found.sitemaps.iter().map(|file| {
        let path = if file.contains("://") { file.clone() } else { from_home(file) };
        old_sitemap(Some(path), file, is_alone)
    });
    let mut all: Vec<ProposedSource> = named.collect();
    if !found.old_sitemaps.is_empty() {
        // Those in the web root are found anew by each build, wherever they are then.
        all.push(old_sitemap(None, &found.old_sitemaps.join(", "), false));
    }
    let live = found.live.iter().filter(|_| found.old_sitemaps.is_empty()).flat_map(|live| &live.sitemaps);
    all.extend(live.map(|sitemap| {
        let size = match sitemap.files {
            0 => count(sitemap.urls as u64, "URL", "URLs"),
            files => count(files as u64, "file", "files"),
        };
        let file = format!("{SAVED}/{}", saved_name(&sitemap.address));
        old_sitemap(Some(file), &format!("{}, {size}", sitemap.address), is_alone)
    }));
    all
}
