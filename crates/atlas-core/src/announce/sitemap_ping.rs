//! The ping of a sitemap: a request that names the main file (sitemaps.org, “Submitting your Sitemap via an HTTP
//! request”).

use super::request::EngineRequest;
use super::{Answer, Then};

/// The request: `GET <endpoint>?sitemap=<the address of a file>`.
pub fn ping(endpoint: &str, file: &str) -> EngineRequest {
    EngineRequest::get(endpoint, &[("sitemap", file)])
}

/// What to do after an answer: engines that have retired the ping answer 404 or 410.
pub fn then(answer: &Answer) -> Then {
    match answer {
        Answer::Status(404 | 410) => Then::Retired,
        answer => answer.then(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::announce::Method;

    #[test]
    fn the_ping_as_published() {
        let request = ping("https://engine.example/ping", "https://www.marrowvale.example/sitemap.xml");
        let url = "https://engine.example/ping?sitemap=https%3A%2F%2Fwww.marrowvale.example%2Fsitemap.xml";
        assert_eq!(request, EngineRequest { method: Method::Get, url: url.into(), headers: vec![], body: vec![] });
        let other = ping("https://engine.example/?do=ping", "https://www.marrowvale.example/a b.xml");
        assert!(other.url.ends_with("/?do=ping&sitemap=https%3A%2F%2Fwww.marrowvale.example%2Fa%20b.xml"));
    }

    #[rstest]
    #[case(200, Then::Done)]
    #[case(404, Then::Retired)]
    #[case(410, Then::Retired)]
    #[case(429, Then::Later)]
    fn a_ping_may_be_retired(#[case] status: u16, #[case] wanted: Then) {
        assert_eq!(then(&Answer::Status(status)), wanted);
    }
}
