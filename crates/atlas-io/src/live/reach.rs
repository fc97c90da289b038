//! Where the live site is reached.

#[cfg(feature = "test-engine")]
use std::net::SocketAddr;

#[cfg(feature = "test-engine")]
use atlas_core::address::Site;
use reqwest::{Client, Method, RequestBuilder, header};

/// Where the live site is reached: at its own address, or at another one, such as that of the server behind a proxy.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Reach {
    /// The scheme and host of the site, and those to ask instead.
    instead: Option<(String, String)>,
}

impl Reach {
    /// Asks `at` for everything that is at `origin`, both a scheme and a host such as `http://127.0.0.1:8080`.
    pub fn at(origin: &str, at: &str) -> Self {
        Self { instead: Some((origin.trim_end_matches('/').to_owned(), at.trim_end_matches('/').to_owned())) }
    }

    /// The address at which a site is reached, if it is reached by `http` on this machine.
    #[cfg(feature = "test-engine")]
    pub fn loopback(&self, site: &Site) -> Option<SocketAddr> {
        let at = self.instead.as_ref().map_or_else(|| site.root().origin(), |(_, at)| at);
        let host = at.strip_prefix("http://")?.replace("localhost", "127.0.0.1");
        let address: SocketAddr = if host.contains(':') { host.parse() } else { format!("{host}:80").parse() }.ok()?;
        address.ip().is_loopback().then_some(address)
    }

    /// Whether the site is asked for at another address than its own.
    pub(crate) fn is_elsewhere(&self) -> bool {
        self.instead.is_some()
    }

    /// The same address under the other scheme, and with or without `www.`. Hosts that are numbers have no such names,
    /// and of a server that is reached at another address only the name can be asked for.
    pub(crate) fn variants(&self, address: &str) -> Vec<String> {
        let Some((scheme, rest)) = address.split_once("://") else { return Vec::new() };
        let host = rest.split('/').next().unwrap_or_default();
        let has_name = host.contains('.') && host.contains(|letter: char| letter.is_ascii_alphabetic());
        if !has_name {
            return Vec::new();
        }
        let other_scheme = if scheme == "https" { "http" } else { "https" };
        let other_host = match rest.strip_prefix("www.") {
            Some(bare) => bare.to_owned(),
            None => format!("www.{rest}"),
        };
        let by_scheme = [format!("{other_scheme}://{rest}"), format!("{other_scheme}://{other_host}")];
        // Where a port is part of the address, the other scheme is not there.
        let by_scheme = by_scheme.into_iter().filter(|_| !self.is_elsewhere() && !host.contains(':'));
        [format!("{scheme}://{other_host}")].into_iter().chain(by_scheme).collect()
    }

    /// A request for a variant of an address.
    pub(crate) fn variant(&self, client: &Client, variant: &str) -> RequestBuilder {
        let parts = variant.split_once("://").map(|(_, rest)| rest.split_at(rest.find('/').unwrap_or(rest.len())));
        match (&self.instead, parts) {
            (Some((_, at)), Some((host, path))) => client.get(format!("{at}{path}")).header(header::HOST, host),
            _ => client.get(variant),
        }
    }

    /// A request for an address.
    pub(crate) fn get(&self, client: &Client, address: &str) -> RequestBuilder {
        self.request(client, Method::GET, address)
    }

    /// A request with any method.
    pub(crate) fn request(&self, client: &Client, method: Method, address: &str) -> RequestBuilder {
        let below = |origin: &str| {
            address.strip_prefix(origin).filter(|rest| rest.is_empty() || rest.starts_with(['/', '?', '#']))
        };
        let instead = self.instead.as_ref().and_then(|(origin, at)| Some((origin, at, below(origin)?)));
        match instead {
            // The server learns which of its hosts is meant.
            Some((origin, at, rest)) => {
                let host = origin.split_once("//").map_or(origin.as_str(), |(_, host)| host);
                client.request(method, format!("{at}{rest}")).header(header::HOST, host)
            }
            None => client.request(method, address),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "https://www.marrowvale.example/fares/?x=1",
        "http://127.0.0.1:8080/fares/?x=1",
        Some("www.marrowvale.example")
    )]
    #[case("https://www.marrowvale.example.quay.example/", "https://www.marrowvale.example.quay.example/", None)]
    #[case("https://cdn.example/a.xml", "https://cdn.example/a.xml", None)]
    fn another_server_is_asked_under_the_host_of_the_site(
        #[case] address: &str,
        #[case] asked: &str,
        #[case] host: Option<&str>,
    ) {
        let reach = Reach::at("https://www.marrowvale.example", "http://127.0.0.1:8080/");
        let request =
            reach.get(&crate::http::client(std::time::Duration::from_secs(1)).unwrap(), address).build().unwrap();
        assert_eq!(request.url().as_str(), asked);
        assert_eq!(request.headers().get(header::HOST).map(|host| host.to_str().unwrap()), host);
    }
}
