//! Values of fields: how each type is written into a row, read back, and shown.

use std::borrow::Cow;

use crate::entry::{Changefreq, DatePolicy, Priority};
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::varint;
use crate::video::Video;

/// The order in which `why` shows fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum ReportOrder {
    Text,
    Date,
    List,
    Alternates,
    Videos,
    RowSummary,
    Keep,
    Changefreq,
    Priority,
    DatePolicy,
    Number,
}

/// A type of field.
pub(super) trait FieldValue<'a>: Default {
    /// The same type, borrowing nothing.
    type Owned;
    /// Where `why` shows it.
    const KIND: ReportOrder;
    /// Whether two sources that say different things disagree.
    const IS_COMPARED: bool = false;

    /// Takes a value from a row; a list takes one more item.
    fn receive(&mut self, bytes: &'a [u8]);
    /// Appends it to a row. A value that says nothing is not written.
    fn put(&self, number: u8, out: &mut Vec<u8>);
    /// The value in words; a list item by item.
    fn words(&self) -> Vec<String>;
    /// Whether the value says anything.
    fn is_given(&self) -> bool;
    /// Whether it means the same as another source's value.
    fn means(&self, _other: &Self) -> bool {
        true
    }
    fn into_owned(self) -> Self::Owned;
}

/// Where `why` shows a field.
pub(super) fn kind_of<'a, T: FieldValue<'a>>(_: &T) -> ReportOrder {
    T::KIND
}

/// Whether two sources that give a field different values disagree.
pub(super) fn is_compared<'a, T: FieldValue<'a>>(_: &T) -> bool {
    T::IS_COMPARED
}

/// Appends a field to a row: its number, its length, its bytes.
pub(super) fn put(number: u8, bytes: &[u8], out: &mut Vec<u8>) {
    out.push(number);
    varint::push(out, bytes.len());
    out.extend_from_slice(bytes);
}

fn put_text(number: u8, text: &str, out: &mut Vec<u8>) {
    if !text.is_empty() {
        put(number, text.as_bytes(), out);
    }
}

/// The bytes of a row as text. Rows are stored in the ledger, and one that was damaged on disk must not stop a build.
pub(super) fn text(bytes: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Cow::Borrowed(text),
        Err(_) => String::from_utf8_lossy(bytes),
    }
}

fn own(text: Cow<'_, str>) -> Cow<'static, str> {
    Cow::Owned(text.into_owned())
}

fn first(bytes: &[u8]) -> usize {
    bytes.first().map_or(usize::MAX, |&byte| usize::from(byte))
}

impl<'a> FieldValue<'a> for Option<Cow<'a, str>> {
    type Owned = Option<Cow<'static, str>>;
    const KIND: ReportOrder = ReportOrder::Text;
    const IS_COMPARED: bool = true;

    fn receive(&mut self, bytes: &'a [u8]) {
        *self = Some(text(bytes));
    }

    fn put(&self, number: u8, out: &mut Vec<u8>) {
        self.iter().for_each(|text| put_text(number, text, out));
    }

    fn words(&self) -> Vec<String> {
        self.iter().map(|text| text.to_string()).collect()
    }

    fn is_given(&self) -> bool {
        self.is_some()
    }

    fn means(&self, other: &Self) -> bool {
        self == other
    }

    fn into_owned(self) -> Self::Owned {
        self.map(own)
    }
}

impl<'a> FieldValue<'a> for Vec<Cow<'a, str>> {
    type Owned = Vec<Cow<'static, str>>;
    const KIND: ReportOrder = ReportOrder::List;

    fn receive(&mut self, bytes: &'a [u8]) {
        self.push(text(bytes));
    }

    fn put(&self, number: u8, out: &mut Vec<u8>) {
        self.iter().for_each(|text| put_text(number, text, out));
    }

    fn words(&self) -> Vec<String> {
        self.iter().map(|text| text.to_string()).collect()
    }

    fn is_given(&self) -> bool {
        !self.is_empty()
    }

    fn into_owned(self) -> Self::Owned {
        self.into_iter().map(own).collect()
    }
}

impl<'a> FieldValue<'a> for Vec<Alternate<'a>> {
    type Owned = Vec<Alternate<'static>>;
    const KIND: ReportOrder = ReportOrder::Alternates;

    fn receive(&mut self, bytes: &'a [u8]) {
        if let Some((language, url)) = std::str::from_utf8(bytes).ok().and_then(|text| text.split_once('\0')) {
            self.push(Alternate { language: language.into(), url: url.into() });
        }
    }

    fn put(&self, number: u8, out: &mut Vec<u8>) {
        for Alternate { language, url } in self {
            put(number, [language.as_bytes(), b"\0", url.as_bytes()].concat().as_slice(), out);
        }
    }

    fn words(&self) -> Vec<String> {
        self.iter().map(|one| format!("{} {}", one.language, one.url)).collect()
    }

    fn is_given(&self) -> bool {
        !self.is_empty()
    }

    fn into_owned(self) -> Self::Owned {
        self.into_iter().map(|one| Alternate { language: own(one.language), url: own(one.url) }).collect()
    }
}

impl<'a> FieldValue<'a> for Vec<Video> {
    type Owned = Self;
    const KIND: ReportOrder = ReportOrder::Videos;

    fn receive(&mut self, bytes: &'a [u8]) {
        self.extend(serde_json::from_slice::<Video>(bytes));
    }

    fn put(&self, number: u8, out: &mut Vec<u8>) {
        // A struct of optional texts and numbers always serializes.
        self.iter().filter_map(|video| serde_json::to_vec(video).ok()).for_each(|bytes| put(number, &bytes, out));
    }

    fn words(&self) -> Vec<String> {
        self.iter().map(|video| video.place().unwrap_or("(no file or player)").to_owned()).collect()
    }

    fn is_given(&self) -> bool {
        !self.is_empty()
    }

    fn into_owned(self) -> Self {
        self
    }
}

impl FieldValue<'_> for bool {
    type Owned = Self;
    const KIND: ReportOrder = ReportOrder::RowSummary;

    fn receive(&mut self, _: &[u8]) {
        *self = true;
    }

    fn put(&self, number: u8, out: &mut Vec<u8>) {
        if *self {
            put(number, &[], out);
        }
    }

    fn words(&self) -> Vec<String> {
        self.then(|| "yes".to_owned()).into_iter().collect()
    }

    fn is_given(&self) -> bool {
        *self
    }

    fn into_owned(self) -> Self {
        self
    }
}

/// Optional values of a fixed size.
macro_rules! fixed {
    ($($type:ty, $kind:ident, $is_compared:literal, $take:expr, $put:expr, $words:expr, $means:expr;)*) => {$(
        impl FieldValue<'_> for Option<$type> {
            type Owned = Self;
            const KIND: ReportOrder = ReportOrder::$kind;
            const IS_COMPARED: bool = $is_compared;

            fn receive(&mut self, bytes: &[u8]) {
                const TAKE: fn(&[u8]) -> Option<$type> = $take;
                *self = TAKE(bytes);
            }

            fn put(&self, number: u8, out: &mut Vec<u8>) {
                if let Some(value) = self {
                    put(number, $put(value).as_ref(), out);
                }
            }

            fn words(&self) -> Vec<String> {
                let words: fn(&$type) -> String = $words;
                self.iter().map(words).collect()
            }

            fn is_given(&self) -> bool {
                self.is_some()
            }

            fn means(&self, other: &Self) -> bool {
                let means: fn(&$type, &$type) -> bool = $means;
                self.as_ref().zip(other.as_ref()).is_none_or(|(one, other)| means(one, other))
            }

            fn into_owned(self) -> Self {
                self
            }
        }
    )*};
}

fixed! {
    Lastmod, Date, true, Lastmod::from_bytes, |date: &Lastmod| date.to_bytes(), Lastmod::to_string,
        |one, other| one == other || one.is_same(other);
    DatePolicy, DatePolicy, true, |bytes| DatePolicy::ALL.get(first(bytes)).copied(), |policy: &DatePolicy| [*policy as u8],
        |policy| policy.as_str().to_owned(), PartialEq::eq;
    u64, Number, false, |bytes| bytes.try_into().ok().map(u64::from_le_bytes), |number: &u64| number.to_le_bytes(),
        u64::to_string, PartialEq::eq;
    Priority, Priority, true, |bytes| bytes.first().and_then(|&number| Priority::from_hundredths(number)),
        |priority: &Priority| [priority.hundredths()], Priority::to_string, PartialEq::eq;
    bool, Keep, true, |bytes| bytes.first().map(|&byte| byte != 0), |keep: &bool| [u8::from(*keep)],
        |keep| if *keep { "yes" } else { "no" }.to_owned(), PartialEq::eq;
    Changefreq, Changefreq, true, |bytes| Changefreq::ALL.get(first(bytes)).copied(), |hint: &Changefreq| [*hint as u8],
        |hint| hint.as_str().to_owned(), PartialEq::eq;
}
