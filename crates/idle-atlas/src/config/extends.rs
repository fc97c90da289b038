//! `extends`: what a configuration takes over from one that it shares with other sites. Its own keys win.

use std::ops::Range;
use std::path::{Path, PathBuf};

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::origin::{ConfigText, SharedText};
use crate::exit::Failure;

/// The name of the key.
const KEY: &str = "extends";

/// Reads the configuration that this one extends, if it names one.
pub(super) fn with_shared(path: &Path, text: String) -> Result<ConfigText, Failure> {
    let own = ConfigText { path: path.to_owned(), text, shared: None };
    // What is wrong with the text is reported when all of it is read.
    let Ok(table) = DeTable::parse(&own.text) else { return Ok(own) };
    let Some((_, named)) = table.get_ref().iter().find(|(key, _)| *key.get_ref() == KEY) else { return Ok(own) };
    let at = named.span().start;
    let DeValue::String(name) = named.get_ref() else {
        return Err(
            own.error_at(at, format!("“{KEY}”: expected the path of a configuration, such as \"../common.toml\""))
        );
    };
    let shared = path.parent().unwrap_or(Path::new("")).join(name.as_ref());
    let text = std::fs::read_to_string(&shared)
        .map_err(|error| own.error_at(at, format!("“{KEY}”: cannot read {}: {error}", shared.display())))?;
    drop(table);
    Ok(ConfigText { shared: Some(SharedText { path: shared, text }), ..own })
}

/// The tables of a configuration with those that it extends. The bytes of the shared text count behind those of its own.
pub(super) fn merged(origin: &ConfigText) -> Result<Spanned<DeTable<'_>>, (String, usize)> {
    let parse = |text, offset: usize| {
        DeTable::parse(text)
            .map_err(|error| (error.message().to_owned(), offset + error.span().map_or(0, |span| span.start)))
    };
    let own = parse(&origin.text, 0)?;
    let Some(shared) = &origin.shared else { return Ok(own) };
    let (span, mut tables) = (own.span(), own.into_inner());
    let offset = origin.text.len() + 1;
    let shared = parse(&shared.text, offset)?.into_inner();
    if let Some((key, _)) = shared.iter().find(|(key, _)| *key.get_ref() == KEY) {
        return Err((format!("“{KEY}”: a configuration that is extended extends no other"), offset + key.span().start));
    }
    take_over(&mut tables, moved(shared, offset));
    Ok(Spanned::new(span, tables))
}

/// Adds what is not there. A list is taken over as a whole, or not at all.
fn take_over<'i>(own: &mut DeTable<'i>, shared: DeTable<'i>) {
    for (key, value) in shared {
        let known =
            own.iter_mut().find(|(known, _)| known.get_ref() == key.get_ref()).map(|(_, value)| value.get_mut());
        match (known, value) {
            (None, value) => {
                own.insert(key, value);
            }
            (Some(DeValue::Table(own)), value) => {
                if let DeValue::Table(shared) = value.into_inner() {
                    take_over(own, shared);
                }
            }
            (Some(_), _) => {}
        }
    }
}

/// The same table, whose bytes count from `offset`.
fn moved(table: DeTable<'_>, offset: usize) -> DeTable<'_> {
    let by = |span: Range<usize>| span.start + offset..span.end + offset;
    let entries = table.into_iter().map(|(key, value)| {
        let key = Spanned::new(by(key.span()), key.into_inner());
        (key, moved_value(value, offset))
    });
    entries.collect()
}

fn moved_value(value: Spanned<DeValue<'_>>, offset: usize) -> Spanned<DeValue<'_>> {
    let span = value.span();
    let moved = match value.into_inner() {
        DeValue::Table(table) => DeValue::Table(moved(table, offset)),
        DeValue::Array(items) => DeValue::Array(items.into_iter().map(|item| moved_value(item, offset)).collect()),
        other => other,
    };
    Spanned::new(span.start + offset..span.end + offset, moved)
}

/// The path of the configuration that is extended, and its text.
pub(super) fn shared_of(origin: &ConfigText) -> Option<(PathBuf, String)> {
    origin.shared.as_ref().map(|shared| (shared.path.clone(), shared.text.clone()))
}
