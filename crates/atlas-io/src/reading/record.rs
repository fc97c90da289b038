//! From a record of whatever source (a line of a table, a row of a database, an object of JSON) to what it says of a URL.

use std::borrow::Cow;

use atlas_core::address::{Address, AddressError, LONGEST, Site};
use atlas_core::contribution::Said;
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::fingerprint;
use atlas_core::language::Alternate;
use atlas_core::lastmod::Lastmod;
use atlas_core::page::robots_words;
use atlas_core::query::Parameters;
use atlas_core::video::{Video, read_yes_or_no};
use jiff::tz::TimeZone;
use serde_json::{Map, Value};

use crate::reading::field::{Field, Mapping, VIDEO_PREFIX};
use crate::reading::template::{Template, fill};

/// How the dates of a source are written.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Dates {
    /// ISO 8601 and whatever else cannot be mistaken.
    #[default]
    Plain,
    /// A `strptime` format.
    Format(String),
}

/// What the configuration says of a source of records.
#[derive(Debug, Clone)]
pub struct RecordSettings {
    /// The site.
    pub site: Site,
    /// The section of its entries.
    pub section: Option<String>,
    /// Where fields are found.
    pub mapping: Mapping,
    /// How dates are written.
    pub dates: Dates,
    /// What separates the items of a list in a text.
    pub separator: String,
    /// The zone of dates that state none.
    pub timezone: TimeZone,
    /// Query parameters that do not make another picture or film.
    pub drop_parameters: Parameters,
}

impl RecordSettings {
    /// The settings as a text that differs wherever they make the same record say something else.
    pub(crate) fn written(&self) -> String {
        let Self { site, section, mapping, dates, separator, timezone, drop_parameters } = self;
        let zone = timezone.iana_name();
        format!("{} {section:?} {mapping:?} {dates:?} {separator} {zone:?} {}", site.root(), drop_parameters.written())
    }
}

/// Where each field is found in the records of one source.
#[derive(Debug, Default)]
pub(crate) struct Header {
    /// The names of the columns, for records that have no names of their own.
    pub(crate) columns: Vec<String>,
    /// For fields that are columns: their places. By the field's number.
    places: [Vec<usize>; Field::ALL.len()],
    /// For fields that are templates, or members of an object. By the field's number.
    templates: [Vec<Template>; Field::ALL.len()],
    /// Parts of a video.
    video: Vec<(String, Template)>,
    /// Whether a field is anywhere to be found: most tables have few, and are asked for all. By the field's number.
    found: [bool; Field::ALL.len()],
    /// The fields that may be found, in their order.
    present: Vec<Field>,
}

impl Header {
    /// For records that are objects with names of their own.
    pub(crate) fn of_objects(mapping: &Mapping) -> Self {
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

    /// For records whose values stand in columns. Fails with the field and the column that is missing.
    pub(crate) fn of_columns(mapping: &Mapping, columns: Vec<String>) -> Result<Self, (Field, String)> {
        let mut header = Self { columns, ..Self::default() };
        for field in Field::ALL {
            let at = field as usize;
            for template in mapping.fields.get(&field).into_iter().flatten() {
                let known =
                    |name: &str| header.place(name).is_some() || (Field::named(name).is_some() && name != field.name());
                if let Some(missing) = template.columns().find(|name| !known(name) && *name != "section") {
                    return Err((field, missing.to_owned()));
                }
                match template {
                    Template::Column(name) => header.places[at].extend(header.place(name)),
                    Template::Pieces(_) => header.templates[at].push(template.clone()),
                }
            }
            if !mapping.fields.contains_key(&field) {
                // Several columns of one name make a list.
                let named =
                    header.columns.iter().enumerate().filter(|(_, name)| name.eq_ignore_ascii_case(field.name()));
                header.places[at] = named.map(|(place, _)| place).collect();
            }
        }
        header.video = mapping.video.clone().into_iter().collect();
        for name in &header.columns {
            if let Some(part) = name.strip_prefix(VIDEO_PREFIX).filter(|part| !mapping.video.contains_key(*part)) {
                header.video.push((part.to_owned(), Template::Column(name.clone())));
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

    /// How each field that has a say in what the page says is found, by a fingerprint; those that are nowhere are not among them.
    pub(crate) fn maps(&self, settings: &RecordSettings) -> Vec<(fingerprint::Field, u64)> {
        use fingerprint::Field as Print;
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

    /// Reads a field as the record names it, whatever template the configuration has for it.
    pub(crate) fn forget_template(&mut self, field: Field) {
        self.templates[field as usize].retain(|template| matches!(template, Template::Column(_)));
    }

    /// The column of the URL, where it is in one column as it stands.
    pub(crate) fn url_column(&self) -> Option<usize> {
        match (&self.places[Field::Url as usize][..], &self.templates[Field::Url as usize][..]) {
            ([column], []) => Some(*column),
            _ => None,
        }
    }

    fn place(&self, name: &str) -> Option<usize> {
        let exact = self.columns.iter().position(|column| column == name);
        exact.or_else(|| self.columns.iter().position(|column| column.eq_ignore_ascii_case(name)))
    }
}

/// One record, whatever the source.
pub(crate) enum Record<'c, 'r> {
    /// Values in columns, most of which stand in a text that outlives the record.
    Columns(&'c [Cow<'r, str>]),
    /// Values with names.
    Object(&'r Map<String, Value>),
}

/// Reads the records of one source.
pub(crate) struct RecordReader<'s> {
    pub(crate) settings: &'s RecordSettings,
    pub(crate) header: &'s Header,
}

/// What stands in the way of a record or of one of its fields.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Trouble {
    /// What is wrong, what was expected, how to mend it.
    pub(crate) message: String,
    /// The record is not listed because of it.
    pub(crate) passed_over: bool,
}

impl Trouble {
    /// A field cannot be read; the entry is listed without it.
    pub(crate) fn cell(message: String) -> Self {
        Self { message, passed_over: false }
    }

    /// The whole record is passed over.
    pub(crate) fn row(message: String) -> Self {
        Self { message, passed_over: true }
    }
}

impl RecordReader<'_> {
    /// Writes what the record says into `said`, where nothing stands yet, or what this wrote of the record before: that is large,
    /// and shall not be made anew a million times. False where the record has no URL that can be read. Fields that cannot be read are told to `trouble` and the rest
    /// goes on.
    pub(crate) fn read<'r>(
        &'r self,
        record: &Record<'_, 'r>,
        said: &mut Said<'r>,
        trouble: &mut impl FnMut(Trouble),
    ) -> bool {
        let Some(url) = self.text(record, Field::Url) else {
            let why = match (self.wanting(record), self.undated(record)) {
                (Some(name), _) => format!("no url in it, for want of “{name}”"),
                (None, Some((name, text))) => {
                    format!("{name} “{text}” is not {}, and the url is made of it", self.expected_date())
                }
                (None, None) => "no url in it".to_owned(),
            };
            trouble(Trouble::row(format!("{why}; the row is passed over")));
            return false;
        };
        said.url = match self.address(url) {
            Ok(url) => url,
            Err(why) => {
                trouble(Trouble::row(format!("{why}; the row is passed over")));
                return false;
            }
        };
        said.section = self.settings.section.as_deref().map(Cow::Borrowed);
        // What several fields have a say in begins anew.
        (said.published, said.expires, said.draft, said.noindex, said.unreadable) = (None, None, false, None, None);
        self.header.present.iter().for_each(|field| self.take(record, *field, said, trouble));
        true
    }

    /// The address of the entry: that which stands in the record, where it is in its normal spelling.
    fn address<'r>(&self, text: Cow<'r, str>) -> Result<Cow<'r, str>, AddressError> {
        let site = &self.settings.site;
        match text {
            Cow::Borrowed(text) => match site.plain(text.trim()) {
                Some(plain) => Ok(Cow::Borrowed(plain)),
                None => Ok(Cow::Owned(site.address(text)?.into_string())),
            },
            Cow::Owned(text) => Ok(Cow::Owned(site.address(&text)?.into_string())),
        }
    }

    /// Reads one field.
    fn take<'r>(
        &'r self,
        record: &Record<'_, 'r>,
        field: Field,
        said: &mut Said<'r>,
        trouble: &mut impl FnMut(Trouble),
    ) {
        let text = || self.text(record, field);
        match field {
            Field::Url => {}
            Field::Modified => said.modified = self.date(record, field, trouble),
            Field::Published => self.gate(record, field, said, trouble),
            Field::Embargo => self.gate(record, field, said, trouble),
            Field::Expires => self.gate(record, field, said, trouble),
            Field::Title => said.title = text(),
            Field::Description => said.description = text(),
            Field::Language => said.language = text(),
            Field::LanguageGroup => said.language_group = text(),
            Field::Id => said.id = text(),
            Field::Slug => said.slug = text(),
            Field::Kind => said.kind = text(),
            Field::Parent => said.parent = text(),
            Field::Section => said.own_section = text(),
            Field::Category => said.categories = self.list(record, field),
            Field::Tags => said.tags = self.list(record, field),
            Field::Author => said.authors = self.list(record, field),
            Field::Images => said.images = self.images(record, trouble),
            Field::Videos => {
                said.videos = self.videos(record, &Address::trusted(said.url.as_ref()), trouble);
            }
            Field::Alternates => said.alternates = self.alternates(record, trouble),
            Field::Draft => said.draft |= self.switch(record, field, said, trouble) == Some(true),
            Field::Keep => said.keep = self.switch(record, field, said, trouble),
            Field::Noindex => {
                if self.switch(record, field, said, trouble) == Some(true) {
                    said.noindex = Some(Cow::Borrowed("noindex: yes"));
                }
            }
            Field::Robots => self.robots(record, said, trouble),
            Field::Changefreq => {
                let expected = "one of always, hourly, daily, weekly, monthly, yearly, never";
                said.changefreq = self.word(record, field, expected, |text| text.parse::<Changefreq>().ok(), trouble);
            }
            Field::Priority => {
                let read = |text: &str| Priority::new(text.trim().parse().ok()?);
                said.priority = self.word(record, field, "a number from 0.0 to 1.0", read, trouble);
            }
            Field::DatePolicy => {
                let expected = "one of usual, declared, seen, none";
                said.date_policy = self.word(record, field, expected, |text| text.parse::<DatePolicy>().ok(), trouble);
            }
        }
    }

    /// What the template of the URL names and the record does not have.
    fn wanting(&self, record: &Record<'_, '_>) -> Option<&str> {
        let mut names = self.header.templates[Field::Url as usize].iter().flat_map(Template::columns);
        names.find(|name| self.value(record, name).is_none_or(|value| value.trim().is_empty()))
    }

    /// The date that the template of the URL asks for and that cannot be read: its name and text.
    fn undated(&self, record: &Record<'_, '_>) -> Option<(&str, String)> {
        let mut names = self.header.templates[Field::Url as usize].iter().flat_map(Template::dates);
        names.find_map(|name| {
            let text = self.value(record, name)?;
            self.read_date(&text).is_none().then(|| (name, text.into_owned()))
        })
    }

    /// The text of a field: of its first place that has one.
    fn text<'r>(&'r self, record: &Record<'_, 'r>, field: Field) -> Option<Cow<'r, str>> {
        let at = field as usize;
        if !self.header.found[at] {
            return None;
        }
        // One column, as it stands: what most fields are.
        if let (Record::Columns(row), [place], []) =
            (record, &self.header.places[at][..], &self.header.templates[at][..])
        {
            return row.get(*place).filter(|text| !is_blank(text)).cloned();
        }
        let filled = self.header.templates[at].iter().find_map(|template| match template {
            Template::Column(name) => self.value(record, name),
            Template::Pieces(pieces) => {
                let date = |text: &str| self.read_date(text).map(|date| date.at(&self.settings.timezone));
                fill(pieces, |name| self.value(record, name), date).map(Cow::Owned)
            }
        });
        let plain = || match record {
            Record::Columns(row) => {
                let mut texts = self.header.places[at].iter().filter_map(|place| row.get(*place));
                texts.find(|text| !is_blank(text)).cloned()
            }
            Record::Object(object) if self.header.templates[at].is_empty() => scalar(object.get(field.name())?),
            Record::Object(_) => None,
        };
        filled.or_else(plain).filter(|text| !is_blank(text))
    }

    /// The text of a column, of a member however deep (`meta.title`), of another field, or of the source's section.
    fn value<'r>(&'r self, record: &Record<'_, 'r>, name: &str) -> Option<Cow<'r, str>> {
        let own = match record {
            Record::Columns(row) => self.header.place(name).and_then(|at| row.get(at)).cloned(),
            Record::Object(object) => member(object, name).and_then(scalar),
        };
        let field = || {
            let field = Field::named(name)?;
            let template = self.header.templates[field as usize].iter().find_map(|template| match template {
                Template::Column(other) if other != name => Some(other),
                _ => None,
            });
            match (template, record) {
                (Some(other), Record::Object(object)) => member(object, other).and_then(scalar),
                (_, Record::Columns(row)) => row.get(*self.header.places[field as usize].first()?).cloned(),
                _ => None,
            }
        };
        let section = || (name == "section").then(|| self.settings.section.as_deref().map(Cow::Borrowed)).flatten();
        own.or_else(field).or_else(section)
    }

    /// The JSON of a field, where the record has any.
    fn json<'r>(&self, record: &Record<'_, 'r>, field: Field) -> Option<&'r Value> {
        let Record::Object(object) = record else { return None };
        let value = match self.header.templates[field as usize].first() {
            Some(Template::Column(name)) => member(object, name),
            Some(Template::Pieces(_)) => None,
            None => object.get(field.name()),
        };
        value.filter(|value| !value.is_null())
    }

    /// The items of a field that is a list: of all its places, each of them a list by separator or in JSON.
    fn list<'r>(&'r self, record: &Record<'_, 'r>, field: Field) -> Vec<Cow<'r, str>> {
        let at = field as usize;
        let mut items = Vec::new();
        if !self.header.found[at] {
            return items;
        }
        match record {
            Record::Columns(row) => {
                for text in self.header.places[at].iter().filter_map(|place| row.get(*place)) {
                    match text {
                        Cow::Borrowed(text) => self.split(text, &mut items),
                        Cow::Owned(text) => {
                            let mut own = Vec::new();
                            self.split(text, &mut own);
                            items.extend(own.into_iter().map(|item| Cow::Owned(item.into_owned())));
                        }
                    }
                }
            }
            Record::Object(object) => {
                let templates = &self.header.templates[at];
                let names = templates.iter().filter_map(|template| match template {
                    Template::Column(name) => Some(name.as_str()),
                    Template::Pieces(_) => None,
                });
                let own = templates.is_empty().then_some(field.name());
                for value in names.chain(own).filter_map(|name| member(object, name)) {
                    self.items(value, &mut items);
                }
            }
        }
        let pieces = self.header.templates[at].iter().filter(|template| matches!(template, Template::Pieces(_)));
        if pieces.count() > 0 {
            items.extend(self.text(record, field));
        }
        items
    }

    fn items<'r>(&self, value: &'r Value, items: &mut Vec<Cow<'r, str>>) {
        match value {
            Value::Array(values) => {
                items.extend(values.iter().filter_map(item).filter(|item| !item.trim().is_empty()));
            }
            Value::String(text) => self.split(text, items),
            value => items.extend(item(value)),
        }
    }

    fn split<'r>(&self, text: &'r str, items: &mut Vec<Cow<'r, str>>) {
        if text.trim_start().starts_with('[')
            && let Ok(values) = serde_json::from_str::<Vec<Value>>(text)
        {
            let texts = values.iter().filter_map(item).map(|item| Cow::Owned(item.into_owned()));
            return items.extend(texts.filter(|item: &Cow<'_, str>| !item.trim().is_empty()));
        }
        let parts = text.split(self.settings.separator.as_str()).map(str::trim);
        items.extend(parts.filter(|item| !item.is_empty()).map(Cow::Borrowed));
    }

    /// Reads a field that need not be there; one that cannot be read is told, and the entry goes on without it.
    fn word<T>(
        &self,
        record: &Record<'_, '_>,
        field: Field,
        expected: &str,
        read: impl Fn(&str) -> Option<T>,
        trouble: &mut impl FnMut(Trouble),
    ) -> Option<T> {
        let text = self.text(record, field)?;
        let value = read(&text);
        if value.is_none() {
            trouble(Trouble::cell(format!(
                "{} “{text}” is not {expected}; the entry is listed without it",
                field.name()
            )));
        }
        value
    }

    /// A yes or no that decides whether the entry goes in: where it cannot be read, the entry stays out.
    fn switch(
        &self,
        record: &Record<'_, '_>,
        field: Field,
        said: &mut Said<'_>,
        trouble: &mut impl FnMut(Trouble),
    ) -> Option<bool> {
        let text = self.text(record, field)?;
        let value = read_yes_or_no(&text);
        if value.is_none() {
            self.shut(field, &text, "yes or no", said, trouble);
        }
        value
    }

    /// A date that decides whether the entry goes in: where it cannot be read, the entry stays out. What a database calls infinite
    /// has a meaning.
    fn gate(&self, record: &Record<'_, '_>, field: Field, said: &mut Said<'_>, trouble: &mut impl FnMut(Trouble)) {
        let Some(text) = self.text(record, field) else { return };
        let opens = field != Field::Expires;
        match (text.trim().to_ascii_lowercase().as_str(), opens) {
            // It is published never, or has expired ever since.
            ("infinity" | "+infinity", true) => said.draft = true,
            ("-infinity", false) => said.expires = Lastmod::from_epoch_day(0),
            // It has always been published, or expires never.
            ("-infinity", true) | ("infinity" | "+infinity", false) => {}
            _ => {
                let (mut told, mut read) = (Vec::new(), None);
                if let Some(date) = self.date(record, field, &mut |one| told.push(one)) {
                    read = Some(date);
                    told.into_iter().for_each(&mut *trouble);
                } else {
                    self.shut(field, &text, &self.expected_date(), said, trouble);
                }
                match field {
                    Field::Expires => said.expires = read,
                    Field::Published => said.published = read,
                    // What waits for a later day than that of its publication goes in on that.
                    _ => {
                        let earlier =
                            |date: Lastmod| said.published.is_none_or(|known| known.seconds() < date.seconds());
                        said.published = read.filter(|date| earlier(*date)).or(said.published);
                    }
                }
            }
        }
    }

    /// A value that decides whether the entry goes in cannot be read.
    fn shut(&self, field: Field, text: &str, expected: &str, said: &mut Said<'_>, trouble: &mut impl FnMut(Trouble)) {
        let shown = shortened(text);
        trouble(Trouble::row(format!(
            "{} “{shown}” is not {expected}; it decides whether the entry goes in, so the entry stays out",
            field.name()
        )));
        said.unreadable.get_or_insert_with(|| Cow::Owned(format!("{} “{shown}”", field.name())));
    }

    /// A robots directive, as a text or as a list of words.
    fn robots(&self, record: &Record<'_, '_>, said: &mut Said<'_>, trouble: &mut impl FnMut(Trouble)) {
        let listed = match self.json(record, Field::Robots) {
            Some(Value::Array(words)) => Some(words.iter().filter_map(scalar).collect::<Vec<_>>().join(", ")),
            _ => None,
        };
        let Some(text) = listed.or_else(|| self.text(record, Field::Robots).map(Cow::into_owned)) else { return };
        let words = robots_words(&text);
        if words.noindex {
            said.noindex = Some(Cow::Owned(format!("robots: {}", shortened(&text))));
        }
        if let Some(after) = words.unavailable_after {
            match Lastmod::read_deadline(after, &self.settings.timezone) {
                Some(date) => said.expires = said.expires.or(Some(date)),
                None => self.shut(Field::Robots, after, &self.expected_date(), said, trouble),
            }
        }
    }

    fn expected_date(&self) -> String {
        match &self.settings.dates {
            Dates::Plain => {
                "a date such as 2026-11-23 or 2026-11-23T09:30:00Z (other forms: dates = \"%d/%m/%Y\")".to_owned()
            }
            Dates::Format(format) => format!("a date in the form {format}"),
        }
    }

    fn read_date(&self, text: &str) -> Option<Lastmod> {
        match &self.settings.dates {
            Dates::Plain => Lastmod::read(text, &self.settings.timezone),
            Dates::Format(format) => Lastmod::read_as(format, text, &self.settings.timezone),
        }
    }

    fn date(&self, record: &Record<'_, '_>, field: Field, trouble: &mut impl FnMut(Trouble)) -> Option<Lastmod> {
        let text = self.text(record, field)?;
        let date = self.read_date(&text);
        if matches!(self.settings.dates, Dates::Plain) && Self::may_be_doubtful(&text) {
            let doubt = Lastmod::doubt(&text, &self.settings.timezone);
            match (date, doubt) {
                (Some(date), Some(why)) => {
                    trouble(Trouble::cell(format!(
                        "{} “{text}” can be read in two ways ({why}); taken as {date}",
                        field.name()
                    )));
                }
                (None, Some(why)) => trouble(Trouble::cell(format!(
                    "{} “{text}” can be read in two ways ({why}); say which, such as dates = \"%d/%m/%Y\". The entry is listed without it",
                    field.name()
                ))),
                _ => {}
            }
            if doubt.is_some() {
                return date;
            }
        }
        if date.is_none() {
            let expected = self.expected_date();
            trouble(Trouble::cell(format!(
                "{} “{text}” is not {expected}; the entry is listed without it",
                field.name()
            )));
        }
        date
    }

    /// The forms that a million rows come in cannot be doubted: they are not looked at twice.
    fn may_be_doubtful(text: &str) -> bool {
        !text.ends_with('Z') && text.len() != 10 || text.as_bytes().get(2).is_some_and(|byte| !byte.is_ascii_digit())
    }

    fn images<'r>(&'r self, record: &Record<'_, 'r>, trouble: &mut impl FnMut(Trouble)) -> Vec<Cow<'r, str>> {
        let mut images: Vec<Cow<'r, str>> = Vec::new();
        for item in self.list(record, Field::Images) {
            match self.settings.site.address(&item) {
                Ok(address) if address.as_str().len() > LONGEST => {
                    trouble(Trouble::cell(
                        "images: a URL of 2,048 characters or more; the entry is listed without it".to_owned(),
                    ));
                }
                Ok(address) => {
                    images.push(Cow::Owned(self.settings.drop_parameters.clean(address.as_str()).into_owned()))
                }
                Err(why) => trouble(Trouble::cell(format!("images: {why}; the entry is listed without it"))),
            }
        }
        images
    }

    fn videos(&self, record: &Record<'_, '_>, page: &Address, trouble: &mut impl FnMut(Trouble)) -> Vec<Video> {
        let read = match self.json(record, Field::Videos) {
            Some(Value::String(text)) => serde_json::from_str(text),
            Some(value @ Value::Object(_)) => serde_json::from_value(value.clone()).map(|video| vec![video]),
            Some(value) => serde_json::from_value(value.clone()),
            None => match self.text(record, Field::Videos) {
                Some(text) => serde_json::from_str(&text),
                None => Ok(Vec::new()),
            },
        };
        let parts: Map<String, Value> = (self.header.video.iter())
            .filter_map(|(part, template)| {
                Some((part.clone(), Value::String(self.fill(record, template)?.into_owned())))
            })
            .collect();
        let own = match parts.is_empty() {
            true => Ok(None),
            false => serde_json::from_value::<Video>(Value::Object(parts)).map(Some),
        };
        let videos: Vec<Video> = match read.and_then(|videos: Vec<Video>| Ok(videos.into_iter().chain(own?).collect()))
        {
            Ok(videos) => videos,
            Err(error) => {
                trouble(Trouble::cell(format!(
                    "videos: {error}; a JSON array of objects is expected. The entry is listed without them"
                )));
                return Vec::new();
            }
        };
        let place = |text: &str| {
            let address = page.join(text).ok()?;
            Some(Address::trusted(self.settings.drop_parameters.clean(address.as_str())))
        };
        videos.into_iter().map(|video| video.settled(place, |text| self.read_date(text))).collect()
    }

    fn fill<'r>(&'r self, record: &Record<'_, 'r>, template: &Template) -> Option<Cow<'r, str>> {
        let text = match template {
            Template::Column(name) => self.value(record, name)?,
            Template::Pieces(pieces) => {
                let date = |text: &str| self.read_date(text).map(|date| date.at(&self.settings.timezone));
                Cow::Owned(fill(pieces, |name| self.value(record, name), date)?)
            }
        };
        Some(text).filter(|text| !text.trim().is_empty())
    }

    fn alternates(&self, record: &Record<'_, '_>, trouble: &mut impl FnMut(Trouble)) -> Vec<Alternate<'static>> {
        let pairs: Vec<(String, String)> = match self.json(record, Field::Alternates) {
            Some(Value::Object(by_language)) => {
                let texts = by_language
                    .iter()
                    .filter_map(|(language, url)| Some((language.clone(), scalar(url)?.into_owned())));
                texts.collect()
            }
            Some(Value::Array(items)) if items.iter().any(Value::is_object) => {
                let read = serde_json::from_value::<Vec<Alternate<'static>>>(Value::Array(items.clone()));
                let read = read.unwrap_or_else(|error| {
                    trouble(Trouble::cell(format!(
                        "alternates: {error}; objects with “language” and “url” are expected"
                    )));
                    Vec::new()
                });
                read.into_iter().map(|one| (one.language.into_owned(), one.url.into_owned())).collect()
            }
            _ => self
                .list(record, Field::Alternates)
                .iter()
                .filter_map(|item| {
                    let pair = item
                        .trim()
                        .split_once([' ', '='])
                        .map(|(language, url)| (language.to_owned(), url.trim().to_owned()));
                    if pair.is_none() {
                        trouble(Trouble::cell(format!(
                            "alternates: “{item}” is not a language and a URL, such as “cy /cy/halts/”"
                        )));
                    }
                    pair
                })
                .collect(),
        };
        let complete = |(language, url): (String, String)| match self.settings.site.address(&url) {
            Ok(address) => Some(Alternate { language: language.into(), url: address.as_str().to_owned().into() }),
            Err(why) => {
                trouble(Trouble::cell(format!("alternates: {why}; the entry is listed without it")));
                None
            }
        };
        pairs.into_iter().filter_map(complete).collect()
    }
}

/// A member of an object, or of an object in it: `meta.title`.
fn member<'r>(object: &'r Map<String, Value>, name: &str) -> Option<&'r Value> {
    object.get(name).or_else(|| {
        let (outer, inner) = name.split_once('.')?;
        member(object.get(outer)?.as_object()?, inner)
    })
}

/// Whether there is nothing in a text but white space.
fn is_blank(text: &str) -> bool {
    // The first byte tells of most.
    !text.bytes().next().is_some_and(|byte| byte > b' ' && byte < 0x7f) && text.trim().is_empty()
}

/// A text for a message, cut where it is long.
fn shortened(text: &str) -> String {
    match text.char_indices().nth(LONGEST_SHOWN) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}

/// How many letters of a value a message repeats.
const LONGEST_SHOWN: usize = 80;

/// An item of a list: a text, or an object that stands for a picture and names its address among other things.
fn item(value: &Value) -> Option<Cow<'_, str>> {
    let Value::Object(object) = value else { return scalar(value) };
    ["src", "url", "loc", "href", "file", "path"].into_iter().find_map(|name| scalar(object.get(name)?))
}

fn scalar(value: &Value) -> Option<Cow<'_, str>> {
    match value {
        Value::String(text) => Some(Cow::Borrowed(text)),
        Value::Number(number) => Some(Cow::Owned(number.to_string())),
        Value::Bool(word) => Some(Cow::Borrowed(if *word { "yes" } else { "no" })),
        _ => None,
    }
}
