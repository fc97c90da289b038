//! The fields that a row of any source may have, and how they are found in it.

use std::collections::BTreeMap;

use thiserror::Error;

use crate::reading::template::{ColumnTemplate, ColumnTemplateError};

/// Declares the fields with their numbers and their names in the configuration.
macro_rules! fields {
    ($($(#[$doc:meta])* $name:ident = $text:literal),* $(,)?) => {
        /// A field that a row may have.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub(crate) enum Field {
            $($(#[$doc])* $name),*
        }

        impl Field {
            /// All fields.
            pub const ALL: [Self; [$(Field::$name),*].len()] = [$(Self::$name),*];

            /// Its name in the configuration and as a column.
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$name => $text),*
                }
            }
        }
    };
}

fields! {
    /// The URL, or a path of the site (required).
    Url = "url",
    /// The source's own identifier of the entry.
    Id = "id",
    /// The entry's own part of its URL.
    Slug = "slug",
    /// Date of the last change.
    Modified = "modified",
    /// Date of publication.
    Published = "published",
    /// Date before which it is left out, whatever its publication date.
    Embargo = "embargo",
    /// Date from which on it is left out.
    Expires = "expires",
    /// What kind of thing it is, in the site's own terms.
    Kind = "kind",
    /// What an attachment belongs to: an id or a URL.
    Parent = "parent",
    /// Title.
    Title = "title",
    /// Description.
    Description = "description",
    /// Language tag.
    Language = "language",
    /// The key that all translations of one piece share.
    LanguageGroup = "language_group",
    /// Categories: a list.
    Category = "category",
    /// Tags: a list.
    Tags = "tags",
    /// Authors: a list.
    Author = "author",
    /// Addresses of pictures: a list.
    Images = "images",
    /// Videos: a JSON array of objects, with the names of the video extension.
    Videos = "videos",
    /// The same page in other languages: a list of `LANGUAGE URL`, or JSON.
    Alternates = "alternates",
    /// Whether it is not public yet: yes or no.
    Draft = "draft",
    /// Whether it is no longer there: yes or no.
    Gone = "gone",
    /// Whether it is listed: yes or no.
    Keep = "keep",
    /// Whether the page forbids indexing: yes or no.
    Noindex = "noindex",
    /// The page's robots directive, as in its head: a list of words.
    Robots = "robots",
    /// The `changefreq` hint.
    Changefreq = "changefreq",
    /// The `priority` hint.
    Priority = "priority",
    /// Its section, which takes precedence over all rules.
    Section = "section",
    /// Which date is written: usual, declared, seen or none.
    DatePolicy = "date_policy",
    /// Whether engines are told of it: yes or no.
    Announce = "announce",
}

impl Field {
    /// The field with this name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|field| field.name() == name)
    }
}

/// Common names of fields elsewhere: in lower case, without `_` and `-`.
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

/// The field with this common name, in upper or lower case, with or without `_` and `-`.
pub(crate) fn commonly_named(name: &str) -> Option<Field> {
    let plain: String = name.chars().filter(|letter| !matches!(letter, '_' | '-')).collect::<String>().to_lowercase();
    let field = COMMON_NAMES.into_iter().find(|(known, _)| *known == plain).map(|(_, field)| field);
    // A field's own name, spelt differently: `Date_Policy`, `languageGroup`.
    let own = || Field::ALL.into_iter().find(|field| field.name().replace('_', "") == plain);
    field.or_else(own).filter(|field| field.name() != name)
}

/// The prefix of columns that hold parts of a row's only video: `videos.title` and so on.
pub(crate) const VIDEO_PREFIX: &str = "videos.";

/// Why a line of the configuration is not a mapping.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum MappingError {
    /// There is no field with this name.
    #[error("there is no field “{0}”; known: {known}, and {VIDEO_PREFIX}title and so on", known = Field::ALL.map(Field::name).join(", "))]
    Field(String),
    /// A column or template is not valid.
    #[error(transparent)]
    Template(#[from] ColumnTemplateError),
}

/// Where fields are found whose columns do not have their names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ColumnMapping {
    /// For each field one place, or several for a list.
    pub(crate) fields: BTreeMap<Field, Vec<ColumnTemplate>>,
    /// Parts of a video, by the names of the video extension.
    pub(crate) video: BTreeMap<String, ColumnTemplate>,
}

impl ColumnMapping {
    /// Whether a field or a part of a video uses this column.
    pub(crate) fn names(&self, column: &str) -> bool {
        let templates = self.fields.values().flatten().chain(self.video.values());
        templates.flat_map(ColumnTemplate::columns).any(|name| name.eq_ignore_ascii_case(column))
    }

    /// Columns that are not read although they have a common name of a field that has no column: each with that field.
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

    /// Adds a line of the configuration: a field or a part of a video, and its columns or templates.
    ///
    /// # Errors
    ///
    /// Returns a [`MappingError`] if the name is not that of a field, or a template is not valid.
    pub fn add(&mut self, name: &str, places: &[String]) -> Result<(), MappingError> {
        let templates = places.iter().map(|text| ColumnTemplate::parse(text)).collect::<Result<Vec<_>, _>>()?;
        if let Some(part) = name.strip_prefix(VIDEO_PREFIX) {
            if let Some(template) = templates.into_iter().next() {
                self.video.insert(part.to_owned(), template);
            }
            return Ok(());
        }
        let field = Field::named(name).ok_or_else(|| MappingError::Field(name.to_owned()))?;
        self.fields.insert(field, templates);
        Ok(())
    }
}
