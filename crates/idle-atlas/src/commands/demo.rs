//! The command `demo`: the whole job on the sample site, from start to end.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use atlas_io::test_engine::{Mood, TestEngine, TestEngineSettings, serve};
use atlas_store::clock::{Clock, RunningClock};
use atlas_store::stop::Stop;
use include_dir::{Dir, include_dir};
use jiff::{SignedDuration, Timestamp};

use super::{announce, build, check, init, report, survey, uptake, watch};
use crate::config::{self, NAME};
use crate::exit::{Exit, Failure};
use crate::screen::{FAINT, STRONG, count};
use crate::session::Session;
use crate::{args, view};

/// The sample site: the Marrow Vale Light Railway, invented from its first sleeper to its last.
static SAMPLE: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/sample");

const HOST: &str = "www.marrowvale.example";

/// What the demo adds to the configuration that `init` writes.
const ADDED: &str = include_str!("demo.toml");

pub fn run(demo: &args::DemoArguments, session: &Session) -> Result<Exit, Failure> {
    let folder = new_folder(demo.folder.as_deref())?;
    let screen = &session.screen;
    let story = Story { folder, session: session.on(screen.for_a_story()) };
    story.tell()?;
    if screen.wants_json() {
        let steps = story.session.screen.collected();
        screen.show(&serde_json::json!({ "folder": story.folder, "steps": steps }), String::new)?;
    }
    Ok(Exit::Done)
}

fn new_folder(wanted: Option<&Path>) -> Result<PathBuf, Failure> {
    let failed = |error: std::io::Error| Failure::said(format!("cannot make a folder for the demo: {error}"));
    let Some(folder) = wanted else {
        return Ok(tempfile::Builder::new().prefix("idle-atlas-demo-").tempdir().map_err(failed)?.keep());
    };
    let is_free = !folder.exists() || fs::read_dir(folder).is_ok_and(|mut names| names.next().is_none());
    if !is_free {
        return Err(Failure::said(format!("{} is not empty; name a new folder for the demo", folder.display())));
    }
    fs::create_dir_all(folder).map_err(failed)?;
    fs::canonicalize(folder).map_err(failed)
}

/// The application that serves the pages of photographs: each has the caption that the table has.
fn gallery(folder: &Path) -> impl Fn(&str) -> Option<String> + use<> {
    let table = fs::read_to_string(folder.join("photographs.csv")).unwrap_or_default();
    let row = |line: &str| {
        let (slug, rest) = line.split_once(',')?;
        Some((format!("/photographs/{slug}/"), rest.split(',').next()?.to_owned()))
    };
    let captions: HashMap<String, String> = table.lines().skip(1).filter_map(row).collect();
    move |path| {
        let caption = captions.get(path)?;
        Some(format!(
            "<!doctype html>\n<html lang=\"en-GB\"><head><title>{caption}</title></head><body><main><h1>{caption}</h1></main></body></html>\n"
        ))
    }
}

/// The requests of the test engine, as the web server of the site logs them.
const ACCESS_LOG: &str = "access.log";
/// What the test engine's console exports: pages, and sitemap files.
const EXPORTS: [&str; 2] = ["lamp-pages.csv", "lamp-sitemaps.csv"];
/// The page with the state of the site.
const REPORT: &str = "railway-report.html";

const FARES: &str = "fares/index.html";
const FROST: &str = "journal/frost-on-the-cutting/index.html";

/// Adds a line to a page.
fn edit(public: &Path, page: &str, line: &str) -> std::io::Result<()> {
    let path = public.join(page);
    let text = fs::read_to_string(&path)?;
    fs::write(&path, text.replacen("</main>", &format!("<p>{line}</p>\n</main>"), 1))
}

/// Writes a piece of news with this name, title and text, published at an instant.
fn publish(public: &Path, (name, title, text): (&str, &str, &str), at: Timestamp) -> std::io::Result<()> {
    let folder = public.join("news").join(name);
    fs::create_dir_all(&folder)?;
    let page = format!(
        "<!doctype html>\n<html lang=\"en-GB\"><head><title>{title}</title>\n<meta property=\"article:published_time\" content=\"{at}\"></head>\n<body><main><h1>{title}</h1><p>{text}</p></main></body></html>\n"
    );
    fs::write(folder.join("index.html"), page)
}

/// What happens while the site is watched.
struct Events<'e> {
    engine: &'e TestEngine,
    public: &'e Path,
    clock: &'e RunningClock,
    /// The token of the watch, and that of the demo.
    stop: (&'e Stop, &'e Stop),
}

impl Events<'_> {
    fn happen(&self) -> std::io::Result<()> {
        let ended = self.one_after_the_other();
        self.stop.0.ask();
        ended
    }

    fn one_after_the_other(&self) -> std::io::Result<()> {
        let before = self.engine.received().len();
        self.pause(1_500);
        edit(self.public, FARES, "And a platform ticket is a penny.")?;
        self.await_messages(before + 1);
        let due = self.clock.now() + SignedDuration::from_mins(30);
        let text = "The first train of the year leaves at ten.";
        publish(self.public, ("new-year-special", "New Year special", text), due)?;
        self.pause(2_500);
        self.clock.advance(SignedDuration::from_mins(31));
        self.await_messages(before + 2);
        self.engine.set_mood(Mood::Status(503));
        edit(self.public, FROST, "The points were frozen until noon.")?;
        // It is tried three times, and then left alone for a while.
        self.await_messages(before + 5);
        self.pause(700);
        self.engine.set_mood(Mood::Fair);
        self.clock.advance(SignedDuration::from_mins(2));
        self.await_messages(before + 6);
        self.pause(700);
        Ok(())
    }

    /// Waits until the engine has received so many messages, but not for ever.
    fn await_messages(&self, number: usize) {
        for _ in 0..60 {
            if self.engine.received().len() >= number || self.is_over() {
                break;
            }
            thread::sleep(Duration::from_millis(100));
        }
        self.pause(300);
    }

    fn pause(&self, milliseconds: u64) {
        for _ in 0..milliseconds.div_ceil(100) {
            if self.is_over() {
                break;
            }
            thread::sleep(Duration::from_millis(100));
        }
    }

    fn is_over(&self) -> bool {
        self.stop.0.is_asked() || self.stop.1.is_asked()
    }
}

/// The demo under way.
struct Story {
    folder: PathBuf,
    session: Session,
}

impl Story {
    fn tell(&self) -> Result<(), Failure> {
        SAMPLE.extract(&self.folder).map_err(|error| Failure::said(format!("cannot copy the sample site: {error}")))?;
        let public = self.folder.join("public");
        let site = serve::site(&public, gallery(&self.folder))
            .map_err(|error| Failure::said(format!("cannot serve on loopback: {error}")))?;
        let reach = HashMap::from([(HOST.to_owned(), site.address())]);
        let access_log = Some(self.folder.join(ACCESS_LOG));
        let settings = TestEngineSettings { reach, access_log, ..TestEngineSettings::fair() };
        let engine = TestEngine::start(settings)
            .map_err(|error| Failure::said(format!("cannot listen on loopback: {error}")))?;

        self.say(&format!(
            "The Marrow Vale Light Railway wants its website to be found. Its files are in\n{}; a web server and a test engine run on this machine.\n",
            self.folder.display()
        ))?;
        self.begin(&engine, &site)?;
        self.first_build()?;
        self.first_announcement(&engine)?;
        self.a_day_at_the_railway(&public)?;
        self.second_build(&engine)?;
        self.by_itself(&engine, &public)?;
        self.picked_up(&engine)?;
        self.look_back()?;
        self.end()
    }

    fn begin(&self, engine: &TestEngine, site: &serve::Served) -> Result<(), Failure> {
        self.step("1. Describe the site", "init public")?;
        let arguments = args::InitArguments {
            folder: Some("public".into()),
            from: Vec::new(),
            url: None,
            engine: engine.endpoint(),
        };
        let found = init::write(&self.folder, Path::new(NAME), &arguments, &self.session.stop)?;
        self.session.screen.show(&found, || view::init::site(&found))?;
        let path = self.folder.join(NAME);
        // The site is reached on this machine, as a server behind a proxy would be.
        let reached = format!("[site]\nreached_at = \"http://{}\"", site.address());
        let text = fs::read_to_string(&path).unwrap_or_default().replacen("[site]", &reached, 1) + ADDED;
        self.write(NAME, &text)?;
        self.say("Added by hand: a table of photographs, a rule that keeps /staff/ out, archives, news, a page for visitors, a feed.\n")
    }

    fn first_build(&self) -> Result<(), Failure> {
        self.step("2. Look before anything is written", "survey")?;
        let found = survey::whole(&self.settings()?, false, &self.session)?;
        self.step("3. Write the files", "build")?;
        build::after_survey(&self.settings()?, &found, &self.session)?;
        self.step("4. Read them back as an engine does", "check")?;
        check::run(&self.settings()?, &args::CheckArguments::default(), &self.session)?;
        Ok(())
    }

    fn first_announcement(&self, engine: &TestEngine) -> Result<(), Failure> {
        self.step("5. Make a key, and tell the engine about the whole site, once", "announce --key-file")?;
        self.announce(false, true)?;
        self.command("announce --all")?;
        self.announce(true, false)?;
        let urls: usize = engine.received().iter().map(|received| received.urls.len()).sum();
        self.say(&format!("The engine says that it has received {}.\n", count(urls as u64, "URL", "URLs")))
    }

    /// Two pages are edited, one is added, one removed.
    fn a_day_at_the_railway(&self, public: &Path) -> Result<(), Failure> {
        self.say(&format!(
            "\n{STRONG}A day at the railway{STRONG:#}: the fares go up, the journal corrects a date, a newsletter appears, a notice goes.\n"
        ))?;
        let failed = |error: std::io::Error| Failure::said(format!("cannot edit the sample site: {error}"));
        edit(public, FARES, "From January a day ticket is nine shillings.").map_err(failed)?;
        edit(public, FROST, "Correction: the frost was on the ninth.").map_err(failed)?;
        let notice = public.join("news/lamp-oil-delivery");
        fs::remove_dir_all(&notice).map_err(failed)?;
        let text = "The shed is warm and the kettle is on.";
        publish(public, ("winter-newsletter", "Winter newsletter", text), self.session.now()).map_err(failed)
    }

    fn second_build(&self, engine: &TestEngine) -> Result<(), Failure> {
        let before = engine.received().len();
        self.step("6. Build again: only what changed is written", "build")?;
        self.build()?;
        self.step("7. Tell the engine: only what changed is announced", "announce")?;
        self.announce(false, false)?;
        let urls: usize = engine.received()[before..].iter().map(|received| received.urls.len()).sum();
        self.say(&format!("The engine says that it has received another {}.\n", count(urls as u64, "URL", "URLs")))?;
        self.step("8. And once more, with nothing changed", "build")?;
        self.build()?;
        self.step("9. There is nothing left to announce", "announce")?;
        self.announce(false, false)
    }

    /// For a few seconds, the site is watched: the fares are edited, an article falls due, and the engine goes away for a
    /// while and comes back.
    fn by_itself(&self, engine: &TestEngine, public: &Path) -> Result<(), Failure> {
        self.step("10. Let it run by itself, for a few seconds", "watch")?;
        self.say("The fares go up again; an article is scheduled for half an hour later; and the engine goes away for a while. The clock is set forward where nobody wants to wait.\n\n")?;
        let (clock, stop) = (RunningClock::from(self.session.now()), Stop::default());
        let watched = Arc::new(clock.clone());
        let events = Events { engine, public, clock: &clock, stop: (&stop, &self.session.stop) };
        thread::scope(|scope| {
            let happening = scope.spawn(|| events.happen());
            let ended = watch::for_a_story(&self.folder.join(NAME), &self.session, watched, stop.clone());
            // Whatever ended the watch ends the events.
            stop.ask();
            let happened =
                happening.join().unwrap_or_else(|_| Err(std::io::Error::other("the events of the demo ended early")));
            ended.and(happened.map_err(|error| Failure::said(format!("cannot edit the sample site: {error}"))))
        })
    }

    /// What the engine has picked up, and why not the rest.
    fn picked_up(&self, engine: &TestEngine) -> Result<(), Failure> {
        self.say(&format!("\n{STRONG}11. What the engine has picked up, and why not the rest{STRONG:#}\n"))?;
        let settings = self.settings()?;
        let seen = engine.crawl(settings.site.root(), &self.session.stop);
        let seen = seen.map_err(|error| Failure::said(format!("the test engine cannot crawl: {error}")))?;
        let layout = self.session.screen.layout(&settings);
        self.session.screen.show(&seen, || view::rehearsal::seen_by_engine(&seen, &layout))?;
        let now = self.session.now().to_string();
        for (name, text) in EXPORTS.into_iter().zip(view::rehearsal::exports(&seen, &now)) {
            self.write(name, &text)?;
        }
        Ok(())
    }

    fn write(&self, name: &str, text: &str) -> Result<(), Failure> {
        let path = self.folder.join(name);
        fs::write(&path, text).map_err(|error| Failure::said(format!("cannot write {}: {error}", path.display())))
    }

    /// The access log and the exports, laid over what is listed.
    fn look_back(&self) -> Result<(), Failure> {
        let names = [ACCESS_LOG, EXPORTS[0], EXPORTS[1]];
        self.step("12. Look back", &format!("uptake {} --engine lamp", names.join(" ")))?;
        let files = names.map(|name| self.folder.join(name).display().to_string()).to_vec();
        let arguments = args::UptakeArguments { files, engine: Some("lamp".to_owned()), ..Default::default() };
        uptake::run(&self.settings()?, &arguments, &self.session)?;
        self.step("13. The state of it all on one page", &format!("report {REPORT}"))?;
        let arguments = args::ReportArguments { file: Some(self.folder.join(REPORT)) };
        report::run(&self.settings()?, &arguments, &self.session)?;
        Ok(())
    }

    fn end(&self) -> Result<(), Failure> {
        let folder = self.folder.display();
        self.say(&format!(
            "
{STRONG}That was the whole job.{STRONG:#} Three things to try next in {folder}:

  idle-atlas why /staff/rota/ --fresh         why a page is left out, step by step
  idle-atlas survey --html railway.html       every entry, to be searched and sorted in a browser
  rm public/robots.txt && idle-atlas check    what a broken site looks like to an engine

{FAINT}Then on a site of your own: idle-atlas init FOLDER --url https://…{FAINT:#}
"
        ))
    }

    fn settings(&self) -> Result<config::Settings, Failure> {
        config::load_from(&self.folder.join(NAME))
    }

    fn build(&self) -> Result<(), Failure> {
        build::run(&self.settings()?, &args::BuildArguments::default(), &self.session)?;
        Ok(())
    }

    fn announce(&self, all: bool, key_file: bool) -> Result<(), Failure> {
        announce::run(
            &self.settings()?,
            &args::AnnounceArguments { all, key_file, ..args::AnnounceArguments::default() },
            &self.session,
        )?;
        Ok(())
    }

    fn step(&self, title: &str, command: &str) -> Result<(), Failure> {
        self.say(&format!("\n{STRONG}{title}{STRONG:#}   {FAINT}$ idle-atlas {command}{FAINT:#}\n"))
    }

    fn command(&self, command: &str) -> Result<(), Failure> {
        self.say(&format!("{FAINT}$ idle-atlas {command}{FAINT:#}\n"))
    }

    fn say(&self, text: &str) -> Result<(), Failure> {
        self.session.screen.say(text)
    }
}
