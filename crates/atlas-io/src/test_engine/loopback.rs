//! The hosts that the test engine can reach: it uses no DNS, and never leaves this machine.

use std::collections::HashMap;
use std::net::SocketAddr;

use atlas_core::address::Address;
use reqwest::{Client, RequestBuilder, header};

/// Where hosts are reached on this machine.
#[derive(Debug, Clone, Default)]
pub(super) struct Loopback {
    reach: HashMap<String, SocketAddr>,
}

impl Loopback {
    /// Hosts with their addresses, of which only those on loopback are used.
    pub(super) fn new(reach: HashMap<String, SocketAddr>) -> Self {
        Self { reach: reach.into_iter().filter(|(_, address)| address.ip().is_loopback()).collect() }
    }

    /// A request for an address; `None` if its host is neither known nor this machine.
    pub(super) fn get(&self, client: &Client, address: &Address) -> Option<RequestBuilder> {
        let host = address.host();
        let name = match host.rsplit_once(':') {
            Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => name,
            _ => host,
        };
        let url = match self.reach.get(host).or_else(|| self.reach.get(name)) {
            Some(at) => format!("http://{at}{}", address.path()),
            None if matches!(name, "localhost" | "127.0.0.1" | "[::1]") => address.as_str().to_owned(),
            None => return None,
        };
        Some(client.get(url).header(header::HOST, host))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://www.marrowvale.example/a/?x=1", Some("http://127.0.0.1:8080/a/?x=1"))]
    #[case("http://127.0.0.1:9/", Some("http://127.0.0.1:9/"))]
    #[case("https://films.example/", None)]
    #[case("https://quay.example/", None)]
    fn it_never_leaves_this_machine(#[case] address: &str, #[case] asked: Option<&str>) {
        let reach = [("www.marrowvale.example", "127.0.0.1:8080"), ("quay.example", "192.0.2.7:80")];
        let reach = reach.map(|(host, at)| (host.to_owned(), at.parse().unwrap())).into();
        let client = crate::http::client(std::time::Duration::from_secs(1)).unwrap();
        let request = Loopback::new(reach).get(&client, &Address::parse(address).unwrap());
        assert_eq!(request.map(|request| request.build().unwrap().url().to_string()), asked.map(str::to_owned));
    }
}
