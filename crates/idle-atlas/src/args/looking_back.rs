//! The arguments of the commands that look back.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::{ListFormat, at_least_one};

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas history 12")]
pub struct HistoryArguments {
    /// Show this run in full
    pub run: Option<i64>,
    /// Print every remembered entry as CSV: its URL, file, section, dates and the run in which it last changed
    #[arg(long, conflicts_with = "run")]
    pub entries: bool,
    /// Only announcements to this engine
    #[arg(long, value_name = "NAME", conflicts_with_all = ["run", "entries"])]
    pub engine: Option<String>,
    /// Only runs in which a file of this section was written; of the last 30
    #[arg(long, value_name = "NAME", conflicts_with_all = ["run", "entries"])]
    pub section: Option<String>,
    /// Only what has happened since this run or date
    #[arg(long, value_name = "RUN|DATE", conflicts_with_all = ["run", "entries"])]
    pub since: Option<String>,
    /// Draw entries, changes and announcements over time
    #[arg(long, conflicts_with_all = ["run", "entries", "engine", "section", "most"])]
    pub plot: bool,
    /// The number of runs and announcements to list
    #[arg(long, value_name = "NUMBER", default_value = "15", value_parser = at_least_one)]
    pub most: usize,
}

#[derive(Debug, Default, Args)]
#[command(after_help = "Example: idle-atlas uptake access.log* lamp-pages.csv --engine lamp")]
pub struct UptakeArguments {
    /// Access logs and exports of consoles; - is standard input [default: show what is known]
    #[arg(value_name = "FILE")]
    pub files: Vec<String>,
    /// The engine whose console made the exports
    #[arg(long, value_name = "NAME")]
    pub engine: Option<String>,
    /// What the exports are of: pages, images or videos [default: as their columns say, or pages]
    #[arg(long, value_name = "WHAT", hide_short_help = true)]
    pub of: Option<ExportOf>,
    /// The day of the exports [default: today]
    #[arg(long, value_name = "DATE")]
    pub on: Option<String>,
    /// The engine has not taken the URLs of the exports, for this reason
    #[arg(long, value_name = "REASON", num_args = 0..=1, default_missing_value = "")]
    pub not_taken: Option<String>,
    /// How the exports write dates, such as %d/%m/%Y
    #[arg(long, value_name = "FORMAT", hide_short_help = true)]
    pub dates: Option<String>,
    /// The log_format of the server, if it is not the Common or Combined Log Format or JSON
    #[arg(long, value_name = "PATTERN", hide_short_help = true)]
    pub log_format: Option<String>,
    /// Forget what logs said, or the exports of an engine
    #[arg(long, value_name = "logs|ENGINE", conflicts_with_all = ["files", "list"], hide_short_help = true)]
    pub forget: Option<String>,
    /// List pages one by one: all, or those selected by the options below
    #[arg(long)]
    pub list: bool,
    #[command(flatten)]
    pub wanted: UptakeListOptions,
}

#[derive(Debug, Default, Args)]
#[command(after_help = "Example: idle-atlas report railway.html")]
pub struct ReportArguments {
    /// The file to write, outside of what is served [default: site-report.html]
    pub file: Option<PathBuf>,
}

/// Which pages to list, and how.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "With --list")]
pub struct UptakeListOptions {
    /// Only pages that stand here
    #[arg(long, value_name = "STATE", requires = "list")]
    pub state: Option<UptakeState>,
    /// Only pages in this section
    #[arg(long, value_name = "NAME", requires = "list", hide_short_help = true)]
    pub section: Option<String>,
    /// Only pages below this path
    #[arg(long, value_name = "PATH", requires = "list", hide_short_help = true)]
    pub under: Option<String>,
    /// The most pages to list
    #[arg(long, value_name = "NUMBER", requires = "list", value_parser = at_least_one, hide_short_help = true)]
    pub most: Option<usize>,
    /// As a table, or in a format for programs
    #[arg(long = "as", value_name = "FORM", requires = "list", default_value = "table")]
    pub form: ListFormat,
}

/// What an export is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ExportOf {
    Pages,
    Images,
    Videos,
}

/// Where a page stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum UptakeState {
    PickedUp,
    NotPickedUp,
    Waiting,
    Fetched,
    NeverFetched,
    Error,
}
