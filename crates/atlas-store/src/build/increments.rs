//! Sources that can be asked for changes alone: whether that is enough, and what the ledger remembers for the next time.
//!
//! What such a source does not name stands as it was. That is enough as long as each entry follows from the rows that
//! name it. Otherwise, all sources are read in full.

use std::collections::{BTreeMap, HashSet};

use atlas_core::lastmod::Lastmod;
use atlas_core::report::{Increment, Outcome};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use super::job::Job;
use crate::error::StoreError;
use crate::ledger::{Ledger, Writing};
use crate::model::{Fact, LeftOutBefore, Untouched, tag};
use crate::provenance::{Provenances, Unchanged};
use crate::report::{Due, DueTo};
use crate::settle::{Settled, Soonest};

/// Why a source is read in full although it can be asked for changes alone, and that is not for once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Hindrance {
    /// A rule depends on the instant of the run.
    Instant,
    /// There are archives or translations, and a source whose entries are read anew each time.
    Mixed,
    /// Something is made from all rows, and not all are as before.
    MadeFromAll,
    /// Other sources name the same pages.
    Shared,
}

impl Hindrance {
    /// What the user is told about a source.
    fn words(self) -> &'static str {
        match self {
            Self::Instant => {
                "it is read in full in spite of “:since”, because a rule depends on the date, which changes without the rows"
            }
            Self::Mixed => {
                "it is read in full in spite of “:since”, because the site has archives or translations, and a source that is neither a table nor a query"
            }
            Self::MadeFromAll => {
                "it is read in full in spite of “:since”, because something that is made from all rows (archives, translations, files for visitors, a news file without news) is no longer as before"
            }
            Self::Shared => {
                "it is read in full in spite of “:since”, because other sources name some of its pages, too"
            }
        }
    }
}

/// What the ledger remembers of the last read.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct IncrementsBefore {
    /// By the name of the source.
    sources: BTreeMap<String, ReadBefore>,
    /// The number of entries that will be listed, or will leave, at a known time.
    due: u64,
    /// The first of them.
    soonest: Vec<DueBefore>,
    /// When the first article is no longer news, in seconds since 1970.
    news_until: Option<i64>,
    /// Since when it has been known that other sources name pages of these, in seconds since 1970.
    shared: Option<i64>,
}

/// An entry that will be listed, or will leave, at a known time.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct DueBefore {
    /// The time, in the form of RFC 3339.
    at: String,
    url: String,
    to: DueTo,
}

impl DueBefore {
    fn of(due: &Due) -> Self {
        Self { at: due.at.to_string(), url: due.url.clone(), to: due.to }
    }

    fn read(&self) -> Option<Due> {
        let at = Lastmod::read(&self.at, &TimeZone::UTC)?;
        Some(Due { at, url: self.url.clone(), to: self.to })
    }
}

/// When one source was read, in seconds since 1970.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct ReadBefore {
    /// When a run that read it began.
    read: i64,
    /// When a run that read it in full began.
    full: i64,
    /// The number of its entries.
    entries: u64,
}

/// Which sources are asked for changes alone in this run.
#[derive(Debug, Clone, Default)]
pub(super) struct Increments {
    /// Since when, for each source; `None` for one that is read in full.
    since: Vec<Option<Timestamp>>,
    hindrance: Option<Hindrance>,
    /// Whether changes alone were asked for, and were not enough.
    was_tried: bool,
    before: IncrementsBefore,
}

impl Increments {
    /// Whether there are sources that can be asked for changes alone.
    pub(super) fn are_possible(job: &Job<'_>) -> bool {
        job.sources.iter().any(|source| source.full_every().is_some())
    }

    /// What is remembered, and whether it is time to read everything. `hindrance` is what is known to stand against
    /// changes alone.
    pub(super) fn of(job: &Job<'_>, ledger: &dyn Ledger, hindrance: Option<Hindrance>) -> Result<Self, StoreError> {
        let Some(text) = ledger.fact(Fact::Increments)? else { return Ok(Self { hindrance, ..Self::default() }) };
        let before: IncrementsBefore = serde_json::from_str(&text)
            .map_err(|_| StoreError::LedgerDamaged("when sources were last read cannot be read"))?;
        let now = job.now.as_second();
        let is_due = |at: i64| at <= now;
        let is_over = |due: &DueBefore| due.read().is_none_or(|due| is_due(job.policy.calendar.start(&due.at)));
        let is_time = before.soonest.iter().any(is_over) || before.news_until.is_some_and(is_due);
        let since = job.sources.iter().map(|source| {
            let Some(every) = source.full_every() else { return Some(None) };
            let known = before.sources.get(&source.name())?;
            let may = known.read <= now && now - known.full < every.as_secs();
            may.then(|| Timestamp::from_second(known.read).ok()).flatten().map(Some)
        });
        // All or none: what is made of one source may depend on another.
        let since: Option<Vec<Option<Timestamp>>> = since.collect();
        // After some time it is tried again.
        let tried = |at: i64| {
            job.sources.iter().filter_map(|source| source.full_every()).all(|every| now - at < every.as_secs())
        };
        let is_shared = before.shared.is_some_and(tried);
        let hindrance = hindrance.or(is_shared.then_some(Hindrance::Shared));
        let since = since.filter(|_| !is_time && hindrance.is_none());
        Ok(Self { since: since.unwrap_or_default(), hindrance, was_tried: false, before })
    }

    /// The same, but everything is read: for this reason, if it is not for once.
    pub(super) fn reading_all(self, hindrance: Option<Hindrance>) -> Self {
        Self { since: Vec::new(), was_tried: self.is_any(), hindrance: self.hindrance.or(hindrance), ..self }
    }

    /// Whether any source is asked for changes alone.
    pub(super) fn is_any(&self) -> bool {
        self.since.iter().any(Option::is_some)
    }

    /// Since when a source is asked for changes.
    pub(super) fn since(&self, source: usize) -> Option<Timestamp> {
        self.since.get(source).copied().flatten()
    }

    /// The sources that are asked for changes alone and could be read, by index.
    pub(super) fn read(&self, outcomes: &[Outcome]) -> Vec<u16> {
        let read = |at: u16| self.since(usize::from(at)).is_some() && outcomes[usize::from(at)].failure.is_none();
        (0..outcomes.len() as u16).filter(|at| read(*at)).collect()
    }

    /// Adds what stands to what was found in the changes: the entries of each source, entries with a known time, and
    /// why entries are left out. `changed` are the tags of the rows that came.
    pub(super) fn complete(
        &self,
        ledger: &dyn Ledger,
        settled: &mut Settled,
        outcomes: &mut [Outcome],
        (unchanged, untouched): (&Unchanged, &Untouched),
        (provenances, changed): (&Provenances, &HashSet<u64>),
        seed: u64,
    ) -> Result<(), StoreError> {
        for at in self.read(outcomes) {
            let outcome = &mut outcomes[usize::from(at)];
            let Some(since) = self.since(usize::from(at)) else { continue };
            let stand = match untouched {
                Untouched::All => self.before.sources.get(&outcome.name).map_or(0, |before| before.entries),
                _ => unchanged.iter().filter(|(set, _)| provenances.comes_from(**set, at)).map(|(_, n)| *n).sum(),
            };
            outcome.increment =
                Some(Increment { since: Lastmod::Instant { seconds: since.as_second(), offset: 0 }, stand });
            settled.counts.stand(at, stand);
        }
        if !self.is_any() {
            return Ok(());
        }
        let mut due = Soonest { count: self.before.due, first: Vec::new() };
        for known in &self.before.soonest {
            let key = atlas_core::fingerprint::key(seed, &known.url);
            match known.read().filter(|_| !changed.contains(&tag(key))) {
                None => due.count = due.count.saturating_sub(1),
                Some(known) => due.first.push(known),
            }
        }
        settled.counts.due.join(due);
        let now: HashSet<u64> = settled.left_out.iter().map(|(tag, _)| *tag).collect();
        let before: LeftOutBefore = ledger.left_out()?;
        let stands = |(tag, _): &(u64, _)| !changed.contains(tag) && !now.contains(tag);
        for (tag, reason) in before.entries().filter(stands) {
            settled.left_out.push((tag, reason));
            settled.counts.left_out.entry(reason).or_default().add_unseen();
        }
        Ok(())
    }

    /// Tells about sources that are read in full although they can be asked for changes alone.
    pub(super) fn tell(&self, job: &Job<'_>, outcomes: &mut [Outcome]) {
        let Some(hindrance) = self.hindrance else { return };
        for (source, outcome) in job.sources.iter().zip(outcomes) {
            if source.full_every().is_some() {
                outcome.remarks.push(hindrance.words().to_owned());
            }
        }
    }

    /// Remembers when sources were read.
    pub(super) fn remember(
        &self,
        job: &Job<'_>,
        outcomes: &[Outcome],
        settled: &Settled,
        writing: &dyn Writing,
    ) -> Result<(), StoreError> {
        if !Self::are_possible(job) {
            return writing.set_fact(Fact::Increments, None);
        }
        let (now, mut sources) = (job.now.as_second(), BTreeMap::new());
        for (at, (source, outcome)) in job.sources.iter().zip(outcomes).enumerate() {
            if source.full_every().is_none() {
                continue;
            }
            let before = self.before.sources.get(&outcome.name).copied();
            let entries = settled.counts.sources.get(at).map_or(0, |tally| tally.kept);
            let read = match (&outcome.failure, self.since(at), before) {
                // Whatever it named stands, as of the last time.
                (Some(_), _, before) => before,
                (None, Some(_), Some(before)) => Some(ReadBefore { read: now, entries, ..before }),
                (None, ..) => Some(ReadBefore { read: now, full: now, entries }),
            };
            sources.extend(read.map(|read| (outcome.name.clone(), read)));
        }
        let before = if self.is_any() { self.before.news_until } else { None };
        let known = IncrementsBefore {
            sources,
            due: settled.counts.due.count,
            soonest: settled.counts.due.first.iter().map(DueBefore::of).collect(),
            news_until: before.into_iter().chain(settled.news_until).min(),
            shared: (self.hindrance == Some(Hindrance::Shared))
                .then(|| self.before.shared.filter(|_| !self.was_tried).unwrap_or(now)),
        };
        writing.set_fact(Fact::Increments, Some(&serde_json::to_string(&known).unwrap_or_default()))
    }
}
