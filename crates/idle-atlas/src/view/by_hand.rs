//! The output of `announce --by-hand`.

use std::fmt::Write;

use atlas_store::consoles::ConsoleFiles;
use atlas_store::ledger::WorthSubmitting;
use serde::Serialize;

use crate::screen::{FAINT, Layout, STRONG, count};

/// What is worth submitting by hand.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct ByHandList {
    /// Best first.
    pub urls: Vec<SubmittableUrl>,
    /// The address of the main file.
    pub main: String,
    /// What to do with sitemap files in each console.
    pub consoles: Vec<ConsoleFiles>,
}

/// A URL that is worth submitting by hand.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct SubmittableUrl {
    pub url: String,
    /// The part of it behind the host.
    pub path: String,
    pub why: WorthSubmitting,
    pub words: &'static str,
}

/// The text. Nothing but a URL stands on its line, so that lines can be copied and pasted.
pub fn list(list: &ByHandList, layout: &Layout) -> String {
    let mut out = String::new();
    if list.urls.is_empty() {
        out += "There is nothing to submit by hand: all that is new or has changed has been ticked off.\n";
    } else {
        let _ = writeln!(out, "{STRONG}Most worth submitting, best first{STRONG:#}");
        for group in list.urls.chunk_by(|one, other| one.why == other.why) {
            let _ = writeln!(out, "\n{FAINT}{}{FAINT:#}", group[0].words);
            group.iter().for_each(|one| _ = writeln!(out, "{}", one.url));
        }
        let _ = writeln!(out, "\n{FAINT}the same, without the host{FAINT:#}");
        list.urls.iter().for_each(|one| _ = writeln!(out, "{}", one.path));
    }
    let _ = writeln!(out, "\n{STRONG}Sitemap files{STRONG:#}\n");
    out += &match list.consoles.is_empty() {
        true => format!(
            "Engines that take no announcements learn from robots.txt and from their consoles. Submit the main file there, once:\n\n{}\n\nThen: idle-atlas announce --done {} --in NAME, with a name of your choice for the console.\n",
            list.main,
            list.main.rsplit('/').next().unwrap_or_default()
        ),
        false => in_consoles(&list.consoles),
    };
    match list.urls.first() {
        Some(first) => out + "\n" + &layout.next(&format!("idle-atlas announce --done {}", first.path)),
        None => out,
    }
}

/// What to do in each console.
pub fn in_consoles(consoles: &[ConsoleFiles]) -> String {
    let mut out = String::new();
    for ConsoleFiles { console, submit, remove } in consoles {
        if submit.is_empty() && remove.is_empty() {
            let _ = writeln!(out, "{console}: nothing to do");
        }
        for (files, what) in [(submit, "submit"), (remove, "remove")] {
            if !files.is_empty() {
                let _ = writeln!(out, "{console}: {what} {}", count(files.len() as u64, "file", "files"));
                files.iter().for_each(|file| _ = writeln!(out, "{file}"));
            }
        }
    }
    out
}

/// What a build says about files in consoles; nothing if there is nothing to do.
pub fn after_a_build(consoles: &[ConsoleFiles]) -> String {
    let line = |ConsoleFiles { console, submit, remove }: &ConsoleFiles| {
        let name = |file: &String| file.rsplit('/').next().unwrap_or_default().to_owned();
        let part = |files: &[String], what: &str| match files {
            [] => None,
            [one] => Some(format!("{what} {}", name(one))),
            [first, rest @ ..] => Some(format!("{what} {} and {} more", name(first), rest.len())),
        };
        let parts: Vec<String> = [part(submit, "submit"), part(remove, "remove")].into_iter().flatten().collect();
        (!parts.is_empty())
            .then(|| format!("In {console}: {}. Which: idle-atlas announce --by-hand 10\n", parts.join(", ")))
    };
    consoles.iter().filter_map(line).collect()
}
