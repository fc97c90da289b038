//! What a page says in JSON-LD: dates of the page and its videos (schema.org).

use serde_json::Value;

use crate::entry::Video;

/// What one block of linked data holds.
#[derive(Debug, Default, PartialEq)]
pub(super) struct LinkedData {
    pub(super) modified: Option<String>,
    pub(super) published: Option<String>,
    pub(super) images: Vec<String>,
    pub(super) videos: Vec<Video>,
}

/// Things with dates of their own that are not the page's.
const OTHER_THINGS: [&str; 7] =
    ["VideoObject", "ImageObject", "AudioObject", "Comment", "Event", "Person", "Organization"];

impl LinkedData {
    /// Reads one block; broken JSON says nothing. Addresses and dates come as they stand there.
    pub(super) fn read(json: &[u8]) -> Self {
        let mut data = Self::default();
        if let Ok(value) = serde_json::from_slice::<Value>(json) {
            data.top(&value);
        }
        data
    }

    /// A thing that the block is about: the page's own dates are looked for here.
    fn top(&mut self, value: &Value) {
        match value {
            Value::Array(things) => things.iter().for_each(|thing| self.top(thing)),
            Value::Object(thing) => {
                if let Some(graph) = thing.get("@graph") {
                    self.top(graph);
                }
                if !OTHER_THINGS.iter().any(|other| is_a(value, other)) {
                    let date = |name: &str| thing.get(name).and_then(Value::as_str).map(str::to_owned);
                    self.modified = self.modified.take().or_else(|| date("dateModified"));
                    self.published = self.published.take().or_else(|| date("datePublished"));
                    for name in ["image", "primaryImageOfPage"] {
                        self.images.extend(thing.get(name).map(addresses).unwrap_or_default());
                    }
                }
                self.videos_in(value);
            }
            _ => {}
        }
    }

    /// Videos, however deep.
    fn videos_in(&mut self, value: &Value) {
        match value {
            Value::Array(things) => things.iter().for_each(|thing| self.videos_in(thing)),
            Value::Object(thing) if is_a(value, "VideoObject") => {
                self.videos.push(video(thing));
                self.videos.truncate(super::MOST_VIDEOS);
            }
            Value::Object(thing) => {
                thing.iter().filter(|(name, _)| *name != "@graph").for_each(|(_, value)| self.videos_in(value));
            }
            _ => {}
        }
    }
}

fn is_a(thing: &Value, wanted: &str) -> bool {
    let named = |name: &Value| name.as_str().is_some_and(|name| name.rsplit(['/', ':', '#']).next() == Some(wanted));
    match thing.get("@type") {
        Some(Value::Array(types)) => types.iter().any(named),
        Some(name) => named(name),
        None => false,
    }
}

/// A picture may be an address, an object with a `url`, or a list of either.
fn addresses(value: &Value) -> Vec<String> {
    match value {
        Value::String(address) => vec![address.clone()],
        Value::Array(list) => list.iter().flat_map(addresses).take(super::MOST_IMAGES).collect(),
        Value::Object(thing) => thing.get("contentUrl").or_else(|| thing.get("url")).map(addresses).unwrap_or_default(),
        _ => Vec::new(),
    }
}

fn video(thing: &serde_json::Map<String, Value>) -> Video {
    let text = |name: &str| thing.get(name).and_then(Value::as_str).map(|text| text.trim().to_owned());
    Video {
        thumbnail_loc: thing
            .get("thumbnailUrl")
            .or_else(|| thing.get("thumbnail"))
            .and_then(|value| addresses(value).into_iter().next()),
        title: text("name"),
        description: text("description"),
        content_loc: text("contentUrl"),
        player_loc: text("embedUrl"),
        duration: text("duration").as_deref().and_then(seconds),
        expiration_date: text("expires"),
        publication_date: text("uploadDate").or_else(|| text("datePublished")),
    }
}

/// An ISO 8601 duration in whole seconds, within what the video extension takes (1 to 28,800).
fn seconds(text: &str) -> Option<u32> {
    let span: jiff::SignedDuration = text.parse().ok()?;
    u32::try_from(span.as_secs()).ok().filter(|seconds| (1..=28_800).contains(seconds))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain(r#"{"@type": "Article", "dateModified": "2026-05-01"}"#, Some("2026-05-01"), 0)]
    #[case::graph(
        r#"{"@graph": [{"@type": "Person"}, {"@type": "WebPage", "dateModified": "2026-05-02"}]}"#,
        Some("2026-05-02"),
        0
    )]
    #[case::not_the_page(r#"{"@type": "Comment", "dateModified": "2026-05-03"}"#, None, 0)]
    #[case::nested_video(
        r#"{"@type": "WebPage", "hasPart": {"@type": ["Clip", "https://schema.org/VideoObject"], "name": "x"}}"#,
        None,
        1
    )]
    #[case::list(r#"[{"@type": "VideoObject"}, {"@graph": [{"@type": "VideoObject"}]}]"#, None, 2)]
    #[case::broken("{\"@type\": ", None, 0)]
    #[case::scalar("7", None, 0)]
    fn finds_dates_and_videos(#[case] json: &str, #[case] modified: Option<&str>, #[case] videos: usize) {
        let data = LinkedData::read(json.as_bytes());
        assert_eq!((data.modified.as_deref(), data.videos.len()), (modified, videos));
    }

    #[test]
    fn reads_a_video() {
        let data = LinkedData::read(
            br#"{"@type": "VideoObject", "name": "Cutting", "description": "From the cab", "duration": "PT1M35S",
                "thumbnailUrl": ["/films/a.svg", "/films/b.svg"], "contentUrl": "/films/a.webm", "uploadDate": "2026-04-01"}"#,
        );
        let wanted = Video {
            thumbnail_loc: Some("/films/a.svg".into()),
            title: Some("Cutting".into()),
            description: Some("From the cab".into()),
            content_loc: Some("/films/a.webm".into()),
            duration: Some(95),
            publication_date: Some("2026-04-01".into()),
            ..Video::default()
        };
        assert_eq!(data.videos, [wanted]);
    }

    #[rstest]
    #[case("PT1M35S", Some(95))]
    #[case("PT8H", Some(28_800))]
    #[case("PT9H", None)]
    #[case("PT0S", None)]
    #[case("ninety", None)]
    fn durations(#[case] text: &str, #[case] wanted: Option<u32>) {
        assert_eq!(seconds(text), wanted);
    }
}
