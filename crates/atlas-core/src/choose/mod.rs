//! Choosing: whether an entry is listed, why not if not, and how it is written.
//!
//! No entry is dropped in silence. The questions are asked in one fixed order, and the first that says no gives the
//! [`Reason`]. What the page tells all engines (noindex, a redirect, another canonical address) always wins; its own
//! word to this tool comes before the rules of the configuration, and those come before archives and sections.
//!
//! | file | contents |
//! |---|---|
//! | `reason` | why an entry is left out |
//! | `pattern` | path patterns |
//! | `section` | sections, and which of them an entry belongs to |
//! | `rule` | the rules of the configuration |
//! | `error_page` | error pages, by name and title |
//! | `verdict` | the decision |
//! | `trail` | the questions asked, and their answers |
//! | `ruled` | the settings that all rules together give one entry |
//! | `chooser` | the questions, in order |
//! | `choices` | the settings from which a run makes its chooser |

mod reason;
mod pattern;
mod section;
mod rule;
mod error_page;
mod verdict;
mod trail;
mod ruled;
mod chooser;
mod choices;

pub use self::choices::Choices;
pub use self::chooser::Chooser;
pub use self::pattern::Patterns;
pub use self::reason::Reason;
pub use self::rule::{Condition, Covers, Met, Rule};
pub use self::section::{
    DEFAULT_SECTION, MOST_MADE, Section, SectionNameError, SectionReason, Sections, check_section_name, made_name,
};
pub use self::trail::Step;
pub use self::verdict::{Kept, Verdict};
