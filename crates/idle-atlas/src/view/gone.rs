//! The output of `check --gone`: what became of URLs that are no longer listed.

use std::collections::BTreeMap;

use atlas_core::address;
use atlas_core::check::{Fate, GoneFolder, Successor};
use serde::{Serialize, Serializer};

use super::found::blank_or;
use super::grid::Grid;
use crate::screen::{FAINT, GOOD, Layout, STRONG, WARN, count, grouped};

/// How many folders are listed.
const FEW_FOLDERS: usize = 12;
/// How many URLs of one fate are listed.
const FEW: usize = 5;

/// What became of URLs.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct GoneReport {
    /// Where the URLs come from.
    pub from: String,
    /// How many there are.
    pub given: u64,
    pub interrupted: bool,
    pub fates: BTreeMap<Fate, u64>,
    pub folders: Vec<GoneFolder>,
    pub urls: Vec<GoneUrl>,
}

/// One URL.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct GoneUrl {
    pub url: String,
    pub title: Option<String>,
    pub fate: Fate,
    /// The address and status of each answer on the way.
    pub steps: Vec<(String, u16)>,
}

/// A URL that is lost, and the pages that may have taken its place.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct Proposal {
    pub from: String,
    pub fate: Fate,
    #[serde(serialize_with = "successors")]
    #[schemars(with = "Vec<(String, f64)>")]
    pub successors: Vec<Successor>,
}

fn successors<S: Serializer>(successors: &[Successor], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(successors.iter().map(|one| (&one.url, one.likeness)))
}

fn words(fate: Fate) -> &'static str {
    match fate {
        Fate::Redirected => "redirected",
        Fate::ToHome => "to the home page",
        Fate::DeadEnd => "to a dead end",
        Fate::Lost => "lost",
        Fate::StillThere => "still there",
        Fate::NotListed => "not to be listed",
        Fate::Failing => "failing",
    }
}

/// The text.
pub fn report(report: &GoneReport, layout: &Layout) -> String {
    let visited = report.urls.len() as u64;
    let mut out = format!(
        "{STRONG}Asked for {}{STRONG:#} from {} on the live site.\n",
        count(visited, "URL that left", "URLs that left"),
        report.from
    );
    if report.interrupted {
        out += &format!("{WARN}Interrupted{WARN:#} after {} of {}.\n", grouped(visited), grouped(report.given));
    }
    out += "\n";
    out += &layout.host();
    let met: Vec<Fate> = Fate::ALL.into_iter().filter(|fate| report.fates.contains_key(fate)).collect();
    let columns: Vec<String> = met.iter().map(|fate| format!(">{}", words(*fate))).collect();
    let heads: Vec<&str> = [">URLs"].into_iter().chain(columns.iter().map(String::as_str)).chain(["folder"]).collect();
    let mut grid = Grid::new(&heads);
    let shown = layout.shown(FEW_FOLDERS);
    for folder in report.folders.iter().take(shown) {
        let of = |fate: &Fate| blank_or(folder.fates.get(fate).copied().unwrap_or(0));
        grid.row([grouped(folder.urls)].into_iter().chain(met.iter().map(of)).chain([folder.folder.clone()]));
    }
    out += &grid.text(layout);
    if report.folders.len() > shown {
        out +=
            &format!("  and {} more: --verbose\n", count((report.folders.len() - shown) as u64, "folder", "folders"));
    }
    for fate in [Fate::ToHome, Fate::DeadEnd, Fate::Failing, Fate::Lost, Fate::StillThere] {
        out += &examples(report, fate, layout);
    }
    let losses = report.urls.iter().filter(|one| one.fate.is_loss()).count() as u64;
    out += "\n";
    match losses {
        0 => out + &format!("{GOOD}Nothing is lost.{GOOD:#}\n"),
        losses => {
            out += &format!("{} to nothing that took their place.\n", count(losses, "URL leads", "URLs lead"));
            out + &layout
                .next("add --redirects csv or --redirects nginx to propose a target for each, to be edited by hand")
        }
    }
}

/// The first URLs of one fate.
fn examples(report: &GoneReport, fate: Fate, layout: &Layout) -> String {
    let of_fate: Vec<&GoneUrl> = report.urls.iter().filter(|one| one.fate == fate).collect();
    let Some(kind) = fate.kind().filter(|_| !of_fate.is_empty()) else { return String::new() };
    let mut out = format!("\n{WARN}{}{WARN:#}: {}\n", words(fate), count(of_fate.len() as u64, "URL", "URLs"));
    let shown = layout.shown(FEW);
    for one in of_fate.iter().take(shown) {
        let way: Vec<String> = one
            .steps
            .iter()
            .enumerate()
            .map(|(at, (url, status))| match at {
                0 => status.to_string(),
                _ => format!("{} ({status})", layout.urls(url)),
            })
            .collect();
        // Otherwise an answer of 200 would not be a loss.
        let is_soft = one.fate.is_loss() && fate != Fate::ToHome && one.steps.last().is_some_and(|last| last.1 == 200);
        let soft = if is_soft { ", with the text for missing pages" } else { "" };
        out += &format!("    {} {FAINT}{}{soft}{FAINT:#}\n", layout.urls(&one.url), way.join(" → "));
    }
    if of_fate.len() > shown {
        out += &format!("    and {} more: --verbose\n", grouped((of_fate.len() - shown) as u64));
    }
    out + &format!("  {FAINT}{}{FAINT:#}\n", kind.mend)
}

/// The proposals as a table: from, to, likeness, and another candidate.
pub fn as_csv(proposals: &[Proposal]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let mut rows = vec![["from", "to", "likeness", "or"].map(str::to_owned)];
    rows.extend(proposals.iter().map(|one| {
        let nth = |nth: usize| one.successors.get(nth);
        let url = |nth: usize| nth_url(one, nth);
        [one.from.clone(), url(0), nth(0).map_or(String::new(), |best| format!("{:.2}", best.likeness)), url(1)]
    }));
    // Writing into memory does not fail.
    rows.iter().for_each(|row| drop(writer.write_record(row)));
    String::from_utf8_lossy(&writer.into_inner().unwrap_or_default()).into_owned()
}

fn nth_url(proposal: &Proposal, nth: usize) -> String {
    proposal.successors.get(nth).map_or(String::new(), |one| one.url.clone())
}

/// The proposals as directives of nginx, for its server block. What cannot be a directive is a comment.
pub fn as_nginx(proposals: &[Proposal]) -> String {
    let mut out = String::from(
        "# Proposed redirects, the likeliest first. Check each one; the number is how alike both are, from 0 to 1.\n",
    );
    for one in proposals {
        let path = address::path(&one.from);
        let Some(best) = one.successors.first() else {
            out += &format!("# {path}: no page looks like it\n");
            continue;
        };
        let plain = percent_decoded(path).filter(|path| !path.contains(['"', '\\', '$', ';', '{', '}', '\n']));
        let target = Some(&best.url).filter(|url| !url.contains(['"', '\\', '$', ';', '{', '}']));
        out += &match (plain.filter(|_| !path.contains('?')), target) {
            (Some(path), Some(target)) => {
                format!("location = \"{path}\" {{ return 301 \"{target}\"; }}  # {:.2}\n", best.likeness)
            }
            _ => format!(
                "# {path} -> {}  # {:.2}; a location does not match it, so redirect it elsewhere\n",
                best.url, best.likeness
            ),
        };
    }
    out
}

fn percent_decoded(path: &str) -> Option<String> {
    percent_encoding::percent_decode_str(path).decode_utf8().ok().map(|path| path.into_owned())
}
