//! Reading the texts of listed pages: all of them on all cores, or those of one segment.

use atlas_core::format::{Frame, RawUrl, RawVideo, VideoElement, read};
use atlas_core::placement::FileKind;
use rayon::prelude::*;

use crate::disk::segmented_gzip::decompress;
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::model::{SegmentRow, from_bytes, tag};

/// How many segments are read before their texts are unpacked side by side.
const BATCH: usize = 256;

/// A listed page, as its sitemap says.
#[derive(Debug, Clone, Copy)]
pub(crate) struct PageText<'a> {
    /// Its place among all listed pages, in the order of files.
    pub nth: u32,
    /// The tag of its key.
    pub tag: u64,
    /// Its URL.
    pub url: &'a str,
    /// Its date.
    pub lastmod: Option<&'a str>,
    /// The number of its pictures.
    pub images: usize,
    /// The number of its videos.
    pub videos: usize,
    /// Its first picture.
    pub image: Option<&'a str>,
    /// Where its first video is.
    pub video: Option<&'a str>,
}

/// Passes every listed page through `map` on all cores, and what that makes to `take`, in order. Of pages at places that
/// are not `wanted`, those in a segment without a wanted one are not unpacked; the places are sorted.
pub(crate) fn each_page_of<T: Send>(
    ledger: &dyn Ledger,
    remembered: &Remembered,
    wanted: Option<&[u32]>,
    map: impl Fn(&PageText<'_>) -> Option<T> + Sync,
    mut take: impl FnMut(T),
) -> Result<(), StoreError> {
    let segments: Vec<_> = remembered.segments(|kind| kind == FileKind::Pages).collect();
    let mut nth = 0;
    for batch in segments.chunks(BATCH) {
        let mut packed = Vec::new();
        for (file, segment) in batch {
            let first = nth;
            nth += segment.count;
            let is_wanted = wanted.is_none_or(|wanted| {
                let next = wanted.partition_point(|place| *place < first);
                wanted.get(next).is_some_and(|place| *place < nth)
            });
            if is_wanted {
                let whole = ledger.whole(file.id, segment.number, true)?;
                packed.push((tags_of(&whole.entries, segment)?, whole.body, segment.size, first));
            }
        }
        let made: Result<Vec<Vec<T>>, StoreError> =
            packed.par_iter().map(|(tags, body, size, first)| of_segment((tags, *first), body, *size, &map)).collect();
        made?.into_iter().flatten().for_each(&mut take);
    }
    Ok(())
}

/// Passes the entries of one segment through `map`.
pub(crate) fn of_segment<T>(
    (tags, first): (&[u64], u32),
    body: &[u8],
    size: u64,
    map: &(impl Fn(&PageText<'_>) -> Option<T> + Sync),
) -> Result<Vec<T>, StoreError> {
    let damaged = || StoreError::LedgerDamaged("the text of a segment cannot be read");
    let raw = decompress(body, size).map_err(|_| damaged())?;
    let frame = Frame::ALL;
    let file = [&frame.open(None)[..], &raw, Frame::CLOSE].concat();
    let (mut made, mut tags) = (Vec::new(), tags.iter().zip(first..));
    let each = |url: RawUrl<'_>| {
        let (Some((tag, nth)), Some(loc)) = (tags.next(), &url.loc) else { return };
        let video = |video: &'_ RawVideo<'_>| {
            let place = video.text(VideoElement::Content).or_else(|| video.text(VideoElement::Player));
            place.map(str::to_owned)
        };
        let video = url.videos.first().and_then(video);
        let page = PageText {
            nth,
            tag: *tag,
            url: loc,
            lastmod: url.lastmod.as_deref(),
            images: url.images.len(),
            videos: url.videos.len(),
            image: url.images.first().map(AsRef::as_ref),
            video: video.as_deref(),
        };
        made.extend(map(&page));
    };
    read(&file, each, |_| ()).map_err(|_| damaged())?;
    Ok(made)
}

/// The tags of the entries of a segment, in order.
pub(crate) fn tags_of(entries: &[u8], segment: &SegmentRow) -> Result<Vec<u64>, StoreError> {
    Ok(from_bytes(entries, segment.count as usize)?.map(|entry| tag(entry.key)).collect())
}

/// As [`each_page_of`], of all that is listed.
pub(crate) fn each_page<T: Send>(
    ledger: &dyn Ledger,
    wanted: Option<&[u32]>,
    map: impl Fn(&PageText<'_>) -> Option<T> + Sync,
    take: impl FnMut(T),
) -> Result<(), StoreError> {
    each_page_of(ledger, &ledger.remembered()?, wanted, map, take)
}
