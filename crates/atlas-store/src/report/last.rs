//! The report of the last build, so that the next build need report only what is new.

use std::collections::HashSet;

use atlas_core::report::{Counted, Problem};
use serde::Deserialize;

use super::robots::{OtherSitemap, RobotsFate};
use super::survey::{LeftOut, SectionReport, Survey};

/// The parts of a report that the next one may omit if they are the same.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub struct LastBuild {
    #[serde(default)]
    configuration: String,
    robots: String,
    #[serde(default)]
    other_sitemaps: Vec<OtherSitemap>,
    sections: Vec<LastSection>,
    left_out: Vec<CodeCount>,
    notices: Vec<CodeCount>,
    sources: Vec<LastSource>,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
struct LastSection {
    name: String,
    entries: u64,
    images: u64,
    videos: u64,
    news: u64,
    files: Vec<LastFile>,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
struct LastFile {
    address: String,
}

/// A reason or a remark, by its code, and its count.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
struct CodeCount {
    #[serde(alias = "reason")]
    code: String,
    count: u64,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
struct LastSource {
    name: String,
    remarks: Vec<String>,
    problems: Vec<LastProblem>,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, Deserialize)]
struct LastProblem {
    file: String,
    line: Option<u64>,
    message: String,
}

impl LastBuild {
    /// Reads a run's report, if it was made under the same configuration.
    pub(crate) fn of_report(report: &str, configuration: &str) -> Option<Self> {
        let last: Self = serde_json::from_str(report).ok()?;
        (last.configuration == configuration).then_some(last)
    }

    /// The parts of a survey.
    pub fn of_survey(survey: &Survey) -> Self {
        serde_json::to_value(survey).and_then(serde_json::from_value).unwrap_or_default()
    }

    /// Whether a section had the same numbers of entries, pictures, videos and news.
    pub fn had_section(&self, now: &SectionReport) -> bool {
        let numbers = (now.entries, now.images, now.videos, now.news);
        let same =
            |one: &LastSection| one.name == now.name && (one.entries, one.images, one.videos, one.news) == numbers;
        self.sections.iter().any(same)
    }

    /// Whether the same number of entries was left out for the same reason.
    pub fn left_out(&self, now: &LeftOut) -> bool {
        holds(&self.left_out, now.reason.code(), now.counted.count)
    }

    /// Whether a remark had the same count.
    pub fn remarked(&self, code: &str, count: u64) -> bool {
        holds(&self.notices, code, count)
    }

    /// Whether a source made the same remark about itself.
    pub fn heard(&self, source: &str, remark: &str) -> bool {
        self.source(source).is_some_and(|source| source.remarks.iter().any(|one| one == remark))
    }

    /// The problems that a source had then, too.
    pub fn told<'p>(&self, source: &str, problems: &'p [Problem]) -> Vec<&'p Problem> {
        let told: HashSet<&LastProblem> = self.source(source).iter().flat_map(|source| &source.problems).collect();
        let heard =
            |one: &Problem| LastProblem { file: one.file.clone(), line: one.line, message: one.message.clone() };
        problems.iter().filter(|one| told.contains(&heard(one))).collect()
    }

    /// Whether the site had the same sitemap files.
    pub fn had_files(&self, now: &Survey) -> bool {
        let before = self.sections.iter().flat_map(|section| &section.files).map(|file| file.address.as_str());
        let now = now.sections.iter().flat_map(|section| &section.files).map(|file| file.address.as_str());
        before.collect::<HashSet<_>>() == now.collect()
    }

    /// Whether robots.txt declared the same sitemap of another tool.
    pub fn declared(&self, other: &OtherSitemap) -> bool {
        self.other_sitemaps.contains(other)
    }

    /// Whether the sitemaps were not declared then either, for the same reason.
    pub fn left_undeclared(&self, now: RobotsFate) -> bool {
        match now {
            RobotsFate::Missing => self.robots == "missing",
            RobotsFate::Unnamed => self.robots == "unnamed",
            _ => false,
        }
    }

    fn source(&self, name: &str) -> Option<&LastSource> {
        self.sources.iter().find(|source| source.name == name)
    }
}

fn holds(numbers: &[CodeCount], code: &str, count: u64) -> bool {
    numbers.iter().any(|one| one.code == code && one.count == count)
}

/// A report for storing, without examples that will never be shown again.
pub(crate) fn in_brief(survey: &Survey, examples: usize) -> Survey {
    let mut survey = survey.clone();
    let cut = |counted: &mut Counted| counted.examples.truncate(examples);
    survey.left_out.iter_mut().for_each(|one| cut(&mut one.counted));
    let changes = &mut survey.changes;
    [&mut changes.added, &mut changes.changed, &mut changes.removed, &mut changes.left_out].into_iter().for_each(cut);
    survey.notices.iter_mut().for_each(|one| one.examples.truncate(examples));
    survey
}
