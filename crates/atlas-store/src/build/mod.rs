//! The run of a survey or a build, from sources to files.

mod explain;
mod guard;
mod knowing;
mod overwritten;
mod preview;
mod recall;

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::thread;

use atlas_core::choose::Chooser;
use atlas_core::contribution::url_of;
use atlas_core::derive::alternates;
use atlas_core::fingerprint::{self, Field};
use atlas_core::page;
use atlas_core::placement::{Strand, is_aside};
use atlas_core::shape::Shape;
use jiff::Timestamp;
use jiff::tz::TimeZone;

pub use self::explain::{Explained, explain};
pub use self::guard::Thresholds;
use self::guard::{Before, guard};
use self::knowing::{Knowing, keep_stretches, recollect};
pub use self::overwritten::{keep_overwritten, overwritten};
pub use self::preview::preview;
pub use self::recall::{Recalled, on_disk, recall};
use crate::arrange::{self, Cut, From, Plan, Renderer, SegmentPlan, arrange};
use crate::arrival::{Arrivals, Desk, Need, Place};
pub use crate::derive::ARCHIVES;
use crate::derive::{Alternates, archives};
use crate::disk;
use crate::error::StoreError;
use crate::ledger::{Ledger, Remembered};
use crate::look::{self, Listed, Listing, notice, notice_while_building};
use crate::model::{Departure, LaneEntry, Memory, RunCounts, RunRow, Tombstone};
use crate::people::{Lines, People};
use crate::provenance::{Mapping, Provenances};
use crate::publish::{self, DECLARED, Declaration, Form, Press, Publisher, differs_from_live, remove};
use crate::report::{
    Built, Changes, Fate, FileReport, Guard, LastBuild, LeftOut, OtherSitemap, Preview, Remapped, RobotsFate,
    SectionReport, SourceReport, Survey, Waiting, in_brief,
};
pub use crate::settle::{EXAMPLES, Telling};
use crate::settle::{Expected, Gone, Settled, Terms, settle};
use crate::source::{Gathering, Left, LiveRobots, Source};
use atlas_core::report::{Counted, Notice, Outcome};

/// Facts of the ledger that a build needs.
const READER: &str = "reader";
pub(crate) const FORM: &str = "form";
/// How what is for people was made.
const PEOPLE: &str = "people";
/// What the rows were decided by that are known unread.
const CHOICES: &str = "choices";

/// What is to be gathered, chosen and written.
pub struct Job<'a> {
    /// Where entries come from, in the order in which they are believed.
    pub sources: &'a [Box<dyn Source>],
    /// Decides about each entry.
    pub chooser: Chooser,
    /// What of an entry is written.
    pub shape: Shape,
    /// How groups of translations are found; `None` where none are written.
    pub alternates: Option<alternates::Settings>,
    /// What is written besides sitemaps.
    pub people: People,
    /// How files are cut.
    pub cut: Cut,
    /// Where files go.
    pub place: publish::Place,
    /// A text that changes whenever a setting with a say in what is written changes.
    pub settings: String,
    /// A fingerprint of all that decides about a row besides the row itself; `None` where the instant decides too, so that a row
    /// has to be read even where it is as it was.
    pub choices: Option<u64>,
    /// In about how many bytes what is gathered is kept before it is put on the disk.
    pub memory: usize,
    /// The instant of the run.
    pub now: Timestamp,
    /// The site's zone: what day it is.
    pub timezone: TimeZone,
    /// Read everything anew.
    pub fresh: bool,
    /// Guards that may be passed.
    pub allow: HashSet<Guard>,
    /// When guards hold a build back.
    pub thresholds: Thresholds,
    /// How much is told.
    pub telling: Telling<'a>,
    /// A fingerprint of the configuration: under another, a build tells all it has to say.
    pub configuration: u64,
    /// Is told when files begin to be put in their places.
    pub begins_to_write: &'a (dyn Fn() + Sync),
    /// Is told how many more rows have come.
    pub progress: &'a (dyn Fn(u64) + Sync),
}

/// What a run has found, before anything is written.
struct Found {
    arrivals: Arrivals,
    /// The blocks of the arrivals that come from sources.
    blocks: usize,
    remembered: Remembered,
    knowing: Knowing,
    settled: Settled,
    alternates: Alternates,
    /// The whole site as it is to be.
    plan: Plan,
    outcomes: Vec<Outcome>,
    memories: Vec<Memory>,
    live_robots: Option<LiveRobots>,
    first: bool,
    run: i64,
    was_index: bool,
    /// A fingerprint of the settings that have a say in what is written.
    settings: u64,
    /// What the last build stood for.
    before: Before,
    /// The files beside the sitemaps are known to be as they should.
    asides_stand: bool,
    /// The entries that are no longer in.
    gone: Vec<Departed>,
    /// Entries that are back as they were before any engine was told that they had left, by key: the run in which each last changed.
    returned: HashMap<u128, u32>,
    provenances: Provenances,
}

/// An entry that is no longer in.
#[derive(Debug, Clone)]
struct Departed {
    key: u128,
    url: String,
    gone: Gone,
    departure: Departure,
}

impl Found {
    /// The job's, which now knows the tool's own files.
    fn chooser(&self) -> &Chooser {
        self.arrivals.desk().chooser()
    }

    fn publisher<'a>(&'a self, job: &'a Job<'_>, asides: &'a [crate::publish::Aside<'a>]) -> Publisher<'a> {
        let Self { arrivals, alternates, plan, .. } = self;
        Publisher {
            place: &job.place,
            plan,
            remembered: &self.remembered,
            press: Press {
                listed: &self.settled.listed,
                standing: &self.settled.standing,
                renderer: Renderer { arrivals, shape: &job.shape, alternates, style: job.place.style },
                settings: self.settings,
                run: self.run as u32,
                returned: &self.returned,
            },
            asides,
            asides_stand: self.asides_stand,
            form: job.place.form(plan.files.len(), self.was_index),
            now: job.now.as_second(),
            live_robots: self.live_robots.as_ref(),
        }
    }

    /// What would become of robots.txt, and what else it declares.
    fn robots(&self, job: &Job<'_>, ledger: &Ledger) -> Result<(RobotsFate, Vec<OtherSitemap>), StoreError> {
        let declared = ledger.fact(DECLARED)?.unwrap_or_default();
        let declaration = Declaration::of(&job.place, self.plan.files.len(), &declared, self.live_robots.as_ref())?;
        Ok(declaration.map_or((RobotsFate::Unnamed, Vec::new()), |one| (one.fate(), one.others())))
    }

    /// Whether all entries are as they were, so that what is made of all of them is, too.
    fn is_unmoved(&self) -> bool {
        let settled = &self.settled;
        // Files of news are filled anew each time.
        settled.listed.iter().all(|candidate| candidate.strand == Strand::News)
            && settled.counts.added.count() == 0
            && self.gone.is_empty()
            && settled.gone.is_empty()
    }

    /// The files beside the sitemaps.
    fn asides<'a>(&'a self, job: &'a Job<'_>, lines: Option<&'a Lines<'a>>) -> Vec<crate::publish::Aside<'a>> {
        match lines {
            Some(lines) => lines.asides(job),
            None => standing_asides(&self.remembered).map(crate::publish::Aside::standing).collect(),
        }
    }

    fn lines<'a>(&'a self, job: &'a Job<'_>) -> Lines<'a> {
        Lines::new(&job.people, &self.arrivals, &self.settled, &self.remembered)
    }

    /// The name of the file that each entry stands in, or will, by its key.
    fn files(&self, job: &Job<'_>, ledger: &Ledger) -> Result<HashMap<u128, String>, StoreError> {
        let plan = &self.plan;
        let form = job.place.form(plan.files.len(), self.was_index);
        let mut files = HashMap::new();
        for file in plan.files.iter().filter(|file| file.strand == Strand::Pages) {
            let name = job.place.listed_name(file, form);
            for segment in &file.segments {
                let base = match segment {
                    SegmentPlan::Kept(row) => Some(row),
                    SegmentPlan::Made(made) => made.base.as_ref(),
                };
                let lane = base.zip(file.id).map(|(base, file)| ledger.lane(file, base));
                let lane = lane.transpose()?.unwrap_or_default();
                let keys: Vec<u128> = match segment {
                    SegmentPlan::Kept(_) => lane.iter().map(|entry| entry.key).collect(),
                    SegmentPlan::Made(made) => made
                        .members
                        .iter()
                        .map(|member| match member.from() {
                            From::Base(at) => lane[at as usize].key,
                            From::Listed(at) => self.settled.listed[at as usize].lane.key,
                            From::Row(place) => self.arrivals.mark(place).key(),
                        })
                        .collect(),
                };
                files.extend(keys.into_iter().map(|key| (key, name.clone())));
            }
        }
        Ok(files)
    }

    /// The entries that were not in before, in the order in which the sources name them: their keys and rows.
    fn added(&self) -> Vec<(u128, Place)> {
        let any = self.settled.counts.added.count() > 0;
        let rows = self.settled.standing.new_rows().filter(|_| any);
        let kept = rows.map(|place| (place, self.arrivals.mark(place))).filter(|(_, mark)| mark.kept().is_some());
        let mut added: Vec<(Place, u128, Place)> =
            kept.map(|(place, mark)| (self.settled.standing.named(place), mark.key(), place)).collect();
        added.sort_unstable();
        added.into_iter().map(|(_, key, place)| (key, place)).collect()
    }

    fn url_of(&self, place: Place) -> String {
        url_of(&self.arrivals.row(place)).to_owned()
    }

    /// What engines have to be told of what is gone.
    fn tombstones(&self) -> impl Iterator<Item = Tombstone> {
        let told = self.gone.iter().filter_map(|one| Some((one, one.gone.change?)));
        told.map(|(one, change)| Tombstone { key: one.key, url: one.url.clone(), change })
    }
}

/// Gathers and shows what would be in, and why the rest is left out. Writes nothing but what was learnt of files.
pub fn survey(job: &Job<'_>, ledger: &mut Ledger) -> Result<Survey, StoreError> {
    let found = find(job, ledger, Purpose::Look)?;
    let plan = &found.plan;
    learn(job, &found, ledger)?;
    let derived = (&found.alternates, job.people.structured_data);
    let (settled, outcomes) = (&found.settled, &found.outcomes);
    let notices = notice(&found.arrivals, settled, (job.sources, outcomes), derived, job.telling);
    let form = job.place.form(plan.files.len(), found.was_index);
    let fates = plan.files.iter().map(|file| match (file.id, file.is_touched()) {
        (None, _) => Fate::New,
        (_, true) => Fate::Changed,
        (_, false) => Fate::Unchanged,
    });
    let fates: Vec<Fate> = fates.collect();
    let sizes: Vec<u64> = plan.files.iter().map(|file| file.size(job.place.style)).collect();
    found.arrivals.check(ledger.folder())?;
    let held = guard(job, &found);
    let (robots, other_sitemaps) = found.robots(job, ledger)?;
    let unmet = job.telling.accepted.unmet();
    let unmet = unmet.filter(|(_, code)| Notice::ALL.iter().any(|notice| notice.code() == *code));
    let accepted_in_vain = unmet.map(|(line, code)| (line, code.to_owned())).collect();
    Ok(Survey { notices, accepted_in_vain, held, robots, other_sitemaps, ..report(job, &found, form, &fates, &sizes) })
}

/// Gathers and lists entries, those that are left out too. Returns the list and how many there are in all.
pub fn list(job: &Job<'_>, ledger: &mut Ledger, listing: &Listing) -> Result<(Vec<Listed>, u64), StoreError> {
    let found = find(job, ledger, Purpose::LookCloser)?;
    learn(job, &found, ledger)?;
    let files = found.files(job, ledger)?;
    let listed = look::list(listing, &found.arrivals, &found.settled, &found.remembered, &found.outcomes, &files);
    found.arrivals.check(ledger.folder())?;
    Ok(listed)
}

/// Gathers, chooses, writes the files, the index and robots.txt, and remembers.
pub fn build(job: &Job<'_>, ledger: &mut Ledger) -> Result<Ended, StoreError> {
    let found = find(job, ledger, Purpose::Write)?;
    if !guard(job, &found).is_empty() {
        return Ok(Ended::Held(Box::new(preview::of(job, ledger, &found)?)));
    }
    let lines = (!found.asides_stand).then(|| found.lines(job));
    let asides = found.asides(job, lines.as_ref());
    let publisher = found.publisher(job, &asides);
    let form = publisher.form;
    let stale = publisher.stale_asides();
    (job.begins_to_write)();
    if !publisher.is_settled() || !stale.is_empty() {
        ledger.plan(publisher.names_at_stake(&stale))?;
    }
    let (_, other_sitemaps) = found.robots(job, ledger)?;
    let last = ledger.run(found.run - 1)?;
    let last = last.and_then(|(_, report)| LastBuild::of_report(&report, &format!("{:016x}", job.configuration)));
    let folder = ledger.folder().to_owned();
    let writing = ledger.transaction()?;
    let published = publisher.publish(&writing, &stale, || keep_stretches(&found, &writing, &folder))?;
    if form == Form::Index {
        writing.set_fact(FORM, Some("index"))?;
    }
    writing.set_fact(PEOPLE, Some(&job.people.print(job).to_string()))?;
    writing.set_fact(CHOICES, job.choices.map(|choices| choices.to_string()).as_deref())?;
    restate(&found, &writing)?;
    writing.keep_provenances(&found.provenances.added())?;
    writing.set_fact(READER, Some(&page::VERSION.to_string()))?;
    guard::remember(job, &found, &writing)?;
    keep_memories(job, &found, &writing)?;
    for tombstone in found.tombstones() {
        writing.bury(&tombstone, found.run)?;
    }
    for Departed { key, departure, .. } in &found.gone {
        writing.depart(*key, *departure, found.run)?;
    }
    if !found.first {
        let mut added: Vec<u128> = found.added().into_iter().map(|(key, _)| key).collect();
        added.sort_unstable();
        writing.arrive(&added, found.run, |key| !found.returned.contains_key(&key))?;
        writing.forget_what_is_known()?;
    }
    found.arrivals.check(&folder)?;
    let run = found.run;
    let robots = published.robots.unwrap_or(RobotsFate::Unnamed);
    let survey = Survey { robots, other_sitemaps, ..report(job, &found, form, &published.fates, &published.sizes) };
    let configuration = format!("{:016x}", job.configuration);
    let changed = if survey.changes.redesign { 0 } else { survey.changes.changed.count };
    let to_announce = match found.first {
        true => 0,
        false => {
            let added = survey.changes.added.count - found.returned.len() as u64;
            added + changed + found.tombstones().count() as u64
        }
    };
    let built = Built {
        run,
        written: published.written,
        retired: published.retired,
        removed: published.to_remove.clone(),
        to_announce,
        last,
        configuration,
        survey,
    };
    let brief = Built { survey: in_brief(&built.survey, EXAMPLES), last: None, ..built.clone() };
    writing.add_run(&run_row(job, &built), &serde_json::to_string(&brief).unwrap_or_default())?;
    if published.to_remove.is_empty() {
        writing.plan_is_done()?;
    }
    drop(asides);
    drop(lines);
    // Giving a million rows back to the system takes as long as bringing the ledger to the disk.
    thread::scope(|scope| {
        scope.spawn(|| drop(found));
        writing.commit()
    })?;
    if !published.to_remove.is_empty() {
        remove(&job.place, &published.to_remove)?;
        let writing = ledger.transaction()?;
        writing.plan_is_done()?;
        writing.commit()?;
    }
    Ok(Ended::Built(Box::new(built)))
}

/// How a build ended.
#[derive(Debug, Clone, PartialEq)]
pub enum Ended {
    /// The files are written.
    Built(Box<Built>),
    /// A guard held it back: nothing was written. This is what would have happened.
    Held(Box<Preview>),
}

/// What is done with what the sources yield.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Purpose {
    /// To look at the site as a whole, its links included.
    Look,
    /// To write files.
    Write,
    /// To look at some entries closely: what is known of a site that takes long to walk will do.
    LookCloser,
}

/// What the sources yielded.
struct Gathered {
    arrivals: Arrivals,
    outcomes: Vec<Outcome>,
    memories: Vec<Memory>,
    live_robots: Option<LiveRobots>,
    mappings: Vec<Mapping>,
}

/// Whether what is for people would be made as it was.
fn same_people(job: &Job<'_>, ledger: &Ledger) -> Result<bool, StoreError> {
    Ok(ledger.fact(PEOPLE)?.as_deref() == Some(&job.people.print(job).to_string()))
}

/// The names of the files beside the sitemaps, as they were written last.
fn standing_asides(remembered: &Remembered) -> impl Iterator<Item = String> {
    let standing = remembered.outputs.iter().filter(|(name, output)| is_aside(name) && output.retired.is_none());
    standing.map(|(name, _)| name.clone())
}

fn gather(
    job: &Job<'_>,
    ledger: &mut Ledger,
    desk: Desk,
    purpose: Purpose,
    need: Need,
) -> Result<Gathered, StoreError> {
    let folder = ledger.folder().to_owned();
    let arrivals = Arrivals::new(desk, &folder, need, job.memory);
    let mut gathered =
        Gathered { arrivals, outcomes: Vec::new(), memories: Vec::new(), live_robots: None, mappings: Vec::new() };
    for source in job.sources {
        let (name, settings) = (source.name(), source.settings());
        let links = purpose == Purpose::Look || source.needs_links();
        let memory = if job.fresh { Memory::default() } else { ledger.memory(&name, settings, links)? };
        let memory = Memory { will_do: purpose == Purpose::LookCloser && !memory.known.is_empty(), ..memory };
        let mut keep = |memory: &Memory| {
            let writing = ledger.transaction()?;
            writing.learnt(&name, settings, memory)?;
            writing.commit()
        };
        let arrivals = &mut gathered.arrivals;
        let mut gathering = Gathering::new(name.clone(), memory, arrivals, job.progress, &mut keep);
        source.gather(&mut gathering)?;
        let Left { mut outcome, memory, live_robots, mapping } = gathering.finish();
        gathered.arrivals.check(&folder)?;
        if let (Some(live), Some(path)) = (&live_robots, &job.place.robots)
            && differs_from_live(&job.place, live)
        {
            outcome.remarks.push(format!(
                "the live site's robots.txt and {} have different rules: copied to the server, this one would undo what was changed there. Put the live one in its place and build again",
                path.display()
            ));
        }
        gathered.outcomes.push(outcome);
        gathered.memories.push(memory);
        gathered.mappings.push(mapping);
        gathered.live_robots = live_robots.or(gathered.live_robots);
    }
    Ok(gathered)
}

fn find(job: &Job<'_>, ledger: &mut Ledger, purpose: Purpose) -> Result<Found, StoreError> {
    let knowing = Knowing::of(job, ledger, purpose)?;
    let enough = |found: &Found| knowing.need != Need::Moved || !job.people.wants_all() || found.asides_stand;
    if let Some(found) = find_with(job, ledger, purpose, knowing.clone())?.filter(enough) {
        return Ok(found);
    }
    let found = find_with(job, ledger, purpose, knowing.reading_all(job))?;
    found.ok_or(StoreError::LedgerDamaged("entries are remembered twice"))
}

/// Finds what there is; `None` where more is needed of the rows than was thought.
fn find_with(
    job: &Job<'_>,
    ledger: &mut Ledger,
    purpose: Purpose,
    knowing: Knowing,
) -> Result<Option<Found>, StoreError> {
    let seed = ledger.seed()?;
    let mut remembered = ledger.remembered()?;
    let last_run = ledger.last_run()?;
    let run = last_run + 1;
    let mut chooser = job.chooser.clone();
    chooser.own_files.others.extend(remembered.outputs.keys().filter_map(|name| job.place.address_of(name)));
    let sections = chooser.sections.names().join(" ");
    let settings = fingerprint::settings(&format!("{} {sections}", job.settings));
    let desk = Desk::new(seed, chooser, job.shape.clone(), knowing.stretches.clone());
    let Gathered { mut arrivals, mut outcomes, memories, live_robots, mut mappings } =
        gather(job, ledger, desk.clone(), purpose, knowing.need)?;
    let ledger = &*ledger;
    let _reading = ledger.reading()?;
    if !recollect(job, ledger, &mut remembered, &arrivals, &knowing)? {
        return Ok(None);
    }
    let folder = ledger.folder();
    let failed = || StoreError::io("cannot read back what was put aside in", folder);
    // Pages of archives are derived in the same way always.
    mappings
        .push(Mapping { source: ARCHIVES.to_owned(), fields: Field::ALL.iter().map(|field| (*field, 0)).collect() });
    let provenances = Provenances::new(ledger.provenances()?, mappings);
    let pages_known = job.sources.iter().any(|source| source.reads_pages());
    let expected = Expected::of(job.sources, &arrivals);
    let same_reader = ledger.fact(READER)?.as_deref() == Some(&page::VERSION.to_string());
    let today = job.chooser.calendar.today();
    if !desk.chooser().archives.is_empty() {
        let before = archives::PagesBefore::read(ledger, &remembered, Some(today).filter(|_| same_reader))?;
        let derived = archives::archives(&mut arrivals, pages_known, expected.as_ref(), &provenances, before);
        outcomes.extend(derived.map_err(failed())?);
    }
    let blocks = arrivals.blocks();
    let terms = Terms {
        chooser: desk.chooser(),
        run: run as u32,
        shape: &job.shape,
        today,
        settings,
        same_reader,
        provenances: &provenances,
        telling: job.telling,
    };
    job.telling.accepted.forget_counts();
    let mut settled = settle(&mut arrivals, &remembered, expected.as_ref(), &terms).map_err(failed())?;
    for (source, problem) in std::mem::take(&mut settled.problems) {
        outcomes[usize::from(source)].late_problem(problem);
    }
    arrivals.drop_lanes(folder);
    remembered.drop_known(folder);
    let alternates = Alternates::find(&settled, &arrivals, job.alternates.as_ref(), job.telling);
    settled.judge(&arrivals, ledger, &remembered, &alternates, &terms)?;
    let renderer = Renderer { arrivals: &arrivals, shape: &job.shape, alternates: &alternates, style: job.place.style };
    let sections = &desk.chooser().sections;
    let site = arrange::Site { ledger, remembered: &remembered, sections, cut: &job.cut, renderer };
    let Some(plan) = arrange(&site, &mut settled)? else { return Ok(None) };
    arrivals.check(folder)?;
    arrivals.doubt(&settled.doubtful);
    let gone = gone(ledger, &remembered, &settled, &provenances)?;
    let was_index = ledger.fact(FORM)?.is_some();
    let first = last_run == 0;
    let mut found = Found {
        arrivals,
        blocks,
        remembered,
        knowing,
        settled,
        alternates,
        plan,
        outcomes,
        memories,
        live_robots,
        first,
        run,
        was_index,
        settings,
        before: Before::read(ledger)?,
        asides_stand: false,
        gone,
        returned: HashMap::new(),
        provenances,
    };
    found.returned = returned(&found, ledger)?;
    let stand = |name: String| {
        found.remembered.outputs.get(&name).is_some_and(|output| disk::holds(&job.place.path(&name), &output.on_disk))
    };
    found.asides_stand = found.remembered.planned.is_empty()
        && !found.first
        && found.is_unmoved()
        && same_people(job, ledger)?
        && standing_asides(&found.remembered).all(stand);
    Ok(Some(found))
}

/// Remembers how rows are known that came in another form and say the same, in segments that stay.
fn restate(found: &Found, writing: &crate::ledger::Writing<'_>) -> Result<(), StoreError> {
    let mut restated = found.settled.restated.iter().copied().peekable();
    let kept: HashSet<(i64, u32)> = found
        .plan
        .files
        .iter()
        .flat_map(|file| file.segments.iter().map(move |segment| (file.id, segment)))
        .filter_map(|(file, segment)| match segment {
            SegmentPlan::Kept(row) => Some((file?, row.number)),
            SegmentPlan::Made(_) => None,
        })
        .collect();
    for (file, segment) in found.remembered.segments(|_| true) {
        let range = segment.range();
        let mut raws = None;
        while let Some((at, raw)) = restated.next_if(|(at, _)| range.contains(&(*at as usize))) {
            if !kept.contains(&(file.id, segment.number)) {
                continue;
            }
            if raws.is_none() {
                raws = Some(writing.whole(file.id, segment.number, false)?.into_raws());
            }
            if let Some(raws) = &mut raws {
                let nth = (at as usize - range.start) * 8;
                raws[nth..nth + 8].copy_from_slice(&raw.to_le_bytes());
            }
        }
        if let Some(raws) = raws {
            writing.keep_raws(file.id, segment.number, &raws)?;
        }
    }
    Ok(())
}

/// The addresses of entries that are gone, read back from the text of their segments.
fn gone(
    ledger: &Ledger,
    remembered: &Remembered,
    settled: &Settled,
    provenances: &Provenances,
) -> Result<Vec<Departed>, StoreError> {
    let mut gone = settled.gone.clone();
    gone.sort_unstable_by_key(|gone| gone.prior);
    let mut gone = gone.into_iter().peekable();
    let mut departed = Vec::new();
    for (file, segment) in remembered.segments(|strand| strand == Strand::Pages) {
        let range = segment.range();
        if gone.peek().is_none_or(|gone| !range.contains(&(gone.prior as usize))) {
            continue;
        }
        let lane = ledger.lane(file.id, segment)?;
        let urls = crate::model::urls_of(&ledger.body(file.id, segment.number)?, segment.size)?;
        while let Some(gone) = gone.next_if(|gone| range.contains(&(gone.prior as usize))) {
            let nth = gone.prior as usize - range.start;
            let url = urls.get(nth).cloned().unwrap_or_default();
            // The configuration names its source no more: its page may well be there.
            let by_choice = gone.reason.is_none() && provenances.all_left(lane[nth].provenance);
            let change = gone.change.filter(|_| !by_choice);
            let LaneEntry { key, changed, page, declared, .. } = lane[nth];
            let departure = Departure { changed, page, declared };
            departed.push(Departed { key, url, gone: Gone { change, ..gone }, departure });
        }
    }
    Ok(departed)
}

/// Entries that are back as they were when they left: nothing is news about them to engines that were not told meanwhile.
fn returned(found: &Found, ledger: &Ledger) -> Result<HashMap<u128, u32>, StoreError> {
    if found.first || found.settled.counts.added.count() == 0 {
        return Ok(HashMap::new());
    }
    let departures = ledger.departures()?;
    if departures.is_empty() {
        return Ok(HashMap::new());
    }
    let added = found.added().into_iter();
    let back = added.filter_map(|(key, place)| {
        let (mark, before) = (found.arrivals.mark(place), departures.get(&key)?);
        let as_it_was = before.page != 0 && (before.page, before.declared) == (mark.page, mark.declared);
        as_it_was.then_some((key, before.changed))
    });
    Ok(back.collect())
}

/// Remembers what was learnt of files, for a run that writes nothing else.
fn learn(job: &Job<'_>, found: &Found, ledger: &mut Ledger) -> Result<(), StoreError> {
    let writing = ledger.transaction()?;
    keep_memories(job, found, &writing)?;
    writing.commit()
}

fn keep_memories(job: &Job<'_>, found: &Found, writing: &crate::ledger::Writing<'_>) -> Result<(), StoreError> {
    for (source, memory) in job.sources.iter().zip(&found.memories) {
        writing.remember(&source.name(), source.settings(), memory)?;
    }
    Ok(())
}

fn report(job: &Job<'_>, found: &Found, form: Form, fates: &[Fate], sizes: &[u64]) -> Survey {
    let (settled, plan) = (&found.settled, &found.plan);
    let sections =
        found.chooser().sections.list().iter().zip(&settled.counts.tallies).filter(|(_, tally)| tally.entries > 0);
    let sections = sections.map(|(section, tally)| SectionReport {
        name: section.name.clone(),
        entries: tally.entries,
        images: tally.images,
        videos: tally.videos,
        news: tally.news,
        newest: tally.newest,
        files: (plan.files.iter().zip(fates).zip(sizes))
            .filter(|((file, _), _)| file.section == section.name)
            .map(|((file, fate), bytes)| FileReport {
                address: format!("{}{}", job.place.address, job.place.listed_name(file, form)),
                strand: file.strand,
                entries: file.urls(),
                bytes: *bytes,
                fate: *fate,
            })
            .collect(),
    });
    let left_out = settled.counts.left_out.iter().map(|(reason, sample)| LeftOut {
        reason: *reason,
        words: reason.words(),
        counted: sample.counted(),
    });
    let counted = |known: bool| {
        let urls =
            || found.gone.iter().filter(move |one| one.gone.reason.is_some() == known).map(|one| one.url.clone());
        Counted { count: urls().count() as u64, examples: urls().take(job.telling.examples).collect() }
    };
    let changes = Changes {
        first: found.first,
        added: settled.counts.added.counted(),
        changed: settled.changed.counted(),
        removed: counted(false),
        left_out: counted(true),
        redesign: settled.redesign,
        remapped: (settled.remapped.iter())
            .map(|((source, change), entries)| Remapped { source: source.clone(), change: *change, entries: *entries })
            .collect(),
    };
    let waiting = Waiting { count: settled.counts.due.count, soonest: settled.counts.due.first.clone() };
    let tallies = settled.counts.sources.clone();
    let with_tally = |(at, outcome): (usize, Outcome)| {
        let tally = tallies.get(at).copied().unwrap_or_default();
        SourceReport { outcome, kept: tally.kept, left_out: tally.left_out }
    };
    Survey {
        main: job.place.main_address(),
        more_indexes: job.place.index_addresses(plan.files.len()).split_off(1),
        sections: sections.collect(),
        left_out: left_out.collect(),
        changes,
        waiting,
        sources: found.outcomes.iter().cloned().enumerate().map(with_tally).collect(),
        notices: notice_while_building(settled),
        accepted: job.telling.accepted.counts(),
        accepted_in_vain: Vec::new(),
        robots: RobotsFate::Unnamed,
        other_sitemaps: Vec::new(),
        held: Vec::new(),
    }
}

fn run_row(job: &Job<'_>, built: &Built) -> RunRow {
    let survey = &built.survey;
    RunRow {
        run: built.run,
        at: job.now.as_second(),
        counts: RunCounts {
            entries: survey.sections.iter().map(|section| section.entries).sum(),
            added: survey.changes.added.count,
            changed: survey.changes.changed.count,
            removed: survey.changes.removed.count,
            left_out: survey.left_out.iter().map(|left_out| left_out.counted.count).sum(),
            files_written: built.written.len() as u64,
        },
    }
}

/// Where the ledger of a site lives whose configuration is this file: beside it. A configuration by another name than the
/// usual one has a folder of its own inside, so that two sites in one folder never share a memory.
pub fn ledger_folder(configuration: &Path) -> PathBuf {
    let folder = configuration.parent().unwrap_or(Path::new("")).join(crate::ledger::FOLDER);
    match configuration.file_stem().filter(|stem| *stem != "idle-atlas") {
        Some(stem) => folder.join(stem),
        None => folder,
    }
}
