//! Resolving each `[[source]]`: the keys that its kind accepts, their bounds and their defaults.

mod sql;

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use atlas_core::choose;
use atlas_core::page::PageReader;
use atlas_io::reading::field::ColumnMapping;
use atlas_io::reading::files::InputFiles;
use atlas_io::reading::input::{Input, WAIT};
use atlas_io::reading::record::{Dates, RecordSettings, SEPARATOR, SourceSection};
use atlas_io::secret::Secret;
use atlas_io::sources::command::CommandSource;
use atlas_io::sources::crawl::CrawlSource;
#[cfg(feature = "feed")]
use atlas_io::sources::feed::FeedSource;
use atlas_io::sources::folder::SourceFolder;
use atlas_io::sources::html::HtmlSource;
#[cfg(feature = "markdown")]
use atlas_io::sources::markdown::MarkdownSource;
use atlas_io::sources::oembed::Asking;
use atlas_io::sources::sitemaps::{OldSitemap, SitemapPurpose, find_old_sitemaps};
use atlas_io::sources::sql::SharedConnection;
use atlas_io::sources::table::{Format, TableSource, WITHOUT_PARQUET};
use atlas_store::build::{ARCHIVES, overwritten};
use atlas_store::destination::MAIN;
use atlas_store::source::{Named, Source};

use super::context::{Context, expand, is_template, ledger_folder};
use super::file::ConfigFile;
use super::pages::{asking, parameters, reader};
use super::tables::{At, SourceTable};
use crate::exit::Failure;

/// The keys of each kind of source, besides those that all kinds accept.
pub(super) const KEYS: [(&str, &[&str]); 8] = [
    ("html", &["folder", "drop_html", "canonical", "documents"]),
    ("markdown", &["folder", "dates", "lists", "fields"]),
    ("table", &["file", "layout", "dates", "lists", "fields", "wait_seconds"]),
    (
        "sql",
        &["connection", "query", "query_file", "dates", "lists", "fields", "wait_seconds", "retries", "full_every"],
    ),
    ("feed", &["file", "wait_seconds"]),
    (
        "crawl",
        &[
            "requests_per_second",
            "connections",
            "most_pages",
            "most_depth",
            "most_minutes",
            "wait_seconds",
            "drop_parameters",
            "documents",
        ],
    ),
    ("sitemap", &["file", "hints", "moved", "wait_seconds"]),
    ("command", &["run", "dates", "lists", "fields", "wait_seconds"]),
];

/// How long a program may take, unless the configuration says otherwise.
const PROGRAM_WAIT: Duration = Duration::from_secs(600);

/// The name of the overwritten sitemap as a source.
const OVERWRITTEN: &str = "overwritten sitemap";

/// The keys that all kinds accept.
pub(super) const ALL_TAKE: [&str; 3] = ["name", "section", "pages"];

/// The kinds of source whose rows can make sections.
const MAKE_SECTIONS: [&str; 3] = ["table", "sql", "command"];

/// Parameters that never select another page in a crawl: those of campaigns and sessions.
const NO_OTHER_PAGE: [&str; 6] = ["utm_*", "*clid", "sid", "sessionid", "phpsessid", "jsessionid"];

/// Documents that can be listed besides pages: extension and media type.
pub const DOCUMENTS: [(&str, &str); 10] = [
    ("pdf", "application/pdf"),
    ("txt", "text/plain"),
    ("rtf", "application/rtf"),
    ("epub", "application/epub+zip"),
    ("odt", "application/vnd.oasis.opendocument.text"),
    ("ods", "application/vnd.oasis.opendocument.spreadsheet"),
    ("odp", "application/vnd.oasis.opendocument.presentation"),
    ("docx", "application/vnd.openxmlformats-officedocument.wordprocessingml.document"),
    ("xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"),
    ("pptx", "application/vnd.openxmlformats-officedocument.presentationml.presentation"),
];

/// Whether a site has moved from this source, an old sitemap.
pub(super) fn has_moved(source: &SourceTable) -> bool {
    source.moved.as_ref().is_some_and(|moved| *moved.as_ref())
}

/// The context in which sources are resolved.
pub struct Sources<'a> {
    context: &'a Context<'a>,
    tables: &'a [At<SourceTable>],
    reader: PageReader,
    asking: Arc<Asking>,
    main: String,
    /// The connections that `sql` sources share, by their URLs.
    connections: RefCell<BTreeMap<String, Arc<SharedConnection>>>,
}

impl<'a> Sources<'a> {
    pub fn new(context: &'a Context<'a>, typed: &'a ConfigFile) -> Result<Self, Failure> {
        let reader = reader(context, typed)?;
        let asking = Arc::new(asking(context, typed)?);
        let main = typed.files.main.as_ref().map_or(MAIN, |name| name.as_ref()).to_owned();
        Ok(Self { context, tables: &typed.source, reader, asking, main, connections: RefCell::default() })
    }

    /// All sources, in order, each with a unique name.
    pub fn all(&self) -> Result<Vec<Box<dyn Source>>, Failure> {
        let sources = self.tables.iter().map(|table| self.one(table)).collect::<Result<Vec<_>, _>>()?;
        let mut named: Vec<Box<dyn Source>> = Vec::new();
        for (table, source) in self.tables.iter().zip(sources) {
            let name = self.name(table.as_ref(), source.as_ref(), &named)?;
            let may_be_elsewhere = self.may_be_elsewhere(table.as_ref())?;
            named.push(Box::new(Named { name, may_be_elsewhere, source }));
        }
        named.extend(self.overwritten());
        Ok(named)
    }

    /// The overwritten sitemap, which has the lowest precedence.
    fn overwritten(&self) -> Option<Box<dyn Source>> {
        let path = overwritten(&ledger_folder(&self.context.origin.path), &self.main);
        let source = OldSitemap {
            purpose: SitemapPurpose::Overwritten,
            hints: false,
            files: vec![(Input::File(path.clone()), path.display().to_string())],
            site: self.context.site.clone(),
            section: None,
            timezone: self.context.timezone.clone(),
            wait: WAIT,
        };
        let is_read_already = self.tables.iter().any(|table| has_moved(table.as_ref()));
        (path.is_file() && !is_read_already).then(|| -> Box<dyn Source> {
            Box::new(Named { name: OVERWRITTEN.to_owned(), may_be_elsewhere: false, source: Box::new(source) })
        })
    }

    /// The name of a source: the configured one, else one made from its kind and input. If another source has the same
    /// name, the section or else a number distinguishes them.
    fn name(&self, table: &SourceTable, source: &dyn Source, named: &[Box<dyn Source>]) -> Result<String, Failure> {
        let is_taken = |name: &str| named.iter().any(|other| other.name() == name);
        if let Some(typed) = &table.name {
            let name = typed.as_ref().trim();
            if name.is_empty() || [ARCHIVES, OVERWRITTEN].contains(&name) || name.contains(['\n', '\t']) {
                let message = format!(
                    "“name”: expected a name of its own, such as “depot”; “{ARCHIVES}” and “{OVERWRITTEN}” are taken"
                );
                return Err(self.context.origin.error(typed, message));
            }
            if is_taken(name) {
                let message = format!("“name”: there are two sources “{name}”; give one another name");
                return Err(self.context.origin.error(typed, message));
            }
            return Ok(name.to_owned());
        }
        let plain = source.name();
        let by_section = table.section.as_ref().map(|section| format!("{plain} ({})", section.as_ref()));
        let numbered = (2..).map(|number| format!("{plain} {number}"));
        let mut names = std::iter::once(plain.clone()).chain(by_section).chain(numbered);
        Ok(names.find(|name| !is_taken(name)).unwrap_or_default())
    }

    fn may_be_elsewhere(&self, table: &SourceTable) -> Result<bool, Failure> {
        match table.pages.as_ref().map(|word| (word, word.as_ref().as_str())) {
            None | Some((_, "in-folder")) => Ok(false),
            Some((_, "may-be-elsewhere")) => Ok(true),
            Some((word, other)) => {
                let message = format!("“pages”: “{other}” is unknown; expected in-folder or may-be-elsewhere");
                Err(self.context.origin.error(word, message))
            }
        }
    }

    fn one(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let (source, origin) = (table.as_ref(), self.context.origin);
        let kind = source.from.as_ref().as_str();
        if let Some(section) = source.section.as_ref().filter(|name| !is_template(name.as_ref())) {
            choose::check_section_name(section.as_ref())
                .map_err(|why| origin.error(section, format!("“section”: {why}")))?;
        } else if let Some(section) = source.section.as_ref().filter(|_| !MAKE_SECTIONS.contains(&kind)) {
            let message = format!(
                "“section”: only sources of the kinds {} make sections from their rows; write the name of one section",
                MAKE_SECTIONS.join(", ")
            );
            return Err(origin.error(section, message));
        }
        let Some((_, keys)) = KEYS.iter().find(|(known, _)| *known == kind) else {
            let known: Vec<&str> = KEYS.iter().map(|(kind, _)| *kind).collect();
            let message = format!("“from”: “{kind}” is not a kind of source; expected {}", known.join(", "));
            return Err(origin.error(&source.from, message));
        };
        if let Some((key, at)) =
            source.typed().into_iter().find(|(key, _)| !ALL_TAKE.contains(key) && !keys.contains(key))
        {
            let message = format!(
                "“{key}” has no effect on a source of kind {kind}, which takes {}",
                [*keys, &ALL_TAKE].concat().join(", ")
            );
            return Err(origin.error_at(at, message));
        }
        match kind {
            "html" => self.html(table),
            "markdown" => self.markdown(table),
            "table" => self.table(table),
            "sql" => self.sql(table),
            "feed" => self.feed(table),
            "sitemap" => self.sitemap(table),
            "command" => self.command(table),
            _ => self.crawl(table),
        }
    }

    /// Rejects a kind of source that this build of the tool lacks. Its cargo feature has the same name.
    #[cfg(not(all(feature = "feed", feature = "markdown")))]
    fn not_built_in(&self, table: &At<SourceTable>) -> Failure {
        let (source, origin) = (table.as_ref(), self.context.origin);
        let kind = source.from.as_ref();
        let message =
            format!("“from”: this idle-atlas was built without “{kind}”; build it with the cargo feature “{kind}”");
        origin.error(&source.from, message)
    }

    fn needed<'t, T>(
        &self,
        key: &str,
        value: Option<&'t At<T>>,
        table: &At<SourceTable>,
    ) -> Result<&'t At<T>, Failure> {
        value.ok_or_else(|| self.context.origin.error(table, format!("this source needs “{key}”")))
    }

    fn section(&self, source: &SourceTable) -> Option<String> {
        source.section.as_ref().map(|name| name.as_ref().clone())
    }

    fn folder(&self, table: &At<SourceTable>) -> Result<SourceFolder, Failure> {
        let folder = expand(self.context.origin, self.needed("folder", table.as_ref().folder.as_ref(), table)?)?;
        Ok(SourceFolder { path: self.context.folder.join(folder.expose()), shown: folder.to_string() })
    }

    fn html(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let source = table.as_ref();
        let folder = self.folder(table)?;
        let whole = |path: &Path| std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
        let (inner, outer) = (whole(&folder.path), whole(self.context.web_root));
        let below =
            inner.strip_prefix(&outer).ok().map(|below| below.to_string_lossy().into_owned()).unwrap_or_default();
        let below = if below.is_empty() { below } else { below + "/" };
        Ok(Box::new(HtmlSource {
            folder,
            site: self.context.site.clone(),
            address: self.context.site.of_file(&below).into_string(),
            below,
            drop_html: source.drop_html.as_ref().is_some_and(|drop| *drop.as_ref()),
            heed_canonical: match source.canonical.as_ref().map(|word| (word, word.as_ref().as_str())) {
                None | Some((_, "heed")) => true,
                Some((_, "ignore")) => false,
                Some((word, other)) => {
                    let message = format!("“canonical”: “{other}” is unknown; expected heed or ignore");
                    return Err(self.context.origin.error(word, message));
                }
            },
            documents: self.documents(source)?.into_iter().map(|(extension, _)| extension.to_owned()).collect(),
            section: self.section(source),
            reader: self.reader.clone(),
            asking: Arc::clone(&self.asking),
        }))
    }

    fn documents(&self, source: &SourceTable) -> Result<Vec<(&'static str, &'static str)>, Failure> {
        let Some(typed) = &source.documents else { return Ok(Vec::new()) };
        let known = |typed_one: &String| {
            let name = typed_one.trim_start_matches('.').to_lowercase();
            DOCUMENTS.into_iter().find(|(extension, _)| *extension == name).ok_or_else(|| {
                let known: Vec<&str> = DOCUMENTS.iter().map(|(extension, _)| *extension).collect();
                let message = format!("“documents”: “{typed_one}” is unknown; expected any of {}", known.join(", "));
                self.context.origin.error(typed, message)
            })
        };
        typed.as_ref().iter().map(known).collect()
    }

    fn records(&self, source: &SourceTable) -> Result<RecordSettings, Failure> {
        let mut mapping = ColumnMapping::default();
        for (name, places) in source.fields.iter().flat_map(|fields| fields.as_ref()) {
            mapping
                .add(name, &places.as_ref().to_vec())
                .map_err(|why| self.context.origin.error(places, format!("“fields”: {why}")))?;
        }
        let dates = match &source.dates {
            None => Dates::Plain,
            Some(format) => {
                let day = atlas_core::lastmod::Lastmod::from_epoch_day(0).and_then(|day| day.format(format.as_ref()));
                if day.as_deref().is_none_or(|day| day == format.as_ref()) {
                    let message = format!("“dates”: “{}” is not a date format; %d/%m/%Y is one", format.as_ref());
                    return Err(self.context.origin.error(format, message));
                }
                Dates::Format(format.as_ref().clone())
            }
        };
        Ok(RecordSettings {
            site: self.context.site.clone(),
            section: source.section.as_ref().map(|typed| self.source_section(typed)).transpose()?,
            makes_sections: MAKE_SECTIONS.contains(&source.from.as_ref().as_str()),
            mapping,
            dates,
            separator: source.lists.as_ref().map_or(SEPARATOR, |separator| separator.as_ref()).to_owned(),
            timezone: self.context.timezone.clone(),
            drop_parameters: self.reader.drop_parameters.clone(),
        })
    }

    fn source_section(&self, typed: &At<String>) -> Result<SourceSection, Failure> {
        SourceSection::parse(typed.as_ref())
            .map_err(|why| self.context.origin.error(typed, format!("“section”: {why}")))
    }

    /// A number within these bounds.
    fn number(&self, key: &str, typed: Option<&At<i64>>, usual: u64, most: u64) -> Result<u64, Failure> {
        let Some(typed) = typed else { return Ok(usual) };
        let number = u64::try_from(*typed.as_ref()).ok().filter(|number| (1..=most).contains(number));
        number.ok_or_else(|| self.context.origin.error(typed, format!("“{key}”: expected a number from 1 to {most}")))
    }

    fn wait(&self, source: &SourceTable, usual: Duration) -> Result<Duration, Failure> {
        let seconds = self.number("wait_seconds", source.wait_seconds.as_ref(), usual.as_secs(), 86_400)?;
        Ok(Duration::from_secs(seconds))
    }

    #[cfg(not(feature = "markdown"))]
    fn markdown(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        Err(self.not_built_in(table))
    }

    #[cfg(feature = "markdown")]
    fn markdown(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        Ok(Box::new(MarkdownSource {
            folder: self.folder(table)?,
            records: self.records(table.as_ref())?,
            reader: self.reader.clone(),
            asking: Arc::clone(&self.asking),
        }))
    }

    /// Where to read from, and what was typed.
    fn input(&self, table: &At<SourceTable>) -> Result<(Input, Secret), Failure> {
        let file = self.needed("file", table.as_ref().file.as_ref(), table)?;
        let typed = expand(self.context.origin, file)?;
        let input = Input::parse(typed.expose(), self.context.folder, self.context.stores);
        let input = input.map_err(|why| self.context.origin.error(file, typed.hide(format!("“file”: {why}"))))?;
        Ok((input, typed))
    }

    fn table(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let (source, origin) = (table.as_ref(), self.context.origin);
        let file = self.needed("file", source.file.as_ref(), table)?;
        let shown = expand(origin, file)?;
        let files = InputFiles::parse(shown.expose(), &shown.to_string(), self.context.folder, self.context.stores)
            .map_err(|why| origin.error(file, shown.hide(format!("“file”: {why}"))))?;
        let expected = "\"csv\", \"tsv\", \"json-lines\", \"json\" or \"parquet\"";
        let (format, at) = match &source.layout {
            Some(word) => {
                let unknown = || format!("“layout”: “{}” is unknown; expected {expected}", word.as_ref());
                (Format::named(word.as_ref()).ok_or_else(|| origin.error(word, unknown()))?, word)
            }
            None => {
                let unknown = || format!("the format of “{shown}” is unknown; set layout = {expected}");
                (Format::of_name(shown.expose()).ok_or_else(|| origin.error(table, unknown()))?, file)
            }
        };
        if format == Format::Parquet && !cfg!(feature = "parquet") {
            return Err(origin.error(at, WITHOUT_PARQUET));
        }
        Ok(Box::new(TableSource { files, format, records: self.records(source)?, wait: self.wait(source, WAIT)? }))
    }

    #[cfg(not(feature = "feed"))]
    fn feed(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        Err(self.not_built_in(table))
    }

    #[cfg(feature = "feed")]
    fn feed(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let (input, shown) = self.input(table)?;
        Ok(Box::new(FeedSource {
            input,
            shown: shown.to_string(),
            site: self.context.site.clone(),
            section: self.section(table.as_ref()),
            reader: self.reader.clone(),
            wait: self.wait(table.as_ref(), WAIT)?,
        }))
    }

    fn sitemap(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let hints = table.as_ref().hints.as_ref().is_some_and(|hints| *hints.as_ref());
        let old = |files: Vec<(Input, String)>, purpose: SitemapPurpose| -> Result<Box<dyn Source>, Failure> {
            Ok(Box::new(OldSitemap {
                purpose,
                hints,
                files,
                site: self.context.site.clone(),
                section: self.section(table.as_ref()),
                timezone: self.context.timezone.clone(),
                wait: self.wait(table.as_ref(), WAIT)?,
            }))
        };
        if has_moved(table.as_ref()) && table.as_ref().file.is_none() {
            return old(self.old_sitemaps(), SitemapPurpose::Dates);
        }
        let (input, shown) = self.input(table)?;
        if has_moved(table.as_ref()) {
            let is_here = self.is_ours(&input) && input.file().is_some();
            let files = if is_here { self.old_sitemaps() } else { vec![(input, shown.to_string())] };
            return old(files, SitemapPurpose::Dates);
        }
        if let Some(file) = table.as_ref().file.as_ref().filter(|_| self.is_ours(&input)) {
            let message = format!(
                "“file”: {shown} is the file that build writes, so no entry would ever leave it. If the site moves from it, write moved = true; else move it elsewhere first, or give [files] main another name"
            );
            return Err(self.context.origin.error(file, message));
        }
        old(vec![(input, shown.to_string())], SitemapPurpose::Entries)
    }

    /// The sitemaps of another tool in the web root and in robots.txt, and the copy of one that was overwritten.
    fn old_sitemaps(&self) -> Vec<(Input, String)> {
        let robots = std::fs::read(self.context.web_root.join("robots.txt")).unwrap_or_default();
        let kept = overwritten(&ledger_folder(&self.context.origin.path), &self.main);
        find_old_sitemaps(self.context.web_root, self.context.site, &robots, (&self.main, &kept))
    }

    /// Whether a sitemap is the main file itself, in the web root or on the live site.
    fn is_ours(&self, input: &Input) -> bool {
        let whole = |path: &Path| path.canonicalize().ok();
        match input {
            Input::Url(url) => *url == format!("{}{}", self.context.site.root(), self.main),
            Input::File(path) => {
                path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(&self.main))
                    && path.parent().and_then(whole) == whole(self.context.web_root)
            }
            _ => false,
        }
    }

    fn command(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let source = table.as_ref();
        let run = self.needed("run", source.run.as_ref(), table)?;
        let program = self.context.program("run", run, self.wait(source, PROGRAM_WAIT)?)?;
        Ok(Box::new(CommandSource { program, records: self.records(source)? }))
    }

    fn crawl(&self, table: &At<SourceTable>) -> Result<Box<dyn Source>, Failure> {
        let source = table.as_ref();
        let rate = source.requests_per_second.as_ref();
        if let Some(rate) = rate.filter(|rate| !(0.0..=1000.0).contains(rate.as_ref())) {
            let message = "“requests_per_second”: expected a number from 0 (no limit) to 1000";
            return Err(self.context.origin.error(rate, message));
        }
        let number = |key, typed: &Option<At<i64>>, usual, most| self.number(key, typed.as_ref(), usual, most);
        Ok(Box::new(CrawlSource {
            site: self.context.site.clone(),
            section: self.section(source),
            reader: self.reader.clone(),
            asking: Arc::clone(&self.asking),
            documents: self.documents(source)?.into_iter().map(|(_, kind)| kind.to_owned()).collect(),
            dropped: parameters(self.context, source.drop_parameters.as_ref(), &NO_OTHER_PAGE)?,
            requests_per_second: rate.map_or(10.0, |rate| *rate.as_ref()),
            connections: number("connections", &source.connections, 4, 256)? as usize,
            most_pages: number("most_pages", &source.most_pages, 100_000, 100_000_000)? as usize,
            most_depth: number("most_depth", &source.most_depth, 50, 10_000)? as u32,
            most_time: Duration::from_secs(60 * number("most_minutes", &source.most_minutes, 120, 100_000)?),
            wait: self.wait(source, Duration::from_secs(30))?,
        }))
    }
}
