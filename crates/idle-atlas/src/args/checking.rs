//! The arguments of `check`.

use std::path::PathBuf;

use atlas_core::check::PageSample;
use atlas_io::check::Pace;
use clap::{Args, ValueEnum};

#[derive(Debug, Default, Args)]
#[command(after_help = "Example: idle-atlas check https://www.marrowvale.example/")]
pub struct CheckArguments {
    /// A web root, a sitemap file, or the URL of a site or sitemap [default: the web root in the configuration]
    #[arg(value_name = "WHERE")]
    pub place: Option<String>,
    /// Check the live site of the configuration
    #[arg(long, conflicts_with = "place")]
    pub live: bool,
    /// Visit listed pages on the live site
    #[arg(long, value_name = "all|N", value_parser = sample)]
    pub pages: Option<PageSample>,
    /// Look at single pages on the live site, listed or not
    #[arg(long, value_name = "URL", num_args = 1.., conflicts_with_all = ["place", "pages", "accept"])]
    pub page: Vec<String>,
    /// The same for each URL that a file lists, one a line
    #[arg(long, value_name = "FILE", conflicts_with_all = ["place", "pages", "accept"], hide_short_help = true)]
    pub pages_from: Option<PathBuf>,
    /// See what URLs answer that left
    ///
    /// Without a list, those that the ledger knows; else those in an older sitemap, an export or a list.
    #[arg(long, value_name = "LIST", num_args = 0..=1, conflicts_with_all = ["place", "pages", "page", "accept"])]
    pub gone: Option<Option<String>>,
    /// With --gone: propose redirects for lost URLs
    #[arg(long, value_name = "FORM", requires = "gone", hide_short_help = true)]
    pub redirects: Option<RedirectForm>,
    /// Gather, and give advice about the content of listed pages
    #[arg(long, conflicts_with_all = ["place", "pages", "page", "gone", "live"])]
    pub content: bool,
    /// With --pages or --gone: the most requests per second; 0: no limit
    #[arg(long, value_name = "N", default_value = "10", hide_short_help = true)]
    pub rate: f64,
    /// With --pages or --gone: the most requests at once
    #[arg(long, value_name = "N", default_value = "4", value_parser = clap::value_parser!(u16).range(1..=64), hide_short_help = true)]
    pub connections: u16,
    /// The least severity for exit code 1 [default: error; warning with --strict]
    #[arg(long, value_name = "LEAST", hide_short_help = true)]
    pub fail_on: Option<FailOn>,
    /// Accept findings: those about these URLs, or all of now
    #[arg(long, value_names = ["CODE", "URL"], num_args = 1..)]
    pub accept: Vec<String>,
    /// Explain one kind of finding
    #[arg(long, value_name = "CODE", conflicts_with_all = ["place", "live", "pages", "page", "pages_from", "gone", "content", "accept", "sarif"])]
    pub explain: Option<String>,
    /// Also write SARIF 2.1.0, for build servers
    #[arg(long, value_name = "FILE", hide_short_help = true)]
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
