//! Fingerprints: how a build recognises an entry, and what changed about it, without storing its text.
//!
//! | fingerprint | of | changes when | decides |
//! |---|---|---|---|
//! | [`key`] | the address | never | which entry this is |
//! | [`contribution()`] | the contributions | anything in them changes but the order of lists | whether the file may differ |
//! | [`raw`] | a row as it came, unread | its bytes change, or how they are read | whether it has to be read at all |
//! | [`decided`] | the contributions and the verdict | either changes | with date and group: [`written()`] |
//! | [`Prints::page`] | what the *page* says | its content, title, pictures … change | observed dates, announcements |
//! | [`Prints::declared`] | the declared dates | they change | announcements; tells an edit from a redesign |

mod row;
mod page;
mod written;
mod settings;

pub use self::page::{PARTS, PageField, PageFields, Prints};
pub use self::row::{contribution, key, raw, row};
pub use self::settings::{canonical, settings};
pub use self::written::{decided, group, written, written_date};
