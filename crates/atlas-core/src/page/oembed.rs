//! Reading the answer of an oEmbed provider about a video (oEmbed 1.0, section 2.3.4).

use serde_json::Value;

use super::{PageReader, reader};
use crate::address::Address;
use crate::video::Video;

/// Reads an answer in JSON; `None` if it is not about a video. Addresses are resolved against the provider's own,
/// `endpoint`.
///
/// ```
/// use atlas_core::address::Address;
/// use atlas_core::page::read_oembed;
///
/// let endpoint = Address::parse("https://films.example/oembed").unwrap();
/// let answer = br#"{"type": "video", "title": "Cutting", "duration": 95, "html": "<iframe src='/embed/7'></iframe>"}"#;
/// let video = read_oembed(answer, &endpoint).unwrap();
/// assert_eq!(video.player_loc.as_deref(), Some("https://films.example/embed/7"));
/// assert_eq!((video.title.as_deref(), video.duration), (Some("Cutting"), Some(95)));
/// ```
pub fn read_oembed(json: &[u8], endpoint: &Address) -> Option<Video> {
    let answer: Value = serde_json::from_slice(json).ok()?;
    let text = |name: &str| answer.get(name).and_then(Value::as_str).map(|text| text.trim().to_owned());
    if text("type").as_deref() != Some("video") {
        return None;
    }
    let frame = text("html").and_then(|html| {
        let page = reader::read(html.as_bytes(), endpoint, &PageReader::default()).ok()?;
        let film = page.videos.into_iter().find_map(|video| video.content_loc);
        page.frames.into_iter().next().map(Address::into_string).or(film)
    });
    let seconds = answer.get("duration").and_then(|value| value.as_f64().or_else(|| value.as_str()?.parse().ok()));
    let video = Video {
        title: text("title"),
        description: text("description"),
        thumbnail_loc: text("thumbnail_url"),
        player_loc: frame,
        duration: seconds.map(|seconds| seconds as u32),
        uploader: text("author_name"),
        publication_date: text("upload_date"),
        ..Video::default()
    };
    Some(video.settled(
        |reference| endpoint.join(reference).ok(),
        |date| crate::lastmod::Lastmod::read(date, &jiff::tz::TimeZone::UTC),
    ))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(r#"{"type": "rich", "html": "<p>"}"#)]
    #[case("[]")]
    #[case("")]
    #[case("{\"type\": 7}")]
    fn other_answers_are_ignored(#[case] json: &str) {
        let endpoint = Address::parse("https://films.example/oembed").unwrap();
        assert_eq!(read_oembed(json.as_bytes(), &endpoint), None);
    }
}
