//! The output of `build --withdraw`.

use std::fmt::Write;

use atlas_store::build::Withdrawn;

use crate::screen::{FAINT, Layout, STRONG, WARN, count};

/// What has left the web root, or would.
pub fn withdrawn(withdrawn: &Withdrawn, done: bool, layout: &Layout) -> String {
    if withdrawn.is_empty() {
        return "There is nothing to withdraw: no file or line of this tool is in the web root.\n".to_owned();
    }
    let files = count(withdrawn.files.len() as u64, "file", "files");
    let lines = count(withdrawn.lines.len() as u64, "line", "lines");
    let verb = if done { "Withdrawn" } else { "Would be withdrawn" };
    let mut out = format!("{STRONG}{verb}: {files} of this tool, and {lines} in robots.txt{STRONG:#}\n\n");
    let shown = layout.shown(20);
    withdrawn.files.iter().take(shown).for_each(|file| _ = writeln!(out, "  − {file}"));
    if withdrawn.files.len() > shown {
        let _ = writeln!(out, "    and {} more: --verbose", withdrawn.files.len() - shown);
    }
    withdrawn.lines.iter().for_each(|line| _ = writeln!(out, "  − Sitemap: {line}"));
    if !withdrawn.changed.is_empty() {
        let _ = writeln!(
            out,
            "\n{WARN}Changed by somebody else, and left where they are:{WARN:#} {}",
            withdrawn.changed.join(", ")
        );
    }
    out + &format!(
        "\n{FAINT}Key files and files for consoles stay. The ledger remembers the site: the next build writes everything again.{FAINT:#}\n"
    )
}
