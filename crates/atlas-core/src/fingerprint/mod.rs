//! Fingerprints: what lets a build know an entry again and know what about it moved, without keeping its text.
//!
//! | fingerprint | of | moves when | decides |
//! |---|---|---|---|
//! | [`key`] | the address | never | which entry this is |
//! | [`row()`] | all that the sources say, byte for byte | anything at all was said differently | whether the file may differ |
//! | [`raw`] | a row as it came, unread | its bytes move, or how they are read | whether it has to be read at all |
//! | [`decided`] | what is said, and how it goes in | either moves | together with date and group: [`written()`] |
//! | [`Prints::page`] | what the *page* says | its content, title, pictures … move | observed dates, announcements |
//! | [`Prints::declared`] | the declared dates | they move | announcements; tells an edit from a redesign |

mod row;
mod page;
mod written;
mod settings;

pub use self::page::{PARTS, PageField, PageFields, Prints};
pub use self::row::{key, raw, row};
pub use self::settings::{canonical, settings};
pub use self::written::{decided, group, written, written_date};
