//! The screen: standard output for results, standard error for everything else.

mod style;
mod words;
mod layout;
mod width;
mod complaints;
mod progress;

use std::cell::RefCell;
use std::io::{IsTerminal, Write, stderr, stdout};
use std::path::Path;
use std::rc::Rc;
use std::sync::atomic::AtomicU64;
use std::time::Duration;

use anstream::{AutoStream, ColorChoice};
use atlas_store::build::EXAMPLES;
use atlas_store::error::StoreError;
use atlas_store::report::Survey;
use indicatif::{ProgressBar, ProgressStyle};
use jiff::tz::TimeZone;
use serde::Serialize;
use serde_json::Value;

pub use self::complaints::Complaints;
use self::layout::fold;
pub use self::layout::{Layout, cut};
pub use self::progress::Progress;
pub use self::style::{BAD, FAINT, GOOD, STRONG, WARN};
use self::width::width_of;
pub use self::words::*;
use crate::args::{Color, Shared};
use crate::config::Settings;
use crate::exit::{Exit, Failure, NOTHING_WRITTEN};

/// How many examples are shown of anything with `--verbose`.
const MOST_EXAMPLES: usize = 10_000;

/// The terminal, or whatever takes its place.
#[derive(Debug, Clone)]
pub struct Screen {
    json: bool,
    quiet: bool,
    verbose: bool,
    strict: bool,
    /// Whether it shows the commands of the demo.
    brief: bool,
    color: ColorChoice,
    /// Documents that wait to be printed as one.
    waiting: Option<Rc<RefCell<Vec<Value>>>>,
    /// The configuration that was named, to be repeated in proposed commands.
    config: Option<String>,
    /// Which of several sites this is, counted from 0.
    nth: Option<usize>,
    /// Counts, by name.
    counts: Rc<RefCell<Vec<(&'static str, u64)>>>,
}

impl Screen {
    pub fn new(shared: &Shared) -> Self {
        let color = match shared.color {
            Color::Auto => ColorChoice::Auto,
            Color::Always => ColorChoice::Always,
            Color::Never => ColorChoice::Never,
        };
        Self {
            json: shared.json,
            quiet: shared.quiet,
            verbose: shared.verbose,
            strict: shared.strict,
            brief: false,
            color,
            waiting: None,
            config: None,
            nth: None,
            counts: Rc::default(),
        }
    }

    /// The same screen for the commands of the demo, which are brief. JSON documents are held back.
    #[cfg(feature = "test-engine")]
    pub fn for_a_story(&self) -> Self {
        Self { brief: true, waiting: self.json.then(Rc::default), ..self.clone() }
    }

    /// The same screen, with JSON output.
    pub fn for_programs(&self) -> Self {
        Self { json: true, ..self.clone() }
    }

    /// The same screen for a site. If its configuration was named, proposed commands name it, too.
    pub fn for_site(&self, config: Option<&Path>) -> Self {
        Self { config: config.map(|path| path.display().to_string()), ..self.clone() }
    }

    /// The same screen for one of several sites, whose messages on standard error name it; JSON documents are held
    /// back.
    pub fn for_one_of_several(&self, config: &Path, nth: usize, json: bool) -> Self {
        let waiting = json.then(Rc::default);
        Self { json, waiting, nth: Some(nth), counts: Rc::default(), ..self.for_site(Some(config)) }
    }

    /// Whether this is one of several sites, and not the first.
    pub fn is_a_further_site(&self) -> bool {
        self.nth.is_some_and(|nth| nth > 0)
    }

    /// Whether this is one of several sites.
    pub fn is_one_of_several(&self) -> bool {
        self.nth.is_some()
    }

    /// Records counts for the table after several sites.
    pub fn count(&self, counts: &[(&'static str, u64)]) {
        self.counts.borrow_mut().extend_from_slice(counts);
    }

    /// The recorded counts.
    pub fn counted(&self) -> Vec<(&'static str, u64)> {
        self.counts.take()
    }

    /// The same screen for commands whose documents become one.
    pub fn for_one_document(&self) -> Self {
        Self { waiting: self.json.then(Rc::default), ..self.clone() }
    }

    /// Whether documents are held back, to be printed as one.
    pub fn holds_back(&self) -> bool {
        self.json && self.waiting.is_some()
    }

    /// The documents that were held back.
    pub fn documents(&self) -> Vec<Value> {
        self.waiting.as_ref().map(|waiting| waiting.take()).unwrap_or_default()
    }

    /// Reports a failure after which another command goes on, and holds back its document.
    pub fn fail_in_part(&self, failure: &Failure) -> Result<Exit, Failure> {
        let exit = self.fail(failure);
        if self.json {
            let document = serde_json::json!({ "error": failure.to_string(), "exit": exit as u8 });
            self.show(&document, String::new)?;
        }
        Ok(exit)
    }

    /// The document that was held back, or an array of several.
    pub fn collected(&self) -> Value {
        match <[Value; 1]>::try_from(self.documents()) {
            Ok([one]) => one,
            Err(several) => Value::Array(several),
        }
    }

    /// Whether JSON output is wanted.
    pub fn wants_json(&self) -> bool {
        self.json
    }

    /// Whether only errors are wanted.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether a source that cannot be read ends the command.
    pub fn is_strict(&self) -> bool {
        self.strict
    }

    /// Reports sources that could not be read on standard error, if the report itself is not shown.
    pub fn complain_of_sources(&self, survey: &Survey) {
        if self.quiet {
            survey.failures().for_each(|(name, failure)| self.complain("error", &format!("{name}: {}", failure.why)));
        }
    }

    /// Whether everything is wanted, not only the first few or the usual.
    pub fn is_verbose(&self) -> bool {
        self.verbose
    }

    /// How many examples of anything are wanted.
    pub fn examples(&self) -> usize {
        if self.verbose { MOST_EXAMPLES } else { EXAMPLES }
    }

    /// The layout of results about a site.
    pub fn layout(&self, settings: &Settings) -> Layout {
        let (zone, origin) = (settings.timezone().clone(), settings.site.root().origin().to_owned());
        Layout { verbose: self.verbose, brief: self.brief, zone, width: width_of(stdout()), origin }
    }

    /// The layout of results that are not about a site.
    pub fn layout_of_none(&self) -> Layout {
        self.layout_at("")
    }

    /// The layout of results about a site without a configuration, by its scheme and host.
    pub fn layout_at(&self, origin: &str) -> Layout {
        let (zone, origin) = (TimeZone::UTC, origin.to_owned());
        Layout { verbose: self.verbose, brief: self.brief, zone, width: width_of(stdout()), origin }
    }

    /// The exit code of a command that was partly done, or done with remarks.
    pub fn exit(&self, in_part: bool, remarks: bool) -> Exit {
        Exit::in_part(in_part || (remarks && self.strict))
    }

    /// Shows a result: as text, or as JSON.
    pub fn show<T: Serialize>(&self, result: &T, text: impl FnOnce() -> String) -> Result<(), Failure> {
        if let Some(waiting) = self.waiting.as_ref().filter(|_| self.json) {
            let document = serde_json::to_value(result).map_err(|error| Failure::said(error.to_string()))?;
            waiting.borrow_mut().push(document);
            return Ok(());
        }
        if self.json {
            let document = serde_json::to_string_pretty(result).map_err(|error| Failure::said(error.to_string()))?;
            return self.print(&format!("{document}\n"));
        }
        self.say(&text())
    }

    /// Prints a message on standard output.
    pub fn say(&self, text: &str) -> Result<(), Failure> {
        if self.quiet || self.json {
            return Ok(());
        }
        let text = self.proposing(text);
        match width_of(stdout()) {
            Some(width) => self.print(&fold(&text, width)),
            None => self.print(&text),
        }
    }

    /// A text whose proposed commands name the configuration, if it was named.
    pub fn proposing(&self, text: &str) -> String {
        const COMMANDS: [&str; 10] =
            ["config", "survey", "build", "why", "check", "announce", "history", "watch", "uptake", "report"];
        let Some(config) = &self.config else { return text.to_owned() };
        let config = if config.contains(' ') { format!("\"{config}\"") } else { config.clone() };
        COMMANDS.iter().fold(text.to_owned(), |text, command| {
            text.replace(&format!("idle-atlas {command}"), &format!("idle-atlas --config {config} {command}"))
        })
    }

    /// Prints text unchanged on standard output.
    pub fn print(&self, text: &str) -> Result<(), Failure> {
        let mut out = AutoStream::new(stdout(), self.color).lock();
        out.write_all(text.as_bytes()).and_then(|()| out.flush()).map_err(|error| Failure::output(&error))
    }

    /// Reports a problem on standard error.
    pub fn complain(&self, what: &str, message: &str) {
        let site = self.nth.and(self.config.as_deref());
        let message = self.proposing(message);
        // The message of a configuration error already names the configuration.
        let rest = site.and_then(|site| message.strip_prefix(site)).map(str::trim_start);
        self.for_complaints().complain_of(site, what, rest.unwrap_or(&message));
    }

    /// Says on standard error what was done with something, for people.
    pub fn note(&self, what: &str, message: &str) {
        if !self.quiet && !self.json {
            self.complain(what, message);
        }
    }

    /// Reports a failure on standard error; returns the exit code.
    pub fn fail(&self, failure: &Failure) -> Exit {
        match failure {
            Failure::PipeClosed => Exit::Done,
            Failure::Store(StoreError::Interrupted) => {
                self.complain("stopped", NOTHING_WRITTEN);
                Exit::Interrupted
            }
            other => {
                self.complain("error", &other.to_string());
                Exit::NotDone
            }
        }
    }

    /// A handle for another thread that only reports problems.
    pub fn for_complaints(&self) -> Complaints {
        Complaints { color: self.color }
    }

    /// A progress counter, on a terminal only.
    pub fn progress(&self) -> Progress {
        let site = self.nth.and(self.config.as_deref()).map_or(String::new(), |site| format!("{site}: "));
        let bar = if stderr().is_terminal() && !self.quiet && !self.json {
            let bar = ProgressBar::new_spinner();
            bar.set_style(
                ProgressStyle::with_template("{spinner} {msg}").unwrap_or_else(|_| ProgressStyle::default_spinner()),
            );
            bar.enable_steady_tick(Duration::from_millis(100));
            bar.set_message(format!("{site}gathering"));
            bar
        } else {
            ProgressBar::hidden()
        };
        Progress { bar, site, rows: AtomicU64::new(0) }
    }
}
