//! The job: what to gather, choose and write.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use atlas_core::accepted::Accepted;
use atlas_core::calendar::Calendar;
use atlas_core::choose::{Choices, Chooser};
use atlas_core::derive::alternates::AlternatesSettings;
use atlas_core::fingerprint;
use atlas_core::judge::Thresholds;
use atlas_core::output_policy::{OutputPolicy, SectionPolicy};
use atlas_core::robots::Robots;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::arrange::Cut;
use crate::destination::{Destination, Names, ROBOTS};
use crate::disk::spill::BUDGET;
use crate::error::StoreError;
use crate::extras::{ExtrasContext, ExtrasSettings};
use crate::model::StartedBy;
use crate::report::Guard;
use crate::settle::{EXAMPLES, ReportLimits};
use crate::source::Source;
use crate::stop::Stop;

/// The version of this tool. Another version may write the same entries differently.
const VERSION: &str = env!("CARGO_PKG_VERSION");

/// What to gather, choose and write. Made by [`Job::new`]; every further setting has a default and a method that sets
/// it.
pub struct Job<'a> {
    pub(super) sources: &'a [Box<dyn Source>],
    pub(super) choices: &'a Choices,
    pub(super) destination: &'a dyn Destination,
    pub(super) names: &'a Names,
    pub(super) scratch: PathBuf,
    pub(super) now: Timestamp,
    pub(super) is_instant_set: bool,
    pub(super) policy: OutputPolicy,
    pub(super) alternates: Option<AlternatesSettings>,
    pub(super) extras: ExtrasSettings,
    pub(super) cut: Cut,
    pub(super) memory: usize,
    pub(super) timezone: TimeZone,
    pub(super) fresh: bool,
    pub(super) strict: bool,
    pub(super) keep_days: u32,
    pub(super) delivers: bool,
    pub(super) started_by: StartedBy,
    pub(super) allow: HashSet<Guard>,
    pub(super) thresholds: Thresholds,
    pub(super) telling: ReportLimits<'a>,
    pub(super) stop: Stop,
    pub(super) progress: &'a (dyn Fn(u64) + Sync),
    written: &'a str,
}

/// For how many days the ledger remembers what is gone, unless the configuration says otherwise.
pub const KEEP_DAYS: u32 = 400;

static NOTHING: Accepted = Accepted::NONE;

impl<'a> Job<'a> {
    /// A job at one instant. `sources` are in the order of their precedence; `choices` decide about each entry; files
    /// go to `destination`, under these names; data that does not fit into memory goes to the folder `scratch`.
    pub fn new(
        sources: &'a [Box<dyn Source>],
        choices: &'a Choices,
        (destination, names): (&'a dyn Destination, &'a Names),
        scratch: &Path,
        now: Timestamp,
    ) -> Self {
        Self {
            sources,
            choices,
            destination,
            names,
            scratch: scratch.to_owned(),
            now,
            is_instant_set: false,
            policy: OutputPolicy {
                sections: Vec::new(),
                usual: SectionPolicy::default(),
                calendar: Calendar::utc(now.as_second()),
            },
            alternates: None,
            extras: ExtrasSettings::default(),
            cut: Cut::default(),
            memory: BUDGET,
            timezone: TimeZone::UTC,
            fresh: false,
            strict: false,
            keep_days: KEEP_DAYS,
            delivers: false,
            started_by: StartedBy::default(),
            allow: HashSet::new(),
            thresholds: Thresholds::default(),
            telling: ReportLimits { examples: EXAMPLES, accepted: &NOTHING },
            stop: Stop::default(),
            progress: &|_| (),
            written: "",
        }
    }

    /// What is written for the entries of each section, in the order of the sections.
    #[must_use]
    pub fn shape(mut self, sections: Vec<SectionPolicy>) -> Self {
        self.policy.sections = sections;
        self
    }

    /// Sets what is written for entries of sections that rows make.
    #[must_use]
    pub fn usual_shape(mut self, usual: SectionPolicy) -> Self {
        self.policy.usual = usual;
        self
    }

    /// What started the build.
    #[must_use]
    pub fn started_by(mut self, started_by: StartedBy) -> Self {
        self.started_by = started_by;
        self
    }

    /// Whether the ledger notes which files changed, for commands that run afterwards.
    #[must_use]
    pub fn delivers(mut self, delivers: bool) -> Self {
        self.delivers = delivers;
        self
    }

    /// How groups of translations are found. By default none are written.
    #[must_use]
    pub fn alternates(mut self, settings: Option<AlternatesSettings>) -> Self {
        self.alternates = settings;
        self
    }

    /// What is written besides sitemaps.
    #[must_use]
    pub fn extras(mut self, extras: ExtrasSettings) -> Self {
        self.extras = extras;
        self
    }

    /// How large files should be.
    #[must_use]
    pub fn cut(mut self, cut: Cut) -> Self {
        self.cut = cut;
        self
    }

    /// About how many bytes of gathered data are kept in memory; the rest is written to disk.
    #[must_use]
    pub fn memory(mut self, bytes: usize) -> Self {
        self.memory = bytes;
        self
    }

    /// The site's time zone, which decides what day it is.
    #[must_use]
    pub fn timezone(mut self, zone: TimeZone) -> Self {
        self.policy.calendar.zone = zone.clone();
        self.timezone = zone;
        self
    }

    /// Whether everything is read anew.
    #[must_use]
    pub fn fresh(mut self, fresh: bool) -> Self {
        self.fresh = fresh;
        self
    }

    /// The folder for data that does not fit into memory.
    #[must_use]
    pub fn scratch(mut self, folder: &Path) -> Self {
        folder.clone_into(&mut self.scratch);
        self
    }

    /// For how many days the ledger remembers what is gone.
    #[must_use]
    pub fn keep_days(mut self, days: u32) -> Self {
        self.keep_days = days;
        self
    }

    /// Whether the instant was set by someone, rather than told by a clock. Then it may be any.
    #[must_use]
    pub fn instant_is_set(mut self, is_set: bool) -> Self {
        self.is_instant_set = is_set;
        self
    }

    /// Whether a source that cannot be read whole ends the run.
    #[must_use]
    pub fn strict(mut self, strict: bool) -> Self {
        self.strict = strict;
        self
    }

    /// The guards that are allowed to be passed.
    #[must_use]
    pub fn allow(mut self, guards: impl IntoIterator<Item = Guard>) -> Self {
        self.allow.extend(guards);
        self
    }

    /// The limits of the guards.
    #[must_use]
    pub fn thresholds(mut self, thresholds: Thresholds) -> Self {
        self.thresholds = thresholds;
        self
    }

    /// How many examples are reported, and which remarks are not reported because they are accepted.
    #[must_use]
    pub fn telling(mut self, examples: usize, accepted: &'a Accepted) -> Self {
        self.telling = ReportLimits { examples, accepted };
        self
    }

    /// The token that asks it to stop.
    #[must_use]
    pub fn stop(mut self, stop: &Stop) -> Self {
        self.stop = stop.clone();
        self
    }

    /// Called with the number of new rows.
    #[must_use]
    pub fn progress(mut self, progress: &'a (dyn Fn(u64) + Sync)) -> Self {
        self.progress = progress;
        self
    }

    /// The configuration as written. It counts as a setting in addition to all others.
    #[must_use]
    pub fn written(mut self, text: &'a str) -> Self {
        self.written = text;
        self
    }

    /// The chooser of this run: at its instant, with the current robots.txt.
    ///
    /// A robots.txt that exists but cannot be read is an error: it may have rules (RFC 9309, section 2.3.1.4).
    pub(super) fn chooser(&self) -> Result<Chooser, StoreError> {
        let robots = self.destination.read(ROBOTS)?.unwrap_or_default();
        Ok(self.choices.chooser(Robots::read(&robots), self.policy.calendar.clone()))
    }

    /// What the files beside the sitemaps are made with.
    pub(super) fn context(&self) -> ExtrasContext<'_> {
        ExtrasContext { names: self.names, sections: &self.choices.sections, timezone: &self.timezone }
    }

    /// A fingerprint of the settings that affect what is written for an entry.
    pub(super) fn settings_print(&self) -> u64 {
        let sections = self.choices.sections.names();
        fingerprint::canonical(&(VERSION, &self.policy.sections, &self.policy.usual, self.names.style, sections))
    }

    /// A fingerprint of the whole configuration. Under a new configuration a build reports everything.
    pub(super) fn configuration_print(&self) -> u64 {
        fingerprint::canonical(&self.configuration())
    }

    /// A fingerprint of everything that decides about a row besides the row itself. `None` if the instant decides about
    /// rows other than those with a future date, so that rows have to be read even if they are unchanged.
    pub(super) fn choices_print(&self, chooser: &Chooser) -> Option<u64> {
        let by_the_instant = self.choices.rules.iter().any(|rule| rule.asks_for_the_instant());
        let robots = Some(&chooser.robots).filter(|robots| !robots.is_open());
        (!by_the_instant).then(|| fingerprint::canonical(&(self.configuration(), robots)))
    }

    fn configuration(&self) -> impl Serialize {
        let sources = self.sources.iter().map(|source| {
            let conditions =
                (source.reads_pages(), source.is_old_sitemap(), source.may_be_elsewhere(), source.knows_rows());
            (source.name(), source.settings(), source.serves().map(str::to_owned), conditions)
        });
        let sources: Vec<_> = sources.collect();
        let of_entries = (self.choices, &self.policy.sections, &self.policy.usual, &self.alternates, &self.extras);
        let of_files = (&self.cut, self.names, &self.thresholds, self.timezone.iana_name());
        (VERSION, sources, of_entries, of_files, self.written)
    }
}

#[cfg(test)]
mod tests {
    use atlas_core::address::Site;
    use atlas_core::choose::Sections;
    use atlas_core::output_policy::Media;
    use atlas_core::placement::UrlsPerFile;
    use rstest::rstest;

    use super::*;
    use crate::destination::{InMemory, replace};

    fn choices() -> Choices {
        Choices::of(Site::parse("https://www.marrowvale.example/").unwrap(), Sections::new(Vec::new(), []))
    }

    fn names() -> Names {
        Names::of("https://www.marrowvale.example/")
    }

    /// Every setting that affects what happens to a row changes the fingerprint that decides whether rows have to be
    /// read.
    #[rstest]
    #[case::nothing(|job| job, true)]
    #[case::pictures(|job: Job<'static>| job.shape(vec![SectionPolicy { images: Media::WithPages, ..SectionPolicy::default() }]), false)]
    #[case::translations(|job: Job<'static>| job.alternates(Some(AlternatesSettings::default())), false)]
    #[case::a_page_for_visitors(|job: Job<'static>| job.extras(ExtrasSettings { text: true, ..ExtrasSettings::default() }), false)]
    #[case::smaller_files(|job: Job<'static>| job.cut(Cut { urls_per_file: UrlsPerFile::Fixed(9), ..Cut::default() }), false)]
    #[case::another_zone(|job: Job<'static>| job.timezone(TimeZone::get("Europe/London").unwrap()), false)]
    #[case::another_word(|job: Job<'static>| job.written("# a comment"), false)]
    #[case::how_much_is_told(|job: Job<'static>| job.telling(9, &NOTHING), true)]
    #[case::read_anew(|job: Job<'static>| job.fresh(true), true)]
    fn settings_that_decide_are_in_the_fingerprint(
        #[case] change: fn(Job<'static>) -> Job<'static>,
        #[case] is_same: bool,
    ) {
        let (choices, names): (&Choices, &Names) = (Box::leak(Box::new(choices())), Box::leak(Box::new(names())));
        let memory: &InMemory = Box::leak(Box::default());
        let job = || Job::new(&[], choices, (memory, names), Path::new(""), Timestamp::UNIX_EPOCH);
        let print = |job: Job<'_>| job.choices_print(&job.chooser().unwrap());
        assert_eq!(print(job()) == print(change(job())), is_same);
    }

    #[test]
    fn robots_txt_is_read_by_the_run() {
        let (choices, names, memory) = (choices(), names(), InMemory::default());
        let job = || Job::new(&[], &choices, (&memory, &names), Path::new(""), Timestamp::UNIX_EPOCH);
        let before = job().choices_print(&job().chooser().unwrap());
        replace(&memory, ROBOTS, b"User-agent: *\nDisallow: /staff/\n").unwrap();
        assert!(job().chooser().unwrap().robots.barred("*", "/staff/rota/").is_some());
        assert_ne!(job().choices_print(&job().chooser().unwrap()), before);
    }
}
