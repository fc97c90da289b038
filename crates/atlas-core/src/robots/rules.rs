//! Reading robots.txt, and checking addresses against it.

use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use serde::Serialize;

use super::index::RuleIndex;
use super::pattern::{PathRule, matches};
use crate::address::is_unreserved;

/// How many bytes of a file are read. RFC 9309 section 2.5 requires at least 500 KiB.
const MOST_BYTES: usize = 1024 * 1024;

/// What engines must read of a robots.txt, in bytes; some read no more (RFC 9309 section 2.5).
pub const ROBOTS_LIMIT: usize = 500 * 1024;
/// Up to this many rules are compared one by one.
const FEW: usize = 8;
/// Up to this many rules, counted for each crawler that a group names, are indexed.
const MOST_INDEXED: usize = 100_000;

/// The rules of one robots.txt.
///
/// ```
/// use atlas_core::robots::Robots;
///
/// let robots = Robots::read(b"User-agent: *\nDisallow: /staff/\nAllow: /staff/vacancies/\n");
/// assert!(robots.barred("*", "/staff/vacancies/porter/").is_none());
/// assert_eq!(robots.barred("*", "/staff/rota/").unwrap().line, 2);
/// ```
#[derive(Debug, Clone, Default, Serialize)]
pub struct Robots {
    groups: Vec<AgentGroup>,
    /// Indexes of the rules for each token that a group names, in lower case, where there are many.
    #[serde(skip)]
    indexes: HashMap<String, RuleIndex>,
}

#[derive(Debug, Clone, Default, Serialize)]
struct AgentGroup {
    tokens: Vec<String>,
    rules: Vec<Arc<PathRule>>,
}

/// The rule that forbids fetching an address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Barred {
    /// The `Disallow` pattern as written.
    pub pattern: String,
    /// Its line, counted from 1.
    pub line: usize,
}

impl Robots {
    /// Reads a file as real files are: with a byte-order mark, any line ends, comments, unknown keys and blank lines
    /// within groups (RFC 9309 section 2.2).
    pub fn read(bytes: &[u8]) -> Self {
        let mut groups: Vec<AgentGroup> = Vec::new();
        let mut naming = false;
        for line in RobotsLines::of(&bytes[..bytes.len().min(MOST_BYTES)]) {
            let Some((key, value)) = line.pair() else { continue };
            match key.to_ascii_lowercase().as_str() {
                "user-agent" | "useragent" | "user agent" => {
                    if !naming {
                        groups.push(AgentGroup::default());
                        naming = true;
                    }
                    if let Some(group) = groups.last_mut() {
                        group.tokens.push(product(&value).to_owned());
                    }
                }
                key @ ("allow" | "disallow") => {
                    naming = false;
                    if let Some(group) = groups.last_mut()
                        && !value.is_empty()
                    {
                        group.rules.push(Arc::new(PathRule {
                            allow: key == "allow",
                            pattern: comparable(&value, true).into_owned(),
                            written: value.into_owned(),
                            line: line.number,
                        }));
                    }
                }
                _ => {}
            }
        }
        Self { groups, indexes: HashMap::new() }.indexed()
    }

    /// The same, with indexes of long lists of rules. If many crawlers share many rules, there are none, so that the
    /// memory is bounded by the size of the file.
    fn indexed(mut self) -> Self {
        let tokens: BTreeSet<String> =
            self.groups.iter().flat_map(|group| &group.tokens).map(|token| token.to_ascii_lowercase()).collect();
        let rules = |token: &str| self.rules_for(token).count();
        if tokens.iter().map(|token| rules(token)).sum::<usize>() <= MOST_INDEXED {
            let many = tokens.into_iter().filter(|token| rules(token) > FEW);
            self.indexes = many.map(|token| (token.clone(), RuleIndex::of(self.rules_for(&token)))).collect();
        }
        self
    }

    /// The rule that bars a crawler with this product token (or `*`) from a path with its query; `None` if the crawler
    /// may fetch it. The longest matching pattern wins; on a tie, the one that allows (RFC 9309 section 2.2.2).
    pub fn barred(&self, token: &str, path: &str) -> Option<Barred> {
        if self.groups.is_empty() || path == "/robots.txt" {
            return None;
        }
        let path = comparable(path, false);
        let decisive = match self.index_for(token) {
            Some(index) => index.decisive(&path)?,
            None => self
                .rules_for(token)
                .map(Arc::as_ref)
                .filter(|rule| matches(&rule.pattern, &path))
                .max_by_key(|rule| rule.weight())?,
        };
        (!decisive.allow).then(|| Barred { pattern: decisive.written.clone(), line: decisive.line })
    }

    /// Whether another file has the same groups with the same rules, whatever its other lines and wherever they are.
    pub fn says_the_same(&self, other: &Self) -> bool {
        let rules =
            |group: &AgentGroup| group.rules.iter().map(|rule| (rule.allow, rule.pattern.clone())).collect::<Vec<_>>();
        let groups =
            |robots: &Self| robots.groups.iter().map(|group| (group.tokens.clone(), rules(group))).collect::<Vec<_>>();
        groups(self) == groups(other)
    }

    /// Whether it bars nobody from anything, like a file that is not there.
    pub fn is_open(&self) -> bool {
        self.groups.iter().flat_map(|group| &group.rules).all(|rule| rule.allow)
    }

    /// The rules of all groups that name the token, or else of all groups for everyone.
    fn rules_for<'t>(&'t self, token: &'t str) -> impl Iterator<Item = &'t Arc<PathRule>> {
        let wanted = self.named(token);
        self.groups.iter().filter(move |group| group.names(wanted)).flat_map(|group| &group.rules)
    }

    fn index_for(&self, token: &str) -> Option<&RuleIndex> {
        if self.indexes.is_empty() {
            return None;
        }
        self.indexes.get(&self.named(token).to_ascii_lowercase())
    }

    /// The token itself if any group names it, otherwise `*`.
    fn named<'t>(&self, token: &'t str) -> &'t str {
        let token = product(token);
        if self.groups.iter().any(|group| group.names(token)) { token } else { "*" }
    }
}

impl AgentGroup {
    fn names(&self, wanted: &str) -> bool {
        self.tokens.iter().any(|token| token.eq_ignore_ascii_case(wanted))
    }
}

/// One line of the file with its number.
pub(super) struct RobotsLine<'a> {
    pub(super) number: usize,
    pub(super) bytes: &'a [u8],
    /// The positions where its bytes begin, and where they end with the line end.
    pub(super) span: (usize, usize),
}

impl RobotsLine<'_> {
    /// The key and the value before any comment; `None` for blank lines and comments.
    pub(super) fn pair(&self) -> Option<(String, Cow<'_, str>)> {
        let text = String::from_utf8_lossy(self.bytes);
        let text = text.split('#').next()?.trim_matches('\u{feff}');
        let (key, value) = text.split_once(':')?;
        Some((key.trim().to_owned(), Cow::Owned(value.trim().to_owned())))
    }
}

/// Lines that end with CR, LF or both.
pub(super) struct RobotsLines<'a> {
    bytes: &'a [u8],
    at: usize,
    number: usize,
}

impl<'a> RobotsLines<'a> {
    pub(super) fn of(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0, number: 0 }
    }
}

impl<'a> Iterator for RobotsLines<'a> {
    type Item = RobotsLine<'a>;

    fn next(&mut self) -> Option<RobotsLine<'a>> {
        let start = self.at;
        let rest = self.bytes.get(start..).filter(|rest| !rest.is_empty())?;
        let length = rest.iter().position(|byte| matches!(byte, b'\r' | b'\n')).unwrap_or(rest.len());
        let ending = if rest[length..].starts_with(b"\r\n") { 2 } else { usize::from(length < rest.len()) };
        self.at = start + length + ending;
        self.number += 1;
        Some(RobotsLine { number: self.number, bytes: &rest[..length], span: (start, self.at) })
    }
}

/// The product name of a user agent: letters, `-` and `_`, up to the first other character (RFC 9309 section 2.2.1).
fn product(text: &str) -> &str {
    let text = text.trim();
    if text.split_whitespace().next() == Some("*") {
        return "*";
    }
    let end = text.find(|letter: char| !(letter.is_ascii_alphanumeric() || matches!(letter, '-' | '_')));
    &text[..end.unwrap_or(text.len())]
}

/// A path or pattern in comparable form (RFC 9309 section 2.2.2): raw octets outside ASCII are encoded, and encoded
/// ones are decoded only if unreserved. `*`, and `$` at the end, are special in a pattern and ordinary elsewhere.
fn comparable(text: &str, is_pattern: bool) -> Cow<'_, str> {
    let last = text.len().saturating_sub(1);
    let is_special = |at: usize, byte: u8| match byte {
        b'*' => is_pattern,
        b'$' => is_pattern && at == last,
        _ => true,
    };
    let is_plain = |at: usize, byte: u8| byte.is_ascii_graphic() && byte != b'%' && is_special(at, byte);
    if text.bytes().enumerate().all(|(at, byte)| is_plain(at, byte)) {
        return Cow::Borrowed(text);
    }
    let bytes = text.as_bytes();
    let mut out = String::with_capacity(text.len() + 8);
    let mut at = 0;
    while at < bytes.len() {
        let escaped = (bytes[at] == b'%').then(|| {
            let digits = std::str::from_utf8(bytes.get(at + 1..at + 3)?).ok()?;
            u8::from_str_radix(digits, 16).ok()
        });
        match escaped.flatten() {
            Some(byte) => {
                if is_unreserved(byte) {
                    out.push(byte as char);
                } else {
                    out.push_str(&format!("%{byte:02X}"));
                }
                at += 3;
            }
            None => {
                if is_plain(at, bytes[at]) || bytes[at] == b'%' {
                    out.push(bytes[at] as char);
                } else {
                    out.push_str(&format!("%{:02X}", bytes[at]));
                }
                at += 1;
            }
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/fish", "/fish.html", true)]
    #[case("/fish", "/catfish", false)]
    #[case("/fish*", "/fishheads/yummy", true)]
    #[case("/*.php", "/folder/filename.php?parameters", true)]
    #[case("/*.php$", "/filename.php", true)]
    #[case("/*.php$", "/filename.php?x", false)]
    #[case("/fish*.php", "/fishheads/catfish.php?x", true)]
    #[case("/a$", "/a", true)]
    #[case("/a$", "/ab", false)]
    #[case("/*a*b*c$", "/xxaxxbxxc", true)]
    #[case("/br%C3%A2n", "/brân", true)]
    #[case("/brân", "/br%c3%a2n/x", true)]
    #[case("/%7Elamp", "/~lamp", true)]
    #[case("/a%2Fb", "/a/b", false)]
    #[case("/price$", "/price$", false)]
    #[case("/a$b", "/a$b", true)]
    #[case("/a$b", "/a", false)]
    #[case("/a%24", "/a$", true)]
    fn patterns_match_by_rfc_9309(#[case] pattern: &str, #[case] path: &str, #[case] wanted: bool) {
        let robots = Robots::read(format!("User-agent: *\nDisallow: {pattern}\n").as_bytes());
        assert_eq!(robots.barred("*", path).is_some(), wanted);
    }

    #[rstest]
    #[case::longest_wins("User-agent: *\nDisallow: /a/\nAllow: /a/b\n", "*", "/a/b/c", false)]
    #[case::tie_allows("User-agent: *\nDisallow: /page\nAllow: /page\n", "*", "/page", false)]
    #[case::own_group_only(
        "User-agent: *\nDisallow: /\n\nUser-agent: Lampbot\nDisallow: /x\n",
        "lampbot/2.1",
        "/y",
        false
    )]
    #[case::everyone_else("User-agent: *\nDisallow: /\n\nUser-agent: Lampbot\nDisallow: /x\n", "otherbot", "/y", true)]
    #[case::groups_merge(
        "User-agent: a\nDisallow: /x\nUser-agent: b\nDisallow: /z\nUser-agent: a\nDisallow: /y\n",
        "a",
        "/y",
        true
    )]
    #[case::shared_group("User-agent: a\nUser-agent: b\nDisallow: /x\n", "a", "/x", true)]
    #[case::blank_inside("User-agent: *\n\n\nDisallow: /x\n", "*", "/x", true)]
    #[case::bom_and_cr("\u{feff}User-agent: *\rDisallow: /x\r", "*", "/x", true)]
    #[case::comment("User-agent: * # all\nDisallow: /x # the yard\n", "*", "/x", true)]
    #[case::empty_pattern("User-agent: *\nDisallow:\n", "*", "/x", false)]
    #[case::rules_before_any_group("Disallow: /\n", "*", "/x", false)]
    #[case::unknown_key_between("User-agent: *\nCrawl-delay: 5\nDisallow: /x\n", "*", "/x", true)]
    #[case::no_wildcard_in_names("User-agent: *bot\nDisallow: /x\n", "lampbot", "/x", false)]
    #[case::always_allowed("User-agent: *\nDisallow: /\n", "*", "/robots.txt", false)]
    fn groups_are_read_as_in_real_files(
        #[case] file: &str,
        #[case] token: &str,
        #[case] path: &str,
        #[case] barred: bool,
    ) {
        assert_eq!(Robots::read(file.as_bytes()).barred(token, path).is_some(), barred);
    }

    proptest! {
        /// The index finds what comparing one by one finds.
        #[test]
        fn an_index_changes_nothing(
            rules in proptest::collection::vec((any::<bool>(), "/?[ab/*]{0,6}[$]?"), 9..40),
            paths in proptest::collection::vec("/[ab/$*]{0,9}", 20),
        ) {
            let rules = rules.iter().map(|(allow, pattern)| format!("{}: {pattern}\n", if *allow { "Allow" } else { "Disallow" }));
            let file = format!("User-agent: *\n{}", rules.collect::<String>());
            let indexed = Robots::read(file.as_bytes());
            let plain = Robots { indexes: HashMap::new(), ..indexed.clone() };
            for path in paths {
                prop_assert_eq!(indexed.barred("*", &path), plain.barred("*", &path), "{}\n{}", path, file);
            }
        }
    }

    #[test]
    fn names_the_line_that_disallows() {
        let robots = Robots::read(b"# rules\r\nUser-agent: *\r\nDisallow: /staff/\r\n");
        assert_eq!(robots.barred("*", "/staff/"), Some(Barred { pattern: "/staff/".into(), line: 3 }));
    }
}
