//! The videos of a page: described by elements, Open Graph, linked data and frames, and combined so that a film that is
//! described several times is one video.

use super::{MOST_VIDEOS, Page};
use crate::address::Address;
use crate::lastmod::Lastmod;
use crate::video::{DURATIONS, Video, unite};

/// The descriptions, in the order in which they are found.
#[derive(Debug, Default)]
pub(super) struct Films {
    /// The open `video` element.
    open: Option<Video>,
    elements: Vec<Video>,
    frames: Vec<Video>,
    graph: Option<Video>,
}

impl Films {
    /// Processes the start of a `video` element.
    pub(super) fn begin(&mut self, content: Option<Address>, poster: Option<Address>, title: Option<String>) {
        self.end();
        let text = |address: Option<Address>| address.map(|address| address.as_str().to_owned());
        self.open = Some(Video { content_loc: text(content), thumbnail_loc: text(poster), title, ..Video::default() });
    }

    /// Whether a `source` at the current position belongs to a `video`.
    pub(super) fn is_open(&self) -> bool {
        self.open.is_some()
    }

    /// Processes a `source` of the open `video`; the first one counts.
    pub(super) fn source(&mut self, content: Option<Address>) {
        if let Some(film) = &mut self.open {
            film.content_loc = film.content_loc.take().or(content.map(|address| address.as_str().to_owned()));
        }
    }

    /// Processes the end of a `video` element.
    pub(super) fn end(&mut self) {
        if let Some(film) = self.open.take().filter(|film| film.content_loc.is_some())
            && self.elements.len() < MOST_VIDEOS
        {
            self.elements.push(film);
        }
    }

    /// Processes a frame with a player; `title` is the frame's.
    pub(super) fn frame(&mut self, film: Video, title: Option<String>) {
        if self.frames.len() < MOST_VIDEOS {
            self.frames.push(Video { title, ..film });
        }
    }

    /// Processes an Open Graph property of the page's video.
    pub(super) fn graph(&mut self, property: &str, content: &str, place: impl Fn(&str) -> Option<Address>) {
        let film = self.graph.get_or_insert_default();
        match property {
            "og:video" | "og:video:url" | "og:video:secure_url" => {
                film.content_loc = place(content).map(|address| address.as_str().to_owned());
            }
            "og:video:type" if content.eq_ignore_ascii_case("text/html") => film.player_loc = film.content_loc.take(),
            "og:video:duration" | "video:duration" => {
                film.duration = content.parse().ok().filter(|seconds| DURATIONS.contains(seconds));
            }
            "og:video:tag" | "video:tag" => film.tags.push(content.to_owned()),
            _ => {}
        }
    }

    /// Combines all descriptions. Linked data knows most about a film, Open Graph less, elements and frames least. What
    /// none of them gives is taken from the page: its title, its description or else its first paragraph, its lead
    /// picture.
    pub(super) fn gather(
        mut self,
        linked: Vec<Video>,
        page: &Page,
        lead: Option<String>,
        place: impl Fn(&str) -> Option<Address>,
        date: impl Fn(&str) -> Option<Lastmod>,
    ) -> Vec<Video> {
        self.end();
        let graph = self.graph.filter(|film| film.place().is_some());
        let mut videos = Vec::new();
        for telling in linked.into_iter().chain(graph).chain(self.elements).chain(self.frames) {
            if videos.len() < MOST_VIDEOS {
                unite(&mut videos, telling.settled(&place, &date));
            }
        }
        let from_page = Video {
            title: page.own_title(),
            description: page.description.clone().or_else(|| page.first_paragraph.clone()),
            thumbnail_loc: lead,
            ..Video::default()
        };
        videos.iter_mut().for_each(|video| video.complete_from(&from_page));
        videos
    }
}
