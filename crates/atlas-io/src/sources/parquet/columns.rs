//! Which columns of a file are read, and whether their types serve the fields that they give.

use std::sync::Arc;

use arrow_schema::{DataType, Field as Column, Fields, Schema, TimeUnit};

use super::cells::is_shown;
use crate::reading::field::{ColumnMapping, Field, VIDEO_PREFIX};
use crate::reading::record::RecordSettings;
use crate::reading::template::ColumnTemplate;

/// What a column is used for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ColumnUse {
    /// The value of a field.
    Field(Field),
    /// A part of a template or of a video.
    FilePart,
    /// Only a member of its structs is used.
    Member,
}

/// The uses of a column. A column without any is not read.
fn uses(settings: &RecordSettings, name: &str) -> Vec<ColumnUse> {
    let ColumnMapping { fields, video } = &settings.mapping;
    let mut uses = Vec::new();
    let is_member = |used: &str| used.split_once('.').is_some_and(|(outer, _)| outer.eq_ignore_ascii_case(name));
    let mut part = |template: &ColumnTemplate, direct: ColumnUse| {
        for used in template.columns() {
            if used.eq_ignore_ascii_case(name) {
                uses.push(if matches!(template, ColumnTemplate::Column(_)) { direct } else { ColumnUse::FilePart });
            } else if is_member(used) {
                uses.push(ColumnUse::Member);
            }
        }
    };
    for (field, templates) in fields {
        templates.iter().for_each(|template| part(template, ColumnUse::Field(*field)));
    }
    video.values().for_each(|template| part(template, ColumnUse::FilePart));
    if let Some(template) = settings.section.as_ref().and_then(|section| section.template()) {
        part(&template, ColumnUse::FilePart);
    }
    let own = Field::ALL.into_iter().find(|field| field.name().eq_ignore_ascii_case(name));
    uses.extend(own.filter(|field| !fields.contains_key(field)).map(ColumnUse::Field));
    // Templates may name a field instead of its column.
    let all = || fields.values().flatten().chain(video.values());
    if own.is_some_and(|own| all().flat_map(ColumnTemplate::columns).any(|used| used == own.name())) {
        uses.push(ColumnUse::FilePart);
    }
    if name.starts_with(VIDEO_PREFIX) {
        uses.push(ColumnUse::FilePart);
    }
    uses
}

/// Whether a column is read.
pub(super) fn is_used(settings: &RecordSettings, name: &str) -> bool {
    !uses(settings, name).is_empty()
}

/// Checks that the type of a column serves all its uses; else says what it is used for and what would serve.
pub(super) fn check(settings: &RecordSettings, column: &Column) -> Result<(), String> {
    let kind = column.data_type();
    let mut uses = uses(settings, column.name());
    uses.sort_by_key(|used| matches!(used, ColumnUse::FilePart));
    for used in uses {
        let wanted = match used {
            ColumnUse::Field(field) => wanted(field, kind),
            ColumnUse::FilePart => (!is_plain(kind)).then_some("a text, a number, a date or a timestamp"),
            ColumnUse::Member => (!matches!(kind, DataType::Struct(_)) && !is_text(kind) || !is_shown(kind))
                .then_some("a struct of texts and numbers, or a text in JSON"),
        };
        if let Some(wanted) = wanted {
            let purpose = match used {
                ColumnUse::Field(field) => format!("the field “{}”", field.name()),
                ColumnUse::FilePart => "a template".to_owned(),
                ColumnUse::Member => "one of its members".to_owned(),
            };
            return Err(format!(
                "the column “{}” is of type {}, which cannot serve as {purpose}; expected {wanted}. Cast it in the export, or name another column in “fields”",
                column.name(),
                named(kind)
            ));
        }
    }
    Ok(())
}

/// What a field needs, if a type does not serve it.
fn wanted(field: Field, kind: &DataType) -> Option<&'static str> {
    let is_number = kind.is_numeric();
    let is_date = matches!(kind, DataType::Date32 | DataType::Date64 | DataType::Timestamp(..));
    let is_textual = is_text(kind);
    let list_of = |serves: fn(&DataType) -> bool| match kind {
        DataType::List(item) => serves(item.data_type()),
        other => serves(other),
    };
    let (serves, wanted) = match field {
        Field::Modified | Field::Published | Field::Embargo | Field::Expires => {
            // Numbers count seconds or milliseconds, or are digits of a format such as %Y%m%d.
            (is_date || is_textual || kind.is_integer(), "a date, a timestamp, a number or a text")
        }
        Field::Draft | Field::Keep | Field::Noindex | Field::Announce => {
            (is_textual || kind.is_integer() || *kind == DataType::Boolean, "a boolean, a number or a text")
        }
        Field::Category | Field::Tags | Field::Author | Field::Robots => {
            (list_of(is_plain), "a text or a list of texts")
        }
        Field::Images | Field::Alternates => {
            let serves = |kind: &DataType| is_text(kind) || matches!(kind, DataType::Struct(_)) && is_shown(kind);
            (list_of(serves), "a text, a list of texts or a list of structs")
        }
        Field::Videos => {
            let serves = |kind: &DataType| is_text(kind) || matches!(kind, DataType::Struct(_)) && is_shown(kind);
            (list_of(serves), "a list of structs, a struct or a text in JSON")
        }
        Field::Priority => (is_textual || is_number, "a number or a text"),
        _ => (is_plain(kind), "a text or a number"),
    };
    (!serves && *kind != DataType::Null).then_some(wanted)
}

fn is_text(kind: &DataType) -> bool {
    matches!(kind, DataType::Utf8View | DataType::BinaryView | DataType::Null)
}

/// Whether values are single words, numbers or dates.
fn is_plain(kind: &DataType) -> bool {
    !kind.is_nested() && is_shown(kind)
}

/// The name of a type, as the trade writes it.
fn named(kind: &DataType) -> String {
    match kind {
        DataType::Utf8View => "string".to_owned(),
        DataType::BinaryView | DataType::FixedSizeBinary(_) => "binary".to_owned(),
        DataType::Boolean => "boolean".to_owned(),
        DataType::Date32 | DataType::Date64 => "date".to_owned(),
        DataType::Timestamp(..) => "timestamp".to_owned(),
        DataType::Time32(_) | DataType::Time64(_) => "time".to_owned(),
        DataType::Decimal128(digits, scale) | DataType::Decimal256(digits, scale) => {
            format!("decimal({digits}, {scale})")
        }
        DataType::List(item) => format!("list of {}", named(item.data_type())),
        DataType::Struct(_) => "struct".to_owned(),
        DataType::Map(..) => "map".to_owned(),
        other => other.to_string().to_lowercase(),
    }
}

/// The schema as columns are read: texts are not copied out of the buffers of the file, and the 96-bit timestamps of
/// older programs are instants.
pub(super) fn as_read(schema: &Schema, is_96_bit: impl Fn(&str) -> bool) -> Schema {
    let root = schema.fields().iter().map(|column| match column.data_type() {
        DataType::Timestamp(..) if is_96_bit(column.name()) => {
            let instant = DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into()));
            Arc::new(column.as_ref().clone().with_data_type(instant))
        }
        _ => viewed(column),
    });
    Schema::new(root.collect::<Fields>())
}

fn viewed(column: &Arc<Column>) -> Arc<Column> {
    let kind = match column.data_type() {
        DataType::Utf8 | DataType::LargeUtf8 => DataType::Utf8View,
        DataType::Binary | DataType::LargeBinary => DataType::BinaryView,
        DataType::List(item) => DataType::List(viewed(item)),
        DataType::Struct(fields) => DataType::Struct(fields.iter().map(viewed).collect()),
        DataType::Map(entries, is_sorted) => DataType::Map(viewed(entries), *is_sorted),
        _ => return column.clone(),
    };
    Arc::new(column.as_ref().clone().with_data_type(kind))
}
