//! Publishing: making the files in the web root match the plan.
//!
//! The order of writing keeps the site complete at every instant: child files first (those that only gain entries
//! before those that lose some to them), then the main file, then robots.txt, then the ledger; only then are old files
//! removed. The ledger records beforehand which files are about to be written, so that the next build finishes or
//! undoes one that was killed.

mod render_queue;
mod placing;
mod sitemap_file;
mod declaration;
mod state;
mod compose;
mod record;
mod indexes;
mod undo;
mod former;

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
use crate::report::RobotsFate;
use crate::source::LiveRobots;

/// The input of publishing.
pub(crate) struct Publisher<'a> {
    /// Where the files go.
    pub destination: &'a dyn Destination,
    /// Their names.
    pub names: &'a Names,
    /// The new state.
    pub plan: &'a Plan,
    /// The old state.
    pub remembered: &'a Remembered,
    /// Renders segments.
    pub(crate) segment_renderer: SegmentRenderer<'a>,
    /// Files beside the sitemaps, for visitors and templates.
    pub extra_files: &'a [ExtraFile<'a>],
    /// Whether these files are known to be up to date, because nothing in them has changed.
    pub extra_files_stand: bool,
    /// What the main file is.
    pub form: MainFile,
    /// The instant of the build, in seconds since 1970.
    pub now: i64,
    /// The robots.txt of the live site, if a source has fetched it.
    pub live_robots: Option<&'a LiveRobots>,
}

impl Publisher<'_> {
    /// The names of all files that this build may write or remove, to be recorded before it begins.
    pub(crate) fn names_at_stake(&self, stale: &[usize]) -> BTreeSet<String> {
        let wanted = self.wanted_names();
        let mut names = self.remembered.planned.clone();
        let changing = self.plan.files.iter().filter(|file| file.is_touched() || file.id.is_none());
        for (plain, packed) in changing.map(|file| self.names.names(&file.name(), self.form)) {
            names.extend(plain.into_iter().chain(packed));
        }
        // Only files that are wanted: a copy that someone else made must never be taken for a leftover of ours.
        let indexes = self.names.index_names(self.plan.files.len()).into_iter();
        let indexes = indexes.flat_map(|name| [packed_name(&name), name]);
        names.extend(indexes.filter(|name| wanted.contains(name)));
        names.extend(self.remembered.outputs.keys().filter(|name| !wanted.contains(*name)).cloned());
        names.extend(wanted.into_iter().filter(|name| !self.holds(name)));
        names.extend(stale.iter().map(|at| self.extra_files[*at].name.clone()));
        names
    }

    /// Whether everything is up to date on disk, so that only the run itself has to be recorded.
    pub(crate) fn is_settled(&self) -> bool {
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

    /// The indexes of the extra files that are not up to date on disk.
    pub(crate) fn stale_extra_files(&self) -> Vec<usize> {
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

    /// Whether a file on disk is as it was written. If a killed build may have touched it, its version is not trusted.
    fn holds(&self, name: &str) -> bool {
        let Some(output) = self.remembered.outputs.get(name) else { return false };
        match self.remembered.planned.contains(name) {
            true => has_bytes(self.destination, name, &output.on_disk),
            false => holds(self.destination, name, &output.on_disk),
        }
    }

    /// Whether a planned file, and its compressed copy if it has one, is on disk as it was last written.
    pub(crate) fn holds_all(&self, file: &FilePlan) -> bool {
        let (plain, packed) = self.names.names(&file.name(), self.form);
        plain.iter().chain(&packed).all(|name| self.holds(name))
    }

    /// Whether a planned file was written before under its new name.
    pub(crate) fn has_written(&self, file: &FilePlan) -> bool {
        let (plain, packed) = self.names.names(&file.name(), self.form);
        plain.iter().chain(&packed).any(|name| self.remembered.outputs.contains_key(name))
    }

    /// Writes everything that has to be written. Changes to the ledger are made in `writing`, which the caller commits.
    /// `stale` are the indexes of extra files to write, from [`Publisher::stale_extra_files`]; `meanwhile` runs while
    /// the first segments are rendered.
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

    /// Files that lose entries to others come after those others; files of new entries are in the order of their rows'
    /// windows.
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
                    self.write_interim_index(&mut state, &order[..nth], writing)?;
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
            self.write_indexes(&mut state, &lines, writing)?;
        }
        self.write_extra_files(&mut state, stale)?;
        if !state.published.written.is_empty() {
            self.destination.commit()?;
        }
        let declared = self.declare(writing)?;
        // It may have been declared before, when there were new indexes.
        state.published.robots = match (state.published.robots, declared) {
            (Some(before), RobotsFate::Unchanged) => Some(before),
            (_, declared) => Some(declared),
        };
        self.settle_outputs(&mut state, writing)?;
        self.follow_main(&mut state, writing)?;
        Ok(state.published)
    }
}

fn made_of(file: &FilePlan) -> impl Iterator<Item = &Made> {
    file.segments.iter().filter_map(|segment| match segment {
        SegmentPlan::Made(made) => Some(made),
        SegmentPlan::Kept(_) => None,
    })
}
