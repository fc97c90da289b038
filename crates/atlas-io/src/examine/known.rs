//! The pages of a site that are known, by the last part of their address: where the rows of a table are served.

use std::collections::HashMap;

use atlas_core::address::{path, shown};

/// The most pages that are kept.
const MOST: usize = 200_000;

/// Paths of pages, by their last part without `.html`.
#[derive(Debug, Clone, Default)]
pub struct KnownPaths {
    by_last: HashMap<String, Vec<String>>,
    count: usize,
}

impl KnownPaths {
    /// Adds the page at this address or path.
    pub fn add(&mut self, address: &str) {
        let path = if address.starts_with('/') { address } else { path(address) };
        let path = shown(path.split(['?', '#']).next().unwrap_or_default()).into_owned();
        let last = last_part(&path).to_owned();
        if !last.is_empty() && self.count < MOST {
            self.count += 1;
            self.by_last.entry(last).or_default().push(path);
        }
    }

    /// The number of pages.
    pub fn len(&self) -> usize {
        self.count
    }

    /// Whether the page at this address or path is among them.
    pub fn has(&self, address: &str) -> bool {
        let path = if address.starts_with('/') { address } else { path(address) };
        let bare = |path: &str| path.trim_end_matches('/').trim_end_matches(".html").to_owned();
        let last = last_part(path);
        self.by_last.get(last).is_some_and(|known| known.iter().any(|known| bare(known) == bare(path)))
    }

    /// Whether no page is known.
    pub fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// The paths whose last part is this, each taken apart into what comes before and after it.
    pub(super) fn around<'k>(&'k self, last: &str) -> impl Iterator<Item = (&'k str, &'k str)> {
        let length = last.len();
        self.by_last.get(last).into_iter().flatten().filter_map(move |path| {
            let end = path.trim_end_matches('/').trim_end_matches(".html").len();
            Some((path.get(..end.checked_sub(length)?)?, path.get(end..)?))
        })
    }
}

/// The last part of a path, without a slash or `.html` at its end.
fn last_part(path: &str) -> &str {
    let path = path.trim_end_matches('/').trim_end_matches(".html");
    path.rsplit('/').next().unwrap_or(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pages_are_found_by_their_last_part() {
        let mut known = KnownPaths::default();
        known.add("https://www.marrowvale.example/locomotives/bran-fach/");
        known.add("/cy/bran-fach.html");
        known.add("/");
        assert_eq!(known.len(), 2);
        let around: Vec<_> = known.around("bran-fach").collect();
        assert_eq!(around, [("/locomotives/", "/"), ("/cy/", ".html")]);
        assert_eq!(known.around("other").count(), 0);
    }
}
