//! The kinds of finding, each with its code, its severity, what it means, an example, and what to do. This is the only
//! list of them: the pages of `check --explain` and the table in docs/findings.md are made from it.

mod site;
mod answers;
mod files;
mod entries;
mod media;
mod pages;
mod gone;
mod content;

pub use self::answers::*;
pub use self::content::*;
pub use self::entries::*;
pub use self::files::*;
pub use self::gone::*;
pub use self::media::*;
pub use self::pages::*;
pub use self::site::*;
use crate::report::Severity;

/// One kind of finding.
#[derive(Debug, PartialEq, Eq)]
pub struct FindingKind {
    /// The stable code.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// What it means, and why it matters.
    pub means: &'static str,
    /// Something that has it.
    pub example: &'static str,
    /// What to do about it, in one sentence.
    pub mend: &'static str,
}

/// Declares the kinds of one theme, and a list of them.
macro_rules! declare {
    ($list:ident; $($name:ident = $code:literal, $severity:ident, $means:literal, $example:literal, $mend:literal;)*) => {
        $(#[doc = $means]
        pub const $name: crate::check::codes::FindingKind = crate::check::codes::FindingKind {
            code: $code,
            severity: crate::report::Severity::$severity,
            means: $means,
            example: $example,
            mend: $mend,
        };)*
        pub(super) const $list: &[&crate::check::codes::FindingKind] = &[$(&$name),*];
    };
}
use declare;

/// The kinds by theme, each with the theme's name.
pub const THEMES: [(&str, &[&FindingKind]); 8] = [
    ("The site", site::OF_SITE),
    ("Answers of the server", answers::OF_ANSWERS),
    ("Sitemap files", files::OF_FILES),
    ("Entries", entries::OF_ENTRIES),
    ("Pictures, videos and news", media::OF_MEDIA),
    ("Pages", pages::OF_PAGES),
    ("URLs that are gone", gone::OF_GONE),
    ("Content", content::OF_CONTENT),
];

/// All kinds.
pub fn kinds() -> impl Iterator<Item = &'static FindingKind> {
    THEMES.into_iter().flat_map(|(_, kinds)| kinds.iter().copied())
}

/// The kind with this code.
pub fn named(code: &str) -> Option<&'static FindingKind> {
    kinds().find(|kind| kind.code == code)
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn codes_are_unique_and_explained() {
        let codes: HashSet<&str> = kinds().map(|kind| kind.code).collect();
        assert_eq!(codes.len(), kinds().count());
        for kind in kinds() {
            assert!(kind.means.ends_with('.') && kind.mend.ends_with('.'), "{}", kind.code);
            assert!(!kind.example.trim().is_empty(), "{}", kind.code);
        }
        // Advice about content says why it matters.
        assert!(content::OF_CONTENT.iter().all(|kind| kind.mend.contains(": ")));
        assert_eq!(named("site-shut"), Some(&SITE_SHUT));
        assert_eq!(named("lamp"), None);
    }
}
