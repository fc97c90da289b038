//! The state of a site as Prometheus text (the text-based exposition format, 0.0.4).

use std::fmt::Write;

/// What is told of a site.
#[derive(Debug, Clone, Default)]
pub struct SiteMetrics {
    /// How many entries are listed.
    pub entries: u64,
    /// In how many sitemap files.
    pub files: u64,
    /// When the last good build was, in seconds since 1970.
    pub last_build: Option<i64>,
    /// Each engine.
    pub engines: Vec<EngineMetrics>,
}

/// What is told of an engine.
#[derive(Debug, Clone, Default)]
pub struct EngineMetrics {
    /// Its name.
    pub name: String,
    /// How many changes it has still to be told of.
    pub waiting: u64,
    /// What became of the announcements that are remembered, each with its number.
    pub outcomes: Vec<(String, u64)>,
}

impl SiteMetrics {
    /// The metrics as text; `now` is in seconds since 1970.
    pub(super) fn text(&self, now: i64) -> String {
        let mut out = String::new();
        let mut metric = |name: &str, kind: &str, help: &str, values: &[(String, String)]| {
            // A string takes everything.
            let _ = writeln!(out, "# HELP idle_atlas_{name} {help}\n# TYPE idle_atlas_{name} {kind}");
            for (labels, value) in values {
                let _ = writeln!(out, "idle_atlas_{name}{labels} {value}");
            }
        };
        let one = |value: u64| vec![(String::new(), value.to_string())];
        metric("entries", "gauge", "Entries that are listed.", &one(self.entries));
        metric("sitemap_files", "gauge", "Sitemap files that list them.", &one(self.files));
        if let Some(at) = self.last_build {
            let age = u64::try_from(now - at).unwrap_or(0);
            metric("last_build_age_seconds", "gauge", "Seconds since the last build that went through.", &one(age));
        }
        let waiting =
            |engine: &EngineMetrics| (format!("{{engine=\"{}\"}}", quoted(&engine.name)), engine.waiting.to_string());
        let waiting: Vec<_> = self.engines.iter().map(waiting).collect();
        metric("announcements_waiting", "gauge", "Changes that an engine has still to be told of.", &waiting);
        let answers = self.engines.iter().flat_map(|engine| {
            engine.outcomes.iter().map(|(outcome, count)| {
                let labels = format!("{{engine=\"{}\",outcome=\"{}\"}}", quoted(&engine.name), quoted(outcome));
                (labels, count.to_string())
            })
        });
        let answers: Vec<_> = answers.collect();
        metric(
            "announcements",
            "gauge",
            "Messages to an engine that are remembered, by what became of them.",
            &answers,
        );
        out
    }
}

fn quoted(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metrics_are_text() {
        let lamp = EngineMetrics { name: "lamp \"1\"".into(), waiting: 3, outcomes: vec![("done".into(), 12)] };
        let metrics = SiteMetrics { entries: 1_000, files: 2, last_build: Some(100), engines: vec![lamp] };
        let text = metrics.text(160);
        for line in [
            "idle_atlas_entries 1000",
            "idle_atlas_last_build_age_seconds 60",
            "idle_atlas_announcements_waiting{engine=\"lamp \\\"1\\\"\"} 3",
            "idle_atlas_announcements{engine=\"lamp \\\"1\\\"\",outcome=\"done\"} 12",
        ] {
            assert!(text.lines().any(|known| known == line), "{line}\n{text}");
        }
    }
}
