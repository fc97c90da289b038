//! Publishing: the files in the web root become what the plan says.
//!
//! The order keeps every instant whole: child files first (those that only gain entries before those that lose some to
//! them), then the main file, then robots.txt, then the ledger, and only then are old files removed. What is about to be
//! written is noted in the ledger before, so that a build that was killed is finished or undone by the next.

mod asides;
mod declaration;
mod place;
mod placing;
mod press;
mod sheet;
mod undo;

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::{fs, thread};

use atlas_core::format::{Frame, IndexLine, index};
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{Strand, is_aside, is_further_index, packed_name, parts_of};
use rayon::prelude::*;

pub use self::asides::Aside;
pub(crate) use self::declaration::{Declaration, differs_from_live};
pub use self::place::{FOLDED_DAYS, Form, Gzip, Place};
use self::placing::Placing;
pub(crate) use self::press::{Order, Press};
use self::press::{Pressed, Queue};
use self::sheet::Sheet;
use crate::arrange::{FilePlan, Made, Plan, SegmentPlan};
use crate::build::FORM;
use crate::disk::segmented_gzip::{GzipWriter, Segment, Squeezer, squeeze, unsqueeze};
use crate::disk::{self, Draft, OnDisk};
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered, Writing};
use crate::model::{OutputRow, Standing};
use crate::report::{Fate, RobotsFate};
use crate::source::LiveRobots;

/// How many files beside the sitemaps are made at a time.
const WINDOW: usize = 32;
/// The declarations that the tool has made in robots.txt, one a line: a fact of the ledger.
pub(crate) const DECLARED: &str = "declared";

/// What was published.
#[derive(Debug, Default)]
pub struct Published {
    /// What became of each file of the plan.
    pub fates: Vec<Fate>,
    /// Unpacked size of each file of the plan.
    pub sizes: Vec<u64>,
    /// Names of files that were written.
    pub written: Vec<String>,
    /// Names of files that left the index in this build.
    pub retired: Vec<String>,
    /// Names of files to remove once the ledger is committed.
    pub to_remove: Vec<String>,
    /// What became of robots.txt.
    pub robots: Option<RobotsFate>,
}

/// Everything that publishing works on.
pub struct Publisher<'a> {
    /// Where files go.
    pub place: &'a Place,
    /// What is to be.
    pub plan: &'a Plan,
    /// What was.
    pub remembered: &'a Remembered,
    /// Makes segments.
    pub(crate) press: Press<'a>,
    /// Files beside the sitemaps: for people, for templates.
    pub asides: &'a [Aside<'a>],
    /// They are known to be as they should: nothing that goes into them has moved.
    pub asides_stand: bool,
    /// The form of the main file.
    pub form: Form,
    /// The instant of the build, in seconds since 1970.
    pub now: i64,
    /// The robots.txt of the live site, where a source has fetched it.
    pub live_robots: Option<&'a LiveRobots>,
}

impl Publisher<'_> {
    /// The names of all files that this build may write or remove: to be noted before it begins.
    pub fn names_at_stake(&self, stale: &[usize]) -> BTreeSet<String> {
        let wanted = self.wanted_names();
        let mut names = self.remembered.planned.clone();
        let changing = self.plan.files.iter().filter(|file| file.is_touched() || file.id.is_none());
        for (plain, packed) in changing.map(|file| self.place.names(file, self.form)) {
            names.extend(plain.into_iter().chain(packed));
        }
        // Only what is wanted: a copy that someone else made must never be taken for a stray of ours.
        let indexes = self.place.index_names(self.plan.files.len()).into_iter();
        let indexes = indexes.flat_map(|name| [packed_name(&name), name]);
        names.extend(indexes.filter(|name| wanted.contains(name)));
        names.extend(self.remembered.outputs.keys().filter(|name| !wanted.contains(*name)).cloned());
        names.extend(wanted.into_iter().filter(|name| !self.holds(name)));
        names.extend(stale.iter().map(|at| self.asides[*at].name.clone()));
        names
    }

    /// Whether everything is on disk as it should be, so that nothing has to be written but the run itself.
    pub fn is_settled(&self) -> bool {
        self.remembered.planned.is_empty()
            && self.plan.folded.is_empty()
            && self.plan.files.iter().all(|file| !file.is_touched() && file.id.is_some())
            && self.wanted_names().iter().all(|name| self.holds(name))
    }

    fn wanted_names(&self) -> BTreeSet<String> {
        let files = self.plan.files.iter().map(|file| self.place.names(file, self.form));
        let mut names: BTreeSet<String> = files.flat_map(|(plain, packed)| plain.into_iter().chain(packed)).collect();
        if self.form == Form::Index {
            for name in self.place.index_names(self.plan.files.len()) {
                names.extend((self.place.gzip == Gzip::Beside).then(|| packed_name(&name)));
                names.insert(name);
            }
        }
        names.extend(self.asides.iter().map(|aside| aside.name.clone()));
        names
    }

    fn path(&self, name: &str) -> PathBuf {
        self.place.path(name)
    }

    /// The asides that are not on disk as they should be, by their places.
    pub fn stale_asides(&self) -> Vec<usize> {
        let stale = |at: &usize| {
            let aside = &self.asides[*at];
            let known = self.remembered.outputs.get(&aside.name);
            known.is_none_or(|known| known.on_disk.crc != crc32fast::hash(&aside.bytes())) || !self.holds(&aside.name)
        };
        if self.asides_stand {
            return Vec::new();
        }
        (0..self.asides.len()).into_par_iter().filter(stale).collect()
    }

    /// Whether a file is on disk as it was written. One that a killed build may have touched is not trusted by its time.
    fn holds(&self, name: &str) -> bool {
        let Some(output) = self.remembered.outputs.get(name) else { return false };
        if self.remembered.planned.contains(name) {
            return fs::read(self.path(name)).is_ok_and(|bytes| crc32fast::hash(&bytes) == output.on_disk.crc);
        }
        disk::holds(&self.path(name), &output.on_disk)
    }

    /// Whether a file of the plan is on disk as it was written last, with its compressed copy where it has one.
    pub(crate) fn holds_all(&self, file: &FilePlan) -> bool {
        let (plain, packed) = self.place.names(file, self.form);
        plain.iter().chain(&packed).all(|name| self.holds(name))
    }

    /// Whether a file of the plan was written before under the name it is to have.
    pub(crate) fn has_written(&self, file: &FilePlan) -> bool {
        let (plain, packed) = self.place.names(file, self.form);
        plain.iter().chain(&packed).any(|name| self.remembered.outputs.contains_key(name))
    }

    /// Writes all that has to be written. The ledger's changes are made in `writing`, which the caller commits.
    /// `stale` are the asides that have to be written, by [`Publisher::stale_asides`]; `meanwhile` is done while the first segments
    /// are made.
    pub fn publish(
        &self,
        writing: &Writing<'_>,
        stale: &[usize],
        meanwhile: impl FnOnce() -> Result<(), StoreError>,
    ) -> Result<Published, StoreError> {
        disk::sweep(&self.place.folder)?;
        self.aside_folders().iter().try_for_each(|folder| disk::sweep(folder))?;
        if !self.remembered.planned.is_empty() && writing.fact(FORM)?.is_some() && self.form == Form::Index {
            self.undo(writing)?;
        }
        let order = self.order();
        let made = order.iter().flat_map(|at| {
            let file = &self.plan.files[*at];
            made_of(file).map(|made| (file.id, made))
        });
        let orders = made.map(|(file, made)| {
            Order::of(made, file, |file, number, with_text| writing.whole(file, number, with_text))
        });
        thread::scope(|scope| {
            let mut queue = Queue::start(self.press, orders, scope);
            queue.begin()?;
            meanwhile()?;
            let placing = Placing::start(scope, writing.path());
            self.write_all(&order, queue, placing, writing, stale)
        })
    }

    /// Files that lose entries to others come after those others; files of new entries window by window, as their rows came.
    fn order(&self) -> Vec<usize> {
        let windows = self.press.renderer.arrivals.ends_of_windows();
        let window = |file: &FilePlan| {
            made_of(file).find_map(Made::last_row).map(|row| windows.partition_point(|end| *end <= row))
        };
        let mut order: Vec<usize> = (0..self.plan.files.len()).collect();
        order.sort_by_cached_key(|at| (self.plan.files[*at].loses_to_others, window(&self.plan.files[*at])));
        order
    }

    fn write_all<'o>(
        &self,
        order: &[usize],
        mut queue: Queue<'o, impl Iterator<Item = Result<Order<'o>, StoreError>>>,
        placing: Placing,
        writing: &Writing<'_>,
        stale: &[usize],
    ) -> Result<Published, StoreError> {
        let files = &self.plan.files;
        let mut state = State::new(self.plan, self.place.style, placing);
        let mut gained = false;
        for (nth, &at) in order.iter().enumerate() {
            if files[at].loses_to_others && !gained {
                gained = true;
                state.all_placed(self)?;
                if nth > 0 && self.form == Form::Index && files.iter().any(|file| file.id.is_none()) {
                    self.write_interim_index(&mut state, &order[..nth])?;
                }
            }
            self.file(at, &mut queue, writing, &mut state)?;
        }
        state.all_placed(self)?;
        for folded in &self.plan.folded {
            writing.drop_file(*folded)?;
        }
        for ((section, strand), number) in &self.plan.next_numbers {
            writing.set_next_number(section, *strand, *number)?;
        }
        if self.form == Form::Index {
            let lines = self.index_lines(&state, |_| true);
            self.write_indexes(&mut state, &lines)?;
        }
        self.write_asides(&mut state, stale)?;
        if !state.published.written.is_empty() {
            disk::sync_folder(&self.place.folder)?;
        }
        state.published.robots = Some(self.declare(writing)?);
        self.settle_outputs(&mut state, writing)?;
        Ok(state.published)
    }

    /// Writes one file of the plan, if anything about it has to be written.
    fn file<'o>(
        &self,
        at: usize,
        queue: &mut Queue<'o, impl Iterator<Item = Result<Order<'o>, StoreError>>>,
        writing: &Writing<'_>,
        state: &mut State,
    ) -> Result<(), StoreError> {
        let file = &self.plan.files[at];
        let (plain, packed) = self.place.names(file, self.form);
        let standing = |name: &Option<String>| name.as_ref().is_none_or(|name| self.holds(name));
        let (plain_holds, packed_holds) = (standing(&plain), standing(&packed));
        if !file.is_touched() && plain_holds && packed_holds && file.id.is_some() && !file.resized {
            return Ok(());
        }
        let id = match file.id {
            Some(id) => id,
            None => writing.open_file(&file.section, file.strand, file.number, file.limits)?,
        };
        let draft = |name: &Option<String>| name.as_ref().map(|name| Draft::begin(&self.path(name))).transpose();
        let mut sheet = Sheet::begin(draft(&plain)?, draft(&packed)?, &self.place.folder)?;
        sheet.frame(&file.frame().open(self.place.style), &mut state.squeezer)?;
        for number in &file.dropped {
            writing.drop_segment(id, *number)?;
        }
        for segment in &file.segments {
            match segment {
                SegmentPlan::Kept(row) => {
                    let body = writing.body(id, row.number)?;
                    let raw = if sheet.plain.is_some() {
                        let damaged = |_| StoreError::LedgerDamaged("the text of a segment cannot be read");
                        unsqueeze(&body, row.size).map_err(damaged)?
                    } else {
                        Vec::new()
                    };
                    sheet.push(&raw, &Segment { body, crc: row.crc, raw_size: row.size })?;
                }
                SegmentPlan::Made(made) => {
                    let Pressed { text, segment } = queue.next()?;
                    sheet.push(&text.raw, &segment)?;
                    let (lane, raws) = (&text.lane[..], &text.raws[..]);
                    writing.keep_segment(id, made.number, (made.frame, text.facts), &segment, (lane, raws))?;
                }
            }
        }
        sheet.frame(Frame::CLOSE, &mut state.squeezer)?;
        let finished = sheet.finish()?;
        let same = file.before.is_some_and(|before| (before.crc, before.size) == (finished.crc, finished.size));
        let changed = if same { file.before.map_or(self.now, |before| before.changed) } else { self.now };
        let standing = Standing { changed, crc: finished.crc, size: finished.size };
        writing.file_stands(id, file.limits, standing)?;
        state.standings[at] = Some(standing);
        state.published.sizes[at] = finished.size;
        state.published.fates[at] = match (file.before, same, plain_holds && packed_holds) {
            (None, ..) => Fate::New,
            (_, false, _) => Fate::Changed,
            (_, true, false) => Fate::Restored,
            (_, true, true) => Fate::Unchanged,
        };
        for (name, draft, holds) in [(plain, finished.plain, plain_holds), (packed, finished.packed, packed_holds)] {
            if let (Some(name), Some(draft)) = (name, draft)
                && !(same && holds)
            {
                state.placing.put(name, draft)?;
            }
        }
        Ok(())
    }

    /// The checksum and size that a file of the plan will have, without writing it.
    pub(crate) fn will_be(&self, at: usize, ledger: &Ledger) -> Result<(u32, u64), StoreError> {
        let file = &self.plan.files[at];
        let mut crc = crc32fast::Hasher::new();
        crc.update(&file.frame().open(self.place.style));
        for segment in &file.segments {
            match segment {
                SegmentPlan::Kept(row) => crc.combine(&crc32fast::Hasher::new_with_initial_len(row.crc, row.size)),
                SegmentPlan::Made(made) => {
                    let whole = |file, number, with_text| ledger.whole(file, number, with_text);
                    let order = Order::of(made, file.id, whole)?;
                    crc.update(&self.press.render(&order)?.raw);
                }
            }
        }
        crc.update(Frame::CLOSE);
        Ok((crc.finalize(), file.size(self.place.style)))
    }

    fn index_lines(&self, state: &State, which: impl Fn(usize) -> bool) -> Vec<IndexLine> {
        let lines = self.plan.files.iter().enumerate().filter(|(at, _)| which(*at));
        lines
            .map(|(at, file)| IndexLine {
                address: format!("{}{}", self.place.address, self.place.listed_name(file, self.form)),
                lastmod: instant(state.standings[at].map_or(self.now, |standing| standing.changed)),
            })
            .collect()
    }

    /// An index for the moments between: it names the files that gained entries, and still all files of the old index.
    fn write_interim_index(&self, state: &mut State, gained: &[usize]) -> Result<(), StoreError> {
        let mut lines = self.index_lines(state, |at| gained.contains(&at) || self.plan.files[at].id.is_some());
        for folded in self.remembered.files.iter().filter(|file| self.plan.folded.contains(&file.id)) {
            let name = atlas_core::placement::child_name(&folded.section, folded.strand, folded.number);
            let name = if self.place.gzip == Gzip::Only { packed_name(&name) } else { name };
            if self.path(&name).exists() {
                let address = format!("{}{name}", self.place.address);
                lines.push(IndexLine { address, lastmod: instant(folded.standing.changed) });
            }
        }
        self.write_indexes(state, &lines)
    }

    /// Writes these lines into as many indexes as there are to be. In the moments between there may be some more of them than
    /// one should hold.
    fn write_indexes(&self, state: &mut State, lines: &[IndexLine]) -> Result<(), StoreError> {
        let names = self.place.index_names(self.plan.files.len());
        let mut rest = lines;
        // The main file comes last: it is the one that engines look at most.
        let mut parts = Vec::new();
        for at in 0..names.len() {
            let most = if at + 1 == names.len() { rest.len() } else { self.place.files_per_index.min(rest.len()) };
            let (part, after) = rest.split_at(most);
            parts.push(part);
            rest = after;
        }
        for (name, part) in names.iter().zip(parts).rev() {
            self.small_file(state, name, &index(part, self.place.style))?;
        }
        Ok(())
    }

    /// Writes a file that is made at once, and its compressed copy, where they are not there already.
    fn small_file(&self, state: &mut State, name: &str, bytes: &[u8]) -> Result<(), StoreError> {
        self.small(state, name, bytes)?;
        if self.place.gzip == Gzip::Beside {
            let failed = StoreError::io("cannot write", self.path(name));
            let packed = (|| {
                let segment = squeeze(bytes)?;
                let mut writer = GzipWriter::begin(Vec::new())?;
                writer.push(&segment.body, segment.crc, segment.raw_size)?;
                writer.finish()
            })();
            self.small(state, &packed_name(&name), &packed.map_err(failed)?)?;
        }
        Ok(())
    }

    fn small(&self, state: &mut State, name: &str, bytes: &[u8]) -> Result<(), StoreError> {
        let known = state.outputs.get(name).or_else(|| self.remembered.outputs.get(name));
        let crc = crc32fast::hash(bytes);
        if known.is_some_and(|known| known.on_disk.crc == crc && disk::holds(&self.path(name), &known.on_disk)) {
            return Ok(());
        }
        let on_disk = disk::replace(&self.path(name), bytes)?;
        state.wrote(name.to_owned(), on_disk);
        Ok(())
    }

    /// Writes the files beside the sitemaps that are not as they should be.
    fn write_asides(&self, state: &mut State, stale: &[usize]) -> Result<(), StoreError> {
        if stale.is_empty() {
            return Ok(());
        }
        for folder in self.aside_folders() {
            fs::create_dir_all(&folder).map_err(StoreError::io("cannot make", &folder))?;
        }
        for window in stale.chunks(WINDOW) {
            let drafts = window.par_iter().map(|at| {
                let aside = &self.asides[*at];
                let path = self.path(&aside.name);
                let mut draft = Draft::begin(&path)?;
                draft.write_all(&aside.bytes()).map_err(StoreError::io("cannot write", &path))?;
                Ok((aside.name.clone(), draft))
            });
            let drafts = drafts.collect::<Result<Vec<_>, StoreError>>()?;
            drafts.into_iter().try_for_each(|(name, draft)| state.placing.put(name, draft))?;
        }
        state.take_placed()?;
        self.aside_folders().iter().try_for_each(|folder| disk::sync_folder(folder))
    }

    /// The folders that files beside the sitemaps are in.
    fn aside_folders(&self) -> BTreeSet<PathBuf> {
        let paths = self.asides.iter().map(|aside| self.path(&aside.name));
        paths.filter_map(|path| path.parent().map(Path::to_owned)).collect()
    }

    fn declare(&self, writing: &Writing<'_>) -> Result<RobotsFate, StoreError> {
        let declared = writing.fact(DECLARED)?.unwrap_or_default();
        let Some(declaration) = Declaration::of(self.place, self.plan.files.len(), &declared, self.live_robots)? else {
            return Ok(RobotsFate::Unnamed);
        };
        let fate = declaration.fate();
        let Some(after) = &declaration.after else { return Ok(fate) };
        let addresses = self.place.index_addresses(self.plan.files.len());
        writing.set_fact(DECLARED, Some(&addresses.join("\n")))?;
        if fate != RobotsFate::Unchanged {
            disk::replace(declaration.path, after)?;
        }
        Ok(fate)
    }

    /// Notes what was written, retires what is no longer wanted, and says what to remove.
    fn settle_outputs(&self, state: &mut State, writing: &Writing<'_>) -> Result<(), StoreError> {
        let wanted = self.wanted_names();
        for (name, output) in &state.outputs {
            writing.set_output(name, output)?;
        }
        for (name, output) in self.remembered.outputs.iter().filter(|(name, _)| !wanted.contains(*name)) {
            // A compressed copy beside a file that lives on would be sent in its place.
            let stale_copy = name.strip_suffix(".gz").is_some_and(|plain| wanted.contains(plain));
            match output.retired {
                Some(since) if since + i64::from(self.place.folded_days) * 86_400 < self.now => {
                    state.published.to_remove.push(name.clone())
                }
                _ if is_further_index(&self.place.main, name) => state.published.to_remove.push(name.clone()),
                _ if is_aside(name) => state.published.to_remove.push(name.clone()),
                // What it listed is news no more, or stands in the first.
                _ if strand_of(name) == Some(Strand::News) => state.published.to_remove.push(name.clone()),
                _ if stale_copy => state.published.to_remove.push(name.clone()),
                Some(_) => {}
                None => {
                    writing.set_output(name, &OutputRow { retired: Some(self.now), ..*output })?;
                    state.published.retired.push(name.clone());
                }
            }
        }
        for name in &wanted {
            let back = self.remembered.outputs.get(name).filter(|output| output.retired.is_some());
            if let Some(output) = back.filter(|_| !state.outputs.contains_key(name)) {
                writing.set_output(name, &OutputRow { retired: None, ..*output })?;
            }
        }
        // What a killed build made and this one has no use for.
        let strays = self.remembered.planned.iter().filter(|name| !wanted.contains(*name));
        let strays = strays.filter(|name| !self.remembered.outputs.contains_key(*name));
        state.published.to_remove.extend(strays.cloned());
        for name in &state.published.to_remove {
            writing.drop_output(name)?;
        }
        Ok(())
    }
}

/// The strand of a child file of ours, by its name.
fn strand_of(name: &str) -> Option<Strand> {
    parts_of(name).map(|(_, strand, _)| strand)
}

fn made_of(file: &FilePlan) -> impl Iterator<Item = &Made> {
    file.segments.iter().filter_map(|segment| match segment {
        SegmentPlan::Made(made) => Some(made),
        SegmentPlan::Kept(_) => None,
    })
}

fn instant(seconds: i64) -> Lastmod {
    Lastmod::Instant { seconds, offset: 0 }
}

/// What has come about so far.
struct State {
    published: Published,
    standings: Vec<Option<Standing>>,
    outputs: BTreeMap<String, OutputRow>,
    placing: Placing,
    squeezer: Squeezer,
}

impl State {
    /// Nothing has come about.
    fn new(plan: &Plan, style: Option<&str>, placing: Placing) -> Self {
        let files = &plan.files;
        Self {
            published: Published {
                fates: vec![Fate::Unchanged; files.len()],
                sizes: files.iter().map(|file| file.size(style)).collect(),
                ..Published::default()
            },
            standings: files.iter().map(|file| file.before).collect(),
            outputs: BTreeMap::new(),
            placing,
            squeezer: Squeezer::default(),
        }
    }

    fn wrote(&mut self, name: String, on_disk: OnDisk) {
        // The main file may be written twice, once for the moments between.
        if self.outputs.insert(name.clone(), OutputRow { on_disk, retired: None }).is_none() {
            self.published.written.push(name);
        }
    }

    /// Waits until every file that was finished is in its place.
    fn all_placed(&mut self, publisher: &Publisher<'_>) -> Result<(), StoreError> {
        if self.take_placed()? { disk::sync_folder(&publisher.place.folder) } else { Ok(()) }
    }

    /// The same, and tells whether there was any; their folders may not be on the disk yet.
    fn take_placed(&mut self) -> Result<bool, StoreError> {
        let placed = self.placing.wait()?;
        let any = !placed.is_empty();
        placed.into_iter().for_each(|(name, on_disk)| self.wrote(name, on_disk));
        Ok(any)
    }
}

/// Removes files that are no longer wanted, once the ledger has let go of them.
pub fn remove(place: &Place, names: &[String]) -> Result<(), StoreError> {
    for name in names {
        let path = place.path(name);
        disk::remove(&path)?;
        // A folder below the one for structured data was made for its file, and goes when nothing is left in it.
        let below =
            |folder: &&Path| place.data.as_ref().is_some_and(|data| *folder != data && folder.starts_with(data));
        for folder in path.ancestors().skip(1).take_while(below) {
            if fs::remove_dir(folder).is_err() {
                break;
            }
        }
    }
    Ok(())
}
