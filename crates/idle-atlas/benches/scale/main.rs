//! Builds of any size, compared with compressing the same XML.
//!
//! ```console
//! cargo bench --bench scale                    # a million rows, five runs
//! cargo bench --bench scale -- 10000000 1      # ten million, once
//! cargo bench --bench scale -- visitors        # with all files for visitors
//! cargo bench --bench scale -- small           # sites of a hundred
//! cargo bench --bench scale -- days            # thirty days, against sorted pagination
//! ```
//!
//! The limit is `libdeflate-gzip -6` over the same XML in two halves at once (Debian: libdeflate-tools); memory is
//! measured by `/usr/bin/time`. `IDLE_ATLAS_TABLE` names a table with the columns `url,kind,modified,title` to use
//! instead of the made-up one.

mod days;

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

const CONFIG: &str = "[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"public\"\n";
const TABLE: &str = "[[source]]\nfrom = \"table\"\nfile = \"rows.csv\"\n";
const PLAIN: &str = "[files]\ngzip = \"only\"\nurls_per_file = 50000\nstyle = false\n";
const PEOPLE: &str = "[files]\ngzip = \"beside\"\nurls_per_file = 50000\ntext = true\n[visitor_page]\n[newest]\n";

fn main() {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with('-')).collect();
    let numbers: Vec<usize> = words.iter().filter_map(|word| word.parse().ok()).collect();
    let (rows, runs) = (numbers.first().copied().unwrap_or(1_000_000), numbers.get(1).copied().unwrap_or(5));
    let wants = |word: &str| words.iter().any(|one| one == word);
    if wants("days") {
        return days::run(rows);
    }
    if wants("small") {
        return small(runs.max(20));
    }
    let folder = tempfile::tempdir().expect("a temporary folder");
    let table = std::env::var_os("IDLE_ATLAS_TABLE").map(|path| fs::read_to_string(path).expect("the table is read"));
    let table = SampleTable::new(table.unwrap_or_else(|| made_up(rows)));
    println!("{} rows, medians of {runs}; of the limit: libdeflate-gzip -6, two halves at once\n", table.lines.len());
    if wants("visitors") {
        let steps: [(&str, TableEdit); 2] = [("first build", TableEdit::None), ("nothing changed", TableEdit::None)];
        return measure(folder.path(), &table, PEOPLE, &steps, runs);
    }
    let steps = [
        ("first build", TableEdit::None),
        ("nothing changed", TableEdit::None),
        ("0.1 % changed, anywhere", TableEdit::Anywhere),
        ("0.1 % changed, newest tenth", TableEdit::Newest),
        ("one added", TableEdit::Add),
        ("one changed", TableEdit::One),
        ("one removed", TableEdit::Remove),
    ];
    measure(folder.path(), &table, PLAIN, &steps, runs);
}

/// What happens to the table before a build.
#[derive(Debug, Clone, Copy)]
enum TableEdit {
    None,
    Anywhere,
    Newest,
    Add,
    One,
    Remove,
}

/// A table as lines.
struct SampleTable {
    header: String,
    lines: Vec<String>,
    /// The lines of the newest tenth.
    newest: Vec<usize>,
}

impl SampleTable {
    fn new(text: String) -> Self {
        let mut lines = text.lines().map(str::to_owned);
        let header = lines.next().expect("a header");
        let lines: Vec<String> = lines.collect();
        let mut newest: Vec<usize> = (0..lines.len()).collect();
        let date = |at: usize| lines[at].split(',').nth(2).unwrap_or("").to_owned();
        newest.sort_by_cached_key(|at| std::cmp::Reverse(date(*at)));
        newest.truncate(lines.len() / 10);
        Self { header, lines, newest }
    }

    fn edit(lines: &mut [String], at: usize) {
        // Another title: the page changed, but its date did not.
        lines[at].push_str(" again");
        let date = lines[at].find("T").map_or(0, |at| at + 7);
        let second = if &lines[at][date..date + 2] == "00" { "30" } else { "00" };
        lines[at].replace_range(date..date + 2, second);
    }

    /// The lines after one more change.
    fn change(&self, lines: &mut Vec<String>, change: TableEdit, round: usize) {
        let some = (self.lines.len() / 1000).max(1);
        let spread = |nth: usize, of: usize| (nth * 7919 + round * 104_729) * 31 % of;
        match change {
            TableEdit::None => {}
            TableEdit::Anywhere => (0..some).for_each(|nth| Self::edit(lines, spread(nth, self.lines.len() - 10))),
            TableEdit::Newest => {
                let last = lines.len() - 1;
                let some = (0..some).map(|nth| self.newest[spread(nth, self.newest.len())].min(last));
                some.for_each(|at| Self::edit(lines, at));
            }
            TableEdit::Add => lines.push(format!(
                "https://www.marrowvale.example/journal/added-{round}/,journal,2026-11-23T0{}:00:00Z,Added",
                round % 10
            )),
            TableEdit::One => Self::edit(lines, spread(1, self.lines.len() / 2)),
            TableEdit::Remove => {
                lines.remove(spread(2, self.lines.len() / 2));
            }
        }
    }

    fn write(&self, lines: &[String], to: &Path) {
        let mut text = self.header.clone() + "\n";
        for line in lines {
            text += line;
            text.push('\n');
        }
        fs::write(to, text).expect("the table is written");
    }
}

/// The result of one step over all runs.
#[derive(Default)]
struct Measured {
    times: Vec<Duration>,
    peak: u64,
    written: Vec<usize>,
}

fn measure(folder: &Path, table: &SampleTable, files: &str, steps: &[(&str, TableEdit)], runs: usize) {
    let mut all: BTreeMap<usize, Measured> = BTreeMap::new();
    let mut limits = Vec::new();
    for run in 0..runs {
        let site = folder.join(format!("site-{run}"));
        fs::create_dir_all(site.join("public")).expect("a web root");
        fs::write(site.join("idle-atlas.toml"), format!("{CONFIG}{TABLE}{files}")).expect("a configuration");
        let mut lines = table.lines.clone();
        for (at, (_, change)) in steps.iter().enumerate() {
            table.change(&mut lines, *change, run);
            table.write(&lines, &site.join("rows.csv"));
            let before = children(&site);
            let (time, peak) = build(&site);
            let after = children(&site);
            let measured = all.entry(at).or_default();
            measured.times.push(time);
            measured.peak = measured.peak.max(peak);
            measured.written.push(after.iter().filter(|(name, stamp)| before.get(*name) != Some(*stamp)).count());
            if at == 0 {
                limits.extend(limit(&site));
            }
        }
        fs::remove_dir_all(&site).expect("the site is cleared away");
    }
    let limit = (!limits.is_empty()).then(|| median(&mut limits));
    match limit {
        Some(limit) => println!("the limit: {:.2} s\n", limit.as_secs_f64()),
        None => println!("no libdeflate-gzip here: no ratios (Debian: libdeflate-tools)\n"),
    }
    println!("{:<30} {:>8} {:>13} {:>14} {:>12}", "", "time", "of the limit", "child files", "peak memory");
    for (at, (name, _)) in steps.iter().enumerate() {
        let Some(measured) = all.get_mut(&at) else { continue };
        let time = median(&mut measured.times);
        let ratio = limit.map_or("–".to_owned(), |limit| format!("{:.2}", time.as_secs_f64() / limit.as_secs_f64()));
        measured.written.sort_unstable();
        let written = measured.written[measured.written.len() / 2];
        println!("{name:<30} {:>6.2} s {ratio:>13} {written:>14} {:>8} MiB", time.as_secs_f64(), measured.peak / 1024);
    }
}

/// The child files with their times and sizes.
fn children(site: &Path) -> BTreeMap<PathBuf, (u64, std::time::SystemTime)> {
    let entries = fs::read_dir(site.join("public")).into_iter().flatten().flatten();
    let children = entries.filter(|entry| {
        let name = entry.file_name().to_string_lossy().into_owned();
        name.starts_with("atlas-") && (name.ends_with(".xml.gz") || name.ends_with(".xml"))
    });
    let stamped = children.filter_map(|entry| {
        let metadata = entry.metadata().ok()?;
        Some((entry.path(), (metadata.len(), metadata.modified().ok()?)))
    });
    stamped.collect()
}

/// Sites of a hundred rows and of a hundred pages, without changes.
fn small(runs: usize) {
    println!("sites of a hundred, nothing changed, medians of {runs}\n");
    let folder = tempfile::tempdir().expect("a temporary folder");
    for (name, source) in
        [("100 rows", TABLE), ("100 HTML pages", "[[source]]\nfrom = \"html\"\nfolder = \"public\"\n")]
    {
        let site = folder.path().join(&name[4..8]);
        fs::create_dir_all(site.join("public")).expect("a web root");
        fs::write(site.join("idle-atlas.toml"), format!("{CONFIG}{source}")).expect("a configuration");
        fs::write(site.join("rows.csv"), made_up(100)).expect("the table is written");
        for page in 0..100 {
            let text = "The up train waits at the halt until the lamp is lit. ".repeat(40);
            let html = format!(
                "<html><head><title>Halt {page}</title></head><body><main><p>{text}{page}</main></body></html>"
            );
            fs::write(site.join("public").join(format!("{page}.html")), html).expect("a page");
        }
        build(&site);
        let mut times: Vec<Duration> = (0..runs).map(|_| build(&site).0).collect();
        println!("{name:<16} {:>6.1} ms", median(&mut times).as_secs_f64() * 1000.0);
    }
}

/// Rows of the sample railway, which are the same for the same number.
fn made_up(rows: usize) -> String {
    const WORDS: [&str; 26] = [
        "lamp", "brass", "valve", "boiler", "signal", "halt", "tender", "coach", "timber", "ballast", "lever",
        "cutting", "viaduct", "meadow", "quarry", "lantern", "gauge", "rivet", "whistle", "smoke", "siding",
        "platform", "ledger", "token", "guard", "porter",
    ];
    const KINDS: [&str; 5] = ["page", "journal", "locomotive", "halt", "photograph"];
    let mut state = 7u64;
    let mut next = |below: usize| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % below
    };
    let mut out = "url,kind,modified,title\n".to_owned();
    for row in 0..rows {
        let kind = KINDS[next(KINDS.len())];
        let words: [&str; 4] = std::array::from_fn(|_| WORDS[next(WORDS.len())]);
        let (year, month, day) = (10 + next(17), 1 + next(12), 1 + next(28));
        let (hour, minute) = (next(24), next(60));
        writeln!(
            out,
            "https://www.marrowvale.example/{kind}s/{}-{row}/,{kind},20{year}-{month:02}-{day:02}T{hour:02}:{minute:02}:00Z,{}",
            words.join("-"),
            words.join(" ")
        )
        .expect("writing to a string");
    }
    out
}

/// Wall time, and peak memory in KiB if `/usr/bin/time` is installed.
fn build(site: &Path) -> (Duration, u64) {
    let timed = Path::new("/usr/bin/time").exists();
    let mut command = if timed {
        let mut command = Command::new("/usr/bin/time");
        command.args(["-f", "%M", env!("CARGO_BIN_EXE_idle-atlas")]);
        command
    } else {
        Command::new(env!("CARGO_BIN_EXE_idle-atlas"))
    };
    // The table and the files of the last build are synced, so that the disk is free for this build.
    assert!(Command::new("sync").status().is_ok_and(|status| status.success()));
    let begun = Instant::now();
    let output = command.args(["build", "--quiet"]).current_dir(site).output().expect("the program runs");
    let wall = begun.elapsed();
    let errors = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{errors}");
    (wall, errors.trim().parse().unwrap_or(0))
}

/// The time to compress the written XML with libdeflate-gzip, in two halves at once; `None` if it is not installed.
fn limit(site: &Path) -> Option<Duration> {
    let mut xml = Vec::new();
    for path in children(site).keys() {
        let bytes = fs::read(path).ok()?;
        match path.extension()?.to_str()? {
            "xml" => xml.extend(bytes),
            _ if path.with_extension("").exists() => {}
            _ => xml.extend(atlas_store::disk::segmented_gzip::unpack(&bytes, 1 << 26).ok()?),
        }
    }
    let halves = [site.join("half-1"), site.join("half-2")];
    fs::write(&halves[0], &xml[..xml.len() / 2]).ok()?;
    fs::write(&halves[1], &xml[xml.len() / 2..]).ok()?;
    let begun = Instant::now();
    let children: Option<Vec<_>> =
        halves.iter().map(|half| Command::new("libdeflate-gzip").arg("-6").arg(half).spawn().ok()).collect();
    for mut child in children? {
        child.wait().ok()?;
    }
    Some(begun.elapsed())
}

fn median(times: &mut [Duration]) -> Duration {
    times.sort();
    times[times.len() / 2]
}
