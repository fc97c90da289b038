//! What engines took, laid over what the ledger knows.
//!
//! | module | does |
//! |---|---|
//! | `subjects` | the listed pages, pictures, videos and sitemap files, found by the tag of their key |
//! | `visits` | counts crawlers' visits to them: in any order, from many threads |
//! | `looks` | collects what the exports of a console say |
//! | `overlay`, `listing` | where each subject stands |
//! | `reasons`, `worth`, `searches` | the reasons that engines give beside our own decisions, the URLs most worth looking at, what searchers did |
//! | `summary` | all of it as a whole, by section and by age |

mod subjects;
mod crawlers;
mod read_logs;
mod times;
mod visits;
mod looks;
mod held;
mod pages;
mod overview;
mod overlay;
mod listing;
mod worth;
mod reasons;
mod searches;
mod summary;

pub use self::crawlers::CrawlerSettings;
pub use self::listing::PageUptake;
pub use self::looks::{ExportRow, LookBuilder};
pub use self::overlay::{Overlaid, overlay};
pub use self::overview::*;
pub use self::pages::PageKnowledge;
pub use self::read_logs::{LogMark, LogsRead};
pub use self::subjects::Subjects;
pub use self::visits::{CountedLines, Visits, Worker};
