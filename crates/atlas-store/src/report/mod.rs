//! What a survey or a build has to say: plain data, the same for people and for programs.

mod guard;
mod robots;
mod survey;
mod last;
mod built;
mod preview;

pub use self::built::Built;
pub use self::guard::{Guard, Held};
pub use self::last::{LastBuild, in_brief};
pub use self::preview::{FilePreview, Goes, Moves, Planned, Preview};
pub use self::robots::{OtherSitemap, RobotsFate};
pub use self::survey::{
    ChangeReport, Due, DueReport, DueTo, FileFate, FileReport, LeftOut, Remapped, SectionReport, SourceChange,
    SourceReport, Survey,
};
