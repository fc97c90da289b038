//! Structured data: the videos of a page as schema.org `VideoObject`s in JSON-LD, for the site's own templates to
//! include.
//!
//! A page that already carries a `VideoObject` is compared instead: see [`compare`].

use jiff::tz::TimeZone;
use serde::Serialize;
use serde_json::{Map, Value, json};
use xxhash_rust::xxh3::xxh3_64;

use crate::contribution::Contribution;
use crate::lastmod::Lastmod;

/// The longest name of a folder or file, in characters.
const LONGEST_NAME: usize = 120;

/// A property that schema.org requires of a `VideoObject` and that a video lacks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "camelCase")]
pub enum Property {
    /// `name`.
    Name,
    /// `thumbnailUrl`.
    ThumbnailUrl,
    /// `uploadDate`, with a zone.
    UploadDate,
}

impl Property {
    /// Its name in schema.org.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::ThumbnailUrl => "thumbnailUrl",
            Self::UploadDate => "uploadDate",
        }
    }
}

/// The videos of a page as structured data.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct VideoObjects {
    /// The complete videos.
    pub objects: Vec<Value>,
    /// What each incomplete video lacks.
    pub lacking: Vec<Vec<Property>>,
}

impl VideoObjects {
    /// The objects as text for a `script` element: one object, or an array of several; `None` if there are none. The
    /// text cannot end the element (HTML Standard, "restrictions for contents of script elements").
    pub fn text(&self) -> Option<String> {
        let value = match self.objects.as_slice() {
            [] => return None,
            [one] => one.clone(),
            several => Value::Array(several.to_vec()),
        };
        let text = serde_json::to_string_pretty(&value).ok()?;
        Some(text.replace('<', "\\u003c").replace('>', "\\u003e").replace('&', "\\u0026") + "\n")
    }
}

/// The videos of a page as `VideoObject`s. A day without a time begins at midnight in the site's zone. A video without
/// a date has the publication date of its page.
pub fn video_objects(contribution: &Contribution<'_>, timezone: &TimeZone) -> VideoObjects {
    let mut all = VideoObjects::default();
    for video in &contribution.videos {
        let date = |text: &str| Lastmod::read(text, timezone).and_then(|date| with_zone(&date, timezone));
        let uploaded = video.publication_date.as_deref().and_then(date);
        let uploaded = uploaded.or_else(|| with_zone(&contribution.published?, timezone));
        let mut object = Map::new();
        let mut put = |name: &str, value: Option<Value>| {
            object.extend(value.map(|value| (name.to_owned(), value)));
        };
        let text =
            |text: &Option<String>| text.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(Value::from);
        put("@context", Some("https://schema.org".into()));
        put("@type", Some("VideoObject".into()));
        put("name", text(&video.title));
        put("description", text(&video.description));
        put("thumbnailUrl", video.thumbnail_loc.as_ref().map(|address| json!([address])));
        put("uploadDate", uploaded.map(Value::from));
        put("duration", video.duration.map(|seconds| duration(seconds).into()));
        let other = |place: &Option<String>| place.clone().filter(|place| *place != contribution.url).map(Value::from);
        put("contentUrl", other(&video.content_loc));
        put("embedUrl", other(&video.player_loc));
        put("expires", video.expiration_date.as_deref().and_then(date).map(Value::from));
        put("keywords", (!video.tags.is_empty()).then(|| video.tags.join(", ").into()));
        put("isFamilyFriendly", video.family_friendly.map(Value::from));
        put("requiresSubscription", video.requires_subscription.map(Value::from));
        if let Some(access) = &video.restriction {
            let regions: Vec<&str> = access.names.split(' ').collect();
            put(if access.allow { "regionsAllowed" } else { "ineligibleRegion" }, Some(json!(regions)));
        }
        put("interactionStatistic", video.view_count.map(|count| {
            json!({ "@type": "InteractionCounter", "interactionType": { "@type": "WatchAction" }, "userInteractionCount": count })
        }));
        put("author", video.uploader.as_ref().map(|name| json!({ "@type": "Person", "name": name })));
        let required = [Property::Name, Property::ThumbnailUrl, Property::UploadDate];
        let lacking: Vec<Property> =
            required.into_iter().filter(|property| !object.contains_key(property.as_str())).collect();
        if lacking.is_empty() {
            all.objects.push(Value::Object(object));
        } else {
            all.lacking.push(lacking);
        }
    }
    all
}

/// The name of the file with the structured data of the page at a path, below the folder for all such files:
/// `films/weir/` becomes `films/weir/index.json`, and `films/weir.html` becomes `films/weir.html.json`. Characters that
/// a file name should not contain are percent-encoded. A name that would be too long is cut and marked with a
/// fingerprint of the whole.
///
/// ```
/// use atlas_core::derive::structured::file_name;
///
/// assert_eq!(file_name("/films/weir/"), "films/weir/index.json");
/// assert_eq!(file_name("/films/weir?take=2"), "films/weir%3Ftake=2.json");
/// ```
pub fn file_name(path: &str) -> String {
    let path = path.trim_start_matches('/');
    let (path, query) = path.split_at(path.find('?').unwrap_or(path.len()));
    let (folders, last) = path.rsplit_once('/').unwrap_or(("", path));
    let last = if last.is_empty() { "index" } else { last };
    let mut parts: Vec<String> = folders.split('/').filter(|folder| !folder.is_empty()).map(name_part).collect();
    for folder in parts.iter_mut().filter(|folder| folder.ends_with(".json")) {
        // So that no folder has the name of the file of a page without a slash.
        folder.push('~');
    }
    parts.push(name_part(&format!("{last}{query}")) + ".json");
    parts.join("/")
}

/// A part of a URL as a part of a file name.
fn name_part(part: &str) -> String {
    let mut name = String::with_capacity(part.len());
    for letter in part.chars() {
        match letter {
            '?' | ':' | '*' | '|' | '"' | '<' | '>' | '\\' | '/' => name += &format!("%{:02X}", letter as u32),
            letter => name.push(letter),
        }
    }
    match name.char_indices().nth(LONGEST_NAME) {
        Some((end, _)) => format!("{}-{:016x}", &name[..end], xxh3_64(part.as_bytes())),
        None => name,
    }
}

/// A date with time and zone. A bare day becomes its midnight.
fn with_zone(date: &Lastmod, timezone: &TimeZone) -> Option<String> {
    match date {
        Lastmod::Day(day) => {
            let midnight = day.to_zoned(timezone.clone()).ok()?;
            Some(midnight.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string())
        }
        Lastmod::Instant { .. } => Some(date.to_string()),
    }
}

/// A number of seconds in ISO 8601: `PT1H2M3S`.
fn duration(seconds: u32) -> String {
    let parts = [(seconds / 3600, 'H'), (seconds / 60 % 60, 'M'), (seconds % 60, 'S')];
    let parts = parts.into_iter().filter(|(number, _)| *number > 0);
    parts.fold("PT".to_owned(), |text, (number, unit)| text + &format!("{number}{unit}"))
}

/// What a page's own `VideoObject`s lack, or where they disagree with what is known of its videos: in words, each
/// beginning with the property.
pub fn compare(contribution: &Contribution<'_>) -> Vec<String> {
    let mut differences = Vec::new();
    for (at, stated) in contribution.stated_videos.iter().enumerate() {
        let known =
            contribution.videos.iter().find(|video| video.same_as(stated)).or_else(|| contribution.videos.get(at));
        let known = known.cloned().unwrap_or_default();
        let fields = [
            ("name", &stated.title, &known.title, true),
            ("thumbnailUrl", &stated.thumbnail_loc, &known.thumbnail_loc, true),
            ("uploadDate", &stated.publication_date, &known.publication_date, true),
            ("description", &stated.description, &known.description, false),
            ("contentUrl", &stated.content_loc, &known.content_loc, false),
            ("embedUrl", &stated.player_loc, &known.player_loc, false),
        ];
        for (name, stated, known, required) in fields {
            differences.extend(match (stated, known) {
                (None, None) if required => Some(format!("{name} is missing, and it is required")),
                (None, Some(known)) if required => Some(format!("{name} is missing, and it is required: {known}")),
                (None, Some(known)) => Some(format!("{name} is missing: {known}")),
                // Compared as dates, because a page may write the same date differently.
                (Some(stated), Some(known)) if name != "uploadDate" && stated != known => {
                    Some(format!("{name} is “{stated}”, elsewhere it is “{known}”"))
                }
                _ => None,
            });
        }
        if stated.publication_date.as_deref().is_some_and(|date| !has_zone(date)) {
            differences.push("uploadDate has no zone, and engines require one".to_owned());
        }
        if let (None, Some(seconds)) = (stated.duration, known.duration) {
            differences.push(format!("duration is missing: {}", duration(seconds)));
        }
    }
    differences
}

fn has_zone(date: &str) -> bool {
    let time = date.split_once('T').map_or("", |(_, time)| time);
    time.ends_with('Z') || time.contains(['+', '-'])
}

/// Whether a page's own `VideoObject`s say exactly what ours would.
pub fn is_as_known(contribution: &Contribution<'_>) -> bool {
    !contribution.stated_videos.is_empty() && compare(contribution).is_empty()
}

/// Whether a video could be shown beside a search result only with our structured data, because its page has none.
pub fn is_wanted(contribution: &Contribution<'_>) -> bool {
    !contribution.videos.is_empty() && contribution.stated_videos.is_empty()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::video::Video;

    /// A complete video.
    fn film() -> Video {
        Video {
            title: Some("Weir curve </script>".into()),
            description: Some("From the cab".into()),
            thumbnail_loc: Some("https://www.marrowvale.example/weir.svg".into()),
            content_loc: Some("https://www.marrowvale.example/weir.webm".into()),
            publication_date: Some("2026-07-01".into()),
            duration: Some(3723),
            ..Video::default()
        }
    }

    fn page(videos: Vec<Video>) -> Contribution<'static> {
        Contribution { url: "https://www.marrowvale.example/films/weir/".into(), videos, ..Contribution::default() }
    }

    #[test]
    fn an_object_is_complete_and_cannot_close_its_script() {
        let london = TimeZone::get("Europe/London").unwrap();
        let objects = video_objects(&page(vec![film()]), &london);
        let object = &objects.objects[0];
        assert_eq!(object["@type"], "VideoObject");
        assert_eq!(object["uploadDate"], "2026-07-01T00:00:00+01:00");
        assert_eq!(object["duration"], "PT1H2M3S");
        let text = objects.text().unwrap();
        assert!(!text.contains('<'), "{text}");
        assert_eq!(&serde_json::from_str::<Value>(&text).unwrap(), object);
    }

    #[test]
    fn several_objects_form_a_list_and_none_writes_nothing() {
        let objects = video_objects(&page(vec![film(), film()]), &TimeZone::UTC);
        assert!(serde_json::from_str::<Value>(&objects.text().unwrap()).unwrap().is_array());
        assert_eq!(video_objects(&page(vec![]), &TimeZone::UTC).text(), None);
    }

    #[rstest]
    #[case(Video { title: None, ..film() }, vec![Property::Name])]
    #[case(Video { thumbnail_loc: None, publication_date: None, ..film() }, vec![Property::ThumbnailUrl, Property::UploadDate])]
    fn missing_fields_are_reported(#[case] video: Video, #[case] wanted: Vec<Property>) {
        let objects = video_objects(&page(vec![video]), &TimeZone::UTC);
        assert_eq!((objects.objects.len(), objects.lacking), (0, vec![wanted]));
    }

    #[rstest]
    #[case("/", "index.json")]
    #[case("/films/weir.html", "films/weir.html.json")]
    #[case("/films/?a=/b:c", "films/index%3Fa=%2Fb%3Ac.json")]
    #[case("/a.json/b", "a.json~/b.json")]
    #[case("/..%2F..%2Fetc", "..%2F..%2Fetc.json")]
    fn file_names(#[case] path: &str, #[case] wanted: &str) {
        assert_eq!(file_name(path), wanted);
    }

    #[test]
    fn long_names_are_cut_and_stay_distinct() {
        let names = [1, 2].map(|end| file_name(&format!("/{}{end}", "x".repeat(2000))));
        assert!(names[0].len() < 150 && names[0] != names[1], "{names:?}");
    }

    #[test]
    fn a_video_takes_its_date_from_the_page() {
        let contribution = Contribution {
            published: Lastmod::from_epoch_day(20_000),
            ..page(vec![Video { publication_date: None, ..film() }])
        };
        assert_eq!(video_objects(&contribution, &TimeZone::UTC).objects[0]["uploadDate"], "2024-10-04T00:00:00+00:00");
    }

    #[rstest]
    #[case::alike(Video { publication_date: Some("2026-07-01T09:00:00Z".into()), ..film() }, &[])]
    #[case::no_zone(film(), &["uploadDate has no zone"])]
    #[case::no_date(Video { publication_date: None, ..film() }, &["uploadDate is missing, and it is required: 2026-07-01"])]
    #[case::other_name(
        Video { title: Some("Weir".into()), publication_date: Some("2026-07-01T09:00:00+01:00".into()), ..film() },
        &["name is “Weir”, elsewhere it is “Weir curve"],
    )]
    #[case::less(
        Video { duration: None, description: None, publication_date: Some("2026-07-01T09:00:00Z".into()), ..film() },
        &["description is missing: From the cab", "duration is missing: PT1H2M3S"],
    )]
    fn existing_structured_data_is_compared(#[case] stated: Video, #[case] wanted: &[&str]) {
        let contribution = Contribution { stated_videos: vec![stated], ..page(vec![film()]) };
        assert!(!is_wanted(&contribution));
        let differences = compare(&contribution);
        assert_eq!(differences.len(), wanted.len(), "{differences:?}");
        for (difference, wanted) in differences.iter().zip(wanted) {
            assert!(difference.starts_with(wanted), "{difference}");
        }
    }
}
