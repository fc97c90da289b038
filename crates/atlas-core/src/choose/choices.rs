//! The settings that decide which entries are kept. A run adds its time and robots.txt to make a [`Chooser`].

use serde::Serialize;

use super::chooser::Chooser;
use super::rule::{Met, Rule};
use super::section::Sections;
use crate::address::Site;
use crate::archive::Archives;
use crate::calendar::Calendar;
use crate::placement::OwnFiles;
use crate::robots::Robots;

/// The part of a configuration that decides which entries are kept, and how they are written.
#[derive(Debug, Clone, Serialize)]
pub struct Choices {
    /// The site.
    pub site: Site,
    /// Files that are never listed as entries.
    pub own_files: OwnFiles,
    /// The product tokens that robots.txt is checked for. `*` is always among them.
    pub tokens: Vec<String>,
    /// The rules.
    pub rules: Vec<Rule>,
    /// The sections.
    pub sections: Sections,
    /// The archives.
    pub archives: Archives,
}

impl Choices {
    /// The choices of a site that keeps every entry, in these sections.
    pub fn of(site: Site, sections: Sections) -> Self {
        Self {
            site,
            own_files: OwnFiles::default(),
            tokens: Vec::new(),
            rules: Vec::new(),
            sections,
            archives: Archives::default(),
        }
    }

    /// The chooser of one run: at this instant, with the site's robots.txt. Which of its rules have matched is recorded
    /// for that run alone.
    pub fn chooser(&self, robots: Robots, calendar: Calendar) -> Chooser {
        let Self { site, own_files, tokens, rules, sections, archives } = self.clone();
        let rules = rules.into_iter().map(|rule| Rule { met: Met::default(), ..rule }).collect();
        Chooser { site, own_files, robots, tokens, rules, sections, archives, calendar }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::choose::Condition;
    use crate::choose::rule::tests::{globs, rule_of};
    use crate::contribution::Contribution;

    #[test]
    fn rule_matches_are_counted_per_run() {
        let choices = Choices {
            rules: vec![rule_of(3, Condition::Path(globs(&["/staff/**"])))],
            ..Choices::of(Site::parse("https://www.marrowvale.example/").unwrap(), Sections::new(Vec::new(), []))
        };
        let chooser = || choices.chooser(Robots::default(), Calendar::utc(0));
        let first = chooser();
        let contribution =
            Contribution { url: "https://www.marrowvale.example/staff/rota/".into(), ..Contribution::default() };
        first.choose(&contribution, &[0]);
        assert!(first.rules[0].met.any());
        assert!(!chooser().rules[0].met.any());
    }
}
