//! The output of `config`.

use std::path::PathBuf;

use roff::{Roff, bold, italic, roman};
use serde::Serialize;

use crate::config::reference::{TableFacts, in_toml};
use crate::config::shown::{ShownKey, ShownTable, ValueFrom};
use crate::screen::{FAINT, GOOD, Layout, STRONG, count};

/// What a valid configuration consists of.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct CheckedConfiguration {
    pub config: PathBuf,
    pub site: String,
    pub sources: Vec<String>,
    pub sections: Vec<String>,
    pub rules: usize,
    pub engines: Vec<String>,
}

/// The configuration as it stands.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct ShownConfiguration {
    pub config: PathBuf,
    /// The configuration that it extends.
    pub extends: Option<PathBuf>,
    pub tables: Vec<ShownTable>,
}

/// The man pages that were written.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct WrittenManual {
    pub folder: PathBuf,
    pub pages: Vec<String>,
}

/// The text of `config check`.
pub fn checked(checked: &CheckedConfiguration, layout: &Layout) -> String {
    let listed = |names: &[String]| if names.is_empty() { "none".to_owned() } else { names.join(", ") };
    let rules = count(checked.rules as u64, "rule", "rules");
    format!(
        "{GOOD}{} is valid.{GOOD:#}\n\n  site      {}\n  sources   {}\n  sections  {}\n  rules     {rules}\n  engines   {}\n\n{}",
        checked.config.display(),
        checked.site,
        listed(&checked.sources),
        listed(&checked.sections),
        listed(&checked.engines),
        layout.next("idle-atlas survey")
    )
}

/// The text of `config show`: TOML that says the same as the configuration, with all defaults. Keys that are not set and
/// have no default are shown if `all` is wanted.
pub fn shown(shown: &ShownConfiguration, all: bool) -> String {
    let from = shown.extends.as_ref().map_or(String::new(), |path| path.display().to_string());
    let without = if from.is_empty() { "“# default”" } else { "a remark" };
    let path = shown.config.display();
    let mut out = format!("{FAINT}# {path} as it stands. Values without {without} are typed in it.{FAINT:#}\n");
    for table in &shown.tables {
        let name = if table.is_list { format!("[[{}]]", table.table) } else { format!("[{}]", table.table) };
        let keys: Vec<&ShownKey> = table.keys.iter().filter(|key| key.from != ValueFrom::Unset).collect();
        if keys.is_empty() && !all {
            continue;
        }
        let width = keys.iter().map(|key| key.key.len()).max().unwrap_or(0);
        let lines: Vec<(String, &ShownKey)> = keys
            .into_iter()
            .filter_map(|key| Some((format!("{:width$} = {}", key.key, in_toml(key.value.as_ref()?)), key)))
            .collect();
        let remarked = lines.iter().filter(|(_, key)| key.from != ValueFrom::File);
        let column = remarked.map(|(line, _)| line.chars().count()).max().unwrap_or(0);
        out += &format!("\n{STRONG}{name}{STRONG:#}\n");
        for (line, key) in lines {
            out += &match key.from {
                ValueFrom::Default => format!("{line:column$}   {FAINT}# default{FAINT:#}\n"),
                ValueFrom::Extended => format!("{line:column$}   {FAINT}# {from}{FAINT:#}\n"),
                _ => line + "\n",
            };
        }
        for key in table.keys.iter().filter(|key| all && key.from == ValueFrom::Unset) {
            out += &format!("{FAINT}# {}: not set{FAINT:#}\n", key.key);
        }
    }
    out
}

/// The man page of the configuration file: every table and key.
pub fn man_page(tables: &[TableFacts]) -> String {
    let mut page = Roff::new();
    page.control("TH", ["idle-atlas.toml", "5", "", concat!("idle-atlas ", env!("CARGO_PKG_VERSION"))]);
    page.control("SH", ["NAME"]);
    page.text([roman(
        "idle-atlas.toml - what the site is, where its entries come from, what is written and who is told",
    )]);
    page.control("SH", ["DESCRIPTION"]);
    page.text([roman(
        "Paths are relative to the file. ${NAME} reads the environment. A table in double brackets may be repeated.",
    )]);
    for table in tables {
        page.control("SH", [table.heading().as_str()]);
        page.text([roman(table.meaning.as_str())]);
        for key in &table.keys {
            page.control("TP", []);
            page.text([bold(key.name.as_str()), roman(format!(" ({})", key.nature()))]);
            page.text([roman(key.meaning.as_str())]);
            if let Some(example) = key.shown_example() {
                page.control("br", []);
                page.text([italic(example)]);
            }
        }
    }
    page.render()
}
