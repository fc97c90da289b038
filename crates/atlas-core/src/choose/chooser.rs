//! The chooser: decides about an entry, one question at a time.

use super::error_page::is_error_page;
use super::reason::Reason;
use super::rule::{Rule, RuleSubject};
use super::ruled::Ruled;
use super::section::{SectionReason, Sections};
use super::trail::{Setting, SettingOrigin, Step, Trail, Untold};
use super::verdict::{Kept, Verdict};
use crate::address::{self, Site};
use crate::archive::{Archive, Archives};
use crate::calendar::Calendar;
use crate::contribution::{Absence, Contribution};
use crate::hint::PriorityHint;
use crate::placement::OwnFiles;
use crate::robots::Robots;

/// Decides whether an entry is kept, and how it is written.
#[derive(Debug, Clone)]
pub struct Chooser {
    /// The site.
    pub site: Site,
    /// Files that are never listed as entries.
    pub own_files: OwnFiles,
    /// The site's robots.txt.
    pub robots: Robots,
    /// The product tokens that robots.txt is checked for. `*` is always among them.
    pub tokens: Vec<String>,
    /// The rules of the configuration.
    pub rules: Vec<Rule>,
    /// The sections of the configuration.
    pub sections: Sections,
    /// The archives of the configuration.
    pub archives: Archives,
    /// The instant of the run and the site's zone. Entries published later are not listed yet.
    pub calendar: Calendar,
}

impl Chooser {
    /// Decides about one entry. `sources` are the indexes of the sources that name it.
    pub fn choose(&self, contribution: &Contribution<'_>, sources: &[u16]) -> Verdict {
        self.ask(contribution, sources, &mut Untold)
    }

    /// Decides about one entry and records each step.
    pub fn explain(&self, contribution: &Contribution<'_>, sources: &[u16]) -> (Verdict, Vec<Step>) {
        let mut steps = Vec::new();
        let verdict = self.ask(contribution, sources, &mut steps);
        (verdict, steps)
    }

    fn ask(&self, contribution: &Contribution<'_>, sources: &[u16], trail: &mut impl Trail) -> Verdict {
        let url = contribution.url.as_ref();
        let answer = self.ask_address(url, trail).or_else(|| Self::ask_page(contribution, trail));
        if let Some(verdict) = answer {
            return verdict;
        }
        let path = self.site.path(url);
        let (at, placed) = self.sections.find(path, contribution.section.as_deref());
        let archive = self.archives.of(contribution);
        let mut ruled = Ruled::default();
        if !self.rules.is_empty() {
            let named = |word: Option<&str>| self.sections.named(word?);
            let into = archive.and_then(|archive| archive.into.as_deref());
            let without_rules = named(contribution.own_section.as_deref()).or_else(|| named(into)).unwrap_or(at);
            let section = &self.sections.list()[without_rules].name;
            ruled = Ruled::of(
                &self.rules,
                &RuleSubject { contribution, path, section, sources, now: self.calendar.now },
                trail,
            );
        }
        if let Some(verdict) = Self::ask_keep(contribution, path, &ruled, trail) {
            return verdict;
        }
        if let Some(verdict) = self.ask_robots(contribution, path, trail) {
            return verdict;
        }
        if let Some(verdict) = self.ask_time(contribution, trail) {
            return verdict;
        }
        if contribution.not_there {
            return trail.out(Reason::NoArchivePage, "archive page", || {
                "the sources that read pages found none at this URL; assume_page = true lists it anyway".to_owned()
            });
        }
        if contribution.not_in_folder {
            return trail.out(Reason::NotInFolder, "page in the folder", || {
                "the html source read the folder that serves this URL and found no page; pages = \"may-be-elsewhere\" on the source lists it anyway".to_owned()
            });
        }
        let section = self.ask_section(contribution, (at, placed), archive, &ruled, trail);
        if !self.sections.list()[section].on {
            return trail.out(Reason::SectionOff, "section is on", || "no: on = false".to_owned());
        }
        let kept = self.ask_hints(contribution, path, section, archive, &ruled, trail);
        trail.note("listed", || format!("yes, in section {}", self.sections.list()[section].name), true);
        Verdict::Kept(kept)
    }

    fn ask_address(&self, url: &str, trail: &mut impl Trail) -> Option<Verdict> {
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

    fn ask_page(contribution: &Contribution<'_>, trail: &mut impl Trail) -> Option<Verdict> {
        if contribution.only_before_move {
            let why = || "no: only the sitemap from which the site has moved (moved = true) has it".to_owned();
            return Some(trail.out(Reason::OnlyBeforeMove, "named by a source", why));
        }
        if let Some(failure) = &contribution.failure {
            let reason = match Absence::of(failure) {
                Absence::NotThere => Reason::NoPage,
                Absence::ServerError => Reason::ServerError,
                Absence::OtherThing => Reason::NotAPage,
            };
            return Some(trail.out(reason, "a page", || format!("no: {failure}")));
        }
        if let Some(directive) = &contribution.noindex {
            return Some(trail.out(Reason::Noindex, "noindex", || directive.to_string()));
        }
        trail.pass("noindex", || "no".to_owned());
        if let Some(target) = contribution.refresh.as_ref().filter(|target| **target != contribution.url) {
            return Some(trail.out(Reason::Redirect, "redirect", || match &contribution.redirected {
                Some(status) => format!("{status}, to {target}"),
                None => format!("its refresh leads to {target}"),
            }));
        }
        trail.pass("redirect", || "no".to_owned());
        match &contribution.canonical {
            Some(canonical) if !address::is_same(canonical, &contribution.url) => {
                return Some(trail.out(Reason::CanonicalElsewhere, "canonical", || canonical.to_string()));
            }
            Some(_) => trail.pass("canonical", || "itself".to_owned()),
            None => trail.pass("canonical", || "the page names none".to_owned()),
        }
        None
    }

    /// Whether it is kept: by its own setting, by the rules, by what it is.
    fn ask_keep(
        contribution: &Contribution<'_>,
        path: &str,
        ruled: &Ruled<'_>,
        trail: &mut impl Trail,
    ) -> Option<Verdict> {
        if let Some(value) = &contribution.unreadable {
            return Some(trail.out(Reason::Unreadable, "what decides about it", || format!("cannot be read: {value}")));
        }
        let says = [(contribution.gone, Reason::Gone, "gone"), (contribution.draft, Reason::Draft, "draft")];
        if let Some((_, reason, question)) = says.into_iter().find(|(is_so, ..)| *is_so) {
            return Some(trail.out(reason, question, || "yes".to_owned()));
        }
        let own = contribution.keep.map(|value| Setting { value, from: SettingOrigin::Itself });
        match own.or(ruled.keep) {
            Some(Setting { value: false, from: SettingOrigin::Itself }) => {
                return Some(trail.out(Reason::OwnWord, "keep", || "no, by its own setting".to_owned()));
            }
            Some(Setting { value: false, from }) => {
                return Some(trail.out(Reason::Rule, "keep", || format!("no, by {from}: the last that matches")));
            }
            Some(Setting { value: true, from }) => {
                trail.pass("keep", || format!("yes, by {from}"));
                return None;
            }
            None => trail.pass("keep", || "neither its own setting nor a rule says no".to_owned()),
        }
        if is_error_page(path, contribution.title.as_deref()) {
            return Some(trail.out(Reason::ErrorPage, "error page", || {
                "its name or title is that of an error page; a rule with keep = true overrides this".to_owned()
            }));
        }
        trail.pass("error page", || "no".to_owned());
        None
    }

    fn ask_robots(&self, contribution: &Contribution<'_>, path: &str, trail: &mut impl Trail) -> Option<Verdict> {
        for token in std::iter::once("*").chain(self.tokens.iter().map(String::as_str)) {
            if let Some(barred) = self.robots.barred(token, path) {
                return Some(trail.out(Reason::Disallowed, "robots.txt", || {
                    format!("line {}: Disallow: {} (for {token})", barred.line, barred.pattern)
                }));
            }
        }
        if let Some(barred) = &contribution.barred {
            return Some(trail.out(Reason::Disallowed, "robots.txt", || barred.to_string()));
        }
        trail.pass("robots.txt", || "may be fetched".to_owned());
        None
    }

    /// Whether it is published and has not expired.
    fn ask_time(&self, contribution: &Contribution<'_>, trail: &mut impl Trail) -> Option<Verdict> {
        if let Some(published) = contribution.published.filter(|published| self.calendar.is_to_come(published)) {
            return Some(trail.out(Reason::Scheduled, "published", || format!("on {published}, in the future")));
        }
        trail.pass("published", || {
            contribution.published.map_or("no date is stated".to_owned(), |date| date.to_string())
        });
        if let Some(expires) = contribution.expires.filter(|expires| !self.calendar.is_to_come(expires)) {
            return Some(trail.out(Reason::Expired, "expires", || format!("on {expires}, in the past")));
        }
        if let Some(expires) = contribution.expires {
            trail.pass("expires", || format!("on {expires}, in the future"));
        }
        None
    }

    /// Chooses its section: by its own setting, a rule, its archive, its path or its source, in this order.
    fn ask_section(
        &self,
        contribution: &Contribution<'_>,
        (found, placed): (usize, SectionReason),
        archive: Option<&Archive>,
        ruled: &Ruled<'_>,
        trail: &mut impl Trail,
    ) -> usize {
        let own = contribution.own_section.as_deref().map(|value| Setting { value, from: SettingOrigin::Itself });
        let archive = archive.and_then(|archive| archive.into.as_deref());
        let words = [own, ruled.section, archive.map(|value| Setting { value, from: SettingOrigin::Archive })];
        for word in words.into_iter().flatten() {
            if let Some(at) = self.sections.named(word.value) {
                trail.pass("section", || format!("{}, by {}", word.value, word.from));
                return at;
            }
            trail.pass("section", || format!("{} asks for “{}”, which does not exist", word.from, word.value));
        }
        trail.pass("section", || {
            let because = match placed {
                SectionReason::ByPath => "its path matches",
                SectionReason::BySource => "its source says so",
                SectionReason::ByDefault => "nothing assigns it elsewhere",
            };
            format!("{}: {because}", self.sections.list()[found].name)
        });
        found
    }

    /// Chooses its hints and date policy: by its own setting, a rule, its archive or its section, in this order.
    fn ask_hints(
        &self,
        contribution: &Contribution<'_>,
        path: &str,
        section: usize,
        archive: Option<&Archive>,
        ruled: &Ruled<'_>,
        trail: &mut impl Trail,
    ) -> Kept {
        fn word<T>(value: Option<T>, from: SettingOrigin) -> Option<Setting<T>> {
            value.map(|value| Setting { value, from })
        }
        let archive = archive.map(|archive| archive.hints).unwrap_or_default();
        let of_section = self.sections.list()[section].hints;
        let priority = word(contribution.priority.map(PriorityHint::Fixed), SettingOrigin::Itself)
            .or(ruled.priority)
            .or_else(|| word(archive.priority, SettingOrigin::Archive))
            .or_else(|| word(of_section.priority, SettingOrigin::Section));
        let changefreq = word(contribution.changefreq, SettingOrigin::Itself)
            .or(ruled.changefreq)
            .or_else(|| word(archive.changefreq, SettingOrigin::Archive))
            .or_else(|| word(of_section.changefreq, SettingOrigin::Section));
        let date_policy = word(contribution.date_policy, SettingOrigin::Itself)
            .or(ruled.date_policy)
            .or_else(|| word(archive.date_policy, SettingOrigin::Archive))
            .or_else(|| word(of_section.date_policy, SettingOrigin::Section));
        let announce = word(contribution.announce, SettingOrigin::Itself)
            .or(ruled.announce)
            .or_else(|| word(archive.announce, SettingOrigin::Archive))
            .or_else(|| word(of_section.announce, SettingOrigin::Section));
        let computed = priority.and_then(|word| word.value.of(path, contribution.share));
        if let Some((word, value)) = priority.zip(computed) {
            trail.pass("priority", || format!("{value}, {} {}", word.value.how(), word.from));
        }
        if let Some(word) = changefreq {
            trail.pass("changefreq", || format!("{}, by {}", word.value.as_str(), word.from));
        }
        if let Some(word) = date_policy {
            trail.pass("date policy", || format!("{}, by {}", word.value.as_str(), word.from));
        }
        if let Some(word) = announce {
            trail.pass("announce", || format!("{}, by {}", if word.value { "yes" } else { "no" }, word.from));
        }
        Kept {
            section: section as u16,
            changefreq: changefreq.map(|word| word.value),
            priority: computed,
            date_policy: date_policy.map(|word| word.value).unwrap_or_default(),
            announce: announce.is_none_or(|word| word.value),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use rstest::rstest;

    use super::*;
    use crate::archive::{Archive, By};
    use crate::choose::rule::tests::{globs, rule_of};
    use crate::choose::{Condition, Section};
    use crate::entry::Priority;
    use crate::hint::Hints;
    use crate::lastmod::Lastmod;

    const ROOT: &str = "https://www.marrowvale.example/";

    /// A rule on paths, in line `line`.
    fn rule(line: u32, pattern: &str, keep: Option<bool>, priority: Option<f64>) -> Rule {
        let priority = priority.and_then(Priority::new).map(PriorityHint::Fixed);
        let hints = Hints { priority, ..Hints::default() };
        Rule { keep, hints, ..rule_of(line, Condition::Path(globs(&[pattern]))) }
    }

    fn chooser() -> Chooser {
        let journal = Section { matching: Some(globs(&["/journal/**"])), ..Section::named("journal") };
        Chooser {
            site: Site::parse(ROOT).unwrap(),
            own_files: OwnFiles {
                folder: ROOT.into(),
                main: "sitemap.xml".into(),
                others: [format!("{ROOT}atlas.html")].into(),
                named: [format!("{ROOT}lamp-console.html")].into(),
            },
            robots: Robots::read(b"User-agent: *\nDisallow: /yard/\nUser-agent: lampbot\nDisallow: /fares/\n"),
            tokens: vec![],
            rules: vec![
                rule(10, "/staff/**", Some(false), Some(0.1)),
                rule(14, "/staff/vacancies/**", Some(true), None),
                rule(18, "/**/drafts/*", Some(false), None),
            ],
            sections: Sections::new(vec![journal, Section { on: false, ..Section::named("shed") }], []),
            archives: Archives::default(),
            calendar: Calendar::utc(1_795_392_000),
        }
    }

    fn at(path: &str) -> Contribution<'static> {
        Contribution { url: Cow::Owned(format!("https://www.marrowvale.example{path}")), ..Contribution::default() }
    }

    #[rstest]
    #[case::plain(at("/fares/"), None)]
    #[case::other_host(Contribution { url: "https://marrowvale.example/fares/".into(), ..at("") }, Some(Reason::OtherHost))]
    #[case::other_scheme(Contribution { url: "http://www.marrowvale.example/".into(), ..at("") }, Some(Reason::OtherHost))]
    #[case::too_long(at(&format!("/{}", "a".repeat(2100))), Some(Reason::TooLong))]
    #[case::main_file(at("/sitemap.xml"), Some(Reason::OwnFile))]
    #[case::child_copy(at("/atlas-pages-1.xml.gz"), Some(Reason::OwnFile))]
    #[case::not_ours(at("/films/atlas-of-halts.html"), None)]
    #[case::noindex(Contribution { noindex: Some("noindex".into()), keep: Some(true), ..at("/a/") }, Some(Reason::Noindex))]
    #[case::redirect(Contribution { refresh: Some("https://www.marrowvale.example/b/".into()), ..at("/a/") }, Some(Reason::Redirect))]
    #[case::canonical(Contribution { canonical: Some("https://www.marrowvale.example/b/".into()), ..at("/a/") }, Some(Reason::CanonicalElsewhere))]
    #[case::canonical_itself(Contribution { canonical: Some("https://www.marrowvale.example/a/".into()), ..at("/a/") }, None)]
    #[case::own_word(Contribution { keep: Some(false), ..at("/a/") }, Some(Reason::OwnWord))]
    #[case::rule(at("/staff/rota/"), Some(Reason::Rule))]
    #[case::last_rule_wins(at("/staff/vacancies/porter/"), None)]
    #[case::own_word_above_rules(Contribution { keep: Some(true), ..at("/staff/rota/") }, None)]
    #[case::error_page(at("/404.html"), Some(Reason::ErrorPage))]
    #[case::error_page_in_welsh(at("/cy/404.html"), Some(Reason::ErrorPage))]
    #[case::error_folder(at("/404/"), Some(Reason::ErrorPage))]
    #[case::error_title(Contribution { title: Some("404 – Page not found".into()), ..at("/lost/") }, Some(Reason::ErrorPage))]
    #[case::not_an_error(at("/locomotives/404/"), None)]
    #[case::kept_error_page(Contribution { keep: Some(true), ..at("/404.html") }, None)]
    #[case::scheduled(Contribution { published: Lastmod::from_epoch_day(30_000), ..at("/news/gala/") }, Some(Reason::Scheduled))]
    #[case::failing(Contribution { failure: Some("500 Internal Server Error".into()), ..at("/a/") }, Some(Reason::ServerError))]
    #[case::silent(Contribution { failure: Some("no answer: timed out".into()), ..at("/a/") }, Some(Reason::ServerError))]
    #[case::plan(Contribution { failure: Some("application/pdf".into()), ..at("/a/") }, Some(Reason::NotAPage))]
    #[case::not_there(Contribution { failure: Some("404 Not Found".into()), ..at("/a/") }, Some(Reason::NoPage))]
    #[case::barred_live(Contribution { barred: Some("line 2".into()), ..at("/a/") }, Some(Reason::Disallowed))]
    #[case::gone(Contribution { gone: true, keep: Some(true), ..at("/a/") }, Some(Reason::Gone))]
    #[case::draft(Contribution { draft: true, keep: Some(true), ..at("/a/") }, Some(Reason::Draft))]
    #[case::over(Contribution { expires: Lastmod::from_epoch_day(20_000), ..at("/gala/") }, Some(Reason::Expired))]
    #[case::not_over_yet(Contribution { expires: Lastmod::from_epoch_day(30_000), ..at("/gala/") }, None)]
    #[case::published(Contribution { published: Lastmod::from_epoch_day(20_000), ..at("/news/gala/") }, None)]
    #[case::visitor_page(at("/atlas.html"), Some(Reason::OwnFile))]
    #[case::what_a_console_asks_for(at("/lamp-console.html"), Some(Reason::OwnFile))]
    #[case::archive_without_page(Contribution { not_there: true, ..at("/journal/about/lamps/") }, Some(Reason::NoArchivePage))]
    #[case::section_off(Contribution { section: Some("shed".into()), ..at("/sheds/") }, Some(Reason::SectionOff))]
    #[case::off_by_own_word(Contribution { own_section: Some("shed".into()), ..at("/journal/a/") }, Some(Reason::SectionOff))]
    #[case::barred(at("/yard/plan/"), Some(Reason::Disallowed))]
    fn each_reason_in_its_order(#[case] contribution: Contribution<'static>, #[case] wanted: Option<Reason>) {
        let (verdict, steps) = chooser().explain(&contribution, &[0]);
        let reason = match verdict {
            Verdict::LeftOut(reason) => Some(reason),
            Verdict::Kept(_) => None,
        };
        assert_eq!(reason, wanted, "{steps:#?}");
        assert_eq!(verdict, chooser().choose(&contribution, &[0]));
        assert_eq!(steps.iter().filter(|step| step.decisive).count(), 1);
        assert!(steps.last().unwrap().decisive);
    }

    #[test]
    fn rules_for_named_crawlers_are_checked_too() {
        let mut chooser = chooser();
        chooser.tokens = vec!["lampbot".into()];
        assert_eq!(chooser.choose(&at("/fares/"), &[0]), Verdict::LeftOut(Reason::Disallowed));
    }

    #[test]
    fn hints_come_from_the_row_before_the_rule() {
        let with_rule = chooser().choose(&at("/staff/vacancies/porter/"), &[0]);
        let Verdict::Kept(kept) = with_rule else { panic!() };
        assert_eq!(kept.priority, Priority::new(0.1), "each setting has its own last word");
        let row = Contribution { priority: Priority::new(0.9), ..at("/staff/vacancies/porter/") };
        let Verdict::Kept(kept) = chooser().choose(&row, &[0]) else { panic!() };
        assert_eq!(kept.priority, Priority::new(0.9));
    }

    /// One entry that its own setting, a rule, its archive and its section all give settings to.
    #[rstest]
    #[case::itself(true, true, true, ("halts", 0.9))]
    #[case::rule(false, true, true, ("locomotives", 0.1))]
    #[case::archive(false, false, true, ("archives", 0.6))]
    #[case::section(false, false, false, ("journal", 0.8))]
    fn which_rule_wins(
        #[case] itself: bool,
        #[case] by_rule: bool,
        #[case] by_archive: bool,
        #[case] (section, priority): (&str, f64),
    ) {
        let fixed = |number| Hints { priority: Priority::new(number).map(PriorityHint::Fixed), ..Hints::default() };
        let journal =
            Section { matching: Some(globs(&["/journal/**"])), hints: fixed(0.8), ..Section::named("journal") };
        let named = ["halts", "locomotives", "archives"].map(str::to_owned);
        let rules = vec![Rule {
            section: Some("locomotives".into()),
            hints: fixed(0.1),
            ..rule_of(7, Condition::Path(globs(&["/**"])))
        }];
        let archives = Archives::new(
            vec![Archive {
                into: Some("archives".into()),
                hints: Hints { priority: Some(PriorityHint::ByShare), ..Hints::default() },
                ..Archive::new(By::Category, "/journal/about/{slug}/")
            }],
            jiff::tz::TimeZone::UTC,
        );
        let chooser = Chooser {
            rules: if by_rule { rules } else { vec![] },
            sections: Sections::new(vec![journal], named),
            archives,
            ..chooser()
        };
        let contribution = Contribution {
            own_section: itself.then(|| "halts".into()),
            priority: Priority::new(0.9).filter(|_| itself),
            archive: by_archive.then(|| "category lamps".into()),
            share: Priority::new(0.6),
            ..at("/journal/about/lamps/")
        };
        let (verdict, steps) = chooser.explain(&contribution, &[0]);
        let Verdict::Kept(kept) = verdict else { panic!("{steps:#?}") };
        assert_eq!(chooser.sections.list()[usize::from(kept.section)].name, section, "{steps:#?}");
        assert_eq!(kept.priority, Priority::new(priority), "{steps:#?}");
    }

    #[test]
    fn the_trail_names_every_rule_and_the_winner() {
        let (_, steps) = chooser().explain(&at("/staff/vacancies/porter/"), &[0]);
        let told: String = steps.iter().map(|step| format!("{}: {}\n", step.question, step.answer)).collect();
        for wanted in [
            "rule: line 10, matching /staff/**: keep = false, priority = 0.1",
            "rule: line 14, matching /staff/vacancies/**: keep = true",
            "rule: line 18, matching /**/drafts/*: does not apply",
            "keep: yes, by the rule in line 14",
            "priority: 0.1, by the rule in line 10",
        ] {
            assert!(told.contains(wanted), "{wanted} is not in:\n{told}");
        }
    }

    #[test]
    fn an_unknown_section_is_reported() {
        let (verdict, steps) = chooser().explain(&Contribution { own_section: Some("yard".into()), ..at("/a/") }, &[0]);
        assert!(matches!(verdict, Verdict::Kept(_)));
        assert!(steps.iter().any(|step| step.answer.contains("asks for “yard”, which does not exist")), "{steps:?}");
    }
}
