//! The command line as typed. The commands find out what it means.

mod looking_back;

use std::net::SocketAddr;
use std::path::PathBuf;

use atlas_core::check::PageSample;
use atlas_io::check::Pace;
use atlas_store::report::Guard;
use clap::{Args, Parser, Subcommand, ValueEnum};

pub use self::looking_back::*;

/// The text below the list of commands. Paragraphs are wrapped when they are shown.
fn after_help() -> String {
    let demo = if cfg!(feature = "test-engine") { "Or watch it: idle-atlas demo\n" } else { "" };
    format!(
        "Begin with:  idle-atlas init public --url https://www.marrowvale.example/\n{demo}\nExit codes: 0 done, remarks or not; 1 done in part (sources, rows, files or announcements that failed, errors found by check); 2 could not be done; 3 held back by a guard. With --strict, remarks count as 1, and a source that cannot be read as 2."
    )
}

/// Sitemaps for a whole site: gathered, split, declared, announced, checked.
#[derive(Debug, Parser)]
#[command(
    version,
    max_term_width = 110,
    arg_required_else_help = true,
    after_help = after_help()
)]
pub struct Arguments {
    #[command(flatten)]
    pub shared: Shared,
    #[command(subcommand)]
    pub command: Command,
}

/// Options of every command.
#[derive(Debug, Clone, Args)]
pub struct Shared {
    /// The configuration file; may be repeated. A folder stands for every idle-atlas.toml in it or below it [default:
    /// idle-atlas.toml in this folder or one above]
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Vec<PathBuf>,
    /// Print one JSON document on standard output
    #[arg(long, global = true)]
    pub json: bool,
    /// Print nothing but errors
    #[arg(long, short, global = true, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Print every example, not the first few
    #[arg(long, short, global = true)]
    pub verbose: bool,
    /// Exit with 1 if there are any remarks, and stop if a source cannot be read
    #[arg(long, global = true)]
    pub strict: bool,
    /// When to use colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: Color,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Examine a folder of pages and write a configuration for it
    Init(InitArguments),
    /// Show what would be listed, by section, and what is left out and why; write nothing
    Survey(SurveyArguments),
    /// Write the sitemap files, the index and robots.txt; report what changed
    Build(BuildArguments),
    /// Explain everything that is known about one URL
    Why(WhyArguments),
    /// Read a web root or live site as an engine does, and list what is wrong
    Check(CheckArguments),
    /// Tell engines what changed since each was last told
    Announce(AnnounceArguments),
    /// Build and announce again whenever files change, an entry falls due, or an interval passes
    Watch(WatchArguments),
    /// List runs and announcements, newest first
    History(HistoryArguments),
    /// Lay access logs and exports of consoles over what is listed: fetched, picked up, waiting, strange
    Uptake(UptakeArguments),
    /// Write the state of the whole site on one page, for a browser or a printer
    Report(ReportArguments),
    /// Run a small search engine on loopback, for trying out announcements
    #[command(hide = cfg!(not(feature = "test-engine")))]
    TestEngine(TestEngineArguments),
    /// Do the whole job on the sample site, from start to end
    #[command(hide = cfg!(not(feature = "test-engine")))]
    Demo(DemoArguments),
}

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas init public --url https://www.marrowvale.example/")]
pub struct InitArguments {
    /// The folder of built pages that the web server serves
    #[arg(default_value = "public")]
    pub folder: PathBuf,
    /// The site's URL, exactly as visitors reach it, if the pages do not state it
    #[arg(long, value_name = "URL")]
    pub url: Option<String>,
    /// The IndexNow endpoint to announce to
    #[arg(long, value_name = "URL", default_value = "https://api.indexnow.org/indexnow")]
    pub engine: String,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas survey --list --reason noindex --under /journal/ --as csv")]
pub struct SurveyArguments {
    /// Read every file again, even if it has not changed
    #[arg(long)]
    pub fresh: bool,
    /// List entries one by one: all, or those selected by the options below
    #[arg(long)]
    pub list: bool,
    /// Write a page with every entry, which can be searched and sorted in a browser
    #[arg(long, value_name = "FILE", conflicts_with = "list")]
    pub html: Option<PathBuf>,
    /// Stop showing a remark: its code, and patterns for paths or URLs unless it applies to all; added to
    /// known-findings.txt
    #[arg(long, value_names = ["CODE", "PATTERN"], num_args = 1.., conflicts_with_all = ["list", "html"])]
    pub accept: Vec<String>,
    #[command(flatten)]
    pub wanted: ListOptions,
}

/// Which entries to list, and how.
#[derive(Debug, Args)]
#[command(next_help_heading = "With --list")]
pub struct ListOptions {
    /// Only entries in this section
    #[arg(long, value_name = "NAME", requires = "list", conflicts_with = "reason")]
    pub section: Option<String>,
    /// Only entries that are left out for this reason, such as noindex
    #[arg(long, value_name = "CODE", requires = "list")]
    pub reason: Option<String>,
    /// Only entries from sources whose name contains this
    #[arg(long, value_name = "NAME", requires = "list")]
    pub source: Option<String>,
    /// Only entries below this path
    #[arg(long, value_name = "PATH", requires = "list")]
    pub under: Option<String>,
    /// The order
    #[arg(long, value_name = "ORDER", requires = "list", default_value = "found")]
    pub sort: Sort,
    /// The most entries to list
    #[arg(long, value_name = "NUMBER", requires = "list", value_parser = at_least_one)]
    pub most: Option<usize>,
    /// As a table, or in a format for programs
    #[arg(long = "as", value_name = "FORM", requires = "list", default_value = "table")]
    pub form: ListFormat,
}

/// The orders of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Sort {
    /// As the sources name them
    Found,
    /// By URL
    Url,
    /// Newest first
    Newest,
    /// Most pictures first
    Pictures,
    /// What engines have not taken first
    Uptake,
}

/// The formats of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum ListFormat {
    #[default]
    Table,
    Csv,
    Json,
}

#[derive(Debug, Default, Args)]
#[command(after_help = "Example: idle-atlas build --dry-run")]
pub struct BuildArguments {
    /// Read every file again, even if it has not changed
    #[arg(long)]
    pub fresh: bool,
    /// Show which files would be written, and which URLs would be added and removed; write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Then tell the engines what changed, if the build went through; what earlier builds published is told in any case
    #[arg(long, conflicts_with = "dry_run")]
    pub announce: bool,
    /// Take the files of this tool, and its lines in robots.txt, out of the web root, and nothing else
    #[arg(long, conflicts_with_all = ["announce", "fresh", "recall"])]
    pub withdraw: bool,
    /// If there is no ledger, learn placement and dates from the site's own sitemaps: those on disk, those on the live
    /// site, or none
    #[arg(long, value_name = "WHERE", value_enum, default_value = "disk")]
    pub recall: Recall,
    /// Let a build pass the guard that held it back; its message names the word
    #[arg(long, value_name = "GUARD", value_parser = guard, help = allow_help())]
    pub allow: Vec<Guard>,
}

/// Where to learn placement and dates if there is no ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
pub enum Recall {
    /// The folder of the sitemap files
    #[default]
    Disk,
    /// The live site
    Live,
    /// Nowhere: start over
    None,
}

/// The help for `--allow`: each guard, with what it holds a build back for.
fn allow_help() -> String {
    let passable = Guard::ALL.into_iter().filter_map(|guard| Some((guard.option()?, guard.words())));
    let lines: String = passable.map(|(option, words)| format!("\n- {option}: {words}")).collect();
    format!("Pass a guard that held the build back:{lines}")
}

/// Parses the word that lets a build pass a guard.
fn guard(word: &str) -> Result<Guard, String> {
    let passable = Guard::ALL.into_iter().filter_map(|guard| Some((guard.option()?, guard)));
    let known: Vec<&str> = passable.clone().map(|(option, _)| option).collect();
    let found = passable.into_iter().find(|(option, _)| *option == word);
    found.map(|(_, guard)| guard).ok_or_else(|| format!("expected one of {}", known.join(", ")))
}

/// Parses a number of things to list, which must not be 0.
fn at_least_one(text: &str) -> Result<usize, String> {
    text.parse().ok().filter(|number| *number > 0).ok_or_else(|| "expected a whole number, 1 or more".to_owned())
}

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas why /journal/frost-on-the-cutting/")]
pub struct WhyArguments {
    /// The URL, or its path on the site
    pub url: String,
    /// Ask the sources again, and show each step of the decision, rather than what the last build found
    #[arg(long)]
    pub fresh: bool,
    /// Print only structured data for its videos (schema.org VideoObject, JSON-LD); asks the sources
    #[arg(long)]
    pub structured_data: bool,
}

#[derive(Debug, Default, Args)]
#[command(after_help = "Example: idle-atlas check https://www.marrowvale.example/")]
pub struct CheckArguments {
    /// A web root, a sitemap file, or the URL of a site or sitemap [default: the web root in the configuration]
    #[arg(value_name = "WHERE")]
    pub place: Option<String>,
    /// Check the live site of the configuration
    #[arg(long, conflicts_with = "place")]
    pub live: bool,
    /// Visit the listed pages on the live site: all, or so many
    #[arg(long, value_name = "all|N", value_parser = sample)]
    pub pages: Option<PageSample>,
    /// Look at single pages on the live site, listed or not
    #[arg(long, value_name = "URL", num_args = 1.., conflicts_with_all = ["place", "pages", "accept"])]
    pub page: Vec<String>,
    /// The same for each URL that a file lists, one a line
    #[arg(long, value_name = "FILE", conflicts_with_all = ["place", "pages", "accept"])]
    pub pages_from: Option<PathBuf>,
    /// See what URLs answer that left: those that the ledger knows, or those in an older sitemap, an export or a list
    #[arg(long, value_name = "LIST", num_args = 0..=1, conflicts_with_all = ["place", "pages", "page", "accept"])]
    pub gone: Option<Option<String>>,
    /// With --gone: propose redirects for lost URLs
    #[arg(long, value_name = "FORM", requires = "gone")]
    pub redirects: Option<RedirectForm>,
    /// Gather, and give advice about the content of listed pages
    #[arg(long, conflicts_with_all = ["place", "pages", "page", "gone", "live"])]
    pub content: bool,
    /// With --pages or --gone: the most requests per second; 0: no limit
    #[arg(long, value_name = "N", default_value = "10")]
    pub rate: f64,
    /// With --pages or --gone: the most requests at once
    #[arg(long, value_name = "N", default_value = "4", value_parser = clap::value_parser!(u16).range(1..=64))]
    pub connections: u16,
    /// The least severity for exit code 1 [default: error; warning with --strict]
    #[arg(long, value_name = "LEAST")]
    pub fail_on: Option<FailOn>,
    /// Accept findings: those about these URLs, or all of now
    #[arg(long, value_names = ["CODE", "URL"], num_args = 1..)]
    pub accept: Vec<String>,
    /// Explain one kind of finding
    #[arg(long, value_name = "CODE", conflicts_with_all = ["place", "live", "pages", "page", "pages_from", "gone", "content", "accept", "sarif"])]
    pub explain: Option<String>,
    /// Also write SARIF 2.1.0, for build servers
    #[arg(long, value_name = "FILE")]
    pub sarif: Option<PathBuf>,
}

/// The form of proposed redirects.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum RedirectForm {
    Csv,
    Nginx,
}

/// The least severity that makes the exit code 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FailOn {
    Error,
    Warning,
    Advice,
    Never,
}

impl CheckArguments {
    /// Whether the live site is asked.
    pub fn is_live(&self) -> bool {
        self.live || self.pages.is_some()
    }

    /// Whether single pages are looked at.
    pub fn wants_cards(&self) -> bool {
        !self.page.is_empty() || self.pages_from.is_some()
    }

    /// Whether it can do without a configuration.
    pub fn stands_alone(&self) -> bool {
        self.place.is_some() || self.wants_cards() || self.gone.is_some()
    }

    /// Which of the listed URLs are visited.
    pub fn sample(&self) -> PageSample {
        self.pages.unwrap_or_default()
    }

    /// How servers are asked.
    pub fn pace(&self) -> Pace {
        let connections = usize::from(self.connections.max(1));
        Pace { requests_per_second: self.rate.max(0.0), connections, ..Pace::default() }
    }
}

/// Reads how many pages to visit.
fn sample(text: &str) -> Result<PageSample, String> {
    match text {
        "all" => Ok(PageSample::All),
        number => match number.parse() {
            Ok(0) | Err(_) => Err("expected “all” or a number from 1".to_owned()),
            Ok(number) => Ok(PageSample::Some(number)),
        },
    }
}

#[derive(Debug, Default, Args)]
#[command(after_help = "Example: idle-atlas announce --dry-run")]
pub struct AnnounceArguments {
    /// Announce these URLs or paths now, whether they were announced before or not
    #[arg(value_name = "URL", conflicts_with_all = ["all", "section", "since", "key_file"])]
    pub urls: Vec<String>,
    /// Announce the whole site, not only what changed
    #[arg(long)]
    pub all: bool,
    /// Announce only what is, or was, in this section
    #[arg(long, value_name = "NAME", conflicts_with = "key_file")]
    pub section: Option<String>,
    /// Announce what has changed since this run or date, whether it was announced before or not
    #[arg(long, value_name = "RUN|DATE", conflicts_with_all = ["all", "key_file"])]
    pub since: Option<String>,
    /// Tell only this engine; may be repeated
    #[arg(long, value_name = "NAME", conflicts_with = "key_file")]
    pub engine: Vec<String>,
    /// Announce more than 10,000 URLs with --all
    #[arg(long, requires = "all")]
    pub yes: bool,
    /// Make an IndexNow key if there is none, and write its key file into the web root; announce nothing
    #[arg(long, conflicts_with_all = ["all", "dry_run"])]
    pub key_file: bool,
    /// With --key-file: make another key; both key files stand for two weeks
    #[arg(long, requires = "key_file")]
    pub renew: bool,
    /// Show what would be announced; send nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Tell a test engine on this machine instead, let it read the site, and show what it has seen
    #[arg(long, conflicts_with_all = ["key_file", "dry_run"])]
    #[cfg_attr(not(feature = "test-engine"), arg(hide = true))]
    pub rehearse: bool,
    /// Print the URLs most worth submitting in a console, and what to do with sitemap files there
    #[arg(long, value_name = "NUMBER", value_parser = at_least_one, conflicts_with_all = ["urls", "all", "section", "since", "engine", "key_file", "dry_run"])]
    pub by_hand: Option<usize>,
    /// Tick off URLs that were submitted in a console, or with --in, sitemap files submitted or removed there
    #[arg(long, value_name = "URL", num_args = 1.., conflicts_with_all = ["urls", "all", "section", "since", "engine", "key_file", "dry_run", "by_hand"])]
    pub done: Vec<String>,
    /// The console in which sitemap files were submitted or removed
    #[arg(long = "in", value_name = "NAME", requires = "done")]
    pub console: Option<String>,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas watch --unit systemd > /etc/systemd/system/idle-atlas.service")]
pub struct WatchArguments {
    /// Do one round, for a timer, and end
    #[arg(long)]
    pub once: bool,
    /// How to write what happens: a line of text for each event, or a JSON object
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub log: LogForm,
    /// Print a unit for this site: a service, a service with a timer, or a line for cron
    #[arg(long, value_name = "KIND", conflicts_with = "once")]
    pub unit: Option<UnitKind>,
    /// Write the units into this folder
    #[arg(long, value_name = "FOLDER", requires = "unit")]
    pub into: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LogForm {
    Text,
    Json,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum UnitKind {
    Systemd,
    Timer,
    Cron,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas test-engine --reach www.marrowvale.example=127.0.0.1:8080

While it runs: GET /received lists what came, POST /mood?answer=503 changes how it answers, POST /crawl?site=URL reads a site, and GET /picked-up lists what it has picked up of it.")]
pub struct TestEngineArguments {
    /// The loopback address to listen on; port 0 takes a free one
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:7643")]
    pub listen: SocketAddr,
    /// How to answer: fair, 429:SECONDS, another status such as 503, hang, reset, garbage, or slow:SECONDS
    #[arg(long, value_name = "HOW", default_value = "fair")]
    pub answer: String,
    /// Where to reach a host, to fetch its key file
    #[arg(long, value_name = "HOST=ADDRESS")]
    pub reach: Vec<String>,
    /// Add its own requests to this file, as an access log
    #[arg(long, value_name = "FILE")]
    pub access_log: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas demo railway")]
pub struct DemoArguments {
    /// A new folder to work in [default: a new temporary folder]
    pub folder: Option<PathBuf>,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_arguments_are_consistent() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn what_guards_name_can_be_passed() {
        for one in Guard::ALL.into_iter().filter(|one| one.option().is_some()) {
            assert_eq!(guard(one.option().unwrap()), Ok(one));
        }
        assert!(guard("empty").unwrap_err().contains("shrink, left-out"));
    }

    #[test]
    fn help_fits_a_screen() {
        let mut command = Arguments::command();
        command.build();
        for sub in command.get_subcommands_mut() {
            let help = sub.render_help().to_string();
            assert!(help.lines().count() <= 40, "{help}");
        }
    }
}
