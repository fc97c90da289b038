//! Players: which frames contain videos, and where the parts of such a video are found.

use thiserror::Error;

use crate::video::Video;

/// The placeholder for the video's id in a pattern.
const ID: &str = "{id}";

/// Why the pattern of a player is not valid.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum PlayerError {
    /// It does not contain `{id}` exactly once.
    #[error("“{0}” must contain {ID} once, in place of the video's id")]
    Id(String),
    /// It is not an absolute URL.
    #[error("“{0}” must begin with https:// or http://")]
    Scheme(String),
}

/// A kind of player, recognised by the address of its frame.
///
/// ```
/// use atlas_core::page::Player;
///
/// let player = Player::new("https://films.example/embed/{id}", None, Some("https://films.example/stills/{id}.jpg")).unwrap();
/// let video = player.video("https://films.example/embed/cutting-7?autoplay=1").unwrap();
/// assert_eq!(video.player_loc.as_deref(), Some("https://films.example/embed/cutting-7"));
/// assert_eq!(video.thumbnail_loc.as_deref(), Some("https://films.example/stills/cutting-7.jpg"));
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Player {
    before: String,
    after: String,
    content: Option<String>,
    thumbnail: Option<String>,
}

impl Player {
    /// Takes the pattern of the frame's address, with `{id}` for the video's id, and those of the media file and a
    /// picture.
    ///
    /// # Errors
    ///
    /// Returns a [`PlayerError`] if the frame's pattern does not contain `{id}` exactly once, or is not an address.
    pub fn new(url: &str, content: Option<&str>, thumbnail: Option<&str>) -> Result<Self, PlayerError> {
        let parts: Vec<&str> = url.split(ID).collect();
        let [before, after] = parts[..] else {
            return Err(PlayerError::Id(url.to_owned()));
        };
        if !before.starts_with("https://") && !before.starts_with("http://") {
            return Err(PlayerError::Scheme(url.to_owned()));
        }
        let owned = |text: Option<&str>| text.map(str::to_owned);
        Ok(Self {
            before: before.to_owned(),
            after: after.to_owned(),
            content: owned(content),
            thumbnail: owned(thumbnail),
        })
    }

    /// The video in a frame, if the frame is this kind of player. Its query (autoplay and the like) is dropped, unless
    /// the pattern has a query.
    pub fn video(&self, frame: &str) -> Option<Video> {
        let rest = frame.strip_prefix(&self.before)?;
        let end = match &self.after {
            after if after.is_empty() => rest.find(['/', '?', '&', '#']).unwrap_or(rest.len()),
            after => rest.find(after)?,
        };
        let id = &rest[..end];
        if id.is_empty() || id.contains(['/', '?', '&', '#']) {
            return None;
        }
        let fill = |template: &str| template.replace(ID, id);
        Some(Video {
            player_loc: Some(format!("{}{id}{}", self.before, self.after)),
            content_loc: self.content.as_deref().map(fill),
            thumbnail_loc: self.thumbnail.as_deref().map(fill),
            ..Video::default()
        })
    }
}

/// The configuration for the player in a frame.
///
/// ```
/// let entry = atlas_core::page::player_entry("https://films.example/embed/cutting-7?autoplay=1");
/// assert_eq!(entry, "[[player]]\nurl = \"https://films.example/embed/{id}\"");
/// ```
pub fn player_entry(frame: &str) -> String {
    let plain = frame.split(['?', '#']).next().unwrap_or(frame).trim_end_matches('/');
    let folder = plain.rsplit_once('/').map_or(plain, |(folder, _)| folder);
    format!("[[player]]\nurl = \"{folder}/{ID}\"")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "https://films.example/embed/{id}",
        "https://films.example/embed/a-7",
        Some("https://films.example/embed/a-7")
    )]
    #[case(
        "https://films.example/embed/{id}",
        "https://films.example/embed/a-7?x=1",
        Some("https://films.example/embed/a-7")
    )]
    #[case(
        "https://films.example/play?v={id}",
        "https://films.example/play?v=a7&t=3",
        Some("https://films.example/play?v=a7")
    )]
    #[case(
        "https://films.example/{id}/player",
        "https://films.example/a7/player#x",
        Some("https://films.example/a7/player")
    )]
    #[case("https://films.example/{id}/player", "https://films.example/a/b/player", None)]
    #[case("https://films.example/embed/{id}", "https://films.example/embed/", None)]
    #[case("https://films.example/embed/{id}", "https://maps.example/embed/7", None)]
    fn recognises_its_frames(#[case] pattern: &str, #[case] frame: &str, #[case] wanted: Option<&str>) {
        let player = Player::new(pattern, None, None).unwrap();
        assert_eq!(player.video(frame).and_then(|video| video.player_loc).as_deref(), wanted);
    }

    #[rstest]
    #[case("https://films.example/embed/")]
    #[case("https://films.example/{id}/{id}")]
    #[case("/embed/{id}")]
    fn patterns_name_one_id(#[case] pattern: &str) {
        assert!(Player::new(pattern, None, None).is_err());
    }
}
