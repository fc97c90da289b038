//! Publishing into an object store, beside a bare loop that puts the same bytes, eight at a time.

use std::fs;
use std::time::{Duration, Instant};

use object_store::aws::AmazonS3Builder;
use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt, PutPayload};
use tokio::runtime::Runtime;

use crate::site::BenchSite;
use crate::{ROOT, median, peak, table, tell};

/// How many objects the bare loop puts at a time.
const AT_A_TIME: usize = 8;

pub fn run(entries: usize, runs: usize) {
    let Ok(endpoint) = std::env::var("IDLE_ATLAS_STORE") else {
        return println!("IDLE_ATLAS_STORE names no store: no figures");
    };
    let runtime = Runtime::new().expect("a runtime");
    // A client of the program's own brings the cryptography that every client of this process needs.
    drop(atlas_io::http::client(Duration::from_secs(1)));
    let store = AmazonS3Builder::from_env()
        .with_endpoint(&endpoint)
        .with_allow_http(true)
        .with_bucket_name("depot")
        .with_region("garage")
        .build()
        .expect("a store");
    let rows = table(entries);
    let (mut bare, mut ours, mut again, mut memory) = (Vec::new(), Vec::new(), Vec::new(), 0);
    let mut sizes = (0, 0);
    for run in 0..runs {
        let prefix = format!("bench-{}-{run}", std::process::id());
        let site = published(&endpoint, &format!("{prefix}-ours"), &rows);
        let (time, peak) = site.run(&["build"]);
        ours.push(time);
        memory = memory.max(peak);
        again.push(site.run(&["build"]).0);
        let objects = runtime.block_on(everything(&store, &format!("{prefix}-ours")));
        sizes = (objects.len(), objects.iter().map(|(_, bytes)| bytes.content_length()).sum::<usize>() >> 20);
        let begun = Instant::now();
        runtime.block_on(put_all(&store, &format!("{prefix}-bare"), objects));
        bare.push(begun.elapsed());
        for part in ["ours", "bare"] {
            runtime.block_on(remove_all(&store, &format!("{prefix}-{part}")));
        }
    }
    println!("{entries} entries in {} objects ({} MiB), medians of {runs}", sizes.0, sizes.1);
    let bare: Duration = median(bare);
    tell("a bare loop, eight at a time", bare, None, "");
    tell("build, gathering and compressing included", median(ours), Some(bare), &peak(memory));
    tell("build, nothing changed", median(again), Some(bare), "");
}

/// A site of these rows that is published in a folder of the bucket.
fn published(endpoint: &str, prefix: &str, rows: &str) -> BenchSite {
    let site = BenchSite::new(ROOT, "from = \"table\"\nfile = \"pages.csv\"", "");
    let config = format!(
        "[site]\nurl = \"{ROOT}\"\nweb_root = \"s3://depot/{prefix}/\"\n[[store]]\nname = \"depot\"\nendpoint = \"{endpoint}\"\n[[source]]\nfrom = \"table\"\nfile = \"pages.csv\"\n"
    );
    fs::write(site.0.path().join("idle-atlas.toml"), config).expect("a configuration");
    fs::write(site.0.path().join("pages.csv"), rows).expect("a table");
    site
}

/// All objects below a prefix, with their bytes.
async fn everything(store: &dyn ObjectStore, prefix: &str) -> Vec<(Path, PutPayload)> {
    let mut all = Vec::new();
    for path in named(store, prefix).await {
        let bytes = store.get(&path).await.expect("an object").bytes().await.expect("its bytes");
        all.push((path, PutPayload::from(bytes)));
    }
    all
}

async fn named(store: &dyn ObjectStore, prefix: &str) -> Vec<Path> {
    use tokio_stream::StreamExt;
    let listed = store.list(Some(&Path::from(prefix)));
    listed.map(|one| one.expect("a listing").location).collect().await
}

async fn put_all(store: &(impl ObjectStore + Clone), prefix: &str, objects: Vec<(Path, PutPayload)>) {
    let objects = std::sync::Arc::new(tokio::sync::Mutex::new(objects.into_iter()));
    let workers = (0..AT_A_TIME).map(|_| {
        let (objects, store, prefix) = (objects.clone(), store.clone(), prefix.to_owned());
        tokio::spawn(async move {
            loop {
                let next = objects.lock().await.next();
                let Some((path, bytes)) = next else { return };
                let name = path.filename().unwrap_or_default();
                store.put(&Path::from(format!("{prefix}/{name}")), bytes).await.expect("it is put");
            }
        })
    });
    for worker in workers.collect::<Vec<_>>() {
        worker.await.expect("it ends");
    }
}

async fn remove_all(store: &dyn ObjectStore, prefix: &str) {
    for path in named(store, prefix).await {
        store.delete(&path).await.expect("it is removed");
    }
}
