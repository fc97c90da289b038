//! Judging how a server answered a request for a file.

use super::codes::{
    BOT_WALL, CONTENT_ENCODING, CONTENT_TYPE, FILE_REDIRECT, FILE_SLOW, FILE_STATUS, FindingKind, IPV6_TROUBLE,
    NO_ANSWER, ROBOTS_FAILING, TLS_TROUBLE,
};
use super::findings::{Findings, Place};
use super::request::FileRequest;
use crate::number::count;
use crate::placement::is_packed;

/// A file that took longer is slow, in milliseconds.
const SLOW: u64 = 5_000;

/// Why there was no answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Silence {
    /// No connection, none in time, or one that broke off.
    NoAnswer,
    /// No encryption.
    Tls,
}

/// How a server answered.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ServerAnswer {
    /// The HTTP status of the last answer; 0 if there was none.
    pub status: u16,
    /// The addresses to which it was redirected, in order.
    pub redirects: Vec<String>,
    /// `Content-Type`.
    pub content_type: String,
    /// `Content-Encoding`.
    pub content_encoding: String,
    /// Whether the bytes sent begin as gzip does.
    pub sent_gzip: bool,
    /// Whether they do so after `Content-Encoding` was undone.
    pub still_gzip: bool,
    /// The time from the request to the last byte, in milliseconds.
    pub milliseconds: u64,
    /// Why there was none, in a word and in words.
    pub silence: Option<(Silence, String)>,
    /// Whether a page came that keeps programs out.
    pub is_wall: bool,
    /// The IPv6 address at which nothing answers, while another does.
    pub dead_ipv6: Option<String>,
}

impl ServerAnswer {
    /// The findings about the answer for a sitemap file.
    pub(super) fn judge(&self, wanted: &FileRequest, findings: &mut Findings<'_>) {
        let address = wanted.address.as_str();
        let place = Place::file(address);
        self.connection(place, findings);
        if let Some(target) = self.redirects.last() {
            findings.add(&FILE_REDIRECT, place, || match self.redirects.len() {
                1 => format!("leads to {target}"),
                steps => format!("leads to {target} in {steps} steps"),
            });
        }
        match self.status {
            _ if self.is_wall => findings
                .add(&BOT_WALL, place, || format!("answers {} with a page that asks for a browser", self.status)),
            0 | 200 | 404 | 410 => {}
            status => findings.add(&FILE_STATUS, place, || format!("answers {status}")),
        }
        if self.status == 200 && !self.is_wall {
            self.encoding(address, place, findings);
            self.kind(self.redirects.last().map_or(address, String::as_str), place, findings);
        }
        if self.milliseconds > SLOW {
            findings
                .add(&FILE_SLOW, place, || format!("took {}", count(self.milliseconds / 1000, "second", "seconds")));
        }
    }

    /// The findings about the answer for robots.txt. Returns whether engines go on.
    pub(super) fn judge_robots(&self, address: &str, findings: &mut Findings<'_>) -> bool {
        let place = Place::file(address);
        self.connection(place, findings);
        let is_shut = self.status >= 500 || self.status == 429;
        if self.is_wall {
            findings.add(&BOT_WALL, place, || format!("answers {} with a page that asks for a browser", self.status));
        } else if is_shut {
            findings.add(&ROBOTS_FAILING, place, || format!("answers {}", self.status));
        }
        !is_shut && self.status != 0
    }

    fn connection(&self, place: Place<'_>, findings: &mut Findings<'_>) {
        if let Some((silence, why)) = &self.silence {
            let kind: &'static FindingKind = match silence {
                Silence::NoAnswer => &NO_ANSWER,
                Silence::Tls => &TLS_TROUBLE,
            };
            findings.add(kind, place, || why.clone());
        }
        if let Some(at) = &self.dead_ipv6 {
            findings.add(&IPV6_TROUBLE, place, || format!("nothing answers at {at}"));
        }
    }

    fn encoding(&self, address: &str, place: Place<'_>, findings: &mut Findings<'_>) {
        let stated = self.content_encoding.trim();
        let is_stated = !stated.is_empty() && !stated.eq_ignore_ascii_case("identity");
        let what = match (is_stated, is_packed(address)) {
            (true, true) if !self.still_gzip => {
                Some("the .gz file is sent with Content-Encoding, so that what arrives is no longer gzip".to_owned())
            }
            (true, _) if stated.eq_ignore_ascii_case("gzip") && !self.sent_gzip => {
                Some("Content-Encoding says gzip, but the bytes are not compressed".to_owned())
            }
            (true, false) if self.still_gzip => Some("the bytes are compressed twice".to_owned()),
            (false, false) if self.still_gzip => {
                Some("the bytes are compressed, but no Content-Encoding says so".to_owned())
            }
            (true, _) if !stated.eq_ignore_ascii_case("gzip") => {
                Some(format!("Content-Encoding is {stated}, which was not asked for"))
            }
            _ => None,
        };
        what.into_iter().for_each(|what| findings.add(&CONTENT_ENCODING, place, || what));
    }

    fn kind(&self, address: &str, place: Place<'_>, findings: &mut Findings<'_>) {
        let kind = self.content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let path = address.split(['?', '#']).next().unwrap_or_default();
        let expected: &[&str] = if is_packed(path) {
            &["application/gzip", "application/x-gzip", "application/octet-stream", "application/xml", "text/xml"]
        } else if path.ends_with(".txt") {
            &["text/plain"]
        } else {
            &[
                "application/xml",
                "text/xml",
                "application/rss+xml",
                "application/atom+xml",
                "application/rdf+xml",
                "text/plain",
            ]
        };
        if !expected.contains(&kind.as_str()) {
            findings.add(&CONTENT_TYPE, place, || match kind.as_str() {
                "" => "there is no Content-Type".to_owned(),
                kind => format!("is served as {kind}"),
            });
        }
    }
}
