//! The choices of a configuration: all that a chooser goes by, but for the instant and robots.txt, which a run brings.

use serde::Serialize;

use super::chooser::Chooser;
use super::rule::{Met, Rule};
use super::section::Sections;
use crate::address::Site;
use crate::archive::Archives;
use crate::calendar::Calendar;
use crate::placement::OwnFiles;
use crate::robots::Robots;

/// What a configuration says of which entries go in, and how.
#[derive(Debug, Clone, Serialize)]
pub struct Choices {
    /// The site.
    pub site: Site,
    /// Files that never come back as entries.
    pub own_files: OwnFiles,
    /// Product tokens for which robots.txt is asked; `*` is always among them.
    pub tokens: Vec<String>,
    /// The rules.
    pub rules: Vec<Rule>,
    /// The sections.
    pub sections: Sections,
    /// The archives.
    pub archives: Archives,
}

impl Choices {
    /// Those of a site of whose entries all go in, into these sections.
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

    /// The chooser of a run: at this instant, with the site's robots.txt. What its rules have met is of that run alone.
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
    fn what_rules_have_met_is_of_one_run() {
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
