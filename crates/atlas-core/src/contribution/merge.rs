//! Merging what several sources say of one URL, and finding where they disagree.

use super::field_table::{Contribution, field_table};
use super::value::{FieldValue, ReportOrder, is_compared, kind_of};
use crate::titles::is_same;
use crate::video::{self, Video};

/// The first source that says something wins.
fn first<'a, T: FieldValue<'a>>(mine: &mut T, theirs: T) {
    if !mine.is_given() {
        *mine = theirs;
    }
}

/// Lists are united.
fn unite<T: PartialEq>(mine: &mut Vec<T>, theirs: Vec<T>) {
    for one in theirs {
        if !mine.contains(&one) {
            mine.push(one);
        }
    }
}

/// Lists of videos are united, and what is said of the same video is combined.
fn films(mine: &mut Vec<Video>, theirs: Vec<Video>) {
    theirs.into_iter().for_each(|video| video::unite(mine, video));
}

/// A flag is set if any source sets it.
fn any(mine: &mut bool, theirs: bool) {
    *mine |= theirs;
}

/// A flag is set if every source sets it.
fn all(mine: &mut bool, theirs: bool) {
    *mine &= theirs;
}

macro_rules! merge {
    ($($(#[$about:meta])* $name:ident: $type:ty = $number:literal, $merge:ident, $told:ident
        $(, weighs $field:ident ($part:tt $place:literal))?;)*) => {
        impl<'a> Contribution<'a> {
            /// Merges in what a later source says. For each field the first source that says something wins; lists are
            /// united; a noindex, a failure, a draft or that it is gone stands, from any source.
            pub fn merge(&mut self, other: Self) {
                $($merge(&mut self.$name, other.$name);)*
            }

            /// The names of the fields on which another source disagrees. Lists are united and so never disagree; nor
            /// do titles that differ only by the site's name, or instants that differ only by their zone.
            pub fn at_odds(&self, other: &Self) -> Vec<&'static str> {
                let mut fields: Vec<(ReportOrder, &'static str)> = Vec::new();
                $(if is_compared(&self.$name)
                    && $told!()
                    && self.$name.is_given()
                    && other.$name.is_given()
                    && !self.$name.means(&other.$name)
                {
                    fields.push((kind_of(&self.$name), stringify!($name)));
                })*
                let one_title =
                    || self.title.as_deref().zip(other.title.as_deref()).is_some_and(|(one, other)| is_same(one, other));
                fields.retain(|(_, field)| !(*field == "title" && one_title()));
                fields.sort_by_key(|(kind, _)| *kind);
                fields.into_iter().map(|(_, field)| field).collect()
            }

            /// Everything that is said besides the URL, field by field, in words. A list has one line per item.
            pub fn words(&self) -> Vec<(&'static str, String)> {
                let mut told: Vec<(ReportOrder, &'static str, String)> = Vec::new();
                $(if $told!() {
                    let words = self.$name.words().into_iter();
                    told.extend(words.map(|words| (kind_of(&self.$name), stringify!($name), words)));
                })*
                told.sort_by_key(|(kind, ..)| *kind);
                let digest = |name, words: String| match name {
                    "digest" => ("content", format!("digest {:016x}", self.digest.unwrap_or_default())),
                    name => (name, words),
                };
                told.into_iter().map(|(_, name, words)| digest(name, words)).collect()
            }

            /// The same contribution, borrowing nothing.
            pub fn into_owned(self) -> Contribution<'static> {
                Contribution { url: self.url.into_owned().into(), $($name: FieldValue::into_owned(self.$name),)* }
            }
        }
    };
}

macro_rules! told {
    () => {
        true
    };
}

macro_rules! quiet {
    () => {
        false
    };
}

field_table!(merge);

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;

    use super::*;
    use crate::lastmod::Lastmod;

    fn day(text: &str) -> Option<Lastmod> {
        Lastmod::read(text, &TimeZone::UTC)
    }

    #[test]
    fn the_first_value_wins_and_lists_are_combined() {
        let mut page = Contribution {
            title: Some("Lampworks Halt".into()),
            images: vec!["https://www.marrowvale.example/a.svg".into()],
            videos: vec![Video {
                content_loc: Some("https://www.marrowvale.example/a.webm".into()),
                ..Video::default()
            }],
            ..Contribution::default()
        };
        page.merge(Contribution {
            title: Some("lampworks".into()),
            modified: day("2026-03-04"),
            images: vec!["https://www.marrowvale.example/a.svg".into(), "https://www.marrowvale.example/b.svg".into()],
            videos: vec![Video {
                content_loc: Some("https://www.marrowvale.example/a.webm".into()),
                title: Some("From the cab".into()),
                ..Video::default()
            }],
            noindex: Some("noindex".into()),
            ..Contribution::default()
        });
        assert_eq!(page.title.as_deref(), Some("Lampworks Halt"));
        assert_eq!(page.modified, day("2026-03-04"));
        assert_eq!(page.images.len(), 2);
        assert_eq!(page.videos.len(), 1);
        assert_eq!(page.videos[0].title.as_deref(), Some("From the cab"));
        assert_eq!(page.noindex.as_deref(), Some("noindex"));
    }

    #[test]
    fn sources_differ_only_if_the_meaning_differs() {
        let contribution = |title: &'static str, modified: &str| Contribution {
            title: Some(title.into()),
            modified: day(modified),
            ..Contribution::default()
        };
        let page = contribution("Frost | Marrow Vale", "2026-07-01T01:38:00+01:00");
        assert!(page.at_odds(&contribution("Frost", "2026-07-01T00:38:00Z")).is_empty());
        assert_eq!(page.at_odds(&contribution("Thaw", "2026-07-01T00:39:00Z")), ["title", "modified"]);
        assert_eq!(page.at_odds(&contribution("Frost", "2026-07-01")), ["modified"]);
    }
}
