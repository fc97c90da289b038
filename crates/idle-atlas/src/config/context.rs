//! The context in which the tables of a configuration are resolved.

use std::path::{Path, PathBuf};
use std::time::Duration;

use atlas_core::address::{Address, Site};
use atlas_io::live::Reach;
use atlas_io::object::{ObjectAddress, ObjectStores};
use atlas_io::program::Program;
use atlas_io::secret::Secret;
use atlas_store::ledger;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Span, SpanRelativeTo};

use super::file::ConfigText;
use super::tables::At;
use crate::exit::Failure;

/// The word for a web root whose files are kept beside the ledger, from which they are served.
pub(super) const IN_LEDGER: &str = "ledger:";

/// The context in which the tables of a configuration are resolved.
pub(super) struct Context<'a> {
    pub(super) origin: &'a ConfigText,
    pub(super) folder: &'a Path,
    pub(super) site: &'a Site,
    pub(super) web_root: &'a Path,
    pub(super) timezone: &'a TimeZone,
    pub(super) crawlers: &'a [String],
    pub(super) stores: &'a ObjectStores,
    /// The address of the web root, if it is in an object store.
    pub(super) bucket: Option<&'a ObjectAddress>,
    /// Whether there is no web root, because files are kept beside the ledger.
    pub(super) is_served: bool,
}

impl Context<'_> {
    /// Where the live site is reached, if not at its own address.
    pub(super) fn reach(&self, typed: &At<String>) -> Result<Reach, Failure> {
        let text = expand(self.origin, typed)?;
        let bad = |why: String| {
            let message = format!("“reached_at”: {why}; expected a scheme and a host, such as http://127.0.0.1:8080");
            self.origin.error(typed, text.hide(message))
        };
        let at = Address::parse(text.expose()).map_err(|why| bad(why.to_string()))?;
        if at.path() != "/" {
            return Err(bad("the path of an address stays the same, so it has none".to_owned()));
        }
        Ok(Reach::at(self.site.root().origin(), at.origin()))
    }

    /// A program of the user's, which runs in the folder of the configuration.
    pub(super) fn program(&self, key: &str, run: &At<Vec<String>>, wait: Duration) -> Result<Program, Failure> {
        if run.as_ref().first().is_none_or(|program| program.trim().is_empty()) {
            let message =
                format!("“{key}” is empty; expected a program and its arguments, such as [\"python3\", \"export.py\"]");
            return Err(self.origin.error(run, message));
        }
        let folder = if self.folder.as_os_str().is_empty() { Path::new(".") } else { self.folder };
        Ok(Program { run: run.as_ref().clone(), folder: folder.to_owned(), wait })
    }
}

/// Replaces `${NAME}` by the value of that environment variable. Whatever shows the setting shows what was typed.
pub(super) fn expand(origin: &ConfigText, text: &At<String>) -> Result<Secret, Failure> {
    expand_with(origin, text, |_, _, value| value)
}

/// The same, where `encode` gets what was typed before and after a variable, and its value, and returns what to write.
pub(super) fn expand_with(
    origin: &ConfigText,
    text: &At<String>,
    encode: impl Fn(&str, &str, String) -> String,
) -> Result<Secret, Failure> {
    let typed = text.as_ref();
    replace_variables(typed, encode).map(|exposed| Secret::new(typed, exposed)).map_err(|why| origin.error(text, why))
}

/// A time of a minute to a year; days have 24 hours. `form` gives an example, for the user.
pub(super) fn period(
    key: &str,
    origin: &ConfigText,
    typed: &At<String>,
    form: &str,
) -> Result<SignedDuration, Failure> {
    let span = typed.as_ref().trim().parse::<Span>().ok();
    let period = span.and_then(|span| span.to_duration(SpanRelativeTo::days_are_24_hours()).ok());
    let range = SignedDuration::from_mins(1)..=SignedDuration::from_hours(24 * 366);
    period
        .filter(|period| range.contains(period))
        .ok_or_else(|| origin.error(typed, format!("“{key}”: expected a time of a minute to a year, {form}")))
}

/// A text in which `${NAME}` is replaced by the value of that environment variable, as `encode` writes it; or, in words, why
/// it cannot be.
pub fn replace_variables(typed: &str, encode: impl Fn(&str, &str, String) -> String) -> Result<String, String> {
    let mut out = String::new();
    let mut rest = typed;
    while let Some((before, after)) = rest.split_once("${") {
        let (name, tail) = after.split_once('}').ok_or("“${” without a closing “}”")?;
        let value = std::env::var(name)
            .map_err(|_| format!("the environment variable {name} is not set; set it, or write the value here"))?;
        out.push_str(before);
        out.push_str(&encode(&typed[..typed.len() - after.len()], tail, value));
        rest = tail;
    }
    Ok(out + rest)
}

/// Whether a section is made from each row.
pub(super) fn is_template(section: &str) -> bool {
    section.contains(['{', '}'])
}

/// The time zone with this name.
pub(super) fn timezone(origin: &ConfigText, name: Option<&At<String>>) -> Result<TimeZone, Failure> {
    let Some(name) = name else { return Ok(TimeZone::UTC) };
    TimeZone::get(name.as_ref()).map_err(|_| {
        origin.error(name, format!("“timezone”: “{}” is unknown; expected a name such as Europe/London", name.as_ref()))
    })
}

/// The folder of the ledger: beside the configuration. A configuration with a name of its own has a subfolder, so that
/// two sites in one folder never share a ledger.
pub(super) fn ledger_folder(configuration: &Path) -> PathBuf {
    let folder = configuration.parent().unwrap_or(Path::new("")).join(ledger::FOLDER);
    match configuration.file_stem().filter(|stem| *stem != "idle-atlas") {
        Some(stem) => folder.join(stem),
        None => folder,
    }
}
