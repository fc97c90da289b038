//! The values of a record, as text, lists and JSON.

use std::borrow::Cow;

use serde_json::{Map, Value};

use crate::reading::field::Field;
use crate::reading::template::{ColumnTemplate, fill};

use super::header::Header;
use super::settings::RecordSettings;

/// One record of any source.
pub(crate) enum Record<'c, 'r> {
    /// Values in columns, most of which borrow from a text that outlives the record.
    Columns(&'c [Cow<'r, str>]),
    /// Values with names.
    Object(&'r Map<String, Value>),
}

/// Reads the records of one source.
pub(crate) struct RecordReader<'s> {
    pub(crate) settings: &'s RecordSettings,
    pub(crate) header: &'s Header,
}

impl RecordReader<'_> {
    /// The text of a field: that of the first of its places which has one.
    pub(super) fn text<'r>(&'r self, record: &Record<'_, 'r>, field: Field) -> Option<Cow<'r, str>> {
        let at = field as usize;
        if !self.header.found[at] {
            return None;
        }
        // The common case: a single column.
        if let (Record::Columns(row), [place], []) =
            (record, &self.header.places[at][..], &self.header.templates[at][..])
        {
            return row.get(*place).filter(|text| !is_blank(text)).cloned();
        }
        let filled = self.header.templates[at].iter().find_map(|template| match template {
            ColumnTemplate::Column(name) => self.value(record, name),
            ColumnTemplate::Pieces(pieces) => {
                let date = |text: &str| self.read_date(text).map(|date| date.at(&self.settings.timezone));
                fill(pieces, |name| self.value(record, name), date).map(Cow::Owned)
            }
        });
        let plain = || match record {
            Record::Columns(row) => {
                let mut texts = self.header.places[at].iter().filter_map(|place| row.get(*place));
                texts.find(|text| !is_blank(text)).cloned()
            }
            Record::Object(object) if self.header.templates[at].is_empty() => scalar(object.get(field.name())?),
            Record::Object(_) => None,
        };
        filled.or_else(plain).filter(|text| !is_blank(text))
    }

    /// The text of a column, of a member at any depth (`meta.title`), of another field, or of the source's section.
    pub(super) fn value<'r>(&'r self, record: &Record<'_, 'r>, name: &str) -> Option<Cow<'r, str>> {
        let own = match record {
            Record::Columns(row) => self.header.place(name).and_then(|at| row.get(at)).cloned(),
            Record::Object(object) => member(object, name).and_then(scalar),
        };
        let field = || {
            let field = Field::named(name)?;
            let template = self.header.templates[field as usize].iter().find_map(|template| match template {
                ColumnTemplate::Column(other) if other != name => Some(other),
                _ => None,
            });
            match (template, record) {
                (Some(other), Record::Object(object)) => member(object, other).and_then(scalar),
                (_, Record::Columns(row)) => row.get(*self.header.places[field as usize].first()?).cloned(),
                _ => None,
            }
        };
        let section = || (name == "section").then(|| self.settings.section.as_deref().map(Cow::Borrowed)).flatten();
        own.or_else(field).or_else(section)
    }

    /// The JSON value of a field, if the record has one.
    pub(super) fn json<'r>(&self, record: &Record<'_, 'r>, field: Field) -> Option<&'r Value> {
        let Record::Object(object) = record else { return None };
        let value = match self.header.templates[field as usize].first() {
            Some(ColumnTemplate::Column(name)) => member(object, name),
            Some(ColumnTemplate::Pieces(_)) => None,
            None => object.get(field.name()),
        };
        value.filter(|value| !value.is_null())
    }

    /// The items of a list field: those of all its places, each a text with separators or a JSON list.
    pub(super) fn list<'r>(&'r self, record: &Record<'_, 'r>, field: Field) -> Vec<Cow<'r, str>> {
        let at = field as usize;
        let mut items = Vec::new();
        if !self.header.found[at] {
            return items;
        }
        match record {
            Record::Columns(row) => {
                for text in self.header.places[at].iter().filter_map(|place| row.get(*place)) {
                    match text {
                        Cow::Borrowed(text) => self.split(text, &mut items),
                        Cow::Owned(text) => {
                            let mut own = Vec::new();
                            self.split(text, &mut own);
                            items.extend(own.into_iter().map(|item| Cow::Owned(item.into_owned())));
                        }
                    }
                }
            }
            Record::Object(object) => {
                let templates = &self.header.templates[at];
                let names = templates.iter().filter_map(|template| match template {
                    ColumnTemplate::Column(name) => Some(name.as_str()),
                    ColumnTemplate::Pieces(_) => None,
                });
                let own = templates.is_empty().then_some(field.name());
                for value in names.chain(own).filter_map(|name| member(object, name)) {
                    self.items(value, &mut items);
                }
            }
        }
        let pieces = self.header.templates[at].iter().filter(|template| matches!(template, ColumnTemplate::Pieces(_)));
        if pieces.count() > 0 {
            items.extend(self.text(record, field));
        }
        items
    }

    pub(super) fn items<'r>(&self, value: &'r Value, items: &mut Vec<Cow<'r, str>>) {
        match value {
            Value::Array(values) => {
                items.extend(values.iter().filter_map(item).filter(|item| !item.trim().is_empty()));
            }
            Value::String(text) => self.split(text, items),
            value => items.extend(item(value)),
        }
    }

    pub(super) fn split<'r>(&self, text: &'r str, items: &mut Vec<Cow<'r, str>>) {
        if text.trim_start().starts_with('[')
            && let Ok(values) = serde_json::from_str::<Vec<Value>>(text)
        {
            let texts = values.iter().filter_map(item).map(|item| Cow::Owned(item.into_owned()));
            return items.extend(texts.filter(|item: &Cow<'_, str>| !item.trim().is_empty()));
        }
        let parts = text.split(self.settings.separator.as_str()).map(str::trim);
        items.extend(parts.filter(|item| !item.is_empty()).map(Cow::Borrowed));
    }
}

/// A member of an object, or of an object in it: `meta.title`.
pub(super) fn member<'r>(object: &'r Map<String, Value>, name: &str) -> Option<&'r Value> {
    object.get(name).or_else(|| {
        let (outer, inner) = name.split_once('.')?;
        member(object.get(outer)?.as_object()?, inner)
    })
}

/// Whether a text is empty or only white space.
pub(super) fn is_blank(text: &str) -> bool {
    // The first byte decides in most cases.
    !text.bytes().next().is_some_and(|byte| byte > b' ' && byte < 0x7f) && text.trim().is_empty()
}

/// A text for a message, shortened if it is long.
pub(super) fn shortened(text: &str) -> String {
    match text.char_indices().nth(LONGEST_SHOWN) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}

/// The most characters of a value that a message repeats.
const LONGEST_SHOWN: usize = 80;

/// An item of a list: a text, or an object that describes a picture and contains its address.
pub(super) fn item(value: &Value) -> Option<Cow<'_, str>> {
    let Value::Object(object) = value else { return scalar(value) };
    ["src", "url", "loc", "href", "file", "path"].into_iter().find_map(|name| scalar(object.get(name)?))
}

pub(super) fn scalar(value: &Value) -> Option<Cow<'_, str>> {
    match value {
        Value::String(text) => Some(Cow::Borrowed(text)),
        Value::Number(number) => Some(Cow::Owned(number.to_string())),
        Value::Bool(word) => Some(Cow::Borrowed(if *word { "yes" } else { "no" })),
        _ => None,
    }
}
