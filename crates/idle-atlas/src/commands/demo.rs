//! The command `demo`: the whole job on the sample site, from start to end.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use atlas_io::test_engine::{TestEngine, TestEngineSettings, serve};
use include_dir::{Dir, include_dir};

use super::{announce, build, check, init, survey};
use crate::config::{self, NAME};
use crate::exit::{Exit, Failure};
use crate::screen::{FAINT, STRONG, count};
use crate::session::Session;
use crate::{args, view};

/// The sample site: the Marrow Vale Light Railway, invented from its first sleeper to its last.
static SAMPLE: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../sample");

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
        let settings = TestEngineSettings { reach, ..TestEngineSettings::fair() };
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
        self.end()
    }

    fn begin(&self, engine: &TestEngine, site: &serve::Served) -> Result<(), Failure> {
        self.step("1. Describe the site", "init public")?;
        let arguments = args::InitArguments { folder: "public".into(), url: None, engine: engine.endpoint() };
        let found = init::write(&self.folder, Path::new(NAME), &arguments)?;
        self.session.screen.show(&found, || view::init::site(&found))?;
        let path = self.folder.join(NAME);
        // The site is reached on this machine, as a server behind a proxy would be.
        let reached = format!("[site]\nreached_at = \"http://{}\"", site.address());
        let text = fs::read_to_string(&path).unwrap_or_default().replacen("[site]", &reached, 1) + ADDED;
        fs::write(&path, text).map_err(|error| Failure::said(format!("cannot write {}: {error}", path.display())))?;
        self.say("Added by hand: a table of photographs, a rule that keeps /staff/ out, archives, news, a page for visitors, a feed.\n")
    }

    fn first_build(&self) -> Result<(), Failure> {
        self.step("2. Look before anything is written", "survey")?;
        let found = survey::whole(&self.settings()?, false, &self.session)?;
        self.step("3. Write the files", "build")?;
        build::after_survey(&self.settings()?, &found, &self.session)?;
        self.step("4. Read them back as an engine does", "check")?;
        check::run(&self.settings()?, &args::CheckArguments { folder: None }, &self.session)?;
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
        let edit = |page: &str, line: &str| {
            let path = public.join(page);
            let text = fs::read_to_string(&path)?;
            fs::write(&path, text.replacen("</main>", &format!("<p>{line}</p>\n</main>"), 1))
        };
        edit("fares/index.html", "From January a day ticket is nine shillings.").map_err(failed)?;
        edit("journal/frost-on-the-cutting/index.html", "Correction: the frost was on the ninth.").map_err(failed)?;
        let notice = public.join("news/lamp-oil-delivery");
        fs::remove_dir_all(&notice).map_err(failed)?;
        let newsletter = public.join("news/winter-newsletter");
        fs::create_dir_all(&newsletter).map_err(failed)?;
        let page = format!(
            "<!doctype html>\n<html lang=\"en-GB\"><head><title>Winter newsletter</title>\n<meta property=\"article:published_time\" content=\"{}\"></head>\n<body><main><h1>Winter newsletter</h1><p>The shed is warm and the kettle is on.</p></main></body></html>\n",
            self.session.now()
        );
        fs::write(newsletter.join("index.html"), page).map_err(failed)
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
