//! Declaring the sitemaps in robots.txt.
//!
//! A robots.txt made from nothing would replace the site's real one, with all its rules, as soon as it is copied to the
//! server. So it is created only if the configuration says that there is no other, or if a crawl has seen the live one.

use atlas_core::placement::is_further_index;
use atlas_core::robots::{ALLOW_ALL, Robots, declare, sitemap_lines};

use crate::destination::{Destination, Names, ROBOTS};
use crate::error::StoreError;
use crate::report::{OtherSitemap, RobotsFate, TextChange};
use crate::source::LiveRobots;

/// The intended contents of robots.txt.
pub(crate) struct Declaration {
    before: Option<Vec<u8>>,
    /// The new contents; `None` if the file must not be created.
    pub(super) after: Option<Vec<u8>>,
    taken_over: bool,
    wanted: Vec<String>,
}

impl Declaration {
    /// Reads robots.txt, if one is configured. `declared` are the lines that the tool has added before; `live` is the
    /// file as the live site serves it, if a source has fetched it.
    pub(crate) fn of(
        (destination, names): (&dyn Destination, &Names),
        files: usize,
        declared: &str,
        live: Option<&LiveRobots>,
    ) -> Result<Option<Self>, StoreError> {
        if !names.declares {
            return Ok(None);
        }
        let before = destination.read(ROBOTS)?;
        let (base, taken_over) = match (&before, live) {
            (Some(before), _) => (Some(before.as_slice()), false),
            (None, Some(LiveRobots::Bytes(bytes))) => (Some(bytes.as_slice()), true),
            (None, Some(LiveRobots::Absent)) => (Some(ALLOW_ALL), false),
            (None, None) => (names.create_robots.then_some(ALLOW_ALL), false),
        };
        let wanted = names.index_addresses(files);
        // A killed build may have declared further indexes that are no longer needed.
        let is_left = |address: &str| {
            let name = address.strip_prefix(names.address.as_str());
            name.is_some_and(|name| is_further_index(&names.main, name))
        };
        let there = sitemap_lines(base.unwrap_or_default()).into_iter().map(|(_, address)| address);
        let left: Vec<String> = there.filter(|address| is_left(address) && !wanted.contains(address)).collect();
        let outdated = declared.lines().filter(|line| !wanted.iter().any(|one| one == line));
        let outdated: Vec<&str> = outdated.chain(left.iter().map(String::as_str)).collect();
        let ours: Vec<&str> = wanted.iter().map(String::as_str).collect();
        let after = base.map(|base| declare(base, &ours, &outdated));
        Ok(Some(Self { before, after, taken_over, wanted }))
    }

    /// The sitemaps of other tools that it declares, with line numbers.
    pub(crate) fn others(&self) -> Vec<OtherSitemap> {
        let lines = sitemap_lines(self.after.as_deref().unwrap_or_default()).into_iter();
        let others = lines.filter(|(_, address)| !self.wanted.contains(address));
        others.map(|(line, address)| OtherSitemap { line, address }).collect()
    }

    /// Its text before and after, if it will change.
    pub(crate) fn change(&self) -> Option<TextChange> {
        let text = |bytes: &Option<Vec<u8>>| String::from_utf8_lossy(bytes.as_deref().unwrap_or_default()).into_owned();
        let is_same = self.after.is_none() || self.before == self.after;
        (!is_same).then(|| TextChange { before: text(&self.before), after: text(&self.after) })
    }

    /// What will happen to it.
    pub(crate) fn fate(&self) -> RobotsFate {
        match (&self.before, &self.after) {
            (_, None) => RobotsFate::Missing,
            (Some(before), Some(after)) if before == after => RobotsFate::Unchanged,
            (Some(_), _) => RobotsFate::Declared,
            (None, _) if self.taken_over => RobotsFate::TakenOver,
            (None, _) => RobotsFate::Created,
        }
    }
}

/// Whether the local robots.txt differs from the live site's, apart from `Sitemap:` lines. Copied to the server, it
/// would undo changes there.
pub(crate) fn differs_from_live(destination: &dyn Destination, names: &Names, live: &LiveRobots) -> bool {
    let Some(here) = destination.read(ROBOTS).ok().flatten().filter(|_| names.declares) else { return false };
    match live {
        LiveRobots::Bytes(live) => !Robots::read(live).says_the_same(&Robots::read(&here)),
        LiveRobots::Absent => false,
    }
}
