//! The command `watch`: builds and announces whenever something changes, until it is stopped.
//!
//! Each site has a thread of its own, so that one in trouble does not hold up another. A round is a process that does
//! `build --announce`; its documents become lines of the log.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use atlas_core::lastmod::Lastmod;
use atlas_io::watch::{FileWatch, FilesChanged, RoundEnd, Schedule, Wake};
use atlas_store::clock::{Clock, RunningClock};
use atlas_store::ledger;
use atlas_store::stop::Stop;
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;

use super::round_process::{self, RoundProblem, RoundResult};
use super::serve;
use super::units;
use crate::args::{self, LogForm, Shared};
use crate::config::{self, Settings};
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
use crate::view::watch::{self as view, Line, Log};

/// How often the stop token and the clock are looked at.
const GLANCE: Duration = Duration::from_millis(500);
/// How long the system may take to tell of a change.
const SETTLE: Duration = Duration::from_millis(50);
/// How often sources are asked that cannot be watched, unless the configuration says otherwise.
const EVERY: SignedDuration = SignedDuration::from_hours(1);
/// How often it is tried to watch what could not be watched.
const AGAIN: SignedDuration = SignedDuration::from_mins(1);
/// How often an engine is tried whose settings have to be mended.
const MEND: SignedDuration = SignedDuration::from_hours(1);

pub fn run(arguments: &args::WatchArguments, shared: &Shared, session: &Session) -> Result<Exit, Failure> {
    let paths = config::named(shared)?;
    if let Some(kind) = arguments.unit {
        return units::run(kind, arguments.into.as_deref(), &paths, shared, session);
    }
    session.stop.heed();
    let stop = session.stop.clone();
    // A clock that was set goes on from there.
    let clock: Arc<dyn Clock> = match session.clock.is_set() {
        true => Arc::new(RunningClock::from(session.now())),
        false => Arc::clone(&session.clock),
    };
    let watched = |path: &Path| {
        let is_one_of_several = paths.len() > 1;
        let named = (!shared.config.is_empty()).then_some(path);
        let screen = Screen::new(shared).for_site(named);
        let log = Log {
            screen: screen.clone(),
            json: shared.json || arguments.log == LogForm::Json,
            site: is_one_of_several.then(|| path.display().to_string()),
            zone: jiff::tz::TimeZone::UTC,
        };
        let session = Session { screen, clock: Arc::clone(&clock), stop: stop.clone() };
        let mut site = WatchedSite::new(path, log, session, arguments.once);
        match site.run(!is_one_of_several) {
            Ok(exit) => Ok(exit),
            // Nobody reads the log any more.
            Err(Failure::PipeClosed) => Ok(Exit::Done),
            Err(failure) if is_one_of_several => {
                site.say(Line::new("failed", failure.to_string()))?;
                Ok(Exit::NotDone)
            }
            Err(failure) => Err(failure),
        }
    };
    if arguments.serve {
        let [path] = &paths[..] else {
            return Err(Failure::said("--serve is for one site; start a process for each"));
        };
        return watched_and_served(arguments, path, (shared, &session.stop), watched);
    }
    if let [path] = &paths[..] {
        return watched(path);
    }
    thread::scope(|scope| {
        let threads: Vec<_> = paths.iter().map(|path| scope.spawn(|| watched(path))).collect();
        let ends = threads.into_iter().map(|thread| thread.join().unwrap_or(Ok(Exit::NotDone)));
        ends.collect::<Result<Vec<Exit>, Failure>>().map(|ends| ends.into_iter().max().unwrap_or(Exit::Done))
    })
}

/// Watches a site and serves it in the same process. Either ends the other.
fn watched_and_served(
    arguments: &args::WatchArguments,
    path: &Path,
    (shared, stop): (&Shared, &Stop),
    watched: impl Fn(&Path) -> Result<Exit, Failure>,
) -> Result<Exit, Failure> {
    let settings = config::load_from(path)?;
    thread::scope(|scope| {
        let serving = scope.spawn(|| {
            let served = serve::serving(&settings, &arguments.addresses, stop, |addresses| {
                Screen::new(shared).complain("serving", &format!("http://{}", addresses.files));
            });
            stop.ask();
            served
        });
        let exit = watched(path);
        stop.ask();
        let served = serving.join().unwrap_or_else(|_| Err(Failure::said("serving stopped because of a bug")));
        served.and(exit)
    })
}

/// Watches a site for the demo, by a clock and until it is asked to stop.
#[cfg(feature = "test-engine")]
pub fn for_a_story(path: &Path, session: &Session, clock: Arc<dyn Clock>, stop: Stop) -> Result<(), Failure> {
    let screen = session.screen.clone();
    let log = Log { screen: screen.clone(), json: screen.holds_back(), site: None, zone: jiff::tz::TimeZone::UTC };
    let session = Session { screen, clock, stop };
    WatchedSite::new(path, log, session, false).run(true).map(drop)
}

/// A site that is watched.
struct WatchedSite {
    path: PathBuf,
    log: Log,
    session: Session,
    once: bool,
    rounds: u64,
    /// What falls due next, in words, as of the last build.
    due: Option<String>,
    /// What was last said of the next round.
    announced: Option<(Timestamp, Wake)>,
}

/// What is known of a site as long as its configuration stays the same.
struct Watched {
    settings: Settings,
    schedule: Schedule,
    files: Option<FileWatch>,
    /// The folders and files that are watched.
    wanted: Vec<PathBuf>,
    /// When it was last tried to watch them, and since when they are not watched.
    tried: Timestamp,
    unwatched_since: Timestamp,
}

impl WatchedSite {
    fn new(path: &Path, log: Log, session: Session, once: bool) -> Self {
        Self { path: path.to_owned(), log, session, once, rounds: 0, due: None, announced: None }
    }

    fn say(&self, line: Line) -> Result<(), Failure> {
        self.log.say(self.session.now(), line)
    }

    /// Watches until it is asked to stop. `must_load`: a configuration that cannot be read at the start is an error.
    fn run(&mut self, must_load: bool) -> Result<Exit, Failure> {
        let loaded = match config::load_from(&self.path) {
            Err(failure) if must_load || self.once => return Err(failure),
            loaded => loaded,
        };
        let mut watched = match loaded {
            Ok(settings) => self.watch(settings)?,
            Err(failure) => match self.await_configuration(&failure)? {
                Some(settings) => self.watch(settings)?,
                None => return Ok(Exit::NotDone),
            },
        };
        if self.once {
            return Ok(self.round(&mut watched, Wake::Start, &FilesChanged::default())?.0);
        }
        let mut changed = FilesChanged::default();
        while !self.session.stop.is_asked() {
            let now = self.session.now();
            match watched.schedule.next(now) {
                Some((at, wake)) if at <= now => {
                    let before = std::mem::take(&mut changed);
                    if watched.lost_a_folder(&before) {
                        watched.files = self.watch_files(&watched.settings, &watched.wanted)?;
                        watched.unwatched_since = now;
                    }
                    if let (_, Some(more)) = self.round(&mut watched, wake, &before)? {
                        self.hear(&mut watched, more, &mut changed)?;
                    }
                }
                next => {
                    let wait = next.map_or(GLANCE, |(at, _)| {
                        Duration::try_from(at.duration_since(now)).unwrap_or_default().min(GLANCE)
                    });
                    let heard = match &watched.files {
                        Some(files) => files.wait(wait),
                        None => {
                            thread::sleep(wait);
                            self.watch_again(&mut watched)?
                        }
                    };
                    self.hear(&mut watched, heard, &mut changed)?;
                }
            }
        }
        self.say(view::ends(self.rounds))?;
        Ok(Exit::Done)
    }

    /// Waits until a configuration that could not be read can be.
    fn await_configuration(&self, failure: &Failure) -> Result<Option<Settings>, Failure> {
        self.say(Line::new("failed", failure.to_string()))?;
        let mut told = failure.to_string();
        while !self.session.stop.is_asked() {
            thread::sleep(GLANCE);
            match config::load_from(&self.path) {
                Ok(settings) => return Ok(Some(settings)),
                Err(failure) if failure.to_string() != told => {
                    told = failure.to_string();
                    self.say(Line::new("failed", told.clone()))?;
                }
                Err(_) => {}
            }
        }
        Ok(None)
    }

    /// Begins to watch a site.
    fn watch(&mut self, settings: Settings) -> Result<Watched, Failure> {
        self.log.zone = settings.timezone().clone();
        let (reads, mut asked) = settings.reads();
        if !settings.programs.before_build.is_empty() {
            // A generator may hold back a page that is scheduled, so that nobody knows of it.
            asked.push("what before_build would make".to_owned());
        }
        let mut wanted: Vec<PathBuf> = reads.into_iter().chain(settings.watching.also.iter().cloned()).collect();
        wanted.sort();
        wanted.dedup();
        let shared = settings.extends.as_ref().map(|(path, _)| path);
        let own = [Some(&settings.path), shared, settings.robots.as_ref(), Some(&settings.known_findings)];
        let paths = wanted.len();
        wanted.extend(own.into_iter().flatten().cloned());
        let files = if self.once { None } else { self.watch_files(&settings, &wanted)? };
        let needs_asking = !asked.is_empty() || files.is_none();
        let every = settings.watching.every.or(needs_asking.then_some(EVERY));
        if !self.once {
            self.say(view::watching(paths, &asked, every))?;
        }
        let schedule = Schedule::new(settings.watching.quiet, every);
        let now = self.session.now();
        Ok(Watched { settings, schedule, files, wanted, tried: now, unwatched_since: now })
    }

    /// Watches files. If that is not possible, the site is built at intervals.
    fn watch_files(&self, settings: &Settings, wanted: &[PathBuf]) -> Result<Option<FileWatch>, Failure> {
        match FileWatch::new(wanted, &settings.ledger) {
            Ok(files) => Ok(Some(files)),
            Err(why) => {
                self.say(Line::new("problem", format!("{why}. Until then, the site is built at intervals")))?;
                Ok(None)
            }
        }
    }

    /// Tries again to watch what could not be watched. Once that works, or an hour has gone by, anything may have changed.
    fn watch_again(&self, watched: &mut Watched) -> Result<FilesChanged, Failure> {
        let now = self.session.now();
        if now.duration_since(watched.tried) < AGAIN {
            return Ok(FilesChanged::default());
        }
        watched.tried = now;
        watched.files = FileWatch::new(&watched.wanted, &watched.settings.ledger).ok();
        let is_an_hour_over = now.duration_since(watched.unwatched_since) >= EVERY;
        if is_an_hour_over {
            watched.unwatched_since = now;
        }
        if watched.files.is_some() {
            self.say(Line::new("watching", "the files can be watched again"))?;
        }
        Ok(FilesChanged { is_more: watched.files.is_some() || is_an_hour_over, ..FilesChanged::default() })
    }

    /// Takes note of changes.
    fn hear(&mut self, watched: &mut Watched, heard: FilesChanged, all: &mut FilesChanged) -> Result<(), Failure> {
        if heard.is_empty() {
            return Ok(());
        }
        let is_configuration = |path: &PathBuf| same(path, &watched.settings.path);
        if heard.paths.iter().any(is_configuration) {
            // Whoever writes it may not be done.
            thread::sleep(SETTLE);
            let name = watched.settings.path.display().to_string();
            match config::load_from(&self.path) {
                Ok(settings) => {
                    self.say(Line::new("configuration", format!("{name} has changed and is used from now on")))?;
                    *watched = self.watch(settings)?;
                }
                Err(failure) => {
                    let words = format!("{failure}. The configuration from before stays in use");
                    self.say(Line::new("configuration", words))?;
                }
            }
        }
        let is_other = |path: &&PathBuf| !same(path, &watched.settings.path);
        if heard.paths.iter().any(|path| is_other(&path)) || heard.is_more {
            watched.schedule.change(self.session.now());
            all.is_more |= heard.is_more;
            all.paths.extend(heard.paths.iter().filter(is_other).cloned());
        }
        Ok(())
    }

    /// Builds and announces. Returns what has changed meanwhile, apart from what the round itself wrote.
    fn round(
        &mut self,
        watched: &mut Watched,
        wake: Wake,
        changed: &FilesChanged,
    ) -> Result<(Exit, Option<FilesChanged>), Failure> {
        let folder = watched.settings.path.canonicalize().ok();
        let folder = folder.as_ref().and_then(|path| path.parent());
        let shown = |path: &PathBuf| {
            let below = folder.and_then(|folder| path.strip_prefix(folder).ok());
            below.unwrap_or(path).display().to_string()
        };
        let paths: Vec<String> = changed.paths.iter().map(shown).collect();
        self.say(view::begins(wake, &paths, changed.is_more))?;
        watched.schedule.begin(wake);
        self.rounds += 1;
        let result = self.build_and_announce(&watched.settings, wake)?;
        let (exit, (end, due)) = (result.exit, self.round_end(&watched.settings, &result));
        if wake != Wake::Announce {
            self.due = due;
        }
        watched.schedule.end(wake, end, self.session.now());
        if !self.once
            && let Some((at, wake)) = watched.schedule.next(self.session.now())
            && matches!(wake, Wake::Due | Wake::Retry | Wake::Announce)
            && self.announced != Some((at, wake))
        {
            self.announced = Some((at, wake));
            self.say(view::next(at, wake, self.due.as_deref(), &self.log.zone))?;
        }
        let Some(files) = &watched.files else { return Ok((exit, None)) };
        thread::sleep(SETTLE);
        let mut more = files.wait(Duration::ZERO);
        more.paths.retain(|path| !watched.is_our_doing(path));
        Ok((exit, Some(more)))
    }

    /// Does what `build --announce` does, or `announce`, and says what became of it.
    fn build_and_announce(&self, settings: &Settings, wake: Wake) -> Result<RoundResult, Failure> {
        let result = round_process::run(settings, wake, view::started_by(self.once), &self.session)?;
        if !result.built.is_null() {
            let ledger = ledger::open_for_reading(&settings.ledger).ok().flatten();
            let run = ledger.and_then(|ledger| ledger.runs(1).ok()?.into_iter().next());
            self.say(view::built(&result.built, run.map_or(0, |run| run.took_ms)))?;
        }
        // What a failed or held build says of itself has been said.
        let is_said =
            |problem: &&RoundProblem| problem.what == "held back" || result.built["error"] == problem.message.as_str();
        for problem in result.problems.iter().filter(|problem| !is_said(problem)) {
            self.say(view::problem(&problem.what, &problem.message))?;
        }
        for report in result.told.as_array().into_iter().flatten() {
            for line in view::told(report, &self.log.zone) {
                self.say(line)?;
            }
        }
        Ok(result)
    }

    /// What the next round depends on, and what falls due then, in words.
    fn round_end(&self, settings: &Settings, result: &RoundResult) -> (RoundEnd, Option<String>) {
        let now = self.session.now();
        let RoundResult { built, told, .. } = result;
        let is_held = !built.is_null() && built["run"].is_null();
        let soonest = built["waiting"]["soonest"].as_array().into_iter().flatten();
        let due = soonest.filter_map(|entry| {
            let date = Lastmod::read(entry["at"].as_str()?, settings.timezone())?;
            let instant = settings.instants_of(&date).into_iter().find(|instant| *instant > now)?;
            let then = if entry["to"] == "leave" { "expires" } else { "is listed" };
            let url = entry["url"].as_str()?;
            Some((instant, format!("{} {then}", url.strip_prefix(settings.site.root().origin()).unwrap_or(url))))
        });
        let due = due.min();
        let reports = || told.as_array().into_iter().flatten();
        let instant = |value: &Value| value.as_str().and_then(|text| text.parse::<Timestamp>().ok());
        let announce = reports().flat_map(|report| {
            let asked = instant(&report["left_alone"]["until"]);
            let waiting = report["waiting"].as_array().into_iter().flatten().filter_map(|one| instant(&one["until"]));
            let is_kept = report["kept"].as_u64().is_some_and(|kept| kept > 0) && report["problem"].is_null();
            let mend = (asked.is_none() && is_kept).then(|| now + MEND);
            asked.into_iter().chain(waiting).chain(mend).collect::<Vec<_>>()
        });
        let waits = |report: &Value| report["not_live"]["waiting"].as_u64().is_some_and(|waiting| waiting > 0);
        let end = RoundEnd {
            has_failed: is_held,
            due: due.as_ref().map(|(instant, _)| *instant),
            announce: announce.min(),
            waits_for_live: reports().any(waits),
        };
        (end, due.map(|(_, words)| words))
    }
}

impl Watched {
    /// Whether a change that was noticed during a round is that of the round itself.
    fn is_our_doing(&self, path: &Path) -> bool {
        // A generator writes what sources read, and reads what is watched besides.
        let is_generated = || {
            let also = self.settings.watching.also.iter().filter_map(|also| also.canonicalize().ok());
            !self.settings.programs.before_build.is_empty() && !also.into_iter().any(|also| path.starts_with(also))
        };
        !same(path, &self.settings.path) && (self.settings.writes(path) || is_generated())
    }

    /// Whether a folder that is watched was removed or made again.
    fn lost_a_folder(&self, changed: &FilesChanged) -> bool {
        changed.is_more || self.wanted.iter().any(|wanted| changed.paths.iter().any(|path| same(path, wanted)))
    }
}

/// Whether a path, whole, is that of a file or folder as it was typed.
fn same(path: &Path, typed: &Path) -> bool {
    path.file_name() == typed.file_name()
        && match (path.parent(), typed.parent()) {
            (Some(folder), Some(typed)) => {
                let typed = if typed.as_os_str().is_empty() { Path::new(".") } else { typed };
                typed.canonicalize().is_ok_and(|typed| typed == folder)
            }
            _ => false,
        }
}
