//! Sources: where entries come from, as a build sees them.

use std::collections::{BTreeMap, HashMap};

use atlas_core::fingerprint::{self, Field, Fields};
use serde::Serialize;

use crate::arrival::{Arrivals, Block, Desk};
use crate::error::StoreError;
use crate::provenance::Mapping;

/// The most problems of one source that are kept with their words; more are counted.
const MOST_PROBLEMS: usize = 1000;

/// Something in a source that could not be read, or is worth a look. The rest of the source counts all the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Problem {
    /// The file, as the user named it or below the folder the user named.
    pub file: String,
    /// The line, counted from 1.
    pub line: Option<u64>,
    /// What is wrong, what was expected, how to mend it.
    pub message: String,
    /// A row or file is not listed because of it.
    pub passed_over: bool,
}

/// A place to gather from.
pub trait Source: Sync {
    /// What it is called in reports, such as `html public`. Distinct within a site.
    fn name(&self) -> String;

    /// A fingerprint of the settings that decide what is learnt of a file: what was remembered under others is forgotten.
    fn settings(&self) -> u64;

    /// Whether it cannot do without the links that it learnt.
    fn needs_links(&self) -> bool {
        false
    }

    /// Whether it reads the pages of the site as visitors get them, so that a page it does not find is not there.
    fn reads_pages(&self) -> bool {
        false
    }

    /// Whether it is a sitemap that another tool wrote once.
    fn is_old_sitemap(&self) -> bool {
        false
    }

    /// The folder of the site's files that it reads in full, by the address that it is served under: a page below that it does not
    /// find there is not there. `None` where it reads none.
    fn serves(&self) -> Option<&str> {
        None
    }

    /// Whether its entries may have their pages where no folder that is read has them.
    fn may_be_elsewhere(&self) -> bool {
        false
    }

    /// Whether its rows may be known as they come, by [`Block::unread`], and it can yield them a second time.
    fn knows_rows(&self) -> bool {
        false
    }

    /// Yields all it has. An error fails the source: then nothing is written, whatever came before.
    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError>;
}

/// A source under a name of its own, with what the configuration says of it whatever its kind.
pub struct Named {
    /// What it is called: distinct within a site.
    pub name: String,
    /// Its pages may be where no folder that is read has them.
    pub may_be_elsewhere: bool,
    /// The source itself.
    pub source: Box<dyn Source>,
}

impl Source for Named {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn settings(&self) -> u64 {
        self.source.settings()
    }

    fn needs_links(&self) -> bool {
        self.source.needs_links()
    }

    fn reads_pages(&self) -> bool {
        self.source.reads_pages()
    }

    fn is_old_sitemap(&self) -> bool {
        self.source.is_old_sitemap()
    }

    fn serves(&self) -> Option<&str> {
        self.source.serves()
    }

    fn may_be_elsewhere(&self) -> bool {
        self.may_be_elsewhere
    }

    fn knows_rows(&self) -> bool {
        self.source.knows_rows()
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        self.source.gather(gathering).map_err(|error| match error {
            StoreError::Source { why, .. } => StoreError::Source { name: self.name.clone(), why },
            other => other,
        })
    }
}

/// How a file looked when it was read: enough to see that it was not touched since.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Bytes.
    pub size: u64,
    /// Nanoseconds since the Unix epoch.
    pub modified: i64,
}

/// What was learnt from a file when it was read last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Learnt {
    /// How the file looked.
    pub stamp: Stamp,
    /// The row that came of it; empty where it was no page.
    pub row: Vec<u8>,
    /// The links on it within the site, packed by [`atlas_core::links`].
    pub links: Vec<u8>,
    /// What the source needs to ask whether it is still the same, in its own words.
    pub validators: String,
}

/// What a source remembers of its files from build to build.
#[derive(Debug, Default)]
pub struct Memory {
    /// By path, as the source spells it.
    pub known: HashMap<String, Learnt>,
    /// What the source noted about its own way, to go on from there.
    pub note: Option<String>,
    /// What is to be remembered from now on.
    pub fresh: Vec<(String, Learnt)>,
    /// What was met again unchanged.
    pub met: u64,
    /// What is to be forgotten.
    pub forgotten: Vec<String>,
    /// What was learnt before will do: nobody wants to wait for more.
    pub will_do: bool,
}

impl Memory {
    /// What was learnt of a file, if it has not been touched since.
    pub fn remembered(&self, path: &str, stamp: Stamp) -> Option<&Learnt> {
        self.known.get(path).filter(|learnt| learnt.stamp == stamp)
    }
}

/// The robots.txt of the live site, as a source found it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LiveRobots {
    /// It is there.
    Bytes(Vec<u8>),
    /// The server says that there is none: 404 or 410.
    Absent,
}

/// What came of one source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Outcome {
    /// [`Source::name`].
    pub name: String,
    /// Rows that it yielded.
    pub rows: u64,
    /// Files that were not read again because they had not been touched.
    pub unchanged_files: u64,
    /// What the source has to say of itself: what it passed over, where it stopped and why.
    pub remarks: Vec<String>,
    /// What could not be read, at most the first 1,000.
    pub problems: Vec<Problem>,
    /// How many problems there are in all.
    pub problem_count: u64,
    /// Because of how many of them a row or file is not listed.
    pub passed_over: u64,
}

impl Outcome {
    /// A source of this name that has yielded nothing yet.
    pub(crate) fn of(name: String) -> Self {
        Self {
            name,
            rows: 0,
            unchanged_files: 0,
            remarks: Vec::new(),
            problems: Vec::new(),
            problem_count: 0,
            passed_over: 0,
        }
    }

    fn count(&mut self, problem: &Problem) {
        self.problem_count += 1;
        self.passed_over += u64::from(problem.passed_over);
    }

    pub(crate) fn problem(&mut self, problem: Problem) {
        self.count(&problem);
        if self.problems.len() < MOST_PROBLEMS {
            self.problems.push(problem);
        }
    }

    /// A problem of a row that was read after others: told in the order of lines all the same.
    pub(crate) fn late_problem(&mut self, problem: Problem) {
        let before = |other: &Problem| (&other.file, other.line) <= (&problem.file, problem.line);
        let at = self.problems.partition_point(before);
        self.count(&problem);
        self.problems.insert(at, problem);
        self.problems.truncate(MOST_PROBLEMS);
    }
}

/// A source's side of a build.
pub struct Gathering<'a> {
    desk: Desk,
    arrivals: &'a mut Arrivals,
    progress: &'a (dyn Fn(u64) + Sync),
    memory: Memory,
    keep: &'a mut Keeper<'a>,
    outcome: Outcome,
    live_robots: Option<LiveRobots>,
    /// How fields are found; those that no row says anything of are not given.
    maps: BTreeMap<Field, u64>,
    maps_all: bool,
    given: Fields,
}

/// What a source leaves behind.
pub(crate) struct Left {
    pub(crate) outcome: Outcome,
    pub(crate) memory: Memory,
    pub(crate) live_robots: Option<LiveRobots>,
    pub(crate) mapping: Mapping,
}

/// Keeps what was learnt so far, before a build is through.
pub(crate) type Keeper<'a> = dyn FnMut(&Memory) -> Result<(), StoreError> + Send + 'a;

impl<'a> Gathering<'a> {
    pub(crate) fn new(
        name: String,
        memory: Memory,
        arrivals: &'a mut Arrivals,
        progress: &'a (dyn Fn(u64) + Sync),
        keep: &'a mut Keeper<'a>,
    ) -> Self {
        let desk = arrivals.begin_source();
        Self {
            desk,
            arrivals,
            progress,
            memory,
            keep,
            outcome: Outcome::of(name),
            live_robots: None,
            maps: Field::ALL.iter().map(|field| (*field, 0)).collect(),
            maps_all: true,
            given: Fields::default(),
        }
    }

    pub(crate) fn finish(mut self) -> Left {
        self.outcome.unchanged_files = self.memory.met;
        let is_given = |field: &Field| self.maps_all || self.given.has(*field);
        let fields = self.maps.into_iter().filter(|(field, _)| is_given(field)).collect();
        let mapping = Mapping { source: self.outcome.name.clone(), fields };
        Left { outcome: self.outcome, memory: self.memory, live_robots: self.live_robots, mapping }
    }

    /// Says how the fields of the source are found, by a fingerprint of that: an entry is compared with what it was only over fields
    /// that were found in the same way then. A source that says nothing finds all fields as it always did.
    pub fn maps(&mut self, fields: impl IntoIterator<Item = (Field, u64)>) {
        self.maps = fields.into_iter().collect();
    }

    /// The same for a source whose rows may have any of the fields: it gives those that some row has.
    pub fn maps_what_is_given(&mut self, fields: impl IntoIterator<Item = (Field, u64)>) {
        self.maps(fields);
        self.maps_all = false;
    }

    /// Hands over the robots.txt of the live site.
    pub fn live_robots(&mut self, robots: LiveRobots) {
        self.live_robots = Some(robots);
    }

    /// The desk for [`Block::new`].
    pub fn desk(&self) -> &Desk {
        &self.desk
    }

    /// Whether every row has to be read. Else rows may be handed over as they came, by [`Block::unread`].
    pub fn reads_all(&self) -> bool {
        self.arrivals.reads_all()
    }

    /// Hands over rows. Blocks must come in an order that depends on the input alone.
    pub fn push(&mut self, block: Block) {
        self.progress(block.came());
        self.push_counted(block);
    }

    /// Tells those who watch how many more rows have come.
    pub fn progress(&self, rows: u64) {
        (self.progress)(rows);
    }

    /// Hands over rows of which those who watch were told before.
    pub fn push_counted(&mut self, block: Block) {
        self.outcome.rows += block.came();
        self.given = self.given.and(block.given());
        self.arrivals.let_go(block.let_go());
        self.arrivals.push(block);
    }

    /// Reports something that could not be read.
    pub fn problem(&mut self, problem: Problem) {
        self.outcome.problem(problem);
    }

    /// Says something of the source as a whole.
    pub fn remark(&mut self, remark: impl Into<String>) {
        self.outcome.remarks.push(remark.into());
    }

    /// Takes note of a file of the site that is no entry: a link to it leads somewhere.
    pub fn also_there(&mut self, address: &str) {
        self.arrivals.also_there(fingerprint::key(self.desk.seed(), address));
    }

    /// What was learnt when the source ran before.
    pub fn memory(&self) -> &Memory {
        &self.memory
    }

    /// Counts a file that was met unchanged.
    pub fn met_again(&mut self) {
        self.memory.met += 1;
    }

    /// Remembers what was learnt of a file.
    pub fn learn(&mut self, path: String, learnt: Learnt) {
        self.memory.fresh.push((path, learnt));
    }

    /// Forgets a file.
    pub fn forget(&mut self, path: String) {
        self.memory.forgotten.push(path);
    }

    /// Notes something for the next time.
    pub fn set_note(&mut self, note: Option<String>) {
        self.memory.note = note;
    }

    /// Keeps what was learnt so far: a source that takes long calls this now and then, so that a stop costs little.
    pub fn keep(&mut self) -> Result<(), StoreError> {
        (self.keep)(&self.memory)?;
        let fresh = std::mem::take(&mut self.memory.fresh);
        self.memory.met += fresh.len() as u64;
        Ok(())
    }
}
