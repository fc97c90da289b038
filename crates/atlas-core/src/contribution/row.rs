//! The row format: a contribution as compact bytes. Each field that is set has a number, a length and its bytes.

use std::cmp::Reverse;

use super::absence::Absence;
use super::field_table::{Contribution, URL, field_table, number};
use super::value::{FieldValue, put, text};
use crate::varint;

macro_rules! rows {
    ($($(#[$about:meta])* $name:ident: $type:ty = $number:literal, $merge:ident, $told:ident
        $(, weighs $field:ident ($part:tt $place:literal))?;)*) => {
        impl<'a> Contribution<'a> {
            /// Reads a row that [`Contribution::write`] wrote. Bytes that no row contains are skipped: rows are stored
            /// in the ledger, and one that was damaged on disk must not stop a build.
            pub fn read(row: &'a [u8]) -> Self {
                let mut contribution = Self::default();
                for (number, bytes) in fields(row) {
                    match number {
                        URL => contribution.url = text(bytes),
                        $($number => contribution.$name.receive(bytes),)*
                        _ => {}
                    }
                }
                contribution
            }

            /// Appends the contribution to `out` as a row.
            pub fn write(&self, out: &mut Vec<u8>) {
                put(URL, self.url.as_bytes(), out);
                $(self.$name.put($number, out);)*
            }
        }
    };
}
field_table!(rows);

impl Contribution<'_> {
    /// Whether the lists whose order means nothing are in order.
    pub fn has_sorted_sets(&self) -> bool {
        let lists = [&self.images, &self.categories, &self.tags, &self.authors];
        lists.iter().all(|list| list.is_sorted()) && self.alternates.is_sorted()
    }

    /// Sorts the lists whose order means nothing: pictures, categories, tags, authors and translations.
    pub fn sort_sets(&mut self) {
        let lists = [&mut self.images, &mut self.categories, &mut self.tags, &mut self.authors];
        lists.into_iter().for_each(|list| list.sort_unstable());
        self.alternates.sort_unstable();
    }

    /// The place of a row among the rows of one source with the same URL: the newer row comes first, and of two with the
    /// same date the greater one, so that the order in which they came decides nothing.
    pub fn precedence(&self) -> impl Ord + use<> {
        let date = self.modified.or(self.published).map(|date| date.seconds());
        let (mut sorted, mut bytes) = (self.clone(), Vec::new());
        sorted.sort_sets();
        sorted.write(&mut bytes);
        Reverse((date, bytes))
    }

    /// When the entry was created, which decides the order in which files are filled: published, else modified, in
    /// seconds since 1970.
    pub fn age(&self) -> Option<i64> {
        self.published.or(self.modified).map(|date| date.seconds())
    }
}

/// The URL of a row. The rest is not read.
pub fn url_of(row: &[u8]) -> &str {
    std::str::from_utf8(address_of(row)).unwrap_or("")
}

/// The bytes of a row's URL, unchecked.
pub fn address_of(row: &[u8]) -> &[u8] {
    match fields(row).next() {
        Some((URL, bytes)) => bytes,
        _ => b"",
    }
}

/// Whether a row says that the server has nothing there. The rest is not read.
pub fn is_dead(row: &[u8]) -> bool {
    let says = |bytes: &[u8]| std::str::from_utf8(bytes).is_ok_and(|words| Absence::of(words) == Absence::NotThere);
    fields(row).any(|(field, bytes)| field == number::failure && says(bytes))
}

/// The fields of a row, in the order in which they were written.
fn fields(row: &[u8]) -> impl Iterator<Item = (u8, &[u8])> {
    let mut rest = row;
    std::iter::from_fn(move || {
        let (&number, after_number) = rest.split_first()?;
        let (length, after_length) = varint::read(after_number)?;
        let bytes = after_length.get(..length)?;
        rest = &after_length[length..];
        Some((number, bytes))
    })
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use proptest::prelude::*;

    use jiff::tz::TimeZone;

    use super::*;
    use crate::entry::{Changefreq, DatePolicy, Priority};
    use crate::language::Alternate;
    use crate::lastmod::Lastmod;
    use crate::video::Video;

    proptest! {
        #[test]
        fn a_row_round_trips(
            title in proptest::option::of(".{1,300}"),
            images in proptest::collection::vec("[a-z/:.]{1,20}", 0..4),
            digest in proptest::option::of(any::<u64>()),
            keep in proptest::option::of(any::<bool>()),
            seconds in proptest::option::of(0i64..2_000_000_000),
            hundredths in proptest::option::of(0u8..=100),
            words in proptest::collection::vec(".{1,20}", 0..3),
        ) {
            let words: Vec<Cow<'static, str>> = words.into_iter().map(Cow::from).collect();
            let contribution = Contribution {
                url: "https://www.marrowvale.example/halts/".into(),
                title: title.map(Cow::from),
                images: images.into_iter().map(Cow::from).collect(),
                videos: vec![Video { duration: Some(95), title: Some("Cab ride".into()), ..Video::default() }],
                digest,
                keep,
                modified: seconds.map(|seconds| Lastmod::Instant { seconds, offset: 60 }),
                priority: hundredths.and_then(Priority::from_hundredths),
                changefreq: Some(Changefreq::Never),
                no_head: true,
                draft: true,
                expires: seconds.map(|seconds| Lastmod::Instant { seconds, offset: 0 }),
                categories: words.clone(),
                unknown_players: words.clone(),
                redirected: Some("301 Moved Permanently".into()),
                authors: words,
                own_section: Some("halts".into()),
                date_policy: Some(DatePolicy::Seen),
                archive: Some("category halts".into()),
                members: digest,
                share: hundredths.and_then(Priority::from_hundredths),
                not_there: true,
                not_in_folder: true,
                only_before_move: true,
                unreadable: Some("published “soon”".into()),
                stated_videos: vec![Video { title: Some("Cab ride".into()), ..Video::default() }],
                failure: Some("404 Not Found".into()),
                language_group: Some("halts".into()),
                alternates: vec![Alternate { language: "cy".into(), url: "https://www.marrowvale.example/cy/".into() }],
                ..Contribution::default()
            };
            let mut bytes = Vec::new();
            contribution.write(&mut bytes);
            prop_assert_eq!(url_of(&bytes), "https://www.marrowvale.example/halts/");
            prop_assert_eq!(Contribution::read(&bytes).into_owned(), contribution);
        }

        #[test]
        fn any_bytes_can_be_read(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = Contribution::read(&bytes);
        }
    }

    #[test]
    fn an_absent_page_is_recognised_without_parsing() {
        let dead = |failure: Option<&'static str>| {
            let mut row = Vec::new();
            let failure = failure.map(Cow::Borrowed);
            Contribution { title: Some("7".into()), failure, ..Contribution::default() }.write(&mut row);
            is_dead(&row)
        };
        assert!(dead(Some("404 Not Found")) && dead(Some("302 Found that leads nowhere")));
        assert!(!dead(Some("500 Internal Server Error")) && !dead(Some("no answer: connection refused")));
        assert!(!dead(Some("image/png, which is no page")) && !dead(None));
    }

    fn day(text: &str) -> Option<Lastmod> {
        Lastmod::read(text, &TimeZone::UTC)
    }

    #[test]
    fn age_counts_from_publication_before_change() {
        let contribution =
            Contribution { modified: day("2026-03-04"), published: day("1970-01-02"), ..Contribution::default() };
        assert_eq!(contribution.age(), Some(86_400));
        assert_eq!(Contribution::default().age(), None);
    }
}
