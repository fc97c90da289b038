//! Asking for what a page does not say of its film: oEmbed, by the link on the page or by an endpoint of the configuration.

use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use atlas_core::address::{Address, Site};
use atlas_core::page::{Page, read_oembed};
use atlas_core::video::{Video, unite};
use globset::GlobSet;

use crate::http::{self, GetError};

/// The longest answer.
const LONGEST_ANSWER: usize = 1 << 20;
/// How long an answer may take.
const WAIT: Duration = Duration::from_secs(10);
/// The most questions that are asked about one page.
const MOST_QUESTIONS: usize = 20;

/// A provider of the configuration.
#[derive(Debug, Clone)]
pub struct Endpoint {
    /// Frames it knows of.
    pub matching: GlobSet,
    /// The patterns as they were typed.
    pub written: String,
    /// Where it is asked.
    pub address: Address,
}

/// Whom to ask.
#[derive(Debug, Default)]
pub struct Asking {
    /// Providers of the configuration.
    pub endpoints: Vec<Endpoint>,
    /// Follow the links on pages too.
    pub discover: bool,
    /// Hosts that gave no answer: they are not asked again in this run.
    silent: Mutex<HashSet<String>>,
}

impl Asking {
    /// Takes the settings.
    pub fn new(endpoints: Vec<Endpoint>, discover: bool) -> Self {
        Self { endpoints, discover, silent: Mutex::default() }
    }

    /// The settings as a text that differs wherever they make a page say something else.
    pub fn written(&self) -> String {
        let endpoints = self.endpoints.iter().map(|endpoint| format!("{} {}", endpoint.written, endpoint.address));
        format!("{} {}", self.discover, endpoints.collect::<Vec<_>>().join(" "))
    }

    /// Completes the page's videos. Returns what could not be asked: then the page has to be read again another time.
    pub fn complete(&self, page: &mut Page, address: &Address, site: &Site) -> Vec<String> {
        let mut troubles = Vec::new();
        for (question, endpoint, frame) in self.questions(page, address, site) {
            match self.ask(&question, &endpoint) {
                Ok(Some(video)) => {
                    page.unknown_players.retain(|player| Some(player.as_str()) != frame.as_deref());
                    let video = Video { player_loc: frame.or(video.player_loc), ..video };
                    let lone = page.videos.len() == 1 && video.place().is_none();
                    match page.videos.first_mut().filter(|_| lone) {
                        Some(only) => only.complete_from(&video),
                        None => unite(&mut page.videos, video),
                    }
                }
                Ok(None) => {}
                Err(why) => troubles.push(format!("oEmbed: {why}; its videos may lack something until then")),
            }
        }
        let from_page = Video {
            title: page.own_title(),
            description: page.description.clone().or_else(|| page.first_paragraph.clone()),
            ..Video::default()
        };
        page.videos.iter_mut().for_each(|video| video.complete_from(&from_page));
        troubles
    }

    /// What is to be asked, of whom, and the frame it is about.
    fn questions(&self, page: &Page, address: &Address, site: &Site) -> Vec<(String, Address, Option<String>)> {
        let discovered = page.oembed.iter().filter(|link| self.discover && may_be_asked(link, site));
        let mut questions: Vec<_> = discovered.map(|link| (link.as_str().to_owned(), link.clone(), None)).collect();
        // A page may name itself as the one to ask about: it is asked about once.
        questions.retain(|(question, _, _)| question != address.as_str());
        for frame in &page.frames {
            if let Some(endpoint) = self.endpoints.iter().find(|known| known.matching.is_match(frame.as_str())) {
                let mark = if endpoint.address.as_str().contains('?') { '&' } else { '?' };
                let encoded: String = url::form_urlencoded::byte_serialize(frame.as_str().as_bytes()).collect();
                let question = format!("{}{mark}format=json&url={encoded}", endpoint.address);
                questions.push((question, endpoint.address.clone(), Some(frame.as_str().to_owned())));
            }
        }
        questions.truncate(MOST_QUESTIONS);
        questions
    }

    fn ask(&self, question: &str, endpoint: &Address) -> Result<Option<Video>, String> {
        let host = endpoint.host().to_owned();
        if self.silent.lock().unwrap_or_else(PoisonError::into_inner).contains(&host) {
            return Err(format!("{host} gave no answer before in this run"));
        }
        let asked = http::block_on(async {
            let client = http::client(WAIT).map_err(std::io::Error::other)?;
            Ok(http::get_bytes(&client, question, LONGEST_ANSWER).await)
        });
        match asked.unwrap_or_else(|error| Err(GetError::Failed(error.to_string()))) {
            Ok(json) => Ok(read_oembed(&json, endpoint)),
            // The provider knows no such film: that is an answer, and will be the same tomorrow.
            Err(GetError::Status(status)) if matches!(status.as_u16(), 401 | 403 | 404) => Ok(None),
            Err(why) => {
                self.silent.lock().unwrap_or_else(PoisonError::into_inner).insert(host.clone());
                Err(format!("{host}: {why}"))
            }
        }
    }
}

/// A page may name any address at all. Those of this machine and of private networks are only asked where the site itself is
/// there.
fn may_be_asked(link: &Address, site: &Site) -> bool {
    if link.host() == site.root().host() {
        return true;
    }
    let host = link.host();
    let name = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or(""),
        None => host.split(':').next().unwrap_or(""),
    };
    match name.parse::<IpAddr>() {
        Ok(_) => false,
        Err(_) => {
            name.contains('.')
                && !name.ends_with(".localhost")
                && !name.ends_with(".internal")
                && !name.ends_with(".local")
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://films.example/oembed", true)]
    #[case("http://127.0.0.1:9/oembed", false)]
    #[case("http://[::1]/oembed", false)]
    #[case("http://10.0.0.7/oembed", false)]
    #[case("http://localhost/oembed", false)]
    #[case("https://www.marrowvale.example/oembed", true)]
    fn pages_cannot_send_us_just_anywhere(#[case] link: &str, #[case] wanted: bool) {
        let site = Site::parse("https://www.marrowvale.example/").unwrap();
        assert_eq!(may_be_asked(&Address::parse(link).unwrap(), &site), wanted);
    }
}
