//! The record reader, field by field.

use std::borrow::Cow;

use atlas_core::address::{Address, AddressError};
use atlas_core::contribution::Contribution;
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::lastmod::Lastmod;
use atlas_core::page::robots_words;
use atlas_core::video::read_yes_or_no;
use serde_json::Value;

use crate::reading::field::Field;
use crate::reading::template::ColumnTemplate;

use super::problem::RecordProblem;
use super::settings::Dates;
use super::values::{Record, RecordReader, scalar, shortened};

impl RecordReader<'_> {
    /// Writes the record into `contribution`, which is empty or holds what this function wrote for the record before:
    /// it is large, and should not be made anew a million times. Returns `false` if the record has no readable URL.
    /// Fields that cannot be read are passed to `trouble`, and the others are read.
    pub(crate) fn read<'r>(
        &'r self,
        record: &Record<'_, 'r>,
        contribution: &mut Contribution<'r>,
        trouble: &mut impl FnMut(RecordProblem),
    ) -> bool {
        let Some(url) = self.text(record, Field::Url) else {
            let why = match (self.wanting(record), self.undated(record)) {
                (Some(name), _) => format!("it has no url, because “{name}” is missing"),
                (None, Some((name, text))) => {
                    format!("{name} “{text}” is not {}, and the url is made from it", self.expected_date())
                }
                (None, None) => "it has no url".to_owned(),
            };
            trouble(RecordProblem::row(format!("{why}; the row is skipped")));
            return false;
        };
        contribution.url = match self.address(url) {
            Ok(url) => url,
            Err(why) => {
                trouble(RecordProblem::row(format!("{why}; the row is skipped")));
                return false;
            }
        };
        contribution.section = self.settings.section.as_deref().map(Cow::Borrowed);
        // Fields that are combined from several others start empty.
        (
            contribution.published,
            contribution.expires,
            contribution.draft,
            contribution.noindex,
            contribution.unreadable,
        ) = (None, None, false, None, None);
        self.header.present.iter().for_each(|field| self.take(record, *field, contribution, trouble));
        true
    }

    /// The address of the entry: the text itself, if it is in normal spelling.
    pub(super) fn address<'r>(&self, text: Cow<'r, str>) -> Result<Cow<'r, str>, AddressError> {
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
        contribution: &mut Contribution<'r>,
        trouble: &mut impl FnMut(RecordProblem),
    ) {
        let text = || self.text(record, field);
        match field {
            Field::Url => {}
            Field::Modified => contribution.modified = self.date(record, field, trouble),
            Field::Published => self.gate(record, field, contribution, trouble),
            Field::Embargo => self.gate(record, field, contribution, trouble),
            Field::Expires => self.gate(record, field, contribution, trouble),
            Field::Title => contribution.title = text(),
            Field::Description => contribution.description = text(),
            Field::Language => contribution.language = text(),
            Field::LanguageGroup => contribution.language_group = text(),
            Field::Id => contribution.id = text(),
            Field::Slug => contribution.slug = text(),
            Field::Kind => contribution.kind = text(),
            Field::Parent => contribution.parent = text(),
            Field::Section => contribution.own_section = text(),
            Field::Category => contribution.categories = self.list(record, field),
            Field::Tags => contribution.tags = self.list(record, field),
            Field::Author => contribution.authors = self.list(record, field),
            Field::Images => contribution.images = self.images(record, trouble),
            Field::Videos => {
                contribution.videos = self.videos(record, &Address::trusted(contribution.url.as_ref()), trouble);
            }
            Field::Alternates => contribution.alternates = self.alternates(record, trouble),
            Field::Draft => contribution.draft |= self.switch(record, field, contribution, trouble) == Some(true),
            Field::Keep => contribution.keep = self.switch(record, field, contribution, trouble),
            Field::Noindex => {
                if self.switch(record, field, contribution, trouble) == Some(true) {
                    contribution.noindex = Some(Cow::Borrowed("noindex: yes"));
                }
            }
            Field::Robots => self.robots(record, contribution, trouble),
            Field::Changefreq => {
                let expected = "one of always, hourly, daily, weekly, monthly, yearly, never";
                contribution.changefreq =
                    self.word(record, field, expected, |text| text.parse::<Changefreq>().ok(), trouble);
            }
            Field::Priority => {
                let read = |text: &str| Priority::new(text.trim().parse().ok()?);
                contribution.priority = self.word(record, field, "a number from 0.0 to 1.0", read, trouble);
            }
            Field::DatePolicy => {
                let expected = "one of usual, declared, seen, none";
                contribution.date_policy =
                    self.word(record, field, expected, |text| text.parse::<DatePolicy>().ok(), trouble);
            }
        }
    }

    /// What the template of the URL names but the record lacks.
    fn wanting(&self, record: &Record<'_, '_>) -> Option<&str> {
        let mut names = self.header.templates[Field::Url as usize].iter().flat_map(ColumnTemplate::columns);
        names.find(|name| self.value(record, name).is_none_or(|value| value.trim().is_empty()))
    }

    /// The date that the template of the URL needs but that cannot be read: its name and text.
    fn undated(&self, record: &Record<'_, '_>) -> Option<(&str, String)> {
        let mut names = self.header.templates[Field::Url as usize].iter().flat_map(ColumnTemplate::dates);
        names.find_map(|name| {
            let text = self.value(record, name)?;
            self.read_date(&text).is_none().then(|| (name, text.into_owned()))
        })
    }

    /// Reads an optional field. If it cannot be read, that is reported, and the entry does without it.
    fn word<T>(
        &self,
        record: &Record<'_, '_>,
        field: Field,
        expected: &str,
        read: impl Fn(&str) -> Option<T>,
        trouble: &mut impl FnMut(RecordProblem),
    ) -> Option<T> {
        let text = self.text(record, field)?;
        let value = read(&text);
        if value.is_none() {
            trouble(RecordProblem::cell(format!(
                "{} “{text}” is not {expected}; the entry is listed without it",
                field.name()
            )));
        }
        value
    }

    /// Reads a yes or no that decides whether the entry is kept. If it cannot be read, the entry is left out.
    fn switch(
        &self,
        record: &Record<'_, '_>,
        field: Field,
        contribution: &mut Contribution<'_>,
        trouble: &mut impl FnMut(RecordProblem),
    ) -> Option<bool> {
        let text = self.text(record, field)?;
        let value = read_yes_or_no(&text);
        if value.is_none() {
            self.shut(field, &text, "yes or no", contribution, trouble);
        }
        value
    }

    /// Reads a date that decides whether the entry is kept. If it cannot be read, the entry is left out. A database's
    /// “infinity” has a meaning.
    fn gate(
        &self,
        record: &Record<'_, '_>,
        field: Field,
        contribution: &mut Contribution<'_>,
        trouble: &mut impl FnMut(RecordProblem),
    ) {
        let Some(text) = self.text(record, field) else { return };
        let opens = field != Field::Expires;
        match (text.trim().to_ascii_lowercase().as_str(), opens) {
            // It is never published, or has always been expired.
            ("infinity" | "+infinity", true) => contribution.draft = true,
            ("-infinity", false) => contribution.expires = Lastmod::from_epoch_day(0),
            // It has always been published, or never expires.
            ("-infinity", true) | ("infinity" | "+infinity", false) => {}
            _ => {
                let (mut told, mut read) = (Vec::new(), None);
                if let Some(date) = self.date(record, field, &mut |one| told.push(one)) {
                    read = Some(date);
                    told.into_iter().for_each(&mut *trouble);
                } else {
                    self.shut(field, &text, &self.expected_date(), contribution, trouble);
                }
                match field {
                    Field::Expires => contribution.expires = read,
                    Field::Published => contribution.published = read,
                    // With an embargo later than its publication date, it is published then.
                    _ => {
                        let earlier =
                            |date: Lastmod| contribution.published.is_none_or(|known| known.seconds() < date.seconds());
                        contribution.published = read.filter(|date| earlier(*date)).or(contribution.published);
                    }
                }
            }
        }
    }

    /// Leaves the entry out, because a value that decides about it cannot be read.
    fn shut(
        &self,
        field: Field,
        text: &str,
        expected: &str,
        contribution: &mut Contribution<'_>,
        trouble: &mut impl FnMut(RecordProblem),
    ) {
        let shown = shortened(text);
        trouble(RecordProblem::row(format!(
            "{} “{shown}” is not {expected}; it decides whether the entry is listed, so the entry is left out",
            field.name()
        )));
        contribution.unreadable.get_or_insert_with(|| Cow::Owned(format!("{} “{shown}”", field.name())));
    }

    /// Reads a robots directive, given as text or as a list of words.
    fn robots(
        &self,
        record: &Record<'_, '_>,
        contribution: &mut Contribution<'_>,
        trouble: &mut impl FnMut(RecordProblem),
    ) {
        let listed = match self.json(record, Field::Robots) {
            Some(Value::Array(words)) => Some(words.iter().filter_map(scalar).collect::<Vec<_>>().join(", ")),
            _ => None,
        };
        let Some(text) = listed.or_else(|| self.text(record, Field::Robots).map(Cow::into_owned)) else { return };
        let words = robots_words(&text);
        if words.noindex {
            contribution.noindex = Some(Cow::Owned(format!("robots: {}", shortened(&text))));
        }
        if let Some(after) = words.unavailable_after {
            match Lastmod::read_deadline(after, &self.settings.timezone) {
                Some(date) => contribution.expires = contribution.expires.or(Some(date)),
                None => self.shut(Field::Robots, after, &self.expected_date(), contribution, trouble),
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

    pub(super) fn read_date(&self, text: &str) -> Option<Lastmod> {
        match &self.settings.dates {
            Dates::Plain => Lastmod::read(text, &self.settings.timezone),
            Dates::Format(format) => Lastmod::read_as(format, text, &self.settings.timezone),
        }
    }

    pub(super) fn date(
        &self,
        record: &Record<'_, '_>,
        field: Field,
        trouble: &mut impl FnMut(RecordProblem),
    ) -> Option<Lastmod> {
        let text = self.text(record, field)?;
        let date = self.read_date(&text);
        if matches!(self.settings.dates, Dates::Plain) && Self::may_be_doubtful(&text) {
            let doubt = Lastmod::doubt(&text, &self.settings.timezone);
            match (date, doubt) {
                (Some(date), Some(why)) => {
                    trouble(RecordProblem::cell(format!(
                        "{} “{text}” can be read in two ways ({why}); read as {date}",
                        field.name()
                    )));
                }
                (None, Some(why)) => trouble(RecordProblem::cell(format!(
                    "{} “{text}” can be read in two ways ({why}); specify the format, such as dates = \"%d/%m/%Y\". The entry is listed without it",
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
            trouble(RecordProblem::cell(format!(
                "{} “{text}” is not {expected}; the entry is listed without it",
                field.name()
            )));
        }
        date
    }

    /// Whether a date may be ambiguous. The forms that millions of rows have cannot be, so they are not checked twice.
    fn may_be_doubtful(text: &str) -> bool {
        !text.ends_with('Z') && text.len() != 10 || text.as_bytes().get(2).is_some_and(|byte| !byte.is_ascii_digit())
    }
}
