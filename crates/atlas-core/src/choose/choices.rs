//! The choices of a configuration: all that a chooser goes by, but for the instant and robots.txt, which a run brings.

use serde::Serialize;

use super::chooser::Chooser;
use super::rule::Rule;
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
    /// The chooser of a run: at this instant, with the site's robots.txt.
    pub fn chooser(&self, robots: Robots, calendar: Calendar) -> Chooser {
        let Self { site, own_files, tokens, rules, sections, archives } = self.clone();
        Chooser { site, own_files, robots, tokens, rules, sections, archives, calendar }
    }
}
