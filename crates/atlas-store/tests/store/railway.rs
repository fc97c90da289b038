//! A railway whose site is built day after day from made-up rows.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::sync::Arc;

use atlas_core::address::Site;
use atlas_core::choose::{Choices, Sections};
use atlas_core::contribution::Contribution;
use atlas_core::derive::news::News;
use atlas_core::fingerprint::raw;
use atlas_core::format::{Document, RawUrl, read};
use atlas_core::judge::Thresholds;
use atlas_core::lastmod::Lastmod;
use atlas_core::output_policy::{Media, SectionPolicy};
use atlas_core::placement::{OwnFiles, UrlsPerFile};
use atlas_core::report::Problem;
use atlas_store::arrange::Cut;
use atlas_store::arrival::{AskedRows, Block, Decider, RetainedText, RowReader};
use atlas_store::build::{Ended, Job, build};
use atlas_store::destination::{Destination, Folder, Gzip, InMemory, Names};
use atlas_store::disk::segmented_gzip::unpack;
use atlas_store::disk::spill::BUDGET;
use atlas_store::error::StoreError;
use atlas_store::extras::{ExtrasSettings, NewestSettings, VisitorSettings};
use atlas_store::ledger::{self, Ledger};
use atlas_store::report::{Built, Guard};
use atlas_store::source::{Gathering, Source};
use jiff::Timestamp;
use proptest::prelude::*;

pub const ROOT: &str = "https://www.marrowvale.example/";
/// The most pictures in one file: at least twice what one page has.
pub const MEDIA: u32 = 12;

/// What a page says.
#[derive(Debug, Clone, PartialEq)]
pub struct MadePage {
    pub section: &'static str,
    pub modified: Option<i32>,
    pub title: u32,
    pub width: usize,
    pub pictures: usize,
    pub published: i32,
    /// Whether its row says that it is no longer there.
    pub gone: bool,
}

impl MadePage {
    pub fn is_news(&self, day: i64) -> bool {
        self.section == "halts" && day - i64::from(self.published) < 2
    }
}

pub type Pages = BTreeMap<u32, MadePage>;

pub fn url(number: u32, page: &MadePage) -> String {
    format!("{ROOT}{number}/{}", "x".repeat(page.width))
}

/// A source of made-up rows.
pub struct MadeRows {
    name: &'static str,
    rows: Vec<(String, MadePage)>,
    knows_rows: bool,
}

impl MadeRows {
    pub fn new(name: &'static str, rows: Vec<(String, MadePage)>) -> Self {
        Self { name, rows, knows_rows: true }
    }

    /// Makes every build read its rows.
    pub fn read_anew(self) -> Self {
        Self { knows_rows: false, ..self }
    }
}

impl Source for MadeRows {
    fn name(&self) -> String {
        self.name.to_owned()
    }

    fn settings(&self) -> u64 {
        0
    }

    fn knows_rows(&self) -> bool {
        self.knows_rows
    }

    fn gather(&self, gathering: &mut Gathering<'_>) -> Result<(), StoreError> {
        for rows in self.rows.chunks(7) {
            let lines: Vec<String> = rows.iter().map(|(url, page)| line(url, page)).collect();
            let unread = self.knows_rows && !gathering.reads_all();
            let mut block = block(gathering.decider(), &lines, unread);
            if unread && gathering.retains() {
                block.retain(RetainedText {
                    text: lines.join("\n").into_bytes(),
                    first_line: 1,
                    chunks: Vec::new(),
                    reader: Arc::new(MadeRowReader),
                    problems: Vec::new(),
                });
            }
            gathering.push(block);
        }
        Ok(())
    }
}

/// A raw row: its fields, separated by tabs.
pub fn line(url: &str, page: &MadePage) -> String {
    let MadePage { section, modified, title, pictures, published, gone, .. } = page;
    format!("{url}\t{section}\t{}\t{title}\t{pictures}\t{published}\t{gone}", modified.unwrap_or(-1))
}

/// The contribution of such a row.
pub fn contribution(line: &str) -> Contribution<'_> {
    let fields: Vec<&str> = line.split('\t').collect();
    let number = |at: usize| fields[at].parse::<i32>().unwrap();
    Contribution {
        url: fields[0].into(),
        title: Some(format!("Lamp {}", fields[3]).into()),
        modified: Some(number(2)).filter(|day| *day >= 0).and_then(Lastmod::from_epoch_day),
        section: Some(fields[1].into()),
        published: Lastmod::from_epoch_day(number(5)),
        gone: fields[6] == "true",
        images: (0..number(4)).map(|at| format!("{ROOT}{at}.svg").into()).collect(),
        ..Contribution::default()
    }
}

#[derive(Debug)]
pub struct MadeRowReader;

impl RowReader for MadeRowReader {
    fn read(&self, raw: &str, _: u64, take: &mut dyn FnMut(&Contribution<'_>), _: &mut dyn FnMut(Problem)) {
        take(&contribution(raw));
    }

    fn read_again(
        self: Arc<Self>,
        decider: &Decider,
        text: RetainedText,
        asked: Option<&AskedRows>,
    ) -> (Block, Vec<Problem>) {
        let text = String::from_utf8(text.text).unwrap();
        let lines: Vec<String> = text.split('\n').map(str::to_owned).collect();
        let print = decider.chunk_print(lines.concat().as_bytes(), 7);
        let Some((asked, known)) = asked.zip(decider.knows(print)) else {
            return (block(decider, &lines, false), Vec::new());
        };
        let (mut block, mut start, mut read) = (Block::new(decider), 0, 0);
        for line in &lines {
            let contribution = contribution(line);
            if known.rest().any(|span| span.contains(&start)) {
                block.push_raw(&contribution, raw(line.as_bytes(), 7));
            } else if asked.holds(print, decider, &contribution.url) {
                block.push_asked(&contribution, raw(line.as_bytes(), 7));
                read += 1;
            }
            start += line.len();
        }
        block.meet(print, known.rows() - read);
        (block, Vec::new())
    }
}

/// Some lines that form one chunk.
pub fn block(decider: &Decider, lines: &[String], unread: bool) -> Block {
    let text = lines.concat();
    let print = decider.chunk_print(text.as_bytes(), 7);
    let mut block = if unread { Block::unread(decider, 1, Arc::new(MadeRowReader)) } else { Block::new(decider) };
    let push = |block: &mut Block, line: &str| match unread {
        true => block.push_unread(&contribution(line).url, raw(line.as_bytes(), 7), line, 1),
        false => block.push_raw(&contribution(line), raw(line.as_bytes(), 7)),
    };
    let starts: Vec<usize> =
        lines.iter().scan(0, |end, line| Some(std::mem::replace(end, *end + line.len()))).collect();
    if let Some(known) = decider.knows(print).filter(|_| unread) {
        block.meet(print, known.rows());
        let is_rest = |start: &usize| known.rest().any(|span| span.contains(start));
        lines.iter().zip(&starts).filter(|(_, start)| is_rest(start)).for_each(|(line, _)| push(&mut block, line));
        return block;
    }
    if !decider.wants_chunks() {
        lines.iter().for_each(|line| push(&mut block, line));
        return block;
    }
    block.begin_chunk(print, text.len());
    for (line, start) in lines.iter().zip(starts) {
        push(&mut block, line);
        block.end_record(start);
    }
    block
}

/// Two sources that both name every third entry.
pub fn sources(pages: &Pages) -> Vec<Box<dyn Source>> {
    let rows = |wanted: fn(&u32) -> bool| {
        pages
            .iter()
            .filter(|(number, _)| wanted(number))
            .map(|(number, page)| (url(*number, page), page.clone()))
            .collect()
    };
    vec![
        Box::new(MadeRows::new("first", rows(|_| true))),
        Box::new(MadeRows::new("second", rows(|number| number % 3 == 0))),
    ]
}

pub struct Railway {
    /// The folder of the ledger, and of the files unless they are in memory.
    pub folder: tempfile::TempDir,
    pub destination: Box<dyn Destination>,
    pub gzip: Gzip,
    pub day: i64,
}

impl Railway {
    /// With files in a folder.
    pub fn new(gzip: Gzip) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let public = folder.path().join("public");
        fs::create_dir(&public).unwrap();
        let destination = Box::new(Folder::new(public.clone(), public, None, None));
        Self { folder, destination, gzip, day: 20_000 }
    }

    /// With files in memory.
    pub fn in_memory(gzip: Gzip, memory: &InMemory) -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join(".idle-atlas")).unwrap();
        Self { folder, destination: Box::new(memory.clone()), gzip, day: 20_000 }
    }

    /// A copy with the same history.
    pub fn copy(&self, memory: &InMemory) -> Self {
        let copy = Self { day: self.day, ..Self::in_memory(self.gzip, memory) };
        for file in fs::read_dir(self.folder.path().join(".idle-atlas")).unwrap().flatten() {
            fs::copy(file.path(), copy.folder.path().join(".idle-atlas").join(file.file_name())).unwrap();
        }
        copy
    }

    pub fn ledger(&self) -> Box<dyn Ledger> {
        ledger::open(&self.folder.path().join(".idle-atlas")).unwrap()
    }

    pub fn with_job<T>(&self, pages: &Pages, limit: u32, run: impl FnOnce(&Job<'_>, &mut dyn Ledger) -> T) -> T {
        self.with_sources(&sources(pages), limit, run)
    }

    /// The same, with sources of its own.
    pub fn with_sources<T>(
        &self,
        sources: &[Box<dyn Source>],
        limit: u32,
        run: impl FnOnce(&Job<'_>, &mut dyn Ledger) -> T,
    ) -> T {
        let choices = Choices {
            own_files: OwnFiles { folder: ROOT.into(), main: "sitemap.xml".into(), ..OwnFiles::default() },
            ..Choices::of(Site::parse(ROOT).unwrap(), Sections::new(vec![], ["halts".to_owned(), "films".to_owned()]))
        };
        let names = Names {
            // One history in three needs several indexes.
            files_per_index: if self.gzip == Gzip::Beside { 4 } else { 50_000 },
            gzip: self.gzip,
            ..Names::of(ROOT)
        };
        let now = Timestamp::from_second(self.day * 86_400).unwrap();
        let scratch = self.folder.path().join(".idle-atlas");
        let job = Job::new(sources, &choices, (&*self.destination, &names), &scratch, now)
            .shape(vec![self.section(true), self.section(false)])
            .extras(self.extras())
            .cut(Cut { urls_per_file: UrlsPerFile::Fixed(limit), bytes_per_file: 4_000, media_per_file: MEDIA })
            // Some histories run in a few kilobytes of memory, so that most data is written to disk.
            .memory(if self.gzip == Gzip::Beside { 3_000 } else { BUDGET })
            .thresholds(Thresholds { few: 0, ..Thresholds::default() })
            .keep_days(70)
            .allow([Guard::Shrink, Guard::NewSections]);
        run(&job, &mut *self.ledger())
    }

    /// Halts have news, and pictures in files of their own.
    fn section(&self, is_halts: bool) -> SectionPolicy {
        let news = News { publication: "Vale Gazette".into(), language: "en".into() };
        SectionPolicy {
            images: if is_halts { Media::OwnFiles } else { Media::WithPages },
            most_images: 10,
            news: is_halts.then_some(news),
            ..SectionPolicy::default()
        }
    }

    fn extras(&self) -> ExtrasSettings {
        // Without files for visitors, rows are recognised without being read.
        if self.gzip == Gzip::Only {
            return ExtrasSettings::default();
        }
        let visitors = VisitorSettings {
            title: "All".into(),
            language: "en".into(),
            template: Default::default(),
            entries_per_page: 9,
        };
        let newest = NewestSettings {
            title: "New".into(),
            atom: true,
            rss: true,
            entries: 5,
            hubs: Vec::new(),
            sections: Vec::new(),
        };
        ExtrasSettings { visitors: Some(visitors), newest: Some(newest), text: true, structured_data: false }
    }

    /// Builds; `None` if a guard holds the build back.
    pub fn build(&self, pages: &Pages, limit: u32) -> Option<Built> {
        self.try_build(pages, limit).unwrap()
    }

    /// Builds, and may fail.
    pub fn try_build(&self, pages: &Pages, limit: u32) -> Result<Option<Built>, StoreError> {
        Ok(match self.with_job(pages, limit, build)? {
            Ended::Built(built) => Some(*built),
            Ended::Held(_) => None,
        })
    }

    pub fn files(&self) -> BTreeMap<String, Vec<u8>> {
        let names = self.destination.list().unwrap().into_iter();
        names.map(|name| (name.clone(), self.destination.read(&name).unwrap().unwrap())).collect()
    }

    fn whole(&self, name: &str) -> Vec<u8> {
        let bytes = self.destination.read(name).unwrap().unwrap_or_else(|| panic!("{name} is named and is not there"));
        if name.ends_with(".gz") { unpack(&bytes, 1 << 20).unwrap() } else { bytes }
    }

    /// The files that the indexes list; empty if there is no main file.
    pub fn named(&self) -> Vec<String> {
        if self.destination.version("sitemap.xml").unwrap().is_none() {
            return Vec::new();
        }
        let mut children = Vec::new();
        let kind =
            read(&self.whole("sitemap.xml"), |_| (), |child| children.push(child.loc.unwrap().into_owned())).unwrap();
        // There are further indexes as long as the last is full.
        for number in 2.. {
            let name = format!("sitemap-{number}.xml");
            if children.len() < 4 * (number - 1) || self.destination.version(&name).unwrap().is_none() {
                break;
            }
            read(&self.whole(&name), |_| (), |child| children.push(child.loc.unwrap().into_owned())).unwrap();
        }
        match kind {
            Document::Urlset => vec!["sitemap.xml".to_owned()],
            Document::Index => children.into_iter().map(|child| child[ROOT.len()..].to_owned()).collect(),
        }
    }

    /// All URLs that an engine finds now, in any file: every listed file exists and is complete.
    pub fn served(&self) -> BTreeSet<String> {
        let mut urls = BTreeSet::new();
        for name in self.named() {
            read(&self.whole(&name), |url| urls.extend(url.loc.map(String::from)), |_| ()).unwrap();
        }
        urls
    }

    /// The file that contains each listed URL, among those of one kind.
    pub fn homes(&self, kind: &str) -> BTreeMap<String, String> {
        let names = self.named();
        let mut homes = BTreeMap::new();
        let of = |name: &str| ["images", "news"].into_iter().find(|kind| name.contains(&format!(".{kind}-")));
        for name in names.into_iter().filter(|name| of(name).unwrap_or("pages") == kind) {
            let bytes = self.whole(&name);
            assert!(bytes.len() <= 4_000, "{name} has {} bytes", bytes.len());
            let (mut urls, mut media) = (Vec::new(), 0);
            let mut take = |url: RawUrl<'_>| {
                media += url.images.len();
                urls.extend(url.loc.map(String::from));
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

#[derive(Debug, Clone)]
pub enum Day {
    Add(u8),
    Remove(u8),
    Edit(u8),
    Move(u8),
    Limit(u8),
    Lose(u8),
}

pub fn day() -> impl Strategy<Value = Day> {
    prop_oneof![
        (1u8..30).prop_map(Day::Add),
        any::<u8>().prop_map(Day::Remove),
        any::<u8>().prop_map(Day::Edit),
        any::<u8>().prop_map(Day::Move),
        (3u8..20).prop_map(Day::Limit),
        any::<u8>().prop_map(Day::Lose),
    ]
}

pub fn live(day: &Day, today: i64, pages: &mut Pages, next: &mut u32, limit: &mut u32) {
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
                pages.insert(
                    number,
                    MadePage { section, modified, title: 0, width, pictures, published: today as i32, gone: false },
                );
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

pub fn railway_of(count: u8) -> (Railway, Pages) {
    let (mut pages, mut next, mut limit) = (Pages::new(), 0, 10);
    live(&Day::Add(count), 19_000, &mut pages, &mut next, &mut limit);
    (Railway::new(Gzip::Beside), pages)
}
