//! The command `announce`: tells engines what changed.

use atlas_core::announce::EngineState;
use atlas_core::lastmod::Lastmod;
use atlas_core::robots::Robots;
use atlas_io::engines::{
    Engine, EngineReport, EngineSettings, Telling, ToAnnounce, ToldSite, all_pending, left_alone, meet, would_wait,
};
use atlas_io::live::{Deployed, LiveSite};
use atlas_io::round::{self, Event, Round};
use atlas_store::destination::ROBOTS;
use atlas_store::ledger::{ByHand, Ledger, chosen};
use atlas_store::stop::Stop;

use super::{by_hand, keys, open_ledger, ownership, programs, travel};
use crate::config::Settings;
use crate::exit::{Exit, Failure};
use crate::screen::count;
use crate::session::Session;
use crate::view::build::Engines;
use crate::{args, view};

/// The most URLs that a dry run lists for an engine.
const MOST_LISTED: usize = 100_000;

pub fn run(settings: &Settings, arguments: &args::AnnounceArguments, session: &Session) -> Result<Exit, Failure> {
    if let Some(most) = arguments.by_hand {
        return by_hand::list(settings, most, session);
    }
    if !arguments.done.is_empty() {
        return by_hand::done(settings, &arguments.done, arguments.console.as_deref(), session);
    }
    let screen = &session.screen;
    if settings.engines.is_empty() {
        return Err(Failure::said(
            "the configuration names no engine; add one:\n\n[[engine]]\nname     = \"all-indexnow\"\nvia      = \"indexnow\"\nendpoint = \"https://api.indexnow.org/indexnow\"",
        ));
    }
    let mut ledger = open_ledger(settings, screen)?;
    if arguments.key_file {
        return keys::write_files(settings, &*ledger, arguments.renew, session);
    }
    if ledger.last_run()? == 0 {
        return Err(Failure::said("there is no build yet to announce; build first: idle-atlas build"));
    }
    let chosen = Choice::of(settings, &*ledger, arguments)?;
    if arguments.dry_run {
        return dry_run(settings, &*ledger, &chosen, session);
    }
    if arguments.all && !arguments.yes {
        chosen.ask_for_yes(settings, &*ledger)?;
    }
    match programs::when_built(settings, &mut *ledger, session)? {
        true => tell_all(settings, &mut *ledger, &chosen, session),
        false => Ok(Exit::InPart),
    }
}

/// Announces after a build, whatever became of it, once the programs that deal with changed files have done so.
pub fn after(settings: &Settings, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    let mut ledger = open_ledger(settings, screen)?;
    if !programs::when_built(settings, &mut *ledger, session)? {
        return Ok(Exit::InPart);
    }
    if !settings.engines.iter().any(|engine| engine.on) {
        let words = if settings.engines.is_empty() { "names no engine" } else { "has switched every engine off" };
        screen.show(&Vec::<EngineReport>::new(), || format!("\nNothing is announced: the configuration {words}.\n"))?;
        return Ok(Exit::Done);
    }
    if ledger.last_run()? == 0 {
        // There is nothing to announce, and why has been said.
        return Ok(Exit::Done);
    }
    screen.say("\n")?;
    let chosen = Choice::of(settings, &*ledger, &args::AnnounceArguments::default())?;
    tell_all(settings, &mut *ledger, &chosen, session)
}

/// The most URLs that `--all` announces without `--yes`.
const MOST_UNASKED: u64 = 10_000;

/// What a command announces, and to whom.
pub struct Choice<'s> {
    /// The engines that are switched on, as far as they are wanted.
    engines: Vec<&'s EngineSettings>,
    all: bool,
    by_hand: Option<ByHand>,
    /// Whether an engine that has failed is tried at once.
    at_once: bool,
}

impl<'s> Choice<'s> {
    pub fn of(
        settings: &'s Settings,
        ledger: &dyn Ledger,
        arguments: &args::AnnounceArguments,
    ) -> Result<Self, Failure> {
        let args::AnnounceArguments { urls, section, since, engine: named, all, .. } = arguments;
        if let Some(unknown) = named.iter().find(|name| !settings.engines.iter().any(|engine| engine.name == **name)) {
            let known: Vec<&str> = settings.engines.iter().map(|engine| engine.name.as_str()).collect();
            return Err(Failure::said(format!(
                "there is no engine “{unknown}”; the configuration names {}",
                known.join(", ")
            )));
        }
        let is_wanted = |engine: &&EngineSettings| engine.on && (named.is_empty() || named.contains(&engine.name));
        let urls = urls.iter().map(|url| {
            let address = settings.site.address(url).map_err(|error| Failure::said(error.to_string()))?;
            Ok(address.as_str().to_owned())
        });
        let urls: Vec<String> = urls.collect::<Result<_, Failure>>()?;
        let since = since.as_ref().map(|since| run_since(settings, ledger, since)).transpose()?;
        let is_by_hand = !urls.is_empty() || section.is_some() || since.is_some();
        let by_hand = ByHand { urls, section: section.clone(), since, all: *all };
        if !by_hand.urls.is_empty() || by_hand.section.is_some() {
            let (chosen, unknown) = chosen(ledger, &EngineState::default(), &by_hand)?;
            if let [first, rest @ ..] = &unknown[..] {
                let others = if rest.is_empty() { String::new() } else { format!(" and {} more", rest.len()) };
                return Err(Failure::said(format!(
                    "{first}{others}: no build has listed it, so nothing was announced; see why: idle-atlas why {first} --fresh"
                )));
            }
            if let Some(section) = section.as_ref().filter(|_| chosen.is_empty()) {
                return Err(Failure::said(format!(
                    "nothing is or was listed in a section “{section}”; the sections: idle-atlas survey"
                )));
            }
        }
        Ok(Self {
            engines: settings.engines.iter().filter(is_wanted).collect(),
            all: *all,
            by_hand: is_by_hand.then_some(by_hand),
            at_once: !named.is_empty(),
        })
    }

    /// The engines that are wanted.
    #[cfg(feature = "test-engine")]
    pub fn engines(&self) -> impl Iterator<Item = &'s EngineSettings> {
        self.engines.iter().copied()
    }

    pub fn wanted(&self) -> ToAnnounce<'_> {
        match &self.by_hand {
            Some(by_hand) => ToAnnounce::Chosen(by_hand),
            None if self.all => ToAnnounce::All,
            None => ToAnnounce::Due,
        }
    }

    /// An error if so much would be announced that it should not happen by mistake.
    fn ask_for_yes(&self, settings: &Settings, ledger: &dyn Ledger) -> Result<(), Failure> {
        for engine in self.engines.iter().filter(|engine| !engine.tells.of_files()) {
            let urls = all_pending(ledger, engine, &settings.names, self.wanted(), 1)?.count;
            if urls > MOST_UNASKED {
                return Err(Failure::said(format!(
                    "{} would be told of {}; add --yes if you want that, or look first: idle-atlas announce --all --dry-run",
                    engine.name,
                    count(urls, "URL", "URLs")
                )));
            }
        }
        Ok(())
    }
}

/// Looks whether the live robots.txt has other rules than the one here, which would undo them if it were copied there, or
/// has yet to be copied.
fn look_at_robots(settings: &Settings, live: &Deployed<'_>, session: &Session) -> Result<(), Failure> {
    let Some(path) = &settings.robots else { return Ok(()) };
    let Ok(Some(here)) = settings.destination().0.read(ROBOTS) else { return Ok(()) };
    let address = settings.site.of_host("/robots.txt");
    let Some(there) = live.body(address.as_str())? else { return Ok(()) };
    if !Robots::read(&there).says_the_same(&Robots::read(&here)) {
        let message = format!("{} and {} have different rules; the live one counts", address.as_str(), path.display());
        session.screen.complain("robots.txt", &message);
    }
    Ok(())
}

/// Whether one of these engines is told only of what the live site serves.
fn engines_wait(engines: &[&EngineSettings]) -> bool {
    engines.iter().any(|engine| engine.waits_until_live)
}

/// The first run at or after a date, or the run with this number.
pub fn run_since(settings: &Settings, ledger: &dyn Ledger, since: &str) -> Result<i64, Failure> {
    let last_run = ledger.last_run()?;
    if let Ok(run) = since.parse::<i64>() {
        if (1..=last_run).contains(&run) {
            return Ok(run);
        }
        return Err(Failure::said(format!("there is no run {run}; the last is {last_run}: idle-atlas history")));
    }
    let date = Lastmod::read(since, settings.timezone()).ok_or_else(|| {
        let message = "is neither a run nor a date; expected a number, or a date such as 2026-11-23";
        Failure::said(format!("--since: “{since}” {message}"))
    })?;
    let begin = settings.instants_of(&date).first().map_or_else(|| date.seconds(), |begin| begin.as_second());
    let runs = ledger.runs(usize::try_from(last_run).unwrap_or(usize::MAX))?;
    let first = runs.iter().take_while(|run| run.at >= begin).last();
    // If nothing was built since then, nothing has changed.
    Ok(first.map_or(last_run + 1, |run| run.run))
}

/// Tells all engines.
fn tell_all(
    settings: &Settings,
    ledger: &mut dyn Ledger,
    chosen: &Choice<'_>,
    session: &Session,
) -> Result<Exit, Failure> {
    let screen = &session.screen;
    meet(ledger, &settings.engines)?;
    keys::end_renewal(settings, ledger, session.now().as_second())?;
    let live = settings.deployed(session.now(), &session.stop)?;
    // An engine that cannot be told anything does not hold up the others.
    let (mut engines, mut results, mut failure) = (Vec::new(), Vec::new(), None);
    let on: Vec<&EngineSettings> = (chosen.engines.iter().copied())
        .filter(|engine| chosen.by_hand.is_none() || !engine.tells.of_files())
        .collect();
    for engine in &on {
        match connect(settings, ledger, engine, (Some(&live), &session.stop)) {
            Ok(connected) => engines.push(connected),
            Err(error) => {
                let kept = all_pending(ledger, engine, &settings.names, chosen.wanted(), 1)?.count;
                results.push(EngineReport::of_trouble(engine, kept, error.to_string()));
                failure = Some(error);
            }
        }
    }
    if let Some(failure) = failure.filter(|_| engines.is_empty() && on.len() == 1) {
        return Err(failure);
    }
    let telling = Telling {
        wanted: chosen.wanted(),
        at_once: chosen.at_once,
        live: Some(&live),
        ..Telling::due(&settings.names)
    };
    travel::keep_answers(settings, ledger)?;
    let round = Round { job: None, engines: &engines, telling };
    round::run(&round, ledger, (&*session.clock, &session.stop), |event| {
        if let Event::Told(told) = event {
            results.push(*told);
        }
    })?;
    // Those in trouble come last; the report keeps the order of the configuration.
    results.sort_by_key(|told| on.iter().position(|engine| engine.name == told.engine));
    let sum = |of: fn(&EngineReport) -> u64| results.iter().map(of).sum::<u64>();
    screen.count(&[
        ("taken", sum(|told| told.taken)),
        ("refused", sum(|told| told.refused)),
        ("kept", sum(|told| told.kept)),
    ]);
    if engines_wait(&on) {
        ownership::look(settings, &live, session)?;
        look_at_robots(settings, &live, session)?;
    }
    let off = off(settings);
    screen.show(&results, || view::announce::told(&results, &off, &screen.layout(settings)))?;
    if let Some((told, all)) = results.iter().find_map(|told| Some((told, told.stopped?))) {
        let done = told.messages.len();
        let message = format!(
            "after {done} of {}; the rest will be sent by the next: idle-atlas announce",
            count(all, "message", "messages")
        );
        screen.complain("stopped", &message);
        return Ok(Exit::Interrupted);
    }
    let is_overdue = |told: &EngineReport| told.not_live.as_ref().is_some_and(|report| report.is_overdue);
    let is_in_part = |told: &EngineReport| told.refused + told.kept > 0 || told.problem.is_some() || is_overdue(told);
    Ok(Exit::in_part(results.iter().any(is_in_part)))
}

fn dry_run(settings: &Settings, ledger: &dyn Ledger, chosen: &Choice<'_>, session: &Session) -> Result<Exit, Failure> {
    let mut plans = Vec::new();
    let (now, screen) = (session.now().as_second(), &session.screen);
    for engine in &chosen.engines {
        let pending = all_pending(ledger, engine, &settings.names, chosen.wanted(), MOST_LISTED)?;
        let alone = left_alone(ledger, &engine.name, now)?.filter(|alone| alone.is_asked || !chosen.at_once);
        let has_key = !engine.via.wants_key || keys::of(settings, ledger, engine)?.is_some();
        let waiting = would_wait(ledger, engine, &settings.names, chosen.wanted(), now)?;
        plans.push(view::announce::AnnouncePlan::new(engine, pending, (alone, waiting), has_key));
    }
    let off = off(settings);
    screen.show(&plans, || view::announce::plans(&plans, &off, &screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// The names of engines that are switched off.
fn off(settings: &Settings) -> Vec<&str> {
    settings.engines.iter().filter(|engine| !engine.on).map(|engine| engine.name.as_str()).collect()
}

/// Prepares to tell an engine.
pub fn connect(
    settings: &Settings,
    ledger: &dyn Ledger,
    engine: &EngineSettings,
    (live, stop): (Option<&dyn LiveSite>, &Stop),
) -> Result<Engine, Failure> {
    let key = if engine.via.wants_key { Some(keys::published(settings, ledger, engine, live)?) } else { None };
    let site = ToldSite { site: &settings.site, names: &settings.names, key: key.as_ref(), stop };
    Ok(Engine::connect(engine, &site)?)
}

/// What a build should say about engines.
pub fn after_a_build(settings: &Settings, ledger: &dyn Ledger) -> Result<Engines, Failure> {
    if !settings.engines.iter().any(|engine| engine.on) {
        return Ok(Engines::None);
    }
    let (mut waiting, last_run) = (false, ledger.last_run()?);
    for engine in settings.engines.iter().filter(|engine| engine.on) {
        if engine.via.wants_key && keys::of(settings, ledger, engine)?.is_none() {
            return Ok(Engines::WithoutKey);
        }
        // Whether something is left from before the last build.
        let is_behind = |state: &EngineState| !state.runs.is_empty() || state.watermark < last_run - 1;
        if ledger.engine(&engine.name)?.as_ref().is_some_and(is_behind) {
            waiting |= all_pending(ledger, engine, &settings.names, ToAnnounce::Due, 1)?.count > 0;
        }
    }
    Ok(Engines::Ready { waiting })
}
