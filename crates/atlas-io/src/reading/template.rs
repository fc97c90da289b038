//! Templates over columns: `/photographs/{Slug}/`, `/journal/{published:%Y/%m}/{slug}/`.

use std::borrow::Cow;

use atlas_core::address::encode_path;
use atlas_core::lastmod::Lastmod;
use thiserror::Error;

/// Why a text is not a column or template.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ColumnTemplateError {
    /// Its braces do not match.
    #[error("the braces in “{0}” do not match; write a column's name in each pair, as in “/halts/{{Slug}}/”")]
    Braces(String),
    /// It gives a date a format that is not one.
    #[error("“{format}” in “{text}” is not a date format; %Y/%m is one")]
    DateFormat {
        /// The whole text.
        text: String,
        /// The format.
        format: String,
    },
}

/// A column's name, or text with columns in braces.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum ColumnTemplate {
    /// The column's value.
    Column(String),
    /// Pieces that are joined. Values are percent-encoded as parts of a path.
    Pieces(Vec<Piece>),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Piece {
    Text(String),
    Column(String),
    /// A date in a `strftime` format.
    Date(String, String),
}

impl ColumnTemplate {
    /// Parses the text in the configuration. Fails if braces do not match or a date format is not valid.
    pub(crate) fn parse(text: &str) -> Result<Self, ColumnTemplateError> {
        if !text.contains(['{', '}']) {
            return Ok(Self::Column(text.to_owned()));
        }
        let broken = || ColumnTemplateError::Braces(text.to_owned());
        let mut pieces = Vec::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once('{') {
            let (name, tail) = after.split_once('}').ok_or_else(broken)?;
            if before.contains('}') || name.contains('{') || name.trim().is_empty() {
                return Err(broken());
            }
            if !before.is_empty() {
                pieces.push(Piece::Text(before.to_owned()));
            }
            pieces.push(match name.split_once(':') {
                None => Piece::Column(name.trim().to_owned()),
                Some((name, format)) => {
                    let day = Lastmod::from_epoch_day(0).and_then(|day| day.format(format));
                    day.ok_or_else(|| ColumnTemplateError::DateFormat {
                        text: text.to_owned(),
                        format: format.to_owned(),
                    })?;
                    Piece::Date(name.trim().to_owned(), format.to_owned())
                }
            });
            rest = tail;
        }
        if rest.contains('}') {
            return Err(broken());
        }
        if !rest.is_empty() {
            pieces.push(Piece::Text(rest.to_owned()));
        }
        Ok(Self::Pieces(pieces))
    }

    /// The columns that it names.
    pub(crate) fn columns(&self) -> impl Iterator<Item = &str> {
        let (one, many): (Option<&str>, &[Piece]) = match self {
            Self::Column(name) => (Some(name), &[]),
            Self::Pieces(pieces) => (None, pieces),
        };
        one.into_iter().chain(many.iter().filter_map(|piece| match piece {
            Piece::Column(name) | Piece::Date(name, _) => Some(name.as_str()),
            Piece::Text(_) => None,
        }))
    }

    /// The columns that it uses as dates.
    pub(crate) fn dates(&self) -> impl Iterator<Item = &str> {
        let pieces: &[Piece] = match self {
            Self::Column(_) => &[],
            Self::Pieces(pieces) => pieces,
        };
        pieces.iter().filter_map(|piece| match piece {
            Piece::Date(name, _) => Some(name.as_str()),
            Piece::Column(_) | Piece::Text(_) => None,
        })
    }
}

/// Joins the pieces with the values that `value` finds and the dates that `date` reads, encoded as parts of a path;
/// `None` if one is missing or empty.
pub(crate) fn fill<'v>(
    pieces: &[Piece],
    value: impl Fn(&str) -> Option<Cow<'v, str>>,
    date: impl Fn(&str) -> Option<Lastmod>,
) -> Option<String> {
    join(pieces, value, date, encode_path)
}

/// Joins the pieces with the values that `value` finds and the dates that `date` reads, as `write` writes them; `None`
/// if one is missing or empty.
pub(crate) fn join<'v>(
    pieces: &[Piece],
    value: impl Fn(&str) -> Option<Cow<'v, str>>,
    date: impl Fn(&str) -> Option<Lastmod>,
    write: impl Fn(&str) -> String,
) -> Option<String> {
    pieces.iter().try_fold(String::new(), |text, piece| match piece {
        Piece::Text(more) => Some(text + more),
        Piece::Column(name) => {
            let value = value(name)?;
            let value = value.trim();
            (!value.is_empty()).then(|| text + &write(value))
        }
        Piece::Date(name, format) => Some(text + &write(&date(&value(name)?)?.format(format)?)),
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/photographs/{Slug}/", "/photographs/lamp%20oil/")]
    #[case("{Year}/{Slug}", "2026/lamp%20oil")]
    #[case("/{When:%Y/%m}/{Slug}", "/2026/07/lamp%20oil")]
    fn fills_in_columns(#[case] template: &str, #[case] wanted: &str) {
        let ColumnTemplate::Pieces(pieces) = ColumnTemplate::parse(template).unwrap() else { panic!() };
        let value = |name: &str| {
            let values = [("Slug", " lamp oil "), ("Year", "2026"), ("When", "2026-07-04")];
            values.iter().find(|(n, _)| *n == name).map(|(_, value)| Cow::Borrowed(*value))
        };
        let date = |text: &str| Lastmod::read(text, &jiff::tz::TimeZone::UTC);
        assert_eq!(fill(&pieces, value, date).as_deref(), Some(wanted));
        assert_eq!(fill(&pieces, |_| None, date), None);
    }

    #[rstest]
    #[case("/a/{Slug")]
    #[case("/a/Slug}")]
    #[case("/a/{{Slug}}")]
    #[case("/a/{}/")]
    fn braces_must_match(#[case] template: &str) {
        assert!(ColumnTemplate::parse(template).unwrap_err().to_string().contains("do not match"));
    }

    #[test]
    fn formats_are_checked() {
        assert!(ColumnTemplate::parse("/{day:%Q}/").unwrap_err().to_string().contains("not a date format"));
    }
}
