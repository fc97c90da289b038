//! Fingerprints of what a page says: the fields that have a weight in the table of fields, part by part.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::xxh3_64;

use crate::contribution::Contribution;
use crate::contribution::field_table::field_table;
use crate::lastmod::{BYTES, Lastmod};
use crate::video::Video;

/// The number of parts in the fingerprint of a page.
pub const PARTS: usize = 4;
/// The number of positions within the parts, counted from 1.
const PLACES: usize = 10;

macro_rules! part {
    (dates) => {
        None
    };
    ($part:literal) => {
        Some($part)
    };
}

macro_rules! weights {
    ($($(#[$about:meta])* $name:ident: $type:ty = $number:literal, $merge:ident, $told:ident
        $(, weighs $field:ident ($part:tt $place:literal))?;)*) => {
        /// A field of a page that [`Prints`] cover.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(rename_all = "kebab-case")]
        #[repr(u8)]
        pub enum PageField {
            $($(
                #[doc = concat!("[`Contribution::", stringify!($name), "`]")]
                $field,
            )?)*
        }

        impl PageField {
            /// All fields.
            pub const ALL: &[Self] = &[$($(Self::$field,)?)*];

            /// The part of [`Prints::page`] that the field belongs to; `None` for dates.
            pub fn part(self) -> Option<usize> {
                match self {
                    $($(Self::$field => part!($part),)?)*
                }
            }
        }

        impl PageFields {
            /// The fields that are set.
            pub fn of(contribution: &Contribution<'_>) -> Self {
                let mut fields = Self::default();
                $($(if contribution.$name.is_said() {
                    fields.0 |= 1 << PageField::$field as u8;
                })?)*
                fields
            }

            /// A copy of the contribution with only these fields.
            pub fn select<'a>(self, contribution: &Contribution<'a>) -> Contribution<'a> {
                let mut selected = Contribution { url: contribution.url.clone(), ..Contribution::default() };
                $($(if self.has(PageField::$field) {
                    selected.$name = contribution.$name.clone();
                })?)*
                selected
            }
        }

        /// The values of the fields with a weight, by position; position 0 is that of dates.
        fn weights<'s>(contribution: &'s Contribution<'_>) -> [Weighted<'s>; PLACES] {
            let mut weights = [Weighted { part: None, weight: FieldWeight::Date }; PLACES];
            $($(weights[$place] = Weighted { part: part!($part), weight: contribution.$name.weight() };)?)*
            weights
        }
    };
}

/// A set of fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct PageFields(u16);

field_table!(weights);

/// A field with a weight and its value.
#[derive(Clone, Copy)]
struct Weighted<'s> {
    part: Option<usize>,
    weight: FieldWeight<'s>,
}

/// The value of a field with a weight.
#[derive(Clone, Copy)]
enum FieldWeight<'s> {
    Text(&'s str),
    Texts(&'s [Cow<'s, str>]),
    Videos(&'s [Video]),
    Number(Option<u64>),
    Date,
}

/// A type of field that may have a weight.
trait Weighed {
    fn is_said(&self) -> bool;
    fn weight(&self) -> FieldWeight<'_>;
}

impl Weighed for Option<Cow<'_, str>> {
    fn is_said(&self) -> bool {
        self.is_some()
    }

    fn weight(&self) -> FieldWeight<'_> {
        FieldWeight::Text(self.as_deref().unwrap_or_default())
    }
}

impl Weighed for Vec<Cow<'_, str>> {
    fn is_said(&self) -> bool {
        !self.is_empty()
    }

    fn weight(&self) -> FieldWeight<'_> {
        FieldWeight::Texts(self)
    }
}

impl Weighed for Vec<Video> {
    fn is_said(&self) -> bool {
        !self.is_empty()
    }

    fn weight(&self) -> FieldWeight<'_> {
        FieldWeight::Videos(self)
    }
}

impl Weighed for Option<u64> {
    fn is_said(&self) -> bool {
        self.is_some()
    }

    fn weight(&self) -> FieldWeight<'_> {
        FieldWeight::Number(*self)
    }
}

impl Weighed for Option<Lastmod> {
    fn is_said(&self) -> bool {
        self.is_some()
    }

    fn weight(&self) -> FieldWeight<'_> {
        FieldWeight::Date
    }
}

impl FieldWeight<'_> {
    fn is_empty(&self) -> bool {
        matches!(self, Self::Text("") | Self::Texts([]) | Self::Videos([]) | Self::Number(None) | Self::Date)
    }

    /// Appends the value, framed with its position. Texts are a set.
    fn push(&self, place: u8, out: &mut Vec<u8>) {
        match self {
            Self::Text(text) => frame(out, place, text.as_bytes()),
            Self::Texts(texts) if texts.is_sorted() => texts.iter().for_each(|text| frame(out, place, text.as_bytes())),
            Self::Texts(texts) => {
                let mut sorted: Vec<&str> = texts.iter().map(Cow::as_ref).collect();
                sorted.sort_unstable();
                sorted.into_iter().for_each(|text| frame(out, place, text.as_bytes()));
            }
            Self::Videos(videos) => {
                videos.iter().for_each(|video| frame(out, place, &serde_json::to_vec(video).unwrap_or_default()));
            }
            Self::Number(number) => frame(out, place, &number.unwrap_or_default().to_le_bytes()),
            Self::Date => {}
        }
    }
}

impl PageFields {
    /// Whether the set contains a field.
    pub fn has(self, field: PageField) -> bool {
        self.0 & 1 << field as u8 != 0
    }

    /// The union of two sets.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }
}

impl FromIterator<PageField> for PageFields {
    fn from_iter<I: IntoIterator<Item = PageField>>(fields: I) -> Self {
        Self(fields.into_iter().fold(0, |bits, field| bits | 1 << field as u8))
    }
}

/// The fingerprint of what a page says, in two parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Prints {
    /// Content, title, description, language, pictures, videos, canonical address and noindex. The lower half holds one
    /// byte for each of four parts (see [`PageField::part`]), so that one part can be compared where another cannot;
    /// the upper half covers all of them.
    pub page: u64,
    /// The declared dates, or 0 if there are none.
    pub declared: u32,
}

impl Prints {
    /// Computes both fingerprints; `scratch` is reused from entry to entry. Hints and the choice of section are
    /// settings of the site rather than of the page, and do not count.
    pub fn of(contribution: &Contribution<'_>, scratch: &mut Vec<u8>) -> Self {
        let weights = weights(contribution);
        let mut parts = [0u64; PARTS];
        let mut place = 1;
        for fields in weights[1..].chunk_by(|one, other| one.part == other.part) {
            if let Some(part) = fields[0].part {
                parts[part] = print_of(fields, place, scratch);
            }
            place += fields.len() as u8;
        }
        let whole = xxh3_64(parts.map(u64::to_le_bytes).as_flattened());
        let low = parts.iter().rev().fold(0, |low, part| low << 8 | part >> 56);
        Self { page: whole << 32 | low, declared: declared(contribution) }
    }

    /// Whether a part of two page fingerprints is the same.
    pub fn same_part(one: u64, other: u64, part: usize) -> bool {
        (one ^ other) >> (8 * part) & 0xff == 0
    }
}

/// The fingerprint of a part, whose fields begin at this position; 0 if nothing is said. A part of one field is the
/// fingerprint of that field; the fields of other parts are framed, including empty ones.
fn print_of(fields: &[Weighted<'_>], place: u8, scratch: &mut Vec<u8>) -> u64 {
    if fields.iter().all(|field| field.weight.is_empty()) {
        return 0;
    }
    match fields {
        [Weighted { weight: FieldWeight::Text(text), .. }] => xxh3_64(text.as_bytes()),
        [Weighted { weight: FieldWeight::Number(Some(number)), .. }] => xxh3_64(&number.to_le_bytes()),
        _ => {
            scratch.clear();
            (place..).zip(fields).for_each(|(place, field)| field.weight.push(place, scratch));
            xxh3_64(scratch)
        }
    }
}

/// Appends a field: its position, length and bytes.
fn frame(out: &mut Vec<u8>, place: u8, bytes: &[u8]) {
    let mut head = [place; 9];
    head[1..].copy_from_slice(&(bytes.len() as u64).to_le_bytes());
    out.extend_from_slice(&head);
    out.extend_from_slice(bytes);
}

/// The fingerprint of the declared dates in 32 bits, which is never 0 if there is one.
fn declared(contribution: &Contribution<'_>) -> u32 {
    if contribution.modified.is_none() && contribution.published.is_none() {
        return 0;
    }
    let bytes =
        [contribution.modified, contribution.published].map(|date| date.map_or([0; BYTES], |date| date.to_bytes()));
    (xxh3_64(bytes.as_flattened()) as u32).max(1)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn prints(contribution: &Contribution<'_>) -> Prints {
        Prints::of(contribution, &mut Vec::new())
    }

    use crate::entry::{Changefreq, Priority};

    fn page() -> Contribution<'static> {
        Contribution { title: Some("Fares".into()), digest: Some(7), ..Contribution::default() }
    }

    #[rstest]
    #[case::hint(Contribution { priority: Priority::new(0.3), changefreq: Some(Changefreq::Daily), ..page() }, false)]
    #[case::section(Contribution { section: Some("journal".into()), ..page() }, false)]
    #[case::text(Contribution { digest: Some(8), ..page() }, true)]
    #[case::picture(Contribution { images: vec!["https://www.marrowvale.example/a.svg".into()], ..page() }, true)]
    #[case::title(Contribution { title: Some("Fares 2027".into()), ..page() }, true)]
    fn only_the_page_changes_its_fingerprint(#[case] other: Contribution<'static>, #[case] moves: bool) {
        assert_eq!(prints(&page()).page != prints(&other).page, moves);
    }

    /// Each field changes only its own part, and `select` keeps what was said in the selected fields.
    #[rstest]
    #[case::title(Contribution { title: Some("Fares 2027".into()), ..page() }, PageField::Title)]
    #[case::summary(Contribution { description: Some("What it costs".into()), ..page() }, PageField::Description)]
    #[case::language(Contribution { language: Some("cy".into()), ..page() }, PageField::Language)]
    #[case::content(Contribution { digest: Some(8), ..page() }, PageField::Content)]
    #[case::pictures(Contribution { images: vec!["https://www.marrowvale.example/a.svg".into()], ..page() }, PageField::Images)]
    fn parts_change_independently(#[case] other: Contribution<'static>, #[case] moved: PageField) {
        let (one, two) = (prints(&page()).page, prints(&other).page);
        let parts: Vec<usize> = (0..PARTS).filter(|part| !Prints::same_part(one, two, *part)).collect();
        assert_eq!(parts, [moved.part().unwrap()]);
        let rest: PageFields = PageField::ALL.iter().copied().filter(|field| *field != moved).collect();
        assert_eq!(prints(&rest.select(&page())), prints(&rest.select(&other)));
        assert_eq!(PageFields::of(&other).select(&other), other);
    }

    #[test]
    fn an_empty_text_counts_as_missing() {
        let empty = Contribution { description: Some("".into()), ..page() };
        assert_eq!(prints(&empty), prints(&page()));
    }

    #[test]
    fn a_declared_date_has_its_own_fingerprint() {
        let dated = Contribution { modified: Lastmod::from_epoch_day(20_000), ..page() };
        assert_eq!(prints(&dated).page, prints(&page()).page);
        assert_ne!(prints(&dated).declared, prints(&page()).declared);
        assert_eq!(prints(&page()).declared, 0);
    }
}
