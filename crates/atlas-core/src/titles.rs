//! Titles of pages, with and without the site's name after a separator: `Fares · Marrow Vale Light Railway`.

use std::collections::HashMap;

use rayon::prelude::*;

/// The separators between a page's own title and the site's name.
const SIGNS: [&str; 6] = [" · ", " | ", " – ", " — ", " - ", " :: "];
/// The number of titles that must end in the same way before the ending is taken for a name.
const LEAST: usize = 3;

/// A title up to its last separator, and the rest.
///
/// ```
/// use atlas_core::titles::ending;
///
/// assert_eq!(ending("Fares – 2026 | Marrow Vale"), Some(("Fares – 2026", "Marrow Vale")));
/// assert_eq!(ending("Fares"), None);
/// ```
pub fn ending(title: &str) -> Option<(&str, &str)> {
    // Every separator begins with a space.
    let sign_at = |at: usize| SIGNS.iter().find(|sign| title[at..].starts_with(**sign));
    let (at, sign) = memchr::memrchr_iter(b' ', title.as_bytes()).find_map(|at| Some((at, sign_at(at)?)))?;
    Some((&title[..at], &title[at + sign.len()..]))
}

/// The ending that more than half of all titles have after a separator: the name of the site, or of their section.
/// `all` is their number, including pages without a title.
pub fn common_ending<'a>(titles: impl ParallelIterator<Item = &'a str>, all: usize) -> Option<&'a str> {
    let endings = titles.filter_map(|title| Some(ending(title)?.1));
    let counts = endings.fold(HashMap::<&str, usize>::new, |mut counts, ending| {
        *counts.entry(ending).or_default() += 1;
        counts
    });
    let counts = counts.reduce(HashMap::new, |mut counts, others| {
        others.into_iter().for_each(|(ending, count)| *counts.entry(ending).or_default() += count);
        counts
    });
    let (common, count) = counts.into_iter().max_by_key(|(ending, count)| (*count, *ending))?;
    (count >= LEAST && count * 2 > all).then_some(common)
}

/// A title without this name at its end; unchanged if it ends differently, or if nothing would be left.
pub fn without<'t>(title: &'t str, name: Option<&str>) -> &'t str {
    let own = ending(title).filter(|(_, end)| Some(*end) == name).map(|(own, _)| own.trim_end());
    own.filter(|own| !own.is_empty()).unwrap_or(title)
}

/// Whether two titles are the same except for a name at the end of either.
///
/// ```
/// use atlas_core::titles::is_same;
///
/// assert!(is_same("Fares | Marrow Vale", "Fares"));
/// assert!(is_same("Fares | Marrow Vale", "Fares – Marrow Vale Light Railway"));
/// assert!(!is_same("Fares", "Prices"));
/// ```
pub fn is_same(one: &str, other: &str) -> bool {
    let own = |title: &str| ending(title).map_or(title, |(own, _)| own).trim().to_owned();
    one == other || own(one) == other.trim() || own(other) == one.trim() || own(one) == own(other)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    proptest! {
        #[test]
        fn a_site_name_does_not_change_a_title(title in "[a-z]{1,9}( [a-z]{1,9}){0,3}", name in "[A-Z][a-z]{1,9}", at in 0usize..6) {
            let whole = format!("{title}{}{name}", SIGNS[at]);
            prop_assert!(is_same(&whole, &title) && is_same(&title, &whole));
            prop_assert_eq!(without(&whole, Some(&name)), title.as_str());
        }

        #[test]
        fn a_title_is_never_emptied(title in "[a-z·|–:  -]{0,30}", name in "[a-z·|  ]{0,9}") {
            prop_assert!(title.starts_with(without(&title, Some(&name))));
            prop_assert!(title.is_empty() || !without(&title, Some(&name)).is_empty());
            prop_assert!(is_same(&title, &title));
        }
    }

    #[rstest]
    #[case(&["Frost · Journal", "Thaw · Journal", "Rain · Journal", "Journal"], Some("Journal"))]
    #[case(&["A – B | Railway", "C | Railway", "D | Railway"], Some("Railway"))]
    #[case(&["Frost · Journal", "Thaw · Journal", "Rain", "Ice"], None)]
    #[case(&["Frost · Journal", "Thaw · Journal"], None)]
    fn most_titles_end_with_the_name_of_the_site(#[case] titles: &[&str], #[case] wanted: Option<&str>) {
        assert_eq!(common_ending(titles.par_iter().copied(), titles.len()), wanted);
    }

    #[rstest]
    #[case("Frost · Journal", "Frost")]
    #[case("Frost | Journal", "Frost")]
    #[case("Frost · Railway", "Frost · Railway")]
    #[case(" · Journal", " · Journal")]
    #[case("Journal", "Journal")]
    fn names_are_dropped(#[case] title: &str, #[case] wanted: &str) {
        assert_eq!(without(title, Some("Journal")), wanted);
        assert_eq!(without(title, None), title);
    }
}
