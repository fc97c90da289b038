//! The source `markdown`: a folder of articles with front matter in YAML (`---`) or TOML (`+++`).
//!
//! The front matter is a record like any other. The body is rendered and read as a page, so that pictures, videos and
//! links are found as on built pages. Drafts are left out for that reason.

use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;

use atlas_core::contribution::Contribution;
use atlas_core::fingerprint;
use atlas_core::page::{self, PageFacts, PageReader};
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};
use pulldown_cmark::{Options, Parser, html};
use serde_json::{Map, Value};

use crate::reading::field::{Field, commonly_named};
use crate::reading::record::{Header, Record, RecordProblem, RecordReader, RecordSettings};
use crate::sources::failed;
use crate::sources::folder::{FileReading, Files, SourceFolder, extension};
use crate::sources::html::{followed_links, maps};
use crate::sources::oembed::Asking;

/// A folder of articles.
#[derive(Debug, Clone)]
pub struct MarkdownSource {
    /// The folder.
    pub folder: SourceFolder,
    /// How front matter is read.
    pub records: RecordSettings,
    /// How bodies are read.
    pub reader: PageReader,
    /// Where to ask about videos.
    pub asking: Arc<Asking>,
}

impl Source for MarkdownSource {
    fn name(&self) -> String {
        format!("markdown {}", self.folder.shown)
    }

    fn settings(&self) -> u64 {
        let Self { folder, records, reader, asking } = self;
        fingerprint::settings(&format!(
            "{} {:?} {} {} {}",
            page::VERSION,
            folder.shown,
            records.written(),
            reader.written(),
            asking.written()
        ))
    }

    fn reads(&self) -> Option<Vec<PathBuf>> {
        Some(vec![self.folder.path.clone()])
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let mapped = Header::of_objects(&self.records.mapping).maps(&self.records);
        let how = |field| mapped.iter().find(|(known, _)| *known == field).map_or(0, |(_, how)| *how);
        let pages = maps(&self.reader, &self.asking, "");
        gathering.maps(pages.into_iter().map(|(field, page)| (field, how(field) ^ page)));
        let run = Self { asking: self.asking.begin(gathering.stop()), ..self.clone() };
        self.folder.gather(&run, gathering).map_err(|why| failed(self.name(), why))
    }
}

impl Files for MarkdownSource {
    fn is_ours(&self, path: &Path) -> bool {
        matches!(extension(path).as_str(), "md" | "markdown")
    }

    fn address_of(&self, _: &str) -> Option<String> {
        None
    }

    fn address_of_other(&self, _: &str) -> Option<String> {
        // Files beside an article may be served from anywhere.
        None
    }

    fn read(&self, relative: &str, bytes: &[u8]) -> Result<FileReading, String> {
        let text = std::str::from_utf8(bytes).map_err(|_| "not in UTF-8; it is not listed".to_owned())?;
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let (mut front, body) = front_matter(text)?;
        let mut troubles = Vec::new();
        let own_url = prepare(&mut front, relative, &self.records, &mut troubles);
        let mut header = Header::of_objects(&self.records.mapping);
        if own_url {
            header.forget_template(Field::Url);
        }
        let reader = RecordReader { settings: &self.records, header: &header };
        let record = Record::Object(&front);
        let mut contribution = Contribution::default();
        if !reader.read(&record, &mut contribution, &mut |found| troubles.extend(found.alone())) {
            let why = troubles.pop().map(|trouble: RecordProblem| trouble.message).unwrap_or_default();
            return Err(why.replace("the row", "the file"));
        }
        let mut rendered = String::from("<main>");
        html::push_html(&mut rendered, Parser::new_ext(body, Options::all()));
        let contribution = contribution.into_owned();
        let address = atlas_core::address::Address::trusted(contribution.url.clone());
        // An article may consist of front matter only. Then there is no page to read.
        let mut page = page::read(rendered.as_bytes(), &address, &self.reader).unwrap_or_default();
        page.title = contribution.title.as_deref().map(str::to_owned).or(page.title);
        page.description = contribution.description.as_deref().map(str::to_owned).or(page.description);
        troubles
            .extend(self.asking.complete(&mut page, &address, &self.records.site).into_iter().map(RecordProblem::cell));
        let links = followed_links(&page, &self.records.site);
        let mut merged = Contribution { no_head: false, ..contribution };
        // The title and the first heading come from the site's template.
        let first_level = page.facts.first_level.max(1);
        let facts = Some(PageFacts { titles: 1, first_level, ..page.facts }.bits());
        merged.merge(Contribution { no_head: false, language: None, facts, ..page.into_contribution(&address) });
        Ok(FileReading { contribution: merged, links, troubles })
    }
}

/// Separates an article from its front matter. Fails, in words, if the front matter is not valid.
fn front_matter(text: &str) -> Result<(Map<String, Value>, &str), String> {
    let (fence, rest) = match text.lines().next().map(str::trim_end) {
        Some(fence @ ("---" | "+++")) => (fence, &text[text.find('\n').map_or(text.len(), |at| at + 1)..]),
        _ => return Ok((Map::new(), text)),
    };
    let mut at = 0;
    for line in rest.split_inclusive('\n') {
        if line.trim_end() == fence {
            let (front, body) = (&rest[..at], &rest[at + line.len()..]);
            return Ok((read_front(fence, front)?, body));
        }
        at += line.len();
    }
    Err(format!("its front matter has no end: a line of “{fence}” is expected; it is not listed"))
}

fn read_front(fence: &str, front: &str) -> Result<Map<String, Value>, String> {
    let value = match fence {
        "+++" => toml::from_str::<toml::Table>(front)
            .map_err(|error| {
                broken("TOML", error.span().map(|span| front[..span.start].lines().count().max(1)), error.message())
            })
            .map(|table| without_dates(toml::Value::Table(table)))?,
        _ if front.trim().is_empty() => Value::Object(Map::new()),
        _ => serde_saphyr::from_str(front).map_err(|error| {
            let line = error.location().map(|at| at.line() as usize);
            broken("YAML", line, without_place(error.to_string().lines().next().unwrap_or("")))
        })?,
    };
    match value {
        Value::Object(front) => Ok(front),
        _ => Err("its front matter is not a list of keys and values; it is not listed".to_owned()),
    }
}

/// Lines are counted in the file, whose first line is the fence.
fn broken(kind: &str, line: Option<usize>, why: &str) -> String {
    let line = line.map_or(String::new(), |line| format!(" in line {}", line + 1));
    format!("its front matter is broken {kind}{line}: {}; it is not listed", why.trim())
}

/// A message without the position at its start, which is relative to the front matter: `error: line 3 column 4: `.
fn without_place(message: &str) -> &str {
    let message = message.strip_prefix("error: ").unwrap_or(message);
    match message.split_once(": ") {
        Some((place, rest)) if place.starts_with("line ") => rest,
        _ => message,
    }
}

/// Converts TOML dates, which JSON lacks, to text.
fn without_dates(value: toml::Value) -> Value {
    match value {
        toml::Value::String(text) => text.into(),
        toml::Value::Integer(number) => number.into(),
        toml::Value::Float(number) => number.into(),
        toml::Value::Boolean(flag) => flag.into(),
        toml::Value::Datetime(date) => date.to_string().into(),
        toml::Value::Array(items) => items.into_iter().map(without_dates).collect(),
        toml::Value::Table(table) => table.into_iter().map(|(name, value)| (name, without_dates(value))).collect(),
    }
}

/// Adds what follows from the file's path to its front matter: `folder`, `name` and, unless set, its slug, draft and
/// URL. Returns whether the article names its own URL, which takes precedence over a template in the configuration.
fn prepare(
    front: &mut Map<String, Value>,
    relative: &str,
    records: &RecordSettings,
    troubles: &mut Vec<RecordProblem>,
) -> bool {
    let (folder, file) = relative.rsplit_once('/').unwrap_or(("", relative));
    let name = file.rsplit_once('.').map_or(file, |(stem, _)| stem);
    let is_index = matches!(name, "index" | "_index" | "README");
    if let Some(published) = front.get("published").and_then(Value::as_bool) {
        front.remove("published");
        front.entry("draft").or_insert(Value::Bool(!published));
    }
    by_common_names(front, records, troubles);
    // The page's own instructions to this tool.
    match front.get("idle_atlas").cloned() {
        Some(Value::Object(own)) => {
            for name in own.keys().filter(|name| Field::named(name).is_none()) {
                troubles.push(RecordProblem::cell(format!("idle_atlas: there is no field “{name}”; it is not read")));
            }
            front.extend(own);
        }
        Some(_) => troubles.push(RecordProblem::cell(
            "idle_atlas: keys and values are expected, such as idle_atlas: { keep: no }; it is not read".to_owned(),
        )),
        None => {}
    }
    let slug = without_day(name).to_owned();
    front.entry("slug").or_insert(slug.into());
    front.insert("folder".to_owned(), folder.into());
    front.insert("name".to_owned(), name.into());
    let own_url = own_url(front, troubles);
    if !own_url && !records.mapping.fields.contains_key(&Field::Url) {
        let slug = front.get("slug").and_then(Value::as_str).unwrap_or(name);
        let parts = [folder, if is_index { "" } else { slug }];
        let parts: Vec<&str> = parts.into_iter().filter(|part| !part.is_empty()).collect();
        let path = parts.iter().map(|part| format!("{}/", atlas_core::address::encode_path(part))).collect::<String>();
        front.insert("url".to_owned(), format!("{}{path}", records.site.root()).into());
    }
    own_url
}

/// Stores a value with a common name of a field under the field's own name, unless that is set. A value that decides
/// whether a page is kept is never ignored: if there are several, each counts.
fn by_common_names(front: &mut Map<String, Value>, records: &RecordSettings, troubles: &mut Vec<RecordProblem>) {
    let named: Vec<(String, Field)> =
        front.keys().filter_map(|key| Some((key.clone(), commonly_named(key)?))).collect();
    for (key, field) in named {
        let Some(value) = front.get(&key).cloned() else { continue };
        if records.mapping.names(&key) {
            continue;
        }
        // An article's own URL takes precedence over the template for all.
        let mapped = field != Field::Url && records.mapping.fields.contains_key(&field);
        let taken = front.contains_key(field.name()) || mapped;
        match (field, &value) {
            (Field::Keep, Value::Object(settings)) => {
                let off = ["disable", "disabled", "exclude", "ignore"].iter().find_map(|name| settings.get(*name));
                match off {
                    Some(off) if !taken => {
                        let off = off.as_bool().unwrap_or(true);
                        front.insert(field.name().to_owned(), Value::Bool(!off));
                    }
                    _ => troubles.push(unread(&key, field)),
                }
            }
            (_, value) if !taken => _ = front.insert(field.name().to_owned(), value.clone()),
            (Field::Keep, value) if value.as_bool() == Some(false) => {
                front.insert(field.name().to_owned(), Value::Bool(false));
            }
            _ => troubles.push(unread(&key, field)),
        }
    }
}

fn unread(key: &str, field: Field) -> RecordProblem {
    let name = field.name();
    RecordProblem::cell(format!("“{key}” is not read, because “{name}” is already set; keep one of the two"))
}

/// Whether front matter names the article's URL. A pattern for a site generator does not, and is reported.
fn own_url(front: &mut Map<String, Value>, troubles: &mut Vec<RecordProblem>) -> bool {
    let Some(url) = front.get("url").and_then(Value::as_str) else { return false };
    if !url.split('/').any(|part| part.starts_with(':')) {
        return true;
    }
    troubles.push(RecordProblem::cell(format!(
        "url “{url}” is a pattern for a site generator; it is not read. Set the URLs of articles: fields = {{ url = \"/journal/{{slug}}/\" }}"
    )));
    front.remove("url");
    false
}

/// `2026-11-23-frost` becomes `frost`: the day is in the name only for sorting.
fn without_day(name: &str) -> &str {
    let bytes = name.as_bytes();
    let is_day = bytes.len() > 11
        && bytes[..11].iter().enumerate().all(|(at, byte)| match at {
            4 | 7 | 10 => *byte == b'-',
            _ => byte.is_ascii_digit(),
        });
    if is_day { &name[11..] } else { name }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("---\ntitle: Frost\ntags: [a, b]\n---\nBody", Ok(("Frost", "Body")))]
    #[case("+++\ntitle = \"Frost\"\ndate = 2026-11-23\n+++\nBody", Ok(("Frost", "Body")))]
    #[case("---\r\ntitle: Frost\r\n---\r\nBody", Ok(("Frost", "Body")))]
    #[case("Body", Ok(("", "Body")))]
    #[case("---\n---\nBody", Ok(("", "Body")))]
    #[case("---\ntitle: Frost\nBody", Err("has no end"))]
    #[case("---\ntitle: [a\n---\n", Err("broken YAML"))]
    #[case("+++\ntitle = \n+++\n", Err("broken TOML"))]
    #[case("---\n- a\n---\n", Err("not a list of keys"))]
    fn front_matter_is_split_from_the_text(#[case] text: &str, #[case] wanted: Result<(&str, &str), &str>) {
        match (front_matter(text), wanted) {
            (Ok((front, body)), Ok((title, wanted))) => {
                assert_eq!((front.get("title").and_then(Value::as_str).unwrap_or(""), body), (title, wanted));
            }
            (Err(why), Err(wanted)) => assert!(why.contains(wanted), "{why}"),
            (found, wanted) => panic!("{found:?} instead of {wanted:?}"),
        }
    }

    #[rstest]
    #[case("2026-11-23-frost", "frost")]
    #[case("2026-11-23", "2026-11-23")]
    #[case("frost", "frost")]
    fn dates_are_not_part_of_the_slug(#[case] name: &str, #[case] wanted: &str) {
        assert_eq!(without_day(name), wanted);
    }
}
