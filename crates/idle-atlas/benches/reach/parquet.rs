//! A table in Parquet files, beside the same rows as CSV: the first build, and one in which nothing changed.

use std::fs::{self, File};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use parquet::basic::Compression;
use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;

use crate::site::BenchSite;
use crate::{ROOT, median, page, peak, table, tell};

const SCHEMA: &str = "message page { required binary url (utf8); required binary title (utf8); required int64 modified (timestamp(millis, true)); }";
/// The rows of a row group.
const GROUP: usize = 200_000;

pub fn run(rows: usize, runs: usize) {
    let sites = ["csv", "parquet"].map(|form| {
        let source = format!("from = \"table\"\nfile = \"pages.{form}\"");
        BenchSite::new(ROOT, &source, "")
    });
    fs::write(sites[0].0.path().join("pages.csv"), table(rows)).expect("a table");
    write(&sites[1].0.path().join("pages.parquet"), rows);
    let mut first: [Vec<Duration>; 2] = Default::default();
    let mut again: [Vec<Duration>; 2] = Default::default();
    let mut peaks = [0; 2];
    for _ in 0..runs {
        for (at, site) in sites.iter().enumerate() {
            for folder in [".idle-atlas", "public"] {
                let _ = fs::remove_dir_all(site.0.path().join(folder));
            }
            fs::create_dir(site.0.path().join("public")).expect("a web root");
            let (time, memory) = site.run(&["build"]);
            first[at].push(time);
            peaks[at] = peaks[at].max(memory);
            again[at].push(site.run(&["build"]).0);
        }
    }
    let size = |name: &str, site: &BenchSite| fs::metadata(site.0.path().join(name)).map_or(0, |file| file.len() >> 20);
    println!(
        "{rows} rows, medians of {runs}; CSV {} MiB, Parquet {} MiB",
        size("pages.csv", &sites[0]),
        size("pages.parquet", &sites[1])
    );
    let [csv, parquet] = first.map(median);
    tell("first build from CSV", csv, None, &peak(peaks[0]));
    tell("first build from Parquet", parquet, Some(csv), &peak(peaks[1]));
    let [csv, parquet] = again.map(median);
    tell("nothing changed, CSV", csv, None, "");
    tell("nothing changed, Parquet", parquet, Some(csv), "");
}

fn write(path: &Path, rows: usize) {
    let schema = Arc::new(parse_message_type(SCHEMA).expect("a schema"));
    let properties = Arc::new(WriterProperties::builder().set_compression(Compression::SNAPPY).build());
    let mut writer =
        SerializedFileWriter::new(File::create(path).expect("a file"), schema, properties).expect("a writer");
    for begin in (0..rows).step_by(GROUP) {
        let pages: Vec<_> = (begin..(begin + GROUP).min(rows)).map(page).collect();
        let mut group = writer.next_row_group().expect("a row group");
        for texts in [
            pages.iter().map(|page| ByteArray::from(page.0.as_str())).collect::<Vec<_>>(),
            pages.iter().map(|page| ByteArray::from(page.1.as_str())).collect(),
        ] {
            let mut column = group.next_column().expect("a column").expect("it is in the schema");
            column.typed::<ByteArrayType>().write_batch(&texts, None, None).expect("values");
            column.close().expect("it is whole");
        }
        let dates: Vec<i64> = pages.iter().map(|page| page.2 * 1000).collect();
        let mut column = group.next_column().expect("a column").expect("it is in the schema");
        column.typed::<Int64Type>().write_batch(&dates, None, None).expect("values");
        column.close().expect("it is whole");
        group.close().expect("it is whole");
    }
    writer.close().expect("it is whole");
}
