//! Looking at what is there, to propose sources: folders of pages and articles, tables, databases, a live site. Nothing
//! here decides; each look gives facts, and says how sure it is.
//!
//! | file | contents |
//! |---|---|
//! | `known` | the addresses of pages that are known, by their last part |
//! | `pages` | a folder of built pages |
//! | `articles` | folders of Markdown |
//! | `rows` | a sample of rows, and which column gives which field |
//! | `tables` | samples of tables in files |
//! | `databases` | samples of tables in databases |
//! | `live` | a live site |

mod known;
mod pages;
mod articles;
mod rows;
mod tables;
mod databases;
mod live;

pub use self::articles::{ArticleFolder, article_folders};
pub use self::databases::{DatabaseTable, database_tables, sqlite_files};
pub use self::known::KnownPaths;
pub use self::live::{LiveFacts, LiveSitemap, look_at, save_sitemap, saved_name};
pub use self::pages::{NewsPublisher, PageFolderFacts, TopFolder, look_at_folder, page_folders};
pub use self::rows::{FieldGuess, MOST_ROWS, RowGuess, RowSample};
pub use self::tables::{TableFile, table_files, table_sample};
