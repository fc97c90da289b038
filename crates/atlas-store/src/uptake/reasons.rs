//! The reasons that engines give, beside our own decisions: does it matter?

use std::collections::{BTreeMap, HashMap};

use foldhash::fast::RandomState;

use super::overlay::{LastLook, MOST_EXAMPLES, Overlaid};
use super::overview::{KnownOfReason, ReasonUptake};
use super::worth::urls;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::model::tag;

/// What we know of a URL that an engine names.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct ReasonVerdict {
    code: String,
    words: String,
    on_purpose: bool,
}

impl ReasonVerdict {
    fn new(code: &str, words: &str, on_purpose: bool) -> Self {
        Self { code: code.to_owned(), words: words.to_owned(), on_purpose }
    }
}

/// The URLs with a reason, by what we know of them.
#[derive(Default)]
struct ReasonGroup {
    urls: u64,
    examples: Vec<String>,
    /// Listed pages whose URLs are still to be read.
    listed: Vec<u32>,
}

/// Groups the URLs of each reason by what we know of them.
pub(super) fn reasons(overlaid: &Overlaid<'_>, ledger: &dyn Ledger) -> Result<Vec<ReasonUptake>, StoreError> {
    if overlaid.looks.iter().all(|last| last.look.facts.reasons.is_empty()) {
        return Ok(Vec::new());
    }
    let left_out = ledger.left_out()?;
    let gone: HashMap<u64, String, RandomState> =
        ledger.tombstones()?.into_iter().map(|(tombstone, _)| (tag(tombstone.key), tombstone.url)).collect();
    let mut all = Vec::new();
    for LastLook { look, records, .. } in &overlaid.looks {
        let mut by_reason: Vec<BTreeMap<Option<ReasonVerdict>, ReasonGroup>> = Vec::new();
        by_reason.resize_with(look.facts.reasons.len(), BTreeMap::new);
        for record in records {
            let Some(of_reason) = usize::from(record.reason).checked_sub(1).and_then(|at| by_reason.get_mut(at)) else {
                continue;
            };
            let listed = overlaid.subjects.find(record.tag);
            let verdict = match listed {
                Some(_) if record.picked_up => Some(ReasonVerdict::new("listed", "listed, as it should be", true)),
                Some(at) => of_listed(overlaid, at),
                None => Some(match (left_out.reason(record.tag), gone.get(&record.tag)) {
                    (Some(reason), _) => {
                        ReasonVerdict::new(reason.code(), &format!("left out: {}", reason.words()), true)
                    }
                    (None, Some(_)) => ReasonVerdict::new("gone", "no longer part of the site", true),
                    (None, None) => ReasonVerdict::new("unknown", "no source names it", false),
                }),
            };
            let known = of_reason.entry(verdict).or_default();
            known.urls += 1;
            if known.examples.len() + known.listed.len() < MOST_EXAMPLES {
                match listed {
                    Some(at) => known.listed.push(at),
                    None => {
                        let url = look.facts.strange.get(&record.tag).or_else(|| gone.get(&record.tag));
                        known.examples.extend(url.cloned());
                    }
                }
            }
        }
        for ((reason, means_picked_up), known) in look.facts.reasons.iter().zip(by_reason) {
            let mut told = ReasonUptake {
                engine: look.engine.clone(),
                reason: reason.clone(),
                means_picked_up: *means_picked_up,
                urls: known.values().map(|known| known.urls).sum(),
                known: Vec::new(),
                unexplained: 0,
                examples: Vec::new(),
            };
            for (verdict, ReasonGroup { urls: count, mut examples, listed }) in known {
                if !*means_picked_up {
                    examples.extend(urls(overlaid, ledger, &listed)?);
                }
                examples.sort();
                match verdict {
                    None => (told.unexplained, told.examples) = (count, examples),
                    Some(ReasonVerdict { code, words, on_purpose }) => {
                        told.known.push(KnownOfReason { code, words, urls: count, on_purpose, examples });
                    }
                }
            }
            told.known.sort_by(|one, other| other.urls.cmp(&one.urls).then(one.code.cmp(&other.code)));
            all.push(told);
        }
    }
    // What means “picked up” is no question.
    all.sort_by(|one, other| {
        (one.means_picked_up, other.urls, &one.reason).cmp(&(other.means_picked_up, one.urls, &other.reason))
    });
    Ok(all)
}

/// What explains that a listed page is not taken; `None` if nothing does.
fn of_listed(overlaid: &Overlaid<'_>, at: u32) -> Option<ReasonVerdict> {
    let visits = overlaid.visits.of(at);
    let known = overlaid.known(at);
    match visits.status {
        404 | 410 if known.fetched => Some(ReasonVerdict::new("answers-gone", "listed, but it is gone by now", false)),
        400.. if known.fetched => {
            Some(ReasonVerdict::new("answers-error", "listed, but it answers with an error", false))
        }
        status @ 300..400 if known.fetched && status != 304 => {
            Some(ReasonVerdict::new("redirects", "listed, but it redirects by now", false))
        }
        _ if known.recent => Some(ReasonVerdict::new("waiting", "new or changed a short time ago", true)),
        _ => None,
    }
}
