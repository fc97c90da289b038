//! oEmbed: asking a provider for what a page does not say about its video, by the link on the page or by a configured
//! endpoint.

use std::collections::HashSet;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use atlas_core::address::{Address, Site};
use atlas_core::page::{Page, read_oembed};
use atlas_core::video::{Video, unite};
use atlas_store::stop::Stop;
use globset::GlobSet;

use crate::http::{self, FetchError, Fetched, may_be_asked};

/// The longest answer, in bytes.
const LONGEST_ANSWER: usize = 1 << 20;
/// The time limit for an answer.
const WAIT: Duration = Duration::from_secs(10);
/// The most requests for one page.
const MOST_QUESTIONS: usize = 20;

/// A configured provider.
#[derive(Debug, Clone)]
pub struct Endpoint {
    /// The frames it knows about.
    pub matching: GlobSet,
    /// The patterns as typed.
    pub written: String,
    /// The address to ask.
    pub address: Address,
}

/// The providers to ask.
#[derive(Debug, Default)]
pub struct Asking {
    /// The configured providers.
    pub endpoints: Vec<Endpoint>,
    /// Whether to follow oEmbed links on pages, too.
    pub discover: bool,
    /// During one gathering: hosts that gave no answer, which are not asked again.
    silent: Mutex<HashSet<String>>,
    /// During one gathering: the token that asks it to stop.
    stop: Stop,
}

impl Asking {
    /// Takes the settings.
    pub fn new(endpoints: Vec<Endpoint>, discover: bool) -> Self {
        Self { endpoints, discover, ..Self::default() }
    }

    /// A copy for one gathering, which has asked nobody yet.
    pub(crate) fn begin(&self, stop: &Stop) -> Arc<Self> {
        let Self { endpoints, discover, .. } = self;
        Arc::new(Self { stop: stop.clone(), ..Self::new(endpoints.clone(), *discover) })
    }

    /// The settings as text, which differs whenever they could change what is read from a page.
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

    /// The requests for a page: provider, request and the frame that it is about.
    fn questions(&self, page: &Page, address: &Address, site: &Site) -> Vec<(String, Address, Option<String>)> {
        let discovered = page.oembed.iter().filter(|link| self.discover && may_be_asked(link, site));
        let mut questions: Vec<_> = discovered.map(|link| (link.as_str().to_owned(), link.clone(), None)).collect();
        // A page may name itself as the one to ask about. It is asked about once.
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
            return Err(format!("{host} gave no answer earlier in this run"));
        }
        let asked = http::block_on(&self.stop, async {
            let client = http::client(WAIT).map_err(io::Error::other)?;
            Ok(match Fetched::of(client.get(question)).await.map(Fetched::successful) {
                Ok(Ok(fetched)) => fetched.bytes(LONGEST_ANSWER).await,
                Ok(Err(error)) => Err(error),
                Err(error) => Err(error.into()),
            })
        });
        match asked.unwrap_or_else(|error| Err(FetchError::Store(error))) {
            Ok(json) => Ok(read_oembed(&json, endpoint)),
            // The provider does not know the video. That is an answer, and will be the same tomorrow.
            Err(FetchError::Status(status)) if matches!(status.as_u16(), 401 | 403 | 404) => Ok(None),
            Err(why) => {
                self.silent.lock().unwrap_or_else(PoisonError::into_inner).insert(host.clone());
                Err(format!("{host}: {why}"))
            }
        }
    }
}
