//! The output of `config`.

use std::path::{Path, PathBuf};

use serde::Serialize;
use serde_json::Value;

use crate::config::shown::{ShownKey, ShownTable, ValueFrom};
use crate::screen::{FAINT, GOOD, Layout, STRONG, count};

/// What a valid configuration consists of.
#[derive(Debug, Serialize)]
pub struct CheckedConfiguration {
    pub config: PathBuf,
    pub site: String,
    pub sources: Vec<String>,
    pub sections: Vec<String>,
    pub rules: usize,
    pub engines: Vec<String>,
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
pub fn shown(path: &Path, tables: &[ShownTable], all: bool) -> String {
    let mut out = format!(
        "{FAINT}# {} as it stands. Without a word after it, a value is typed there.{FAINT:#}\n",
        path.display()
    );
    for table in tables {
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
        let defaults = lines.iter().filter(|(_, key)| key.from == ValueFrom::Default);
        let column = defaults.map(|(line, _)| line.chars().count()).max().unwrap_or(0);
        out += &format!("\n{STRONG}{name}{STRONG:#}\n");
        for (line, key) in lines {
            out += &match key.from {
                ValueFrom::Default => format!("{line:column$}   {FAINT}# default{FAINT:#}\n"),
                _ => line + "\n",
            };
        }
        for key in table.keys.iter().filter(|key| all && key.from == ValueFrom::Unset) {
            out += &format!("{FAINT}# {}: not set{FAINT:#}\n", key.key);
        }
    }
    out
}

/// A value as TOML, on one line.
fn in_toml(value: &Value) -> String {
    match value {
        Value::String(text) => toml::Value::String(text.clone()).to_string(),
        Value::Array(items) => format!("[{}]", items.iter().map(in_toml).collect::<Vec<_>>().join(", ")),
        Value::Object(members) => {
            let members: Vec<String> =
                members.iter().map(|(key, value)| format!("{} = {}", key_in_toml(key), in_toml(value))).collect();
            format!("{{ {} }}", members.join(", "))
        }
        other => other.to_string(),
    }
}

/// A key as TOML: bare if it may be.
fn key_in_toml(key: &str) -> String {
    let is_bare = !key.is_empty() && key.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte));
    if is_bare { key.to_owned() } else { toml::Value::String(key.to_owned()).to_string() }
}
