//! Sources: where entries come from, as a build sees them.

use std::collections::BTreeMap;
use std::path::PathBuf;

use atlas_core::contribution::Contribution;
use atlas_core::fingerprint::{self, PageField, PageFields};
use atlas_core::report::{Outcome, Problem};
use jiff::{SignedDuration, Timestamp};

use crate::arrival::{Arrivals, Block, Decider};
use crate::error::StoreError;
use crate::model::Memory;
use crate::provenance::SourceMapping;
use crate::stop::Stop;

/// How many rows of an iterator make a block.
const ROWS: usize = 1_000;

/// A place to gather from.
pub trait Source: Sync {
    /// Its name in reports, such as `html public`; unique within a site.
    fn name(&self) -> String;

    /// A fingerprint of the settings that decide what is learnt from a file. What was learnt under other settings is
    /// forgotten.
    fn settings(&self) -> u64;

    /// Whether it needs the links that it learnt in earlier runs.
    fn needs_links(&self) -> bool {
        false
    }

    /// Whether it reads the pages of the site as visitors get them, so that a page it does not find does not exist.
    fn reads_pages(&self) -> bool {
        false
    }

    /// Whether it is a sitemap that another tool once wrote.
    fn is_old_sitemap(&self) -> bool {
        false
    }

    /// Whether it is a sitemap from which the site has moved: it gives dates, and no entries.
    fn is_moved_from(&self) -> bool {
        false
    }

    /// The address that serves the folder which it reads in full, if it reads one. A page below this address that it
    /// does not find does not exist.
    fn serves(&self) -> Option<&str> {
        None
    }

    /// Whether the pages of its entries may exist although no folder that is read contains them.
    fn may_be_elsewhere(&self) -> bool {
        false
    }

    /// Whether it can pass on rows unread (see [`Block::unread`]), and yield them a second time.
    fn knows_rows(&self) -> bool {
        false
    }

    /// Whether it is dear to ask twice, or may answer otherwise. Then what it yields is retained until it is clear that
    /// nothing more is needed of it.
    fn yields_once(&self) -> bool {
        false
    }

    /// If it can be asked for what changed since an instant, and for nothing else (see [`Gathering::since`]): how often it
    /// is read in full all the same.
    fn full_every(&self) -> Option<SignedDuration> {
        None
    }

    /// The files and folders that it reads, if their changes tell that it would yield something else; `None` if it has to
    /// be asked.
    fn reads(&self) -> Option<Vec<PathBuf>> {
        None
    }

    /// Yields all entries.
    ///
    /// # Errors
    ///
    /// An error means that the source failed. What it yielded before counts; everything else that it named in the last
    /// build stays as it was. A source of which only a part could not be read calls [`Gathering::fail_in_part`].
    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError>;

    /// A page of the site as its visitors get it, if it can be had without asking a server.
    fn page(&self, _: &str) -> Option<Vec<u8>> {
        None
    }

    /// Gives back what it shares with other sources, such as a connection. Called when all sources have been gathered
    /// from, or one has failed.
    fn release(&self) {}
}

/// A source that is an iterator: of rows of your own, wherever they come from.
pub struct MadeSource<F> {
    name: String,
    make: F,
}

impl<F, I> MadeSource<F>
where
    F: Fn() -> I + Sync,
    I: IntoIterator<Item = Contribution<'static>>,
{
    /// A source with this name; each build calls `make` for its entries.
    pub fn new(name: impl Into<String>, make: F) -> Self {
        Self { name: name.into(), make }
    }
}

impl<F, I> Source for MadeSource<F>
where
    F: Fn() -> I + Sync,
    I: IntoIterator<Item = Contribution<'static>>,
{
    fn name(&self) -> String {
        self.name.clone()
    }

    fn settings(&self) -> u64 {
        fingerprint::settings("")
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        let mut block = Block::new(gathering.decider());
        for contribution in (self.make)() {
            block.push(&contribution);
            if block.len() >= ROWS {
                let next = Block::new(gathering.decider());
                gathering.push(std::mem::replace(&mut block, next));
            }
        }
        gathering.push(block);
        Ok(())
    }
}

/// A source under a name of its own, with the settings that are common to all kinds of source.
pub struct Named {
    /// Its name, unique within a site.
    pub name: String,
    /// Whether the pages of its entries may exist although no folder that is read contains them.
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

    fn is_moved_from(&self) -> bool {
        self.source.is_moved_from()
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

    fn yields_once(&self) -> bool {
        self.source.yields_once()
    }

    fn full_every(&self) -> Option<SignedDuration> {
        self.source.full_every()
    }

    fn reads(&self) -> Option<Vec<PathBuf>> {
        self.source.reads()
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        self.source.gather(gathering).map_err(|error| match error {
            StoreError::Source { why, .. } => StoreError::Source { name: self.name.clone(), why },
            other => other,
        })
    }

    fn page(&self, url: &str) -> Option<Vec<u8>> {
        self.source.page(url)
    }

    fn release(&self) {
        self.source.release();
    }
}

/// The robots.txt of the live site, as a source found it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LiveRobots {
    /// Its bytes.
    Bytes(Vec<u8>),
    /// The server says that there is none: 404 or 410.
    Absent,
}

/// The interface between a source and the build.
pub struct Gathering<'a> {
    decider: Decider,
    arrivals: &'a mut Arrivals,
    progress: &'a (dyn Fn(u64) + Sync),
    stop: &'a Stop,
    since: Option<Timestamp>,
    memory: Memory,
    keep: &'a mut Keeper<'a>,
    outcome: Outcome,
    live_robots: Option<LiveRobots>,
    /// How fields are found. Fields that no row sets are not included.
    maps: BTreeMap<PageField, u64>,
    maps_all: bool,
    given: PageFields,
}

/// The results that a source leaves when it is done.
pub(crate) struct Left {
    pub(crate) outcome: Outcome,
    pub(crate) memory: Memory,
    pub(crate) live_robots: Option<LiveRobots>,
    pub(crate) mapping: SourceMapping,
}

/// Saves what was learnt so far, before the build ends.
pub(crate) type Keeper<'a> = dyn FnMut(&Memory) -> Result<(), StoreError> + Send + 'a;

impl<'a> Gathering<'a> {
    pub(crate) fn new(
        source: &dyn Source,
        since: Option<Timestamp>,
        memory: Memory,
        arrivals: &'a mut Arrivals,
        (progress, stop): (&'a (dyn Fn(u64) + Sync), &'a Stop),
        keep: &'a mut Keeper<'a>,
    ) -> Self {
        let decider = match source.full_every() {
            None => arrivals.begin_source(),
            Some(_) => arrivals.begin_incremental(since.is_some()),
        };
        Self {
            decider,
            arrivals,
            progress,
            stop,
            since,
            memory,
            keep,
            outcome: Outcome::of(source.name()),
            live_robots: None,
            maps: PageField::ALL.iter().map(|field| (*field, 0)).collect(),
            maps_all: true,
            given: PageFields::default(),
        }
    }

    pub(crate) fn finish(mut self) -> Left {
        self.outcome.unchanged_files = self.memory.met;
        let is_given = |field: &PageField| self.maps_all || self.given.has(*field);
        let fields = self.maps.into_iter().filter(|(field, _)| is_given(field)).collect();
        let mapping = SourceMapping { source: self.outcome.name.clone(), fields };
        Left { outcome: self.outcome, memory: self.memory, live_robots: self.live_robots, mapping }
    }

    /// Declares how the source finds each field, as a fingerprint. An entry is compared with its earlier state only
    /// over fields that were found in the same way. A source that declares nothing is taken to find all fields as
    /// before.
    pub fn maps(&mut self, fields: impl IntoIterator<Item = (PageField, u64)>) {
        self.maps = fields.into_iter().collect();
    }

    /// The same for a source whose rows may have any of the fields: those that some row sets count.
    pub fn maps_what_is_given(&mut self, fields: impl IntoIterator<Item = (PageField, u64)>) {
        self.maps(fields);
        self.maps_all = false;
    }

    /// The token that asks gathering to stop. A source that takes long checks it now and then.
    pub fn stop(&self) -> &'a Stop {
        self.stop
    }

    /// Since when changes are wanted, from a source that can be asked for them alone; `None` if everything is. Whatever
    /// such a source does not name then stands as it was.
    pub fn since(&self) -> Option<Timestamp> {
        self.since
    }

    /// Passes on the robots.txt of the live site.
    pub fn live_robots(&mut self, robots: LiveRobots) {
        self.live_robots = Some(robots);
    }

    /// The decider for [`Block::new`].
    pub fn decider(&self) -> &Decider {
        &self.decider
    }

    /// Whether every row has to be read. If not, rows may be passed on unread, with [`Block::unread`].
    pub fn reads_all(&self) -> bool {
        self.arrivals.reads_all()
    }

    /// Whether the texts of blocks with rows that were skipped or not read are to be [retained](Block::retain).
    pub fn retains(&self) -> bool {
        self.arrivals.retains()
    }

    /// Passes on rows. The order of blocks must depend only on the input.
    pub fn push(&mut self, block: Block) {
        self.progress(block.came());
        self.push_counted(block);
    }

    /// Reports the number of new rows to the progress display.
    pub fn progress(&self, rows: u64) {
        (self.progress)(rows);
    }

    /// Passes on rows that the progress display has already counted.
    pub fn push_counted(&mut self, block: Block) {
        self.outcome.rows += block.came();
        self.given = self.given.and(block.given());
        self.arrivals.let_go(block.let_go());
        self.arrivals.push(block);
    }

    /// Records that part of the source could not be read, and why. What it named before and does not name now stays as
    /// it was.
    pub fn fail_in_part(&mut self, why: impl Into<String>) {
        self.outcome.fail(why.into(), true);
    }

    /// Records that the source could not be read.
    pub(crate) fn fail(&mut self, why: String) {
        self.outcome.fail(why, false);
    }

    /// Reports something that could not be read.
    pub fn problem(&mut self, problem: Problem) {
        self.outcome.problem(problem);
    }

    /// Adds a remark about the source as a whole.
    pub fn remark(&mut self, remark: impl Into<String>) {
        self.outcome.remarks.push(remark.into());
    }

    /// Records a file of the site that is not an entry, so that links to it are not dead.
    pub fn also_there(&mut self, address: &str) {
        self.arrivals.also_there(fingerprint::key(self.decider.seed(), address));
    }

    /// What was learnt when the source ran before.
    pub fn memory(&self) -> &Memory {
        &self.memory
    }

    /// Counts a file that has not changed.
    pub fn met_again(&mut self) {
        self.memory.met += 1;
    }

    /// Remembers what was learnt from a file.
    pub fn learn(&mut self, path: String, learnt: crate::model::Learnt) {
        self.memory.fresh.push((path, learnt));
    }

    /// Forgets a file.
    pub fn forget(&mut self, path: String) {
        self.memory.forgotten.push(path);
    }

    /// Stores a note for the next run.
    pub fn set_note(&mut self, note: Option<String>) {
        self.memory.note = note;
    }

    /// Saves what was learnt so far. A source that takes long calls this now and then, so that an interruption costs
    /// little.
    ///
    /// # Errors
    ///
    /// Returns an error if the ledger cannot be written.
    pub fn keep(&mut self) -> Result<(), StoreError> {
        (self.keep)(&self.memory)?;
        let fresh = std::mem::take(&mut self.memory.fresh);
        self.memory.met += fresh.len() as u64;
        Ok(())
    }
}
