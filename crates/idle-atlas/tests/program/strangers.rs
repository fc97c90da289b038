//! Sitemaps and feeds that nobody here wrote: those in the documentation of Debian packages.

use std::path::{Path, PathBuf};
use std::process::Command;

use atlas_core::accepted::Accepted;
use atlas_core::check::{FetchResult, Inspection, PageSample, Report};
use atlas_core::jiff::tz::TimeZone;
use atlas_core::lastmod::Lastmod;
use walkdir::WalkDir;

/// Names the folder into which `.ci/run` unpacks such packages.
const FOLDER: &str = "IDLE_ATLAS_SITEMAPS_OF_OTHERS";
/// In so many ways each file is broken.
const BREAKS: usize = 50;
const LETTERS: [char; 12] = ['<', '>', '&', '/', '"', '=', ' ', 'a', 'x', '!', ']', 'é'];

fn sitemaps() -> Vec<PathBuf> {
    let folder = std::env::var(FOLDER).unwrap_or_else(|_| "/usr/share".to_owned());
    let files = WalkDir::new(folder).into_iter().flatten();
    let is_one = |path: &Path| {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        (name.starts_with("sitemap") || name.contains("feed")) && (name.ends_with(".xml") || name.ends_with(".xml.gz"))
    };
    files.map(walkdir::DirEntry::into_path).filter(|path| is_one(path) && path.is_file()).collect()
}

fn bytes(path: &Path) -> Vec<u8> {
    let bytes = std::fs::read(path).unwrap();
    match bytes.starts_with(&[0x1f, 0x8b]) {
        true => atlas_store::disk::segmented_gzip::unpack(&bytes, 1 << 26).unwrap(),
        false => bytes,
    }
}

fn judged(bytes: &[u8]) -> Report {
    let now = Lastmod::read("2026-11-23T12:00:00Z", &TimeZone::UTC).unwrap();
    let mut inspection = Inspection::new(now, Accepted::none(), PageSample::None);
    inspection.single("https://site.example/sitemap.xml");
    let wanted = inspection.next_wanted().unwrap();
    let judged = inspection.judge().file(&wanted, FetchResult::Bytes(bytes.to_vec()).into());
    inspection.take(&wanted, judged);
    inspection.finish()
}

fn is_well_formed(bytes: &[u8]) -> bool {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), bytes).unwrap();
    let ran = Command::new("xmllint").args(["--noout", "--nonet"]).arg(file.path()).output();
    ran.expect("xmllint is installed").status.success()
}

#[test]
#[ignore = "needs xmllint, and Debian packages with sitemaps and feeds"]
fn files_of_others_are_read_and_each_break_is_named_or_harmless() {
    let files = sitemaps();
    assert!(files.len() >= 5, "{files:?}");
    let mut random = fastrand::Rng::with_seed(7);
    let mut broken = 0;
    for path in files {
        let whole = bytes(&path);
        let before = judged(&whole);
        let is_sitemap = before.files.first().is_some_and(|file| file.entries > 0);
        for _ in 0..BREAKS {
            let start = random.usize(..whole.len().max(1));
            let end = (start + random.usize(..30)).min(whole.len());
            let by: String = (0..random.usize(..6)).map(|_| *random.choice(&LETTERS).unwrap()).collect();
            let start = start.min(whole.len());
            let cut = [&whole[..start], by.as_bytes(), &whole[end..]].concat();
            let after = judged(&cut);
            broken += 1;
            let is_named = after.findings.len() > before.findings.len()
                || after
                    .findings
                    .iter()
                    .any(|finding| finding.code == "not-well-formed" || finding.code == "other-root");
            assert!(
                is_named || !is_sitemap || is_well_formed(&cut),
                "{} broken at {start} by {by:?} without a finding: {}",
                path.display(),
                String::from_utf8_lossy(&cut[start.saturating_sub(80)..(start + 80).min(cut.len())])
            );
        }
    }
    assert!(broken >= 5 * BREAKS);
}
