//! The tool's own files among the site's URLs.

use std::collections::BTreeSet;

/// The tool's own files among the site's URLs.
#[derive(Debug, Clone, Default)]
pub struct OwnFiles {
    /// Address of the folder with the main file.
    pub folder: String,
    /// File name of the main file.
    pub main: String,
    /// Addresses of other files that the tool writes, or has written: their names begin with “atlas” or end in `.xml` or `.gz`.
    pub others: BTreeSet<String>,
}

/// How the names of child files begin.
pub const CHILD_PREFIX: &str = "atlas-";

impl OwnFiles {
    /// Whether an address is one of them: the main file, or a child file beside it, or a compressed copy of either, or one of
    /// the others.
    pub fn holds(&self, address: &str) -> bool {
        if !self.may_hold(address) {
            return false;
        }
        let in_folder = address.strip_prefix(&self.folder).is_some_and(|name| self.names(name));
        in_folder || self.others.contains(address)
    }

    /// Whether an address looks as if it could be one of them, now or once more files are written. A site has millions of
    /// addresses that are nothing like ours: their last part tells.
    pub fn may_hold(&self, address: &str) -> bool {
        let last = address.as_bytes();
        if last.ends_with(b"/") {
            return false;
        }
        let last = &last[memchr::memrchr(b'/', last).map_or(0, |at| at + 1)..];
        last.starts_with(b"atlas") || last.ends_with(b".xml") || last.ends_with(b".gz")
    }

    fn names(&self, name: &str) -> bool {
        let name = name.strip_suffix(".gz").unwrap_or(name);
        let child = name.starts_with(CHILD_PREFIX) && name.ends_with(".xml");
        (name == self.main || child) && !name.contains('/')
    }
}
