//! Reading the pictures, videos and translations of a record.

use std::borrow::Cow;

use atlas_core::address::{Address, LONGEST};
use atlas_core::language::Alternate;
use atlas_core::video::Video;
use serde_json::{Map, Value};

use crate::reading::field::Field;
use crate::reading::template::{ColumnTemplate, fill};

use super::problem::{Found, SummedProblem};
use super::settings::SEPARATOR;
use super::values::{Record, RecordReader, scalar, shortened};

impl RecordReader<'_> {
    pub(super) fn images<'r>(&'r self, record: &Record<'_, 'r>, tell: &mut impl FnMut(Found)) -> Vec<Cow<'r, str>> {
        let mut images: Vec<Cow<'r, str>> = Vec::new();
        let items = self.list(record, Field::Images);
        if let [item] = &items[..]
            && self.settings.separator == SEPARATOR
            && item.split(',').skip(1).any(|part| part.trim_start().starts_with(['/', 'h']))
        {
            tell(Found::Sum(SummedProblem::Commas(Field::Images), shortened(item)));
        }
        for item in items {
            match self.settings.site.address(&item) {
                Ok(address) if address.as_str().len() > LONGEST => {
                    tell(Found::cell(
                        "images: a URL of 2,048 characters or more; the entry is listed without it".to_owned(),
                    ));
                }
                Ok(address) => {
                    images.push(Cow::Owned(self.settings.drop_parameters.clean(address.as_str()).into_owned()))
                }
                Err(why) => tell(Found::cell(format!("images: {why}; the entry is listed without it"))),
            }
        }
        images
    }

    pub(super) fn videos(&self, record: &Record<'_, '_>, page: &Address, tell: &mut impl FnMut(Found)) -> Vec<Video> {
        let read = match self.json(record, Field::Videos).map(Cow::into_owned) {
            Some(Value::String(text)) => serde_json::from_str(&text),
            Some(value @ Value::Object(_)) => serde_json::from_value(value).map(|video| vec![video]),
            Some(value) => serde_json::from_value(value),
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
                tell(Found::cell(format!(
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

    pub(super) fn fill<'r>(&'r self, record: &Record<'_, 'r>, template: &ColumnTemplate) -> Option<Cow<'r, str>> {
        let text = match template {
            ColumnTemplate::Column(name) => self.value(record, name)?,
            ColumnTemplate::Pieces(pieces) => {
                let date = |text: &str| self.read_date(text).map(|date| date.at(&self.settings.timezone));
                Cow::Owned(fill(pieces, |name| self.value(record, name), date)?)
            }
        };
        Some(text).filter(|text| !text.trim().is_empty())
    }

    pub(super) fn alternates(&self, record: &Record<'_, '_>, tell: &mut impl FnMut(Found)) -> Vec<Alternate<'static>> {
        let pairs: Vec<(String, String)> = match self.json(record, Field::Alternates).as_deref() {
            Some(Value::Object(by_language)) => {
                let texts = by_language
                    .iter()
                    .filter_map(|(language, url)| Some((language.clone(), scalar(url)?.into_owned())));
                texts.collect()
            }
            Some(Value::Array(items)) if items.iter().any(Value::is_object) => {
                let read = serde_json::from_value::<Vec<Alternate<'static>>>(Value::Array(items.clone()));
                let read = read.unwrap_or_else(|error| {
                    tell(Found::cell(format!("alternates: {error}; objects with “language” and “url” are expected")));
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
                        tell(Found::cell(format!(
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
                tell(Found::cell(format!("alternates: {why}; the entry is listed without it")));
                None
            }
        };
        pairs.into_iter().filter_map(complete).collect()
    }
}
