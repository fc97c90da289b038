//! The record reader, field by field.

use std::borrow::Cow;

use atlas_core::address::Address;
use atlas_core::choose::made_name;
use atlas_core::contribution::Contribution;
use atlas_core::entry::{Changefreq, DatePolicy, Priority};
use atlas_core::lastmod::Lastmod;
use atlas_core::page::robots_words;
use atlas_core::video::read_yes_or_no;
use serde_json::Value;

use crate::reading::field::Field;
use crate::reading::template::{ColumnTemplate, join};

use super::problem::{Found, SummedProblem};
use super::settings::{Dates, SEPARATOR, SectionTemplate, SourceSection};
use super::values::{Record, RecordReader, scalar, shortened};

impl RecordReader<'_> {
    /// Writes the record into `contribution`, which is empty or holds what this function wrote for the record before:
    /// it is large, and should not be made anew a million times. Returns `false` if the record has no readable URL.
    /// Fields that cannot be read are passed to `trouble`, and the others are read.
    pub(crate) fn read<'r>(
        &'r self,
        record: &Record<'_, 'r>,
        contribution: &mut Contribution<'r>,
        tell: &mut impl FnMut(Found),
    ) -> bool {
        let Some(url) = self.text(record, Field::Url) else {
            let why = match (self.wanting(record), self.undated(record)) {
                (Some(name), _) => format!("it has no url, because “{name}” is missing"),
                (None, Some((name, text))) => {
                    format!("{name} “{text}” is not {}, and the url is made from it", self.expected_date())
                }
                (None, None) => "it has no url".to_owned(),
            };
            tell(Found::row(format!("{why}; the row is skipped")));
            return false;
        };
        contribution.url = match self.address(url, tell) {
            Ok(url) => url,
            Err(why) => {
                tell(Found::row(format!("{why}; the row is skipped")));
                return false;
            }
        };
        contribution.makes_section = false;
        contribution.section = match &self.settings.section {
            None => None,
            Some(SourceSection::Named(name)) => Some(Cow::Borrowed(name.as_str())),
            Some(SourceSection::Template(SectionTemplate(pieces))) => {
                let date = |text: &str| self.read_date(text).map(|date| date.at(&self.settings.timezone));
                let text = join(pieces, |name| self.value(record, name), date, str::to_owned);
                let name = text.and_then(|text| made_name(&text));
                contribution.makes_section = name.is_some();
                name.map(Cow::Owned)
            }
        };
        // Fields that are combined from several others start empty.
        (
            contribution.published,
            contribution.expires,
            contribution.draft,
            contribution.noindex,
            contribution.unreadable,
        ) = (None, None, false, None, None);
        self.header.present.iter().for_each(|field| self.take(record, *field, contribution, tell));
        true
    }

    /// The URL as the record gives it.
    pub(crate) fn url<'r>(&'r self, record: &Record<'_, 'r>) -> Option<Cow<'r, str>> {
        self.text(record, Field::Url)
    }

    /// The address of the entry: the text itself, if it is in normal spelling. Fails with the reason in words. A part
    /// that is lost on the way is passed to `tell`.
    pub(crate) fn address<'r>(&self, text: Cow<'r, str>, tell: &mut impl FnMut(Found)) -> Result<Cow<'r, str>, String> {
        let site = &self.settings.site;
        if let Cow::Borrowed(text) = text
            && let Some(plain) = site.plain(text.trim())
        {
            return Ok(Cow::Borrowed(plain));
        }
        let text = text.trim();
        if text.contains(char::REPLACEMENT_CHARACTER) {
            return Err(format!("its url “{}” has bytes that are not UTF-8", shortened(text)));
        }
        if let Some(name) = self.template_in(text) {
            return Err(format!(
                "its url “{}” is a template, which is filled in only in the configuration: fields = {{ url = \"{}\" }}, and {name} a column",
                shortened(text),
                shortened(text)
            ));
        }
        let address = site.address(text).map_err(|error| error.to_string())?;
        if text.contains(['#', '\\', '\t', '\n', '\r']) {
            let example = format!("“{}”, which became {}", shortened(text).escape_debug(), shortened(address.as_str()));
            tell(Found::Sum(SummedProblem::LostPart, example));
        }
        Ok(Cow::Owned(address.into_string()))
    }

    /// The first name in braces in a URL, if the record has a value with this name.
    fn template_in<'t>(&self, url: &'t str) -> Option<&'t str> {
        let (name, _) = url.split_once('{')?.1.split_once('}')?;
        let name = name.split(':').next().unwrap_or(name).trim();
        (self.header.place(name).is_some() || Field::named(name).is_some()).then_some(name)
    }

    /// Reads one field.
    fn take<'r>(
        &'r self,
        record: &Record<'_, 'r>,
        field: Field,
        contribution: &mut Contribution<'r>,
        tell: &mut impl FnMut(Found),
    ) {
        let text = || self.text(record, field);
        match field {
            Field::Url => {}
            Field::Modified => contribution.modified = self.date(record, field, tell),
            Field::Published => self.gate(record, field, contribution, tell),
            Field::Embargo => self.gate(record, field, contribution, tell),
            Field::Expires => self.gate(record, field, contribution, tell),
            Field::Title => contribution.title = text(),
            Field::Description => contribution.description = text(),
            Field::Language => contribution.language = text(),
            Field::LanguageGroup => contribution.language_group = text(),
            Field::Id => contribution.id = text(),
            Field::Slug => contribution.slug = text(),
            Field::Kind => contribution.kind = text(),
            Field::Parent => contribution.parent = text(),
            Field::Section => {
                contribution.own_section = text();
                if let Some(name) = contribution.own_section.as_deref().filter(|_| self.settings.makes_sections) {
                    let made = made_name(name).filter(|made| made != name);
                    contribution.makes_section = true;
                    contribution.own_section = made.map(Cow::Owned).or(contribution.own_section.take());
                }
            }
            Field::Category => contribution.categories = self.words(record, field, tell),
            Field::Tags => contribution.tags = self.words(record, field, tell),
            Field::Author => contribution.authors = self.words(record, field, tell),
            Field::Images => contribution.images = self.images(record, tell),
            Field::Videos => {
                contribution.videos = self.videos(record, &Address::trusted(contribution.url.as_ref()), tell);
            }
            Field::Alternates => contribution.alternates = self.alternates(record, tell),
            Field::Draft => contribution.draft |= self.switch(record, field, contribution, tell) == Some(true),
            Field::Gone => contribution.gone = self.switch(record, field, contribution, tell) == Some(true),
            Field::Announce => contribution.announce = self.switch(record, field, contribution, tell),
            Field::Keep => contribution.keep = self.switch(record, field, contribution, tell),
            Field::Noindex => {
                if self.switch(record, field, contribution, tell) == Some(true) {
                    contribution.noindex = Some(Cow::Borrowed("noindex: yes"));
                }
            }
            Field::Robots => self.robots(record, contribution, tell),
            Field::Changefreq => {
                let expected = "one of always, hourly, daily, weekly, monthly, yearly, never";
                contribution.changefreq =
                    self.word(record, field, expected, |text| text.parse::<Changefreq>().ok(), tell);
            }
            Field::Priority => {
                let read = |text: &str| Priority::new(text.trim().parse().ok()?);
                contribution.priority = self.word(record, field, "a number from 0.0 to 1.0", read, tell);
            }
            Field::DatePolicy => {
                let expected = "one of usual, declared, seen, none";
                contribution.date_policy =
                    self.word(record, field, expected, |text| text.parse::<DatePolicy>().ok(), tell);
            }
        }
    }

    /// The items of a list of words. One item with commas may be meant as several.
    fn words<'r>(&'r self, record: &Record<'_, 'r>, field: Field, tell: &mut impl FnMut(Found)) -> Vec<Cow<'r, str>> {
        let items = self.list(record, field);
        if let [item] = &items[..]
            && item.contains(',')
            && self.settings.separator == SEPARATOR
        {
            tell(Found::Sum(SummedProblem::Commas(field), shortened(item)));
        }
        items
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
        tell: &mut impl FnMut(Found),
    ) -> Option<T> {
        let text = self.text(record, field)?;
        let value = read(&text);
        if value.is_none() {
            tell(Found::cell(format!("{} “{text}” is not {expected}; the entry is listed without it", field.name())));
        }
        value
    }

    /// Reads a yes or no that decides whether the entry is kept. If it cannot be read, the entry is left out.
    fn switch(
        &self,
        record: &Record<'_, '_>,
        field: Field,
        contribution: &mut Contribution<'_>,
        tell: &mut impl FnMut(Found),
    ) -> Option<bool> {
        let text = self.text(record, field)?;
        let value = read_yes_or_no(&text);
        if value.is_none() {
            self.shut(field, &text, "yes or no", contribution, tell);
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
        tell: &mut impl FnMut(Found),
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
                    told.into_iter().for_each(&mut *tell);
                } else {
                    self.shut(field, &text, &self.expected_date(), contribution, tell);
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
        tell: &mut impl FnMut(Found),
    ) {
        let shown = shortened(text);
        tell(Found::row(format!(
            "{} “{shown}” is not {expected}; it decides whether the entry is listed, so the entry is left out",
            field.name()
        )));
        contribution.unreadable.get_or_insert_with(|| Cow::Owned(format!("{} “{shown}”", field.name())));
    }

    /// Reads a robots directive, given as text or as a list of words.
    fn robots(&self, record: &Record<'_, '_>, contribution: &mut Contribution<'_>, tell: &mut impl FnMut(Found)) {
        let listed = match self.json(record, Field::Robots).as_deref() {
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
                None => self.shut(Field::Robots, after, &self.expected_date(), contribution, tell),
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

    pub(super) fn date(&self, record: &Record<'_, '_>, field: Field, tell: &mut impl FnMut(Found)) -> Option<Lastmod> {
        let text = self.text(record, field)?;
        let date = self.read_date(&text);
        if matches!(self.settings.dates, Dates::Plain) && Self::may_be_doubtful(&text) {
            let doubt = Lastmod::doubt(&text, &self.settings.timezone);
            match (date, doubt) {
                (Some(date), Some(why)) => {
                    tell(Found::cell(format!(
                        "{} “{text}” can be read in two ways ({why}); read as {date}",
                        field.name()
                    )));
                }
                (None, Some(why)) => tell(Found::cell(format!(
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
            tell(Found::cell(format!("{} “{text}” is not {expected}; the entry is listed without it", field.name())));
        }
        date
    }

    /// Whether a date may be ambiguous. The forms that millions of rows have cannot be, so they are not checked twice.
    fn may_be_doubtful(text: &str) -> bool {
        !text.ends_with('Z') && text.len() != 10 || text.as_bytes().get(2).is_some_and(|byte| !byte.is_ascii_digit())
    }
}
