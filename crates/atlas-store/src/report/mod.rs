//! The reports of surveys and builds, as plain data: commands show them, and JSON output contains them.

mod guard;
mod robots;
mod survey;
mod last;
mod built;
mod preview;

pub use self::built::Built;
pub use self::guard::{Guard, Held};
pub use self::last::LastBuild;
pub(crate) use self::last::in_brief;
pub use self::preview::{FilePreview, Goes, Moves, Planned, Preview, TextChange};
pub use self::robots::{OtherSitemap, RobotsFate};
pub use self::survey::{
    ChangeReport, Due, DueReport, DueTo, FileFate, FileReport, LeftOut, MoveReport, Remapped, SectionReport,
    SourceChange, SourceReport, Survey,
};
