//! What to do about a finding, which depends on who wrote the file.

use super::codes::{COPY_DIFFERS, FILE_BROKEN, FILE_MISSING, FindingKind, NEWS_TOO_OLD, NOT_WELL_FORMED};
use super::files::Inspection;
use crate::placement::is_sitemap;

impl Inspection {
    /// The advice for a finding. Building again helps only if the file is one that a build writes.
    pub(super) fn mend(&self, kind: &FindingKind, file: &str) -> &'static str {
        let by_building = [&FILE_MISSING, &FILE_BROKEN, &NOT_WELL_FORMED, &NEWS_TOO_OLD, &COPY_DIFFERS];
        let is_one = by_building.iter().any(|known| known.code == kind.code);
        match kind.code {
            _ if !is_one || self.is_built(file) => kind.mend,
            code if code == FILE_MISSING.code => "Put the file there, or remove the line that names it.",
            _ => "Another tool wrote the file: let that tool write it again, or remove the line that names it.",
        }
    }

    /// Whether a build writes a file with this name.
    fn is_built(&self, file: &str) -> bool {
        let Some((folder, main)) = self.main.as_deref().and_then(|main| main.rsplit_once('/')) else { return false };
        let name = file.strip_prefix(folder).and_then(|rest| rest.strip_prefix('/'));
        name.is_some_and(|name| is_sitemap(main, name))
    }
}
