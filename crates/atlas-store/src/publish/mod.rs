//! Publishing: the files in the web root become what the plan says.
//!
//! The order keeps every instant whole: child files first (those that only gain entries before those that lose some to
//! them), then the main file, then robots.txt, then the ledger, and only then are old files removed. What is about to be
//! written is noted in the ledger before, so that a build that was killed is finished or undone by the next.

mod render_queue;
mod placing;
mod sitemap_file;
mod declaration;
mod state;
mod compose;
mod record;
mod indexes;
mod undo;

use std::collections::BTreeSet;
use std::thread;

use atlas_core::placement::packed_name;
use rayon::prelude::*;

pub(crate) use self::declaration::{Declaration, differs_from_live};
use self::placing::Placing;
use self::render_queue::RenderQueue;
pub(crate) use self::render_queue::{RenderJob, SegmentRenderer};
use self::state::PublishState;
pub use self::state::Published;
use crate::arrange::{FilePlan, Made, Plan, SegmentPlan};
use crate::destination::{Destination, Gzip, MainFile, Names, has_bytes, holds};
use crate::error::StoreError;
use crate::extras::ExtraFile;
use crate::ledger::{Remembered, Writing};
use crate::model::Fact;
use crate::source::LiveRobots;

/// Everything that publishing works on.
pub struct Publisher<'a> {
    /// Where files go.
    pub destination: &'a dyn Destination,
    /// What they are called.
    pub names: &'a Names,
    /// What is to be.
    pub plan: &'a Plan,
    /// What was.
    pub remembered: &'a Remembered,
    /// Makes segments.
    pub(crate) segment_renderer: SegmentRenderer<'a>,
    /// Files beside the sitemaps: for people, for templates.
    pub extra_files: &'a [ExtraFile<'a>],
    /// They are known to be as they should: nothing that goes into them has moved.
    pub extra_files_stand: bool,
    /// The form of the main file.
    pub form: MainFile,
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
        for (plain, packed) in changing.map(|file| self.names.names(&file.name(), self.form)) {
            names.extend(plain.into_iter().chain(packed));
        }
        // Only what is wanted: a copy that someone else made must never be taken for a stray of ours.
        let indexes = self.names.index_names(self.plan.files.len()).into_iter();
        let indexes = indexes.flat_map(|name| [packed_name(&name), name]);
        names.extend(indexes.filter(|name| wanted.contains(name)));
        names.extend(self.remembered.outputs.keys().filter(|name| !wanted.contains(*name)).cloned());
        names.extend(wanted.into_iter().filter(|name| !self.holds(name)));
        names.extend(stale.iter().map(|at| self.extra_files[*at].name.clone()));
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
        let files = self.plan.files.iter().map(|file| self.names.names(&file.name(), self.form));
        let mut names: BTreeSet<String> = files.flat_map(|(plain, packed)| plain.into_iter().chain(packed)).collect();
        if self.form == MainFile::Index {
            for name in self.names.index_names(self.plan.files.len()) {
                names.extend((self.names.gzip == Gzip::Beside).then(|| packed_name(&name)));
                names.insert(name);
            }
        }
        names.extend(self.extra_files.iter().map(|extra_file| extra_file.name.clone()));
        names
    }

    /// The asides that are not on disk as they should be, by their places.
    pub fn stale_extra_files(&self) -> Vec<usize> {
        let stale = |at: &usize| {
            let extra_file = &self.extra_files[*at];
            let known = self.remembered.outputs.get(&extra_file.name);
            known.is_none_or(|known| known.on_disk.crc != crc32fast::hash(&extra_file.bytes()))
                || !self.holds(&extra_file.name)
        };
        if self.extra_files_stand {
            return Vec::new();
        }
        (0..self.extra_files.len()).into_par_iter().filter(stale).collect()
    }

    /// Whether a file is on disk as it was written. One that a killed build may have touched is not trusted by its version.
    fn holds(&self, name: &str) -> bool {
        let Some(output) = self.remembered.outputs.get(name) else { return false };
        match self.remembered.planned.contains(name) {
            true => has_bytes(self.destination, name, &output.on_disk),
            false => holds(self.destination, name, &output.on_disk),
        }
    }

    /// Whether a file of the plan is on disk as it was written last, with its compressed copy where it has one.
    pub(crate) fn holds_all(&self, file: &FilePlan) -> bool {
        let (plain, packed) = self.names.names(&file.name(), self.form);
        plain.iter().chain(&packed).all(|name| self.holds(name))
    }

    /// Whether a file of the plan was written before under the name it is to have.
    pub(crate) fn has_written(&self, file: &FilePlan) -> bool {
        let (plain, packed) = self.names.names(&file.name(), self.form);
        plain.iter().chain(&packed).any(|name| self.remembered.outputs.contains_key(name))
    }

    /// Writes all that has to be written. The ledger's changes are made in `writing`, which the caller commits.
    /// `stale` are the asides that have to be written, by [`Publisher::stale_extra_files`]; `meanwhile` is done while the first segments
    /// are made.
    pub fn publish(
        &self,
        writing: &dyn Writing,
        stale: &[usize],
        meanwhile: impl FnOnce() -> Result<(), StoreError>,
    ) -> Result<Published, StoreError> {
        self.destination.sweep()?;
        if !self.remembered.planned.is_empty()
            && writing.fact(Fact::MainFile)?.is_some()
            && self.form == MainFile::Index
        {
            self.undo(writing)?;
        }
        let order = self.order();
        let made = order.iter().flat_map(|at| {
            let file = &self.plan.files[*at];
            made_of(file).map(|made| (file.id, made))
        });
        let jobs = made.map(|(file, made)| {
            RenderJob::of(made, file, |file, number, with_text| writing.whole(file, number, with_text))
        });
        thread::scope(|scope| {
            let mut queue = RenderQueue::start(self.segment_renderer, jobs, scope);
            queue.begin()?;
            meanwhile()?;
            let placing = Placing::start(scope, self.destination, writing.flusher());
            self.write_all(&order, queue, placing, writing, stale)
        })
    }

    /// Files that lose entries to others come after those others; files of new entries window by window, as their rows came.
    fn order(&self) -> Vec<usize> {
        let windows = self.segment_renderer.renderer.arrivals.ends_of_windows();
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
        mut queue: RenderQueue<'o, impl Iterator<Item = Result<RenderJob<'o>, StoreError>>>,
        placing: Placing,
        writing: &dyn Writing,
        stale: &[usize],
    ) -> Result<Published, StoreError> {
        let files = &self.plan.files;
        let mut state = PublishState::new(self.plan, self.names.style, placing);
        let mut gained = false;
        for (nth, &at) in order.iter().enumerate() {
            if files[at].loses_to_others && !gained {
                gained = true;
                state.all_placed(self.destination)?;
                if nth > 0 && self.form == MainFile::Index && files.iter().any(|file| file.id.is_none()) {
                    self.write_interim_index(&mut state, &order[..nth])?;
                }
            }
            self.file(at, &mut queue, writing, &mut state)?;
        }
        state.all_placed(self.destination)?;
        for folded in &self.plan.folded {
            writing.drop_file(*folded)?;
        }
        for ((section, kind), number) in &self.plan.next_numbers {
            writing.set_next_number(section, *kind, *number)?;
        }
        if self.form == MainFile::Index {
            let lines = self.index_lines(&state, |_| true);
            self.write_indexes(&mut state, &lines)?;
        }
        self.write_extra_files(&mut state, stale)?;
        if !state.published.written.is_empty() {
            self.destination.commit()?;
        }
        state.published.robots = Some(self.declare(writing)?);
        self.settle_outputs(&mut state, writing)?;
        Ok(state.published)
    }
}

fn made_of(file: &FilePlan) -> impl Iterator<Item = &Made> {
    file.segments.iter().filter_map(|segment| match segment {
        SegmentPlan::Made(made) => Some(made),
        SegmentPlan::Kept(_) => None,
    })
}
