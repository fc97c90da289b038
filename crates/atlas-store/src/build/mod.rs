//! The run of a survey or a build, from sources to files.
//!
//! | file | contents |
//! |---|---|
//! | `job` | what to do |
//! | `gather` | reading all sources, one after the other |
//! | `found`, `pipeline` | the findings of a run, and how they are made |
//! | `increments` | sources that are asked for changes alone |
//! | `departures` | entries that left or are back |
//! | `report` | the report on the findings |
//! | `survey`, `preview`, `write`, `explain` | what a command does with the findings |
//! | `remember` | what the ledger keeps besides the files |
//! | `recorded` | what the ledger knows of one URL |
//! | `recall`, `overwritten` | starting without a ledger, or over the files of another tool |

mod job;
mod failing;
mod increments;
mod found;
mod skipped;
mod departures;
mod run_urls;
mod gather;
mod pipeline;
mod report;
mod remember;
mod survey;
mod preview;
mod overwritten;
mod write;
mod explain;
mod recorded;
mod recall;
mod withdraw;

pub use self::explain::{Explained, explain};
pub use self::job::{Job, KEEP_DAYS};
pub use self::overwritten::{keep_overwritten, overwritten};
pub use self::pipeline::made_sections;
pub use self::preview::preview;
pub use self::recall::{Recalled, recall};
pub use self::recorded::{ListedUrl, Recorded, RecordedState, recorded};
pub use self::survey::{list, survey, survey_closely};
pub use self::withdraw::{Withdrawn, withdraw, withdrawal};
pub use self::write::{Ended, build};
pub use crate::derive::ARCHIVES;
pub use crate::guard::is_own_file;
pub use crate::settle::{EXAMPLES, ReportLimits};

/// What a run is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Purpose {
    /// Surveying the whole site, including its links.
    Look,
    /// Writing files.
    Write,
    /// Looking at some entries closely. For a site that takes long to crawl, what is already known is enough.
    LookCloser,
}
