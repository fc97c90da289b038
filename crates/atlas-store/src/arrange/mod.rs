//! Arranging: which file, and which segment of it, each entry goes into.
//!
//! Unchanged files and segments are carried over without being opened. What has to be rebuilt is listed entry by entry,
//! for [`publish`](crate::publish) to render and compress.

mod cut;
mod plan;
mod waiting;
mod renderer;
mod untouched;
mod site;
mod series;
mod arranging;

pub(crate) use self::arranging::arrange;
pub use self::cut::Cut;
pub(crate) use self::plan::{FilePlan, Made, MemberOrigin, Plan, SEGMENT, SegmentPlan};
pub(crate) use self::renderer::Renderer;
pub(crate) use self::site::ArrangedSite;
