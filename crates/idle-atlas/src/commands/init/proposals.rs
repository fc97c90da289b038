//! A source for everything that was found, as TOML. What is certain is a setting; what is not is a comment.

use atlas_io::examine::{ArticleFolder, RowGuess, RowSample, saved_name};

use super::found::{FoundDatabase, FoundSite, FoundTable};
use super::sections::section_name;
use crate::config::DOCUMENTS;
use crate::screen::{count, grouped};

/// A source.
pub(super) struct ProposedSource {
    /// The lines of its table, from `[[source]]` on.
    pub(super) lines: Vec<String>,
    /// Whether the lines are comments.
    pub(super) is_commented: bool,
    /// What it is, in a few words.
    pub(super) shown: String,
    /// What may not be right, in sentences.
    pub(super) unsure: Vec<String>,
}

impl ProposedSource {
    /// Its lines as text, with the values below each other.
    pub(super) fn text(&self) -> String {
        let setting = |line: &str| {
            let (key, value) = line.split_once('=')?;
            let key = key.trim_end();
            let is_key = key.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'_');
            is_key.then(|| (key.to_owned(), value.trim_start().to_owned()))
        };
        let width = self.lines.iter().filter_map(|line| Some(setting(line)?.0.len())).max().unwrap_or(0);
        let line = |line: &String| {
            let aligned = setting(line).map_or_else(|| line.clone(), |(key, value)| format!("{key:width$} = {value}"));
            let comment = if self.is_commented && !aligned.starts_with('#') { "# " } else { "" };
            format!("{comment}{aligned}\n")
        };
        self.lines.iter().map(line).collect()
    }
}

/// The folder beside the configuration in which the sitemaps of a live site are saved.
pub(super) const SAVED: &str = "old-sitemaps";

/// A text in quotes, as TOML.
pub(super) fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// All sources that fit. `from_home` turns a path into one relative to the configuration.
pub(super) fn sources(found: &FoundSite, from_home: &dyn Fn(&str) -> String) -> Vec<ProposedSource> {
    let mut all = Vec::new();
    if found.pages.pages > 0 {
        all.push(pages(found, from_home));
    }
    all.extend(found.articles.iter().map(|folder| articles(found, folder, from_home)));
    all.extend(found.tables.iter().filter_map(|table| self::table(found, table, from_home)));
    for database in &found.databases {
        all.extend(self::database(found, database, from_home));
    }
    all.extend(found.feeds.iter().map(|feed| self::feed(found, feed, from_home)));
    all.extend(found.sitemaps.iter().map(|file| named_sitemap(file, from_home)));
    let needs_crawl = !all.iter().any(|one| !one.is_commented);
    all.extend(crawl(found, needs_crawl));
    all.extend(moved(found));
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
    let is_commented = has_pages && seen.is_none() && !has_own;
    let shown = format!("markdown {}, {}", folder.name, count(folder.articles as u64, "article", "articles"));
    ProposedSource { lines, is_commented, shown, unsure }
}

fn table(found: &FoundSite, table: &FoundTable, from_home: &dyn Fn(&str) -> String) -> Option<ProposedSource> {
    let name = table.file.rsplit('/').next().unwrap_or(&table.file);
    let stem = name.split('.').next().unwrap_or(name);
    let guess = table.sample.guess(stem, &found.known)?;
    let file = if table.file.contains("://") { table.file.clone() } else { from_home(&table.file) };
    let head = vec!["[[source]]".to_owned(), "from    = \"table\"".to_owned(), format!("file    = {}", quoted(&file))];
    let rows = table.sample.rows.len();
    let rows = if rows < 200 { count(rows as u64, "row", "rows") } else { "200 rows or more".to_owned() };
    Some(of_rows(
        found,
        (stem, &table.file),
        &table.sample,
        guess,
        (head, table.is_named, format!("table {}, {rows}", table.file)),
    ))
}

fn database(found: &FoundSite, database: &FoundDatabase, from_home: &dyn Fn(&str) -> String) -> Vec<ProposedSource> {
    let connection = match database.connection.strip_prefix("sqlite:") {
        Some(path) => format!("sqlite:{}", from_home(path)),
        None => database.connection.clone(),
    };
    let one = |table: &atlas_io::examine::DatabaseTable| {
        let guess = table.sample.guess(&table.name, &found.known)?;
        let mut columns: Vec<String> = Vec::new();
        let mut wanted: Vec<&str> = table
            .sample
            .columns
            .iter()
            .map(String::as_str)
            .filter(|column| {
                guess.url == **column
                    || guess.url.contains(&format!("{{{column}}}"))
                    || guess.fields.iter().any(|field| field.from == **column)
                    || is_own_field(column)
            })
            .collect();
        wanted.dedup();
        columns.extend(wanted.into_iter().map(|column| in_query(column, &connection)));
        let mut head = vec!["[[source]]".to_owned(), "from    = \"sql\"".to_owned()];
        let comment = if database.needs_password { "   # the password comes from the environment" } else { "" };
        head.push(format!("connection = {}{comment}", quoted(&connection)));
        let others: Vec<&str> = (table.sample.columns.iter())
            .map(String::as_str)
            .filter(|column| !columns.contains(&in_query(column, &connection)))
            .take(12)
            .collect();
        if !others.is_empty() {
            head.push(format!("# other columns: {}", others.join(", ")));
        }
        if let Some(gate) = guess.gates.first() {
            head.push(format!("# if not every row is public, add a condition, such as: where {gate} = …"));
        }
        head.push(format!("query   = {}", quoted(&format!("select {} from {}", columns.join(", "), table.name))));
        let stem = table.name.rsplit('.').next().unwrap_or(&table.name).trim_matches(['"', '`']);
        let shown = format!("sql {}, table {}", atlas_io::sources::sql::shown(&connection), table.name);
        Some(of_rows(found, (stem, &table.name), &table.sample, guess, (head, database.is_named, shown)))
    };
    let mut all: Vec<ProposedSource> = database.tables.iter().filter_map(one).collect();
    // Several queries on one database are several sources, told apart by name.
    if all.len() > 1 {
        for (proposal, table) in all
            .iter_mut()
            .zip(database.tables.iter().filter(|table| table.sample.guess(&table.name, &found.known).is_some()))
        {
            proposal.lines.insert(2, format!("name    = {}", quoted(table.name.trim_matches(['"', '`']))));
        }
    }
    all
}

/// A column as it is written in a query.
fn in_query(column: &str, connection: &str) -> String {
    let is_plain = !column.is_empty()
        && column.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_')
        && !column.as_bytes()[0].is_ascii_digit();
    let quote = if connection.starts_with("mysql") || connection.starts_with("mariadb") { '`' } else { '"' };
    if is_plain && !["order", "group", "key", "from", "to", "index"].contains(&column) {
        column.to_owned()
    } else {
        format!("{quote}{column}{quote}")
    }
}

/// Whether a column has the name of a field, so that it needs no mapping.
fn is_own_field(column: &str) -> bool {
    [
        "title",
        "modified",
        "published",
        "expires",
        "images",
        "videos",
        "description",
        "language",
        "category",
        "tags",
        "author",
        "draft",
        "noindex",
        "keep",
    ]
    .contains(&column)
}

/// A source with rows: from its first lines, whether it was named, and what it is in a few words.
fn of_rows(
    found: &FoundSite,
    (stem, place): (&str, &str),
    sample: &RowSample,
    guess: RowGuess,
    (mut lines, is_named, shown): (Vec<String>, bool, String),
) -> ProposedSource {
    let mut unsure = Vec::new();
    let mut fields: Vec<String> = Vec::new();
    if guess.url != "url" {
        fields.push(format!("url = {}", quoted(&guess.url)));
    }
    let column = guess.url.split_once('{').and_then(|(_, rest)| rest.split_once('}')).map(|(column, _)| column);
    fields.extend(column.filter(|column| *column != "slug").map(|column| format!("slug = {}", quoted(column))));
    fields.extend(guess.fields.iter().map(|field| format!("{} = {}", field.field, quoted(&field.from))));
    let comment = if guess.is_sure { "" } else { "   # the folder in url is a guess" };
    if !fields.is_empty() {
        lines.push(format!("fields  = {{ {} }}{comment}", fields.join(", ")));
    }
    if !guess.is_sure {
        unsure.push(format!(
            "Nothing shows where the rows of {place} are served: “{}” is a guess. Set “url” under fields.",
            guess.url
        ));
    }
    if let Some(format) = guess.dates {
        let comment = if guess.is_date_unclear { "   # or is the month first?" } else { "" };
        lines.push(format!("dates   = {}{comment}", quoted(format)));
        if guess.is_date_unclear {
            unsure.push(format!("In {place}, the day is taken to come before the month ({format})."));
        }
    }
    if let Some(separator) = guess.lists {
        lines.push(format!("lists   = {}", quoted(separator)));
    }
    let name = section_name(stem);
    if let Some(name) = name.filter(|name| !found.facts_sections().contains(name) && column.is_some()) {
        lines.push(format!("section = {}", quoted(&name)));
    }
    if found.pages.pages > 0 && !is_in_folder(found, sample, &guess) {
        lines.push(
            "pages   = \"may-be-elsewhere\"   # the folder of pages does not contain them; an application serves them"
                .to_owned(),
        );
    }
    if !guess.gates.is_empty() && !lines.iter().any(|line| line.starts_with("# if not every row")) {
        lines.push(format!(
            "# {} may say which rows are public: map it to draft, keep or noindex",
            guess.gates.join(", ")
        ));
    }
    // What was named is meant, even if its URLs are a guess.
    let is_commented = !guess.is_sure && !is_named;
    ProposedSource { lines, is_commented, shown, unsure }
}

/// Whether most rows have a page in the folder of pages.
fn is_in_folder(found: &FoundSite, sample: &RowSample, guess: &RowGuess) -> bool {
    if guess.url.contains('{') {
        return guess.is_sure && found.old_sitemaps.is_empty() && found.live.is_none();
    }
    let Some(at) = sample.columns.iter().position(|column| *column == guess.url) else { return false };
    let mut there = 0;
    let mut all = 0;
    for cell in sample.rows.iter().filter_map(|row| row.get(at)).filter(|cell| !cell.is_empty()) {
        all += 1;
        there += usize::from(found.pages.known.has(cell));
    }
    there * 2 > all
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
        is_commented: !is_named && found.pages.pages > 0,
        shown: format!("feed {feed}"),
        unsure: Vec::new(),
    }
}

fn named_sitemap(file: &str, from_home: &dyn Fn(&str) -> String) -> ProposedSource {
    let file_from_home = if file.contains("://") { file.to_owned() } else { from_home(file) };
    ProposedSource {
        lines: vec![
            "[[source]]".to_owned(),
            "from = \"sitemap\"".to_owned(),
            format!("file = {}", quoted(&file_from_home)),
        ],
        is_commented: false,
        shown: format!("sitemap {file}"),
        unsure: Vec::new(),
    }
}

/// A crawl, if a live site was named, or if only its server can make the pages.
fn crawl(found: &FoundSite, is_needed: bool) -> Vec<ProposedSource> {
    let mut all = Vec::new();
    let is_known = found.live.is_some() || found.pages.scripts > 0;
    if !is_known {
        return all;
    }
    let mut unsure = Vec::new();
    let mut is_commented = !is_needed;
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
            is_commented &= live.sitemaps.is_empty();
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

/// The sitemaps from which the site moves.
fn moved(found: &FoundSite) -> Vec<ProposedSource> {
    let comment =
        "# The sitemap so far: its dates hold for pages that have none of their own. Take this out after some months.";
    let with = |file: Option<String>, shown: String| {
        let mut lines = vec![
            comment.to_owned(),
            "[[source]]".to_owned(),
            "from  = \"sitemap\"".to_owned(),
            "moved = true".to_owned(),
        ];
        lines.extend(file.map(|file| format!("file  = {}", quoted(&file))));
        ProposedSource { lines, is_commented: false, shown, unsure: Vec::new() }
    };
    if !found.old_sitemaps.is_empty() {
        return vec![with(None, format!("old sitemap {}", found.old_sitemaps.join(", ")))];
    }
    let live = found.live.iter().flat_map(|live| &live.sitemaps);
    live.map(|sitemap| {
        let files = if sitemap.files > 0 {
            format!(", {}", count(sitemap.files as u64, "file", "files"))
        } else {
            format!(", {}", count(sitemap.urls as u64, "URL", "URLs"))
        };
        with(
            Some(format!("{SAVED}/{}", saved_name(&sitemap.address))),
            format!("old sitemap {}{files}", sitemap.address),
        )
    })
    .collect()
}
