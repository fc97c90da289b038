//! The fields that a row of any source may have, and how they are found in it.

use std::collections::BTreeMap;

use crate::reading::template::ColumnTemplate;

/// Numbers the fields and names them as the configuration does.
macro_rules! fields {
    ($($(#[$doc:meta])* $name:ident = $text:literal),* $(,)?) => {
        /// A field that a row may have.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Field {
            $($(#[$doc])* $name),*
        }

        impl Field {
            /// All fields.
            pub const ALL: [Self; [$(Field::$name),*].len()] = [$(Self::$name),*];

            /// Its name in the configuration and among the columns.
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$name => $text),*
                }
            }
        }
    };
}

fields! {
    /// Required: a URL, or a path of the site.
    Url = "url",
    /// How the source knows the entry.
    Id = "id",
    /// The entry's own part of its URL.
    Slug = "slug",
    /// Date of the last change.
    Modified = "modified",
    /// Date of publication.
    Published = "published",
    /// Date before which it does not go in, whatever its date of publication.
    Embargo = "embargo",
    /// Date from which it does not go in.
    Expires = "expires",
    /// What kind of thing it is.
    Kind = "kind",
    /// What an attachment belongs to: an id or a URL.
    Parent = "parent",
    /// Title.
    Title = "title",
    /// Summary.
    Description = "description",
    /// Language tag.
    Language = "language",
    /// What links the translations of one piece.
    LanguageGroup = "language_group",
    /// Categories: a list.
    Category = "category",
    /// Tags: a list.
    Tags = "tags",
    /// Authors: a list.
    Author = "author",
    /// Addresses of pictures: a list.
    Images = "images",
    /// Videos: a JSON array of objects with the names of the video extension.
    Videos = "videos",
    /// The same page in other languages: a list of `LANGUAGE URL`, or JSON.
    Alternates = "alternates",
    /// yes or no: not meant for the public yet.
    Draft = "draft",
    /// yes or no.
    Keep = "keep",
    /// yes or no: the page forbids indexing.
    Noindex = "noindex",
    /// The page's robots directive, as in its head: a list of words.
    Robots = "robots",
    /// A hint.
    Changefreq = "changefreq",
    /// A hint.
    Priority = "priority",
    /// The section it goes into, above all rules.
    Section = "section",
    /// Which date is written: usual, declared, seen or none.
    DatePolicy = "date_policy",
}

impl Field {
    /// The field of that name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|field| field.name() == name)
    }
}

/// Names that fields commonly bear elsewhere: in lower case, without `_` and `-`.
const COMMON_NAMES: [(&str, Field); 31] = [
    ("date", Field::Published),
    ("pubdate", Field::Published),
    ("publishedat", Field::Published),
    ("datepublished", Field::Published),
    ("publishdate", Field::Embargo),
    ("publishat", Field::Embargo),
    ("publishon", Field::Embargo),
    ("embargountil", Field::Embargo),
    ("lastmod", Field::Modified),
    ("lastmodified", Field::Modified),
    ("updated", Field::Modified),
    ("updatedat", Field::Modified),
    ("modifiedat", Field::Modified),
    ("datemodified", Field::Modified),
    ("expiry", Field::Expires),
    ("expire", Field::Expires),
    ("expirydate", Field::Expires),
    ("expirationdate", Field::Expires),
    ("expiresat", Field::Expires),
    ("unpublishdate", Field::Expires),
    ("unpublishat", Field::Expires),
    ("unavailableafter", Field::Expires),
    ("sitemap", Field::Keep),
    ("categories", Field::Category),
    ("tag", Field::Tags),
    ("authors", Field::Author),
    ("image", Field::Images),
    ("lang", Field::Language),
    ("summary", Field::Description),
    ("permalink", Field::Url),
    ("loc", Field::Url),
];

/// The field whose common name this is: written in whatever case, with or without `_` and `-`.
pub(crate) fn commonly_named(name: &str) -> Option<Field> {
    let plain: String = name.chars().filter(|letter| !matches!(letter, '_' | '-')).collect::<String>().to_lowercase();
    let field = COMMON_NAMES.into_iter().find(|(known, _)| *known == plain).map(|(_, field)| field);
    // A field's own name in another spelling: `Date_Policy`, `languageGroup`.
    let own = || Field::ALL.into_iter().find(|field| field.name().replace('_', "") == plain);
    field.or_else(own).filter(|field| field.name() != name)
}

/// The parts that make up one video of a row, as columns of their own: `videos.title` and so on.
pub const VIDEO_PREFIX: &str = "videos.";

/// Where fields are found, where columns do not bear their names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ColumnMapping {
    /// By field: one place, or several for a list.
    pub(crate) fields: BTreeMap<Field, Vec<ColumnTemplate>>,
    /// Parts of a video, by the names of the video extension.
    pub(crate) video: BTreeMap<String, ColumnTemplate>,
}

impl ColumnMapping {
    /// Whether some field or part of a video is made of this column.
    pub(crate) fn names(&self, column: &str) -> bool {
        let templates = self.fields.values().flatten().chain(self.video.values());
        templates.flat_map(ColumnTemplate::columns).any(|name| name.eq_ignore_ascii_case(column))
    }

    /// Columns of a table that are not read although they bear a common name of a field that no column is: each with that field.
    pub(crate) fn passed_over<'c>(&self, columns: &'c [String]) -> Vec<(&'c str, Field)> {
        let is_found = |field: Field| {
            self.fields.contains_key(&field) || columns.iter().any(|column| column.eq_ignore_ascii_case(field.name()))
        };
        let mut passed_over: Vec<(&str, Field)> = Vec::new();
        for column in columns.iter().filter(|column| !self.names(column)) {
            let field = commonly_named(column).filter(|field| !is_found(*field));
            passed_over.extend(field.map(|field| (column.as_str(), field)));
        }
        passed_over
    }

    /// Takes a line of the configuration: a field, or a part of a video, and its columns or templates. Fails, saying why, on
    /// a name that is no field and on a template that cannot be read.
    pub fn add(&mut self, name: &str, places: &[String]) -> Result<(), String> {
        let templates = places.iter().map(|text| ColumnTemplate::parse(text)).collect::<Result<Vec<_>, _>>()?;
        if let Some(part) = name.strip_prefix(VIDEO_PREFIX) {
            if let Some(template) = templates.into_iter().next() {
                self.video.insert(part.to_owned(), template);
            }
            return Ok(());
        }
        let field = Field::named(name).ok_or_else(|| {
            let known: Vec<&str> = Field::ALL.iter().map(|field| field.name()).collect();
            format!("there is no field “{name}”; known: {}, and {VIDEO_PREFIX}title and its kin", known.join(", "))
        })?;
        self.fields.insert(field, templates);
        Ok(())
    }
}
