//! What URLs that are no longer listed answer today: `check --gone`, and proposed redirects for those that are lost.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::accepted::Accepted;
use atlas_core::address::{Address, Site};
use atlas_core::check::{Fate, Inspection, PageSample, Successors, Titled, by_folder, fate};
use atlas_core::contribution::Contribution;
use atlas_core::lastmod::Lastmod;
use atlas_core::page::PageReader;
use atlas_core::placement::{MOST_BYTES, is_packed};
use atlas_io::check::{LiveSitemaps, SiteServer, take_urls};
use atlas_io::live::Reach;
use atlas_store::disk::segmented_gzip::unpack;
use atlas_store::ledger;

use crate::args::{CheckArguments, RedirectForm};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::session::Session;
use crate::view;
use crate::view::gone::{GoneReport, GoneUrl, Proposal};

/// The most URLs that are asked for.
const MOST: usize = 200_000;

/// Looks at all of them, and prints a report or redirects.
pub fn run(settings: Option<&Settings>, arguments: &CheckArguments, session: &Session) -> Result<Exit, Failure> {
    session.stop.heed();
    let screen = &session.screen;
    let reach = settings.map_or_else(Reach::default, Settings::reach);
    let server = SiteServer::new(reach, arguments.pace(), &session.stop);
    let server = server.map_err(|error| Failure::said(error.to_string()))?;
    let gone = GoneList::of(settings, arguments, &server)?;
    let reader = settings.map_or_else(PageReader::default, |settings| settings.reader.clone());
    let urls: Vec<String> = gone.urls.iter().map(|one| one.url.clone()).collect();
    let progress = screen.progress();
    let trails = server.trails(&urls, &reader, &|pages| progress.visited(pages));
    drop(progress);
    let home = gone.site.root().as_str();
    let found = trails.into_iter().map(|(at, trail)| {
        let fate = fate(&trail, home);
        let Titled { url, title } = gone.urls[at].clone();
        GoneUrl { url, title, fate, steps: trail.steps }
    });
    let found: Vec<GoneUrl> = found.collect();
    let folders = by_folder(found.iter().map(|one| (one.url.as_str(), one.fate)));
    let mut fates: BTreeMap<Fate, u64> = BTreeMap::new();
    found.iter().for_each(|one| *fates.entry(one.fate).or_default() += 1);
    let report = GoneReport {
        from: gone.from,
        given: urls.len() as u64,
        interrupted: session.stop.is_asked(),
        fates,
        folders,
        urls: found,
    };
    let layout = match settings {
        Some(settings) => screen.layout(settings),
        None => screen.layout_at(gone.site.root().origin()),
    };
    match arguments.redirects {
        None => screen.show(&report, || view::gone::report(&report, &layout))?,
        Some(form) => {
            let proposals = proposals(settings, &gone.site, &report, &server, session)?;
            if proposals.is_empty() {
                screen.complain("nothing to do", "none of these URLs is lost, so there is nothing to redirect");
            }
            if screen.wants_json() {
                screen.show(&proposals, String::new)?;
            } else {
                screen.print(&match form {
                    RedirectForm::Csv => view::gone::as_csv(&proposals),
                    RedirectForm::Nginx => view::gone::as_nginx(&proposals),
                })?;
            }
        }
    }
    if session.stop.is_asked() {
        return Ok(Exit::Interrupted);
    }
    let is_bad = report.urls.iter().any(|one| one.fate == Fate::DeadEnd || one.fate == Fate::Failing);
    Ok(Exit::in_part(is_bad))
}

/// The URLs that left.
struct GoneList {
    site: Site,
    urls: Vec<Titled>,
    /// Where they come from, for the user.
    from: String,
}

impl GoneList {
    fn of(settings: Option<&Settings>, arguments: &CheckArguments, server: &SiteServer) -> Result<Self, Failure> {
        let named = arguments.gone.as_ref().and_then(Option::as_deref);
        let mut gone = match (named, settings) {
            (None, Some(settings)) => Self::from_ledger(settings)?,
            (None, None) => {
                return Err(Failure::said(
                    "without a configuration, name what lists the URLs: idle-atlas check --gone old-sitemap.xml",
                ));
            }
            (Some(place), settings) => Self::from_list(place, settings, server)?,
        };
        let mut met = HashSet::new();
        gone.urls.retain(|one| met.insert(one.url.clone()));
        if gone.urls.len() > MOST {
            return Err(Failure::said(format!("{} lists more than {MOST} URLs; name a part of them", gone.from)));
        }
        Ok(gone)
    }

    fn from_ledger(settings: &Settings) -> Result<Self, Failure> {
        let tombstones = match ledger::open_for_reading(&settings.ledger)? {
            Some(ledger) => ledger.tombstones()?,
            None => Vec::new(),
        };
        if tombstones.is_empty() {
            return Err(Failure::said(
                "nothing has left the sitemaps of this site, as far as the ledger knows. To look at the URLs of an older sitemap, of a console's export or of any list: idle-atlas check --gone FILE",
            ));
        }
        let urls = tombstones.into_iter().map(|(gone, _)| Titled { url: gone.url, title: gone.title });
        Ok(Self { site: settings.site.clone(), urls: urls.collect(), from: "the ledger".to_owned() })
    }

    fn from_list(place: &str, settings: Option<&Settings>, server: &SiteServer) -> Result<Self, Failure> {
        let texts = match place.starts_with("http://") || place.starts_with("https://") {
            true => server.listed_at(place).map_err(Failure::said)?,
            false => listed_in(Path::new(place))?,
        };
        let first = texts.iter().find_map(|text| Address::parse(text).ok());
        let site = match (settings, &first) {
            (Some(settings), _) => settings.site.clone(),
            (None, Some(first)) => {
                Site::parse(&format!("{}/", first.origin())).map_err(|why| Failure::said(why.to_string()))?
            }
            (None, None) => return Err(Failure::said(format!("there is no URL in {place}"))),
        };
        let urls = texts.iter().filter_map(|text| site.address(text).ok());
        let urls: Vec<Titled> = urls.map(|url| Titled { url: url.into_string(), title: None }).collect();
        match urls.is_empty() {
            true => Err(Failure::said(format!("there is no URL in {place}"))),
            false => Ok(Self { site, urls, from: place.to_owned() }),
        }
    }
}

/// The URLs that a file lists; the files of an index lie beside it.
fn listed_in(path: &Path) -> Result<Vec<String>, Failure> {
    let mut urls = Vec::new();
    let mut waiting: Vec<PathBuf> = vec![path.to_owned()];
    let mut read = HashSet::new();
    while let Some(file) = waiting.pop() {
        if !read.insert(file.clone()) {
            continue;
        }
        let bytes = fs::read(&file);
        let bytes = bytes.map_err(|error| Failure::said(format!("cannot read {}: {error}", file.display())))?;
        let bytes =
            if is_packed(&file.to_string_lossy()) { unpack(&bytes, MOST_BYTES).unwrap_or(bytes) } else { bytes };
        let mut files = Vec::new();
        take_urls(&bytes, &mut urls, &mut files);
        let name = |url: &String| url.split(['?', '#']).next()?.rsplit('/').next().map(str::to_owned);
        waiting.extend(files.iter().filter_map(name).map(|name| file.with_file_name(name)));
    }
    Ok(urls)
}

/// A successor for each URL that is lost, the likeliest first.
fn proposals(
    settings: Option<&Settings>,
    site: &Site,
    report: &GoneReport,
    server: &SiteServer,
    session: &Session,
) -> Result<Vec<Proposal>, Failure> {
    let lost: Vec<&GoneUrl> = report.urls.iter().filter(|one| one.fate.is_loss()).collect();
    if lost.is_empty() {
        return Ok(Vec::new());
    }
    let mut inspection = Inspection::new(Lastmod::from_timestamp(session.now()), Accepted::none(), PageSample::All);
    LiveSitemaps::new(server, site.clone()).inspect(&mut inspection, None)?;
    let mut titles = settings.map(titles).transpose()?.unwrap_or_default();
    let gone: HashSet<&str> = report.urls.iter().map(|one| one.url.as_str()).collect();
    let listed = inspection.listed().into_iter().filter(|page| !gone.contains(page.url.as_str()));
    let pages = listed.map(|page| Titled { title: titles.remove(&page.url), url: page.url });
    let pages: Vec<Titled> = pages.collect();
    if pages.is_empty() {
        let message = format!("the live sitemaps of {} list no page to redirect to", site.root());
        session.screen.complain("no proposal", &message);
    }
    let successors = Successors::new(pages);
    let mut proposals: Vec<Proposal> = lost
        .iter()
        .map(|one| {
            let gone = Titled { url: one.url.clone(), title: one.title.clone() };
            Proposal { from: one.url.clone(), fate: one.fate, successors: successors.of(&gone) }
        })
        .collect();
    let likeness = |one: &Proposal| one.successors.first().map_or(0.0, |best| best.likeness);
    proposals.sort_by(|one, other| likeness(other).total_cmp(&likeness(one)));
    Ok(proposals)
}

/// The titles of pages that sources remember.
fn titles(settings: &Settings) -> Result<HashMap<String, String>, Failure> {
    let mut titles = HashMap::new();
    let Some(ledger) = ledger::open_for_reading(&settings.ledger)? else { return Ok(titles) };
    for source in &settings.sources {
        let memory = ledger.memory(&source.name(), source.settings(), false)?;
        for learnt in memory.known.values() {
            let page = Contribution::read(&learnt.row);
            if let Some(title) = &page.title {
                titles.insert(page.url.to_string(), title.to_string());
            }
        }
    }
    Ok(titles)
}
