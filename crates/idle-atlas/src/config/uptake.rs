//! Resolving what tells about engines: `[[crawler]]`, `[[uptake]]` and `[access_log]`.

use std::fs;
use std::path::PathBuf;

use atlas_core::uptake::export::{ExportColumn, Subject};
use atlas_core::uptake::log::{JsonFormat, LogField, LogFormat, Prefixes};
use atlas_store::uptake::CrawlerSettings;
use globset::{Glob, GlobMatcher};

use super::context::Context;
use super::tables::{AccessLogTable, At, CrawlerTable, UptakeTable};
use crate::exit::Failure;

/// For how many days something may wait before it counts as not taken, unless the configuration says otherwise.
const PATIENCE_DAYS: u32 = 3;

/// How the exports of an engine are read.
#[derive(Debug, Clone)]
pub struct EngineExports {
    /// The name of the engine.
    pub engine: String,
    /// The names of the files that are its exports.
    pub files: Option<GlobMatcher>,
    /// What they are of.
    pub of: Option<Subject>,
    /// The names of columns.
    pub columns: Vec<(ExportColumn, String)>,
    /// The format of dates.
    pub dates: Option<String>,
    /// The reasons that mean “picked up”.
    pub picked_up: Vec<String>,
}

/// A crawler that matters.
#[derive(Debug, Clone)]
struct NamedCrawler {
    token: String,
    /// The file with the addresses that it comes from, and where the configuration names it.
    addresses: Option<(PathBuf, String)>,
}

/// What tells about engines.
#[derive(Debug, Clone, Default)]
pub struct UptakeSettings {
    /// The crawlers that matter.
    crawlers: Vec<NamedCrawler>,
    /// How exports are read.
    pub exports: Vec<EngineExports>,
    /// The format of access logs, besides the usual ones.
    pub log_format: Option<LogFormat>,
    /// How the fields of JSON logs are named.
    pub json_log: JsonFormat,
    /// For how many days something may wait before it counts as not taken.
    pub patience_days: u32,
}

impl UptakeSettings {
    /// The crawlers that matter. Their addresses are read now, so that a file that is missing holds up nothing else.
    pub fn crawlers(&self) -> Result<Vec<CrawlerSettings>, Failure> {
        let read = |crawler: &NamedCrawler| {
            let prefixes = crawler.addresses.as_ref().map(|(path, place)| {
                let bad = |why: String| Failure::said(format!("{place}: “addresses”: {}: {why}", path.display()));
                let text = fs::read_to_string(path).map_err(|error| bad(error.to_string()))?;
                Prefixes::from_json(&text).map_err(bad)
            });
            Ok(CrawlerSettings { token: crawler.token.clone(), prefixes: prefixes.transpose()? })
        };
        self.crawlers.iter().map(read).collect()
    }
}

impl Context<'_> {
    /// Resolves all of it.
    pub(super) fn uptake(
        &self,
        crawlers: &[CrawlerTable],
        exports: &[UptakeTable],
        log: &AccessLogTable,
        patience_days: Option<&At<i64>>,
    ) -> Result<UptakeSettings, Failure> {
        let log_format = log.format.as_ref().map(|format| {
            LogFormat::parse(format.as_ref()).map_err(|why| self.origin.error(format, format!("“format”: {why}")))
        });
        let fields = log.fields.iter().flatten().map(|(name, value)| {
            let known: Vec<&str> = LogField::ALL.iter().map(|(_, name, _)| *name).collect();
            let unknown = || {
                self.origin.error(value, format!("“fields”: there is no field “{name}”; known: {}", known.join(", ")))
            };
            Ok((LogField::named(name).ok_or_else(unknown)?, value.as_ref().clone()))
        });
        Ok(UptakeSettings {
            crawlers: crawlers.iter().map(|table| self.crawler(table)).collect::<Result<_, _>>()?,
            exports: exports.iter().map(|table| self.exports(table)).collect::<Result<_, _>>()?,
            log_format: log_format.transpose()?,
            json_log: JsonFormat::new(fields.collect::<Result<_, Failure>>()?),
            patience_days: self.number("patience_days", patience_days, (0, 365), PATIENCE_DAYS)?,
        })
    }

    fn crawler(&self, table: &CrawlerTable) -> Result<NamedCrawler, Failure> {
        let token = table.token.as_ref().trim().to_lowercase();
        if token.is_empty() || token.contains([' ', '/', '(']) {
            let message = format!(
                "“token”: “{token}” is not a product token; expected the word in its user agent, such as lampbot"
            );
            return Err(self.origin.error(&table.token, message));
        }
        let addresses = table.addresses.as_ref().map(|file| {
            let place = self.origin.place(file.span().start);
            (self.folder.join(file.as_ref()), place)
        });
        Ok(NamedCrawler { token, addresses })
    }

    fn exports(&self, table: &UptakeTable) -> Result<EngineExports, Failure> {
        let files = table.files.as_ref().map(|files| {
            let glob = Glob::new(files.as_ref());
            glob.map(|glob| glob.compile_matcher()).map_err(|why| {
                self.origin.error(files, format!("“files”: {why}; expected a pattern such as lamp-*.csv"))
            })
        });
        let of = table.of.as_ref().map(|of| {
            let message = "“of”: expected pages, images or videos";
            Subject::of_word(of.as_ref())
                .filter(|subject| *subject != Subject::SitemapFiles)
                .ok_or_else(|| self.origin.error(of, message))
        });
        let columns = table.columns.iter().flatten().map(|(name, value)| {
            let unknown = || {
                let message =
                    format!("“columns”: there is no column “{name}”; known: {}", ExportColumn::names().join(", "));
                self.origin.error(value, message)
            };
            Ok((ExportColumn::named(name).ok_or_else(unknown)?, value.as_ref().clone()))
        });
        Ok(EngineExports {
            engine: table.engine.as_ref().clone(),
            files: files.transpose()?,
            of: of.transpose()?,
            columns: columns.collect::<Result<_, Failure>>()?,
            dates: table.dates.clone(),
            picked_up: table.picked_up.clone(),
        })
    }
}
