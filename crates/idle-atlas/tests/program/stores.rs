//! Object stores, as sources and as web roots: a cluster that ignores conditions, and a store that takes them.
//!
//! `scripts/store-cluster start FOLDER` starts the first and prints IDLE_ATLAS_STORE; IDLE_ATLAS_CONDITIONAL_STORE is the
//! URL of the second. Both have a bucket “depot” and take the access key in the environment.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use atlas_io::object::{Bucket, FoundObject, ObjectAddress, ObjectStores, PutHow, StoreSettings};
use atlas_io::secret::Secret;
use atlas_store::stop::Stop;
use rstest::rstest;

use crate::support::{NOON, TestSite, UrlRead, parse, source};

/// A store of the tests.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TestStore {
    /// Takes conditions and ignores them.
    Cluster,
    /// Takes conditions.
    Conditional,
}

/// A folder of a bucket, for one test.
pub struct Depot {
    pub bucket: Arc<Bucket>,
    pub folder: String,
    endpoint: String,
}

impl TestStore {
    fn endpoint(self) -> String {
        let variable = match self {
            Self::Cluster => "IDLE_ATLAS_STORE",
            Self::Conditional => "IDLE_ATLAS_CONDITIONAL_STORE",
        };
        std::env::var(variable).unwrap_or_else(|_| panic!("{variable} names a store"))
    }

    pub fn depot(self) -> Depot {
        Depot::at(&self.endpoint())
    }
}

impl Depot {
    /// A folder that nothing is in, in the store at this URL.
    fn at(endpoint: &str) -> Self {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        let settings = StoreSettings {
            name: "depot".into(),
            endpoint: Some(Secret::new(endpoint, endpoint.to_owned())),
            ..StoreSettings::default()
        };
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        let folder = format!("tests/{}-{number}/", std::process::id());
        let address = ObjectAddress::parse(&format!("s3://depot/{folder}")).unwrap().unwrap();
        let bucket = ObjectStores::new(vec![settings]).bucket(&address).unwrap();
        Self { bucket, folder, endpoint: endpoint.to_owned() }
    }

    fn put(&self, name: &str, bytes: impl AsRef<[u8]>) {
        let key = format!("{}{name}", self.folder);
        self.bucket.put(&key, bytes.as_ref().to_vec().into(), &PutHow::default(), &Stop::default()).unwrap();
    }

    /// The bytes of an object, unpacked.
    fn get(&self, name: &str) -> Option<Vec<u8>> {
        let read = self.bucket.whole(&format!("{}{name}", self.folder), &Stop::default()).unwrap();
        read.map(|(bytes, _)| unpacked(&bytes))
    }

    fn text(&self, name: &str) -> String {
        String::from_utf8(self.get(name).unwrap_or_else(|| panic!("there is no {name}"))).unwrap()
    }

    /// What is there.
    fn objects(&self) -> BTreeSet<(String, Option<String>)> {
        let listed = self.bucket.list(&self.folder, &Stop::default()).unwrap();
        listed.into_iter().map(|FoundObject { key, etag, .. }| (key, etag)).collect()
    }

    pub fn address(&self, name: &str) -> String {
        format!("s3://depot/{}{name}", self.folder)
    }

    pub fn store(&self) -> String {
        format!("[[store]]\nname = \"depot\"\nendpoint = \"{}\"\n", self.endpoint)
    }

    /// A site that is published here.
    pub fn site(&self, config: &str) -> TestSite {
        let site = TestSite::new("");
        self.configure(&site, config);
        site
    }

    pub fn configure(&self, site: &TestSite, config: &str) {
        let robots = format!("[robots]\nfile = \"{}\"\ncreate = true\n", self.address("robots.txt"));
        let root = format!("[site]\nurl = \"https://www.marrowvale.example/\"\nweb_root = \"{}\"\n", self.address(""));
        site.write("idle-atlas.toml", format!("{root}{robots}{}{config}", self.store()));
    }

    /// The URLs that the main file leads to. Every file that it names has to be there.
    pub fn listed(&self) -> BTreeSet<String> {
        let (_, urls, children) = parse(self.text("sitemap.xml").as_bytes());
        let name = |child: &String| child.strip_prefix("https://www.marrowvale.example/").unwrap().to_owned();
        let below = children.iter().flat_map(|child| parse(self.text(&name(child)).as_bytes()).1);
        urls.into_iter().chain(below).map(|url: UrlRead| url.loc.unwrap()).collect()
    }
}

fn unpacked(bytes: &[u8]) -> Vec<u8> {
    match bytes {
        [0x1f, 0x8b, ..] => atlas_store::disk::segmented_gzip::unpack(bytes, 1 << 26).unwrap(),
        _ => bytes.to_vec(),
    }
}

/// A table of so many rows, of which those of this round are changed.
fn table(rows: usize, round: usize) -> String {
    let mut table = "url,modified\n".to_owned();
    for row in 0..rows {
        let day = if row % 7 == round % 7 { 1 + round % 20 } else { 1 };
        writeln!(table, "/halts/{row}/,2026-11-{day:02}").unwrap();
    }
    table
}

#[rstest]
#[ignore = "needs the store that IDLE_ATLAS_STORE or IDLE_ATLAS_CONDITIONAL_STORE names"]
fn sources_in_a_store(#[values(TestStore::Cluster, TestStore::Conditional)] store: TestStore) {
    let depot = store.depot();
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut packed, b"url\n/weir/\n").unwrap();
    depot.put("tables/a.csv.gz", packed.finish().unwrap());
    depot.put("tables/b.jsonl", "{\"url\": \"/summit/\"}\n");
    let urls = |path: &str| format!("<url><loc>https://www.marrowvale.example{path}</loc></url>");
    let namespace = "xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"";
    depot.put("old/index.xml", format!("<sitemapindex {namespace}><sitemap><loc>https://www.marrowvale.example/old-1.xml</loc></sitemap></sitemapindex>"));
    depot.put("old/old-1.xml", format!("<urlset {namespace}>{}</urlset>", urls("/depot/")));
    depot.put("feed.xml", "<rss version=\"2.0\"><channel><title>Journal</title><item><title>A</title><link>https://www.marrowvale.example/journal/a/</link></item></channel></rss>");
    let files = ["tables/*.csv.gz", "tables/b.jsonl"]
        .map(|file| source("table", &format!("file = \"{}\"", depot.address(file))));
    let others = [
        source("sitemap", &format!("file = \"{}\"", depot.address("old/index.xml"))),
        source("feed", &format!("file = \"{}\"", depot.address("feed.xml"))),
    ];
    let site = TestSite::new(&[&files[..], &others[..], &[depot.store()]].concat().concat());
    site.run(&["build"]).says(0, &["4 entries"]);
    site.run(&["build"]).says(0, &["no entry changed"]);
}

/// A store lists at most a thousand objects at a time.
#[rstest]
#[ignore = "needs the store that IDLE_ATLAS_CONDITIONAL_STORE names"]
fn more_than_a_thousand_objects() {
    let depot = TestStore::Conditional.depot();
    for number in 0..1_100 {
        depot.put(&format!("halts/{number:04}.csv"), format!("url\n/halts/{number}/\n"));
    }
    let site =
        TestSite::new(&(depot.store() + &source("table", &format!("file = \"{}\"", depot.address("halts/*.csv")))));
    site.run(&["survey"]).says(0, &["1,100 entries would be listed"]);
}

#[rstest]
#[case::no_bucket("file = \"s3://deopt/a.csv\"", "deopt", "", "there is no bucket s3://deopt")]
#[case::no_object("file = \"s3://depot/none.csv\"", "depot", "", "there is no such object")]
#[case::no_match("file = \"s3://depot/none/*.csv\"", "depot", "", "no file has such a name")]
#[case::wrong_secret(
    "file = \"s3://depot/a.csv\"",
    "depot",
    "secret_key = \"${WRONG}\"",
    "the store denies access to s3://depot"
)]
#[case::wrong_region("file = \"s3://depot/a.csv\"", "depot", "region = \"moon\"", "correct “region” in [[store]]")]
#[ignore = "needs the store that IDLE_ATLAS_STORE names"]
fn what_a_store_refuses_is_said(#[case] file: &str, #[case] name: &str, #[case] key: &str, #[case] wanted: &str) {
    let endpoint = TestStore::Cluster.endpoint();
    let store = format!("[[store]]\nname = \"{name}\"\nendpoint = \"{endpoint}\"\n{key}\n");
    let site = TestSite::new(&(store + &source("table", file)));
    let ran = site.command(&["survey"]).env("WRONG", "0123").output().unwrap();
    let told = [ran.stdout, ran.stderr].concat();
    let told = String::from_utf8_lossy(&told);
    assert!(told.contains(wanted) && ran.status.code() == Some(1), "{told}");
}

#[rstest]
#[ignore = "needs the store that IDLE_ATLAS_STORE or IDLE_ATLAS_CONDITIONAL_STORE names"]
fn a_site_is_published_into_a_bucket(
    #[values(TestStore::Cluster, TestStore::Conditional)] store: TestStore,
    #[values("beside", "only", "off", "encoded")] gzip: &str,
) {
    let depot = store.depot();
    let config = format!(
        "{}[files]\nurls_per_file = 50\ngzip = \"{gzip}\"\n[visitor_page]\n[[ownership]]\nfile = {{ name = \"lamp.txt\", content = \"3f9c\" }}\n",
        source("table", "file = \"t.csv\"")
    );
    let site = depot.site(&config);
    site.write("t.csv", table(400, 0));
    site.run(&["build"]).says(0, &["400 entries in 8 sitemap files"]);
    assert_eq!((depot.listed().len(), depot.text("lamp.txt").trim()), (400, "3f9c"));
    assert!(depot.text("robots.txt").contains("Sitemap: https://www.marrowvale.example/sitemap.xml"));
    let before = depot.objects();
    site.run(&["build"]).says(0, &["nothing to write"]);
    assert_eq!(depot.objects(), before, "nothing is sent that is there");
    // One page more: its file, the index, and their copies.
    site.write("t.csv", table(400, 0).replace("/halts/7/,2026-11-01", "/halts/7/,2026-11-09"));
    site.run(&["build"]).says(0, &["1 changed"]);
    let written = depot.objects().difference(&before).filter(|(key, _)| !key.ends_with("atlas.html")).count();
    assert!((1..=4).contains(&written), "{written} requests");
    // What leaves is removed, after the index.
    site.write("t.csv", table(30, 0));
    site.run(&["build", "--allow", "shrink"]).says(0, &["370 removed"]);
    assert_eq!(depot.listed().len(), 30);
}

/// What someone else changed or removed is noticed and mended, as in a folder.
#[rstest]
#[ignore = "needs the store that IDLE_ATLAS_STORE or IDLE_ATLAS_CONDITIONAL_STORE names"]
fn what_others_do_in_the_bucket(#[values(TestStore::Cluster, TestStore::Conditional)] store: TestStore) {
    let depot = store.depot();
    let site = depot.site(&(source("table", "file = \"t.csv\"") + "[files]\nurls_per_file = 50\n"));
    site.write("t.csv", table(200, 0));
    site.run(&["build"]).says(0, &[]);
    let before = depot.objects();
    depot.bucket.remove(&format!("{}atlas-pages-2.xml", depot.folder), &Stop::default()).unwrap();
    site.run(&["build"]).says(0, &["atlas-pages-2.xml"]);
    assert_eq!(depot.objects(), before);
    depot.put("sitemap.xml", "<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\"><url><loc>https://www.marrowvale.example/other/</loc></url></urlset>");
    let ran = site.run(&["build"]);
    assert!(ran.code == 3 || depot.listed().len() == 200, "{}{}", ran.out, ran.errors);
    // A ledger that is lost is recalled from what was published.
    depot.bucket.remove(&format!("{}sitemap.xml", depot.folder), &Stop::default()).unwrap();
    site.run(&["build", "--allow", "overwrite"]).says(0, &[]);
    std::fs::remove_dir_all(site.path(".idle-atlas")).unwrap();
    site.run(&["build"]).says(0, &["200 entries"]);
}

/// Looks at the index again and again, until it is told to stop: what it names is there.
fn watch(depot: &Depot, stop: &AtomicBool) -> (u64, u64) {
    let (mut looks, mut files) = (0, 0);
    while !stop.load(Ordering::Relaxed) {
        let key = |name: &str| format!("{}{name}", depot.folder);
        // A store that is away says nothing.
        let Ok(Some((index, _))) = depot.bucket.whole(&key("sitemap.xml"), &Stop::default()) else { continue };
        let children = parse(&unpacked(&index)).2;
        for child in &children {
            let name = child.strip_prefix("https://www.marrowvale.example/").unwrap();
            match depot.bucket.head(&key(name), &Stop::default()) {
                Ok(found) => assert!(found.is_some(), "the index names {name}, which is not there"),
                Err(_) => break,
            }
            files += 1;
        }
        looks += 1;
        thread::sleep(Duration::from_millis(20));
    }
    (looks, files)
}

/// A cluster of its own, which ends with the test.
struct OwnCluster(tempfile::TempDir);

impl OwnCluster {
    fn run(&self, verb: &str, more: &[&str]) {
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts/store-cluster");
        let mut command = Command::new(script);
        command.arg(verb).arg(self.0.path()).args(more).env("STORE_PORT", OWN_PORT).stdout(std::process::Stdio::null());
        assert!(command.status().unwrap().success(), "{verb}");
    }
}

impl Drop for OwnCluster {
    fn drop(&mut self) {
        self.run("stop", &[]);
    }
}

/// The first port of the cluster that loses nodes.
const OWN_PORT: &str = "4900";

/// The cluster loses a node in the middle of publishing, again and again, the one that is spoken to among them.
#[test]
#[ignore = "needs the program garage"]
fn the_cluster_loses_nodes() {
    let rounds: u64 = std::env::var("KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(60) / 10;
    let cluster = OwnCluster(tempfile::tempdir().unwrap());
    cluster.run("start", &[]);
    let depot = Depot::at("http://127.0.0.1:4910");
    let mut site =
        depot.site(&(source("table", "file = \"t.csv\"") + "[files]\nurls_per_file = 20\ngzip = \"encoded\"\n"));
    site.write("t.csv", table(4_000, 0));
    site.run(&["build"]).says(0, &["4,000 entries in 200 sitemap files"]);
    let stop = AtomicBool::new(false);
    let (mut failed, begun) = (0, Instant::now());
    let (looks, files) = thread::scope(|scope| {
        let looking = scope.spawn(|| watch(&depot, &stop));
        for round in 1..=rounds.max(3) {
            site.at(NOON + round as i64 * 60);
            site.write("t.csv", table(4_000 + round as usize * 50, round as usize));
            let node = 1 + round % 3;
            let mut build = site
                .command(&["build"])
                .stdout(std::process::Stdio::null())
                .stderr(std::process::Stdio::null())
                .spawn()
                .unwrap();
            thread::sleep(Duration::from_millis(30 + fastrand::u64(0..400)));
            cluster.run("lose", &[&node.to_string()]);
            thread::sleep(Duration::from_millis(800));
            cluster.run("mend", &[&node.to_string()]);
            failed += u64::from(!build.wait().unwrap().success());
            // Whatever became of it, the next one goes on from there.
            while !site.command(&["build"]).output().unwrap().status.success() {
                assert!(begun.elapsed() < Duration::from_secs(600), "the cluster does not come back");
                thread::sleep(Duration::from_millis(500));
            }
            assert_eq!(depot.listed().len(), 4_000 + round as usize * 50);
        }
        stop.store(true, Ordering::Relaxed);
        looking.join().unwrap()
    });
    println!(
        "{} losses of a node, {failed} builds failed and were made good by the next; {looks} looks at the index, {files} files that it named, all there",
        rounds.max(3)
    );
}

/// Builds that are killed leave whole indexes, and the next build goes on from there.
#[test]
#[ignore = "needs the store that IDLE_ATLAS_STORE names"]
fn killed_builds_leave_whole_indexes() {
    let kills: u64 = std::env::var("KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(60);
    let depot = TestStore::Cluster.depot();
    let mut site = depot.site(&(source("table", "file = \"t.csv\"") + "[files]\nurls_per_file = 20\n"));
    site.write("t.csv", table(1_500, 0));
    let begun = Instant::now();
    site.run(&["build"]).says(0, &["1,500 entries"]);
    let whole = begun.elapsed();
    for round in 1..=kills {
        site.at(NOON + round as i64 * 60);
        site.write("t.csv", table(1_500 + (round as usize % 9) * 40, round as usize));
        let mut build = site
            .command(&["build"])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        thread::sleep(whole.mul_f64(fastrand::f64()));
        build.kill().unwrap();
        build.wait().unwrap();
        assert!(depot.listed().len() >= 1_500, "round {round}");
    }
    site.run(&["build"]).says(0, &[]);
    assert_eq!(depot.listed().len(), 1_500 + (kills as usize % 9) * 40);
}
