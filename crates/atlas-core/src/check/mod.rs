//! Inspecting a site's sitemaps as an engine reads them: files in, findings out.
//!
//! The caller fetches; [`Inspection`] says which file to fetch next, its [`Judge`] judges each file on its own, several at
//! once if the caller likes, and the inspection puts the verdicts together.

mod codes;
mod findings;
mod returned;
mod listed;
mod request;
mod answer;
mod fetched;
mod seen;
mod judge;
mod entry;
mod media;
mod file;
mod met;
mod inspection;
mod page;
mod gone;
mod successors;
mod content;
mod ownership;

pub use self::answer::{ServerAnswer, Silence};
pub use self::codes::{
    FindingKind, LINK_NOFOLLOW, LINKED_NOT_FOUND, SECOND_COPY, SITE_REDIRECTS, THEMES, UNLINKED, VISITOR_PAGE_UNLINKED,
    kinds, named,
};
pub use self::content::{ContentPage, NoindexShare, ThinWords, judge_content};
pub use self::fetched::{FetchResult, FetchedFile, PackedCopy, is_sitemap};
pub use self::file::each_url;
pub use self::findings::{Collected, Findings, MOST_KEPT, Place};
pub use self::gone::{Fate, GoneFolder, GoneTrail, by_folder, fate};
pub use self::inspection::{Inspection, PagesVisited, Report, USUAL_PLACES};
pub use self::judge::Judge;
pub use self::listed::{ListedPage, MediaKind, PageSample};
pub use self::ownership::Ownership;
pub use self::page::{MissingPage, PageVisit, judge_media, judge_page, trouble};
pub use self::request::FileRequest;
pub use self::seen::{FileSeen, Form, JudgedFile};
pub use self::successors::{Successor, Successors, Titled};

#[cfg(test)]
mod tests;
