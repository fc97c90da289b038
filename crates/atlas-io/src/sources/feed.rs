//! The source `feed`: RSS, Atom or JSON Feed, including the pictures and videos of its entries.

use std::io::Read;
use std::path::PathBuf;
use std::time::Duration;

use atlas_core::address::{Address, Site};
use atlas_core::contribution::Contribution;
use atlas_core::fingerprint;
use atlas_core::lastmod::Lastmod;
use atlas_core::page::{self, PageReader};
use atlas_core::report::Problem;
use atlas_core::video::{Video, unite};
use atlas_store::arrival::Block;
use atlas_store::error::StoreError;
use atlas_store::source::{Gathering, Source};
use feed_rs::model::{Entry, Link, MediaObject, Text};

use crate::reading::input::{self, Input};
use crate::sources::failed;

/// The largest feed, unpacked, in bytes.
const LARGEST: u64 = 64 << 20;

/// A feed.
#[derive(Debug, Clone)]
pub struct FeedSource {
    /// Where to read it from.
    pub input: Input,
    /// The same as typed by the user.
    pub shown: String,
    /// The site.
    pub site: Site,
    /// The section of its entries.
    pub section: Option<String>,
    /// How the contents of entries are read.
    pub reader: PageReader,
    /// The time limit for fetching.
    pub wait: Duration,
}

impl Source for FeedSource {
    fn name(&self) -> String {
        format!("feed {}", self.shown)
    }

    fn settings(&self) -> u64 {
        fingerprint::settings("")
    }

    fn reads(&self) -> Option<Vec<PathBuf>> {
        self.input.file().map(|file| vec![file.to_owned()])
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let cannot_read = |why: String| failed(self.name(), format!("cannot read {}: {why}", self.shown));
        let reader = self
            .input
            .open(self.wait, gathering.stop())
            .map_err(|error| cannot_read(format!("{error}{}", input::mend(&error))))?;
        let mut bytes = Vec::new();
        reader.take(LARGEST + 1).read_to_end(&mut bytes).map_err(|error| cannot_read(error.to_string()))?;
        if bytes.len() as u64 > LARGEST {
            return Err(cannot_read(format!("it is longer than {LARGEST} bytes")));
        }
        let base = match &self.input {
            Input::Url(url) => url.as_str(),
            _ => self.site.root().as_str(),
        };
        let parser = feed_rs::parser::Builder::new().base_uri(Some(base)).build();
        let feed = parser.parse(&bytes[..]).map_err(|error| {
            cannot_read(format!(
                "it is neither RSS nor Atom nor JSON Feed ({error}); correct “file” in the configuration"
            ))
        })?;
        let language = feed.language.clone();
        let mut block = Block::new(gathering.decider());
        for (nth, entry) in feed.entries.into_iter().enumerate() {
            match self.contribution(entry, language.as_deref()) {
                Ok(contribution) => block.push(&contribution),
                Err(why) => {
                    let message = format!("entry {}: {why}; it is skipped", nth + 1);
                    gathering.problem(Problem { file: self.shown.clone(), line: None, message, passed_over: true });
                }
            }
        }
        gathering.push(block);
        Ok(())
    }
}

impl FeedSource {
    fn contribution(&self, entry: Entry, language: Option<&str>) -> Result<Contribution<'static>, String> {
        // Enclosures have this name in Atom and RSS, but only a type in JSON Feed.
        let kind_of = |link: &Link| link.media_type.clone().unwrap_or_default();
        let (files, pages): (Vec<&Link>, Vec<&Link>) = entry.links.iter().partition(|link| {
            let kind = kind_of(link);
            link.rel.as_deref() == Some("enclosure") || kind.starts_with("image/") || kind.starts_with("video/")
        });
        let alternate = pages.iter().find(|link| link.rel.as_deref().is_none_or(|rel| rel == "alternate"));
        let link = alternate.or(pages.first()).map(|link| link.href.as_str());
        let link = link.or(Some(entry.id.as_str()).filter(|id| id.starts_with("http"))).ok_or("it has no link")?;
        let address = self.site.address(link).map_err(|why| why.to_string())?;
        let date = |seconds: i64| Lastmod::Instant { seconds, offset: 0 };
        let title = entry.title.map(|text| plain(&text));
        let summary = entry.summary.as_ref().map(plain);
        let body = entry.content.and_then(|content| content.body);
        let summary_html = entry.summary.filter(is_html).map(|text| text.content);
        let inside = body.or(summary_html).and_then(|html| page::read(html.as_bytes(), &address, &self.reader).ok());
        let inside = inside.unwrap_or_default();
        let mut images: Vec<String> = inside.images.into_iter().map(Address::into_string).collect();
        let mut videos = inside.videos;
        let own = Video { title: title.clone(), description: summary.clone(), ..Video::default() };
        for media in &entry.media {
            self.media(media, &address, &mut images, &mut videos);
        }
        for link in files {
            self.file(&link.href, &kind_of(link), &address, &mut images, &mut videos);
        }
        videos.iter_mut().for_each(|video| video.complete_from(&own));
        let published = entry.published.map(|instant| date(instant.timestamp()));
        let updated = entry.updated.map(|instant| date(instant.timestamp()));
        Ok(Contribution {
            url: address.into_string().into(),
            // The parser reads RSS's publication date as the date of change, too; it is not a separate statement.
            modified: updated.filter(|updated| Some(*updated) != published),
            published,
            title: title.filter(|title| !title.is_empty()).map(Into::into),
            description: summary.filter(|summary| !summary.is_empty()).map(Into::into),
            language: entry.language.or(language.map(str::to_owned)).map(Into::into),
            id: Some(entry.id.into()),
            categories: entry
                .categories
                .into_iter()
                .map(|category| category.label.unwrap_or(category.term).into())
                .collect(),
            authors: entry
                .authors
                .into_iter()
                .map(|author| author.name.into())
                .filter(|name: &std::borrow::Cow<'_, str>| !name.is_empty())
                .collect(),
            images: images.into_iter().map(Into::into).collect(),
            videos,
            section: self.section.clone().map(Into::into),
            ..Contribution::default()
        })
    }

    /// Reads a Media RSS group: pictures become pictures; videos get its title, text, thumbnail and duration.
    fn media(&self, media: &MediaObject, page: &Address, images: &mut Vec<String>, videos: &mut Vec<Video>) {
        let thumbnail = media.thumbnails.first().and_then(|one| self.place(&one.image.uri, page));
        let mut any = false;
        for content in &media.content {
            let Some(url) = &content.url else { continue };
            let kind = content.content_type.as_ref().map(ToString::to_string).unwrap_or_default();
            any |= self.file(url.as_str(), &kind, page, images, videos);
            if let Some(video) = videos
                .iter_mut()
                .find(|video| video.content_loc.as_deref() == self.place(url.as_str(), page).as_deref())
            {
                let seconds = content.duration.or(media.duration).map(|length| length.as_secs());
                video.complete_from(&Video {
                    title: media.title.as_ref().map(plain),
                    description: media.description.as_ref().map(plain),
                    thumbnail_loc: thumbnail.clone(),
                    duration: seconds
                        .and_then(|seconds| u32::try_from(seconds).ok())
                        .filter(|seconds| atlas_core::video::DURATIONS.contains(seconds)),
                    rating: media
                        .community
                        .as_ref()
                        .and_then(|community| community.stars_avg)
                        .filter(|stars| (0.0..=5.0).contains(stars)),
                    view_count: media.community.as_ref().and_then(|community| community.stats_views),
                    ..Video::default()
                });
            }
        }
        if let Some(thumbnail) = thumbnail.filter(|_| !any) {
            push_new(images, thumbnail);
        }
    }

    /// Adds a file that belongs to an entry. Returns whether it is a video.
    fn file(&self, url: &str, kind: &str, page: &Address, images: &mut Vec<String>, videos: &mut Vec<Video>) -> bool {
        let Some(place) = self.place(url, page) else { return false };
        if kind.starts_with("image/") {
            push_new(images, place);
        } else if kind.starts_with("video/") {
            unite(videos, Video { content_loc: Some(place), ..Video::default() });
            return true;
        }
        false
    }

    fn place(&self, url: &str, page: &Address) -> Option<String> {
        let address = page.join(url).ok()?;
        Some(self.reader.drop_parameters.clean(address.as_str()).into_owned())
    }
}

fn push_new(images: &mut Vec<String>, image: String) {
    if !images.contains(&image) {
        images.push(image);
    }
}

fn is_html(text: &Text) -> bool {
    text.content_type.essence().to_string() != "text/plain"
}

/// The words of a text in any format.
fn plain(text: &Text) -> String {
    if !is_html(text) {
        return text.content.split_whitespace().collect::<Vec<_>>().join(" ");
    }
    page::text_of(&text.content)
}
