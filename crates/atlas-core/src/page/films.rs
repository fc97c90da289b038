//! The videos of a page: told by elements, by Open Graph, by linked data and by frames, and put together so that one film
//! told in several ways is one video.

use super::{MOST_VIDEOS, Page};
use crate::address::Address;
use crate::lastmod::Lastmod;
use crate::video::{DURATIONS, Video, unite};

/// The tellings, as they are met.
#[derive(Debug, Default)]
pub(super) struct Films {
    /// The `video` element that is open.
    open: Option<Video>,
    elements: Vec<Video>,
    frames: Vec<Video>,
    graph: Option<Video>,
}

impl Films {
    /// A `video` element begins.
    pub(super) fn begin(&mut self, content: Option<Address>, poster: Option<Address>, title: Option<String>) {
        self.end();
        let text = |address: Option<Address>| address.map(|address| address.as_str().to_owned());
        self.open = Some(Video { content_loc: text(content), thumbnail_loc: text(poster), title, ..Video::default() });
    }

    /// Whether a `source` that comes now belongs to a `video`.
    pub(super) fn is_open(&self) -> bool {
        self.open.is_some()
    }

    /// A `source` of the open `video`: the first counts.
    pub(super) fn source(&mut self, content: Option<Address>) {
        if let Some(film) = &mut self.open {
            film.content_loc = film.content_loc.take().or(content.map(|address| address.as_str().to_owned()));
        }
    }

    /// The `video` element ends.
    pub(super) fn end(&mut self) {
        if let Some(film) = self.open.take().filter(|film| film.content_loc.is_some())
            && self.elements.len() < MOST_VIDEOS
        {
            self.elements.push(film);
        }
    }

    /// A frame that holds a player, with its title.
    pub(super) fn frame(&mut self, film: Video, title: Option<String>) {
        if self.frames.len() < MOST_VIDEOS {
            self.frames.push(Video { title, ..film });
        }
    }

    /// A word of Open Graph about the page's video.
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

    /// Linked data knows most about a film, Open Graph less, element and frame least. What nobody says of a film is taken
    /// from the page: its title, its summary or else its first paragraph, its lead picture.
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
