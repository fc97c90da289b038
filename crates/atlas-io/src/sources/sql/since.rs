//! The placeholder `:since` in a query: the instant since when changes are wanted.

use std::ops::Range;

use jiff::Timestamp;

use super::connection::Database;

/// The placeholder as typed.
const SINCE: &str = ":since";

/// Where a query names the placeholder, outside of texts, quoted names and comments. Texts of all databases are known:
/// with doubled quotes and, where `database` takes it for an escape, a backslash; PostgreSQL's between dollar signs.
fn places(query: &str, database: &Database) -> Vec<Range<usize>> {
    let (bytes, mut places, mut at) = (query.as_bytes(), Vec::new(), 0);
    while let Some(&byte) = bytes.get(at) {
        let rest = &query[at..];
        at += match byte {
            b'\'' | b'"' | b'`' => quoted(rest, escapes(database, &query[..at], byte)),
            b'-' if rest.starts_with("--") => line(rest),
            b'#' if is_mysql(database) => line(rest),
            b'/' if rest.starts_with("/*") => rest.find("*/").map_or(rest.len(), |end| end + 2),
            b'$' if is_postgres(database) => dollars(rest).unwrap_or(1),
            b':' if rest.starts_with("::") => 2,
            b':' if rest.starts_with(SINCE) && !rest[SINCE.len()..].starts_with(is_of_name) => {
                places.push(at..at + SINCE.len());
                SINCE.len()
            }
            _ => 1,
        };
        // A step of one byte may end within a character.
        while !query.is_char_boundary(at) {
            at += 1;
        }
    }
    places
}

/// Whether a query names the placeholder.
pub fn names_since(query: &str, database: &Database) -> bool {
    !places(query, database).is_empty()
}

/// The query with the instant in place of the placeholder, as the database compares it with its own times: in UTC for a
/// file, whose functions work in UTC; with its zone for PostgreSQL; in the zone of the session for MySQL.
pub(super) fn filled_in(query: &str, database: &Database, since: Timestamp) -> String {
    let instant = match database {
        Database::Sqlite(_) => since.strftime("'%Y-%m-%d %H:%M:%S'").to_string(),
        #[cfg(feature = "sql-servers")]
        Database::Postgres(_) => since.strftime("timestamptz '%Y-%m-%d %H:%M:%S+00'").to_string(),
        #[cfg(feature = "sql-servers")]
        Database::MySql(_) => format!("from_unixtime({})", since.as_second()),
    };
    let (mut filled, mut end) = (String::new(), 0);
    for place in places(query, database) {
        filled += &query[end..place.start];
        filled += &instant;
        end = place.end;
    }
    filled + &query[end..]
}

fn is_of_name(letter: char) -> bool {
    letter.is_alphanumeric() || letter == '_'
}

fn is_mysql(database: &Database) -> bool {
    !matches!(database, Database::Sqlite(_)) && !is_postgres(database)
}

fn is_postgres(database: &Database) -> bool {
    match database {
        #[cfg(feature = "sql-servers")]
        Database::Postgres(_) => true,
        _ => false,
    }
}

/// Whether a backslash escapes the next character of a text: always in MySQL, and after an `E` in PostgreSQL.
fn escapes(database: &Database, before: &str, quote: u8) -> bool {
    let is_escape_string = || {
        let mut letters = before.chars().rev();
        letters.next().is_some_and(|letter| matches!(letter, 'e' | 'E')) && !letters.next().is_some_and(is_of_name)
    };
    (is_mysql(database) && quote != b'`') || (is_postgres(database) && quote == b'\'' && is_escape_string())
}

/// The length of a quoted text. A doubled quote inside is read as the end of one and the begin of another.
fn quoted(text: &str, escapes: bool) -> usize {
    let (bytes, mut at) = (text.as_bytes(), 1);
    while let Some(&byte) = bytes.get(at) {
        match byte {
            b'\\' if escapes => at += 2,
            byte if byte == bytes[0] => return at + 1,
            _ => at += 1,
        }
    }
    text.len()
}

/// The length of the rest of a line.
fn line(text: &str) -> usize {
    text.find('\n').unwrap_or(text.len())
}

/// The length of a text between dollar signs, with or without a word between them, if one begins here.
fn dollars(text: &str) -> Option<usize> {
    let end = text[1..].find('$')? + 2;
    let fence = &text[..end];
    fence[1..end - 1].chars().all(is_of_name).then_some(())?;
    Some(text[end..].find(fence).map_or(text.len(), |at| end + at + end))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn sqlite() -> Database {
        Database::Sqlite("depot.db".into())
    }

    #[cfg(feature = "sql-servers")]
    fn server(url: &str) -> Database {
        Database::parse(&crate::secret::Secret::new(url, url.to_owned()), std::path::Path::new("")).unwrap()
    }

    #[rstest]
    #[case::once("select url from halts where updated >= :since", 1)]
    #[case::twice("where a > :since or b > :since;", 2)]
    #[case::another_name("where a > :since_when", 0)]
    #[case::in_a_text("where a > ':since'", 0)]
    #[case::after_a_doubled_quote("where a > 'it''s :since' and b > :since", 1)]
    #[case::in_a_name("select \":since\", `:since`", 0)]
    #[case::in_a_comment("-- :since\nselect 1 /* :since */", 0)]
    #[case::after_a_comment("-- '\nwhere a > :since", 1)]
    #[case::a_cast("select x::since", 0)]
    #[case::open_text("where a = ':since", 0)]
    fn the_placeholder_is_found(#[case] query: &str, #[case] wanted: usize) {
        assert_eq!(places(query, &sqlite()).len(), wanted);
    }

    #[cfg(feature = "sql-servers")]
    #[rstest]
    #[case::backslash_in_mysql("mysql://depot/site", r"where a = 'it\':since' and b > :since", 1)]
    #[case::hash_in_mysql("mysql://depot/site", "# :since\nwhere b > :since", 1)]
    #[case::backslash_in_postgres("postgres://depot/site", r"where a = '\' and b > :since", 1)]
    #[case::escape_string("postgres://depot/site", r"where a = E'\':since' and b > :since", 1)]
    #[case::dollars("postgres://depot/site", "where a = $$ :since $$ or b = $x$ :since $x$ or c > :since", 1)]
    #[case::a_number("postgres://depot/site", "where a = $1 and c > :since", 1)]
    fn each_database_has_texts_of_its_own(#[case] url: &str, #[case] query: &str, #[case] wanted: usize) {
        assert_eq!(places(query, &server(url)).len(), wanted);
    }

    #[test]
    fn the_instant_is_filled_in() {
        let since = Timestamp::from_second(1_764_510_424).unwrap();
        let query = "select ':since' where a >= :since";
        assert_eq!(filled_in(query, &sqlite(), since), "select ':since' where a >= '2025-11-30 13:47:04'");
    }

    #[cfg(feature = "sql-servers")]
    #[rstest]
    #[case("postgres://depot/site", "a >= timestamptz '2025-11-30 13:47:04+00'")]
    #[case("mysql://depot/site", "a >= from_unixtime(1764510424)")]
    fn servers_get_it_in_their_own_form(#[case] url: &str, #[case] wanted: &str) {
        let since = Timestamp::from_second(1_764_510_424).unwrap();
        assert_eq!(filled_in("a >= :since", &server(url), since), wanted);
    }

    proptest! {
        #[test]
        fn any_text_can_be_a_query(query in "[':a-z\"$\\\\/*#ü \n-]{0,40}") {
            let kept = filled_in(&query, &sqlite(), Timestamp::UNIX_EPOCH);
            prop_assert!(names_since(&query, &sqlite()) || kept == query);
        }
    }
}
