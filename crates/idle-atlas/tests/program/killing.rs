//! Builds that are killed at any instant leave a complete site, and the next build finishes.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::thread::sleep;
use std::time::{Duration, Instant};

use rstest::rstest;

use crate::support::{NOON, TestSite, parse};

/// The number of builds that are killed: more with `KILLS=500 cargo test --test program killing`.
fn kills() -> u64 {
    std::env::var("KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(60)
}

const ROWS: u64 = 2400;

/// What changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum KilledBuild {
    /// Only rows, so that a build reads those that changed.
    Rows,
    /// Only rows, of which many are added, so that new indexes are needed.
    Indexes,
    /// The configuration, too, and all files for visitors are written, so that a build reads everything.
    Everything,
}

/// In each round every file has a row that changes, and rows are added and removed. If the configuration changes, the
/// journal takes over the halts or gives them back.
fn round(site: &mut TestSite, number: u64, moves: KilledBuild) -> BTreeSet<String> {
    site.at(NOON + number as i64 * 60);
    let with_halts = moves == KilledBuild::Everything && !number.is_multiple_of(2);
    let journal = if with_halts { "\"/journal/**\", \"/halts/**\"" } else { "\"/journal/**\"" };
    let people = match moves {
        KilledBuild::Rows => "",
        KilledBuild::Indexes => "files_per_index = 7\n",
        KilledBuild::Everything => {
            "text = true\n[images]\nwrite = \"own-files\"\n[visitor_page]\nentries_per_page = 300\n[newest]\n"
        }
    };
    site.configure(&format!(
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[[section]]\nname = \"journal\"\nmatching = [{journal}]\n[files]\nurls_per_file = 60\n{people}"
    ));
    let (mut table, mut paths) = ("url,published,modified,images\n".to_owned(), BTreeSet::new());
    let added = if moves == KilledBuild::Indexes { 150 } else { 7 };
    for row in 0..ROWS + number * added {
        if row % 97 == number % 97 {
            continue;
        }
        let folder = ["journal", "halts", "films"][(row % 3) as usize];
        let minute = if row % 10 == 0 { number } else { 0 };
        // Files are filled by publication date, so rows of this round's minute are in all of them.
        let born = format!("2020-01-01T{:02}:{:02}:{:02}Z", row / 3600, row / 60 % 60, row % 60);
        let edited = format!("2026-11-23T{:02}:{:02}:00Z", 12 + minute / 60, minute % 60);
        let picture = if row % 4 == 0 { format!("/{row}-{minute}.svg") } else { String::new() };
        writeln!(table, "/{folder}/{row}/,{born},{edited},{picture}").unwrap();
        paths.insert(format!("/{folder}/{row}/"));
    }
    site.write("t.csv", table);
    paths
}

/// The paths of all URLs that robots.txt leads to.
fn declared(site: &TestSite) -> BTreeSet<String> {
    let robots = site.read("public/robots.txt");
    let read = |address: &str| {
        let name = address.strip_prefix("https://www.marrowvale.example/").unwrap();
        parse(site.read(&format!("public/{name}")).as_bytes())
    };
    let indexes = robots.lines().filter_map(|line| line.strip_prefix("Sitemap: "));
    let children = indexes.flat_map(|index| read(index).2).collect::<BTreeSet<String>>();
    let urls = children.iter().flat_map(|child| read(child).1);
    urls.map(|url| url.loc.unwrap().strip_prefix("https://www.marrowvale.example").unwrap().to_owned()).collect()
}

/// What must hold at any instant, between the entries listed before and those to be listed now.
fn holds(site: &TestSite, before: &BTreeSet<String>, wanted: &BTreeSet<String>, moves: KilledBuild) {
    if moves == KilledBuild::Indexes {
        let paths = declared(site);
        let missing = before.intersection(wanted).find(|path| !paths.contains(*path));
        assert_eq!(missing, None, "robots.txt leads to it no more");
        return;
    }
    // Every file in the index exists and is complete: reading it would panic otherwise. While entries move, one may be
    // in both its old file and its new one.
    let listed = site.listed();
    let urls = listed.values().flatten().map(|url| url.loc.as_deref().unwrap());
    let paths: BTreeSet<&str> = urls.map(|loc| loc.strip_prefix("https://www.marrowvale.example").unwrap()).collect();
    for path in before.intersection(wanted) {
        assert!(paths.contains(path.as_str()), "{path} is missing");
    }
    // The index is never newer than its child: each round changes every tenth row, so a file's rows tell its age.
    let index = site.read("public/sitemap.xml");
    for line in index.lines().filter(|line| line.starts_with("<sitemap>")) {
        let between = |from: &str, to: &str| line.split_once(from).unwrap().1.split_once(to).unwrap().0.to_owned();
        let name = between("<loc>https://www.marrowvale.example/", "</loc>");
        let stated = between("<lastmod>", "</lastmod>");
        // A file without such a row does not tell its age.
        let telling = |url: &&crate::support::UrlRead| url.loc.as_deref().is_some_and(|loc| loc.ends_with("0/"));
        if let Some(newest) = listed[&name].iter().filter(telling).filter_map(|url| url.lastmod.clone()).max() {
            assert!(newest >= stated, "the index says {stated} of {name}, which is of {newest}");
        }
    }
}

#[rstest]
fn a_killed_build_leaves_a_whole_site(
    #[values(KilledBuild::Everything, KilledBuild::Rows, KilledBuild::Indexes)] moves: KilledBuild,
) {
    let mut site = TestSite::new("");
    let mut listed = round(&mut site, 0, moves);
    let timed = |site: &TestSite| {
        let begun = Instant::now();
        site.build();
        begun.elapsed()
    };
    let mut whole = timed(&site);
    // More rows with every round take longer.
    let (kills, mut cut_short) = (if moves == KilledBuild::Indexes { (kills() / 3).max(3) } else { kills() }, 0);
    for number in 1..=kills {
        let wanted = round(&mut site, number, moves);
        let mut child = site.command(&["build", "--quiet"]).spawn().unwrap();
        // Instants spread over the whole of a build, in an order that jumps about.
        let instant = whole.mul_f64((number * 37 % kills) as f64 / kills as f64 * 1.2);
        sleep(instant);
        child.kill().unwrap();
        if child.wait().unwrap().success() {
            // The build takes less time than expected: the machine may have been busy before.
            whole = whole.min(instant);
        } else {
            cut_short += 1;
        }
        holds(&site, &listed, &wanted, moves);
        if number.is_multiple_of(3) {
            whole = timed(&site);
            match moves {
                KilledBuild::Indexes => assert_eq!(declared(&site), wanted),
                _ => assert_eq!(site.paths(), wanted),
            }
            site.run(&["check"]).says(0, &["Nothing is wrong"]);
            if moves == KilledBuild::Everything {
                let lines = site.read("public/atlas.txt").lines().count();
                assert_eq!(lines, wanted.len(), "what is for people is whole too");
            }
            let left: Vec<_> =
                std::fs::read_dir(site.path("public")).unwrap().flatten().map(|e| e.file_name()).collect();
            assert!(left.iter().all(|name| !name.to_string_lossy().starts_with('.')), "{left:?}");
            listed = wanted;
        } else {
            // Not finished before the next round begins, so what both rounds want must still be there.
            listed = listed.intersection(&wanted).cloned().collect();
        }
    }
    assert!(cut_short > kills / 4, "only {cut_short} of {kills} builds were cut short");
}

#[test]
fn a_killed_first_build_is_finished_by_the_next() {
    let mut site = TestSite::new("");
    let wanted = round(&mut site, 0, KilledBuild::Everything);
    let mut child = site.command(&["build", "--quiet"]).spawn().unwrap();
    sleep(Duration::from_millis(60));
    child.kill().unwrap();
    child.wait().unwrap();
    if let Ok(bytes) = std::fs::read(site.path("public/sitemap.xml")) {
        parse(&bytes);
    }
    site.build();
    assert_eq!(site.paths(), wanted);
}

/// An announcement that is killed at any instant: every change is taken, and at most one message for each kill is repeated.
#[cfg(feature = "test-engine")]
#[test]
fn a_killed_announcement_loses_nothing_and_repeats_little() {
    use std::collections::HashMap;
    use std::time::Duration;

    use atlas_io::test_engine::{TestEngine, TestEngineSettings};

    let engine = TestEngine::start(TestEngineSettings::fair()).unwrap();
    let site = TestSite::new(&format!(
        "[[source]]\nfrom = \"table\"\nfile = \"t.csv\"\n[[engine]]\nname = \"test\"\nvia = \"http-call\"\nendpoint = \"{}\"\nbody = \"{{url}}\"\nwait_until_live = false\n",
        engine.call()
    ));
    let rows = |date: &str| (0..300).map(|number| format!("/x{number}y/,{date}\n")).collect::<String>();
    for date in ["2026-01-01", "2026-02-02"] {
        site.write("t.csv", format!("url,modified\n{}", rows(date)));
        site.build();
    }
    let (mut kills, mut instant) = (0, 20);
    loop {
        let mut child = site.command(&["announce", "--quiet"]).spawn().unwrap();
        // Every third is killed by the clock, wherever it is then; the others soon after a message, however slow the
        // machine is.
        let enough = engine.received().len() + 1 + instant as usize % 5;
        while kills % 3 != 0 && engine.received().len() < enough && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        std::thread::sleep(Duration::from_millis(if kills % 3 == 0 { instant } else { instant % 7 }));
        instant = 20 + instant * 37 % 91;
        if child.try_wait().unwrap().is_some_and(|status| status.success()) {
            break;
        }
        child.kill().unwrap();
        child.wait().unwrap();
        kills += 1;
        assert!(kills < 500, "it never ends");
    }
    let mut times: HashMap<String, usize> = HashMap::new();
    engine.received().iter().for_each(|one| *times.entry(one.urls[2].clone()).or_default() += 1);
    let repeated: usize = times.values().map(|times| times - 1).sum();
    assert_eq!(times.len(), 300, "every change is taken");
    assert!(repeated <= kills, "{repeated} messages were repeated after {kills} kills");
    println!("300 changes, {kills} kills, {repeated} messages repeated");
    site.run(&["announce"]).says(0, &["nothing to announce"]);
}
