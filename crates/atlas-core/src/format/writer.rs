//! The urlset writer: entries in, a file or a part of one out, within the limits of the protocol.

use super::urlset::{Bare, Frame, write_bare, write_url};
use crate::entry::Entry;
use crate::placement::{LimitError, Limits};

/// Writes `url` elements, declares the namespaces that they need, and refuses an entry that would exceed a limit.
///
/// ```
/// use atlas_core::address::Address;
/// use atlas_core::entry::Entry;
/// use atlas_core::format::UrlsetWriter;
/// use atlas_core::placement::{LimitError, Limits};
///
/// let page = |path: &str| Entry::new(Address::parse(&format!("https://www.marrowvale.example{path}")).unwrap());
/// let mut writer = UrlsetWriter::new(Limits { urls: 1, ..Limits::PROTOCOL });
/// writer.push(&page("/?a=1&b=2")).unwrap();
/// assert_eq!(writer.push(&page("/halts/")), Err(LimitError::Urls(1)));
/// let file = String::from_utf8(writer.finish(None)).unwrap();
/// assert!(file.contains("<url><loc>https://www.marrowvale.example/?a=1&amp;b=2</loc></url>"));
/// assert!(!file.contains("xmlns:image") && file.ends_with("</urlset>\n"));
/// ```
#[derive(Debug, Clone)]
pub struct UrlsetWriter {
    limits: Limits,
    frame: Frame,
    elements: Vec<u8>,
    urls: u32,
    media: u32,
}

impl UrlsetWriter {
    /// A writer without entries.
    #[must_use]
    pub fn new(limits: Limits) -> Self {
        Self::with_capacity(limits, 0)
    }

    /// A writer with room for this many bytes of elements.
    #[must_use]
    pub fn with_capacity(limits: Limits, bytes: usize) -> Self {
        Self { limits, frame: Frame::default(), elements: Vec::with_capacity(bytes), urls: 0, media: 0 }
    }

    /// Adds an entry. Videos that lack a required field must have been removed before.
    ///
    /// # Errors
    ///
    /// Returns a [`LimitError`] if the entry would exceed a limit. It is not added then.
    pub fn push(&mut self, entry: &Entry<'_>) -> Result<(), LimitError> {
        self.add(entry.media(), |out| write_url(out, entry))?;
        self.frame = self.frame.and(Frame::of(entry));
        Ok(())
    }

    /// Adds an entry that has nothing but what every entry may have.
    ///
    /// # Errors
    ///
    /// As [`UrlsetWriter::push`].
    pub fn push_bare(&mut self, bare: &Bare<'_>) -> Result<(), LimitError> {
        self.add(0, |out| write_bare(out, bare))
    }

    /// Adds an element that was written before, for a frame that the caller knows. Its media are not counted.
    ///
    /// # Errors
    ///
    /// As [`UrlsetWriter::push`].
    pub fn push_written(&mut self, element: &[u8]) -> Result<(), LimitError> {
        self.add(0, |out| out.extend_from_slice(element))
    }

    fn add(&mut self, media: u32, write: impl FnOnce(&mut Vec<u8>)) -> Result<(), LimitError> {
        let start = self.elements.len();
        write(&mut self.elements);
        let (urls, media) = (self.urls + 1, self.media.saturating_add(media));
        let within = self.limits.check(u64::from(urls), self.elements.len() as u64, u64::from(media));
        match within {
            Ok(()) => (self.urls, self.media) = (urls, media),
            Err(_) => self.elements.truncate(start),
        }
        within
    }

    /// The namespaces that its entries need, without those of elements that were written before.
    #[must_use]
    pub fn frame(&self) -> Frame {
        self.frame
    }

    /// The elements so far.
    #[must_use]
    pub fn elements(&self) -> &[u8] {
        &self.elements
    }

    /// The elements, for a file whose frame is written elsewhere.
    #[must_use]
    pub fn into_elements(self) -> Vec<u8> {
        self.elements
    }

    /// The whole file; `style` is the stylesheet that displays it in a browser.
    #[must_use]
    pub fn finish(self, style: Option<&str>) -> Vec<u8> {
        let mut file = self.frame.open(style);
        file.extend_from_slice(&self.elements);
        file.extend_from_slice(Frame::CLOSE);
        file
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::address::Address;

    fn page(images: usize) -> Entry<'static> {
        let address = Address::parse("https://www.marrowvale.example/halts/").unwrap();
        let images = (0..images).map(|nth| format!("https://www.marrowvale.example/{nth}.svg").into());
        Entry { images: images.collect(), ..Entry::new(address) }
    }

    #[rstest]
    #[case::urls(Limits { urls: 2, ..Limits::PROTOCOL }, LimitError::Urls(2))]
    #[case::bytes(Limits { bytes: 500, ..Limits::PROTOCOL }, LimitError::Bytes(500))]
    #[case::media(Limits { media: 4, ..Limits::PROTOCOL }, LimitError::Media(4))]
    fn an_entry_past_a_limit_is_refused(#[case] limits: Limits, #[case] wanted: LimitError) {
        let mut writer = UrlsetWriter::new(limits);
        let refused = (0..9).find_map(|_| writer.push(&page(2)).err()).unwrap();
        assert_eq!(refused, wanted);
        let before = writer.elements().to_vec();
        assert_eq!(writer.push(&page(2)), Err(wanted), "and so is the next");
        assert_eq!(writer.elements(), before, "nothing of it is written");
        assert!(limits.check(u64::from(writer.urls), before.len() as u64, u64::from(writer.media)).is_ok());
    }

    #[test]
    fn the_frame_fits_the_entries() {
        let mut writer = UrlsetWriter::new(Limits::PROTOCOL);
        writer.push(&page(0)).unwrap();
        assert_eq!(writer.frame(), Frame::default());
        writer.push(&page(1)).unwrap();
        assert_eq!(writer.frame(), Frame { images: true, ..Frame::default() });
        assert!(String::from_utf8(writer.finish(None)).unwrap().contains("xmlns:image="));
    }
}
