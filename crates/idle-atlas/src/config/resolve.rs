//! Resolving the configuration: it is checked, defaults are filled in, patterns are compiled, and `${NAME}` is
//! replaced.

#[cfg(feature = "test-engine")]
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
#[cfg(feature = "object-stores")]
use std::sync::Mutex;
use std::{fs, io};

use atlas_core::accepted::Accepted;
use atlas_core::address::Site;
use atlas_core::check;
use atlas_core::choose::Choices;
use atlas_core::derive::alternates::AlternatesSettings;
use atlas_core::judge::Thresholds;
use atlas_core::lastmod::Lastmod;
use atlas_core::output_policy::SectionPolicy;
use atlas_core::page::PageReader;
use atlas_core::placement::{CHILD_PREFIX, OwnFiles, STYLESHEET_NAME, TEXT, VISITOR_PAGE, plain_name};
use atlas_core::report::Notice;
use atlas_io::engines::EngineSettings;
use atlas_io::live::{Deployed, Reach};
#[cfg(feature = "object-stores")]
use atlas_io::object::{LedgerHome, Trip};
use atlas_store::arrange::Cut;
use atlas_store::build::{ARCHIVES, Job, KEEP_DAYS};
use atlas_store::destination::{Destination, Folder, Names, ServedFiles};
use atlas_store::extras::ExtrasSettings;
use atlas_store::report::Guard;
use atlas_store::source::Source;
use atlas_store::stop::Stop;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use super::context::{Context, IN_LEDGER, expand, ledger_folder, timezone};
use super::extends::shared_of;
use super::file::{ConfigFile, ConfigText};
use super::pages;
use super::programs::Programs;
use super::sources::{Sources, has_moved};
use super::stores::{BucketRoot, all_used, ledger_home, stores, web_bucket};
use super::tables::At;
use super::uptake::UptakeSettings;
use super::watch::WatchSettings;
use crate::exit::Failure;
use atlas_core::check::{Ownership, ThinWords};

/// The default name of the file of accepted remarks and findings.
const KNOWN_FINDINGS: &str = "known-findings.txt";

/// A site, and everything that is to be done with it.
pub struct Settings {
    /// The site.
    pub site: Site,
    /// The folder that is served, or the address of the bucket.
    pub web_root: PathBuf,
    /// The robots.txt of the site's host, whether or not lines are declared in it; `None` if its path is unknown.
    pub robots: Option<PathBuf>,
    /// The engines to tell.
    pub engines: Vec<EngineSettings>,
    /// The programs around a build.
    pub programs: Programs,
    /// What consoles ask for.
    pub ownership: Ownership,
    /// How it is watched.
    pub watching: WatchSettings,
    /// The configuration file.
    pub path: PathBuf,
    /// The folder of the ledger.
    pub ledger: PathBuf,
    /// Where the ledger is kept between runs, if it travels.
    #[cfg(feature = "object-stores")]
    pub ledger_home: Option<LedgerHome>,
    /// The ledger that is here for this command.
    #[cfg(feature = "object-stores")]
    pub trip: Mutex<Option<Trip>>,
    /// The file of accepted remarks and findings.
    pub known_findings: PathBuf,
    /// The contents of that file.
    pub accepted: Accepted,
    /// What counts as thin.
    pub thin_words: ThinWords,
    /// What tells about engines: crawlers, exports and access logs.
    pub uptake: UptakeSettings,
    timezone: TimeZone,
    pub sources: Vec<Box<dyn Source>>,
    pub choices: Choices,
    policy: Vec<SectionPolicy>,
    alternates: Option<AlternatesSettings>,
    pub extras: ExtrasSettings,
    usual_policy: SectionPolicy,
    cut: Cut,
    thresholds: Thresholds,
    /// Whether the site moves from the sitemap of another tool, so that its main file may be overwritten.
    pub has_moved: bool,
    keep_days: u32,
    /// The names of the site's files.
    pub names: Names,
    /// The folder for sitemap files.
    sitemaps: PathBuf,
    /// The folder for structured data.
    data: Option<PathBuf>,
    destination: Box<dyn Destination>,
    /// Whether the web root is not a folder of this machine.
    pub is_elsewhere: bool,
    /// Whether files are kept beside the ledger, from which they are served.
    pub is_served: bool,
    /// The Cache-Control of what is served.
    pub cache_control: Option<String>,
    reach: Reach,
    /// How pages are read.
    pub reader: PageReader,
    text: String,
    /// The path and text of the configuration that it extends.
    pub extends: Option<(PathBuf, String)>,
}

impl Settings {
    /// Resolves what was typed. Every error names the line.
    pub fn from_file(origin: &ConfigText, typed: ConfigFile) -> Result<Self, Failure> {
        let folder = origin.path.parent().unwrap_or(Path::new(""));
        let expanded = |text: &At<String>| expand(origin, text).map(|secret| secret.expose().to_owned());
        let url = expand(origin, &typed.site.url)?;
        let site = Site::parse(url.expose()).map_err(|why| {
            origin.error(&typed.site.url, url.hide(format!("“url”: {why}; expected the site's URL as visitors reach it, such as https://www.marrowvale.example/")))
        })?;
        let typed_root = expanded(&typed.site.web_root)?;
        let bucket = web_bucket(origin, &typed.site.web_root, &typed_root)?;
        // The path of what is in a bucket only serves to show it.
        let is_served = typed_root == IN_LEDGER;
        let web_root = match &bucket {
            Some(address) => PathBuf::from(address.to_string()),
            None if is_served => PathBuf::from(IN_LEDGER),
            None => folder.join(typed_root),
        };
        if bucket.is_none() && !is_served && !web_root.is_dir() {
            return Err(
                origin.error(&typed.site.web_root, format!("“web_root”: there is no folder {}", web_root.display()))
            );
        }
        let timezone = timezone(origin, typed.site.timezone.as_ref())?;
        let crawlers: Vec<String> = typed.robots.crawlers.iter().map(|token| token.to_lowercase()).collect();
        let stores = stores(origin, &typed.store)?;
        let context = Context {
            origin,
            folder,
            site: &site,
            web_root: &web_root,
            timezone: &timezone,
            crawlers: &crawlers,
            stores: &stores,
            bucket: bucket.as_ref(),
            is_served,
        };

        let sources = Sources::new(&context, &typed)?.all()?;
        if sources.is_empty() {
            return Err(Failure::said(format!(
                "{}: there is no source; add one, such as\n\n[[source]]\nfrom   = \"html\"\nfolder = \"public\"",
                origin.path.display()
            )));
        }
        let mut names: Vec<String> = sources.iter().map(|source| source.name()).collect();
        names.extend((!typed.archive.is_empty()).then(|| ARCHIVES.to_owned()));
        let sections = context.sections(&typed)?;
        let rules = context.rules(&typed, &sections, &names)?;
        let archives = context.archives(&typed, &sections)?;
        let (policy, usual_policy) = (context.shape(&typed, &sections)?, context.usual_shape(&typed)?);
        let alternates = context.alternates(&typed)?;
        let extras = context.extras(&typed, &sections)?;
        let thin_words = context.thin_words(&typed)?;
        let patience_days = typed.history.patience_days.as_ref();
        let uptake = context.uptake(&typed.crawler, &typed.uptake, &typed.access_log, patience_days)?;
        let cut = context.cut(&typed.files)?;
        let thresholds = context.thresholds(&typed.guards)?;
        let keep_days = context.number("keep_days", typed.history.keep_days.as_ref(), (7, 36_500), KEEP_DAYS)?;
        let declare_in = typed.robots.file.as_ref().map(|file| context.robots(file)).transpose()?;
        if let (Some(file), Some(path)) = (&typed.robots.file, &declare_in)
            && (*path == origin.path
                || path.starts_with(ledger_folder(&origin.path))
                || path.to_string_lossy().ends_with(".xml")
                || path.to_string_lossy().ends_with(".gz"))
        {
            let message = format!("“file”: {} is not a robots.txt; lines would be added to it", path.display());
            return Err(origin.error(file, message));
        }
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
        // If a site is in a subfolder of its host, its robots.txt is above it, unless the configuration names another.
        let own_robots = (!is_in_a_folder).then(|| web_root.join("robots.txt"));
        let robots = declare_in.clone().or(own_robots);
        let (names, sitemaps) = context.names(&typed.files, (declare_in.is_some(), typed.robots.create))?;
        let has_moved = typed.source.iter().any(|table| has_moved(table.as_ref()));
        let data = context.data_folder(&typed)?;
        let ledger = ledger_folder(&origin.path);
        let destination: Box<dyn Destination> = match &bucket {
            None if is_served => {
                let own = robots.clone().filter(|path| !path.starts_with(IN_LEDGER));
                let own = own.map(|path| Folder::new(PathBuf::new(), PathBuf::new(), None, Some(path)));
                let data = data.clone().map(|data| Folder::new(data.clone(), data.clone(), Some(data), None));
                Box::new(ServedFiles::new(ledger.clone(), own, data))
            }
            None => Box::new(Folder::new(sitemaps.clone(), web_root.clone(), data.clone(), robots.clone())),
            Some(address) => {
                let root = BucketRoot {
                    typed: &typed.site.web_root,
                    address: address.clone(),
                    main: &names.main,
                    files: &typed.files,
                    robots: robots.as_deref(),
                    data: data.clone(),
                };
                root.destination(origin, &stores)?
            }
        };
        let programs = context.programs(&typed)?;
        let ownership = context.ownership(&typed.ownership, &names.main)?;
        let watching = context.watching(&typed.watch)?;
        let reach = typed.site.reached_at.as_ref().map(|at| context.reach(at)).transpose()?;
        let reader = pages::reader(&context, &typed)?;
        #[cfg_attr(not(feature = "object-stores"), expect(unused_variables, reason = "this program reaches no store"))]
        let ledger_home = ledger_home(&context, &typed.ledger, &ledger)?;
        let engines = context.engines(&typed.engine, typed.newest.is_some())?;
        let ours = [VISITOR_PAGE, TEXT].map(|name| format!("{}{name}", site.root()));
        // What consoles ask for is no page.
        let owned = ownership.files.iter().map(|(name, _)| format!("{}{name}", site.root()));
        let choices = Choices {
            own_files: OwnFiles {
                folder: names.address.clone(),
                main: names.main.clone(),
                others: ours.into(),
                named: owned.collect(),
            },
            tokens: crawlers,
            rules,
            sections,
            archives,
            site: site.clone(),
        };
        all_used(origin, &typed, &stores)?;
        let known_findings = typed.check.known_findings.as_ref().map(expanded).transpose()?;
        let known_findings = folder.join(known_findings.unwrap_or_else(|| KNOWN_FINDINGS.to_owned()));
        let accepted = accepted(&known_findings)?;
        Ok(Self {
            site,
            web_root,
            robots,
            engines,
            programs,
            ownership,
            watching,
            data,
            path: origin.path.clone(),
            ledger,
            #[cfg(feature = "object-stores")]
            ledger_home,
            #[cfg(feature = "object-stores")]
            trip: Mutex::default(),
            known_findings,
            accepted,
            thin_words,
            uptake,
            timezone,
            sources,
            choices,
            policy,
            usual_policy,
            alternates,
            extras,
            cut,
            keep_days,
            has_moved,
            thresholds,
            names,
            sitemaps,
            destination,
            is_elsewhere: bucket.is_some() || is_served,
            is_served,
            cache_control: typed.files.cache_control.as_ref().map(|value| value.as_ref().clone()),
            reach: reach.unwrap_or_default(),
            reader,
            text: origin.text.clone(),
            extends: typed.extends.and_then(|_| shared_of(origin)),
        })
    }

    /// The job at an instant, with a token that asks it to stop.
    pub fn job<'a>(&'a self, now: Timestamp, stop: &Stop) -> Job<'a> {
        Job::new(&self.sources, &self.choices, (&*self.destination, &self.names), &self.ledger, now)
            .shape(self.policy.clone())
            .usual_shape(self.usual_policy.clone())
            .alternates(self.alternates.clone())
            .extras(self.extras.clone())
            .cut(self.cut.clone())
            .thresholds(self.thresholds.clone())
            .keep_days(self.keep_days)
            .delivers(!self.programs.when_built.is_empty())
            .timezone(self.timezone.clone())
            .telling(0, &self.accepted)
            .allow(self.has_moved.then_some(Guard::Overwrite))
            .written(&self.text)
            .stop(stop)
    }

    /// The configuration as written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The site's zone, for its days and for all times that are shown.
    pub fn timezone(&self) -> &TimeZone {
        &self.timezone
    }

    /// The instant of a date; of a day, its begin and its end in the site's zone.
    pub fn instants_of(&self, date: &Lastmod) -> Vec<Timestamp> {
        let midnight = |day: Date| Some(day.to_zoned(self.timezone.clone()).ok()?.timestamp());
        match date {
            Lastmod::Day(day) => [Some(*day), day.tomorrow().ok()].into_iter().flatten().filter_map(midnight).collect(),
            Lastmod::Instant { seconds, .. } => Timestamp::from_second(*seconds).into_iter().collect(),
        }
    }

    /// The destination and the names of files.
    pub fn destination(&self) -> (&dyn Destination, &Names) {
        (&*self.destination, &self.names)
    }

    /// The address at which the live site is reached, if that is on this machine.
    #[cfg(feature = "test-engine")]
    pub fn reached_on_loopback(&self) -> Option<SocketAddr> {
        self.reach.loopback(&self.site)
    }

    /// Where the live site is reached.
    pub fn reach(&self) -> Reach {
        self.reach.clone()
    }

    /// The live site at an instant, for comparing it with what was built.
    pub fn deployed(&self, now: Timestamp, stop: &Stop) -> Result<Deployed<'_>, Failure> {
        Deployed::new(&*self.destination, self.reach(), self.reader.clone(), (now.as_second(), stop))
            .map_err(|error| Failure::said(error.to_string()))
    }

    /// The address of the main file.
    pub fn main_address(&self) -> String {
        self.names.main_address()
    }

    /// The folder for sitemap files.
    pub fn folder(&self) -> &Path {
        &self.sitemaps
    }

    /// The address of that folder.
    pub fn folder_address(&self) -> &str {
        &self.names.address
    }

    /// The folder for sitemap files and its URL, if they are not the site's own.
    pub fn sitemaps_elsewhere(&self) -> Option<(PathBuf, Site)> {
        let site = Site::parse(&self.names.address).ok().filter(|_| !self.names.in_web_root)?;
        Some((self.sitemaps.clone(), site))
    }

    /// What its sources read, as far as that can be watched, and the names of those that have to be asked.
    pub fn reads(&self) -> (Vec<PathBuf>, Vec<String>) {
        let (mut paths, mut asked) = (Vec::new(), Vec::new());
        for source in &self.sources {
            match source.reads() {
                Some(read) => paths.extend(read),
                None => asked.push(source.name()),
            }
        }
        (paths, asked)
    }

    /// Whether a build writes the file at this path.
    pub fn writes(&self, path: &Path) -> bool {
        let below = |folder: &Path| {
            let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_owned());
            path.strip_prefix(folder).ok().map(Path::to_owned)
        };
        let is_ours = |name: &Path| {
            let name = name.to_string_lossy();
            let is_named = self.ownership.files.iter().any(|(owned, _)| *owned == name);
            let is_child = name.starts_with(CHILD_PREFIX) || [VISITOR_PAGE, TEXT, STYLESHEET_NAME].contains(&&*name);
            is_named || is_child || plain_name(&name) == self.names.main
        };
        let is_robots =
            self.robots.as_ref().is_some_and(|robots| robots.canonicalize().is_ok_and(|robots| robots == path));
        let folders = [&self.sitemaps, &self.web_root];
        is_robots
            || folders.into_iter().filter_map(|folder| below(folder)).any(|name| is_ours(&name))
            || self.data.as_deref().is_some_and(|data| below(data).is_some())
    }

    /// Whether another site would write into the same folder.
    pub fn writes_where(&self, other: &Self) -> bool {
        let whole = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
        // What is in a bucket has no other path.
        whole(&self.sitemaps) == whole(&other.sitemaps)
    }

    /// The file for one of several sites: `all.html` becomes `all-www.marrowvale.example.html`.
    pub fn file_of_site(&self, file: &Path) -> PathBuf {
        let root = self.site.root();
        let site = format!("{}{}", root.host(), root.path()).replace(['/', ':'], "-");
        let stem = file.file_stem().unwrap_or_default().to_string_lossy();
        let extension = file.extension().map_or(String::new(), |extension| format!(".{}", extension.to_string_lossy()));
        file.with_file_name(format!("{stem}-{}{extension}", site.trim_end_matches('-')))
    }

    /// The names of all sections, in order.
    pub fn section_names(&self) -> Vec<&str> {
        self.choices.sections.list().iter().map(|section| section.name.as_str()).collect()
    }

    /// The names of all sources, in order; that of the archives comes last.
    pub fn source_names(&self) -> Vec<String> {
        let archives = (!self.choices.archives.is_empty()).then(|| ARCHIVES.to_owned());
        self.sources.iter().map(|source| source.name()).chain(archives).collect()
    }
}

/// The codes of all remarks and findings that can be accepted.
pub fn codes() -> Vec<&'static str> {
    let mut codes: Vec<&str> =
        Notice::ALL.iter().map(|notice| notice.code()).chain(check::kinds().map(|kind| kind.code)).collect();
    codes.sort_unstable();
    codes.dedup();
    codes
}

/// The accepted remarks and findings. The file may be missing.
fn accepted(file: &Path) -> Result<Accepted, Failure> {
    let text = match fs::read_to_string(file) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Accepted::default()),
        Err(error) => return Err(Failure::said(format!("cannot read {}: {error}", file.display()))),
    };
    Accepted::parse(&text, &codes())
        .map_err(|bad| Failure::said(format!("{} line {}: {}", file.display(), bad.line, bad.message)))
}

#[cfg(test)]
mod documented;
