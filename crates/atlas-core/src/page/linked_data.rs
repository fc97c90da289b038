//! Reading JSON-LD: the dates of a page and its videos (schema.org).

use serde_json::Value;

use crate::video::{Access, Video, read_duration, read_yes_or_no};

/// The contents of one block of linked data.
#[derive(Debug, Default, PartialEq)]
pub(super) struct LinkedData {
    pub(super) headline: Option<String>,
    pub(super) modified: Option<String>,
    pub(super) published: Option<String>,
    pub(super) images: Vec<String>,
    pub(super) videos: Vec<Video>,
    pub(super) categories: Vec<String>,
    pub(super) authors: Vec<String>,
}

/// Types of things with dates of their own, which are not the page's.
const OTHER_THINGS: [&str; 7] =
    ["VideoObject", "ImageObject", "AudioObject", "Comment", "Event", "Person", "Organization"];

impl LinkedData {
    /// Reads one block. Broken JSON is ignored. Addresses and dates are kept as written.
    pub(super) fn read(json: &[u8]) -> Self {
        let mut data = Self::default();
        if let Ok(value) = serde_json::from_slice::<Value>(json) {
            data.top(&value);
        }
        data
    }

    /// Reads a thing at the top level, which has the page's own dates.
    fn top(&mut self, value: &Value) {
        match value {
            Value::Array(things) => things.iter().for_each(|thing| self.top(thing)),
            Value::Object(thing) => {
                if let Some(graph) = thing.get("@graph") {
                    self.top(graph);
                }
                if !OTHER_THINGS.iter().any(|other| is_a(value, other)) {
                    let date = |name: &str| thing.get(name).and_then(Value::as_str).map(str::to_owned);
                    self.headline = self.headline.take().or_else(|| date("headline"));
                    self.modified = self.modified.take().or_else(|| date("dateModified"));
                    self.published = self.published.take().or_else(|| date("datePublished"));
                    self.categories.extend(thing.get("articleSection").map(words).unwrap_or_default());
                    self.authors.extend(thing.get("author").map(words).unwrap_or_default());
                    for name in ["image", "primaryImageOfPage"] {
                        self.images.extend(thing.get(name).map(addresses).unwrap_or_default());
                    }
                }
                self.videos_in(value);
            }
            _ => {}
        }
    }

    /// Reads videos at any depth.
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

/// A picture: an address, an object with a `url`, or a list of either.
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
    let flag = |name: &str| match thing.get(name)? {
        Value::Bool(flag) => Some(*flag),
        Value::String(text) => read_yes_or_no(text.rsplit('/').next()?),
        _ => None,
    };
    let regions = |name: &str, allow: bool| {
        let names = words(thing.get(name)?).join(" ");
        (!names.is_empty()).then_some(Access { allow, names })
    };
    Video {
        thumbnail_loc: thing
            .get("thumbnailUrl")
            .or_else(|| thing.get("thumbnail"))
            .and_then(|value| addresses(value).into_iter().next()),
        title: text("name"),
        description: text("description"),
        content_loc: text("contentUrl"),
        player_loc: text("embedUrl"),
        duration: text("duration").as_deref().and_then(read_duration),
        expiration_date: text("expires"),
        rating: thing.get("aggregateRating").and_then(|rating| number(rating.get("ratingValue")?)),
        view_count: views(thing),
        publication_date: text("uploadDate").or_else(|| text("datePublished")),
        tags: thing.get("keywords").map(words).unwrap_or_default(),
        family_friendly: flag("isFamilyFriendly"),
        restriction: regions("regionsAllowed", true).or_else(|| regions("ineligibleRegion", false)),
        requires_subscription: flag("requiresSubscription").or(flag("isAccessibleForFree").map(|free| !free)),
        uploader: ["author", "creator", "uploader"].iter().find_map(|name| named(thing.get(*name)?)),
        live: thing.get("publication").and_then(|event| event.get("isLiveBroadcast")?.as_bool()),
        ..Video::default()
    }
}

/// A list of texts, or a text that lists them.
fn words(value: &Value) -> Vec<String> {
    let list =
        |text: &str| text.split(',').map(|word| word.trim().to_owned()).filter(|word| !word.is_empty()).collect();
    match value {
        Value::String(text) => list(text),
        Value::Array(items) => items.iter().flat_map(words).collect(),
        Value::Object(thing) => thing.get("name").map(words).unwrap_or_default(),
        _ => Vec::new(),
    }
}

fn number(value: &Value) -> Option<f64> {
    value.as_f64().or_else(|| value.as_str()?.trim().parse().ok())
}

/// The number of views: given directly, or as one counter among others.
fn views(thing: &serde_json::Map<String, Value>) -> Option<u64> {
    let count = |value: &Value| number(value).filter(|count| *count >= 0.0).map(|count| count as u64);
    let counters: Vec<&Value> = match thing.get("interactionStatistic") {
        Some(Value::Array(counters)) => counters.iter().collect(),
        counter => counter.into_iter().collect(),
    };
    let watches = |counter: &&&Value| {
        let kind = counter.get("interactionType");
        let name = kind.and_then(|kind| kind.as_str().or_else(|| kind.get("@type")?.as_str())).unwrap_or("");
        name.ends_with("WatchAction")
    };
    let counter = counters.iter().find(watches).and_then(|counter| count(counter.get("userInteractionCount")?));
    counter.or_else(|| count(thing.get("interactionCount")?))
}

fn named(value: &Value) -> Option<String> {
    words(value).into_iter().next()
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
                "thumbnailUrl": ["/films/a.svg", "/films/b.svg"], "contentUrl": "/films/a.webm", "uploadDate": "2026-04-01", "keywords": "cab, film", "isFamilyFriendly": "True",
                "interactionStatistic": [{"interactionType": {"@type": "LikeAction"}, "userInteractionCount": 3},
                    {"interactionType": "https://schema.org/WatchAction", "userInteractionCount": "412"}],
                "regionsAllowed": ["GB", {"@type": "Country", "name": "IE"}], "author": {"@type": "Person", "name": "Ifor"},
                "publication": {"@type": "BroadcastEvent", "isLiveBroadcast": true}, "isAccessibleForFree": true,
                "aggregateRating": {"ratingValue": "4.5"}}"#,
        );
        let wanted = Video {
            thumbnail_loc: Some("/films/a.svg".into()),
            title: Some("Cutting".into()),
            description: Some("From the cab".into()),
            content_loc: Some("/films/a.webm".into()),
            duration: Some(95),
            publication_date: Some("2026-04-01".into()),
            tags: vec!["cab".into(), "film".into()],
            family_friendly: Some(true),
            view_count: Some(412),
            restriction: Access::new("allow", "GB IE"),
            uploader: Some("Ifor".into()),
            live: Some(true),
            requires_subscription: Some(false),
            rating: Some(4.5),
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
        assert_eq!(read_duration(text), wanted);
    }
}
