//! Sources: where entries come from, as a build sees them.

use std::collections::BTreeMap;

use atlas_core::fingerprint::{self, PageField, PageFields};
use atlas_core::report::{Outcome, Problem};

use crate::arrival::{Arrivals, Block, Decider};
use crate::error::StoreError;
use crate::model::Memory;
use crate::provenance::SourceMapping;
use crate::stop::Stop;

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

/// The robots.txt of the live site, as a source found it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LiveRobots {
    /// It is there.
    Bytes(Vec<u8>),
    /// The server says that there is none: 404 or 410.
    Absent,
}

/// A source's side of a build.
pub struct Gathering<'a> {
    decider: Decider,
    arrivals: &'a mut Arrivals,
    progress: &'a (dyn Fn(u64) + Sync),
    stop: &'a Stop,
    memory: Memory,
    keep: &'a mut Keeper<'a>,
    outcome: Outcome,
    live_robots: Option<LiveRobots>,
    /// How fields are found; those that no row says anything of are not given.
    maps: BTreeMap<PageField, u64>,
    maps_all: bool,
    given: PageFields,
}

/// What a source leaves behind.
pub(crate) struct Left {
    pub(crate) outcome: Outcome,
    pub(crate) memory: Memory,
    pub(crate) live_robots: Option<LiveRobots>,
    pub(crate) mapping: SourceMapping,
}

/// Keeps what was learnt so far, before a build is through.
pub(crate) type Keeper<'a> = dyn FnMut(&Memory) -> Result<(), StoreError> + Send + 'a;

impl<'a> Gathering<'a> {
    pub(crate) fn new(
        name: String,
        memory: Memory,
        arrivals: &'a mut Arrivals,
        (progress, stop): (&'a (dyn Fn(u64) + Sync), &'a Stop),
        keep: &'a mut Keeper<'a>,
    ) -> Self {
        let decider = arrivals.begin_source();
        Self {
            decider,
            arrivals,
            progress,
            stop,
            memory,
            keep,
            outcome: Outcome::of(name),
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

    /// Says how the fields of the source are found, by a fingerprint of that: an entry is compared with what it was only over fields
    /// that were found in the same way then. A source that says nothing finds all fields as it always did.
    pub fn maps(&mut self, fields: impl IntoIterator<Item = (PageField, u64)>) {
        self.maps = fields.into_iter().collect();
    }

    /// The same for a source whose rows may have any of the fields: it gives those that some row has.
    pub fn maps_what_is_given(&mut self, fields: impl IntoIterator<Item = (PageField, u64)>) {
        self.maps(fields);
        self.maps_all = false;
    }

    /// The token by which gathering is asked to stop: a source that takes long looks at it now and then.
    pub fn stop(&self) -> &'a Stop {
        self.stop
    }

    /// Hands over the robots.txt of the live site.
    pub fn live_robots(&mut self, robots: LiveRobots) {
        self.live_robots = Some(robots);
    }

    /// The decider for [`Block::new`].
    pub fn decider(&self) -> &Decider {
        &self.decider
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
        self.arrivals.also_there(fingerprint::key(self.decider.seed(), address));
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
    pub fn learn(&mut self, path: String, learnt: crate::model::Learnt) {
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
