//! The elements of the protocol and its extensions: where each may be, in which order, and which were withdrawn.

use super::oddity::OddityKind;
use super::{IMAGE, NEWS, SITEMAP, VIDEO, XHTML};

/// The known elements, by where they occur.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Element {
    Root,
    Url,
    Sitemap,
    Loc,
    Lastmod,
    Changefreq,
    Priority,
    Image,
    ImageLoc,
    Video,
    OfVideo(VideoElement),
    Alternate,
    News,
    NewsPublication,
    NewsName,
    NewsLanguage,
    NewsDate,
    NewsTitle,
    Other,
}

/// The elements of a video, in the order in which the extension has them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum VideoElement {
    Thumbnail,
    Title,
    Description,
    Content,
    Player,
    Duration,
    Expiration,
    Rating,
    ViewCount,
    Publication,
    Tag,
    FamilyFriendly,
    Restriction,
    Subscription,
    Uploader,
    Platform,
    Live,
}

impl VideoElement {
    const ALL: [Self; 17] = [
        Self::Thumbnail,
        Self::Title,
        Self::Description,
        Self::Content,
        Self::Player,
        Self::Duration,
        Self::Expiration,
        Self::Rating,
        Self::ViewCount,
        Self::Publication,
        Self::Tag,
        Self::FamilyFriendly,
        Self::Restriction,
        Self::Subscription,
        Self::Uploader,
        Self::Platform,
        Self::Live,
    ];

    /// Its name, without a prefix.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Thumbnail => "thumbnail_loc",
            Self::Title => "title",
            Self::Description => "description",
            Self::Content => "content_loc",
            Self::Player => "player_loc",
            Self::Duration => "duration",
            Self::Expiration => "expiration_date",
            Self::Rating => "rating",
            Self::ViewCount => "view_count",
            Self::Publication => "publication_date",
            Self::Tag => "tag",
            Self::FamilyFriendly => "family_friendly",
            Self::Restriction => "restriction",
            Self::Subscription => "requires_subscription",
            Self::Uploader => "uploader",
            Self::Platform => "platform",
            Self::Live => "live",
        }
    }

    fn named(name: &[u8]) -> Option<Self> {
        Self::ALL.into_iter().find(|element| element.as_str().as_bytes() == name)
    }
}

/// The elements of an image that were withdrawn in 2022.
const WITHDRAWN_OF_IMAGE: [&[u8]; 4] = [b"caption", b"title", b"geo_location", b"license"];
/// The elements of a video that were withdrawn.
const WITHDRAWN_OF_VIDEO: [&[u8]; 7] =
    [b"price", b"gallery_loc", b"category", b"episode", b"tvshow", b"content_segment_loc", b"id"];
/// The attributes of a player that were withdrawn.
pub(super) const WITHDRAWN_OF_PLAYER: [&str; 2] = ["allow_embed", "autoplay"];

/// What an element is, from its namespace and name and the one that it is in; and in which way it is odd, if so.
pub(super) fn recognise(parent: Option<Element>, namespace: &str, name: &[u8]) -> (Element, Option<OddityKind>) {
    use Element as E;
    let known = match (parent, namespace, name) {
        (None, ..) => E::Root,
        (Some(E::Root), SITEMAP, b"url") => E::Url,
        (Some(E::Root), SITEMAP, b"sitemap") => E::Sitemap,
        (Some(E::Url | E::Sitemap), SITEMAP, b"loc") => E::Loc,
        (Some(E::Url | E::Sitemap), SITEMAP, b"lastmod") => E::Lastmod,
        (Some(E::Url), SITEMAP, b"changefreq") => E::Changefreq,
        (Some(E::Url), SITEMAP, b"priority") => E::Priority,
        (Some(E::Url), IMAGE, b"image") => E::Image,
        (Some(E::Image), IMAGE, b"loc") => E::ImageLoc,
        (Some(E::Url), VIDEO, b"video") => E::Video,
        (Some(E::Video), VIDEO, name) if VideoElement::named(name).is_some() => {
            VideoElement::named(name).map_or(E::Other, E::OfVideo)
        }
        (Some(E::Url), XHTML, b"link") => E::Alternate,
        (Some(E::Url), NEWS, b"news") => E::News,
        (Some(E::News), NEWS, b"publication") => E::NewsPublication,
        (Some(E::NewsPublication), NEWS, b"name") => E::NewsName,
        (Some(E::NewsPublication), NEWS, b"language") => E::NewsLanguage,
        (Some(E::News), NEWS, b"publication_date") => E::NewsDate,
        (Some(E::News), NEWS, b"title") => E::NewsTitle,
        _ => return (E::Other, parent.and_then(|parent| oddity(parent, namespace, name))),
    };
    (known, None)
}

/// In which way an element without a meaning at its place is odd. Nothing is said of what is in such an element.
fn oddity(parent: Element, namespace: &str, name: &[u8]) -> Option<OddityKind> {
    use Element as E;
    use OddityKind as K;
    Some(match (parent, namespace, name) {
        (E::Other, ..) => return None,
        // Nothing else has these names, whatever namespace the writer took for theirs.
        (E::Url, _, b"image" | b"video" | b"news") => K::Misplaced,
        (E::Url, "", b"loc" | b"lastmod" | b"changefreq" | b"priority") => K::Misplaced,
        (E::Root, "", b"url" | b"sitemap") => K::Misplaced,
        // Other extensions may use the following names, in namespaces of their own.
        (E::Url, "" | SITEMAP, b"link") => K::Misplaced,
        (E::Image, "" | SITEMAP, b"loc") => K::Misplaced,
        (E::Video, "" | SITEMAP, name) if VideoElement::named(name).is_some() => K::Misplaced,
        (E::News, "" | SITEMAP, b"publication" | b"publication_date" | b"title") => K::Misplaced,
        (E::NewsPublication, "" | SITEMAP, b"name" | b"language") => K::Misplaced,
        (E::Image, IMAGE, name) if WITHDRAWN_OF_IMAGE.contains(&name) => K::Withdrawn,
        (E::Video, VIDEO, name) if WITHDRAWN_OF_VIDEO.contains(&name) => K::Withdrawn,
        (E::News, NEWS, b"access" | b"genres" | b"keywords" | b"stock_tickers") => K::Withdrawn,
        // Any element of another standard may be in a url.
        (_, SITEMAP | IMAGE | VIDEO | NEWS, _) => K::Unknown,
        _ => K::Foreign,
    })
}

/// The place of an element among those beside it, as the published schemas have them; `None` if it may be anywhere.
pub(super) fn rank(element: Element) -> Option<u8> {
    use Element as E;
    Some(match element {
        E::Loc | E::NewsPublication | E::NewsName => 1,
        E::Lastmod | E::NewsLanguage | E::NewsDate => 2,
        E::Changefreq | E::NewsTitle => 3,
        E::Priority => 4,
        E::Image | E::Video | E::Alternate | E::News => 5,
        E::OfVideo(element) => element as u8,
        _ => return None,
    })
}

/// Whether an element may be there more than once beside itself.
pub(super) fn may_repeat(element: Element) -> bool {
    use Element as E;
    matches!(
        element,
        E::Root | E::Url | E::Sitemap | E::Image | E::Video | E::Alternate | E::Other | E::OfVideo(VideoElement::Tag)
    )
}
