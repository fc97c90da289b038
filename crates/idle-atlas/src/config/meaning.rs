//! What the configuration means: checked, defaults filled in, globs compiled, `${NAME}` replaced.

use std::collections::{BTreeSet, HashSet};
use std::path::{Path, PathBuf};
use std::time::Duration;
use std::{fs, io};

use atlas_core::accepted::Accepted;
use atlas_core::address::Site;
use atlas_core::announce::indexnow::Key;
use atlas_core::calendar::Calendar;
use atlas_core::choose::Chooser;
use atlas_core::derive::alternates;
use atlas_core::placement::{OwnFiles, TEXT, VISITOR_PAGE};
use atlas_core::report::Notice;
use atlas_core::robots::Robots;
use atlas_core::shape::Shape;
use atlas_core::{check, fingerprint};
use atlas_store::arrange::Cut;
use atlas_store::build::{ARCHIVES, Job, Telling, Thresholds, ledger_folder};
use atlas_store::disk::spill::BUDGET;
use atlas_store::people::People;
use atlas_store::publish::Place;
use atlas_store::report::Guard;
use atlas_store::source::Source;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use toml::Spanned;

use super::file::{ConfigFile, EngineTable, GuardsTable, Origin};
use super::sources::Sources;
use crate::exit::Failure;
use crate::interrupt;

/// The file of accepted remarks and findings, where the configuration names no other.
const KNOWN_FINDINGS: &str = "known-findings.txt";

/// A site and everything that is to be done with it.
pub struct Settings {
    /// The site.
    pub site: Site,
    /// The folder that is served.
    pub web_root: PathBuf,
    /// The robots.txt of the site's host, whether lines are declared in it or not; none where nobody says where it is.
    pub robots: Option<PathBuf>,
    /// The engines to tell.
    pub engines: Vec<EngineSettings>,
    /// The configuration file.
    pub path: PathBuf,
    /// Where the ledger lives.
    pub ledger: PathBuf,
    /// The file of remarks and findings that are accepted.
    pub known_findings: PathBuf,
    /// What is in it.
    pub accepted: Accepted,
    configuration: u64,
    timezone: TimeZone,
    sources: Vec<Box<dyn Source>>,
    chooser: Chooser,
    shape: Shape,
    alternates: Option<alternates::Settings>,
    people: People,
    cut: Cut,
    thresholds: Thresholds,
    place: Place,
    written_by: String,
    choices: Option<u64>,
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
                "{}: there is no source; add one, such as\n\n[[source]]\nfrom   = \"html\"\nfolder = \"public\"",
                origin.path.display()
            )));
        }
        let mut names: Vec<String> = sources.iter().map(|source| source.name()).collect();
        names.extend((!typed.archive.is_empty()).then(|| ARCHIVES.to_owned()));
        let calendar = Calendar { now: now().as_second(), zone: timezone.clone() };
        let sections = context.sections(&typed)?;
        let rules = context.rules(&typed, &sections, &names)?;
        let archives = context.archives(&typed, &sections)?;
        let shape = context.shape(&typed, &sections, calendar.clone())?;
        let alternates = context.alternates(&typed)?;
        let people = context.people(&typed, &sections)?;
        let cut = context.cut(&typed.files)?;
        let thresholds = context.thresholds(&typed.guards)?;
        let declare_in = typed.robots.file.as_ref().map(expanded).transpose()?.map(|file| folder.join(file));
        let is_in_a_folder = site.root().path() != "/";
        if let (Some(file), Some(path)) = (&typed.robots.file, &declare_in)
            && is_in_a_folder
            && path.parent() == Some(web_root.as_path())
        {
            let message = format!(
                "“file”: engines read {} alone, and {} is served elsewhere; name the file of the host, or leave [robots] file out",
                site.of_host("/robots.txt"),
                path.display()
            );
            return Err(origin.error(file, message));
        }
        // That of a site in a folder of its host lies above it, unless the configuration says where.
        let own_robots = (!is_in_a_folder).then(|| web_root.join("robots.txt"));
        let robots = declare_in.clone().or(own_robots);
        let place = context.place(&typed.files, context.data_folder(&typed)?, (declare_in, typed.robots.create))?;
        let engines = typed.engine.iter().map(|engine| context.engine(engine)).collect::<Result<Vec<_>, _>>()?;
        let ours = [VISITOR_PAGE, TEXT].map(|name| format!("{}{name}", site.root()));
        let chooser = Chooser {
            own_files: OwnFiles {
                folder: place.address.clone(),
                main: place.main.clone(),
                others: BTreeSet::from(ours),
            },
            robots: Robots::read(&robots.as_ref().and_then(|robots| fs::read(robots).ok()).unwrap_or_default()),
            tokens: crawlers,
            rules,
            sections,
            archives,
            calendar,
            site: site.clone(),
        };
        let written_by = format!("{} {:?} {:?}", env!("CARGO_PKG_VERSION"), shape.sections, place.style);
        let choices = fingerprint::choices(&chooser, &format!("{} {}", env!("CARGO_PKG_VERSION"), origin.text));
        let ledger = ledger_folder(&origin.path);
        let known_findings = typed.check.known_findings.as_ref().map(expanded).transpose()?;
        let known_findings = folder.join(known_findings.unwrap_or_else(|| KNOWN_FINDINGS.to_owned()));
        let accepted = accepted(&known_findings)?;
        let configuration = fingerprint::settings(&format!("{} {}", env!("CARGO_PKG_VERSION"), origin.text));
        Ok(Self {
            site,
            web_root,
            robots,
            engines,
            path: origin.path.clone(),
            ledger,
            known_findings,
            accepted,
            configuration,
            timezone,
            sources,
            chooser,
            shape,
            alternates,
            people,
            cut,
            thresholds,
            place,
            written_by,
            choices,
        })
    }

    /// The job as of now; `SOURCE_DATE_EPOCH` stands in for the clock where it is set.
    pub fn job<'a>(
        &'a self,
        fresh: bool,
        allow: &[Guard],
        examples: usize,
        progress: &'a (dyn Fn(u64) + Sync),
    ) -> Job<'a> {
        Job {
            telling: Telling { examples, accepted: &self.accepted },
            configuration: self.configuration,
            sources: &self.sources,
            chooser: self.chooser.clone(),
            shape: self.shape.clone(),
            alternates: self.alternates.clone(),
            people: self.people.clone(),
            cut: self.cut.clone(),
            thresholds: self.thresholds.clone(),
            place: self.place.clone(),
            settings: self.written_by.clone(),
            choices: self.choices,
            memory: BUDGET,
            now: now(),
            timezone: self.timezone.clone(),
            fresh,
            allow: allow.iter().copied().collect::<HashSet<_>>(),
            begins_to_write: &interrupt::begins_to_write,
            progress,
        }
    }

    /// The site's zone: that of its days, and of all times that people are shown.
    pub fn timezone(&self) -> &TimeZone {
        &self.timezone
    }

    /// Where files go.
    pub fn place(&self) -> &Place {
        &self.place
    }

    /// The address of the main file.
    pub fn main_address(&self) -> String {
        self.place.main_address()
    }

    /// The folder that sitemap files are written into.
    pub fn folder(&self) -> &Path {
        &self.place.folder
    }

    /// The address of that folder.
    pub fn folder_address(&self) -> &str {
        &self.place.address
    }

    /// The folder that sitemap files are written into and the URL it is served under, where that is not the site's own.
    pub fn sitemaps_elsewhere(&self) -> Option<(PathBuf, Site)> {
        let site = Site::parse(&self.place.address).ok().filter(|_| self.place.folder != self.place.web_root)?;
        Some((self.place.folder.clone(), site))
    }

    /// Whether another site's files would be written into the same folder.
    pub fn writes_where(&self, other: &Self) -> bool {
        let whole = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
        whole(&self.place.folder) == whole(&other.place.folder)
    }

    /// The names of all sections, in their order.
    pub fn section_names(&self) -> Vec<&str> {
        self.chooser.sections.list().iter().map(|section| section.name.as_str()).collect()
    }

    /// The names of all sources, in their order; that of the archives last.
    pub fn source_names(&self) -> Vec<String> {
        let archives = (!self.chooser.archives.is_empty()).then(|| ARCHIVES.to_owned());
        self.sources.iter().map(|source| source.name()).chain(archives).collect()
    }

    /// The name of a section.
    pub fn section_name(&self, at: usize) -> &str {
        &self.chooser.sections.list()[at].name
    }
}

/// The codes of all remarks and findings that can be accepted.
pub fn codes() -> Vec<&'static str> {
    let mut codes: Vec<&str> =
        Notice::ALL.iter().map(|notice| notice.code()).chain(check::CODES.iter().copied()).collect();
    codes.sort_unstable();
    codes.dedup();
    codes
}

/// What is accepted, by the file for that; it need not be there.
fn accepted(file: &Path) -> Result<Accepted, Failure> {
    let text = match fs::read_to_string(file) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Accepted::default()),
        Err(error) => return Err(Failure::said(format!("cannot read {}: {error}", file.display()))),
    };
    Accepted::parse(&text, &codes())
        .map_err(|bad| Failure::said(format!("{} line {}: {}", file.display(), bad.line, bad.message)))
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
    /// When guards hold a build back.
    fn thresholds(&self, table: &GuardsTable) -> Result<Thresholds, Failure> {
        let usual = Thresholds::default();
        let share = |key: &str, typed: &Option<Spanned<String>>, usual: u64| {
            let Some(typed) = typed else { return Ok(usual) };
            let share = typed.as_ref().strip_suffix('%').and_then(|digits| digits.trim().parse::<u64>().ok());
            share.filter(|share| *share <= 100).ok_or_else(|| {
                self.origin
                    .error(typed, format!("“{key}”: expected a share from \"0%\" to \"100%\", such as \"{usual}%\""))
            })
        };
        let few = table.few.as_ref().map(|typed| {
            let message = "“few”: expected a whole number of entries, 0 or more";
            u64::try_from(*typed.as_ref()).map_err(|_| self.origin.error(typed, message))
        });
        Ok(Thresholds {
            most_lost: share("most_lost", &table.most_lost, usual.most_lost)?,
            most_left_out: share("most_left_out", &table.most_left_out, usual.most_left_out)?,
            left_out_may_grow: share("left_out_may_grow", &table.left_out_may_grow, usual.left_out_may_grow)?,
            few: few.transpose()?.unwrap_or(usual.few),
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
