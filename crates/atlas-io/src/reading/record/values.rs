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
            Record::Columns(row) => match self.header.place(name) {
                Some(at) => row.get(at).cloned(),
                None => self.cell_member(row, name).and_then(|value| Some(Cow::Owned(scalar(&value)?.into_owned()))),
            },
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
        let section =
            || (name == "section").then(|| self.settings.section.as_ref()?.name().map(Cow::Borrowed)).flatten();
        own.or_else(field).or_else(section)
    }

    /// The JSON value of a field, if the record has one: a value of an object, or a list or object in a column.
    pub(super) fn json<'r>(&self, record: &Record<'_, 'r>, field: Field) -> Option<Cow<'r, Value>> {
        let template = self.header.templates[field as usize].first();
        let value = match (record, template) {
            (_, Some(ColumnTemplate::Pieces(_))) => None,
            (Record::Object(object), Some(ColumnTemplate::Column(name))) => member(object, name).map(Cow::Borrowed),
            (Record::Object(object), None) => object.get(field.name()).map(Cow::Borrowed),
            (Record::Columns(row), Some(ColumnTemplate::Column(name))) => self.cell_member(row, name).map(Cow::Owned),
            (Record::Columns(row), None) => {
                let place = self.header.places[field as usize].first()?;
                json_in(row.get(*place)?).map(Cow::Owned)
            }
        };
        value.filter(|value| !value.is_null())
    }

    /// A member of the JSON object in a column: `meta.title`.
    fn cell_member(&self, row: &[Cow<'_, str>], name: &str) -> Option<Value> {
        let (outer, inner) = name.split_once('.')?;
        let object = json_in(row.get(self.header.place(outer)?)?)?;
        member(object.as_object()?, inner).cloned()
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
                for template in &self.header.templates[at] {
                    let ColumnTemplate::Column(name) = template else { continue };
                    let Some(value) = self.cell_member(row, name) else { continue };
                    let mut own = Vec::new();
                    self.items(&value, &mut own);
                    items.extend(own.into_iter().map(|item| Cow::Owned(item.into_owned())));
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

/// The list or object that a text is, if it is one.
fn json_in(text: &str) -> Option<Value> {
    if !text.trim_start().starts_with(['[', '{']) {
        return None;
    }
    serde_json::from_str(text).ok()
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

/// The most columns that name a record without a URL.
const NAMING_COLUMNS: usize = 2;

impl RecordReader<'_> {
    /// The beginning of a message about a record that has no line: its URL, else its first columns.
    pub(crate) fn named(&self, record: &Record<'_, '_>) -> String {
        if let Some(url) = self.url(record) {
            return format!("{}: ", shortened(url.trim()));
        }
        let Record::Columns(row) = record else { return String::new() };
        let given = self.header.columns.iter().zip(*row).filter(|(name, text)| !name.is_empty() && !is_blank(text));
        let named: Vec<String> =
            given.take(NAMING_COLUMNS).map(|(name, text)| format!("{name} “{}”", shortened(text))).collect();
        if named.is_empty() { "a row without any value: ".to_owned() } else { format!("{}: ", named.join(", ")) }
    }
}

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
