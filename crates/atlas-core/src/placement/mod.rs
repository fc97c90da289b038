//! Placement: which file of its section an entry is in, so that it stays there from build to build.
//!
//! An entry leaves its file for only four reasons: it left the section, the file outgrew its limits, a limit was
//! lowered, or the file was less than half full and is folded. New entries go into the section's open file, the one
//! with the highest number; if it is full, another is opened. Numbers are never reused, because a folded file stays on
//! disk for engines that still have the old index.
//!
//! [`Placer`] does the counting. It works on counts alone, so that unchanged files need not be opened.

pub mod file_kind;
pub mod file_name;
pub mod limits;
pub mod placer;

pub use self::file_kind::FileKind;
pub(crate) use self::file_name::is_sitemap;
pub use self::file_name::{
    CHILD_PREFIX, NEWEST_ATOM, NEWEST_RSS, OwnFiles, STYLESHEET_NAME, TEXT, VISITOR_PAGE, child_name, index_name,
    is_extra_file, is_further_index, is_packed, media_type, packed_name, parts_of, plain_name, text_file_name,
};
pub use self::limits::{
    LEAST_MEDIA, LimitError, Limits, MOST_BYTES, MOST_FILES, MOST_URLS, USUAL_MEDIA, UrlsPerFile, Weight,
};
pub use self::placer::{FileState, Placer};
