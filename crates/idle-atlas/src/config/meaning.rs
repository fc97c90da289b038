//! What the configuration means: checked, defaults filled in, globs compiled, `${NAME}` replaced.

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use atlas_core::address::Site;
use atlas_core::choose::{Chooser, OwnFiles, Rule};
use atlas_core::entry::{Changefreq, Priority};
use atlas_core::indexnow::Key;
use atlas_core::page::MOST_IMAGES;
use atlas_core::placement::{MOST_BYTES, MOST_URLS, UrlsPerFile};
use atlas_core::robots::Robots;
use atlas_core::section::{self, Section, Sections};
use atlas_core::shape::{SectionShape, Shape};
use atlas_store::arrange::Cut;
use atlas_store::build::{Job, ledger_folder};
use atlas_store::publish::{Gzip, Place};
use atlas_store::source::Source;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use toml::Spanned;

use super::file::{self, ConfigFile, EngineTable, FilesTable, Origin};
use super::sources::Sources;
use crate::exit::Failure;

/// The least that a file may hold, so that a frame and a long URL fit.
const LEAST_BYTES: i64 = 10_000;

/// A site and everything that is to be done with it.
pub struct Settings {
    /// The site.
    pub site: Site,
    /// The folder that is served.
    pub web_root: PathBuf,
    /// The robots.txt of the site, whether lines are declared in it or not.
    pub robots: PathBuf,
    /// The engines to tell.
    pub engines: Vec<EngineSettings>,
    /// Where the ledger lives.
    pub ledger: PathBuf,
    timezone: TimeZone,
    sources: Vec<Box<dyn Source>>,
    chooser: Chooser,
    shape: Shape,
    cut: Cut,
    place: Place,
    written_by: String,
}

/// An engine as configured; its key may be the ledger's.
#[derive(Debug, Clone)]
pub struct EngineSettings {
    pub name: String,
    pub endpoint: String,
    pub key: Option<Key>,
    pub wait: Duration,
}

impl Settings {
    /// Makes sense of what was typed; every error names the line.
    pub fn from_file(origin: &Origin, typed: ConfigFile) -> Result<Self, Failure> {
        let folder = origin.path.parent().unwrap_or(Path::new(""));
        let expanded = |text: &Spanned<String>| expand(origin, text);
        let url = expanded(&typed.site.url)?;
        let site = Site::parse(&url).map_err(|why| {
            origin.error(&typed.site.url, format!("“url”: {why}; expected the site's URL as visitors end up on it, such as https://www.marrowvale.example/"))
        })?;
        let web_root = folder.join(expanded(&typed.site.web_root)?);
        if !web_root.is_dir() {
            return Err(
                origin.error(&typed.site.web_root, format!("“web_root”: there is no folder {}", web_root.display()))
            );
        }
        let timezone = timezone(origin, typed.site.timezone.as_ref())?;
        let crawlers: Vec<String> = typed.robots.crawlers.iter().map(|token| token.to_lowercase()).collect();
        let context =
            Context { origin, folder, site: &site, web_root: &web_root, timezone: &timezone, crawlers: &crawlers };

        let sources = Sources::new(&context, &typed)?.all()?;
        if sources.is_empty() {
            return Err(Failure::said(format!(
                "{}: there is no source; add one, such as: [[source]] from = \"html\" folder = \"public\"",
                origin.path.display()
            )));
        }
        let named = typed.source.iter().filter_map(|table| table.as_ref().section.as_ref());
        let named: Vec<String> = named.map(|name| name.as_ref().clone()).collect();
        let sections = Sections::new(context.sections(&typed)?, named);
        let rules = context.rules(&typed)?;
        let shape = context.shape(&typed, &sections)?;
        let cut = context.cut(&typed.files)?;
        let declare_in = typed.robots.file.as_ref().map(expanded).transpose()?.map(|file| folder.join(file));
        let robots = declare_in.clone().unwrap_or_else(|| web_root.join("robots.txt"));
        let place = context.place(&typed.files, declare_in)?;
        let engines = typed.engine.iter().map(|engine| context.engine(engine)).collect::<Result<Vec<_>, _>>()?;
        let chooser = Chooser {
            own_files: OwnFiles { folder: place.address.clone(), main: place.main.clone() },
            robots: Robots::read(&fs::read(&robots).unwrap_or_default()),
            tokens: crawlers,
            rules,
            sections,
            now: now().as_second(),
            site: site.clone(),
        };
        let hints = chooser.rules.iter().map(|rule| (&rule.written, rule.changefreq, rule.priority));
        let written_by = format!("{} {shape:?} {:?}", env!("CARGO_PKG_VERSION"), hints.collect::<Vec<_>>());
        let ledger = ledger_folder(folder);
        Ok(Self { site, web_root, robots, engines, ledger, timezone, sources, chooser, shape, cut, place, written_by })
    }

    /// The job as of now; `SOURCE_DATE_EPOCH` stands in for the clock where it is set.
    pub fn job<'a>(&'a self, fresh: bool, allow: &[&str], progress: &'a (dyn Fn(u64) + Sync)) -> Job<'a> {
        Job {
            sources: &self.sources,
            chooser: self.chooser.clone(),
            shape: self.shape.clone(),
            cut: self.cut.clone(),
            place: self.place.clone(),
            settings: self.written_by.clone(),
            now: now(),
            timezone: self.timezone.clone(),
            fresh,
            allow: allow.iter().map(|guard| (*guard).to_owned()).collect::<HashSet<_>>(),
            progress,
        }
    }

    /// The address of the main file.
    pub fn main_address(&self) -> String {
        self.place.main_address()
    }

    /// The names of all sections, in their order.
    pub fn section_names(&self) -> Vec<&str> {
        self.chooser.sections.list().iter().map(|section| section.name.as_str()).collect()
    }

    /// The names of all sources, in their order.
    pub fn source_names(&self) -> Vec<String> {
        self.sources.iter().map(|source| source.name()).collect()
    }

    /// The name of a section.
    pub fn section_name(&self, at: usize) -> &str {
        &self.chooser.sections.list()[at].name
    }
}

/// The instant of the run.
pub fn now() -> Timestamp {
    let fixed = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|text| text.trim().parse().ok());
    fixed.and_then(|seconds| Timestamp::from_second(seconds).ok()).unwrap_or_else(Timestamp::now)
}

/// Replaces `${NAME}` by what the environment says.
pub(super) fn expand(origin: &Origin, text: &Spanned<String>) -> Result<String, Failure> {
    let mut out = String::new();
    let mut rest = text.as_ref().as_str();
    while let Some((before, after)) = rest.split_once("${") {
        let (name, tail) = after.split_once('}').ok_or_else(|| origin.error(text, "“${” without its “}”"))?;
        let value = std::env::var(name).map_err(|_| {
            origin.error(text, format!("the environment has no {name}; set it, or write the value here"))
        })?;
        out.push_str(before);
        out.push_str(&value);
        rest = tail;
    }
    Ok(out + rest)
}

fn timezone(origin: &Origin, name: Option<&Spanned<String>>) -> Result<TimeZone, Failure> {
    let Some(name) = name else { return Ok(TimeZone::UTC) };
    TimeZone::get(name.as_ref()).map_err(|_| {
        origin.error(name, format!("“timezone”: “{}” is unknown; expected a name such as Europe/London", name.as_ref()))
    })
}

/// What the tables are read in.
pub(super) struct Context<'a> {
    pub(super) origin: &'a Origin,
    pub(super) folder: &'a Path,
    pub(super) site: &'a Site,
    pub(super) web_root: &'a Path,
    pub(super) timezone: &'a TimeZone,
    pub(super) crawlers: &'a [String],
}

impl Context<'_> {
    fn globs(&self, patterns: &[Spanned<String>]) -> Result<GlobSet, Failure> {
        let mut builder = GlobSetBuilder::new();
        for pattern in patterns {
            let text = pattern.as_ref();
            if !text.starts_with('/') && !text.starts_with('*') {
                return Err(self.origin.error(
                    pattern,
                    format!("“matching”: “{text}” must begin with “/”, as paths do: such as /staff/**"),
                ));
            }
            let glob = GlobBuilder::new(text).literal_separator(true).build();
            builder.add(glob.map_err(|why| self.origin.error(pattern, format!("“matching”: {}", why.kind())))?);
        }
        builder.build().map_err(|why| Failure::said(why.to_string()))
    }

    fn sections(&self, typed: &ConfigFile) -> Result<Vec<Section>, Failure> {
        let mut sections: Vec<Section> = Vec::new();
        for table in &typed.section {
            let name = table.name.as_ref();
            section::check_name(name).map_err(|why| self.origin.error(&table.name, format!("“name”: {why}")))?;
            if sections.iter().any(|known| known.name == *name) {
                return Err(self
                    .origin
                    .error(&table.name, format!("there are two sections “{name}”; give one another name")));
            }
            let urls_per_file = table.urls_per_file.as_ref().map(|number| self.urls_per_file(number, *number.as_ref()));
            sections.push(Section {
                name: name.clone(),
                matching: (!table.matching.is_empty()).then(|| self.globs(&table.matching)).transpose()?,
                urls_per_file: urls_per_file.transpose()?,
            });
        }
        Ok(sections)
    }

    fn urls_per_file<T>(&self, at: &Spanned<T>, number: i64) -> Result<u32, Failure> {
        let number = u32::try_from(number).ok().filter(|number| (1..=MOST_URLS).contains(number));
        number.ok_or_else(|| self.origin.error(at, "“urls_per_file”: expected a number from 1 to 50,000"))
    }

    fn rules(&self, typed: &ConfigFile) -> Result<Vec<Rule>, Failure> {
        let rule = |table: &file::RuleTable| {
            let changefreq = table.changefreq.as_ref().map(|word| {
                let known = || {
                    self.origin
                        .error(word, "“changefreq”: expected always, hourly, daily, weekly, monthly, yearly or never")
                };
                word.as_ref().parse::<Changefreq>().map_err(|()| known())
            });
            let priority = table.priority.as_ref().map(|number| {
                let bounds = || self.origin.error(number, "“priority”: expected a number from 0.0 to 1.0");
                Priority::new(*number.as_ref()).ok_or_else(bounds)
            });
            Ok(Rule {
                matching: self.globs(&table.matching)?,
                written: table.matching.iter().map(|pattern| pattern.as_ref().as_str()).collect::<Vec<_>>().join(", "),
                keep: table.keep,
                changefreq: changefreq.transpose()?,
                priority: priority.transpose()?,
            })
        };
        typed.rule.iter().map(rule).collect()
    }

    fn shape(&self, typed: &ConfigFile, sections: &Sections) -> Result<Shape, Failure> {
        let most = match &typed.images.most_per_page {
            None => MOST_IMAGES,
            Some(number) => usize::try_from(*number.as_ref())
                .ok()
                .filter(|most| *most <= MOST_IMAGES)
                .ok_or_else(|| self.origin.error(number, "“most_per_page”: expected a number from 0 to 1,000"))?,
        };
        let (images, videos) = (self.writes(typed.images.write.as_ref())?, self.writes(typed.videos.write.as_ref())?);
        let of = |section: &Section| {
            let table = typed.section.iter().find(|table| *table.name.as_ref() == section.name);
            let own = |of: fn(&file::SectionTable) -> Option<bool>, all: bool| table.and_then(of).unwrap_or(all);
            SectionShape {
                most_images: if own(|table| table.images, images) { most } else { 0 },
                videos: own(|table| table.videos, videos),
            }
        };
        Ok(Shape { sections: sections.list().iter().map(of).collect() })
    }

    fn writes(&self, word: Option<&Spanned<String>>) -> Result<bool, Failure> {
        match word.map(|word| (word, word.as_ref().as_str())) {
            None | Some((_, "with-pages")) => Ok(true),
            Some((_, "off")) => Ok(false),
            Some((word, other)) => {
                Err(self.origin.error(word, format!("“write”: “{other}” is unknown; expected with-pages or off")))
            }
        }
    }

    fn cut(&self, files: &FilesTable) -> Result<Cut, Failure> {
        let urls_per_file = match files.urls_per_file.as_ref().map(|value| (value, value.as_ref())) {
            None => UrlsPerFile::Auto,
            Some((_, file::UrlsPerFile::Word(word))) if word == "auto" => UrlsPerFile::Auto,
            Some((at, file::UrlsPerFile::Number(number))) => UrlsPerFile::Fixed(self.urls_per_file(at, *number)?),
            Some((at, file::UrlsPerFile::Word(_))) => {
                return Err(self.origin.error(at, "“urls_per_file”: expected \"auto\" or a number from 1 to 50,000"));
            }
        };
        let bytes_per_file = match &files.bytes_per_file {
            None => 10_485_760,
            Some(number) if (LEAST_BYTES..=MOST_BYTES as i64).contains(number.as_ref()) => *number.as_ref() as u64,
            Some(number) => {
                return Err(self
                    .origin
                    .error(number, format!("“bytes_per_file”: expected a number from {LEAST_BYTES} to {MOST_BYTES}")));
            }
        };
        Ok(Cut { urls_per_file, bytes_per_file })
    }

    fn place(&self, files: &FilesTable, robots: Option<PathBuf>) -> Result<Place, Failure> {
        let gzip = match files.gzip.as_ref().map(|word| (word, word.as_ref().as_str())) {
            None | Some((_, "beside")) => Gzip::Beside,
            Some((_, "only")) => Gzip::Only,
            Some((_, "off")) => Gzip::Off,
            Some((word, other)) => {
                return Err(self
                    .origin
                    .error(word, format!("“gzip”: “{other}” is unknown; expected beside, only or off")));
            }
        };
        let main = files.main.as_ref().map_or("sitemap.xml", |name| name.as_ref());
        if let Some(name) = &files.main
            && (!main.ends_with(".xml")
                || main.contains(['/', '\\'])
                || main.starts_with('.')
                || main.starts_with("atlas-"))
        {
            return Err(self.origin.error(name, "“main”: expected a file name that ends in .xml and does not begin with “atlas-”, in the web root itself"));
        }
        Ok(Place {
            web_root: self.web_root.to_owned(),
            address: self.site.root().as_str().to_owned(),
            main: main.to_owned(),
            gzip,
            robots,
        })
    }

    fn engine(&self, table: &EngineTable) -> Result<EngineSettings, Failure> {
        if table.via.as_ref() != "indexnow" {
            return Err(self
                .origin
                .error(&table.via, format!("“via”: “{}” is unknown; expected indexnow", table.via.as_ref())));
        }
        let endpoint = expand(self.origin, &table.endpoint)?;
        atlas_core::address::Address::parse(&endpoint)
            .map_err(|why| self.origin.error(&table.endpoint, format!("“endpoint”: {why}")))?;
        let key = table.key.as_ref().map(|key| {
            let text = expand(self.origin, key)?;
            Key::parse(&text).map_err(|why| self.origin.error(key, format!("“key”: {why}")))
        });
        let wait = match &table.wait_seconds {
            None => 20,
            Some(seconds) => u64::try_from(*seconds.as_ref())
                .ok()
                .filter(|seconds| (1..=300).contains(seconds))
                .ok_or_else(|| self.origin.error(seconds, "“wait_seconds”: expected a number from 1 to 300"))?,
        };
        Ok(EngineSettings {
            name: table.name.clone(),
            endpoint,
            key: key.transpose()?,
            wait: Duration::from_secs(wait),
        })
    }
}
