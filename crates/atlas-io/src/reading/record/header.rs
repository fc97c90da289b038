//! Headers: where each field is found in the records of a source.

use atlas_core::fingerprint;

use super::settings::RecordSettings;
use crate::reading::field::{ColumnMapping, Field, VIDEO_PREFIX};
use crate::reading::template::ColumnTemplate;

/// Where the URL is found in a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum UrlPlace {
    /// In this column.
    Column(usize),
    /// In a template over several.
    Template,
}

/// Where each field is found in the records of one source.
#[derive(Debug, Default)]
pub(crate) struct Header {
    /// The names of the columns, for records without names of their own.
    pub(crate) columns: Vec<String>,
    /// The columns of fields that are simply columns, by the field's number.
    pub(super) places: [Vec<usize>; Field::ALL.len()],
    /// The templates of fields that have one, or that are members of an object, by the field's number.
    pub(super) templates: [Vec<ColumnTemplate>; Field::ALL.len()],
    /// Parts of a video.
    pub(super) video: Vec<(String, ColumnTemplate)>,
    /// Whether a field is found at all, by the field's number: most tables have few fields, and all are asked for.
    pub(super) found: [bool; Field::ALL.len()],
    /// The fields that may be found, in order.
    pub(super) present: Vec<Field>,
}

impl Header {
    /// For records that are objects with names.
    pub(crate) fn of_objects(mapping: &ColumnMapping) -> Self {
        let mut header = Self {
            video: mapping.video.clone().into_iter().collect(),
            found: [true; Field::ALL.len()],
            ..Self::default()
        };
        for (field, templates) in &mapping.fields {
            header.templates[*field as usize].clone_from(templates);
        }
        header.present = Field::ALL.to_vec();
        header
    }

    /// For records whose values are in columns. Fails with the field and the missing column.
    pub(crate) fn of_columns(mapping: &ColumnMapping, columns: Vec<String>) -> Result<Self, (Field, String)> {
        let mut header = Self { columns, ..Self::default() };
        for field in Field::ALL {
            let at = field as usize;
            for template in mapping.fields.get(&field).into_iter().flatten() {
                let known = |name: &str| header.knows(name) || (Field::named(name).is_some() && name != field.name());
                if let Some(missing) = template.columns().find(|name| !known(name) && *name != "section") {
                    return Err((field, missing.to_owned()));
                }
                match template {
                    ColumnTemplate::Column(name) if !header.is_member(name) => {
                        header.places[at].extend(header.place(name));
                    }
                    _ => header.templates[at].push(template.clone()),
                }
            }
            if !mapping.fields.contains_key(&field) {
                // Several columns with the same name make a list.
                let named =
                    header.columns.iter().enumerate().filter(|(_, name)| name.eq_ignore_ascii_case(field.name()));
                header.places[at] = named.map(|(place, _)| place).collect();
            }
        }
        header.video = mapping.video.clone().into_iter().collect();
        for name in &header.columns {
            if let Some(part) = name.strip_prefix(VIDEO_PREFIX).filter(|part| !mapping.video.contains_key(*part)) {
                header.video.push((part.to_owned(), ColumnTemplate::Column(name.clone())));
            }
        }
        if header.places[Field::Url as usize].is_empty() && header.templates[Field::Url as usize].is_empty() {
            return Err((Field::Url, Field::Url.name().to_owned()));
        }
        header.found = std::array::from_fn(|at| !header.places[at].is_empty() || !header.templates[at].is_empty());
        let videos = |field: &Field| *field == Field::Videos && !header.video.is_empty();
        header.present =
            Field::ALL.into_iter().filter(|field| header.found[*field as usize] || videos(field)).collect();
        Ok(header)
    }

    /// How each field of a page is found, as a fingerprint. Fields that are not found are not included.
    pub(crate) fn maps(&self, settings: &RecordSettings) -> Vec<(fingerprint::PageField, u64)> {
        use fingerprint::PageField as Print;
        let RecordSettings { dates, separator, timezone, drop_parameters, .. } = settings;
        let dates = format!("{dates:?} {:?}", timezone.iana_name());
        let files = format!("{separator} {}", drop_parameters.written());
        let all: [(Print, &[Field], &str); 8] = [
            (Print::Title, &[Field::Title], ""),
            (Print::Description, &[Field::Description], ""),
            (Print::Language, &[Field::Language], ""),
            (Print::Noindex, &[Field::Noindex, Field::Robots], ""),
            (Print::Images, &[Field::Images], &files),
            (Print::Videos, &[Field::Videos], &files),
            (Print::Modified, &[Field::Modified], &dates),
            (Print::Published, &[Field::Published, Field::Embargo], &dates),
        ];
        let found = |field: &&Field| self.present.contains(field);
        let places = |field: &Field| {
            let at = *field as usize;
            let columns = self.places[at].iter().filter_map(|place| self.columns.get(*place)).collect::<Vec<_>>();
            let video = if *field == Field::Videos { &self.video[..] } else { &[] };
            format!("{field:?} {columns:?} {:?} {video:?}", self.templates[at])
        };
        let mapped = all.into_iter().filter_map(|(print, fields, how)| {
            let found: Vec<String> = fields.iter().filter(found).map(places).collect();
            (!found.is_empty()).then(|| (print, fingerprint::settings(&format!("{found:?} {how}"))))
        });
        mapped.collect()
    }

    /// Reads a field from the record by its own name, whatever template the configuration has for it.
    #[cfg(feature = "markdown")]
    pub(crate) fn forget_template(&mut self, field: Field) {
        self.templates[field as usize].retain(|template| matches!(template, ColumnTemplate::Column(_)));
    }

    /// Where the URL is found, if in one place.
    pub(crate) fn url_place(&self) -> Option<UrlPlace> {
        match (&self.places[Field::Url as usize][..], &self.templates[Field::Url as usize][..]) {
            ([column], []) => Some(UrlPlace::Column(*column)),
            ([], [_]) => Some(UrlPlace::Template),
            _ => None,
        }
    }

    /// Whether a name is that of a member of the JSON object in a column.
    fn is_member(&self, name: &str) -> bool {
        self.place(name).is_none() && self.knows(name)
    }

    /// Whether a name is that of a column, or of a member of the JSON object in one: `meta.title`.
    fn knows(&self, name: &str) -> bool {
        self.place(name).is_some() || name.split_once('.').is_some_and(|(outer, _)| self.place(outer).is_some())
    }

    pub(super) fn place(&self, name: &str) -> Option<usize> {
        let exact = self.columns.iter().position(|column| column == name);
        exact.or_else(|| self.columns.iter().position(|column| column.eq_ignore_ascii_case(name)))
    }
}
