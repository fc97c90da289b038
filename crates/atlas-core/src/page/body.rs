//! Reading the content of a page: links, pictures, frames.

use xxhash_rust::xxh3::xxh3_64;

use super::media::{Offer, is_inline};
use super::reading::{PageReading, title_of};
use super::tokens::Attributes;
use super::{Link, MOST_IMAGES, MOST_LINKS, MOST_VIDEOS};
use crate::address::Address;

impl PageReading<'_> {
    pub(super) fn link(&mut self, attributes: &Attributes<'_>) {
        let href = attributes.text("href");
        let reference = href.split('#').next().unwrap_or("");
        if reference.is_empty()
            || self.page.links.len() >= MOST_LINKS
            || !self.met.insert(xxh3_64(reference.as_bytes()))
        {
            return;
        }
        if let Some(address) = self.complete(reference) {
            let rel = attributes.text("rel");
            let nofollow = rel.split_ascii_whitespace().any(|word| word.eq_ignore_ascii_case("nofollow"));
            self.page.links.push(Link { address, nofollow });
        }
    }

    pub(super) fn image(&mut self, attributes: &Attributes<'_>) {
        let words = |names: &[&str]| names.iter().map(|name| attributes.text(name)).collect::<Vec<_>>();
        let (src, srcset) = (attributes.text("src"), attributes.text("srcset"));
        let lazy_src = words(&["data-src", "data-original", "data-lazy-src", "data-lazy"]);
        let lazy_srcset = words(&["data-srcset", "data-lazy-srcset"]);
        let (width, height) = (attributes.text("width"), attributes.text("height"));
        let offer = Offer {
            src: &src,
            srcset: &srcset,
            lazy_src: lazy_src.iter().find(|text| !text.is_empty()).map_or("", |text| text),
            lazy_srcset: lazy_srcset.iter().find(|text| !text.is_empty()).map_or("", |text| text),
            width: &width,
            height: &height,
        };
        let chosen = offer.choose(self.picture.take());
        if let Some(address) = chosen.and_then(|reference| self.file(&reference)) {
            if self.content.is_content() {
                let facts = &mut self.page.facts;
                facts.pictures = facts.pictures.saturating_add(1);
                facts.wordless = facts.wordless.saturating_add(u16::from(!attributes.has("alt")));
            }
            push_new(&mut self.page.images, address);
        }
    }

    /// A frame may contain a player that the site has configured. Others (maps, forms) are not videos.
    pub(super) fn frame(&mut self, attributes: &Attributes<'_>) {
        let reference = [attributes.text("src"), attributes.text("data-src")];
        let reference = reference.into_iter().find(|text| !text.is_empty() && !is_inline(text));
        let Some(address) = reference.and_then(|reference| self.complete(&reference)) else { return };
        if let Some(film) = self.reader.players.iter().find_map(|player| player.video(address.as_str())) {
            self.films.frame(film, title_of(attributes));
        } else if is_like_a_player(&address) && self.page.unknown_players.len() < MOST_VIDEOS {
            self.page.unknown_players.push(address.clone());
        }
        if self.page.frames.len() < MOST_VIDEOS {
            self.page.frames.push(address);
        }
    }

    /// Takes the pictures of the content, then, if the site asks for them, the lead pictures that only the head names.
    pub(super) fn gather_images(&mut self) {
        let linked: Vec<Address> = self.data.images.iter().filter_map(|reference| self.file(reference)).collect();
        let lead = std::mem::take(&mut self.og_images).into_iter().chain(linked).filter(|_| self.reader.lead_picture);
        for image in lead {
            push_new(&mut self.page.images, image);
        }
        if self.no_image_index {
            self.page.images.clear();
        }
    }
}

fn push_new(images: &mut Vec<Address>, image: Address) {
    if images.len() < MOST_IMAGES && !images.contains(&image) {
        images.push(image);
    }
}

/// Whether the address of a frame looks like that of a player.
fn is_like_a_player(address: &Address) -> bool {
    let is_one = |part: &str| matches!(part, "embed" | "player" | "video" | "videos" | "watch");
    let path = address.path().split('?').next().unwrap_or("");
    let named = address.host().split('.').next().is_some_and(is_one) || path.split('/').any(is_one);
    // Maps are embedded, too.
    named && !address.as_str().contains("map") && path.len() > 1
}
