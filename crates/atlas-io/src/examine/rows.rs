//! A sample of rows, and which column gives which field.

use std::collections::{BTreeMap, HashSet};

use atlas_core::lastmod::Lastmod;
use jiff::tz::TimeZone;
use url::Url;

use super::known::KnownPaths;
use crate::reading::field::{Field, commonly_named};

/// The most rows of a sample.
pub const MOST_ROWS: usize = 200;

/// The first rows of a table.
#[derive(Debug, Clone, Default)]
pub struct RowSample {
    /// The names of the columns.
    pub columns: Vec<String>,
    /// The rows, each with as many cells.
    pub rows: Vec<Vec<String>>,
}

/// A field, and the column that seems to give it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldGuess {
    /// The name of the field.
    pub field: &'static str,
    /// The column, or a template over columns.
    pub from: String,
}

/// What a table seems to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowGuess {
    /// The column with URLs or paths, or a template.
    pub url: String,
    /// Whether the URL was seen: the column has URLs, or known pages have such addresses. Otherwise the folder is a
    /// guess.
    pub is_sure: bool,
    /// The scheme and host of most URLs, if they are absolute.
    pub origin: Option<String>,
    /// The other fields.
    pub fields: Vec<FieldGuess>,
    /// The columns that are of use, in order: those above, and those that have the name of a field, which need no mapping.
    pub columns: Vec<String>,
    /// The format of dates, if they are not ISO.
    pub dates: Option<&'static str>,
    /// Whether it is not clear whether the day or the month comes first.
    pub is_date_unclear: bool,
    /// What separates items of a list, if that is not `|`.
    pub lists: Option<&'static str>,
    /// Columns that may say which rows are public.
    pub gates: Vec<String>,
}

/// Names of columns that are not fields' own, for a look at a table. They are compared in lower case, without `_` and
/// `-`.
const TITLES: [&str; 4] = ["name", "caption", "headline", "label"];
const IMAGES: [&str; 9] = ["photo", "photos", "picture", "pictures", "images", "imageurl", "file", "files", "filename"];
const CHANGED: [&str; 5] = ["changed", "changedat", "lastchange", "modified", "edited"];
const PATHS: [&str; 5] = ["path", "uri", "link", "href", "address"];
const SLUGS: [&str; 4] = ["slug", "handle", "alias", "key"];
const GATES: [&str; 12] = [
    "draft",
    "published",
    "ispublished",
    "public",
    "ispublic",
    "status",
    "state",
    "visible",
    "active",
    "hidden",
    "deleted",
    "deletedat",
];

impl RowSample {
    /// What the table seems to hold; `None` if no column looks like a URL, a path or a part of one. `name` is that of
    /// the table, `known` are pages whose addresses are known.
    pub fn guess(&self, name: &str, known: &KnownPaths) -> Option<RowGuess> {
        let (at, url, is_sure, origin) = self.full_url().or_else(|| self.part_of_url(name, known))?;
        let mut guess = RowGuess {
            url,
            is_sure,
            origin,
            fields: Vec::new(),
            columns: Vec::new(),
            dates: None,
            is_date_unclear: false,
            lists: None,
            gates: Vec::new(),
        };
        for column in (0..self.columns.len()).filter(|column| *column != at) {
            self.field(column, &mut guess);
        }
        let is_used = |(column, name): &(usize, &String)| {
            let is_mapped = guess.fields.iter().any(|field| field.from == **name);
            *column == at || is_mapped || (Field::named(name).is_some() && !guess.gates.contains(name))
        };
        let used: Vec<String> = self.columns.iter().enumerate().filter(is_used).map(|(_, name)| name.clone()).collect();
        Some(RowGuess { columns: used, ..guess })
    }

    fn values(&self, column: usize) -> impl Iterator<Item = &str> {
        self.rows.iter().filter_map(move |row| row.get(column)).map(|cell| cell.trim()).filter(|cell| !cell.is_empty())
    }

    /// Whether at least nine of ten values are like that, and there are any.
    fn most(&self, column: usize, is: impl Fn(&str) -> bool) -> bool {
        let (all, like) = self.values(column).fold((0, 0), |(all, like), cell| (all + 1, like + usize::from(is(cell))));
        all > 0 && like * 10 >= all * 9
    }

    /// A column of URLs or paths: those that are named so come first.
    fn full_url(&self) -> Option<(usize, String, bool, Option<String>)> {
        let is_url = |cell: &str| cell.starts_with("https://") || cell.starts_with("http://");
        let is_path = |cell: &str| cell.starts_with('/') && !cell.starts_with("//") && !is_image(cell);
        let mut columns: Vec<usize> = (0..self.columns.len())
            .filter(|column| self.most(*column, |cell| (is_url(cell) || is_path(cell)) && !is_image(cell)))
            .filter(|column| self.is_unique(*column))
            .collect();
        columns.sort_by_key(|column| {
            let name = &self.columns[*column];
            let is_named = name == "url" || commonly_named(name) == Some(Field::Url) || PATHS.contains(&&*plain(name));
            (!is_named, *column)
        });
        let at = *columns.first()?;
        let mut origins: BTreeMap<String, usize> = BTreeMap::new();
        for url in self.values(at).filter_map(|cell| Url::parse(cell).ok()) {
            *origins.entry(url.origin().ascii_serialization()).or_default() += 1;
        }
        let origin = origins.into_iter().max_by_key(|(_, count)| *count).map(|(origin, _)| origin);
        Some((at, self.columns[at].clone(), true, origin))
    }

    /// A column whose values are the last parts of URLs.
    fn part_of_url(&self, name: &str, known: &KnownPaths) -> Option<(usize, String, bool, Option<String>)> {
        let is_named = |column: usize| SLUGS.contains(&&*plain(&self.columns[column]));
        let is_part = |cell: &str| {
            let allowed = |letter: char| letter.is_alphanumeric() || "-_.~".contains(letter);
            cell.chars().all(allowed) && cell.chars().any(char::is_alphabetic) && !cell.contains('@')
        };
        let mut columns: Vec<usize> = (0..self.columns.len())
            .filter(|column| self.most(*column, is_part) && self.is_unique(*column))
            .filter(|column| is_named(*column) || self.most(*column, |cell| cell.contains('-')))
            .collect();
        columns.sort_by_key(|column| !is_named(*column));
        // Where known pages have such addresses, there is nothing to guess.
        for column in &columns {
            if let Some((before, after)) = self.seen_around(*column, known) {
                return Some((*column, format!("{before}{{{}}}{after}", self.columns[*column]), true, None));
            }
        }
        let at = *columns.first()?;
        let folder = name.rsplit(['/', '.', '"']).find(|part| !part.is_empty()).unwrap_or(name);
        let folder = plain_folder(folder);
        Some((at, format!("/{folder}/{{{}}}/", self.columns[at]), false, None))
    }

    /// What stands before and after the values of a column in the addresses of most of those that are known.
    fn seen_around(&self, column: usize, known: &KnownPaths) -> Option<(String, String)> {
        let mut around: BTreeMap<(&str, &str), usize> = BTreeMap::new();
        let mut found = 0;
        for cell in self.values(column) {
            let mut is_found = false;
            for place in known.around(cell) {
                *around.entry(place).or_default() += 1;
                is_found = true;
            }
            found += usize::from(is_found);
        }
        let (place, count) = around.into_iter().max_by_key(|(_, count)| *count)?;
        let is_enough = count * 2 >= self.rows.len() && count * 10 >= found * 6;
        is_enough.then(|| (place.0.to_owned(), place.1.to_owned()))
    }

    fn is_unique(&self, column: usize) -> bool {
        let mut seen = HashSet::new();
        let all = self.values(column).count();
        let unique = self.values(column).filter(|cell| seen.insert(*cell)).count();
        all > 0 && unique * 20 >= all * 19
    }

    /// Adds what a column seems to give.
    fn field(&self, column: usize, guess: &mut RowGuess) {
        let name = &self.columns[column];
        let bare = plain(name);
        if GATES.contains(&&*bare) && name != "draft" {
            guess.gates.push(name.clone());
            if bare != "published" || self.date_format(column).is_none() {
                return;
            }
        }
        let own = Field::named(name);
        let field = own.or_else(|| commonly_named(name)).or_else(|| match &*bare {
            bare if TITLES.contains(&bare) => Some(Field::Title),
            bare if IMAGES.contains(&bare) => Some(Field::Images),
            bare if CHANGED.contains(&bare) => Some(Field::Modified),
            _ => None,
        });
        let Some(field) = field.filter(|field| !guess.fields.iter().any(|known| known.field == field.name())) else {
            return;
        };
        let fits = match field {
            Field::Modified | Field::Published | Field::Embargo | Field::Expires => match self.date_format(column) {
                Some((format, is_unclear)) => {
                    guess.dates = guess.dates.or(format);
                    guess.is_date_unclear |= is_unclear;
                    true
                }
                None => false,
            },
            Field::Images => {
                let lists = self.most(column, |cell| is_image(cell.split([',', ';', '|']).next().unwrap_or_default()));
                let has = |separator: char| self.values(column).any(|cell| cell.contains(separator));
                if lists && !has('|') && (has(';') || has(',')) {
                    guess.lists = Some(if has(';') { ";" } else { "," });
                }
                lists || self.most(column, |cell| cell.starts_with('['))
            }
            Field::Url | Field::Section | Field::Changefreq | Field::Priority | Field::Announce => false,
            _ => true,
        };
        if fits && (own.is_none() || guess.dates.is_some()) {
            guess.fields.push(FieldGuess { field: field.name(), from: name.clone() });
        }
    }

    /// The format of a column of dates: none if they are ISO or numbers, and whether it is unclear which part is the
    /// day. `None` if they are no dates.
    fn date_format(&self, column: usize) -> Option<(Option<&'static str>, bool)> {
        if self.most(column, |cell| Lastmod::read(cell, &TimeZone::UTC).is_some()) {
            return Some((None, false));
        }
        for (separator, day_first, month_first) in
            [('/', "%d/%m/%Y", "%m/%d/%Y"), ('.', "%d.%m.%Y", "%m.%d.%Y"), ('-', "%d-%m-%Y", "%m-%d-%Y")]
        {
            let parts = |cell: &str| -> Option<(u8, u8)> {
                let mut parts = cell.split(separator);
                let (one, other, year) = (parts.next()?, parts.next()?, parts.next()?);
                (year.len() == 4 && parts.next().is_none()).then_some(())?;
                Some((one.parse().ok()?, other.parse().ok()?))
            };
            if self.most(column, |cell| parts(cell).is_some()) {
                let first = self.values(column).filter_map(parts).any(|(one, _)| one > 12);
                let second = self.values(column).filter_map(parts).any(|(_, other)| other > 12);
                return Some((Some(if second && !first { month_first } else { day_first }), !first && !second));
            }
        }
        None
    }
}

/// A name in lower case, without `_`, `-` and blanks.
fn plain(name: &str) -> String {
    name.chars().filter(|letter| !matches!(letter, '_' | '-' | ' ')).collect::<String>().to_lowercase()
}

/// A name as a folder of URLs.
fn plain_folder(name: &str) -> String {
    let letter = |letter: char| if letter.is_alphanumeric() { letter.to_ascii_lowercase() } else { '-' };
    name.chars().map(letter).collect::<String>().trim_matches('-').to_owned()
}

fn is_image(cell: &str) -> bool {
    const KINDS: [&str; 7] = [".jpg", ".jpeg", ".png", ".webp", ".gif", ".avif", ".svg"];
    let cell = cell.split(['?', '#']).next().unwrap_or_default().to_lowercase();
    KINDS.iter().any(|kind| cell.ends_with(kind))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn sample(header: &str, rows: &[&str]) -> RowSample {
        let cells = |line: &str| line.split(';').map(str::to_owned).collect::<Vec<_>>();
        RowSample { columns: cells(header), rows: rows.iter().map(|row| cells(row)).collect() }
    }

    fn known() -> KnownPaths {
        let mut known = KnownPaths::default();
        ["/engines/bran-fach.html", "/engines/lady-tabitha.html", "/about/"].iter().for_each(|path| known.add(path));
        known
    }

    #[rstest]
    #[case::paths("Path;Name", &["/a/;A", "/b/;B"], "Path", true)]
    #[case::urls("id;url", &["1;https://www.marrowvale.example/a", "2;https://www.marrowvale.example/b"], "url", true)]
    #[case::pictures_are_no_pages("photo;slug", &["/a.jpg;a", "/b.jpg;b"], "/stock/{slug}/", false)]
    #[case::where_pages_are_known("no;slug", &["1;bran-fach", "2;lady-tabitha"], "/engines/{slug}.html", true)]
    #[case::a_column_of_another_name("ref;title", &["bran-fach;Bran", "lady-tabitha;Lady"], "/engines/{ref}.html", true)]
    #[case::elsewhere("slug;title", &["x-one;1", "x-two;2"], "/stock/{slug}/", false)]
    fn where_rows_are_served(#[case] header: &str, #[case] rows: &[&str], #[case] url: &str, #[case] is_sure: bool) {
        let guess = sample(header, rows).guess("main.stock", &known()).unwrap();
        assert_eq!((guess.url.as_str(), guess.is_sure), (url, is_sure));
    }

    #[rstest]
    #[case::numbers("id;price", &["1;3", "2;4"])]
    #[case::words_that_recur("slug;x", &["tea;1", "tea;2"])]
    #[case::mail("slug;x", &["a@b.example;1", "c@d.example;2"])]
    #[case::nothing("slug", &[])]
    fn tables_without_pages(#[case] header: &str, #[case] rows: &[&str]) {
        assert_eq!(sample(header, rows).guess("t", &KnownPaths::default()), None);
    }

    #[test]
    fn fields_are_found_by_name_and_content() {
        let table = sample(
            "slug;Caption;updated_at;photos;is_public;note",
            &["a-b;One;04/07/2026;/x.jpg,/y.jpg;1;z", "c-d;Two;23/11/2026;/z.jpg;0;z"],
        );
        let guess = table.guess("photographs", &KnownPaths::default()).unwrap();
        let fields: Vec<(&str, &str)> = guess.fields.iter().map(|guess| (guess.field, guess.from.as_str())).collect();
        assert_eq!(fields, [("title", "Caption"), ("modified", "updated_at"), ("images", "photos")]);
        assert_eq!((guess.dates, guess.is_date_unclear), (Some("%d/%m/%Y"), false));
        assert_eq!(guess.lists, Some(","));
        assert_eq!(guess.gates, ["is_public"]);
        assert_eq!(guess.columns, ["slug", "Caption", "updated_at", "photos"]);
    }

    #[rstest]
    #[case(&["a-b;04/07/2026", "c-d;05/07/2026"], Some("%d/%m/%Y"), true)]
    #[case(&["a-b;04/17/2026", "c-d;05/07/2026"], Some("%m/%d/%Y"), false)]
    #[case(&["a-b;17.4.2026", "c-d;05.07.2026"], Some("%d.%m.%Y"), false)]
    #[case(&["a-b;2026-07-04", "c-d;2026-07-05T10:00:00Z"], None, false)]
    fn formats_of_dates(#[case] rows: &[&str], #[case] dates: Option<&str>, #[case] is_unclear: bool) {
        let guess = sample("slug;updated", rows).guess("t", &KnownPaths::default()).unwrap();
        assert_eq!((guess.dates, guess.is_date_unclear), (dates, is_unclear));
    }
}
