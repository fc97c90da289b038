//! What engines took, laid over what the ledger knows.
//!
//! | module | does |
//! |---|---|
//! | `subjects` | the listed pages, pictures, videos and sitemap files, found by the tag of their key |
//! | `visits` | counts crawlers' visits to them: in any order, from many threads |
//! | `looks` | collects what the exports of a console say |
//! | `overlay` | where each subject stands, as a whole, by section and by age |
//! | `reasons`, `worth` | the reasons that engines give beside our own decisions, and the URLs most worth looking at |

mod subjects;
mod crawlers;
mod visits;
mod looks;
mod read_logs;
mod overview;
mod times;
mod held;
mod overlay;
mod listing;
mod searches;
mod pages;
mod reasons;
mod worth;

pub use self::crawlers::CrawlerSettings;
pub use self::listing::PageUptake;
pub use self::looks::{LookBuilder, Row};
pub use self::overlay::{Overlaid, overlay};
pub use self::overview::*;
pub use self::pages::PageKnowledge;
pub use self::read_logs::{LogMark, LogsRead};
pub use self::subjects::Subjects;
pub use self::visits::{CountedLines, Visits, Worker};
