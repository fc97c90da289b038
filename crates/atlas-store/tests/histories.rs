//! Builds over long random histories: what is on disk is always what the sources say, and entries stay where they are.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs;
use std::path::Path;
use std::sync::Arc;

use atlas_core::accepted::Accepted;
use atlas_core::address::Site;
use atlas_core::archive::Archives;
use atlas_core::calendar::Calendar;
use atlas_core::choose::{Chooser, Sections};
use atlas_core::contribution::Said;
use atlas_core::derive::news::News;
use atlas_core::fingerprint::raw;
use atlas_core::format::{Document, RawUrl, read};
use atlas_core::lastmod::Lastmod;
use atlas_core::placement::{OwnFiles, UrlsPerFile};
use atlas_core::report::Problem;
use atlas_core::robots::Robots;
use atlas_core::shape::{Media, SectionShape, Shape};
use atlas_store::arrange::Cut;
use atlas_store::arrival::{Block, Desk, Reader};
use atlas_store::build::{EXAMPLES, Ended, Job, Telling, Thresholds, build, survey};
use atlas_store::disk::segmented_gzip::unpack;
use atlas_store::disk::spill::BUDGET;
use atlas_store::error::StoreError;
use atlas_store::ledger::Ledger;
use atlas_store::model::Change;
use atlas_store::people::{NewestSettings, People, VisitorSettings};
use atlas_store::publish::{Gzip, Place};
use atlas_store::report::{Built, Guard};
use atlas_store::source::{Gathering, Source};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use rstest::rstest;

const ROOT: &str = "https://www.marrowvale.example/";
/// Pictures in one file: at least twice what one page has.
const MEDIA: u32 = 12;

/// What one entry is like.
#[derive(Debug, Clone, PartialEq)]
struct Page {
    section: &'static str,
    modified: Option<i32>,
    title: u32,
    width: usize,
    pictures: usize,
    published: i32,
}

impl Page {
    fn is_news(&self, day: i64) -> bool {
        self.section == "halts" && day - i64::from(self.published) < 2
    }
}

type Pages = BTreeMap<u32, Page>;

fn url(number: u32, page: &Page) -> String {
    format!("{ROOT}{number}/{}", "x".repeat(page.width))
}

/// A source of made-up rows.
struct Rows {
    name: &'static str,
    rows: Vec<(String, Page)>,
}

impl Source for Rows {
    fn name(&self) -> String {
        self.name.to_owned()
    }

    fn settings(&self) -> u64 {
        0
    }

    fn knows_rows(&self) -> bool {
        true
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        for rows in self.rows.chunks(7) {
            let lines: Vec<String> = rows.iter().map(|(url, page)| line(url, page)).collect();
            gathering.push(block(gathering.desk(), &lines, !gathering.reads_all()));
        }
        Ok(())
    }
}

/// A row as it comes: its fields, with tabs between them.
fn line(url: &str, page: &Page) -> String {
    let Page { section, modified, title, pictures, published, .. } = page;
    format!("{url}\t{section}\t{}\t{title}\t{pictures}\t{published}", modified.unwrap_or(-1))
}

/// What such a row says.
fn said(line: &str) -> Said<'_> {
    let fields: Vec<&str> = line.split('\t').collect();
    let number = |at: usize| fields[at].parse::<i32>().unwrap();
    Said {
        url: fields[0].into(),
        title: Some(format!("Lamp {}", fields[3]).into()),
        modified: Some(number(2)).filter(|day| *day >= 0).and_then(Lastmod::from_epoch_day),
        section: Some(fields[1].into()),
        published: Lastmod::from_epoch_day(number(5)),
        images: (0..number(4)).map(|at| format!("{ROOT}{at}.svg").into()).collect(),
        ..Said::default()
    }
}

#[derive(Debug)]
struct LineReader;

impl Reader for LineReader {
    fn read(&self, raw: &str, _: u64, take: &mut dyn FnMut(&Said<'_>), _: &mut dyn FnMut(Problem)) {
        take(&said(raw));
    }
}

/// Some lines, which make one stretch.
fn block(desk: &Desk, lines: &[String], unread: bool) -> Block {
    let text = lines.concat();
    let print = desk.stretch_print(text.as_bytes(), 7);
    let mut block = if unread { Block::unread(desk, 1, Arc::new(LineReader)) } else { Block::new(desk) };
    let push = |block: &mut Block, line: &str| match unread {
        true => block.push_unread(&said(line).url, raw(line.as_bytes(), 7), line, 1),
        false => block.push_raw(&said(line), raw(line.as_bytes(), 7)),
    };
    let starts: Vec<usize> =
        lines.iter().scan(0, |end, line| Some(std::mem::replace(end, *end + line.len()))).collect();
    if let Some(known) = desk.knows(print).filter(|_| unread) {
        block.meet(print, known.rows());
        let is_rest = |start: &usize| known.rest().any(|span| span.contains(start));
        lines.iter().zip(&starts).filter(|(_, start)| is_rest(start)).for_each(|(line, _)| push(&mut block, line));
        return block;
    }
    block.begin_stretch(print, text.len());
    for (line, start) in lines.iter().zip(starts) {
        push(&mut block, line);
        block.end_record(start);
    }
    block
}

/// Two sources that know every third entry both.
fn sources(pages: &Pages) -> Vec<Box<dyn Source>> {
    let rows = |wanted: fn(&u32) -> bool| {
        pages
            .iter()
            .filter(|(number, _)| wanted(number))
            .map(|(number, page)| (url(*number, page), page.clone()))
            .collect()
    };
    vec![
        Box::new(Rows { name: "first", rows: rows(|_| true) }),
        Box::new(Rows { name: "second", rows: rows(|number| number % 3 == 0) }),
    ]
}

struct Railway {
    folder: tempfile::TempDir,
    gzip: Gzip,
    day: i64,
}

impl Railway {
    fn new(gzip: Gzip) -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("public")).unwrap();
        Self { folder, gzip, day: 20_000 }
    }

    fn with_job<T>(&self, pages: &Pages, limit: u32, run: impl FnOnce(&Job<'_>, &mut Ledger) -> T) -> T {
        let sources = sources(pages);
        let accepted = Accepted::default();
        let job = Job {
            telling: Telling { examples: EXAMPLES, accepted: &accepted },
            configuration: 0,
            sources: &sources,
            chooser: Chooser {
                site: Site::parse(ROOT).unwrap(),
                own_files: OwnFiles { folder: ROOT.into(), main: "sitemap.xml".into(), ..OwnFiles::default() },
                robots: Robots::default(),
                tokens: vec![],
                rules: vec![],
                sections: Sections::new(vec![], ["halts".to_owned(), "films".to_owned()]),
                archives: Archives::default(),
                calendar: Calendar::utc(self.day * 86_400),
            },
            shape: Shape {
                sections: vec![self.section(true), self.section(false)],
                calendar: Calendar::utc(self.day * 86_400),
            },
            alternates: None,
            people: self.people(),
            cut: Cut { urls_per_file: UrlsPerFile::Fixed(limit), bytes_per_file: 4_000, media_per_file: MEDIA },
            place: Place {
                folder: self.folder.path().join("public"),
                web_root: self.folder.path().join("public"),
                address: ROOT.into(),
                site: ROOT.into(),
                data: None,
                style: None,
                main: "sitemap.xml".into(),
                // One history in three needs several indexes.
                files_per_index: if self.gzip == Gzip::Beside { 4 } else { 50_000 },
                folded_days: 14,
                gzip: self.gzip,
                robots: None,
                create_robots: false,
            },
            settings: String::new(),
            choices: Some(0),
            // Some live through all of it in a few kilobytes: most of it waits on the disk.
            memory: if self.gzip == Gzip::Beside { 3_000 } else { BUDGET },
            now: Timestamp::from_second(self.day * 86_400).unwrap(),
            timezone: TimeZone::UTC,
            fresh: false,
            thresholds: Thresholds { few: 0, ..Thresholds::default() },
            allow: HashSet::from([Guard::Shrink, Guard::NewSections]),
            begins_to_write: &|| (),
            progress: &|_| (),
        };
        let mut ledger = Ledger::open(&self.folder.path().join(".idle-atlas")).unwrap();
        run(&job, &mut ledger)
    }

    /// Halts have news, and pictures in files of their own.
    fn section(&self, is_halts: bool) -> SectionShape {
        let news = News { publication: "Vale Gazette".into(), language: "en".into() };
        SectionShape {
            images: if is_halts { Media::OwnFiles } else { Media::WithPages },
            most_images: 10,
            news: is_halts.then_some(news),
            ..SectionShape::default()
        }
    }

    fn people(&self) -> People {
        // Where nothing is for people, rows are known without being read.
        if self.gzip == Gzip::Only {
            return People::default();
        }
        let visitors = VisitorSettings {
            title: "All".into(),
            language: "en".into(),
            template: Default::default(),
            entries_per_page: 9,
        };
        let newest = NewestSettings { title: "New".into(), atom: true, rss: true, entries: 5, sections: Vec::new() };
        People { visitors: Some(visitors), newest: Some(newest), text: true, structured_data: false }
    }

    /// Builds; `None` where a guard holds the build back.
    fn build(&self, pages: &Pages, limit: u32) -> Option<Built> {
        match self.with_job(pages, limit, build).unwrap() {
            Ended::Built(built) => Some(*built),
            Ended::Held(_) => None,
        }
    }

    fn files(&self) -> BTreeMap<String, Vec<u8>> {
        let names = fs::read_dir(self.folder.path().join("public")).unwrap().flatten();
        names.map(|entry| (entry.file_name().into_string().unwrap(), fs::read(entry.path()).unwrap())).collect()
    }

    /// Which file each listed URL is in, among those of one strand.
    fn homes(&self, strand: &str) -> BTreeMap<String, String> {
        let public = self.folder.path().join("public");
        let mut children = Vec::new();
        let kind = read(&whole(&public, "sitemap.xml"), |_| (), |child| children.push(child.loc.unwrap())).unwrap();
        // Further indexes are there as long as the last is full.
        for number in 2.. {
            let name = format!("sitemap-{number}.xml");
            if children.len() < 4 * (number - 1) || !public.join(&name).exists() {
                break;
            }
            read(&whole(&public, &name), |_| (), |child| children.push(child.loc.unwrap())).unwrap();
        }
        let names = match kind {
            Document::Urlset => vec!["sitemap.xml".to_owned()],
            Document::Index => children.into_iter().map(|child| child[ROOT.len()..].to_owned()).collect(),
        };
        let mut homes = BTreeMap::new();
        let of = |name: &str| ["images", "news"].into_iter().find(|strand| name.contains(&format!(".{strand}-")));
        for name in names.into_iter().filter(|name| of(name).unwrap_or("pages") == strand) {
            let bytes = whole(&public, &name);
            assert!(bytes.len() <= 4_000, "{name} has {} bytes", bytes.len());
            let (mut urls, mut media) = (Vec::new(), 0);
            let mut take = |url: RawUrl| {
                media += url.images.len();
                urls.extend(url.loc);
            };
            read(&bytes, &mut take, |_| ()).unwrap();
            assert!(!urls.is_empty());
            assert!(media <= MEDIA as usize, "{name} has {media} pictures");
            for url in urls {
                assert_eq!(homes.insert(url, name.clone()), None, "each entry lives in one file");
            }
        }
        homes
    }
}

fn whole(folder: &Path, name: &str) -> Vec<u8> {
    let bytes = fs::read(folder.join(name)).unwrap();
    if name.ends_with(".gz") { unpack(&bytes, 1 << 20).unwrap() } else { bytes }
}

#[derive(Debug, Clone)]
enum Day {
    Add(u8),
    Remove(u8),
    Edit(u8),
    Move(u8),
    Limit(u8),
    Lose(u8),
}

fn day() -> impl Strategy<Value = Day> {
    prop_oneof![
        (1u8..30).prop_map(Day::Add),
        any::<u8>().prop_map(Day::Remove),
        any::<u8>().prop_map(Day::Edit),
        any::<u8>().prop_map(Day::Move),
        (3u8..20).prop_map(Day::Limit),
        any::<u8>().prop_map(Day::Lose),
    ]
}

fn live(day: &Day, today: i64, pages: &mut Pages, next: &mut u32, limit: &mut u32) {
    let every = |step: &u8| usize::from(*step) % 9 + 2;
    match day {
        Day::Add(count) => {
            for _ in 0..*count {
                let number = *next;
                *next += 1;
                let section = if number.is_multiple_of(4) { "films" } else { "halts" };
                let modified = (!number.is_multiple_of(5)).then_some(15_000 + (number * 37 % 900) as i32);
                let width = if number.is_multiple_of(11) { 700 } else { 3 };
                let pictures = (number * 7 % 5) as usize;
                pages.insert(number, Page { section, modified, title: 0, width, pictures, published: today as i32 });
            }
        }
        Day::Remove(step) => {
            let gone: Vec<u32> = pages.keys().copied().step_by(every(step)).collect();
            gone.iter().for_each(|number| {
                pages.remove(number);
            });
        }
        Day::Edit(step) => pages.values_mut().step_by(every(step)).for_each(|page| page.title += 1),
        Day::Move(step) => pages.values_mut().step_by(every(step)).for_each(|page| {
            page.section = if page.section == "films" { "halts" } else { "films" };
        }),
        Day::Limit(urls) => *limit = u32::from(*urls),
        Day::Lose(_) => {}
    }
}

/// How many histories are lived through: more with `HISTORIES=500 cargo test -p atlas-store --test histories`.
fn cases() -> u32 {
    std::env::var("HISTORIES").ok().and_then(|text| text.parse().ok()).unwrap_or(16)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    #[test]
    fn what_is_listed_is_what_the_sources_say(
        days in proptest::collection::vec(day(), 1..14),
        gzip in prop_oneof![Just(Gzip::Beside), Just(Gzip::Only), Just(Gzip::Off)],
    ) {
        let (mut railway, mut twin) = (Railway::new(gzip), Railway::new(gzip));
        let (mut pages, mut next, mut limit) = (Pages::new(), 0, 10);
        let mut before: BTreeMap<String, String> = BTreeMap::new();
        let mut sections = BTreeMap::new();
        for day in std::iter::once(Day::Add(5)).chain(days) {
            railway.day += 1;
            twin.day += 1;
            live(&day, railway.day, &mut pages, &mut next, &mut limit);
            if let Day::Lose(which) = &day {
                // One that is listed: those that left the index are not brought back.
                let live: BTreeSet<&String> = before.values().collect();
                if let Some(name) = live.iter().nth(usize::from(*which) % live.len().max(1)) {
                    fs::remove_file(railway.folder.path().join("public").join(name)).unwrap();
                }
            }
            let built = railway.build(&pages, limit);
            if pages.is_empty() {
                // Held back, and a file that was lost comes back with the next build.
                prop_assert!(built.is_none());
                before.clear();
                continue;
            }
            let built = built.unwrap();
            let homes = railway.homes("pages");
            let wanted: BTreeSet<String> = pages.iter().map(|(number, page)| url(*number, page)).collect();
            prop_assert_eq!(homes.keys().cloned().collect::<BTreeSet<_>>(), wanted);
            let of = |wanted: &dyn Fn(&Page) -> bool| -> BTreeSet<String> {
                pages.iter().filter(|(_, page)| wanted(page)).map(|(number, page)| url(*number, page)).collect()
            };
            let with_pictures = of(&|page| page.section == "halts" && page.pictures > 0);
            prop_assert_eq!(railway.homes("images").into_keys().collect::<BTreeSet<_>>(), with_pictures);
            let news = of(&|page| page.is_news(railway.day));
            let listed = railway.homes("news");
            if news.is_empty() {
                // The file of news lists the newest all the same: some that it listed before, or those that were read.
                let halts = of(&|page| page.section == "halts");
                prop_assert!(listed.len() <= 10 && listed.is_empty() == halts.is_empty(), "{:?}", listed);
                prop_assert!(listed.keys().all(|url| halts.contains(url)), "{:?}", listed);
            } else {
                prop_assert_eq!(listed.keys().cloned().collect::<BTreeSet<_>>(), news);
            }
            prop_assert!(listed.is_empty() || listed.values().any(|name| name.contains("news-1.")), "{:?}", listed);
            let retired: HashSet<&str> = built.retired.iter().map(String::as_str).collect();
            for (number, page) in &pages {
                let url = url(*number, page);
                let home = &homes[&url];
                prop_assert!(home == "sitemap.xml" || home.starts_with(&format!("atlas-{}-", page.section)), "{} in {}", url, home);
                // It may have moved only with its section, out of a folded file, or because limits moved.
                let stayed = sections.get(number) == Some(&page.section) && !matches!(day, Day::Limit(_));
                if let Some(old) = before.get(&url).filter(|old| stayed && !retired.contains(old.as_str()) && *old != "sitemap.xml") {
                    prop_assert_eq!(old, home, "{} moved without cause", url);
                }
            }
            if matches!(day, Day::Lose(_)) {
                prop_assert_eq!(built.survey.changes.changed.count + built.survey.changes.added.count, 0);
            }
            // Another ledger with the same history, which lost no file, has the same files.
            twin.build(&pages, limit).unwrap();
            let (mine, theirs) = (railway.files(), twin.files());
            let differ: Vec<&String> = mine.keys().chain(theirs.keys()).filter(|name| mine.get(*name) != theirs.get(*name)).collect();
            prop_assert!(differ.is_empty(), "{:?}", differ);
            let again = railway.build(&pages, limit).unwrap();
            prop_assert!(again.written.is_empty(), "{:?}", again.written);
            twin.build(&pages, limit).unwrap();
            sections = pages.iter().map(|(number, page)| (*number, page.section)).collect();
            before = homes;
        }
    }
}

fn railway_of(count: u8) -> (Railway, Pages) {
    let (mut pages, mut next, mut limit) = (Pages::new(), 0, 10);
    live(&Day::Add(count), 19_000, &mut pages, &mut next, &mut limit);
    (Railway::new(Gzip::Beside), pages)
}

#[test]
fn pending_is_what_changed_since_a_run() {
    let (railway, mut pages) = railway_of(8);
    railway.build(&pages, 10).unwrap();
    pages.get_mut(&3).unwrap().title = 9;
    let gone = pages.remove(&5).unwrap();
    railway.build(&pages, 10).unwrap();
    let ledger = Ledger::open(&railway.folder.path().join(".idle-atlas")).unwrap();
    let tell = |after: i64, all: bool| -> BTreeSet<(String, &'static str)> {
        let pending = ledger.pending(after, 2, all).unwrap();
        assert!(pending.is_sorted_by_key(|one| one.key));
        let kind = |change: Change| if change == Change::Removed { "removed" } else { "changed" };
        pending.into_iter().map(|one| (one.url, kind(one.change))).collect()
    };
    let wanted = BTreeSet::from([(url(3, &pages[&3]), "changed"), (url(5, &gone), "removed")]);
    assert_eq!(tell(1, false), wanted);
    assert_eq!(tell(0, true).len(), 8);
    assert!(tell(2, false).is_empty());
}

#[rstest]
#[case::as_it_was(false, None)]
#[case::with_another_title(true, Some(Change::Added))]
fn an_entry_that_comes_back_is_news_where_it_is_not_as_it_was(#[case] edited: bool, #[case] wanted: Option<Change>) {
    let (railway, mut pages) = railway_of(8);
    railway.build(&pages, 10).unwrap();
    let mut gone = pages.remove(&5).unwrap();
    railway.build(&pages, 10).unwrap();
    if edited {
        gone.title = 9;
    }
    pages.insert(5, gone);
    let built = railway.build(&pages, 10).unwrap();
    assert_eq!(built.to_announce, u64::from(edited));
    let ledger = Ledger::open(&railway.folder.path().join(".idle-atlas")).unwrap();
    let pending = ledger.pending(1, 3, false).unwrap();
    assert_eq!(pending.iter().map(|one| one.change).next(), wanted);
    assert!(pending.len() <= 1);
}

#[test]
fn a_survey_says_what_a_build_then_does() {
    let (railway, mut pages) = railway_of(25);
    let surveyed = railway.with_job(&pages, 10, survey).unwrap();
    assert!(railway.files().is_empty());
    let built = railway.build(&pages, 10).unwrap();
    assert_eq!(surveyed.sections, built.survey.sections);
    pages.get_mut(&3).unwrap().title = 9;
    let surveyed = railway.with_job(&pages, 10, survey).unwrap();
    let built = railway.build(&pages, 10).unwrap();
    assert_eq!(surveyed.changes, built.survey.changes);
    assert_eq!(built.survey.changes.changed.examples, [url(3, &pages[&3])]);
}
