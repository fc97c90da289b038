//! What is checked: a web root, a single file, a live site or a live file.

use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::accepted::Accepted;
use atlas_core::address::{Address, Site};
use atlas_core::check::{FetchResult, Inspection, PageSample, USUAL_PLACES, is_sitemap};
use atlas_io::check::{LiveSitemaps, SingleFile, SiteServer, Start, WebRoot, inspect, site_of, start_of, visit_pages};
use atlas_io::live::Reach;
use atlas_store::destination::MAIN;
use atlas_store::ledger;

use crate::args::CheckArguments;
use crate::config::Settings;
use crate::exit::Failure;
use crate::session::Session;

/// What is checked.
pub enum Target {
    /// A folder that is served; `main` is its main file, and `is_own` says whether it is that of the configuration.
    Folder { root: WebRoot, main: Option<String>, is_own: bool },
    /// A file, and how it was named.
    File(SingleFile, PathBuf),
    /// A live site; `moved` is the address that was named, if it leads there.
    Live { server: SiteServer, site: Site, main: Option<String>, moved: Option<String> },
    /// A single file of a live site.
    LiveFile { server: SiteServer, address: Address },
}

impl Target {
    /// What the arguments name, for a site with a configuration.
    pub fn of(settings: &Settings, arguments: &CheckArguments, session: &Session) -> Result<Self, Failure> {
        let main = settings.main_address();
        match arguments.place.as_deref() {
            // What is not in a folder is checked as engines get it.
            None if arguments.is_live() || settings.is_elsewhere => Ok(Self::Live {
                server: server(settings.reach(), arguments, session)?,
                site: settings.site.clone(),
                main: Some(main),
                moved: None,
            }),
            None => Self::own_root(settings, main),
            Some(place) if is_url(place) => Self::live(place, settings.reach(), Some(settings), arguments, session),
            Some(place) => {
                let path = Path::new(place);
                not_live(arguments)?;
                if path.is_file() {
                    return Self::file(path);
                }
                if same_folder(path, &settings.web_root) {
                    return Self::own_root(settings, main);
                }
                Self::folder(path, Some((&settings.site, main)))
            }
        }
    }

    fn own_root(settings: &Settings, main: String) -> Result<Self, Failure> {
        folder_there(&settings.web_root)?;
        let root = WebRoot {
            folder: settings.web_root.clone(),
            site: settings.site.clone(),
            robots: settings.robots.clone(),
            sitemaps: settings.sitemaps_elsewhere(),
        };
        Ok(Self::Folder { root, main: Some(main), is_own: true })
    }

    /// What the arguments name, where there is no configuration.
    pub fn without_configuration(arguments: &CheckArguments, session: &Session) -> Result<Self, Failure> {
        let place = arguments.place.as_deref().unwrap_or(".");
        if is_url(place) {
            return Self::live(place, Reach::default(), None, arguments, session);
        }
        let path = Path::new(place);
        not_live(arguments)?;
        if path.is_file() {
            return Self::file(path);
        }
        Self::folder(path, None)
    }

    /// A folder of which nothing is known but what is in it. If it is another copy of the site of the configuration, its
    /// main file is known, too.
    fn folder(path: &Path, own: Option<(&Site, String)>) -> Result<Self, Failure> {
        folder_there(path)?;
        let Some(site) = site_of(path) else {
            return Err(Failure::said(format!(
                "there is no sitemap in {}: neither a Sitemap line in robots.txt nor a file with a urlset or sitemapindex. Name the folder that the web server serves, or begin with: idle-atlas init {}",
                path.display(),
                path.display()
            )));
        };
        let main = match own.filter(|(own, _)| own.root().origin() == site.root().origin()) {
            Some((own, main)) => {
                let root = WebRoot { folder: path.to_owned(), site: own.clone(), robots: None, sitemaps: None };
                return Ok(Self::Folder { root, main: Some(main), is_own: false });
            }
            None => path.join(MAIN).is_file().then(|| site.of_file(MAIN).into_string()),
        };
        let root = WebRoot { folder: path.to_owned(), site, robots: None, sitemaps: None };
        Ok(Self::Folder { root, main, is_own: false })
    }

    fn file(path: &Path) -> Result<Self, Failure> {
        let file = SingleFile::read(path.to_owned());
        match file.fetched() {
            FetchResult::Bytes(bytes) if is_unlike_any(bytes) => Err(Failure::said(format!(
                "{} is not a sitemap: it is neither a urlset, a sitemapindex, a feed nor a list of URLs",
                path.display()
            ))),
            FetchResult::Broken(why) => Err(Failure::said(format!("{}: {why}", path.display()))),
            _ => Ok(Self::File(file, path.to_owned())),
        }
    }

    fn live(
        url: &str,
        reach: Reach,
        settings: Option<&Settings>,
        arguments: &CheckArguments,
        session: &Session,
    ) -> Result<Self, Failure> {
        let address = Address::parse(url).map_err(|why| Failure::said(why.to_string()))?;
        let server = server(reach, arguments, session)?;
        match start_of(&server, &address).map_err(Failure::said)? {
            Start::Site { site, moved } => {
                let own = settings.filter(|settings| settings.site == site);
                Ok(Self::Live { server, site, main: own.map(Settings::main_address), moved })
            }
            Start::File(address) => Ok(Self::LiveFile { server, address }),
        }
    }

    /// Inspects it, and visits the listed pages that `sample` asks for.
    pub fn inspect<'k>(
        &self,
        settings: Option<&Settings>,
        inspection: &mut Inspection<'k>,
        (sample, known): (PageSample, &'k Accepted),
        session: &Session,
    ) -> Result<(), Failure> {
        match self {
            Self::Folder { root, main, is_own } => {
                let own = settings.filter(|_| *is_own);
                let retired = own.map(retired).unwrap_or_default();
                let is_retired = |name: &str| retired.iter().any(|known| known == name);
                root.inspect(inspection, main.as_deref(), &is_retired, &session.stop)?;
                if let Some(settings) = own {
                    let home = fs::read(root.folder.join("index.html")).ok();
                    let read = |name: &str| fs::read(root.folder.join(name)).ok();
                    let site = settings.site.root().as_str();
                    settings.ownership.missing(site, home.as_deref(), read, inspection.findings());
                }
            }
            Self::File(file, _) => {
                inspection.single(file.address());
                inspect(inspection, file, &session.stop)?;
            }
            Self::Live { server, site, main, .. } => {
                LiveSitemaps::new(server, site.clone()).inspect(inspection, main.as_deref())?;
                if let Some(settings) = settings.filter(|settings| settings.site == *site) {
                    let root = site.root().as_str();
                    let home = server.body(root);
                    let read = |name: &str| server.body(&format!("{root}{name}"));
                    settings.ownership.missing(root, home.as_deref(), read, inspection.findings());
                }
                visit(server, inspection, settings, (sample, known), session);
            }
            Self::LiveFile { server, address } => {
                let site = Site::parse(&format!("{}/", address.origin()));
                let site = site.map_err(|why| Failure::said(why.to_string()))?;
                LiveSitemaps::new(server, site).inspect_file(inspection, address.as_str())?;
                if let Some(trouble) = inspection.nothing_at(address.as_str()) {
                    return Err(Failure::said(format!(
                        "{address} is not a sitemap that can be checked: {trouble}. To look at a page: idle-atlas check --page {address}"
                    )));
                }
                visit(server, inspection, settings, (sample, known), session);
            }
        }
        Ok(())
    }

    /// An error, if there is nothing that could be checked.
    pub fn missing(&self, inspection: &Inspection<'_>) -> Result<(), Failure> {
        let places = || USUAL_PLACES.join(", ");
        match self {
            Self::Live { site, .. } if inspection.found_nothing() => Err(Failure::said(format!(
                "there is no sitemap at {}: robots.txt declares none, and none is where sitemaps usually are ({})",
                site.root(),
                places()
            ))),
            Self::Folder { root, .. } if inspection.found_nothing() => {
                let folder = root.folder.display();
                let stray = root.sitemaps().into_iter().next().map(|(name, _)| root.folder.join(name));
                let stray = stray.map_or(String::new(), |path| {
                    format!(". There is a file that nothing leads to: idle-atlas check {}", path.display())
                });
                Err(Failure::said(format!(
                    "there is no sitemap in {folder}: robots.txt declares none, and none is where sitemaps usually are ({}){stray}",
                    places()
                )))
            }
            _ => Ok(()),
        }
    }

    /// Where it is, for the user.
    pub fn words(&self) -> String {
        match self {
            Self::Folder { root, .. } => format!("{}, starting at robots.txt", root.folder.display()),
            Self::File(_, path) => path.display().to_string(),
            Self::Live { site, .. } => format!("{}, live, starting at robots.txt", site.root()),
            Self::LiveFile { address, .. } => format!("{address}, live"),
        }
    }

    /// What else is to be said.
    pub fn notes(&self) -> Vec<String> {
        match self {
            Self::Live { site, moved: Some(moved), .. } => {
                vec![format!("{moved} leads to {}, which was checked instead.", site.root())]
            }
            Self::File(file, _) if !file.is_nowhere() => {
                vec![format!("It is taken to be served by {}.", atlas_core::address::origin(file.address()))]
            }
            _ => Vec::new(),
        }
    }

    /// A text in which a file that is checked on its own bears its path rather than an address.
    pub fn shown(&self, text: String) -> String {
        match self {
            Self::File(file, path) => text.replace(file.address(), &path.display().to_string()),
            _ => text,
        }
    }

    /// The scheme and host of the site.
    pub fn origin(&self) -> &str {
        match self {
            Self::Folder { root, .. } => root.site.root().origin(),
            Self::File(file, _) => atlas_core::address::origin(file.address()),
            Self::Live { site, .. } => site.root().origin(),
            Self::LiveFile { address, .. } => address.origin(),
        }
    }

    /// The file on disk with an address.
    pub fn path(&self, address: &str) -> Option<PathBuf> {
        match self {
            Self::Folder { root, .. } => root.path(address),
            Self::File(file, path) => (file.address() == address).then(|| path.clone()),
            Self::Live { .. } | Self::LiveFile { .. } => None,
        }
    }
}

/// Visits the listed pages that were asked for.
fn visit<'k>(
    server: &SiteServer,
    inspection: &mut Inspection<'k>,
    settings: Option<&Settings>,
    (sample, known): (PageSample, &'k Accepted),
    session: &Session,
) {
    if sample == PageSample::None {
        return;
    }
    let reader = settings.map(|settings| settings.reader.clone()).unwrap_or_default();
    let progress = session.screen.progress();
    visit_pages(server, inspection, &reader, known, &|pages| progress.visited(pages));
}

fn server(reach: Reach, arguments: &CheckArguments, session: &Session) -> Result<SiteServer, Failure> {
    SiteServer::new(reach, arguments.pace(), &session.stop).map_err(|error| Failure::said(error.to_string()))
}

/// The names of the files that are out of the index for a while, as the ledger knows.
fn retired(settings: &Settings) -> Vec<String> {
    if !settings.ledger.is_dir() {
        return Vec::new();
    }
    let remembered = ledger::open(&settings.ledger).and_then(|ledger| ledger.remembered());
    // Without the ledger, such files are found, which is not wrong either.
    let outputs = remembered.map(|remembered| remembered.outputs).unwrap_or_default();
    outputs.into_iter().filter(|(_, row)| row.retired.is_some()).map(|(name, _)| name).collect()
}

fn is_url(place: &str) -> bool {
    place.starts_with("http://") || place.starts_with("https://")
}

/// Whether bytes are nothing that a check could judge. XML is judged, whatever it is, since it may be a broken sitemap.
fn is_unlike_any(bytes: &[u8]) -> bool {
    let head = String::from_utf8_lossy(&bytes[..bytes.len().min(2_000)]).to_lowercase();
    let head = head.trim_start_matches('\u{feff}').trim_start();
    let is_markup = head.starts_with('<') && !head.starts_with("<!doctype html") && !head.starts_with("<html");
    // In UTF-16 every other byte is zero.
    let is_wide = bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff");
    !(is_markup || is_wide || is_sitemap(bytes) || bytes.is_empty())
}

/// Refuses options that need a live site.
fn not_live(arguments: &CheckArguments) -> Result<(), Failure> {
    match arguments.pages {
        None => Ok(()),
        Some(_) => Err(Failure::said(
            "--pages visits pages on the live site: leave out WHERE, or name the URL of the site instead of a folder",
        )),
    }
}

fn folder_there(folder: &Path) -> Result<(), Failure> {
    match folder.is_dir() {
        true => Ok(()),
        false => Err(Failure::said(format!(
            "there is no folder or file {}; name the web root to check, a sitemap file, or a URL that begins with https://",
            folder.display()
        ))),
    }
}

fn same_folder(one: &Path, other: &Path) -> bool {
    matches!((one.canonicalize(), other.canonicalize()), (Ok(one), Ok(other)) if one == other)
}
