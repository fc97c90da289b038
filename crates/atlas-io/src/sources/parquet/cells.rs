//! The values of a column as the cells of a table.
//!
//! Numbers, dates and texts become what a person would write; lists and structs become JSON, which the reader of records
//! takes for lists, pictures and videos. Null is an empty cell.

use std::io::Write;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Date64Type, Decimal128Type, Decimal256Type, DecimalType, Float16Type, Float32Type,
    Float64Type, Int8Type, Int16Type, Int32Type, Int64Type, TimestampMicrosecondType, TimestampMillisecondType,
    TimestampNanosecondType, TimestampSecondType, UInt8Type, UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{Array, ArrayRef, ListArray, MapArray, StructArray};
use arrow_schema::{DataType, TimeUnit};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Map, Number, Value};

/// Writes the value of one row, without quotes or separators; nothing if it is null.
type WriteCell = Box<dyn Fn(usize, &mut Vec<u8>) + Send>;

/// The values of one column in some rows.
pub(super) struct ColumnCells(WriteCell);

impl ColumnCells {
    /// The cells of a column; `None` if values of its type cannot be shown. [`is_shown`] tells beforehand.
    pub(super) fn of(array: &ArrayRef) -> Option<Self> {
        let write: WriteCell = match array.data_type() {
            DataType::Utf8View => {
                let texts = array.as_string_view().clone();
                Box::new(move |row, out| {
                    if texts.is_valid(row) {
                        out.extend_from_slice(texts.value(row).as_bytes());
                    }
                })
            }
            DataType::BinaryView => {
                let texts = array.as_binary_view().clone();
                // Some programs write texts without saying so.
                Box::new(move |row, out| {
                    if texts.is_valid(row) {
                        out.extend_from_slice(String::from_utf8_lossy(texts.value(row)).as_bytes());
                    }
                })
            }
            DataType::List(_) | DataType::Struct(_) | DataType::Map(..) => {
                let nested = array.clone();
                Box::new(move |row, out| {
                    if nested.is_valid(row) {
                        // A vector takes everything.
                        let _ = serde_json::to_writer(out, &json(&nested, row));
                    }
                })
            }
            DataType::Null => Box::new(|_, _| ()),
            _ => return scalar(array).map(Self),
        };
        Some(Self(write))
    }

    /// Appends the value of a row.
    pub(super) fn push(&self, row: usize, out: &mut Vec<u8>) {
        (self.0)(row, out);
    }
}

/// Whether values of this type can be cells.
pub(super) fn is_shown(kind: &DataType) -> bool {
    match kind {
        DataType::List(item) => is_shown(item.data_type()),
        DataType::Struct(fields) => fields.iter().all(|field| is_shown(field.data_type())),
        DataType::Map(entries, _) => is_shown(entries.data_type()),
        DataType::Time32(_) | DataType::Time64(_) | DataType::Duration(_) | DataType::Interval(_) => false,
        DataType::FixedSizeBinary(_) => false,
        _ => true,
    }
}

/// Numbers, dates and the like.
fn scalar(array: &ArrayRef) -> Option<WriteCell> {
    /// A column of one primitive type.
    fn each<T: ArrowPrimitiveType>(
        array: &ArrayRef,
        write: impl Fn(T::Native, &mut Vec<u8>) + Send + 'static,
    ) -> WriteCell {
        let values = array.as_primitive::<T>().clone();
        Box::new(move |row, out| {
            if values.is_valid(row) {
                write(values.value(row), out);
            }
        })
    }
    /// The same, with values that are shown as Rust shows them.
    macro_rules! shown {
        ($type:ty) => {
            each::<$type>(array, |value, out| show(out, value))
        };
    }
    Some(match array.data_type() {
        DataType::Boolean => {
            let words = array.as_boolean().clone();
            Box::new(move |row, out| {
                if words.is_valid(row) {
                    out.extend_from_slice(if words.value(row) { b"yes" } else { b"no" });
                }
            })
        }
        DataType::Int8 => shown!(Int8Type),
        DataType::Int16 => shown!(Int16Type),
        DataType::Int32 => shown!(Int32Type),
        DataType::Int64 => shown!(Int64Type),
        DataType::UInt8 => shown!(UInt8Type),
        DataType::UInt16 => shown!(UInt16Type),
        DataType::UInt32 => shown!(UInt32Type),
        DataType::UInt64 => shown!(UInt64Type),
        DataType::Float16 => shown!(Float16Type),
        DataType::Float32 => shown!(Float32Type),
        DataType::Float64 => shown!(Float64Type),
        DataType::Decimal128(_, scale) => {
            let scale = *scale;
            each::<Decimal128Type>(array, move |value, out| {
                show(out, Decimal128Type::format_decimal(value, Decimal128Type::MAX_PRECISION, scale));
            })
        }
        DataType::Decimal256(_, scale) => {
            let scale = *scale;
            each::<Decimal256Type>(array, move |value, out| {
                show(out, Decimal256Type::format_decimal(value, Decimal256Type::MAX_PRECISION, scale));
            })
        }
        DataType::Date32 => each::<Date32Type>(array, |days, out| day(i64::from(days), out)),
        DataType::Date64 => each::<Date64Type>(array, |millis, out| day(millis.div_euclid(86_400_000), out)),
        DataType::Timestamp(unit, zone) => {
            let is_instant = zone.is_some();
            match unit {
                TimeUnit::Second => each::<TimestampSecondType>(array, move |at, out| instant(at, 1, is_instant, out)),
                TimeUnit::Millisecond => {
                    each::<TimestampMillisecondType>(array, move |at, out| instant(at, 1_000, is_instant, out))
                }
                TimeUnit::Microsecond => {
                    each::<TimestampMicrosecondType>(array, move |at, out| instant(at, 1_000_000, is_instant, out))
                }
                TimeUnit::Nanosecond => {
                    each::<TimestampNanosecondType>(array, move |at, out| instant(at, 1_000_000_000, is_instant, out))
                }
            }
        }
        _ => return None,
    })
}

fn show(out: &mut Vec<u8>, value: impl std::fmt::Display) {
    // A vector takes everything.
    let _ = write!(out, "{value}");
}

/// Appends a day, counted from 1970-01-01. One that no calendar has is left as a number, which is reported as no date.
fn day(days: i64, out: &mut Vec<u8>) {
    match days.checked_mul(86_400).and_then(|seconds| Timestamp::from_second(seconds).ok()) {
        Some(at) => show(out, TimeZone::UTC.to_datetime(at).date()),
        None => show(out, days),
    }
}

/// Appends an instant as UTC, or a time without a zone, which is then one of the site's. `per_second` is its unit.
fn instant(value: i64, per_second: i64, is_instant: bool, out: &mut Vec<u8>) {
    let nanos = (value.rem_euclid(per_second) * (1_000_000_000 / per_second)) as i32;
    let since = SignedDuration::new(value.div_euclid(per_second), nanos);
    match Timestamp::from_duration(since) {
        Ok(at) if is_instant => show(out, at),
        Ok(at) => show(out, TimeZone::UTC.to_datetime(at)),
        Err(_) => show(out, value),
    }
}

/// The value of a row as JSON.
fn json(array: &ArrayRef, row: usize) -> Value {
    if !array.is_valid(row) {
        return Value::Null;
    }
    match array.data_type() {
        DataType::List(_) => {
            let items = array.as_list::<i32>() as &ListArray;
            let items = items.value(row);
            Value::Array((0..items.len()).map(|at| json(&items, at)).collect())
        }
        DataType::Struct(_) => object(array.as_struct(), row),
        DataType::Map(..) => {
            let entries = (array.as_map() as &MapArray).value(row);
            let (names, values) = (entries.column(0), entries.column(1));
            Value::Object((0..entries.len()).map(|at| (text(names, at), json(values, at))).collect())
        }
        DataType::Boolean => Value::Bool(array.as_boolean().value(row)),
        DataType::Int8
        | DataType::Int16
        | DataType::Int32
        | DataType::Int64
        | DataType::UInt8
        | DataType::UInt16
        | DataType::UInt32
        | DataType::UInt64
        | DataType::Float32
        | DataType::Float64
        | DataType::Decimal128(..) => {
            let text = text(array, row);
            text.parse::<Number>().map_or(Value::String(text), Value::Number)
        }
        _ => Value::String(text(array, row)),
    }
}

fn object(fields: &StructArray, row: usize) -> Value {
    let members = fields.fields().iter().zip(fields.columns());
    let given = members.map(|(field, values)| (field.name().clone(), json(values, row)));
    Value::Object(given.filter(|(_, value)| !value.is_null()).collect::<Map<_, _>>())
}

fn text(array: &ArrayRef, row: usize) -> String {
    let mut out = Vec::new();
    if let Some(cells) = ColumnCells::of(array) {
        cells.push(row, &mut out);
    }
    String::from_utf8_lossy(&out).into_owned()
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{
        BooleanArray, Date32Array, Decimal128Array, Float64Array, Int64Array, NullArray, StringViewArray,
        TimestampMicrosecondArray, TimestampNanosecondArray, TimestampSecondArray,
    };
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::text(Arc::new(StringViewArray::from(vec!["Weir & Sons"])), "Weir & Sons")]
    #[case::yes(Arc::new(BooleanArray::from(vec![true])), "yes")]
    #[case::number(Arc::new(Int64Array::from(vec![-7])), "-7")]
    #[case::float(Arc::new(Float64Array::from(vec![0.5])), "0.5")]
    #[case::decimal(Arc::new(Decimal128Array::from(vec![50]).with_precision_and_scale(9, 2).unwrap()), "0.50")]
    #[case::day(Arc::new(Date32Array::from(vec![20_787])), "2026-11-30")]
    #[case::before_1970(Arc::new(Date32Array::from(vec![-1])), "1969-12-31")]
    #[case::no_day(Arc::new(Date32Array::from(vec![i32::MAX])), "2147483647")]
    #[case::local(Arc::new(TimestampSecondArray::from(vec![1_796_032_800])), "2026-11-30T10:00:00")]
    #[case::instant(Arc::new(TimestampMicrosecondArray::from(vec![1_796_032_800_000_000]).with_timezone("+01:00")), "2026-11-30T10:00:00Z")]
    #[case::fraction(Arc::new(TimestampNanosecondArray::from(vec![-1]).with_timezone("UTC")), "1969-12-31T23:59:59.999999999Z")]
    #[case::nothing(Arc::new(NullArray::new(1)), "")]
    #[case::null(Arc::new(Int64Array::from(vec![None::<i64>])), "")]
    fn values_read_as_a_person_writes_them(#[case] array: ArrayRef, #[case] wanted: &str) {
        let mut cell = Vec::new();
        ColumnCells::of(&array).unwrap().push(0, &mut cell);
        assert_eq!(String::from_utf8(cell).unwrap(), wanted);
        assert!(is_shown(array.data_type()));
    }
}
