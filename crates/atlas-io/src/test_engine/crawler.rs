//! The crawler of the test engine: it reads a site as engines do, and keeps a list of what it has picked up.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use atlas_core::address::Address;
use atlas_core::announce::live::{NotLive, Seen, page};
use atlas_core::format::{Document, read};
use atlas_core::page::PageReader;
use atlas_core::placement::MOST_BYTES;
use atlas_core::robots::{Robots, sitemap_lines};
use jiff::Timestamp;
use reqwest::{Client, header};
use serde::Serialize;

use super::loopback::Loopback;
use crate::live::see;

/// The product token of the crawler.
const TOKEN: &str = "lampbot";
const USER_AGENT: &str = "lampbot/1.0 (+https://lampbot.example/)";
/// The most sitemap files that are read in one crawl.
const MOST_FILES: usize = 1_000;
/// The most pages that are visited in one crawl, or after one announcement.
const MOST_PAGES: usize = 20_000;

/// What the engine has found of a site.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PickedUp {
    /// What became of robots.txt, in words.
    pub robots: String,
    /// The sitemap files that were read, in order.
    pub sitemaps: Vec<ReadSitemap>,
    /// The number of URLs that it has found or was told of.
    pub found: usize,
    /// The URLs that it has picked up.
    pub picked_up: Vec<String>,
    /// The others.
    pub not_picked_up: Vec<NotPickedUp>,
}

/// A sitemap file that the engine has read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ReadSitemap {
    /// Its address.
    pub address: String,
    /// The URLs, or files, in it.
    pub urls: usize,
    /// Why it could not be read to its end.
    pub trouble: Option<String>,
}

/// A URL that the engine has not picked up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct NotPickedUp {
    /// The URL.
    pub url: String,
    /// The reason in a word.
    pub reason: &'static str,
    /// The reason in words.
    pub why: String,
}

/// The crawler and what it knows.
#[derive(Debug)]
pub(super) struct Crawler {
    client: Client,
    loopback: Loopback,
    log: Option<Mutex<File>>,
    known: Mutex<Known>,
}

#[derive(Debug, Default)]
struct Known {
    robots: Option<String>,
    sitemaps: Vec<ReadSitemap>,
    /// The URLs that sitemaps list.
    listed: BTreeSet<String>,
    /// Each URL, with the reason and the words for it if it was not picked up.
    pages: BTreeMap<String, Option<(&'static str, String)>>,
}

impl Crawler {
    pub(super) fn new(client: Client, loopback: Loopback, log: Option<&Path>) -> io::Result<Self> {
        let log = log.map(|path| OpenOptions::new().create(true).append(true).open(path)).transpose()?;
        Ok(Self { client, loopback, log: log.map(Mutex::new), known: Mutex::default() })
    }

    pub(super) fn loopback(&self) -> &Loopback {
        &self.loopback
    }

    /// Reads robots.txt, every sitemap that it declares, and every page that they list.
    pub(super) async fn crawl(&self, site: &Address) {
        let robots_address = format!("{}/robots.txt", site.origin());
        let (robots, words) = match self.fetch(&robots_address).await {
            Ok(seen) if seen.status == 200 => (seen.body, "read".to_owned()),
            Ok(seen) if (400..500).contains(&seen.status) => {
                (Vec::new(), format!("there is none ({}), so everything may be fetched", seen.status))
            }
            // Engines that cannot read it fetch nothing (RFC 9309, section 2.3.1.4).
            Ok(seen) => return self.shut(format!("it answers {}, so nothing may be fetched", seen.status)),
            Err(why) => return self.shut(format!("it cannot be read ({why}), so nothing may be fetched")),
        };
        let rules = Robots::read(&robots);
        let declared: Vec<String> = sitemap_lines(&robots).into_iter().map(|(_, address)| address).collect();
        let words = format!(
            "{words}; it declares {} {}",
            declared.len(),
            if declared.len() == 1 { "sitemap" } else { "sitemaps" }
        );
        // Where none is declared, engines try the usual place.
        let first = if declared.is_empty() { vec![format!("{}/sitemap.xml", site.origin())] } else { declared };
        let (sitemaps, listed) = self.sitemaps(first, &rules).await;
        {
            let mut known = self.known();
            (known.robots, known.sitemaps, known.listed) = (Some(words), sitemaps, listed.clone());
        }
        for url in listed.into_iter().take(MOST_PAGES) {
            self.visit_page(&url, &rules).await;
        }
    }

    /// Visits pages that it was told of. If it was told of a sitemap or a feed, it crawls the site.
    pub(super) async fn visit(&self, urls: &[String]) {
        let pages: Vec<Address> = urls.iter().filter_map(|url| Address::parse(url).ok()).take(MOST_PAGES).collect();
        let is_file = |address: &Address| address.path().ends_with(".xml") || address.path().ends_with(".gz");
        if let Some(file) = pages.iter().find(|address| is_file(address)) {
            return self.crawl(file).await;
        }
        let Some(first) = pages.first() else { return };
        let rules = match self.fetch(&format!("{}/robots.txt", first.origin())).await {
            Ok(seen) if seen.status == 200 => Robots::read(&seen.body),
            _ => Robots::default(),
        };
        for address in &pages {
            self.visit_page(address.as_str(), &rules).await;
        }
    }

    /// Reads sitemaps and those that they lead to. Returns them, and the URLs that they list.
    async fn sitemaps(&self, first: Vec<String>, rules: &Robots) -> (Vec<ReadSitemap>, BTreeSet<String>) {
        let (mut wanted, mut met) = (VecDeque::from(first), BTreeSet::new());
        let (mut read_files, mut listed) = (Vec::new(), BTreeSet::new());
        while let Some(address) = wanted.pop_front().filter(|_| read_files.len() < MOST_FILES) {
            if !met.insert(address.clone()) {
                continue;
            }
            let (mut urls, mut children) = (Vec::new(), Vec::new());
            let trouble = match self.allowed(&address, rules) {
                Err(why) => Some(why),
                Ok(()) => match self.fetch(&address).await {
                    Ok(seen) if seen.status == 200 => {
                        match read(
                            &seen.body,
                            |url| urls.extend(url.loc.map(Cow::into_owned)),
                            |child| children.extend(child.loc.map(Cow::into_owned)),
                        ) {
                            Ok(Document::Urlset | Document::Index) => None,
                            Err(why) => Some(why.to_string()),
                        }
                    }
                    Ok(seen) => Some(format!("it answers {}", seen.status)),
                    Err(why) => Some(why),
                },
            };
            read_files.push(ReadSitemap { address, urls: urls.len() + children.len(), trouble });
            wanted.extend(children);
            listed.extend(urls);
        }
        (read_files, listed)
    }

    async fn visit_page(&self, url: &str, rules: &Robots) {
        let verdict = match self.allowed(url, rules) {
            Err(why) => Some(("barred", why)),
            Ok(()) => match self.fetch(url).await {
                Ok(seen) => judge(url, &seen),
                Err(why) => Some(("no-answer", format!("no answer ({why})"))),
            },
        };
        self.known().pages.insert(url.to_owned(), verdict);
    }

    /// Whether robots.txt allows an address to be fetched; otherwise why not.
    fn allowed(&self, url: &str, rules: &Robots) -> Result<(), String> {
        let address = Address::parse(url).map_err(|why| format!("not a URL: {why}"))?;
        match rules.barred(TOKEN, address.path()) {
            Some(barred) => Err(format!("robots.txt line {} forbids it: Disallow: {}", barred.line, barred.pattern)),
            None => Ok(()),
        }
    }

    async fn fetch(&self, url: &str) -> Result<Seen, String> {
        let address = Address::parse(url).map_err(|why| why.to_string())?;
        let Some(request) = self.loopback.get(&self.client, &address) else {
            return Err(format!("{} is not on this machine", address.host()));
        };
        let request = request.header(header::USER_AGENT, USER_AGENT);
        let seen = see(request, url, MOST_BYTES as usize).await.map_err(|error| error.to_string())?;
        self.log(&address, &seen);
        Ok(seen)
    }

    /// Adds a request to the access log, in the Combined Log Format. It is the log of a test, so a failure is no matter.
    fn log(&self, address: &Address, seen: &Seen) {
        let Some(log) = &self.log else { return };
        let at = Timestamp::now().strftime("%d/%b/%Y:%H:%M:%S +0000");
        let (path, status, bytes) = (address.path(), seen.status, seen.body.len());
        let line = format!("127.0.0.1 - - [{at}] \"GET {path} HTTP/1.1\" {status} {bytes} \"-\" \"{USER_AGENT}\"\n");
        let _ = log.lock().unwrap_or_else(PoisonError::into_inner).write_all(line.as_bytes());
    }

    fn shut(&self, words: String) {
        self.known().robots = Some(words);
    }

    fn known(&self) -> std::sync::MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn picked_up(&self) -> PickedUp {
        let known = self.known();
        let picked_up = known.pages.iter().filter(|(_, verdict)| verdict.is_none()).map(|(url, _)| url.clone());
        let others = known.pages.iter().filter_map(|(url, verdict)| {
            let (reason, why) = verdict.as_ref()?;
            // What is gone and is not listed is as it should be.
            let (reason, why) = match *reason == "gone" && !known.listed.contains(url) {
                true => (&"left", format!("{why}, and no sitemap lists it")),
                false => (reason, why.clone()),
            };
            Some(NotPickedUp { url: url.clone(), reason, why })
        });
        PickedUp {
            robots: known.robots.clone().unwrap_or_else(|| "not read yet".to_owned()),
            sitemaps: known.sitemaps.clone(),
            found: known.pages.len(),
            picked_up: picked_up.collect(),
            not_picked_up: others.collect(),
        }
    }
}

/// Why a page is not picked up; `None` if it is.
fn judge(url: &str, seen: &Seen) -> Option<(&'static str, String)> {
    let reader = PageReader { tokens: vec![TOKEN.to_owned()], ..PageReader::default() };
    match page(url, seen, None, &reader)? {
        NotLive::Status(status @ (404 | 410)) => Some(("gone", format!("it answers {status}"))),
        why => Some((why.as_str(), why.to_string())),
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;
    use std::fs;
    use std::time::{Duration, Instant};

    use atlas_store::stop::Stop;

    use super::super::{TestEngine, TestEngineSettings, serve};
    use super::*;

    const ROOT: &str = "https://www.marrowvale.example/";

    #[test]
    fn a_site_is_read_as_an_engine_reads_it() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        write("robots.txt", &format!("User-agent: *\nDisallow: /staff/\n\nSitemap: {ROOT}sitemap.xml\n"));
        let names = ["fares.html", "staff/rota.html", "secret.html", "copy.html", "lost.html"];
        let urls: String = names.iter().map(|name| format!("<url><loc>{ROOT}{name}</loc></url>")).collect();
        let xmlns = "xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"";
        write(
            "sitemap.xml",
            &format!(
                "<?xml version=\"1.0\"?><sitemapindex {xmlns}><sitemap><loc>{ROOT}one.xml</loc></sitemap><sitemap><loc>https://far.example/two.xml</loc></sitemap></sitemapindex>"
            ),
        );
        write("one.xml", &format!("<?xml version=\"1.0\"?><urlset {xmlns}>{urls}</urlset>"));
        write("fares.html", "<title>Fares</title>");
        write("staff/rota.html", "<title>Rota</title>");
        write("secret.html", "<meta name=lampbot content=noindex><title>Secret</title>");
        write("copy.html", "<link rel=canonical href=/fares.html><title>Copy</title>");
        let site = serve::folder(folder.path()).unwrap();
        let reach = HashMap::from([("www.marrowvale.example".to_owned(), site.address())]);
        let access_log = Some(folder.path().join("access.log"));
        let engine = TestEngine::start(TestEngineSettings { reach, access_log, ..TestEngineSettings::fair() }).unwrap();
        let found = engine.crawl(&Address::parse(ROOT).unwrap(), &Stop::default()).unwrap();
        assert_eq!(found.picked_up, [format!("{ROOT}fares.html")]);
        let reasons: Vec<(&str, &str)> =
            found.not_picked_up.iter().map(|one| (&one.url[ROOT.len()..], one.reason)).collect();
        let wanted = [
            ("copy.html", "canonical-elsewhere"),
            ("lost.html", "gone"),
            ("secret.html", "noindex"),
            ("staff/rota.html", "barred"),
        ];
        assert_eq!((reasons, found.found), (wanted.to_vec(), 5));
        assert!(found.not_picked_up[3].why.contains("robots.txt line 2"), "{found:?}");
        let troubles: Vec<bool> = found.sitemaps.iter().map(|one| one.trouble.is_some()).collect();
        assert_eq!(troubles, [false, false, true], "{found:?}");
        let log = fs::read_to_string(folder.path().join("access.log")).unwrap();
        assert!(log.contains("\"GET /fares.html HTTP/1.1\" 200 20 \"-\" \"lampbot/1.0 "), "{log}");
        assert!(!log.contains("rota"), "{log}");
    }

    #[test]
    fn what_is_announced_is_visited() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("0123456789abcdef.txt"), "0123456789abcdef").unwrap();
        fs::write(folder.path().join("fares.html"), "<title>Fares</title>").unwrap();
        let site = serve::folder(folder.path()).unwrap();
        let reach = HashMap::from([("www.marrowvale.example".to_owned(), site.address())]);
        let engine = TestEngine::start(TestEngineSettings { reach, ..TestEngineSettings::fair() }).unwrap();
        let url = format!("{}?url={ROOT}fares.html&key=0123456789abcdef", engine.endpoint());
        let client = crate::http::client(Duration::from_secs(5)).unwrap();
        let status = crate::http::block_on(&Stop::default(), async {
            client.get(url).send().await.map(|answer| answer.status().as_u16()).map_err(io::Error::other)
        });
        assert_eq!(status.unwrap(), 200);
        let end = Instant::now() + Duration::from_secs(10);
        while engine.picked_up().found == 0 && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(20));
        }
        assert_eq!(engine.picked_up().picked_up, [format!("{ROOT}fares.html")]);
    }
}
