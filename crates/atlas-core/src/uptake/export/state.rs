//! What the words of a console mean, and its numbers.

/// Whether a console says that a URL is in its index.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReasonMeaning {
    /// It is.
    PickedUp,
    /// It is not, or not for itself.
    Not,
}

/// Words that mean “in the index” by themselves.
const YES: [&str; 12] =
    ["indexed", "in index", "in the index", "picked up", "valid", "yes", "true", "pass", "ok", "included", "1", "on"];
/// Words that turn the meaning.
const NO: [&str; 9] = ["not ", "non-", "un", "no ", "without", "exclu", "except", "error", "fail"];

impl ReasonMeaning {
    /// What a reason means. `picked_up` are the words that the configuration declares to mean “picked up”; without them,
    /// a reason means it if it says “indexed” and nothing that turns the meaning.
    pub fn of(reason: &str, picked_up: &[String]) -> Self {
        let reason = reason.trim().to_lowercase();
        let means_it = match picked_up {
            [] => {
                let turns = NO
                    .iter()
                    .any(|word| reason.starts_with(word) || reason.contains(&format!(" {}", word.trim_start())));
                let begins = YES.iter().any(|word| reason == *word);
                begins
                    || (!turns && reason.split(|letter: char| !letter.is_alphanumeric()).any(|word| word == "indexed"))
            }
            declared => declared.iter().any(|word| word.trim().to_lowercase() == reason),
        };
        if means_it { Self::PickedUp } else { Self::Not }
    }
}

/// A number as consoles write it: `1,204`, `1 204`, `4.2`, `12%`.
pub fn read_number(text: &str) -> Option<f64> {
    let text = text.trim().trim_end_matches('%').trim_end();
    if text.is_empty() {
        return None;
    }
    if let Ok(number) = text.parse::<f64>() {
        return number.is_finite().then_some(number);
    }
    let groups: Vec<&str> = text.split([',', ' ', '\u{a0}', '\u{202f}']).collect();
    let (last, others) = groups.split_last()?;
    let is_grouped = groups.len() > 1
        && others.iter().skip(1).all(|group| group.len() == 3)
        && last.split('.').next().is_some_and(|whole| whole.len() == 3);
    is_grouped.then(|| groups.concat().parse().ok()).flatten()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Indexed", ReasonMeaning::PickedUp)]
    #[case("Indexed through a sitemap", ReasonMeaning::PickedUp)]
    #[case("Picked up", ReasonMeaning::PickedUp)]
    #[case("Fetched, not indexed", ReasonMeaning::Not)]
    #[case("Not indexed", ReasonMeaning::Not)]
    #[case("Shut out, not indexed", ReasonMeaning::Not)]
    #[case("Known, for now not indexed", ReasonMeaning::Not)]
    #[case("Unindexed", ReasonMeaning::Not)]
    #[case("Soft 404", ReasonMeaning::Not)]
    #[case("Invalid", ReasonMeaning::Not)]
    fn reasons(#[case] reason: &str, #[case] wanted: ReasonMeaning) {
        assert_eq!(ReasonMeaning::of(reason, &[]), wanted);
    }

    #[test]
    fn declared_words_decide_alone() {
        let declared = ["Lamp lit".to_owned()];
        assert_eq!(ReasonMeaning::of("lamp lit ", &declared), ReasonMeaning::PickedUp);
        assert_eq!(ReasonMeaning::of("Indexed", &declared), ReasonMeaning::Not);
    }

    #[rstest]
    #[case("1204", Some(1204.0))]
    #[case("1,204", Some(1204.0))]
    #[case("1 204 511", Some(1_204_511.0))]
    #[case("4.2", Some(4.2))]
    #[case("12.5%", Some(12.5))]
    #[case("1,2", None)]
    #[case("two", None)]
    #[case("", None)]
    fn numbers(#[case] text: &str, #[case] wanted: Option<f64>) {
        assert_eq!(read_number(text), wanted);
    }
}
