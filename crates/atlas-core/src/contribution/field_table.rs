//! The table of fields: everything that a source may say of a URL, each field declared once.
//!
//! A line gives a field's name, its type, its number in a row, how values from several sources are merged (see
//! [`merge`](super::merge)), whether `why` reports it, and its weight in the fingerprint of a page (see
//! [`Prints`](crate::fingerprint::Prints)): the part that it affects and its position among all parts. Everything else
//! is generated from the table: the type [`Contribution`], reading and writing rows, merging, comparing, and
//! fingerprints. Rows are written in the order of the table.

use std::borrow::Cow;

use serde::Serialize;

use crate::entry::{Changefreq, DatePolicy, Priority};
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::video::Video;

/// Passes the table to a macro. The numbers of fields are stored in the ledger, so a number is never reused for another
/// field.
macro_rules! field_table {
    ($act:ident) => {
        $act! {
            /// The declared date of the last change.
            modified: Option<Lastmod> = 2, first, told, weighs Modified (dates 0);
            /// The declared date of publication.
            published: Option<Lastmod> = 3, first, told, weighs Published (dates 0);
            /// When it expires: from then on it is left out.
            expires: Option<Lastmod> = 23, first, told;
            /// The date that a sitemap gave which this tool replaced: its last change, as far as anyone knew then.
            recorded: Option<Lastmod> = 41, first, told;
            /// The title of the page.
            title: Option<Cow<'a, str>> = 4, first, told, weighs Title (0 1);
            /// The page's own heading, without the site's name.
            headline: Option<Cow<'a, str>> = 40, first, told;
            /// A summary.
            description: Option<Cow<'a, str>> = 5, first, told, weighs Description (1 2);
            /// A language tag (BCP 47).
            language: Option<Cow<'a, str>> = 6, first, told, weighs Language (1 3);
            /// The page's robots directive that forbids indexing, as written.
            noindex: Option<Cow<'a, str>> = 10, first, told, weighs Noindex (1 5);
            /// The address that the page declares as its canonical one.
            canonical: Option<Cow<'a, str>> = 11, first, told, weighs Canonical (1 4);
            /// The address to which the page or its server redirects.
            refresh: Option<Cow<'a, str>> = 12, first, told, weighs Refresh (1 6);
            /// The status with which the server redirects, in words: `301 Moved Permanently`; `None` if the page itself
            /// does.
            redirected: Option<Cow<'a, str>> = 42, first, told;
            /// The section that the source assigns.
            section: Option<Cow<'a, str>> = 16, first, told;
            /// The source's own identifier of the entry, besides its URL.
            id: Option<Cow<'a, str>> = 18, first, told;
            /// The entry's own part of its URL.
            slug: Option<Cow<'a, str>> = 19, first, told;
            /// What kind of thing it is, in the site's own terms.
            kind: Option<Cow<'a, str>> = 20, first, told;
            /// What it belongs to, as an attachment belongs to its article: the parent's id or URL.
            parent: Option<Cow<'a, str>> = 21, first, told;
            /// The key that all translations of one piece share.
            language_group: Option<Cow<'a, str>> = 22, first, told;
            /// Why there is no page, in words: begins with a status (`404 Not Found`) or
            /// [`NO_ANSWER`](super::NO_ANSWER). Otherwise, what is there is not a page.
            failure: Option<Cow<'a, str>> = 28, first, told;
            /// What the live site's robots.txt says against fetching it, in words.
            barred: Option<Cow<'a, str>> = 30, first, told;
            /// The section that the page or row itself asks for.
            own_section: Option<Cow<'a, str>> = 31, first, told;
            /// The archive that it is a page of, as [`ArchivePage`](crate::archive::ArchivePage) names it.
            archive: Option<Cow<'a, str>> = 33, first, told;
            /// A field that decides whether it is kept and cannot be read: its name and value, `published “infinity”`.
            unreadable: Option<Cow<'a, str>> = 38, first, told;
            /// Addresses of pictures.
            images: Vec<Cow<'a, str>> = 7, unite, told, weighs Images (3 8);
            /// Its categories.
            categories: Vec<Cow<'a, str>> = 24, unite, told;
            /// Its tags.
            tags: Vec<Cow<'a, str>> = 25, unite, told;
            /// Its authors.
            authors: Vec<Cow<'a, str>> = 26, unite, told;
            /// Addresses of frames that look like players but match none in the configuration.
            #[serde(skip_serializing_if = "Vec::is_empty")]
            unknown_players: Vec<Cow<'a, str>> = 43, unite, told;
            /// The same page in other languages, itself included if the source lists it.
            alternates: Vec<Alternate<'a>> = 27, unite, told;
            /// Videos, complete or not.
            videos: Vec<Video> = 8, films, told, weighs Videos (3 9);
            /// Videos that the page itself describes as linked data (schema.org `VideoObject`).
            stated_videos: Vec<Video> = 37, unite, quiet;
            /// The date policy that the page or row itself asks for.
            date_policy: Option<DatePolicy> = 32, first, told;
            /// For an archive page: the number of entries in the archive.
            members: Option<u64> = 34, first, told;
            /// For an archive page: the hint computed from its share of the entries.
            share: Option<Priority> = 35, first, quiet;
            /// A digest of the page's main content; set if the page itself was read.
            digest: Option<u64> = 9, first, told, weighs Content (2 7);
            /// Facts about the content of the page, as [`PageFacts::bits`](crate::page::PageFacts::bits) writes them.
            #[serde(skip_serializing_if = "Option::is_none")]
            facts: Option<u64> = 46, first, quiet;
            /// Whether the page or row itself asks to be listed.
            keep: Option<bool> = 13, first, told;
            /// Whether the page or row itself asks that engines are told of it.
            announce: Option<bool> = 45, first, told;
            /// The hint that the row itself gives.
            changefreq: Option<Changefreq> = 14, first, told;
            /// The hint that the row itself gives.
            priority: Option<Priority> = 15, first, told;
            /// The page was read and has no `head`, so neither its title nor its canonical address is known.
            no_head: bool = 17, any, quiet;
            /// A section that it names is made if there is none with this name.
            makes_section: bool = 44, any, quiet;
            /// It is not public yet.
            draft: bool = 29, any, told;
            /// The row says that it is no longer there.
            gone: bool = 48, any, told;
            /// For an archive page: the site's pages are known, and it is not among them.
            not_there: bool = 36, any, quiet;
            /// The folder that serves its URL was read, and has no such page.
            not_in_folder: bool = 39, any, quiet;
            /// Only sitemaps from which the site has moved name it.
            only_before_move: bool = 47, all, quiet;
        }
    };
}
pub(crate) use field_table;

macro_rules! declare {
    ($($(#[$about:meta])* $name:ident: $type:ty = $number:literal, $merge:ident, $told:ident
        $(, weighs $field:ident ($part:tt $place:literal))?;)*) => {
        /// Everything that is said of one URL: by one source or, once merged, by all of them.
        #[derive(Debug, Clone, PartialEq, Default, Serialize)]
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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

/// The number of the URL in a row, where it comes first.
pub(super) const URL: u8 = 1;
