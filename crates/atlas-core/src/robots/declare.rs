//! Declaring sitemaps in robots.txt without changing anything else in it.

use super::rules::RobotsLines;

/// The addresses of all `Sitemap:` lines, with their line numbers. These lines belong to no group and may be anywhere
/// (RFC 9309 section 2.2.4, sitemaps protocol 0.9).
pub fn sitemap_lines(robots: &[u8]) -> Vec<(usize, String)> {
    RobotsLines::of(robots)
        .filter_map(|line| {
            let (key, value) = line.pair_keeping_hash()?;
            (key.eq_ignore_ascii_case("sitemap") && !value.is_empty()).then_some((line.number, value))
        })
        .collect()
}

/// A robots.txt that allows everything, for adding declarations to. The blank line ends its group (RFC 9309 section
/// 2.2.1).
pub const ALLOW_ALL: &[u8] = b"User-agent: *\nDisallow:\n\n";

/// Returns the file with one `Sitemap:` line for each address in `wanted`. Existing lines stay where they are, missing
/// ones are added at the end, after a blank line where a group of rules would otherwise run into them, and lines for
/// `outdated` addresses, which the tool itself once wrote, are removed. Every other byte stays as it was.
///
/// ```
/// use atlas_core::robots::declare;
///
/// let robots = declare(b"User-agent: *\r\nDisallow: /staff/", &["https://www.marrowvale.example/sitemap.xml"], &[]);
/// assert_eq!(robots, b"User-agent: *\r\nDisallow: /staff/\r\n\r\nSitemap: https://www.marrowvale.example/sitemap.xml\r\n");
/// ```
pub fn declare(robots: &[u8], wanted: &[&str], outdated: &[&str]) -> Vec<u8> {
    let mut out = Vec::with_capacity(robots.len() + 100);
    let mut found = vec![false; wanted.len()];
    for line in RobotsLines::of(robots) {
        let address = line
            .pair_keeping_hash()
            .filter(|(key, _)| key.eq_ignore_ascii_case("sitemap"))
            .map(|(_, address)| address)
            .unwrap_or_default();
        let ours = wanted.iter().position(|wanted| *wanted == address);
        let repeated = ours.is_some_and(|at| std::mem::replace(&mut found[at], true));
        if repeated || (ours.is_none() && outdated.contains(&address.as_str())) {
            continue;
        }
        out.extend_from_slice(&robots[line.span.0..line.span.1]);
    }
    let newline: &[u8] = match robots.iter().position(|byte| matches!(byte, b'\r' | b'\n')) {
        Some(at) if robots[at..].starts_with(b"\r\n") => b"\r\n",
        Some(at) if robots[at] == b'\r' => b"\r",
        _ => b"\n",
    };
    let ends_in_a_group = RobotsLines::of(&out).last().is_some_and(|line| line.is_of_a_group());
    for (nth, (address, _)) in wanted.iter().zip(&found).filter(|(_, found)| !**found).enumerate() {
        if !out.is_empty() && !matches!(out.last(), Some(b'\r' | b'\n')) {
            out.extend_from_slice(newline);
        }
        if nth == 0 && ends_in_a_group {
            out.extend_from_slice(newline);
        }
        out.extend_from_slice(b"Sitemap: ");
        out.extend_from_slice(address.as_bytes());
        out.extend_from_slice(newline);
    }
    out
}

impl super::rules::RobotsLine<'_> {
    /// Whether it belongs to a group of rules: some readers take a line that follows for one of the group.
    fn is_of_a_group(&self) -> bool {
        self.pair_keeping_hash().is_some_and(|(key, _)| !key.eq_ignore_ascii_case("sitemap"))
    }

    /// As [`pair`](super::rules::RobotsLine::pair), but a `#` within the value belongs to it unless a space precedes
    /// it.
    fn pair_keeping_hash(&self) -> Option<(String, String)> {
        let text = String::from_utf8_lossy(self.bytes);
        let (key, value) = text.trim_start_matches('\u{feff}').split_once(':')?;
        let value = value.trim();
        let value = value.find([' ', '\t']).map_or(value, |end| &value[..end]);
        (!key.contains('#')).then(|| (key.trim().to_owned(), value.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const MAIN: &str = "https://www.marrowvale.example/sitemap.xml";

    #[rstest]
    #[case::empty("", "Sitemap: https://www.marrowvale.example/sitemap.xml\n")]
    #[case::already(
        "sitemap:https://www.marrowvale.example/sitemap.xml # ours\nUser-agent: *\n",
        "sitemap:https://www.marrowvale.example/sitemap.xml # ours\nUser-agent: *\n"
    )]
    #[case::other_line_stays(
        "Sitemap: https://www.marrowvale.example/shop.xml\n",
        "Sitemap: https://www.marrowvale.example/shop.xml\nSitemap: https://www.marrowvale.example/sitemap.xml\n"
    )]
    #[case::old_name_goes(
        "Sitemap: https://www.marrowvale.example/old.xml\nUser-agent: *\n",
        "User-agent: *\n\nSitemap: https://www.marrowvale.example/sitemap.xml\n"
    )]
    #[case::a_group_is_ended(
        "User-agent: *\nDisallow: /staff/ # rota",
        "User-agent: *\nDisallow: /staff/ # rota\n\nSitemap: https://www.marrowvale.example/sitemap.xml\n"
    )]
    #[case::a_group_that_has_ended(
        "User-agent: *\nDisallow: /staff/\n\n",
        "User-agent: *\nDisallow: /staff/\n\nSitemap: https://www.marrowvale.example/sitemap.xml\n"
    )]
    #[case::repeats_go(
        "Sitemap: https://www.marrowvale.example/sitemap.xml\nSitemap: https://www.marrowvale.example/sitemap.xml\n",
        "Sitemap: https://www.marrowvale.example/sitemap.xml\n"
    )]
    #[case::in_a_comment(
        "# Sitemap: https://www.marrowvale.example/sitemap.xml\n",
        "# Sitemap: https://www.marrowvale.example/sitemap.xml\nSitemap: https://www.marrowvale.example/sitemap.xml\n"
    )]
    fn touches_only_its_own_lines(#[case] before: &str, #[case] after: &str) {
        let declared = declare(before.as_bytes(), &[MAIN], &["https://www.marrowvale.example/old.xml"]);
        assert_eq!(String::from_utf8(declared).unwrap(), after);
    }

    #[test]
    fn finds_sitemap_lines_anywhere() {
        let file = b"\xef\xbb\xbfSitemap: https://a.example/1.xml\r\nUser-agent: *\rSITEMAP : https://a.example/2.xml#x\nDisallow: /";
        let lines = sitemap_lines(file);
        assert_eq!(lines, [(1, "https://a.example/1.xml".into()), (3, "https://a.example/2.xml#x".into())]);
    }

    proptest! {
        #[test]
        fn keeps_every_other_byte(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let once = declare(&bytes, &[MAIN], &[]);
            prop_assert!(once.starts_with(&bytes), "nothing of ours was there to take away");
            prop_assert_eq!(sitemap_lines(&once).iter().filter(|(_, address)| address == MAIN).count(), 1);
            prop_assert_eq!(declare(&once, &[MAIN], &[]), once);
        }
    }
}
