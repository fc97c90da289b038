//! News: the articles of the last two days, by the news sitemap extension.

use std::borrow::Cow;

use crate::calendar::Calendar;
use crate::contribution::Contribution;
use crate::entry::NewsArticle;
use crate::lastmod::Lastmod;
use serde::Serialize;

/// How long an article is news after its publication, in seconds: two days (news sitemap extension).
pub const NEWS_SECONDS: i64 = 2 * 24 * 3600;
/// The most articles in one file (news sitemap extension).
pub const MOST_NEWS: u32 = 1000;

/// The publication that the articles of a section belong to.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize)]
pub struct News {
    /// The publication's name, exactly as it calls itself.
    pub publication: String,
    /// Its language: ISO 639, or `zh-cn` or `zh-tw`.
    pub language: String,
}

impl News {
    /// Whether an entry is an article that may be news, whatever its age. The page of an archive is not, whatever its
    /// dates.
    pub fn is_article(contribution: &Contribution<'_>) -> bool {
        contribution.published.is_some() && Self::title(contribution).is_some() && contribution.archive.is_none()
    }

    /// The title of an article: its headline, without the site's name after it.
    fn title<'a>(contribution: &'a Contribution<'_>) -> Option<&'a str> {
        [&contribution.headline, &contribution.title]
            .into_iter()
            .find_map(|title| title.as_deref().filter(|title| !title.trim().is_empty()))
    }

    /// The article as news at this instant; `None` if it is too old, not yet published, or has no title.
    pub fn article<'a>(&'a self, contribution: &'a Contribution<'_>, calendar: &Calendar) -> Option<NewsArticle<'a>> {
        let is_recent = |date: &Lastmod| (0..NEWS_SECONDS).contains(&(calendar.now - calendar.start(date)));
        let published = contribution.published.filter(is_recent)?;
        let title = Self::title(contribution)?;
        Self::is_article(contribution).then(|| NewsArticle {
            publication: Cow::Borrowed(&self.publication),
            language: Cow::Borrowed(&self.language),
            published,
            title: Cow::Borrowed(title),
        })
    }
}

/// Whether a text is a language code of the news extension: two or three lower-case letters (ISO 639), or `zh-cn` or
/// `zh-tw`.
pub fn is_language(text: &str) -> bool {
    matches!(text, "zh-cn" | "zh-tw")
        || (matches!(text.len(), 2 | 3) && text.bytes().all(|byte| byte.is_ascii_lowercase()))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const AT: i64 = 1_795_392_000;

    #[rstest]
    #[case::just_now(0, true)]
    #[case::to_come(-1, false)]
    #[case::within_two_days(NEWS_SECONDS - 1, true)]
    #[case::two_days_old(NEWS_SECONDS, false)]
    fn articles_are_news_for_two_days(#[case] later: i64, #[case] wanted: bool) {
        let news = News { publication: "Vale Gazette".into(), language: "en".into() };
        let published = Some(Lastmod::Instant { seconds: AT, offset: 0 });
        let contribution =
            Contribution { title: Some("Weir path closed".into()), published, ..Contribution::default() };
        assert_eq!(news.article(&contribution, &Calendar::utc(AT + later)).is_some(), wanted);
        let headline = Some("Weir path closed".into());
        let headed = Contribution {
            title: Some("Weir path closed – The Gazette".into()),
            headline,
            published,
            ..Contribution::default()
        };
        assert_eq!(news.article(&headed, &Calendar::utc(AT)).unwrap().title, "Weir path closed");
        let untitled = Contribution { published, ..Contribution::default() };
        assert_eq!(
            news.article(&untitled, &Calendar::utc(AT + later)),
            None,
            "without a title there is nothing to show"
        );
    }

    #[rstest]
    #[case("en", true)]
    #[case("cym", true)]
    #[case("zh-tw", true)]
    #[case("en-GB", false)]
    #[case("English", false)]
    fn languages(#[case] text: &str, #[case] wanted: bool) {
        assert_eq!(is_language(text), wanted);
    }
}
