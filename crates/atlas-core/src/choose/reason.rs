//! The reasons why entries are left out.

use serde::Serialize;

/// Why an entry is left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// Its scheme, host, port or folder is not the site's.
    OtherHost,
    /// It has 2,048 characters or more.
    TooLong,
    /// It is a file that this tool wrote.
    OwnFile,
    /// Only a sitemap from which the site has moved names it.
    OnlyBeforeMove,
    /// The server says that no page is there.
    NoPage,
    /// The server fails to deliver it.
    ServerError,
    /// What the server delivers is not a page.
    NotAPage,
    /// The page forbids indexing.
    Noindex,
    /// The page redirects its visitors.
    Redirect,
    /// The page names another URL as its canonical address.
    CanonicalElsewhere,
    /// A field that decides whether it is kept cannot be read.
    Unreadable,
    /// The row says that it is no longer there.
    Gone,
    /// It is not public yet.
    Draft,
    /// The page or row asks to be left out.
    OwnWord,
    /// A rule of the configuration.
    Rule,
    /// It is the page that the server shows if another is missing or broken.
    ErrorPage,
    /// robots.txt forbids engines to fetch it.
    Disallowed,
    /// Its publication lies in the future.
    Scheduled,
    /// It has expired.
    Expired,
    /// It would be an archive's page, but the site has no such page.
    NoArchivePage,
    /// The folder that serves its URL was read, and has no such page.
    NotInFolder,
    /// Its section is switched off.
    SectionOff,
    /// The same source has named it before.
    Duplicate,
}

impl Reason {
    /// All reasons, in the order in which they are checked.
    pub const ALL: [Self; 23] = [
        Self::OtherHost,
        Self::TooLong,
        Self::OwnFile,
        Self::OnlyBeforeMove,
        Self::NoPage,
        Self::ServerError,
        Self::NotAPage,
        Self::Noindex,
        Self::Redirect,
        Self::CanonicalElsewhere,
        Self::Unreadable,
        Self::Gone,
        Self::Draft,
        Self::OwnWord,
        Self::Rule,
        Self::ErrorPage,
        Self::Disallowed,
        Self::Scheduled,
        Self::Expired,
        Self::NoArchivePage,
        Self::NotInFolder,
        Self::SectionOff,
        Self::Duplicate,
    ];

    /// The stable code.
    pub fn code(self) -> &'static str {
        match self {
            Self::OtherHost => "other-host",
            Self::TooLong => "too-long",
            Self::OwnFile => "own-file",
            Self::OnlyBeforeMove => "only-before-move",
            Self::NoPage => "no-page",
            Self::ServerError => "server-error",
            Self::NotAPage => "not-a-page",
            Self::Noindex => "noindex",
            Self::Redirect => "redirect",
            Self::CanonicalElsewhere => "canonical-elsewhere",
            Self::Unreadable => "unreadable",
            Self::Gone => "gone",
            Self::Draft => "draft",
            Self::OwnWord => "own-word",
            Self::Rule => "rule",
            Self::ErrorPage => "error-page",
            Self::Disallowed => "disallowed",
            Self::Scheduled => "scheduled",
            Self::Expired => "expired",
            Self::NoArchivePage => "no-archive-page",
            Self::NotInFolder => "not-in-folder",
            Self::SectionOff => "section-off",
            Self::Duplicate => "duplicate",
        }
    }

    /// The reason with this code.
    pub fn named(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.code() == code)
    }

    /// What it means, for the user.
    pub fn words(self) -> &'static str {
        match self {
            Self::OtherHost => "not on this site (scheme, host, port or folder)",
            Self::TooLong => "URL of 2,048 characters or more",
            Self::OwnFile => "a file of this tool",
            Self::OnlyBeforeMove => "only the old sitemap has it",
            Self::NoPage => "the server has no page there",
            Self::ServerError => "the server fails there",
            Self::NotAPage => "what is served there is not a page",
            Self::Noindex => "page says noindex",
            Self::Redirect => "page redirects elsewhere",
            Self::CanonicalElsewhere => "page names another URL as canonical",
            Self::Gone => "row says that it is gone",
            Self::Unreadable => "a value that decides about it cannot be read",
            Self::Draft => "draft",
            Self::OwnWord => "page or row asks to be left out",
            Self::Rule => "rule in the configuration",
            Self::ErrorPage => "error page",
            Self::Disallowed => "barred by robots.txt",
            Self::Scheduled => "publication date in the future",
            Self::Expired => "expired",
            Self::NoArchivePage => "archive without a page on the site",
            Self::NotInFolder => "no page in the folder that serves it",
            Self::SectionOff => "its section is off",
            Self::Duplicate => "repeated by the same source",
        }
    }

    /// What to do to list it after all, or to be rid of it, for the user.
    pub fn advice(self) -> &'static str {
        match self {
            Self::OtherHost => "correct [site] url, or let the source name the site's own URLs",
            Self::TooLong => "shorten it: engines do not take longer ones",
            Self::OwnFile => "nothing: it is no page",
            Self::OnlyBeforeMove => {
                "see what it answers (check --gone), and redirect it; or add the source that has its page"
            }
            Self::NoPage => "restore the page, or let links and sources name it no more",
            Self::ServerError => "mend the server; what was listed before stays listed until then",
            Self::NotAPage => "let the server deliver a page there; list documents with “documents”",
            Self::Noindex => "take the noindex out of the page or its headers, if engines may have it",
            Self::Redirect => "list the target in its place: link to it, and name it in the sources",
            Self::CanonicalElsewhere => "correct the canonical link, or canonical = \"ignore\" on the source",
            Self::Gone => "correct the row (its column “gone”), if it is still there",
            Self::Unreadable => "correct the value; the report of its source says which it is",
            Self::Draft => "nothing until it is published",
            Self::OwnWord => "take the word (keep, meta name=\"idle-atlas\", idle_atlas:) out of the page or row",
            Self::Rule => "change the rule; the steps (why URL --fresh) name its line",
            Self::ErrorPage => "nothing, if it is one; else give it another title or name",
            Self::Disallowed => "allow it in robots.txt; the steps (why URL --fresh) name the line",
            Self::Scheduled => "nothing: it is listed when its time comes",
            Self::Expired => "give it a later expiry date, if it still holds",
            Self::NoArchivePage => "create the page, or assume_page = true if it exists and no source reads it",
            Self::NotInFolder => {
                "build the page, or pages = \"may-be-elsewhere\" on the source if an application serves it"
            }
            Self::SectionOff => "on = true in its section",
            Self::Duplicate => "name it once in the source",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_unique() {
        let codes: std::collections::HashSet<&str> = Reason::ALL.iter().map(|reason| reason.code()).collect();
        assert_eq!(codes.len(), Reason::ALL.len());
    }
}
