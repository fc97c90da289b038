//! Templates over columns: `/photographs/{Slug}/`.

use atlas_core::address::encode_path;

/// A column's name, or text with columns in braces.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Template {
    /// The column's value as it is.
    Column(String),
    /// Pieces to put together; values are percent-encoded as parts of a path.
    Pieces(Vec<Piece>),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Piece {
    Text(String),
    Column(String),
}

impl Template {
    /// Reads what stands in the configuration; fails on braces that do not pair.
    pub(crate) fn parse(text: &str) -> Result<Self, String> {
        if !text.contains(['{', '}']) {
            return Ok(Self::Column(text.to_owned()));
        }
        let broken = || {
            format!("the braces in “{text}” do not pair; write a column's name in each pair, as in “/halts/{{Slug}}/”")
        };
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
            pieces.push(Piece::Column(name.trim().to_owned()));
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

    /// The columns it names.
    pub(crate) fn columns(&self) -> impl Iterator<Item = &str> {
        let (one, many): (Option<&str>, &[Piece]) = match self {
            Self::Column(name) => (Some(name), &[]),
            Self::Pieces(pieces) => (None, pieces),
        };
        one.into_iter().chain(many.iter().filter_map(|piece| match piece {
            Piece::Column(name) => Some(name.as_str()),
            Piece::Text(_) => None,
        }))
    }
}

/// Puts pieces together with the values that `value` finds; `None` where one is missing or empty.
pub(crate) fn fill<'v>(pieces: &[Piece], value: impl Fn(&str) -> Option<&'v str>) -> Option<String> {
    pieces.iter().try_fold(String::new(), |text, piece| match piece {
        Piece::Text(more) => Some(text + more),
        Piece::Column(name) => {
            let value = value(name)?.trim();
            (!value.is_empty()).then(|| text + &encode_path(value))
        }
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/photographs/{Slug}/", "/photographs/lamp%20oil/")]
    #[case("{Year}/{Slug}", "2026/lamp%20oil")]
    fn fills_in_columns(#[case] template: &str, #[case] wanted: &str) {
        let Template::Pieces(pieces) = Template::parse(template).unwrap() else { panic!() };
        let value =
            |name: &str| [("Slug", " lamp oil "), ("Year", "2026")].iter().find(|(n, _)| *n == name).map(|(_, v)| *v);
        assert_eq!(fill(&pieces, value).as_deref(), Some(wanted));
        assert_eq!(fill(&pieces, |_| None), None);
    }

    #[rstest]
    #[case("/a/{Slug")]
    #[case("/a/Slug}")]
    #[case("/a/{{Slug}}")]
    #[case("/a/{}/")]
    fn braces_must_pair(#[case] template: &str) {
        assert!(Template::parse(template).unwrap_err().contains("do not pair"));
    }
}
