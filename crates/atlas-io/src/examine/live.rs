//! A look at a live site: where its visitors end up, and what it offers.

use std::borrow::Cow;
use std::cell::Cell;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use atlas_core::address::{Address, Site};
use atlas_core::format::read;
use atlas_core::page::{self, PageReader, feed_links};
use atlas_core::robots::{Robots, sitemap_lines};

use crate::check::SiteServer;
use crate::sources::crawl::TOKEN;

/// The most bytes of a home page, a robots.txt or a sitemap.
const MOST_BYTES: usize = 52_428_800;
/// The most sitemaps that are fetched.
const MOST_SITEMAPS: usize = 5;
/// The most files of an index that are saved.
const MOST_CHILDREN: usize = 2_000;
/// Where a sitemap is looked for that robots.txt does not name.
const USUAL: &str = "sitemap.xml";

/// A live site.
#[derive(Debug, Clone, Default)]
pub struct LiveFacts {
    /// Its URL, where visitors end up.
    pub url: String,
    /// The addresses on the way there, if it is not what was typed.
    pub way: Vec<String>,
    /// Its sitemaps.
    pub sitemaps: Vec<LiveSitemap>,
    /// The feeds that its home page names.
    pub feeds: Vec<String>,
    /// Whether its home page is empty until a script has run.
    pub needs_script: bool,
    /// What robots.txt says against a crawl of the home page by this tool.
    pub barred: Option<String>,
    /// The paths of the pages that home page and sitemaps name.
    pub paths: BTreeSet<String>,
}

/// A sitemap of a live site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LiveSitemap {
    /// Its address.
    pub address: String,
    /// The number of URLs in those of its files that were fetched.
    pub urls: usize,
    /// The number of files that it lists, if it is an index.
    pub files: usize,
}

/// Looks at a live site, from any spelling of its address: with or without a scheme, `www` or a path.
///
/// # Errors
///
/// Returns in words why nothing is found there.
pub fn look_at(server: &SiteServer, typed: &str) -> Result<LiveFacts, String> {
    let spellings = match typed.split_once("://") {
        Some(_) => vec![typed.to_owned()],
        None => vec![format!("https://{typed}"), format!("http://{typed}")],
    };
    let mut why = Vec::new();
    for spelling in spellings {
        let address = Address::parse(&spelling).map_err(|error| format!("{typed}: {error}"))?;
        let Some((answer, body)) = server.get(address.as_str(), MOST_BYTES) else { return Err("stopped".to_owned()) };
        if let Some((_, silence)) = answer.silence {
            why.push(format!("{} does not answer: {silence}", address.as_str()));
            continue;
        }
        if answer.status != 200 {
            return Err(format!("{} answers {}; expected a home page", address.as_str(), answer.status));
        }
        let end = answer.redirects.last().and_then(|end| Address::parse(end).ok()).unwrap_or_else(|| address.clone());
        let site = site_of(&address, &end)?;
        let mut way = vec![address.as_str().to_owned()];
        way.extend(answer.redirects);
        let facts = LiveFacts { url: site.root().as_str().to_owned(), way, ..LiveFacts::default() };
        return Ok(look(server, &site, (&end, &body), facts));
    }
    Err(why.join("; "))
}

/// The site at the end of the way. If a folder was typed, it is the site; a redirect of the home page to a language or a
/// start page is not.
fn site_of(typed: &Address, end: &Address) -> Result<Site, String> {
    let folder = if typed.path() == "/" { "/" } else { Address::path(end) };
    let folder = folder.rsplit_once('/').map_or("/", |(folder, _)| folder);
    Site::parse(&format!("{}{folder}/", end.origin()).replace("//", "/").replacen(":/", "://", 1))
        .map_err(|error| error.to_string())
}

fn look(server: &SiteServer, site: &Site, (end, body): (&Address, &[u8]), mut facts: LiveFacts) -> LiveFacts {
    let home = page::read(body, end, &PageReader::default()).unwrap_or_default();
    facts.needs_script = home.needs_script();
    let base = |href: &str| end.join(href).ok();
    facts.feeds = feed_links(body).iter().filter_map(|href| Some(base(href)?.into_string())).collect();
    let linked: BTreeSet<&str> =
        home.links.iter().map(|link| link.address.as_str()).filter(|address| site.holds(address)).collect();
    linked.into_iter().for_each(|address| facts.add(site, address));
    let robots = server.get(site.of_host("/robots.txt").as_str(), MOST_BYTES);
    let robots = robots.filter(|(answer, _)| answer.status == 200).map(|(_, body)| body);
    let robots = robots.unwrap_or_default();
    let barred = Robots::read(&robots).barred(TOKEN, site.root().path());
    facts.barred = barred.map(|barred| format!("Disallow: {} (line {})", barred.pattern, barred.line));
    let mut named: Vec<String> = sitemap_lines(&robots).into_iter().map(|(_, address)| address).collect();
    if named.is_empty() {
        named.push(format!("{}{USUAL}", site.root()));
    }
    for address in named.into_iter().take(MOST_SITEMAPS) {
        if let Some(sitemap) = sitemap(server, site, address, &mut facts) {
            facts.sitemaps.push(sitemap);
        }
    }
    facts
}

/// A sitemap, if there is one at this address; what it names is added.
fn sitemap(server: &SiteServer, site: &Site, address: String, facts: &mut LiveFacts) -> Option<LiveSitemap> {
    let fetched = |address: &str| {
        let (answer, body) = server.get(address, MOST_BYTES)?;
        (answer.status == 200 && answer.silence.is_none()).then_some(body)
    };
    let body = fetched(&address)?;
    let (urls, mut children) = (Cell::new(0), Vec::new());
    let take = |loc: Option<Cow<'_, str>>, facts: &mut LiveFacts| {
        urls.set(urls.get() + 1);
        if let Some(address) =
            loc.and_then(|loc| site.address(&loc).ok()).filter(|address| site.holds(address.as_str()))
        {
            facts.add(site, address.as_str());
        }
    };
    let begins = body.trim_ascii_start();
    begins.starts_with(b"<").then_some(())?;
    let read_whole = read(begins, |url| take(url.loc, facts), |child| children.extend(child.loc.map(Cow::into_owned)));
    if read_whole.is_err() && children.is_empty() && urls.get() == 0 {
        return None;
    }
    let files = children.len();
    for child in children.iter().take(MOST_SITEMAPS) {
        if let Some(body) = fetched(child) {
            let _ = read(body.trim_ascii_start(), |url| take(url.loc, facts), |_| ());
        }
    }
    Some(LiveSitemap { address, urls: urls.get(), files })
}

/// The name under which a sitemap is saved: the last part of its address, by which its index names it. Whether it is
/// compressed shows in its first bytes.
pub fn saved_name(address: &str) -> &str {
    let name = address.split(['?', '#']).next().unwrap_or_default().rsplit('/').next().unwrap_or_default();
    if name.is_empty() { USUAL } else { name }
}

/// Saves a sitemap of a live site in a folder, with the files that it lists beside it, so that it is still there when
/// another has taken its place. Returns the name of its file.
///
/// # Errors
///
/// Returns in words which file could not be fetched or written.
pub fn save_sitemap(server: &SiteServer, address: &str, folder: &Path) -> Result<String, String> {
    let save = |address: &str| -> Result<(String, Vec<u8>), String> {
        let name = saved_name(address);
        let (answer, body) = server.get(address, MOST_BYTES).ok_or("stopped")?;
        if answer.status != 200 || answer.silence.is_some() {
            return Err(format!("{address} cannot be fetched (status {})", answer.status));
        }
        fs::write(folder.join(name), &body)
            .map_err(|error| format!("cannot write {}: {error}", folder.join(name).display()))?;
        Ok((name.to_owned(), body))
    };
    fs::create_dir_all(folder).map_err(|error| format!("cannot make {}: {error}", folder.display()))?;
    let (name, body) = save(address)?;
    let mut children = Vec::new();
    let _ = read(body.trim_ascii_start(), |_| (), |child| children.extend(child.loc.map(Cow::into_owned)));
    for child in children.iter().take(MOST_CHILDREN) {
        save(child)?;
    }
    Ok(name)
}

impl LiveFacts {
    fn add(&mut self, site: &Site, address: &str) {
        self.paths.insert(site.path(address).to_owned());
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::home("http://marrowvale.example/", "https://www.marrowvale.example/", "https://www.marrowvale.example/")]
    #[case::start_page(
        "https://www.marrowvale.example/",
        "https://www.marrowvale.example/en/home",
        "https://www.marrowvale.example/"
    )]
    #[case::folder(
        "http://marrowvale.example/shop",
        "https://marrowvale.example/shop/",
        "https://marrowvale.example/shop/"
    )]
    #[case::file(
        "http://marrowvale.example/shop/index.php",
        "http://marrowvale.example/shop/index.php",
        "http://marrowvale.example/shop/"
    )]
    fn where_visitors_end_up(#[case] typed: &str, #[case] end: &str, #[case] wanted: &str) {
        let address = |text: &str| Address::parse(text).unwrap();
        assert_eq!(site_of(&address(typed), &address(end)).unwrap().root().as_str(), wanted);
    }
}
