//! The run of a survey or a build, from sources to files.
//!
//! | file | holds |
//! |---|---|
//! | `job` | what is to be done |
//! | `gather` | all sources, one after the other |
//! | `found`, `pipeline` | what was found, and the way there |
//! | `departures` | entries that are gone or back |
//! | `report` | what there is to say of it |
//! | `survey`, `preview`, `write`, `explain` | what is done with it |
//! | `remember` | what the ledger keeps besides the files |
//! | `recall`, `overwritten` | beginning without a ledger, or over the files of another tool |

mod job;
mod found;
mod departures;
mod gather;
mod pipeline;
mod report;
mod remember;
mod survey;
mod preview;
mod write;
mod explain;
mod recall;
mod overwritten;

pub use self::explain::{Explained, explain};
pub use self::job::Job;
pub use self::overwritten::{keep_overwritten, overwritten};
pub use self::preview::preview;
pub use self::recall::{Recalled, recall};
pub use self::survey::{list, survey};
pub use self::write::{Ended, build};
pub use crate::derive::ARCHIVES;
pub use crate::settle::{EXAMPLES, ReportLimits};

/// What is done with what the sources yield.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Purpose {
    /// To look at the site as a whole, its links included.
    Look,
    /// To write files.
    Write,
    /// To look at some entries closely: what is known of a site that takes long to walk will do.
    LookCloser,
}
