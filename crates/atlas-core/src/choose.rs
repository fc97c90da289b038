//! Choosing: does an entry go in, and if not, why not.
//!
//! No entry is dropped in silence. The questions are asked in one fixed order; the first that says no gives the
//! [`Reason`]. What the page states about itself for all engines (noindex, a redirect, another canonical) always wins; its
//! own word to this tool stands above the rules of the configuration.

use globset::GlobSet;
use serde::Serialize;

use crate::address::{self, Site};
use crate::contribution::Said;
use crate::entry::{Changefreq, Priority};
use crate::robots::Robots;
use crate::section::{Placed, Sections};

/// Why an entry is left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// Its scheme, host, port or folder is not the site's.
    OtherHost,
    /// 2,048 characters or more.
    TooLong,
    /// It is a file that this tool wrote.
    OwnFile,
    /// The server gives no page there.
    NoPage,
    /// The page forbids indexing.
    Noindex,
    /// The page sends its visitors elsewhere.
    Redirect,
    /// The page names another URL as its original.
    CanonicalElsewhere,
    /// It is not meant for the public yet.
    Draft,
    /// The page or row asks to be left out.
    OwnWord,
    /// A rule of the configuration.
    Rule,
    /// It is what the server shows when a page is missing or broken.
    ErrorPage,
    /// robots.txt keeps engines from fetching it.
    RobotsTxt,
    /// Its day of publication lies in the future: it waits.
    Scheduled,
    /// Its day is over.
    Expired,
    /// The same source had named it before.
    Duplicate,
}

impl Reason {
    /// All reasons, in the order in which they are asked about.
    pub const ALL: [Self; 15] = [
        Self::OtherHost,
        Self::TooLong,
        Self::OwnFile,
        Self::NoPage,
        Self::Noindex,
        Self::Redirect,
        Self::CanonicalElsewhere,
        Self::Draft,
        Self::OwnWord,
        Self::Rule,
        Self::ErrorPage,
        Self::RobotsTxt,
        Self::Scheduled,
        Self::Expired,
        Self::Duplicate,
    ];

    /// The stable code.
    pub fn code(self) -> &'static str {
        match self {
            Self::OtherHost => "other-host",
            Self::TooLong => "too-long",
            Self::OwnFile => "own-file",
            Self::NoPage => "no-page",
            Self::Noindex => "noindex",
            Self::Redirect => "redirect",
            Self::CanonicalElsewhere => "canonical-elsewhere",
            Self::Draft => "draft",
            Self::OwnWord => "own-word",
            Self::Rule => "rule",
            Self::ErrorPage => "error-page",
            Self::RobotsTxt => "robots-txt",
            Self::Scheduled => "scheduled",
            Self::Expired => "expired",
            Self::Duplicate => "duplicate",
        }
    }

    /// The reason of that code.
    pub fn named(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.code() == code)
    }

    /// What it means, for people.
    pub fn words(self) -> &'static str {
        match self {
            Self::OtherHost => "not on this site (scheme, host, port or folder)",
            Self::TooLong => "URL of 2,048 characters or more",
            Self::OwnFile => "a file of this tool",
            Self::NoPage => "the server gives no page there",
            Self::Noindex => "page says noindex",
            Self::Redirect => "page redirects elsewhere",
            Self::CanonicalElsewhere => "page names another URL as canonical",
            Self::Draft => "draft",
            Self::OwnWord => "page or row asks to be left out",
            Self::Rule => "rule in the configuration",
            Self::ErrorPage => "error page",
            Self::RobotsTxt => "barred by robots.txt",
            Self::Scheduled => "published in the future, waits for its day",
            Self::Expired => "its day is over (expires)",
            Self::Duplicate => "said again by the same source",
        }
    }
}

/// A choice about entries, from the configuration. The last rule that matches wins, for each setting on its own.
#[derive(Debug, Clone, Default)]
pub struct Rule {
    /// Paths it speaks for.
    pub matching: GlobSet,
    /// The patterns as they were typed, for messages.
    pub written: String,
    /// Whether they go in.
    pub keep: Option<bool>,
    /// A hint to write for them.
    pub changefreq: Option<Changefreq>,
    /// A hint to write for them.
    pub priority: Option<Priority>,
}

/// The tool's own files among the site's URLs.
#[derive(Debug, Clone)]
pub struct OwnFiles {
    /// Address of the folder with the main file.
    pub folder: String,
    /// File name of the main file.
    pub main: String,
}

/// How the names of child files begin.
pub const CHILD_PREFIX: &str = "atlas-";

impl OwnFiles {
    /// Whether an address is one of them: the main file, or a child file beside it, or a compressed copy of either.
    pub fn holds(&self, address: &str) -> bool {
        let Some(name) = address.strip_prefix(&self.folder) else { return false };
        let name = name.strip_suffix(".gz").unwrap_or(name);
        let child = name.starts_with(CHILD_PREFIX) && name.ends_with(".xml");
        (name == self.main || child) && !name.contains('/')
    }
}

/// What an entry is chosen by.
#[derive(Debug, Clone)]
pub struct Chooser {
    /// The site.
    pub site: Site,
    /// Files that never come back as entries.
    pub own_files: OwnFiles,
    /// The site's robots.txt.
    pub robots: Robots,
    /// Product tokens for which robots.txt is asked; `*` is always among them.
    pub tokens: Vec<String>,
    /// The rules of the configuration.
    pub rules: Vec<Rule>,
    /// The sections of the configuration.
    pub sections: Sections,
    /// The instant of the run, in seconds since 1970: what is published after it waits.
    pub now: i64,
}

/// What came of an entry.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Verdict {
    /// It goes in.
    Kept(Kept),
    /// It does not.
    LeftOut(Reason),
}

/// How an entry goes in.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Kept {
    /// Its section's place in [`Sections::list`].
    pub section: usize,
    /// The hint to write.
    pub changefreq: Option<Changefreq>,
    /// The hint to write.
    pub priority: Option<Priority>,
}

/// One question that was asked about an entry, for `why`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Step {
    /// What was asked.
    pub question: &'static str,
    /// What the answer was, and where it came from.
    pub answer: String,
    /// Whether it settled the matter.
    pub decisive: bool,
}

/// Where the steps go: nowhere while a million entries pass, into a list for one.
struct Trail<'t>(Option<&'t mut Vec<Step>>);

impl Trail<'_> {
    fn pass(&mut self, question: &'static str, answer: impl FnOnce() -> String) {
        self.note(question, answer, false);
    }

    fn out(&mut self, reason: Reason, question: &'static str, answer: impl FnOnce() -> String) -> Verdict {
        self.note(question, answer, true);
        Verdict::LeftOut(reason)
    }

    fn note(&mut self, question: &'static str, answer: impl FnOnce() -> String, decisive: bool) {
        if let Some(steps) = &mut self.0 {
            steps.push(Step { question, answer: answer(), decisive });
        }
    }
}

impl Chooser {
    /// Decides about one entry.
    pub fn choose(&self, said: &Said<'_>) -> Verdict {
        self.ask(said, Trail(None))
    }

    /// Decides about one entry and tells each step.
    pub fn explain(&self, said: &Said<'_>) -> (Verdict, Vec<Step>) {
        let mut steps = Vec::new();
        let verdict = self.ask(said, Trail(Some(&mut steps)));
        (verdict, steps)
    }

    fn ask(&self, said: &Said<'_>, mut trail: Trail<'_>) -> Verdict {
        use Reason as R;
        let url = said.url.as_ref();
        if let Some(verdict) = self.ask_address(url, &mut trail) {
            return verdict;
        }
        if let Some(verdict) = Self::ask_page(said, &mut trail) {
            return verdict;
        }

        if said.draft {
            return trail.out(R::Draft, "draft", || "yes".to_owned());
        }

        let path = address::path(url);
        let mut kept = Kept { section: 0, changefreq: said.changefreq, priority: said.priority };
        let rule = self.ask_rules(path, &mut kept);
        let keep = match (said.keep, rule) {
            (Some(false), _) => return trail.out(R::OwnWord, "its own word", || "keep = no".to_owned()),
            (Some(true), _) => {
                trail.pass("its own word", || "keep = yes; rules are not asked".to_owned());
                true
            }
            (None, Some((false, written))) => {
                return trail.out(R::Rule, "rules", || format!("matching {written}: keep = false"));
            }
            (None, Some((true, written))) => {
                trail.pass("rules", || format!("matching {written}: keep = true"));
                true
            }
            (None, None) => {
                trail.pass("rules", || "none has a word on whether to keep it".to_owned());
                false
            }
        };
        if !keep && is_error_page(path, said.title.as_deref()) {
            return trail.out(R::ErrorPage, "error page", || {
                "its name or title is that of an error page; a rule with keep = true overrides this".to_owned()
            });
        }
        trail.pass("error page", || "no".to_owned());

        for token in std::iter::once("*").chain(self.tokens.iter().map(String::as_str)) {
            if let Some(barred) = self.robots.barred(token, path) {
                return trail.out(R::RobotsTxt, "robots.txt", || {
                    format!("line {}: Disallow: {} (for {token})", barred.line, barred.pattern)
                });
            }
        }
        if let Some(barred) = &said.barred {
            return trail.out(R::RobotsTxt, "robots.txt", || barred.to_string());
        }
        trail.pass("robots.txt", || "may be fetched".to_owned());

        if let Some(published) = said.published.filter(|published| published.seconds() > self.now) {
            return trail.out(R::Scheduled, "published", || format!("on {published}, which is yet to come"));
        }
        trail.pass("published", || said.published.map_or("no date is stated".to_owned(), |date| date.to_string()));

        if let Some(expires) = said.expires.filter(|expires| expires.seconds() <= self.now) {
            return trail.out(R::Expired, "expires", || format!("on {expires}, which is past"));
        }
        if let Some(expires) = said.expires {
            trail.pass("expires", || format!("on {expires}, which is yet to come"));
        }

        let (section, placed) = self.sections.find(path, said.section.as_deref());
        kept.section = section;
        trail.note(
            "section",
            || {
                let because = match placed {
                    Placed::ByPath => "its path matches",
                    Placed::BySource => "its source says so",
                    Placed::ByDefault => "nothing puts it elsewhere",
                };
                format!("{}: {because}", self.sections.list()[section].name)
            },
            true,
        );
        Verdict::Kept(kept)
    }

    fn ask_address(&self, url: &str, trail: &mut Trail<'_>) -> Option<Verdict> {
        let root = self.site.root();
        if !self.site.holds(url) {
            return Some(trail.out(Reason::OtherHost, "on this site", || {
                let part = if address::origin(url) == root.origin() {
                    "folder"
                } else if address::host(url) == root.host() {
                    "scheme"
                } else {
                    "host"
                };
                format!("no: another {part} than {root}")
            }));
        }
        trail.pass("on this site", || format!("yes, under {root}"));
        if url.len() > address::LONGEST {
            return Some(trail.out(Reason::TooLong, "length", || format!("{} characters", url.len())));
        }
        trail.pass("length", || format!("{} of at most {} characters", url.len(), address::LONGEST));
        if self.own_files.holds(url) {
            return Some(trail.out(Reason::OwnFile, "a file of this tool", || "yes".to_owned()));
        }
        None
    }

    fn ask_page(said: &Said<'_>, trail: &mut Trail<'_>) -> Option<Verdict> {
        if let Some(failure) = &said.failure {
            return Some(trail.out(Reason::NoPage, "a page", || format!("no: {failure}")));
        }
        if let Some(directive) = &said.noindex {
            return Some(trail.out(Reason::Noindex, "noindex", || directive.to_string()));
        }
        trail.pass("noindex", || "no".to_owned());
        if let Some(target) = said.refresh.as_ref().filter(|target| **target != said.url) {
            return Some(trail.out(Reason::Redirect, "redirect", || format!("its refresh leads to {target}")));
        }
        trail.pass("redirect", || "no".to_owned());
        match &said.canonical {
            Some(canonical) if *canonical != said.url => {
                return Some(trail.out(Reason::CanonicalElsewhere, "canonical", || canonical.to_string()));
            }
            Some(_) => trail.pass("canonical", || "itself".to_owned()),
            None => trail.pass("canonical", || "the page names none".to_owned()),
        }
        None
    }

    /// Applies what rules set, the page's own hints standing above them; returns the last word on keeping.
    fn ask_rules(&self, path: &str, kept: &mut Kept) -> Option<(bool, &str)> {
        let mut keep = None;
        let (mut changefreq, mut priority) = (None, None);
        for rule in self.rules.iter().filter(|rule| rule.matching.is_match(path)) {
            keep = rule.keep.map(|word| (word, rule.written.as_str())).or(keep);
            changefreq = rule.changefreq.or(changefreq);
            priority = rule.priority.or(priority);
        }
        kept.changefreq = kept.changefreq.or(changefreq);
        kept.priority = kept.priority.or(priority);
        keep
    }
}

/// Whether a page is what a server shows in place of another: a file named after a status (`404.html`, `50x.html`), or one
/// whose title begins with the status and says that it was not found.
fn is_error_page(path: &str, title: Option<&str>) -> bool {
    let path = path.as_bytes();
    let path = &path[..memchr::memchr(b'?', path).unwrap_or(path.len())];
    let (path, closed) = path.strip_suffix(b"/").map_or((path, false), |path| (path, true));
    let name_at = memchr::memrchr(b'/', path).map_or(0, |at| at + 1);
    let name = &path[name_at..];
    let stem = &name[..memchr::memrchr(b'.', name).unwrap_or(name.len())];
    let is_page = match &name[stem.len()..] {
        b".html" | b".htm" | b".xhtml" | b".php" => !closed,
        b"" => closed && name_at == 1,
        _ => false,
    };
    (is_page && is_status(stem)) || title.is_some_and(is_error_title)
}

fn is_status(text: &[u8]) -> bool {
    matches!(text, b"50x" | [b'4' | b'5', b'0'..=b'9', b'0'..=b'9'])
}

fn is_error_title(title: &str) -> bool {
    let after = |prefix: &str| title.get(..prefix.len()).filter(|start| start.eq_ignore_ascii_case(prefix));
    let rest = after("error ").map_or(title, |prefix| &title[prefix.len()..]);
    rest.starts_with(['4', '5'])
        && rest.as_bytes().get(..3).is_some_and(is_status)
        && title.to_lowercase().contains("not found")
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use globset::{Glob, GlobSetBuilder};
    use rstest::rstest;

    use super::*;
    use crate::lastmod::Lastmod;
    use crate::section::Section;

    const ROOT: &str = "https://www.marrowvale.example/";

    fn globs(patterns: &[&str]) -> GlobSet {
        let mut builder = GlobSetBuilder::new();
        patterns.iter().for_each(|pattern| {
            builder.add(Glob::new(pattern).unwrap());
        });
        builder.build().unwrap()
    }

    fn rule(pattern: &str, keep: Option<bool>, priority: Option<f64>) -> Rule {
        let priority = priority.and_then(Priority::new);
        Rule { matching: globs(&[pattern]), written: pattern.to_owned(), keep, priority, changefreq: None }
    }

    fn chooser() -> Chooser {
        let journal = Section { name: "journal".into(), matching: Some(globs(&["/journal/**"])), urls_per_file: None };
        Chooser {
            site: Site::parse(ROOT).unwrap(),
            own_files: OwnFiles { folder: ROOT.into(), main: "sitemap.xml".into() },
            robots: Robots::read(b"User-agent: *\nDisallow: /yard/\nUser-agent: lampbot\nDisallow: /fares/\n"),
            tokens: vec![],
            rules: vec![
                rule("/staff/**", Some(false), Some(0.1)),
                rule("/staff/vacancies/**", Some(true), None),
                rule("/**/drafts/*", Some(false), None),
            ],
            sections: Sections::new(vec![journal], []),
            now: 1_795_392_000,
        }
    }

    fn at(path: &str) -> Said<'static> {
        Said { url: Cow::Owned(format!("https://www.marrowvale.example{path}")), ..Said::default() }
    }

    #[rstest]
    #[case::plain(at("/fares/"), None)]
    #[case::other_host(Said { url: "https://marrowvale.example/fares/".into(), ..at("") }, Some(Reason::OtherHost))]
    #[case::other_scheme(Said { url: "http://www.marrowvale.example/".into(), ..at("") }, Some(Reason::OtherHost))]
    #[case::too_long(at(&format!("/{}", "a".repeat(2100))), Some(Reason::TooLong))]
    #[case::main_file(at("/sitemap.xml"), Some(Reason::OwnFile))]
    #[case::child_copy(at("/atlas-pages-1.xml.gz"), Some(Reason::OwnFile))]
    #[case::not_ours(at("/films/atlas-of-halts.html"), None)]
    #[case::noindex(Said { noindex: Some("noindex".into()), keep: Some(true), ..at("/a/") }, Some(Reason::Noindex))]
    #[case::redirect(Said { refresh: Some("https://www.marrowvale.example/b/".into()), ..at("/a/") }, Some(Reason::Redirect))]
    #[case::canonical(Said { canonical: Some("https://www.marrowvale.example/b/".into()), ..at("/a/") }, Some(Reason::CanonicalElsewhere))]
    #[case::canonical_itself(Said { canonical: Some("https://www.marrowvale.example/a/".into()), ..at("/a/") }, None)]
    #[case::own_word(Said { keep: Some(false), ..at("/a/") }, Some(Reason::OwnWord))]
    #[case::rule(at("/staff/rota/"), Some(Reason::Rule))]
    #[case::last_rule_wins(at("/staff/vacancies/porter/"), None)]
    #[case::own_word_above_rules(Said { keep: Some(true), ..at("/staff/rota/") }, None)]
    #[case::error_page(at("/404.html"), Some(Reason::ErrorPage))]
    #[case::error_page_in_welsh(at("/cy/404.html"), Some(Reason::ErrorPage))]
    #[case::error_folder(at("/404/"), Some(Reason::ErrorPage))]
    #[case::error_title(Said { title: Some("404 – Page not found".into()), ..at("/lost/") }, Some(Reason::ErrorPage))]
    #[case::not_an_error(at("/locomotives/404/"), None)]
    #[case::kept_error_page(Said { keep: Some(true), ..at("/404.html") }, None)]
    #[case::scheduled(Said { published: Lastmod::from_epoch_day(30_000), ..at("/news/gala/") }, Some(Reason::Scheduled))]
    #[case::not_there(Said { failure: Some("404 Not Found".into()), ..at("/a/") }, Some(Reason::NoPage))]
    #[case::barred_live(Said { barred: Some("line 2".into()), ..at("/a/") }, Some(Reason::RobotsTxt))]
    #[case::draft(Said { draft: true, keep: Some(true), ..at("/a/") }, Some(Reason::Draft))]
    #[case::over(Said { expires: Lastmod::from_epoch_day(20_000), ..at("/gala/") }, Some(Reason::Expired))]
    #[case::not_over_yet(Said { expires: Lastmod::from_epoch_day(30_000), ..at("/gala/") }, None)]
    #[case::published(Said { published: Lastmod::from_epoch_day(20_000), ..at("/news/gala/") }, None)]
    #[case::barred(at("/yard/plan/"), Some(Reason::RobotsTxt))]
    fn each_reason_in_its_order(#[case] said: Said<'static>, #[case] wanted: Option<Reason>) {
        let (verdict, steps) = chooser().explain(&said);
        let reason = match verdict {
            Verdict::LeftOut(reason) => Some(reason),
            Verdict::Kept(_) => None,
        };
        assert_eq!(reason, wanted, "{steps:#?}");
        assert_eq!(verdict, chooser().choose(&said));
        assert_eq!(steps.iter().filter(|step| step.decisive).count(), 1);
        assert!(steps.last().unwrap().decisive);
    }

    #[test]
    fn a_named_crawler_is_asked_about_too() {
        let mut chooser = chooser();
        chooser.tokens = vec!["lampbot".into()];
        assert_eq!(chooser.choose(&at("/fares/")), Verdict::LeftOut(Reason::RobotsTxt));
    }

    #[test]
    fn hints_come_from_the_row_before_the_rule() {
        let with_rule = chooser().choose(&at("/staff/vacancies/porter/"));
        let Verdict::Kept(kept) = with_rule else { panic!() };
        assert_eq!(kept.priority, Priority::new(0.1), "each setting has its own last word");
        let row = Said { priority: Priority::new(0.9), ..at("/staff/vacancies/porter/") };
        let Verdict::Kept(kept) = chooser().choose(&row) else { panic!() };
        assert_eq!(kept.priority, Priority::new(0.9));
    }

    #[test]
    fn codes_are_unlike() {
        let codes: std::collections::HashSet<&str> = Reason::ALL.iter().map(|reason| reason.code()).collect();
        assert_eq!(codes.len(), Reason::ALL.len());
    }
}
