//! The tables of the configuration as typed.
//!
//! The comment of each key is what `config schema` and the reference say about it: the first paragraph is its meaning;
//! then `Default:` with what holds without it, and `Example:` with a line of TOML where the default alone does not show
//! how it is written. `Secret.` marks what `config show` hides.

mod at;
mod choosing;
mod output;
mod source;
mod stores;
mod telling;
mod upkeep;

pub use at::At;
pub use choosing::{
    AlternatesTable, ArchiveTable, HintKeys, NewsTable, NumberOrWord, RuleTable, SectionTable, SectionsTable,
};
pub use output::{
    FilesTable, ImagesTable, NewestTable, NumberOrAuto, OembedTable, PlayerTable, RobotsTable, StructuredTable,
    VideosTable, VisitorTable, WordOrList, YesOrWord,
};
pub use source::SourceTable;
pub use stores::{LedgerTable, StoreTable};
pub use telling::{ElementOrTable, EngineTable, NamedContent, OwnershipTable, ProgramTable};
pub use upkeep::{
    AccessLogTable, CheckTable, CrawlerTable, GuardsTable, HistoryTable, SiteTable, UptakeTable, WatchTable,
};
