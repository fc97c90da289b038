//! The path patterns of rules and sections.

use globset::{Error, Glob, GlobSet, GlobSetBuilder};
use serde::{Serialize, Serializer};

/// Path patterns, with the text as typed.
#[derive(Debug, Clone)]
pub struct Patterns {
    list: Vec<Glob>,
    globs: GlobSet,
    written: String,
}

impl Patterns {
    /// Compiles patterns.
    ///
    /// # Errors
    ///
    /// Returns the error of [`GlobSetBuilder::build`] if the patterns together are too large to compile.
    pub fn new(list: Vec<Glob>) -> Result<Self, Error> {
        let globs = set_of(&list)?;
        let written: Vec<&str> = list.iter().map(Glob::glob).collect();
        Ok(Self { written: written.join(" or "), globs, list })
    }

    /// Whether one of them matches a path.
    pub fn fits(&self, path: &str) -> bool {
        self.globs.is_match(path)
    }

    /// The folders that the patterns begin with, as far as they name one: `/journal/` for `/journal/**`.
    pub fn folders(&self) -> impl Iterator<Item = String> {
        let folder = |glob: &Glob| {
            let literal = glob.glob().split(['*', '?', '[', '{', '\\']).next().unwrap_or_default();
            let end = literal.rfind('/').unwrap_or_default();
            (end > 0).then(|| literal[..=end].to_owned())
        };
        self.list.iter().filter_map(folder)
    }

    /// The text as typed, for messages.
    pub fn written(&self) -> &str {
        &self.written
    }
}

impl Serialize for Patterns {
    /// Serializes the text as typed, which decides what they match.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.written.serialize(serializer)
    }
}

fn set_of<'g>(list: impl IntoIterator<Item = &'g Glob>) -> Result<GlobSet, Error> {
    let mut builder = GlobSetBuilder::new();
    for glob in list {
        builder.add(glob.clone());
    }
    builder.build()
}

/// Patterns of many owners, of which the first owner is found whose patterns match a path: one search for all of them
/// takes little more time than a search for one.
#[derive(Debug, Clone, Default)]
pub(super) struct FirstFit {
    /// Sets in the order of their owners. There is one, unless all patterns together are too large to compile.
    sets: Vec<OwnedSet>,
}

#[derive(Debug, Clone)]
struct OwnedSet {
    globs: GlobSet,
    /// The owner of every pattern, in ascending order.
    owners: Vec<usize>,
}

impl FirstFit {
    /// `owned` is in ascending order of owners.
    pub fn new(owned: &[(usize, &Patterns)]) -> Self {
        let mut sets = Vec::new();
        Self::compile(owned, &mut sets);
        Self { sets }
    }

    /// Compiles the patterns in as few sets as possible.
    fn compile(owned: &[(usize, &Patterns)], sets: &mut Vec<OwnedSet>) {
        let owners_of = |owner: usize, patterns: &Patterns| std::iter::repeat_n(owner, patterns.list.len());
        match owned {
            [] => {}
            [(owner, patterns)] => {
                sets.push(OwnedSet { globs: patterns.globs.clone(), owners: owners_of(*owner, patterns).collect() });
            }
            _ => match set_of(owned.iter().flat_map(|(_, patterns)| &patterns.list)) {
                Ok(globs) => {
                    let owners = owned.iter().flat_map(|(owner, patterns)| owners_of(*owner, patterns)).collect();
                    sets.push(OwnedSet { globs, owners });
                }
                Err(_) => {
                    let (left, right) = owned.split_at(owned.len() / 2);
                    Self::compile(left, sets);
                    Self::compile(right, sets);
                }
            },
        }
    }

    /// The first owner one of whose patterns matches a path.
    pub fn find(&self, path: &str) -> Option<usize> {
        self.sets.iter().find_map(|set| set.globs.matches(path).first().map(|&at| set.owners[at]))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn patterns(list: &[&str]) -> Patterns {
        Patterns::new(list.iter().map(|pattern| Glob::new(pattern).unwrap()).collect()).unwrap()
    }

    #[rstest]
    #[case("/shop/kits/a", Some(2))]
    #[case("/journal/frost", Some(2))]
    #[case("/shop/a", Some(5))]
    #[case("/films/a.html", Some(7))]
    #[case("/fares", None)]
    fn the_first_owner_is_found(#[case] path: &str, #[case] wanted: Option<usize>) {
        let (first, second, third) = (
            patterns(&["/journal/**", "/shop/kits/**"]),
            patterns(&["/shop/**"]),
            patterns(&["/shop/kits/*", "/*/*.{html,htm}"]),
        );
        let owned = [(2, &first), (5, &second), (7, &third)];
        assert_eq!(FirstFit::new(&owned).find(path), wanted);
    }

    #[test]
    fn patterns_that_are_too_large_for_one_set_are_found_all_the_same() {
        let wide = "[a-z]?".repeat(300);
        let many: Vec<Patterns> = (0..600).map(|at| patterns(&[&format!("/*{at}/{wide}*")])).collect();
        let owned: Vec<_> = many.iter().enumerate().collect();
        let all = FirstFit::new(&owned);
        assert!(all.sets.len() > 1, "{} set", all.sets.len());
        assert_eq!(all.find(&format!("/x599/{}", "ab".repeat(300))), Some(9));
    }
}
