//! Choosing: does an entry go in, and if not, why not; and how it goes in.
//!
//! No entry is dropped in silence. The questions are asked in one fixed order; the first that says no gives the
//! [`Reason`]. What the page states about itself for all engines (noindex, a redirect, another canonical) always wins; its
//! own word to this tool stands above the rules of the configuration; those stand above archives and sections.
//!
//! | file | holds |
//! |---|---|
//! | `reason` | why an entry is left out |
//! | `pattern` | path patterns |
//! | `section` | sections, and which of them an entry falls into |
//! | `rule` | the choices of the configuration |
//! | `error_page` | error pages, by name and title |
//! | `verdict` | what is decided |
//! | `trail` | each question that was asked, and its answer |
//! | `ruled` | what all rules say of one entry |
//! | `chooser` | the questions in their order |
//! | `choices` | what a configuration says, from which a run makes its chooser |

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
pub use self::section::{DEFAULT_SECTION, Section, SectionNameError, SectionReason, Sections, check_section_name};
pub use self::trail::Step;
pub use self::verdict::{Kept, Verdict};
