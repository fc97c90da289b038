//! A source for a table or a database.

use atlas_io::examine::{DatabaseTable, MOST_ROWS, RowGuess, RowSample};
use atlas_io::sources::sql;

use super::found::{FoundDatabase, FoundSite, FoundTable};
use super::proposed::{ProposedSource, quoted};
use super::sections::section_name;
use crate::screen::count;

/// How many columns that are of no use are named.
const OTHERS: usize = 12;

pub(super) fn of_table(
    found: &FoundSite,
    table: &FoundTable,
    from_home: &dyn Fn(&str) -> String,
) -> Option<ProposedSource> {
    let name = table.file.rsplit('/').next().unwrap_or(&table.file);
    let stem = name.split('.').next().unwrap_or(name);
    let guess = table.sample.guess(stem, &found.known)?;
    let file = if table.file.contains("://") { table.file.clone() } else { from_home(&table.file) };
    let head = vec!["[[source]]".to_owned(), "from    = \"table\"".to_owned(), format!("file    = {}", quoted(&file))];
    let rows = table.sample.rows.len();
    let rows = if rows < MOST_ROWS { count(rows as u64, "row", "rows") } else { format!("{MOST_ROWS} rows or more") };
    Some(of_rows(
        found,
        (stem, &table.file),
        &table.sample,
        guess,
        (head, table.is_named, format!("table {}, {rows}", table.file)),
    ))
}

pub(super) fn of_database(
    found: &FoundSite,
    database: &FoundDatabase,
    from_home: &dyn Fn(&str) -> String,
) -> Vec<ProposedSource> {
    let connection = match database.connection.strip_prefix("sqlite:") {
        Some(path) => format!("sqlite:{}", from_home(path)),
        None => database.connection.clone(),
    };
    let guessed = |table: &'_ DatabaseTable| Some((table.clone(), table.sample.guess(&table.name, &found.known)?));
    let tables: Vec<(DatabaseTable, RowGuess)> = database.tables.iter().filter_map(guessed).collect();
    // Several queries on one database are several sources, told apart by name.
    let is_alone = tables.len() == 1;
    let one = |(table, guess): (DatabaseTable, RowGuess)| {
        let mut head = vec!["[[source]]".to_owned(), "from = \"sql\"".to_owned()];
        if !is_alone {
            head.push(format!("name = {}", quoted(table.name.trim_matches(['"', '`']))));
        }
        let comment = if database.needs_password { "   # the password comes from the environment" } else { "" };
        head.push(format!("connection = {}{comment}", quoted(&connection)));
        let others = table.sample.columns.iter().filter(|column| !guess.columns.contains(column));
        let others: Vec<&str> = others.map(String::as_str).take(OTHERS).collect();
        if !others.is_empty() {
            head.push(format!("# other columns: {}", others.join(", ")));
        }
        if let Some(gate) = guess.gates.first() {
            head.push(format!("# if not every row is public, add a condition, such as: where {gate} = …"));
        }
        let columns: Vec<String> = guess.columns.iter().map(|column| database.database.quoted(column)).collect();
        head.push(format!("query = {}", quoted(&format!("select {} from {}", columns.join(", "), table.name))));
        let stem = table.name.rsplit('.').next().unwrap_or(&table.name).trim_matches(['"', '`']);
        let shown = format!("sql {}, table {}", sql::shown(&connection), table.name);
        of_rows(found, (stem, &table.name), &table.sample, guess, (head, database.is_named, shown))
    };
    tables.into_iter().map(one).collect()
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
