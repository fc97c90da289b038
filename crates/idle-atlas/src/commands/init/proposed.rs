//! A source that is proposed, as TOML.

/// A source.
pub(super) struct ProposedSource {
    /// The lines of its table, from `[[source]]` on.
    pub(super) lines: Vec<String>,
    /// Whether the lines are comments.
    pub(super) is_commented: bool,
    /// What it is, in a few words.
    pub(super) shown: String,
    /// What may not be right, in sentences.
    pub(super) unsure: Vec<String>,
}

impl ProposedSource {
    /// Its lines as text, with the values below each other.
    pub(super) fn text(&self) -> String {
        let setting = |line: &str| {
            let (key, value) = line.split_once('=')?;
            let key = key.trim_end();
            let is_key = key.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'_');
            is_key.then(|| (key.to_owned(), value.trim_start().to_owned()))
        };
        let width = self.lines.iter().filter_map(|line| Some(setting(line)?.0.len())).max().unwrap_or(0);
        let line = |line: &String| {
            let aligned = setting(line).map_or_else(|| line.clone(), |(key, value)| format!("{key:width$} = {value}"));
            let comment = if self.is_commented && !aligned.starts_with('#') { "# " } else { "" };
            format!("{comment}{aligned}\n")
        };
        self.lines.iter().map(line).collect()
    }
}

/// A text in quotes, as TOML.
pub(super) fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}
