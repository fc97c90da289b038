//! The table of fields: what a source may say of a URL, each declared once.
//!
//! A line of it gives a field's name, its type, the number that it has in a row, how what several sources say is merged (see
//! [`merge`](super::merge)), whether people are told of it, and its weight in the fingerprint of a page (see
//! [`Prints`](crate::fingerprint::Prints)): the part that it moves, and its number within all parts. All else follows: the type
//! [`Contribution`], reading and writing rows, merging, comparing, and the fingerprints. Rows are written in the order of the table.

use std::borrow::Cow;

use serde::Serialize;

use crate::entry::{Changefreq, DatePolicy, Priority};
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::video::Video;

/// Hands the table to a macro. Numbers of fields are stored in the ledger: they are never given to another field.
macro_rules! field_table {
    ($act:ident) => {
        $act! {
            /// The declared date of the last change.
            modified: Option<Lastmod> = 2, first, told, weighs Modified (dates 0);
            /// The declared date of publication.
            published: Option<Lastmod> = 3, first, told, weighs Published (dates 0);
            /// When it is over: from then on it does not go in.
            expires: Option<Lastmod> = 23, first, told;
            /// The date that a sitemap gave which this tool wrote over: its last change as far as anybody knew then.
            recorded: Option<Lastmod> = 41, first, told;
            /// The title of the page.
            title: Option<Cow<'a, str>> = 4, first, told, weighs Title (0 1);
            /// What the page calls itself, without the site's name.
            headline: Option<Cow<'a, str>> = 40, first, told;
            /// A summary.
            description: Option<Cow<'a, str>> = 5, first, told, weighs Description (1 2);
            /// A language tag (BCP 47).
            language: Option<Cow<'a, str>> = 6, first, told, weighs Language (1 3);
            /// The page's robots directive that forbids indexing, in its own words.
            noindex: Option<Cow<'a, str>> = 10, first, told, weighs Noindex (1 5);
            /// The address that the page names as its canonical one.
            canonical: Option<Cow<'a, str>> = 11, first, told, weighs Canonical (1 4);
            /// The address that the page or its server sends visitors on to.
            refresh: Option<Cow<'a, str>> = 12, first, told, weighs Refresh (1 6);
            /// The status with which the server sends visitors on, in words: `301 Moved Permanently`; `None` where the page does so.
            redirected: Option<Cow<'a, str>> = 42, first, told;
            /// The section that the source puts its entries in.
            section: Option<Cow<'a, str>> = 16, first, told;
            /// How the source knows the entry, besides its URL.
            id: Option<Cow<'a, str>> = 18, first, told;
            /// The entry's own part of its URL.
            slug: Option<Cow<'a, str>> = 19, first, told;
            /// What kind of thing it is, in the site's own words.
            kind: Option<Cow<'a, str>> = 20, first, told;
            /// What it belongs to, as an attachment does to its article: the id or URL of that.
            parent: Option<Cow<'a, str>> = 21, first, told;
            /// What links the translations of one piece: the same word on each of them.
            language_group: Option<Cow<'a, str>> = 22, first, told;
            /// Why there is no page there, in words: a status, `404 Not Found`, or [`NO_ANSWER`](super::NO_ANSWER) comes first;
            /// without either, what is there is not a page.
            failure: Option<Cow<'a, str>> = 28, first, told;
            /// What the live site's robots.txt says against fetching it, in words.
            barred: Option<Cow<'a, str>> = 30, first, told;
            /// The page's or row's own word on its section.
            own_section: Option<Cow<'a, str>> = 31, first, told;
            /// Which archive it is the page of, as [`ArchivePage`](crate::archive::ArchivePage) names it.
            archive: Option<Cow<'a, str>> = 33, first, told;
            /// What decides whether it goes in and cannot be read: the field and its value, `published “infinity”`.
            unreadable: Option<Cow<'a, str>> = 38, first, told;
            /// Addresses of pictures.
            images: Vec<Cow<'a, str>> = 7, unite, told, weighs Images (3 8);
            /// Categories it is filed under.
            categories: Vec<Cow<'a, str>> = 24, unite, told;
            /// Tags it bears.
            tags: Vec<Cow<'a, str>> = 25, unite, told;
            /// Who wrote it.
            authors: Vec<Cow<'a, str>> = 26, unite, told;
            /// Addresses of frames that look like players and fit none that the configuration tells of.
            #[serde(skip_serializing_if = "Vec::is_empty")]
            unknown_players: Vec<Cow<'a, str>> = 43, unite, told;
            /// The same page in other languages, itself included where the source does.
            alternates: Vec<Alternate<'a>> = 27, unite, told;
            /// Videos, complete or not.
            videos: Vec<Video> = 8, films, told, weighs Videos (3 9);
            /// The videos that the page itself describes as linked data (schema.org `VideoObject`).
            stated_videos: Vec<Video> = 37, unite, quiet;
            /// The page's or row's own word on which date is written of it.
            date_policy: Option<DatePolicy> = 32, first, told;
            /// Of an archive page, how many entries the archive has.
            members: Option<u64> = 34, first, told;
            /// Of an archive page, the hint that its share of the entries makes.
            share: Option<Priority> = 35, first, quiet;
            /// A digest of the page's main content; present when the page itself was read.
            digest: Option<u64> = 9, first, told, weighs Content (2 7);
            /// The page's or row's own word on whether it belongs in the sitemap.
            keep: Option<bool> = 13, first, told;
            /// The row's own hint.
            changefreq: Option<Changefreq> = 14, first, told;
            /// The row's own hint.
            priority: Option<Priority> = 15, first, told;
            /// The page was read and has no `head`: neither title nor canonical can be known.
            no_head: bool = 17, any, quiet;
            /// It is not meant for the public yet.
            draft: bool = 29, any, told;
            /// Of an archive page: the site's pages are known, and it is not among them.
            not_there: bool = 36, any, quiet;
            /// The folder that serves its URL was read, and has no page there.
            not_in_folder: bool = 39, any, quiet;
        }
    };
}
pub(crate) use field_table;

macro_rules! declare {
    ($($(#[$about:meta])* $name:ident: $type:ty = $number:literal, $merge:ident, $told:ident
        $(, weighs $field:ident ($part:tt $place:literal))?;)*) => {
        /// Everything that is said of one URL: by one source, or by all of them once merged.
        #[derive(Debug, Clone, PartialEq, Default, Serialize)]
        pub struct Contribution<'a> {
            /// The URL, in the spelling of [`Address`](crate::address::Address).
            pub url: Cow<'a, str>,
            $($(#[$about])* pub $name: $type,)*
        }

        /// The numbers of fields in a row.
        pub(super) mod number {
            #![allow(dead_code, non_upper_case_globals, reason = "named as their fields, of which a row is asked for few")]
            $(pub(in super::super) const $name: u8 = $number;)*
        }
    };
}
field_table!(declare);

/// The number of the URL in a row: it comes first.
pub(super) const URL: u8 = 1;
