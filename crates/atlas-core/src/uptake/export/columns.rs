//! Which column of an export holds what.

use std::collections::HashSet;
use std::fmt;

use jiff::tz::TimeZone;
use serde::Serialize;
use thiserror::Error;

use super::state::read_number;
use crate::lastmod::Lastmod;

/// How many rows are looked at to tell what columns hold.
pub const MOST_SAMPLE: usize = 500;
/// A column of reasons has at most so many different ones in a sample.
const MOST_REASONS: usize = 40;

/// What an export is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Subject {
    /// Pages.
    Pages,
    /// Pictures.
    Images,
    /// Videos.
    Videos,
    /// Sitemap files.
    SitemapFiles,
}

impl Subject {
    /// All subjects.
    pub const ALL: [Self; 4] = [Self::Pages, Self::Images, Self::Videos, Self::SitemapFiles];

    /// Its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Pages => "pages",
            Self::Images => "images",
            Self::Videos => "videos",
            Self::SitemapFiles => "sitemap-files",
        }
    }

    /// What this word stands for.
    pub fn of_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|one| one.as_str() == word)
    }
}

/// What a column can hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ExportColumn {
    /// The URL.
    Url,
    /// The sitemap file through which the engine knows it.
    Sitemap,
    /// Why it is in the index or not.
    Reason,
    /// When the engine last fetched it, or the day that the numbers are of.
    Date,
    /// How often it was shown to searchers.
    Shown,
    /// How often it was clicked.
    Clicked,
    /// Its average position among the results.
    Position,
    /// Of a sitemap file: the URLs that were found in it.
    Found,
    /// Of a sitemap file: the URLs of it that are in the index.
    InIndex,
}

impl ExportColumn {
    /// Each with its name in the configuration, and the words of a header that mean it.
    const ALL: [(Self, &'static str, &'static [&'static str]); 9] = [
        (Self::Url, "url", &["url", "page", "address", "loc"]),
        (Self::Sitemap, "sitemap", &["sitemap"]),
        (Self::Reason, "reason", &["reason", "status", "state", "why"]),
        (Self::Date, "date", &["date", "last", "crawled", "fetched", "read", "day"]),
        (Self::Shown, "shown", &["impressions", "shown", "views", "appearances"]),
        (Self::Clicked, "clicked", &["clicks", "clicked"]),
        (Self::Position, "position", &["position", "rank"]),
        (Self::InIndex, "in_index", &["indexed", "in index", "picked up"]),
        (Self::Found, "found", &["found", "discovered", "urls", "pages", "submitted", "count", "entries"]),
    ];

    /// The column with this name in the configuration.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, known, _)| *known == name).map(|(column, _, _)| *column)
    }

    /// Its name in the configuration.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(column, _, _)| *column == self).map_or("", |(_, name, _)| name)
    }

    /// The names of all columns.
    pub fn names() -> Vec<&'static str> {
        Self::ALL.iter().map(|(_, name, _)| *name).collect()
    }

    fn is_number(self) -> bool {
        matches!(self, Self::Shown | Self::Clicked | Self::Position | Self::Found | Self::InIndex)
    }

    /// The first of some columns that a header's words mean.
    fn meant(header: &str, wanted: impl Fn(Self) -> bool) -> Option<Self> {
        let header = header.trim().to_lowercase();
        let words: Vec<&str> = header.split(|letter: char| !letter.is_alphanumeric()).collect();
        let means = |known: &&'static str| words.contains(known) || (known.contains(' ') && header.contains(&**known));
        let mut all = Self::ALL.iter().filter(|(column, _, _)| wanted(*column));
        all.find(|(_, _, known)| known.iter().any(&means)).map(|(column, _, _)| *column)
    }
}

impl fmt::Display for ExportColumn {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.name())
    }
}

/// Why the columns of an export cannot be told.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ColumnsError {
    /// No column holds URLs.
    #[error("no column holds URLs")]
    NoUrls,
    /// The configuration names a column that is not there.
    #[error("there is no column “{0}”; the columns: {1}")]
    Missing(String, String),
}

/// Which column of an export holds what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Columns {
    /// The place of each.
    places: Vec<(ExportColumn, usize)>,
    /// Whether the first row names the columns.
    pub has_header: bool,
    /// What the export is of: pages, unless the URLs are those of sitemap files.
    pub subject: Subject,
    /// The names of the columns that are not used.
    pub unused: Vec<String>,
}

/// What the cells of a column are, as counts.
#[derive(Debug, Default)]
struct HeldCells {
    cells: usize,
    urls: usize,
    sitemaps: usize,
    dates: usize,
    numbers: usize,
    distinct: HashSet<String>,
}

impl HeldCells {
    fn most(&self, number: usize) -> bool {
        self.cells > 0 && number * 5 >= self.cells * 4
    }
}

fn is_url(cell: &str) -> bool {
    cell.starts_with("http://") || cell.starts_with("https://") || (cell.starts_with('/') && !cell.starts_with("//"))
}

fn is_sitemap(cell: &str) -> bool {
    let path = cell.split(['?', '#']).next().unwrap_or(cell).to_lowercase();
    is_url(cell) && [".xml", ".xml.gz"].iter().any(|end| path.ends_with(end))
}

/// Whether a cell looks like a date, in whatever order its parts stand.
fn is_date(cell: &str) -> bool {
    let parts: Vec<&str> = cell.split(['-', '/', '.', ' ', 'T', ',']).filter(|part| !part.is_empty()).take(4).collect();
    let is_number = |part: &&str| part.len() <= 4 && part.bytes().all(|byte| byte.is_ascii_digit());
    let has_year = parts.iter().take(3).any(|part| part.len() == 4);
    parts.len() >= 3
        && (Lastmod::read(cell, &TimeZone::UTC).is_some() || has_year && parts.iter().take(3).all(is_number))
}

impl Columns {
    /// Tells what the columns of an export hold, by its first rows. `named` are the columns that the configuration
    /// names.
    ///
    /// # Errors
    ///
    /// Returns an error if no column holds URLs, or if a column that is named is not there.
    pub fn find(rows: &[Vec<String>], named: &[(ExportColumn, String)]) -> Result<Self, ColumnsError> {
        let width = rows.iter().map(Vec::len).max().unwrap_or(0);
        let first = rows.first().ok_or(ColumnsError::NoUrls)?;
        let has_header = !first.iter().any(|cell| is_url(cell.trim()));
        let header: Vec<String> = match has_header {
            true => first.iter().map(|cell| name_of(cell)).collect(),
            false => Vec::new(),
        };
        let mut held: Vec<HeldCells> = (0..width).map(|_| HeldCells::default()).collect();
        for row in &rows[usize::from(has_header)..] {
            for (cell, held) in row.iter().zip(&mut held) {
                let cell = cell.trim();
                if cell.is_empty() || cell == "-" {
                    continue;
                }
                held.cells += 1;
                held.urls += usize::from(is_url(cell));
                held.sitemaps += usize::from(is_sitemap(cell));
                held.dates += usize::from(is_date(cell));
                held.numbers += usize::from(read_number(cell).is_some());
                if held.distinct.len() <= MOST_REASONS {
                    held.distinct.insert(cell.to_owned());
                }
            }
        }
        let mut places: Vec<(ExportColumn, usize)> = Vec::new();
        for (column, name) in named {
            let place = header.iter().position(|header| header.eq_ignore_ascii_case(name));
            let place = place.ok_or_else(|| ColumnsError::Missing(name.clone(), header.join(", ")))?;
            places.push((*column, place));
        }
        let mut found = ColumnFinder { places, header: &header, held: &held };
        found.urls()?;
        found.others();
        let ColumnFinder { places, .. } = found;
        let of = |wanted: ExportColumn| places.iter().find(|(column, _)| *column == wanted).map(|(_, at)| *at);
        let url = of(ExportColumn::Url).ok_or(ColumnsError::NoUrls)?;
        let subject = match held.get(url) {
            Some(held) if held.most(held.sitemaps) => Subject::SitemapFiles,
            _ => Subject::Pages,
        };
        let name = |at: usize| header.get(at).filter(|name| !name.is_empty()).cloned();
        let unused = (0..width).filter(|at| !places.iter().any(|(_, place)| place == at) && held[*at].cells > 0);
        let unused = unused.map(|at| name(at).unwrap_or_else(|| format!("column {}", at + 1))).collect();
        Ok(Self { places, has_header, subject, unused })
    }

    /// The place of a column, counted from 0.
    pub fn place(&self, wanted: ExportColumn) -> Option<usize> {
        self.places.iter().find(|(column, _)| *column == wanted).map(|(_, at)| *at)
    }

    /// The columns that are used.
    pub fn used(&self) -> impl Iterator<Item = (ExportColumn, usize)> {
        self.places.iter().copied()
    }
}

/// The name of a column, without what would change a terminal.
fn name_of(cell: &str) -> String {
    let cell = cell.trim().trim_start_matches('\u{feff}');
    cell.chars().filter(|letter| !letter.is_control()).collect()
}

/// Columns being found.
struct ColumnFinder<'h> {
    places: Vec<(ExportColumn, usize)>,
    header: &'h [String],
    held: &'h [HeldCells],
}

impl ColumnFinder<'_> {
    fn is_found(&self, column: ExportColumn) -> bool {
        self.places.iter().any(|(known, _)| *known == column)
    }

    fn is_free(&self, at: usize) -> bool {
        !self.places.iter().any(|(_, place)| *place == at)
    }

    fn urls(&mut self) -> Result<(), ColumnsError> {
        if self.is_found(ExportColumn::Url) {
            return Ok(());
        }
        let urls = |at: &usize| self.held[*at].most(self.held[*at].urls) && self.is_free(*at);
        let candidates: Vec<usize> = (0..self.held.len()).filter(urls).collect();
        let pages = candidates.iter().find(|at| !self.held[**at].most(self.held[**at].sitemaps));
        let url = *pages.or(candidates.first()).ok_or(ColumnsError::NoUrls)?;
        self.places.push((ExportColumn::Url, url));
        let sitemap = candidates.iter().find(|at| **at != url && self.held[**at].most(self.held[**at].sitemaps));
        if let Some(at) = sitemap.filter(|_| !self.is_found(ExportColumn::Sitemap)) {
            self.places.push((ExportColumn::Sitemap, *at));
        }
        Ok(())
    }

    fn others(&mut self) {
        for (at, held) in self.held.iter().enumerate() {
            if !self.is_free(at) || held.cells == 0 {
                continue;
            }
            let header = self.header.get(at).map_or("", String::as_str);
            let column = if held.most(held.dates) {
                Some(ExportColumn::Date)
            } else if held.most(held.numbers) {
                ExportColumn::meant(header, ExportColumn::is_number)
            } else if !held.most(held.urls) && held.distinct.len() <= MOST_REASONS {
                // Words that differ from row to row are titles.
                let is_meant = ExportColumn::meant(header, |column| column == ExportColumn::Reason).is_some();
                let repeats = held.distinct.len() * 2 <= held.cells || held.cells <= 3 && self.header.is_empty();
                (is_meant || repeats).then_some(ExportColumn::Reason)
            } else {
                None
            };
            if let Some(column) = column.filter(|column| !self.is_found(*column)) {
                self.places.push((column, at));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn rows(text: &str) -> Vec<Vec<String>> {
        text.lines().map(|line| line.split('\t').map(str::to_owned).collect()).collect()
    }

    fn found(text: &str) -> Vec<(ExportColumn, usize)> {
        let mut places = Columns::find(&rows(text), &[]).unwrap().places;
        places.sort_unstable();
        places
    }

    const SITE: &str = "https://www.marrowvale.example";

    #[rstest]
    #[case::list(format!("{SITE}/\n{SITE}/fares/"), vec![(ExportColumn::Url, 0)])]
    #[case::paths("/\n/fares/".to_owned(), vec![(ExportColumn::Url, 0)])]
    #[case::reasons(
        format!("Reason\tURL\nFetched, not indexed\t{SITE}/fares/\nFetched, not indexed\t{SITE}/halts/"),
        vec![(ExportColumn::Url, 1), (ExportColumn::Reason, 0)]
    )]
    #[case::one_row(format!("URL\tState\n{SITE}/fares/\tIndexed"), vec![(ExportColumn::Url, 0), (ExportColumn::Reason, 1)])]
    #[case::numbers(
        format!("Page\tClicks\tImpressions\tCTR\tPosition\n{SITE}/fares/\t3\t1,204\t0.2%\t4.5\n{SITE}/\t1\t80\t1%\t2"),
        vec![(ExportColumn::Url, 0), (ExportColumn::Shown, 2), (ExportColumn::Clicked, 1), (ExportColumn::Position, 4)]
    )]
    #[case::sitemaps(
        format!("Sitemap\tLast read\tURLs found\n{SITE}/sitemap.xml\t2026-11-02\t61\n{SITE}/atlas-news-1.xml\t2026-11-03\t7"),
        vec![(ExportColumn::Url, 0), (ExportColumn::Date, 1), (ExportColumn::Found, 2)]
    )]
    #[case::through_a_sitemap(
        format!("URL\tTitle\tVia\n{SITE}/fares/\tFares\t{SITE}/atlas-pages-1.xml\n{SITE}/\tHome\t{SITE}/atlas-pages-1.xml"),
        vec![(ExportColumn::Url, 0), (ExportColumn::Sitemap, 2)]
    )]
    fn columns_are_found_by_what_they_hold(#[case] text: String, #[case] wanted: Vec<(ExportColumn, usize)>) {
        assert_eq!(found(&text), wanted);
    }

    #[test]
    fn what_is_not_used_is_named() {
        let text = format!("URL\tCTR\n{SITE}/\t2%\n{SITE}/fares/\t3%");
        let columns = Columns::find(&rows(&text), &[]).unwrap();
        assert_eq!(
            (columns.unused, columns.has_header, columns.subject),
            (vec!["CTR".to_owned()], true, Subject::Pages)
        );
    }

    #[test]
    fn columns_can_be_named() {
        let text = format!("Where\tSeen\n{SITE}/\t12\n{SITE}/fares/\t3");
        let columns = Columns::find(&rows(&text), &[(ExportColumn::Shown, "seen".to_owned())]).unwrap();
        assert_eq!((columns.place(ExportColumn::Shown), columns.place(ExportColumn::Url)), (Some(1), Some(0)));
        let missing = Columns::find(&rows(&text), &[(ExportColumn::Shown, "Saw".to_owned())]).unwrap_err();
        assert_eq!(missing.to_string(), "there is no column “Saw”; the columns: Where, Seen");
    }

    #[rstest]
    #[case("")]
    #[case("Name\tAge\nAda\t36\nBen\t41")]
    fn without_urls_there_is_nothing_to_lay_over(#[case] text: &str) {
        assert_eq!(Columns::find(&rows(text), &[]), Err(ColumnsError::NoUrls));
    }

    proptest! {
        #[test]
        fn no_table_is_too_strange(
            rows in proptest::collection::vec(
                proptest::collection::vec("(https://a\\.example)?[/a-z0-9., -]{0,12}", 0..5), 0..8),
        ) {
            if let Ok(columns) = Columns::find(&rows, &[]) {
                let width = rows.iter().map(Vec::len).max().unwrap_or(0);
                let mut places: Vec<usize> = columns.used().map(|(_, at)| at).collect();
                prop_assert!(places.iter().all(|at| *at < width));
                places.sort_unstable();
                places.dedup();
                prop_assert_eq!(places.len(), columns.used().count());
            }
        }
    }
}
