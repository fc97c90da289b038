//! The subjects of uptake: everything that is listed, found by the tag of its key.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::{BuildHasherDefault, Hasher};

use atlas_core::address::{Address, Site};
use atlas_core::fingerprint;
use atlas_core::format::{Frame, VideoElement, read};
use atlas_core::placement::FileKind;
use atlas_core::uptake::export::Subject;
use atlas_core::uptake::request::RequestKind;

use atlas_core::{address, placement};

use crate::consoles::sitemap_files;
use crate::destination::Names;
use crate::disk::segmented_gzip::decompress;
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::{FileRow, PackedEntries, SegmentRow, from_bytes, tag};

/// The section of what is in none.
const NO_SECTION: u16 = u16::MAX;

/// Tags are hashes already.
#[derive(Debug, Default, Clone)]
struct AsIs(u64);

impl Hasher for AsIs {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        bytes.iter().for_each(|byte| self.0 = self.0.rotate_left(8) ^ u64::from(*byte));
    }

    fn write_u64(&mut self, number: u64) {
        self.0 = number;
    }
}

type ByTag = HashMap<u64, u32, BuildHasherDefault<AsIs>>;

/// Everything that is listed: pages first, then pictures, videos, sitemap files and robots.txt.
#[derive(Debug)]
pub struct Subjects {
    site: Site,
    seed: u64,
    by_tag: ByTag,
    tags: Vec<u64>,
    /// Where the subjects of each kind end.
    ends: [u32; 3],
    section: Vec<u16>,
    changed: Vec<u32>,
    /// The page of each picture and video.
    page: Vec<u32>,
    sections: Vec<String>,
    files: Vec<String>,
    /// Pictures and videos on other hosts.
    elsewhere: [u64; 2],
}

impl Subjects {
    /// Reads what the ledger lists.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be read.
    pub fn read(ledger: &dyn Ledger, site: &Site, names: &Names) -> Result<Self, StoreError> {
        let remembered = ledger.remembered()?;
        let mut subjects = Self {
            site: site.clone(),
            seed: ledger.seed()?,
            by_tag: ByTag::default(),
            tags: Vec::new(),
            ends: [0; 3],
            section: Vec::new(),
            changed: Vec::new(),
            page: Vec::new(),
            sections: Vec::new(),
            files: Vec::new(),
            elsewhere: [0; 2],
        };
        let names_of: BTreeSet<&str> = remembered.files.iter().map(|file| file.section.as_str()).collect();
        let sections: BTreeMap<&str, u16> = names_of.into_iter().zip(0..).collect();
        subjects.sections = sections.keys().map(|name| (*name).to_owned()).collect();
        let section_of = |file: &FileRow| sections.get(file.section.as_str()).copied().unwrap_or(NO_SECTION);
        subjects.pages(ledger, &remembered, &section_of)?;
        subjects.ends[0] = subjects.tags.len() as u32;
        for kind in [RequestKind::Image, RequestKind::Video] {
            subjects.media(ledger, &remembered, kind, &section_of)?;
            subjects.ends[if kind == RequestKind::Image { 1 } else { 2 }] = subjects.tags.len() as u32;
        }
        for file in sitemap_files(ledger, names)? {
            let at = subjects.add(&file, NO_SECTION, 0, 0);
            let other = if placement::is_packed(&file) {
                placement::plain_name(&file).to_owned()
            } else {
                placement::packed_name(&file)
            };
            subjects.by_tag.entry(subjects.tag_of(&other)).or_insert(at);
            subjects.files.push(file);
        }
        let robots = format!("{}/robots.txt", site.root().origin());
        subjects.add(&robots, NO_SECTION, 0, 0);
        Ok(subjects)
    }

    fn pages(
        &mut self,
        ledger: &dyn Ledger,
        remembered: &Remembered,
        section_of: &(dyn Fn(&FileRow) -> u16 + Sync),
    ) -> Result<(), StoreError> {
        let mut segments = remembered.segments(|_| true);
        let count: u32 = remembered.segments(|kind| kind == FileKind::Pages).map(|(_, segment)| segment.count).sum();
        self.by_tag.reserve(count as usize);
        ledger.each_segment_entries(&mut |PackedEntries { entries, .. }| {
            let missing = || StoreError::LedgerDamaged("a segment is missing");
            let (file, segment) = segments.next().ok_or_else(missing)?;
            if file.kind != FileKind::Pages {
                return Ok(());
            }
            let section = section_of(file);
            for entry in from_bytes(&entries, segment.count as usize)? {
                self.insert(tag(entry.key), section, entry.changed, 0);
            }
            Ok(())
        })
    }

    /// Adds the pictures or the videos, from the texts of the segments that have some.
    fn media(
        &mut self,
        ledger: &dyn Ledger,
        remembered: &Remembered,
        kind: RequestKind,
        section_of: &dyn Fn(&FileRow) -> u16,
    ) -> Result<(), StoreError> {
        let has = |segment: &SegmentRow| match kind {
            RequestKind::Image => segment.facts.images > 0,
            _ => segment.facts.videos > 0,
        };
        for (file, segment) in remembered.segments(|_| true).filter(|(_, segment)| has(segment)) {
            let section = section_of(file);
            each_media(&ledger.body(file.id, segment.number)?, segment.size, kind, |page, url| {
                let page = self.find_page(page).unwrap_or(0);
                let changed = self.changed.get(page as usize).copied().unwrap_or(0);
                if address::origin(url) != self.site.root().origin() {
                    self.elsewhere[usize::from(kind == RequestKind::Video)] += 1;
                }
                self.add(url, section, changed, page);
            })?;
        }
        Ok(())
    }

    fn add(&mut self, url: &str, section: u16, changed: u32, page: u32) -> u32 {
        self.insert(self.tag_of(url), section, changed, page)
    }

    fn insert(&mut self, tag: u64, section: u16, changed: u32, page: u32) -> u32 {
        let next = self.tags.len() as u32;
        let at = *self.by_tag.entry(tag).or_insert(next);
        if at == next {
            self.tags.push(tag);
            self.section.push(section);
            self.changed.push(changed);
            self.page.push(page);
        }
        at
    }

    /// The tag of an address.
    pub fn tag_of(&self, address: &str) -> u64 {
        tag(fingerprint::key(self.seed, address))
    }

    /// The site.
    pub fn site(&self) -> &Site {
        &self.site
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.tags.len()
    }

    /// Whether nothing is listed.
    pub fn is_empty(&self) -> bool {
        self.tags.is_empty()
    }

    /// The tags of all, in order.
    pub(super) fn tags(&self) -> &[u64] {
        &self.tags
    }

    /// The subject with this tag.
    pub(super) fn find(&self, tag: u64) -> Option<u32> {
        self.by_tag.get(&tag).copied()
    }

    /// The page with this tag, which is probably the one at this place: pages are in the order of files.
    pub(super) fn page_at(&self, nth: u32, tag: u64) -> Option<u32> {
        if self.tags.get(nth as usize) == Some(&tag) { Some(nth) } else { self.find(tag) }
    }

    /// The places of pages in the order of files, sorted.
    pub(super) fn places(&self, pages: &[u32]) -> Vec<u32> {
        let mut places = pages.to_vec();
        places.sort_unstable();
        places
    }

    fn find_page(&self, url: &str) -> Option<u32> {
        let url = Address::parse(url).map_or_else(|_| url.to_owned(), Address::into_string);
        self.find(self.tag_of(&url)).filter(|at| *at < self.ends[0])
    }

    /// What a subject is.
    pub(super) fn kind(&self, at: u32) -> RequestKind {
        let [pages, images, videos] = self.ends;
        match at {
            at if at < pages => RequestKind::Page,
            at if at < images => RequestKind::Image,
            at if at < videos => RequestKind::Video,
            at if at as usize + 1 < self.tags.len() => RequestKind::SitemapFile,
            _ => RequestKind::Robots,
        }
    }

    /// The places of the pages, pictures or videos.
    pub(super) fn range(&self, subject: Subject) -> std::ops::Range<u32> {
        let [pages, images, videos] = self.ends;
        match subject {
            Subject::Pages => 0..pages,
            Subject::Images => pages..images,
            Subject::Videos => images..videos,
            Subject::SitemapFiles => videos..videos + self.files.len() as u32,
        }
    }

    /// The name of the section of a subject.
    pub(super) fn section(&self, at: u32) -> usize {
        usize::from(self.section[at as usize])
    }

    /// The names of all sections.
    pub(super) fn sections(&self) -> &[String] {
        &self.sections
    }

    /// The run in which a subject, or the page that shows it, last changed.
    pub(super) fn changed(&self, at: u32) -> u32 {
        self.changed[at as usize]
    }

    /// The page that shows a picture or video.
    pub(super) fn page_of(&self, at: u32) -> u32 {
        self.page[at as usize]
    }

    /// The addresses of the sitemap files.
    pub(super) fn files(&self) -> &[String] {
        &self.files
    }

    /// How many pictures or videos are on other hosts, whose logs are not here.
    pub(super) fn elsewhere(&self, subject: Subject) -> u64 {
        match subject {
            Subject::Images => self.elsewhere[0],
            Subject::Videos => self.elsewhere[1],
            Subject::Pages | Subject::SitemapFiles => 0,
        }
    }
}

/// Passes on the URLs of pictures or videos in the text of a segment, each with that of its page.
fn each_media(
    body: &[u8],
    raw_size: u64,
    kind: RequestKind,
    mut take: impl FnMut(&str, &str),
) -> Result<(), StoreError> {
    let damaged = || StoreError::LedgerDamaged("the text of a segment cannot be read");
    let raw = decompress(body, raw_size).map_err(|_| damaged())?;
    let frame = Frame::ALL;
    let file = [&frame.open(None)[..], &raw, Frame::CLOSE].concat();
    let each = |url: atlas_core::format::RawUrl<'_>| {
        let Some(page) = url.loc else { return };
        match kind {
            RequestKind::Image => url.images.iter().for_each(|image| take(&page, image)),
            _ => {
                for video in &url.videos {
                    let place = video.text(VideoElement::Content).or_else(|| video.text(VideoElement::Player));
                    place.into_iter().for_each(|place| take(&page, place));
                }
            }
        }
    };
    read(&file, each, |_| ()).map_err(|_| damaged())?;
    Ok(())
}
