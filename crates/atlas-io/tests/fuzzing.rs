//! Arbitrary bytes for every reader of files: none may panic, hang or fill the memory.
//!
//! A few hundred cases run with all tests. To run it for some minutes:
//!
//! ```text
//! PROPTEST_CASES=20000 cargo test --release -p atlas-io --test fuzzing
//! ```

use std::fs;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use atlas_core::address::{Address, Site};
use atlas_core::archive::{Archive, Archives, By};
use atlas_core::choose::{Choices, Sections};
use atlas_core::derive::alternates::AlternatesSettings;
use atlas_core::derive::news::News;
use atlas_core::output_policy::{Media, SectionPolicy};
use atlas_core::page::{self, PageReader, Player};
use atlas_core::placement::{OwnFiles, UrlsPerFile};
use atlas_core::query::Parameters;
use atlas_io::reading::field::ColumnMapping;
use atlas_io::reading::files::InputFiles;
use atlas_io::reading::input::{FoundInput, Input, WAIT};
use atlas_io::reading::record::{Dates, RecordSettings};
#[cfg(feature = "feed")]
use atlas_io::sources::feed::FeedSource;
use atlas_io::sources::folder::SourceFolder;
use atlas_io::sources::html::HtmlSource;
#[cfg(feature = "markdown")]
use atlas_io::sources::markdown::MarkdownSource;
use atlas_io::sources::oembed::Asking;
use atlas_io::sources::sitemaps::{OldSitemap, SitemapPurpose};
use atlas_io::sources::table::{Format, TableSource};
use atlas_store::arrange::Cut;
use atlas_store::build::{Job, survey};
use atlas_store::destination::{Destination, InMemory, Names, ROBOTS};
use atlas_store::extras::ExtrasSettings;
use atlas_store::ledger;
use atlas_store::source::Source;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;

const ROOT: &str = "https://www.marrowvale.example/";

fn site() -> Site {
    Site::parse(ROOT).unwrap()
}

fn reader() -> PageReader {
    PageReader {
        players: vec![Player::new("https://films.example/{id}", None, Some("https://films.example/{id}.jpg")).unwrap()],
        drop_parameters: Parameters::new(&["s*"]).unwrap(),
        ..PageReader::default()
    }
}

fn records() -> RecordSettings {
    RecordSettings {
        site: site(),
        section: None,
        makes_sections: true,
        mapping: ColumnMapping::default(),
        dates: Dates::Plain,
        separator: "|".into(),
        timezone: TimeZone::get("Europe/London").unwrap(),
        drop_parameters: Parameters::default(),
    }
}

/// Every source that reads files, over one file with these bytes.
fn sources(folder: &Path, bytes: &[u8]) -> Vec<Box<dyn Source>> {
    let input = |name: &str| {
        fs::write(folder.join(name), bytes).unwrap();
        (Input::File(folder.join(name)), name.to_owned())
    };
    let at = |name: &str, file: &str| {
        fs::create_dir_all(folder.join(name)).unwrap();
        fs::write(folder.join(name).join(file), bytes).unwrap();
        SourceFolder { path: folder.join(name), shown: name.to_owned() }
    };
    let mut sources: Vec<Box<dyn Source>> = Vec::new();
    let formats = [Format::Csv, Format::Tsv, Format::JsonLines, Format::Json, Format::Parquet];
    for (name, format) in ["a.csv", "a.tsv", "a.jsonl", "a.json", "a.parquet"].into_iter().zip(formats) {
        let (input, shown) = input(name);
        let files = InputFiles::One(FoundInput { input, shown });
        sources.push(Box::new(TableSource { files, format, records: records(), wait: WAIT }));
    }
    #[cfg(feature = "feed")]
    {
        let (input, shown) = input("feed.xml");
        sources.push(Box::new(FeedSource { input, shown, site: site(), section: None, reader: reader(), wait: WAIT }));
    }
    let (old, shown) = input("old.xml");
    let timezone = TimeZone::UTC;
    sources.push(Box::new(OldSitemap {
        files: vec![(old, shown)],
        site: site(),
        section: None,
        timezone,
        purpose: SitemapPurpose::Entries,
        hints: true,
        wait: WAIT,
    }));
    let asking = Arc::new(Asking::default());
    sources.push(Box::new(HtmlSource {
        folder: at("html", "a.html"),
        site: site(),
        below: String::new(),
        address: ROOT.into(),
        drop_html: false,
        heed_canonical: true,
        documents: vec![],
        section: None,
        reader: reader(),
        asking: Arc::clone(&asking),
    }));
    #[cfg(feature = "markdown")]
    sources.push(Box::new(MarkdownSource { folder: at("md", "a.md"), records: records(), reader: reader(), asking }));
    sources
}

/// Each source by itself, so that one that cannot read the bytes does not prevent the others from trying.
fn survey_all(bytes: &[u8]) {
    let folder = tempfile::tempdir().unwrap();
    for source in sources(folder.path(), bytes) {
        let sources = [source];
        let choices = Choices {
            own_files: OwnFiles { folder: ROOT.into(), main: "sitemap.xml".into(), ..OwnFiles::default() },
            archives: Archives::new(vec![Archive::new(By::Category, "/about/{slug}/")], TimeZone::UTC),
            ..Choices::of(site(), Sections::new(vec![], []))
        };
        let policy = SectionPolicy {
            images: Media::OwnFiles,
            most_images: 1000,
            videos: Media::WithPages,
            most_videos: 200,
            news: Some(News { publication: "Vale Gazette".into(), language: "en".into() }),
            ..SectionPolicy::default()
        };
        let names = Names { style: Some("atlas.css"), ..Names::of(ROOT) };
        let destination = InMemory::default();
        let mut robots = destination.begin(ROBOTS).unwrap();
        robots.write_all(bytes).unwrap();
        destination.put(vec![robots]).unwrap();
        let scratch = folder.path().join(".ledger");
        let job = Job::new(&sources, &choices, (&destination, &names), &scratch, Timestamp::UNIX_EPOCH)
            .shape(vec![policy])
            .alternates(Some(AlternatesSettings::default()))
            .extras(ExtrasSettings { structured_data: true, ..ExtrasSettings::default() })
            .cut(Cut { urls_per_file: UrlsPerFile::Auto, bytes_per_file: 1 << 20, media_per_file: 5000 })
            .memory(1 << 20)
            .fresh(true);
        let mut ledger = ledger::open(&folder.path().join(".ledger")).unwrap();
        // A source may well reject such bytes.
        let _ = survey(&job, &mut *ledger);
    }
}

/// The most memory that this process has used, in KiB.
fn peak() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|number| number.parse().ok()).unwrap_or(0)
}

/// Pieces of files, combined well or badly.
fn pieces() -> impl Strategy<Value = Vec<u8>> {
    let piece = prop_oneof![
        3 => prop::sample::select(vec![
            "url,modified,images,videos.title\n", "/a/,2026-01-02,/x|/y,\"t\n", "\"", ",", "\n", "\t", ";", "|",
            "{\"url\":\"/a/\",", "\"videos\":[{\"title\":\"x\",\"duration\":\"9\"}]", "}", "[", "]", "{", "\"url\":", "null", "1e999", "[[[[[[[[", "\\u0000",
            "<?xml version=\"1.0\"?>", "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">", "<url><loc>", "https://www.marrowvale.example/a", "</loc>", "</url>",
            "<sitemapindex xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><sitemap><loc>old.xml</loc></sitemap></sitemapindex>",
            "<rss version=\"2.0\"><channel>", "<item><link>/x</link>", "<feed xmlns=\"http://www.w3.org/2005/Atom\">", "<entry>", "&amp;", "&#x0;", "&bogus;", "<![CDATA[", "]]>", "<!DOCTYPE x [<!ENTITY a \"b\">]>",
            "---\n", "+++\n", "title: [a\n", "a: &x [*x]\n", "date: 2026-01-02\n", "title = 'x'\n", "# Head\n", "![a](b)", "> ", "* ",
            "<html><head><title>", "<base href=//>", "<script type=application/ld+json>", "</script>", "<iframe src=https://films.example/7>", "<img srcset='a 1w,b", "<video><source src=", "<p>", "</",
        ]).prop_map(|text: &str| text.as_bytes().to_vec()),
        1 => prop::collection::vec(any::<u8>(), 0..20),
        1 => prop::sample::select(vec![&b"\xff\xfe"[..], b"\xef\xbb\xbf", b"\x1f\x8b\x08\0\0\0\0\0", b"\x28\xb5\x2f\xfd", b"\0\0\0\0"]).prop_map(<[u8]>::to_vec),
    ];
    prop::collection::vec(piece, 0..30).prop_map(|pieces| pieces.concat())
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn files_of_any_bytes(bytes in pieces()) {
        survey_all(&bytes);
    }

    #[test]
    fn pages_of_any_bytes(bytes in prop_oneof![pieces(), prop::collection::vec(any::<u8>(), 0..400)]) {
        let address = Address::parse(ROOT).unwrap();
        let _ = page::read(&bytes, &address, &reader());
        let _ = page::read_oembed(&bytes, &address);
        let _ = page::text_of(&String::from_utf8_lossy(&bytes));
    }
}

#[test]
fn large_and_deep_files_need_little_memory() {
    let deep = |open: &str| open.repeat(2_000_000 / open.len()).into_bytes();
    let mut bomb = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    (0..300).for_each(|_| bomb.write_all(&[b'9'; 1 << 20]).unwrap());
    let inputs = [
        deep("["),
        deep("{\"a\":"),
        deep("<div>"),
        deep("<div class=a "),
        deep("<!--"),
        deep("&lt"),
        deep("a: "),
        deep("- "),
        deep("> "),
        deep("\"a\","),
        deep("<a href=/"),
        deep("[a]("),
        deep("<script>"),
        deep("<url>"),
        bomb.finish().unwrap(),
    ];
    for bytes in &inputs {
        survey_all(bytes);
    }
    assert!(peak() < 1_500_000, "{} KiB", peak());
}
