//! The sitemaps of a live site.

use std::io;
use std::net::{SocketAddr, TcpStream, UdpSocket};
use std::time::Duration;

use atlas_core::address::{Address, Site};
use atlas_core::check::{
    FetchResult, FetchedFile, FileRequest, Inspection, PackedCopy, Place, SECOND_COPY, SITE_REDIRECTS, is_sitemap,
};
use atlas_core::page::{self, PageReader};
use atlas_core::placement::MOST_BYTES;
use atlas_store::disk::segmented_gzip::unpack;
use atlas_store::error::StoreError;
use tokio::net::lookup_host;

use super::place::{SitemapPlace, inspect};
use super::server::{MOST_ROBOTS, ServerReply, SiteServer};

/// The most bytes of a home page that are fetched.
const MOST_HOME: usize = 4 << 20;
/// How long connecting to an IPv6 address may take.
const CONNECT: Duration = Duration::from_secs(3);

/// Where a check of a live address starts.
#[derive(Debug)]
pub enum Start {
    /// At a site; `moved` is the address that was given, if it leads to another host.
    Site {
        /// The site.
        site: Site,
        /// The address that leads there.
        moved: Option<String>,
    },
    /// At a single sitemap file.
    File(Address),
}

/// Finds out where to start: an address that ends with a slash is that of a site, any other that of a file. A site may
/// lead to another host, which is then checked.
///
/// # Errors
///
/// Returns in words why there is nothing to check.
pub fn start_of(server: &SiteServer, address: &Address) -> Result<Start, String> {
    let path = address.path();
    if !(path.is_empty() || path.ends_with('/')) {
        return Ok(Start::File(address.clone()));
    }
    let home = format!("{}/", address.origin());
    let reply = server.block_on(server.ask(&home, MOST_HOME)).ok_or("stopped")?;
    if let Some((_, why)) = &reply.answer.silence {
        return Err(format!("{home} does not answer: {why}"));
    }
    let end = reply.answer.redirects.last().and_then(|end| Address::parse(end).ok());
    let moved = end.filter(|end| end.origin() != address.origin());
    let site = Site::parse(&format!("{}/", moved.as_ref().unwrap_or(address).origin()));
    let site = site.map_err(|why| why.to_string())?;
    Ok(Start::Site { site, moved: moved.map(|_| home) })
}

/// A live site.
#[derive(Debug)]
pub struct LiveSitemaps<'s> {
    server: &'s SiteServer,
    site: Site,
}

impl<'s> LiveSitemaps<'s> {
    /// A site on its server.
    pub fn new(server: &'s SiteServer, site: Site) -> Self {
        Self { server, site }
    }

    /// Inspects all sitemaps, starting from robots.txt; `main` is the main file of the configuration, if there is one.
    ///
    /// # Errors
    ///
    /// Returns [`StoreError::Interrupted`] if it was asked to stop.
    pub fn inspect(&self, inspection: &mut Inspection<'_>, main: Option<&str>) -> Result<(), StoreError> {
        let robots_address = format!("{}/robots.txt", self.site.root().origin());
        let mut reply = self.ask(&robots_address, MOST_ROBOTS)?;
        reply.answer.dead_ipv6 = self.dead_ipv6();
        inspection.robots(&robots_address, &fetched(&robots_address, reply), main);
        if main.is_some() {
            self.home(inspection)?;
        }
        inspect(inspection, self, &self.server.stop)?;
        self.second_copies(inspection)
    }

    /// Inspects a single file; `address` is where it is.
    ///
    /// # Errors
    ///
    /// As [`LiveSitemaps::inspect`].
    pub fn inspect_file(&self, inspection: &mut Inspection<'_>, address: &str) -> Result<(), StoreError> {
        let robots_address = format!("{}/robots.txt", self.site.root().origin());
        let reply = self.ask(&robots_address, MOST_ROBOTS)?;
        inspection.rules_from(&robots_address, &fetched(&robots_address, reply));
        inspection.start_at(address);
        inspect(inspection, self, &self.server.stop)
    }

    fn ask(&self, address: &str, most: usize) -> Result<ServerReply, StoreError> {
        self.server.block_on(self.server.ask(address, most)).ok_or(StoreError::Interrupted)
    }

    /// Whether the URL of the site is where visitors end up.
    fn home(&self, inspection: &mut Inspection<'_>) -> Result<(), StoreError> {
        let root = self.site.root().as_str();
        let reply = self.ask(root, MOST_HOME)?;
        let end = reply.answer.redirects.last().and_then(|end| Address::parse(end).ok());
        if let Some(end) = end.filter(|end| end.origin() != self.site.root().origin()) {
            let what = || format!("leads to {end}: the right [site] url is {}/", end.origin());
            inspection.findings().add(&SITE_REDIRECTS, Place::url(root), what);
        }
        Ok(())
    }

    /// Looks for the first sitemap under the other scheme, and with or without `www.`.
    fn second_copies(&self, inspection: &mut Inspection<'_>) -> Result<(), StoreError> {
        let Some(main) = inspection.files().first().map(|file| file.address.clone()) else { return Ok(()) };
        for variant in self.server.reach.variants(&main) {
            let request = self.server.reach.variant(&self.server.client, &variant);
            let seen = self.server.block_on(crate::live::see(request, &variant, MOST_BYTES as usize));
            let seen = seen.ok_or(StoreError::Interrupted)?;
            if seen.is_ok_and(|seen| seen.status == 200 && is_sitemap(&seen.body)) {
                let what = || format!("the same sitemap is served at {variant}, too");
                inspection.findings().add(&SECOND_COPY, Place::file(&main).about(&variant), what);
            }
        }
        Ok(())
    }

    /// The IPv6 address of the host at which nothing answers, though this machine could reach it and the host answers
    /// elsewhere.
    fn dead_ipv6(&self) -> Option<String> {
        if self.server.reach.is_elsewhere() {
            return None;
        }
        let host = self.site.root().host();
        let port = if self.site.root().as_str().starts_with("https:") { 443 } else { 80 };
        let named = if host.rsplit(':').next().is_some_and(|port| port.parse::<u16>().is_ok()) {
            host.to_owned()
        } else {
            format!("{host}:{port}")
        };
        let found =
            self.server.block_on(async { lookup_host(named).await.map(Iterator::collect::<Vec<SocketAddr>>) })?;
        dead_among(&found.ok()?).map(|dead| dead.to_string())
    }
}

/// The IPv6 address among those of a host at which nothing answers, if an IPv4 address does.
fn dead_among(found: &[SocketAddr]) -> Option<SocketAddr> {
    let dead = found.iter().find(|one| one.is_ipv6() && is_dead(**one))?;
    let answers_elsewhere = found.iter().any(|one| one.is_ipv4() && TcpStream::connect_timeout(one, CONNECT).is_ok());
    answers_elsewhere.then_some(*dead)
}

/// Whether nothing answers at an address to which this machine has a route.
fn is_dead(address: SocketAddr) -> bool {
    let has_route = UdpSocket::bind("[::]:0").and_then(|socket| socket.connect(address)).is_ok();
    has_route
        && TcpStream::connect_timeout(&address, CONNECT)
            .is_err_and(|error| matches!(error.kind(), io::ErrorKind::ConnectionRefused | io::ErrorKind::TimedOut))
}

impl SitemapPlace for LiveSitemaps<'_> {
    fn fetch(&self, wanted: &FileRequest) -> FetchedFile {
        match self.ask(&wanted.address, MOST_BYTES as usize) {
            Ok(reply) => fetched(&wanted.address, reply),
            // Asked to stop: the caller notices.
            Err(_) => FetchResult::Failed.into(),
        }
    }

    fn connections(&self) -> usize {
        self.server.pace.connections
    }
}

/// What came of asking for a file.
fn fetched(address: &str, reply: ServerReply) -> FetchedFile {
    let is_gzip = reply.is_packed(address);
    let ServerReply { mut answer, body, is_cut } = reply;
    answer.is_wall = is_wall(address, answer.status, &answer.content_type, &body);
    let result = match answer.status {
        _ if answer.silence.is_some() || answer.is_wall => FetchResult::Failed,
        200 if is_gzip && !is_cut => match unpack(&body, MOST_BYTES) {
            Ok(bytes) => FetchResult::Bytes(bytes),
            // A .gz file that was unpacked on the way is read as it is.
            Err(_) if is_sitemap(&body) => FetchResult::Bytes(body),
            Err(error) => FetchResult::Broken(format!("it is not a gzip file, or a broken one: {error}")),
        },
        200 => FetchResult::Bytes(body),
        404 | 410 => FetchResult::Missing,
        _ => FetchResult::Failed,
    };
    FetchedFile { result, answer: Some(answer), copy: PackedCopy::Absent }
}

/// Whether an answer is a page that keeps programs out.
fn is_wall(address: &str, status: u16, content_type: &str, body: &[u8]) -> bool {
    let is_page = content_type.to_ascii_lowercase().starts_with("text/html");
    let Some(address) = Address::parse(address).ok().filter(|_| is_page) else { return false };
    let says_so = || page::read(body, &address, &PageReader::default()).is_ok_and(|page| page.is_wall());
    matches!(status, 200 | 401 | 403 | 429 | 503) && says_so()
}

#[cfg(test)]
mod tests {
    use std::net::{Ipv4Addr, Ipv6Addr, TcpListener};

    use super::*;

    /// A machine without IPv6 cannot tell whether an IPv6 address answers, and says nothing.
    #[test]
    fn a_dead_ipv6_address_is_found_where_this_machine_could_reach_it() {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
        let port = listener.local_addr().unwrap().port();
        let (old, new) = (SocketAddr::from((Ipv4Addr::LOCALHOST, port)), SocketAddr::from((Ipv6Addr::LOCALHOST, port)));
        let has_ipv6 = TcpListener::bind((Ipv6Addr::LOCALHOST, 0)).is_ok();
        assert_eq!(dead_among(&[new, old]), has_ipv6.then_some(new));
        assert_eq!(dead_among(&[old]), None);
        drop(listener);
        assert_eq!(dead_among(&[new, old]), None, "nothing answers anywhere");
    }
}
