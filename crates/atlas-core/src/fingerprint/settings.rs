//! Fingerprints of settings.

use xxhash_rust::xxh3::xxh3_64;

use crate::choose::{Chooser, Condition};

/// Settings that have a say in what is written, from any text that spells them out.
pub fn settings(text: &str) -> u64 {
    xxh3_64(text.as_bytes())
}

/// A fingerprint of all that decides about an entry besides what is said of it; `written` spells out the configuration that
/// this was made from. `None` where the instant decides too, for other entries than those with a date to come.
pub fn choices(chooser: &Chooser, written: &str) -> Option<u64> {
    let conditions = || chooser.rules.iter().flat_map(|rule| &rule.conditions);
    if conditions().any(|one| matches!(one, Condition::OlderThan(_) | Condition::NewerThan(_))) {
        return None;
    }
    let mut lists: Vec<&String> = Vec::new();
    for condition in conditions() {
        if let Condition::Listed(list, _) = condition {
            lists.extend(list);
        }
    }
    lists.sort_unstable();
    Some(settings(&format!("{written}\n{:?}\n{:?}\n{lists:?}", chooser.robots, chooser.site.root())))
}
