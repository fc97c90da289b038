//! Feeds of the newest entries: Atom 1.0 (RFC 4287) and RSS 2.0.

use std::cmp::Reverse;

use jiff::Timestamp;
use jiff::fmt::rfc2822;

use super::{VisitorLine, escaped};
use crate::lastmod::Lastmod;

/// The parts of a feed around its entries.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FeedFrame {
    /// Its title.
    pub title: String,
    /// The site's URL.
    pub site: String,
    /// The feed's own URL.
    pub own: String,
    /// The hubs that tell subscribers of changes (W3C Recommendation WebSub, section 4).
    pub hubs: Vec<String>,
    /// The stylesheet with which a browser displays it.
    pub style: Option<&'static str>,
    /// The indexes of the sections whose entries it contains; all sections if empty.
    pub sections: Vec<u16>,
}

impl FeedFrame {
    /// The XML before the root element.
    fn head(&self) -> String {
        let style = self
            .style
            .map_or(String::new(), |style| format!("<?xml-stylesheet type=\"text/css\" href=\"{style}\"?>\n"));
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{style}")
    }

    /// The links to its hubs, as elements of this name.
    fn hub_links(&self, element: &str) -> String {
        self.hubs.iter().map(|hub| format!("<{element} rel=\"hub\" href=\"{}\"/>\n", escaped(hub))).collect()
    }

    /// Whether it may contain an entry. Pages that list others are not news.
    fn holds(&self, line: &VisitorLine<'_>) -> bool {
        !line.is_list && (self.sections.is_empty() || self.sections.contains(&line.section))
    }
}

/// The newest entries: by publication date, else by the date in the sitemap, then by URL. Entries without a date are
/// not included.
fn newest<'a>(feed: &FeedFrame, lines: &[VisitorLine<'a>], most: usize) -> Vec<(VisitorLine<'a>, Lastmod)> {
    let date = |line: &VisitorLine<'a>| line.published.or(line.lastmod);
    let order = |(newer, at): &(Reverse<i64>, usize)| (*newer, lines[*at].url);
    let held = lines.iter().enumerate().filter(|(_, line)| feed.holds(line));
    let dated = held.filter_map(|(at, line)| Some((Reverse(date(line)?.seconds()), at)));
    let mut dated: Vec<(Reverse<i64>, usize)> = dated.collect();
    if dated.len() > most && most > 0 {
        dated.select_nth_unstable_by(most - 1, |one, other| order(one).cmp(&order(other)));
        dated.truncate(most);
    }
    dated.sort_unstable_by(|one, other| order(one).cmp(&order(other)));
    dated.into_iter().filter_map(|(_, at)| Some((lines[at], date(&lines[at])?))).collect()
}

fn timestamp(date: Lastmod) -> Timestamp {
    Timestamp::from_second(date.seconds()).unwrap_or(Timestamp::UNIX_EPOCH)
}

/// The feed as Atom, with the `most` newest entries. Its own date is that of its newest entry, never that of the build.
pub fn atom(feed: &FeedFrame, lines: &[VisitorLine<'_>], most: usize) -> Vec<u8> {
    let newest = newest(feed, lines, most);
    let changed = |line: &VisitorLine<'_>, date: Lastmod| {
        line.lastmod.filter(|one| one.seconds() > date.seconds()).unwrap_or(date)
    };
    let updated = newest.iter().map(|(line, date)| timestamp(changed(line, *date))).max();
    let mut out = format!(
        "{}<feed xmlns=\"http://www.w3.org/2005/Atom\">\n<title>{title}</title>\n\
         <id>{own}</id>\n<link rel=\"self\" href=\"{own}\"/>\n{hubs}<link href=\"{site}\"/>\n<author><name>{title}</name></author>\n\
         <updated>{}</updated>\n",
        feed.head(),
        updated.unwrap_or(Timestamp::UNIX_EPOCH),
        title = escaped(&feed.title),
        own = escaped(&feed.own),
        hubs = feed.hub_links("link"),
        site = escaped(&feed.site),
    );
    for (line, date) in newest {
        let url = escaped(line.url);
        out += &format!("<entry>\n<title>{}</title>\n<id>{url}</id>\n<link href=\"{url}\"/>\n", escaped(line.name()));
        out += &format!("<updated>{}</updated>\n", timestamp(changed(&line, date)));
        if let Some(published) = line.published {
            out += &format!("<published>{}</published>\n", timestamp(published));
        }
        if let Some(description) = line.description {
            out += &format!("<summary>{}</summary>\n", escaped(description));
        }
        out += "</entry>\n";
    }
    (out + "</feed>\n").into_bytes()
}

/// The feed as RSS, with the `most` newest entries.
pub fn rss(feed: &FeedFrame, lines: &[VisitorLine<'_>], most: usize) -> Vec<u8> {
    let mut out = format!(
        "{}<rss version=\"2.0\" xmlns:atom=\"http://www.w3.org/2005/Atom\">\n<channel>\n\
         <title>{title}</title>\n<link>{}</link>\n<description>{title}</description>\n\
         <atom:link rel=\"self\" type=\"application/rss+xml\" href=\"{}\"/>\n{hubs}",
        feed.head(),
        escaped(&feed.site),
        escaped(&feed.own),
        title = escaped(&feed.title),
        hubs = feed.hub_links("atom:link"),
    );
    for (line, date) in newest(feed, lines, most) {
        let url = escaped(line.url);
        out += &format!("<item>\n<title>{}</title>\n<link>{url}</link>\n<guid>{url}</guid>\n", escaped(line.name()));
        if let Ok(date) = rfc2822::DateTimePrinter::new().timestamp_to_rfc9110_string(&timestamp(date)) {
            out += &format!("<pubDate>{date}</pubDate>\n");
        }
        if let Some(description) = line.description {
            out += &format!("<description>{}</description>\n", escaped(description));
        }
        out += "</item>\n";
    }
    (out + "</channel>\n</rss>\n").into_bytes()
}

#[cfg(test)]
mod tests {
    use super::super::tests::line;
    use super::*;

    fn feed() -> FeedFrame {
        FeedFrame {
            title: "New on the line & beyond".into(),
            site: "https://www.marrowvale.example/".into(),
            own: "https://www.marrowvale.example/atlas-newest.xml".into(),
            hubs: vec!["https://hub.example/?a=1&b".into()],
            style: Some("atlas.css"),
            sections: Vec::new(),
        }
    }

    fn lines() -> Vec<VisitorLine<'static>> {
        let of = |url, published: Option<i32>, changed: Option<i32>| VisitorLine {
            published: published.and_then(Lastmod::from_epoch_day),
            lastmod: changed.and_then(Lastmod::from_epoch_day),
            description: Some("Ice & points"),
            ..line(url, Some("Frost <on> the cutting"))
        };
        vec![
            of("https://www.marrowvale.example/old/", Some(20_000), Some(20_400)),
            of("https://www.marrowvale.example/b/", Some(20_300), None),
            of("https://www.marrowvale.example/a/", None, Some(20_300)),
            of("https://www.marrowvale.example/undated/", None, None),
        ]
    }

    #[test]
    fn the_newest_come_first_and_nothing_without_a_date() {
        let urls: Vec<&str> = newest(&feed(), &lines(), 10).into_iter().map(|(line, _)| line.path).collect();
        assert_eq!(urls, ["/a/", "/b/", "/old/"]);
        assert_eq!(newest(&feed(), &lines(), 2).len(), 2);
        assert_eq!(newest(&feed(), &lines(), 0).len(), 3, "no bound");
    }

    #[test]
    fn lists_and_other_sections_are_left_out() {
        let mut lines = lines();
        lines.push(VisitorLine { section: 2, ..line("https://www.marrowvale.example/new/", None) });
        lines.push(line("https://www.marrowvale.example/tag/ice/", None));
        lines.iter_mut().skip(4).for_each(|line| line.published = Lastmod::from_epoch_day(20_500));
        let paths =
            |feed: &FeedFrame| newest(feed, &lines, 9).iter().map(|(line, _)| line.path.to_owned()).collect::<Vec<_>>();
        assert_eq!(paths(&feed()), ["/new/", "/a/", "/b/", "/old/"]);
        assert_eq!(paths(&FeedFrame { sections: vec![2], ..feed() }), ["/new/"]);
    }

    #[test]
    fn atom_has_what_rfc_4287_requires() {
        let text = String::from_utf8(atom(&feed(), &lines(), 10)).unwrap();
        for wanted in [
            "?>\n<?xml-stylesheet type=\"text/css\" href=\"atlas.css\"?>\n<feed ",
            "<title>New on the line &amp; beyond</title>",
            "<link rel=\"self\" href=\"https://www.marrowvale.example/atlas-newest.xml\"/>",
            "<updated>2025-11-08T00:00:00Z</updated>\n<entry>",
            "<summary>Ice &amp; points</summary>",
            "<published>2025-07-31T00:00:00Z</published>",
        ] {
            assert!(text.contains(wanted), "{wanted} is not in\n{text}");
        }
    }

    #[test]
    fn rss_dates_have_their_own_format() {
        let text = String::from_utf8(rss(&feed(), &lines(), 1)).unwrap();
        assert!(text.contains("<pubDate>Thu, 31 Jul 2025 00:00:00 GMT</pubDate>"), "{text}");
        assert_eq!(text.matches("<item>").count(), 1);
    }
}
