//! What sets pages that were not picked up apart from those that were, field by field.

use serde::Serialize;

/// A trait of a page that may keep an engine from taking it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PageTrait {
    /// It has few words.
    Thin,
    /// Its path has many parts.
    Deep,
    /// No other page links to it.
    Unlinked,
    /// Another page has the same title.
    SharedTitle,
    /// It has no title.
    NoTitle,
    /// No date is written for it.
    Undated,
    /// It has not changed for a year.
    Old,
    /// No crawler fetched it.
    NeverFetched,
    /// It redirected a crawler.
    Redirecting,
    /// It answered a crawler with an error.
    Failing,
    /// It answered slowly.
    Slow,
    /// It shows no picture.
    NoPicture,
}

impl PageTrait {
    /// All traits.
    pub const ALL: [Self; 12] = [
        Self::Thin,
        Self::Deep,
        Self::Unlinked,
        Self::SharedTitle,
        Self::NoTitle,
        Self::Undated,
        Self::Old,
        Self::NeverFetched,
        Self::Redirecting,
        Self::Failing,
        Self::Slow,
        Self::NoPicture,
    ];

    /// A page that is this deep or deeper is deep: the parts of its path.
    pub const DEEP: usize = 4;
    /// An answer that takes this long is slow, in milliseconds.
    pub const SLOW: u32 = 1_000;

    fn bit(self) -> u16 {
        1 << self as u16
    }

    /// The trait in words, of one page (“has under 100 words”) or of many (“have under 100 words”).
    pub fn words(self, thin_words: u32, many: bool) -> String {
        let (have, are, answer) = if many { ("have", "are", "answered") } else { ("has", "is", "answered") };
        match self {
            Self::Thin => format!("{have} under {thin_words} words"),
            Self::Deep => format!("{are} {} levels deep or more", Self::DEEP),
            Self::Unlinked => format!("{have} no link from another page"),
            Self::SharedTitle => format!("{have} the title of another page"),
            Self::NoTitle => format!("{have} no title"),
            Self::Undated => format!("{have} no date"),
            Self::Old => format!("{have} not changed for a year"),
            Self::NeverFetched => match many {
                true => "were never fetched".to_owned(),
                false => "was never fetched".to_owned(),
            },
            Self::Redirecting => "redirected a crawler".to_owned(),
            Self::Failing => format!("{answer} a crawler with an error"),
            Self::Slow => format!("{answer} a crawler slowly"),
            Self::NoPicture => format!("{have} no picture"),
        }
    }
}

/// The traits of a page, as far as they are known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Traits {
    known: u16,
    has: u16,
}

impl Traits {
    /// Records whether a page has a trait.
    pub fn set(&mut self, one: PageTrait, has: bool) {
        self.known |= one.bit();
        self.has = if has { self.has | one.bit() } else { self.has & !one.bit() };
    }

    /// Whether a page is known to have a trait.
    pub fn has(self, one: PageTrait) -> bool {
        self.has & one.bit() != 0
    }

    /// The traits that it has.
    pub fn all(self) -> impl Iterator<Item = PageTrait> {
        PageTrait::ALL.into_iter().filter(move |one| self.has(*one))
    }
}

/// How often a trait occurs among pages that were not picked up, and among those that were.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Difference {
    /// The trait.
    #[serde(rename = "trait")]
    pub one: PageTrait,
    /// Of the pages that were not picked up: those that have it.
    pub not_picked_up: u64,
    /// Of how many that is known.
    pub of_not_picked_up: u64,
    /// Of the pages that were picked up: those that have it.
    pub picked_up: u64,
    /// Of how many that is known.
    pub of_picked_up: u64,
}

impl Difference {
    /// The share among those not picked up less that among those picked up.
    fn gap(&self) -> f64 {
        let share = |part: u64, of: u64| if of == 0 { 0.0 } else { part as f64 / of as f64 };
        share(self.not_picked_up, self.of_not_picked_up) - share(self.picked_up, self.of_picked_up)
    }
}

/// The least difference of shares that is worth telling.
const LEAST_GAP: f64 = 0.2;

/// Compares pages: whether each was picked up, and its traits. The greatest difference comes first; what hardly differs
/// is not told.
pub fn differences(pages: impl Iterator<Item = (bool, Traits)>) -> Vec<Difference> {
    let none = |one| Difference { one, not_picked_up: 0, of_not_picked_up: 0, picked_up: 0, of_picked_up: 0 };
    let mut all = PageTrait::ALL.map(none);
    for (picked_up, traits) in pages {
        for difference in all.iter_mut().filter(|difference| traits.known & difference.one.bit() != 0) {
            let has = u64::from(traits.has(difference.one));
            let (part, of) = match picked_up {
                true => (&mut difference.picked_up, &mut difference.of_picked_up),
                false => (&mut difference.not_picked_up, &mut difference.of_not_picked_up),
            };
            *part += has;
            *of += 1;
        }
    }
    let mut told: Vec<Difference> = all
        .into_iter()
        .filter(|one| one.of_not_picked_up > 0 && one.of_picked_up > 0 && one.gap() >= LEAST_GAP)
        .collect();
    told.sort_by(|one, other| other.gap().total_cmp(&one.gap()));
    told
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(thin: Option<bool>, deep: bool) -> Traits {
        let mut traits = Traits::default();
        if let Some(thin) = thin {
            traits.set(PageTrait::Thin, thin);
        }
        traits.set(PageTrait::Deep, deep);
        traits
    }

    #[test]
    fn what_differs_is_told() {
        let not = (0..7).map(|nth| (false, page(Some(nth < 6), nth % 2 == 0)));
        let taken = (0..61).map(|nth| (true, page((nth < 50).then_some(nth < 2), nth % 2 == 0)));
        let told = differences(not.chain(taken));
        let wanted =
            Difference { one: PageTrait::Thin, not_picked_up: 6, of_not_picked_up: 7, picked_up: 2, of_picked_up: 50 };
        assert_eq!(told, [wanted]);
    }

    #[test]
    fn nothing_is_told_of_one_side_alone() {
        assert_eq!(differences((0..7).map(|_| (false, page(Some(true), true)))), []);
    }

    #[test]
    fn traits_are_kept_apart() {
        let mut traits = Traits::default();
        for (nth, one) in PageTrait::ALL.into_iter().enumerate() {
            traits.set(one, nth % 2 == 0);
            assert!(!one.words(100, true).is_empty() && !one.words(100, false).is_empty());
        }
        assert_eq!(traits.all().count(), 6);
        traits.set(PageTrait::Thin, false);
        assert!(!traits.has(PageTrait::Thin));
    }
}
