//! Declaring the indexes in robots.txt.
//!
//! A robots.txt made from nothing would shadow the one that the site really has, with all its rules, as soon as it is copied to the
//! server. So it is made only where the configuration says that there is no other, or where a crawl has seen the live site's.

use atlas_core::robots::{ALLOW_ALL, Robots, declare, sitemap_lines};

use crate::destination::{Destination, Names, ROBOTS};
use crate::error::StoreError;
use crate::report::{OtherSitemap, RobotsFate};
use crate::source::LiveRobots;

/// What is to be declared in robots.txt.
pub(crate) struct Declaration {
    before: Option<Vec<u8>>,
    /// What the file is to hold; none where it must not be made.
    pub(super) after: Option<Vec<u8>>,
    taken_over: bool,
    wanted: Vec<String>,
}

impl Declaration {
    /// Reads robots.txt, where one is named; `declared` are the lines that the tool has written into it before, `live` is the file as
    /// the live site serves it, where a source has fetched it.
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
        let outdated: Vec<&str> = declared.lines().filter(|line| !wanted.iter().any(|one| one == line)).collect();
        let ours: Vec<&str> = wanted.iter().map(String::as_str).collect();
        let after = base.map(|base| declare(base, &ours, &outdated));
        Ok(Some(Self { before, after, taken_over, wanted }))
    }

    /// The sitemaps of others that it declares: with the line of each.
    pub(crate) fn others(&self) -> Vec<OtherSitemap> {
        let lines = sitemap_lines(self.after.as_deref().unwrap_or_default()).into_iter();
        let others = lines.filter(|(_, address)| !self.wanted.contains(address));
        others.map(|(line, address)| OtherSitemap { line, address }).collect()
    }

    /// What becomes of it.
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

/// Whether the robots.txt that is there says something else than the live site's, `Sitemap:` lines apart: copied to the server, it
/// would undo what was changed there.
pub(crate) fn differs_from_live(destination: &dyn Destination, names: &Names, live: &LiveRobots) -> bool {
    let Some(here) = destination.read(ROBOTS).ok().flatten().filter(|_| names.declares) else { return false };
    match live {
        LiveRobots::Bytes(live) => !Robots::read(live).says_the_same(&Robots::read(&here)),
        LiveRobots::Absent => false,
    }
}
