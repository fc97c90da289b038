//! The cards of `check --page`: what the live site says of single pages.

use atlas_core::lastmod::Lastmod;
use atlas_core::report::Severity;
use atlas_io::check::PageLook;
use serde::Serialize;

use crate::screen::{BAD, FAINT, GOOD, Layout, STRONG, WARN, count, date, took};

/// What is known of one page.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct PageCard {
    #[serde(flatten)]
    pub look: PageLook,
    /// Where the last build put it: its section.
    pub section: Option<String>,
    /// Why the last build left it out, as a code and in words.
    pub left_out: Option<(&'static str, &'static str)>,
    /// The engines that were told of its last change.
    pub told: Vec<ToldTo>,
}

/// An engine that was told of a page, and when.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct ToldTo {
    pub engine: String,
    pub at: Lastmod,
}

/// The cards, one after the other.
pub fn cards(cards: &[PageCard], layout: &Layout) -> String {
    cards.iter().map(|one| card(one, layout)).collect::<Vec<_>>().join("\n")
}

fn card(card: &PageCard, layout: &Layout) -> String {
    let look = &card.look;
    let mut out = format!("{STRONG}{}{STRONG:#}\n", look.url);
    let mut row = |name: &str, text: String| out += &format!("  {FAINT}{name:<12}{FAINT:#}{text}\n");
    for (at, step) in look.steps.iter().enumerate() {
        let time = if at == 0 { format!(" in {}", took(look.milliseconds)) } else { format!(" at {}", step.url) };
        let status = if step.status == 0 { "nothing".to_owned() } else { step.status.to_string() };
        row(if at == 0 { "answers" } else { "then" }, format!("{status}{time}"));
    }
    row(
        "robots.txt",
        match (&look.robots_trouble, &look.barred[..]) {
            (Some(why), _) => format!("cannot be read, so that engines fetch nothing ({why})"),
            (None, []) => "allows it".to_owned(),
            (None, barred) => barred
                .iter()
                .map(|one| format!("line {} bars {}: “Disallow: {}”", one.line, whom(&one.token), one.pattern))
                .collect::<Vec<_>>()
                .join("; "),
        },
    );
    let is_there = look.steps.last().is_some_and(|step| step.status == 200);
    if is_there {
        row("noindex", look.noindex.clone().unwrap_or_else(|| "no".to_owned()));
        row("canonical", look.canonical.clone().unwrap_or_else(|| "itself".to_owned()));
    }
    row(
        "sitemap",
        match &look.listed_in {
            Some(file) => format!("listed in {}", layout.urls(file)),
            None if look.search_ended => {
                format!(
                    "not in the {} that could be read in time",
                    count(look.searched as u64, "live file", "live files")
                )
            }
            None => format!("in none of {}", count(look.searched as u64, "live file", "live files")),
        },
    );
    match (&card.section, card.left_out) {
        (Some(section), _) => row("last build", format!("listed it, in section {section}")),
        (_, Some((code, words))) => row("last build", format!("left it out: {code} ({words})")),
        _ => {}
    }
    for told in &card.told {
        row("told", format!("{} on {}", told.engine, date(&told.at, &layout.zone)));
    }
    if card.section.is_some() && card.told.is_empty() {
        row("told", "no engine yet".to_owned());
    }
    if look.troubles.is_empty() {
        return out + &format!("  {GOOD}Engines may take it.{GOOD:#}\n");
    }
    for trouble in &look.troubles {
        let style = if trouble.severity == Severity::Error { BAD } else { WARN };
        out += &format!("  {style}{} {}{style:#}: {}\n", trouble.severity, trouble.code, trouble.what);
        out += &format!("    {FAINT}{}{FAINT:#}\n", trouble.mend);
    }
    out
}

fn whom(token: &str) -> String {
    if token == "*" { "all engines".to_owned() } else { token.to_owned() }
}
