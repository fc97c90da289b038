//! The state of reading a page: what was found so far.

use std::collections::HashSet;

use super::digest::Content;
use super::films::Films;
use super::linked_data::LinkedData;
use super::media::{ImageCandidate, is_inline};
use super::tokens::Attributes;
use super::{Heading, LONGEST_TEXT, MOST_HEADINGS, MOST_NAMES, MOST_VIDEOS, Page, PageReader};
use crate::address::{Address, Base, LONGEST};
use crate::lastmod::Lastmod;

/// The fewest bytes of a paragraph that can serve as the description of a page without one. A shorter one is used only
/// if there is no other.
const PARAGRAPH_LEAST: usize = 40;

/// Where text goes besides the digest.
pub(super) enum Listening {
    No,
    Title,
    Heading(u8),
    Paragraph,
    LinkedData,
}

pub(super) struct PageReading<'a> {
    pub(super) reader: &'a PageReader,
    pub(super) page: Page,
    pub(super) address: &'a Address,
    pub(super) base: Option<Base>,
    pub(super) content: Content,
    pub(super) listening: Listening,
    pub(super) heard: Vec<u8>,
    pub(super) svg_depth: u32,
    // Values of the head that are weighed against each other at the end.
    pub(super) og_title: Option<String>,
    pub(super) og_description: Option<String>,
    /// The first paragraph, if it is too short.
    pub(super) short_paragraph: Option<String>,
    pub(super) og_images: Vec<Address>,
    pub(super) data: LinkedData,
    pub(super) no_image_index: bool,
    pub(super) films: Films,
    /// What the sources of the open `picture` offer.
    pub(super) picture: Option<ImageCandidate>,
    /// Hashes of link references that were found before.
    pub(super) met: HashSet<u64>,
}

impl<'a> PageReading<'a> {
    pub(super) fn new(address: &'a Address, reader: &'a PageReader) -> Self {
        Self {
            reader,
            page: Page::default(),
            address,
            base: Base::of(address).ok(),
            content: Content::new(),
            listening: Listening::No,
            heard: Vec::new(),
            svg_depth: 0,
            short_paragraph: None,
            og_title: None,
            og_description: None,
            og_images: Vec::new(),
            data: LinkedData::default(),
            no_image_index: false,
            films: Films::default(),
            picture: None,
            met: HashSet::new(),
        }
    }

    pub(super) fn listen(&mut self, listening: Listening) {
        self.heard_out();
        self.listening = listening;
    }

    /// Stores the text that was collected.
    pub(super) fn heard_out(&mut self) {
        match std::mem::replace(&mut self.listening, Listening::No) {
            Listening::No => return,
            Listening::Title => self.page.title = folded(&self.heard),
            Listening::Heading(level) => {
                if let Some(text) = folded(&self.heard)
                    && self.page.headings.len() < MOST_HEADINGS
                {
                    self.page.headings.push(Heading { level, text });
                }
            }
            Listening::Paragraph => match folded(&self.heard) {
                Some(text) if text.len() >= PARAGRAPH_LEAST => self.page.first_paragraph = Some(text),
                short => self.short_paragraph = self.short_paragraph.take().or(short),
            },
            Listening::LinkedData => {
                let block = LinkedData::read(&self.heard);
                self.data.headline = self.data.headline.take().or(block.headline);
                self.data.modified = self.data.modified.take().or(block.modified);
                self.data.published = self.data.published.take().or(block.published);
                self.data.images.extend(block.images);
                block.categories.iter().for_each(|name| push_name(&mut self.page.categories, name));
                block.authors.iter().for_each(|name| push_name(&mut self.page.authors, name));
                self.data.videos.extend(block.videos);
                self.data.videos.truncate(MOST_VIDEOS);
            }
        }
        self.heard.clear();
    }

    /// Resolves a reference; `None` if the address would be too long for a sitemap.
    pub(super) fn complete(&self, reference: &str) -> Option<Address> {
        let short = |text: &str| text.len() <= LONGEST;
        let address = self.base.as_ref().filter(|_| short(reference))?.join(reference).ok()?;
        Some(address).filter(|address| short(address.as_str()))
    }

    /// The address of a picture or video, if it is a file of its own.
    pub(super) fn file(&self, reference: &str) -> Option<Address> {
        let address = self.complete(reference).filter(|_| !reference.is_empty() && !is_inline(reference))?;
        Some(match self.reader.drop_parameters.clean(address.as_str()) {
            std::borrow::Cow::Borrowed(same) if same.len() == address.as_str().len() => address,
            cleaned => Address::trusted(cleaned),
        })
    }

    /// `base` changes what relative URLs mean (HTML Standard). Only the first one counts.
    pub(super) fn rebase(&mut self, attributes: &Attributes<'_>) {
        if let Some(address) = self.complete(&attributes.text("href")) {
            self.base = Base::of(&address).ok();
        }
    }

    pub(super) fn date(&self, text: &str) -> Option<Lastmod> {
        Lastmod::read(text, &self.reader.timezone)
    }
}

/// Adds a category, tag or author, unless it is empty or there are too many.
pub(super) fn push_name(names: &mut Vec<String>, content: &str) {
    let name = folded(content.as_bytes()).filter(|name| !name.contains("://"));
    names.extend(name.filter(|name| names.len() < MOST_NAMES && !names.contains(name)));
}

/// Text with its white space collapsed; `None` if nothing is left.
pub(super) fn folded(bytes: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(bytes);
    let words: Vec<&str> = text.split_whitespace().collect();
    (!words.is_empty()).then(|| cut(&words.join(" ")))
}

pub(super) fn cut(text: &str) -> String {
    let mut end = text.len().min(LONGEST_TEXT);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    text[..end].to_owned()
}

/// The title of a frame or video.
pub(super) fn title_of(attributes: &Attributes<'_>) -> Option<String> {
    folded(attributes.text("title").as_bytes())
}
